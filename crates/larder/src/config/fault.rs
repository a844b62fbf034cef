//! A fault in a configuration file, shown where it stands.

use std::path::Path;

use larder_core::nearest::nearest;

use crate::failure::Failure;

/// A fault at a byte of a file: names file, line and column and shows the line.
pub(super) fn at(path: &Path, text: &str, byte: usize, message: &str, remedy: &str) -> Failure {
    let byte = byte.min(text.len());
    let before = text.get(..byte).unwrap_or(text);
    let start = before.rfind('\n').map_or(0, |newline| newline + 1);
    let line = before.matches('\n').count() + 1;
    let column = before[start..].chars().count() + 1;
    let shown = text[start..].lines().next().unwrap_or_default();
    let inside =
        before.matches("\"\"\"").count() % 2 == 1 || before.matches("'''").count() % 2 == 1;
    let secret = inside
        || may_hold_secrets(shown)
        || (message.ends_with(NO_KEY) && !remedy.starts_with("write `"));
    let (shown, message) = match secret {
        true => (without_values(shown, inside), without_texts(message)),
        false => (shown.to_owned(), message.to_owned()),
    };
    let number = line.to_string();
    let blank = " ".repeat(number.len());
    let mark = " ".repeat((column - 1).min(shown.chars().count()));
    let what = format!("{}:{line}:{column} cannot be used", crate::files::named(path));
    let shown = larder_core::shown::shown(&shown);
    let mut failure = Failure::usage(what, message.trim_end().replace('\n', "; "), remedy);
    failure.cause.push_str(&format!("\n\n {blank} |\n {number} | {shown}\n {blank} | {mark}^\n"));
    failure
}

/// What is said of a key that nobody knows: a mistyped one may hold a secret.
const NO_KEY: &str = " is not a key here";

/// Whether what a line sets may be a secret: it is then not shown.
fn may_hold_secrets(line: &str) -> bool {
    const WORDS: [&str; 8] =
        ["credential", "passw", "secret", "token", "login", "auth", "private", "apikey"];
    let line = line.to_ascii_lowercase();
    // A name and password in an address.
    let address = line.split("://").skip(1).any(|rest| {
        rest.split(['/', '"', '\'', ' ']).next().is_some_and(|place| place.contains('@'))
    });
    address || WORDS.iter().any(|word| line.contains(word))
}

/// A line without what it sets.
fn without_values(line: &str, inside: bool) -> String {
    match line.split_once('=') {
        Some((key, _)) if !inside => format!("{key}= …"),
        _ => "…".to_owned(),
    }
}

/// A message of the TOML reader without the text that it quotes.
fn without_texts(message: &str) -> String {
    let Some((before, rest)) = message.split_once('"') else { return message.to_owned() };
    match rest.rsplit_once('"') {
        Some((_, after)) => format!("{before}\"…\"{after}"),
        None => format!("{before}…"),
    }
}

/// A fault that the TOML reader found.
pub(super) fn toml(path: &Path, text: &str, error: &toml::de::Error) -> Failure {
    let byte = error.span().map_or(0, |span| span.start);
    let message = error.message();
    match unknown_key(message) {
        Some((key, known)) => {
            let meant = nearest(key, known.iter().copied());
            let remedy = match meant {
                Some(meant) => format!("write `{meant}`"),
                None => format!("the keys here are: {}", known.join(", ")),
            };
            at(path, text, byte, &format!("`{key}`{NO_KEY}"), &remedy)
        }
        None => at(path, text, byte, message, ""),
    }
}

/// The key and the known ones, from the reader's text for a key that it does not know.
fn unknown_key(message: &str) -> Option<(&str, Vec<&str>)> {
    let rest = message.strip_prefix("unknown field `")?;
    let (key, rest) = rest.split_once('`')?;
    Some((key, rest.split('`').skip(1).step_by(2).collect()))
}
