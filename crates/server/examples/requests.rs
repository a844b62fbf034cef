//! Sends the same request over and over on a few connections and prints how many answers came in a
//! second: a reference for measurements, as plain as a client can be.
//!
//! Usage: requests METHOD HOST:PORT PATH [CONNECTIONS [SECONDS]]
#![allow(clippy::print_stdout, clippy::print_stderr)]

use std::time::{Duration, Instant};

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
use tokio::net::TcpStream;

#[tokio::main]
async fn main() -> std::io::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let [method, host, path, rest @ ..] = arguments.as_slice() else {
        eprintln!("usage: requests METHOD HOST:PORT PATH [CONNECTIONS [SECONDS]]");
        std::process::exit(2);
    };
    let number = |at: usize, usual: u64| {
        rest.get(at).and_then(|text: &String| text.parse().ok()).unwrap_or(usual)
    };
    let (connections, seconds) = (number(0, 32), number(1, 3));
    let request = format!("{method} {path} HTTP/1.1\r\nhost: {host}\r\n\r\n");
    let until = Instant::now() + Duration::from_secs(seconds);
    let mut tasks = tokio::task::JoinSet::new();
    for _ in 0..connections {
        let (host, request, head) = (host.clone(), request.clone(), method == "HEAD");
        tasks.spawn(async move {
            let mut stream = TcpStream::connect(host).await?;
            stream.set_nodelay(true)?;
            let (mut answers, mut memory) = (0u64, Vec::with_capacity(64 * 1024));
            while Instant::now() < until {
                stream.write_all(request.as_bytes()).await?;
                memory.clear();
                while !is_whole(&memory, head) {
                    if stream.read_buf(&mut memory).await? == 0 {
                        return Ok(answers);
                    }
                }
                answers += u64::from(memory.starts_with(b"HTTP/1.1 200"));
            }
            Ok::<u64, std::io::Error>(answers)
        });
    }
    let mut answers = 0;
    while let Some(done) = tasks.join_next().await {
        answers += done.map_err(std::io::Error::other)??;
    }
    println!("{}", answers / seconds.max(1));
    Ok(())
}

/// Whether an answer has come to its end.
fn is_whole(bytes: &[u8], head: bool) -> bool {
    let Some(end) = bytes.windows(4).position(|four| four == b"\r\n\r\n") else { return false };
    if head {
        return true;
    }
    let text = String::from_utf8_lossy(&bytes[..end]).to_ascii_lowercase();
    let length = text.lines().find_map(|line| line.strip_prefix("content-length: ")?.parse().ok());
    bytes.len() >= end + 4 + length.unwrap_or(0)
}
