//! How results, notes and errors are shown. Nothing else in the program writes to the terminal.
//!
//! Results go to stdout, everything else to stderr. A closed pipe (`larder … | head`) is a quiet end.

mod human;
mod progress;
mod report;
mod table;

use std::borrow::Cow;
use std::hash::{BuildHasher as _, RandomState};
use std::io::{self, IsTerminal as _, Write};
use std::sync::LazyLock;

use anstream::{AutoStream, ColorChoice};
use anstyle::{AnsiColor, Style};
use larder_core::shown::{is_unprintable, shown_lines, shown_log};
use serde::Serialize;

use crate::failure::Failure;

pub use human::{ago, bytes, count, date, folded, short, since, time, until};
pub use progress::Progress;
use progress::ProgressForm;
pub use report::{Report, schema};
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
    let escaped = |style: String| style.replace('\u{1b}', MARK.as_str());
    format!("{}{text}{}", escaped(style.to_string()), escaped(format!("{style:#}")))
}

/// Stands for the escape of our own styles until they are written, so that those in texts from outside can be told
/// from them: a character for private use that nobody can guess.
static MARK: LazyLock<String> = LazyLock::new(|| {
    let random = RandomState::new().hash_one(std::process::id());
    let number = 0xf_0000 + u32::try_from(random % 0xfffd).unwrap_or(0);
    char::from_u32(number).unwrap_or('\u{f0000}').into()
});

/// A text as it is written to a terminal: our own styles, and everything else that cannot be printed written out.
fn ready(text: &str) -> String {
    shown_lines(text).replace(MARK.as_str(), "\u{1b}")
}

/// A text that was made ready, to be made ready again.
fn unready(text: &str) -> String {
    text.replace('\u{1b}', MARK.as_str())
}

/// A text without styles.
fn plain(text: &str) -> String {
    anstream::adapter::strip_str(&ready(text)).to_string()
}

/// When colours are used.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Color {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
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
#[derive(Debug, Clone, Copy, Default)]
pub struct Output {
    /// Whether the result is one JSON document.
    pub json: bool,
    /// Whether notes and progress are left out.
    pub quiet: bool,
    /// When colours are used.
    pub color: Color,
    /// Whether notes and errors are lines of a log, in the form that the log has.
    pub as_log: bool,
}

/// Under which name notes and errors stand in a log.
const LOGGED: &str = "larder_server::service";

impl Output {
    /// Writes a result for people; a line break is added.
    pub fn result(&self, text: impl AsRef<str>) {
        line(AutoStream::new(io::stdout(), self.color.choice()), &ready(text.as_ref()));
    }

    #[cfg(feature = "demo")]
    /// Writes what another `larder` has made ready, with its colours.
    pub fn relay(&self, text: &str) {
        line(AutoStream::new(io::stdout(), self.color.choice()), text);
    }

    /// Writes a table, and which of its columns there was no room for.
    pub fn table(&self, table: &Table) {
        let (text, left_out) = table.arranged();
        self.result(text);
        if !left_out.is_empty() {
            self.note(format!("no room for {}; `--json` has all", left_out.join(", ")));
        }
    }

    /// Writes bytes of a file as they are; on a terminal, what cannot be printed is written out.
    pub fn raw(&self, bytes: &[u8]) {
        let mut to = io::stdout().lock();
        if to.is_terminal() {
            let text = String::from_utf8_lossy(bytes);
            return self.result(text.strip_suffix('\n').unwrap_or(&text));
        }
        ended(to.write_all(bytes).and_then(|()| to.flush()));
    }

    /// Writes the result as the one JSON document.
    fn document(&self, document: &impl Serialize) {
        match serde_json::to_string_pretty(document) {
            Ok(text) => line(io::stdout().lock(), &plain_json(&text)),
            Err(error) => self.note(format!("the result cannot be written as JSON: {error}")),
        }
    }

    /// Writes one of many JSON documents, on a line of its own.
    fn document_line(&self, document: &impl Serialize) {
        match serde_json::to_string(document) {
            Ok(text) => line(io::stdout().lock(), &plain_json(&text)),
            Err(error) => self.note(format!("the result cannot be written as JSON: {error}")),
        }
    }

    /// Writes a note for people, unless they want none.
    pub fn note(&self, text: impl AsRef<str>) {
        if self.as_log {
            let text = plain(text.as_ref());
            match text.strip_prefix("note: ") {
                Some(text) => tracing::warn!(target: LOGGED, "{text}"),
                None => tracing::info!(target: LOGGED, "{text}"),
            }
        } else if !self.quiet {
            line(AutoStream::new(io::stderr(), self.color.choice()), &ready(text.as_ref()));
        }
    }

    /// Writes an error in its three parts.
    pub fn failure(&self, failure: &Failure) {
        let Failure { what, cause, remedy, .. } = failure;
        if self.as_log {
            let [what, cause, remedy] = [what, cause, remedy].map(|text| plain(text));
            return tracing::error!(target: LOGGED, cause, r#try = remedy, "{what}");
        }
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
        line(AutoStream::new(io::stderr(), self.color.choice()), &ready(text.trim_end()));
    }

    /// Asks on a terminal whether to go on. Without a terminal nobody can be asked, and the call itself is the answer.
    pub fn confirm(&self, what: &str, question: &str) -> Result<(), Failure> {
        if self.json || !io::stdin().is_terminal() || !io::stderr().is_terminal() {
            return Ok(());
        }
        let mut to = AutoStream::new(io::stderr(), self.color.choice());
        let asked = write!(to, "{}: go on? [y/N] ", ready(question)).and_then(|()| to.flush());
        let mut answer = String::new();
        let read = asked.and_then(|()| io::stdin().read_line(&mut answer));
        match read {
            Ok(_) if matches!(answer.trim(), "y" | "Y" | "yes") => Ok(()),
            Ok(_) => Err(Failure::usage(what, "it was not confirmed", "`--yes` does not ask")
                .ending(crate::failure::Exit::No)),
            Err(error) => Err(Failure::io(what, &error)),
        }
    }

    /// A bar for something that takes long. Shown only on a terminal.
    pub fn progress(&self) -> Progress {
        let terminal = io::stderr().is_terminal();
        Progress::new(match (self.quiet || self.json, terminal) {
            (true, _) => ProgressForm::Nothing,
            (false, true) => ProgressForm::Bar,
            (false, false) => ProgressForm::Lines,
        })
    }

    #[allow(clippy::unused_self)] // as above
    /// The width for tables: the terminal's, else what `COLUMNS` says. None: nothing is folded.
    pub fn width(&self) -> Option<u16> {
        if !io::stdout().is_terminal() {
            let said = std::env::var("COLUMNS").ok()?;
            return said.trim().parse().ok().filter(|columns| *columns > 0);
        }
        terminal_size::terminal_size().map(|(width, _)| width.0.max(20))
    }
}

/// JSON whose texts hold nothing that does something to a terminal: the standard lets any character be written as its
/// number (RFC 8259, section 7).
fn plain_json(text: &str) -> Cow<'_, str> {
    let odd = |c: char| is_unprintable(c) && c != '\n';
    if !text.chars().any(odd) {
        return Cow::Borrowed(text);
    }
    let mut all = String::with_capacity(text.len() + 64);
    for c in text.chars() {
        if odd(c) {
            let mut units = [0; 2];
            all.extend(c.encode_utf16(&mut units).iter().map(|unit| format!("\\u{unit:04x}")));
        } else {
            all.push(c);
        }
    }
    Cow::Owned(all)
}

/// Where the log goes. Texts from outside in it are written out; its own colours stay.
pub struct Log<W>(pub W);

impl<W: Write> Write for Log<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        let text = String::from_utf8_lossy(bytes);
        self.0.write_all(shown_log(&text).as_bytes())?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
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
