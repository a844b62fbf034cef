//! Whose signatures count: what an operator says of signers, stampers and logs.

use std::collections::BTreeSet;

use super::chain::Authorities;
use super::dsse::Said;
use super::log::Log;
use super::public_key::PublicKey;
use crate::certificate::CertificateUsage;
use crate::digest::Digest;
use crate::pattern::Pattern;

/// Somebody whose signatures count.
#[derive(Debug, Clone)]
pub struct Signer {
    pub name: String,
    /// For which images.
    pub images: Vec<Pattern>,
    /// Any of them: old ones stay while new ones come.
    pub keys: Vec<PublicKey>,
    /// Keys that were theirs, and are nobody's now.
    pub revoked: Vec<PublicKey>,
    /// Who certifies their keys. Empty: nobody does.
    pub authorities: Authorities,
    /// Whose certificates of these authorities count. None: none do.
    pub identity: Option<Identity>,
    /// Other names that an image may be signed under.
    pub signed_as: Vec<Pattern>,
    /// The statements of theirs that count as a signature, by their predicate types.
    pub statements: Vec<String>,
    /// Whether a log that is required is required of them too.
    pub is_logged: bool,
}

/// Whose a certificate has to be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Identity {
    /// One mail address, as a whole.
    Email(String),
    /// A URI; `*` stands for anything within one part of a path.
    Uri(String),
}

/// What is believed, by whom.
#[derive(Debug, Clone, Default)]
pub struct Trust {
    pub signers: Vec<Signer>,
    /// Who certifies those that stamp.
    pub stamps: Authorities,
    pub logs: Vec<Log>,
    /// Images that count as not signed, whatever was signed.
    pub withdrawn: BTreeSet<Digest>,
    /// The types of statements of which somebody asks what they say. Of others no more than their type is told: a bill of
    /// materials may have many megabytes.
    pub asked: BTreeSet<String>,
}

impl Identity {
    /// Whether a certificate is of this holder. What stands in its common name never counts.
    pub fn is_of(&self, certificate: &CertificateUsage) -> bool {
        match self {
            Self::Email(email) => certificate.emails.iter().any(|own| is_same_address(own, email)),
            Self::Uri(pattern) => certificate.uris.iter().any(|own| within_parts(pattern, own)),
        }
    }
}

/// The part behind the `@` is a host, whose letters have no case (RFC 5280, section 4.2.1.6).
fn is_same_address(one: &str, other: &str) -> bool {
    let (Some((name, host)), Some((other, home))) = (one.rsplit_once('@'), other.rsplit_once('@'))
    else {
        return false;
    };
    name == other && host.eq_ignore_ascii_case(home)
}

/// Whether a text fits a pattern in which `*` stands for anything but `/`.
fn within_parts(pattern: &str, text: &str) -> bool {
    let (mut patterns, mut parts) = (pattern.split('/'), text.split('/'));
    loop {
        match (patterns.next(), parts.next()) {
            (None, None) => return true,
            (Some(pattern), Some(part)) if fits(pattern, part) => {}
            _ => return false,
        }
    }
}

/// Whether one part fits: what stands between stars has to come in turn.
fn fits(pattern: &str, part: &str) -> bool {
    let mut pieces = pattern.split('*');
    let Some(mut rest) = pieces.next().and_then(|first| part.strip_prefix(first)) else {
        return false;
    };
    let mut pieces = pieces.peekable();
    if pieces.peek().is_none() {
        return rest.is_empty();
    }
    while let Some(piece) = pieces.next() {
        if pieces.peek().is_none() {
            return rest.ends_with(piece);
        }
        match rest.find(piece) {
            Some(at) => rest = &rest[at + piece.len()..],
            None => return false,
        }
    }
    true
}

impl Signer {
    /// Whether what they said counts as a signature.
    pub fn counts(&self, said: &Said) -> bool {
        self.statements.contains(&said.predicate_type)
    }

    /// Whether they speak for an image of any of these names (`host/repository`).
    pub fn speaks_for(&self, names: &[String]) -> bool {
        names.iter().any(|name| self.images.iter().any(|pattern| pattern.matches(name)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_star_stays_within_its_part() {
        let pattern = "https://ci.ventworks.example/*/release@refs/tags/*";
        for (text, fits) in [
            ("https://ci.ventworks.example/gauges/release@refs/tags/v1", true),
            ("https://ci.ventworks.example/a/b/release@refs/tags/v1", false),
            ("https://ci.ventworks.example/gauges/release@refs/tags/v1/x", false),
            ("https://ci.ventworks.example/gauges/release@refs/tags/", true),
            ("https://ci.ventworks.example.evil.example/gauges/release@refs/tags/v1", false),
            (
                "https://evil.example/https://ci.ventworks.example/gauges/release@refs/tags/v1",
                false,
            ),
        ] {
            assert_eq!(within_parts(pattern, text), fits, "{text}");
        }
        for (pattern, part, wanted) in [
            ("a*b*c", "aXbYc", true),
            ("a*b*c", "abc", true),
            ("a*bc", "abc", true),
            ("a*ab", "ab", false),
            ("*", "", true),
            ("a", "ab", false),
        ] {
            assert_eq!(fits(pattern, part), wanted, "{pattern} {part}");
        }
        assert!(is_same_address("a@X.example", "a@x.example"));
        for (one, other) in
            [("A@x.example", "a@x.example"), ("a@x.example", "ba@x.example"), ("a", "a")]
        {
            assert!(!is_same_address(one, other));
        }
    }
}
