//! What the records of cached shelves, and uploads that are read while they grow, must hold.

use super::pairs;
use bytes::Bytes;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;
use larder_store::{GrowingBlob, Store, StoreError, Traffic, UpstreamRecord, Use, now};

const CONFIG: &str = "application/vnd.oci.image.config.v1+json";

/// A manifest with these blobs; their contents are their names.
fn manifest(names: &[&str]) -> (Digest, Document) {
    let part = |name: &&str| {
        let (digest, size) = (Digest::of(name.as_bytes()), name.len());
        format!(r#"{{"mediaType":"{CONFIG}","digest":"{digest}","size":{size}}}"#)
    };
    let parts: Vec<String> = names.iter().map(part).collect();
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.manifest.v1+json","config":{},"layers":[{}]}}"#,
        parts[0],
        parts[1..].join(",")
    );
    let document = Document::read(text.into(), None).unwrap();
    (Digest::of(&document.bytes), document)
}

fn index(children: &[&Digest]) -> (Digest, Document) {
    let kind = "application/vnd.oci.image.manifest.v1+json";
    let child =
        |digest: &&Digest| format!(r#"{{"mediaType":"{kind}","digest":"{digest}","size":1}}"#);
    let children: Vec<String> = children.iter().map(child).collect();
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{}]}}"#,
        children.join(",")
    );
    let document = Document::read(text.into(), None).unwrap();
    (Digest::of(&document.bytes), document)
}

async fn bring(store: &Store, repository: &RepositoryName, name: &str) {
    let digest = Digest::of(name.as_bytes());
    store.put_blob(repository, &digest, Bytes::copy_from_slice(name.as_bytes())).await.unwrap();
}

#[tokio::test]
async fn a_tag_is_believed_before_its_content_is_here() {
    for pair in pairs() {
        let store = &pair.one;
        let (kettle, tag): (RepositoryName, Tag) =
            ("bazaar/library/kettle".parse().unwrap(), "2".parse().unwrap());
        let cache = &store;
        assert_eq!(cache.belief(&kettle, &tag).await.unwrap(), None);
        let (first, document) = manifest(&["config", "layer"]);
        store.believe(&kettle, &first, &document, Some(tag.clone())).await.unwrap();
        let belief = cache.belief(&kettle, &tag).await.unwrap().unwrap();
        assert_eq!(belief.digest, first);
        assert!(now() - belief.confirmed < 60_000);
        // Its blobs are known by their sizes, and are not there.
        let layer = Digest::of(b"layer");
        assert_eq!(cache.wanted(&kettle, &layer).await.unwrap(), Some(5));
        assert_eq!(cache.wanted(&kettle, &Digest::of(b"other")).await.unwrap(), None);
        // Of the images that need it, the smallest tells what it takes to keep one.
        let smallest = |name: &'static str| {
            let (store, kettle) = (store.clone(), kettle.clone());
            async move { store.smallest_with(&kettle, &Digest::of(name.as_bytes())).await.unwrap() }
        };
        assert_eq!(smallest("layer").await, Some(11));
        assert_eq!(smallest("other").await, None);
        let (larger, larger_document) = manifest(&["config", "layer", "another layer"]);
        store.believe(&kettle, &larger, &larger_document, None).await.unwrap();
        assert_eq!(smallest("layer").await, Some(11));
        assert_eq!(smallest("another layer").await, Some(24));
        let elsewhere: RepositoryName = "bazaar/library/ashlog".parse().unwrap();
        assert_eq!(cache.wanted(&elsewhere, &layer).await.unwrap(), None);
        assert_eq!(store.blob(&kettle, &layer).await.unwrap(), None);

        // Confirmed again only while it points there still.
        let later = belief.confirmed + 1000;
        assert!(cache.confirm(&kettle, &tag, &first, later).await.unwrap());
        assert_eq!(cache.belief(&kettle, &tag).await.unwrap().unwrap().confirmed, later);
        let (second, document) = manifest(&["config", "new"]);
        store.believe(&kettle, &second, &document, Some(tag.clone())).await.unwrap();
        assert!(!cache.confirm(&kettle, &tag, &first, later).await.unwrap());
        let moves = cache.moves("bazaar", 9).await.unwrap();
        assert_eq!(moves.len(), 1);
        assert_eq!((&moves[0].before, moves[0].after.as_ref()), (&first, Some(&second)));
        // What it was stays, under its digest; what the upstream has no more too.
        let old = Selector::Digest(first.clone());
        assert!(store.manifest(&kettle, &old).await.unwrap().is_some());
        let noticed = now() + 5;
        assert!(cache.note_gone(&kettle, &tag, noticed).await.unwrap());
        assert!(!cache.note_gone(&kettle, &tag, noticed + 5).await.unwrap(), "that is known");
        let belief = cache.belief(&kettle, &tag).await.unwrap().unwrap();
        assert_eq!((&belief.digest, belief.confirmed), (&second, noticed + 5), "it stays");
        assert_eq!(
            cache.gone_tags("bazaar").await.unwrap(),
            [(kettle.clone(), tag.clone(), noticed)]
        );
        assert_eq!(cache.moves("bazaar", 9).await.unwrap()[0].after, None);
        assert!(cache.moves("baz", 9).await.unwrap().is_empty(), "another shelf");
        // It is there again.
        assert!(cache.confirm(&kettle, &tag, &second, noticed + 9).await.unwrap());
        assert!(cache.gone_tags("bazaar").await.unwrap().is_empty());
    }
}

#[tokio::test]
async fn what_is_let_go_of_takes_only_what_nothing_else_lists() {
    for pair in pairs() {
        let store = &pair.one;
        let (kettle, tag): (RepositoryName, Tag) =
            ("bazaar/library/kettle".parse().unwrap(), "2".parse().unwrap());
        let (one, document) = manifest(&["config", "base", "own"]);
        store.believe(&kettle, &one, &document, None).await.unwrap();
        let (other, document) = manifest(&["config", "base", "rest"]);
        store.believe(&kettle, &other, &document, None).await.unwrap();
        let (both, document) = index(&[&one, &other]);
        store.believe(&kettle, &both, &document, Some(tag.clone())).await.unwrap();
        let (alone, document) = index(&[&other]);
        store.believe(&kettle, &alone, &document, Some("3".parse().unwrap())).await.unwrap();
        for name in ["config", "base", "own", "rest"] {
            bring(store, &kettle, name).await;
        }
        let shelf: RepositoryName = "vendor/kettle".parse().unwrap();
        bring(store, &shelf, "own").await;

        let kept = store.kept("bazaar").await.unwrap();
        assert_eq!(kept.len(), 2, "images, not their parts: {kept:?}");
        assert_eq!(store.kept_in(&kettle).await.unwrap(), kept, "there is no other repository");
        assert!(store.kept_in(&shelf).await.unwrap().is_empty());
        assert_eq!(store.needed_by(&kettle, &Digest::of(b"own")).await.unwrap(), Some(one.clone()));
        assert_eq!(store.needed_by(&shelf, &Digest::of(b"own")).await.unwrap(), None);
        let two = kept.iter().find(|image| image.digest == both).unwrap();
        assert_eq!(two.tags, std::slice::from_ref(&tag));
        assert!(store.bytes_of(&["bazaar".into()]).await.unwrap() > 17);
        assert_eq!(store.bytes_of(&["vendor".into()]).await.unwrap(), 3);

        // Asked for since: it stays. Any part of it counts.
        let day = now() / (24 * 3_600_000);
        let used =
            Use { repository: kettle.clone(), digest: one.clone(), day, pulls: 1, last: now() };
        store.note_uses(vec![used]).await.unwrap();
        let stays = store.let_go(&kettle, &both, now() - 60_000).await.unwrap();
        assert!(stays.is_empty());
        let after = store.kept("bazaar").await.unwrap();
        assert!(after.iter().find(|image| image.digest == both).unwrap().last >= two.last);

        let mut gone = store.let_go(&kettle, &both, now() + 1).await.unwrap();
        gone.sort();
        let mut expected = vec![both.clone(), one.clone(), Digest::of(b"own")];
        expected.sort();
        assert_eq!(gone, expected, "the other part is listed elsewhere, and shares the rest");
        assert_eq!(store.belief(&kettle, &tag).await.unwrap(), None);
        // The bytes of what another shelf has are not freed.
        let freed = store.free_unused(gone, i64::MAX).await.unwrap();
        assert!(freed.iter().all(|(digest, _)| *digest != Digest::of(b"own")), "{freed:?}");
        assert_eq!(store.blob(&shelf, &Digest::of(b"own")).await.unwrap(), Some(3));

        // What no manifest names goes by its own age.
        bring(store, &kettle, "loose").await;
        let loose = |before: i64| store.let_go_loose("bazaar", before, 9);
        assert!(loose(now() - 60_000).await.unwrap().is_empty());
        let brought = now();
        while now() == brought {
            tokio::task::yield_now().await;
        }
        assert_eq!(loose(now()).await.unwrap(), [Digest::of(b"loose")]);
        store.let_go(&kettle, &alone, now() + 1).await.unwrap();
        assert!(store.tags(&kettle, None, 9).await.unwrap().is_none(), "nothing is left of it");
        // What is known of its moves is its own, whoever comes after it.
        let next: RepositoryName = "bazaar/library/ashlog".parse().unwrap();
        let tag: Tag = "9".parse().unwrap();
        for name in ["first", "second"] {
            let (digest, document) = manifest(&[name]);
            store.believe(&next, &digest, &document, Some(tag.clone())).await.unwrap();
        }
        let (last, _) = manifest(&["second"]);
        store.let_go(&next, &last, now() + 1).await.unwrap();
        let (first, _) = manifest(&["first"]);
        store.let_go(&next, &first, now() + 1).await.unwrap();
        let (digest, document) = manifest(&["third"]);
        store.believe(&kettle, &digest, &document, Some(tag)).await.unwrap();
        let moves = store.moves("bazaar", 9).await.unwrap();
        assert!(moves.iter().all(|one| one.repository == next), "{moves:?}");
        assert_eq!(moves.len(), 1);
    }
}

#[tokio::test]
async fn what_shelves_and_upstreams_did_adds_up() {
    for pair in pairs() {
        let store = &pair.one;
        let one =
            Traffic { shelf: "bazaar".into(), day: 7, hits: 2, misses: 1, sent: 30, fetched: 10 };
        let next = Traffic { day: 8, ..one.clone() };
        store.note_traffic(vec![one.clone(), next, one]).await.unwrap();
        let sum = store.traffic("bazaar", 0).await.unwrap();
        assert_eq!((sum.hits, sum.misses, sum.sent, sum.fetched, sum.day), (6, 3, 90, 30, 7));
        assert_eq!(store.traffic("bazaar", 8).await.unwrap().hits, 2);
        assert_eq!(store.traffic("vendor", 0).await.unwrap().hits, 0);
        let limited = UpstreamRecord {
            host: "bazaar.example".parse().unwrap(),
            condition: "limited".into(),
            until: Some(5),
            cause: Some("429".into()),
            remaining: Some(0),
            at: 1,
        };
        store.note_standing(vec![limited.clone()]).await.unwrap();
        assert_eq!(store.standing().await.unwrap(), std::slice::from_ref(&limited));
        let well = UpstreamRecord {
            condition: "well".into(),
            until: None,
            cause: None,
            remaining: None,
            ..limited
        };
        store.note_standing(vec![well.clone()]).await.unwrap();
        assert_eq!(store.standing().await.unwrap(), [well]);
    }
}

async fn read(growing: &GrowingBlob, range: std::ops::Range<u64>) -> Vec<u8> {
    let mut reader = growing.read(range);
    let mut bytes = Vec::new();
    while let Some(piece) = reader.next().await {
        bytes.extend_from_slice(&piece.unwrap());
    }
    bytes
}

#[tokio::test]
async fn an_upload_is_read_while_it_grows() {
    for pair in pairs() {
        let store = &pair.one;
        let content: Vec<u8> = (0..3_000_000u32).map(|n| (n % 249) as u8).collect();
        let digest = Digest::of(&content);
        let [repository, foreign]: [RepositoryName; 2] =
            ["bazaar/library/kettle", "bazaar/community/evil"].map(|name| name.parse().unwrap());
        let id = store.begin_fetch(&repository, &digest).await.unwrap();
        let mut writer = store.resume_upload(id).await.unwrap();
        let growing = writer.growing().unwrap();
        writer.write(Bytes::copy_from_slice(&content[..1_000_000])).await.unwrap();
        writer.advance().await.unwrap();
        assert_eq!(*growing.readable.borrow(), 1_000_000);
        assert!(read(&growing, 0..1_000_000).await == content[..1_000_000]);
        assert!(!writer.has_digest(&digest).await.unwrap());
        assert_eq!(
            store.fetched_part(&foreign, &digest).await.unwrap(),
            None,
            "it gave nothing of it"
        );
        // Parked and taken up again, a reader that was there before goes on reading.
        assert_eq!(writer.park().await.unwrap(), 1_000_000);
        assert_eq!(store.fetched_part(&repository, &digest).await.unwrap(), Some(id));
        let mut writer = store.resume_upload(id).await.unwrap();
        let again = writer.growing().unwrap();
        assert_eq!(*again.readable.borrow(), 1_000_000);
        for piece in content[1_000_000..].chunks(100_000) {
            writer.write(Bytes::copy_from_slice(piece)).await.unwrap();
        }
        assert!(writer.has_digest(&digest).await.unwrap());
        assert_eq!(*again.readable.borrow(), 3_000_000);
        let committed = store.commit_blob(&repository, &digest, writer).await.unwrap();
        assert_eq!(committed, 3_000_000);
        assert_eq!(store.fetched_part(&repository, &digest).await.unwrap(), None, "it has ended");
        assert_eq!(store.blob(&repository, &digest).await.unwrap(), Some(3_000_000));
        assert!(
            read(&again, 2_900_000..3_000_000).await == content[2_900_000..],
            "after it settled"
        );
        assert!(read(&growing, 0..100).await == content[..100]);
        // What nobody wants any more is given up.
        let id = store.begin_fetch(&repository, &digest).await.unwrap();
        let writer = store.resume_upload(id).await.unwrap();
        writer.park().await.unwrap();
        store.cancel_upload(id).await.unwrap();
        assert!(matches!(store.resume_upload(id).await, Err(StoreError::NotFound(_))));
    }
}
