//! What does a registry say of its rate limit? The `ratelimit-…` fields that registries send with
//! their answers, with or without `x-` in front.

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use larder_core::allowance::ReportedLimit;
use reqwest::header::HeaderMap;

/// The longest window that is believed.
const LONGEST: u64 = 31 * 24 * 3600;

/// Reads the fields. None: the registry does not say what is left.
///
/// The usual form is `ratelimit-limit: 100;w=21600` with `ratelimit-remaining: 76;w=21600`, the
/// window in seconds; some send `ratelimit-reset` with the seconds until all is back.
pub(crate) fn read(headers: &HeaderMap, now: SystemTime) -> Option<ReportedLimit> {
    let field = |name: &str| {
        let plain = headers.get(format!("ratelimit-{name}"));
        let text = plain.or_else(|| headers.get(format!("x-ratelimit-{name}")))?.to_str().ok()?;
        let mut parts = text.split(';').map(str::trim);
        let number: u64 = parts.next()?.split(',').next()?.trim().parse().ok()?;
        let window = parts.find_map(|part| part.strip_prefix("w=")?.parse::<u64>().ok());
        Some((number, window))
    };
    let (remaining, window) = field("remaining")?;
    let limit = field("limit");
    let window = window.or(limit.and_then(|(_, window)| window));
    // A number too large to be a span is a point in time, which some send instead.
    let reset = field("reset").map(|(seconds, _)| seconds).filter(|seconds| *seconds <= LONGEST);
    let at = now.duration_since(UNIX_EPOCH).unwrap_or_default();
    Some(ReportedLimit {
        remaining,
        limit: limit.map(|(number, _)| number),
        back_in: reset.or(window).map(|seconds| Duration::from_secs(seconds.min(LONGEST))),
        at: i64::try_from(at.as_millis()).unwrap_or(i64::MAX),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn reported(fields: &[(&'static str, &str)]) -> Option<(u64, Option<u64>, Option<u64>)> {
        let mut headers = HeaderMap::new();
        for (name, value) in fields {
            headers.insert(*name, value.parse().unwrap());
        }
        let read = read(&headers, UNIX_EPOCH + Duration::from_secs(5))?;
        assert_eq!(read.at, 5_000);
        Some((read.remaining, read.limit, read.back_in.map(|span| span.as_secs())))
    }

    #[test]
    fn the_usual_forms_are_read() {
        let usual = [("ratelimit-limit", "100;w=21600"), ("ratelimit-remaining", "76;w=21600")];
        assert_eq!(reported(&usual), Some((76, Some(100), Some(21_600))));
        let other = [("x-ratelimit-remaining", "7"), ("x-ratelimit-reset", "60")];
        assert_eq!(reported(&other), Some((7, None, Some(60))));
        assert_eq!(reported(&[("ratelimit-remaining", "3, 3;w=1")]), Some((3, None, Some(1))));
    }

    #[test]
    fn what_is_no_number_says_nothing() {
        assert_eq!(reported(&[("ratelimit-limit", "100;w=21600")]), None);
        assert_eq!(reported(&[("ratelimit-remaining", "-1")]), None);
        assert_eq!(reported(&[("ratelimit-remaining", "many;w=x")]), None);
        let epoch = [("ratelimit-remaining", "1"), ("ratelimit-reset", "1790000000")];
        assert_eq!(reported(&epoch), Some((1, None, None)));
    }
}
