//! What the headers of a program say (ELF; System V ABI, chapters 4 and 5).

use memchr::memmem;

/// What stands before the list that Go puts into its programs.
pub(super) const MAGIC: &[u8] = b"\xff Go buildinf:";
const LOAD: u32 = 1;
const NOTE: u32 = 4;
const WRITABLE: u32 = 2;

#[derive(Debug, Clone)]
/// Where the parts of a program lie.
pub(super) struct ElfLayout {
    is_wide: bool,
    pub(super) is_big: bool,
    segments: Vec<Segment>,
    /// The end of what is loaded.
    pub(super) loaded: u64,
    sections_at: u64,
    section_size: u64,
    sections: u64,
    names_section: u64,
}

#[derive(Debug, Clone, Copy)]
struct Segment {
    kind: u32,
    flags: u32,
    offset: u64,
    address: u64,
    length: u64,
}

impl ElfLayout {
    pub(super) fn read(head: &[u8]) -> Option<Self> {
        let is_wide = match head.get(4)? {
            1 => false,
            2 => true,
            _ => return None,
        };
        let is_big = match head.get(5)? {
            1 => false,
            2 => true,
            _ => return None,
        };
        let word = |at: usize, length: usize| number(head, at as u64, length, is_big);
        let (segments_at, sections_at) = match is_wide {
            true => (word(32, 8)?, word(40, 8)?),
            false => (word(28, 4)?, word(32, 4)?),
        };
        let base = if is_wide { 54 } else { 42 };
        let (entry, entries) = (word(base, 2)?, word(base + 2, 2)?);
        let (section_size, sections) = (word(base + 4, 2)?, word(base + 6, 2)?);
        let names_section = word(base + 8, 2)?;
        let mut segments = Vec::new();
        for index in 0..entries {
            let at = usize::try_from(segments_at.checked_add(index * entry)?).ok()?;
            // What lies behind the kept beginning is not read.
            let Some(kind) = word(at, 4) else { break };
            let kind = u32::try_from(kind).ok()?;
            let segment = match is_wide {
                true => {
                    let (flags, offset) = (word(at + 4, 4), word(at + 8, 8));
                    (flags, offset, word(at + 16, 8), word(at + 32, 8))
                }
                false => {
                    let (offset, address) = (word(at + 4, 4), word(at + 8, 4));
                    (word(at + 24, 4), offset, address, word(at + 16, 4))
                }
            };
            let (Some(flags), Some(offset), Some(address), Some(length)) = segment else { break };
            let flags = u32::try_from(flags).ok()?;
            segments.push(Segment { kind, flags, offset, address, length });
        }
        let loads = segments.iter().filter(|one| one.kind == LOAD);
        let loaded = loads.map(|one| one.offset.saturating_add(one.length)).max().unwrap_or(0);
        let (section_size, sections) = (section_size, sections);
        Some(Self {
            is_wide,
            is_big,
            segments,
            loaded,
            sections_at,
            section_size,
            sections,
            names_section,
        })
    }

    /// Whether a note says that it is a program of Go.
    pub(super) fn has_go_note(&self, head: &[u8]) -> bool {
        self.segments.iter().filter(|one| one.kind == NOTE).any(|note| {
            let (Ok(at), Ok(length)) = (usize::try_from(note.offset), usize::try_from(note.length))
            else {
                return false;
            };
            let end = at.saturating_add(length).min(head.len());
            head.get(at..end).is_some_and(|note| memmem::find(note, b"\x04\0\0\0Go\0\0").is_some())
        })
    }

    /// Where Go's list begins in a piece that lies at `from`: at a multiple of 16 in memory, in a segment that can be
    /// written to.
    pub(super) fn find(&self, piece: &[u8], from: u64) -> Option<u64> {
        memmem::find_iter(piece, MAGIC).find_map(|at| {
            let offset = from + at as u64;
            let fits = |one: &&Segment| {
                one.kind == LOAD
                    && one.flags & WRITABLE != 0
                    && offset >= one.offset
                    && offset - one.offset < one.length
                    && (offset - one.offset).wrapping_add(one.address).is_multiple_of(16)
            };
            self.segments.iter().find(fits).map(|_| offset)
        })
    }

    /// Where an address lies in the file.
    pub(super) fn offset_of(&self, address: u64) -> Option<u64> {
        let one = self.segments.iter().find(|one| {
            one.kind == LOAD && address >= one.address && address - one.address < one.length
        })?;
        Some(one.offset + (address - one.address))
    }

    /// A section by its name, where it and what names it lie behind all segments.
    pub(super) fn section<'t>(&self, wanted: &[u8], tail: &'t [u8]) -> Option<&'t [u8]> {
        let piece = |offset: u64, length: u64| -> Option<&'t [u8]> {
            let start = usize::try_from(offset.checked_sub(self.loaded)?).ok()?;
            let end = start.checked_add(usize::try_from(length).ok()?)?;
            tail.get(start..end)
        };
        let header = |index: u64| -> Option<(u64, u64, u64)> {
            let at = self.sections_at.checked_add(index.checked_mul(self.section_size)?)?;
            let bytes = piece(at, if self.is_wide { 64 } else { 40 })?;
            let word = |at: u64, length: usize| number(bytes, at, length, self.is_big);
            match self.is_wide {
                true => Some((word(0, 4)?, word(24, 8)?, word(32, 8)?)),
                false => Some((word(0, 4)?, word(16, 4)?, word(20, 4)?)),
            }
        };
        let (_, at, length) = header(self.names_section)?;
        let names = piece(at, length)?;
        (0..self.sections).find_map(|index| {
            let (name, at, length) = header(index)?;
            let name = names.get(usize::try_from(name).ok()?..)?;
            let is_it = name.starts_with(wanted) && name.get(wanted.len()) == Some(&0);
            is_it.then(|| piece(at, length)).flatten()
        })
    }
}

/// A number of so many bytes. None: it is not all there.
pub(super) fn number(bytes: &[u8], at: u64, length: usize, is_big: bool) -> Option<u64> {
    let at = usize::try_from(at).ok()?;
    let bytes = bytes.get(at..at.checked_add(length)?)?;
    let add = |all: u64, byte: &u8| (all << 8) | u64::from(*byte);
    Some(match is_big {
        true => bytes.iter().fold(0, add),
        false => bytes.iter().rev().fold(0, add),
    })
}
