//! Images that a text names at a registry or in this larder, also by patterns, and the ends of their moves.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use larder_client::{ClientError, Registry};
use larder_core::digest::Digest;
use larder_core::holdings::{HeldImages, HeldPattern};
use larder_core::name::{Host, RepositoryName, Tag};
use larder_core::reference::Reference;
use larder_store::Store;
use larder_transfer::{Own, Remote, Source, Target};

use crate::config::Config;
use crate::context::{own, store_here, with_whole_digest};
use crate::failure::{Exit, Failure};

/// The most repositories of a registry that a pattern is held against.
const REPOSITORIES: usize = 100_000;
/// The most images that one call moves.
const MOST: usize = 100_000;

/// What names images: `HOST/REPOSITORY:TAG`, of which repository and tag may be patterns.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedImages {
    pub host: Host,
    pub pattern: HeldPattern,
}

/// One of the images that were named.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct FoundImage {
    pub image: Reference,
    /// Its repository without the parts that the text writes out before the first wildcard.
    pub rest: RepositoryName,
}

/// Whether a text names several images by a pattern.
pub fn is_pattern(text: &str) -> bool {
    text.contains(['*', '?', '[', '{'])
}

impl NamedImages {
    /// Reads a text. Without a host it is about this larder, where its first part is a shelf.
    pub fn read(text: &str, config: &Config, what: &str) -> Result<Self, Failure> {
        let (first, rest) = text.split_once('/').unwrap_or((text, ""));
        let is_host = first.contains(['.', ':']) || first == "localhost";
        let host = match first.parse::<Host>() {
            Ok(host) if is_host && !rest.is_empty() => Some(host),
            _ => None,
        };
        let own = config.larder.url.host.clone();
        let (host, pattern) = host.map_or((own, text), |host| (host, rest));
        let pattern = pattern.parse().map_err(|error| {
            let remedy = "write HOST/REPOSITORY:TAG; repository and tag may be patterns";
            Failure::usage(format!("{what}: {}", text.escape_debug()), error, remedy)
        })?;
        Ok(Self { host, pattern })
    }
}

/// The registries and the store at which images are found, read and written; each is opened once.
pub struct Ends<'c> {
    config: &'c Config,
    store: Option<Store>,
    registries: Mutex<HashMap<(Host, Option<String>), Registry>>,
    /// The `[[upstream]]` whose login is shown to the host that is written to. None: the usual one.
    account: Option<String>,
}

impl<'c> Ends<'c> {
    pub fn new(config: &'c Config, account: Option<String>) -> Result<Self, Failure> {
        let is_here = config.new_store || crate::context::has_store(config)?;
        let store = if is_here { Some(crate::context::open_store(config)?) } else { None };
        if let Some(name) = &account
            && config.upstream_named(name).is_none()
        {
            let known = config.upstreams.iter().map(|one| one.name.get_ref().as_str());
            let near = larder_core::nearest::nearest(name, known);
            let remedy = near.map_or_else(
                || "`--account` names an [[upstream]] of larder.toml".to_owned(),
                |near| format!("did you mean {near}?"),
            );
            let cause = format!("no [[upstream]] is named {name}");
            return Err(Failure::usage("cannot choose a login", cause, remedy));
        }
        Ok(Self { config, store, registries: Mutex::default(), account })
    }

    /// The store on this machine, where a host is this larder.
    pub fn own_store(&self, host: &Host) -> Option<&Store> {
        self.store.as_ref().filter(|_| self.config.larder.has_name(host))
    }

    /// The store with this larder's record. None: it is not here.
    pub fn record(&self) -> Option<(&Store, &Config)> {
        self.store.as_ref().map(|store| (store, self.config))
    }

    fn registry(
        &self,
        host: &Host,
        to: Option<&RepositoryName>,
        writes: bool,
    ) -> Result<Registry, Failure> {
        let account = self.account.as_deref().filter(|_| writes);
        let upstream = match account {
            Some(name) => self.config.upstream_named(name),
            None => self.config.upstream_for(host, to),
        };
        let name = upstream.map(|upstream| upstream.name.get_ref().clone());
        let mut registries = self.registries.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(known) = registries.get(&(host.clone(), name.clone())) {
            return Ok(known.clone());
        }
        if let Some(upstream) = upstream.filter(|upstream| upstream.host != *host) {
            let cause = format!("[[upstream]] {} is of {}", upstream.name.get_ref(), upstream.host);
            let remedy = format!("name one of {host}");
            return Err(Failure::usage(format!("cannot sign in to {host}"), cause, remedy));
        }
        let registry = self.config.registry_as(host, upstream)?;
        registries.insert((host.clone(), name), registry.clone());
        Ok(registry)
    }

    /// All images that a text names, sorted.
    pub async fn named(&self, named: &NamedImages) -> Result<Vec<FoundImage>, Failure> {
        if let Some(repository) = named.pattern.repository()
            && let Some(tag) = written_out(named.pattern.images())
        {
            // What is written out is not looked for: whether it is there is told when it is read.
            let (host, repository) = (named.host.clone(), repository.clone());
            let rest = rest(&repository, &named.pattern);
            let image = Reference { host, repository, tag: Some(tag), digest: None };
            return Ok(vec![FoundImage { image, rest }]);
        }
        let mut found = Vec::new();
        for repository in self.repositories(named).await? {
            let rest = rest(&repository, &named.pattern);
            match named.pattern.images() {
                HeldImages::Manifest(start) => {
                    let text = format!("{}/{repository}@{start}", named.host);
                    let whole = with_whole_digest(&text, Some(self.config)).await?;
                    let image = crate::context::reference(&whole, Some(self.config))?;
                    found.push(FoundImage { image, rest });
                }
                images => {
                    let wanted = |tag: &Tag| match images {
                        HeldImages::Tags(pattern) => pattern.matches(tag.as_str()),
                        _ => true,
                    };
                    for tag in self.tags(&named.host, &repository).await? {
                        // What is made from the digest of an image goes with it.
                        if !wanted(&tag) || larder_core::companion::is_made_from_digest(&tag) {
                            continue;
                        }
                        let (host, repository) = (named.host.clone(), repository.clone());
                        let image = Reference { host, repository, tag: Some(tag), digest: None };
                        found.push(FoundImage { image, rest: rest.clone() });
                        if found.len() > MOST {
                            let cause = format!("it names more than {MOST} images");
                            return Err(Failure::usage("cannot list them", cause, "name fewer"));
                        }
                    }
                }
            }
        }
        found.sort();
        Ok(found)
    }

    /// The repositories that a text names, as the registry lists them.
    pub async fn repositories(&self, named: &NamedImages) -> Result<Vec<RepositoryName>, Failure> {
        let NamedImages { host, pattern } = named;
        if let Some(one) = pattern.repository() {
            return Ok(vec![one.clone()]);
        }
        let what = || format!("cannot list the repositories of {host}");
        if let Some(store) = self.own_store(host) {
            let mut all = Vec::new();
            let mut pages = crate::commands::NamedRepositories::new(store, pattern, false);
            while let Some(page) = pages.next().await? {
                all.extend(page);
            }
            return Ok(all);
        }
        let registry = self.registry(host, pattern.below().as_ref(), false)?;
        let listed = registry.repositories(REPOSITORIES).await;
        match listed.map_err(|error| Failure::remote(what(), &error))? {
            Some(all) => Ok(all.into_iter().filter(|name| pattern.has_repository(name)).collect()),
            None => {
                let cause = "it has no list of its repositories; the standard asks for none";
                let remedy = "write the repositories out, one a line, and read them with `-`";
                Err(Failure::usage(what(), cause, remedy).ending(Exit::Remote))
            }
        }
    }

    async fn tags(&self, host: &Host, repository: &RepositoryName) -> Result<Vec<Tag>, Failure> {
        let what = || format!("cannot list the tags of {host}/{repository}");
        if let Some(store) = self.own_store(host) {
            let mut all: Vec<Tag> = Vec::new();
            loop {
                let page = store.tags(repository, all.last(), 10_000).await;
                match page.map_err(|error| Failure::store(what(), &error))? {
                    Some(page) if !page.is_empty() => all.extend(page),
                    _ => return Ok(all),
                }
            }
        }
        let tags = self.registry(host, Some(repository), false)?.tags(repository).await;
        tags.map_err(|error| Failure::remote(what(), &error))
    }

    /// An image to read from.
    pub fn source(&self, image: &Reference) -> Result<Box<dyn Source>, Failure> {
        let repository = image.repository.clone();
        Ok(match self.own_store(&image.host) {
            Some(store) => Box::new(Own::new(store.clone(), repository)),
            None => Box::new(Remote::new(
                self.registry(&image.host, Some(&repository), false)?,
                repository,
            )),
        })
    }

    /// Where an image goes.
    pub fn target(&self, from: &Reference, to: &Reference) -> Result<Box<dyn Target>, Failure> {
        let repository = to.repository.clone();
        if let Some(store) = self.own_store(&to.host) {
            self.config.check_shelf(format!("cannot copy to {to}"), &repository)?;
            return Ok(Box::new(own(store.clone(), self.config, repository)));
        }
        if self.config.larder.has_name(&to.host) && self.store.is_none() {
            store_here(self.config)?;
        }
        let remote = Remote::new(self.registry(&to.host, Some(&repository), true)?, repository);
        Ok(match from.host == to.host {
            true => Box::new(remote.beside(from.repository.clone())),
            false => Box::new(remote),
        })
    }

    /// What a name points to where images go. None: nothing is there.
    pub async fn digest_at(&self, to: &Reference) -> Result<Option<Digest>, Failure> {
        let what = || format!("cannot tell what {to} is");
        let selector = to.selector();
        if let Some(store) = self.own_store(&to.host) {
            let found = store.manifest_record(&to.repository, &selector).await;
            let found = found.map_err(|error| Failure::store(what(), &error))?;
            return Ok(found.map(|found| found.digest));
        }
        let registry = self.registry(&to.host, Some(&to.repository), true)?;
        match registry.resolve(&to.repository, &selector).await {
            Ok(found) => Ok(Some(found.digest)),
            Err(ClientError::NotFound { .. }) => Ok(None),
            Err(error) => Err(Failure::remote(what(), &error)),
        }
    }
}

/// The tag that a text writes out; without one it is the usual one, as in references. None: a pattern or a digest
/// stands there.
fn written_out(images: &HeldImages) -> Option<Tag> {
    match images {
        HeldImages::All => Some(Tag::latest()),
        HeldImages::Tags(tags) => tags.as_str().parse().ok(),
        HeldImages::Manifest(_) => None,
    }
}

/// A repository without the parts that are written out before the first wildcard; at least its last part.
fn rest(repository: &RepositoryName, pattern: &HeldPattern) -> RepositoryName {
    let last = || {
        let name = repository.as_str();
        name.rsplit_once('/').map_or(name, |(_, last)| last).parse().ok()
    };
    let below = match pattern.repository() {
        Some(_) => None,
        None => Some(pattern.below().map_or(String::new(), |below| format!("{below}/"))),
    };
    let rest = below.and_then(|below| repository.as_str().strip_prefix(&below)?.parse().ok());
    rest.or_else(last).unwrap_or_else(|| repository.clone())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_out_before_the_wildcard_is_left_behind() {
        for (pattern, repository, expected) in [
            ("dev/**", "dev/team/app", "team/app"),
            ("dev/team/*", "dev/team/app", "app"),
            ("dev/team/app", "dev/team/app", "app"),
            ("dev/team/app:1.*", "dev/team/app", "app"),
            ("**", "dev/team/app", "dev/team/app"),
            ("d*/app", "dev/app", "dev/app"),
        ] {
            let pattern: HeldPattern = pattern.parse().unwrap();
            let repository: RepositoryName = repository.parse().unwrap();
            assert_eq!(rest(&repository, &pattern).as_str(), expected);
        }
    }
}
