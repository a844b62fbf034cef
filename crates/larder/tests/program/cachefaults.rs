//! Cached shelves in front of upstreams that fail, and pulls that break off.

use std::thread;
use std::time::Duration;

use larder_core::digest::Digest;
use larder_standin::{FaultKind, ImagePlan, SampleImage, image};

use crate::house::{House, small};
use crate::node::{ACCEPT, field, requests, serve, shelves, straight, wait_until};
use crate::serving::{Serving, ask};

#[test]
fn what_is_here_is_served_while_the_upstream_is_down() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"\npatience = \"1s\"");
    let node = straight(&serving);
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    house.bazaar.faults.add(None, "/v2/", 10_000, FaultKind::Status(503, None));
    for _ in 0..3 {
        assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    }
    let head = node.get("HEAD", "bazaar/library/kettle/manifests/2", ACCEPT).unwrap();
    assert!(field(&head, "warning").starts_with("110 larder \"an older answer"), "{}", head.head);
    // Where the upstream takes its time to fail, nobody waits for that, and it is told later.
    wait_until("it is told", || serving.log().contains("an older answer is served"));
    // What is not here gets a definite answer, which no runtime repeats at once.
    let missing = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(missing.contains(" 502 ") || missing.contains(" 503 "), "{missing}");
    // The list of tags: what is here, with a word of warning.
    let tags = serving.ask("GET", "/v2/bazaar/library/kettle/tags/list");
    assert_eq!(tags.text(), r#"{"name":"bazaar/library/kettle","tags":["2"]}"#);
    assert!(tags.head.contains("110 larder"), "{}", tags.head);
    house.bazaar.faults.clear();
    wait_until("it recovers", || {
        let head = node.get("HEAD", "bazaar/library/kettle/manifests/2", ACCEPT).unwrap();
        field(&head, "warning").is_empty()
    });
    node.pull("bazaar/library/brinedb", "5.2").unwrap();
    // Beyond its time an older answer is none.
    drop(serving);
    let serving = serve(&house, "recheck = \"0s\"\nstale = \"0s\"");
    house.bazaar.faults.add(None, "/v2/", 10_000, FaultKind::Status(503, None));
    let refused = straight(&serving).pull("bazaar/library/kettle", "2").unwrap_err();
    assert!(refused.contains(" 50"), "{refused}");
}

#[test]
fn a_rate_limit_is_waited_for_and_never_passed_on() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"\npatience = \"1s\"");
    let node = straight(&serving);
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    house.bazaar.faults.add(None, "/v2/", 10_000, FaultKind::Status(429, Some(3600)));
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    requests(&house.bazaar);
    let refused = node.get("HEAD", "bazaar/library/brinedb/manifests/5.2", ACCEPT).unwrap();
    assert_eq!(refused.status, 503, "{}", refused.head);
    assert!(refused.head.contains("limits"), "{}", refused.head);
    let seconds: u64 = field(&refused, "retry-after").parse().unwrap();
    assert!((3000..=3601).contains(&seconds), "{seconds}");
    assert_eq!(requests(&house.bazaar), [], "it is left alone until then");
    wait_until("it is on record", || house.larder("check").out.contains("limits us"));
    // A start forgets nothing of it.
    drop(serving);
    house.bazaar.faults.clear();
    let serving = serve(&house, "recheck = \"0s\"");
    requests(&house.bazaar);
    let refused = straight(&serving).pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(refused.contains("limits") && requests(&house.bazaar).is_empty(), "{refused}");
    // It was lifted: the operator says so, and the larder that runs takes it up.
    house.larder("shelf retry nobody").ends(2).says(&["there are: bazaar"]);
    house
        .larder_words(&["shelf", "retry", "bazaar", "--because", "they lifted it"])
        .ends(0)
        .says(&["bazaar.example is asked again; it was limited until"]);
    wait_until("it is asked again", || {
        straight(&serving).pull("bazaar/library/kettle", "2").is_ok()
            && !requests(&house.bazaar).is_empty()
    });
    house.larder("log --kind config").ends(0).says(&["they lifted it"]);
    wait_until("it is well", || {
        house.larder("shelf retry bazaar").ends(0).out.contains("nothing to do")
    });
    // A short one is waited for.
    house.bazaar.faults.add(None, "/library/brinedb/", 1, FaultKind::Status(429, Some(1)));
    straight(&serving).pull("bazaar/library/brinedb", "5.2").unwrap();
}

#[test]
fn wrong_content_breaks_off_and_a_right_answer_heals_it() {
    let house = House::new();
    for what in
        [FaultKind::Altered, FaultKind::Longer(5), FaultKind::CutAfter(1000), FaultKind::Page]
    {
        let serving = serve(&house, "");
        house.bazaar.faults.add(Some("GET"), "/blobs/", 20, what.clone());
        let refused = straight(&serving).pull("bazaar/library/kettle", "2").unwrap_err();
        let definite = refused.contains("broken off") || refused.contains("502");
        assert!(definite, "{what:?}: {refused}");
        house.bazaar.faults.clear();
        wait_until("it heals", || straight(&serving).pull("bazaar/library/kettle", "2").is_ok());
        assert_eq!(serving.stop("TERM"), 0);
        house.larder("store verify").ends(0);
        std::fs::remove_dir_all(house.path("larder-data")).unwrap();
    }
    // A manifest that is not what its digest says.
    let serving = serve(&house, "");
    house.bazaar.faults.add(Some("GET"), "/manifests/2", 9, FaultKind::Altered);
    let refused = straight(&serving).pull("bazaar/library/kettle", "2").unwrap_err();
    assert!(refused.contains(" 502 "), "{refused}");
    house.bazaar.faults.clear();
    wait_until("it heals", || straight(&serving).pull("bazaar/library/kettle", "2").is_ok());
}

#[test]
fn upstreams_that_leave_things_out_are_understood() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"");
    let node = straight(&serving);
    house.bazaar.faults.add(Some("GET"), "/blobs/", 20, FaultKind::Without("content-length"));
    house.bazaar.faults.add(None, "/manifests/", 20, FaultKind::Without("docker-content-digest"));
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    house.bazaar.faults.clear();
    // A blob that no manifest here names: its length is the upstream's word, or nobody's.
    let brinedb = image(&small("brinedb"));
    for (blob, says) in brinedb.blobs.iter().zip([true, false]) {
        if !says {
            house.bazaar.faults.add(
                Some("GET"),
                "/blobs/",
                1,
                FaultKind::Without("content-length"),
            );
        }
        let path = format!("bazaar/library/brinedb/blobs/{}", blob.digest);
        let answer = node.get("GET", &path, "*/*").unwrap();
        assert_eq!((answer.status, &answer.body[..]), (200, &blob.bytes[..]));
        // Where nobody says it, it is known only when all of it came before the answer began.
        let length = field(&answer, "content-length");
        let right = length == blob.bytes.len().to_string();
        assert!(right || (!says && length.is_empty()), "{}", answer.head);
    }
    let nobody = Digest::of(b"nobody has it");
    let absent = node.get("GET", &format!("bazaar/library/kettle/blobs/{nobody}"), "*/*").unwrap();
    assert_eq!(absent.status, 404, "{}", absent.text());
    let absent = node.get("HEAD", &format!("bazaar/library/kettle/blobs/{nobody}"), "*/*").unwrap();
    assert_eq!(absent.status, 404);
    let absent = node.pull("bazaar/library/nothing", "1").unwrap_err();
    assert!(absent.contains(" 404 "), "{absent}");
}

/// A large image whose fetch can be stopped in the middle.
fn large(house: &House) -> (SampleImage, Digest, usize) {
    let plan = ImagePlan {
        layer_size: 12_000_000,
        shared: Vec::new(),
        own: 1,
        ..ImagePlan::new("boiler")
    };
    let image = image(&plan.for_platforms(&["linux/amd64"]));
    house.hold(&house.bazaar, "library/boiler", "1", &image);
    let layer = image.blobs.iter().max_by_key(|blob| blob.bytes.len()).unwrap();
    let (digest, length) = (layer.digest.clone(), layer.bytes.len());
    (image, digest, length)
}

#[test]
fn a_part_of_a_missing_blob_can_be_asked_for() {
    let house = House::new();
    let (image, digest, length) = large(&house);
    let serving = serve(&house, "");
    let bytes = &image.blobs.iter().find(|blob| blob.digest == digest).unwrap().bytes;
    straight(&serving).get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT).unwrap();
    let path = format!("/v2/bazaar/library/boiler/blobs/{digest}");
    let half = length / 2;
    let range = format!("bytes={half}-");
    let rest = ask(serving.host(), "GET", &path, &[("range", &range)], b"").unwrap();
    assert_eq!(rest.status, 206);
    assert_eq!(field(&rest, "content-range"), format!("bytes {half}-{}/{length}", length - 1));
    assert!(rest.body == bytes[half..]);
    let asked = requests(&house.bazaar);
    let fetched =
        asked.iter().filter(|(line, _)| line.starts_with("GET") && line.contains("/blobs/"));
    assert_eq!(fetched.count(), 1, "{asked:?}");
    wait_until("it is here", || {
        serving.ask("GET", &path);
        requests(&house.bazaar).is_empty()
    });
    let outside = ask(serving.host(), "GET", &path, &[("range", "bytes=99999999-")], b"").unwrap();
    assert_eq!(outside.status, 416);
}

#[test]
fn a_fetch_that_was_killed_goes_on_where_it_was() {
    let house = House::new();
    let (_, digest, length) = large(&house);
    let serving = serve(&house, "");
    let host = serving.host().to_owned();
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, FaultKind::StallAfter(length - 500_000));
    straight(&serving).get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT).unwrap();
    let path = format!("/v2/bazaar/library/boiler/blobs/{digest}");
    let there = path.clone();
    let waiting = thread::spawn(move || ask(&host, "GET", &there, &[], b""));
    let uploads = house.path("larder-data/uploads");
    let came = || {
        let files = std::fs::read_dir(&uploads).unwrap().flatten();
        files.filter_map(|file| file.metadata().ok()).map(|file| file.len()).max().unwrap_or(0)
    };
    wait_until("most of it came", || came() + 600_000 > length as u64);
    wait_until("the part is noted", || {
        let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
        let noted = "SELECT COUNT(*) FROM uploads WHERE digest IS NOT NULL";
        ledger.query_row(noted, [], |row| row.get::<_, i64>(0)).unwrap() > 0
    });
    serving.stop("KILL");
    assert!(waiting.join().unwrap().is_none(), "a part was answered as whole");
    let serving = Serving::start(&house);
    requests(&house.bazaar);
    let answer = serving.ask("GET", &path);
    assert_eq!((answer.status, Digest::of(&answer.body)), (200, digest));
    assert!(serving.log().contains("going on with a part"), "{}", serving.log());
    wait_until("nothing is left unfinished", || house.unfinished() == 0);
    assert_eq!(serving.stop("TERM"), 0);
    house.larder("store verify").ends(0);
}

#[test]
fn who_leaves_stops_nobody_else() {
    let house = House::new();
    let (_, digest, length) = large(&house);
    let serving = serve(&house, "");
    straight(&serving).get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT).unwrap();
    let path = format!("/v2/bazaar/library/boiler/blobs/{digest}");
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, FaultKind::Late(Duration::from_millis(300)));
    let host = serving.host().to_owned();
    let there = path.clone();
    let stays = thread::spawn(move || ask(&host, "GET", &there, &[], b""));
    // One that hangs up at once.
    let mut leaves = std::net::TcpStream::connect(serving.host()).unwrap();
    std::io::Write::write_all(
        &mut leaves,
        format!("GET {path} HTTP/1.1\r\nhost: localhost\r\n\r\n").as_bytes(),
    )
    .unwrap();
    std::io::Read::read_exact(&mut leaves, &mut [0]).unwrap();
    drop(leaves);
    let answer = stays.join().unwrap().unwrap();
    assert_eq!(Digest::of(&answer.body), digest);
    assert_eq!(answer.body.len(), length);
    // All leave before half is there: what came is kept, and the next goes on after it.
    drop(serving);
    std::fs::remove_dir_all(house.path("larder-data")).unwrap();
    let serving = Serving::start(&house);
    straight(&serving).get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT).unwrap();
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, FaultKind::StallAfter(length / 3));
    let mut leaves = std::net::TcpStream::connect(serving.host()).unwrap();
    std::io::Write::write_all(
        &mut leaves,
        format!("GET {path} HTTP/1.1\r\nhost: localhost\r\n\r\n").as_bytes(),
    )
    .unwrap();
    let mut some = vec![0; length / 6];
    std::io::Read::read_exact(&mut leaves, &mut some).unwrap();
    drop(leaves);
    wait_until("the fetch is given up", || serving.log().contains("what came is kept"));
    let answer = serving.ask("GET", &path);
    assert_eq!(Digest::of(&answer.body), digest);
    assert!(serving.log().contains("going on with a part"), "{}", serving.log());
}

#[test]
fn a_silent_upstream_becomes_a_definite_answer() {
    let house = House::new();
    house.configure(&shelves("recheck = \"0s\"\npatience = \"1s\""));
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replace(
            "host = \"bazaar.example\"\n",
            "host = \"bazaar.example\"\ntimeout = \"1s\"\n",
        ),
    );
    let serving = Serving::start(&house);
    let node = straight(&serving);
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    house.bazaar.faults.add(None, "/v2/", 1000, FaultKind::Late(Duration::from_secs(3600)));
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    let refused = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(refused.contains(" 50"), "{refused}");
    // A body that stalls half-way ends in a broken connection.
    house.bazaar.faults.clear();
    let (_, layer, _) = large(&house);
    wait_until("it recovers", || {
        let head = node.get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT);
        head.is_some_and(|head| head.status == 200)
    });
    house.bazaar.faults.add(Some("GET"), "/blobs/", 100, FaultKind::StallAfter(1000));
    let path = format!("/v2/bazaar/library/boiler/blobs/{layer}");
    assert!(ask(serving.host(), "GET", &path, &[], b"").is_none());
}

#[test]
fn an_upstream_may_send_us_on_but_gets_no_account_along() {
    let house = House::new();
    let serving = serve(&house, "");
    house.hold(&house.bazaar, "gauges/steamgauge", "1.9.2", &image(&small("steamgauge")));
    house.bazaar.take_signed();
    let away = FaultKind::Redirect(house.bazaar.endpoint());
    house.ventworks.faults.add(Some("GET"), "/blobs/", 50, away);
    straight(&serving).pull("gauges/gauges/steamgauge", "1.9.2").unwrap();
    let there = requests(&house.bazaar);
    assert!(there.iter().any(|(line, _)| line.contains("/gauges/steamgauge/blobs/")), "{there:?}");
    assert_eq!(house.bazaar.take_signed(), 0, "the vendor's account went along");
    assert!(house.ventworks.take_signed() > 0);
}

#[test]
fn a_full_disk_passes_through_what_is_not_here_and_serves_what_is() {
    let house = House::new();
    let serving = serve(&house, "");
    let digest = straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(serving.stop("TERM"), 0);
    let text = house.read("larder.toml");
    let reserved = "access = \"open\"\nreserve = \"900 TiB\"";
    house.write("larder.toml", text.replace("access = \"open\"", reserved));
    let serving = Serving::start(&house);
    let node = straight(&serving);
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    let passed = node.pull("bazaar/library/brinedb", "5.2").unwrap();
    assert_eq!(node.pull("bazaar/library/brinedb", "5.2").unwrap(), passed);
    assert_eq!(house.unfinished(), 0);
    house.larder("shelf show bazaar/library/brinedb").ends(1);
    // What the upstream sends wrong is never taken for whole.
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, FaultKind::Altered);
    let broken = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(broken.contains("broken off"), "{broken}");
}
