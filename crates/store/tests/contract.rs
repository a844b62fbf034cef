//! What every blob store and every ledger must hold, run against each implementation.
#![allow(missing_docs, clippy::unwrap_used)]

use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_core::lock::Want;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{
    BlobStore, Brought, Demand, Event, Journal, Ledger, LocalBlobs, ManifestRecord, NewManifest,
    Purpose, Store, StoreError, Use,
};

fn repository(name: &str) -> RepositoryName {
    name.parse().unwrap()
}

async fn read(blobs: &dyn BlobStore, digest: &Digest, range: std::ops::Range<u64>) -> Vec<u8> {
    let mut reader = blobs.read(digest, range).await.unwrap();
    let mut bytes = Vec::new();
    while let Some(piece) = reader.next().await {
        bytes.extend_from_slice(&piece.unwrap());
    }
    bytes
}

/// The blob store's battery. `reopen` gives the same store as another process would see it.
async fn blob_store_contract(blobs: &dyn BlobStore, reopen: impl Fn() -> Box<dyn BlobStore>) {
    let content: Vec<u8> = (0..2_000_000u32).map(|n| (n % 251) as u8).collect();
    let digest = Digest::of(&content);
    let pieces: Vec<Bytes> = content.chunks(70_000).map(Bytes::copy_from_slice).collect();

    // Nothing is visible before the commit; ranges are exact after it.
    let id = blobs.begin().await.unwrap();
    let mut writer = blobs.resume(id).await.unwrap();
    for piece in &pieces {
        writer.write(piece.clone()).await.unwrap();
    }
    assert_eq!(blobs.size(&digest).await.unwrap(), None);
    assert!(matches!(blobs.resume(id).await, Err(StoreError::Busy(_))));
    assert!(matches!(blobs.cancel(id).await, Err(StoreError::Busy(_))));
    // Nor does another process take it up, end it, or take it for one that was left behind.
    let other = reopen();
    assert!(matches!(other.resume(id).await, Err(StoreError::Busy(_))));
    assert!(matches!(other.cancel(id).await, Err(StoreError::Busy(_))));
    assert_eq!(other.remove_abandoned(Duration::ZERO).await.unwrap(), 0);
    assert_eq!(writer.commit(&digest).await.unwrap(), 2_000_000);
    assert_eq!(blobs.size(&digest).await.unwrap(), Some(2_000_000));
    assert_eq!(read(blobs, &digest, 0..2_000_000).await, content);
    assert_eq!(read(blobs, &digest, 1_999_990..2_000_000).await, content[1_999_990..]);
    assert_eq!(read(blobs, &digest, 5..5).await, b"");
    assert!(matches!(blobs.uploaded(id).await, Err(StoreError::NotFound(_))));

    // Wrong content leaves nothing behind.
    let id = blobs.begin().await.unwrap();
    let mut writer = blobs.resume(id).await.unwrap();
    writer.write(Bytes::from_static(b"other")).await.unwrap();
    let wrong = Digest::of(b"announced");
    assert!(matches!(writer.commit(&wrong).await, Err(StoreError::Mismatch { .. })));
    assert_eq!(blobs.size(&wrong).await.unwrap(), None);
    assert!(matches!(blobs.resume(id).await, Err(StoreError::NotFound(_))));
    let put = blobs.put(&wrong, Bytes::from_static(b"other")).await;
    assert!(matches!(put, Err(StoreError::Mismatch { .. })));

    // An upload goes on after being parked, after being dropped, and in another process.
    let id = blobs.begin().await.unwrap();
    let mut writer = blobs.resume(id).await.unwrap();
    writer.write(Bytes::from_static(b"one ")).await.unwrap();
    assert_eq!(writer.park().await.unwrap(), 4);
    let mut writer = blobs.resume(id).await.unwrap();
    assert_eq!(writer.offset(), 4);
    writer.write(Bytes::from_static(b"two ")).await.unwrap();
    assert_eq!(writer.park().await.unwrap(), 8);
    let other = reopen();
    assert_eq!(other.uploaded(id).await.unwrap(), 8);
    let mut writer = other.resume(id).await.unwrap();
    assert_eq!(writer.offset(), 8);
    writer.write(Bytes::from_static(b"three")).await.unwrap();
    writer.commit(&Digest::of(b"one two three")).await.unwrap();
    assert!(blobs.size(&Digest::of(b"one two three")).await.unwrap().is_some());

    // An upload that nobody takes up again leaves nothing, however its writer ends; those that are
    // being written stay, and what a killed process has left goes whatever its age.
    let mut kept = blobs.write_once(Purpose::Keep).await.unwrap();
    kept.write(Bytes::from_static(b"kept")).await.unwrap();
    let mut given_up = blobs.write_once(Purpose::Keep).await.unwrap();
    given_up.write(Bytes::from_static(b"lost")).await.unwrap();
    given_up.park().await.unwrap();
    assert_eq!(reopen().remove_abandoned(Duration::from_secs(3600)).await.unwrap(), 0);
    kept.commit(&Digest::of(b"kept")).await.unwrap();
    assert_eq!(read(blobs, &Digest::of(b"kept"), 0..4).await, b"kept");
    let wrong = blobs.write_once(Purpose::Keep).await.unwrap().commit(&Digest::of(b"other")).await;
    assert!(matches!(wrong, Err(StoreError::Mismatch { .. })));

    // The other algorithm, empty content, content that is there already.
    let mut hasher = Hasher::new(Algorithm::Sha512);
    hasher.update(b"long");
    let long = hasher.finish();
    let id = blobs.begin().await.unwrap();
    let mut writer = blobs.resume(id).await.unwrap();
    writer.write(Bytes::from_static(b"long")).await.unwrap();
    writer.commit(&long).await.unwrap();
    assert_eq!(read(blobs, &long, 0..4).await, b"long");
    for _ in 0..2 {
        let id = blobs.begin().await.unwrap();
        let writer = blobs.resume(id).await.unwrap();
        assert_eq!(writer.commit(&Digest::of(b"")).await.unwrap(), 0);
        blobs.put(&Digest::of(b"small"), Bytes::from_static(b"small")).await.unwrap();
    }

    // Removal: readers that have begun go on; absent blobs and uploads are told apart from errors.
    let mut reader = blobs.read(&digest, 0..2_000_000).await.unwrap();
    assert!(blobs.is_there(&digest).unwrap());
    assert_eq!(blobs.free(&digest, Duration::from_secs(3600)).unwrap(), None, "it is young");
    assert_eq!(blobs.free(&digest, Duration::ZERO).unwrap(), Some(2_000_000));
    assert_eq!(blobs.free(&digest, Duration::ZERO).unwrap(), None);
    assert!(!blobs.is_there(&digest).unwrap());
    let mut rest = 0;
    while let Some(piece) = reader.next().await {
        rest += piece.unwrap().len();
    }
    assert_eq!(rest, 2_000_000);
    assert!(matches!(blobs.read(&digest, 0..1).await, Err(StoreError::NotFound(_))));
    let id = blobs.begin().await.unwrap();
    blobs.cancel(id).await.unwrap();
    assert!(matches!(blobs.cancel(id).await, Err(StoreError::NotFound(_))));
    let id = blobs.begin().await.unwrap();
    assert_eq!(blobs.remove_abandoned(Duration::from_secs(3600)).await.unwrap(), 0);
    assert_eq!(blobs.remove_abandoned(Duration::ZERO).await.unwrap(), 1);
    assert!(matches!(blobs.uploaded(id).await, Err(StoreError::NotFound(_))));
}

fn manifest(
    content: &str,
    blobs: &[&Digest],
    children: &[&Digest],
    tag: Option<&str>,
) -> NewManifest {
    NewManifest {
        record: ManifestRecord {
            digest: Digest::of(content.as_bytes()),
            media_type: "application/vnd.oci.image.manifest.v1+json".into(),
            size: content.len() as u64,
        },
        blobs: blobs.iter().map(|digest| ((*digest).clone(), 10)).collect(),
        children: children.iter().map(|digest| ((*digest).clone(), 5)).collect(),
        subject: None,
        demand: Demand::All,
        tag: tag.map(|tag| tag.parse().unwrap()),
        at: 1_000,
    }
}

async fn ledger_contract(ledger: &dyn Ledger, blobs: &dyn BlobStore) {
    for content in ["one", "two", "first", "index", "second", "signature", "materials", "build"] {
        blobs.put(&Digest::of(content.as_bytes()), content.into()).await.unwrap();
    }
    let gone = ledger.link_blob(&repository("a/b"), &Digest::of(b"gone"), 4).await;
    assert!(matches!(gone, Err(StoreError::Vanished(_))));
    let gone = ledger.put_manifest(&repository("a/b"), manifest("gone", &[], &[], None)).await;
    assert!(matches!(gone, Err(StoreError::Vanished(_))));
    let gauge = repository("vendor/steamgauge");
    let tag = |text: &str| Selector::Tag(text.parse().unwrap());
    let (one, two) = (Digest::of(b"one"), Digest::of(b"two"));

    // A manifest waits for its blobs; nothing of a refused one stays.
    let first = manifest("first", &[&one, &two], &[], Some("1.9"));
    ledger.link_blob(&gauge, &one, 10).await.unwrap();
    let refused = ledger.put_manifest(&gauge, first.clone()).await;
    assert!(matches!(refused, Err(StoreError::Missing(missing)) if missing == [two.clone()]));
    assert_eq!(ledger.manifest(&gauge, &tag("1.9")).await.unwrap(), None);
    ledger.link_blob(&gauge, &two, 10).await.unwrap();
    ledger.link_blob(&gauge, &two, 10).await.unwrap();
    ledger.put_manifest(&gauge, first.clone()).await.unwrap();
    let held = ledger.manifest(&gauge, &tag("1.9")).await.unwrap().unwrap();
    assert_eq!(held, first.record);
    assert_eq!(
        ledger.manifest(&gauge, &Selector::Digest(held.digest)).await.unwrap().unwrap(),
        first.record
    );

    // What it says of their sizes must be true.
    let mut wrong = manifest("second", &[&one], &[], None);
    wrong.blobs[0].1 = 11;
    let refused = ledger.put_manifest(&gauge, wrong).await;
    assert!(matches!(refused, Err(StoreError::Size { said: 11, actual: 10, .. })));
    let mut wrong = manifest("index", &[], &[&first.record.digest], None);
    wrong.children[0].1 = 6;
    for demand in [Demand::All, Demand::Blobs] {
        wrong.demand = demand;
        let refused = ledger.put_manifest(&gauge, wrong.clone()).await;
        assert!(matches!(refused, Err(StoreError::Size { said: 6, actual: 5, .. })));
    }

    // Blobs belong to repositories.
    let other = repository("vendor/valve-twin");
    assert_eq!(ledger.blob(&gauge, &two).await.unwrap(), Some(10));
    assert_eq!(ledger.blob(&other, &two).await.unwrap(), None);
    assert_eq!(ledger.anywhere(&two).await.unwrap(), Some(10));
    assert_eq!(ledger.anywhere(&Digest::of(b"three")).await.unwrap(), None);
    assert_eq!(ledger.tags(&other, None, 10).await.unwrap(), None);

    // An index waits for its children, unless it is sparse; the absent ones are known.
    let absent = Digest::of(b"arm64");
    let mut index = manifest("index", &[], &[&first.record.digest, &absent], Some("1.9.2"));
    assert!(matches!(
        ledger.put_manifest(&gauge, index.clone()).await,
        Err(StoreError::Missing(_))
    ));
    index.demand = Demand::Blobs;
    ledger.put_manifest(&gauge, index).await.unwrap();
    assert!(ledger.is_absent_child(&gauge, &absent).await.unwrap());
    assert!(!ledger.is_absent_child(&gauge, &first.record.digest).await.unwrap());

    // Tags move, keep their age when they do not, and are listed in order, page by page.
    for name in ["b", "a", "A", "10", "9"] {
        ledger.put_manifest(&gauge, manifest("first", &[&one], &[], Some(name))).await.unwrap();
    }
    let mut later = manifest("first", &[&one], &[], Some("a"));
    later.at = 2_000;
    ledger.put_manifest(&gauge, later).await.unwrap();
    let all = ledger.tags(&gauge, None, 100).await.unwrap().unwrap();
    assert_eq!(
        all.iter().map(ToString::to_string).collect::<Vec<_>>(),
        ["1.9", "1.9.2", "10", "9", "A", "a", "b"]
    );
    let page = ledger.tags(&gauge, Some(&all[2]), 2).await.unwrap().unwrap();
    assert_eq!(page, all[3..5]);
    let since = |name: &'static str| async move {
        let held = ledger.held(None).await.unwrap();
        held.iter().find(|held| held.tag.as_str() == name).unwrap().since
    };
    assert_eq!(since("a").await, 1_000);
    let second = NewManifest { at: 3_000, ..manifest("second", &[&one], &[], Some("a")) };
    ledger.put_manifest(&gauge, second).await.unwrap();
    assert_eq!(since("a").await, 3_000);

    // What is about a manifest is found by it, page by page, and only in its repository.
    let about = |content: &str| NewManifest {
        subject: Some(first.record.digest.clone()),
        ..manifest(content, &[&one], &[], None)
    };
    for content in ["signature", "materials", "build"] {
        ledger.put_manifest(&gauge, about(content)).await.unwrap();
    }
    let found = ledger.referrers(&gauge, &first.record.digest, None, 10).await.unwrap();
    assert_eq!(found.len(), 3);
    assert!(found.is_sorted_by(|a, b| a.digest < b.digest));
    let rest = ledger.referrers(&gauge, &first.record.digest, Some(&found[0].digest), 1).await;
    assert_eq!(rest.unwrap(), found[1..2]);
    assert!(ledger.referrers(&gauge, &one, None, 10).await.unwrap().is_empty());
    assert!(ledger.referrers(&other, &first.record.digest, None, 10).await.unwrap().is_empty());
    let tags = ledger.all_tags().await.unwrap();
    assert_eq!(tags.len(), 7);
    assert!(tags.is_sorted());
    let digests = ledger.digests().await.unwrap();
    assert_eq!(digests.len(), 2 + 6, "two blobs and six manifests, each once");
    assert!(digests.is_sorted());

    // What is held counts each blob once, through an index too; prefixes end at a slash.
    let totals = ledger.totals().await.unwrap();
    assert_eq!((totals.repositories, totals.tags, totals.manifests, totals.blobs), (1, 7, 6, 2));
    assert_eq!(ledger.repositories(None, 10).await.unwrap(), std::slice::from_ref(&gauge));
    assert!(ledger.repositories(Some(&gauge), 10).await.unwrap().is_empty());
    let held = ledger.held(Some(&repository("vendor"))).await.unwrap();
    assert_eq!(held.iter().find(|held| held.tag.as_str() == "1.9.2").unwrap().content, 20);
    assert_eq!(held.len(), 7);
    assert!(ledger.held(Some(&repository("vend"))).await.unwrap().is_empty());
}

async fn journal_contract(journal: &dyn Journal) {
    let want = |tag: &str| Want {
        image: "bazaar.example/library/kettle".parse().unwrap(),
        tag: tag.parse().unwrap(),
    };
    let (one, two) = (Digest::of(b"one"), Digest::of(b"two"));
    let seen = |digest: &Digest| Event::Seen(digest.clone());
    journal.note(vec![(want("2"), seen(&one)), (want("1"), seen(&one))], 10).await.unwrap();
    journal.note(vec![(want("2"), seen(&one))], 20).await.unwrap();
    let all = journal.intake().await.unwrap();
    assert_eq!(
        all.iter().map(|record| record.want.clone()).collect::<Vec<_>>(),
        [want("1"), want("2")]
    );
    assert_eq!((all[1].checked, all[1].moved), (Some(20), None));
    // It moved, failed to come, and came in the end.
    journal.note(vec![(want("2"), seen(&two))], 30).await.unwrap();
    journal.note(vec![(want("2"), Event::Failed("cut".into()))], 40).await.unwrap();
    let record = journal.intake().await.unwrap().remove(1);
    assert_eq!((record.moved, record.seen.as_ref()), (Some(30), Some(&two)));
    assert_eq!(record.failed, Some(("cut".into(), 40)));
    // An answer of the upstream does not mend what could not be brought in, only what it is about.
    let unresolved = Event::Unresolved("down".into());
    journal.note(vec![(want("2"), seen(&two)), (want("1"), unresolved)], 45).await.unwrap();
    let all = journal.intake().await.unwrap();
    assert_eq!(all[1].failed, Some(("cut".into(), 40)));
    assert_eq!(all[0].failed, Some(("down".into(), 45)));
    journal.note(vec![(want("1"), seen(&one))], 46).await.unwrap();
    assert_eq!(journal.intake().await.unwrap()[0].failed, None);
    let to = "larder.example/vendor/kettle".to_owned();
    let brought = Brought { digest: two.clone(), to, whole: one.clone() };
    journal.note(vec![(want("2"), Event::Brought(brought.clone()))], 50).await.unwrap();
    let record = journal.intake().await.unwrap().remove(1);
    assert_eq!((record.brought, record.failed), (Some((brought, 50)), None));
    journal.note(Vec::new(), 60).await.unwrap();

    let (bazaar, other) = ("bazaar.example".parse().unwrap(), "other.example".parse().unwrap());
    for (count, at) in [(3, 100), (2, 100), (4, 200)] {
        journal.note_pulls(&bazaar, count, at).await.unwrap();
    }
    assert_eq!(journal.pulls(&bazaar, 0).await.unwrap(), [(100, 5), (200, 4)]);
    assert_eq!(journal.pulls(&bazaar, 100).await.unwrap(), [(200, 4)]);
    assert!(journal.pulls(&other, 0).await.unwrap().is_empty());

    // Uses of what is not recorded are left out; the rest adds up over days.
    let unknown =
        Use { repository: repository("a/b"), digest: one.clone(), day: 1, pulls: 1, last: 1 };
    journal.note_uses(vec![unknown]).await.unwrap();
    assert!(journal.uses(0).await.unwrap().is_empty());

    let place = repository("vendor/kettle");
    journal.note_placed(&other, &place, vec![one.clone()]).await.unwrap();
    assert_eq!(journal.placed(&other, &one).await.unwrap(), Some(place));
    assert_eq!(journal.placed(&bazaar, &one).await.unwrap(), None);
    assert_eq!(journal.placed(&other, &two).await.unwrap(), None);
}

#[tokio::test]
async fn the_sqlite_journal_keeps_its_promises() {
    let folder = tempfile::tempdir().unwrap();
    journal_contract(&*Store::open_local(folder.path()).unwrap().journal).await;
}

#[tokio::test]
async fn what_a_killed_process_left_is_removed_whatever_its_age() {
    let folder = tempfile::tempdir().unwrap();
    let blobs = LocalBlobs::open(folder.path()).unwrap();
    let left = folder.path().join("uploads/0192.once");
    std::fs::write(&left, b"half").unwrap();
    assert_eq!(blobs.remove_abandoned(Duration::from_secs(3600)).await.unwrap(), 1);
    assert!(!left.exists());
}

#[test]
fn a_store_of_the_first_version_is_carried_over() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ledger.sqlite");
    drop(Store::open_local(folder.path()).unwrap());
    let connection = rusqlite::Connection::open(&path).unwrap();
    connection
        .execute_batch("DROP TABLE intake; DROP TABLE pulls; DROP TABLE placed; DROP INDEX manifests_by_subject; DROP TABLE uses; DROP INDEX manifests_by_digest; DROP INDEX tags_by_digest; ALTER TABLE blobs DROP COLUMN idle; ALTER TABLE needs DROP COLUMN size; ALTER TABLE tags DROP COLUMN confirmed; DROP TABLE moves; DROP TABLE parts; DROP TABLE traffic; DROP TABLE upstreams; DROP TABLE keys; DROP TABLE record; DROP TABLE stops; DROP TABLE uploads; DROP TABLE parcels; PRAGMA user_version = 1;")
        .unwrap();
    drop(connection);
    drop(Store::open_local(folder.path()).unwrap());
    let connection = rusqlite::Connection::open(&path).unwrap();
    let version: i64 =
        connection.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap();
    assert_eq!(version, 6);
    connection
        .execute_batch("SELECT * FROM intake; SELECT * FROM placed; SELECT * FROM uses; SELECT * FROM moves; SELECT confirmed FROM tags;")
        .unwrap();
}

#[tokio::test]
async fn the_local_blob_store_keeps_its_promises() {
    let folder = tempfile::tempdir().unwrap();
    let blobs = LocalBlobs::open(folder.path()).unwrap();
    blob_store_contract(&blobs, || Box::new(LocalBlobs::open(folder.path()).unwrap())).await;
    assert_eq!(
        std::fs::read_dir(folder.path().join("uploads")).unwrap().count(),
        0,
        "nothing is left"
    );
}

#[tokio::test]
async fn the_sqlite_ledger_keeps_its_promises() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open_local(folder.path()).unwrap();
    ledger_contract(&*store.ledger, &*store.blobs).await;
    // What was answered for is there for the next process.
    let again = Store::open_local(folder.path()).unwrap();
    assert_eq!(again.ledger.held(None).await.unwrap().len(), 7);
}

#[tokio::test]
async fn many_writers_at_once_are_all_recorded() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open_local(folder.path()).unwrap();
    let gauge = repository("vendor/steamgauge");
    let other = Store::open_local(folder.path()).unwrap();
    let mut tasks = tokio::task::JoinSet::new();
    for number in 0..400u32 {
        let (store, gauge) =
            (if number % 2 == 0 { store.clone() } else { other.clone() }, gauge.clone());
        tasks.spawn(async move {
            let digest = Digest::of(&number.to_be_bytes());
            let content = Bytes::copy_from_slice(&number.to_be_bytes());
            store.blobs.put(&digest, content).await.unwrap();
            store.ledger.link_blob(&gauge, &digest, 10).await.unwrap();
            let tag = format!("t{number}");
            let new = manifest(&tag, &[&digest], &[], Some(&tag));
            store.blobs.put(&new.record.digest, tag.into()).await.unwrap();
            store.ledger.put_manifest(&gauge, new).await.unwrap();
        });
    }
    while let Some(done) = tasks.join_next().await {
        done.unwrap();
    }
    assert_eq!(store.ledger.tags(&gauge, None, 1000).await.unwrap().unwrap().len(), 400);
}

#[test]
fn a_store_of_a_later_version_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ledger.sqlite");
    let connection = rusqlite::Connection::open(&path).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    assert!(matches!(Store::open_local(folder.path()), Err(StoreError::Version { found: 99, .. })));
}
