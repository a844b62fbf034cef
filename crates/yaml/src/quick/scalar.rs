//! Scalars: plain, in quotes, and in blocks.

use std::borrow::Cow;
use std::ops::Range;

use granit_parser::ScalarStyle;

use super::Plain;

/// A scalar as it stands.
pub(super) struct Scalar<'t> {
    pub value: Cow<'t, str>,
    pub style: ScalarStyle,
    pub span: Range<usize>,
}

impl<'t> Plain<'t> {
    /// A scalar that ends on its line. It may turn out to be a key.
    pub(super) fn scalar(&mut self, in_flow: bool) -> Option<Scalar<'t>> {
        let start = self.at;
        let first = self.peek()?;
        if matches!(first, b'"' | b'\'') {
            let value = self.quoted(first)?;
            let style = match first {
                b'"' => ScalarStyle::DoubleQuoted,
                _ => ScalarStyle::SingleQuoted,
            };
            return Some(Scalar { value, style, span: start..self.at });
        }
        let next = self.bytes.get(start + 1).copied().unwrap_or(b' ');
        let marks = b"?:,[]{}#&*!|>%@`";
        if marks.contains(&first) || (first == b'-' && b" \n\t:,[]{}".contains(&next)) {
            return None;
        }
        let mut end = start;
        while let Some(byte) = self.peek() {
            match byte {
                b'\n' => break,
                b'\t' => return None,
                b':' => match self.bytes.get(self.at + 1) {
                    None | Some(b' ' | b'\n' | b'\t') => break,
                    Some(_) if in_flow => return None,
                    Some(_) => end = self.at + 1,
                },
                b'#' if end != self.at => break,
                b',' | b']' | b'}' if in_flow => break,
                b'[' | b'{' if in_flow => return None,
                b' ' => {}
                _ => end = self.at + 1,
            }
            self.at += 1;
        }
        // A key ends where its colon stands.
        if self.peek() == Some(b':') && end != self.at {
            return None;
        }
        self.at = end;
        let span = start..end;
        Some(Scalar { value: self.text[span.clone()].into(), style: ScalarStyle::Plain, span })
    }

    /// A scalar in quotes.
    fn quoted(&mut self, quote: u8) -> Option<Cow<'t, str>> {
        let start = self.at + 1;
        let escape = if quote == b'"' { b'\\' } else { quote };
        let mut from = start;
        let mut value = Cow::Borrowed("");
        self.at = start;
        loop {
            self.at += memchr::memchr3(quote, escape, b'\n', &self.bytes[self.at..])?;
            let next = self.bytes.get(self.at + 1).copied().unwrap_or(b'\n');
            let escaped = match (self.bytes[self.at], next) {
                (b'\n', _) => return None,
                (b'\'', b'\'') | (b'\\', b'"' | b'\\' | b'/') => next,
                (b'\\', b'n') => b'\n',
                (b'\\', b't') => b'\t',
                (b'\\', _) => return None,
                _ => break,
            };
            let value = value.to_mut();
            value.push_str(&self.text[from..self.at]);
            value.push(char::from(escaped));
            self.at += 2;
            from = self.at;
        }
        let last = &self.text[from..self.at];
        if memchr::memchr(b'\t', &self.bytes[start..self.at]).is_some() {
            return None;
        }
        self.at += 1;
        if from == start {
            return Some(Cow::Borrowed(last));
        }
        value.to_mut().push_str(last);
        Some(value)
    }

    /// A scalar that is no key, with the lines on which it goes on (YAML 1.2, 7.3.3).
    pub(super) fn whole(&mut self, mut scalar: Scalar<'t>) -> Option<()> {
        let parent = self.open.last()?.column;
        while scalar.style == ScalarStyle::Plain {
            let (mut line, mut ends) = (self.at, 0);
            let column = loop {
                let blanks = spaces(&self.bytes[line..]);
                match self.bytes.get(line + blanks) {
                    Some(b'\n') => ends += 1,
                    Some(b'#') | None => break 0,
                    Some(_) if ends == 0 => return None,
                    Some(_) => break blanks,
                }
                line += blanks + 1;
            };
            if column <= parent {
                break;
            }
            (self.line, self.at) = (line, line + column);
            let more = self.scalar(false)?;
            if more.style != ScalarStyle::Plain || self.peek() == Some(b':') {
                return None;
            }
            let value = scalar.value.to_mut();
            match ends {
                1 => value.push(' '),
                _ => value.extend(std::iter::repeat_n('\n', ends - 1)),
            }
            value.push_str(&more.value);
            scalar.span.end = more.span.end;
        }
        self.add(scalar)?;
        self.line_ends()
    }

    /// A block scalar (YAML 1.2, 8.1) whose indentation is that of its first line.
    pub(super) fn block_scalar(&mut self, style: ScalarStyle) -> Option<()> {
        let parent = self.open.last()?.column;
        self.at += 1;
        let chomping = self.peek().filter(|byte| b"+-".contains(byte));
        self.at += usize::from(chomping.is_some());
        self.line_ends()?;
        let indent = spaces(&self.bytes[self.at..]);
        let start = self.at + indent;
        if indent <= parent || matches!(self.bytes.get(start)?, b'\n' | b'\t') {
            return None;
        }
        let mut value = String::new();
        // Ends of lines that come into the value only when another line follows.
        let mut ends = 0;
        loop {
            let spaces = spaces(&self.bytes[self.at..]).min(indent);
            let first = self.bytes.get(self.at + spaces).copied();
            if first == Some(b'\n') {
                ends += 1;
                self.at += spaces + 1;
                continue;
            }
            if spaces < indent || first.is_none() {
                if first == Some(b'\t') || (first.is_none() && spaces > 0) {
                    return None;
                }
                self.at += spaces;
                break;
            }
            match style {
                ScalarStyle::Folded if matches!(first, Some(b' ' | b'\t')) => return None,
                ScalarStyle::Folded if ends == 1 => value.push(' '),
                ScalarStyle::Folded => value.extend(std::iter::repeat_n('\n', ends.max(1) - 1)),
                _ => value.extend(std::iter::repeat_n('\n', ends)),
            }
            let content = self.at + spaces;
            let length = memchr::memchr(b'\n', &self.bytes[content..])?;
            value.push_str(&self.text[content..content + length]);
            self.at = content + length + 1;
            ends = 1;
        }
        match chomping {
            None => value.push('\n'),
            Some(b'+') => value.extend(std::iter::repeat_n('\n', ends)),
            Some(_) => {}
        }
        self.add(Scalar { value: value.into(), style, span: start..self.at })?;
        // The next line is read from its beginning.
        self.at = self.text[..self.at].rfind('\n')? + 1;
        Some(())
    }
}

/// How many spaces a text begins with.
fn spaces(bytes: &[u8]) -> usize {
    bytes.iter().take_while(|byte| **byte == b' ').count()
}
