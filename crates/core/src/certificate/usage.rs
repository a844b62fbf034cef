//! What a certificate is for, and who its key is: what a verifier of signatures asks beyond the chain (RFC 5280).

use super::time;
use crate::der::{BITS, OCTETS, OID, SEQUENCE, Value, expect, next, only, whole};

/// What a certificate says of its key.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CertificateUsage {
    /// `SubjectPublicKeyInfo` in DER.
    pub key: Vec<u8>,
    /// The serial number with its issuer, by which others name it.
    pub serial: Vec<u8>,
    pub issuer: Vec<u8>,
    /// In seconds since 1970.
    pub from: i64,
    pub until: i64,
    /// What the key may be used for, its first nine bits (section 4.2.1.3). None: it does not say.
    pub key_usage: Option<u16>,
    /// Purposes, each by its identifier (section 4.2.1.12). None: it does not say.
    pub purposes: Option<Vec<Vec<u8>>>,
    /// Whether the purposes must be understood.
    pub purposes_are_critical: bool,
    /// Whether it may sign certificates.
    pub is_authority: bool,
    /// The mail addresses and the URIs of its holder (section 4.2.1.6), only what is plain ASCII without control characters.
    pub emails: Vec<String>,
    pub uris: Vec<String>,
}

/// `digitalSignature` and `keyCertSign` among the first nine bits.
const SIGNS: u16 = 0x100;
const CERTIFIES: u16 = 0x100 >> 5;

const KEY_USAGE: &[u8] = &[0x55, 0x1d, 0x0f];
const ALTERNATIVE_NAMES: &[u8] = &[0x55, 0x1d, 0x11];
const BASIC: &[u8] = &[0x55, 0x1d, 0x13];
const PURPOSES: &[u8] = &[0x55, 0x1d, 0x25];
/// The most names, purposes and extensions that are read.
const MOST: usize = 100;

impl CertificateUsage {
    /// Reads a certificate in DER. None: it is none, or says a thing twice.
    pub fn read(der: &[u8]) -> Option<Self> {
        if der.len() > super::LIMIT {
            return None;
        }
        let mut certificate = only(der, SEQUENCE)?;
        let mut body = expect(&mut certificate, SEQUENCE)?;
        let mut serial = next(&mut body)?;
        if serial.tag == 0xa0 {
            serial = next(&mut body)?;
        }
        expect(&mut body, SEQUENCE)?;
        let issuer = whole(&mut body)?.to_vec();
        let mut validity = expect(&mut body, SEQUENCE)?;
        let (from, until) = (time(next(&mut validity)?)?, time(next(&mut validity)?)?);
        expect(&mut body, SEQUENCE)?;
        let key = whole(&mut body)?.to_vec();
        let mut read =
            Self { key, serial: serial.content.to_vec(), issuer, from, until, ..Self::default() };
        while let Some(more) = next(&mut body) {
            if more.tag == 0xa3 {
                read.extensions(only(more.content, SEQUENCE)?)?;
            }
        }
        Some(read)
    }

    fn extensions(&mut self, mut all: &[u8]) -> Option<()> {
        let mut seen: Vec<&[u8]> = Vec::new();
        while !all.is_empty() {
            let mut extension = expect(&mut all, SEQUENCE)?;
            let kind = expect(&mut extension, OID)?;
            if seen.contains(&kind) || seen.len() >= MOST {
                return None;
            }
            seen.push(kind);
            let mut value = next(&mut extension)?;
            let is_critical = value.tag == 0x01;
            if is_critical {
                value = next(&mut extension)?;
            }
            let Value { tag: OCTETS, content } = value else { return None };
            match kind {
                KEY_USAGE => self.key_usage = Some(bits(content)?),
                BASIC => {
                    let mut inside = only(content, SEQUENCE)?;
                    let first = next(&mut inside);
                    self.is_authority =
                        first.is_some_and(|one| one.tag == 1 && one.content == [0xff]);
                }
                PURPOSES => {
                    let mut list = only(content, SEQUENCE)?;
                    let mut purposes = Vec::new();
                    while !list.is_empty() {
                        (purposes.len() < MOST).then_some(())?;
                        purposes.push(expect(&mut list, OID)?.to_vec());
                    }
                    self.purposes = Some(purposes);
                    self.purposes_are_critical = is_critical;
                }
                ALTERNATIVE_NAMES => {
                    let mut list = only(content, SEQUENCE)?;
                    let mut count = 0;
                    while !list.is_empty() {
                        count += 1;
                        (count <= MOST).then_some(())?;
                        let one = next(&mut list)?;
                        match one.tag {
                            0x81 => self.emails.extend(plain(one.content)),
                            0x86 => self.uris.extend(plain(one.content)),
                            _ => {}
                        }
                    }
                }
                _ => {}
            }
        }
        Some(())
    }

    /// Whether its key may sign: what does not say may.
    pub fn may_sign(&self) -> bool {
        self.key_usage.is_none_or(|usage| usage & SIGNS != 0)
    }

    /// Whether its key may sign certificates: what does not say may.
    pub fn may_certify(&self) -> bool {
        self.key_usage.is_none_or(|usage| usage & CERTIFIES != 0)
    }

    /// Whether a purpose is named.
    pub fn is_for(&self, purpose: &[u8]) -> bool {
        self.purposes.iter().flatten().any(|own| own == purpose)
    }
}

/// The first nine bits of a bit string.
fn bits(from: &[u8]) -> Option<u16> {
    let (unused, bytes) = only(from, BITS)?.split_first()?;
    if *unused > 7 {
        return None;
    }
    let (first, second) = (bytes.first().copied().unwrap_or(0), bytes.get(1).copied().unwrap_or(0));
    Some((u16::from(first) << 1) | u16::from(second >> 7))
}

/// A name. One with bytes that names do not have is none: programs end texts at different ones.
fn plain(bytes: &[u8]) -> Option<String> {
    let is_plain = !bytes.is_empty() && bytes.iter().all(u8::is_ascii_graphic);
    String::from_utf8(bytes.to_vec()).ok().filter(|_| is_plain)
}

/// Until when a list of what was revoked is good, in seconds since 1970 (section 5.1.2.5). None: it is no such list, or
/// does not say.
pub fn list_end(der: &[u8]) -> Option<i64> {
    let mut list = only(der, SEQUENCE)?;
    let mut body = expect(&mut list, SEQUENCE)?;
    let mut first = next(&mut body)?;
    if first.tag == 0x02 {
        first = next(&mut body)?;
    }
    (first.tag == SEQUENCE).then_some(())?;
    expect(&mut body, SEQUENCE)?;
    time(next(&mut body)?)?;
    time(next(&mut body)?)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn der(change: impl FnOnce(&mut rcgen::CertificateParams)) -> Vec<u8> {
        let mut params = rcgen::CertificateParams::new(Vec::new()).unwrap();
        params.subject_alt_names = vec![
            rcgen::SanType::Rfc822Name("release@ventworks.example".try_into().unwrap()),
            rcgen::SanType::URI("https://ci.ventworks.example/x".try_into().unwrap()),
        ];
        change(&mut params);
        params.self_signed(&rcgen::KeyPair::generate().unwrap()).unwrap().der().to_vec()
    }

    #[test]
    fn what_it_is_for_and_whose_is_read() {
        let read = CertificateUsage::read(&der(|params| {
            params.key_usages = vec![rcgen::KeyUsagePurpose::DigitalSignature];
            params.extended_key_usages = vec![rcgen::ExtendedKeyUsagePurpose::CodeSigning];
        }))
        .unwrap();
        assert_eq!(read.emails, ["release@ventworks.example"]);
        assert_eq!(read.uris, ["https://ci.ventworks.example/x"]);
        assert!(read.may_sign() && !read.may_certify() && !read.is_authority);
        assert!(read.is_for(&[0x2b, 6, 1, 5, 5, 7, 3, 3]) && !read.is_for(&[0x2b]));
        let read = CertificateUsage::read(&der(|params| {
            params.key_usages = vec![rcgen::KeyUsagePurpose::KeyCertSign];
            params.is_ca = rcgen::IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        }))
        .unwrap();
        assert!(!read.may_sign() && read.may_certify() && read.is_authority);
        assert_eq!(read.purposes, None);
        assert_eq!(plain(b"a@b.example\0.other.example"), None);
    }

    proptest::proptest! {
        #[test]
        fn no_bytes_panic(bytes: Vec<u8>, at in 0usize..2000, byte: u8) {
            CertificateUsage::read(&bytes);
            list_end(&bytes);
            let mut changed = der(|_| ());
            let at = at % changed.len();
            changed[at] = byte;
            CertificateUsage::read(&changed);
        }
    }
}
