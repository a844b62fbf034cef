//! The order of a move, seen from a target that writes everything down.

use std::collections::{BTreeSet, HashMap};
use std::sync::Mutex;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::stream::{self, StreamExt as _};
use larder_core::companion::Companion;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document};
use larder_core::platform::Platforms;
use larder_core::reference::Selector;
use larder_standin::{ImagePlan, SampleImage, image};

use super::layout::Index;
use super::{Content, Engine, LayoutError, ManifestRole, MoveOrder, Source, Target, TransferError};

/// An image in memory.
struct Memory {
    blobs: HashMap<Digest, Bytes>,
    documents: HashMap<Digest, Document>,
    /// The top of what it holds.
    top: Digest,
    /// A blob that cannot be given.
    lost: Option<Digest>,
}

impl Memory {
    fn new(image: &SampleImage) -> Self {
        Self {
            blobs: image
                .blobs
                .iter()
                .map(|blob| (blob.digest.clone(), blob.bytes.clone()))
                .collect(),
            documents: image.documents.iter().cloned().collect(),
            top: image.digest().clone(),
            lost: None,
        }
    }

    /// With one more index around what it holds.
    fn wrapped(mut self) -> Self {
        let inner = &self.documents[&self.top];
        let text = format!(
            r#"{{"schemaVersion":2,"manifests":[{{"mediaType":"{}","digest":"{}","size":{}}}]}}"#,
            inner.media_type,
            self.top,
            inner.bytes.len()
        );
        self.top = Digest::of(text.as_bytes());
        self.documents.insert(self.top.clone(), Document::read(text.into(), None).unwrap());
        self
    }
}

fn missing(what: &Digest) -> TransferError {
    LayoutError::NotFound(what.to_string()).into()
}

#[async_trait]
impl Source for Memory {
    async fn manifest(&self, selector: &Selector) -> Result<(Digest, Document), TransferError> {
        let digest = match selector {
            Selector::Digest(digest) => digest.clone(),
            Selector::Tag(_) => self.top.clone(),
        };
        let document = self.documents.get(&digest).cloned().ok_or_else(|| missing(&digest))?;
        Ok((digest, document))
    }

    async fn blob(&self, blob: &Descriptor) -> Result<Content, TransferError> {
        if self.lost.as_ref() == Some(&blob.digest) {
            return Err(missing(&blob.digest));
        }
        let pieces: Vec<Bytes> =
            self.blobs[&blob.digest].chunks(1000).map(Bytes::copy_from_slice).collect();
        Ok(stream::iter(pieces).map(Ok).boxed())
    }

    async fn companions(&self, _: &Digest) -> Result<Vec<(Digest, Companion)>, TransferError> {
        Ok(Vec::new())
    }

    async fn small_blob(&self, blob: &Descriptor, _: usize) -> Result<Bytes, TransferError> {
        Ok(self.blobs[&blob.digest].clone())
    }
}

/// What a target was given, in order.
#[derive(Debug, Clone, PartialEq)]
enum Given {
    Blob(Digest),
    Manifest { digest: Digest, tag: Option<String>, top: bool, sparse: bool },
}

#[derive(Default)]
struct Notebook {
    given: Mutex<Vec<Given>>,
}

impl Notebook {
    fn given(&self) -> Vec<Given> {
        self.given.lock().unwrap().clone()
    }

    fn blobs(&self) -> Vec<Digest> {
        let blob = |one| match one {
            Given::Blob(digest) => Some(digest),
            Given::Manifest { .. } => None,
        };
        self.given().into_iter().filter_map(blob).collect()
    }
}

#[async_trait]
impl Target for Notebook {
    async fn holds(&self, wanted: &Digest) -> Result<bool, TransferError> {
        Ok(self
            .given()
            .iter()
            .any(|one| matches!(one, Given::Manifest { digest, .. } if digest == wanted)))
    }

    async fn has_blob(&self, blob: &Descriptor) -> Result<bool, TransferError> {
        Ok(self.blobs().contains(&blob.digest))
    }

    async fn take_blob(
        &self,
        blob: &Descriptor,
        mut content: Content,
    ) -> Result<(), TransferError> {
        while let Some(chunk) = content.next().await {
            chunk?;
            tokio::task::yield_now().await;
        }
        self.given.lock().unwrap().push(Given::Blob(blob.digest.clone()));
        Ok(())
    }

    async fn take_manifest(
        &self,
        digest: &Digest,
        _: &Document,
        role: ManifestRole<'_>,
        sparse: bool,
    ) -> Result<(), TransferError> {
        let tag = role.tag().map(ToString::to_string);
        let top = matches!(role, ManifestRole::Image(_));
        self.given.lock().unwrap().push(Given::Manifest {
            digest: digest.clone(),
            tag,
            top,
            sparse,
        });
        Ok(())
    }
}

static NOTHING: BTreeSet<Digest> = BTreeSet::new();

fn engine() -> Engine {
    Engine::silent()
}

fn small(name: &str) -> ImagePlan {
    ImagePlan { layer_size: 5_000, ..ImagePlan::new(name) }
}

fn order<'o>(source: &'o Memory, target: &'o Notebook, platforms: &'o Platforms) -> MoveOrder<'o> {
    let tag = "2".parse::<larder_core::name::Tag>().unwrap();
    MoveOrder {
        source,
        selector: Selector::Tag(tag.clone()),
        target,
        tag: Some(tag),
        platforms,
        leave: &NOTHING,
        trimmed: None,
    }
}

fn only(platform: &str) -> Platforms {
    Platforms::Some(vec![platform.parse().unwrap()])
}

#[tokio::test]
async fn blobs_come_first_then_children_then_the_index_with_its_tag() {
    let made = image(&small("kettle"));
    let (source, target) = (Memory::new(&made), Notebook::default());
    let moved = engine().run(&order(&source, &target, &Platforms::All)).await.unwrap();
    assert_eq!((moved.copied, moved.present, moved.manifests), (8, 0, 3));
    assert_eq!(moved.digest.as_ref(), Some(made.digest()));
    let given = target.given();
    assert!(given[..8].iter().all(|one| matches!(one, Given::Blob(_))));
    let top = made.digest().clone();
    let last = Given::Manifest { digest: top, tag: Some("2".into()), top: true, sparse: false };
    assert_eq!(given[10], last);
    assert!(
        given[8..10].iter().all(|one| matches!(one, Given::Manifest { tag: None, top: false, .. }))
    );
    // Again: nothing but the tag is set.
    let again = engine().run(&order(&source, &target, &Platforms::All)).await.unwrap();
    assert_eq!((again.copied, again.manifests), (0, 1));
}

#[tokio::test]
async fn images_that_move_at_once_share_their_layers() {
    let (first, second) = (Memory::new(&image(&small("one"))), Memory::new(&image(&small("two"))));
    let (target, engine) = (Notebook::default(), engine());
    let (one, two) =
        (order(&first, &target, &Platforms::All), order(&second, &target, &Platforms::All));
    let (one, two) = tokio::join!(engine.run(&one), engine.run(&two));
    let (one, two) = (one.unwrap(), two.unwrap());
    assert_eq!(one.copied + two.copied, 14, "two base layers are shared");
    assert_eq!(one.present + two.present, 2);
    let mut blobs = target.blobs();
    blobs.sort();
    blobs.dedup();
    assert_eq!(blobs.len(), 14, "none was given twice");
}

#[tokio::test]
async fn a_subset_is_sparse_and_a_lacking_platform_is_told_before_anything_moves() {
    let source = Memory::new(&image(&small("kettle")));
    let target = Notebook::default();
    let moved = engine().run(&order(&source, &target, &only("linux/amd64"))).await.unwrap();
    assert_eq!((moved.copied, moved.manifests), (4, 2));
    assert!(matches!(target.given().last(), Some(Given::Manifest { sparse: true, .. })));

    for source in [source, Memory::new(&image(&small("single").for_platforms(&["linux/amd64"])))] {
        let target = Notebook::default();
        let error = engine().run(&order(&source, &target, &only("linux/s390x"))).await.unwrap_err();
        assert!(matches!(error, TransferError::NoPlatform { .. }), "{error}");
        assert!(target.given().is_empty());
    }
}

#[tokio::test]
async fn nested_indexes_are_followed_so_far_and_no_further() {
    let source = Memory::new(&image(&small("kettle"))).wrapped();
    let target = Notebook::default();
    let moved = engine().run(&order(&source, &target, &only("linux/arm64"))).await.unwrap();
    assert_eq!((moved.copied, moved.manifests), (4, 3));
    let deep = source.wrapped().wrapped().wrapped().wrapped();
    let error =
        engine().run(&order(&deep, &Notebook::default(), &Platforms::All)).await.unwrap_err();
    assert!(matches!(error, TransferError::Depth), "{error}");
}

#[tokio::test]
async fn after_a_failure_no_manifest_is_given() {
    let made = image(&small("kettle"));
    let mut source = Memory::new(&made);
    source.lost = Some(made.blobs[1].digest.clone());
    let target = Notebook::default();
    let error = engine().run(&order(&source, &target, &Platforms::All)).await.unwrap_err();
    assert!(error.to_string().contains("it does not hold "), "{error}");
    assert!(target.given().iter().all(|one| matches!(one, Given::Blob(_))));
    assert!(target.given().len() < 8, "nothing new is begun after a failure");
}

#[test]
fn an_index_of_a_layout_keeps_what_others_wrote() {
    let made = image(&small("kettle"));
    let (digest, document) = made.documents.last().unwrap();
    let theirs = format!(
        r#"{{"schemaVersion":2,"manifests":[{{"mediaType":"application/vnd.oci.image.index.v1+json","digest":"{digest}","size":1,"x":{{"kept":true}},"annotations":{{"org.opencontainers.image.ref.name":"a.example/b:1"}}}}]}}"#
    );
    let mut index = Index::read(theirs.as_bytes(), "x").unwrap();
    assert_eq!(&index.find(None).unwrap().0, digest);
    assert_eq!(&index.find(Some("1")).unwrap().0, digest, "by the tag of a whole reference");
    assert!(index.find(Some("2")).is_err());
    index.add(digest, document, Some("2"));
    index.add(digest, document, Some("2"));
    assert_eq!(index.names(), ["a.example/b:1", "2"]);
    assert!(index.find(None).unwrap_err().to_string().contains("it holds 2 images"));
    assert!(index.text().contains(r#""x":{"kept":true}"#));
    // What has no name belongs to the one that has: its signatures lie there too.
    let mut one = Index::default();
    one.add(digest, document, Some("1"));
    let (beside, its) = &made.documents[0];
    one.add(beside, its, None);
    assert_eq!(one.find(None).unwrap(), (digest.clone(), Some("1".to_owned())));
    let mut none = Index::default();
    none.add(digest, document, None);
    none.add(beside, its, None);
    assert!(none.find(None).is_err(), "nobody says which");
    assert!(Index::read(b"[]", "x").is_err());
}
