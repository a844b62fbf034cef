//! Connections: how the server lets go of them, and what it survives.
#![allow(clippy::unwrap_used)]

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use larder_core::digest::Digest;
use larder_server::{App, Limits, Listener, Plan, RegistryService, serve};
use larder_store::Store;
use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::oneshot;
use tokio::task::JoinHandle;

/// A registry that listens, and the way to stop it.
struct Listening {
    address: SocketAddr,
    stop: oneshot::Sender<()>,
    /// Whether every request was finished.
    done: JoinHandle<bool>,
    store: Store,
    folder: tempfile::TempDir,
}

impl Listening {
    async fn start(grace: Duration) -> Self {
        Self::bounded(grace, Limits::default()).await
    }

    async fn bounded(grace: Duration, limits: Limits) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (stop, stopped) = oneshot::channel::<()>();
        let plan = Plan { limits, ..Plan::open("larder.example".parse().unwrap()) };
        let app = Arc::new(App::new(store.clone(), plan, &[0; 32]));
        let limits = app.limits();
        let done = tokio::spawn(async move {
            let stopped = async {
                let _ = stopped.await;
            };
            let listener = Listener { limits, ..Listener::plain(listener) };
            serve(listener, RegistryService(app), stopped, grace).await.unwrap()
        });
        Self { address, stop, done, store, folder }
    }

    /// Sends one request and gives the whole answer.
    async fn ask(&self, request: &str) -> String {
        let mut stream = self.connect().await;
        send(&mut stream, request).await;
        rest(stream).await
    }

    /// It still answers.
    async fn answers(&self) {
        let answer = self.ask(GREETING).await;
        assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    }

    /// Waits until as many files lie in its store: it has begun to write, or has taken away what it began.
    async fn has_files(&self, count: usize) {
        until(|| async { self.files() == count }).await;
    }

    /// The files that lie in its store.
    fn files(&self) -> usize {
        fn count(folder: &std::path::Path) -> usize {
            let entries = std::fs::read_dir(folder).unwrap().flatten();
            entries.map(|entry| if entry.path().is_dir() { count(&entry.path()) } else { 1 }).sum()
        }
        ["content", "uploads"].iter().map(|name| count(&self.folder.path().join(name))).sum()
    }

    async fn connect(&self) -> TcpStream {
        TcpStream::connect(self.address).await.unwrap()
    }
}

const GREETING: &str = "GET /v2/ HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n";

/// Waits until a condition holds.
async fn until<F: Future<Output = bool>>(holds: impl Fn() -> F) {
    let waiting = async {
        while !holds().await {
            tokio::time::sleep(Duration::from_millis(2)).await;
        }
    };
    assert!(tokio::time::timeout(Duration::from_secs(30), waiting).await.is_ok(), "it never does");
}

/// Sends a piece of a request.
async fn send(stream: &mut TcpStream, text: &str) {
    stream.write_all(text.as_bytes()).await.unwrap();
}

/// Reads until the server closes.
async fn rest(mut stream: TcpStream) -> String {
    let mut text = Vec::new();
    let end = stream.read_to_end(&mut text);
    let ended = tokio::time::timeout(Duration::from_secs(30), end).await;
    assert!(ended.is_ok(), "the server keeps it open");
    String::from_utf8_lossy(&text).into_owned()
}

fn upload(digest: &Digest, length: usize) -> String {
    format!(
        "POST /v2/vendor/a/blobs/uploads/?digest={digest} HTTP/1.1\r\nhost: localhost\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n"
    )
}

#[tokio::test]
async fn a_running_request_is_finished_and_nothing_new_is_accepted() {
    let listening = Listening::start(Duration::from_secs(20)).await;
    let digest = Digest::of(b"0123456789");
    let mut running = listening.connect().await;
    send(&mut running, &upload(&digest, 10)).await;
    send(&mut running, "01234").await;
    let idle = listening.connect().await;
    listening.has_files(1).await;
    listening.stop.send(()).unwrap();
    until(|| async { TcpStream::connect(listening.address).await.is_err() }).await;
    assert!(!listening.done.is_finished(), "it did not wait for the request");
    send(&mut running, "56789").await;
    let answer = rest(running).await;
    assert!(answer.starts_with("HTTP/1.1 201"), "{answer}");
    assert_eq!(listening.store.size(&digest).await.unwrap(), Some(10));
    drop(idle);
    assert!(listening.done.await.unwrap(), "every request was finished");
}

#[tokio::test]
async fn a_request_that_takes_too_long_is_broken_off_and_leaves_nothing_visible() {
    let listening = Listening::start(Duration::from_millis(100)).await;
    let digest = Digest::of(b"0123456789");
    let mut running = listening.connect().await;
    send(&mut running, &upload(&digest, 10)).await;
    send(&mut running, "01234").await;
    listening.has_files(1).await;
    listening.stop.send(()).unwrap();
    assert!(!listening.done.await.unwrap(), "the answer is that not everything was finished");
    assert_eq!(listening.store.size(&digest).await.unwrap(), None);
}

#[tokio::test]
async fn a_client_that_leaves_in_the_middle_leaves_nothing_visible() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let digest = Digest::of(b"0123456789");
    let mut leaving = listening.connect().await;
    send(&mut leaving, &upload(&digest, 10)).await;
    send(&mut leaving, "01234").await;
    listening.has_files(1).await;
    drop(leaving);
    listening.has_files(0).await;
    assert_eq!(listening.store.size(&digest).await.unwrap(), None);
    listening.stop.send(()).unwrap();
    assert!(listening.done.await.unwrap());
}

/// What a request may be answered with: a refusal, or nothing but the end of the connection.
fn is_refused(answer: &str) -> bool {
    answer.is_empty() || answer.starts_with("HTTP/1.1 4")
}

#[tokio::test]
async fn what_is_no_http_and_what_is_hostile_is_refused_and_leaves_nothing() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let long = "a".repeat(200_000);
    let name = "a/".repeat(5_000);
    let upload = "POST /v2/a/b/blobs/uploads/?digest=sha256:e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855 HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n";
    let hostile = [
        "SSH-2.0-x\r\n\r\n".to_owned(),
        "GET /v2/ HTTP/9.9\r\n\r\n".to_owned(),
        format!("GET /v2/{long}/tags/list HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n"),
        format!("GET /v2/{name}a/tags/list HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n"),
        // Header bombs: one that is too long, and too many.
        format!("GET /v2/ HTTP/1.1\r\nhost: localhost\r\nx: {long}{long}{long}\r\n\r\n"),
        format!("GET /v2/ HTTP/1.1\r\nhost: localhost\r\n{}\r\n", "x: y\r\n".repeat(5_000)),
        // Two lengths, chunks that are none.
        format!("{upload}content-length: 5\r\ncontent-length: 6\r\n\r\nhello"),
        format!("{upload}content-length: -1\r\n\r\n"),
        format!("{upload}content-length: 99999999999999999999\r\n\r\n"),
        format!("{upload}transfer-encoding: chunked\r\n\r\nzz\r\n"),
        format!("{upload}transfer-encoding: chunked\r\n\r\nffffffffffffffffff\r\nx"),
        format!("{upload}transfer-encoding: xchunked\r\n\r\n0\r\n\r\n"),
        // Paths that climb, and that hide it.
        "GET /v2/a/../../etc/passwd HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "GET /v2/%2e%2e/%2e%2e/etc/passwd HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "GET /v2/a%252f..%252f/manifests/x HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "GET /v2/a/blobs/sha256:../../../../etc/passwd HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "GET /v2/a/manifests/x%00y HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "PATCH /v2/a/blobs/uploads/../../x HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "POST /v2/a/../b/blobs/uploads/ HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "POST /v2/a/blobs/uploads/?digest=sha256:../../x HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
        "POST /v2/a/blobs/uploads/?mount=../../x&from=../.. HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n".to_owned(),
    ];
    for request in hostile {
        let mut stream = listening.connect().await;
        let _ = stream.write_all(request.as_bytes()).await;
        let _ = stream.shutdown().await;
        let answer = rest(stream).await;
        let shown: String = request.chars().take(200).collect();
        assert!(is_refused(&answer), "{shown}: {answer}");
        assert!(!answer.contains("root:"), "{answer}");
        assert_eq!(listening.files(), 0, "{shown}: {answer}");
    }
    listening.answers().await;
}

#[tokio::test]
async fn what_follows_a_body_of_two_lengths_is_not_answered() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let hidden = "GET /v2/ HTTP/1.1\r\nhost: localhost\r\n\r\n";
    for lengths in [
        "content-length: 5\r\ntransfer-encoding: chunked",
        "transfer-encoding: chunked\r\ncontent-length: 5",
        "transfer-encoding: chunked",
    ] {
        let upload = "POST /v2/a/b/blobs/uploads/?digest=sha256:00 HTTP/1.1\r\nhost: localhost";
        let answer =
            listening.ask(&format!("{upload}\r\n{lengths}\r\n\r\n0\r\n\r\n{hidden}")).await;
        assert!(is_refused(&answer), "{answer}");
        assert!(answer.matches("HTTP/1.1").count() <= 1, "{answer}");
    }
    assert_eq!(listening.files(), 0);

    // The same where an answer is given from memory.
    let manifest = r#"{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[]}"#;
    let put = "PUT /v2/a/b/manifests/1 HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\ncontent-type: application/vnd.oci.image.index.v1+json";
    let length = manifest.len();
    let answer =
        listening.ask(&format!("{put}\r\ncontent-length: {length}\r\n\r\n{manifest}")).await;
    assert!(answer.starts_with("HTTP/1.1 201"), "{answer}");
    let get = "GET /v2/a/b/manifests/1 HTTP/1.1\r\nhost: localhost";
    for _ in 0..2 {
        let request = format!("{get}\r\nconnection: close\r\n\r\n");
        assert!(listening.ask(&request).await.starts_with("HTTP/1.1 200"));
    }
    let chunked = format!("{get}\r\ntransfer-encoding: chunked\r\n\r\n0\r\n\r\n{hidden}");
    let answer = listening.ask(&chunked).await;
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    assert_eq!(answer.matches("HTTP/1.1").count(), 1, "{answer}");
}

#[tokio::test]
async fn hostile_manifests_are_refused_quickly_and_leave_nothing() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let digest = Digest::of(b"x");
    let descriptor = format!(r#"{{"mediaType":"a/b","digest":"{digest}","size":1}},"#);
    let many = descriptor.repeat(4 * 1024 * 1024 / descriptor.len() - 10);
    let deep = "[".repeat(1_000_000);
    let objects = r#"{"a":"#.repeat(500_000);
    for document in [
        format!(r#"{{"schemaVersion":2,"config":{descriptor}"layers":[{}]}}"#, many.trim_end_matches(',')),
        format!(r#"{{"schemaVersion":2,"layers":{deep}"#),
        objects,
        r#"{"schemaVersion":2,"config":{"digest":"sha256:../../../etc/passwd","size":1},"layers":[]}"#.into(),
        r#"{"schemaVersion":2,"config":{"digest":"../x","size":1},"layers":[]}"#.into(),
        r#"{"schemaVersion":2,"config":{"digest":"sha256:00","size":-1},"layers":[]}"#.into(),
        format!(r#"{{"schemaVersion":2,"config":{{"digest":"{digest}","size":99999999999999999999}},"layers":[]}}"#),
        "\u{0}".repeat(1000),
        "x".repeat(4 * 1024 * 1024 + 1),
    ] {
        let began = std::time::Instant::now();
        let head = format!(
            "PUT /v2/a/b/manifests/x HTTP/1.1\r\nhost: localhost\r\ncontent-type: application/vnd.oci.image.manifest.v1+json\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
            document.len()
        );
        let mut stream = listening.connect().await;
        send(&mut stream, &head).await;
        // The server may have answered, and closed, before it has all.
        let _ = stream.write_all(document.as_bytes()).await;
        let answer = rest(stream).await;
        assert!(is_refused(&answer), "{}: {answer}", &document[..80.min(document.len())]);
        // No measurement: only far from what an attacker could use.
        assert!(began.elapsed() < Duration::from_secs(20));
    }
    assert_eq!(listening.files(), 0, "nothing is written");
    listening.answers().await;
}

#[tokio::test]
async fn a_thousand_slow_connections_hold_nobody_up() {
    let limits = Limits { uploads_per_client: 1000, ..Limits::default() };
    let listening = Listening::bounded(Duration::from_secs(5), limits).await;
    let content = vec![7; 8 * 1024 * 1024];
    let digest = Digest::of(&content);
    let mut pushing = listening.connect().await;
    send(&mut pushing, &upload(&digest, content.len())).await;
    pushing.write_all(&content).await.unwrap();
    assert!(rest(pushing).await.starts_with("HTTP/1.1 201"));
    let mut slow = Vec::new();
    for number in 0..1000 {
        let mut stream = listening.connect().await;
        match number % 3 {
            // Half a header; half an upload; a layer that nobody takes.
            0 => send(&mut stream, "GET /v2/ HT").await,
            1 => {
                send(&mut stream, &upload(&Digest::of(b"never"), 100_000)).await;
                send(&mut stream, "some").await;
            }
            _ => {
                let get =
                    format!("GET /v2/vendor/a/blobs/{digest} HTTP/1.1\r\nhost: localhost\r\n\r\n");
                send(&mut stream, &get).await;
            }
        }
        slow.push(stream);
    }
    listening.answers().await;
    let small = Digest::of(b"0123456789");
    let mut pushing = listening.connect().await;
    send(&mut pushing, &upload(&small, 10)).await;
    send(&mut pushing, "0123456789").await;
    assert!(rest(pushing).await.starts_with("HTTP/1.1 201"));
    let pulled = listening
        .ask(&format!(
            "GET /v2/vendor/a/blobs/{small} HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n"
        ))
        .await;
    assert!(pulled.ends_with("0123456789"), "{pulled}");
}

#[tokio::test]
async fn whoever_is_too_slow_is_let_go_of() {
    let limits = Limits {
        header_time: Duration::from_millis(300),
        stall: Duration::from_millis(300),
        ..Limits::default()
    };
    let listening = Listening::bounded(Duration::from_secs(5), limits).await;
    // Silent from the start, silent in the middle of a header, silent after an answer.
    let silent = listening.connect().await;
    assert_eq!(rest(silent).await, "");
    let mut halted = listening.connect().await;
    send(&mut halted, "GET /v2/ HT").await;
    assert!(is_refused(&rest(halted).await));
    let mut idle = listening.connect().await;
    send(&mut idle, "GET /v2/ HTTP/1.1\r\nhost: localhost\r\n\r\n").await;
    assert!(rest(idle).await.starts_with("HTTP/1.1 200"));
    // An upload and a manifest that stop coming: told, and what came of the upload stays.
    let mut halted = listening.connect().await;
    send(&mut halted, &upload(&Digest::of(b"never"), 10)).await;
    send(&mut halted, "01234").await;
    let answer = rest(halted).await;
    assert!(answer.starts_with("HTTP/1.1 408"), "{answer}");
    assert!(answer.contains("too slowly"), "{answer}");
    let mut halted = listening.connect().await;
    let put = "PUT /v2/a/b/manifests/x HTTP/1.1\r\nhost: localhost\r\ncontent-length: 10\r\nconnection: close\r\n\r\n{";
    send(&mut halted, put).await;
    assert!(rest(halted).await.starts_with("HTTP/1.1 408"));
    // A layer that nobody takes.
    let content = vec![7; 32 * 1024 * 1024];
    let digest = Digest::of(&content);
    let repository = "vendor/a".parse().unwrap();
    listening.store.put_blob(&repository, &digest, content.into()).await.unwrap();
    let mut stream = listening.connect().await;
    send(
        &mut stream,
        &format!("GET /v2/vendor/a/blobs/{digest} HTTP/1.1\r\nhost: localhost\r\n\r\n"),
    )
    .await;
    // A client that takes nothing can only wait until the second has passed that it is allowed to.
    tokio::time::sleep(Duration::from_millis(1500)).await;
    let mut taken = 0;
    let mut piece = vec![0; 1 << 20];
    while let Ok(got @ 1..) = stream.read(&mut piece).await {
        taken += got;
    }
    assert!(taken < 32 * 1024 * 1024, "it was cut off");
    listening.answers().await;
}

#[tokio::test]
async fn a_client_has_its_bounds() {
    let limits = Limits { connections_per_client: 3, uploads_per_client: 1, ..Limits::default() };
    let listening = Listening::bounded(Duration::from_secs(5), limits).await;
    let mut first = listening.connect().await;
    send(&mut first, &upload(&Digest::of(b"0123456789"), 10)).await;
    send(&mut first, "01234").await;
    listening.has_files(1).await;
    let mut second = listening.connect().await;
    send(&mut second, &upload(&Digest::of(b"x"), 1)).await;
    send(&mut second, "x").await;
    let answer = rest(second).await;
    assert!(answer.starts_with("HTTP/1.1 429"), "{answer}");
    assert!(answer.contains("retry-after: 1") && answer.contains("TOOMANYREQUESTS"), "{answer}");
    let others = [listening.connect().await, listening.connect().await];
    // The fourth is closed at once.
    until(|| async { listening.ask(GREETING).await.is_empty() }).await;
    drop(others);
    send(&mut first, "56789").await;
    assert!(rest(first).await.starts_with("HTTP/1.1 201"));
    until(|| async { listening.ask(GREETING).await.starts_with("HTTP/1.1 200") }).await;
}

#[tokio::test]
async fn a_refusal_is_in_the_status_line_too() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let head = "HEAD /v2/vendor/a/manifests/1?%0d%0ax HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n";
    let answer = listening.ask(head).await;
    let line = answer.lines().next().unwrap();
    assert_eq!(line, "HTTP/1.1 404 Not Found: there is no repository vendor/a");
}
