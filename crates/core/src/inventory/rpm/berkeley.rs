//! The database of Berkeley DB, as a hash: pages with headers in them, and pages with what did not fit there.

use super::{RpmFault, le, le_place};

const OVERFLOW: u8 = 7;

/// Whether a file begins as one does. Those of machines that count from the other end are told, and not read.
pub(super) fn is_one(bytes: &[u8]) -> bool {
    matches!(le(bytes, 12, 4), Some(0x0006_1561 | 0x6115_0600))
}

/// Gives every header, until it is told to stop. All pages are read, which is the same as walking the buckets.
pub(super) fn headers(bytes: &[u8], each: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), RpmFault> {
    let cut = RpmFault::Damaged("it is cut");
    if le(bytes, 12, 4) != Some(0x0006_1561) {
        return Err(RpmFault::Damaged("it was written on a machine of another kind"));
    }
    if !matches!(le(bytes, 16, 4), Some(8..=10)) {
        return Err(RpmFault::Damaged("its version is not known"));
    }
    let size = le_place(bytes, 20, 4).ok_or(cut)?;
    if !size.is_power_of_two() || !(512..=65_536).contains(&size) {
        return Err(RpmFault::Damaged("its pages have no size that there is"));
    }
    let last = le_place(bytes, 32, 4).ok_or(cut)?;
    let pages = bytes.len() / size;
    if last >= pages {
        return Err(cut);
    }
    let page = |number: usize| bytes.get(number * size..(number + 1) * size);
    // Each page belongs to one header: no more steps than pages.
    let mut steps = 0;
    for number in 1..=last {
        let Some(page_bytes) = page(number) else { return Err(cut) };
        if !matches!(page_bytes[25], 2 | 13) {
            continue;
        }
        let items = le_place(page_bytes, 20, 2).ok_or(cut)?;
        let place = |index: usize| le_place(page_bytes, 26 + 2 * index, 2);
        // A key and its value, one after the other, from the end of the page downwards.
        for index in (0..items).step_by(2) {
            let wrong = RpmFault::Damaged("an item lies outside of its page");
            let (Some(key), Some(value)) = (place(index), place(index + 1)) else {
                return Err(wrong);
            };
            let before = if index == 0 { size } else { place(index - 1).ok_or(wrong)? };
            let (Some(key_bytes), Some(value_bytes)) =
                (page_bytes.get(key..before), page_bytes.get(value..key))
            else {
                return Err(wrong);
            };
            // The key with the number 0 has a counter.
            if key_bytes.get(1..) == Some(&[0, 0, 0, 0]) {
                continue;
            }
            let goes_on = match value_bytes.first() {
                Some(1) => each(&value_bytes[1..]),
                Some(3) => {
                    let first = le_place(value_bytes, 4, 4).ok_or(wrong)?;
                    let length = le_place(value_bytes, 8, 4).ok_or(wrong)?;
                    each(&overflow(&page, first, length, pages, &mut steps)?)
                }
                _ => return Err(RpmFault::Damaged("an item is of no kind that a header has")),
            };
            if !goes_on {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// A value that lies on pages of its own, each of which names the next.
fn overflow<'b>(
    page: &impl Fn(usize) -> Option<&'b [u8]>,
    first: usize,
    length: usize,
    pages: usize,
    steps: &mut usize,
) -> Result<Vec<u8>, RpmFault> {
    let (mut value, mut next) = (Vec::new(), first);
    while next != 0 && value.len() < length {
        *steps += 1;
        if *steps > pages {
            return Err(RpmFault::Steps);
        }
        let wrong = RpmFault::Damaged("a page that goes on with a header is none");
        let bytes = page(next).filter(|bytes| bytes[25] == OVERFLOW).ok_or(wrong)?;
        // One that has nothing would lead on for ever.
        let used = le_place(bytes, 22, 2).filter(|used| *used > 0).ok_or(wrong)?;
        value.extend_from_slice(bytes.get(26..26 + used).ok_or(wrong)?);
        next = le_place(bytes, 16, 4).ok_or(wrong)?;
    }
    value.truncate(length);
    match value.len() == length {
        true => Ok(value),
        false => Err(RpmFault::Damaged("a header is cut")),
    }
}

#[cfg(test)]
mod tests {
    use super::super::header::tests::header;
    use super::super::rpm_packages;

    /// One page with a header in it, one of which the header lies on others, and a counter.
    fn database(inline: &[u8], far: &[u8]) -> Vec<u8> {
        const SIZE: usize = 1024;
        let mut pages = vec![vec![0; SIZE], vec![0; SIZE]];
        pages[0][12..16].copy_from_slice(&0x0006_1561_u32.to_le_bytes());
        pages[0][16..20].copy_from_slice(&9_u32.to_le_bytes());
        pages[0][20..24].copy_from_slice(&1024_u32.to_le_bytes());
        let pieces: Vec<&[u8]> = far.chunks(SIZE - 26).collect();
        for (index, piece) in pieces.iter().enumerate() {
            let mut page = vec![0; SIZE];
            page[25] = 7;
            page[22..24].copy_from_slice(&u16::try_from(piece.len()).unwrap().to_le_bytes());
            let next =
                if index + 1 == pieces.len() { 0 } else { u32::try_from(index + 3).unwrap() };
            page[16..20].copy_from_slice(&next.to_le_bytes());
            page[26..26 + piece.len()].copy_from_slice(piece);
            pages.push(page);
        }
        let last = u32::try_from(pages.len() - 1).unwrap();
        pages[0][32..36].copy_from_slice(&last.to_le_bytes());
        let mut far_item = vec![3, 0, 0, 0];
        far_item.extend_from_slice(&2_u32.to_le_bytes());
        far_item.extend_from_slice(&u32::try_from(far.len()).unwrap().to_le_bytes());
        let items = [
            vec![1, 0, 0, 0, 0],
            vec![1, 9, 0, 0, 0],
            vec![1, 1, 0, 0, 0],
            [&[1], inline].concat(),
            vec![1, 2, 0, 0, 0],
            far_item,
        ];
        let page = &mut pages[1];
        page[25] = 13;
        page[20..22].copy_from_slice(&6_u16.to_le_bytes());
        let mut end = SIZE;
        for (index, item) in items.iter().enumerate() {
            end -= item.len();
            page[end..end + item.len()].copy_from_slice(item);
            let at = 26 + 2 * index;
            page[at..at + 2].copy_from_slice(&u16::try_from(end).unwrap().to_le_bytes());
        }
        pages.concat()
    }

    #[test]
    fn headers_are_read_from_pages_and_from_those_that_go_on() {
        let far = header(&"two".repeat(700), "2", "");
        let long = header(&"t".repeat(900), "2", "");
        let bytes = database(&header("one", "1", ""), &long);
        let list = rpm_packages(&bytes, b"");
        let names: Vec<usize> = list.packages.iter().map(|one| one.name.len()).collect();
        assert_eq!((names, list.left_out), (vec![3, 900], None));
        // A name that is longer than any.
        assert!(rpm_packages(&database(&header("one", "1", ""), &far), b"").left_out.is_some());
        // Round in circles, and with nothing on a page.
        for (at, value) in [(3 * 1024 + 16, 2), (2 * 1024 + 22, 0), (21, 3), (16, 3), (32, 200)] {
            let mut damaged = bytes.clone();
            damaged[at] = value;
            if at == 2 * 1024 + 22 {
                damaged[at + 1] = 0;
            }
            let left_out = rpm_packages(&damaged, b"").left_out;
            assert!(left_out.is_some() || at == 3 * 1024 + 16, "{at}");
        }
        let mut swapped = bytes.clone();
        swapped[12..16].reverse();
        let left_out = rpm_packages(&swapped, b"").left_out.unwrap();
        assert!(left_out.contains("another kind"), "{left_out}");
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(
            changes in proptest::collection::vec((0..4096_usize, proptest::prelude::any::<u8>()), 0..20),
        ) {
            let mut bytes = database(&header("one", "1", ""), &header(&"t".repeat(900), "2", ""));
            for (at, byte) in changes {
                let at = at % bytes.len();
                bytes[at] = byte;
            }
            let _list = rpm_packages(&bytes, b"");
        }
    }
}
