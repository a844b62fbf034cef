//! `larder shelf drop`: take images away.

use std::collections::BTreeSet;

use larder_core::digest::{Digest, DigestError, DigestStart, DigestStartError};
use larder_core::holdings::{DropPlan, Holdings, Unwanted};
use larder_core::name::{NameError, RepositoryName, Tag};
use larder_core::pattern::{Pattern, PatternError};
use larder_store::{Kind, Store};
use schemars::JsonSchema;
use serde::Serialize;

use super::{House, unreadable};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::files::with_stdin;
use crate::output::{GONE, Output, Report, bytes, count, paint, short};
use crate::record;

/// Take images away, with what is about them
///
/// What something else still needs stays: an image under a second tag, a platform that an index lists.
/// The space is freed by `larder store collect`, after its grace time.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// SHELF/REPOSITORY:TAG, where the tag may be a pattern as `1.*`, or SHELF/REPOSITORY@DIGEST, where the digest may be
    /// as short as it is shown; `-` reads them from stdin, one a line
    #[arg(required = true, value_name = "REF")]
    names: Vec<String>,
    /// Say what would go, and remove nothing
    #[arg(long)]
    dry_run: bool,
    /// Do not ask
    #[arg(long, short, conflicts_with = "dry_run")]
    yes: bool,
}

/// Tags that are named where it is asked whether to go on.
const NAMED: usize = 10;

#[derive(Serialize, JsonSchema)]
pub struct DropReport {
    /// Whether anything was removed.
    done: bool,
    tags: Vec<DroppedTag>,
    manifests: Vec<DroppedManifest>,
    kept: Vec<KeptManifest>,
    /// What nothing uses then; `larder store collect` frees it.
    freed_bytes: u64,
    /// How much of it changed meanwhile, and stays.
    changed: usize,
}

#[derive(Serialize, JsonSchema)]
struct DroppedTag {
    #[schemars(with = "String")]
    repository: RepositoryName,
    #[schemars(with = "String")]
    tag: Tag,
    #[schemars(with = "String")]
    digest: Digest,
}

#[derive(Serialize, JsonSchema)]
struct DroppedManifest {
    #[schemars(with = "String")]
    repository: RepositoryName,
    #[schemars(with = "String")]
    digest: Digest,
}

/// A manifest that is named and stays.
#[derive(Serialize, JsonSchema)]
struct KeptManifest {
    #[schemars(with = "String")]
    repository: RepositoryName,
    #[schemars(with = "String")]
    digest: Digest,
    because: String,
}

impl Report for DropReport {
    const KIND: &'static str = "shelf-drop";

    fn show(&self, out: &Output) {
        for DroppedTag { repository, tag, digest } in &self.tags {
            out.result(paint(GONE, format!("- {repository}:{tag}  {}", short(digest))));
        }
        for KeptManifest { repository, digest, because } in &self.kept {
            out.result(format!("  {repository}@{} stays: {because}", short(digest)));
        }
        let (tags, manifests) =
            (count(self.tags.len(), "tag"), count(self.manifests.len(), "manifest"));
        let freed = bytes(self.freed_bytes);
        if self.done {
            out.result(format!(
                "dropped {tags} and {manifests}; `larder store collect` frees {freed}"
            ));
        } else {
            out.result(format!("{tags} and {manifests} go; {freed} would be free"));
            out.note("nothing was removed (--dry-run)");
        }
        if self.changed > 0 {
            out.note(format!("{} changed meanwhile and stays", count(self.changed, "of them")));
        }
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let names = with_stdin(&args.names);
    let names = names.map_err(|error| Failure::io("cannot read the names from stdin", &error))?;
    let named: Vec<Named> =
        names.iter().map(|name| Named::read(name, config)).collect::<Result<_, _>>()?;
    let repositories = named.iter().map(|one| one.repository.clone()).collect();
    let holdings = House::of(store, repositories).await?.holdings;
    let mut unwanted = BTreeSet::new();
    for (name, one) in names.iter().zip(&named) {
        let found = find(&holdings, one).map_err(|error| {
            let remedy = "`larder shelf show SHELF --untagged` shows what there is";
            Failure::usage(format!("cannot drop {name}"), error, remedy).ending(Exit::No)
        })?;
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
    if !args.dry_run && !args.yes {
        let (tags, manifests) = (plan.tags.len(), plan.manifests.len());
        let named = plan.tags.iter().take(NAMED).map(|(name, tag, _)| format!("{name}:{tag}"));
        let more = if tags > NAMED { ", …" } else { "" };
        let named = named.collect::<Vec<_>>().join(", ");
        let counts = format!("{} and {}", count(tags, "tag"), count(manifests, "manifest"));
        let what = format!("{counts} go ({named}{more})");
        context.output.confirm("cannot drop them", &what)?;
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
    }
    context.output.tell(&report);
    let kept = !report.kept.is_empty() || report.changed > 0;
    Ok(if kept { Exit::No } else { Exit::Done })
}

/// What is named to be dropped.
struct Named {
    repository: RepositoryName,
    what: What,
}

enum What {
    Tags(Pattern),
    Manifest(DigestStart),
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
fn find(holdings: &Holdings, named: &Named) -> Result<Vec<Unwanted>, DigestStartError> {
    let records = holdings.records();
    let Some(number) = records.repositories.iter().position(|one| *one == named.repository) else {
        return Ok(Vec::new());
    };
    match &named.what {
        What::Manifest(digest) => {
            let here = records.manifests.iter().filter(|row| row.repository == number);
            let digest = digest.only_of(here.map(|row| &row.digest))?;
            Ok(vec![Unwanted::Manifest(number, digest)])
        }
        What::Tags(pattern) => {
            let tags = records.tags.iter().filter(|row| row.repository == number);
            let tags = tags.filter(|row| pattern.matches(row.tag.as_str()));
            Ok(tags.map(|row| Unwanted::Tag(number, row.tag.clone())).collect())
        }
    }
}

fn report(plan: &DropPlan) -> DropReport {
    let tags = plan.tags.iter().cloned();
    let manifests = plan.manifests.iter().cloned();
    let kept = plan.kept.iter().cloned();
    DropReport {
        done: false,
        tags: tags
            .map(|(repository, tag, digest)| DroppedTag { repository, tag, digest })
            .collect(),
        manifests: manifests
            .map(|(repository, digest)| DroppedManifest { repository, digest })
            .collect(),
        kept: kept
            .map(|(repository, digest, because)| KeptManifest { repository, digest, because })
            .collect(),
        freed_bytes: plan.freed,
        changed: 0,
    }
}
