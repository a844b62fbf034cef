//! `larder shelf drop`: take images away.

use std::collections::BTreeSet;

use larder_core::digest::{Digest, DigestError};
use larder_core::holdings::{DropPlan, Holdings, Unwanted};
use larder_core::name::{NameError, RepositoryName, Tag};
use larder_core::pattern::{Pattern, PatternError};
use larder_store::{Kind, Store};
use serde::Serialize;

use super::{House, unreadable};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{GONE, bytes, count, paint, short};
use crate::record;

/// Take images away, with what is about them
///
/// What something else still needs stays: an image under a second tag, a platform that an index lists.
/// The space is freed by `larder store collect`, after its grace time.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// SHELF/REPOSITORY:TAG, where the tag may be a pattern as `1.*`, or SHELF/REPOSITORY@DIGEST
    #[arg(required = true, value_name = "REF")]
    names: Vec<String>,
    /// Say what would go, and take nothing away
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize)]
struct Report {
    /// Whether anything was taken away.
    done: bool,
    tags: Vec<GoneTag>,
    manifests: Vec<GoneManifest>,
    kept: Vec<Kept>,
    /// What nothing uses then, in bytes.
    freed: u64,
    /// How much of it changed meanwhile, and stays.
    changed: usize,
}

#[derive(Serialize)]
struct GoneTag {
    repository: RepositoryName,
    tag: Tag,
    digest: Digest,
}

#[derive(Serialize)]
struct GoneManifest {
    repository: RepositoryName,
    digest: Digest,
}

#[derive(Serialize)]
struct Kept {
    repository: RepositoryName,
    digest: Digest,
    because: String,
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let named: Vec<Named> =
        args.names.iter().map(|name| Named::read(name, config)).collect::<Result<_, _>>()?;
    let repositories = named.iter().map(|one| one.repository.clone()).collect();
    let holdings = House::of(store, repositories).await?.holdings;
    let mut unwanted = BTreeSet::new();
    for (name, one) in args.names.iter().zip(&named) {
        let found = find(&holdings, one);
        if found.is_empty() {
            let remedy = "`larder shelf show SHELF` shows what there is";
            let cause = "the larder holds nothing under that name";
            return Err(
                Failure::usage(format!("cannot drop {name}"), cause, remedy).ending(Exit::No)
            );
        }
        unwanted.extend(found);
    }
    let plan = holdings.plan_drop(&unwanted);
    let mut report = report(&plan);
    if !context.output.json {
        say(&plan, context);
    }
    if !args.dry_run {
        let gone = plan.tags.iter().map(|(repository, tag, digest)| {
            let about = format!("{repository}:{tag}");
            record::entry(
                Kind::Delete,
                &about,
                &format!("dropped by the operator; it was {digest}"),
            )
        });
        let gone = gone.collect();
        // On a full disk the records could not be written: what is kept aside for that makes room.
        store.use_spare().await.map_err(|error| unreadable(&error))?;
        let dropped = store.drop_planned(plan).await.map_err(|error| unreadable(&error))?;
        store.keep_spare().await;
        record::note(store, gone).await.map_err(|error| unreadable(&error))?;
        report.done = true;
        report.changed = dropped.changed;
        if !context.output.json {
            context.output.result(format!(
                "dropped {} and {}; `larder store collect` frees the space",
                count(dropped.tags, "tag"),
                count(dropped.manifests, "manifest")
            ));
            if dropped.changed > 0 {
                let changed = count(dropped.changed, "of them");
                context.output.note(format!("{changed} changed meanwhile and stays"));
            }
        }
    } else if !context.output.json {
        context.output.note("nothing was taken away (--dry-run)");
    }
    let kept = !report.kept.is_empty() || report.changed > 0;
    if context.output.json {
        context.output.document(&report);
    }
    Ok(if kept { Exit::No } else { Exit::Done })
}

/// What is named to be dropped.
struct Named {
    repository: RepositoryName,
    what: What,
}

enum What {
    Tags(Pattern),
    Manifest(Digest),
}

impl Named {
    fn read(name: &str, config: &Config) -> Result<Self, Failure> {
        let what = || format!("cannot drop {name}");
        let own = format!("{}/", config.larder.url.host);
        let text = name.strip_prefix(&own).unwrap_or(name);
        let whole = || {
            let remedy = format!("name what shall go: {text}:TAG, or {text}:* for every tag");
            Failure::usage(what(), "it names a whole repository or shelf", remedy)
        };
        let wrong = |error: &dyn std::fmt::Display| {
            Failure::usage(what(), error, "write SHELF/REPOSITORY:TAG or SHELF/REPOSITORY@DIGEST")
        };
        let (repository, what) = match text.split_once('@') {
            Some((repository, digest)) => (
                repository,
                What::Manifest(digest.parse().map_err(|error: DigestError| wrong(&error))?),
            ),
            None => {
                let (repository, tag) = text.rsplit_once(':').ok_or_else(whole)?;
                let pattern = tag.parse().map_err(|error: PatternError| wrong(&error))?;
                (repository, What::Tags(pattern))
            }
        };
        let repository = repository.parse().map_err(|error: NameError| wrong(&error))?;
        Ok(Self { repository, what })
    }
}

/// What a name means.
fn find(holdings: &Holdings, named: &Named) -> Vec<Unwanted> {
    let records = holdings.records();
    let Some(number) = records.repositories.iter().position(|one| *one == named.repository) else {
        return Vec::new();
    };
    match &named.what {
        What::Manifest(digest) => {
            let found = holdings.place(number, digest);
            found.map(|_| Unwanted::Manifest(number, digest.clone())).into_iter().collect()
        }
        What::Tags(pattern) => {
            let tags = records.tags.iter().filter(|row| row.repository == number);
            let tags = tags.filter(|row| pattern.matches(row.tag.as_str()));
            tags.map(|row| Unwanted::Tag(number, row.tag.clone())).collect()
        }
    }
}

fn report(plan: &DropPlan) -> Report {
    let tags = plan.tags.iter().cloned();
    let manifests = plan.manifests.iter().cloned();
    let kept = plan.kept.iter().cloned();
    Report {
        done: false,
        tags: tags.map(|(repository, tag, digest)| GoneTag { repository, tag, digest }).collect(),
        manifests: manifests
            .map(|(repository, digest)| GoneManifest { repository, digest })
            .collect(),
        kept: kept
            .map(|(repository, digest, because)| Kept { repository, digest, because })
            .collect(),
        freed: plan.freed,
        changed: 0,
    }
}

fn say(plan: &DropPlan, context: &Context) {
    for (repository, tag, digest) in &plan.tags {
        let line = format!("- {repository}:{tag}  {}", short(digest));
        context.output.result(paint(GONE, line));
    }
    for (repository, digest, because) in &plan.kept {
        context.output.result(format!("  {repository}@{} stays: {because}", short(digest)));
    }
    context.output.result(format!(
        "{} and {} go; {} would be free",
        count(plan.tags.len(), "tag"),
        count(plan.manifests.len(), "manifest"),
        bytes(plan.freed)
    ));
}
