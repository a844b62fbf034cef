//! What the upstreams say of the wanted images now.

use std::collections::{BTreeMap, HashMap};

use futures_util::stream::{self, StreamExt as _};
use larder_client::{ClientError, Registry, ResolvedTag};
use larder_core::digest::Digest;
use larder_core::lock::{Lock, Want};
use larder_core::name::{Host, Tag};
use larder_core::reference::Image;
use larder_store::{IntakeEvent, Store};
use larder_transfer::{Remote, Several};

use crate::config::{Config, Intake};
use crate::context::now;
use crate::failure::Failure;

/// Questions to upstreams that are open at once.
const AT_ONCE: usize = 32;

/// Why a wanted tag has no digest now.
#[derive(Debug, Clone)]
pub enum UnresolvedTag {
    /// The upstream was asked and has it not.
    Gone(Failure),
    /// The upstream could not be asked, or refused.
    Failed(Failure),
}

impl UnresolvedTag {
    /// The failure in any case.
    pub fn failure(&self) -> &Failure {
        match self {
            Self::Gone(failure) | Self::Failed(failure) => failure,
        }
    }
}

/// What the wanted tags resolve to.
pub type Answers = BTreeMap<Want, Result<ResolvedTag, UnresolvedTag>>;

/// The clients of all registries that an intake speaks to, each set up once.
pub struct Upstreams<'c> {
    config: &'c Config,
    registries: HashMap<Host, Result<Registry, Failure>>,
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
        Self { config, registries }
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
    pub fn source(&self, image: &Image) -> Result<Several, Failure> {
        let places = self.places(image)?.into_iter().map(|(image, registry)| {
            let remote = Remote::new(registry.clone(), image.repository);
            Box::new(remote) as Box<dyn larder_transfer::Source>
        });
        Ok(Several::new(places.collect()))
    }

    /// Which tags are wanted now, with what each resolves to. Whatever cannot be told is a failure
    /// of that image alone.
    pub async fn ask(&self, intake: &[&Intake], lock: &Lock) -> Answers {
        let entries = stream::iter(intake.iter().copied())
            .map(|intake| self.wants(intake, lock))
            .buffer_unordered(AT_ONCE)
            .collect::<Vec<_>>()
            .await;
        stream::iter(entries.into_iter().flatten())
            .map(|(want, failure)| async move {
                let answer = match failure {
                    Some(failure) => Err(UnresolvedTag::Failed(failure)),
                    None => self.resolve(&want).await,
                };
                (want, answer)
            })
            .buffer_unordered(AT_ONCE)
            .collect()
            .await
    }

    /// The tags that an entry wants. Where the upstream's list is needed and cannot be fetched, those
    /// that are locked stay wanted.
    async fn wants(&self, intake: &Intake, lock: &Lock) -> Vec<(Want, Option<Failure>)> {
        let image = intake.image.get_ref();
        let want = |tag: Tag| Want { image: image.clone(), tag };
        if !intake.tags.need_listing() {
            return intake.tags.select(&[]).into_iter().map(|tag| (want(tag), None)).collect();
        }
        match self.tags(image).await {
            Ok(listed) => {
                intake.tags.select(&listed).into_iter().map(|tag| (want(tag), None)).collect()
            }
            Err(failure) => {
                let known = lock.of_image(image).filter(|(tag, _)| intake.tags.want(tag));
                known.map(|(tag, _)| (want(tag.clone()), Some(failure.clone()))).collect()
            }
        }
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
    let events = answers.iter().map(|(want, answer)| {
        let event = match answer {
            Ok(resolved) => IntakeEvent::Seen(resolved.digest.clone()),
            Err(unresolved) => IntakeEvent::Unresolved(unresolved.failure().cause.clone()),
        };
        (want.clone(), event)
    });
    let noted = store.note_intake(events.collect(), now()).await;
    noted.map_err(|error| Failure::store("cannot note what the upstreams said", &error))
}
