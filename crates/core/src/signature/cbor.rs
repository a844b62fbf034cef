//! Signed CBOR (RFC 8949) is read strictly: lengths that are given, no label twice, nothing behind it.

/// A value. Numbers with a point are not read: no signature has any.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cbor<'b> {
    /// Whole numbers of 64 bits with a sign.
    Number(i128),
    Bytes(&'b [u8]),
    Text(&'b str),
    List(Vec<Cbor<'b>>),
    /// In the order of the bytes; each label once.
    Map(Vec<(Cbor<'b>, Cbor<'b>)>),
    Tag(u64, Box<Cbor<'b>>),
    Bool(bool),
    Null,
}

/// How deep values may lie in one another.
const DEEPEST: usize = 16;

impl<'b> Cbor<'b> {
    /// Reads one value that is all there is. None: it is none, or could be read in two ways.
    pub fn read(mut bytes: &'b [u8]) -> Option<Self> {
        let read = value(&mut bytes, 0)?;
        bytes.is_empty().then_some(read)
    }

    /// What a map has under a label.
    pub fn get(&self, label: &Cbor<'_>) -> Option<&Self> {
        match self {
            Self::Map(pairs) => pairs.iter().find(|(own, _)| own == label).map(|(_, value)| value),
            _ => None,
        }
    }

    /// What a map has under a label that is a number.
    pub fn numbered(&self, label: i128) -> Option<&Self> {
        self.get(&Cbor::Number(label))
    }

    /// What a map has under a label that is a text.
    pub fn named(&self, label: &str) -> Option<&Self> {
        self.get(&Cbor::Text(label))
    }

    /// A text.
    pub fn text(&self) -> Option<&'b str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    /// Bytes.
    pub fn bytes(&self) -> Option<&'b [u8]> {
        match self {
            Self::Bytes(bytes) => Some(bytes),
            _ => None,
        }
    }

    /// A list.
    pub fn list(&self) -> Option<&[Self]> {
        match self {
            Self::List(list) => Some(list),
            _ => None,
        }
    }
}

fn take<'b>(from: &mut &'b [u8], count: usize) -> Option<&'b [u8]> {
    let (taken, rest) = from.split_at_checked(count)?;
    *from = rest;
    Some(taken)
}

/// The kind of a value, and the number that stands with it (RFC 8949, section 3). A length that is not given is refused.
fn head(from: &mut &[u8]) -> Option<(u8, u64)> {
    let first = *take(from, 1)?.first()?;
    let number = match first & 0x1f {
        short @ 0..=23 => u64::from(short),
        24 => u64::from(*take(from, 1)?.first()?),
        25 => u64::from(u16::from_be_bytes(take(from, 2)?.try_into().ok()?)),
        26 => u64::from(u32::from_be_bytes(take(from, 4)?.try_into().ok()?)),
        27 => u64::from_be_bytes(take(from, 8)?.try_into().ok()?),
        _ => return None,
    };
    Some((first >> 5, number))
}

fn value<'b>(from: &mut &'b [u8], depth: usize) -> Option<Cbor<'b>> {
    if depth > DEEPEST {
        return None;
    }
    let first = *from.first()?;
    let (kind, number) = head(from)?;
    Some(match kind {
        0 => Cbor::Number(i128::from(number)),
        1 => Cbor::Number(-1 - i128::from(number)),
        2 => Cbor::Bytes(take(from, usize::try_from(number).ok()?)?),
        3 => {
            let text = take(from, usize::try_from(number).ok()?)?;
            Cbor::Text(std::str::from_utf8(text).ok()?)
        }
        4 => {
            // Each takes a byte at least, so that a length that lies is found before room is made for it.
            let count = usize::try_from(number).ok().filter(|count| *count <= from.len())?;
            let list: Option<Vec<_>> = (0..count).map(|_| value(from, depth + 1)).collect();
            Cbor::List(list?)
        }
        5 => {
            let count = usize::try_from(number).ok().filter(|count| *count <= from.len() / 2)?;
            let mut pairs: Vec<(Cbor<'b>, Cbor<'b>)> = Vec::new();
            for _ in 0..count.min(LABELS + 1) {
                let label = value(from, depth + 1)?;
                if pairs.len() >= LABELS || pairs.iter().any(|(own, _)| *own == label) {
                    return None;
                }
                pairs.push((label, value(from, depth + 1)?));
            }
            Cbor::Map(pairs)
        }
        6 => Cbor::Tag(number, Box::new(value(from, depth + 1)?)),
        // What has more bytes than one is a number with a point, or none that has a meaning.
        _ => match first {
            0xf4 => Cbor::Bool(false),
            0xf5 => Cbor::Bool(true),
            0xf6 => Cbor::Null,
            _ => return None,
        },
    })
}

/// The most labels of one map.
const LABELS: usize = 1000;

/// Writes the head of a value, in its shortest form (RFC 8949, section 4.2.1).
fn write_head(to: &mut Vec<u8>, kind: u8, number: usize) {
    let bytes = (number as u64).to_be_bytes();
    let (more, length) = match number {
        0..=23 => (bytes[7], 0),
        24..=0xff => (24, 1),
        0x100..=0xffff => (25, 2),
        0x1_0000..=0xffff_ffff => (26, 4),
        _ => (27, 8),
    };
    to.push((kind << 5) | more);
    to.extend_from_slice(&bytes[8 - length..]);
}

/// What a signature of one signer is over (RFC 9052, section 4.4), with nothing outside of the envelope.
pub fn signed_by_one(protected: &[u8], payload: &[u8]) -> Vec<u8> {
    let context = b"Signature1";
    let mut signed = Vec::with_capacity(protected.len() + payload.len() + 40);
    write_head(&mut signed, 4, 4);
    write_head(&mut signed, 3, context.len());
    signed.extend_from_slice(context);
    for bytes in [protected, b"", payload] {
        write_head(&mut signed, 2, bytes.len());
        signed.extend_from_slice(bytes);
    }
    signed
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_read_as_the_standard_writes_them() {
        // Examples of RFC 8949, appendix A.
        for (bytes, wanted) in [
            (&[0x18, 0x64][..], Cbor::Number(100)),
            (&[0x38, 0x63], Cbor::Number(-100)),
            (&[0x44, 1, 2, 3, 4], Cbor::Bytes(&[1, 2, 3, 4])),
            (&[0x64, 0x49, 0x45, 0x54, 0x46], Cbor::Text("IETF")),
            (&[0x82, 1, 0xf5], Cbor::List(vec![Cbor::Number(1), Cbor::Bool(true)])),
            (&[0xa1, 1, 2], Cbor::Map(vec![(Cbor::Number(1), Cbor::Number(2))])),
            (&[0xc1, 0x1a, 0x51, 0x4b, 0x67, 0xb0], {
                Cbor::Tag(1, Box::new(Cbor::Number(1_363_896_240)))
            }),
        ] {
            assert_eq!(Cbor::read(bytes), Some(wanted));
        }
    }

    #[test]
    fn what_could_be_read_in_two_ways_is_refused() {
        for bad in [
            &[0xa2, 1, 2, 1, 3][..],
            &[0xa2, 1, 2, 0x18, 1, 3],
            &[0x9f, 1, 0xff],
            &[0x5f, 0x41, 1, 0xff],
            &[1, 1],
            &[0x9b, 0x10, 0, 0, 0, 0, 0, 0, 0],
            &[0xbb, 0x10, 0, 0, 0, 0, 0, 0, 0],
            &[0x5b, 0x10, 0, 0, 0, 0, 0, 0, 0],
            &[0x61, 0xff],
            &[0xfa, 0, 0, 0, 0],
            &[0xf8, 0xf4],
            &[],
        ] {
            assert_eq!(Cbor::read(bad), None, "{bad:x?}");
        }
        assert!(Cbor::read(&[&[0x81; 16][..], &[1]].concat()).is_some());
        assert!(Cbor::read(&[&[0x81; 17][..], &[1]].concat()).is_none());
        assert!(Cbor::read(&[vec![0xc1; 100_000], vec![1]].concat()).is_none());
    }

    #[test]
    fn what_is_signed_is_written_in_its_shortest_form() {
        for length in [0, 23, 24, 255, 256, 65_535, 65_536, 70_000] {
            let payload = vec![7; length];
            let signed = signed_by_one(b"p", &payload);
            let read = Cbor::read(&signed).unwrap();
            let parts = read.list().unwrap();
            assert_eq!(parts[0].text(), Some("Signature1"));
            assert_eq!(parts[1].bytes(), Some(&b"p"[..]));
            assert_eq!((parts[2].bytes(), parts[3].bytes()), (Some(&b""[..]), Some(&payload[..])));
            let heads = [0, 24, 256, 65_536].iter().filter(|least| length >= **least).count();
            assert_eq!(signed.len(), 1 + 11 + 2 + 1 + [1, 2, 3, 5][heads - 1] + length);
        }
    }

    proptest::proptest! {
        #[test]
        fn no_bytes_panic(bytes: Vec<u8>) {
            Cbor::read(&bytes);
        }
    }
}
