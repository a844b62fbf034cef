//! What becomes of the references and the pods of one file?

use std::collections::{BTreeMap, BTreeSet};

use super::Position;
use super::change::Change;
use super::finding::{Finding, FindingAccess, ImageRole};
use super::overlays::{ALL, EntryNote, OverlayEntry, ReachedNames, name_of};
use super::plan::FindingWish;
use super::{Nature, Scan};
use crate::reference::Reference;
use crate::retarget::{LeftBecause, Pin, Retarget, RetargetAnswer};

/// What all files are decided by.
#[derive(Debug)]
pub struct Decider<'r> {
    /// Where references lead.
    pub retarget: Retarget<'r>,
    /// Whether references within longer texts, and what may be no image, are changed.
    pub strings: bool,
    /// The pull secret that pods get. None: none.
    pub secret: Option<String>,
    /// Pull secrets that pods lose when they do not pull from the larder any more.
    pub detach: BTreeSet<String>,
    /// Also pods lose them that did not pull from the larder before.
    pub detach_all: bool,
}

/// What is known of a file from others of the same run.
#[derive(Debug, Clone, Default)]
pub struct Others {
    /// What becomes of its overlay's entries, in their order.
    pub entries: Vec<Option<OverlayEntry>>,
    /// Names of images that stay for the sake of an overlay, and why.
    pub held: BTreeMap<String, EntryNote>,
}

/// What is changed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum DecidedWhat {
    Reference,
    /// The pull secret of a pod.
    Secret,
}

/// What becomes of one finding, or of one pod.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FindingDecision {
    pub what: DecidedWhat,
    pub position: Position,
    pub from: String,
    /// The new text. None: it is left as it is.
    pub to: Option<String>,
    /// Why it is left. None: it is changed, or right already.
    pub left: Option<String>,
    /// What is missing from it although it is changed. None: nothing.
    pub lacks: Option<String>,
    /// Whether that is an answer of "no".
    pub counts: bool,
}

/// What was decided for one file.
#[derive(Debug, Default)]
pub struct FileDecisions {
    /// What becomes of each finding, then of each pod whose secrets change.
    pub decisions: Vec<FindingDecision>,
    /// The new text. None: nothing changes.
    pub text: Option<String>,
    /// The references that could not be pinned, with the upstream's name of each.
    pub unpinned: Vec<Reference>,
}

impl FindingDecision {
    fn of(what: DecidedWhat, position: Position, from: String) -> Self {
        Self { what, position, from, to: None, left: None, lacks: None, counts: false }
    }
}

impl Decider<'_> {
    /// Decides for each finding of a file, and for its pods, and makes the new text.
    pub fn decide(&self, scan: &Scan<'_>, others: &Others) -> FileDecisions {
        let (mut decided, mut wishes) = self.wishes(scan, others);
        // What cannot be proved changes what the pods pull, and so which secret they need.
        for _ in 0..3 {
            let references = scan.findings.len();
            decided.decisions.truncate(references);
            let additions = self.secrets(scan, &mut decided.decisions);
            let changes: Vec<Change> = additions.iter().map(|(_, change)| change.clone()).collect();
            if changes.is_empty() && wishes.iter().all(Option::is_none) {
                decided.text = None;
                break;
            }
            let done = scan.rewrite(&wishes, &changes);
            decided.text = done.text;
            for number in &done.left_out {
                let Some((at, _)) = additions.get(*number) else { continue };
                let decision = &mut decided.decisions[*at];
                decision.to = None;
                decision.left =
                    Some("it cannot be proved that its pull secret alone would change".into());
                decision.counts = true;
            }
            for (number, why) in &done.refused {
                let decision = &mut decided.decisions[*number];
                decision.to = None;
                decision.left = Some((*why).to_owned());
                decision.lacks = None;
                decision.counts = true;
                wishes[*number] = None;
            }
            if done.refused.is_empty() || (self.secret.is_none() && self.detach.is_empty()) {
                break;
            }
        }
        decided
    }

    /// The names that the images of an object have, and those that they get, for the overlays that are about them.
    pub fn names(&self, scan: &Scan<'_>, others: &Others) -> Vec<(String, String)> {
        let decided = self.decide(scan, others);
        let all = scan.findings.iter().zip(&decided.decisions);
        all.filter(|(finding, _)| finding.is_run() && !finding.is_overlay())
            .map(|(finding, decision)| {
                let new = decision.to.as_ref().unwrap_or(&finding.text);
                (name_of(&finding.text).to_owned(), name_of(new).to_owned())
            })
            .collect()
    }

    fn wishes(
        &self,
        scan: &Scan<'_>,
        others: &Others,
    ) -> (FileDecisions, Vec<Option<FindingWish>>) {
        let mut decided = FileDecisions::default();
        let mut wishes = Vec::with_capacity(scan.findings.len());
        let overlay: Vec<&Finding> =
            scan.findings.iter().filter(|one| one.is_overlay() && one.is_run()).collect();
        // Alone, all that it is about is out of sight.
        let alone = match others.entries.is_empty() && !overlay.is_empty() {
            true => ReachedNames::default().through(&overlay, &others.held, &self.retarget),
            false => Vec::new(),
        };
        let mut entries = others.entries.iter().chain(&alone);
        for finding in &scan.findings {
            let mut decision =
                FindingDecision::of(DecidedWhat::Reference, finding.position, finding.text.clone());
            let entry = match finding.is_overlay() && finding.is_run() {
                true => entries.next().and_then(Option::as_ref),
                false => None,
            };
            let mut wish = self.wish(finding, &mut decision, &mut decided.unpinned);
            let held = others.held.get(name_of(&finding.text)).or(others.held.get(ALL));
            let held = held.filter(|_| wish.is_some());
            if let Some(told) = held {
                wish = None;
                decision.to = None;
                decision.left = Some(match told {
                    EntryNote::Fixed => {
                        "an overlay that is about it cannot be changed, and would lose it".into()
                    }
                    EntryNote::Alike(_) | EntryNote::Mixed(_) => {
                        "an overlay means the same image and writes it otherwise; write both alike"
                            .into()
                    }
                    told => told.to_string(),
                });
                decision.counts = true;
            }
            if let Some(entry) = entry {
                wish = by_entry(finding, entry, &mut decision);
            }
            wishes.push(wish);
            decided.decisions.push(decision);
        }
        (decided, wishes)
    }

    fn wish(
        &self,
        finding: &Finding,
        decision: &mut FindingDecision,
        unpinned: &mut Vec<Reference>,
    ) -> Option<FindingWish> {
        // What a build makes is called so by its maker.
        if finding.nature() == Nature::Made {
            return None;
        }
        if finding.role == ImageRole::Open
            || (finding.nature() == Nature::Open && finding.text.is_empty())
        {
            if let FindingAccess::Leave(why) = finding.access {
                decision.left = Some(why.to_owned());
            }
            return None;
        }
        let pinned = self.retarget.pin() == Pin::Add;
        let unpinnable = pinned && !finding.text.contains('@') && !finding.can_be_pinned();
        let answer = match unpinnable || (pinned && finding.tag_elsewhere) {
            true => self.retarget.answer_with(&finding.text, finding.tag_elsewhere, Pin::Keep),
            false => self.retarget.answer(&finding.text, finding.tag_elsewhere),
        };
        let lacks = match (pinned && finding.tag_elsewhere, unpinnable) {
            _ if !finding.is_certain() || finding.hindrance(self.strings).is_some() => None,
            (true, _) => Some("it is not pinned: its tag is decided in another place"),
            (_, true) => Some("it is not pinned: there is no `digest` beside it that could pin it"),
            _ => None,
        };
        match answer {
            RetargetAnswer::Right => {
                decision.left = lacks.map(str::to_owned);
                decision.counts = lacks.is_some();
                None
            }
            RetargetAnswer::Become(new) => match finding.hindrance(self.strings) {
                Some(hindrance) => {
                    decision.left = Some(hindrance.why.to_owned());
                    decision.counts = hindrance.counts;
                    None
                }
                None => {
                    decision.to = Some(new.to_string());
                    decision.lacks = lacks.map(str::to_owned);
                    decision.counts = lacks.is_some();
                    Some(FindingWish::Become(new))
                }
            },
            RetargetAnswer::Left(left) => {
                if let LeftBecause::Unpinned(target) = &left {
                    unpinned.push(target.clone());
                }
                // What may be no image at all is not missed, nor what was left out.
                let told = finding.is_certain() || finding.nature() == Nature::Open;
                if told && left != LeftBecause::NotAsked {
                    decision.counts = left.counts() && finding.is_certain();
                    decision.left = Some(left.to_string());
                }
                None
            }
        }
    }

    /// What becomes of the pull secrets of the pods. Adds what is told of them, and gives the changes with the number of
    /// the decision that each belongs to.
    fn secrets(
        &self,
        scan: &Scan<'_>,
        decisions: &mut Vec<FindingDecision>,
    ) -> Vec<(usize, Change)> {
        let mut changes = Vec::new();
        if self.secret.is_none() && self.detach.is_empty() {
            return changes;
        }
        let host = format!("{}/", self.retarget.host());
        // For each pod whether it pulls from here, where to tell it, and whether it pulled from here before.
        let mut pods: Vec<(bool, Option<Position>, bool)> =
            vec![(false, None, false); scan.pods.len()];
        for (finding, decision) in scan.findings.iter().zip(decisions.iter()) {
            let Some(pod) = finding.pod.and_then(|number| pods.get_mut(number)) else { continue };
            let here = decision.to.as_ref().unwrap_or(&decision.from).starts_with(&host);
            if (here && !pod.0) || pod.1.is_none() {
                pod.1 = Some(finding.position);
            }
            pod.0 |= here;
            pod.2 |= decision.from.starts_with(&host);
        }
        for (pod, (here, position, was_here)) in scan.pods.iter().zip(pods) {
            let Some(position) = position else { continue };
            let mut add = |from: String, to: String, change| {
                let mut decision = FindingDecision::of(DecidedWhat::Secret, position, from);
                match change {
                    Ok(None) => return,
                    Ok(Some(change)) => {
                        decision.to = Some(to);
                        changes.push((decisions.len(), change));
                    }
                    Err(why) => {
                        decision.left = Some(format!("{why}"));
                        decision.counts = true;
                    }
                }
                decisions.push(decision);
            };
            if let Some(secret) = self.secret.as_ref().filter(|_| here) {
                let change = scan.attach(pod, secret);
                add("(no pull secret)".into(), format!("imagePullSecrets: {secret}"), change);
            }
            let gone = !here && (was_here || self.detach_all);
            for secret in self.detach.iter().filter(|_| gone) {
                let change = scan.detach(pod, secret);
                add(format!("imagePullSecrets: {secret}"), "(no pull secret)".into(), change);
            }
        }
        changes
    }
}

/// What was settled for an overlay's entry with all that it is about.
fn by_entry(
    finding: &Finding,
    entry: &OverlayEntry,
    decision: &mut FindingDecision,
) -> Option<FindingWish> {
    let changes = !entry.same;
    match &entry.told {
        Some(told @ EntryNote::Mended) => decision.lacks = Some(told.to_string()),
        Some(told) => {
            decision.to = None;
            decision.lacks = None;
            decision.left = Some(told.to_string());
            decision.counts = true;
        }
        None => {}
    }
    if !changes {
        // It is as it should be, whatever it would become alone.
        if decision.to.is_some() {
            decision.to = None;
        }
        return None;
    }
    if decision.to.is_none()
        && let FindingWish::Entry { of, to, .. } = &entry.wish
    {
        let rest = finding.text.strip_prefix(name_of(&finding.text)).unwrap_or_default();
        decision.to = Some(format!("{}{rest}", if of == to { of } else { to }));
    }
    Some(entry.wish.clone())
}
