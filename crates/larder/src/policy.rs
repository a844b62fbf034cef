//! May somebody pull this? Grants, classes and rules of a configuration together, for whoever asks at
//! the command line; the server decides by the same ones.

use larder_core::access::grants::Decision;
use larder_core::access::stop::Stops;
use larder_core::access::{Action, Who};
use larder_core::digest::Digest;
use larder_core::lock::{Lock, Locked, Want};
use larder_core::name::{RepositoryName, Tag};
use larder_core::policy::{Asked, Decided, Fact, Facts, Lack, Rule, Verdict};
use larder_core::reference::{Image, Reference, Selector};
use larder_core::route::{Origins, Routes, Standing};
use larder_store::{Store, StoreError, now};
use tokio::sync::OnceCell;

use crate::config::Config;
use crate::failure::{Exit, Failure};

/// Decides by one configuration.
pub struct Judge<'c> {
    config: &'c Config,
    routes: Routes,
    origins: Origins,
    store: Option<Store>,
    stops: OnceCell<Stops>,
}

/// How an image is named in its repository.
#[derive(Debug, Clone, Copy, Default)]
pub struct Named<'n> {
    /// By this tag. None: by none.
    pub tag: Option<&'n Tag>,
    /// By this digest. None: by none.
    pub digest: Option<&'n Digest>,
}

impl<'n> Named<'n> {
    fn of(reference: &'n Reference) -> Self {
        Self { tag: reference.tag.as_ref(), digest: reference.digest.as_ref() }
    }

    /// What it is looked up by: the digest goes first.
    fn selector(self) -> Option<Selector> {
        let digest = self.digest.cloned().map(Selector::Digest);
        digest.or_else(|| self.tag.cloned().map(Selector::Tag))
    }
}

impl<'n> From<&'n Selector> for Named<'n> {
    fn from(selector: &'n Selector) -> Self {
        match selector {
            Selector::Tag(tag) => Self { tag: Some(tag), digest: None },
            Selector::Digest(digest) => Self { tag: None, digest: Some(digest) },
        }
    }
}

/// What was decided.
pub struct Judged<'c> {
    /// The repository of the larder that it is pulled from. None: it is not in the larder.
    pub repository: Option<RepositoryName>,
    /// Where it comes from; for our own, its name here.
    pub origin: Image,
    /// Whether it is our own.
    pub own: bool,
    /// Its class. None: no class names it.
    pub class: Option<String>,
    /// What the grants say. None: everybody may, or it is not in the larder.
    pub grant: Option<Decision>,
    /// What the rules say.
    pub verdict: Verdict,
    /// The rule that decided. None: none matched.
    pub rule: Option<&'c Rule>,
    /// What it lacks of what the rule asks.
    pub lack: Option<Lack>,
    /// Why the operator has blocked it, whatever grants and rules say. None: nobody has.
    pub blocked: Option<String>,
}

impl Judged<'_> {
    /// Whether it may be pulled.
    pub fn allowed(&self) -> bool {
        self.blocked.is_none()
            && self.verdict != Verdict::Deny
            && self.grant.as_ref().is_none_or(|grant| grant.allowed)
    }

    /// Why not, or what is warned of, with the line that decided. None: nothing is to be said.
    pub fn reason(&self) -> Option<(String, Option<String>)> {
        if let Some(because) = &self.blocked {
            return Some((format!("it is blocked: {because}"), None));
        }
        if let Some(grant) = self.grant.as_ref().filter(|grant| !grant.allowed) {
            let line = grant.line.as_ref().map(ToString::to_string);
            return Some((format!("{} do not name it", grant.grants), line));
        }
        let rule = self.rule.filter(|_| self.verdict != Verdict::Allow)?;
        Some((rule.reason(self.lack.as_ref()), Some(rule.line.to_string())))
    }
}

impl<'c> Judge<'c> {
    /// By this configuration; what the store holds tells what rules ask of an image.
    pub fn new(config: &'c Config, store: Option<Store>) -> Self {
        let routes = config.routes();
        Self { config, origins: routes.origins(), routes, store, stops: OnceCell::new() }
    }

    /// A reference as deployments have it.
    pub async fn reference(
        &self,
        who: &Who,
        reference: &Reference,
        lock: &Lock,
    ) -> Result<Judged<'c>, Failure> {
        let place = match self.routes.standing(reference, lock) {
            Standing::Own if reference.host == *self.routes.own() => Some(reference.clone()),
            Standing::Routed { target, .. }
            | Standing::Cached { target }
            | Standing::Told { target } => Some(target),
            Standing::Own
            | Standing::NotLocked { .. }
            | Standing::Left { .. }
            | Standing::NoRoute => None,
        };
        let own = place.as_ref().filter(|place| place.host == *self.routes.own());
        match own {
            Some(place) => self.own(who, &place.repository, Named::of(place)).await,
            None => self.decide(who, None, reference.image(), false, Named::of(reference)).await,
        }
    }

    /// What lies in one of the larder's repositories, named by tag, digest, or both.
    pub async fn own(
        &self,
        who: &Who,
        repository: &RepositoryName,
        named: Named<'_>,
    ) -> Result<Judged<'c>, Failure> {
        let origin = self.origins.of(repository);
        let own = origin.is_none();
        let image = origin.unwrap_or_else(|| Image {
            host: self.config.larder.url.host.clone(),
            repository: repository.clone(),
        });
        self.decide(who, Some(repository), image, own, named).await
    }

    async fn decide(
        &self,
        who: &Who,
        repository: Option<&RepositoryName>,
        image: Image,
        own: bool,
        named: Named<'_>,
    ) -> Result<Judged<'c>, Failure> {
        let grant = match repository {
            Some(repository) if !self.config.is_open() => {
                Some(self.config.grants.decide(who, Action::Pull, repository))
            }
            _ => None,
        };
        let class = self.config.classes.of(&image).map(str::to_owned);
        let decide = |facts: &Facts| {
            let asked = Asked {
                cluster: who.cluster_name(),
                namespace: who.namespace(),
                image: &image,
                class: class.as_deref(),
                own,
                tag: named.tag,
                digest: named.digest,
                part: false,
                now: now(),
            };
            match self.config.rules.decide(&asked, facts) {
                Decided::Needs(_) => None,
                Decided::Verdict { verdict, rule, lack } => Some((verdict, rule, lack)),
            }
        };
        let decided = match decide(&Facts::default()) {
            Some(decided) => Some(decided),
            None => {
                let facts = match (&self.store, repository, named.selector()) {
                    (Some(store), Some(repository), Some(selector)) => {
                        let facts = store.facts(repository, &selector).await;
                        Some(facts.map_err(|error| {
                            Failure::store("cannot tell what the image is", &error)
                        })?)
                    }
                    _ => None,
                };
                decide(&facts.unwrap_or(Facts::UNKNOWN))
            }
        };
        let (verdict, rule, lack) = decided.unwrap_or((Verdict::Allow, None, None));
        let rule = rule.and_then(|at| self.config.rules.all().get(at));
        let blocked = self.blocked(repository, named).await;
        let blocked =
            blocked.map_err(|error| Failure::store("cannot tell what is blocked", &error))?;
        Ok(Judged {
            repository: repository.cloned(),
            origin: image,
            own,
            class,
            grant,
            verdict,
            rule,
            lack,
            blocked,
        })
    }

    async fn blocked(
        &self,
        repository: Option<&RepositoryName>,
        named: Named<'_>,
    ) -> Result<Option<String>, StoreError> {
        let Some(store) = &self.store else { return Ok(None) };
        let read = async { Ok::<_, StoreError>(Stops::new(store.stops().await?)) };
        let stops = self.stops.get_or_try_init(|| read).await?;
        if stops.has_no_content() {
            return Ok(None);
        }
        let mut digest = named.digest.cloned();
        if let (None, Some(repository), Some(selector)) = (&digest, repository, named.selector()) {
            digest = store.manifest_record(repository, &selector).await?.map(|found| found.digest);
        }
        let stop = digest.as_ref().and_then(|digest| stops.content(digest));
        Ok(stop.map(|stop| stop.because.clone()))
    }
}

/// Why an image is not to be brought in at all: a rule that names no cluster denies it. What a rule
/// asks beyond its platforms is asked when it is pulled. None: it may.
pub fn refuses_intake(config: &Config, want: &Want, locked: &Locked) -> Option<Failure> {
    let asked = Asked {
        cluster: None,
        namespace: None,
        image: &want.image,
        class: config.classes.of(&want.image),
        own: false,
        tag: Some(&want.tag),
        digest: Some(&locked.digest),
        part: false,
        now: now(),
    };
    let platforms: Vec<_> = locked.platforms.keys().cloned().collect();
    let platforms = if platforms.is_empty() { Fact::NotLooked } else { Fact::Is(platforms) };
    let facts = Facts { platforms, ..Facts::default() };
    let Decided::Verdict { verdict: Verdict::Deny, rule: Some(rule), lack } =
        config.rules.decide(&asked, &facts)
    else {
        return None;
    };
    let rule = config.rules.all().get(rule)?;
    let what = format!("cannot bring in {}:{}", want.image, want.tag);
    let cause = format!("it is refused by {} ({})", rule.reason(lack.as_ref()), rule.line);
    let remedy = "take its [[intake]] entry out, or change the rule";
    Some(Failure::usage(what, cause, remedy).ending(Exit::No))
}
