//! A link of a bounded rate in front of another address, for measurements: what comes from there takes
//! as long as it would over such a line, however many connections share it.
//!
//! Usage: link HOST:PORT MEGABYTES_A_SECOND      prints the address at which it listens
#![allow(clippy::print_stdout, clippy::print_stderr)]

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _, copy};
use tokio::net::{TcpListener, TcpStream};
use tokio::time::{Instant, sleep_until};

/// What may come at once without having waited.
const BURST: Duration = Duration::from_millis(2);

/// When the line has passed on all that was given to it.
struct Line {
    free: Mutex<Instant>,
    rate: f64,
}

impl Line {
    async fn pass(&self, bytes: usize) {
        let until = {
            let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
            *free = (*free).max(Instant::now()) + Duration::from_secs_f64(bytes as f64 / self.rate);
            *free
        };
        if until > Instant::now() + BURST {
            sleep_until(until - BURST).await;
        }
    }
}

async fn relay(near: TcpStream, far: String, line: Arc<Line>) -> std::io::Result<()> {
    let (mut asks, mut answers) = near.into_split();
    let (mut from, mut to) = TcpStream::connect(far).await?.into_split();
    tokio::spawn(async move { copy(&mut asks, &mut to).await });
    let mut piece = vec![0; 128 * 1024];
    loop {
        let got = from.read(&mut piece).await?;
        if got == 0 {
            return answers.shutdown().await;
        }
        line.pass(got).await;
        answers.write_all(&piece[..got]).await?;
    }
}

#[tokio::main]
async fn main() -> std::io::Result<()> {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let rate = arguments.get(1).and_then(|text| text.parse::<f64>().ok());
    let (Some(far), Some(rate)) = (arguments.first(), rate) else {
        eprintln!("usage: link HOST:PORT MEGABYTES_A_SECOND");
        std::process::exit(2);
    };
    let listener = TcpListener::bind("127.0.0.1:0").await?;
    println!("http://{}", listener.local_addr()?);
    let line = Arc::new(Line { free: Mutex::new(Instant::now()), rate: rate * 1e6 });
    loop {
        let (near, _) = listener.accept().await?;
        tokio::spawn(relay(near, far.clone(), Arc::clone(&line)));
    }
}
