//! Values of DER (X.690), as keys, certificates and time stamps are written in.

/// `SEQUENCE`.
pub const SEQUENCE: u8 = 0x30;
/// `SET`.
pub const SET: u8 = 0x31;
/// `OBJECT IDENTIFIER`.
pub const OID: u8 = 0x06;
/// `INTEGER`.
pub const INTEGER: u8 = 0x02;
/// `BIT STRING`.
pub const BITS: u8 = 0x03;
/// `OCTET STRING`.
pub const OCTETS: u8 = 0x04;

/// One value: its tag and its content.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Value<'d> {
    pub tag: u8,
    pub content: &'d [u8],
}

/// Reads one value off the front. None: there is none, or its length is not in its shortest form.
pub fn next<'d>(from: &mut &'d [u8]) -> Option<Value<'d>> {
    let (tag, rest) = from.split_first()?;
    let (first, rest) = rest.split_first()?;
    let (length, rest) = match *first {
        short @ 0..=0x7f => (usize::from(short), rest),
        long @ 0x81..=0x84 => {
            let count = usize::from(long & 0x7f);
            let bytes = rest.get(..count)?;
            let length = bytes.iter().fold(0_usize, |all, byte| (all << 8) | usize::from(*byte));
            let is_shortest = length > 0x7f && bytes.first() != Some(&0);
            (Some(length).filter(|_| is_shortest)?, &rest[count..])
        }
        _ => return None,
    };
    let content = rest.get(..length)?;
    *from = &rest[length..];
    Some(Value { tag: *tag, content })
}

/// Reads a value of a tag off the front: its content.
pub fn expect<'d>(from: &mut &'d [u8], tag: u8) -> Option<&'d [u8]> {
    next(from).filter(|value| value.tag == tag).map(|value| value.content)
}

/// Reads a value with its tag and length off the front: all its bytes.
pub fn whole<'d>(from: &mut &'d [u8]) -> Option<&'d [u8]> {
    let before = *from;
    next(from)?;
    before.get(..before.len() - from.len())
}

/// A value that is all there is: its content.
pub fn only(mut from: &[u8], tag: u8) -> Option<&[u8]> {
    let content = expect(&mut from, tag)?;
    from.is_empty().then_some(content)
}

/// Writes a value.
pub fn write(tag: u8, content: &[u8]) -> Vec<u8> {
    let bytes = content.len().to_be_bytes();
    let length = bytes.iter().position(|byte| *byte != 0).map_or(&[0][..], |at| &bytes[at..]);
    let mut written = vec![tag];
    if content.len() > 0x7f {
        written.push(0x80 | u8::try_from(length.len()).unwrap_or(0));
    }
    written.extend_from_slice(length);
    written.extend_from_slice(content);
    written
}

/// Writes a whole number that is not below 0.
pub fn write_number(big_endian: &[u8]) -> Vec<u8> {
    let digits =
        big_endian.iter().position(|byte| *byte != 0).map_or(&[0][..], |at| &big_endian[at..]);
    let sign: &[u8] = if digits.first().is_some_and(|byte| *byte > 0x7f) { &[0] } else { &[] };
    write(INTEGER, &[sign, digits].concat())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read() {
        for length in [0, 1, 0x7f, 0x80, 0xff, 0x100, 70_000] {
            let content = vec![9; length];
            let written = write(OCTETS, &content);
            assert_eq!(only(&written, OCTETS), Some(&content[..]));
            assert_eq!(only(&[&written[..], &[0]].concat(), OCTETS), None);
            assert_eq!(whole(&mut &written[..]), Some(&written[..]));
        }
        for long in
            [&[4, 0x81, 1, 0][..], &[4, 0x82, 0, 0x80], &[4, 0x80, 0, 0], &[4, 2, 0], &[4], &[]]
        {
            assert_eq!(next(&mut &*long), None, "{long:x?}");
        }
        assert_eq!(write_number(&[0, 0, 0x80]), [2, 2, 0, 0x80]);
        assert_eq!(write_number(&[0, 0]), [2, 1, 0]);
    }
}
