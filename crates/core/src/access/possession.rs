//! May a repository get content that lies in the larder already? Only when the client that brings an image has proved to
//! have it: a digest is no secret, so that a manifest which names one proves nothing.

use std::ops::Range;

/// What proves that a client has the content that it brings.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Proof {
    /// The client may pull it from the repository that its mount names (Distribution Specification, "Mounting a
    /// blob from another repository").
    Mount,
    /// Its upstream, or the archive that it came in, gave the same bytes at all places that [`samples`] names.
    Samples,
    /// The signed contents of a parcel name it, and its signer is trusted.
    SignedContents,
    /// A command on the larder's own machine takes it from another repository of it.
    OwnRepository,
}

/// Why content is not shared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotShared {
    /// Nothing proves that it may be.
    Unproved,
    /// What was said of its size is not true.
    Size,
}

/// Whether a repository gets content of `held` bytes that is said to have `said` bytes. None: nothing was said.
///
/// This one function decides for pushes, mounts, intake, parcels and cached shelves alike.
///
/// # Errors
/// When it does not get it.
pub fn may_have(held: u64, said: Option<u64>, proof: Option<Proof>) -> Result<(), NotShared> {
    match (proof, said) {
        (None, _) => Err(NotShared::Unproved),
        (Some(_), Some(said)) if said != held => Err(NotShared::Size),
        (Some(_), _) => Ok(()),
    }
}

/// Bytes that are compared at one place.
const SAMPLE: u64 = 4096;
/// Places that are compared.
const SAMPLES: usize = 8;

/// The places at which content of so many bytes is compared: nobody can tell them beforehand, so that they must be
/// made of fresh random bytes. All of it, where it is small.
pub fn samples(size: u64, random: &[u8; 8 * SAMPLES]) -> Vec<Range<u64>> {
    let whole = SAMPLE * SAMPLES as u64;
    if size <= whole {
        return std::iter::once(0..size).filter(|all| !all.is_empty()).collect();
    }
    let places = size - SAMPLE + 1;
    random
        .chunks_exact(8)
        .map(|eight| eight.iter().fold(0_u64, |number, byte| number << 8 | u64::from(*byte)))
        .map(|number| number % places)
        .map(|start| start..start + SAMPLE)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_what_is_proved_and_of_the_right_size_is_shared() {
        for proof in [Proof::Mount, Proof::Samples, Proof::SignedContents, Proof::OwnRepository] {
            assert_eq!(may_have(10, Some(10), Some(proof)), Ok(()));
            assert_eq!(may_have(10, None, Some(proof)), Ok(()));
            assert_eq!(may_have(10, Some(9), Some(proof)), Err(NotShared::Size));
        }
        assert_eq!(may_have(10, Some(10), None), Err(NotShared::Unproved));
    }

    #[test]
    fn places_lie_within_and_reach_the_last_byte() {
        assert_eq!(samples(0, &[0; 64]), []);
        assert!(samples(32_768, &[7; 64]).into_iter().eq(std::iter::once(0..32_768)));
        let large = 32_769;
        assert_eq!(samples(large, &[0; 64]), vec![0..4096; 8]);
        let mut random = [0; 64];
        random[6..8].copy_from_slice(&28_673_u16.to_be_bytes());
        assert_eq!(samples(large, &random)[0], 28_673..large);
        for byte in 0..=255 {
            let all = samples(1 << 40, &[byte; 64]);
            assert!(all.iter().all(|one| one.end <= 1 << 40 && one.end - one.start == 4096));
        }
    }
}
