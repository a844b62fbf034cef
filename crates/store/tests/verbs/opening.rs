//! Opening: stores of every earlier version, backups, and what is refused.

use std::fs;
use std::path::Path;
use std::sync::Mutex;

use larder_core::digest::Digest;
use larder_core::reference::Selector;
use larder_store::{BackupCopy, Store, StoreError, stranger_in};

use super::{by_tag, files, has, image, name, pairs, push, read};

/// Unpacks the real store of an earlier version, of which the large layers are left out.
fn unpack(version: i64, to: &Path) {
    let path = format!("{}/tests/stores/v{version}.tar.gz", env!("CARGO_MANIFEST_DIR"));
    let packed = flate2::read::GzDecoder::new(fs::File::open(path).unwrap());
    tar::Archive::new(packed).unpack(to).unwrap();
}

fn version_of(folder: &Path) -> i64 {
    let ledger = rusqlite::Connection::open(folder.join("ledger.sqlite")).unwrap();
    ledger.pragma_query_value(None, "user_version", |row| row.get(0)).unwrap()
}

/// The tags of a ledger of whatever version, with the digest that each points to.
fn tags_of(folder: &Path) -> Vec<(String, String, String)> {
    let ledger = rusqlite::Connection::open(folder.join("ledger.sqlite")).unwrap();
    let mut query = ledger
        .prepare(
            "SELECT r.name, t.name, t.digest FROM tags t JOIN repositories r ON r.id = t.repository
             ORDER BY r.name, t.name",
        )
        .unwrap();
    let rows = query.query_map([], |row| Ok((row.get(0)?, row.get(1)?, row.get(2)?))).unwrap();
    rows.collect::<Result<_, _>>().unwrap()
}

#[tokio::test]
async fn converting_every_earlier_version_is_tried_on_a_copy() {
    for version in 1..=9 {
        let (folder, scratch) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        unpack(version, folder.path());
        let ledger = fs::read(folder.path().join("ledger.sqlite")).unwrap();
        let lying = files(folder.path());
        let tried = Store::rehearse(folder.path(), scratch.path(), &mut |_, _| {}).unwrap();
        assert_eq!(tried.conversion.map(|done| done.from), Some(version));
        assert_eq!(tried.wrong, [""; 0], "version {version}");
        // Contents are where the copy says, as far as the sample has them.
        let mut seen = 0;
        for one in tried.store.stored_after(None, 1000).await.unwrap() {
            let size = tried.store.object_size(&one).await.unwrap();
            assert!(size.is_none_or(|size| size == one.size), "version {version}: {}", one.digest);
            seen += usize::from(size.is_some());
        }
        assert!(seen > 0, "version {version}");
        drop(tried);
        assert_eq!(fs::read(folder.path().join("ledger.sqlite")).unwrap(), ledger);
        assert_eq!(files(folder.path()), lying, "version {version}: nothing is left there");
        assert_eq!(version_of(folder.path()), version);
    }
}

#[tokio::test]
async fn a_store_of_every_earlier_version_opens_once_it_is_converted() {
    for version in 1..=9 {
        let folder = tempfile::tempdir().unwrap();
        unpack(version, folder.path());
        assert_eq!(version_of(folder.path()), version);
        let (before, lying) = (tags_of(folder.path()), files(&folder.path().join("blobs")));
        assert!(before.len() >= 3, "version {version}");
        let refused = Store::open_local(folder.path());
        assert!(matches!(refused, Err(StoreError::Earlier { found, .. }) if found == version));
        assert_eq!(version_of(folder.path()), version, "looking changes nothing");
        let mut told = 0;
        let done = Store::convert_local(folder.path(), &mut |_, _| told += 1).unwrap().unwrap();
        assert_eq!((done.from, done.damaged), (version, 0));
        assert!(Store::convert_local(folder.path(), &mut |_, _| ()).unwrap().is_none());
        let store = Store::open_local(folder.path()).unwrap();
        // Every tag leads to its manifest, every manifest to its parts.
        let mut manifests = 0;
        for (repository, tag, digest) in &before {
            let (record, bytes) =
                store.manifest(&name(repository), &by_tag(tag)).await.unwrap().unwrap();
            assert_eq!(record.digest.as_str(), digest);
            assert_eq!(Digest::of(&bytes), record.digest);
        }
        for repository in store.repositories(None, 100).await.unwrap() {
            let records = store.holdings(vec![repository.clone()]).await.unwrap();
            for row in &records.manifests {
                manifests += 1;
                let selector = Selector::Digest(row.digest.clone());
                let (_, bytes) = store.manifest(&repository, &selector).await.unwrap().unwrap();
                assert_eq!(Digest::of(&bytes), row.digest);
            }
        }
        assert!(manifests >= 6);
        // No blob was moved: each that the copy of the store has is read where it lies.
        assert_eq!(files(&folder.path().join("blobs")), lying);
        let (mut there, mut config) = (0, None);
        for stored in store.stored_after(None, 1000).await.unwrap() {
            if store.object_size(&stored).await.unwrap().is_some() {
                let whole = read(&store, &stored.digest, 0..stored.size).await;
                assert_eq!(Digest::of(&whole), stored.digest);
                there += 1;
                config = Some(stored.digest);
            }
        }
        assert!(there >= 3, "version {version}: {there}");
        // It goes on as if it had always been so.
        image(&store, &name("vendor/new"), "layer", Some("1")).await;
        let totals = store.totals().await.unwrap();
        assert_eq!(totals.tags, before.len() as u64 + 1);
        let shelf = store.shelf_totals(0).await.unwrap();
        assert_eq!(shelf.iter().map(|one| one.tags).sum::<u64>(), totals.tags);
        // The files of manifests are no strays; they go when somebody has verified everything.
        for part in 0..=u8::MAX {
            let (strays, _) =
                store.collect_strays(part, std::time::Duration::ZERO, true).await.unwrap();
            assert_eq!(strays, 0);
        }
        assert!(store.remove_old_files().await.unwrap() >= 6);
        let config = config.unwrap();
        assert!(store.size(&config).await.unwrap().is_some());
        assert!(files(&folder.path().join("blobs")).len() < lying.len());
        assert_eq!(files(&folder.path().join("blobs")).len(), there);
    }
}

#[test]
fn only_the_sole_opener_converts() {
    let folder = tempfile::tempdir().unwrap();
    unpack(6, folder.path());
    // Another process, as an earlier version has it open.
    let other = rusqlite::Connection::open(folder.path().join("ledger.sqlite")).unwrap();
    other.query_row("SELECT COUNT(*) FROM tags", [], |row| row.get::<_, i64>(0)).unwrap();
    let refused = Store::convert_local(folder.path(), &mut |_, _| ());
    assert!(matches!(refused, Err(StoreError::InUse)), "{refused:?}");
    drop(other);
    assert_eq!(version_of(folder.path()), 6);
    assert!(Store::convert_local(folder.path(), &mut |_, _| ()).unwrap().is_some());
}

#[test]
fn what_is_damaged_is_told_and_nothing_is_converted_twice() {
    let folder = tempfile::tempdir().unwrap();
    unpack(5, folder.path());
    let ledger = rusqlite::Connection::open(folder.path().join("ledger.sqlite")).unwrap();
    let digest: String =
        ledger.query_row("SELECT digest FROM manifests LIMIT 1", [], |row| row.get(0)).unwrap();
    drop(ledger);
    let hex = digest.split(':').next_back().unwrap();
    let path = folder.path().join("blobs/sha256").join(&hex[..2]).join(hex);
    fs::write(&path, "damaged").unwrap();
    let done = Store::convert_local(folder.path(), &mut |_, _| ()).unwrap().unwrap();
    assert_eq!(done.damaged, 1);
    assert!(path.exists(), "it is kept for somebody to look at");
}

#[test]
fn a_store_of_a_later_version_is_refused() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("ledger.sqlite");
    let connection = rusqlite::Connection::open(&path).unwrap();
    connection.pragma_update(None, "user_version", 99).unwrap();
    drop(connection);
    let refused = Store::open_local(folder.path());
    assert!(matches!(refused, Err(StoreError::Version { found: 99, .. })));
    let refused = Store::convert_local(folder.path(), &mut |_, _| ());
    assert!(matches!(refused, Err(StoreError::Version { found: 99, .. })));
}

#[test]
fn a_new_store_is_of_this_version_and_its_owners_alone() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().join("deep/data");
    drop(Store::open_local(&data).unwrap());
    assert!(Store::convert_local(&data, &mut |_, _| ()).unwrap().is_none());
    let mode = |path: &Path| fs::metadata(path).unwrap().permissions().mode() & 0o777;
    assert_eq!((mode(&data), mode(&data.join("ledger.sqlite"))), (0o700, 0o600));
}

#[tokio::test]
async fn a_copy_of_a_store_is_a_store_and_is_proved_when_it_comes_back() {
    for pair in pairs() {
        let digest = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        push(&pair.one, &pair.kettle, "loose").await;
        let space = tempfile::tempdir().unwrap();
        let (copy, back) = (space.path().join("copy"), space.path().join("back"));
        fs::create_dir(&copy).unwrap();
        let told = Mutex::new(0);
        let tell = |copied: BackupCopy| *told.lock().unwrap() = copied.copied;
        let copied = pair.two.export(&copy, &tell).await.unwrap();
        assert_eq!((copied.copied, copied.there, copied.manifests), (3, 0, 1));
        assert_eq!(*told.lock().unwrap(), 3);
        assert_eq!(stranger_in(&copy).unwrap(), None);
        // It can be served as it is, and the next one brings only what is new.
        let served = Store::open_local(&copy).unwrap();
        assert_eq!(read(&served, &Digest::of(b"layer"), 0..5).await, b"layer");
        drop(served);
        image(&pair.one, &pair.kettle, "new", Some("3")).await;
        let copied = pair.one.export(&copy, &tell).await.unwrap();
        assert_eq!((copied.copied, copied.there, copied.manifests), (1, 3, 2));
        let restored = Store::import(&copy, &back, &tell).await.unwrap();
        assert_eq!((restored.copied, restored.manifests), (4, 2));
        let store = Store::open_local(&back).unwrap();
        assert!(has(&store, &pair.kettle, &Selector::Digest(digest)).await);
        assert_eq!(read(&store, &Digest::of(b"new"), 0..3).await, b"new");
        drop(store);

        // A copy that is damaged, or lacks something, gives no store.
        let hex = Digest::of(b"layer").hex().to_owned();
        let blob = copy.join("blobs/sha256").join(&hex[..2]).join(&hex);
        fs::write(&blob, "layes").unwrap();
        let other = space.path().join("other");
        let refused = Store::import(&copy, &other, &tell).await;
        assert!(matches!(refused, Err(StoreError::Mismatch { .. })));
        fs::remove_file(&blob).unwrap();
        let refused = Store::import(&copy, &other, &tell).await;
        assert!(matches!(refused, Err(StoreError::NotFound(_))));
        assert!(!Store::is_local(&other));
        // Mended, it goes on where it was.
        fs::write(&blob, "layer").unwrap();
        let ledger = rusqlite::Connection::open(copy.join("ledger.sqlite")).unwrap();
        ledger.execute("UPDATE bodies SET body = CAST('x' AS BLOB) WHERE rowid = 1", []).unwrap();
        let refused = Store::import(&copy, &other, &tell).await;
        assert!(matches!(refused, Err(StoreError::Mismatch { .. })), "a manifest too");
        assert!(!Store::is_local(&other));
        assert_eq!(stranger_in(&other).unwrap(), None);
        // What a run that was killed has left goes, but never from a folder that is somebody else's.
        fs::write(copy.join(".tmpAb3xY9"), [1; 32]).unwrap();
        assert_eq!(stranger_in(&copy).unwrap(), None);
        assert!(!copy.join(".tmpAb3xY9").exists());
        fs::write(copy.join(".tmpAb3xY9"), [1; 32]).unwrap();
        fs::write(copy.join("index.json"), "{}").unwrap();
        assert!(copy.join(".tmpAb3xY9").exists());
        assert_eq!(stranger_in(&copy).unwrap().as_deref(), Some("index.json"));
    }
}

#[tokio::test]
async fn a_copy_of_an_earlier_version_comes_back_in_this_form() {
    let space = tempfile::tempdir().unwrap();
    let (copy, back) = (space.path().join("copy"), space.path().join("back"));
    fs::create_dir(&copy).unwrap();
    unpack(6, &copy);
    // The copies in the tests lack their layers: what is recorded of them goes too.
    let ledger = rusqlite::Connection::open(copy.join("ledger.sqlite")).unwrap();
    let digests: Vec<String> = ledger
        .prepare("SELECT DISTINCT digest FROM blobs")
        .unwrap()
        .query_map([], |row| row.get(0))
        .unwrap()
        .collect::<Result<_, _>>()
        .unwrap();
    for digest in digests {
        let hex = digest.split(':').next_back().unwrap();
        if !copy.join("blobs/sha256").join(&hex[..2]).join(hex).exists() {
            ledger.execute("DELETE FROM blobs WHERE digest = ?1", [&digest]).unwrap();
        }
    }
    drop(ledger);
    let tags = tags_of(&copy);
    let restored = Store::import(&copy, &back, &|_| ()).await.unwrap();
    assert!(restored.manifests >= 6);
    assert_eq!(version_of(&copy), 6, "the copy stays as it is");
    let store = Store::open_local(&back).unwrap();
    assert_eq!(store.totals().await.unwrap().tags, tags.len() as u64);
    for (repository, tag, _) in tags {
        assert!(has(&store, &name(&repository), &by_tag(&tag)).await);
    }
}

#[test]
fn a_folder_that_others_can_enter_is_closed() {
    use std::os::unix::fs::PermissionsExt as _;
    let folder = tempfile::tempdir().unwrap();
    let mode = || fs::metadata(folder.path()).unwrap().permissions().mode() & 0o777;
    for (open, closed, told) in [(0o755, 0o700, true), (0o770, 0o700, true), (0o700, 0o700, false)]
    {
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(open)).unwrap();
        assert_eq!((Store::tighten(folder.path()).unwrap(), mode()), (told, closed));
    }
    assert!(Store::tighten(&folder.path().join("not there")).is_err());
}
