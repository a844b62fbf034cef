//! Stores whose records are in a database server, or whose bytes are in an object store: `scripts/services start` starts
//! both and says where they are.

use std::io::Write as _;

use larder_core::digest::Digest;
use larder_store::{BucketKey, BucketPlace, Server, Store};

use crate::{Pair, by_tag, image, name};

/// Where the tests find the server. None: they were told of none.
pub fn address() -> Option<String> {
    std::env::var("LARDER_TEST_POSTGRES").ok().filter(|address| !address.is_empty())
}

/// Waits for something on a thread of its own: tests are asked for their pairs where nobody may wait.
fn apart<T: Send + 'static, F: Future<Output = T> + 'static>(
    work: impl FnOnce() -> F + Send + 'static,
) -> T {
    let thread =
        std::thread::spawn(move || tokio::runtime::Runtime::new().unwrap().block_on(work()));
    thread.join().unwrap()
}

/// A place of its own at the server, which nobody has used.
pub fn fresh(address: &str) -> String {
    let schema = format!("t{}", uuid::Uuid::now_v7().simple());
    run(address, &format!("CREATE SCHEMA {schema}"));
    format!("{address}?options=-c%20search_path%3D{schema}&application_name={schema}")
}

/// Runs statements at the server.
pub fn run(address: &str, sql: &str) {
    let (address, sql) = (address.to_owned(), sql.to_owned());
    apart(move || async move {
        client(&address).await.batch_execute(&sql).await.unwrap();
    });
}

/// Asks the server for a number.
pub fn number(address: &str, sql: &str) -> i64 {
    let sql = format!("SELECT CAST(({sql}) AS BIGINT)");
    let address = address.to_owned();
    apart(move || async move { client(&address).await.query_one(&sql, &[]).await.unwrap().get(0) })
}

async fn client(address: &str) -> tokio_postgres::Client {
    let (client, connection) =
        tokio_postgres::connect(address, tokio_postgres::NoTls).await.unwrap();
    tokio::spawn(connection);
    client
}

pub fn open(folder: &std::path::Path, address: &str) -> Store {
    Store::open_shared(folder, Server::read(address, None).unwrap()).unwrap()
}

/// A place of its own in the object store. None: the tests were told of none.
pub fn fresh_bucket() -> Option<BucketPlace> {
    bucket_of("LARDER_TEST_BUCKET")
}

fn bucket_of(variable: &str) -> Option<BucketPlace> {
    let address = std::env::var(variable).ok().filter(|address| !address.is_empty())?;
    let (endpoint, bucket) = address.rsplit_once('/').unwrap();
    let _ = rustls::crypto::ring::default_provider().install_default();
    Some(BucketPlace {
        bucket: bucket.to_owned(),
        endpoint: endpoint.to_owned(),
        region: "emberfall-1".into(),
        prefix: uuid::Uuid::now_v7().simple().to_string(),
        key: BucketKey { id: "larder".into(), secret: "not-a-real-secret".into(), session: None },
        authorities: None,
        clients_at: None,
    })
}

/// Two handles with bytes in the object store that checks signatures and tells the time. None: the tests were told of none.
pub fn strict_pair() -> Option<Pair> {
    let bucket = bucket_of("LARDER_TEST_STRICT_BUCKET")?;
    let folder = tempfile::tempdir().unwrap();
    let open = || open_remote(folder.path(), None, &bucket);
    let (one, two, kettle) = (open(), open(), name("vendor/kettle"));
    let bucket = Some(bucket);
    Some(Pair { folder, server: None, is_remote: true, bucket, _other: None, one, two, kettle })
}

pub fn open_remote(folder: &std::path::Path, server: Option<&str>, bucket: &BucketPlace) -> Store {
    let server = server.map(|address| Server::read(address, None).unwrap());
    Store::open_remote(folder, server, bucket).unwrap()
}

pub fn pairs() -> Vec<Pair> {
    let mut pairs = Vec::new();
    let mut add = |server: Option<String>, bucket: Option<BucketPlace>| {
        let folder = tempfile::tempdir().unwrap();
        let open = || match (&server, &bucket) {
            (Some(server), None) => open(folder.path(), server),
            (server, Some(bucket)) => open_remote(folder.path(), server.as_deref(), bucket),
            (None, None) => Store::open_local(folder.path()).unwrap(),
        };
        let one = open();
        // As on two machines, where nothing is shared but the servers.
        let other = (server.is_some() && bucket.is_some()).then(|| tempfile::tempdir().unwrap());
        let two = match (&other, &bucket) {
            (Some(other), Some(bucket)) => open_remote(other.path(), server.as_deref(), bucket),
            _ => open(),
        };
        let (is_remote, kettle) = (bucket.is_some(), name("vendor/kettle"));
        pairs.push(Pair { folder, server, is_remote, bucket, _other: other, one, two, kettle });
    };
    // One handle alone is tried with folders and files.
    if let Some(address) = address() {
        add(Some(fresh(&address)), None);
    }
    if let Some(bucket) = fresh_bucket() {
        add(None, Some(bucket));
    }
    if let (Some(address), Some(bucket)) = (address(), fresh_bucket()) {
        add(Some(fresh(&address)), Some(bucket));
    }
    pairs
}

#[tokio::test]
async fn what_one_changes_the_other_hears_of_within_a_second() {
    for pair in pairs() {
        if pair.server.is_none() {
            continue;
        }
        let other = name("vendor/quite-another");
        image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        image(&pair.one, &other, "layer", Some("2")).await;
        // What was told may be told once more.
        tokio::time::sleep(std::time::Duration::from_secs(1)).await;
        let before = (pair.one.moment(&pair.kettle), pair.one.moment(&other));
        assert!(before.0.is_some() && before.1.is_some());
        let mine = pair.two.moment(&other);
        image(&pair.two, &other, "new", Some("2")).await;
        assert_ne!(pair.two.moment(&other), mine, "who changes something knows it at once");
        let began = std::time::Instant::now();
        while pair.one.moment(&other) == before.1 {
            assert!(began.elapsed() < std::time::Duration::from_secs(5), "nobody told it");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        assert_eq!(pair.one.moment(&pair.kettle), before.0, "nothing of it has changed");
    }
}

#[tokio::test]
async fn records_of_a_file_move_into_a_server() {
    let Some(address) = address() else { return };
    let pair = crate::pairs().remove(0);
    let digest = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
    let other = name("vendor/other");
    image(&pair.one, &other, "layer", None).await;
    let server = fresh(&address);
    let folder = tempfile::tempdir().unwrap();
    let place = larder_store::MovePlace::Shared {
        folder: folder.path().to_owned(),
        server: Server::read(&server, None).unwrap(),
    };
    let go = |to: &'static str| {
        let (one, place) = (pair.one.clone(), place.clone());
        async move { one.move_to(&place, to, [7; 32], false, &|_, _| ()).await }
    };
    assert!(go("there").await.unwrap().has_moved);
    assert!(go("there").await.unwrap().has_moved, "again it is there");
    let elsewhere = go("elsewhere").await;
    assert!(matches!(elsewhere, Err(larder_store::StoreError::Moving(_))), "{elsewhere:?}");
    let store = open(folder.path(), &server);
    assert_eq!(store.shelf_totals(0).await.unwrap(), pair.one.shelf_totals(0).await.unwrap());
    let (record, body) = store.manifest(&pair.kettle, &by_tag("2")).await.unwrap().unwrap();
    assert_eq!((record.digest, Digest::of(&body)), (digest.clone(), digest));
    let layer = Digest::of(b"layer");
    assert_eq!(crate::read(&store, &layer, 0..5).await, b"layer");
    // Sums go on from there, and new rows come after the old ones.
    image(&store, &name("vendor/third"), "another", Some("1")).await;
    let totals = store.shelf_totals(0).await.unwrap();
    assert_eq!((totals[0].repositories, totals[0].tags), (3, 2));
}

#[tokio::test]
async fn connections_that_the_server_ends_are_made_again() {
    for pair in pairs() {
        let Some(address) = &pair.server else { continue };
        let digest = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        let moment = pair.one.moment(&pair.kettle);
        run(
            address,
            "SELECT pg_terminate_backend(pid) FROM pg_stat_activity
             WHERE application_name = current_setting('application_name') AND pid <> pg_backend_pid()",
        );
        // What was under way may have failed; what comes after does not.
        let found = async || pair.one.manifest_record(&pair.kettle, &by_tag("2")).await;
        let began = std::time::Instant::now();
        while found().await.is_err() {
            assert!(began.elapsed().as_secs() < 20, "no connection is made again");
            tokio::time::sleep(std::time::Duration::from_millis(20)).await;
        }
        assert_eq!(found().await.unwrap().map(|record| record.digest), Some(digest));
        image(&pair.two, &pair.kettle, "another", Some("3")).await;
        assert_ne!(pair.two.moment(&pair.kettle), moment);
    }
}

#[test]
fn stores_on_servers_are_tested_where_there_are_any() {
    // Straight to the terminal: what a test prints otherwise is only shown when it fails.
    let told = |what: &str| {
        let how = "`scripts/services start` says how to try them";
        std::io::stderr().write_all(format!("left out: {what}; {how}\n").as_bytes()).unwrap();
    };
    if address().is_none() {
        told("stores with records in a database server");
    }
    if fresh_bucket().is_none() {
        told("stores with bytes in an object store");
    }
}

/// What a later program may add to the tables while this one still runs: columns, tables, indexes.
const LATER: &str = "
    ALTER TABLE contents ADD COLUMN read_at BIGINT NOT NULL DEFAULT 0;
    ALTER TABLE manifests ADD COLUMN signed_by TEXT;
    ALTER TABLE tags ADD COLUMN note TEXT NOT NULL DEFAULT '';
    ALTER TABLE blobs ADD COLUMN kind TEXT;
    ALTER TABLE repositories ADD COLUMN note TEXT;
    ALTER TABLE uploads ADD COLUMN hash_state BYTEA;
    ALTER TABLE keys ADD COLUMN note TEXT;
    ALTER TABLE record ADD COLUMN note TEXT;
    ALTER TABLE marks ADD COLUMN note TEXT;
    ALTER TABLE leases ADD COLUMN note TEXT;
    CREATE TABLE later_facts (digest TEXT PRIMARY KEY, facts BYTEA NOT NULL);
    CREATE INDEX tags_by_note ON tags (note);";

#[tokio::test]
async fn this_version_works_beside_a_later_one_that_has_added_to_the_tables() {
    for pair in pairs() {
        let Some(server) = &pair.server else { continue };
        image(&pair.one, &pair.kettle, "before", Some("1")).await;
        // The later one comes while this one runs: statements that were prepared before go on.
        run(server, &format!("{LATER} UPDATE form SET version = 99, works_with = 8"));
        let digest = image(&pair.one, &pair.kettle, "while", Some("2")).await;
        let found = pair.two.manifest_record(&pair.kettle, &by_tag("2")).await.unwrap();
        assert_eq!(found.map(|record| record.digest), Some(digest));
        pair.one.remove_tag(&pair.kettle, &crate::tag("1")).await.unwrap();
        pair.one.set_mark("backup/last", "x").await.unwrap();
        // And one of this version that starts afterwards does.
        let folder = tempfile::tempdir().unwrap();
        let place = Server::read(server, None).unwrap();
        let open = || match &pair.bucket {
            Some(bucket) => Store::open_remote(folder.path(), Some(place.clone()), bucket),
            None => Store::open_shared(pair.folder.path(), place.clone()),
        };
        let late = open().unwrap();
        image(&late, &pair.kettle, "after", Some("3")).await;
        assert_eq!(late.tags(&pair.kettle, None, 10).await.unwrap().unwrap().len(), 2);
        let copy = tempfile::tempdir().unwrap();
        late.export(copy.path(), &|_| ()).await.unwrap();
        // What it could not work with it does not touch.
        run(server, "UPDATE form SET works_with = 99");
        assert!(matches!(
            open().map(drop),
            Err(larder_store::StoreError::Version { found: 99, known: 10 })
        ));
        run(server, "UPDATE form SET version = 7, works_with = 7");
        assert!(matches!(
            open().map(drop),
            Err(larder_store::StoreError::Earlier { found: 7, .. })
        ));
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn many_questions_at_once_take_few_connections() {
    for pair in pairs() {
        let Some(server) = &pair.server else { continue };
        let digest = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        let asked: Vec<_> = (0..400)
            .map(|_| {
                let (one, kettle) = (pair.one.clone(), pair.kettle.clone());
                tokio::spawn(async move { one.manifest_record(&kettle, &by_tag("2")).await })
            })
            .collect();
        for one in asked {
            let found = one.await.unwrap().unwrap();
            assert_eq!(found.map(|record| record.digest), Some(digest.clone()));
        }
        let open = number(
            server,
            "SELECT COUNT(*) FROM pg_stat_activity
             WHERE application_name = current_setting('application_name')",
        );
        // Two handles, each with one that writes and one that hears, and who asks.
        assert!(open <= 2 * 18 + 1, "{open} connections are open");
    }
}
