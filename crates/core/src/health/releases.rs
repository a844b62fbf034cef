//! Until when systems are mended: what an image says itself, and what their makers have published.

/// The last day on which the makers of a release mend it for everybody, with what they do for longer where that is free.
/// Only releases that are well known; of others nothing is said.
const ENDS: &[(&str, &str)] = &[
    ("Debian:8", "2020-06-30"),
    ("Debian:9", "2022-06-30"),
    ("Debian:10", "2024-06-30"),
    ("Debian:11", "2026-08-31"),
    ("Debian:12", "2028-06-30"),
    ("Debian:13", "2030-06-30"),
    ("Ubuntu:14.04", "2019-04-30"),
    ("Ubuntu:16.04", "2021-04-30"),
    ("Ubuntu:18.04", "2023-05-31"),
    ("Ubuntu:20.04", "2025-05-31"),
    ("Alpine:v3.12", "2022-05-01"),
    ("Alpine:v3.13", "2022-11-01"),
    ("Alpine:v3.14", "2023-05-01"),
    ("Alpine:v3.15", "2023-11-01"),
    ("Alpine:v3.16", "2024-05-23"),
    ("Alpine:v3.17", "2024-11-22"),
    ("Alpine:v3.18", "2025-05-09"),
    ("Alpine:v3.19", "2025-11-01"),
    ("Alpine:v3.20", "2026-04-01"),
    ("Alpine:v3.21", "2026-11-01"),
    ("Alpine:v3.22", "2027-05-01"),
    ("Rocky Linux:8", "2029-05-31"),
    ("AlmaLinux:8", "2029-05-31"),
];

/// When a release is mended no more, in milliseconds since 1970: what it says itself (`SUPPORT_END` of os-release), else
/// what its makers have published; `release` is as advisories name it. None: neither is known.
pub fn release_end(release: &str, said: &str) -> Option<i64> {
    let of = |(known, _): &&(&str, &str)| {
        let rest = release.strip_prefix(known);
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with(':'))
    };
    let known = || ENDS.iter().find(of).and_then(|(_, end)| end_of(end));
    end_of(said).or_else(known)
}

/// The end of a day, in milliseconds since 1970.
fn end_of(day: &str) -> Option<i64> {
    let next = day.parse::<jiff::civil::Date>().ok()?.tomorrow().ok()?;
    Some(next.to_zoned(jiff::tz::TimeZone::UTC).ok()?.timestamp().as_millisecond())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::advisory::release_of;
    use crate::inventory::read_release;

    #[test]
    fn what_a_system_says_goes_before_what_is_known_of_it() {
        let end = |text: &str| {
            let read = read_release(text.as_bytes()).unwrap();
            let release = release_of(&read).unwrap_or_default();
            let at = release_end(&release, read.support_end.as_deref().unwrap_or_default())?;
            Some(jiff::Timestamp::from_millisecond(at).unwrap().strftime("%Y-%m-%d").to_string())
        };
        assert_eq!(end("ID=debian\nVERSION_ID=10\n").as_deref(), Some("2024-07-01"));
        assert_eq!(end("ID=ubuntu\nVERSION_ID=\"16.04\"\n").as_deref(), Some("2021-05-01"));
        assert_eq!(end("ID=alpine\nVERSION_ID=3.12.9\n").as_deref(), Some("2022-05-02"));
        assert_eq!(
            end("ID=hearth\nVERSION_ID=9\nSUPPORT_END=2025-01-31\n").as_deref(),
            Some("2025-02-01")
        );
        assert_eq!(
            end("ID=debian\nVERSION_ID=10\nSUPPORT_END=2026-01-31\n").as_deref(),
            Some("2026-02-01")
        );
        assert_eq!(
            end("ID=debian\nVERSION_ID=10\nSUPPORT_END=soon\n").as_deref(),
            Some("2024-07-01")
        );
        assert_eq!(end("ID=debian\nVERSION_CODENAME=sid\n"), None);
        assert_eq!(end("ID=debian\nVERSION_ID=110\n"), None);
    }

    #[test]
    fn all_ends_are_days() {
        assert!(ENDS.iter().all(|(_, end)| end_of(end).is_some()));
    }
}
