//! What the operator does with the program goes into the larder's record too.

use std::sync::OnceLock;

use larder_core::access::key::{random, renewal_number, short_name};
use larder_core::digest::Digest;
use larder_core::reference::Reference;
use larder_core::shown::shown;
use larder_store::{Filter, RecordEntry, RecordKind, Store, StoreError, now};

use crate::config::Config;
use crate::failure::Failure;
use crate::images::Ends;

/// The command that is running, such as `larder shelf drop`: no argument of it, which may be a secret.
static COMMAND: OnceLock<String> = OnceLock::new();

/// Says which command is running.
pub fn set_command(words: impl IntoIterator<Item = String>) {
    let _ = COMMAND.set(words.into_iter().collect::<Vec<_>>().join(" "));
}

/// The command that is running.
pub fn command() -> String {
    COMMAND.get().map_or("larder", String::as_str).to_owned()
}

/// Who runs which command on which machine, as the operating system says: `mara@gate-1: larder shelf drop`.
pub fn origin() -> String {
    let user = user_name(rustix::process::getuid().as_raw());
    let host = rustix::system::uname().nodename().to_string_lossy().into_owned();
    let command = COMMAND.get().map_or("larder", String::as_str);
    shown(&format!("{user}@{host}: {command}")).into_owned()
}

/// A user's name, as the machine's own list of users has it. One that is not in it is a number.
fn user_name(id: u32) -> String {
    let users = std::fs::read_to_string("/etc/passwd").unwrap_or_default();
    let mut rows = users.lines().map(|line| line.split(':').collect::<Vec<_>>());
    let row = rows.find(|row| row.get(2).is_some_and(|number| number.parse() == Ok(id)));
    row.map_or_else(|| format!("user {id}"), |row| row[0].to_owned())
}

/// Something that was done. `about`: the key or the reference.
pub fn entry(kind: RecordKind, about: &str, text: &str) -> RecordEntry {
    let number = random().map_or_else(|| about.to_owned(), short_name);
    RecordEntry {
        number,
        first: now(),
        last: now(),
        count: 1,
        kind,
        who: String::new(),
        by: None,
        address: None,
        reference: Some(about.to_owned()),
        line: None,
        text: text.to_owned(),
        same: None,
        origin: Some(origin()),
    }
}

/// That a cluster's keys were looked through for renewal. However often that is, it is one line.
pub fn renewal(cluster: &str) -> RecordEntry {
    RecordEntry {
        number: renewal_number(cluster),
        who: cluster.to_owned(),
        same: Some(format!("renewal|{cluster}")),
        reference: None,
        ..entry(RecordKind::Key, cluster, "its keys were looked through for renewal")
    }
}

/// When a cluster's keys were last looked through for renewal, in milliseconds since 1970. None: never.
pub async fn last_renewal(store: &Store, cluster: &str) -> Result<Option<i64>, StoreError> {
    let filter = Filter { number: Some(renewal_number(cluster)), ..Filter::default() };
    Ok(store.entries(filter).await?.first().map(|entry| entry.last))
}

/// Writes it down.
pub async fn note(store: &Store, entries: Vec<RecordEntry>) -> Result<(), StoreError> {
    store.write_down(entries).await
}

/// That an image was copied or promoted from one place to another; what lies in this larder is named without its host.
pub fn copied(
    kind: RecordKind,
    config: &Config,
    (from, to): (&str, &str),
    digest: &Digest,
    because: Option<&str>,
) -> RecordEntry {
    let own = format!("{}/", config.larder.url.host);
    let short = |text: &str| text.strip_prefix(&own).unwrap_or(text).to_owned();
    let because = because.map_or_else(String::new, |text| format!("; because {text}"));
    let text = format!("from {}, {digest}{because}", short(from));
    entry(kind, &short(to), &text)
}

/// Writes down that an image was signed in the name of one of our signers, where this larder's store is here.
pub async fn note_signed(
    ends: &Ends<'_>,
    image: &Reference,
    digest: &Digest,
    (signer, because): (&str, &str),
) -> Result<(), Failure> {
    let Some((store, config)) = ends.record() else { return Ok(()) };
    let own = format!("{}/", config.larder.url.host);
    let text = image.to_string();
    let about = text.strip_prefix(&own).unwrap_or(&text);
    let said = format!("as {signer}, {digest}; because {because}");
    note(store, vec![entry(RecordKind::Sign, about, &said)])
        .await
        .map_err(|error| Failure::store("cannot write the record", &error))
}

/// Writes that down, where this larder's store is here.
pub async fn note_copy(
    ends: &Ends<'_>,
    kind: RecordKind,
    from: &Reference,
    to: &Reference,
    digest: &Digest,
    because: Option<&str>,
) -> Result<(), Failure> {
    let Some((store, config)) = ends.record() else { return Ok(()) };
    let entry = copied(kind, config, (&from.to_string(), &to.to_string()), digest, because);
    note(store, vec![entry])
        .await
        .map_err(|error| Failure::store("cannot write the record", &error))
}
