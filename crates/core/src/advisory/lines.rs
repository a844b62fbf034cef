//! Where do JSON documents end that stand on lines: each on one, or on many?

/// Finds the end of each document while lines come in. Each byte is looked at once, however many lines a
/// document has; whether it is JSON is for others to say.
#[derive(Debug, Clone, Default)]
pub struct DocumentLines {
    depth: usize,
    in_string: bool,
    /// The last byte that is no white space. 0: there was none.
    last: u8,
}

/// What a line is to the document that is being read.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DocumentLine {
    /// The document goes on.
    Within,
    /// It ends with this line.
    Last,
    /// What came before was broken off, and this line begins anew: it is to be given again.
    Anew,
}

impl DocumentLines {
    /// Takes a line, with its end or without.
    pub fn take(&mut self, line: &[u8]) -> DocumentLine {
        let begins = matches!(line.first(), Some(b'{'));
        // A text has no line's end in it, and an object stands only behind one of these.
        let goes_on = !self.in_string && matches!(self.last, b',' | b'[' | b':');
        if self.last != 0 && begins && !goes_on {
            *self = Self::default();
            return DocumentLine::Anew;
        }
        let mut is_escaped = false;
        for &byte in line {
            if self.in_string {
                match byte {
                    _ if is_escaped => is_escaped = false,
                    b'\\' => is_escaped = true,
                    b'"' => self.in_string = false,
                    _ => {}
                }
            } else {
                match byte {
                    b'"' => self.in_string = true,
                    b'{' | b'[' => self.depth += 1,
                    b'}' | b']' => self.depth = self.depth.saturating_sub(1),
                    _ => {}
                }
            }
            if !byte.is_ascii_whitespace() {
                self.last = byte;
            }
        }
        // A text that does not end on its line leaves the next one to say whether it begins anew.
        if self.last == 0 || self.depth > 0 || self.in_string {
            return DocumentLine::Within;
        }
        *self = Self::default();
        DocumentLine::Last
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The documents of a text, as they are told apart.
    fn documents(text: &str) -> Vec<String> {
        let (mut lines, mut document, mut all) = (DocumentLines::default(), String::new(), vec![]);
        for line in text.split_inclusive('\n') {
            let mut told = lines.take(line.as_bytes());
            if told == DocumentLine::Anew {
                all.push(std::mem::take(&mut document));
                told = lines.take(line.as_bytes());
            }
            document += line;
            if told == DocumentLine::Last {
                all.push(std::mem::take(&mut document));
            }
        }
        all.extend((!document.trim().is_empty()).then_some(document));
        all.iter().map(|one| one.trim().to_owned()).collect()
    }

    #[test]
    fn documents_end_where_they_end() {
        for (text, wanted) in [
            ("{}\n{}\n", vec!["{}", "{}"]),
            ("\n\n{}\n\n", vec!["{}"]),
            ("{\n\"a\": [\n{\n},\n{\n}\n]\n}\n{}", vec!["{\n\"a\": [\n{\n},\n{\n}\n]\n}", "{}"]),
            ("{\"a\":\"}{\\\"\"}\n{}", vec!["{\"a\":\"}{\\\"\"}", "{}"]),
            ("[\n{},\n{}\n]\n", vec!["[\n{},\n{}\n]"]),
            ("{\"a\":\n{\"b\":1}}\n", vec!["{\"a\":\n{\"b\":1}}"]),
        ] {
            assert_eq!(documents(text), wanted, "{text}");
        }
    }

    #[test]
    fn a_broken_line_takes_no_other_with_it() {
        for (text, wanted) in [
            ("no json\n{}\n", vec!["no json", "{}"]),
            ("{\"a\":1\n{}\n{}\n", vec!["{\"a\":1", "{}", "{}"]),
            ("{\"a\":\"cut\n{}\n", vec!["{\"a\":\"cut", "{}"]),
            ("{\"a\":[{\"b\":1}\n{}\n", vec!["{\"a\":[{\"b\":1}", "{}"]),
            ("}\n{}\n", vec!["}", "{}"]),
            ("{\"a\":1,\n{\"lost\":1}\n{}\n", vec!["{\"a\":1,\n{\"lost\":1}", "{}"]),
        ] {
            assert_eq!(documents(text), wanted, "{text}");
        }
    }
}
