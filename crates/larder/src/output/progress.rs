//! How far something that takes long has come.

use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use larder_transfer::Watch;

use super::{Output, bytes};

/// Without a terminal a line is written so often.
const EACH: Duration = Duration::from_secs(10);

/// The bars and lines that are shown now.
static SHOWN: Mutex<Vec<(Weak<()>, ProgressBar)>> = Mutex::new(Vec::new());

/// A bar of bytes on stderr, or a line now and then where there is no terminal. Clones are the same bar.
#[derive(Debug, Clone)]
pub struct Progress {
    bar: ProgressBar,
    /// As long as this lives, lines are written.
    lives: Arc<()>,
}

/// How it is shown.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum ProgressForm {
    Bar,
    Lines,
    Nothing,
}

impl Progress {
    pub(super) fn new(form: ProgressForm) -> Self {
        let bar = ProgressBar::new(0);
        bar.set_draw_target(match form {
            ProgressForm::Bar => ProgressDrawTarget::stderr_with_hz(8),
            ProgressForm::Lines | ProgressForm::Nothing => ProgressDrawTarget::hidden(),
        });
        let style = "{spinner} {bytes} of {total_bytes}  {binary_bytes_per_sec}  {eta} left  {msg}";
        if let Ok(style) = ProgressStyle::with_template(style) {
            bar.set_style(style);
        }
        if form == ProgressForm::Bar {
            bar.enable_steady_tick(Duration::from_millis(125));
        }
        let progress = Self { bar, lives: Arc::new(()) };
        if form != ProgressForm::Nothing {
            let mut shown = SHOWN.lock().unwrap_or_else(PoisonError::into_inner);
            shown.retain(|(lives, bar)| is_shown(lives, bar));
            shown.push((Arc::downgrade(&progress.lives), progress.bar.clone()));
        }
        if form == ProgressForm::Lines {
            progress.tell_each(EACH, |line| Output::default().note(line));
        }
        progress
    }

    /// Tells a line each time until it is done.
    fn tell_each(&self, each: Duration, tell: impl Fn(String) + Send + 'static) {
        let (bar, lives): (ProgressBar, Weak<()>) = (self.bar.clone(), Arc::downgrade(&self.lives));
        let told = std::thread::Builder::new().name("progress".into()).spawn(move || {
            loop {
                std::thread::sleep(each);
                if !is_shown(&lives, &bar) {
                    return;
                }
                tell(line(bar.position(), bar.length().unwrap_or(0), &bar.message()));
            }
        });
        if let Err(error) = told {
            tracing::warn!(%error, "nothing tells how far it has come");
        }
    }

    /// Whether anything shows how far it has come.
    pub fn is_shown() -> bool {
        let shown = SHOWN.lock().unwrap_or_else(PoisonError::into_inner);
        shown.iter().any(|(lives, bar)| is_shown(lives, bar))
    }

    /// Takes all bars away, for what is said last.
    pub fn clear_all() {
        let shown = SHOWN.lock().unwrap_or_else(PoisonError::into_inner);
        shown
            .iter()
            .filter(|(lives, bar)| is_shown(lives, bar))
            .for_each(|(_, bar)| bar.finish_and_clear());
    }

    /// What is being done now.
    pub fn say(&self, what: impl Into<String>) {
        self.bar.set_message(larder_core::shown::shown(&what.into()).into_owned());
    }

    /// Takes the bar away.
    pub fn done(&self) {
        self.bar.finish_and_clear();
    }
}

fn is_shown(lives: &Weak<()>, bar: &ProgressBar) -> bool {
    lives.strong_count() > 0 && !bar.is_finished()
}

/// How far it has come, in a line.
fn line(position: u64, length: u64, message: &str) -> String {
    match (length, message) {
        (0, "") => "still at it".to_owned(),
        (0, message) => format!("still at it: {message}"),
        (length, "") => format!("{} of {}", bytes(position), bytes(length)),
        (length, message) => format!("{} of {}: {message}", bytes(position), bytes(length)),
    }
}

impl Watch for Progress {
    fn expect(&self, bytes: u64) {
        self.bar.inc_length(bytes);
    }

    fn advance(&self, bytes: u64) {
        self.bar.inc(bytes);
    }

    fn take_back(&self, bytes: u64) {
        self.bar.dec(bytes);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn without_a_terminal_a_line_tells_how_far_it_has_come() {
        let progress = Progress::new(ProgressForm::Nothing);
        let (lines, told) = std::sync::mpsc::channel();
        progress.tell_each(Duration::from_millis(5), move |line| drop(lines.send(line)));
        progress.say("kettle:2");
        assert!(told.iter().any(|line| line == "still at it: kettle:2"));
        progress.expect(2048);
        progress.advance(1024);
        assert!(told.iter().any(|line| line == "1.0 KiB of 2.0 KiB: kettle:2"));
        progress.done();
        // It ends.
        assert!(told.iter().all(|line| !line.is_empty()));
    }
}
