//! Where is an upstream's image found in this larder?

mod exception;

use std::collections::HashMap;

use crate::cached::ShelfReach;
use crate::digest::Digest;
use crate::lock::{Lock, LockedTag};
use crate::name::{Host, RepositoryName, Tag};
use crate::reference::{Image, Reference};

pub use exception::{Exception, ExceptionScope, ExceptionScopeError};

/// One way in: an upstream's image and the larder's repository that it is brought to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RouteEntry {
    pub image: Image,
    /// Where it is brought to: a repository of this larder, shelf first, or of another registry.
    pub to: Image,
}

/// All routes of a larder.
#[derive(Debug, Clone, PartialEq)]
pub struct Routes {
    own: Host,
    entries: Vec<RouteEntry>,
    shelves: Vec<RouteShelf>,
    exceptions: Vec<Exception>,
}

/// A cached shelf as a way in.
#[derive(Debug, Clone, PartialEq)]
pub struct RouteShelf {
    /// The upstream that it caches.
    pub host: Host,
    pub name: RepositoryName,
    /// What of the upstream can be reached through it.
    pub reach: ShelfReach,
}

/// Where a reference stands.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Standing {
    /// It names this larder already, or what an intake entry brings to another registry.
    Own,
    /// It has a route, and the lock names its content.
    Routed {
        /// The same image in the larder, with the tag and the digest that were written.
        target: Reference,
        /// What was written resolves to this digest. It is what the tag was locked to, or, when a
        /// digest was written, that one.
        digest: Digest,
    },
    /// A cached shelf fetches it when somebody asks for it.
    Cached {
        /// The same image on that shelf, with the tag and the digest that were written.
        target: Reference,
    },
    /// A route of the operator's own says where it is.
    Told {
        /// The same image there, with the tag and the digest that were written.
        target: Reference,
    },
    /// A route of the operator's own says that it stays as it is.
    Left {
        /// Why, in the operator's words.
        because: String,
    },
    /// An intake entry brings the image in, but not this tag or digest.
    NotLocked {
        /// The tags of the image that are locked.
        locked: Vec<Tag>,
    },
    /// No intake entry names the image.
    NoRoute,
}

impl Routes {
    /// Routes of the larder that clusters reach at `own`.
    pub fn new(own: Host, entries: Vec<RouteEntry>) -> Self {
        Self { own, entries, shelves: Vec::new(), exceptions: Vec::new() }
    }

    /// With cached shelves too. Where an intake entry brings an image in, that goes first.
    #[must_use]
    pub fn with_shelves(mut self, shelves: Vec<RouteShelf>) -> Self {
        self.shelves = shelves;
        self
    }

    /// With routes of the operator's own. They go before all others, the first that fits.
    #[must_use]
    pub fn with_exceptions(mut self, exceptions: Vec<Exception>) -> Self {
        self.exceptions = exceptions;
        self
    }

    /// What a route of the operator's own says of an image: where it is, or None within where it is
    /// left alone; and why. None: there is none for it.
    fn told(&self, image: &Image) -> Option<(Option<Image>, &str)> {
        let mut all = self.exceptions.iter();
        all.find_map(|one| one.answer(image).map(|to| (to, one.because.as_str())))
    }

    /// An upstream's image on a cached shelf. None: no shelf reaches it.
    fn cached(&self, image: &Image) -> Option<Image> {
        let reaches = |shelf: &&RouteShelf| {
            shelf.host == image.host && shelf.reach.check(&image.repository).is_ok()
        };
        let shelf = self.shelves.iter().find(reaches)?;
        let repository = format!("{}/{}", shelf.name, image.repository).parse().ok()?;
        Some(Image { host: self.own.clone(), repository })
    }

    /// The same backwards.
    pub fn origins(&self) -> Origins {
        let shelves = self.shelves.iter();
        Origins {
            own: Some(self.own.clone()),
            exceptions: self.exceptions.clone(),
            brought: self.entries.iter().map(|one| (one.to.clone(), one.image.clone())).collect(),
            cached: shelves.map(|shelf| (shelf.name.clone(), shelf.host.clone())).collect(),
        }
    }

    /// The larder's own host.
    pub fn own(&self) -> &Host {
        &self.own
    }

    /// The larder's name for an upstream's image. None: nothing brings it in.
    pub fn target(&self, image: &Image) -> Option<Image> {
        let entry = self.entries.iter().find(|entry| entry.image == *image)?;
        Some(entry.to.clone())
    }

    /// The digest that the lock has for one of the larder's own references by its tag (`latest`
    /// where there is none). None: the lock does not name it.
    pub fn locked_digest(&self, own: &Reference, lock: &Lock) -> Option<Digest> {
        let entry = self.entries.iter().find(|entry| entry.to == own.image())?;
        let tag = own.tag.clone().unwrap_or_else(Tag::latest);
        lock.of_image(&entry.image).find(|(name, _)| **name == tag).map(|(_, l)| l.here().clone())
    }

    /// Whether one of the larder's own references lies on a cached shelf.
    pub fn is_cached(&self, own: &Reference) -> bool {
        let shelf = own.repository.first_component();
        own.host == self.own && self.shelves.iter().any(|known| known.name.as_str() == shelf)
    }

    /// Decides where a reference stands.
    pub fn standing(&self, reference: &Reference, lock: &Lock) -> Standing {
        if reference.host == self.own {
            return Standing::Own;
        }
        let image = reference.image();
        if self.entries.iter().any(|entry| entry.to == image) {
            return Standing::Own;
        }
        match self.told(&image) {
            Some((Some(target), _)) => {
                let target = target.with(reference.tag.clone(), reference.digest.clone());
                return Standing::Told { target };
            }
            Some((None, because)) => return Standing::Left { because: because.to_owned() },
            None if self.exceptions.iter().any(|one| one.origin(&image).is_some()) => {
                return Standing::Own;
            }
            None => {}
        }
        let Some(target) = self.target(&image) else {
            return match self.cached(&image) {
                Some(target) => {
                    let target = target.with(reference.tag.clone(), reference.digest.clone());
                    Standing::Cached { target }
                }
                None => Standing::NoRoute,
            };
        };
        let found = match (&reference.digest, &reference.tag) {
            (Some(digest), _) => lock
                .of_image(&image)
                .find(|(_, locked)| names(locked, digest))
                .map(|_| digest.clone()),
            (None, tag) => {
                let tag = tag.clone().unwrap_or_else(Tag::latest);
                lock.of_image(&image)
                    .find(|(locked, _)| **locked == tag)
                    .map(|(_, locked)| locked.here().clone())
            }
        };
        match found {
            Some(digest) => {
                let target = target.with(reference.tag.clone(), reference.digest.clone());
                Standing::Routed { target, digest }
            }
            None => Standing::NotLocked {
                locked: lock.of_image(&image).map(|(tag, _)| tag.clone()).collect(),
            },
        }
    }
}

/// Where what lies in this larder comes from: the routes backwards.
#[derive(Debug, Clone, Default)]
pub struct Origins {
    /// None: there is no larder.
    own: Option<Host>,
    exceptions: Vec<Exception>,
    brought: HashMap<Image, Image>,
    cached: HashMap<RepositoryName, Host>,
}

/// A way back from a name to where it comes from.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RouteWay {
    /// The name, with its registry.
    pub here: String,
    /// Where it comes from.
    pub origin: String,
    /// What lies below the one comes from the same place below the other.
    pub below: bool,
}

impl Origins {
    /// All ways that lead back from this larder, the first that fits counts.
    pub fn ways(&self) -> Vec<RouteWay> {
        let Some(own) = &self.own else { return Vec::new() };
        let mut ways: Vec<RouteWay> = self.exceptions.iter().filter_map(Exception::way).collect();
        ways.retain(|way| way.here.split('/').next() == Some(own.as_str()));
        let brought = self.brought.iter().filter(|(here, _)| here.host == *own);
        let mut rest: Vec<RouteWay> = brought
            .map(|(here, origin)| RouteWay {
                here: here.to_string(),
                origin: origin.to_string(),
                below: false,
            })
            .collect();
        rest.sort_by(|a, b| a.here.cmp(&b.here));
        ways.extend(rest);
        let mut rest: Vec<RouteWay> = self
            .cached
            .iter()
            .map(|(shelf, host)| RouteWay {
                here: format!("{own}/{shelf}"),
                origin: host.to_string(),
                below: true,
            })
            .collect();
        rest.sort_by(|a, b| a.here.cmp(&b.here));
        ways.extend(rest);
        ways
    }

    /// The upstream's image that a repository holds. None: it is our own.
    pub fn of(&self, repository: &RepositoryName) -> Option<Image> {
        let host = self.own.clone()?;
        self.of_image(&Image { host, repository: repository.clone() })
    }

    /// The same for a name with its registry: intake entries and routes may lead to others.
    pub fn of_image(&self, image: &Image) -> Option<Image> {
        if let Some(told) = self.exceptions.iter().find_map(|one| one.origin(image)) {
            return Some(told);
        }
        if let Some(brought) = self.brought.get(image) {
            return Some(brought.clone());
        }
        if Some(&image.host) != self.own.as_ref() {
            return None;
        }
        let (shelf, rest) = image.repository.as_str().split_once('/')?;
        let host = self.cached.get(&shelf.parse::<RepositoryName>().ok()?)?;
        Some(Image { host: host.clone(), repository: rest.parse().ok()? })
    }
}

/// Whether a digest is the locked one or that of one of its platforms.
fn names(locked: &LockedTag, digest: &Digest) -> bool {
    locked.here() == digest || locked.platforms.values().any(|child| child == digest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::Want;
    use crate::reference::Unqualified;

    #[test]
    fn references_stand_where_the_routes_and_the_lock_say() {
        let image: Image = "ventworks.example/gauges/steamgauge".parse().unwrap();
        let routes = Routes::new(
            "larder.emberfall.example:5080".parse().unwrap(),
            vec![RouteEntry {
                image: image.clone(),
                to: "larder.emberfall.example:5080/vendor/steamgauge".parse().unwrap(),
            }],
        );
        let locked = LockedTag {
            digest: Digest::of(b"index"),
            media_type: String::new(),
            size: 1,
            platforms: [("linux/amd64".parse().unwrap(), Digest::of(b"child"))].into(),
            trimmed: None,
            companions: [].into(),
            signed_by: [].into(),
        };
        let tag: Tag = "1.9.2".parse().unwrap();
        let entries = [(Want { image, tag: tag.clone() }, locked)].into();
        let lock = Lock { entries, ..Lock::default() };
        let standing = |text: &str| {
            let read = Reference::read(text, &Unqualified::default()).unwrap();
            routes.standing(&read.reference, &lock)
        };
        let upstream = "ventworks.example/gauges/steamgauge";
        let ours = "larder.emberfall.example:5080/vendor/steamgauge";
        for suffix in [
            ":1.9.2".to_owned(),
            format!("@{}", Digest::of(b"index")),
            format!(":1.9.2@{}", Digest::of(b"child")),
        ] {
            let Standing::Routed { target, .. } = standing(&format!("{upstream}{suffix}")) else {
                panic!("{suffix} has no route");
            };
            assert_eq!(target.to_string(), format!("{ours}{suffix}"));
        }
        assert_eq!(standing(ours), Standing::Own);
        let own = Reference::read(&format!("{ours}:1.9.2"), &Unqualified::default()).unwrap();
        assert_eq!(routes.locked_digest(&own.reference, &lock), Some(Digest::of(b"index")));
        assert_eq!(standing("kettle:2"), Standing::NoRoute);
        let reach = ShelfReach::new(vec!["library/**".parse().unwrap()], Vec::new()).unwrap();
        let (host, name) = ("docker.io".parse().unwrap(), "hub".parse().unwrap());
        let cached = routes.clone().with_shelves(vec![RouteShelf { host, name, reach }]);
        let kettle = Reference::read("kettle:2", &Unqualified::default()).unwrap().reference;
        let Standing::Cached { target } = cached.standing(&kettle, &lock) else {
            panic!("it is on the shelf");
        };
        assert_eq!(target.to_string(), "larder.emberfall.example:5080/hub/library/kettle:2");
        let origin = |name: &str| {
            let found = cached.origins().of(&name.parse().unwrap());
            found.map(|image| image.to_string())
        };
        assert_eq!(origin("vendor/steamgauge").as_deref(), Some(upstream));
        assert_eq!(origin("hub/library/kettle").as_deref(), Some("docker.io/library/kettle"));
        assert_eq!(origin("vendor/board"), None);
        let outside = Reference::read("others/kettle:2", &Unqualified::default()).unwrap();
        assert_eq!(cached.standing(&outside.reference, &lock), Standing::NoRoute);
        let others = Standing::NotLocked { locked: vec![tag] };
        assert_eq!(standing(upstream), others);
        assert_eq!(standing(&format!("{upstream}:1.9.2@{}", Digest::of(b"other"))), others);
    }
}
