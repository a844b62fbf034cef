//! Is a finding an image, how sure is that, does it count, and may it be changed? The one place that says so: for
//! survey, rewrite, policies, the door and diagnosis alike.

use super::dialect::Dialect;
use super::finding::{Finding, FindingAccess, ImageRole};
use crate::reference::is_open;

/// What a finding is to all who ask.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Nature {
    /// An image that somebody pulls under this name: it counts, whatever is wrong with it.
    Image,
    /// It may be one: it is told and does not count.
    Perhaps,
    /// What a build makes is called so, and nobody pulls it.
    Made,
    /// A variable, a template or another program decides what it is.
    Open,
}

/// Why a finding that should change is left.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hindrance {
    pub why: &'static str,
    /// Whether that is an answer of "no": an image keeps its old name.
    pub counts: bool,
}

impl Finding {
    /// What it is.
    pub fn nature(&self) -> Nature {
        match self.role {
            ImageRole::Built => Nature::Made,
            ImageRole::Open => Nature::Open,
            _ if is_open(&self.text) => Nature::Open,
            // `image: {{ name }}` is a map to YAML: whatever fills it in decides.
            _ if self.text.is_empty() && matches!(self.access, FindingAccess::Leave(_)) => {
                Nature::Open
            }
            ImageRole::Pulled | ImageRole::Likely | ImageRole::Template => Nature::Image,
            ImageRole::Doubtful | ImageRole::Text => Nature::Perhaps,
        }
    }

    /// Whether it counts: an image beyond doubt, by a name that is known.
    pub fn is_certain(&self) -> bool {
        self.nature() == Nature::Image
    }

    /// Whether a pod of the object, or a reader of the file, runs it by the rules of the format.
    pub fn is_run(&self) -> bool {
        self.role == ImageRole::Pulled
    }

    /// Whether its tag is known here, so that it can be asked for.
    pub fn is_asked_for(&self) -> bool {
        self.is_certain() && !self.tag_elsewhere
    }

    /// Why it is left although it should change. `strings`: texts and what may be no image are changed too.
    pub fn hindrance(&self, strings: bool) -> Option<Hindrance> {
        let left = |why, counts| Some(Hindrance { why, counts });
        match (self.role, &self.access) {
            (ImageRole::Template, _) => {
                left("it stands in a template; change what fills it", self.is_certain())
            }
            // A text in a template.
            (ImageRole::Text, FindingAccess::Leave(why)) => left(why, false),
            (ImageRole::Text, _) if !strings => {
                left("it stands within a text; `--include-strings` changes it", false)
            }
            (ImageRole::Doubtful, _) if !strings => {
                left("it may be no image; `--include-strings` changes it", false)
            }
            (_, FindingAccess::Leave(why)) => left(why, self.is_certain()),
            _ => None,
        }
    }

    /// Whether it is an entry of an overlay.
    pub fn is_overlay(&self) -> bool {
        self.dialect == Dialect::Overlay
    }
}
