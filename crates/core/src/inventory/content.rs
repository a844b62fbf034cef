//! What the content of a file is known by: the hashes that package databases keep of the files they brought.

use serde::{Deserialize, Serialize};

/// The beginnings of the hashes of one content. Databases say one of them; which one is known only later.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct ContentPrint {
    /// MD5, as Debian's lists have it.
    pub md5: u64,
    /// SHA-1, as Alpine's database has it.
    pub sha1: u64,
    /// SHA-256, as RPM's database has it.
    pub sha256: u64,
}

impl ContentPrint {
    /// Hashes a content. None of these protects anything here: who builds an image can write what he likes.
    pub fn of(content: &[u8]) -> Self {
        let sha1 = ring::digest::digest(&ring::digest::SHA1_FOR_LEGACY_USE_ONLY, content);
        let sha256 = ring::digest::digest(&ring::digest::SHA256, content);
        Self {
            md5: beginning(&md5(content)),
            sha1: beginning(sha1.as_ref()),
            sha256: beginning(sha256.as_ref()),
        }
    }

    /// Whether a database's hash is one of them.
    pub fn has(&self, beginning: u64) -> bool {
        [self.md5, self.sha1, self.sha256].contains(&beginning)
    }
}

/// The first eight bytes of a hash as a number.
pub(super) fn beginning(hash: &[u8]) -> u64 {
    hash.iter().take(8).fold(0, |all, byte| (all << 8) | u64::from(*byte))
}

/// The first eight bytes of a hash that is written in hexadecimal digits. None: it is none.
pub(super) fn beginning_of_hex(text: &str) -> Option<u64> {
    u64::from_str_radix(text.get(..16)?, 16).ok()
}

/// The place of a file as a number that few share.
pub(super) fn path_print(path: &[u8]) -> u64 {
    beginning(ring::digest::digest(&ring::digest::SHA256, path).as_ref())
}

const SHIFTS: [[u32; 4]; 4] = [[7, 12, 17, 22], [5, 9, 14, 20], [4, 11, 16, 23], [6, 10, 15, 21]];

/// A hash in hexadecimal digits.
#[cfg(test)]
pub(super) fn hex(hash: &[u8]) -> String {
    use std::fmt::Write as _;
    hash.iter().fold(String::new(), |mut text, byte| {
        let _ = write!(text, "{byte:02x}");
        text
    })
}

/// MD5 (RFC 1321), which package databases still name their files' contents by.
pub(super) fn md5(content: &[u8]) -> [u8; 16] {
    let mut state = [0x6745_2301_u32, 0xefcd_ab89, 0x98ba_dcfe, 0x1032_5476];
    let mut blocks = content.chunks_exact(64);
    for block in blocks.by_ref() {
        md5_block(&mut state, block);
    }
    let rest = blocks.remainder();
    let mut last = [0_u8; 128];
    last[..rest.len()].copy_from_slice(rest);
    last[rest.len()] = 0x80;
    let length = if rest.len() < 56 { 64 } else { 128 };
    let bits = (content.len() as u64).wrapping_mul(8);
    last[length - 8..length].copy_from_slice(&bits.to_le_bytes());
    for block in last[..length].chunks_exact(64) {
        md5_block(&mut state, block);
    }
    let mut hash = [0; 16];
    for (place, word) in hash.chunks_exact_mut(4).zip(state) {
        place.copy_from_slice(&word.to_le_bytes());
    }
    hash
}

/// The table of RFC 1321, section 3.4: the whole part of 2^32 times the sine of each step.
fn sines() -> &'static [u32; 64] {
    static SINES: std::sync::LazyLock<[u32; 64]> = std::sync::LazyLock::new(|| {
        std::array::from_fn(|step| {
            #[allow(clippy::cast_possible_truncation, clippy::cast_sign_loss)] // it is below 2^32
            let value = ((step as f64 + 1.0).sin().abs() * 4_294_967_296.0) as u32;
            value
        })
    });
    &SINES
}

#[allow(clippy::many_single_char_names)] // the standard's names
fn md5_block(state: &mut [u32; 4], block: &[u8]) {
    let mut words = [0_u32; 16];
    for (word, bytes) in words.iter_mut().zip(block.chunks_exact(4)) {
        *word = u32::from_le_bytes([bytes[0], bytes[1], bytes[2], bytes[3]]);
    }
    let sines = sines();
    let [mut a, mut b, mut c, mut d] = *state;
    for step in 0..64 {
        let (mixed, word) = match step / 16 {
            0 => ((b & c) | (!b & d), step),
            1 => ((d & b) | (!d & c), (5 * step + 1) % 16),
            2 => (b ^ c ^ d, (3 * step + 5) % 16),
            _ => (c ^ (b | !d), (7 * step) % 16),
        };
        let sum = a.wrapping_add(mixed).wrapping_add(sines[step]).wrapping_add(words[word]);
        let turned = sum.rotate_left(SHIFTS[step / 16][step % 4]);
        (a, d, c, b) = (d, c, b, b.wrapping_add(turned));
    }
    for (old, new) in state.iter_mut().zip([a, b, c, d]) {
        *old = old.wrapping_add(new);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hashes_are_those_of_the_standard() {
        // RFC 1321, appendix A.5.
        for (text, expected) in [
            ("", "d41d8cd98f00b204e9800998ecf8427e"),
            ("abc", "900150983cd24fb0d6963f7d28e17f72"),
            ("message digest", "f96b697d7cb7938d525a2f31aaf161d0"),
            (
                "12345678901234567890123456789012345678901234567890123456789012345678901234567890",
                "57edf4a22be3c955ac49da2e2107b67a",
            ),
        ] {
            let hash = md5(text.as_bytes());
            assert_eq!(hex(&hash), expected, "{text}");
            assert_eq!(beginning_of_hex(expected), Some(beginning(&hash)));
        }
        for length in [55, 56, 63, 64, 65] {
            assert_ne!(md5(&vec![b'a'; length]), md5(&vec![b'a'; length + 1]));
        }
    }

    #[test]
    fn a_content_has_the_hash_of_any_database() {
        let print = ContentPrint::of(b"abc");
        assert!(print.has(beginning_of_hex("900150983cd24fb0d6963f7d28e17f72").unwrap()));
        assert!(print.has(beginning_of_hex("a9993e364706816aba3e25717850c26c9cd0d89d").unwrap()));
        let sha256 = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert!(print.has(beginning_of_hex(sha256).unwrap()));
        assert!(!print.has(1));
        assert_eq!(beginning_of_hex("90015"), None);
        assert_eq!(beginning_of_hex("zz0150983cd24fb0"), None);
    }
}
