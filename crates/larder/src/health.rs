//! How images are, in one word with its reasons, for reports.

use larder_core::digest::Digest;
use larder_core::health::{Health, HealthFacts, HealthWord};
use larder_store::{Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::now;
use crate::output::{BAD, DIM, GOOD, WARN, paint};

/// How an image is.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, JsonSchema)]
pub struct ImageHealth {
    /// `good`, `fair`, `unknown` where what decides was not read, `poor`.
    word: &'static str,
    /// Why it is no better: all that is known, the worst first.
    reasons: Vec<String>,
    #[serde(skip)]
    health: Health,
}

impl ImageHealth {
    /// Of what is known.
    pub fn of(facts: &HealthFacts) -> Self {
        let health = Health::of(facts, now());
        let reasons = health.reasons.iter().map(ToString::to_string).collect();
        Self { word: health.word.word(), reasons, health }
    }

    /// The word, in its colour.
    pub fn painted(&self) -> String {
        match self.health.word {
            HealthWord::Good => paint(GOOD, self.word),
            HealthWord::Fair => self.word.to_owned(),
            HealthWord::Unknown => paint(WARN, self.word),
            HealthWord::Poor => paint(BAD, self.word),
        }
    }

    /// The word with the reasons that made it that.
    pub fn line(&self) -> String {
        match self.health.because().as_str() {
            "" => self.painted(),
            because => format!("{}: {because}", self.painted()),
        }
    }

    /// All reasons, each in a line with what it makes of an image.
    pub fn lines(&self) -> Vec<String> {
        let line = |reason: &larder_core::health::HealthReason| {
            format!("{} {}", reason, paint(DIM, format!("({})", reason.word())))
        };
        self.health.reasons.iter().map(line).collect()
    }

    /// Which word it is.
    pub fn is(&self) -> HealthWord {
        self.health.word
    }

    /// The reasons that made it that word, in one line. Empty: there are none.
    pub fn because(&self) -> String {
        self.health.because()
    }
}

/// Whether it is asked how images are: somebody has taken advisories in.
pub async fn is_asked(store: &Store) -> Result<bool, StoreError> {
    store.has_advisories().await
}

/// How an image is that the larder holds. None: it does not hold it, or it is no image.
pub async fn of_held(store: &Store, digest: &Digest) -> Result<Option<ImageHealth>, StoreError> {
    Ok(store.health_facts(digest).await?.as_ref().map(ImageHealth::of))
}
