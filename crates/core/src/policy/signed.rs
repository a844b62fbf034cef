//! What a rule asks of who signed an image, and what is known of that.

use std::fmt;
use std::sync::Arc;

use crate::name::Tag;
use crate::reference::Image;
use crate::signature::{
    Examined, SignatureAnswer, SignatureAsk, SignatureLack, Trust, answer, is_answered,
};

/// What has to be looked up for rules that ask who signed an image.
#[derive(Debug, Clone, Copy)]
pub struct SignatureWish<'w> {
    pub trust: &'w Arc<Trust>,
    /// The image where it comes from; for one of our own, its name here.
    pub image: &'w Image,
    /// The tag that names it. None: it is named by digest alone.
    pub tag: Option<&'w Tag>,
}

/// What was found beside an image as its signatures.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct SignatureFacts {
    pub found: Vec<Examined>,
    /// Whether the operator has withdrawn the image, so that nothing that was signed counts.
    pub is_withdrawn: bool,
}

/// What an image lacks of what a rule asks of its signatures.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignatureShort {
    by: Vec<String>,
    of: usize,
    says: Option<String>,
    answer: SignatureAnswer,
}

/// The most signatures that are told of one by one.
const TOLD: usize = 3;

/// What is lacking. None: nothing is. Now is in milliseconds since 1970.
pub fn short(ask: &SignatureAsk, facts: &SignatureFacts, now: i64) -> Option<SignatureShort> {
    let now = now.div_euclid(1000);
    // Most images have what is asked: why something else does not count is found out for those that have not.
    if is_answered(ask, facts.is_withdrawn, &facts.found, now) {
        return None;
    }
    Some(SignatureShort {
        by: ask.by.clone(),
        of: ask.of,
        says: ask.says.as_ref().and_then(|says| says.types.first().cloned()),
        answer: answer(ask, facts.is_withdrawn, &facts.found, now),
    })
}

impl SignatureFacts {
    /// Until when what counts of it does, in seconds since 1970, if nothing is pushed or removed. None: no end is known.
    pub fn until(&self) -> Option<i64> {
        let proven = self.found.iter().filter_map(|one| one.outcome.as_ref().ok());
        proven.filter_map(|proven| proven.until).min()
    }
}

impl SignatureShort {
    /// The reason in one word.
    pub fn word(&self) -> &'static str {
        self.answer.word().unwrap_or("no-signature")
    }
}

impl fmt::Display for SignatureShort {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if self.answer.lack == Some(SignatureLack::Withdrawn) {
            return f.write_str("it is withdrawn, so that nothing that was signed counts");
        }
        let signed: Vec<&str> = self.answer.counted.iter().map(|one| one.signer.as_str()).collect();
        let done = match &self.says {
            None => "signed it".to_owned(),
            Some(kind) => format!("said of it what is asked (`{kind}`)"),
        };
        match (self.by.as_slice(), signed.as_slice()) {
            ([one], _) => write!(f, "{one} has not {done}")?,
            (all, []) if self.of <= 1 => write!(f, "none of {} has {done}", all.join(", "))?,
            (all, signed) => {
                let who = if signed.is_empty() { "nobody".to_owned() } else { signed.join(", ") };
                write!(f, "{} of {} have to have {done}, and {who} has", self.of, all.join(", "))?;
            }
        }
        let flaws = &self.answer.flaws;
        match flaws.len() {
            0 => f.write_str("; no other signature was found"),
            1 => write!(f, "; the one that was found {}", flaws[0]),
            number => {
                let told: Vec<String> =
                    flaws.iter().take(TOLD).map(|flaw| format!("one {flaw}")).collect();
                write!(f, "; of {number} that do not count, {}", told.join(", "))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::digest::Digest;
    use crate::signature::{Flaw, Proven, SignedBy};

    fn found(outcome: Result<&str, Flaw>) -> Examined {
        let over = Digest::of(b"image");
        let outcome = outcome.map(|signer| Proven {
            signer: signer.to_owned(),
            by: SignedBy::Key(String::new()),
            over: over.clone(),
            at: None,
            until: None,
            said: None,
            is_signature: true,
        });
        Examined { companion: Digest::of(b"companion"), form: None, outcome }
    }

    fn ask(by: &[&str], of: usize) -> SignatureAsk {
        let by = by.iter().map(|name| (*name).to_owned()).collect();
        SignatureAsk { by, of, within: None, says: None }
    }

    #[test]
    fn what_is_lacking_is_told_with_what_was_found() {
        let stranger = || Err(Flaw::BadSignature { named: None });
        let facts = |all: Vec<Result<&str, Flaw>>| SignatureFacts {
            found: all.into_iter().map(found).collect(),
            is_withdrawn: false,
        };
        let told = |ask: &SignatureAsk, facts: &SignatureFacts| {
            short(ask, facts, 0).map(|short| short.to_string()).unwrap_or_default()
        };
        let one = ask(&["vendor"], 1);
        assert_eq!(told(&one, &facts(vec![Ok("vendor"), stranger()])), "");
        assert_eq!(
            told(&one, &facts(vec![])),
            "vendor has not signed it; no other signature was found"
        );
        let late = || Err(Flaw::SignatureExpired(1_780_272_000));
        assert_eq!(
            told(&one, &facts(vec![stranger(), late()])),
            "vendor has not signed it; of 2 that do not count, one ended on 2026-06-01, one is by a key that nobody named"
        );
        let two = ask(&["vendor", "ours"], 2);
        assert_eq!(
            told(&two, &facts(vec![Ok("vendor"), Ok("vendor")])),
            "2 of vendor, ours have to have signed it, and vendor has; no other signature was found"
        );
        assert_eq!(
            told(&ask(&["vendor", "ours"], 1), &facts(vec![stranger()])),
            "none of vendor, ours has signed it; the one that was found is by a key that nobody named"
        );
        let withdrawn = SignatureFacts { is_withdrawn: true, ..facts(vec![Ok("vendor")]) };
        assert!(told(&one, &withdrawn).contains("withdrawn"));
    }
}
