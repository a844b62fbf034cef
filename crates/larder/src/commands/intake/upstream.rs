//! What the upstreams say of the wanted images now.

use std::collections::{BTreeMap, HashMap};

use futures_util::stream::{self, StreamExt as _};
use larder_client::{ClientError, Registry, Resolved};
use larder_core::lock::{Lock, Want};
use larder_core::name::{Host, Tag};
use larder_core::reference::Selector;

use crate::config::{Config, Intake};
use crate::failure::Failure;

/// Questions to upstreams that are open at once.
const AT_ONCE: usize = 32;

/// Why a wanted tag has no digest now.
#[derive(Debug, Clone)]
pub enum Unresolved {
    /// The upstream was asked and has it not.
    Gone(Failure),
    /// The upstream could not be asked, or refused.
    Failed(Failure),
}

impl Unresolved {
    /// The failure in any case.
    pub fn failure(self) -> Failure {
        match self {
            Self::Gone(failure) | Self::Failed(failure) => failure,
        }
    }
}

/// The upstreams' clients, each set up once.
pub struct Upstreams {
    registries: HashMap<Host, Result<Registry, Failure>>,
}

impl Upstreams {
    /// Sets up the clients of all wanted images.
    pub fn new(config: &Config) -> Self {
        let mut registries = HashMap::new();
        for intake in &config.intake {
            let host = &intake.image.get_ref().host;
            if !registries.contains_key(host) {
                registries.insert(host.clone(), config.registry(host));
            }
        }
        Self { registries }
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

    /// Which tags are wanted now, with what each resolves to. Whatever cannot be told is a failure
    /// of that image alone.
    pub async fn ask(
        &self,
        intake: &[&Intake],
        lock: &Lock,
    ) -> BTreeMap<Want, Result<Resolved, Unresolved>> {
        let entries = stream::iter(intake.iter().copied())
            .map(|intake| self.wants(intake, lock))
            .buffer_unordered(AT_ONCE)
            .collect::<Vec<_>>()
            .await;
        stream::iter(entries.into_iter().flatten())
            .map(|(want, failure)| async move {
                let answer = match failure {
                    Some(failure) => Err(Unresolved::Failed(failure)),
                    None => self.resolve(&want).await,
                };
                (want, answer)
            })
            .buffer_unordered(AT_ONCE)
            .collect()
            .await
    }

    /// The tags that an entry wants. Where the upstream's list is needed and cannot be had, those
    /// that are locked stay wanted.
    async fn wants(&self, intake: &Intake, lock: &Lock) -> Vec<(Want, Option<Failure>)> {
        let image = intake.image.get_ref();
        let want = |tag: Tag| Want { image: image.clone(), tag };
        if !intake.tags.need_listing() {
            return intake.tags.select(&[]).into_iter().map(|tag| (want(tag), None)).collect();
        }
        let listed = match self.registry(&image.host) {
            Ok(registry) => registry.tags(&image.repository).await.map_err(|error| {
                Failure::remote(format!("cannot list the tags of {image}"), &error)
            }),
            Err(failure) => Err(failure),
        };
        match listed {
            Ok(listed) => {
                intake.tags.select(&listed).into_iter().map(|tag| (want(tag), None)).collect()
            }
            Err(failure) => {
                let known = lock.of_image(image).filter(|(tag, _)| intake.tags.want(tag));
                known.map(|(tag, _)| (want(tag.clone()), Some(failure.clone()))).collect()
            }
        }
    }

    async fn resolve(&self, want: &Want) -> Result<Resolved, Unresolved> {
        let registry = self.registry(&want.image.host).map_err(Unresolved::Failed)?;
        let selector = Selector::Tag(want.tag.clone());
        registry.resolve(&want.image.repository, &selector).await.map_err(|error| {
            let failure =
                Failure::remote(format!("cannot resolve {}:{}", want.image, want.tag), &error);
            match error {
                ClientError::NotFound { .. } => Unresolved::Gone(failure),
                _ => Unresolved::Failed(failure),
            }
        })
    }
}
