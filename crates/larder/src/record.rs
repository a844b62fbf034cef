//! What the operator does with the program goes into the larder's record too.

use larder_core::access::key::{random, short_name};
use larder_store::{Entry, Kind, Store, StoreError, now};

/// Something that was done. `about`: the key or the reference.
pub fn entry(kind: Kind, about: &str, text: &str) -> Entry {
    let number = random().map_or_else(|| about.to_owned(), short_name);
    Entry {
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

/// Writes it down.
pub async fn note(store: &Store, entries: Vec<Entry>) -> Result<(), StoreError> {
    store.record.write_down(entries).await
}
