//! What a rule asks of signatures, and whether what was found answers it.

use std::collections::{BTreeMap, BTreeSet};

use super::dsse::Said;
use super::examine::{AHEAD, Examined, Proven};
use super::flaw::Flaw;
use super::json::Json;

/// What has to be signed, by whom.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignatureAsk {
    /// The signers of whom some have to have signed, by their names.
    pub by: Vec<String>,
    /// So many of them.
    pub of: usize,
    /// No longer ago than this, in seconds.
    pub within: Option<i64>,
    /// What they have to have said. None: no more than that it is signed.
    pub says: Option<StatementAsk>,
}

/// What a statement has to say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatementAsk {
    /// Any of these predicate types, as a whole.
    pub types: Vec<String>,
    /// Each by a pointer into the predicate (RFC 6901).
    pub conditions: Vec<(String, Wanted)>,
    /// Where the predicate says when it was made. None: what a stamp or a log proves.
    pub time: Option<String>,
    /// Whether the newest alone counts.
    pub newest: bool,
}

/// What a predicate has to have somewhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Wanted {
    Is(Json),
    AtMost(serde_json::Number),
}

/// What was found for an ask.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SignatureAnswer {
    /// Those that count, one for each signer.
    pub counted: Vec<Proven>,
    pub lack: Option<SignatureLack>,
    /// What does not count, the nearest first.
    pub flaws: Vec<Flaw>,
}

/// Why the ask is not answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SignatureLack {
    Withdrawn,
    /// Some have signed, and not enough.
    TooFew,
    /// None of what was found counts; the flaws say why.
    None,
}

impl SignatureAnswer {
    /// The reason in one word. None: what is asked for is there.
    pub fn word(&self) -> Option<&'static str> {
        Some(match self.lack.as_ref()? {
            SignatureLack::Withdrawn => "withdrawn",
            SignatureLack::TooFew => "threshold",
            SignatureLack::None => self.flaws.first().map_or("no-signature", Flaw::word),
        })
    }

    /// Until when it is the answer, in seconds since 1970. None: until something changes.
    pub fn until(&self, ask: &SignatureAsk) -> Option<i64> {
        let ends = |one: &Proven| {
            let old = ask.within.and_then(|within| Some(time_of(one, ask)?.saturating_add(within)));
            one.until.into_iter().chain(old).min()
        };
        self.counted.iter().filter_map(ends).min()
    }
}

/// When a signature was made, as far as the ask believes it.
fn time_of(one: &Proven, ask: &SignatureAsk) -> Option<i64> {
    let pointer = ask.says.as_ref().and_then(|says| says.time.as_deref());
    match (pointer, &one.said) {
        (Some(pointer), Some(said)) => {
            let at: jiff::Timestamp = said.predicate.at(pointer)?.text()?.parse().ok()?;
            Some(at.as_second())
        }
        (Some(_), None) => None,
        (None, _) => one.at,
    }
}

impl StatementAsk {
    fn is_said(&self, said: &Said) -> bool {
        self.conditions.iter().all(|(pointer, wanted)| {
            let found = said.predicate.at(pointer);
            match (found, wanted) {
                (Some(found), Wanted::Is(wanted)) => found == wanted,
                (Some(Json::Number(found)), Wanted::AtMost(most)) => {
                    found.as_f64().zip(most.as_f64()).is_some_and(|(found, most)| found <= most)
                }
                _ => false,
            }
        })
    }
}

/// Holds what was found against what is asked. What is withdrawn counts as not signed. The time is in seconds since 1970.
pub fn answer(
    ask: &SignatureAsk,
    is_withdrawn: bool,
    found: &[Examined],
    now: i64,
) -> SignatureAnswer {
    if is_withdrawn {
        let lack = Some(SignatureLack::Withdrawn);
        return SignatureAnswer { counted: Vec::new(), lack, flaws: Vec::new() };
    }
    let mut flaws = Some(Vec::new());
    let counted = weigh(ask, found, now, &mut flaws);
    let mut flaws = flaws.unwrap_or_default();
    flaws.sort_by_key(|flaw| std::cmp::Reverse(flaw.rank()));
    let lack = match counted.len() {
        enough if enough >= ask.of.max(1) => None,
        0 => Some(SignatureLack::None),
        _ => Some(SignatureLack::TooFew),
    };
    SignatureAnswer { counted: counted.into_values().cloned().collect(), lack, flaws }
}

/// Whether what was found answers what is asked; of what does not count nothing is told. The time as for [`answer`].
pub fn is_answered(ask: &SignatureAsk, is_withdrawn: bool, found: &[Examined], now: i64) -> bool {
    !is_withdrawn && weigh(ask, found, now, &mut None).len() >= ask.of.max(1)
}

fn tell(flaws: &mut Option<Vec<Flaw>>, flaw: impl FnOnce() -> Flaw) {
    if let Some(flaws) = flaws {
        flaws.push(flaw());
    }
}

/// Those that count, by their signers. Why others do not is told where that is wanted.
fn weigh<'f>(
    ask: &SignatureAsk,
    found: &'f [Examined],
    now: i64,
    flaws: &mut Option<Vec<Flaw>>,
) -> BTreeMap<&'f str, &'f Proven> {
    let mut fitting: Vec<&Proven> = Vec::new();
    for one in found {
        match &one.outcome {
            Err(flaw) => tell(flaws, || flaw.clone()),
            Ok(proven) => match fits(ask, proven) {
                Ok(()) => fitting.push(proven),
                Err(flaw) => flaw.into_iter().for_each(|flaw| tell(flaws, || flaw)),
            },
        }
    }
    if ask.says.as_ref().is_some_and(|says| says.newest) {
        // The newest of each signer; what says of no time cannot be the newest, and does not count.
        let mut newest: BTreeMap<&str, &Proven> = BTreeMap::new();
        let mut timeless = BTreeSet::new();
        for one in fitting {
            let at = time_of(one, ask);
            if at.is_none() {
                timeless.insert(one.signer.clone());
            }
            let own = newest.entry(&one.signer).or_insert(one);
            if at > time_of(own, ask) {
                *own = one;
            }
        }
        fitting = newest.into_values().filter(|one| time_of(one, ask).is_some()).collect();
        let told = fitting.iter().map(|one| one.signer.clone()).collect();
        for signer in timeless.difference(&told) {
            tell(flaws, || Flaw::Stale { signer: signer.clone(), at: None });
        }
    }
    let mut counted: BTreeMap<&str, &Proven> = BTreeMap::new();
    for one in fitting {
        match holds(ask, one, now) {
            Err(flaw) => tell(flaws, || flaw),
            Ok(()) => {
                // Of several by one signer the one that lasts longest counts.
                let own = counted.entry(&one.signer).or_insert(one);
                let end = |one: &Proven| one.until.unwrap_or(i64::MAX);
                if (end(one), time_of(one, ask)) > (end(own), time_of(own, ask)) {
                    *own = one;
                }
            }
        }
    }
    counted
}

/// Whether a signature is one that is asked for. Err(None): it is, and of another kind.
fn fits(ask: &SignatureAsk, one: &Proven) -> Result<(), Option<Flaw>> {
    let signer = one.signer.clone();
    if !ask.by.contains(&signer) {
        return Err(None);
    }
    match (&ask.says, &one.said) {
        (Some(asked), Some(said)) if asked.types.contains(&said.predicate_type) => Ok(()),
        (Some(_), Some(said)) => {
            Err(Some(Flaw::WrongPredicate { signer, predicate: said.predicate_type.clone() }))
        }
        // What somebody says is no signature, unless it was named as one.
        (None, _) if one.is_signature => Ok(()),
        (None, _) | (Some(_), None) => Err(None),
    }
}

/// Whether it says what is asked, and recently.
fn holds(ask: &SignatureAsk, one: &Proven, now: i64) -> Result<(), Flaw> {
    let signer = || one.signer.clone();
    if let (Some(asked), Some(said)) = (&ask.says, &one.said)
        && !asked.is_said(said)
    {
        return Err(Flaw::Condition { signer: signer() });
    }
    let at = time_of(one, ask);
    if let Some(at) = at.filter(|at| *at > now + AHEAD) {
        return Err(Flaw::NotYet(at));
    }
    let is_fresh = |within: i64| at.is_some_and(|at| at.saturating_add(within) >= now);
    if ask.within.is_some_and(|within| !is_fresh(within)) {
        return Err(Flaw::Stale { signer: signer(), at });
    }
    Ok(())
}
