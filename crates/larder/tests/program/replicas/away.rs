//! A database that is away: what is known is given to whom it was known, for as long as is written; everything else says
//! so at once; afterwards nothing has to be mended.

use std::io::{Read as _, Write as _};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicU8, Ordering};
use std::time::{Duration, Instant};

use larder_core::digest::Digest;

use super::{Replicas, soon};
use crate::access::basic;
use crate::house::OWN;
use crate::serving::{Answer, Serving, ask};

const OPEN: u8 = 0;
/// Nobody is let in, and who is in is put out.
const SHUT: u8 = 1;
/// Nothing passes, and nobody is told so.
const FROZEN: u8 = 2;

/// Stands before the database.
struct Gate {
    address: String,
    state: Arc<AtomicU8>,
}

impl Gate {
    fn before(server: &str) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = listener.local_addr().unwrap().to_string();
        let state = Arc::new(AtomicU8::new(OPEN));
        let (shared, server) = (Arc::clone(&state), server.to_owned());
        std::thread::spawn(move || {
            for client in listener.incoming().flatten() {
                if shared.load(Ordering::SeqCst) == SHUT {
                    continue;
                }
                let server = TcpStream::connect(&server).unwrap();
                for (from, to) in [(&client, &server), (&server, &client)] {
                    let (from, to) = (from.try_clone().unwrap(), to.try_clone().unwrap());
                    let state = Arc::clone(&shared);
                    std::thread::spawn(move || pass(from, to, &state));
                }
            }
        });
        Self { address, state }
    }

    fn set(&self, state: u8) {
        self.state.store(state, Ordering::SeqCst);
    }
}

fn pass(mut from: TcpStream, mut to: TcpStream, state: &AtomicU8) {
    from.set_read_timeout(Some(Duration::from_millis(20))).unwrap();
    let mut piece = vec![0; 65536];
    loop {
        let got = from.read(&mut piece);
        while state.load(Ordering::SeqCst) == FROZEN {
            std::thread::sleep(Duration::from_millis(20));
        }
        let ends = match got {
            _ if state.load(Ordering::SeqCst) == SHUT => true,
            Ok(0) => true,
            Ok(got) => to.write_all(&piece[..got]).is_err(),
            Err(error) => !matches!(
                error.kind(),
                std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut
            ),
        };
        if ends {
            let _ = from.shutdown(Shutdown::Both);
            let _ = to.shutdown(Shutdown::Both);
            return;
        }
    }
}

/// An answer, and how long it took.
fn timed(serving: &Serving, method: &str, path: &str, login: &str) -> (Answer, Duration) {
    let began = Instant::now();
    let answer = ask(serving.host(), method, path, &[("authorization", login)], b"").unwrap();
    (answer, began.elapsed())
}

#[test]
fn a_database_that_is_away_stops_nothing_that_is_known() {
    let account = "[[account]]\nname = \"ci\"\npull = [\"vendor/**\"]\npush = [\"vendor/**\"]\n";
    for state in [SHUT, FROZEN] {
        let Some(replicas) = Replicas::new(account) else { return };
        let house = &replicas.house;
        let server = std::env::var("LARDER_TEST_POSTGRES").unwrap();
        let at = server.split('@').nth(1).unwrap().split('/').next().unwrap();
        let gate = Gate::before(at);
        for one in ["a", "b"] {
            let path = format!("{one}/larder.toml");
            let text = house.read(&path).replace("access = \"open\"", "access = \"grants\"");
            let text = match one {
                "a" => text
                    .replace(at, &gate.address)
                    .replace("records = {", "records = { away = \"8s\","),
                _ => text,
            };
            house.write(&path, text);
        }
        let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
        replicas.larder("b", &copy).ends(0);
        replicas
            .larder("b", &format!("copy {OWN}/vendor/kettle:2 {OWN}/vendor/kettle:unknown"))
            .ends(0);
        let issued = replicas.larder("b", "key issue --account ci --json").ends(0).json();
        let login = basic("ci", issued["secret"].as_str().unwrap());
        let a = replicas.serve("a");
        let known = "/v2/vendor/kettle/manifests/2";
        let first = timed(&a, "GET", known, &login).0;
        assert_eq!(first.status, 200, "{}", first.text());
        let mut blobs = first.text();
        // An index leads to its manifests first.
        if blobs.contains("\"manifests\"") {
            let child = blobs.split("sha256:").nth(1).unwrap()[..64].to_owned();
            let path = format!("/v2/vendor/kettle/manifests/sha256:{child}");
            blobs = timed(&a, "GET", &path, &login).0.text();
        }
        let blob = blobs.split("sha256:").nth(1).unwrap()[..64].to_owned();
        let blob = format!("/v2/vendor/kettle/blobs/sha256:{blob}");
        let content = timed(&a, "GET", &blob, &login).0;
        assert_eq!(content.status, 200);
        gate.set(state);
        let away = Instant::now();
        let refused = |what: &str, (answer, took): (Answer, Duration)| {
            assert_eq!(answer.status, 503, "{state} {what}: {}", answer.text());
            assert!(answer.header("retry-after").is_some(), "{what}: {}", answer.head);
            assert!(took < Duration::from_secs(5), "{state} {what} took {took:?}");
        };
        let unknown = "/v2/vendor/kettle/manifests/unknown";
        refused("what is not known", timed(&a, "GET", unknown, &login));
        refused("a push", timed(&a, "POST", "/v2/vendor/kettle/blobs/uploads/", &login));
        while away.elapsed() < Duration::from_secs(6) {
            let (answer, took) = timed(&a, "GET", known, &login);
            assert_eq!(
                (answer.status, answer.body == first.body),
                (200, true),
                "{}",
                answer.text()
            );
            assert!(took < Duration::from_secs(1), "{took:?}");
            let (answer, _) = timed(&a, "GET", &blob, &login);
            assert_eq!((answer.status, answer.body == content.body), (200, true));
            std::thread::sleep(Duration::from_millis(300));
        }
        let (ready, took) = timed(&a, "GET", "/readyz", &login);
        assert_eq!(ready.status, 200, "{}", ready.text());
        assert!(ready.text().contains("ledger: away for"), "{}", ready.text());
        assert!(took < Duration::from_secs(5));
        // Once it is known, everything else is told at once.
        let (answer, took) = timed(&a, "GET", unknown, &login);
        assert_eq!(answer.status, 503);
        assert!(took < Duration::from_secs(1), "{took:?}");
        // A stranger is none the more let in.
        let (answer, _) = timed(&a, "GET", known, &basic("ci", "no-key"));
        assert!(matches!(answer.status, 401 | 503), "{}", answer.text());
        soon("it is still given", || timed(&a, "GET", known, &login).0.status == 503);
        assert!(away.elapsed() >= Duration::from_secs(7), "{:?}", away.elapsed());
        refused("what was known", timed(&a, "GET", known, &login));
        refused("a blob", timed(&a, "GET", &blob, &login));
        assert_eq!(timed(&a, "GET", "/readyz", &login).0.status, 503);
        assert_eq!(timed(&a, "GET", "/healthz", &login).0.status, 200);
        // It comes back, and all goes on by itself; what was changed meanwhile holds.
        gate.set(OPEN);
        soon("it does not come back", || timed(&a, "GET", known, &login).0.status == 200);
        soon("it is not ready", || timed(&a, "GET", "/readyz", &login).0.status == 200);
        let layer = b"pushed after the database came back";
        let path = format!("/v2/vendor/kettle/blobs/uploads/?digest={}", Digest::of(layer));
        let pushed = ask(a.host(), "POST", &path, &[("authorization", &login)], layer).unwrap();
        assert_eq!(pushed.status, 201, "{}", pushed.text());
        let listed = replicas.larder("b", "key list --json").ends(0).json();
        let id = listed["keys"][0]["key"].as_str().unwrap().to_owned();
        replicas.larder("b", &format!("key revoke {id} --yes")).ends(0);
        soon("a revoked key is good", || timed(&a, "GET", known, &login).0.status == 401);
        assert_eq!(a.stop("TERM"), 0);
    }
}

#[test]
fn how_long_it_may_be_away_is_bounded() {
    let Some(replicas) = Replicas::new("") else { return };
    let text = replicas.house.read("a/larder.toml");
    let with = |away: &str| {
        let text = text.replace("records = {", &format!("records = {{ away = \"{away}\","));
        replicas.house.write("a/larder.toml", text);
        replicas.larder("a", "check --offline")
    };
    with("2d").ends(2).says(&["a day is the longest"]);
    with("soon").ends(2);
    with("0s").ends(0);
}

#[test]
fn an_object_store_that_has_just_been_started_itself_is_waited_for() {
    let Some(replicas) = Replicas::new("") else { return };
    let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
    replicas.larder("b", &copy).ends(0);
    let bucket = std::env::var("LARDER_TEST_BUCKET").unwrap();
    let at = bucket.split("//").nth(1).unwrap().split('/').next().unwrap();
    let gate = Gate::before(at);
    let text = replicas.house.read("a/larder.toml").replace(at, &gate.address);
    replicas.house.write("a/larder.toml", text);
    gate.set(SHUT);
    let state = Arc::clone(&gate.state);
    let opens = std::thread::spawn(move || {
        std::thread::sleep(Duration::from_secs(3));
        state.store(OPEN, Ordering::SeqCst);
    });
    let a = replicas.serve("a");
    opens.join().unwrap();
    assert_eq!(a.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    assert!(a.log().contains("it is tried again for 20 seconds"), "{}", a.log());
}

#[test]
fn who_was_stopped_for_a_while_believes_nothing_that_it_knew() {
    let Some(replicas) = Replicas::new("") else { return };
    let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
    replicas.larder("b", &copy).ends(0);
    let a = replicas.serve("a");
    for _ in 0..3 {
        assert_eq!(a.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    }
    a.signal("STOP");
    replicas.larder("b", &format!("shelf drop {OWN}/vendor/kettle:2 --yes")).ends(0);
    std::thread::sleep(Duration::from_secs(5));
    a.signal("CONT");
    // At once, before it has heard of anything.
    assert_eq!(a.ask("GET", "/v2/vendor/kettle/manifests/2").status, 404);
}
