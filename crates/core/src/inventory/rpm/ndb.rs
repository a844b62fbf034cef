//! The database of RPM's own: slots that say where each header lies.

use super::{RpmFault, le, le_place};

const PAGE: usize = 4096;
/// The most pages of slots: a million packages take four thousand.
const PAGES: usize = 16_384;

/// Gives every header, until it is told to stop.
pub(super) fn headers(bytes: &[u8], each: &mut dyn FnMut(&[u8]) -> bool) -> Result<(), RpmFault> {
    if le(bytes, 4, 4) != Some(0) {
        return Err(RpmFault::Damaged("its version is not known"));
    }
    let pages = le_place(bytes, 12, 4).ok_or(RpmFault::Damaged("it is cut"))?;
    if pages > PAGES {
        return Err(RpmFault::Steps);
    }
    let end = bytes.len().min(pages * PAGE);
    let slots = bytes.get(32..end).ok_or(RpmFault::Damaged("it is cut"))?;
    // Slots may lead to the same place: no more is read than it has.
    let mut read = 0_usize;
    for slot in slots.chunks_exact(16) {
        if !slot.starts_with(b"Slot") {
            return Err(RpmFault::Damaged("one of its slots is none"));
        }
        let block = le_place(slot, 8, 4).unwrap_or(0);
        if block == 0 {
            continue;
        }
        let at = block.checked_mul(16).ok_or(RpmFault::Damaged("a slot leads behind its end"))?;
        let blob = bytes.get(at..).ok_or(RpmFault::Damaged("a slot leads behind its end"))?;
        let length = le_place(blob, 12, 4).filter(|_| blob.starts_with(b"BlbS"));
        let length = length.ok_or(RpmFault::Damaged("where a header should be is none"))?;
        if le(blob, 4, 4) != le(slot, 4, 4) {
            return Err(RpmFault::Damaged("a slot leads to another's header"));
        }
        let end = length.checked_add(16).ok_or(RpmFault::Damaged("a header is too long"))?;
        let header = blob.get(16..end).ok_or(RpmFault::Damaged("a header is cut"))?;
        read = read.saturating_add(length);
        if read > bytes.len() {
            return Err(RpmFault::Steps);
        }
        if !each(header) {
            return Ok(());
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::super::header::tests::header;
    use super::super::rpm_packages;

    fn database(headers: &[Vec<u8>]) -> Vec<u8> {
        let mut all = vec![0; 4096];
        all[..4].copy_from_slice(b"RpmP");
        all[12..16].copy_from_slice(&1_u32.to_le_bytes());
        for slot in all[32..].chunks_exact_mut(16) {
            slot[..4].copy_from_slice(b"Slot");
        }
        for (number, header) in (1_u32..).zip(headers) {
            let block = u32::try_from(all.len() / 16).unwrap();
            let slot = 32 + 16 * (number as usize);
            all[slot + 4..slot + 8].copy_from_slice(&number.to_le_bytes());
            all[slot + 8..slot + 12].copy_from_slice(&block.to_le_bytes());
            all.extend_from_slice(b"BlbS");
            all.extend_from_slice(&number.to_le_bytes());
            all.extend_from_slice(&1_u32.to_le_bytes());
            all.extend_from_slice(&u32::try_from(header.len()).unwrap().to_le_bytes());
            all.extend_from_slice(header);
            all.resize((all.len() + 12).next_multiple_of(16), 0);
        }
        all
    }

    #[test]
    fn every_slot_is_followed_and_no_further_than_the_end() {
        let headers =
            [header("one", "1", ""), header("two", "2", ""), header("gpg-pubkey", "3", "")];
        let bytes = database(&headers);
        let list = rpm_packages(&bytes, b"");
        let names: Vec<&str> = list.packages.iter().map(|one| &*one.name).collect();
        assert_eq!((names, list.left_out), (vec!["one", "two"], None));
        for (at, byte) in [(4, 1), (14, 0xff), (40, b'X'), (56, 0xff), (4096, b'X'), (4108, 0xff)] {
            let mut damaged = bytes.clone();
            damaged[at] = byte;
            assert!(rpm_packages(&damaged, b"").left_out.is_some(), "{at}");
        }
        assert!(rpm_packages(&bytes[..20], b"").left_out.is_some());
    }

    proptest::proptest! {
        #[test]
        fn nothing_breaks_it(
            changes in proptest::collection::vec((0..5000_usize, proptest::prelude::any::<u8>()), 0..20),
        ) {
            let mut bytes = database(&[header("one", "1", ""), header("two", "2", "")]);
            for (at, byte) in changes {
                let at = at % bytes.len();
                bytes[at] = byte;
            }
            let _list = rpm_packages(&bytes, b"");
        }
    }
}
