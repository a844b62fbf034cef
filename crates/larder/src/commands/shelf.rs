//! `larder shelf`: what is stored.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::document::{CONFIG_LIMIT, Document, ImageConfig, Kind};
use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_store::{HeldTag, Store, StoreError};
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, now, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Table, ago, bytes, count, short};

/// What can be asked of shelves.
#[derive(Debug, clap::Subcommand)]
pub enum Command {
    /// List the shelves and what each holds
    List,
    /// Show the images of a shelf or a repository
    Show(ShowArgs),
}

#[derive(Debug, clap::Args)]
pub struct ShowArgs {
    /// A shelf, a repository on it, or one of its tags or digests: `vendor`, `vendor/kettle:2`
    name: String,
}

pub async fn run(command: Command, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_if_any(&config)?;
    match command {
        Command::List => list(&config, store.as_ref(), context).await,
        Command::Show(args) => show(&args, &config, store.as_ref(), context).await,
    }
}

fn unreadable(error: &StoreError) -> Failure {
    Failure::store("cannot tell what the larder holds", error)
}

#[derive(Serialize, Default)]
struct Shelf {
    name: String,
    repositories: usize,
    tags: usize,
    /// The sizes of all distinct images together, in bytes; layers that several share count for each.
    content: u64,
    /// When a tag was last set. None: never.
    since: Option<String>,
    #[serde(skip)]
    changed: Option<i64>,
}

async fn list(config: &Config, store: Option<&Store>, context: &Context) -> Outcome {
    let held = match store {
        Some(store) => store.ledger.held(None).await.map_err(|error| unreadable(&error))?,
        None => Vec::new(),
    };
    let mut shelves: BTreeMap<String, Shelf> = config
        .storing_shelves()
        .into_iter()
        .map(|name| (name.clone(), Shelf { name, ..Shelf::default() }))
        .collect();
    let mut repositories: BTreeSet<&RepositoryName> = BTreeSet::new();
    let mut images = BTreeSet::new();
    for one in &held {
        let name = one.repository.first_component().to_owned();
        let shelf =
            shelves.entry(name.clone()).or_insert_with(|| Shelf { name, ..Shelf::default() });
        shelf.tags += 1;
        shelf.repositories += usize::from(repositories.insert(&one.repository));
        if images.insert((&one.repository, &one.manifest.digest)) {
            shelf.content += one.content;
        }
        shelf.changed = shelf.changed.max(Some(one.since));
        shelf.since = shelf.changed.map(crate::output::time);
    }
    if context.output.json {
        context.output.document(&shelves.values().collect::<Vec<_>>());
        return Ok(Exit::Done);
    }
    if shelves.is_empty() {
        context.output.result(
            "there are no shelves; an intake entry or a [[shelf]] in larder.toml makes one",
        );
        return Ok(Exit::Done);
    }
    let mut table = Table::new(
        context.output.width(),
        &["SHELF", "REPOSITORIES", "TAGS", "SIZE", "LAST CHANGE"],
    );
    for shelf in shelves.values() {
        table.row([
            shelf.name.clone(),
            shelf.repositories.to_string(),
            shelf.tags.to_string(),
            bytes(shelf.content),
            shelf.changed.map_or_else(|| "never".to_owned(), |since| ago(since, now())),
        ]);
    }
    context.output.result(table.text());
    Ok(Exit::Done)
}

#[derive(Serialize)]
struct Shown {
    repository: RepositoryName,
    tag: Tag,
    digest: larder_core::digest::Digest,
    media_type: String,
    /// Platforms that are there.
    platforms: Vec<Platform>,
    /// Platforms that the index names and that were not brought in.
    absent: Vec<Platform>,
    content: u64,
    /// When the tag was set.
    since: String,
    #[serde(skip)]
    age: String,
}

async fn show(
    args: &ShowArgs,
    config: &Config,
    store: Option<&Store>,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot show {}", args.name);
    let own = format!("{}/", config.larder.url.host);
    let name = args.name.strip_prefix(&own).unwrap_or(&args.name);
    let (repository, wanted) = match name.split_once(['@', ':']) {
        Some((repository, wanted)) => (repository, Some(wanted)),
        None => (name, None),
    };
    let wrong = |error: larder_core::name::NameError| {
        let remedy =
            "write SHELF, SHELF/REPOSITORY, SHELF/REPOSITORY:TAG or SHELF/REPOSITORY@DIGEST";
        Failure::usage(what(), error, remedy)
    };
    let repository: RepositoryName = repository.parse().map_err(wrong)?;
    let wanted: Option<Selector> = wanted.map(str::parse).transpose().map_err(wrong)?;
    let mut held: Vec<HeldTag> = match store {
        Some(store) => {
            store.ledger.held(Some(&repository)).await.map_err(|error| unreadable(&error))?
        }
        None => Vec::new(),
    };
    held.retain(|one| match &wanted {
        None => true,
        Some(Selector::Tag(tag)) => one.tag == *tag,
        Some(Selector::Digest(digest)) => one.manifest.digest == *digest,
    });
    let (Some(store), false) = (store, held.is_empty()) else {
        let declared = wanted.is_none()
            && config.storing_shelves().iter().any(|shelf| shelf == repository.as_str());
        if declared {
            if context.output.json {
                context.output.document(&[(); 0]);
            } else {
                context.output.result(format!("{repository} is empty"));
            }
            return Ok(Exit::Done);
        }
        let remedy = "`larder shelf list` shows what there is";
        return Err(Failure::usage(what(), "the larder holds nothing under that name", remedy)
            .ending(Exit::No));
    };
    let mut shown = Vec::new();
    for one in held {
        let (platforms, absent) =
            platforms(store, &one).await.map_err(|error| unreadable(&error))?;
        shown.push(Shown {
            platforms,
            absent,
            content: one.content,
            since: crate::output::time(one.since),
            age: ago(one.since, now()),
            repository: one.repository,
            tag: one.tag,
            digest: one.manifest.digest,
            media_type: one.manifest.media_type,
        });
    }
    if context.output.json {
        context.output.document(&shown);
        return Ok(Exit::Done);
    }
    let mut table =
        Table::new(context.output.width(), &["IMAGE", "DIGEST", "PLATFORMS", "SIZE", "SINCE"]);
    for one in &shown {
        let mut platforms: Vec<String> = one.platforms.iter().map(ToString::to_string).collect();
        platforms.extend(one.absent.iter().map(|platform| format!("({platform})")));
        table.row([
            format!("{}:{}", one.repository, one.tag),
            short(&one.digest).to_owned(),
            platforms.join(" "),
            bytes(one.content),
            one.age.clone(),
        ]);
    }
    context.output.result(table.text());
    if shown.iter().any(|one| !one.absent.is_empty()) {
        context
            .output
            .note("Platforms in brackets are named by the index and were not brought in.");
    }
    context.output.note(count(shown.len(), "tag"));
    Ok(Exit::Done)
}

/// The platforms of an image that are there, and those that its index names and that are not.
async fn platforms(
    store: &Store,
    one: &HeldTag,
) -> Result<(Vec<Platform>, Vec<Platform>), StoreError> {
    let bytes = store.read_all(&one.manifest.digest, one.manifest.size).await?;
    let (mut there, mut absent) = (Vec::new(), Vec::new());
    let Ok(document) = Document::read(bytes, Some(&one.manifest.media_type)) else {
        return Ok((there, absent));
    };
    match &document.kind {
        Kind::Index(children) => {
            for child in children {
                let Some(platform) = child.platform().filter(|platform| !platform.is_unknown())
                else {
                    continue;
                };
                let selector = Selector::Digest(child.digest.clone());
                let held = store.ledger.manifest(&one.repository, &selector).await?.is_some();
                if held { there.push(platform) } else { absent.push(platform) }
            }
        }
        Kind::Manifest { config, .. } if config.size <= CONFIG_LIMIT as u64 => {
            let bytes = store.read_all(&config.digest, config.size).await?;
            there.extend(ImageConfig::read(&bytes).ok().and_then(|config| config.platform()));
        }
        Kind::Manifest { .. } => {}
    }
    Ok((there, absent))
}
