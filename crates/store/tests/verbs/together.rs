//! Two processes at once, and many threads: every answer holds.

use std::process::{Child, Command};
use std::sync::Arc;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_store::{Purpose, Store, StoreError};

use super::{collect, has, image, manifest_of, name, pairs, push, put, tag};

/// Set for a process that is started to be the other one.
const OTHER: &str = "LARDER_STORE_OTHER";

/// Starts this test's own program as another process on a store: it pushes, tags, removes and collects until it has done
/// so often enough.
fn other(folder: &std::path::Path) -> Child {
    Command::new(std::env::current_exe().unwrap())
        .args(["--exact", "together::the_other_process", "--nocapture"])
        .env(OTHER, folder)
        .spawn()
        .unwrap()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_other_process() {
    let Some(folder) = std::env::var_os(OTHER) else { return };
    let store = Store::open_local(folder.as_ref()).unwrap();
    work(&store, "other").await;
}

/// Pushes images whose layers both processes share, and takes some away again, collecting without any grace. What was
/// answered for is read back at once, or was refused with a word.
async fn work(store: &Store, who: &str) {
    let own = name(&format!("vendor/{who}"));
    let mut kept = 0;
    for round in 0..40 {
        let layer = format!("layer {}", round % 7);
        for content in [super::CONFIG, &layer] {
            let digest = Digest::of(content.as_bytes());
            loop {
                let mut writer = store.write_once(Purpose::Read).await.unwrap();
                writer.write(Bytes::copy_from_slice(content.as_bytes())).await.unwrap();
                match store.commit_blob(&own, &digest, writer).await {
                    Ok(_) => break,
                    Err(StoreError::Vanished(_)) => {}
                    Err(error) => panic!("{error}"),
                }
            }
        }
        let document = manifest_of(&layer);
        let digest = Digest::of(&document.bytes);
        match store.put_manifest(&own, &digest, &document, Some(tag("1")), false).await {
            Ok(()) => {
                kept += 1;
                let layer_digest = Digest::of(layer.as_bytes());
                let whole = super::read(store, &layer_digest, 0..layer.len() as u64).await;
                assert_eq!(whole, layer.as_bytes());
                let (_, bytes) = store.manifest(&own, &super::by_tag("1")).await.unwrap().unwrap();
                assert_eq!(bytes, document.bytes);
            }
            // Collected in between: told, not hidden.
            Err(StoreError::Missing(_)) => {}
            Err(error) => panic!("{error}"),
        }
        match round % 5 {
            1 => {
                collect(store, i64::MAX).await;
            }
            3 => {
                store.remove_manifest(&own, &digest).await.unwrap();
            }
            _ => {}
        }
    }
    assert!(kept > 0);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn two_processes_at_once_lose_and_mix_nothing() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open_local(folder.path()).unwrap();
    let mut child = other(folder.path());
    work(&store, "one").await;
    assert!(child.wait().unwrap().success());
    let tags = store.tags_after(None, 100).await.unwrap();
    for (repository, ..) in &tags {
        assert!(has(&store, repository, &super::by_tag("1")).await);
    }
    // Every blob is what its digest says, and every object is named.
    for stored in store.stored_after(None, 1000).await.unwrap() {
        let whole = super::read(&store, &stored.digest, 0..stored.size).await;
        assert_eq!(Digest::of(&whole), stored.digest);
    }
    let mut strays = 0;
    for part in 0..=u8::MAX {
        strays += store.collect_strays(part, std::time::Duration::ZERO, true).await.unwrap().0;
    }
    assert_eq!(strays, 0);
    for (repository, tag, _) in tags {
        store.remove_tag(&repository, &tag).await.unwrap();
    }
}

#[tokio::test]
async fn many_writers_at_once_are_all_recorded() {
    for pair in pairs() {
        let mut tasks = tokio::task::JoinSet::new();
        for number in 0..pair.some(200) {
            let store = if number % 2 == 0 { pair.one.clone() } else { pair.two.clone() };
            let kettle = pair.kettle.clone();
            tasks.spawn(async move {
                image(&store, &kettle, &format!("layer {number}"), Some(&format!("t{number}")))
                    .await;
            });
        }
        while let Some(done) = tasks.join_next().await {
            done.unwrap();
        }
        assert_eq!(
            pair.one.tags(&pair.kettle, None, 1000).await.unwrap().unwrap().len(),
            pair.some(200) as usize
        );
    }
}

/// Pushes and collections without any grace at once: every answer that a push was kept holds.
#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn collecting_beside_pushes_takes_nothing_that_was_answered_for() {
    for pair in pairs() {
        let pair = Arc::new(pair);
        let collector = {
            let pair = Arc::clone(&pair);
            tokio::spawn(async move {
                for _ in 0..pair.some(30) {
                    collect(&pair.two, i64::MAX).await;
                }
            })
        };
        let mut kept = Vec::new();
        for round in 0..pair.some(60) {
            let layer = format!("content {}", round % 20);
            push(&pair.one, &pair.kettle, super::CONFIG).await;
            push(&pair.one, &pair.kettle, &layer).await;
            let document = manifest_of(&layer);
            let digest = Digest::of(&document.bytes);
            match pair.one.put_manifest(&pair.kettle, &digest, &document, None, false).await {
                Ok(()) => kept.push(layer),
                Err(StoreError::Missing(_)) => {}
                Err(error) => panic!("{error}"),
            }
        }
        collector.await.unwrap();
        for layer in kept {
            let digest = Digest::of(layer.as_bytes());
            let whole = super::read(&pair.two, &digest, 0..layer.len() as u64).await;
            assert_eq!(whole, layer.as_bytes());
        }
        // What was kept can be put anew without sending anything.
        let again = manifest_of("content 0");
        push(&pair.two, &pair.kettle, super::CONFIG).await;
        push(&pair.two, &pair.kettle, "content 0").await;
        put(&pair.two, &pair.kettle, &again, Some("2")).await;
    }
}
