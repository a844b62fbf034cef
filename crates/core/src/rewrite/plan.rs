//! Which bytes change when references do: places that share bytes must agree.

use std::collections::{BTreeMap, BTreeSet};

use super::Scan;
use super::change::{Addition, Change};
use super::finding::{Finding, FindingAccess};
use super::slot::{Hold, Slot};
use crate::reference::Reference;

/// What a finding is to become.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FindingWish {
    /// Another reference.
    Become(Reference),
    /// Of an overlay's entry: what it is about, and the name that its images get.
    Entry {
        /// Its `name`, as text.
        of: String,
        /// The name that its images have behind it, as text.
        to: String,
        /// The digest, where it has a place and is to be another one. None: it stays.
        digest: Option<String>,
    },
}

impl From<Reference> for FindingWish {
    fn from(reference: Reference) -> Self {
        Self::Become(reference)
    }
}

/// What becomes of the wishes for a file.
#[derive(Debug, Default)]
pub struct RewritePlan {
    /// What to change. Empty: nothing, all is as it should be.
    pub changes: Vec<Change>,
    /// The wishes that cannot be fulfilled, by the finding's number, and why.
    pub refused: BTreeMap<usize, &'static str>,
}

/// What a finding wants of the bytes that it is made of.
struct Wants<'s> {
    puts: Vec<(&'s Slot, String)>,
    entry: Option<Addition>,
}

impl Scan<'_> {
    /// Settles what to change. `wishes` has one for each finding, in their order: the reference that
    /// it is to become. None: it stays what it is.
    ///
    /// Where findings share bytes (a registry that several use, an anchor) and want different ones,
    /// none of them is changed.
    pub fn plan(&self, wishes: &[Option<Reference>]) -> RewritePlan {
        let wishes: Vec<Option<FindingWish>> =
            wishes.iter().map(|wish| wish.clone().map(FindingWish::Become)).collect();
        self.plan_all(&wishes)
    }

    /// The same for wishes of every kind.
    pub(super) fn plan_all(&self, wishes: &[Option<FindingWish>]) -> RewritePlan {
        let mut plan = RewritePlan::default();
        let mut wants: Vec<Option<Wants<'_>>> = Vec::new();
        for (number, finding) in self.findings.iter().enumerate() {
            let wish = wishes.get(number).and_then(Option::as_ref);
            let wanted = match &finding.access {
                FindingAccess::Leave(why) => match wish {
                    Some(_) => Err(*why),
                    None => Ok(None),
                },
                FindingAccess::Edit(hold) => match wish {
                    Some(new) => self.wants(finding, hold, new).map(Some),
                    None => Ok(Some(as_it_is(hold))),
                },
            };
            wants.push(wanted.unwrap_or_else(|why| {
                plan.refused.insert(number, why);
                match &finding.access {
                    FindingAccess::Edit(hold) => Some(as_it_is(hold)),
                    FindingAccess::Leave(_) => None,
                }
            }));
        }
        // Each refusal makes a place want what stands there, which may refuse others.
        loop {
            let mut asked: BTreeMap<(usize, usize), BTreeSet<&str>> = BTreeMap::new();
            for (slot, text) in wants.iter().flatten().flat_map(|one| &one.puts) {
                asked.entry((slot.span.start, slot.span.end)).or_default().insert(text);
            }
            let split: BTreeSet<(usize, usize)> =
                asked.iter().filter(|(_, texts)| texts.len() > 1).map(|(at, _)| *at).collect();
            let mut again = false;
            for (number, finding) in self.findings.iter().enumerate() {
                let (Some(one), FindingAccess::Edit(hold)) = (&wants[number], &finding.access)
                else {
                    continue;
                };
                let changes =
                    one.entry.is_some() || one.puts.iter().any(|(slot, text)| slot.text != *text);
                let torn = one
                    .puts
                    .iter()
                    .any(|(slot, _)| split.contains(&(slot.span.start, slot.span.end)));
                if changes && torn {
                    plan.refused.insert(
                        number,
                        "it shares a part with another image that needs a different one",
                    );
                    wants[number] = Some(as_it_is(hold));
                    again = true;
                }
            }
            if !again {
                break;
            }
        }
        let mut done = BTreeSet::new();
        for one in wants.into_iter().flatten() {
            for (slot, text) in one.puts {
                if slot.text != text && done.insert(slot.span.start) {
                    plan.changes.push(Change::Put(slot.clone(), text));
                }
            }
            plan.changes.extend(one.entry.map(Change::Add));
        }
        plan
    }

    fn wants<'s>(
        &self,
        finding: &Finding,
        hold: &'s Hold,
        new: &FindingWish,
    ) -> Result<Wants<'s>, &'static str> {
        // Long: one kind of wish after the other.
        let new = match (new, hold) {
            (FindingWish::Become(new), _) => new,
            (
                FindingWish::Entry { of, to, digest },
                Hold::Overlay { of: name, to: new, digest: place },
            ) => {
                return self.entry(
                    (name, of),
                    (new.as_ref(), to),
                    (place.as_ref(), digest.as_deref()),
                );
            }
            (FindingWish::Entry { .. }, _) => return Err("it is no entry of an overlay"),
        };
        let digest = new.digest.as_ref().map(ToString::to_string).unwrap_or_default();
        let written = finding.text.split_once('@').map_or("", |(_, digest)| digest);
        // The digest has a place of its own, or must stay as it is.
        let pin = |slot: &'s Option<Slot>| match slot {
            Some(slot) => Ok(Some((slot, digest.clone()))),
            None if digest == written => Ok(None),
            None if digest.is_empty() => Err("its digest is not written apart from its tag"),
            None => Err("there is no `digest` beside it that could pin it"),
        };
        let image = new.image();
        let (mut puts, mut entry) = (Vec::new(), None);
        match hold {
            Hold::Whole(slot) => puts.push((slot, new.to_string())),
            Hold::Name(_) if digest != written => {
                return Err("its tag is made of variables, and no digest can be put after it");
            }
            Hold::Name(slot) => puts.push((slot, image.to_string())),
            Hold::Parts { above: true, name, digest, .. } => {
                let becomes = self.file.registry.and_then(|above| above.becomes);
                if becomes != Some(new.host.as_str()) {
                    return Err("the chart above writes another registry for it");
                }
                match tail(&name.text) {
                    Some(_) => puts.push((name, path_of(new))),
                    None => {
                        puts.push((name, new.repository.to_string()));
                        puts.extend(pin(digest)?);
                    }
                }
            }
            Hold::Parts { registry: Some(registry), name, digest, .. } => {
                puts.push((registry, new.host.to_string()));
                // A name that has its tag with it keeps it.
                match tail(&name.text) {
                    Some(_) => puts.push((name, path_of(new))),
                    None => {
                        puts.push((name, new.repository.to_string()));
                        puts.extend(pin(digest)?);
                    }
                }
            }
            Hold::Parts { registry: None, name, digest, .. } => {
                let tail = tail(&name.text);
                puts.push((name, if tail.is_some() { new.to_string() } else { image.to_string() }));
                if tail.is_none() {
                    puts.extend(pin(digest)?);
                }
            }
            Hold::Overlay { of, to, digest } => {
                puts.push((of, of.text.clone()));
                let same = of.text == image.to_string();
                match to {
                    Some(to) if same && let Some(gone) = self.without_name(of, to) => {
                        entry = Some(gone);
                    }
                    Some(to) => puts.push((to, image.to_string())),
                    None if same => {}
                    None => entry = Some(self.name_entry(of, &image.to_string())?),
                }
                puts.extend(pin(digest)?);
            }
        }
        Ok(Wants { puts, entry })
    }
}

/// Where tag or digest begin in a name's last part.
fn tail(name: &str) -> Option<usize> {
    name.rsplit('/').next().and_then(|last| last.find([':', '@']))
}

/// A reference without its registry.
fn path_of(new: &Reference) -> String {
    let whole = new.to_string();
    whole.strip_prefix(new.host.as_str()).map_or(whole.as_str(), |rest| &rest[1..]).to_owned()
}

fn as_it_is(hold: &Hold) -> Wants<'_> {
    Wants { puts: hold.slots().map(|slot| (slot, slot.text.clone())).collect(), entry: None }
}

impl Scan<'_> {
    /// An overlay's entry that is about images of another name, or gives them one.
    fn entry<'s>(
        &self,
        (name, of): (&'s Slot, &str),
        (place, to): (Option<&'s Slot>, &str),
        (digest, pin): (Option<&'s Slot>, Option<&str>),
    ) -> Result<Wants<'s>, &'static str> {
        let (mut puts, mut entry) = (vec![(name, of.to_owned())], None);
        match place {
            Some(place)
                if of == to
                    && let Some(gone) = self.without_name(name, place) =>
            {
                entry = Some(gone);
            }
            Some(place) => puts.push((place, to.to_owned())),
            None if of == to => {}
            None => entry = Some(self.name_entry(name, to)?),
        }
        match (digest, pin) {
            (Some(slot), Some(pin)) => puts.push((slot, pin.to_owned())),
            (None, Some(pin)) if !pin.is_empty() => {
                return Err("there is no `digest` beside it that could pin it");
            }
            _ => {}
        }
        Ok(Wants { puts, entry })
    }
}

impl Finding {
    /// The name of the images that an overlay's entry is about, as written. None: it is no such
    /// entry, or it cannot be edited.
    pub fn overlays(&self) -> Option<&str> {
        self.overlaid().map(|of| of.text.as_str())
    }

    fn overlaid(&self) -> Option<&Slot> {
        match &self.access {
            FindingAccess::Edit(hold) => match &**hold {
                Hold::Overlay { of, .. } => Some(of),
                _ => None,
            },
            FindingAccess::Leave(_) => None,
        }
    }

    /// The name that an overlay's entry gives its images, as written. None: they keep theirs.
    pub(super) fn renamed_to(&self) -> Option<&str> {
        match &self.access {
            FindingAccess::Edit(hold) => match &**hold {
                Hold::Overlay { to, .. } => to.as_ref().map(|to| to.text.as_str()),
                _ => None,
            },
            FindingAccess::Leave(_) => None,
        }
    }

    /// Whether it has a place of its own for a digest: none is needed where all of it stands in one piece.
    pub fn can_be_pinned(&self) -> bool {
        match &self.access {
            FindingAccess::Edit(hold) => match &**hold {
                Hold::Whole(_) => true,
                Hold::Name(_) => false,
                Hold::Parts { digest, name, .. } => digest.is_some() || tail(&name.text).is_some(),
                Hold::Overlay { digest, .. } => digest.is_some(),
            },
            FindingAccess::Leave(_) => false,
        }
    }
}
