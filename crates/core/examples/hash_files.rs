//! The reference of `scripts/bench`: hashes files with the hash library that larder uses, one on
//! each core at a time, and does nothing else.
#![allow(clippy::print_stdout, clippy::expect_used)]

use std::fs::File;
use std::io::Read as _;
use std::sync::Mutex;

use larder_core::digest::{Algorithm, Hasher};

fn main() {
    let files = Mutex::new(std::env::args().skip(1).collect::<Vec<_>>().into_iter());
    let next = || files.lock().expect("no thread panics").next();
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(1, std::num::NonZero::get) {
            scope.spawn(|| {
                let mut piece = vec![0; 512 * 1024];
                while let Some(path) = next() {
                    let mut file = File::open(&path).expect("a file that can be read");
                    let mut hasher = Hasher::new(Algorithm::Sha256);
                    loop {
                        match file.read(&mut piece).expect("a file that can be read") {
                            0 => break,
                            got => hasher.update(&piece[..got]),
                        }
                    }
                    println!("{}  {path}", hasher.finish());
                }
            });
        }
    });
}
