//! Which bytes? Range and Content-Range, as clients write them.

use std::ops::Range;

/// What a Range header asks for.
#[derive(Debug, PartialEq, Eq)]
pub enum RequestedRange {
    /// It cannot be read or asks for several pieces: it is ignored, as RFC 9110 allows.
    Whole,
    /// These bytes.
    Part(Range<u64>),
    /// Bytes that the blob does not have.
    Outside,
}

/// Reads a Range header (RFC 9110, section 14.2).
pub fn read_range(text: &str, size: u64) -> RequestedRange {
    let Some((first, last)) = text.strip_prefix("bytes=").and_then(|range| range.split_once('-'))
    else {
        return RequestedRange::Whole;
    };
    let number = |text: &str| {
        text.bytes().all(|b| b.is_ascii_digit()).then(|| text.parse::<u64>().ok()).flatten()
    };
    match (first.trim(), last.trim()) {
        ("", suffix) => match number(suffix) {
            Some(0) => RequestedRange::Outside,
            Some(_) if size == 0 => RequestedRange::Outside,
            Some(count) => RequestedRange::Part(size.saturating_sub(count)..size),
            None => RequestedRange::Whole,
        },
        (first, last) => match (number(first), number(last)) {
            (Some(first), _) if first >= size => RequestedRange::Outside,
            (Some(first), None) if last.is_empty() => RequestedRange::Part(first..size),
            (Some(first), Some(last)) if first <= last => {
                RequestedRange::Part(first..size.min(last.saturating_add(1)))
            }
            _ => RequestedRange::Whole,
        },
    }
}

/// Reads `START-END`, the Distribution Specification's form of Content-Range, and RFC 9110's
/// `bytes START-END/SIZE`. None: it is neither.
pub fn read_content_range(text: &str) -> Option<(u64, u64)> {
    let text = text.strip_prefix("bytes ").unwrap_or(text);
    let (start, end) = text.split('/').next()?.split_once('-')?;
    let number = |text: &str| {
        let digits = !text.is_empty() && text.bytes().all(|byte| byte.is_ascii_digit());
        digits.then(|| text.parse::<u64>().ok()).flatten()
    };
    let (start, end) = (number(start)?, number(end)?);
    // One more than the last byte is counted with.
    (start <= end && end < u64::MAX).then_some((start, end))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_the_standard_says() {
        for (text, asked) in [
            ("bytes=0-9", RequestedRange::Part(0..10)),
            ("bytes=90-", RequestedRange::Part(90..100)),
            ("bytes=90-1000", RequestedRange::Part(90..100)),
            ("bytes=90-18446744073709551615", RequestedRange::Part(90..100)),
            ("bytes=-10", RequestedRange::Part(90..100)),
            ("bytes=-1000", RequestedRange::Part(0..100)),
            ("bytes=100-", RequestedRange::Outside),
            ("bytes=-0", RequestedRange::Outside),
            ("bytes=9-0", RequestedRange::Whole),
            ("bytes=0-1,5-6", RequestedRange::Whole),
            ("bytes=+1-2", RequestedRange::Whole),
            ("lines=0-1", RequestedRange::Whole),
            ("bytes=x", RequestedRange::Whole),
        ] {
            assert_eq!(read_range(text, 100), asked, "{text}");
        }
        assert_eq!(read_range("bytes=-1", 0), RequestedRange::Outside);
    }

    proptest::proptest! {
        #[test]
        fn a_range_never_leaves_the_blob(text in "bytes=[0-9]{0,21}-[0-9]{0,21}|\\PC*", size in 0u64..1000) {
            if let RequestedRange::Part(range) = read_range(&text, size) {
                proptest::prop_assert!(range.start < range.end && range.end <= size);
            }
        }
    }

    #[test]
    fn content_ranges_are_read_as_both_standards_write_them() {
        for (text, range) in [
            ("0-9", Some((0, 9))),
            ("5-5", Some((5, 5))),
            ("bytes 0-9/10", Some((0, 9))),
            ("bytes 0-9/*", Some((0, 9))),
            ("9-0", None),
            ("-9", None),
            ("+1-9", None),
            ("0-18446744073709551615", None),
            ("0-99999999999999999999", None),
            ("x", None),
        ] {
            assert_eq!(read_content_range(text), range, "{text}");
        }
    }
}
