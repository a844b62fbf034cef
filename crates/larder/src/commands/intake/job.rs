//! One locked image on its way in: what it costs, whether it is there, and how it comes.

use std::collections::{BTreeSet, HashMap};
use std::time::Duration;

use larder_client::ClientError;
use larder_core::digest::Digest;
use larder_core::document::Document;
use larder_core::immutable::ImmutableTags;
use larder_core::lock::{Lock, LockedTag, Want};
use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::platform::Platforms;
use larder_core::reference::{Image, Selector};
use larder_store::{BroughtIn, IntakeRecord, Store, StoreError};
use larder_transfer::{Engine, MoveOrder, MoveOutcome, Own, Remote, Target, TransferError};

use super::gate::IntakeGate;
use super::upstream::Upstreams;
use crate::config::{Config, Intake};
use crate::failure::{Exit, Failure};

/// One image of the lock, and where it goes.
pub struct IntakeJob<'j> {
    pub want: &'j Want,
    pub locked: &'j LockedTag,
    pub intake: &'j Intake,
    pub to: Image,
    /// Whether it goes to another registry than this larder.
    elsewhere: bool,
    /// The tags of its shelf that do not move.
    immutable: ImmutableTags,
}

/// The jobs of all that is locked and wanted.
pub fn jobs<'j>(config: &'j Config, lock: &'j Lock) -> impl Iterator<Item = IntakeJob<'j>> {
    lock.entries.iter().filter_map(move |(want, locked)| {
        let intake = config.intake_of(&want.image)?;
        let to = config.destination(intake);
        let elsewhere = to.host != config.larder.url.host;
        let immutable = config.immutable_tags(to.repository.first_component());
        let wanted = intake.tags.want(&want.tag);
        wanted.then_some(IntakeJob { want, locked, intake, to, elsewhere, immutable })
    })
}

/// What is known of all images before any is brought in.
pub struct IntakeFacts<'f> {
    pub store: &'f Store,
    pub upstreams: &'f Upstreams<'f>,
    /// Where those of this larder's tags point that the jobs set.
    pub tags: HashMap<(RepositoryName, Tag), Digest>,
    pub journal: HashMap<Want, IntakeRecord>,
}

impl<'f> IntakeFacts<'f> {
    /// Reads them from the store.
    pub async fn read(
        store: &'f Store,
        upstreams: &'f Upstreams<'f>,
        jobs: &[IntakeJob<'_>],
    ) -> Result<Self, StoreError> {
        let own = jobs.iter().filter(|job| !job.elsewhere);
        let wanted = own.map(|job| (job.to.repository.clone(), job.want.tag.clone())).collect();
        let tags = store.tags_named(wanted).await?.into_iter();
        let tags = tags.map(|(repository, tag, digest)| ((repository, tag), digest)).collect();
        let journal = store.intake().await?.into_iter();
        let journal = journal.map(|record| (record.want.clone(), record)).collect();
        Ok(Self { store, upstreams, tags, journal })
    }
}

impl IntakeJob<'_> {
    /// The upstream's name of it.
    pub fn name(&self) -> String {
        format!("{}:{}", self.want.image, self.want.tag)
    }

    /// Where it goes, as written in `to`.
    pub fn place(&self) -> String {
        if self.elsewhere { self.to.to_string() } else { self.to.repository.to_string() }
    }

    /// Whether it goes to another registry than this larder.
    pub fn is_elsewhere(&self) -> bool {
        self.elsewhere
    }

    /// What is here of it once it is brought in. None: it goes to another registry.
    pub fn held(&self) -> Option<Digest> {
        (!self.elsewhere).then(|| self.locked.here().clone())
    }

    /// The host that is asked first.
    pub fn host(&self) -> &Host {
        self.intake.sources().first().map_or(&self.want.image.host, |image| &image.host)
    }

    /// How many manifests it takes.
    pub fn pulls(&self) -> u64 {
        let platforms = self.locked.platforms.keys();
        let children = match self.locked.platforms.values().any(|one| *one == self.locked.digest) {
            true => 0,
            false => platforms.filter(|on| self.intake.platforms.want(on)).count(),
        };
        1 + (children + self.locked.companions.len()) as u64
    }

    /// Whether the index stays although not all of it is taken.
    fn is_sparse(&self) -> bool {
        let all = self.locked.platforms.keys().all(|on| self.intake.platforms.want(on));
        self.locked.trimmed.is_none() && !all
    }

    /// A failure of its upstream's limit as one of this image.
    pub fn not_now(&self, failure: Failure) -> Failure {
        match failure.what.is_empty() {
            true => Failure { what: format!("cannot bring in {} now", self.name()), ..failure },
            false => failure,
        }
    }

    /// Why it is not brought in while its index is locked for other platforms.
    pub fn outdated(&self) -> Failure {
        let cause = "its index is locked for other platforms than those that are wanted now";
        let remedy = "`larder intake lock` locks it anew";
        Failure::usage(format!("cannot bring in {}", self.name()), cause, remedy).ending(Exit::No)
    }

    /// What the journal says of it once it is there.
    pub fn brought(&self) -> BroughtIn {
        let mut whole = format!("{}\n", self.locked.here());
        if let Platforms::Some(list) = &self.intake.platforms {
            let mut list: Vec<String> = list.iter().map(ToString::to_string).collect();
            list.sort();
            whole += &list.join(" ");
        }
        for digest in self.locked.companions.keys() {
            whole += &format!("\n{digest}");
        }
        BroughtIn {
            digest: self.locked.here().clone(),
            to: self.to.to_string(),
            whole: Digest::of(whole.as_bytes()),
        }
    }

    /// Whether it is there with all that is wanted of it, without asking any upstream.
    ///
    /// The tag says what is there, our journal what we brought along with that. Where the journal does
    /// not know, this larder's store tells by itself: what it has recorded is complete.
    pub async fn is_there(&self, facts: &IntakeFacts<'_>) -> Result<bool, Failure> {
        let whole = self.brought();
        let brought = facts.journal.get(self.want).and_then(|known| known.brought.as_ref());
        let is_known = brought.is_some_and(|(brought, _)| *brought == whole);
        if self.elsewhere {
            if !is_known {
                return Ok(false);
            }
            let selector = Selector::Tag(self.want.tag.clone());
            let registry = facts.upstreams.registry(&self.to.host)?;
            return match registry.resolve(&self.to.repository, &selector).await {
                Ok(resolved) => Ok(resolved.digest == whole.digest),
                Err(ClientError::NotFound { .. }) => Ok(false),
                Err(error) => {
                    Err(Failure::remote(format!("cannot tell what {} has", self.to.host), &error))
                }
            };
        }
        let tag = (self.to.repository.clone(), self.want.tag.clone());
        if facts.tags.get(&tag) != Some(&whole.digest) {
            return Ok(false);
        }
        if is_known {
            return Ok(true);
        }
        self.is_held(facts.store)
            .await
            .map_err(|error| Failure::store("cannot use the larder's store", &error))
    }

    async fn is_held(&self, store: &Store) -> Result<bool, StoreError> {
        let repository = &self.to.repository;
        for (digest, companion) in &self.locked.companions {
            let selector = match &companion.tag {
                Some(tag) => Selector::Tag(tag.clone()),
                None => Selector::Digest(digest.clone()),
            };
            if !points_to(store, repository, &selector, digest).await? {
                return Ok(false);
            }
        }
        let mut open = vec![self.locked.here().clone()];
        while let Some(digest) = open.pop() {
            let found = store.manifest(repository, &Selector::Digest(digest)).await?;
            let Some((record, bytes)) = found else { return Ok(false) };
            let Ok(document) = Document::read(bytes, Some(&record.media_type)) else {
                return Ok(false);
            };
            for child in document.children() {
                // A manifest that names no platform was chosen by its configuration when it was
                // brought in.
                if child.is_wanted(&self.intake.platforms).unwrap_or(false) {
                    open.push(child.digest.clone());
                }
            }
        }
        Ok(true)
    }

    /// Where it goes.
    pub fn target(
        &self,
        store: &Store,
        upstreams: &Upstreams<'_>,
    ) -> Result<Box<dyn Target>, Failure> {
        Ok(if self.elsewhere {
            let registry = upstreams.registry(&self.to.host)?.clone();
            let remote = Remote::new(registry, self.to.repository.clone());
            Box::new(remote.remembering(store.clone(), self.to.host.clone()))
        } else {
            let own = Own::new(store.clone(), self.to.repository.clone());
            Box::new(own.holding(self.immutable.clone()))
        })
    }

    /// Brings it in: its companions first, so that nobody ever sees it unsigned. With a gate it gets its tag once that lets
    /// it through.
    pub async fn bring_in(
        &self,
        engine: &Engine,
        store: &Store,
        upstreams: &Upstreams<'_>,
        gate: Option<IntakeGate<'_>>,
    ) -> Result<MoveOutcome, StoppedUpstream> {
        if let Some(gate) = gate {
            gate.check_elsewhere(self)?;
        }
        let source = upstreams.source(self.want)?;
        let target = self.target(store, upstreams)?;
        let nothing = BTreeSet::new();
        let mut total = MoveOutcome::default();
        let order = |digest: &Digest| MoveOrder {
            source: &source,
            selector: Selector::Digest(digest.clone()),
            target: &*target,
            tag: None,
            platforms: &Platforms::All,
            leave: &nothing,
            trimmed: None,
        };
        for (digest, companion) in &self.locked.companions {
            let order = MoveOrder { tag: companion.tag.clone(), ..order(digest) };
            let moved = engine.run(&order).await.map_err(|error| {
                StoppedUpstream::new(
                    format!("cannot bring in a companion of {}", self.name()),
                    &error,
                )
            })?;
            total.add(&moved);
        }
        let whole = MoveOrder {
            tag: gate.is_none().then(|| self.want.tag.clone()),
            platforms: &self.intake.platforms,
            trimmed: self.locked.trimmed.as_ref().map(|trimmed| &trimmed.digest),
            ..order(&self.locked.digest)
        };
        let moved = engine.run(&whole).await;
        let moved = moved.map_err(|error| {
            let mut stopped = StoppedUpstream::new(format!("cannot bring in {}", self.name()), &error);
            if self.elsewhere && self.is_sparse() && stopped.why == FailureKind::Refused {
                stopped.failure.remedy = format!(
                    "{} may insist on all platforms of an index; `trim = true` gives it one with yours alone",
                    self.to.host
                );
            }
            stopped
        })?;
        total.add(&moved);
        if let Some(gate) = gate {
            gate.check(self).await?;
            // All of it is here: it only gets its tag.
            let here = Own::new(store.clone(), self.to.repository.clone());
            let order = MoveOrder {
                source: &here,
                tag: Some(self.want.tag.clone()),
                platforms: &self.intake.platforms,
                ..order(self.locked.here())
            };
            engine.run(&order).await.map_err(|error| {
                StoppedUpstream::new(format!("cannot bring in {}", self.name()), &error)
            })?;
        }
        Ok(total)
    }
}

/// Why an image did not come.
pub struct StoppedUpstream {
    pub failure: Failure,
    pub why: FailureKind,
}

/// What kind of failure it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FailureKind {
    /// A registry limits our rate, and asks to wait so long. None: it does not say.
    Limited(Option<Duration>),
    /// A registry took what we sent for wrong.
    Refused,
    Other,
}

impl StoppedUpstream {
    fn new(what: String, error: &TransferError) -> Self {
        let why = match error {
            TransferError::Client(ClientError::RateLimited { retry_after, .. }) => {
                FailureKind::Limited(*retry_after)
            }
            TransferError::Client(ClientError::Refused { status: 400..=499, .. }) => {
                FailureKind::Refused
            }
            _ => FailureKind::Other,
        };
        Self { failure: Failure::transfer(what, error), why }
    }
}

impl From<Failure> for StoppedUpstream {
    fn from(failure: Failure) -> Self {
        Self { failure, why: FailureKind::Other }
    }
}

async fn points_to(
    store: &Store,
    repository: &RepositoryName,
    selector: &Selector,
    digest: &Digest,
) -> Result<bool, StoreError> {
    let found = store.manifest_record(repository, selector).await?;
    Ok(found.is_some_and(|record| record.digest == *digest))
}
