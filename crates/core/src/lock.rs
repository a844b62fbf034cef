//! What did every intake entry resolve to, and what has changed since? The lock and its
//! differences to the wish, the upstream and the larder.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use serde::Deserialize;

use crate::companion::Companion;
use crate::digest::Digest;
use crate::document::media_type;
use crate::name::Tag;
use crate::platform::{Platform, Platforms};
use crate::reference::Image;
use crate::selection::Tags;

/// One wanted image at one tag.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Want {
    /// The upstream's image.
    pub image: Image,
    /// Its tag.
    pub tag: Tag,
}

/// What a wanted image resolved to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Locked {
    /// The digest that the tag had.
    pub digest: Digest,
    /// The media type of what lies there.
    pub media_type: String,
    /// The size of the index or manifest itself, in bytes.
    pub size: u64,
    /// For which platforms, and under which digest each: all that the index names, also those
    /// that are not taken. One line for an image without an index. Empty for an artifact that is
    /// made for no platform.
    pub platforms: BTreeMap<Platform, Digest>,
    /// The index that the larder gets in the place of the upstream's. None: it gets the upstream's.
    pub trimmed: Option<Trimmed>,
    /// What belongs to the image, by digest. Empty when there is nothing, or nothing is wanted.
    pub companions: BTreeMap<Digest, Companion>,
}

impl Locked {
    /// The digest under which the larder has the image.
    pub fn here(&self) -> &Digest {
        self.trimmed.as_ref().map_or(&self.digest, |trimmed| &trimmed.digest)
    }
}

/// An index that lists only what is wanted.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Trimmed {
    /// Its digest: another than the upstream's, unless nothing had to be left out.
    pub digest: Digest,
    /// For which platforms it was made, sorted.
    pub platforms: Vec<Platform>,
}

/// What an intake entry asks of all its tags.
#[derive(Debug, Clone, Copy)]
pub struct Wish<'w> {
    /// The upstream's image.
    pub image: &'w Image,
    /// Which of its tags.
    pub tags: &'w Tags,
    /// For which platforms.
    pub platforms: &'w Platforms,
    /// Whether an index is written anew for them.
    pub trim: bool,
}

impl Wish<'_> {
    /// For which platforms an index is written anew, sorted. None: it stays as it is.
    pub fn trimmed_to(&self) -> Option<Vec<Platform>> {
        match self.platforms {
            Platforms::Some(list) if self.trim => {
                let mut list = list.clone();
                list.sort();
                list.dedup();
                Some(list)
            }
            _ => None,
        }
    }
}

/// The whole of `larder.lock`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lock {
    /// What is locked, sorted by image and tag.
    pub entries: BTreeMap<Want, Locked>,
}

/// Why a lock cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LockError {
    /// Not the TOML that we write.
    #[error("{message}")]
    Shape {
        /// What is wrong.
        message: String,
        /// Where, in bytes from the start.
        at: usize,
    },
    /// Written by a later version.
    #[error("the lock is of version {0}; this program reads version {VERSION}")]
    Version(u32),
    /// The same image and tag stand there twice, as after a merge that went wrong.
    #[error("{0} is locked twice")]
    Twice(String),
}

const VERSION: u32 = 1;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawLock {
    version: u32,
    #[serde(default)]
    image: Vec<RawEntry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawEntry {
    name: Image,
    tag: Tag,
    digest: Digest,
    media_type: String,
    size: u64,
    #[serde(default)]
    platforms: BTreeMap<Platform, Digest>,
    trimmed: Option<Trimmed>,
    #[serde(default)]
    companions: BTreeMap<Digest, RawCompanion>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawCompanion {
    about: Digest,
    #[serde(default)]
    kind: String,
    size: u64,
    tag: Option<Tag>,
}

impl Lock {
    /// Reads `larder.lock`.
    pub fn read(text: &str) -> Result<Self, LockError> {
        let raw: RawLock = toml::from_str(text).map_err(|error| LockError::Shape {
            message: error.message().to_owned(),
            at: error.span().map_or(0, |span| span.start),
        })?;
        if raw.version != VERSION {
            return Err(LockError::Version(raw.version));
        }
        let mut entries = BTreeMap::new();
        for raw in raw.image {
            let want = Want { image: raw.name, tag: raw.tag };
            let twice = format!("{}:{}", want.image, want.tag);
            let companion = |raw: RawCompanion| Companion {
                about: raw.about,
                kind: raw.kind,
                size: raw.size,
                tag: raw.tag,
            };
            let locked = Locked {
                digest: raw.digest,
                media_type: raw.media_type,
                size: raw.size,
                platforms: raw.platforms,
                trimmed: raw.trimmed,
                companions: raw.companions.into_iter().map(|(d, c)| (d, companion(c))).collect(),
            };
            if entries.insert(want, locked).is_some() {
                return Err(LockError::Twice(twice));
            }
        }
        Ok(Self { entries })
    }

    /// Writes `larder.lock`: sorted, one fact a line, the same text for the same content.
    pub fn write(&self) -> String {
        let mut text = String::from(
            "# What every intake entry resolved to. Written by `larder intake lock`; review and commit it.\n",
        );
        let _ = writeln!(text, "version = {VERSION}");
        for (Want { image, tag }, locked) in &self.entries {
            let media_type = toml::Value::String(locked.media_type.clone());
            let _ = write!(
                text,
                "\n[[image]]\nname = \"{image}\"\ntag = \"{tag}\"\ndigest = \"{}\"\nmedia_type = {media_type}\nsize = {}\n",
                locked.digest, locked.size
            );
            if let Some(Trimmed { digest, platforms }) = &locked.trimmed {
                let platforms: Vec<_> = platforms.iter().map(|one| format!("\"{one}\"")).collect();
                let platforms = platforms.join(", ");
                let _ = writeln!(
                    text,
                    "trimmed = {{ digest = \"{digest}\", platforms = [{platforms}] }}"
                );
            }
            if !locked.platforms.is_empty() {
                text.push_str("[image.platforms]\n");
            }
            for (platform, digest) in &locked.platforms {
                let _ = writeln!(text, "\"{platform}\" = \"{digest}\"");
            }
            if !locked.companions.is_empty() {
                text.push_str("[image.companions]\n");
            }
            for (digest, Companion { about, kind, size, tag }) in &locked.companions {
                let kind = toml::Value::String(kind.clone());
                let tag = tag.as_ref().map(|tag| format!(", tag = \"{tag}\"")).unwrap_or_default();
                let _ = writeln!(
                    text,
                    "\"{digest}\" = {{ about = \"{about}\", kind = {kind}, size = {size}{tag} }}"
                );
            }
        }
        text
    }

    /// The tags under which an image is locked, with what they resolved to.
    pub fn of_image<'l>(&'l self, image: &'l Image) -> impl Iterator<Item = (&'l Tag, &'l Locked)> {
        self.entries.iter().filter(move |(want, _)| want.image == *image).map(|(w, l)| (&w.tag, l))
    }
}

/// What stands between the configuration and the lock, as far as it can be told without asking
/// anybody.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Stale {
    /// A tag is wanted by name and not locked.
    NotLocked(Want),
    /// Tags of the image are wanted by a rule, and none is locked.
    NothingLocked(Image),
    /// Its index is locked for other platforms than those that are wanted.
    OtherPlatforms(Want),
    /// It is locked, and no entry can want it any more.
    Unwanted(Want),
}

impl std::fmt::Display for Stale {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::NotLocked(want) => {
                write!(f, "wanted, but not locked: {}:{}", want.image, want.tag)
            }
            Self::NothingLocked(image) => write!(f, "wanted, but nothing of it is locked: {image}"),
            Self::OtherPlatforms(want) => {
                write!(f, "its index is locked for other platforms: {}:{}", want.image, want.tag)
            }
            Self::Unwanted(want) => {
                write!(f, "locked, but not wanted: {}:{}", want.image, want.tag)
            }
        }
    }
}

/// Compares what the entries want with the lock.
pub fn stale(entries: &[Wish<'_>], lock: &Lock) -> Vec<Stale> {
    let mut found = Vec::new();
    for wish @ Wish { image, tags, .. } in entries {
        let trimmed_to = wish.trimmed_to();
        let of_image = lock.of_image(image).filter(|(tag, locked)| {
            let trimmed = locked.trimmed.as_ref().map(|trimmed| &trimmed.platforms);
            tags.want(tag)
                && media_type::is_index(&locked.media_type)
                && trimmed != trimmed_to.as_ref()
        });
        found.extend(of_image.map(|(tag, _)| {
            Stale::OtherPlatforms(Want { image: (*image).clone(), tag: tag.clone() })
        }));
        if tags.need_listing() {
            if !lock.of_image(image).any(|(tag, _)| tags.want(tag)) {
                found.push(Stale::NothingLocked((*image).clone()));
            }
            continue;
        }
        let wants = tags.select(&[]).into_iter().map(|tag| Want { image: (*image).clone(), tag });
        found.extend(wants.filter(|want| !lock.entries.contains_key(want)).map(Stale::NotLocked));
    }
    let wanted = |want: &Want| {
        entries.iter().any(|wish| *wish.image == want.image && wish.tags.want(&want.tag))
    };
    let unwanted = lock.entries.keys().filter(|want| !wanted(want)).cloned();
    found.extend(unwanted.map(Stale::Unwanted));
    found
}

/// What the upstream says of a wanted image now.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum UpstreamNow {
    /// The tag points there.
    At(Digest),
    /// The upstream has no such tag.
    Gone,
    /// It could not be asked; the cause in words.
    Unreached(String),
}

/// What stands between the wish, the lock, the upstream and the larder for one image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// Which image.
    pub want: Want,
    /// An intake entry wants it. False: it is only locked.
    pub wanted: bool,
    /// The locked digest. None: it is not locked.
    pub locked: Option<Digest>,
    /// The upstream's word. None: it was not asked, because nobody wants the image any more.
    pub upstream: Option<UpstreamNow>,
    /// The digest under which the larder is to have it: another than the locked one where the
    /// index is trimmed. None: it is not locked.
    pub here: Option<Digest>,
    /// Where the larder's tag points. None: the larder does not have it.
    pub held: Option<Digest>,
}

/// What a difference asks of the operator.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Next {
    /// Nothing: wanted, locked, unmoved and held.
    Nothing,
    /// `intake lock`: it is wanted, but not locked.
    Lock,
    /// `intake run`: it is locked, but the larder does not hold that content under the tag.
    Run,
    /// The tag moved upstream; the lock holds. Review, then `intake lock` takes the new content.
    Review,
    /// The upstream has it no longer; what is held stays.
    Gone,
    /// It is locked, but no entry wants it any more; `intake lock` drops it from the lock.
    Unwanted,
    /// The upstream could not be asked.
    Unknown,
}

impl Difference {
    /// What to do. Bringing in what is locked comes first: nothing else protects a deployment.
    pub fn next(&self) -> Next {
        match (&self.locked, &self.upstream) {
            _ if !self.wanted => Next::Unwanted,
            (None, Some(UpstreamNow::Unreached(_)) | None) => Next::Unknown,
            (None, Some(UpstreamNow::Gone)) => Next::Gone,
            (None, Some(UpstreamNow::At(_))) => Next::Lock,
            (Some(_), _) if self.held != self.here => Next::Run,
            (Some(locked), Some(UpstreamNow::At(now))) if locked != now => Next::Review,
            (Some(_), Some(UpstreamNow::At(_))) => Next::Nothing,
            (Some(_), Some(UpstreamNow::Gone)) => Next::Gone,
            (Some(_), Some(UpstreamNow::Unreached(_)) | None) => Next::Unknown,
        }
    }
}

/// Compares the wish with the lock, the upstream's answers and what the larder's tags point to.
///
/// `held` is asked for each image that is wanted or locked and gives the digest of the larder's
/// tag, None when there is none. The result is sorted by image and tag.
pub fn difference(
    wants: &BTreeMap<Want, UpstreamNow>,
    lock: &Lock,
    held: impl Fn(&Want) -> Option<Digest>,
) -> Vec<Difference> {
    let mut all: Vec<&Want> = wants.keys().chain(lock.entries.keys()).collect();
    all.sort();
    all.dedup();
    all.into_iter()
        .map(|want| Difference {
            want: want.clone(),
            wanted: wants.contains_key(want),
            locked: lock.entries.get(want).map(|locked| locked.digest.clone()),
            here: lock.entries.get(want).map(|locked| locked.here().clone()),
            upstream: wants.get(want).cloned(),
            held: held(want),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn want(tag: &str) -> Want {
        Want {
            image: "ventworks.example/gauges/steamgauge".parse().unwrap(),
            tag: tag.parse().unwrap(),
        }
    }

    fn locked(content: &str) -> Locked {
        Locked {
            digest: Digest::of(content.as_bytes()),
            media_type: crate::document::media_type::INDEX.into(),
            size: 500,
            platforms: [("linux/amd64".parse().unwrap(), Digest::of(b"child"))].into(),
            trimmed: None,
            companions: BTreeMap::new(),
        }
    }

    #[test]
    fn a_lock_reads_back_as_it_was_written() {
        let signature = Companion {
            about: Digest::of(b"b"),
            kind: "application/vnd.example.signature".into(),
            size: 7,
            tag: None,
        };
        let beside = Companion { tag: Some("sha256-0.sig".parse().unwrap()), ..signature.clone() };
        let whole = Locked {
            trimmed: Some(Trimmed {
                digest: Digest::of(b"trimmed"),
                platforms: vec!["linux/amd64".parse().unwrap(), "linux/arm/v7".parse().unwrap()],
            }),
            companions: [(Digest::of(b"s"), signature), (Digest::of(b"t"), beside)].into(),
            ..locked("b")
        };
        assert_eq!(whole.here(), &Digest::of(b"trimmed"));
        let lock = Lock { entries: [(want("1.9.2"), locked("a")), (want("1.8"), whole)].into() };
        let text = lock.write();
        assert_eq!(Lock::read(&text).unwrap(), lock);
        assert_eq!(Lock::read(&text).unwrap().write(), text);
        assert!(text.find("1.8").unwrap() < text.find("1.9.2").unwrap(), "sorted");
    }

    #[test]
    fn damaged_locks_are_refused() {
        let text = Lock { entries: [(want("1"), locked("a"))].into() }.write();
        let twice = format!("{text}{}", &text[text.find("[[image]]").unwrap()..]);
        assert!(matches!(Lock::read(&twice), Err(LockError::Twice(_))));
        assert!(matches!(Lock::read("version = 9"), Err(LockError::Version(9))));
        assert!(matches!(
            Lock::read(&text.replace("sha256:", "sha256:0")),
            Err(LockError::Shape { .. })
        ));
        assert!(matches!(Lock::read("version = 1\nfoo = 2"), Err(LockError::Shape { .. })));
    }

    #[test]
    fn a_lock_that_does_not_fit_its_configuration_is_told() {
        let lock = Lock { entries: [(want("1.9.2"), locked("a"))].into() };
        let image = want("1").image;
        let told = |tags: &Tags| -> Vec<String> {
            let wish = Wish { image: &image, tags, platforms: &Platforms::All, trim: true };
            stale(&[wish], &lock).iter().map(ToString::to_string).collect()
        };
        let amd64 = Platforms::Some(vec!["linux/amd64".parse().unwrap()]);
        let tags = Tags::exact(vec![want("1.9.2").tag]);
        let wish = Wish { image: &image, tags: &tags, platforms: &amd64, trim: true };
        assert_eq!(stale(&[wish], &lock), [Stale::OtherPlatforms(want("1.9.2"))]);
        assert!(stale(&[Wish { trim: false, ..wish }], &lock).is_empty());
        assert!(told(&Tags::exact(vec![want("1.9.2").tag])).is_empty());
        let name = "ventworks.example/gauges/steamgauge";
        assert_eq!(
            told(&Tags::exact(vec![want("2").tag])),
            [
                format!("wanted, but not locked: {name}:2"),
                format!("locked, but not wanted: {name}:1.9.2")
            ]
        );
        let other: Image = "bazaar.example/library/kettle".parse().unwrap();
        let rule = crate::selection::Rule::Match("2.*".parse().unwrap());
        let tags = Tags { rule, skip: Vec::new() };
        let wish = Wish { image: &other, tags: &tags, platforms: &amd64, trim: false };
        assert_eq!(stale(&[wish], &lock)[0], Stale::NothingLocked(other.clone()));
    }

    #[test]
    fn each_difference_names_the_next_step() {
        let at = |content: &str| UpstreamNow::At(Digest::of(content.as_bytes()));
        let next = |now: Option<UpstreamNow>, lock: Option<&str>, held: Option<&str>| {
            let wants = now.map(|now| (want("1"), now)).into_iter().collect();
            let lock = Lock { entries: lock.map(|c| (want("1"), locked(c))).into_iter().collect() };
            let held = held.map(|content| Digest::of(content.as_bytes()));
            difference(&wants, &lock, |_| held.clone())[0].next()
        };
        assert_eq!(next(Some(at("a")), None, None), Next::Lock);
        assert_eq!(next(Some(at("a")), Some("a"), None), Next::Run);
        assert_eq!(next(Some(at("b")), Some("a"), None), Next::Run);
        assert_eq!(next(Some(at("a")), Some("a"), Some("b")), Next::Run);
        assert_eq!(next(Some(at("a")), Some("a"), Some("a")), Next::Nothing);
        assert_eq!(next(Some(at("b")), Some("a"), Some("a")), Next::Review);
        assert_eq!(next(Some(UpstreamNow::Gone), Some("a"), Some("a")), Next::Gone);
        assert_eq!(next(Some(UpstreamNow::Gone), None, None), Next::Gone);
        assert_eq!(
            next(Some(UpstreamNow::Unreached("x".into())), Some("a"), Some("a")),
            Next::Unknown
        );
        assert_eq!(next(None, Some("a"), Some("a")), Next::Unwanted);
    }

    proptest::proptest! {
        #[test]
        fn any_lock_reads_back_as_it_was_written(
            list in proptest::collection::btree_map("[a-z]{1,8}(/[a-z0-9]{1,8}){1,2}", ("[A-Za-z0-9_][A-Za-z0-9._-]{0,20}", 0u64..1 << 40), 0..6)
        ) {
            let entries = list.into_iter().map(|(name, (tag, size))| {
                let image = format!("{}.example/{name}", name.split('/').next().unwrap());
                let want = Want { image: image.parse().unwrap(), tag: tag.parse().unwrap() };
                (want, Locked { size, ..locked(&name) })
            });
            let lock = Lock { entries: entries.collect() };
            proptest::prop_assert_eq!(Lock::read(&lock.write()).unwrap(), lock);
        }

        #[test]
        fn no_text_panics(text in "\\PC*|version = 1\n(\\[\\[image\\]\\]\n|name = \"\\PC*\"\n|tag = [0-9]\n){0,4}") {
            let _ = Lock::read(&text);
        }
    }
}
