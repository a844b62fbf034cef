//! Manifests, tags and what is about them.

use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::name::Tag;
use larder_core::reference::Selector;
use larder_store::StoreError;

use super::{
    CONFIG, MANIFEST, by_tag, has, image, index, index_of, manifest_of, name, pairs, push, put, tag,
};

#[tokio::test]
async fn a_manifest_waits_for_what_it_needs_and_nothing_of_a_refused_one_stays() {
    for pair in pairs() {
        let document = manifest_of("layer");
        let digest = Digest::of(&document.bytes);
        push(&pair.one, &pair.kettle, CONFIG).await;
        let refused =
            pair.one.put_manifest(&pair.kettle, &digest, &document, Some(tag("2")), false).await;
        let layer = Digest::of(b"layer");
        assert!(matches!(refused, Err(StoreError::Missing(missing)) if missing == [layer]));
        assert!(!has(&pair.two, &pair.kettle, &by_tag("2")).await);
        assert_eq!(pair.two.body(&digest).await.unwrap(), None);
        push(&pair.two, &pair.kettle, "layer").await;
        put(&pair.one, &pair.kettle, &document, Some("2")).await;
        let (record, bytes) = pair.two.manifest(&pair.kettle, &by_tag("2")).await.unwrap().unwrap();
        assert_eq!((record.digest, record.media_type.as_str()), (digest.clone(), MANIFEST));
        assert_eq!(bytes, document.bytes);
        assert_eq!(pair.two.body(&digest).await.unwrap(), Some(bytes));
        assert!(has(&pair.two, &pair.kettle, &Selector::Digest(digest.clone())).await);
        assert!(!has(&pair.two, &name("vendor/other"), &Selector::Digest(digest.clone())).await);
        // It must be what it is called.
        let wrong = Digest::of(b"wrong");
        let refused = pair.one.put_manifest(&pair.kettle, &wrong, &document, None, false).await;
        assert!(matches!(refused, Err(StoreError::Mismatch { .. })));
    }
}

#[tokio::test]
async fn what_a_manifest_says_of_sizes_must_be_true() {
    for pair in pairs() {
        let child = image(&pair.one, &pair.kettle, "layer", None).await;
        let text = String::from_utf8(manifest_of("layer").bytes.to_vec()).unwrap();
        let text = text.replace(r#""size":5"#, r#""size":6"#);
        let wrong = Document::read(text.into(), None).unwrap();
        let digest = Digest::of(&wrong.bytes);
        let refused = pair.two.put_manifest(&pair.kettle, &digest, &wrong, None, false).await;
        assert!(matches!(refused, Err(StoreError::Size { said: 6, actual: 5, .. })));
        let wrong = index_of(&[(&child, 1)]);
        let digest = Digest::of(&wrong.bytes);
        for sparse in [false, true] {
            let refused = pair.two.put_manifest(&pair.kettle, &digest, &wrong, None, sparse).await;
            assert!(matches!(refused, Err(StoreError::Size { said: 1, .. })));
        }
    }
}

#[tokio::test]
async fn an_index_waits_for_its_children_unless_it_is_sparse() {
    for pair in pairs() {
        let child = image(&pair.one, &pair.kettle, "layer", None).await;
        let size = pair.one.size(&child).await.unwrap().unwrap();
        let absent = Digest::of(b"arm64");
        let document = index_of(&[(&child, size), (&absent, 5)]);
        let digest = Digest::of(&document.bytes);
        let refused = pair.one.put_manifest(&pair.kettle, &digest, &document, None, false).await;
        assert!(
            matches!(refused, Err(StoreError::Missing(missing)) if missing == [absent.clone()])
        );
        pair.one.put_manifest(&pair.kettle, &digest, &document, None, true).await.unwrap();
        assert!(pair.two.is_absent_child(&pair.kettle, &absent).await.unwrap());
        assert!(!pair.two.is_absent_child(&pair.kettle, &child).await.unwrap());
        assert!(pair.two.is_listed(&pair.kettle, &child).await.unwrap());
        assert_eq!(pair.two.listing(&pair.kettle, &child).await.unwrap(), [digest]);
        let since = pair.two.held_since(&pair.kettle, &child).await.unwrap().unwrap();
        assert!(since.counts);
        assert_eq!(pair.two.held_since(&name("a/b"), &child).await.unwrap(), None);
    }
}

#[tokio::test]
async fn tags_move_keep_their_age_when_they_do_not_and_are_listed_in_order() {
    for pair in pairs() {
        let first = image(&pair.one, &pair.kettle, "first", Some("1.9")).await;
        for to in ["b", "a", "A", "10", "9"] {
            put(&pair.two, &pair.kettle, &manifest_of("first"), Some(to)).await;
        }
        let all = pair.two.tags(&pair.kettle, None, 100).await.unwrap().unwrap();
        let texts: Vec<String> = all.iter().map(ToString::to_string).collect();
        assert_eq!(texts, ["1.9", "10", "9", "A", "a", "b"]);
        let page = pair.one.tags(&pair.kettle, Some(&all[2]), 2).await.unwrap().unwrap();
        assert_eq!(page, all[3..5]);
        assert_eq!(pair.one.tags(&name("vendor/other"), None, 9).await.unwrap(), None);
        let since = async |to: &str| {
            let held = pair.two.held(&name("vendor")).await.unwrap();
            held.iter().find(|held| held.tag.as_str() == to).unwrap().since
        };
        let before = since("a").await;
        crate::clock_moves().await;
        put(&pair.one, &pair.kettle, &manifest_of("first"), Some("a")).await;
        assert_eq!(since("a").await, before);
        image(&pair.one, &pair.kettle, "second", Some("a")).await;
        assert!(since("a").await > before);

        let every = pair.two.tags_after(None, 100).await.unwrap();
        assert_eq!(every.len(), 6);
        assert!(every.is_sorted());
        let after = (every[1].0.clone(), every[1].1.clone());
        assert_eq!(pair.two.tags_after(Some(&after), 2).await.unwrap(), every[2..4]);
        let wanted = vec![(pair.kettle.clone(), tag("1.9")), (pair.kettle.clone(), tag("none"))];
        let found = pair.two.tags_named(wanted).await.unwrap();
        assert_eq!(found, [(pair.kettle.clone(), tag("1.9"), first)]);
    }
}

/// A manifest that is about another.
fn about(subject: &Digest, note: &str) -> Document {
    let config = Digest::of(CONFIG.as_bytes());
    let text = format!(
        r#"{{"schemaVersion":2,"mediaType":"{MANIFEST}","artifactType":"application/x-{note}","config":{{"mediaType":"application/vnd.oci.image.config.v1+json","digest":"{config}","size":{}}},"layers":[],"subject":{{"mediaType":"{MANIFEST}","digest":"{subject}","size":9}},"annotations":{{"note":"{note}"}}}}"#,
        CONFIG.len()
    );
    Document::read(text.into(), None).unwrap()
}

#[tokio::test]
async fn what_is_about_a_manifest_is_found_by_it_page_by_page() {
    for pair in pairs() {
        let first = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        for note in ["signature", "materials", "build"] {
            put(&pair.one, &pair.kettle, &about(&first, note), None).await;
        }
        let found = pair.two.referrers(&pair.kettle, &first, None, 10).await.unwrap();
        assert_eq!(found.len(), 3);
        assert!(found.is_sorted_by(|a, b| a.manifest.digest < b.manifest.digest));
        let digests = found.iter().map(|one| one.manifest.digest.clone()).collect();
        let notes = pair.two.annotations(&pair.kettle, digests).await.unwrap();
        for (one, annotations) in found.iter().zip(notes) {
            let note = &annotations["note"];
            assert!(one.annotations_size > note.len() as u64);
            assert_eq!(
                one.artifact_type.as_deref(),
                Some(format!("application/x-{note}").as_str())
            );
        }
        let after = Some(&found[0].manifest.digest);
        let rest = pair.two.referrers(&pair.kettle, &first, after, 1).await.unwrap();
        assert_eq!(rest, found[1..2]);
        let elsewhere = pair.two.referrers(&name("a/b"), &first, None, 10).await.unwrap();
        assert!(elsewhere.is_empty());
    }
}

#[tokio::test]
async fn a_list_of_referrers_under_a_tag_is_replaced_and_shortened() {
    for pair in pairs() {
        let first = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        let mut notes = Vec::new();
        for note in ["signature", "build"] {
            notes.push(put(&pair.one, &pair.kettle, &about(&first, note), None).await);
        }
        let list_tag = larder_core::companion::list_tag(&first).to_string();
        let size = async |digest: &Digest| pair.two.size(digest).await.unwrap().unwrap();
        let sizes = [size(&notes[0]).await, size(&notes[1]).await];
        let short = index_of(&[(&notes[0], sizes[0])]);
        let short = put(&pair.one, &pair.kettle, &short, Some(&list_tag)).await;
        let long = index_of(&[(&notes[0], sizes[0]), (&notes[1], sizes[1])]);
        let long = put(&pair.two, &pair.kettle, &long, Some(&list_tag)).await;
        assert!(!has(&pair.one, &pair.kettle, &Selector::Digest(short.clone())).await);
        // What it lists goes all the same, from both ends at once.
        let (one, two) = tokio::join!(
            pair.one.remove_manifest(&pair.kettle, &notes[0]),
            pair.two.remove_manifest(&pair.kettle, &notes[1])
        );
        for gone in [one, two] {
            assert_eq!(gone.unwrap(), larder_store::Removal::Done(vec![]));
        }
        assert!(!has(&pair.one, &pair.kettle, &by_tag(&list_tag)).await);
        for gone in [&long, &short, &notes[0], &notes[1]] {
            assert!(!has(&pair.two, &pair.kettle, &Selector::Digest(gone.clone())).await);
        }
    }
}

#[tokio::test]
async fn a_manifest_that_waited_as_content_is_a_record_alone_once_it_is_put() {
    for pair in pairs() {
        let document = manifest_of("layer");
        let digest = Digest::of(&document.bytes);
        for content in [CONFIG, "layer"] {
            push(&pair.one, &pair.kettle, content).await;
        }
        let mut writer = pair.one.write_once(larder_store::Purpose::Keep).await.unwrap();
        writer.write(document.bytes.clone()).await.unwrap();
        pair.one.keep_content(&digest, writer).await.unwrap();
        put(&pair.two, &pair.kettle, &document, Some("2")).await;
        if !pair.is_remote {
            assert_eq!(super::files(&pair.folder.path().join("content")).len(), 2);
        }
        let whole = super::read(&pair.one, &digest, 0..document.bytes.len() as u64).await;
        assert_eq!(whole, document.bytes);
    }
}

#[tokio::test]
async fn a_moment_changes_with_its_own_repository_alone() {
    for pair in pairs() {
        if pair.server.is_some() {
            // There, others hear of it a little later.
            continue;
        }
        let other = name("vendor/quite-another");
        image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        image(&pair.one, &other, "layer", Some("2")).await;
        let moment =
            |store: &larder_store::Store| (store.moment(&pair.kettle), store.moment(&other));
        let before = moment(&pair.one);
        image(&pair.two, &other, "new", Some("2")).await;
        let after = moment(&pair.one);
        assert_eq!(after.0, before.0, "nothing of it has changed");
        assert_ne!(after.1, before.1, "whoever changed it");
        assert_eq!(after, moment(&pair.two));
        let access = pair.one.moment_of_access();
        pair.two.remove_tag(&pair.kettle, &tag("2")).await.unwrap();
        assert_ne!(pair.one.moment(&pair.kettle), before.0);
        assert_eq!(pair.one.moment_of_access(), access);
        // Who changed something without telling, because of a kill, is noticed.
        let moments = std::fs::read(pair.folder.path().join("ledger.moment")).unwrap();
        let told = pair.one.moment(&other);
        pair.two.notice_others().await;
        pair.one.notice_others().await;
        pair.two.remove_tag(&other, &tag("2")).await.unwrap();
        std::fs::write(pair.folder.path().join("ledger.moment"), moments).unwrap();
        assert_eq!(pair.one.moment(&other), told, "nobody has told it");
        // Asked of those who did not change it themselves.
        let third = larder_store::Store::open_local(pair.folder.path()).unwrap();
        third.notice_others().await;
        assert_ne!(pair.one.moment(&other), told);
    }
}

#[tokio::test]
async fn repositories_are_those_with_a_manifest_page_by_page() {
    for pair in pairs() {
        push(&pair.one, &name("vendor/empty"), "blob").await;
        for repository in ["vendor/b", "vendor/a/deep", "vendorx/c", "other/d"] {
            image(&pair.one, &name(repository), "layer", Some("2")).await;
        }
        let all = pair.two.repositories(None, 10).await.unwrap();
        let texts: Vec<&str> = all.iter().map(larder_core::name::RepositoryName::as_str).collect();
        assert_eq!(texts, ["other/d", "vendor/a/deep", "vendor/b", "vendorx/c"]);
        assert_eq!(pair.two.repositories(Some(&all[0]), 1).await.unwrap(), all[1..2]);
        let below = pair.two.repositories_below(&name("vendor"), None, 10).await.unwrap();
        assert_eq!(below, all[1..3]);
        let rest = pair.two.repositories_below(&name("vendor"), Some(&below[0]), 10).await.unwrap();
        assert_eq!(rest, below[1..]);
        let one = pair.two.repositories_below(&name("vendor/b"), None, 10).await.unwrap();
        assert_eq!(one, below[1..]);
        let held = pair.two.held(&name("vendor")).await.unwrap();
        assert_eq!(held.len(), 2);
        assert_eq!(held[0].content, (manifest_of("layer").bytes.len() + CONFIG.len() + 5) as u64);
    }
}

#[tokio::test]
async fn images_are_found_by_what_they_hold() {
    for pair in pairs() {
        let child = image(&pair.one, &pair.kettle, "layer", None).await;
        let top = index(&pair.one, &pair.kettle, &child, Some("2")).await;
        let loose = image(&pair.one, &name("vendor/other"), "layer", None).await;
        let holders = pair.two.holders(&Digest::of(b"layer")).await.unwrap();
        let texts: Vec<String> = holders
            .iter()
            .map(|one| format!("{}:{:?}", one.repository, one.tag.as_ref().map(Tag::as_str)))
            .collect();
        assert_eq!(texts, [r#"vendor/kettle:Some("2")"#, "vendor/other:None"]);
        assert_eq!((&holders[0].digest, &holders[1].digest), (&top, &loose));
        assert_eq!(pair.two.needing(&Digest::of(b"layer")).await.unwrap(), [child]);
        assert!(pair.two.holders(&Digest::of(b"absent")).await.unwrap().is_empty());
    }
}
