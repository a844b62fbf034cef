//! How results, notes and errors are shown. Nothing else in the program writes to the terminal.
//!
//! Results go to stdout, everything else to stderr. A closed pipe (`larder … | head`) is a quiet end.

mod human;
mod progress;
mod table;

use std::io::{self, IsTerminal as _, Write};

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use serde::Serialize;

use crate::failure::Failure;

pub use human::{ago, bytes, count, folded, short, since, time, until};
pub use progress::Progress;
pub use table::Table;

/// Well.
pub const GOOD: Style = AnsiColor::Green.on_default();
/// Wrong.
pub const BAD: Style = AnsiColor::Red.on_default().bold();
/// Taken away.
pub const GONE: Style = AnsiColor::Red.on_default();
/// To be looked at.
pub const WARN: Style = AnsiColor::Yellow.on_default();
/// Beside the point.
pub const DIM: Style = Style::new().dimmed();
/// The point.
pub const STRONG: Style = Style::new().bold();

/// Puts a text into a style. The escapes are taken out again where they are not wanted.
pub fn paint(style: Style, text: impl std::fmt::Display) -> String {
    format!("{style}{text}{style:#}")
}

/// When colours are used.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

impl Color {
    fn choice(self) -> ColorChoice {
        match self {
            Self::Auto => ColorChoice::Auto,
            Self::Always => ColorChoice::Always,
            Self::Never => ColorChoice::Never,
        }
    }
}

/// Where a command writes.
#[derive(Debug, Clone, Copy)]
pub struct Output {
    /// Whether the result is one JSON document.
    pub json: bool,
    /// Whether notes and progress are left out.
    pub quiet: bool,
    /// When colours are used.
    pub color: Color,
}

impl Output {
    /// Writes a result for people; a line break is added.
    pub fn result(&self, text: impl AsRef<str>) {
        line(AutoStream::new(io::stdout(), self.color.choice()), text.as_ref());
    }

    /// Writes bytes of a file as they are.
    #[allow(clippy::unused_self)] // all writing goes through the one output
    pub fn raw(&self, text: &str) {
        let mut to = io::stdout().lock();
        ended(to.write_all(text.as_bytes()).and_then(|()| to.flush()));
    }

    /// Writes the result as the one JSON document.
    pub fn document(&self, document: &impl Serialize) {
        match serde_json::to_string_pretty(document) {
            // No text in JSON holds a control character that would have to be taken out.
            Ok(text) => line(io::stdout().lock(), &text),
            Err(error) => self.note(format!("the result cannot be written as JSON: {error}")),
        }
    }

    /// Writes a note for people, unless they want none.
    pub fn note(&self, text: impl AsRef<str>) {
        if !self.quiet {
            line(AutoStream::new(io::stderr(), self.color.choice()), text.as_ref());
        }
    }

    /// Writes an error in its three parts.
    pub fn failure(&self, failure: &Failure) {
        let Failure { what, cause, remedy, .. } = failure;
        let mut text = format!("{} {what}\n", paint(BAD, "error:"));
        for (label, part) in [("cause:", cause), ("try:  ", remedy)] {
            if !part.is_empty() {
                text.push_str(&format!(
                    "{} {}\n",
                    paint(STRONG, label),
                    part.trim_end_matches('\n')
                ));
            }
        }
        line(AutoStream::new(io::stderr(), self.color.choice()), text.trim_end());
    }

    /// A bar for something that takes long. Shown only on a terminal.
    pub fn progress(&self) -> Progress {
        Progress::new(!self.quiet && !self.json && io::stderr().is_terminal())
    }

    #[allow(clippy::unused_self)] // as above
    /// The width for tables. None: it goes on somewhere else, so nothing is wrapped.
    pub fn width(&self) -> Option<u16> {
        if !io::stdout().is_terminal() {
            return None;
        }
        terminal_size::terminal_size().map(|(width, _)| width.0.max(60))
    }
}

fn line(mut to: impl Write, text: &str) {
    ended(writeln!(to, "{text}").and_then(|()| to.flush()));
}

/// A reader that has gone does not want the rest; any other failure to write cannot be told to
/// anybody.
fn ended(outcome: io::Result<()>) {
    if let Err(error) = outcome {
        let code = if error.kind() == io::ErrorKind::BrokenPipe { 0 } else { 2 };
        std::process::exit(code);
    }
}
