//! Cached shelves: pulls as a node's runtime makes them, and upstreams that fail.

use std::thread;
use std::time::{Duration, Instant};

use larder_core::digest::Digest;
use larder_standin::{Image, ImagePlan, What, image};
use serde_json::Value;

use crate::house::{House, small};
use crate::serving::{Answer, Serving, ask};

/// What a node's runtime accepts of a manifest.
const ACCEPT: &str = "application/vnd.docker.distribution.manifest.v2+json, \
    application/vnd.docker.distribution.manifest.list.v2+json, \
    application/vnd.oci.image.manifest.v1+json, application/vnd.oci.image.index.v1+json, */*";

/// A shelf over each upstream; `more` goes to the first.
pub fn shelves(more: &str) -> String {
    format!(
        "[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\nonly = [\"library/**\"]\n{more}\n\n\
         [[shelf]]\nname = \"gauges\"\ncaches = \"ventworks\"\n\n[[shelf]]\nname = \"vendor\"\n\n\
         [[cluster]]\nname = \"control-room\"\nplatforms = [\"linux/amd64\"]\n"
    )
}

pub fn serve(house: &House, more: &str) -> Serving {
    house.configure(&shelves(more));
    Serving::start(house)
}

/// How a node reaches the larder: a path in front of `/v2/`, and what follows each path.
#[derive(Clone, Copy)]
pub struct Way<'w> {
    pub host: &'w str,
    pub prefix: &'w str,
    pub query: &'w str,
}

pub fn straight(serving: &Serving) -> Way<'_> {
    Way { host: serving.host(), prefix: "", query: "" }
}

impl Way<'_> {
    fn get(self, method: &str, path: &str, accept: &str) -> Option<Answer> {
        let path = format!("{}/v2/{path}{}", self.prefix, self.query);
        let agent = ("user-agent", "containerd/1.6.20~ds1");
        let headers: &[(&str, &str)] = match method {
            "HEAD" => &[("accept", accept), agent],
            _ => &[("accept", accept), agent, ("accept-encoding", "gzip")],
        };
        ask(self.host, method, &path, headers, b"")
    }

    /// Pulls as a runtime does: HEAD by tag, then everything by digest, each verified. What went
    /// wrong is told in a few words.
    pub fn pull(self, repository: &str, tag: &str) -> Result<Digest, String> {
        let head = self.get("HEAD", &format!("{repository}/manifests/{tag}"), ACCEPT);
        let head = head.ok_or("no answer to HEAD")?;
        if head.status != 200 {
            return Err(head.head.lines().next().unwrap_or_default().to_owned());
        }
        let digest: Digest = field(&head, "docker-content-digest").parse().unwrap();
        let kind = field(&head, "content-type");
        let body = self.content(&format!("{repository}/manifests/{digest}"), &digest, &kind)?;
        assert_eq!(field(&head, "content-length"), body.len().to_string());
        let mut document: Value = serde_json::from_slice(&body).unwrap();
        if let Some(children) = document["manifests"].as_array() {
            let mine = |child: &&Value| child["platform"]["architecture"] == "amd64";
            let child = children.iter().find(mine).ok_or("no match for platform")?.clone();
            let (name, kind) = (&child["digest"], child["mediaType"].as_str().unwrap());
            let name: Digest = name.as_str().unwrap().parse().unwrap();
            let body = self.content(&format!("{repository}/manifests/{name}"), &name, kind)?;
            document = serde_json::from_slice(&body).unwrap();
        }
        let layers = document["layers"].as_array().unwrap().clone();
        for blob in std::iter::once(&document["config"]).chain(&layers) {
            let name: Digest = blob["digest"].as_str().unwrap().parse().unwrap();
            let kind = blob["mediaType"].as_str().unwrap();
            self.content(&format!("{repository}/blobs/{name}"), &name, kind)?;
        }
        Ok(digest)
    }

    /// Asks what a tag points to, and nothing else.
    pub fn get_tag(self, repository: &str, tag: &str) {
        self.get("HEAD", &format!("{repository}/manifests/{tag}"), ACCEPT).unwrap();
    }

    fn content(self, path: &str, digest: &Digest, kind: &str) -> Result<Vec<u8>, String> {
        let answer = self.get("GET", path, &format!("{kind}, */*"));
        let answer = answer.ok_or_else(|| format!("{path}: broken off"))?;
        if answer.status != 200 {
            return Err(format!("{path}: {} {}", answer.status, answer.text()));
        }
        assert_eq!(Digest::of(&answer.body), *digest, "wrong content was answered as whole");
        Ok(answer.body)
    }
}

fn field(answer: &Answer, name: &str) -> String {
    let start = format!("{name}: ");
    let line = answer.head.lines().find(|line| line.to_ascii_lowercase().starts_with(&start));
    line.map(|line| line[start.len()..].to_owned()).unwrap_or_default()
}

/// The requests that an upstream was sent, without those for tokens.
pub fn requests(upstream: &larder_standin::Upstream) -> Vec<(String, usize)> {
    let all = upstream.take_requests().into_iter();
    all.filter(|(line, _)| !line.contains("token")).collect()
}

fn replace(house: &House, name: &str, tag: &str) -> Image {
    let image = image(&small(&format!("{name} anew")));
    house.hold(&house.bazaar, &format!("library/{name}"), tag, &image);
    image
}

/// Asks again until it is so.
pub fn wait_until(what: &str, mut is_so: impl FnMut() -> bool) {
    let begun = Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        thread::sleep(Duration::from_millis(50));
    }
}

#[test]
fn what_was_pulled_once_asks_the_upstream_no_more() {
    let house = House::new();
    let serving = serve(&house, "");
    let node = straight(&serving);
    let first = node.pull("bazaar/library/kettle", "2").unwrap();
    let asked = requests(&house.bazaar);
    assert!(asked.iter().all(|(_, times)| *times == 1), "{asked:?}");
    assert_eq!(
        asked.len(),
        2 + 4,
        "an index, a manifest, a configuration, three layers: {asked:?}"
    );
    assert!(asked.iter().any(|(line, _)| line == "GET /v2/library/kettle/manifests/2"));
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), first);
    assert_eq!(requests(&house.bazaar), []);
    // The upstream's account is used, and only there; both families of media types pass.
    node.pull("gauges/gauges/steamgauge", "1.9.2").unwrap();
    node.pull("bazaar/library/ashlog", "1.4").unwrap();
    // What was cached survives a restart, and the upstream's end.
    assert_eq!(serving.stop("TERM"), 0);
    let serving = Serving::start(&house);
    house.bazaar.take_requests();
    assert_eq!(straight(&serving).pull("bazaar/library/kettle", "2").unwrap(), first);
    assert_eq!(requests(&house.bazaar), []);
}

#[test]
fn nodes_ask_for_the_upstreams_name_and_are_known_by_path_or_header() {
    let house = House::new();
    let text = shelves("");
    house.configure(&text);
    let config = house
        .read("larder.toml")
        .replace("access = \"open\"", "access = \"open\"\nstrangers = \"refuse\"");
    house.write("larder.toml", config);
    let serving = Serving::start(&house);
    let host = serving.host();
    let known = Way { host, prefix: "/c/control-room", query: "?ns=bazaar.example" };
    let digest = known.pull("library/kettle", "2").unwrap();
    let direct = straight(&serving).pull("bazaar/library/kettle", "2");
    assert_eq!(direct, Ok(digest.clone()), "who names the shelf is no such node");
    let by_header = ask(
        host,
        "HEAD",
        "/v2/library/kettle/manifests/2?ns=bazaar.example",
        &[("larder-cluster", "control-room")],
        b"",
    );
    assert_eq!(field(&by_header.unwrap(), "docker-content-digest"), digest.to_string());
    // A stranger, a cluster that does not exist, and an upstream that is not cached: 403, never 401.
    for (way, words) in [
        (Way { host, prefix: "", query: "?ns=bazaar.example" }, "serves the nodes of its clusters"),
        (Way { host, prefix: "/c/turbine-hall", query: "?ns=bazaar.example" }, "knows no cluster"),
        (
            Way { host, prefix: "/c/control-room", query: "?ns=elsewhere.example%3A5000" },
            "no shelf of this larder caches elsewhere.example:5000; it caches: bazaar.example",
        ),
    ] {
        let refused = way.pull("library/kettle", "2").unwrap_err();
        assert!(refused.starts_with("HTTP/1.1 403 Forbidden: "), "{refused}");
        assert!(refused.contains(words), "{refused}");
    }
    let log = serving.log();
    assert!(log.contains("cluster=\"control-room\""), "{log}");
}

#[test]
fn what_lies_outside_of_a_shelf_is_refused_with_its_patterns() {
    let house = House::new();
    house.hold(&house.bazaar, "community/pipewatch", "1", &image(&small("pipewatch")));
    let serving = serve(&house, "skip = [\"library/brinedb\"]");
    let node = straight(&serving);
    let refused = node.pull("bazaar/community/pipewatch", "1").unwrap_err();
    assert!(refused.contains("403") && refused.contains("reaches only library/**"), "{refused}");
    let refused = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(refused.contains("leaves out library/brinedb"), "{refused}");
    let tags = serving.ask("GET", "/v2/bazaar/community/pipewatch/tags/list");
    assert_eq!(tags.status, 403, "{}", tags.text());
    assert_eq!(requests(&house.bazaar), [], "nobody was asked");
    // Clients change nothing on it.
    for (method, path) in [
        ("POST", "/v2/bazaar/library/kettle/blobs/uploads/"),
        ("PUT", "/v2/bazaar/library/kettle/manifests/2"),
        ("DELETE", "/v2/bazaar/library/kettle/manifests/2"),
    ] {
        let refused = serving.ask(method, path);
        assert_eq!(refused.status, 403, "{method} {path}: {}", refused.text());
        let text = refused.text();
        assert!(text.contains("the shelf bazaar caches bazaar.example"), "{text}");
    }
    let text = serving.ask("PUT", "/v2/bazaar/library/kettle/manifests/2").text();
    assert!(text.contains("push to one of: vendor"), "{text}");
}

#[test]
fn a_crowd_that_wants_the_same_is_fed_by_one_fetch() {
    let house = House::new();
    let plan =
        ImagePlan { layer_size: 3_000_000, shared: Vec::new(), own: 5, ..ImagePlan::new("crowd") };
    house.hold(&house.bazaar, "library/crowd", "1", &image(&plan));
    let serving = serve(&house, "");
    let host = serving.host().to_owned();
    let crowd: Vec<_> = (0..100)
        .map(|_| {
            let host = host.clone();
            thread::spawn(move || {
                Way { host: &host, prefix: "", query: "" }.pull("bazaar/library/crowd", "1")
            })
        })
        .collect();
    let digests: Vec<_> = crowd.into_iter().map(|one| one.join().unwrap().unwrap()).collect();
    assert!(digests.iter().all(|digest| *digest == digests[0]));
    let asked = requests(&house.bazaar);
    assert!(asked.iter().all(|(_, times)| *times == 1), "{asked:?}");
    assert_eq!(asked.iter().filter(|(line, _)| line.contains("/blobs/")).count(), 6, "{asked:?}");
}

#[test]
fn a_tag_is_compared_when_its_time_has_come() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"");
    let node = straight(&serving);
    let before = node.pull("bazaar/library/kettle", "2").unwrap();
    requests(&house.bazaar);
    node.pull("bazaar/library/kettle", "2").unwrap();
    let asked = requests(&house.bazaar);
    let head = ("HEAD /v2/library/kettle/manifests/2".to_owned(), 1);
    assert_eq!(asked, std::slice::from_ref(&head), "one HEAD and nothing else");
    let moved = replace(&house, "kettle", "2");
    // Between HEAD and GET the tag moves: what HEAD told is still there.
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), *moved.digest());
    let old =
        node.get("GET", &format!("bazaar/library/kettle/manifests/{before}"), ACCEPT).unwrap();
    assert_eq!(Digest::of(&old.body), before);
    assert!(serving.log().contains("a tag moved"));
    // What the upstream has no more is gone here, but for its content.
    house.bazaar.faults.add(None, "/library/kettle/", 9, What::Status(404, None));
    let gone = node.pull("bazaar/library/kettle", "2").unwrap_err();
    assert!(gone.contains("404"), "{gone}");
    requests(&house.bazaar);
    node.pull("bazaar/library/kettle", "2").unwrap_err();
    assert_eq!(requests(&house.bazaar), [], "that is remembered for a while");
    assert_eq!(old.status, 200);
}

#[test]
fn what_is_here_is_served_while_the_upstream_is_down() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"\npatience = \"1s\"");
    let node = straight(&serving);
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    house.bazaar.faults.add(None, "/v2/", 10_000, What::Status(503, None));
    for _ in 0..3 {
        assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    }
    let head = node.get("HEAD", "bazaar/library/kettle/manifests/2", ACCEPT).unwrap();
    assert!(field(&head, "warning").starts_with("110 larder \"an older answer"), "{}", head.head);
    assert!(serving.log().contains("an older answer is served"));
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
    house.bazaar.faults.add(None, "/v2/", 10_000, What::Status(503, None));
    let refused = straight(&serving).pull("bazaar/library/kettle", "2").unwrap_err();
    assert!(refused.contains(" 50"), "{refused}");
}

#[test]
fn a_rate_limit_is_waited_for_and_never_passed_on() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"\npatience = \"1s\"");
    let node = straight(&serving);
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    house.bazaar.faults.add(None, "/v2/", 10_000, What::Status(429, Some(3600)));
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    requests(&house.bazaar);
    let refused = node.get("HEAD", "bazaar/library/brinedb/manifests/5.2", ACCEPT).unwrap();
    assert_eq!(refused.status, 503, "{}", refused.head);
    assert!(refused.head.contains("limits"), "{}", refused.head);
    let seconds: u64 = field(&refused, "retry-after").parse().unwrap();
    assert!((3000..=3601).contains(&seconds), "{seconds}");
    assert_eq!(requests(&house.bazaar), [], "it is left alone until then");
    // A short one is waited for.
    drop(serving);
    house.bazaar.faults.clear();
    let serving = serve(&house, "recheck = \"0s\"");
    house.bazaar.faults.add(None, "/library/brinedb/", 1, What::Status(429, Some(1)));
    straight(&serving).pull("bazaar/library/brinedb", "5.2").unwrap();
}

#[test]
fn wrong_content_breaks_off_and_a_right_answer_heals_it() {
    let house = House::new();
    let kettle = image(&small("kettle"));
    let layer = &kettle.blobs.iter().max_by_key(|blob| blob.bytes.len()).unwrap().digest;
    for what in [What::Altered, What::Longer(5), What::CutAfter(1000), What::Page] {
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
    house.bazaar.faults.add(Some("GET"), "/manifests/2", 9, What::Altered);
    let refused = straight(&serving).pull("bazaar/library/kettle", "2").unwrap_err();
    assert!(refused.contains(" 502 "), "{refused}");
    house.bazaar.faults.clear();
    wait_until("it heals", || straight(&serving).pull("bazaar/library/kettle", "2").is_ok());
    let _ = layer;
}

#[test]
fn upstreams_that_leave_things_out_are_understood() {
    let house = House::new();
    let serving = serve(&house, "recheck = \"0s\"");
    let node = straight(&serving);
    house.bazaar.faults.add(Some("GET"), "/blobs/", 20, What::Without("content-length"));
    house.bazaar.faults.add(None, "/manifests/", 20, What::Without("docker-content-digest"));
    let digest = node.pull("bazaar/library/kettle", "2").unwrap();
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    house.bazaar.faults.clear();
    // A blob that no manifest here names: its length is the upstream's word, or nobody's.
    let brinedb = image(&small("brinedb"));
    for (blob, says) in brinedb.blobs.iter().zip([true, false]) {
        if !says {
            house.bazaar.faults.add(Some("GET"), "/blobs/", 1, What::Without("content-length"));
        }
        let path = format!("bazaar/library/brinedb/blobs/{}", blob.digest);
        let answer = node.get("GET", &path, "*/*").unwrap();
        assert_eq!((answer.status, &answer.body[..]), (200, &blob.bytes[..]));
        assert_eq!(field(&answer, "content-length").is_empty(), !says, "{}", answer.head);
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
fn large(house: &House) -> (Image, Digest, usize) {
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
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, What::StallAfter(length - 500_000));
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
    // The part is noted beside the stream.
    thread::sleep(Duration::from_millis(200));
    serving.stop("KILL");
    assert!(waiting.join().unwrap().is_none(), "a part was answered as whole");
    let serving = Serving::start(&house);
    requests(&house.bazaar);
    let answer = serving.ask("GET", &path);
    assert_eq!((answer.status, Digest::of(&answer.body)), (200, digest));
    assert!(serving.log().contains("going on with a part"), "{}", serving.log());
    wait_until("nothing is left unfinished", || house.unfinished() == 0);
    drop(serving);
    house.larder("store verify").ends(0);
}

#[test]
fn who_leaves_stops_nobody_else() {
    let house = House::new();
    let (_, digest, length) = large(&house);
    let serving = serve(&house, "");
    straight(&serving).get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT).unwrap();
    let path = format!("/v2/bazaar/library/boiler/blobs/{digest}");
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, What::Late(Duration::from_millis(300)));
    let host = serving.host().to_owned();
    let there = path.clone();
    let stays = thread::spawn(move || ask(&host, "GET", &there, &[], b""));
    // One that hangs up at once.
    let mut leaves = std::net::TcpStream::connect(serving.host()).unwrap();
    std::io::Write::write_all(
        &mut leaves,
        format!("GET {path} HTTP/1.1\r\nhost: x\r\n\r\n").as_bytes(),
    )
    .unwrap();
    thread::sleep(Duration::from_millis(100));
    drop(leaves);
    let answer = stays.join().unwrap().unwrap();
    assert_eq!(Digest::of(&answer.body), digest);
    assert_eq!(answer.body.len(), length);
    // All leave before half is there: what came is kept, and the next goes on after it.
    drop(serving);
    std::fs::remove_dir_all(house.path("larder-data")).unwrap();
    let serving = Serving::start(&house);
    straight(&serving).get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT).unwrap();
    house.bazaar.faults.add(Some("GET"), "/blobs/", 1, What::StallAfter(length / 3));
    let mut leaves = std::net::TcpStream::connect(serving.host()).unwrap();
    std::io::Write::write_all(
        &mut leaves,
        format!("GET {path} HTTP/1.1\r\nhost: x\r\n\r\n").as_bytes(),
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
    house.bazaar.faults.add(None, "/v2/", 1000, What::Late(Duration::from_secs(3600)));
    let begun = Instant::now();
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    assert!(begun.elapsed() < Duration::from_secs(10), "{:?}", begun.elapsed());
    let refused = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(refused.contains(" 50"), "{refused}");
    // A body that stalls half-way ends in a broken connection.
    house.bazaar.faults.clear();
    let (_, layer, _) = large(&house);
    wait_until("it recovers", || {
        let head = node.get("HEAD", "bazaar/library/boiler/manifests/1", ACCEPT);
        head.is_some_and(|head| head.status == 200)
    });
    house.bazaar.faults.add(Some("GET"), "/blobs/", 100, What::StallAfter(1000));
    let path = format!("/v2/bazaar/library/boiler/blobs/{layer}");
    assert!(ask(serving.host(), "GET", &path, &[], b"").is_none());
}

#[test]
fn the_other_platforms_are_fetched_ahead_with_what_belongs_to_them() {
    let house = House::new();
    let kettle = image(&small("kettle"));
    let digest = kettle.digest().clone();
    let name = "library/kettle".parse().unwrap();
    let kind = "application/vnd.example.signature.v1";
    let held = house.bazaar.hold_companion(&name, &digest, None, kind);
    house.runtime.block_on(held).unwrap();
    let serving = serve(
        &house,
        "platforms = [\"linux/amd64\", \"linux/arm64\"]\ncompanions = true\nrecheck = \"0s\"",
    );
    let node = straight(&serving);
    node.get("HEAD", "bazaar/library/kettle/manifests/2", ACCEPT).unwrap();
    let asked = std::cell::RefCell::new(Vec::new());
    wait_until("all of it came", || {
        asked.borrow_mut().extend(requests(&house.bazaar));
        let blobs = asked.borrow().iter().filter(|(line, _)| line.contains("/blobs/")).count();
        blobs >= kettle.blobs.len()
    });
    wait_until("it is settled", || house.unfinished() == 0);
    thread::sleep(Duration::from_millis(300));
    // The upstream goes down: everything is there, what refers to it as well.
    house.bazaar.faults.add(None, "/v2/", 10_000, What::Status(503, None));
    for (document, _) in &kettle.documents {
        let path = format!("bazaar/library/kettle/manifests/{document}");
        assert_eq!(node.get("GET", &path, ACCEPT).unwrap().status, 200);
    }
    for blob in &kettle.blobs {
        let path = format!("bazaar/library/kettle/blobs/{}", blob.digest);
        assert_eq!(node.get("GET", &path, "*/*").unwrap().status, 200);
    }
    let about = serving.ask("GET", &format!("/v2/bazaar/library/kettle/referrers/{digest}"));
    assert!(about.text().contains("vnd.example.signature"), "{}", about.text());
}

#[test]
fn lists_come_from_the_upstream() {
    let house = House::new();
    for tag in ["1", "3", "4"] {
        house.hold(&house.bazaar, "library/kettle", tag, &image(&small("kettle")));
    }
    let serving = serve(&house, "");
    let page = serving.ask("GET", "/v2/bazaar/library/kettle/tags/list?n=2&last=1");
    assert_eq!(page.text(), r#"{"name":"bazaar/library/kettle","tags":["2","3"]}"#);
    assert!(page.head.contains("last=3"), "{}", page.head);
    let last = serving.ask("GET", "/v2/bazaar/library/kettle/tags/list?last=3");
    assert_eq!(last.text(), r#"{"name":"bazaar/library/kettle","tags":["4"]}"#);
    assert_eq!(requests(&house.bazaar).len(), 1, "the list is remembered");
    assert_eq!(serving.ask("GET", "/v2/bazaar/library/nothing/tags/list").status, 404);
}

#[test]
fn short_names_are_those_of_the_upstream_that_they_mean() {
    let house = House::new();
    let serving = serve(&house, "");
    let node = straight(&serving);
    let digest = node.pull("bazaar/kettle", "2").unwrap();
    requests(&house.bazaar);
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    let named = Way { query: "?ns=bazaar.example", ..node };
    assert_eq!(named.pull("kettle", "2").unwrap(), digest);
    assert_eq!(requests(&house.bazaar), [], "it is the same image");
    let tags = serving.ask("GET", "/v2/bazaar/kettle/tags/list");
    assert_eq!(tags.text(), r#"{"name":"bazaar/library/kettle","tags":["2"]}"#);
    assert_eq!(serving.ask("GET", "/v2/gauges/kettle/tags/list").status, 404, "not by that one");
}

#[test]
fn an_upstream_may_send_us_on_but_gets_no_account_along() {
    let house = House::new();
    let serving = serve(&house, "");
    house.hold(&house.bazaar, "gauges/steamgauge", "1.9.2", &image(&small("steamgauge")));
    house.bazaar.take_signed();
    let away = What::Redirect(house.bazaar.endpoint());
    house.ventworks.faults.add(Some("GET"), "/blobs/", 50, away);
    straight(&serving).pull("gauges/gauges/steamgauge", "1.9.2").unwrap();
    let there = requests(&house.bazaar);
    assert!(there.iter().any(|(line, _)| line.contains("/gauges/steamgauge/blobs/")), "{there:?}");
    assert_eq!(house.bazaar.take_signed(), 0, "the vendor's account went along");
    assert!(house.ventworks.take_signed() > 0);
}

#[test]
fn a_full_disk_refuses_what_is_not_here_and_serves_what_is() {
    let house = House::new();
    let serving = serve(&house, "");
    let digest = straight(&serving).pull("bazaar/library/kettle", "2").unwrap();
    drop(serving);
    let text = house.read("larder.toml");
    let reserved = "access = \"open\"\nreserve = \"900 TiB\"";
    house.write("larder.toml", text.replace("access = \"open\"", reserved));
    let serving = Serving::start(&house);
    let node = straight(&serving);
    assert_eq!(node.pull("bazaar/library/kettle", "2").unwrap(), digest);
    let refused = node.pull("bazaar/library/brinedb", "5.2").unwrap_err();
    assert!(refused.contains("503") && refused.contains("disk is full"), "{refused}");
    assert_eq!(house.unfinished(), 0);
}
