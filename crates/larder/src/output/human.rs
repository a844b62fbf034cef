//! Sizes, times and numbers for people.

use larder_core::digest::Digest;

/// A size in binary units.
pub fn bytes(size: u64) -> String {
    bytesize::ByteSize::b(size).display().iec().to_string()
}

/// A number with the right form of its noun.
pub fn count(number: usize, noun: &str) -> String {
    match (number, noun) {
        (1, noun) => format!("1 {noun}"),
        (number, noun) if noun.ends_with("ry") => {
            format!("{number} {}ies", &noun[..noun.len() - 1])
        }
        (number, noun) => format!("{number} {noun}s"),
    }
}

/// A digest, short.
pub fn short(digest: &Digest) -> &str {
    digest.short()
}

/// A text over several lines, each after the first set in by `indent` columns. Without a width it
/// stays one line; a word that is longer than a line is not broken.
pub fn folded(text: &str, width: Option<u16>, indent: usize) -> String {
    let Some(room) = width.map(|width| usize::from(width).saturating_sub(indent).max(20)) else {
        return text.to_owned();
    };
    let mut folded = String::with_capacity(text.len());
    let mut column = 0;
    for word in text.split(' ') {
        let long = word.chars().count();
        if column > 0 && column + 1 + long > room {
            folded.push('\n');
            folded.extend(std::iter::repeat_n(' ', indent));
            column = 0;
        } else if !folded.is_empty() {
            folded.push(' ');
            column += 1;
        }
        folded.push_str(word);
        column += long;
    }
    folded
}

/// How long ago a time was, both in milliseconds since 1970.
pub fn ago(then: i64, now: i64) -> String {
    let seconds = now.saturating_sub(then).max(0) / 1000;
    let (number, unit) = match seconds {
        0..=59 => return "just now".into(),
        60..=3_599 => (seconds / 60, "minute"),
        3_600..=86_399 => (seconds / 3_600, "hour"),
        _ => (seconds / 86_400, "day"),
    };
    format!("{} ago", count(usize::try_from(number).unwrap_or(0), unit))
}

/// How long it is until a time.
pub fn until(then: i64, now: i64) -> String {
    let seconds = then.saturating_sub(now).max(0).saturating_add(999) / 1000;
    let (number, unit) = match seconds {
        0..=119 => (seconds, "second"),
        120..=7_199 => (seconds / 60, "minute"),
        7_200..=172_799 => (seconds / 3_600, "hour"),
        _ => (seconds / 86_400, "day"),
    };
    count(usize::try_from(number).unwrap_or(0), unit)
}

/// A time in milliseconds since 1970 as RFC 3339 in UTC, to the second.
pub fn time(at: i64) -> String {
    let seconds = jiff::Timestamp::from_second(at.div_euclid(1000));
    seconds.map_or_else(|_| String::new(), |time| time.to_string())
}

/// The day of a time in milliseconds since 1970, in UTC.
pub fn date(at: i64) -> String {
    time(at).get(..10).unwrap_or_default().to_owned()
}

/// How long ago a time in RFC 3339 was; the text itself where it is none.
pub fn since(text: &str, now: i64) -> String {
    let time: Result<jiff::Timestamp, _> = text.parse();
    time.map_or_else(|_| text.to_owned(), |time| ago(time.as_millisecond(), now))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!(bytes(1536), "1.5 KiB");
        assert_eq!(count(1, "image"), "1 image");
        assert_eq!(count(2, "image"), "2 images");
        assert_eq!(count(0, "entry"), "0 entries");
        assert_eq!(ago(0, 30_000), "just now");
        assert_eq!(ago(0, 60_000), "1 minute ago");
        assert_eq!(ago(0, 3 * 86_400_000), "3 days ago");
        assert_eq!(since("1970-01-01T00:00:00Z", 7_200_000), "2 hours ago");
        assert_eq!(since("some day", 0), "some day");
    }

    #[test]
    fn text_is_folded_between_words() {
        let text = "the tag is not there; there are 1.9.2 and 1.8";
        assert_eq!(folded(text, None, 4), text);
        assert_eq!(folded(text, Some(28), 4), "the tag is not there;\n    there are 1.9.2 and 1.8");
        let digest = "sha256:0123456789012345678901234567890123456789";
        assert_eq!(folded(digest, Some(10), 2), digest, "no word is broken");
    }
}
