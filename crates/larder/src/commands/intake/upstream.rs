//! What the upstreams say of the wanted images now.

use std::collections::{BTreeMap, HashMap};

use futures_util::stream::{self, StreamExt as _};
use larder_client::{ClientError, Registry, ResolvedTag};
use larder_core::digest::Digest;
use larder_core::lock::{Lock, Want};
use larder_core::name::{Host, Tag};
use larder_core::platform::{self, Platform};
use larder_core::reference::Image;
use larder_store::{IntakeEvent, Store};
use larder_transfer::{Remote, Several};
use tokio::sync::Semaphore;

use crate::config::{Config, Intake};
use crate::context::now;
use crate::failure::{Exit, Failure};

/// Questions to upstreams that are open at once.
const AT_ONCE: usize = 32;
/// Tags of one image that are passed over, before we look no further back.
const PASSED_OVER: usize = 50;

/// Why a wanted tag has no digest now.
#[derive(Debug, Clone)]
pub enum UnresolvedTag {
    /// The upstream was asked and has it not.
    Gone(Failure),
    /// The upstream could not be asked, or refused.
    Failed(Failure),
    /// It is there, and not for all wanted platforms.
    Lacks(LackingTag),
}

/// A tag that is not made for all wanted platforms.
#[derive(Debug, Clone)]
pub struct LackingTag {
    pub digest: Digest,
    /// Which it lacks.
    pub lacks: Vec<Platform>,
    /// Whether it is wanted by its name.
    pub named: bool,
    pub failure: Failure,
}

/// What tells whether a tag is made for all wanted platforms.
pub trait Judge {
    /// Those that it lacks; none where that cannot be told now.
    async fn lacks(&self, want: &Want, intake: &Intake, resolved: &ResolvedTag) -> Vec<Platform>;
}

/// What the lock knows, without asking anybody.
pub struct LockJudge<'l>(pub &'l Lock);

impl LockJudge<'_> {
    /// Those that it lacks; what is locked lacks none. None: the lock does not know this digest.
    pub fn known(&self, want: &Want, intake: &Intake, digest: &Digest) -> Option<Vec<Platform>> {
        if self.0.entries.get(want).is_some_and(|known| known.digest == *digest) {
            return Some(Vec::new());
        }
        let passed = self.0.passed_over.get(want).filter(|passed| passed.digest == *digest)?;
        passed.is_lacking(&intake.platforms).then(|| passed.lacks.clone())
    }
}

impl Judge for LockJudge<'_> {
    async fn lacks(&self, want: &Want, intake: &Intake, resolved: &ResolvedTag) -> Vec<Platform> {
        self.known(want, intake, &resolved.digest).unwrap_or_default()
    }
}

impl UnresolvedTag {
    /// The failure in any case.
    pub fn failure(&self) -> &Failure {
        match self {
            Self::Gone(failure) | Self::Failed(failure) => failure,
            Self::Lacks(lacking) => &lacking.failure,
        }
    }
}

/// What the wanted tags resolve to.
pub type Answers = BTreeMap<Want, Result<ResolvedTag, UnresolvedTag>>;

/// What the upstreams say of the entries that were asked for.
pub struct Asked {
    pub answers: Answers,
    /// Images whose tags are chosen by a rule, could not be listed, and of which none is locked: no
    /// answer tells of them.
    pub unlisted: BTreeMap<Image, Failure>,
}

/// The clients of all registries that an intake speaks to, each set up once.
pub struct Upstreams<'c> {
    config: &'c Config,
    registries: HashMap<Host, Result<Registry, Failure>>,
    /// Who may ask for a tag now.
    turns: Semaphore,
}

impl<'c> Upstreams<'c> {
    /// Sets up the clients of all wanted images and of where they go.
    pub fn new(config: &'c Config) -> Self {
        let mut registries = HashMap::new();
        let images = config.intake.iter().flat_map(Intake::sources);
        let named = config.intake.iter().map(|intake| intake.image.get_ref());
        let hosts = images.chain(named).map(|image| image.host.clone());
        let targets = config.intake.iter().map(|intake| config.destination(intake).host);
        for host in hosts.chain(targets) {
            if host != config.larder.url.host && !registries.contains_key(&host) {
                let registry = config.registry(&host);
                registries.insert(host, registry);
            }
        }
        Self { config, registries, turns: Semaphore::new(AT_ONCE) }
    }

    /// The client of a host.
    pub fn registry(&self, host: &Host) -> Result<&Registry, Failure> {
        match self.registries.get(host) {
            Some(Ok(registry)) => Ok(registry),
            Some(Err(failure)) => Err(failure.clone()),
            None => Err(Failure::usage(
                format!("cannot speak to {host}"),
                "no intake entry names it",
                "",
            )),
        }
    }

    /// Where an image's content is fetched, in this order, with the clients to do so.
    pub fn places(&self, image: &Image) -> Result<Vec<(Image, &Registry)>, Failure> {
        let intake = self.config.intake.iter().find(|intake| intake.image.get_ref() == image);
        let sources = intake.map_or(std::slice::from_ref(image), Intake::sources);
        sources.iter().map(|place| Ok((place.clone(), self.registry(&place.host)?))).collect()
    }

    /// An image's content, from any place that has it.
    pub fn source(&self, want: &Want) -> Result<Several, Failure> {
        let places = self.places(&want.image)?.into_iter().map(|(image, registry)| {
            registry.expect(&image.repository, &want.tag);
            let remote = Remote::new(registry.clone(), image.repository);
            Box::new(remote) as Box<dyn larder_transfer::Source>
        });
        Ok(Several::new(places.collect()))
    }

    /// Which tags are wanted now, with what each resolves to. Whatever cannot be told is a failure
    /// of that image alone.
    pub async fn ask(&self, intake: &[&Intake], lock: &Lock, judge: &impl Judge) -> Asked {
        let entries = stream::iter(intake.iter().copied())
            .map(|intake| self.wanted(intake, lock, judge))
            .buffer_unordered(AT_ONCE)
            .collect::<Vec<_>>()
            .await;
        let mut asked = Asked { answers: Answers::new(), unlisted: BTreeMap::new() };
        for (answers, unlisted) in entries {
            asked.answers.extend(answers);
            asked.unlisted.extend(unlisted);
        }
        asked
    }

    /// The tags that an entry wants, with what each resolves to. One that lacks a wanted platform
    /// makes room for the next, unless what is locked under it stands in for it. Where the upstream's
    /// list is needed and cannot be fetched, those that are locked stay wanted.
    async fn wanted(
        &self,
        intake: &Intake,
        lock: &Lock,
        judge: &impl Judge,
    ) -> (Answers, Option<(Image, Failure)>) {
        let image = intake.image.get_ref();
        let want = |tag: &Tag| Want { image: image.clone(), tag: tag.clone() };
        let listed = match intake.tags.need_listing() {
            true => self.tags(image).await,
            false => Ok(Vec::new()),
        };
        let listed = match listed {
            Ok(listed) => listed,
            Err(failure) => {
                let known = lock.of_image(image).filter(|(tag, _)| intake.tags.want(tag));
                let failed = |(tag, _)| (want(tag), Err(UnresolvedTag::Failed(failure.clone())));
                let known: Answers = known.map(failed).collect();
                let untold = known.is_empty().then(|| (image.clone(), failure.clone()));
                return (known, untold);
            }
        };
        let mut answers = Answers::new();
        let mut lacking = BTreeMap::new();
        loop {
            let chosen = intake.tags.select_without(&listed, &lacking);
            let fresh = chosen.iter().map(want).filter(|want| !answers.contains_key(want));
            let fresh: Vec<Want> = fresh.collect();
            if fresh.is_empty() || lacking.len() >= PASSED_OVER {
                return (answers, None);
            }
            let fresh: Vec<_> = stream::iter(fresh)
                .map(|want| async move {
                    let answer = self.judged(&want, intake, judge).await;
                    (want, answer)
                })
                .buffer_unordered(AT_ONCE)
                .collect()
                .await;
            for (want, answer) in fresh {
                let stands_in = lock.entries.get(&want);
                let stands_in =
                    stands_in.is_some_and(|known| known.lacks(&intake.platforms).is_empty());
                if let (Err(UnresolvedTag::Lacks(found)), false) = (&answer, stands_in) {
                    lacking.insert(want.tag.clone(), found.lacks.clone());
                }
                answers.insert(want, answer);
            }
        }
    }

    /// What a tag resolves to, if that has all that is wanted.
    async fn judged(
        &self,
        want: &Want,
        intake: &Intake,
        judge: &impl Judge,
    ) -> Result<ResolvedTag, UnresolvedTag> {
        let _turn = self.turns.acquire().await;
        let resolved = self.resolve(want).await?;
        let lacks = judge.lacks(want, intake, &resolved).await;
        if lacks.is_empty() {
            return Ok(resolved);
        }
        let named = !intake.tags.need_listing();
        let failure = lacking(want, &lacks);
        Err(UnresolvedTag::Lacks(LackingTag { digest: resolved.digest, lacks, named, failure }))
    }

    /// All tags of an image, from the first of its places that lists them.
    pub async fn tags(&self, image: &Image) -> Result<Vec<Tag>, Failure> {
        let mut met = Vec::new();
        for (place, registry) in self.places(image)? {
            match registry.tags(&place.repository).await {
                Ok(tags) => return Ok(tags),
                Err(error) => met.push(error),
            }
        }
        Err(together(format!("cannot list the tags of {image}"), &met))
    }

    async fn resolve(&self, want: &Want) -> Result<ResolvedTag, UnresolvedTag> {
        let places = self.places(&want.image).map_err(UnresolvedTag::Failed)?;
        let selector = want.selector();
        let mut met = Vec::new();
        for (place, registry) in places {
            match registry.resolve(&place.repository, &selector).await {
                Ok(resolved) => return Ok(resolved),
                Err(error) => met.push(error),
            }
        }
        let failure = together(format!("cannot resolve {want}"), &met);
        if met.iter().all(|error| matches!(error, ClientError::NotFound { .. })) {
            Err(UnresolvedTag::Gone(failure))
        } else {
            Err(UnresolvedTag::Failed(failure))
        }
    }

    /// The places that have another digest under the tag than the one that counts. Nothing is said
    /// of those that cannot be asked: others stand in for them.
    pub async fn other_digests(&self, want: &Want, counts: &Digest) -> Vec<(Image, Digest)> {
        let Ok(places) = self.places(&want.image) else { return Vec::new() };
        if places.len() < 2 {
            return Vec::new();
        }
        let selector = want.selector();
        let mut others = Vec::new();
        for (place, registry) in places {
            if let Ok(resolved) = registry.resolve(&place.repository, &selector).await
                && resolved.digest != *counts
            {
                others.push((place, resolved.digest));
            }
        }
        others
    }
}

/// The failure of a tag that is not made for all wanted platforms.
fn lacking(want: &Want, lacks: &[Platform]) -> Failure {
    let cause = format!("it is not made for {}", platform::listed(lacks));
    let remedy = format!(
        "`platforms` of its entry says what is wanted; `larder look {want}` shows what there is"
    );
    Failure::usage(format!("cannot lock {want}"), cause, remedy).ending(Exit::No)
}

/// One failure for what each of an image's places met.
fn together(what: String, met: &[ClientError]) -> Failure {
    let Some(first) = met.first() else {
        return Failure::usage(what, "there is no place to ask", "");
    };
    let cause: Vec<String> = met.iter().map(ToString::to_string).collect();
    Failure { cause: cause.join("; then "), ..Failure::remote(what, first) }
}

/// Notes in the journal what the upstreams said.
pub async fn note(store: &Store, answers: &Answers) -> Result<(), Failure> {
    // What was passed over is nobody's wish: the lock tells of it.
    let wanted = answers.iter().filter(|(_, answer)| match answer {
        Err(UnresolvedTag::Lacks(lacking)) => lacking.named,
        _ => true,
    });
    let events = wanted.map(|(want, answer)| {
        let event = match answer {
            Ok(resolved) => IntakeEvent::Seen(resolved.digest.clone()),
            Err(unresolved) => IntakeEvent::Unresolved(unresolved.failure().cause.clone()),
        };
        (want.clone(), event)
    });
    let noted = store.note_intake(events.collect(), now()).await;
    noted.map_err(|error| Failure::store("cannot note what the upstreams said", &error))
}
