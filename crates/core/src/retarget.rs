//! What should a reference in a deployment become?
//!
//! The one place that decides it: for files, for what a cluster is about to run, and backwards.

use std::collections::BTreeMap;

use crate::digest::Digest;
use crate::lock::Lock;
use crate::name::{Host, Tag};
use crate::pattern::Pattern;
use crate::reference::{Image, MalformedReference, Reading, Reference, Unqualified};
use crate::route::{Origins, Routes, Standing};

/// Where references are to lead.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Direction {
    /// To the larder.
    #[default]
    Here,
    /// Back to where the images come from.
    Back,
}

/// What becomes of digests.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Pin {
    /// They stay as they are.
    #[default]
    Keep,
    /// Each reference has one.
    Add,
    /// None has one that has a tag too.
    Remove,
}

/// What is wanted of all references.
#[derive(Debug, Clone, Default)]
pub struct RetargetWish {
    /// Where they are to lead.
    pub direction: Direction,
    /// What becomes of digests.
    pub pin: Pin,
    /// The host that they are to name instead of the larder's own. None: the larder's.
    pub host: Option<Host>,
    /// Only images that one of these matches, as `host/repository`. Empty: all.
    pub only: Vec<Pattern>,
    /// Not those that one of these matches.
    pub skip: Vec<Pattern>,
    /// Whether a malformed name with one clear meaning is mended.
    pub mend: bool,
}

/// What is known while it is decided.
#[derive(Debug)]
pub struct Retarget<'a> {
    routes: &'a Routes,
    origins: Origins,
    lock: &'a Lock,
    unqualified: &'a Unqualified,
    wish: RetargetWish,
    /// Digests that somebody has asked for, by the reference with its tag.
    pub known: BTreeMap<Reference, Digest>,
}

/// What becomes of a reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum RetargetAnswer {
    /// It is as it should be.
    Right,
    /// This one.
    Become(Reference),
    /// It stays, for this reason.
    Left(LeftBecause),
}

/// Why a reference is left as it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LeftBecause {
    /// It cannot be read.
    Malformed(MalformedReference),
    /// It is filled in by somebody else.
    Placeholder,
    /// Nothing brings it in.
    NoRoute(Reference),
    /// It is wanted, but not at this tag. The tags that are locked.
    NotLocked(Vec<Tag>),
    /// No digest is known for it.
    Unpinned(Reference),
    /// Its tag is decided elsewhere, so that it cannot be pinned.
    TagElsewhere,
    /// A route of the operator's own says so.
    Exception(String),
    /// The patterns leave it out.
    NotAsked,
}

impl LeftBecause {
    /// Whether that is an answer of "no", and not just how it is meant.
    pub fn counts(&self) -> bool {
        !matches!(self, Self::Placeholder | Self::Exception(_) | Self::NotAsked)
    }
}

impl std::fmt::Display for LeftBecause {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Malformed(malformed) => match &malformed.proposal {
                Some(meant) => write!(f, "{}; meant: {meant}", malformed.reason),
                None => write!(f, "{}", malformed.reason),
            },
            Self::Placeholder => {
                write!(f, "there is a placeholder in it that was not filled in")
            }
            Self::NoRoute(reference) => {
                write!(f, "no route: nothing brings it in; `larder intake add {reference}`")
            }
            Self::NotLocked(tags) if tags.is_empty() => {
                write!(f, "wanted, but not locked; `larder intake lock`")
            }
            Self::NotLocked(tags) => {
                let tags: Vec<&str> = tags.iter().map(Tag::as_str).collect();
                write!(f, "the lock has other tags of it: {}", tags.join(", "))
            }
            Self::Unpinned(target) => {
                write!(f, "cannot be pinned: the lock does not name {target}")
            }
            Self::TagElsewhere => {
                write!(f, "cannot be pinned: its tag is decided in another place")
            }
            Self::Exception(because) if because.is_empty() => {
                write!(f, "[[route]] leaves it alone")
            }
            Self::Exception(because) => write!(f, "[[route]] leaves it alone: {because}"),
            Self::NotAsked => write!(f, "left out by --only or --skip"),
        }
    }
}

impl<'a> Retarget<'a> {
    /// With the routes and the lock of a larder.
    pub fn new(
        routes: &'a Routes,
        lock: &'a Lock,
        unqualified: &'a Unqualified,
        wish: RetargetWish,
    ) -> Self {
        let origins = routes.origins();
        Self { routes, origins, lock, unqualified, wish, known: BTreeMap::new() }
    }

    /// The host that references of this larder name.
    pub fn host(&self) -> &Host {
        self.wish.host.as_ref().unwrap_or(self.routes.own())
    }

    /// Reads a reference as the larder writes short names out. None: it cannot be read.
    pub fn read(&self, text: &str) -> Option<Reference> {
        Reference::read(text, self.unqualified).ok().map(|reading| reading.reference)
    }

    /// What becomes of digests.
    pub fn pin(&self) -> Pin {
        self.wish.pin
    }

    /// The image that a name means where it comes from, and whether the name is one of the larder's own. None: it
    /// cannot be read.
    pub fn origin_of(&self, name: &str) -> Option<(Image, bool)> {
        let reference = self.read(name)?;
        let ours = self.is_ours(&reference);
        let mut image = reference.image();
        if ours {
            image.host = self.routes.own().clone();
            image = self.origins.of_image(&image).unwrap_or(image);
        }
        Some((image, ours))
    }

    /// Decides for a text. `tag_elsewhere`: the text has no tag because another place decides it.
    pub fn answer(&self, text: &str, tag_elsewhere: bool) -> RetargetAnswer {
        self.answer_with(text, tag_elsewhere, self.wish.pin)
    }

    /// The same when something else becomes of its digest.
    pub fn answer_with(&self, text: &str, tag_elsewhere: bool, pin: Pin) -> RetargetAnswer {
        let mut mended = false;
        let reading = match Reference::read(text, self.unqualified) {
            Ok(reading) => reading,
            Err(malformed) => match self.mended(&malformed) {
                Some(reading) => {
                    mended = true;
                    reading
                }
                None if malformed.reason.word() == "placeholder" => {
                    return RetargetAnswer::Left(LeftBecause::Placeholder);
                }
                None => return RetargetAnswer::Left(LeftBecause::Malformed(malformed)),
            },
        };
        let reference = reading.reference;
        if !self.is_asked(&reference) {
            return RetargetAnswer::Left(LeftBecause::NotAsked);
        }
        let target = match self.wish.direction {
            Direction::Here => self.here(&reference, tag_elsewhere),
            Direction::Back => Ok(self.back(&reference, pin)),
        };
        let target = target.and_then(|target| self.pinned(target, tag_elsewhere, pin));
        match target {
            // A name that can be read is better than none, wherever it leads.
            Err(LeftBecause::NoRoute(reference)) if mended => RetargetAnswer::Become(reference),
            Err(left) => RetargetAnswer::Left(left),
            Ok(target) if target.to_string() == text => RetargetAnswer::Right,
            // A name that is not ours stays as its writer wrote it.
            Ok(target) if target == reference && !self.is_ours(&target) && !self.wish.mend => {
                RetargetAnswer::Right
            }
            Ok(target) => RetargetAnswer::Become(target),
        }
    }

    fn mended(&self, malformed: &MalformedReference) -> Option<Reading> {
        let proposal = malformed.proposal.as_ref().filter(|_| self.wish.mend)?;
        Reference::read(proposal, self.unqualified).ok()
    }

    fn is_asked(&self, reference: &Reference) -> bool {
        let name = reference.image().to_string();
        let any = |patterns: &[Pattern]| patterns.iter().any(|one| one.matches(&name));
        (self.wish.only.is_empty() || any(&self.wish.only)) && !any(&self.wish.skip)
    }

    fn is_ours(&self, reference: &Reference) -> bool {
        reference.host == *self.routes.own() || reference.host == *self.host()
    }

    fn here(&self, reference: &Reference, tag_elsewhere: bool) -> Result<Reference, LeftBecause> {
        let mut target = match self.routes.standing(reference, self.lock) {
            Standing::Own => reference.clone(),
            Standing::Routed { target, .. }
            | Standing::Cached { target }
            | Standing::Told { target } => target,
            Standing::Left { because } => return Err(LeftBecause::Exception(because)),
            Standing::NotLocked { locked } => {
                let target = self.routes.target(&reference.image());
                match target.filter(|_| tag_elsewhere && !locked.is_empty()) {
                    Some(target) => target.with(reference.tag.clone(), reference.digest.clone()),
                    None => return Err(LeftBecause::NotLocked(locked)),
                }
            }
            // The larder's other name is its own too.
            Standing::NoRoute if self.is_ours(reference) => reference.clone(),
            Standing::NoRoute => return Err(LeftBecause::NoRoute(reference.clone())),
        };
        if target.host == *self.routes.own() {
            target.host = self.host().clone();
        }
        Ok(target)
    }

    /// The upstream's name. What is our own has none and stays.
    fn back(&self, reference: &Reference, pin: Pin) -> Reference {
        let mut ours = reference.image();
        if ours.host == *self.host() {
            ours.host = self.routes.own().clone();
        }
        let Some(image) = self.origins.of_image(&ours) else { return reference.clone() };
        let mut back = image.with(reference.tag.clone(), reference.digest.clone());
        // What was written anew here has another digest there.
        if let Some(digest) = &reference.digest {
            let there = self.lock.of_image(&image).find(|(_, locked)| locked.here() == digest);
            back.digest = Some(there.map_or(digest, |(_, locked)| &locked.digest).clone());
            // The digest that the lock has for the tag is what pinning has put in.
            let of_tag = |tag: &Tag| {
                let mut all = self.lock.of_image(&image);
                all.any(|(name, locked)| name == tag && locked.here() == digest)
            };
            if pin == Pin::Keep && reference.tag.as_ref().is_some_and(of_tag) {
                back.digest = None;
            }
        }
        back
    }

    fn pinned(
        &self,
        mut target: Reference,
        tag_elsewhere: bool,
        pin: Pin,
    ) -> Result<Reference, LeftBecause> {
        match pin {
            Pin::Keep => {}
            Pin::Remove if target.tag.is_some() || tag_elsewhere => target.digest = None,
            Pin::Remove => {}
            Pin::Add if target.digest.is_some() => {}
            Pin::Add if tag_elsewhere => return Err(LeftBecause::TagElsewhere),
            Pin::Add => {
                let digest = self.digest_of(&target);
                target.digest = Some(digest.ok_or_else(|| LeftBecause::Unpinned(target.clone()))?);
            }
        }
        Ok(target)
    }

    fn digest_of(&self, target: &Reference) -> Option<Digest> {
        if let Some(digest) = self.known.get(target) {
            return Some(digest.clone());
        }
        let mut own = target.clone();
        if own.host == *self.host() {
            own.host = self.routes.own().clone();
        }
        self.routes.locked_digest(&own, self.lock).or_else(|| {
            let tag = target.tag.clone().unwrap_or_else(Tag::latest);
            let image = target.image();
            let mut all = self.lock.of_image(&image);
            all.find(|(name, _)| **name == tag).map(|(_, locked)| locked.digest.clone())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::cached::ShelfReach;
    use crate::lock::{LockedTag, TrimmedIndex, Want};
    use crate::reference::Image;
    use crate::route::{Exception, ExceptionScope, RouteEntry, RouteShelf};

    const OURS: &str = "larder.emberfall.example:5080";

    fn house() -> (Routes, Lock) {
        let own: Host = OURS.parse().unwrap();
        let image: Image = "ventworks.example/gauges/steamgauge".parse().unwrap();
        let entry = RouteEntry {
            image: image.clone(),
            to: format!("{OURS}/vendor/steamgauge").parse().unwrap(),
        };
        let reach = ShelfReach::new(vec!["library/**".parse().unwrap()], Vec::new()).unwrap();
        let shelf = RouteShelf {
            host: "bazaar.example".parse().unwrap(),
            name: "bazaar".parse().unwrap(),
            reach,
        };
        let told = |of: &str, to: Option<&str>| Exception {
            of: ExceptionScope::read(of, None).unwrap(),
            to: to.map(|to| ExceptionScope::read(to, Some(&own)).unwrap()),
            because: "it moves weekly".into(),
        };
        let exceptions = vec![
            told("bazaar.example/community/**", Some("vetted/**")),
            told("bazaar.example/nightly/**", None),
        ];
        let routes = Routes::new(own.clone(), vec![entry])
            .with_shelves(vec![shelf])
            .with_exceptions(exceptions);
        let locked = LockedTag {
            digest: Digest::of(b"index"),
            media_type: String::new(),
            size: 1,
            platforms: BTreeMap::new(),
            trimmed: Some(TrimmedIndex { digest: Digest::of(b"trimmed"), platforms: Vec::new() }),
            companions: [].into(),
            signed_by: [].into(),
        };
        let want = Want { image, tag: "1.9.2".parse().unwrap() };
        (routes, Lock { entries: [(want, locked)].into(), ..Lock::default() })
    }

    fn answer(text: &str, tag_elsewhere: bool, wish: RetargetWish) -> String {
        let (routes, lock) = house();
        let unqualified = "bazaar.example/library".parse().unwrap();
        match Retarget::new(&routes, &lock, &unqualified, wish).answer(text, tag_elsewhere) {
            RetargetAnswer::Right => "right".into(),
            RetargetAnswer::Become(new) => new.to_string(),
            RetargetAnswer::Left(left) => format!("{left}"),
        }
    }

    #[test]
    fn each_reference_has_its_answer() {
        let trimmed = Digest::of(b"trimmed");
        let pin = || RetargetWish { pin: Pin::Add, ..RetargetWish::default() };
        let own = format!("{OURS}/vendor/steamgauge:1.9.2");
        for (text, elsewhere, wish, expected) in [
            (
                "ventworks.example/gauges/steamgauge:1.9.2",
                false,
                RetargetWish::default(),
                own.clone(),
            ),
            (
                "ventworks.example/gauges/steamgauge",
                true,
                RetargetWish::default(),
                format!("{OURS}/vendor/steamgauge"),
            ),
            ("ventworks.example/gauges/steamgauge:1.9.2", false, pin(), format!("{own}@{trimmed}")),
            (&own, false, RetargetWish::default(), "right".into()),
            (&own, false, pin(), format!("{own}@{trimmed}")),
            ("kettle:2", false, RetargetWish::default(), format!("{OURS}/bazaar/library/kettle:2")),
            (
                "bazaar.example/community/pipewatch:1",
                false,
                RetargetWish::default(),
                format!("{OURS}/vetted/pipewatch:1"),
            ),
            (
                "bazaar.example/nightly/x:1",
                false,
                RetargetWish::default(),
                "[[route]] leaves it alone: it moves weekly".into(),
            ),
            (
                "https://bazaar.example/library/Kettle:2",
                false,
                RetargetWish { mend: true, ..RetargetWish::default() },
                format!("{OURS}/bazaar/library/kettle:2"),
            ),
            (
                "kettle:2",
                false,
                RetargetWish {
                    skip: vec!["bazaar.example/**".parse().unwrap()],
                    ..RetargetWish::default()
                },
                "left out by --only or --skip".into(),
            ),
            (
                "kettle:2",
                false,
                RetargetWish {
                    only: vec!["ventworks.example/**".parse().unwrap()],
                    ..RetargetWish::default()
                },
                "left out by --only or --skip".into(),
            ),
            (
                "kettle:2",
                false,
                RetargetWish {
                    host: Some("far.example".parse().unwrap()),
                    ..RetargetWish::default()
                },
                "far.example/bazaar/library/kettle:2".into(),
            ),
            (
                "far.example/bazaar/library/kettle:2",
                false,
                RetargetWish {
                    host: Some("far.example".parse().unwrap()),
                    ..RetargetWish::default()
                },
                "right".into(),
            ),
            (
                "{{ x }}",
                false,
                RetargetWish::default(),
                "there is a placeholder in it that was not filled in".into(),
            ),
        ] {
            assert_eq!(answer(text, elsewhere, wish), expected, "{text}");
        }
        assert!(
            answer("other.example/x:1", false, RetargetWish::default()).starts_with("no route")
        );
        assert!(answer("Kettle:2", false, RetargetWish::default()).contains("meant: kettle:2"));
        assert!(answer("kettle", true, pin()).contains("its tag is decided"));
    }

    #[test]
    fn there_and_back_is_where_it_was() {
        let back = || RetargetWish { direction: Direction::Back, ..RetargetWish::default() };
        let pinned = format!("ventworks.example/gauges/steamgauge:1.9.2@{}", Digest::of(b"index"));
        for text in [
            "ventworks.example/gauges/steamgauge:1.9.2",
            "bazaar.example/library/kettle:2",
            "bazaar.example/library/kettle",
            "bazaar.example/community/pipewatch:1",
        ] {
            let there = answer(text, false, RetargetWish::default());
            assert_ne!(there, text);
            assert_eq!(answer(&there, false, back()), text);
        }
        // The digest of what was written anew here is not the upstream's.
        let there = answer(
            "ventworks.example/gauges/steamgauge:1.9.2",
            false,
            RetargetWish { pin: Pin::Add, ..RetargetWish::default() },
        );
        let kept =
            RetargetWish { direction: Direction::Back, pin: Pin::Add, ..RetargetWish::default() };
        assert_eq!(answer(&there, false, kept), pinned);
        // What pinning has put in goes, and a digest of another tag stays.
        assert_eq!(answer(&there, false, back()), "ventworks.example/gauges/steamgauge:1.9.2");
        let other = there.replace(":1.9.2", ":1.9.3");
        assert_eq!(answer(&other, false, back()), pinned.replace(":1.9.2", ":1.9.3"));
        let unpin = RetargetWish {
            direction: Direction::Back,
            pin: Pin::Remove,
            ..RetargetWish::default()
        };
        assert_eq!(answer(&there, false, unpin), "ventworks.example/gauges/steamgauge:1.9.2");
        for stays in
            [format!("{OURS}/vendor/board:1"), "other.example/x:1".into(), "kettle:2".into()]
        {
            assert_eq!(answer(&stays, false, back()), "right", "{stays}");
        }
    }
}
