//! How far something that takes long has come.

use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use larder_transfer::Watch;

/// A bar of bytes on stderr. Clones are the same bar.
#[derive(Debug, Clone)]
pub struct Progress {
    bar: ProgressBar,
}

impl Progress {
    /// A bar that is seen, or one that is not.
    pub(super) fn new(seen: bool) -> Self {
        let bar = ProgressBar::new(0);
        bar.set_draw_target(if seen {
            ProgressDrawTarget::stderr_with_hz(8)
        } else {
            ProgressDrawTarget::hidden()
        });
        let style = "{spinner} {bytes} of {total_bytes}  {binary_bytes_per_sec}  {eta} left  {msg}";
        if let Ok(style) = ProgressStyle::with_template(style) {
            bar.set_style(style);
        }
        if seen {
            bar.enable_steady_tick(Duration::from_millis(125));
        }
        Self { bar }
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
