//! What the store's verbs must hold, each asked of one handle and of two: what one does, the other sees.
#![allow(clippy::unwrap_used)]

mod access;
mod cached;
mod contents;
mod facts;
mod faults;
mod inventories;
mod journal;
mod leases;
mod manifests;
mod moving;
mod opening;
mod removal;
mod room;
mod shared;
mod spending;
mod together;
mod totals;
mod uploads;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use larder_store::{Purpose, Store};

/// One store, as two see it.
struct Pair {
    folder: tempfile::TempDir,
    /// Where the records are, if not in the folder.
    server: Option<String>,
    /// Whether the bytes are in an object store.
    is_remote: bool,
    /// Where the bytes are then.
    bucket: Option<larder_store::BucketPlace>,
    /// The folder of the second one, if that is on another machine.
    _other: Option<tempfile::TempDir>,
    one: Store,
    two: Store,
    kettle: RepositoryName,
}

/// The same handle twice, and two handles as two processes have them; with records in a file, and in a database server
/// where the tests are told of one.
fn pairs() -> Vec<Pair> {
    let opened = [false, true].map(|apart| {
        let folder = tempfile::tempdir().unwrap();
        let open = || Store::open_local(folder.path()).unwrap();
        let one = open();
        let two = if apart { open() } else { one.clone() };
        Pair {
            folder,
            server: None,
            is_remote: false,
            bucket: None,
            _other: None,
            one,
            two,
            kettle: name("vendor/kettle"),
        }
    });
    let mut all = Vec::from(opened);
    all.extend(shared::pairs());
    all
}

impl Pair {
    /// Changes records behind the store's back.
    fn run(&self, sql: &str) {
        match &self.server {
            Some(address) => shared::run(address, sql),
            None => self.ledger().execute_batch(sql).unwrap(),
        }
    }

    /// A number from the records.
    fn number(&self, sql: &str) -> i64 {
        match &self.server {
            Some(address) => shared::number(address, sql),
            None => self.ledger().query_row(sql, [], |row| row.get(0)).unwrap(),
        }
    }

    /// So many of something that is done again and again; servers take their time for each.
    fn some(&self, number: u32) -> u32 {
        if self.server.is_some() || self.is_remote { number / 5 } else { number }
    }

    /// What bytes are called there.
    fn bytes(&self) -> &'static str {
        if self.server.is_some() { "BYTEA" } else { "BLOB" }
    }

    fn ledger(&self) -> rusqlite::Connection {
        rusqlite::Connection::open(self.folder.path().join("ledger.sqlite")).unwrap()
    }
}

/// Waits until the clock, which counts milliseconds, has moved on.
async fn clock_moves() {
    let was = larder_store::now();
    while larder_store::now() == was {
        tokio::task::yield_now().await;
    }
}

fn name(text: &str) -> RepositoryName {
    text.parse().unwrap()
}

fn tag(text: &str) -> Tag {
    text.parse().unwrap()
}

fn by_tag(text: &str) -> Selector {
    Selector::Tag(tag(text))
}

/// Pushes a blob as a client does.
async fn push(store: &Store, repository: &RepositoryName, content: &str) -> Digest {
    let digest = Digest::of(content.as_bytes());
    let mut writer = store.write_once(Purpose::Read).await.unwrap();
    writer.write(Bytes::copy_from_slice(content.as_bytes())).await.unwrap();
    store.commit_blob(repository, &digest, writer).await.unwrap();
    digest
}

const CONFIG: &str = r#"{"os":"linux","architecture":"amd64"}"#;
const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";

/// A manifest with the config and one layer.
fn manifest_of(layer: &str) -> Document {
    let (config, digest) = (Digest::of(CONFIG.as_bytes()), Digest::of(layer.as_bytes()));
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"{MANIFEST}","config":{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{config}","size":{}}},"layers":[{{"mediaType":"application/vnd.oci.image.layer.v1.tar","digest":"{digest}","size":{}}}]}}"#,
        CONFIG.len(),
        layer.len()
    );
    Document::read(text.into(), None).unwrap()
}

async fn put(
    store: &Store,
    repository: &RepositoryName,
    document: &Document,
    to: Option<&str>,
) -> Digest {
    let digest = Digest::of(&document.bytes);
    store.put_manifest(repository, &digest, document, to.map(tag), false).await.unwrap();
    digest
}

/// An image with one layer, its config and layer pushed first.
async fn image(
    store: &Store,
    repository: &RepositoryName,
    layer: &str,
    to: Option<&str>,
) -> Digest {
    push(store, repository, CONFIG).await;
    push(store, repository, layer).await;
    put(store, repository, &manifest_of(layer), to).await
}

/// An index of some manifests with their sizes.
fn index_of(children: &[(&Digest, u64)]) -> Document {
    let child = |(digest, size): &(&Digest, u64)| {
        format!(r#"{{"mediaType":"{MANIFEST}","digest":"{digest}","size":{size}}}"#)
    };
    let children: Vec<String> = children.iter().map(child).collect();
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{}]}}"#,
        children.join(",")
    );
    Document::read(text.into(), None).unwrap()
}

async fn index(
    store: &Store,
    repository: &RepositoryName,
    child: &Digest,
    to: Option<&str>,
) -> Digest {
    let size = store.size(child).await.unwrap().unwrap();
    put(store, repository, &index_of(&[(child, size)]), to).await
}

async fn read(store: &Store, digest: &Digest, range: std::ops::Range<u64>) -> Vec<u8> {
    let mut reader = store.read(digest, range).await.unwrap();
    let mut bytes = Vec::new();
    while let Some(piece) = reader.next().await {
        bytes.extend_from_slice(&piece.unwrap());
    }
    bytes
}

async fn has(store: &Store, repository: &RepositoryName, selector: &Selector) -> bool {
    store.manifest_record(repository, selector).await.unwrap().is_some()
}

/// Frees whatever nothing refers to and came before a time, and tells how many blobs that were.
async fn collect(store: &Store, before: i64) -> usize {
    store.unlink_idle(before).await.unwrap();
    let mut freed = 0;
    loop {
        let condemned = store.condemn(before, 7).await.unwrap();
        if condemned.is_empty() {
            return freed;
        }
        freed += store.free(condemned).await.unwrap().len();
    }
}

/// The files below a folder of the store's.
fn files(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let Ok(entries) = std::fs::read_dir(folder) else { return Vec::new() };
    let mut found = Vec::new();
    for entry in entries.flatten() {
        match entry.file_type().unwrap().is_dir() {
            true => found.extend(files(&entry.path())),
            false => found.push(entry.path()),
        }
    }
    found.sort();
    found
}
