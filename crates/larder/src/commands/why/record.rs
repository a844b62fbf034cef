//! Is it there, asked as somebody who may see? The larder's own store and records; upstreams only when
//! told to, with the configured credentials.

use std::time::Duration;

use larder_client::{ClientError, NotThere, Registry};
use larder_core::diagnosis::{ContentAccess, Evidence, NameEvidence, Record};
use larder_core::lock::Want;
use larder_core::name::{RepositoryName, Tag};
use larder_core::nearest::nearest;
use larder_core::reference::{Reference, Selector, Unqualified};
use larder_store::{Filter, RecordKind, Store, now};

use super::ask::PullInquiry;
use crate::config::Config;
use crate::failure::Failure;
use crate::output::ago;

/// Names that are told of those that there are.
const TOLD: usize = 5;
/// Names that are looked through for a near one.
const LOOKED: usize = 10_000;

/// The digest that a tag should have: the lock's. None: the lock does not name it.
pub(super) fn expected(asker: &PullInquiry<'_>, reference: &Reference) -> Option<String> {
    if reference.digest.is_some() {
        return None;
    }
    let court = asker.court()?;
    let tag = reference.tag.clone().unwrap_or_else(Tag::latest);
    let own = court.routes().locked_digest(reference, &court.lock);
    let theirs = || {
        let want = Want { image: reference.image(), tag };
        court.lock.entries.get(&want).map(|locked| locked.digest.clone())
    };
    own.or_else(theirs).map(|digest| digest.to_string())
}

/// Looks. None: nobody could.
pub(super) async fn of(
    asker: &PullInquiry<'_>,
    reference: &Reference,
    here: Option<&Reference>,
    evidence: &Evidence,
) -> Result<Option<Record>, Failure> {
    let Some(config) = asker.config() else { return Ok(None) };
    if let Some(here) = here {
        let access = ours(asker, config, here).await?;
        if let Some(access) = access {
            let by = "the larder's own store".into();
            return Ok(Some(Record { by, at_upstream: false, access }));
        }
    }
    if !asker.args().online {
        return Ok(None);
    }
    let asked = origin(config, reference, here, evidence).unwrap_or_else(|| reference.clone());
    let patience = asker.args().patience.0;
    Ok(upstream(config, &asked, patience).await)
}

/// What an image is called at its upstream. None: it is the larder's, and nothing brings it in.
pub(super) fn origin(
    config: &Config,
    reference: &Reference,
    here: Option<&Reference>,
    evidence: &Evidence,
) -> Option<Reference> {
    if let Some(here) = here {
        let image = config.routes().origins().of_image(&here.image());
        if let Some(image) = image {
            return Some(image.with(reference.tag.clone(), reference.digest.clone()));
        }
        if here.image() == reference.image() {
            return None;
        }
    }
    // A short name is looked for where larder.toml means it.
    match &evidence.name {
        Some(NameEvidence::Reads { here: Some(here), .. }) => {
            Reference::read(here, &Unqualified::default()).ok().map(|one| one.reference)
        }
        _ => Some(reference.clone()),
    }
}

/// What the store and its records say. None: the upstream of a cached shelf knows better.
async fn ours(
    asker: &PullInquiry<'_>,
    config: &Config,
    here: &Reference,
) -> Result<Option<ContentAccess>, Failure> {
    let failed = |error| Failure::store("cannot tell what the larder holds", &error);
    let shelf = here.repository.first_component();
    let selector = here.selector();
    if let Some((_, caching)) = config.cached_shelf(shelf) {
        let path = here.repository.as_str().split_once('/').map(|(_, path)| path);
        let path: Option<RepositoryName> = path.and_then(|path| path.parse().ok());
        if let Some(Err(outside)) = path.as_ref().map(|path| caching.habits.reach.check(path)) {
            let told = format!("the cached shelf {shelf} {outside}, and not {}", here.repository);
            return Ok(Some(ContentAccess::OutsideShelf(told)));
        }
        let held = match asker.store() {
            Some(store) => {
                store.manifest_record(&here.repository, &selector).await.map_err(failed)?
            }
            None => None,
        };
        return Ok(held.map(|_| ContentAccess::There));
    }
    let shelves = config.storing_shelves();
    if !shelves.is_empty() && !shelves.iter().any(|one| one == shelf) {
        return Ok(Some(ContentAccess::NoShelf(shelves)));
    }
    let Some(store) = asker.store() else { return Ok(None) };
    if store.manifest_record(&here.repository, &selector).await.map_err(failed)?.is_some() {
        return Ok(Some(ContentAccess::There));
    }
    if let Some(removed) = removed(store, here).await? {
        return Ok(Some(ContentAccess::Removed(removed)));
    }
    let locked = asker.court().and_then(|court| court.routes().locked_digest(here, &court.lock));
    let is_locked = locked.is_some_and(|digest| match &selector {
        Selector::Tag(_) => true,
        Selector::Digest(wanted) => *wanted == digest,
    });
    if is_locked {
        return Ok(Some(ContentAccess::NotBroughtIn));
    }
    let tags = store.tags(&here.repository, None, LOOKED).await.map_err(failed)?;
    Ok(Some(match (tags, &selector) {
        (None, _) => {
            let all = store.repositories(None, LOOKED).await.map_err(failed)?;
            let names: Vec<String> = all.iter().map(ToString::to_string).collect();
            let near = near(here.repository.as_str(), &names);
            ContentAccess::NoRepository(near)
        }
        (Some(_), Selector::Digest(_)) => ContentAccess::NoDigest,
        (Some(tags), Selector::Tag(tag)) => ContentAccess::NoTag(near_tags(tag, &tags)),
    }))
}

/// Who removed it, and when. None: nobody did, or it is not recorded any more.
async fn removed(store: &Store, here: &Reference) -> Result<Option<String>, Failure> {
    let filter = Filter {
        kinds: vec![RecordKind::Delete],
        about: Some(here.repository.to_string()),
        limit: Some(200),
        ..Filter::default()
    };
    let entries = store.entries(filter).await;
    let entries = entries.map_err(|error| Failure::store("cannot read the record", &error))?;
    let selector = here.selector().to_string();
    let about = |text: &str| {
        [format!("{}:{selector}", here.repository), format!("{}@{selector}", here.repository)]
            .iter()
            .any(|name| text.starts_with(name.as_str()))
    };
    let found = entries
        .iter()
        .rev()
        .find(|entry| entry.reference.as_deref().is_some_and(about) || about(&entry.text));
    Ok(found.map(|entry| {
        let who = if entry.who.is_empty() { "the operator" } else { entry.who.as_str() };
        format!("removed {} by {who} (number {})", ago(entry.last, now()), entry.number)
    }))
}

/// The near name, else some.
fn near(typed: &str, known: &[String]) -> Vec<String> {
    let names = known.iter().map(String::as_str);
    if let Some(near) = nearest(typed, names.clone()) {
        return vec![near.to_owned()];
    }
    // The same last part on another shelf.
    let last = typed.rsplit('/').next().unwrap_or(typed);
    let same = names.filter(|name| name.rsplit('/').next() == Some(last));
    same.take(TOLD).map(str::to_owned).collect()
}

fn near_tags(typed: &Tag, known: &[Tag]) -> Vec<String> {
    let names: Vec<String> = known.iter().map(ToString::to_string).collect();
    let mut told: Vec<String> = nearest(typed.as_str(), names.iter().map(String::as_str))
        .map(str::to_owned)
        .into_iter()
        .collect();
    for name in names.iter().rev() {
        if told.len() < TOLD && !told.contains(name) {
            told.push(name.clone());
        }
    }
    told
}

/// What an upstream says to the configured account. None: it says nothing that can be relied on.
async fn upstream(config: &Config, asked: &Reference, patience: Duration) -> Option<Record> {
    let registry = config.registry(&asked.host).ok()?;
    let by = format!("{}, asked with the configured account", asked.host);
    let access = match registry.resolve(&asked.repository, &asked.selector()).await {
        Ok(_) => ContentAccess::There,
        Err(ClientError::NotFound { wanted: NotThere::Repository(_), .. }) => {
            ContentAccess::NoRepository(
                near_repositories(&registry, &asked.repository, patience).await,
            )
        }
        Err(ClientError::NotFound { .. }) => {
            match (registry.tags(&asked.repository).await, asked.selector()) {
                (Ok(_), Selector::Digest(_)) => ContentAccess::NoDigest,
                (Ok(tags), Selector::Tag(tag)) => ContentAccess::NoTag(near_tags(&tag, &tags)),
                (Err(ClientError::NotFound { .. }), _) => ContentAccess::NoRepository(
                    near_repositories(&registry, &asked.repository, patience).await,
                ),
                (Err(_), _) => return None,
            }
        }
        Err(_) => return None,
    };
    Some(Record { by, at_upstream: true, access })
}

/// The near names of an upstream. Many keep the list to themselves: then there are none to tell.
async fn near_repositories(
    registry: &Registry,
    typed: &RepositoryName,
    patience: Duration,
) -> Vec<String> {
    let listed = tokio::time::timeout(patience, registry.repositories(LOOKED)).await;
    let known = listed.ok().and_then(Result::ok).flatten().unwrap_or_default();
    let names: Vec<String> = known.iter().map(ToString::to_string).collect();
    near(typed.as_str(), &names)
}

/// A record in a line, and whether it says that the image is there.
pub(super) fn told(record: &Record) -> (bool, String) {
    let by = &record.by;
    match &record.access {
        ContentAccess::There => (true, format!("it is there ({by})")),
        ContentAccess::NoRepository(near) if near.is_empty() => {
            (false, format!("there is no such repository ({by})"))
        }
        ContentAccess::NoRepository(near) => {
            (false, format!("there is no such repository ({by}); there is {}", near.join(", ")))
        }
        ContentAccess::NoTag(tags) => {
            (false, format!("there is no such tag ({by}); its tags: {}", tags.join(", ")))
        }
        ContentAccess::NoDigest => (false, format!("there is no such digest ({by})")),
        ContentAccess::Removed(how) => (false, how.clone()),
        ContentAccess::NotBroughtIn => (false, "it is locked, and was not brought in yet".into()),
        ContentAccess::NoShelf(shelves) => {
            (false, format!("there is no such shelf; the shelves: {}", shelves.join(", ")))
        }
        ContentAccess::OutsideShelf(why) => (false, why.clone()),
    }
}
