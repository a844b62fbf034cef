//! What removes things must hold: nothing that is needed goes, and what goes is really free.
#![allow(missing_docs, clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::holdings::{Holdings, Unwanted};
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use larder_store::{Purpose, Removal, Store, StoreError, Use};

const NOW: Duration = Duration::ZERO;

struct Place {
    folder: tempfile::TempDir,
    store: Store,
    repository: RepositoryName,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        Self { folder, store, repository: "vendor/kettle".parse().unwrap() }
    }

    async fn blob(&self, content: &str) -> Digest {
        let digest = Digest::of(content.as_bytes());
        self.store.blobs.put(&digest, Bytes::copy_from_slice(content.as_bytes())).await.unwrap();
        let size = content.len() as u64;
        self.store.ledger.link_blob(&self.repository, &digest, size).await.unwrap();
        digest
    }

    async fn put(&self, text: String, tag: Option<&str>) -> Digest {
        let document = Document::read(text.into(), None).unwrap();
        let digest = Digest::of(&document.bytes);
        let tag = tag.map(|tag| tag.parse().unwrap());
        self.store.put_manifest(&self.repository, &digest, &document, tag, false).await.unwrap();
        digest
    }

    /// An image with one layer, its config and layer pushed first.
    async fn image(&self, layer: &str, tag: Option<&str>) -> Digest {
        let config = self.blob(r#"{"os":"linux","architecture":"amd64"}"#).await;
        let digest = self.blob(layer).await;
        let text = format!(
            r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.manifest.v1+json","config":{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{config}","size":37}},"layers":[{{"mediaType":"application/vnd.oci.image.layer.v1.tar","digest":"{digest}","size":{}}}]}}"#,
            layer.len()
        );
        self.put(text, tag).await
    }

    async fn index(&self, child: &Digest, tag: Option<&str>) -> Digest {
        let size = self.store.blobs.size(child).await.unwrap().unwrap();
        let text = format!(
            r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"{child}","size":{size}}}]}}"#
        );
        self.put(text, tag).await
    }

    async fn has(&self, selector: &Selector) -> bool {
        self.store.ledger.manifest(&self.repository, selector).await.unwrap().is_some()
    }

    /// Frees whatever nothing refers to, and tells how many that were.
    async fn collect(&self, grace: Duration) -> usize {
        let upkeep = &self.store.upkeep;
        let before = if grace == NOW { i64::MAX } else { 0 };
        upkeep.unlink_idle(before).await.unwrap();
        let mut freed = 0;
        for part in 0..=255 {
            let recorded = upkeep.recorded(part, None).await.unwrap();
            let stored = self.store.blobs.part(part).await.unwrap().into_iter();
            let loose = stored
                .map(|blob| blob.digest)
                .filter(|digest| !recorded.contains(digest))
                .collect();
            freed += upkeep.free(loose, grace).await.unwrap().len();
        }
        freed
    }
}

fn tag(text: &str) -> Tag {
    text.parse().unwrap()
}

#[tokio::test]
async fn what_is_needed_stays_and_what_depends_goes() {
    let place = Place::new();
    let upkeep = &place.store.upkeep;
    let child = place.image("layer", None).await;
    let index = place.index(&child, Some("2")).await;
    let layer = Digest::of(b"layer");
    let needed = upkeep.remove_manifest(&place.repository, &child).await.unwrap();
    assert_eq!(needed, Removal::Needed(vec![index.clone()]));
    let needed = upkeep.unlink_blob(&place.repository, &layer).await.unwrap();
    assert_eq!(needed, Removal::Needed(vec![child.clone()]));
    assert_eq!(upkeep.remove_tag(&place.repository, &tag("3")).await.unwrap(), None);

    // A tag goes alone; a manifest takes its tags along.
    place.index(&child, Some("lts")).await;
    assert_eq!(upkeep.remove_tag(&place.repository, &tag("2")).await.unwrap(), Some(index.clone()));
    assert!(place.has(&Selector::Digest(index.clone())).await);
    let gone = upkeep.remove_manifest(&place.repository, &index).await.unwrap();
    assert_eq!(gone, Removal::Done(vec![tag("lts")]));
    assert!(!place.has(&Selector::Tag(tag("lts"))).await);
    let gone = upkeep.remove_manifest(&place.repository, &index).await.unwrap();
    assert_eq!(gone, Removal::NotThere);
    assert_eq!(
        upkeep.remove_manifest(&place.repository, &child).await.unwrap(),
        Removal::Done(vec![])
    );
    assert_eq!(upkeep.unlink_blob(&place.repository, &layer).await.unwrap(), Removal::Done(()));
    let elsewhere = "a/b".parse().unwrap();
    assert_eq!(upkeep.unlink_blob(&elsewhere, &layer).await.unwrap(), Removal::NotThere);
    assert_eq!(upkeep.remove_manifest(&elsewhere, &child).await.unwrap(), Removal::NotThere);
}

#[tokio::test]
async fn only_what_nothing_refers_to_is_freed() {
    let place = Place::new();
    let image = place.image("layer", Some("2")).await;
    let other = place.image("other", Some("3")).await;
    // Something that was put there and never recorded, as a broken run leaves it.
    let loose = Digest::of(b"loose");
    place.store.blobs.put(&loose, Bytes::from_static(b"loose")).await.unwrap();
    assert_eq!(place.collect(Duration::from_secs(3600)).await, 0, "everything is young");
    assert_eq!(place.collect(NOW).await, 1);
    assert_eq!(place.store.blobs.size(&loose).await.unwrap(), None);

    // Its layer and manifest go, the shared config stays.
    tokio::time::sleep(Duration::from_millis(5)).await;
    let removed = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap();
    let removed = i64::try_from(removed.as_millis()).unwrap();
    place.store.upkeep.remove_manifest(&place.repository, &image).await.unwrap();
    assert_eq!(place.store.upkeep.idle(i64::MAX).await.unwrap().len(), 1);
    let pushed = place.store.upkeep.idle(removed).await.unwrap();
    assert!(pushed.is_empty(), "its idle time begins with the removal, not with the push");
    assert_eq!(place.collect(NOW).await, 2);
    assert!(place.has(&Selector::Digest(other.clone())).await);
    let kept = place.store.blobs.size(&Digest::of(b"other")).await.unwrap();
    assert_eq!(kept, Some(5));

    // The last image takes its repository along.
    place.store.upkeep.remove_manifest(&place.repository, &other).await.unwrap();
    assert_eq!(place.collect(NOW).await, 3);
    assert_eq!(place.store.ledger.tags(&place.repository, None, 1).await.unwrap(), None);
    assert_eq!(place.store.ledger.totals().await.unwrap(), larder_store::Totals::default());
}

#[tokio::test]
async fn a_plan_is_carried_out_as_far_as_it_still_holds() {
    let place = Place::new();
    let image = place.image("layer", Some("2")).await;
    place.image("other", Some("3")).await;
    let records = place.store.upkeep.records().await.unwrap();
    let unwanted = BTreeSet::from([Unwanted::Tag(0, tag("2")), Unwanted::Tag(0, tag("3"))]);
    let plan = Holdings::new(records).plan_drop(&unwanted);
    assert_eq!((plan.tags.len(), plan.manifests.len()), (2, 2));
    // Meanwhile one tag moves, and the other's image gets a second one.
    place.image("new", Some("3")).await;
    place.image("layer", Some("lts")).await;
    let dropped = place.store.upkeep.drop_planned(plan).await.unwrap();
    assert_eq!((dropped.tags, dropped.manifests, dropped.changed), (1, 1, 2));
    assert!(place.has(&Selector::Digest(image)).await);
    assert!(place.has(&Selector::Tag(tag("3"))).await);
    assert!(!place.has(&Selector::Tag(tag("2"))).await);
}

#[tokio::test]
async fn what_lost_its_content_is_withdrawn_up_to_its_tags() {
    let place = Place::new();
    let child = place.image("layer", None).await;
    let index = place.index(&child, Some("2")).await;
    let other = place.image("other", Some("3")).await;
    let lost = vec![Digest::of(b"layer")];
    let upkeep = &place.store.upkeep;
    let before = upkeep.withdraw(lost.clone(), true).await.unwrap();
    let healed = upkeep.withdraw(lost.clone(), false).await.unwrap();
    assert_eq!(healed, larder_store::Withdrawn::default(), "its content is there");
    place.store.blobs.quarantine(&lost[0]).await.unwrap();
    assert!(place.has(&Selector::Tag(tag("2"))).await, "nothing is done yet");
    let gone = upkeep.withdraw(lost, false).await.unwrap();
    assert_eq!(gone, before);
    assert_eq!(gone.tags, [(place.repository.clone(), tag("2"), index)]);
    assert_eq!(gone.manifests.len(), 2);
    assert!(!place.has(&Selector::Digest(child)).await);
    assert!(place.has(&Selector::Digest(other)).await);
    let layer = place.store.ledger.blob(&place.repository, &Digest::of(b"layer")).await.unwrap();
    assert_eq!(layer, None, "a client is told to send it again");
}

#[tokio::test]
async fn damaged_content_is_set_aside_and_healed_by_the_next_push() {
    let place = Place::new();
    let digest = place.blob("content").await;
    let stored = place.store.blobs.part(0).await.unwrap();
    assert!(stored.iter().all(|blob| blob.digest.hex().starts_with("00")));
    let hex = digest.hex().to_owned();
    let path = place.folder.path().join("blobs/sha256").join(&hex[..2]).join(&hex);
    std::fs::write(&path, "damaged").unwrap();
    // The same content, sent again: what lies there is replaced.
    let mut writer = place.store.blobs.write_once(Purpose::Keep).await.unwrap();
    writer.write(Bytes::from_static(b"content")).await.unwrap();
    place.store.commit_blob(&place.repository, &digest, writer).await.unwrap();
    assert_eq!(std::fs::read(&path).unwrap(), b"content");
    let aside = place.store.blobs.quarantine(&digest).await.unwrap().unwrap();
    assert_eq!(std::fs::read(place.folder.path().join(aside)).unwrap(), b"content");
    assert_eq!(place.store.blobs.quarantine(&digest).await.unwrap(), None);
    // What is not there cannot be recorded.
    let gone = place.store.ledger.link_blob(&place.repository, &digest, 7).await;
    assert!(matches!(gone, Err(StoreError::Vanished(_))));
    assert!(place.store.blobs.room().await.unwrap().unwrap() > 0);
}

#[tokio::test]
async fn uses_add_up_by_day() {
    let place = Place::new();
    let digest = place.image("layer", Some("2")).await;
    let used = |day, pulls, last| Use {
        repository: place.repository.clone(),
        digest: digest.clone(),
        day,
        pulls,
        last,
    };
    let journal = &place.store.journal;
    journal.note_uses(vec![used(10, 3, 500), used(11, 1, 600)]).await.unwrap();
    journal.note_uses(vec![used(11, 2, 550)]).await.unwrap();
    let all = journal.uses(0).await.unwrap();
    assert_eq!((all[0].pulls, all[0].last), (6, 600));
    assert_eq!(journal.uses(11).await.unwrap()[0].pulls, 3);
    // They go with the manifest.
    place.store.upkeep.remove_manifest(&place.repository, &digest).await.unwrap();
    assert!(journal.uses(0).await.unwrap().is_empty());
}

/// Pushes and collections without any grace at once: every answer that a push was kept holds.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn collecting_beside_pushes_takes_nothing_that_was_answered_for() {
    let place = std::sync::Arc::new(Place::new());
    let collector = {
        let place = std::sync::Arc::clone(&place);
        tokio::spawn(async move {
            for _ in 0..6 {
                place.collect(NOW).await;
            }
        })
    };
    let mut pushed = Vec::new();
    let mut refused = 0;
    for round in 0..200 {
        if collector.is_finished() {
            break;
        }
        let content = format!("content {}", round % 20);
        let digest = Digest::of(content.as_bytes());
        let mut writer = place.store.blobs.write_once(Purpose::Keep).await.unwrap();
        writer.write(content.clone().into()).await.unwrap();
        match place.store.commit_blob(&place.repository, &digest, writer).await {
            Ok(_) => pushed.push(digest),
            // Taken in between: told, not hidden.
            Err(StoreError::Vanished(_)) => refused += 1,
            Err(error) => panic!("{error}"),
        }
    }
    collector.await.unwrap();
    assert!(!pushed.is_empty(), "{refused} were refused");
    for digest in pushed {
        let recorded = place.store.ledger.blob(&place.repository, &digest).await.unwrap();
        let there = place.store.blobs.size(&digest).await.unwrap();
        assert_eq!(recorded, there, "{digest}: the record and the bytes agree");
    }
}
