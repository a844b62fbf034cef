//! Who is it? What a request brings along is tried in this order: `Authorization`, the certificate that
//! was shown, the cluster that a node names from an address where that is believed; else it is nobody.

use std::collections::HashMap;
use std::hash::{BuildHasherDefault, DefaultHasher, Hasher};
use std::net::IpAddr;
use std::sync::{Arc, PoisonError, RwLock};
use std::time::Duration;

use axum::http::header;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use larder_core::access::Who;
use larder_core::access::key::{Key, KeyError, KeyId};
use larder_core::access::token::{SignedInBy, TokenClaims};
use larder_core::shown::cut;
use larder_store::{Moment, RecordKind, now};

use super::identities::KnownIdentity;
use super::keys::KeyTable;
use super::permit::challenge;
use super::pull_token::PullToken;
use super::record::{Actor, RecordedDeed};
use super::{Caller, Gate, Head, short_hash};
use crate::error::{ApiError, Code};
use crate::limits::{Asker, Client, FromNode};
use crate::plan::Plan;

/// The longest `Authorization` that is read, in bytes.
const LIMIT: usize = 24 * 1024;
/// Verified secrets that are remembered, and the bytes of all their fields.
const SESSIONS: usize = 8192;
const SESSION_BYTES: usize = 32 * 1024 * 1024;
/// The longest field that is remembered of clients that did not sign in: anybody can have any number of these.
const ANONYMOUS: usize = 1024;

/// Somebody whose secret was verified.
pub(super) struct Session {
    who: Who,
    /// The key that it was, or by which the token was issued. None: neither.
    key: Option<KeyId>,
    by: Option<SignedInBy>,
    /// The token. None: it was a key.
    token: Option<Arc<PullToken>>,
}

/// Who is known by the whole field that they sent, as long as the same one comes again: those of late, and those from
/// before them, which go when there are too many of late.
#[derive(Default)]
pub(super) struct Sessions {
    known: RwLock<Generations>,
}

#[derive(Default)]
struct Generations {
    late: ByField,
    /// Bytes of the fields of late.
    bytes: usize,
    before: ByField,
}

impl Generations {
    fn keep(&mut self, field: &[u8], session: &Arc<Session>) {
        if self.late.len() >= SESSIONS / 2 || self.bytes + field.len() > SESSION_BYTES / 2 {
            self.before = std::mem::take(&mut self.late);
            self.bytes = 0;
        }
        if self.late.insert(field.into(), Arc::clone(session)).is_none() {
            self.bytes += field.len();
        }
    }
}

type ByField = HashMap<Box<[u8]>, Arc<Session>, BuildHasherDefault<Tail>>;

impl Sessions {
    fn get(&self, head: Head<'_>) -> Option<Arc<Session>> {
        let field = head.headers.get(header::AUTHORIZATION)?.as_bytes();
        let found = {
            let known = self.known.read().unwrap_or_else(PoisonError::into_inner);
            if let Some(session) = known.late.get(field) {
                return Some(Arc::clone(session));
            }
            known.before.get(field).cloned()?
        };
        // Who comes again stays.
        self.known.write().unwrap_or_else(PoisonError::into_inner).keep(field, &found);
        Some(found)
    }

    fn keep(&self, head: Head<'_>, session: &Arc<Session>) {
        let Some(field) = head.headers.get(header::AUTHORIZATION) else { return };
        // Padded with blanks, one secret makes any number of fields of the same length and end.
        if field.as_bytes().iter().filter(|byte| byte.is_ascii_whitespace()).count() != 1 {
            return;
        }
        if session.who == Who::Anonymous && field.len() > ANONYMOUS {
            return;
        }
        let mut known = self.known.write().unwrap_or_else(PoisonError::into_inner);
        known.keep(field.as_bytes(), session);
    }
}

/// Hashes the end of a secret: that is where verified ones differ, by a signature of ours or a key of
/// which we made every letter, and nothing else is ever kept.
#[derive(Default)]
struct Tail(DefaultHasher);

impl Hasher for Tail {
    fn write(&mut self, bytes: &[u8]) {
        self.0.write(&bytes[bytes.len().saturating_sub(32)..]);
    }

    fn finish(&self) -> u64 {
        self.0.finish()
    }
}

/// What a request brings along.
pub(super) enum PresentedLogin {
    Nothing,
    Basic(String, String),
    Bearer(String),
    /// Something that cannot be read.
    Junk,
}

/// What is shown, as it came. None: nothing, or what cannot be read.
fn field(head: Head<'_>) -> Option<&str> {
    head.headers.get(header::AUTHORIZATION)?.to_str().ok().filter(|text| text.len() <= LIMIT)
}

pub(super) fn brought(head: Head<'_>) -> PresentedLogin {
    if !head.headers.contains_key(header::AUTHORIZATION) {
        return PresentedLogin::Nothing;
    }
    let Some((scheme, rest)) = field(head).and_then(|text| text.split_once(' ')) else {
        return PresentedLogin::Junk;
    };
    if scheme.eq_ignore_ascii_case("bearer") {
        return PresentedLogin::Bearer(rest.trim().to_owned());
    }
    if scheme.eq_ignore_ascii_case("basic") {
        let decoded = STANDARD.decode(rest.trim()).ok().and_then(|it| String::from_utf8(it).ok());
        if let Some((user, secret)) = decoded.as_deref().and_then(|text| text.split_once(':')) {
            return PresentedLogin::Basic(user.to_owned(), secret.to_owned());
        }
    }
    PresentedLogin::Junk
}

pub(crate) fn address(head: Head<'_>) -> Option<IpAddr> {
    head.extensions.get::<Client>().map(|client| client.0)
}

/// Somebody whose secret is right.
#[derive(Debug)]
pub(crate) struct SignedIn {
    pub who: Who,
    pub by: SignedInBy,
    /// A token of ours that stood for the secret: it gives no more than it names.
    pub limit: Option<Arc<PullToken>>,
    /// Until when what it signed in with is good, in seconds since 1970. None: that has no end.
    pub ends: Option<i64>,
}

impl SignedIn {
    /// As it is remembered. None: it was no key.
    fn session(&self) -> Option<Session> {
        match (&self.by, &self.limit) {
            (SignedInBy::Key(id), None) => Some(Session {
                who: self.who.clone(),
                key: Some(id.parse().ok()?),
                by: Some(self.by.clone()),
                token: None,
            }),
            _ => None,
        }
    }

    /// Whoever it is, at an address, and whether a node sent it here instead of to an upstream.
    pub fn caller(self, address: Option<IpAddr>, node: bool) -> Caller {
        let Self { who, by, limit, .. } = self;
        Caller { who, by: Some(by), token: limit, address, node }
    }
}

/// What is said of a token that was ended by hand.
const STOPPED: &str = "all tokens from before were ended; it takes a new one";

/// Why a secret lets nobody in.
pub(crate) struct WrongLogin {
    text: String,
    /// The key that it was, where it was one of ours.
    by: Option<SignedInBy>,
}

impl WrongLogin {
    fn new(text: impl std::fmt::Display) -> Self {
        Self { text: text.to_string(), by: None }
    }
}

impl Gate {
    /// Who sends a request, if that can be told at once. `moment` is the ledger's present one. None:
    /// [`identify`](Self::identify) can tell.
    pub(crate) fn known(&self, plan: &Plan, head: Head<'_>, moment: &Moment) -> Option<Caller> {
        let node = head.extensions.get::<FromNode>().is_some();
        let address = address(head);
        if plan.court.open {
            return Some(unsigned(plan, head, address, node));
        }
        if !head.headers.contains_key(header::AUTHORIZATION) {
            return Some(unsigned(plan, head, address, node));
        }
        let session = self.sessions.get(head)?;
        let keys = self.keys.at(moment)?;
        self.resume(plan, &session, &keys, address, node)
    }

    /// Who sends a request.
    ///
    /// # Errors
    /// With a secret or token that is not good: a client that shows one means to be somebody.
    pub(crate) async fn identify(&self, plan: &Plan, head: Head<'_>) -> Result<Caller, ApiError> {
        let node = head.extensions.get::<FromNode>().is_some();
        let address = address(head);
        if plan.court.open {
            return Ok(unsigned(plan, head, address, node));
        }
        let refuse = |code: Option<&str>, message: String| {
            if node {
                return ApiError::new(Code::Denied, message);
            }
            let error = ApiError::new(Code::Unauthorized, message);
            challenge(plan, head, code, None).apply(error)
        };
        match brought(head) {
            PresentedLogin::Nothing => Ok(unsigned(plan, head, address, node)),
            PresentedLogin::Junk => Err(refuse(
                None,
                format!(
                    "`Authorization` cannot be read; Basic and Bearer are taken, of {LIMIT} bytes at most"
                ),
            )),
            PresentedLogin::Basic(user, secret) => {
                match self.sign_in(plan, &user, &secret, address).await? {
                    Ok(signed_in) => {
                        if let Some(session) = signed_in.session() {
                            self.sessions.keep(head, &Arc::new(session));
                        }
                        Ok(signed_in.caller(address, node))
                    }
                    Err(wrong) => {
                        let message = self.slow_down(&user, &secret, address, wrong).await?;
                        Err(refuse(None, message))
                    }
                }
            }
            PresentedLogin::Bearer(token) => {
                let keys = self.keys.now(&self.store).await?;
                let session = match self.sessions.get(head) {
                    Some(session) => session,
                    None => {
                        let read = self.signer().map(|signer| signer.read(&token));
                        let claims = match read {
                            Some(Ok(claims)) => claims,
                            Some(Err(error)) => {
                                let text = format!("{error}; sign in again");
                                return Err(refuse(Some("invalid_token"), text));
                            }
                            None => return Err(refuse(None, "tokens are not taken here".into())),
                        };
                        let Some(session) = session(plan, claims) else {
                            let text = "the token is for somebody who is no longer declared";
                            return Err(refuse(Some("invalid_token"), text.into()));
                        };
                        let session = Arc::new(session);
                        self.sessions.keep(head, &session);
                        session
                    }
                };
                self.resume(plan, &session, &keys, address, node).ok_or_else(|| {
                    let text = "this token was ended, or the key by which it was issued is revoked; sign in again";
                    refuse(Some("invalid_token"), text.into())
                })
            }
        }
    }

    /// Somebody who shows the same again. None: it is not good any more.
    fn resume(
        &self,
        plan: &Plan,
        session: &Session,
        keys: &KeyTable,
        address: Option<IpAddr>,
        node: bool,
    ) -> Option<Caller> {
        let at = now();
        let is_key = session.token.is_none();
        if let Some(id) = &session.key {
            keys.by_id.get(id).filter(|key| match is_key {
                true => key.is_good(at),
                false => key.revoked.is_none(),
            })?;
        }
        if let Some(token) = &session.token
            && keys.stops.ends(&session.who, session.by.as_ref(), token.iat)
        {
            return None;
        }
        plan.court.grants.knows(&session.who).then_some(())?;
        if let (Some(id), Some(by), true) = (&session.key, &session.by, is_key) {
            self.keys.note_use(id, at, address);
            self.note_sign_in(&session.who, by, address);
        }
        let (who, by) = (session.who.clone(), session.by.clone());
        Some(Caller { who, by, token: session.token.clone(), address, node })
    }

    /// Whether a name and a key fit. None: the secret does not look like a key.
    fn with_key(
        &self,
        plan: &Plan,
        keys: &KeyTable,
        user: &str,
        secret: &str,
        address: Option<IpAddr>,
    ) -> Option<Result<SignedIn, WrongLogin>> {
        let key: Key = match secret.parse() {
            Ok(key) => key,
            Err(KeyError::Form) => return None,
            Err(error @ KeyError::Check) => return Some(Err(WrongLogin::new(error))),
        };
        // What is told of a key is told only to its holder: an unknown one is as wrong as any.
        let known =
            keys.by_id.get(&key.id()).filter(|known| self.pepper.verifies(&key, &known.hash));
        let Some(known) = known else {
            return Some(Err(WrongLogin::new("no such key was issued")));
        };
        let by = SignedInBy::Key(known.id.to_string());
        let wrong = |text: String| Some(Err(WrongLogin { text, by: Some(by.clone()) }));
        let at = now();
        if known.revoked.is_some() {
            return wrong(format!("the key {} of {} is revoked", known.id, known.user));
        }
        if !known.is_good(at) {
            return wrong(format!("the key {} of {} has expired", known.id, known.user));
        }
        if !user.is_empty() && user != known.user {
            return wrong(format!(
                "the key {} is that of {}, not of another",
                known.id, known.user
            ));
        }
        let Some(who) = plan.court.grants.who(&known.user) else {
            return wrong(format!("{} is no longer declared in larder.toml", known.user));
        };
        self.keys.note_use(&known.id, at, address);
        self.note_sign_in(&who, &by, address);
        let ends = known.expires.map(|end| end.div_euclid(1000));
        Some(Ok(SignedIn { who, by, limit: None, ends }))
    }

    fn note_sign_in(&self, who: &Who, by: &SignedInBy, address: Option<IpAddr>) {
        self.meters.sign_ins.with_label_values(&["good"]).inc();
        let mut happened = RecordedDeed::by_nobody(RecordKind::SignIn, "");
        (happened.who, happened.by, happened.address) = (who.into(), Some(by), address);
        self.recorder.count(&happened);
    }

    /// Whether a name and a secret fit: a key, the token of a service account, or a token of ours.
    pub(crate) async fn sign_in(
        &self,
        plan: &Plan,
        user: &str,
        secret: &str,
        address: Option<IpAddr>,
    ) -> Result<Result<SignedIn, WrongLogin>, ApiError> {
        let mut keys = self.keys.now(&self.store).await?;
        // Another larder may have issued it this instant, and nobody has told us yet.
        if self.store.is_shared()
            && secret.parse().is_ok_and(|key: Key| !keys.by_id.contains_key(&key.id()))
        {
            keys = self.keys.again(&self.store).await?;
        }
        if let Some(found) = self.with_key(plan, &keys, user, secret, address) {
            return Ok(found);
        }
        if secret.matches('.').count() != 2 {
            let text = "the secret is neither a key of this larder nor a token of a cluster or a build system";
            return Ok(Err(WrongLogin::new(text)));
        }
        let at = now() / 1000;
        if let Some(Ok(claims)) = self.signer().map(|signer| signer.read(secret)) {
            if let Err(error) = claims.check(at) {
                return Ok(Err(WrongLogin::new(error)));
            }
            let mut ends = claims.renewable_until();
            let over = match &claims.by {
                Some(SignedInBy::Key(id)) => {
                    let known = id.parse().ok().and_then(|id: KeyId| keys.by_id.get(&id));
                    let end = known.and_then(|key| key.expires).map(|end| end.div_euclid(1000));
                    ends = [ends, end].into_iter().flatten().min();
                    known.is_none_or(|key| !key.is_good(now()))
                }
                _ => ends.is_some_and(|end| end <= at),
            };
            let (Some(by), Some(who), false) =
                (claims.by.clone(), plan.court.grants.who(&claims.sub), over)
            else {
                return Ok(Err(WrongLogin::new("the token is good for nobody any more")));
            };
            if keys.stops.ends(&who, Some(&by), claims.iat) {
                return Ok(Err(WrongLogin::new(STOPPED)));
            }
            let limit = Some(Arc::new(PullToken::new(claims)));
            let signed_in = SignedIn { who, by, limit, ends };
            self.note_sign_in(&signed_in.who, &signed_in.by, address);
            return Ok(Ok(signed_in));
        }
        match self.identities.verify(plan, user, secret, at).await {
            Ok(KnownIdentity { who, by, until, issued }) => {
                if keys.stops.ends(&who, Some(&by), issued) {
                    return Ok(Err(WrongLogin::new(STOPPED)));
                }
                let signed_in = SignedIn { who, by, limit: None, ends: Some(until) };
                self.note_sign_in(&signed_in.who, &signed_in.by, address);
                Ok(Ok(signed_in))
            }
            Err(doubt) => Ok(Err(WrongLogin::new(doubt))),
        }
    }

    /// Notes a wrong secret, has its answer wait, and gives the sentence for it.
    ///
    /// # Errors
    /// 429 when too many wait already.
    pub(crate) async fn slow_down(
        &self,
        user: &str,
        secret: &str,
        address: Option<IpAddr>,
        wrong: WrongLogin,
    ) -> Result<String, ApiError> {
        let user = cut(user, 80);
        let happened = RecordedDeed {
            kind: RecordKind::Failed,
            who: Actor::Claimed(&user),
            by: wrong.by.as_ref(),
            address,
            reference: None,
            line: None,
            text: &wrong.text,
        };
        let number = self.recorder.note(&happened);
        self.meters.sign_ins.with_label_values(&["failed"]).inc();
        let wait = {
            let mut brake = self.brake.lock().unwrap_or_else(PoisonError::into_inner);
            brake.wrong(address, &user, short_hash(secret), now())
        };
        if wait > Duration::ZERO {
            let Ok(_waiting) = self.waiting.try_acquire() else {
                let error = ApiError::new(Code::TooManyRequests, "too many wrong sign-ins");
                return Err(error
                    .with_header(header::RETRY_AFTER, axum::http::HeaderValue::from_static("5")));
            };
            tokio::time::sleep(wait).await;
        }
        Ok(format!("the sign-in is refused: {}{number}", wrong.text))
    }
}

/// Who it is that brings no secret along.
fn unsigned(plan: &Plan, head: Head<'_>, address: Option<IpAddr>, node: bool) -> Caller {
    let asker = head.extensions.get::<Asker>();
    let believed = asker.is_some_and(|asker| {
        let networks = plan.cluster(&asker.cluster).map(|cluster| cluster.nodes.as_slice());
        let near = address.is_some_and(|address| {
            networks.unwrap_or_default().iter().any(|network| network.holds(address))
        });
        plan.court.open || asker.shown || near
    });
    let who = match asker {
        Some(asker) if believed => Who::cluster(&asker.cluster, None),
        _ => Who::Anonymous,
    };
    Caller { who, by: None, token: None, address, node }
}

/// None: the one it names is not declared.
fn session(plan: &Plan, claims: TokenClaims) -> Option<Session> {
    let who = match claims.sub.as_str() {
        "" => Who::Anonymous,
        user => plan.court.grants.who(user)?,
    };
    let key = match &claims.by {
        Some(SignedInBy::Key(id)) => Some(id.parse().ok()?),
        _ => None,
    };
    Some(Session { who, key, by: claims.by.clone(), token: Some(Arc::new(PullToken::new(claims))) })
}

#[cfg(test)]
mod tests {
    use super::*;
    use axum::http::{Extensions, HeaderMap, HeaderValue};

    fn headers(field: &str) -> HeaderMap {
        HeaderMap::from_iter([(header::AUTHORIZATION, HeaderValue::from_str(field).unwrap())])
    }

    #[test]
    fn only_the_very_same_field_is_known_again_and_padded_ones_are_not_kept() {
        let sessions = Sessions::default();
        let who = Who::cluster("turbine-hall", None);
        let session = Arc::new(Session { who, key: None, by: None, token: None });
        let none = Extensions::new();
        let keep = |field: &str| {
            sessions.keep(Head { headers: &headers(field), extensions: &none }, &session);
        };
        let knows = |field: &str| {
            sessions.get(Head { headers: &headers(field), extensions: &none }).is_some()
        };
        let end = "0123456789abcdef0123456789abcdef";
        keep(&format!("Bearer a.{end}"));
        assert!(knows(&format!("Bearer a.{end}")));
        assert!(!knows(&format!("Bearer b.{end}")), "the same end is not the same secret");
        for blanks in ["  ", " \t", " \t "] {
            let padded = format!("Bearer{blanks}a.{end}");
            keep(&padded);
            assert!(!knows(&padded), "{padded:?}");
        }
    }

    #[test]
    fn what_is_remembered_is_bounded_in_bytes() {
        let (sessions, none) = (Sessions::default(), Extensions::new());
        let session = |who| Arc::new(Session { who, key: None, by: None, token: None });
        let (nobody, somebody) =
            (session(Who::Anonymous), session(Who::cluster("turbine-hall", None)));
        for number in 0..4 * SESSION_BYTES / LIMIT {
            let headers = headers(&format!("Bearer {number:0>length$}", length = LIMIT - 7));
            let head = Head { headers: &headers, extensions: &none };
            sessions.keep(head, &nobody);
            assert!(sessions.get(head).is_none(), "of nobody's only short ones are kept");
            sessions.keep(head, &somebody);
            if number % 256 != 0 {
                continue;
            }
            let known = sessions.known.read().unwrap();
            let held = known.late.keys().chain(known.before.keys()).map(|field| field.len());
            assert!(held.sum::<usize>() <= SESSION_BYTES);
        }
        assert!(!sessions.known.read().unwrap().before.is_empty(), "there were more than fit");
    }
}
