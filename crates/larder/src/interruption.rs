//! When somebody ends the program: what is said, and how soon it is gone.
//!
//! The first SIGINT or SIGTERM, or the SIGHUP of a terminal that goes away, says what is kept and what to type, lets go of what was being done (files that were
//! half written are taken away) and ends with 128 and the signal's number. A second one does not wait for that, and
//! nothing waits longer than [`PATIENCE`]. What listens is a task of its own, so a command that computes for long, or
//! waits for somebody to type, is ended too.

use std::ffi::OsString;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use tokio::signal::unix::{Signal, SignalKind, signal};
use tokio::sync::oneshot;

use crate::commands::kept::Kept;
use crate::output::{Output, Progress};

/// How long the first signal lets the program take leave.
const PATIENCE: Duration = Duration::from_secs(2);

/// How soon a command must begin to take leave: one that does not has nothing to let go of.
const BEGIN: Duration = Duration::from_millis(200);

/// Whether the command has begun to take leave.
static LEAVES: AtomicBool = AtomicBool::new(false);

/// How often a command that shows nothing says that it is still there.
const EACH: Duration = Duration::from_secs(10);

/// SIGINT, SIGTERM and SIGHUP.
struct Signals {
    interrupt: Signal,
    terminate: Signal,
    /// None: whoever started the program has it go on when the terminal goes away.
    hangup: Option<Signal>,
}

/// Whether SIGHUP was ignored when the program began. What cannot be told counts as ignored: then it does what it did.
fn ignores_hangup() -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    let mask = mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok());
    mask.is_none_or(|mask| mask & 1 << (SignalKind::hangup().as_raw_value() - 1) != 0)
}

impl Signals {
    fn listen() -> std::io::Result<Self> {
        let hangup = match ignores_hangup() {
            true => None,
            false => Some(signal(SignalKind::hangup())?),
        };
        let interrupt = signal(SignalKind::interrupt())?;
        Ok(Self { interrupt, terminate: signal(SignalKind::terminate())?, hangup })
    }

    /// The status that a program ends with whom the next signal ends.
    async fn next(&mut self) -> i32 {
        let hangup = async {
            match &mut self.hangup {
                Some(hangup) => hangup.recv().await,
                None => std::future::pending().await,
            }
        };
        128 + tokio::select! {
            _ = hangup => SignalKind::hangup().as_raw_value(),
            _ = self.interrupt.recv() => SignalKind::interrupt().as_raw_value(),
            _ = self.terminate.recv() => SignalKind::terminate().as_raw_value(),
        }
    }
}

/// Listens from now on, says at the first signal what is kept of a command, and gives a future that resolves then, with
/// the status to end with.
pub fn listen(kept: Kept, output: Output) -> impl Future<Output = i32> {
    let (told, first) = oneshot::channel();
    match Signals::listen() {
        Err(error) => tracing::warn!(%error, "nothing can be said when it is interrupted"),
        Ok(mut signals) => drop(tokio::spawn(async move {
            let status = signals.next().await;
            Progress::clear_all();
            output.note(said(&kept, std::env::args_os()));
            // Without a reader the command has ended meanwhile.
            let _ = told.send(status);
            tokio::select! {
                status = signals.next() => std::process::exit(status),
                () = leave() => std::process::exit(status),
            }
        })),
    }
    async {
        match first.await {
            Ok(status) => {
                LEAVES.store(true, Ordering::Release);
                status
            }
            Err(_) => std::future::pending().await,
        }
    }
}

/// Resolves when nothing is waited for any longer.
async fn leave() {
    tokio::time::sleep(BEGIN).await;
    if LEAVES.load(Ordering::Acquire) {
        tokio::time::sleep(PATIENCE).await;
    }
}

/// What is said: what is kept, and what to type.
fn said(kept: &Kept, call: impl Iterator<Item = OsString>) -> String {
    let call = typed(call);
    match kept {
        Kept::Unchanged => "interrupted: nothing was changed".to_owned(),
        Kept::Stays(stays) => format!("interrupted: {stays}"),
        Kept::GoesOn(stays) => {
            format!("interrupted: {stays}; `{call}`, run it again, and it goes on where it was")
        }
        Kept::Again(stays) => format!("interrupted: {stays}; `{call}` does the rest"),
        Kept::See(stays, see) => format!("interrupted: {stays}; `{see}` tells"),
    }
}

/// A call as it is typed into a shell. The program is named as it is installed.
fn typed(call: impl Iterator<Item = OsString>) -> String {
    let arguments = call.skip(1).map(|argument| quoted(&argument.to_string_lossy()));
    std::iter::once("larder".to_owned()).chain(arguments).collect::<Vec<_>>().join(" ")
}

/// A word for a shell.
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_ascii_alphanumeric() || "-_./:@=,+%".contains(c);
    match !word.is_empty() && word.chars().all(plain) {
        true => word.to_owned(),
        false => format!("'{}'", word.replace('\'', "'\\''")),
    }
}

/// Says now and then that a command is still at it, where it shows nothing itself and nobody sits before it.
pub async fn keep_telling(command: String, output: Output) {
    let mut passed = Duration::ZERO;
    loop {
        tokio::time::sleep(EACH).await;
        passed += EACH;
        if !Progress::is_shown() {
            output.note(format!("still at it: `{command}`, for {} s", passed.as_secs()));
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn call(words: &[&str]) -> impl Iterator<Item = OsString> {
        words.iter().map(OsString::from).collect::<Vec<_>>().into_iter()
    }

    #[test]
    fn a_call_is_said_as_it_is_typed() {
        let typed =
            typed(call(&["/usr/bin/larder", "copy", "a/b:1", "--to", "it's here", "a/**", ""]));
        assert_eq!(typed, r"larder copy a/b:1 --to 'it'\''s here' 'a/**' ''");
    }

    #[test]
    fn what_is_kept_is_said() {
        let of = |kept| said(&kept, call(&["larder", "intake", "run"]));
        assert_eq!(of(Kept::Unchanged), "interrupted: nothing was changed");
        assert_eq!(of(Kept::Stays("it stays")), "interrupted: it stays");
        let again = "interrupted: layers stay; `larder intake run`, run it again, and it goes on where it was";
        assert_eq!(of(Kept::GoesOn("layers stay")), again);
        assert_eq!(
            of(Kept::Again("some stay")),
            "interrupted: some stay; `larder intake run` does the rest"
        );
        let see = "interrupted: keys stay; `larder key list` tells";
        assert_eq!(of(Kept::See("keys stay", "larder key list")), see);
    }
}
