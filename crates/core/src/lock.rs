//! What did every intake entry resolve to, and what has changed since? The lock and its
//! differences to the wish, the upstream and the larder.

mod difference;
mod passed;
mod stale;

use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::fmt::Write as _;

use serde::Deserialize;

use crate::companion::Companion;
use crate::digest::Digest;
use crate::name::Tag;
use crate::platform::{Platform, Platforms};
use crate::reference::{Image, Selector};

pub use difference::{Difference, Next, UpstreamNow, difference};
pub use passed::PassedOver;
pub use stale::{Stale, TagWish, stale};

/// One wanted image at one tag.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Want {
    pub image: Image,
    pub tag: Tag,
}

impl Want {
    /// What to ask its upstream for.
    pub fn selector(&self) -> Selector {
        self.tag.as_digest().map_or_else(|| Selector::Tag(self.tag.clone()), Selector::Digest)
    }
}

impl fmt::Display for Want {
    /// As a reference.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Self { image, tag } = self;
        match tag.as_digest() {
            Some(digest) => write!(f, "{image}@{digest}"),
            None => write!(f, "{image}:{tag}"),
        }
    }
}

/// What a wanted image resolved to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LockedTag {
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
    pub trimmed: Option<TrimmedIndex>,
    /// What belongs to the image, by digest. Empty when there is nothing, or nothing is wanted.
    pub companions: BTreeMap<Digest, Companion>,
    /// The signers whose signatures over it held when it was locked, by their names. Empty: nobody's did, or nobody asked.
    pub signed_by: BTreeSet<String>,
}

impl LockedTag {
    /// The digest under which the larder has the image.
    pub fn here(&self) -> &Digest {
        self.trimmed.as_ref().map_or(&self.digest, |trimmed| &trimmed.digest)
    }

    /// The wanted platforms for which it is not made. What is made for no platform lacks none.
    pub fn lacks(&self, wanted: &Platforms) -> Vec<Platform> {
        match self.platforms.is_empty() {
            true => Vec::new(),
            false => wanted.lacking(&self.platforms.keys()),
        }
    }
}

/// An index that lists only what is wanted.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TrimmedIndex {
    /// Its digest: another than the upstream's, unless nothing had to be left out.
    pub digest: Digest,
    /// For which platforms it was made, sorted.
    pub platforms: Vec<Platform>,
}

/// The whole of `larder.lock`.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Lock {
    /// What is locked, sorted by image and tag.
    pub entries: BTreeMap<Want, LockedTag>,
    /// Tags that would be taken if they were made for all wanted platforms.
    pub passed_over: BTreeMap<Want, PassedOver>,
}

/// Why a lock cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum LockError {
    /// Not the TOML that we write.
    #[error("{message}")]
    Shape {
        message: String,
        /// Where, in bytes from the start.
        at: usize,
    },
    /// Written by a later version.
    #[error("the lock is of version {0}; this program reads versions up to {VERSION}")]
    Version(u32),
    /// The same image and tag stand there twice, as after a merge that went wrong.
    #[error("{0} is locked twice")]
    Twice(String),
}

/// The version that says what was passed over. A lock without that is of the first version, which
/// older programs read too.
const VERSION: u32 = 2;

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawLock {
    version: u32,
    #[serde(default)]
    image: Vec<RawEntry>,
    #[serde(default)]
    passed_over: Vec<passed::RawPassedOver>,
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
    trimmed: Option<TrimmedIndex>,
    #[serde(default)]
    signed_by: BTreeSet<String>,
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
        if raw.version > VERSION || raw.version == 0 {
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
            let locked = LockedTag {
                digest: raw.digest,
                media_type: raw.media_type,
                size: raw.size,
                platforms: raw.platforms,
                trimmed: raw.trimmed,
                companions: raw.companions.into_iter().map(|(d, c)| (d, companion(c))).collect(),
                signed_by: raw.signed_by,
            };
            if entries.insert(want, locked).is_some() {
                return Err(LockError::Twice(twice));
            }
        }
        Ok(Self { entries, passed_over: passed::read(raw.passed_over)? })
    }

    /// Writes `larder.lock`: sorted, one fact a line, the same text for the same content.
    pub fn write(&self) -> String {
        let mut text = String::from(
            "# What every intake entry resolved to. Written by `larder intake lock`; review and commit it.\n",
        );
        let version = if self.passed_over.is_empty() { 1 } else { VERSION };
        let _ = writeln!(text, "version = {version}");
        for (Want { image, tag }, locked) in &self.entries {
            let media_type = toml::Value::String(locked.media_type.clone());
            let _ = write!(
                text,
                "\n[[image]]\nname = \"{image}\"\ntag = \"{tag}\"\ndigest = \"{}\"\nmedia_type = {media_type}\nsize = {}\n",
                locked.digest, locked.size
            );
            if let Some(TrimmedIndex { digest, platforms }) = &locked.trimmed {
                let platforms: Vec<_> = platforms.iter().map(|one| format!("\"{one}\"")).collect();
                let platforms = platforms.join(", ");
                let _ = writeln!(
                    text,
                    "trimmed = {{ digest = \"{digest}\", platforms = [{platforms}] }}"
                );
            }
            if !locked.signed_by.is_empty() {
                let names = locked.signed_by.iter().cloned().map(toml::Value::String).collect();
                let _ = writeln!(text, "signed_by = {}", toml::Value::Array(names));
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
        passed::write(&self.passed_over, &mut text);
        text
    }

    /// What is known of an image's tags that lack platforms which are wanted.
    pub fn lacking<'l>(
        &'l self,
        image: &'l Image,
        wanted: &'l Platforms,
    ) -> impl Iterator<Item = (&'l Tag, &'l PassedOver)> {
        let of_image = self.passed_over.iter().filter(move |(want, _)| want.image == *image);
        of_image.filter(|(_, passed)| passed.is_lacking(wanted)).map(|(w, p)| (&w.tag, p))
    }

    /// The tags under which an image is locked, with what they resolved to.
    pub fn of_image<'l>(
        &'l self,
        image: &'l Image,
    ) -> impl Iterator<Item = (&'l Tag, &'l LockedTag)> {
        self.entries.iter().filter(move |(want, _)| want.image == *image).map(|(w, l)| (&w.tag, l))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::platform::Platforms;
    use crate::selection::Tags;

    fn want(tag: &str) -> Want {
        Want {
            image: "ventworks.example/gauges/steamgauge".parse().unwrap(),
            tag: tag.parse().unwrap(),
        }
    }

    fn locked(content: &str) -> LockedTag {
        LockedTag {
            digest: Digest::of(content.as_bytes()),
            media_type: crate::document::media_type::INDEX.into(),
            size: 500,
            platforms: [("linux/amd64".parse().unwrap(), Digest::of(b"child"))].into(),
            trimmed: None,
            companions: BTreeMap::new(),
            signed_by: BTreeSet::new(),
        }
    }

    fn lock_of(entries: impl IntoIterator<Item = (Want, LockedTag)>) -> Lock {
        Lock { entries: entries.into_iter().collect(), ..Lock::default() }
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
        let whole = LockedTag {
            trimmed: Some(TrimmedIndex {
                digest: Digest::of(b"trimmed"),
                platforms: vec!["linux/amd64".parse().unwrap(), "linux/arm/v7".parse().unwrap()],
            }),
            companions: [(Digest::of(b"s"), signature), (Digest::of(b"t"), beside)].into(),
            signed_by: ["ventworks-release".to_owned(), "our \"own\"".to_owned()].into(),
            ..locked("b")
        };
        assert_eq!(whole.here(), &Digest::of(b"trimmed"));
        let entries = [(want("1.9.2"), locked("a")), (want("1.8"), whole)].into();
        let lock = Lock { entries, ..Lock::default() };
        let text = lock.write();
        assert!(text.contains("\nversion = 1\n"), "older programs read it: {text}");
        assert_eq!(Lock::read(&text).unwrap(), lock);
        let lacks = vec!["linux/arm64".parse().unwrap()];
        let passed = PassedOver { digest: Digest::of(b"new"), lacks };
        let lock = Lock { passed_over: [(want("2.0"), passed.clone())].into(), ..lock };
        let text = lock.write();
        assert!(text.contains("\nversion = 2\n"));
        let twice = format!("{text}{}", &text[text.find("\n[[passed_over]]").unwrap()..]);
        assert!(matches!(Lock::read(&twice), Err(LockError::Twice(_))));
        assert!(passed.is_lacking(&Platforms::Some(passed.lacks.clone())));
        assert!(!passed.is_lacking(&Platforms::All));
        assert_eq!(Lock::read(&text).unwrap(), lock);
        assert_eq!(Lock::read(&text).unwrap().write(), text);
        assert!(text.find("1.8").unwrap() < text.find("1.9.2").unwrap(), "sorted");
    }

    #[test]
    fn damaged_locks_are_refused() {
        let text = lock_of([(want("1"), locked("a"))]).write();
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
        let lock = lock_of([(want("1.9.2"), locked("a"))]);
        let image = want("1").image;
        let told = |tags: &Tags| -> Vec<String> {
            let wish = TagWish { image: &image, tags, platforms: &Platforms::All, trim: true };
            stale(&[wish], &lock).iter().map(ToString::to_string).collect()
        };
        let amd64 = Platforms::Some(vec!["linux/amd64".parse().unwrap()]);
        let tags = Tags::exact(vec![want("1.9.2").tag]);
        let wish = TagWish { image: &image, tags: &tags, platforms: &amd64, trim: true };
        assert_eq!(stale(&[wish], &lock), [Stale::OtherPlatforms(want("1.9.2"))]);
        assert!(stale(&[TagWish { trim: false, ..wish }], &lock).is_empty());
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
        let rule = crate::selection::TagRule::Match("2.*".parse().unwrap());
        let tags = Tags { rule, skip: Vec::new() };
        let wish = TagWish { image: &other, tags: &tags, platforms: &amd64, trim: false };
        assert_eq!(stale(&[wish], &lock)[0], Stale::NothingLocked(other.clone()));
    }

    #[test]
    fn each_difference_names_the_next_step() {
        let at = |content: &str| UpstreamNow::At(Digest::of(content.as_bytes()));
        let next = |now: Option<UpstreamNow>, lock: Option<&str>, held: Option<&str>| {
            let wants = now.map(|now| (want("1"), now)).into_iter().collect();
            let lock = lock_of(lock.map(|c| (want("1"), locked(c))));
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
        let lacks = |named| {
            let lacks = vec!["linux/arm64".parse().unwrap()];
            Some(UpstreamNow::Lacks { digest: Digest::of(b"b"), lacks, named })
        };
        assert_eq!(next(lacks(true), None, None), Next::Lacks);
        assert_eq!(next(lacks(false), None, None), Next::PassedOver);
        assert_eq!(next(lacks(true), Some("a"), Some("a")), Next::PassedOver);
        assert_eq!(next(lacks(true), Some("a"), None), Next::Run);
    }

    proptest::proptest! {
        #[test]
        fn any_lock_reads_back_as_it_was_written(
            list in proptest::collection::btree_map("[a-z]{1,8}(/[a-z0-9]{1,8}){1,2}", ("[A-Za-z0-9_][A-Za-z0-9._-]{0,20}", 0u64..1 << 40), 0..6)
        ) {
            let entries = list.into_iter().map(|(name, (tag, size))| {
                let image = format!("{}.example/{name}", name.split('/').next().unwrap());
                let want = Want { image: image.parse().unwrap(), tag: tag.parse().unwrap() };
                (want, LockedTag { size, ..locked(&name) })
            });
            let lock = lock_of(entries);
            proptest::prop_assert_eq!(Lock::read(&lock.write()).unwrap(), lock);
        }

        #[test]
        fn no_text_panics(text in "\\PC*|version = 1\n(\\[\\[image\\]\\]\n|name = \"\\PC*\"\n|tag = [0-9]\n){0,4}") {
            let _ = Lock::read(&text);
        }
    }
}
