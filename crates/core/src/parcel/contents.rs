//! The table of contents.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use serde_json::json;

use super::volume::{Volume, volume_name};
use crate::advisory::is_feed_name;
use crate::digest::Digest;
use crate::document::media_type;
use crate::name::{RepositoryName, Tag};
use crate::reference::Image;

/// The version that carries advisories; one without any is of [`REMOVING`], [`NUMBERED`] or [`UNNUMBERED`].
const VERSION: u32 = 4;
/// The version that carries removals.
const REMOVING: u32 = 3;
const NUMBERED: u32 = 2;
/// The version without a number.
const UNNUMBERED: u32 = 1;
/// The annotation under which a layout names its images (Image Specification, "Annotations").
const REF_NAME: &str = "org.opencontainers.image.ref.name";

/// What is in a parcel.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Contents {
    /// The version of this form.
    parcel: u32,
    /// The name of the larder that made it.
    pub made_by: String,
    /// When, as RFC 3339 in UTC.
    pub made_at: String,
    /// Its number: it grows with each parcel of that larder. None: it is from before these were numbered.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sequence: Option<u64>,
    /// The number of the parcel before it. None: it is the first, or that is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub predecessor: Option<u64>,
    /// The digest of the lock by which it was made.
    pub lock: Digest,
    /// The digest of the receipt whose blobs are left out. None: nothing is left out.
    pub since: Option<Digest>,
    /// The images, sorted by where they go and by tag.
    pub images: Vec<ParcelImage>,
    /// Everything that lies in the archive, sorted by digest.
    pub blobs: Vec<ParcelBlob>,
    /// What the images need beside that, and the far side has; sorted.
    pub held: Vec<Digest>,
    /// The files that the archive is cut into.
    pub volumes: Vec<Volume>,
    /// Tags that were removed where it was made, and that the far side may remove too; sorted.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub removals: Vec<ParcelRemoval>,
    /// Advisories that come along; sorted by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub feeds: Vec<ParcelFeed>,
}

/// Advisories that were taken in where a parcel was made.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ParcelFeed {
    /// What they are called together.
    pub name: String,
    /// The files that they came from, as it was told.
    pub origin: String,
    /// When they were taken in, as RFC 3339 in UTC.
    pub taken_in_at: String,
    /// Whether what their statements hide counts as hidden where the parcel was made.
    pub own: bool,
    /// Advisories that name no package of an ecosystem that is known there.
    pub unmatched: u64,
    /// The documents: one a line, compressed by gzip. It is among the blobs.
    pub file: Digest,
}

/// A tag that was removed where a parcel was made.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ParcelRemoval {
    /// The repository, shelf first.
    pub to: RepositoryName,
    pub tag: Tag,
    /// What it pointed to: pointing to something else, it stays.
    pub digest: Digest,
    /// Why it was removed, as the record there says.
    pub because: String,
}

/// An image of a parcel.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ParcelImage {
    /// The repository of the larder that it goes to, shelf first.
    pub to: RepositoryName,
    /// The tag that it gets there.
    pub tag: Tag,
    /// The upstream's name of it.
    pub image: Image,
    pub digest: Digest,
    /// The media type of its index or manifest.
    pub media_type: String,
    /// The size of its index or manifest, in bytes.
    pub size: u64,
    /// Manifests that its index lists and that are not brought along: platforms that nobody wants.
    pub absent: Vec<Digest>,
    /// What belongs to it.
    pub companions: Vec<ParcelCompanion>,
}

/// A companion of an image of a parcel.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ParcelCompanion {
    pub digest: Digest,
    /// The media type of its manifest.
    pub media_type: String,
    /// The size of its manifest, in bytes.
    pub size: u64,
    /// What kind of artifact it is. Empty: it does not say.
    pub kind: String,
    /// The tag under which it must be found. None: its own `subject` does.
    pub tag: Option<Tag>,
}

/// Something that lies in the archive: a layer, a configuration, a manifest.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ParcelBlob {
    pub digest: Digest,
    /// Its size in bytes.
    pub size: u64,
}

/// Why a table of contents cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ContentsError {
    /// Not the JSON that we write.
    #[error("its contents cannot be read: {0}")]
    Shape(String),
    /// Written by a later version.
    #[error("its contents are of version {0}; this program reads version {VERSION}")]
    Version(u64),
    /// A list is not sorted or names something twice.
    #[error("its contents are in disorder: {0}")]
    Order(&'static str),
    /// The sizes do not add up to the volumes.
    #[error("its contents do not fit its volumes: {0}")]
    Volumes(String),
    /// More than any parcel has.
    #[error("its contents name more than {0} {1}")]
    TooMany(usize, &'static str),
}

/// The most blobs of a parcel.
const BLOB_LIMIT: usize = 200_000;
/// The most feeds of advisories of a parcel.
const FEED_LIMIT: usize = 1000;
/// The most images of a parcel; each is a line of one index, which has a limit too.
const IMAGE_LIMIT: usize = 10_000;
/// The most bytes of a parcel: an exbibyte.
const SIZE_LIMIT: u64 = 1 << 60;
/// The most volumes of a parcel.
const VOLUME_LIMIT: usize = 9_999;

#[derive(Deserialize)]
struct Version {
    parcel: u64,
}

impl Contents {
    /// Contents without blobs and volumes.
    pub fn new(
        made_by: String,
        made_at: String,
        lock: Digest,
        since: Option<Digest>,
        mut images: Vec<ParcelImage>,
    ) -> Self {
        images.sort();
        for image in &mut images {
            image.absent.sort();
            image.companions.sort();
        }
        let (blobs, held, volumes) = (Vec::new(), Vec::new(), Vec::new());
        let (sequence, predecessor) = (None, None);
        Self {
            parcel: UNNUMBERED,
            made_by,
            made_at,
            sequence,
            predecessor,
            lock,
            since,
            images,
            blobs,
            held,
            volumes,
            removals: Vec::new(),
            feeds: Vec::new(),
        }
    }

    /// Lets it carry advisories.
    #[must_use]
    pub fn advising(mut self, mut feeds: Vec<ParcelFeed>) -> Self {
        feeds.sort();
        if !feeds.is_empty() {
            self.parcel = VERSION;
        }
        self.feeds = feeds;
        self
    }

    /// Gives it its number and that of the parcel before it.
    #[must_use]
    pub fn numbered(mut self, sequence: u64, predecessor: Option<u64>) -> Self {
        (self.parcel, self.sequence, self.predecessor) = (NUMBERED, Some(sequence), predecessor);
        self
    }

    /// Lets it carry removals.
    #[must_use]
    pub fn removing(mut self, mut removals: Vec<ParcelRemoval>) -> Self {
        removals.sort();
        removals.dedup();
        if !removals.is_empty() {
            self.parcel = self.parcel.max(REMOVING);
        }
        self.removals = removals;
        self
    }

    /// What makes it later than another one of the same signer: its number, or when it was made, in milliseconds
    /// since 1970. None: it says neither.
    pub fn order(&self) -> Option<u64> {
        self.sequence.or_else(|| {
            let at: jiff::Timestamp = self.made_at.parse().ok()?;
            u64::try_from(at.as_millisecond()).ok()
        })
    }

    /// Sorts what the images need into what comes along and what the far side has.
    pub fn fill(&mut self, needed: &BTreeMap<Digest, u64>, held: &BTreeSet<Digest>) {
        self.blobs.clear();
        self.held.clear();
        for (digest, size) in needed {
            if held.contains(digest) {
                self.held.push(digest.clone());
            } else {
                self.blobs.push(ParcelBlob { digest: digest.clone(), size: *size });
            }
        }
    }

    /// Reads one line of JSON and checks that it is in order, so that its users need not.
    pub fn read(text: &str) -> Result<Self, ContentsError> {
        let shape = |error: serde_json::Error| ContentsError::Shape(error.to_string());
        let Version { parcel } = serde_json::from_str(text).map_err(shape)?;
        if ![UNNUMBERED, NUMBERED, REMOVING, VERSION].map(u64::from).contains(&parcel) {
            return Err(ContentsError::Version(parcel));
        }
        let contents: Self = serde_json::from_str(text).map_err(shape)?;
        contents.check()?;
        Ok(contents)
    }

    /// Whether the lists are within their limits, sorted and without doubles.
    pub fn check(&self) -> Result<(), ContentsError> {
        let companions: usize = self.images.iter().map(|image| image.companions.len()).sum();
        for (count, limit, what) in [
            (self.images.len() + companions, IMAGE_LIMIT, "images and companions"),
            (self.blobs.len() + self.held.len(), BLOB_LIMIT, "blobs"),
            (self.volumes.len(), VOLUME_LIMIT, "volumes"),
            (self.removals.len(), IMAGE_LIMIT, "removals"),
            (self.feeds.len(), FEED_LIMIT, "feeds of advisories"),
        ] {
            if count > limit {
                return Err(ContentsError::TooMany(limit, what));
            }
        }
        if [&self.made_by, &self.made_at].iter().any(|text| text.chars().any(char::is_control)) {
            return Err(ContentsError::Shape("who made it when is no plain text".into()));
        }
        let sum = self.blobs.iter().try_fold(0u64, |sum, blob| sum.checked_add(blob.size));
        if sum.is_none_or(|sum| sum > SIZE_LIMIT) {
            return Err(ContentsError::Order("its sizes are beyond all measure"));
        }
        let sorted = |list: &[&Digest]| list.windows(2).all(|pair| pair[0] < pair[1]);
        let blobs: Vec<&Digest> = self.blobs.iter().map(|blob| &blob.digest).collect();
        let held: Vec<&Digest> = self.held.iter().collect();
        let names: Vec<_> = self.images.iter().map(|image| (&image.to, &image.tag)).collect();
        if !sorted(&blobs) || !sorted(&held) {
            return Err(ContentsError::Order("blobs are not sorted, or there twice"));
        }
        if blobs.iter().any(|blob| held.binary_search(blob).is_ok()) {
            return Err(ContentsError::Order("a blob both comes along and is left out"));
        }
        if !names.windows(2).all(|pair| pair[0] < pair[1]) {
            return Err(ContentsError::Order("images are not sorted, or there twice"));
        }
        let plain = |text: &String| text.len() <= 4096 && !text.chars().any(char::is_control);
        if !self.removals.iter().all(|one| plain(&one.because)) {
            return Err(ContentsError::Shape("why something was removed is no plain text".into()));
        }
        if !self.feeds.iter().all(|one| {
            [&one.name, &one.origin, &one.taken_in_at].into_iter().all(plain)
                && is_feed_name(&one.name)
        }) {
            return Err(ContentsError::Shape("what is said of advisories is no plain text".into()));
        }
        if !self.feeds.windows(2).all(|pair| pair[0].name < pair[1].name) {
            return Err(ContentsError::Order("feeds are not sorted, or there twice"));
        }
        let is_there = |digest: &Digest| {
            blobs.binary_search(&digest).is_ok() || held.binary_search(&digest).is_ok()
        };
        // Before it is filled it has no blobs.
        if !blobs.is_empty() && !self.feeds.iter().all(|one| is_there(&one.file)) {
            return Err(ContentsError::Order("advisories are named that do not come along"));
        }
        let gone: Vec<_> = self.removals.iter().map(|one| (&one.to, &one.tag)).collect();
        if !gone.windows(2).all(|pair| pair[0] < pair[1]) {
            return Err(ContentsError::Order("removals are not sorted, or there twice"));
        }
        if gone.iter().any(|one| names.binary_search(one).is_ok()) {
            return Err(ContentsError::Order("an image both comes along and is removed"));
        }
        for (number, volume) in self.volumes.iter().enumerate() {
            let name = volume_name(number, self.volumes.len());
            if volume.name != name {
                let text = format!(
                    "a volume is called `{}` instead of {name}",
                    volume.name.escape_debug()
                );
                return Err(ContentsError::Volumes(text));
            }
        }
        Ok(())
    }

    /// One line of JSON, the same for the same contents.
    pub fn write(&self) -> String {
        json!(self).to_string()
    }

    /// The size of everything that comes along, in bytes.
    pub fn total(&self) -> u64 {
        self.blobs.iter().map(|blob| blob.size).sum()
    }

    /// The size of a blob that comes along. None: it does not.
    pub fn size(&self, digest: &Digest) -> Option<u64> {
        let at = self.blobs.binary_search_by(|blob| blob.digest.cmp(digest)).ok()?;
        Some(self.blobs[at].size)
    }

    /// Whether the far side is said to have this.
    pub fn is_held(&self, digest: &Digest) -> bool {
        self.held.binary_search(digest).is_ok()
    }

    /// The archive's `index.json` (Image Specification, "OCI Image Layout"): each image under the
    /// name that it gets, companions without one.
    pub fn index(&self) -> String {
        let mut entries = Vec::new();
        for image in &self.images {
            entries.push(json!({
                "mediaType": image.media_type, "digest": image.digest, "size": image.size,
                "annotations": { REF_NAME: format!("{}:{}", image.to, image.tag) },
            }));
            for companion in &image.companions {
                let mut entry = json!({
                    "mediaType": companion.media_type, "digest": companion.digest,
                    "size": companion.size,
                });
                if !companion.kind.is_empty() {
                    entry["artifactType"] = companion.kind.as_str().into();
                }
                if let Some(tag) = &companion.tag {
                    entry["annotations"] = json!({ REF_NAME: format!("{}:{tag}", image.to) });
                }
                entries.push(entry);
            }
        }
        json!({ "schemaVersion": 2, "mediaType": media_type::INDEX, "manifests": entries })
            .to_string()
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// The digest and size of a content.
    pub fn blob(content: &str) -> (Digest, u64) {
        (Digest::of(content.as_bytes()), content.len() as u64)
    }

    /// Contents of one small parcel.
    pub fn contents() -> Contents {
        let image = |to: &str, tag: &str| ParcelImage {
            to: to.parse().unwrap(),
            tag: tag.parse().unwrap(),
            image: "bazaar.example/library/kettle".parse().unwrap(),
            digest: Digest::of(b"index"),
            media_type: media_type::INDEX.into(),
            size: 5,
            absent: vec![Digest::of(b"absent")],
            companions: vec![ParcelCompanion {
                digest: Digest::of(b"signature"),
                media_type: media_type::MANIFEST.into(),
                size: 9,
                kind: "application/vnd.example".into(),
                tag: None,
            }],
        };
        let images = vec![image("vendor/kettle", "2"), image("vendor/ashlog", "1.4")];
        let lock = Digest::of(b"lock");
        let time = "2026-02-03T04:05:06Z".to_owned();
        let mut contents = Contents::new("emberfall".into(), time, lock, None, images);
        let needed = ["index", "signature", "layer", "config"].map(blob).into_iter().collect();
        contents.fill(&needed, &[Digest::of(b"config")].into());
        contents
    }

    #[test]
    fn contents_read_back_as_they_were_written() {
        let contents = contents();
        assert_eq!(contents.images[0].to.as_str(), "vendor/ashlog", "sorted");
        assert_eq!((contents.blobs.len(), contents.total()), (3, 19));
        assert_eq!(contents.size(&Digest::of(b"layer")), Some(5));
        assert_eq!(contents.size(&Digest::of(b"config")), None);
        assert!(contents.is_held(&Digest::of(b"config")));
        let text = contents.write();
        assert!(!text.contains('\n'));
        let read = Contents::read(&text).unwrap();
        assert_eq!(read, contents);
        assert_eq!(read.write(), text);
        let index = crate::document::Document::read(contents.index().into(), None).unwrap();
        assert_eq!(index.children().len(), 4);
        assert_eq!(index.children()[0].annotations[REF_NAME], "vendor/ashlog:1.4");
    }

    #[test]
    fn removals_are_carried_in_order_and_only_where_there_are_some() {
        let removal = |tag: &str| ParcelRemoval {
            to: "vendor/kettle".parse().unwrap(),
            tag: tag.parse().unwrap(),
            digest: Digest::of(tag.as_bytes()),
            because: "tidied".into(),
        };
        let plain = contents().numbered(5, None).removing(Vec::new());
        assert!(plain.write().contains("\"parcel\":2") && !plain.write().contains("removals"));
        let some = vec![removal("b"), removal("a"), removal("a")];
        let with = contents().numbered(5, None).removing(some);
        assert!(with.write().contains("\"parcel\":3"));
        let read = Contents::read(&with.write()).unwrap();
        assert_eq!(read, with);
        assert_eq!(read.removals.len(), 2);
        let refused = |change: &dyn Fn(&mut Contents)| {
            let mut wrong = with.clone();
            change(&mut wrong);
            Contents::read(&wrong.write()).unwrap_err()
        };
        let order = |error| matches!(error, ContentsError::Order(_));
        assert!(order(refused(&|c| c.removals.reverse())));
        let comes = with.images[0].clone();
        assert!(order(refused(&|c| {
            (c.removals[0].to, c.removals[0].tag) = (comes.to.clone(), comes.tag.clone());
            c.removals.sort();
        })));
        let shape = refused(&|c| c.removals[0].because = "\u{1b}[2J".into());
        assert!(matches!(shape, ContentsError::Shape(_)));
    }

    #[test]
    fn contents_in_disorder_are_refused() {
        let good = contents();
        let refused = |change: &dyn Fn(&mut Contents)| {
            let mut wrong = good.clone();
            change(&mut wrong);
            Contents::read(&wrong.write()).unwrap_err()
        };
        let order = |error| matches!(error, ContentsError::Order(_));
        assert!(order(refused(&|c| c.blobs.reverse())));
        assert!(order(refused(&|c| c.blobs.push(c.blobs[2].clone()))));
        let shape = refused(&|c| c.made_by = "\u{1b}[2J".into());
        assert!(matches!(shape, ContentsError::Shape(_)));
        assert!(order(refused(&|c| c.images.reverse())));
        assert!(order(refused(&|c| c.blobs[0].size = u64::MAX)));
        assert!(order(refused(&|c| c.held = vec![c.blobs[0].digest.clone()])));
        let volume = |name: &str| Volume { name: name.into(), size: 1, crc32: String::new() };
        let climbing = refused(&|c| c.volumes = vec![volume("../parcel.tar")]);
        assert!(matches!(climbing, ContentsError::Volumes(_)));
        let out_of_order = vec![volume("parcel.tar.002"), volume("parcel.tar.001")];
        let wrong = refused(&|c| c.volumes.clone_from(&out_of_order));
        assert!(matches!(wrong, ContentsError::Volumes(_)));
        let later = good.write().replace("\"parcel\":1", &format!("\"parcel\":{}", VERSION + 1));
        assert_eq!(Contents::read(&later), Err(ContentsError::Version(u64::from(VERSION) + 1)));
        assert!(matches!(Contents::read("{}"), Err(ContentsError::Shape(_))));
        let unknown = good.write().replacen('{', "{\"more\":1,", 1);
        assert!(matches!(Contents::read(&unknown), Err(ContentsError::Shape(_))));
    }
}
