//! What the operator does with the program goes into the larder's record too.

use larder_core::access::key::{random, renewal_number, short_name};
use larder_store::{Filter, RecordEntry, RecordKind, Store, StoreError, now};

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
