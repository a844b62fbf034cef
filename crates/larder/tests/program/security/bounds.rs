//! One request holds little, one client holds a share, and what is small to send is small to read.

use std::io::{Read as _, Write as _};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use larder_core::digest::Digest;
use serde_json::json;

use crate::access::{basic, granted};
use crate::house::{House, run};
use crate::node::{field, wait_until};
use crate::serving::{Answer, Serving, ask};

const KIND: &str = "application/vnd.oci.image.manifest.v1+json";

fn resident(serving: &Serving) -> u64 {
    let text = std::fs::read_to_string(format!("/proc/{}/status", serving.child.id())).unwrap();
    let line = text.lines().find(|line| line.starts_with("VmRSS:")).unwrap().to_owned();
    line.split_whitespace().nth(1).unwrap().parse::<u64>().unwrap() / 1024
}

/// Blobs that the server has open.
fn open_blobs(serving: &Serving) -> usize {
    let folder = format!("/proc/{}/fd", serving.child.id());
    let links = std::fs::read_dir(folder).unwrap().flatten();
    links
        .filter(|entry| {
            std::fs::read_link(entry.path())
                .is_ok_and(|to| to.to_string_lossy().contains("/content/"))
        })
        .count()
}

fn post(serving: &Serving, path: &str, kind: &str, body: &[u8]) -> Answer {
    let method = if path.contains("/manifests/") { "PUT" } else { "POST" };
    ask(serving.host(), method, path, &[("content-type", kind)], body).unwrap()
}

#[test]
fn referrers_come_in_pages_of_bounded_bytes() {
    let house = House::new();
    let serving = Serving::start(&house);
    let empty = Digest::of(b"{}");
    post(&serving, &format!("/v2/vendor/x/blobs/uploads/?digest={empty}"), "x/y", b"{}");
    let image = json!({"schemaVersion": 2, "mediaType": KIND, "layers": [], "config": {"mediaType": "a/b", "digest": empty.to_string(), "size": 2}}).to_string();
    assert_eq!(post(&serving, "/v2/vendor/x/manifests/1", KIND, image.as_bytes()).status, 201);
    for number in 0..12 {
        let about = json!({"schemaVersion": 2, "mediaType": KIND, "layers": [], "artifactType": "a/b", "config": {"mediaType": "a/b", "digest": empty.to_string(), "size": 2},
            "subject": {"mediaType": KIND, "digest": Digest::of(image.as_bytes()).to_string(), "size": image.len()}, "annotations": {"n": format!("{number}"), "large": "x".repeat(3_000_000)}})
        .to_string();
        let path = format!("/v2/vendor/x/manifests/{}", Digest::of(about.as_bytes()));
        assert_eq!(post(&serving, &path, KIND, about.as_bytes()).status, 201);
    }
    let (mut path, mut found) =
        (format!("/v2/vendor/x/referrers/{}", Digest::of(image.as_bytes())), 0);
    loop {
        let page = serving.ask("GET", &path);
        assert_eq!(page.status, 200, "{}", page.head);
        assert!(page.body.len() < 7_000_000, "{}", page.body.len());
        let index: serde_json::Value = serde_json::from_slice(&page.body).unwrap();
        found += index["manifests"].as_array().unwrap().len();
        match field(&page, "link").split(['<', '>']).nth(1) {
            Some(next) => next.clone_into(&mut path),
            None => break,
        }
    }
    assert_eq!(found, 12, "nothing is left out");
    // Clients that take nothing hold no more than a share.
    let before = resident(&serving);
    let first = format!("/v2/vendor/x/referrers/{}", Digest::of(image.as_bytes()));
    let slow: Vec<TcpStream> = (0..40)
        .map(|_| {
            let mut stream = TcpStream::connect(serving.host()).unwrap();
            write!(stream, "GET {first} HTTP/1.1\r\nhost: {}\r\n\r\n", serving.host()).unwrap();
            stream
        })
        .collect();
    // Each is answered, or as far as what others hold lets it be.
    for stream in &slow {
        stream.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
        let _ = stream.peek(&mut [0]);
    }
    let held = resident(&serving).saturating_sub(before);
    assert!(held < 250, "{held} MiB");
    drop(slow);
}

#[test]
fn manifests_on_their_way_share_a_budget() {
    let house = House::new();
    let serving = Serving::start(&house);
    let body = vec![b' '; 3_900_000];
    let mut refused = 0;
    let slow: Vec<TcpStream> = (0..60)
        .map(|_| {
            let mut stream = TcpStream::connect(serving.host()).unwrap();
            stream.set_write_timeout(Some(Duration::from_secs(5))).unwrap();
            write!(stream, "PUT /v2/vendor/x/manifests/1 HTTP/1.1\r\nhost: {}\r\ncontent-length: 4000000\r\n\r\n", serving.host()).unwrap();
            let _ = stream.write_all(&body);
            stream
        })
        .collect();
    for mut stream in slow {
        stream.set_read_timeout(Some(Duration::from_millis(50))).unwrap();
        let mut start = [0; 12];
        if stream.read_exact(&mut start).is_ok() {
            refused += usize::from(&start[9..] == b"429");
        }
    }
    assert!(refused >= 40, "{refused}");
    assert!(resident(&serving) < 300, "{}", resident(&serving));
}

/// The frames with which a client of HTTP/2 begins, with an initial window that lets nothing through.
fn begin_second(stream: &mut TcpStream) {
    stream.write_all(b"PRI * HTTP/2.0\r\n\r\nSM\r\n\r\n").unwrap();
    // SETTINGS_INITIAL_WINDOW_SIZE (4) = 0 (RFC 9113, section 6.5.2).
    stream.write_all(&[0, 0, 6, 4, 0, 0, 0, 0, 0, 0, 4, 0, 0, 0, 0]).unwrap();
}

fn get_second(stream: &mut TcpStream, number: u8, host: &str, path: &str) {
    let mut block = vec![0x82, 0x86, 0x04, u8::try_from(path.len()).unwrap()];
    block.extend_from_slice(path.as_bytes());
    block.extend_from_slice(&[0x01, u8::try_from(host.len()).unwrap()]);
    block.extend_from_slice(host.as_bytes());
    let mut frame = vec![0, 0, u8::try_from(block.len()).unwrap(), 1, 5, 0, 0, 0, number];
    frame.extend(block);
    stream.write_all(&frame).unwrap();
}

/// Answers pings and settings until the other side closes. False: it did not within so long.
fn is_closed_within(mut stream: TcpStream, most: Duration) -> bool {
    let began = Instant::now();
    stream.set_read_timeout(Some(Duration::from_millis(200))).unwrap();
    let mut head = [0; 9];
    while began.elapsed() < most {
        match stream.read(&mut head[..1]) {
            Ok(0) => return true,
            Ok(_) => {
                if stream.read_exact(&mut head[1..]).is_err() {
                    return true;
                }
                let mut payload = vec![0; usize::from(head[1]) << 8 | usize::from(head[2])];
                if stream.read_exact(&mut payload).is_err() {
                    return true;
                }
                if head[3] == 6 && head[4] & 1 == 0 {
                    let _ =
                        stream.write_all(&[&[0, 0, 8, 6, 1, 0, 0, 0, 0][..], &payload].concat());
                }
            }
            Err(error) if error.kind() == std::io::ErrorKind::ConnectionReset => return true,
            Err(_) => {}
        }
    }
    false
}

#[test]
fn connections_of_http_2_are_bounded_like_others() {
    let house = House::new();
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replacen(
            "[larder]\n",
            "[larder]\nlimits = { stall = \"1s\", header_time = \"1s\" }\n",
            1,
        ),
    );
    let serving = Serving::start(&house);
    let blob = vec![7; 2_000_000];
    let digest = Digest::of(&blob);
    post(&serving, &format!("/v2/vendor/x/blobs/uploads/?digest={digest}"), "x/y", &blob);
    // One that never asks, and one that asks and takes nothing.
    let mut idle = TcpStream::connect(serving.host()).unwrap();
    begin_second(&mut idle);
    let mut stuck = TcpStream::connect(serving.host()).unwrap();
    begin_second(&mut stuck);
    let path = format!("/v2/vendor/x/blobs/{digest}");
    for number in 0..30 {
        get_second(&mut stuck, 2 * number + 1, serving.host(), &path);
    }
    let idle = std::thread::spawn(|| is_closed_within(idle, Duration::from_secs(20)));
    let stuck = std::thread::spawn(|| is_closed_within(stuck, Duration::from_secs(20)));
    assert!(idle.join().unwrap(), "an idle connection stays open");
    assert!(stuck.join().unwrap(), "a connection that takes nothing stays open");
    wait_until("no file is held", || open_blobs(&serving) == 0);
}

#[test]
fn an_upload_is_its_repositorys_and_its_accounts() {
    let house =
        granted("\n[[account]]\nname = \"other\"\npull = [\"apps/**\"]\npush = [\"apps/**\"]\n");
    let serving = Serving::start(&house);
    let login = |name: &str| basic(name, &house.issue(&format!("--account {name}")));
    let (ci, other) = (login("ci"), login("other"));
    let send = |method: &str, path: &str, login: &str, body: &[u8]| {
        ask(serving.host(), method, path, &[("authorization", login)], body).unwrap()
    };
    let begun = send("POST", "/v2/apps/plans/blobs/uploads/", &ci, b"");
    let location = field(&begun, "location");
    let elsewhere = location.replace("apps/plans", "apps/board");
    let digest = Digest::of(b"plans");
    assert_eq!(send("PATCH", &location, &ci, b"plans").status, 202);
    for (path, who) in [(&location, &other), (&elsewhere, &ci), (&elsewhere, &other)] {
        for (method, query) in [("GET", ""), ("PATCH", ""), ("PUT", "?digest="), ("DELETE", "")] {
            let path =
                if query.is_empty() { path.clone() } else { format!("{path}{query}{digest}") };
            assert_eq!(send(method, &path, who, b"").status, 404, "{method} {path}");
        }
    }
    assert_eq!(send("PUT", &format!("{location}?digest={digest}"), &ci, b"").status, 201);
    assert_eq!(send("GET", &location, &ci, b"").status, 404);
    // Opened without end, they are refused, and others' go on.
    let mut last = 202;
    for _ in 0..1_100 {
        last = send("POST", "/v2/apps/plans/blobs/uploads/", &ci, b"").status;
        if last != 202 {
            break;
        }
    }
    assert_eq!(last, 429);
    assert_eq!(send("POST", "/v2/apps/plans/blobs/uploads/", &other, b"").status, 202);
}

#[test]
fn small_hostile_files_end_no_run() {
    let house = House::new();
    house.bring_in();
    let mut bomb = "ARG A0=aaaaaaaaaa\n".to_owned();
    for number in 1..41 {
        bomb.push_str(&format!("ARG A{number}=${{A{}}}${{A{}}}\n", number - 1, number - 1));
    }
    house.write("tree/Dockerfile", bomb + "FROM ${A40}\n");
    house.write("tree/good.yaml", "apiVersion: v1\nkind: Pod\nmetadata: {name: x}\nspec: {containers: [{image: bazaar.example/library/kettle:2}]}\n");
    let pods = "apiVersion: v1\nkind: Pod\nmetadata: {name: x}\nspec: {containers: [{image: bazaar.example/library/kettle:2}]}\n---\n";
    house.write("tree/many.yaml", pods.repeat(6_000));
    let line = "  image: bazaar.example/library/kettle:2\n";
    house.write(
        "tree/map.yaml",
        format!(
            "apiVersion: v1\nkind: ConfigMap\nmetadata: {{name: x}}\ndata:\n  a: |\n{}",
            format!("  {line}").repeat(15_000)
        ),
    );
    let pipe = |name: &str| {
        let made = std::process::Command::new("mkfifo").arg(house.path(name)).status().unwrap();
        assert!(made.success());
    };
    for name in ["tree/pipe.yaml", "tree/Chart.yaml", "tree/good.yaml.partial"] {
        pipe(name);
    }
    for command in ["survey tree", "rewrite tree", "policy check tree", "rewrite --check tree"] {
        let mut command = house.command(command);
        command.env("LARDER_LOG", "warn");
        let done = run(&mut command);
        assert!((0..=2).contains(&done.exit), "{}", done.err);
        assert!(format!("{}{}", done.out, done.err).contains("kettle"), "{}", done.exit);
    }
    // What lies beside a file is in nobody's way.
    house.larder("rewrite --write tree/good.yaml").ends(0).says(&["1 reference changed"]);
    assert!(house.path("tree/good.yaml.partial").exists());
    pipe("pipe.tar");
    house.larder("look ./pipe.tar").ends(2).says(&["no regular file"]);
    house.larder("copy kettle:2 ./pipe.tar").says(&["is taken by a file"]);
    // What leaves files out is told.
    house.write("left/.ignore", "secret.yaml\n");
    house.write("left/secret.yaml", pods);
    house.larder("survey left").says(&["left/.ignore leaves files out"]);
}

#[test]
fn indexes_that_name_each_other_without_end_are_read_once() {
    let house = House::new();
    house.bring_in();
    house.larder("copy bazaar.example/library/kettle:2 ./lay/kettle").ends(0);
    let read: serde_json::Value =
        serde_json::from_str(&house.read("lay/kettle/index.json")).unwrap();
    let mut child = read["manifests"][0].clone();
    child["platform"] = json!({"os": "linux", "architecture": "amd64"});
    for _ in 0..3 {
        let kind = "application/vnd.oci.image.index.v1+json";
        let index = json!({"schemaVersion": 2, "mediaType": kind, "manifests": vec![child.clone(); 10_000]}).to_string();
        let digest = Digest::of(index.as_bytes());
        house.write(&format!("lay/kettle/blobs/sha256/{}", digest.hex()), &index);
        child = json!({"mediaType": kind, "digest": digest.to_string(), "size": index.len()});
    }
    let mut top = read.clone();
    child["annotations"] = json!({"org.opencontainers.image.ref.name": "2"});
    top["manifests"] = json!([child]);
    house.write("lay/kettle/index.json", top.to_string());
    house.larder("look ./lay/kettle").ends(0).says(&["linux/amd64"]);
    house.larder("copy ./lay/kettle ./lay/again").ends(0);
    house.larder(&format!("copy ./lay/kettle {}/vendor/odd:1", crate::house::OWN)).ends(0);
}
