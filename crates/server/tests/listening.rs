//! Connections: how the server lets go of them, and what it survives.
#![allow(missing_docs, clippy::unwrap_used)]

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use larder_core::digest::Digest;
use larder_server::{App, router, serve};
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
    _folder: tempfile::TempDir,
}

impl Listening {
    async fn start(grace: Duration) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let store = Store::open_local(folder.path()).unwrap();
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        let (stop, stopped) = oneshot::channel::<()>();
        let app = App { store: store.clone(), shelves: Vec::new(), read_only: false };
        let router = router(Arc::new(app));
        let done = tokio::spawn(async move {
            let stopped = async {
                let _ = stopped.await;
            };
            serve(listener, None, router, stopped, grace).await.unwrap()
        });
        Self { address, stop, done, store, _folder: folder }
    }

    async fn connect(&self) -> TcpStream {
        TcpStream::connect(self.address).await.unwrap()
    }
}

/// Sends a piece of a request.
async fn send(stream: &mut TcpStream, text: &str) {
    stream.write_all(text.as_bytes()).await.unwrap();
}

/// Reads until the server closes.
async fn rest(mut stream: TcpStream) -> String {
    let mut text = Vec::new();
    let _ = stream.read_to_end(&mut text).await;
    String::from_utf8_lossy(&text).into_owned()
}

fn upload(digest: &Digest, length: usize) -> String {
    format!(
        "POST /v2/vendor/a/blobs/uploads/?digest={digest} HTTP/1.1\r\nhost: x\r\ncontent-length: {length}\r\nconnection: close\r\n\r\n"
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
    tokio::time::sleep(Duration::from_millis(100)).await;
    listening.stop.send(()).unwrap();
    tokio::time::sleep(Duration::from_millis(100)).await;
    assert!(TcpStream::connect(listening.address).await.is_err(), "it still accepts");
    assert!(!listening.done.is_finished(), "it did not wait for the request");
    send(&mut running, "56789").await;
    let answer = rest(running).await;
    assert!(answer.starts_with("HTTP/1.1 201"), "{answer}");
    assert_eq!(listening.store.blobs.size(&digest).await.unwrap(), Some(10));
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
    tokio::time::sleep(Duration::from_millis(100)).await;
    listening.stop.send(()).unwrap();
    assert!(!listening.done.await.unwrap(), "the answer is that not everything was finished");
    assert_eq!(listening.store.blobs.size(&digest).await.unwrap(), None);
}

#[tokio::test]
async fn a_client_that_leaves_in_the_middle_leaves_nothing_visible() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let digest = Digest::of(b"0123456789");
    let mut leaving = listening.connect().await;
    send(&mut leaving, &upload(&digest, 10)).await;
    send(&mut leaving, "01234").await;
    drop(leaving);
    tokio::time::sleep(Duration::from_millis(200)).await;
    assert_eq!(listening.store.blobs.size(&digest).await.unwrap(), None);
    listening.stop.send(()).unwrap();
    assert!(listening.done.await.unwrap());
}

#[tokio::test]
async fn what_is_no_http_and_what_is_hostile_never_ends_the_server() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let long = "a".repeat(200_000);
    for garbage in [
        "SSH-2.0-x\r\n\r\n".to_owned(),
        "GET /v2/ HTTP/9.9\r\n\r\n".to_owned(),
        format!("GET /v2/{long}/tags/list HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n"),
        format!("GET /v2/ HTTP/1.1\r\nhost: x\r\nx: {long}\r\n{long}\r\n\r\n"),
        "POST /v2/a/b/blobs/uploads/ HTTP/1.1\r\nhost: x\r\ncontent-length: 5\r\ntransfer-encoding: chunked\r\nconnection: close\r\n\r\n0\r\n\r\n".to_owned(),
        "PATCH /v2/a/b/blobs/uploads/x HTTP/1.1\r\nhost: x\r\ntransfer-encoding: chunked\r\nconnection: close\r\n\r\nzz\r\n".to_owned(),
        "PUT /v2/a/b/manifests/x HTTP/1.1\r\nhost: x\r\ncontent-length: 99999999999999999999\r\n\r\n".to_owned(),
        "GET /v2/a/../../etc/passwd HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n".to_owned(),
    ] {
        let mut stream = listening.connect().await;
        let _ = stream.write_all(garbage.as_bytes()).await;
        let _ = stream.shutdown().await;
        let answer = rest(stream).await;
        assert!(!answer.contains("HTTP/1.1 5"), "{}: {answer}", &garbage[..40.min(garbage.len())]);
        assert!(!answer.contains("root:"), "{answer}");
    }
    let mut stream = listening.connect().await;
    send(&mut stream, "GET /v2/ HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").await;
    assert!(rest(stream).await.starts_with("HTTP/1.1 200"), "it still answers");
}

#[tokio::test]
async fn many_silent_connections_hold_nobody_up() {
    let listening = Listening::start(Duration::from_secs(5)).await;
    let mut silent = Vec::new();
    for _ in 0..200 {
        let mut stream = listening.connect().await;
        send(&mut stream, "GET /v2/ HT").await;
        silent.push(stream);
    }
    let mut stream = listening.connect().await;
    send(&mut stream, "GET /v2/ HTTP/1.1\r\nhost: x\r\nconnection: close\r\n\r\n").await;
    assert!(rest(stream).await.starts_with("HTTP/1.1 200"));
}
