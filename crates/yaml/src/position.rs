//! Where something stands in a text.

/// A place in a file; both count from one, columns in characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Position {
    pub line: usize,
    pub column: usize,
}

impl Default for Position {
    fn default() -> Self {
        Self { line: 1, column: 1 }
    }
}

impl Position {
    /// Goes on past a text. A line ends with LF, CRLF or a lone CR.
    pub fn advance(&mut self, text: &str) {
        let bytes = text.as_bytes();
        let mut last = 0;
        for at in memchr::memchr2_iter(b'\n', b'\r', bytes) {
            if bytes[at] == b'\n' || bytes.get(at + 1) != Some(&b'\n') {
                self.line += 1;
                self.column = 1;
                last = at + 1;
            }
        }
        self.column += text[last..].chars().count();
    }
}
