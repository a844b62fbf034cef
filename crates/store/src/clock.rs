//! The one clock of the records.

use std::time::{SystemTime, UNIX_EPOCH};

/// Milliseconds since 1970.
pub fn now() -> i64 {
    let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
    i64::try_from(since.as_millis()).unwrap_or(i64::MAX)
}
