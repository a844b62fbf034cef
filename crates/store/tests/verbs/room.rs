//! Room: what is promised is nobody else's.

use larder_store::{Store, StoreError};

#[tokio::test]
async fn no_two_get_the_same_room() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open_local(folder.path()).unwrap();
    assert!(store.keep_room(u64::MAX).await.is_ok(), "without a reserve nothing is counted");
    let left = store.room().await.unwrap().unwrap();
    // Other programs write to the disk too: the figures leave a tenth of it out.
    let tenth = left / 10;
    let store = store.with_reserve(tenth);
    let mut first = store.keep_room(4 * tenth).await.unwrap();
    let second = store.keep_room(4 * tenth).await.unwrap();
    let refused = store.keep_room(4 * tenth).await;
    assert!(matches!(refused, Err(StoreError::Full { promised, .. }) if promised == 8 * tenth));
    assert!(matches!(store.check_room(4 * tenth).await, Err(StoreError::Full { .. })));
    let refused = store.grow_room(&mut first, 4 * tenth).await;
    assert!(matches!(refused, Err(StoreError::Full { .. })));
    // What was written is not promised any more, nor is what ended.
    first.take(4 * tenth);
    store.check_room(4 * tenth).await.unwrap();
    drop(second);
    store.keep_room(7 * tenth).await.unwrap();
    let said = StoreError::Full { left: 5, reserve: 4, promised: 3 }.to_string();
    assert!(said.contains("uploads under way will need 3 more"), "{said}");
}

#[tokio::test]
async fn a_little_is_kept_aside_and_stays_while_there_is_room() {
    let folder = tempfile::tempdir().unwrap();
    let store = Store::open_local(folder.path()).unwrap();
    store.keep_spare().await;
    let spare = folder.path().join("spare");
    let room = store.room().await.unwrap().unwrap();
    assert_eq!(spare.exists(), room > 32 * 1024 * 1024);
    store.use_spare().await.unwrap();
    assert_eq!(spare.exists(), room > 32 * 1024 * 1024, "the disk is not full");
    store.probe().await.unwrap();
}
