//! Which login is sent now? It may end, or be replaced by its owner, while we run: its source then gives
//! another.

use std::fmt;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use secrecy::ExposeSecret as _;
use tokio::sync::{Mutex, OwnedMutexGuard};
use tokio::task::spawn_blocking;
use tokio::time::Instant;

use crate::credentials::Credentials;

/// A login that ends sooner than this is replaced before it is sent.
const MARGIN: Duration = Duration::from_secs(30);
/// A source that was asked is not asked again sooner than this because of a 401.
pub(crate) const UNAUTHORIZED_PAUSE: Duration = Duration::from_secs(5);
/// The same because of a 403. It mostly says that an account may not do something, but some registries say so
/// of a login that has ended.
pub(crate) const FORBIDDEN_PAUSE: Duration = Duration::from_secs(300);

/// A login, as its source gives it.
#[derive(Debug, Clone)]
pub struct Fresh {
    pub login: Credentials,
    /// When it ends. None: that is not said.
    pub until: Option<SystemTime>,
}

/// Gives the login anew, or says why it cannot. It may wait, for a program as an example.
pub type LoginSource = dyn Fn() -> Result<Fresh, String> + Send + Sync;

/// An account at a registry. Clones share its login. Printing it shows no secret.
#[derive(Clone)]
pub struct Account {
    held: Arc<Mutex<HeldLogin>>,
    source: Option<Arc<LoginSource>>,
    /// Where it is one, for the log.
    host: Arc<str>,
}

struct HeldLogin {
    fresh: Fresh,
    /// When the source was asked last.
    asked: Instant,
    /// Why it gave nothing then. None: it did.
    trouble: Option<String>,
}

impl Account {
    /// An account whose login stays as it is.
    pub fn fixed(login: Credentials) -> Self {
        Self::new("", Fresh { login, until: None }, None)
    }

    /// An account at a host, whose login its source has just given, and gives anew when that one ends or is
    /// refused.
    pub fn from_source(host: &str, fresh: Fresh, source: Arc<LoginSource>) -> Self {
        Self::new(host, fresh, Some(source))
    }

    fn new(host: &str, fresh: Fresh, source: Option<Arc<LoginSource>>) -> Self {
        let held = HeldLogin { fresh, asked: Instant::now(), trouble: None };
        Self { held: Arc::new(Mutex::new(held)), source, host: host.into() }
    }

    /// The login to send.
    ///
    /// # Errors
    /// It has ended, and its source gives no other: why.
    pub(crate) async fn login(&self) -> Result<Fresh, String> {
        let mut held = self.lock().await;
        if !held.ends_within(MARGIN) {
            return Ok(held.fresh.clone());
        }
        let has_ended = held.ends_within(Duration::ZERO);
        // A source that failed just now would fail again; one that gives short logins is asked for each.
        if held.asked.elapsed() >= UNAUTHORIZED_PAUSE || (has_ended && held.trouble.is_none()) {
            held = self.ask(held).await;
        }
        match &held.trouble {
            Some(cause) if held.ends_within(Duration::ZERO) => Err(cause.clone()),
            _ => Ok(held.fresh.clone()),
        }
    }

    /// Another login than one that was refused. None: there is none. Its source is asked only if that was not
    /// done within `pause`.
    ///
    /// # Errors
    /// The source gives none: why.
    pub(crate) async fn other_than(
        &self,
        refused: &Credentials,
        pause: Duration,
    ) -> Result<Option<Fresh>, String> {
        let mut held = self.lock().await;
        // Somebody else may have asked meanwhile.
        if !is_same(&held.fresh.login, refused) {
            return Ok(Some(held.fresh.clone()));
        }
        if self.source.is_some() && held.asked.elapsed() >= pause {
            held = self.ask(held).await;
        }
        match &held.trouble {
            Some(cause) if held.asked.elapsed() < UNAUTHORIZED_PAUSE => Err(cause.clone()),
            _ => Ok(Some(&held.fresh).filter(|fresh| !is_same(&fresh.login, refused)).cloned()),
        }
    }

    /// The login as it is now, to look for it in a text. None: it is being asked for.
    pub(crate) fn peek(&self) -> Option<Credentials> {
        self.held.try_lock().ok().map(|held| held.fresh.login.clone())
    }

    async fn lock(&self) -> OwnedMutexGuard<HeldLogin> {
        Arc::clone(&self.held).lock_owned().await
    }

    /// Asks the source. It is waited for to its end even when nobody here waits any more, so that there is
    /// never more than one program.
    async fn ask(&self, mut held: OwnedMutexGuard<HeldLogin>) -> OwnedMutexGuard<HeldLogin> {
        let (source, host) = (self.source.clone(), Arc::clone(&self.host));
        let asked = spawn_blocking(move || {
            held.note(source.map_or_else(|| Err("it has ended".to_owned()), |ask| ask()), &host);
            held
        });
        match asked.await {
            Ok(held) => held,
            Err(_) => {
                let mut held = self.lock().await;
                held.note(Err("what gives it failed".to_owned()), &self.host);
                held
            }
        }
    }
}

impl HeldLogin {
    fn note(&mut self, given: Result<Fresh, String>, host: &str) {
        self.asked = Instant::now();
        match given {
            Ok(fresh) => (self.fresh, self.trouble) = (fresh, None),
            Err(cause) => {
                tracing::warn!(host, cause, "a login ends or was refused, and there is no other");
                self.trouble = Some(cause);
            }
        }
    }

    fn ends_within(&self, margin: Duration) -> bool {
        self.fresh.until.is_some_and(|until| until <= SystemTime::now() + margin)
    }
}

impl fmt::Debug for Account {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Account").field("renews", &self.source.is_some()).finish_non_exhaustive()
    }
}

fn is_same(a: &Credentials, b: &Credentials) -> bool {
    a.user == b.user && a.secret.expose_secret() == b.secret.expose_secret()
}

#[cfg(test)]
mod tests {
    use std::sync::Mutex as StdMutex;
    use std::sync::atomic::{AtomicUsize, Ordering};

    use super::*;

    fn login(secret: &str) -> Credentials {
        Credentials { user: "emberfall".into(), secret: secret.into() }
    }

    fn fresh(secret: &str, life: Option<u64>) -> Fresh {
        let until = life.map(|life| SystemTime::now() + Duration::from_secs(life));
        Fresh { login: login(secret), until }
    }

    /// A source that gives what it is told to, and counts how often it was asked.
    #[derive(Clone)]
    struct Told {
        next: Arc<StdMutex<Result<Fresh, String>>>,
        asked: Arc<AtomicUsize>,
    }

    impl Told {
        fn new(next: Result<Fresh, String>) -> Self {
            Self { next: Arc::new(StdMutex::new(next)), asked: Arc::default() }
        }

        fn account(&self, first: Fresh) -> Account {
            let told = self.clone();
            Account::from_source(
                "ventworks.example",
                first,
                Arc::new(move || {
                    told.asked.fetch_add(1, Ordering::Relaxed);
                    told.next.lock().unwrap().clone()
                }),
            )
        }

        fn tell(&self, next: Result<Fresh, String>) {
            *self.next.lock().unwrap() = next;
        }

        fn asked(&self) -> usize {
            self.asked.load(Ordering::Relaxed)
        }
    }

    fn secret(fresh: &Fresh) -> &str {
        fresh.login.secret.expose_secret()
    }

    #[tokio::test(start_paused = true)]
    async fn a_login_is_replaced_shortly_before_it_ends_and_not_sooner() {
        let told = Told::new(Ok(fresh("second", Some(3_600))));
        let account = told.account(fresh("first", Some(31)));
        assert_eq!(secret(&account.login().await.unwrap()), "first");
        assert_eq!(told.asked(), 0);
        let account = told.account(fresh("first", Some(20)));
        assert_eq!(secret(&account.login().await.unwrap()), "first", "it was given just now");
        tokio::time::advance(UNAUTHORIZED_PAUSE).await;
        for _ in 0..3 {
            assert_eq!(secret(&account.login().await.unwrap()), "second");
        }
        assert_eq!(told.asked(), 1);
    }

    #[tokio::test(start_paused = true)]
    async fn while_its_source_fails_a_login_is_sent_until_it_has_ended() {
        let told = Told::new(Err("the program fails".into()));
        let account = told.account(fresh("first", Some(20)));
        tokio::time::advance(UNAUTHORIZED_PAUSE).await;
        assert_eq!(secret(&account.login().await.unwrap()), "first");
        assert_eq!(told.asked(), 1);

        let account = told.account(fresh("first", Some(0)));
        for _ in 0..3 {
            assert_eq!(account.login().await.unwrap_err(), "the program fails");
        }
        assert_eq!(told.asked(), 2, "what failed just now is not asked again");
        told.tell(Ok(fresh("second", None)));
        tokio::time::advance(UNAUTHORIZED_PAUSE).await;
        assert_eq!(secret(&account.login().await.unwrap()), "second");
    }

    #[tokio::test(start_paused = true)]
    async fn logins_that_live_shortly_are_asked_for_each_time() {
        let told = Told::new(Ok(fresh("short", Some(0))));
        let account = told.account(fresh("first", Some(0)));
        for times in 1..4 {
            assert_eq!(secret(&account.login().await.unwrap()), "short");
            assert_eq!(told.asked(), times);
        }
    }

    #[tokio::test(start_paused = true)]
    async fn whoever_was_refused_gets_another_login_and_the_source_is_asked_once() {
        let told = Told::new(Ok(fresh("second", None)));
        let account = told.account(fresh("first", None));
        let other =
            async |secret: &str| account.other_than(&login(secret), UNAUTHORIZED_PAUSE).await;
        assert!(other("first").await.unwrap().is_none(), "it was given just now");
        tokio::time::advance(UNAUTHORIZED_PAUSE).await;
        let both = futures_util::future::join(other("first"), other("first")).await;
        for fresh in [both.0, both.1] {
            assert_eq!(secret(&fresh.unwrap().unwrap()), "second");
        }
        assert_eq!(told.asked(), 1);
        assert!(other("second").await.unwrap().is_none());
        tokio::time::advance(UNAUTHORIZED_PAUSE).await;
        assert!(other("second").await.unwrap().is_none(), "the source gives the same again");
        assert_eq!(told.asked(), 2);
        told.tell(Err("the file is gone".into()));
        tokio::time::advance(UNAUTHORIZED_PAUSE).await;
        for _ in 0..3 {
            assert_eq!(other("second").await.unwrap_err(), "the file is gone");
        }
        assert_eq!(told.asked(), 3);
        assert_eq!(secret(&account.login().await.unwrap()), "second", "it may be good still");
    }

    #[tokio::test]
    async fn a_source_is_asked_to_its_end_once_whoever_gives_up_meanwhile() {
        let (go, wait) = std::sync::mpsc::channel::<()>();
        let (wait, asked) = (StdMutex::new(wait), Arc::new(AtomicUsize::new(0)));
        let times = Arc::clone(&asked);
        let source = move || {
            times.fetch_add(1, Ordering::Relaxed);
            wait.lock().unwrap().recv().unwrap();
            Ok(fresh("second", None))
        };
        let account =
            Account::from_source("ventworks.example", fresh("first", Some(0)), Arc::new(source));
        for _ in 0..3 {
            let given_up = tokio::time::timeout(Duration::from_millis(20), account.login()).await;
            assert!(given_up.is_err(), "nobody has answered");
        }
        go.send(()).unwrap();
        assert_eq!(secret(&account.login().await.unwrap()), "second");
        assert_eq!(asked.load(Ordering::Relaxed), 1);
    }

    #[tokio::test]
    async fn a_source_that_panics_is_one_that_gives_nothing() {
        let source = || -> Result<Fresh, String> { panic!("made up") };
        let account =
            Account::from_source("ventworks.example", fresh("first", Some(0)), Arc::new(source));
        assert_eq!(account.login().await.unwrap_err(), "what gives it failed");
    }

    #[tokio::test(start_paused = true)]
    async fn what_stays_as_it_is_has_no_other() {
        let account = Account::fixed(login("first"));
        tokio::time::advance(FORBIDDEN_PAUSE).await;
        assert!(account.other_than(&login("first"), FORBIDDEN_PAUSE).await.unwrap().is_none());
        assert_eq!(secret(&account.login().await.unwrap()), "first");
        assert!(!format!("{account:?}").contains("first"));
    }
}
