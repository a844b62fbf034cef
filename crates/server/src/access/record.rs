//! What is written down of who did what: beside the requests in memory, once a second into the store.

use std::collections::HashMap;
use std::fmt::{self, Display, Write};
use std::net::IpAddr;
use std::sync::atomic::{AtomicU32, Ordering};
use std::sync::{Mutex, MutexGuard, PoisonError};

use larder_core::access::Who;
use larder_core::access::brake::neighbourhood;
use larder_core::access::key::{Numbers, random, short_name};
use larder_core::access::token::SignedInBy;
use larder_core::diagnosis::{Cause, refusal};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{RecordEntry, RecordKind, Store, now};

use super::Caller;

const MINUTE: i64 = 60_000;
const DAY: i64 = 24 * 60 * MINUTE;
/// Lines that wait to be written; what comes on top of them is counted and lost.
const MOST: usize = 20_000;
/// Those of one user among them; clients that did not sign in counts as one, so that nobody displaces another's.
const MOST_OF_ONE: usize = 2_000;
/// Failed sign-ins of so long from one address are one line, in milliseconds.
const SPAN: i64 = 10 * MINUTE;
/// Lines of clients that did not sign in that are kept, and how often it is looked whether there are more.
const STRANGERS: u64 = 20_000;
const LOOK: u32 = 60;
/// How long a request for content by its digest counts as part of the pull before it, in milliseconds.
const PULL: i64 = 10 * MINUTE;

tokio::task_local! {
    /// Set while a request is answered that only tries how a pull would go.
    static PROBING: ();
}

/// Whether a request only tries how a pull would go: `larder why` says so of its own.
pub(crate) fn is_probe(headers: &axum::http::HeaderMap) -> bool {
    let agent = headers.get(axum::http::header::USER_AGENT);
    agent.is_some_and(|agent| agent.as_bytes().starts_with(larder_client::PROBE_AGENT.as_bytes()))
}

/// Answers a request that only tries how a pull would go: what comes of it is recorded as such, so that it neither hides
/// what befell a node nor looks like it.
pub(crate) fn probing<F: Future>(answer: F) -> impl Future<Output = F::Output> {
    PROBING.scope((), answer)
}

#[derive(Default)]
struct PendingRecord {
    /// By what makes another one the same line.
    lines: HashMap<String, PendingLine>,
    /// Where that is written for a look: what was met before costs no memory, however often it comes.
    same: String,
    /// How many lines of each user wait.
    of: HashMap<String, usize>,
    /// When somebody last asked for a manifest of a repository by name.
    pulling: HashMap<Who, HashMap<RepositoryName, i64>>,
    lost: u64,
}

struct PendingLine {
    entry: RecordEntry,
    /// The last one; the entry has it as text only when it is written.
    address: Option<IpAddr>,
}

impl PendingLine {
    fn written(self) -> RecordEntry {
        let address = self.address.map(|address| address.to_string());
        RecordEntry { address: address.or(self.entry.address), ..self.entry }
    }
}

/// What waits to be written.
pub(crate) struct Recorder {
    pending: Mutex<PendingRecord>,
    numbers: Numbers,
    turns: AtomicU32,
}

/// What a refusal carries, behind its sentence: the number of its line in the record. Empty: no line of it is kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Number(Option<String>);

impl Display for Number {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Some(number) => write!(f, " [{number}]"),
            None => Ok(()),
        }
    }
}

/// One thing that happened.
pub(crate) struct RecordedDeed<'h> {
    pub kind: RecordKind,
    pub who: Actor<'h>,
    pub by: Option<&'h SignedInBy>,
    pub address: Option<IpAddr>,
    pub reference: Option<RecordSubject<'h>>,
    pub line: Option<String>,
    pub text: &'h str,
}

/// Who did it.
#[derive(Clone, Copy)]
pub(crate) enum Actor<'h> {
    Nobody,
    Known(&'h Who),
    /// A name that somebody gave, and could not prove.
    Claimed(&'h str),
}

/// What it was about.
pub(crate) enum RecordSubject<'h> {
    Text(String),
    Manifest(&'h RepositoryName, &'h Selector),
}

impl<'h> RecordedDeed<'h> {
    /// Something that the operator did.
    pub fn by_nobody(kind: RecordKind, text: &'h str) -> Self {
        let who = Actor::Nobody;
        Self { kind, who, by: None, address: None, reference: None, line: None, text }
    }

    /// What a caller did, without what it was about.
    pub fn of(caller: &'h Caller, kind: RecordKind, text: &'h str) -> Self {
        Self {
            kind,
            who: Actor::from(&caller.who),
            by: caller.by.as_ref(),
            address: caller.address,
            reference: None,
            line: None,
            text,
        }
    }
}

impl<'h> From<&'h Who> for Actor<'h> {
    fn from(who: &'h Who) -> Self {
        match who {
            Who::Anonymous => Self::Nobody,
            who => Self::Known(who),
        }
    }
}

impl Actor<'_> {
    fn write(&self, to: &mut impl Write) -> fmt::Result {
        match self {
            Self::Nobody => Ok(()),
            Self::Known(who) => write!(to, "{who}"),
            Self::Claimed(name) => to.write_str(name),
        }
    }
}

impl Display for Actor<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write(f)
    }
}

impl RecordSubject<'_> {
    fn write(&self, to: &mut impl Write) -> fmt::Result {
        let (repository, between, selector) = match self {
            Self::Text(text) => return to.write_str(text),
            Self::Manifest(repository, Selector::Tag(tag)) => (repository, ':', tag.as_str()),
            Self::Manifest(repository, Selector::Digest(digest)) => {
                (repository, '@', digest.as_str())
            }
        };
        to.write_str(repository.as_str())?;
        to.write_char(between)?;
        to.write_str(selector)
    }
}

impl Display for RecordSubject<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.write(f)
    }
}

/// What makes two things that happened one line of the record.
struct Same<'s, 'h> {
    happened: &'s RecordedDeed<'h>,
    each: Each,
    probe: bool,
}

/// What keeps lines apart that are alike otherwise.
enum Each {
    Number(String),
    /// The minute or day.
    Time(i64),
}

impl Same<'_, '_> {
    /// Piece by piece: this is done for every pull, and formatting would take longer than all else here.
    fn write(&self, to: &mut impl Write) -> fmt::Result {
        let RecordedDeed { kind, who, by, address, reference, text, .. } = self.happened;
        to.write_str(kind.word())?;
        to.write_str(if self.probe { "?|" } else { "|" })?;
        match &self.each {
            Each::Number(number) => to.write_str(number)?,
            Each::Time(time) => write!(to, "{time}")?,
        }
        to.write_char('|')?;
        if *kind == RecordKind::Failed {
            // A client that cannot prove a name gets no line for it, nor for what is said about it: only for the
            // kind of fault, of which there are few, and for a key that it has.
            if let Some(address) = address {
                write!(to, "{}", neighbourhood(*address))?;
            }
            let cause = refusal(text).map(Cause::word).unwrap_or_default();
            write!(to, "|{cause}|")?;
            return by.map_or(Ok(()), |by| write!(to, "{by}"));
        }
        who.write(to)?;
        to.write_char('|')?;
        if let Some(by) = by {
            write!(to, "{by}")?;
        }
        to.write_char('|')?;
        // Of a day's pulls only the last address is kept.
        let pull = *kind == RecordKind::Pull;
        if let Some(address) = address.filter(|_| !pull) {
            write!(to, "{address}")?;
        }
        to.write_char('|')?;
        if let Some(reference) = reference {
            reference.write(to)?;
        }
        to.write_char('|')?;
        to.write_str(if pull { "" } else { text })
    }
}

/// How a manifest is named in the record.
pub(crate) fn reference(repository: &RepositoryName, selector: &Selector) -> String {
    RecordSubject::Manifest(repository, selector).to_string()
}

pub(crate) fn fresh_number() -> String {
    random().map_or_else(|| "00000000".to_owned(), short_name)
}

impl PendingRecord {
    /// Somebody begins a pull of a repository.
    fn pulls_now(&mut self, who: &Who, repository: &RepositoryName, at: i64) {
        let known =
            |all: &HashMap<Who, HashMap<_, _>>| all.values().map(HashMap::len).sum::<usize>();
        if known(&self.pulling) >= MOST {
            for its in self.pulling.values_mut() {
                its.retain(|_, before| at - *before < PULL);
            }
            self.pulling.retain(|_, its| !its.is_empty());
            if known(&self.pulling) >= MOST {
                return;
            }
        }
        self.pulling.entry(who.clone()).or_default().insert(repository.clone(), at);
    }
}

impl Recorder {
    fn pending(&self) -> MutexGuard<'_, PendingRecord> {
        self.pending.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// With the larder's own secret.
    pub fn new(secret: &[u8; 32]) -> Self {
        Self { pending: Mutex::default(), numbers: Numbers::new(secret), turns: AtomicU32::new(0) }
    }

    /// Writes something down and gives its number. The same again within the minute has the same one.
    pub fn note(&self, happened: &RecordedDeed<'_>) -> Number {
        Number(self.add(happened, str::to_owned))
    }

    /// Writes something down of which nobody is told the number.
    pub fn count(&self, happened: &RecordedDeed<'_>) {
        self.add(happened, |_| ());
    }

    /// None: so much happens that it is not kept.
    fn add<T>(&self, happened: &RecordedDeed<'_>, told: impl FnOnce(&str) -> T) -> Option<T> {
        let at = now();
        let each = match happened.kind {
            // These are never told apart by more than their number: each is a line of its own.
            RecordKind::Push
            | RecordKind::Delete
            | RecordKind::Key
            | RecordKind::Config
            | RecordKind::Intake
            | RecordKind::Copy
            | RecordKind::Promote
            | RecordKind::Unpack
            | RecordKind::Collect => Each::Number(fresh_number()),
            RecordKind::Pull => Each::Time(at / DAY),
            RecordKind::Failed => Each::Time(at / SPAN),
            _ => Each::Time(at / MINUTE),
        };
        let probe = PROBING.try_with(|()| ()).is_ok();
        let same = Same { happened, each, probe };
        let mut pending = self.pending();
        let PendingRecord { lines, same: text, .. } = &mut *pending;
        text.clear();
        // A text takes whatever is written.
        let _ = same.write(text);
        if let Some(line) = lines.get_mut(text.as_str()) {
            line.entry.count += 1;
            line.entry.last = at;
            line.address = happened.address;
            if happened.kind == RecordKind::Failed {
                line.entry.who = happened.who.to_string();
                happened.text.clone_into(&mut line.entry.text);
            }
            return Some(told(&line.entry.number));
        }
        let same = text.clone();
        let of = match happened.who {
            Actor::Known(who) => who.to_string(),
            Actor::Nobody | Actor::Claimed(_) => String::new(),
        };
        let its = pending.of.get(&of).copied().unwrap_or(0);
        if pending.lines.len() >= MOST || its >= MOST_OF_ONE {
            pending.lost += 1;
            return None;
        }
        pending.of.insert(of, its + 1);
        let number = self.numbers.of(&same);
        let answer = told(&number);
        let entry = RecordEntry {
            number,
            first: at,
            last: at,
            count: 1,
            kind: if probe { RecordKind::Probe } else { happened.kind },
            who: happened.who.to_string(),
            by: happened.by.map(ToString::to_string),
            address: None,
            reference: happened.reference.as_ref().map(ToString::to_string),
            line: happened.line.clone(),
            text: match happened.kind {
                RecordKind::SignIn if probe => "it would be signed in".to_owned(),
                RecordKind::Pull if probe => "it would be pulled".to_owned(),
                _ => happened.text.to_owned(),
            },
            same: Some(same.clone()),
            origin: None,
        };
        pending.lines.insert(same, PendingLine { entry, address: happened.address });
        Some(answer)
    }

    /// Notes a pull. One by digest that goes on with a pull by name is no other one.
    pub fn note_pull(
        &self,
        caller: &Caller,
        repository: &RepositoryName,
        selector: &Selector,
        head: bool,
        digest: &Digest,
    ) {
        let named = head || matches!(selector, Selector::Tag(_));
        let at = now();
        {
            let mut pending = self.pending();
            let known = pending.pulling.get_mut(&caller.who);
            match known.and_then(|known| known.get_mut(repository)) {
                Some(before) if !named && at - *before < PULL => return,
                Some(before) => *before = at,
                None => pending.pulls_now(&caller.who, repository, at),
            }
        }
        let mut happened = RecordedDeed::of(caller, RecordKind::Pull, digest.as_str());
        happened.reference = Some(RecordSubject::Manifest(repository, selector));
        self.count(&happened);
    }

    /// Writes what waits. What cannot be written is kept for the next time.
    pub async fn write(&self, store: &Store) {
        let (entries, lost) = {
            let mut pending = self.pending();
            pending.of.clear();
            let lines = std::mem::take(&mut pending.lines).into_values();
            let entries: Vec<RecordEntry> = lines.map(PendingLine::written).collect();
            (entries, std::mem::take(&mut pending.lost))
        };
        if lost > 0 {
            tracing::warn!(lost, "so much happened that the record lacks lines");
        }
        if self.turns.fetch_add(1, Ordering::Relaxed).is_multiple_of(LOOK)
            && let Err(error) = store.shorten_strangers(STRANGERS).await
        {
            tracing::warn!(%error, "the record could not be shortened; it is tried again");
        }
        if entries.is_empty() {
            return;
        }
        if let Err(error) = store.write_down(entries.clone()).await {
            tracing::warn!(%error, "the record could not be written; it is tried again");
            let mut pending = self.pending();
            for entry in entries {
                let Some(same) = entry.same.clone() else { continue };
                if let Some(newer) = pending.lines.get_mut(&same) {
                    newer.entry.count += entry.count;
                    newer.entry.first = entry.first;
                } else if pending.lines.len() < MOST {
                    pending.lines.insert(same, PendingLine { entry, address: None });
                } else {
                    pending.lost += 1;
                }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn caller() -> Caller {
        let who = Who::cluster("turbine-hall", None);
        Caller { who, by: None, token: None, address: None, node: false }
    }

    #[tokio::test]
    async fn a_pull_is_one_line_a_day_and_a_refusal_keeps_its_number() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        let recorder = Recorder::new(&[7; 32]);
        let (caller, repository) = (caller(), "vendor/kettle".parse().unwrap());
        let digest = Digest::of(b"x");
        let (tag, by_digest) =
            (Selector::Tag("2".parse().unwrap()), Selector::Digest(digest.clone()));
        for _ in 0..3 {
            recorder.note_pull(&caller, &repository, &tag, true, &digest);
            recorder.note_pull(&caller, &repository, &by_digest, false, &digest);
            recorder.write(&store).await;
        }
        let refuse =
            || recorder.note(&RecordedDeed::of(&caller, RecordKind::Refused, "not granted"));
        let first = refuse();
        recorder.write(&store).await;
        assert_eq!(refuse(), first, "the runtime asks again");
        let restarted = Recorder::new(&[7; 32]);
        let again = restarted.note(&RecordedDeed::of(&caller, RecordKind::Refused, "not granted"));
        assert_eq!(again, first, "another process tells the same number");
        recorder.write(&store).await;
        let mut found = store.entries(larder_store::Filter::default()).await.unwrap();
        // All of it may have happened within one millisecond.
        found.sort_by_key(|entry| entry.kind);
        let lines: Vec<(&str, u64)> =
            found.iter().map(|entry| (entry.kind.word(), entry.count)).collect();
        assert_eq!(lines, [("refused", 2), ("pull", 3)]);
        assert_eq!(found[1].reference.as_deref(), Some("vendor/kettle:2"));
        assert_eq!(Number(Some(found[0].number.clone())), first);
    }

    #[test]
    fn whoever_is_wrong_has_one_line_and_displaces_nobody() {
        let recorder = Recorder::new(&[7; 32]);
        let wrong = |user: &str, address: &str| {
            let happened = RecordedDeed {
                kind: RecordKind::Failed,
                who: Actor::Claimed(user),
                by: None,
                address: address.parse().ok(),
                reference: None,
                line: None,
                text: "no such key was issued",
            };
            recorder.note(&happened)
        };
        let first = wrong("a", "10.0.0.1");
        let known = |text: &str, key: &str| {
            let mut happened = RecordedDeed::by_nobody(RecordKind::Failed, text);
            let by = SignedInBy::Key(key.to_owned());
            (happened.who, happened.by) = (Actor::Claimed("a"), Some(&by));
            happened.address = "10.0.0.9".parse().ok();
            recorder.note(&happened)
        };
        let revoked = known("the key a of b is revoked", "a");
        assert_eq!(known("the key a of b is revoked", "a"), revoked);
        assert_ne!(known("the key c of b is revoked", "c"), revoked, "another key");
        assert_ne!(known("the key a of b has expired", "a"), revoked, "another fault");
        for number in 0..50_000 {
            assert_eq!(wrong(&format!("user{number}"), "10.0.0.1"), first);
        }
        assert_eq!(wrong("b", "2001:db8::1"), wrong("c", "2001:db8::2"));
        assert_eq!(recorder.pending().lines.len(), 5);
        let told: Vec<Number> = (0..4_000_u32)
            .map(|number| wrong("x", &std::net::Ipv4Addr::from(number).to_string()))
            .collect();
        assert!(told[0].0.is_some() && told[3_999].0.is_none(), "no number without a line");
        let caller = caller();
        let kept = recorder.note(&RecordedDeed::of(&caller, RecordKind::Refused, "not granted"));
        assert!(kept.0.is_some());
    }
}
