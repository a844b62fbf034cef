//! What servers do at their worst: connections that are cut, answers that are lost, refusals in between. Whatever was
//! answered for is there afterwards, nothing half is, and every wait ends.

use std::sync::Arc;
use std::sync::atomic::{AtomicI64, AtomicU8, Ordering};
use std::time::Duration;

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_store::{Purpose, Server, Store, StoreError};
use object_store::ObjectStoreExt as _;
use object_store::signer::{SignedUrlOptions, Signer as _};
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};

use super::{CONFIG, Pair, by_tag, manifest_of, name, pairs, read, tag};

/// Nothing is wrong.
const WELL: u8 = 0;
/// The connection ends before what was sent arrives.
pub const CUT: u8 = 1;
/// What was sent arrives, and its answer does not.
pub const LOST: u8 = 2;
/// The same, with an answer that says that the server has a fault.
const REFUSED: u8 = 3;
/// The answer breaks off.
const SHORT: u8 = 4;

/// Stands before a server, and does wrong once.
pub struct Fault {
    pub address: String,
    kind: Arc<AtomicU8>,
    /// After so many pieces that were sent to the server.
    after: Arc<AtomicI64>,
}

impl Fault {
    pub async fn before(server: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap().to_string();
        let (kind, after) = (Arc::new(AtomicU8::new(WELL)), Arc::new(AtomicI64::new(0)));
        let (shared, left, server) = (Arc::clone(&kind), Arc::clone(&after), server.to_owned());
        tokio::spawn(async move {
            while let Ok((client, _)) = listener.accept().await {
                let (kind, after) = (Arc::clone(&shared), Arc::clone(&left));
                let Ok(server) = TcpStream::connect(&server).await else { continue };
                tokio::spawn(pass(client, server, kind, after));
            }
        });
        Self { address, kind, after }
    }

    /// Does wrong once, after so many pieces.
    pub fn once(&self, kind: u8, after: i64) {
        self.after.store(after, Ordering::SeqCst);
        self.kind.store(kind, Ordering::SeqCst);
    }

    pub fn heal(&self) -> bool {
        self.kind.swap(WELL, Ordering::SeqCst) == WELL
    }
}

/// Passes on what both sides say, until the fault.
async fn pass(
    mut client: TcpStream,
    mut server: TcpStream,
    kind: Arc<AtomicU8>,
    after: Arc<AtomicI64>,
) {
    let (mut up, mut down) = (vec![0; 65536], vec![0; 65536]);
    // What is to go wrong with the next answer.
    let mut next = WELL;
    loop {
        tokio::select! {
            got = client.read(&mut up) => {
                let Ok(got @ 1..) = got else { return };
                let is_due = kind.load(Ordering::SeqCst) != WELL
                    && after.fetch_sub(1, Ordering::SeqCst) == 0;
                if is_due {
                    next = kind.swap(WELL, Ordering::SeqCst);
                    if next == CUT {
                        return;
                    }
                }
                if server.write_all(&up[..got]).await.is_err() {
                    return;
                }
            }
            got = server.read(&mut down) => {
                let Ok(got @ 1..) = got else { return };
                match next {
                    LOST => return,
                    REFUSED => {
                        let said = "HTTP/1.1 503 Slow Down\r\ncontent-length: 0\r\nconnection: close\r\n\r\n";
                        let _ = client.write_all(said.as_bytes()).await;
                        return;
                    }
                    SHORT => {
                        let _ = client.write_all(&down[..got * 2 / 3]).await;
                        return;
                    }
                    _ => {}
                }
                if client.write_all(&down[..got]).await.is_err() {
                    return;
                }
            }
        }
    }
}

/// Pushes an image as a client does, as far as it gets.
async fn push(store: &Store, pair: &Pair, layer: &str, to: &str) -> Result<Digest, StoreError> {
    for content in [CONFIG, layer] {
        let mut writer = store.write_once(Purpose::Read).await?;
        writer.write(Bytes::copy_from_slice(content.as_bytes())).await?;
        store.commit_blob(&pair.kettle, &Digest::of(content.as_bytes()), writer).await?;
    }
    let document = manifest_of(layer);
    let digest = Digest::of(&document.bytes);
    store.put_manifest(&pair.kettle, &digest, &document, Some(tag(to)), false).await?;
    Ok(digest)
}

/// That an image is there with all that it needs, as another one sees it, and that all sums are right.
async fn is_there(pair: &Pair, layer: &str, to: &str, digest: &Digest) {
    let (record, _) = pair.two.manifest(&pair.kettle, &by_tag(to)).await.unwrap().unwrap();
    assert_eq!(record.digest, *digest);
    let content = read(&pair.two, &Digest::of(layer.as_bytes()), 0..layer.len() as u64).await;
    assert_eq!(content, layer.as_bytes());
    let wrong = "SELECT COUNT(*) FROM contents c WHERE c.links <>
        (SELECT COUNT(*) FROM blobs b WHERE b.digest = c.digest)";
    assert_eq!(pair.number(wrong), 0);
    let wrong = "SELECT COUNT(*) FROM totals t WHERE t.shelf = '' AND
        (t.tags <> (SELECT COUNT(*) FROM tags) OR t.manifests <> (SELECT COUNT(*) FROM bodies)
         OR t.blobs <> (SELECT COUNT(*) FROM contents WHERE links > 0))";
    assert_eq!(pair.number(wrong), 0);
}

/// Pushes with a fault, and again until it is done; every wait ends. Tells whether anything went wrong, and whether
/// the first attempt failed.
async fn push_through(
    store: &Store,
    pair: &Pair,
    fault: &Fault,
    layer: &str,
    to: &str,
) -> (bool, bool) {
    let most = Duration::from_secs(60);
    let first = tokio::time::timeout(most, push(store, pair, layer, to)).await;
    let first = first.unwrap();
    let went_wrong = fault.heal();
    if let Ok(digest) = &first {
        is_there(pair, layer, to, digest).await;
        return (went_wrong, false);
    }
    for _ in 0..5 {
        let again = tokio::time::timeout(most, push(store, pair, layer, to)).await;
        if let Ok(digest) = again.unwrap() {
            is_there(pair, layer, to, &digest).await;
            return (went_wrong, true);
        }
    }
    panic!("it never came to an end: {first:?}");
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_database_that_is_cut_off_at_any_statement_loses_and_doubles_nothing() {
    for pair in pairs() {
        let (Some(address), false) = (&pair.server, pair.is_remote) else { continue };
        let at = address.split('@').nth(1).unwrap().split('/').next().unwrap();
        let fault = Fault::before(at).await;
        let through = Server::read(&address.replace(at, &fault.address), None).unwrap();
        let store = Store::open_shared(pair.folder.path(), through).unwrap();
        let mut failed = 0;
        for kind in [CUT, LOST] {
            for after in 0..24 {
                let layer = format!("layer {kind} {after}");
                fault.once(kind, after);
                let to = format!("t{kind}-{after}");
                let (_, failing) = push_through(&store, &pair, &fault, &layer, &to).await;
                failed += u32::from(failing);
            }
        }
        assert!(failed > 20, "only {failed} of 48 failed");
        assert_eq!(pair.two.tags(&pair.kettle, None, 1000).await.unwrap().unwrap().len(), 48);
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn an_object_store_that_fails_in_between_loses_nothing() {
    for pair in pairs() {
        let (Some(server), true) = (&pair.server, pair.is_remote) else { continue };
        let mut bucket = pair.bucket.clone().unwrap();
        let at = bucket.endpoint.trim_start_matches("http://").to_owned();
        let fault = Fault::before(&at).await;
        bucket.endpoint = format!("http://{}", fault.address);
        let folder = tempfile::tempdir().unwrap();
        let through = Server::read(server, None).unwrap();
        let store = Store::open_remote(folder.path(), Some(through), &bucket).unwrap();
        let mut wrong = 0;
        for kind in [CUT, LOST, REFUSED] {
            for after in 0..4 {
                let layer = format!("layer {kind} {after}");
                fault.once(kind, after);
                let to = format!("t{kind}-{after}");
                let (one, _) = push_through(&store, &pair, &fault, &layer, &to).await;
                wrong += u32::from(one);
            }
        }
        assert!(wrong > 5, "only {wrong} of 12 went wrong");
        // What breaks off on its way out goes on where it was.
        let large: Vec<u8> = (0..3_000_000_u32).map(|at| (at % 251) as u8).collect();
        let digest = Digest::of(&large);
        pair.two.put_blob(&name("vendor/large"), &digest, large.clone().into()).await.unwrap();
        for (kind, after) in [(SHORT, 0), (LOST, 0), (CUT, 0)] {
            fault.once(kind, after);
            assert_eq!(read(&store, &digest, 0..3_000_000).await, large);
            assert!(fault.heal(), "nothing went wrong");
        }
        assert_eq!(read(&store, &digest, 17..2_000_000).await, large[17..2_000_000]);
    }
}

#[tokio::test]
async fn an_object_store_that_is_away_is_told() {
    for pair in pairs() {
        if !pair.is_remote {
            continue;
        }
        let mut bucket = pair.bucket.clone().unwrap();
        bucket.endpoint = "http://127.0.0.1:9".into();
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_remote(folder.path(), None, &bucket).unwrap();
        let began = std::time::Instant::now();
        let refused = push(&store, &pair, "layer", "1").await.unwrap_err();
        assert!(matches!(refused, StoreError::Objects { .. }), "{refused}");
        assert!(began.elapsed() < Duration::from_secs(60));
        assert!(!refused.to_string().contains("not-a-real-secret"));
        assert_eq!(store.totals().await.unwrap().blobs, 0, "nothing half is recorded");
        break;
    }
}

/// The object store without the store before it.
fn straight_to(bucket: &larder_store::BucketPlace) -> object_store::aws::AmazonS3 {
    object_store::aws::AmazonS3Builder::new()
        .with_bucket_name(&bucket.bucket)
        .with_endpoint(&bucket.endpoint)
        .with_region(&bucket.region)
        .with_access_key_id(&bucket.key.id)
        .with_secret_access_key(&bucket.key.secret)
        .with_allow_http(true)
        .build()
        .unwrap()
}

/// Begins an upload of several parts behind the store's back, as a process leaves it that was killed.
async fn begin_parts(bucket: &larder_store::BucketPlace, place: &str) {
    let store = straight_to(bucket);
    let path = object_store::path::Path::parse(format!("{}/{place}", bucket.prefix)).unwrap();
    let mut upload = store.put_multipart(&path).await.unwrap();
    upload.put_part(vec![7_u8; 1000].into()).await.unwrap();
    // Nobody ever completes it, or gives it up.
    drop(upload);
}

/// How many uploads of several parts are unfinished there.
async fn unfinished_parts(bucket: &larder_store::BucketPlace) -> usize {
    let store = straight_to(bucket);
    let options = SignedUrlOptions::new().with_query([("uploads", "")]);
    let root = object_store::path::Path::default();
    let most = Duration::from_secs(60);
    let url = store.signed_url_opts(reqwest::Method::GET, &root, most, &options).await.unwrap();
    let text = reqwest::get(url.as_str()).await.unwrap().text().await.unwrap();
    text.matches(&format!("<Key>{}/", bucket.prefix)).count()
}

/// The end of the address that a variable of the tests has.
fn own_port(variable: &str) -> String {
    let address = std::env::var(variable).unwrap_or_default();
    address.rsplit_once('/').unwrap_or_default().0.rsplit(':').next().unwrap_or_default().to_owned()
}

#[tokio::test]
async fn parts_that_nobody_completes_are_found_and_removed() {
    for pair in pairs().into_iter().chain(super::shared::strict_pair()) {
        let Some(bucket) = &pair.bucket else { continue };
        // Some say of all that they were begun years ago.
        let tells_time = !bucket.endpoint.ends_with(&own_port("LARDER_TEST_BUCKET"));
        let digest = Digest::of(b"of a process that was killed");
        let place = format!("content/sha256/{}/{}.left", &digest.hex()[..2], digest.hex());
        begin_parts(bucket, &place).await;
        // Pieces of an upload, of which nobody and somebody has hold.
        let left = pair.one.begin_upload(&pair.kettle, "", 10).await.unwrap().unwrap();
        let held = pair.one.begin_upload(&pair.kettle, "", 10).await.unwrap().unwrap();
        begin_parts(bucket, &format!("uploads/{left}/0-10.x")).await;
        begin_parts(bucket, &format!("uploads/{held}/0-10.x")).await;
        let mut writer = pair.two.resume_upload(held).await.unwrap();
        assert_eq!(unfinished_parts(bucket).await, 3);
        if tells_time {
            // They are not old enough.
            pair.one.remove_abandoned(Duration::from_secs(3600)).await.unwrap();
            assert_eq!(unfinished_parts(bucket).await, 3);
        }
        // Those that the library has begun twice, because an answer was lost, are among them.
        pair.one.remove_abandoned(Duration::ZERO).await.unwrap();
        assert_eq!(unfinished_parts(bucket).await, 1);
        writer.write(Bytes::from_static(b"goes on")).await.unwrap();
        let content = Digest::of(b"goes on");
        pair.two.commit_blob(&pair.kettle, &content, writer).await.unwrap();
        assert_eq!(read(&pair.one, &content, 0..7).await, b"goes on");
        pair.one.remove_abandoned(Duration::ZERO).await.unwrap();
        assert_eq!(unfinished_parts(bucket).await, 0);
    }
}

#[tokio::test]
async fn a_place_that_belongs_to_another_store_is_left_alone() {
    for pair in pairs().into_iter().chain(super::shared::strict_pair()) {
        let Some(bucket) = &pair.bucket else { continue };
        let digest = push(&pair.one, &pair, "layer", "2").await.unwrap();
        pair.one.own_objects().await.unwrap();
        pair.two.own_objects().await.unwrap();
        // Another store, by a slip, at the same place: it knows none of these objects.
        let folder = tempfile::tempdir().unwrap();
        let other = Store::open_remote(folder.path(), None, bucket).unwrap();
        let foreign =
            |error: StoreError| assert!(matches!(error, StoreError::Foreign(_)), "{error}");
        foreign(other.own_objects().await.unwrap_err());
        for part in 0..=u8::MAX {
            foreign(other.collect_strays(part, Duration::ZERO, false).await.unwrap_err());
        }
        foreign(other.remove_abandoned(Duration::ZERO).await.unwrap_err());
        is_there(&pair, "layer", "2", &digest).await;
    }
}
