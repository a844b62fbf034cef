//! What belongs to an image without being part of it? Signatures, SBOMs, attestations: the
//! standard's referrers, and those that lie under a tag made from the image's digest.

use crate::digest::Digest;
use crate::name::Tag;

/// Something that refers to an image, or to another companion.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Companion {
    /// What it is about: the digest of an index, a manifest or another companion.
    pub about: Digest,
    /// What kind of artifact it is. Empty: it does not say.
    pub kind: String,
    /// The size of its manifest, in bytes.
    pub size: u64,
    /// The tag under which it must be found, because nothing in it names what it is about. None:
    /// its own `subject` does.
    pub tag: Option<Tag>,
}

/// What kind of artifact something is, as it says: what no media type has is left out, because it
/// is shown on terminals. Empty: it does not say.
pub fn kind(said: Option<&str>) -> String {
    let printable = said.unwrap_or_default().chars().filter(char::is_ascii_graphic);
    // Media types have two names of 127 characters at most (RFC 6838, section 4.2).
    printable.take(255).collect()
}

/// Whether a kind of artifact is a signature, by its name.
pub fn is_signature(kind: &str) -> bool {
    kind.to_ascii_lowercase().contains("signature")
}

/// Whether a kind of artifact may be a bill of materials, by its name.
pub fn may_be_sbom(kind: &str) -> bool {
    let kind = kind.to_ascii_lowercase();
    ["spdx", "cyclonedx", "sbom", "in-toto"].iter().any(|word| kind.contains(word))
}

/// The annotation by which a manifest of an index that is made for no platform says which manifest it records the
/// building of.
pub const RECORDED_DIGEST: &str = "vnd.docker.reference.digest";

/// The tag under which registries without the referrers end point keep the list of referrers
/// (Distribution Specification, "Referrers Tag Schema").
pub fn list_tag(subject: &Digest) -> Tag {
    let mut text = format!("{}-{}", subject.algorithm().name(), subject.hex());
    // A tag has 128 characters at most (the standard cuts algorithm and hash at 32 and 64).
    text.truncate(subject.algorithm().name().len() + 1 + 64);
    // An algorithm's name, a hyphen and hex digits are a tag.
    text.parse().unwrap_or_else(|_| Tag::latest())
}

/// The digest that such a tag is made from, with its ending or without. None: it is made from none.
pub fn subject_of(tag: &Tag) -> Option<Digest> {
    let name = tag.as_str().split('.').next().unwrap_or_default();
    let (algorithm, hex) = name.split_once('-')?;
    format!("{algorithm}:{hex}").parse().ok()
}

/// Whether a tag is that of a digest's list with an ending: the older scheme, in which signatures and
/// the like lie under the tag `sha256-<hash>.<ending>` beside the image.
pub fn is_beside(tag: &Tag, list: &Tag) -> bool {
    let ending = tag.as_str().strip_prefix(list.as_str());
    ending.is_some_and(|ending| ending.len() > 1 && ending.starts_with('.'))
}

/// Whether a tag is made from some digest, and so names no version of anything.
pub fn is_made_from_digest(tag: &Tag) -> bool {
    let Some((algorithm, rest)) = tag.as_str().split_once('-') else { return false };
    let hash = rest.split('.').next().unwrap_or(rest);
    matches!(algorithm, "sha256" | "sha512")
        && hash.len() == 64
        && hash.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn kinds_are_fit_for_terminals() {
        assert_eq!(kind(Some("application/vnd.example+json")), "application/vnd.example+json");
        assert_eq!(kind(Some("\u{1b}[2Ja b\r\nü")), "[2Jab");
        assert_eq!(kind(Some(&"a".repeat(9_000))).len(), 255);
        assert_eq!(kind(None), "");
    }

    #[test]
    fn tags_made_from_a_digest_are_known() {
        let (one, other) = (Digest::of(b"one"), Digest::of(b"other"));
        let list = list_tag(&one);
        assert_eq!(list.as_str(), format!("sha256-{}", one.hex()));
        let beside: Tag = format!("{list}.sig").parse().unwrap();
        assert!(is_beside(&beside, &list) && !is_beside(&list, &list));
        assert!(!is_beside(&beside, &list_tag(&other)));
        assert!(is_made_from_digest(&beside) && is_made_from_digest(&list));
        for text in ["1.9.2", "sha256-abc", "latest", "sha1-0000"] {
            assert!(!is_made_from_digest(&text.parse().unwrap()), "{text}");
        }
        assert!(!is_beside(&format!("{list}.").parse().unwrap(), &list));
        let mut long = crate::digest::Hasher::new(crate::digest::Algorithm::Sha512);
        long.update(b"one");
        assert!(is_made_from_digest(&list_tag(&long.finish())));
    }
}
