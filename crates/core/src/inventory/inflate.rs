//! A layer's bytes as its archive: inflated where they are compressed, which their first bytes say and not their type.

use std::io::{self, BufRead as _, BufReader, Chain, Cursor, Read};

use flate2::bufread::MultiGzDecoder;
use ruzstd::decoding::errors::{FrameDecoderError, ReadFrameHeaderError};
use ruzstd::decoding::{BlockDecodingStrategy, FrameDecoder};

/// How a layer is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    None,
    /// Any number of members (RFC 1952, section 2.2).
    Gzip,
    /// Any number of frames, some of which hold nothing of it (RFC 8878, section 3.1).
    Zstd,
}

/// How much is read of a source at once.
const PIECE: usize = 128 * 1024;
/// The largest window of a frame, in bytes: what has a larger one is refused.
const WINDOW: u64 = 128 * 1024 * 1024;

type Source<R> = BufReader<Chain<Cursor<Vec<u8>>, R>>;

/// The archive in a layer's bytes, as a stream.
pub struct Inflated<R>(Form<R>);

enum Form<R> {
    Plain(Source<R>),
    // Both are large, and there is one of them for a layer.
    Gzip(Box<MultiGzDecoder<Source<R>>>),
    Zstd(Box<ZstdFrames<R>>),
}

struct ZstdFrames<R> {
    source: Source<R>,
    decoder: FrameDecoder,
    is_begun: bool,
}

impl Compression {
    /// What a layer's first four bytes say.
    pub fn of(first: &[u8]) -> Self {
        match first {
            [0x1f, 0x8b, ..] => Self::Gzip,
            [0x28, 0xb5, 0x2f, 0xfd, ..] | [0x50..=0x5f, 0x2a, 0x4d, 0x18, ..] => Self::Zstd,
            _ => Self::None,
        }
    }
}

impl<R: Read> Inflated<R> {
    /// Begins to read a layer.
    pub fn new(mut source: R) -> io::Result<Self> {
        let mut first = Vec::with_capacity(4);
        source.by_ref().take(4).read_to_end(&mut first)?;
        let compression = Compression::of(&first);
        let source = BufReader::with_capacity(PIECE, Cursor::new(first).chain(source));
        Ok(Self(match compression {
            Compression::None => Form::Plain(source),
            Compression::Gzip => Form::Gzip(Box::new(MultiGzDecoder::new(source))),
            Compression::Zstd => {
                let mut decoder = FrameDecoder::new();
                decoder.set_max_window_size(WINDOW);
                Form::Zstd(Box::new(ZstdFrames { source, decoder, is_begun: false }))
            }
        }))
    }

    /// How it is compressed.
    pub fn compression(&self) -> Compression {
        match self.0 {
            Form::Plain(_) => Compression::None,
            Form::Gzip(_) => Compression::Gzip,
            Form::Zstd(_) => Compression::Zstd,
        }
    }
}

impl<R: Read> Read for Inflated<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        match &mut self.0 {
            Form::Plain(source) => source.read(to),
            Form::Gzip(gzip) => gzip.read(to),
            Form::Zstd(frames) => frames.read(to),
        }
    }
}

impl<R: Read> ZstdFrames<R> {
    fn read(&mut self, to: &mut [u8]) -> io::Result<usize> {
        loop {
            if self.is_begun {
                while self.decoder.can_collect() == 0 && !self.decoder.is_finished() {
                    let some = BlockDecodingStrategy::UptoBytes(PIECE);
                    let decoded = self.decoder.decode_blocks(&mut self.source, some);
                    decoded.map_err(io::Error::other)?;
                }
                if self.decoder.can_collect() > 0 || to.is_empty() {
                    return self.decoder.read(to);
                }
                let said = self.decoder.get_checksum_from_data();
                if said.is_some() && said != self.decoder.get_calculated_checksum() {
                    return Err(io::Error::other("a frame has not the checksum that it says"));
                }
                self.is_begun = false;
            }
            if self.source.fill_buf()?.is_empty() {
                return Ok(0);
            }
            match self.decoder.reset(&mut self.source) {
                Ok(()) => self.is_begun = true,
                Err(FrameDecoderError::ReadFrameHeaderError(ReadFrameHeaderError::SkipFrame {
                    length,
                    ..
                })) => {
                    let rest = self.source.by_ref().take(u64::from(length));
                    let skipped = io::copy(&mut { rest }, &mut io::sink())?;
                    if skipped < u64::from(length) {
                        return Err(io::ErrorKind::UnexpectedEof.into());
                    }
                }
                Err(error) => return Err(io::Error::other(error)),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write as _;

    use flate2::write::GzEncoder;

    use super::*;

    fn gzip(text: &[u8]) -> Vec<u8> {
        let mut encoder = GzEncoder::new(Vec::new(), flate2::Compression::default());
        encoder.write_all(text).unwrap();
        encoder.finish().unwrap()
    }

    fn zstd(text: &[u8]) -> Vec<u8> {
        ruzstd::encoding::compress_to_vec(text, ruzstd::encoding::CompressionLevel::Fastest)
    }

    fn inflated(bytes: &[u8]) -> io::Result<Vec<u8>> {
        let mut all = Vec::new();
        Inflated::new(bytes)?.read_to_end(&mut all)?;
        Ok(all)
    }

    #[test]
    fn every_member_and_frame_is_read() {
        let (one, two) = (vec![b'a'; 300_000], b"the end".to_vec());
        let both = [one.clone(), two.clone()].concat();
        assert_eq!(inflated(&[gzip(&one), gzip(&two)].concat()).unwrap(), both);
        let skipped = [&[0x5a, 0x2a, 0x4d, 0x18, 3, 0, 0, 0, 1, 2, 3][..]].concat();
        let frames = [skipped.clone(), zstd(&one), skipped.clone(), zstd(&two), skipped].concat();
        assert_eq!(inflated(&frames).unwrap(), both);
        assert_eq!(inflated(&both).unwrap(), both);
        assert_eq!(inflated(b"").unwrap(), b"");
        assert_eq!(inflated(b"ab").unwrap(), b"ab");
    }

    #[test]
    fn what_is_cut_or_damaged_is_told() {
        let text: Vec<u8> = (0..100_000_u32).flat_map(u32::to_le_bytes).collect();
        for packed in [gzip(&text), zstd(&text)] {
            let half = &packed[..packed.len() / 2];
            assert!(inflated(half).is_err());
            let mut damaged = packed.clone();
            let at = damaged.len() - 2;
            damaged[at] ^= 0xff;
            assert!(inflated(&damaged).is_err());
        }
        assert!(inflated(&[0x5a, 0x2a, 0x4d, 0x18, 200, 0, 0, 0, 1]).is_err());
    }
}
