//! The database of SQLite, with the log beside it (SQLite, "Database File Format"), read without its engine: views,
//! triggers and what else a stranger's file may declare are not carried out.

use std::collections::HashMap;

use super::{RpmFault, be, be_place};

/// The deepest tree: one of this depth holds more than any file.
const DEEPEST: usize = 20;
/// The largest header of a row, and the largest row of the list of tables.
const SCHEMA_ROW: usize = 1024 * 1024;
/// The largest row of packages.
const ROW: usize = 256 * 1024 * 1024;

struct Pages<'b> {
    bytes: &'b [u8],
    /// Pages that are newer in the log.
    newer: HashMap<usize, &'b [u8]>,
    size: usize,
    /// What of a page can be used.
    usable: usize,
    count: usize,
    steps: usize,
}

/// A row: what its tree has under one number.
type Row = Vec<u8>;

/// Gives every header, until it is told to stop.
pub(super) fn headers(
    bytes: &[u8],
    log: &[u8],
    each: &mut dyn FnMut(&[u8]) -> bool,
) -> Result<(), RpmFault> {
    let cut = RpmFault::Damaged("it is cut");
    let size = match be_place(bytes, 16, 2).ok_or(cut)? {
        1 => 65_536,
        size => size,
    };
    let no_size = RpmFault::Damaged("its pages have no size that there is");
    if !size.is_power_of_two() || !(512..=65_536).contains(&size) {
        return Err(no_size);
    }
    let newer = committed(log, size);
    // The first page may be newer in the log.
    let first = newer.get(&1).copied().or_else(|| bytes.get(..size)).ok_or(cut)?;
    let reserved = usize::from(first[20]);
    if size - reserved < 480 {
        return Err(no_size);
    }
    let highest = newer.keys().copied().max().unwrap_or(0);
    let count = (bytes.len() / size).max(highest);
    let mut pages = Pages { bytes, newer, size, usable: size - reserved, count, steps: 0 };
    let mut root = None;
    pages.walk(1, SCHEMA_ROW, &mut |row| {
        let columns = columns(row, 4);
        let text = |index: usize| columns.get(index).and_then(|(_, bytes)| bytes.as_deref());
        if text(0) == Some(b"table") && text(1) == Some(b"Packages") {
            root = columns.get(3).and_then(|(kind, bytes)| whole(*kind, bytes.as_deref()?));
        }
        root.is_none()
    })?;
    let root = root.ok_or(RpmFault::Damaged("it has no table of packages"))?;
    pages.steps = 0;
    pages.walk(root, ROW, &mut |row| match columns(row, 2).get(1) {
        Some((kind, Some(blob))) if *kind >= 12 && kind % 2 == 0 => each(blob),
        _ => each(b""),
    })
}

/// The pages of a log that a finished change has written, each as the last one has it.
fn committed(log: &[u8], size: usize) -> HashMap<usize, &[u8]> {
    let mut pages = HashMap::new();
    let is_big = match be(log, 0, 4) {
        Some(0x377f_0683) => true,
        Some(0x377f_0682) => false,
        _ => return pages,
    };
    if be_place(log, 8, 4) != Some(size) {
        return pages;
    }
    let Some(mut sum) = checksum((0, 0), log.get(..24).unwrap_or_default(), is_big) else {
        return pages;
    };
    if be(log, 24, 8) != Some((u64::from(sum.0) << 32) | u64::from(sum.1)) {
        return pages;
    }
    let mut open = Vec::new();
    let mut at = 32;
    while let Some(frame) = log.get(at..at + 24 + size) {
        // A frame of an older log has its own salt, and whatever follows it is older too.
        if frame[8..16] != log[16..24] {
            break;
        }
        let Some(next) = checksum(sum, &frame[..8], is_big)
            .and_then(|sum| checksum(sum, &frame[24..], is_big))
            .filter(|sum| be(frame, 16, 8) == Some((u64::from(sum.0) << 32) | u64::from(sum.1)))
        else {
            break;
        };
        sum = next;
        open.push((be_place(frame, 0, 4).unwrap_or(0), &frame[24..]));
        if be(frame, 4, 4).is_some_and(|size| size > 0) {
            pages.extend(open.drain(..));
        }
        at += 24 + size;
    }
    pages
}

/// The log's checksum goes on over more bytes. None: they are no whole words.
fn checksum((mut one, mut two): (u32, u32), bytes: &[u8], is_big: bool) -> Option<(u32, u32)> {
    if !bytes.len().is_multiple_of(8) || bytes.is_empty() {
        return None;
    }
    for pair in bytes.chunks_exact(8) {
        let word = |at: usize| {
            let word = [pair[at], pair[at + 1], pair[at + 2], pair[at + 3]];
            if is_big { u32::from_be_bytes(word) } else { u32::from_le_bytes(word) }
        };
        one = one.wrapping_add(word(0)).wrapping_add(two);
        two = two.wrapping_add(word(4)).wrapping_add(one);
    }
    Some((one, two))
}

impl<'b> Pages<'b> {
    fn page(&mut self, number: usize) -> Result<&'b [u8], RpmFault> {
        // Each page belongs to one place: no more steps than pages.
        self.steps += 1;
        if self.steps > self.count {
            return Err(RpmFault::Steps);
        }
        if let Some(page) = self.newer.get(&number) {
            return Ok(page);
        }
        let at = number.checked_sub(1).and_then(|before| before.checked_mul(self.size));
        let page = at.and_then(|at| self.bytes.get(at..at.checked_add(self.size)?));
        page.ok_or(RpmFault::Damaged("a page leads behind its end"))
    }

    /// Gives the rows of a tree, until it is told to stop.
    fn walk(
        &mut self,
        root: usize,
        longest: usize,
        each: &mut dyn FnMut(&Row) -> bool,
    ) -> Result<(), RpmFault> {
        let mut open = vec![(root, 0)];
        while let Some((number, depth)) = open.pop() {
            if depth > DEEPEST {
                return Err(RpmFault::Steps);
            }
            let page = self.page(number)?;
            // The first page begins with the file's header.
            let base = if number == 1 { 100 } else { 0 };
            let wrong = RpmFault::Damaged("a page of its tables is none");
            let cells = be_place(page, base + 3, 2).ok_or(wrong)?;
            match page[base] {
                5 => {
                    let last = be_place(page, base + 8, 4).ok_or(wrong)?;
                    open.push((last, depth + 1));
                    for index in (0..cells).rev() {
                        let at = be_place(page, base + 12 + 2 * index, 2).ok_or(wrong)?;
                        open.push((be_place(page, at, 4).ok_or(wrong)?, depth + 1));
                    }
                    if open.len() > self.count {
                        return Err(RpmFault::Steps);
                    }
                }
                13 => {
                    for index in 0..cells {
                        let at = be_place(page, base + 8 + 2 * index, 2).ok_or(wrong)?;
                        let row = self.row(page, at, longest)?;
                        if !each(&row) {
                            return Ok(());
                        }
                    }
                }
                _ => return Err(wrong),
            }
        }
        Ok(())
    }

    /// A row, with what did not fit onto its page.
    fn row(&mut self, page: &'b [u8], at: usize, longest: usize) -> Result<Row, RpmFault> {
        let wrong = RpmFault::Damaged("a row lies outside of its page");
        let (length, at) = varint(page, at).ok_or(wrong)?;
        let (_, at) = varint(page, at).ok_or(wrong)?;
        let length = usize::try_from(length).map_err(|_| wrong)?;
        if length > longest || length > self.count * self.size {
            return Err(RpmFault::Damaged("a row is longer than what is read"));
        }
        let most = self.usable - 35;
        let here = if length <= most {
            length
        } else {
            let least = (self.usable - 12) * 32 / 255 - 23;
            let here = least + (length - least) % (self.usable - 4);
            if here <= most { here } else { least }
        };
        let mut row = page.get(at..at + here).ok_or(wrong)?.to_vec();
        let mut next = match here < length {
            true => be_place(page, at + here, 4).ok_or(wrong)?,
            false => 0,
        };
        while row.len() < length {
            let more = self.page(next)?;
            let some = (length - row.len()).min(self.usable - 4);
            row.extend_from_slice(more.get(4..4 + some).ok_or(wrong)?);
            next = be_place(more, 0, 4).ok_or(wrong)?;
        }
        Ok(row)
    }
}

/// A number of one to nine bytes, and where the next thing begins.
fn varint(bytes: &[u8], at: usize) -> Option<(u64, usize)> {
    let mut value = 0;
    for index in 0..8 {
        let byte = *bytes.get(at + index)?;
        value = (value << 7) | u64::from(byte & 0x7f);
        if byte & 0x80 == 0 {
            return Some((value, at + index + 1));
        }
    }
    Some(((value << 8) | u64::from(*bytes.get(at + 8)?), at + 9))
}

/// The first columns of a row: what kind each is, and its bytes. None: they are not all there.
fn columns(row: &[u8], most: usize) -> Vec<(u64, Option<Vec<u8>>)> {
    let mut columns = Vec::new();
    let Some((length, mut at)) = varint(row, 0) else { return columns };
    let Ok(end) = usize::try_from(length) else { return columns };
    let mut place = end;
    while at < end && columns.len() < most {
        let Some((kind, next)) = varint(row, at) else { break };
        at = next;
        let length = match kind {
            1..=4 => kind,
            5 => 6,
            6 | 7 => 8,
            12.. => (kind - 12) / 2,
            _ => 0,
        };
        let until = usize::try_from(length).ok().and_then(|length| place.checked_add(length));
        let Some(until) = until else { break };
        columns.push((kind, row.get(place..until).map(<[u8]>::to_vec)));
        place = until;
    }
    columns
}

/// A column's whole number, where it is one that a page can have.
fn whole(kind: u64, bytes: &[u8]) -> Option<usize> {
    match kind {
        9 => Some(1),
        1..=6 => be_place(bytes, 0, bytes.len()),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::header::tests::header;
    use super::super::rpm_packages;
    use super::*;

    #[test]
    fn numbers_of_rows_are_read() {
        assert_eq!(varint(&[0x7f], 0), Some((127, 1)));
        assert_eq!(varint(&[0x81, 0], 0), Some((128, 2)));
        assert_eq!(varint(&[0xff; 9], 0), Some((u64::MAX, 9)));
        assert_eq!(varint(&[0xff; 8], 0), None);
        assert_eq!(whole(9, b""), Some(1));
        assert_eq!(whole(2, &[1, 2]), Some(258));
    }

    /// A file of two pages of 512 bytes: the list of tables, and one with one package.
    fn database() -> Vec<u8> {
        let cell = |row: Vec<u8>| {
            let mut cell = Vec::new();
            let length = row.len();
            if length > 127 {
                cell.push(u8::try_from(length >> 7).unwrap() | 0x80);
            }
            cell.push(u8::try_from(length & 0x7f).unwrap());
            cell.push(1);
            cell.extend(row);
            cell
        };
        let page = |base: usize, cell: &[u8]| {
            let mut page = vec![0; 512];
            let at = 512 - cell.len();
            page[at..].copy_from_slice(cell);
            page[base] = 13;
            page[base + 4] = 1;
            page[base + 8..base + 10].copy_from_slice(&u16::try_from(at).unwrap().to_be_bytes());
            page
        };
        let mut schema = vec![5, 12 + 1 + 2 * 5, 12 + 1 + 2 * 8, 12 + 1 + 2 * 8, 1];
        schema.extend_from_slice(b"tablePackagesPackages\x02");
        let mut first = page(100, &cell(schema));
        first[..16].copy_from_slice(b"SQLite format 3\0");
        first[16..18].copy_from_slice(&512_u16.to_be_bytes());
        let blob = header(&"one".repeat(100), "1", "");
        let kind = 12 + 2 * blob.len();
        let mut row = vec![4, 0, u8::try_from(kind >> 7).unwrap() | 0x80];
        row.push(u8::try_from(kind & 0x7f).unwrap());
        row.extend(blob);
        let length = row.len();
        // What does not fit lies on a page of its own.
        let most = 512 - 35;
        assert!(length > most);
        let least = (512 - 12) * 32 / 255 - 23;
        let here = least + (length - least) % 508;
        let here = if here <= most { here } else { least };
        let mut cell = vec![u8::try_from(length >> 7).unwrap() | 0x80];
        cell.push(u8::try_from(length & 0x7f).unwrap());
        cell.push(1);
        cell.extend_from_slice(&row[..here]);
        cell.extend_from_slice(&3_u32.to_be_bytes());
        let second = page(0, &cell);
        let mut all = [first, second].concat();
        for piece in row[here..].chunks(508) {
            all.extend_from_slice(&[0; 4]);
            all.extend_from_slice(piece);
        }
        all.resize(all.len().next_multiple_of(512), 0);
        all
    }

    #[test]
    fn a_table_is_read_and_a_damaged_one_told() {
        let bytes = database();
        let list = rpm_packages(&bytes, b"");
        let names: Vec<usize> = list.packages.iter().map(|one| one.name.len()).collect();
        assert_eq!((names, list.left_out), (vec![300], None));
        let (mut view, mut circle) = (bytes.clone(), bytes.clone());
        let at = bytes.windows(5).position(|five| five == b"table").unwrap();
        view[at..at + 5].copy_from_slice(b"views");
        assert!(rpm_packages(&view, b"").left_out.unwrap().contains("no table"));
        // An inner page that leads to itself.
        circle[512] = 5;
        circle[512 + 8..512 + 12].copy_from_slice(&2_u32.to_be_bytes());
        assert!(rpm_packages(&circle, b"").left_out.is_some());
        for length in [20, 511, 513, 1030] {
            assert!(rpm_packages(&bytes[..length], b"").left_out.is_some(), "{length}");
        }
    }

    #[test]
    fn a_log_counts_as_far_as_its_changes_are_finished() {
        let bytes = database();
        let mut log = Vec::new();
        log.extend_from_slice(&0x377f_0682_u32.to_be_bytes());
        log.extend_from_slice(&3_007_000_u32.to_be_bytes());
        log.extend_from_slice(&512_u32.to_be_bytes());
        log.extend_from_slice(&[0, 0, 0, 1, 1, 2, 3, 4, 5, 6, 7, 8]);
        let mut sum = checksum((0, 0), &log, false).unwrap();
        let put = |log: &mut Vec<u8>, sum: (u32, u32)| {
            log.extend_from_slice(&sum.0.to_be_bytes());
            log.extend_from_slice(&sum.1.to_be_bytes());
        };
        put(&mut log, sum);
        let mut frame = |log: &mut Vec<u8>, number: u32, commit: u32, page: &[u8]| {
            let mut head = number.to_be_bytes().to_vec();
            head.extend_from_slice(&commit.to_be_bytes());
            sum = checksum(checksum(sum, &head, false).unwrap(), page, false).unwrap();
            log.extend_from_slice(&head);
            log.extend_from_slice(&[1, 2, 3, 4, 5, 6, 7, 8]);
            put(log, sum);
            log.extend_from_slice(page);
        };
        // The whole file in the log: an old one, of other pages, beside it.
        let mut empty = vec![0; 512];
        empty[0] = 13;
        frame(&mut log, 2, 4, &empty);
        let before = log.len();
        frame(&mut log, 2, 0, &bytes[512..1024]);
        assert_eq!(rpm_packages(&bytes, &log).packages.len(), 0, "the finished change");
        assert_eq!(rpm_packages(&bytes, &log[..before]).packages.len(), 0);
        assert_eq!(rpm_packages(&bytes, &log[..before - 1]).packages.len(), 1, "it is cut");
        let mut salted = log.clone();
        salted[20] ^= 1;
        assert_eq!(rpm_packages(&bytes, &salted).packages.len(), 1, "an older log");
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(
            changes in proptest::collection::vec((0..2048_usize, proptest::prelude::any::<u8>()), 0..20),
        ) {
            let mut bytes = database();
            for (at, byte) in changes {
                let at = at % bytes.len();
                bytes[at] = byte;
            }
            let _list = rpm_packages(&bytes, &bytes[16..]);
        }
    }
}
