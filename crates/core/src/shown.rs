//! How is a text from outside shown to people? Names of files, tags and platforms, words of upstreams and labels can
//! hold anything: what moves a cursor, turns the writing round or begins a line of its own is shown, not done.

use std::borrow::Cow;
use std::fmt;

/// Whether a character does something to a terminal or a line instead of standing in it: controls, marks that turn
/// the direction of writing (Unicode, "Bidirectional Algorithm"), line and paragraph separators, what has no shape.
pub fn is_unprintable(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{61c}' | '\u{180e}' | '\u{200b}'..='\u{200f}' | '\u{2028}'..='\u{202e}'
            | '\u{2060}'..='\u{206f}' | '\u{fe00}'..='\u{fe0f}' | '\u{feff}' | '\u{fff9}'..='\u{fffc}'
            | '\u{e0000}'..='\u{e0fff}')
}

/// A text on one line, with what cannot be printed written as `\u{…}`.
pub fn shown(text: &str) -> Cow<'_, str> {
    if !text.chars().any(is_unprintable) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.chars().fold(String::with_capacity(text.len() + 16), |mut all, c| {
        match c {
            '\n' => all.push_str("\\n"),
            '\r' => all.push_str("\\r"),
            '\t' => all.push_str("\\t"),
            c if is_unprintable(c) => all.extend(c.escape_unicode()),
            c => all.push(c),
        }
        all
    }))
}

/// A text of several lines: these stay, and everything else that cannot be printed is shown.
pub fn shown_lines(text: &str) -> Cow<'_, str> {
    if !text.chars().any(|c| is_unprintable(c) && !matches!(c, '\n' | '\t')) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(text.chars().fold(String::with_capacity(text.len() + 16), |mut all, c| {
        match c {
            '\n' | '\t' => all.push(c),
            c if is_unprintable(c) => all.extend(c.escape_unicode()),
            c => all.push(c),
        }
        all
    }))
}

/// Lines of a log, with the colours that the log itself puts in (SGR, `ESC [ … m`). Everything else that cannot be
/// printed is shown.
pub fn shown_log(text: &str) -> Cow<'_, str> {
    if !text.chars().any(|c| is_unprintable(c) && c != '\n') {
        return Cow::Borrowed(text);
    }
    let mut all = String::with_capacity(text.len() + 16);
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let colour = rest.strip_prefix("\u{1b}[").and_then(|after| {
            let end = after.find(|c: char| !c.is_ascii_digit() && c != ';')?;
            after[end..].starts_with('m').then_some(2 + end + 1)
        });
        let length = match colour {
            Some(length) => {
                all.push_str(&rest[..length]);
                length
            }
            None => {
                match c {
                    '\n' => all.push(c),
                    '\t' => all.push_str("    "),
                    c if is_unprintable(c) => all.extend(c.escape_unicode()),
                    c => all.push(c),
                }
                c.len_utf8()
            }
        };
        rest = &rest[length..];
    }
    Cow::Owned(all)
}

/// A text from outside on one line, cut to so many characters.
pub fn cut(text: &str, most: usize) -> String {
    let whole = shown(text);
    match whole.char_indices().nth(most) {
        Some((end, _)) => format!("{}…", &whole[..end]),
        None => whole.into_owned(),
    }
}

/// Shows a value from outside on one line, wherever it is written.
pub struct Shown<T>(pub T);

impl<T: fmt::Display> fmt::Display for Shown<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&shown(&self.0.to_string()))
    }
}

/// A text in plain ASCII, for what carries nothing else (the status line of HTTP): letters without their marks, quotation
/// marks and dashes as they are typed; what has no such form is `?`.
pub fn in_ascii(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    for c in text.chars() {
        match c {
            ' '..='~' => plain.push(c),
            _ => plain.push_str(as_ascii(c).unwrap_or("?")),
        }
    }
    plain
}

/// The characters of a text that [`in_ascii`] cannot keep.
pub fn lost_in_ascii(text: &str) -> Vec<char> {
    text.chars().filter(|c| !matches!(c, ' '..='~') && as_ascii(*c).is_none()).collect()
}

fn as_ascii(c: char) -> Option<&'static str> {
    Some(match c {
        'ä' | 'æ' => "ae",
        'ö' | 'œ' => "oe",
        'ü' => "ue",
        'Ä' | 'Æ' => "Ae",
        'Ö' | 'Œ' => "Oe",
        'Ü' => "Ue",
        'ß' => "ss",
        'á' | 'à' | 'â' | 'ã' | 'å' | 'ă' | 'ą' => "a",
        'Á' | 'À' | 'Â' | 'Ã' | 'Å' | 'Ă' | 'Ą' => "A",
        'ç' | 'ć' | 'č' => "c",
        'Ç' | 'Ć' | 'Č' => "C",
        'ď' | 'đ' => "d",
        'Ď' | 'Đ' => "D",
        'é' | 'è' | 'ê' | 'ë' | 'ě' | 'ę' => "e",
        'É' | 'È' | 'Ê' | 'Ë' | 'Ě' | 'Ę' => "E",
        'ğ' => "g",
        'í' | 'ì' | 'î' | 'ï' | 'ı' => "i",
        'Í' | 'Ì' | 'Î' | 'Ï' | 'İ' => "I",
        'ł' => "l",
        'Ł' => "L",
        'ñ' | 'ń' | 'ň' => "n",
        'Ñ' | 'Ń' | 'Ň' => "N",
        'ó' | 'ò' | 'ô' | 'õ' | 'ø' | 'ő' => "o",
        'Ó' | 'Ò' | 'Ô' | 'Õ' | 'Ø' | 'Ő' => "O",
        'ř' => "r",
        'Ř' => "R",
        'ś' | 'š' | 'ş' | 'ș' => "s",
        'Ś' | 'Š' | 'Ş' | 'Ș' => "S",
        'ť' | 'ţ' | 'ț' => "t",
        'ú' | 'ù' | 'û' | 'ů' | 'ű' => "u",
        'Ú' | 'Ù' | 'Û' | 'Ů' | 'Ű' => "U",
        'ý' | 'ÿ' => "y",
        'Ý' => "Y",
        'ź' | 'ż' | 'ž' => "z",
        'Ź' | 'Ż' | 'Ž' => "Z",
        '“' | '”' | '„' | '«' | '»' => "\"",
        '‘' | '’' | '‚' => "'",
        '–' | '—' | '‑' => "-",
        '…' => "...",
        '→' => "->",
        '×' => "x",
        '\u{a0}' | '\u{202f}' | '\t' | '\n' => " ",
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_would_do_something_is_shown_instead() {
        assert_eq!(shown("kettle:2 größe 火"), "kettle:2 größe 火");
        assert_eq!(shown("a\u{1b}]0;x\u{7}b\nc"), "a\\u{1b}]0;x\\u{7}b\\nc");
        assert_eq!(shown("a\u{202e}b\u{2028}c\u{9b}1m"), "a\\u{202e}b\\u{2028}c\\u{9b}1m");
        assert_eq!(shown_log("\u{1b}[1;31mred\u{1b}[0m\nnext"), "\u{1b}[1;31mred\u{1b}[0m\nnext");
        assert_eq!(shown_log("\u{1b}[2J\u{1b}[31x\r"), "\\u{1b}[2J\\u{1b}[31x\\u{d}");
        assert_eq!(shown_lines("\u{1b}[31mred\na\tb"), "\\u{1b}[31mred\na\tb");
        assert_eq!(cut("abcdef", 3), "abc…");
        assert_eq!(Shown("\u{7}").to_string(), "\\u{7}");
    }
}
