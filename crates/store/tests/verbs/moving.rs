//! A store moves to other places and back: all of it is there afterwards, and nothing new is kept where it was.

use std::path::Path;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_store::{BucketPlace, MovePlace, MoveStage, Moved, Purpose, Server, Store, StoreError};

use super::faults::{CUT, Fault, LOST};
use super::{Pair, by_tag, image, index, manifest_of, name, pairs, read, shared, tag};

const SECRET: [u8; 32] = [7; 32];

/// A place that nobody has used. None: the tests were told of no servers.
struct Place {
    folder: tempfile::TempDir,
    server: Option<String>,
    bucket: Option<BucketPlace>,
}

impl Place {
    fn folder() -> Self {
        Self { folder: tempfile::tempdir().unwrap(), server: None, bucket: None }
    }

    fn servers() -> Option<Self> {
        let (address, bucket) = (shared::address()?, shared::fresh_bucket()?);
        let folder = tempfile::tempdir().unwrap();
        Some(Self { folder, server: Some(shared::fresh(&address)), bucket: Some(bucket) })
    }

    fn place(&self) -> MovePlace {
        let folder = self.folder.path().to_owned();
        match (&self.server, &self.bucket) {
            (Some(server), Some(bucket)) => {
                let server = Server::read(server, None).unwrap();
                MovePlace::Servers { folder, server, bucket: Box::new(bucket.clone()) }
            }
            _ => MovePlace::Folder(folder),
        }
    }

    fn open(&self) -> Store {
        match (&self.server, &self.bucket) {
            (Some(server), Some(bucket)) => {
                shared::open_remote(self.folder.path(), Some(server), bucket)
            }
            _ => Store::open_local(self.folder.path()).unwrap(),
        }
    }

    fn has_store(&self) -> bool {
        match &self.server {
            Some(server) => Store::has_records(&Server::read(server, None).unwrap()).unwrap(),
            None => Store::is_local(self.folder.path()),
        }
    }
}

async fn go(store: &Store, to: &Place) -> Result<Moved, StoreError> {
    store.move_to(&to.place(), "there", SECRET, false, &|_, _| ()).await
}

fn large() -> Vec<u8> {
    (0..9_000_000_u32).map(|at| (at % 251) as u8).collect()
}

/// Content of every kind.
async fn fill(pair: &Pair) -> Digest {
    let digest = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
    index(&pair.one, &pair.kettle, &digest, Some("all")).await;
    image(&pair.one, &name("vendor/other"), "layer", None).await;
    let (one, content) = (name("vendor/large"), large());
    pair.one.put_blob(&one, &Digest::of(&content), content.into()).await.unwrap();
    // What was removed leaves something behind for a while.
    image(&pair.one, &name("vendor/gone"), "a layer that goes", Some("1")).await;
    pair.one.remove_tag(&name("vendor/gone"), &tag("1")).await.unwrap();
    pair.one.set_mark("backup/last", "somewhere").await.unwrap();
    digest
}

/// That a store has all that [`fill`] put into another, with the same sums, and takes more.
async fn has_all(store: &Store, from: &Store, digest: &Digest) {
    assert_eq!(store.shelf_totals(0).await.unwrap(), from.shelf_totals(0).await.unwrap());
    let kettle = name("vendor/kettle");
    let (record, body) = store.manifest(&kettle, &by_tag("2")).await.unwrap().unwrap();
    assert_eq!((&record.digest, &Digest::of(&body)), (digest, digest));
    assert_eq!(read(store, &Digest::of(b"layer"), 0..5).await, b"layer");
    let content = large();
    assert!(read(store, &Digest::of(&content), 0..content.len() as u64).await == content);
    assert_eq!(store.mark("backup/last").await.unwrap().unwrap().value, "somewhere");
    // Sums go on from there, and new rows come after the old ones.
    let before = store.shelf_totals(0).await.unwrap()[0].tags;
    image(store, &name("vendor/new"), "another", Some("1")).await;
    assert_eq!(store.shelf_totals(0).await.unwrap()[0].tags, before + 1);
    store.remove_tag(&name("vendor/new"), &tag("1")).await.unwrap();
}

/// That nothing new is kept in a store, by any of its verbs, and that it is read as ever.
async fn is_frozen(store: &Store) {
    let kettle = name("vendor/kettle");
    assert_eq!(read(store, &Digest::of(b"layer"), 0..5).await, b"layer");
    store.manifest(&kettle, &by_tag("2")).await.unwrap().unwrap();
    let frozen = |what: &str, error: Option<StoreError>| {
        let error = error.unwrap_or_else(|| panic!("{what} was kept"));
        assert!(error.is_frozen(), "{what}: {error}");
    };
    let content = Bytes::from_static(b"something new");
    let put = store.put_blob(&kettle, &Digest::of(&content), content.clone()).await;
    frozen("a blob", put.err());
    let mut writer = store.write_once(Purpose::Read).await.unwrap();
    writer.write(content.clone()).await.unwrap();
    frozen("an upload", store.commit_blob(&kettle, &Digest::of(&content), writer).await.err());
    let document = manifest_of("layer");
    let digest = Digest::of(&document.bytes);
    let put = store.put_manifest(&kettle, &digest, &document, Some(tag("new")), false).await;
    frozen("a tag", put.err());
    let put = store.put_manifest(&name("vendor/large"), &digest, &document, None, true).await;
    assert!(put.is_err(), "a manifest was kept");
    frozen("a tag that goes", store.remove_tag(&kettle, &tag("2")).await.err());
    frozen("an upload", store.begin_upload(&kettle, "", 5).await.map(drop).err());
    // What is the same as it was is no change.
    store.put_manifest(&kettle, &digest, &document, Some(tag("2")), false).await.unwrap();
    // What says how it is used is still noted.
    store.set_mark("verify/last", "sound").await.unwrap();
    assert!(store.probe().await.is_ok());
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_store_moves_to_servers_and_back() {
    for pair in pairs() {
        let digest = fill(&pair).await;
        let mut places: Vec<Place> = Place::servers().into_iter().collect();
        places.push(Place::folder());
        let mut from = pair.one.clone();
        for place in &places {
            let stages = std::sync::Mutex::new(Vec::new());
            let tell = |_, stage| stages.lock().unwrap().push(stage);
            let moved = from.move_to(&place.place(), "there", SECRET, false, &tell).await.unwrap();
            assert!(moved.has_moved && moved.copy.copied >= 3 && moved.damaged.is_empty());
            assert_eq!(moved.copy.there, 0);
            assert!(stages.lock().unwrap().contains(&MoveStage::Copying));
            let state = from.move_state().await.unwrap().unwrap();
            assert_eq!((state.stage, state.to.as_str()), (MoveStage::Moved, "there"));
            let store = place.open();
            has_all(&store, &from, &digest).await;
            is_frozen(&from).await;
            assert!(store.move_state().await.unwrap().is_none());
            // Once more is no harm; elsewhere is.
            assert!(go(&from, place).await.unwrap().has_moved);
            let again =
                from.move_to(&Place::folder().place(), "x", SECRET, false, &|_, _| ()).await;
            assert!(matches!(again, Err(StoreError::Moving(_))), "{again:?}");
            let over = from.cancel_move(&place.place()).await;
            assert!(matches!(over, Err(StoreError::Occupied)), "{over:?}");
            from = store;
        }
        let secret = larder_store::local_secret(places.last().unwrap().folder.path()).unwrap();
        assert_eq!(secret, SECRET);
        if let Some(server) = places[0].server.as_ref().filter(|_| places.len() > 1) {
            let server = Server::read(server, None).unwrap();
            assert_eq!(Store::shared_secret(&server).unwrap(), SECRET);
        }
        // The handle that was open all the time takes part in it too.
        is_frozen(&pair.two).await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_place_with_another_store_is_left_alone() {
    for pair in pairs() {
        fill(&pair).await;
        for place in Place::servers().into_iter().chain([Place::folder()]) {
            let other = place.open();
            image(&other, &name("vendor/mine"), "mine", Some("1")).await;
            let refused = go(&pair.one, &place).await;
            assert!(matches!(refused, Err(StoreError::Occupied)), "{refused:?}");
            assert_eq!(other.shelf_totals(0).await.unwrap()[0].tags, 1);
            assert!(pair.one.move_state().await.unwrap().is_none());
            image(&pair.one, &name("vendor/new"), "new", Some("1")).await;
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn what_is_damaged_does_not_move_in_silence() {
    for pair in pairs() {
        let digest = fill(&pair).await;
        let layer = Digest::of(b"layer");
        let stored = pair.one.stored_after(None, 100).await.unwrap();
        let stored = stored.into_iter().find(|one| one.digest == layer).unwrap();
        // Its object is taken away.
        assert!(pair.one.set_aside(&stored).await.unwrap().is_some());
        let place = Place::servers().unwrap_or_else(Place::folder);
        let moved = go(&pair.one, &place).await.unwrap();
        assert_eq!((moved.has_moved, moved.damaged), (false, vec![layer.clone()]));
        assert!(!place.has_store());
        // It goes on, and a push mends it.
        image(&pair.one, &name("vendor/new"), "new", Some("1")).await;
        let moved =
            pair.one.move_to(&place.place(), "there", SECRET, true, &|_, _| ()).await.unwrap();
        assert_eq!((moved.has_moved, moved.damaged), (true, vec![layer.clone()]));
        let store = place.open();
        store.manifest(&pair.kettle, &by_tag("2")).await.unwrap().unwrap();
        assert!(store.read(&layer, 0..5).await.is_err());
        image(&store, &pair.kettle, "layer", Some("3")).await;
        has_all_layers(&store, &digest).await;
    }
}

async fn has_all_layers(store: &Store, digest: &Digest) {
    let (record, _) = store.manifest(&name("vendor/kettle"), &by_tag("2")).await.unwrap().unwrap();
    assert_eq!(record.digest, *digest);
    assert_eq!(read(store, &Digest::of(b"layer"), 0..5).await, b"layer");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_move_can_be_given_up() {
    for pair in pairs() {
        fill(&pair).await;
        let place = Place::folder();
        assert!(!pair.one.cancel_move(&place.place()).await.unwrap());
        // As a move leaves it that was killed before its last word.
        pair.one.set_aside(&first_of(&pair).await).await.unwrap();
        assert!(!go(&pair.one, &place).await.unwrap().has_moved);
        assert!(pair.two.move_state().await.unwrap().is_some());
        assert!(pair.two.cancel_move(&place.place()).await.unwrap());
        assert!(pair.one.move_state().await.unwrap().is_none());
        image(&pair.one, &name("vendor/new"), "new", Some("1")).await;
    }
}

async fn first_of(pair: &Pair) -> larder_store::StoredBlob {
    pair.one.stored_after(None, 1).await.unwrap().remove(0)
}

/// Cuts the target's connections at each of the pieces that are sent to it: either of the places is the store, never both,
/// and the next run brings it to its end.
#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_move_that_is_cut_off_anywhere_comes_to_its_end() {
    let Some(address) = shared::address() else { return };
    let mut stopped = 0;
    for kind in [CUT, LOST] {
        for after in (0..60).step_by(4) {
            let pair = pairs().remove(0);
            let digest = fill(&pair).await;
            let server = shared::fresh(&address);
            let at = server.split('@').nth(1).unwrap().split('/').next().unwrap();
            let fault = Fault::before(at).await;
            let through = Server::read(&server.replace(at, &fault.address), None).unwrap();
            let folder = tempfile::tempdir().unwrap();
            let place = MovePlace::Shared { folder: folder.path().to_owned(), server: through };
            let run =
                || async { pair.one.move_to(&place, "there", SECRET, false, &|_, _| ()).await };
            fault.once(kind, after);
            let first = run().await;
            fault.heal();
            let is_there = has_records_of_move(&server);
            if first.is_err() {
                stopped += 1;
                // Where the other place has the records, nothing new is kept here.
                let kept = image_is_kept(&pair.one).await;
                assert!(!(kept && is_there), "{kind} {after}: two stores");
                assert!(run().await.unwrap().has_moved, "{kind} {after}");
            }
            let store = shared::open(folder.path(), &server);
            has_all(&store, &pair.one, &digest).await;
            is_frozen(&pair.one).await;
        }
    }
    assert!(stopped > 5, "only {stopped} of 30 were stopped");
}

fn has_records_of_move(server: &str) -> bool {
    Store::has_records(&Server::read(server, None).unwrap()).unwrap()
}

async fn image_is_kept(store: &Store) -> bool {
    let content = Bytes::from_static(b"something new");
    store.put_blob(&name("vendor/new"), &Digest::of(&content), content).await.is_ok()
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_copy_comes_back_into_servers() {
    let Some(place) = Place::servers() else { return };
    for pair in pairs() {
        let digest = fill(&pair).await;
        let copy = tempfile::tempdir().unwrap();
        pair.one.export(copy.path(), &|_| ()).await.unwrap();
        let place = Place { server: Place::servers().unwrap().server, ..Place::servers().unwrap() };
        let import = |from: &Path| {
            let (from, place) = (from.to_owned(), place.place());
            async move { Store::import_to(&from, &place, SECRET, &|_| ()).await }
        };
        // A damaged copy comes nowhere.
        let damaged = tempfile::tempdir().unwrap();
        pair.one.export(damaged.path(), &|_| ()).await.unwrap();
        let layer = Digest::of(b"layer");
        let path = format!("blobs/sha256/{}/{}", &layer.hex()[..2], layer.hex());
        std::fs::write(damaged.path().join(path), "reyal").unwrap();
        let refused = import(damaged.path()).await;
        assert!(matches!(refused, Err(StoreError::NotFound(_))), "{refused:?}");
        assert!(!place.has_store());
        let copied = import(copy.path()).await.unwrap();
        assert_eq!(copied.manifests, 3);
        let store = place.open();
        has_all(&store, &pair.one, &digest).await;
        let again = import(copy.path()).await;
        assert!(matches!(again, Err(StoreError::Occupied)), "{again:?}");
    }
    drop(place);
}
