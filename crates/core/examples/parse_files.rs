//! The reference of `scripts/bench-rewrite`: parses every file below a folder with the YAML parser that
//! larder uses, one on each core at a time, and does nothing else.
#![allow(clippy::print_stdout, clippy::expect_used)]

use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};

fn walk(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).expect("a folder that can be read") {
        let path = entry.expect("a folder that can be read").path();
        if path.is_dir() { walk(&path, found) } else { found.push(path) }
    }
}

fn main() {
    let mut found = Vec::new();
    for folder in std::env::args().skip(1) {
        walk(Path::new(&folder), &mut found);
    }
    let files = Mutex::new(found.into_iter());
    let next = || files.lock().expect("no thread panics").next();
    let events = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for _ in 0..std::thread::available_parallelism().map_or(1, std::num::NonZero::get) {
            scope.spawn(|| {
                let mut seen = 0;
                while let Some(path) = next() {
                    let text = std::fs::read_to_string(path).expect("a text");
                    let mut parser = granit_parser::Parser::new_from_str(&text);
                    while let Some(event) = parser.next_event() {
                        event.expect("YAML");
                        seen += 1;
                    }
                }
                events.fetch_add(seen, Ordering::Relaxed);
            });
        }
    });
    println!("{} events", events.into_inner());
}
