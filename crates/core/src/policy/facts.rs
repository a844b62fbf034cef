//! What is known of an image, and what has to be looked up for rules that ask.

use super::inside::{InsideFacts, InsideWish};
use super::signed::{SignatureFacts, SignatureWish};
use crate::platform::Platform;

/// Something that has to be looked up.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub enum Fact<T> {
    /// Nobody has looked yet.
    #[default]
    NotLooked,
    /// Somebody has, and it cannot be told.
    Unknown,
    /// It is asked at another time, as when the image is pulled, and holds nothing up now.
    Later,
    /// It is so.
    Is(T),
}

/// What is known of the image's content.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ImageFacts {
    /// The platforms that it is for.
    pub platforms: Fact<Vec<Platform>>,
    /// Since when the larder holds it, in milliseconds since 1970.
    pub held: Fact<i64>,
    /// Whether something that calls itself a signature refers to it.
    pub signed: Fact<bool>,
    /// What is inside, and what was published about that.
    pub inside: Fact<InsideFacts>,
    /// Whether the cluster that asks was seen to use it lately.
    pub runs: Fact<bool>,
    /// Who signed it.
    pub signatures: Fact<SignatureFacts>,
}

/// What of an image's content has to be looked up.
#[derive(Debug, Clone, Copy, Default)]
pub struct FactsWish<'w> {
    /// What is wanted of what is inside. None: nothing.
    pub inside: Option<InsideWish>,
    /// The cluster of which it is wanted whether it was seen to use it, and since when, in milliseconds since 1970. None:
    /// that is not wanted.
    pub runs: Option<(&'w str, i64)>,
    /// Whether it is wanted if something refers to it that calls itself a signature.
    pub looks_signed: bool,
    /// Whose signatures are wanted. None: nobody's.
    pub signatures: Option<SignatureWish<'w>>,
}

impl ImageFacts {
    /// Nothing can be told.
    pub const UNKNOWN: Self = Self {
        platforms: Fact::Unknown,
        held: Fact::Unknown,
        signed: Fact::Unknown,
        inside: Fact::Unknown,
        runs: Fact::Unknown,
        signatures: Fact::Unknown,
    };
}
