//! What does a certificate say of itself? Enough of X.509 (RFC 5280) to tell an operator whose it is,
//! who signed it, for which names and until when. Whether it is to be believed is for the TLS library.

mod usage;

use jiff::civil::DateTime;
use jiff::tz::TimeZone;

use crate::der::{OID, SEQUENCE, Value, expect, next};

pub use usage::{CertificateUsage, list_end};

/// What a certificate says.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Certificate {
    /// Whose it is. Empty: it does not say.
    pub subject: String,
    /// Who signed it.
    pub issuer: String,
    /// From when it is good, in seconds since 1970.
    pub from: i64,
    /// Until when, in seconds since 1970.
    pub until: i64,
    /// The names and addresses that it is for.
    pub names: Vec<String>,
}

impl Certificate {
    /// Whether it is for a name or an address, as nodes read it: `*` stands for one part at the front (RFC 6125).
    pub fn is_for(&self, name: &str) -> bool {
        self.names.iter().any(|own| {
            if own.eq_ignore_ascii_case(name) {
                return true;
            }
            let rest = name.split_once('.').map(|(_, rest)| rest);
            own.strip_prefix("*.")
                .zip(rest)
                .is_some_and(|(own, rest)| own.eq_ignore_ascii_case(rest))
        })
    }

    /// Whether it signed itself.
    pub fn is_self_signed(&self) -> bool {
        self.subject == self.issuer
    }
}

/// The largest certificate that is read, in bytes.
const LIMIT: usize = 64 * 1024;
/// Names that are taken from one.
const NAMES: usize = 100;

const COMMON_NAME: &[u8] = &[0x55, 0x04, 0x03];
const ORGANISATION: &[u8] = &[0x55, 0x04, 0x0a];
const ALTERNATIVE_NAMES: &[u8] = &[0x55, 0x1d, 0x11];

/// Reads a certificate in DER. None: it is none.
pub fn read(der: &[u8]) -> Option<Certificate> {
    if der.len() > LIMIT {
        return None;
    }
    let mut whole = der;
    let mut certificate = expect(&mut whole, SEQUENCE)?;
    let mut body = expect(&mut certificate, SEQUENCE)?;
    // The version stands in front of the serial number, but for the oldest.
    if next(&mut body)?.tag == 0xa0 {
        next(&mut body)?;
    }
    expect(&mut body, SEQUENCE)?; // the signature's algorithm
    let issuer = name(expect(&mut body, SEQUENCE)?);
    let mut validity = expect(&mut body, SEQUENCE)?;
    let (from, until) = (time(next(&mut validity)?)?, time(next(&mut validity)?)?);
    let subject = name(expect(&mut body, SEQUENCE)?);
    expect(&mut body, SEQUENCE)?; // the public key
    let mut names = Vec::new();
    while let Some(more) = next(&mut body) {
        if more.tag == 0xa3 {
            names = alternative_names(more.content).unwrap_or_default();
        }
    }
    Some(Certificate { subject, issuer, from, until, names })
}

/// A name in one line: the common name, else the organisation.
fn name(mut from: &[u8]) -> String {
    let (mut common, mut organisation) = (None, None);
    while let Some(set) = next(&mut from) {
        let mut inside = set.content;
        while let Some(pair) = expect(&mut inside, SEQUENCE) {
            let mut pair = pair;
            let (Some(kind), Some(value)) = (expect(&mut pair, OID), next(&mut pair)) else {
                break;
            };
            match kind {
                COMMON_NAME => common = Some(text(value.content)),
                ORGANISATION => organisation = Some(text(value.content)),
                _ => {}
            }
        }
    }
    common.or(organisation).unwrap_or_default()
}

/// A text of a stranger's: control characters are left out.
fn text(bytes: &[u8]) -> String {
    crate::shown::cut(&String::from_utf8_lossy(bytes), 200)
}

/// `UTCTime` or `GeneralizedTime`, in UTC: seconds since 1970.
pub(crate) fn time(value: Value<'_>) -> Option<i64> {
    let text = std::str::from_utf8(value.content).ok()?.strip_suffix('Z')?;
    let (year, rest) = match value.tag {
        0x17 => {
            let year: i16 = text.get(..2)?.parse().ok()?;
            (if year < 50 { 2000 + year } else { 1900 + year }, text.get(2..)?)
        }
        0x18 => (text.get(..4)?.parse().ok()?, text.get(4..)?),
        _ => return None,
    };
    let part = |at: usize| rest.get(at..at + 2).and_then(|two| two.parse::<i8>().ok());
    let moment =
        DateTime::new(year, part(0)?, part(2)?, part(4)?, part(6)?, part(8).unwrap_or(0), 0)
            .ok()?;
    Some(moment.to_zoned(TimeZone::UTC).ok()?.timestamp().as_second())
}

fn alternative_names(mut wrapped: &[u8]) -> Option<Vec<String>> {
    let mut extensions = expect(&mut wrapped, SEQUENCE)?;
    while let Some(mut extension) = expect(&mut extensions, SEQUENCE) {
        if expect(&mut extension, OID)? != ALTERNATIVE_NAMES {
            continue;
        }
        let mut value = next(&mut extension)?;
        // Whether it is critical stands before it.
        if value.tag == 0x01 {
            value = next(&mut extension)?;
        }
        let mut inside = value.content;
        let mut list = expect(&mut inside, SEQUENCE)?;
        let mut names = Vec::new();
        while let Some(one) = next(&mut list).filter(|_| names.len() < NAMES) {
            match (one.tag, one.content) {
                (0x82, name) => names.push(text(name)),
                (0x87, &[a, b, c, d]) => names.push(format!("{a}.{b}.{c}.{d}")),
                (0x87, address) => {
                    if let Ok(octets) = <[u8; 16]>::try_from(address) {
                        names.push(std::net::Ipv6Addr::from(octets).to_string());
                    }
                }
                _ => {}
            }
        }
        return Some(names);
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    /// A certificate of the made-up larder, as a standard tool wrote it.
    fn der() -> Vec<u8> {
        let names = rcgen::CertificateParams::new(vec![
            "larder.emberfall.example".to_owned(),
            "127.0.0.1".to_owned(),
        ]);
        let mut params = names.unwrap();
        params.distinguished_name.push(rcgen::DnType::CommonName, "the larder");
        params.not_before = rcgen::date_time_ymd(2026, 1, 2);
        params.not_after = rcgen::date_time_ymd(2051, 3, 4);
        let key = rcgen::KeyPair::generate().unwrap();
        params.self_signed(&key).unwrap().der().to_vec()
    }

    #[test]
    fn a_certificate_tells_whose_it_is_and_until_when() {
        let read = read(&der()).unwrap();
        assert_eq!(read.subject, "the larder");
        assert!(read.is_self_signed());
        assert_eq!(read.names, ["larder.emberfall.example", "127.0.0.1"]);
        let day = |at: i64| jiff::Timestamp::from_second(at).unwrap().to_string();
        assert_eq!(day(read.from), "2026-01-02T00:00:00Z");
        assert_eq!(day(read.until), "2051-03-04T00:00:00Z");
    }

    proptest::proptest! {
        #[test]
        fn no_bytes_panic(bytes: Vec<u8>, at in 0usize..2000, byte: u8) {
            read(&bytes);
            let mut changed = der();
            let at = at % changed.len();
            changed[at] = byte;
            read(&changed);
            read(&changed[..at]);
        }
    }
}
