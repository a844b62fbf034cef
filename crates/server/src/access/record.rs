//! What is written down of who did what: beside the requests in memory, once a second into the store.

use std::collections::HashMap;
use std::net::IpAddr;
use std::sync::{Mutex, MutexGuard, PoisonError};

use larder_core::access::key::{random, short_name};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{Entry, Kind, Store, now};

use super::Caller;

const MINUTE: i64 = 60_000;
const DAY: i64 = 24 * 60 * MINUTE;
/// Lines that wait to be written; what comes on top of them is counted and lost.
const MOST: usize = 20_000;
/// How long a request for content by its digest counts as part of the pull before it, in milliseconds.
const PULL: i64 = 10 * MINUTE;

#[derive(Default)]
struct Pending {
    entries: HashMap<String, Entry>,
    /// Numbers of refusals of the last minute, so that a runtime that asks again is told the same.
    numbers: HashMap<String, (i64, String)>,
    /// When somebody last asked for a manifest of a repository by name.
    pulling: HashMap<(String, RepositoryName), i64>,
    lost: u64,
}

/// What waits to be written.
#[derive(Default)]
pub(crate) struct Recorder {
    pending: Mutex<Pending>,
}

/// One thing that happened.
pub(crate) struct Happened<'h> {
    pub kind: Kind,
    pub who: String,
    pub by: Option<String>,
    pub address: Option<IpAddr>,
    pub reference: Option<String>,
    pub line: Option<String>,
    pub text: &'h str,
}

impl<'h> Happened<'h> {
    /// Something that the operator did.
    pub fn by_nobody(kind: Kind, text: &'h str) -> Self {
        Self {
            kind,
            who: String::new(),
            by: None,
            address: None,
            reference: None,
            line: None,
            text,
        }
    }

    pub fn of(caller: &Caller, kind: Kind, text: &'h str) -> Self {
        let who = match &caller.who {
            larder_core::access::Who::Anonymous => String::new(),
            who => who.to_string(),
        };
        Self {
            kind,
            who,
            by: caller.by_text(),
            address: caller.address,
            reference: None,
            line: None,
            text,
        }
    }
}

/// How a manifest is named in the record.
pub(crate) fn reference(repository: &RepositoryName, selector: &Selector) -> String {
    match selector {
        Selector::Tag(tag) => format!("{repository}:{tag}"),
        Selector::Digest(digest) => format!("{repository}@{digest}"),
    }
}

pub(crate) fn fresh_number() -> String {
    random().map_or_else(|| "00000000".to_owned(), short_name)
}

impl Recorder {
    fn pending(&self) -> MutexGuard<'_, Pending> {
        self.pending.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Writes something down and gives its number. The same again within the minute has the same one.
    pub fn note(&self, happened: Happened<'_>) -> String {
        let at = now();
        let mut pending = self.pending();
        let each = match happened.kind {
            // These are never told apart by more than their number: each is a line of its own.
            Kind::Push | Kind::Delete | Kind::Key | Kind::Config => fresh_number(),
            Kind::Pull => (at / DAY).to_string(),
            _ => (at / MINUTE).to_string(),
        };
        let address = happened.address.map(|address| address.to_string());
        let same = format!(
            "{}|{each}|{}|{}|{}|{}|{}",
            happened.kind.word(),
            happened.who,
            happened.by.as_deref().unwrap_or_default(),
            // Of a day's pulls only the last address is kept.
            if happened.kind == Kind::Pull { "" } else { address.as_deref().unwrap_or_default() },
            happened.reference.as_deref().unwrap_or_default(),
            if happened.kind == Kind::Pull { "" } else { happened.text },
        );
        if let Some(entry) = pending.entries.get_mut(&same) {
            entry.count += 1;
            entry.last = at;
            entry.address = address;
            return entry.number.clone();
        }
        let known = pending.numbers.get(&same).map(|(_, number)| number.clone());
        let number = known.unwrap_or_else(fresh_number);
        if pending.entries.len() >= MOST {
            pending.lost += 1;
            return number;
        }
        if happened.kind != Kind::Pull && pending.numbers.len() < MOST {
            pending.numbers.insert(same.clone(), (at, number.clone()));
        }
        let entry = Entry {
            number: number.clone(),
            first: at,
            last: at,
            count: 1,
            kind: happened.kind,
            who: happened.who,
            by: happened.by,
            address,
            reference: happened.reference,
            line: happened.line,
            text: happened.text.to_owned(),
            same: Some(same.clone()),
        };
        pending.entries.insert(same, entry);
        number
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
            let key = (caller.who.to_string(), repository.clone());
            let before = pending.pulling.get(&key).copied();
            if !named && before.is_some_and(|before| at - before < PULL) {
                return;
            }
            if pending.pulling.len() >= MOST {
                pending.pulling.retain(|_, before| at - *before < PULL);
            }
            if pending.pulling.len() < MOST {
                pending.pulling.insert(key, at);
            }
        }
        let mut happened = Happened::of(caller, Kind::Pull, digest.as_str());
        happened.reference = Some(reference(repository, selector));
        self.note(happened);
    }

    /// Writes what waits. What cannot be written is kept for the next time.
    pub async fn write(&self, store: &Store) {
        let (entries, lost) = {
            let mut pending = self.pending();
            let at = now();
            pending.numbers.retain(|_, (since, _)| at - *since < 2 * MINUTE);
            let entries: Vec<Entry> = std::mem::take(&mut pending.entries).into_values().collect();
            (entries, std::mem::take(&mut pending.lost))
        };
        if lost > 0 {
            tracing::warn!(lost, "so much happened that the record lacks lines");
        }
        if entries.is_empty() {
            return;
        }
        if let Err(error) = store.record.write_down(entries.clone()).await {
            tracing::warn!(%error, "the record could not be written; it is tried again");
            let mut pending = self.pending();
            for mut entry in entries {
                let Some(same) = entry.same.clone() else { continue };
                if let Some(newer) = pending.entries.get(&same) {
                    entry.count += newer.count;
                    entry.last = newer.last;
                    entry.address.clone_from(&newer.address);
                }
                if pending.entries.len() < MOST || pending.entries.contains_key(&same) {
                    pending.entries.insert(same, entry);
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
    use larder_core::access::Who;

    fn caller() -> Caller {
        let who = Who::cluster("turbine-hall", None);
        Caller { who, by: None, token: None, address: None, node: false }
    }

    #[tokio::test]
    async fn a_pull_is_one_line_a_day_and_a_refusal_keeps_its_number() {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        let recorder = Recorder::default();
        let (caller, repository) = (caller(), "vendor/kettle".parse().unwrap());
        let digest = Digest::of(b"x");
        let (tag, by_digest) =
            (Selector::Tag("2".parse().unwrap()), Selector::Digest(digest.clone()));
        for _ in 0..3 {
            recorder.note_pull(&caller, &repository, &tag, true, &digest);
            recorder.note_pull(&caller, &repository, &by_digest, false, &digest);
            recorder.write(&store).await;
        }
        let refuse = || recorder.note(Happened::of(&caller, Kind::Refused, "not granted"));
        let first = refuse();
        recorder.write(&store).await;
        assert_eq!(refuse(), first, "the runtime asks again");
        recorder.write(&store).await;
        let mut found = store.record.entries(larder_store::Filter::default()).await.unwrap();
        // All of it may have happened within one millisecond.
        found.sort_by_key(|entry| entry.kind);
        let lines: Vec<(&str, u64)> =
            found.iter().map(|entry| (entry.kind.word(), entry.count)).collect();
        assert_eq!(lines, [("refused", 2), ("pull", 3)]);
        assert_eq!(found[1].reference.as_deref(), Some("vendor/kettle:2"));
        assert_eq!(found[0].number, first);
    }
}
