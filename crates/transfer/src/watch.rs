//! Who is told how far a move has come.

/// Somebody who looks on, such as a bar on a terminal.
pub trait Watch: Send + Sync {
    /// So many more bytes are to be moved.
    fn expect(&self, _bytes: u64) {}

    /// So many bytes were moved.
    fn advance(&self, _bytes: u64) {}

    /// So many bytes, of those that were moved, must be moved again.
    fn take_back(&self, _bytes: u64) {}
}

/// Nobody looks on.
#[derive(Debug, Clone, Copy)]
pub struct Unwatched;

impl Watch for Unwatched {}
