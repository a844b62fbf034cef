//! `larder shelf drop`: take images away.

use std::collections::BTreeSet;

use larder_core::digest::{Digest, DigestStartError};
use larder_core::holdings::{DropPlan, DropTarget, HeldImages, HeldPattern, Holdings};
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::shown::shown;
use larder_store::{RecordKind, Store};
use larder_transfer::files::with_stdin;
use schemars::JsonSchema;
use serde::Serialize;

use super::known_use::{KnownUse, STRANGER, UseWish, UsesBy};
use super::named::{self, NamedRepositories};
use super::{House, unreadable};
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{GONE, Output, Report, WARN, ago, bytes, count, paint, short, time};
use crate::record;

/// Take images away, with what is about them
///
/// What something else still needs stays: an image under a second tag, a platform that an index lists.
/// The space is freed by `larder store collect`, after its grace time.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// SHELF/REPOSITORY:TAG, where both may be patterns as `vendor/**:1.*`, or SHELF/REPOSITORY@DIGEST, where the digest
    /// may be as short as it is shown; `-` reads them from stdin, one a line
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
    /// Whether nothing was removed.
    dry_run: bool,
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
    /// Who was seen to use it within `in_use` of `[larder]`, the last first: a cluster, CLUSTER/NAMESPACE, an account.
    users: Vec<DroppedUser>,
}

/// Who uses what is dropped.
#[derive(Serialize, JsonSchema)]
struct DroppedUser {
    /// null: nobody signed in.
    who: Option<String>,
    /// Its kind and name, `Deployment/turbine`. null: that is not known.
    workload: Option<String>,
    used_at: String,
    #[serde(skip)]
    last: i64,
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
        for DroppedTag { repository, tag, digest, users } in &self.tags {
            out.result(paint(GONE, format!("- {repository}:{tag}  {}", short(digest))));
            let used = |user: &DroppedUser| {
                let who = user.who.as_deref().unwrap_or(STRANGER);
                let workload = user.workload.as_ref().map(|one| format!(" ({})", shown(one)));
                let workload = workload.unwrap_or_default();
                format!("    used by {who}{workload}, last {}", ago(user.last, now()))
            };
            let mut told: Vec<String> = users.iter().map(used).collect();
            told.dedup();
            for used in told {
                out.result(paint(WARN, used));
            }
        }
        for KeptManifest { repository, digest, because } in &self.kept {
            out.result(format!("  {repository}@{} stays: {because}", short(digest)));
        }
        let (tags, manifests) =
            (count(self.tags.len(), "tag"), count(self.manifests.len(), "manifest"));
        let freed = bytes(self.freed_bytes);
        if self.dry_run {
            out.result(format!("{tags} and {manifests} go; {freed} would be free"));
            out.note("nothing was removed (--dry-run)");
        } else {
            out.result(format!(
                "dropped {tags} and {manifests}; `larder store collect` frees {freed}"
            ));
        }
        if self.changed > 0 {
            out.note(format!("{} changed meanwhile and stays", count(self.changed, "of them")));
        }
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let names = with_stdin(&args.names);
    let names = names.map_err(|error| Failure::io("cannot read the names from stdin", &error))?;
    let mut patterns = Vec::new();
    let mut repositories = BTreeSet::new();
    for name in &names {
        let what = format!("cannot drop {name}");
        let pattern = named::read(name, config, &what)?;
        if *pattern.images() == HeldImages::All {
            let all = match name.contains('/') {
                true => pattern.to_string(),
                false => format!("{pattern}/**"),
            };
            let remedy = format!("name what shall go: {all}:TAG, or {all}:* for every tag");
            return Err(Failure::usage(what, "it names a whole repository or shelf", remedy));
        }
        let mut some = NamedRepositories::new(store, &pattern, false);
        while let Some(page) = some.next().await? {
            repositories.extend(page);
        }
        patterns.push((what, pattern));
    }
    let holdings = House::of(store, repositories.into_iter().collect()).await?.holdings;
    let mut unwanted = BTreeSet::new();
    for (what, pattern) in patterns {
        let found = find(&holdings, &pattern).map_err(|error| {
            let remedy = "`larder shelf show SHELF --untagged` shows what there is";
            Failure::usage(what.clone(), error, remedy).ending(Exit::No)
        })?;
        if found.is_empty() {
            let remedy = "`larder shelf show SHELF` shows what there is";
            let cause = "the larder holds nothing under that name";
            return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
        }
        unwanted.extend(found);
    }
    let plan = holdings.plan_drop(&unwanted);
    let known =
        KnownUse::read(config, store, Some(Span(config.larder.in_use)), UseWish::Everything)
            .await?;
    let mut report = report(&plan, &holdings, &known);
    if !args.dry_run && !args.yes {
        let (tags, manifests) = (plan.tags.len(), plan.manifests.len());
        let named = plan.tags.iter().take(NAMED).map(|(name, tag, _)| format!("{name}:{tag}"));
        let more = if tags > NAMED { ", …" } else { "" };
        let named = named.collect::<Vec<_>>().join(", ");
        let counts = format!("{} and {}", count(tags, "tag"), count(manifests, "manifest"));
        let users: BTreeSet<&str> = report
            .tags
            .iter()
            .flat_map(|tag| &tag.users)
            .map(|user| user.who.as_deref().unwrap_or(STRANGER))
            .collect();
        let hurt = match users.is_empty() {
            true => String::new(),
            false => format!(", used by {}", users.into_iter().collect::<Vec<_>>().join(", ")),
        };
        let what = format!("{counts} go ({named}{more}){hurt}");
        context.output.confirm("cannot drop them", &what)?;
    }
    if !args.dry_run {
        let gone = plan.tags.iter().map(|(repository, tag, digest)| {
            let about = format!("{repository}:{tag}");
            record::entry(
                RecordKind::Delete,
                &about,
                &format!("dropped by the operator; it was {digest}"),
            )
        });
        let gone = gone.collect();
        // On a full disk the records could not be written: what is kept aside for that makes room.
        store.use_spare().await.map_err(|error| unreadable(&error))?;
        let dropped = store.drop_planned(plan, gone).await.map_err(|error| unreadable(&error))?;
        store.keep_spare().await;
        report.dry_run = false;
        report.changed = dropped.changed;
    }
    context.output.tell(&report);
    let kept = !report.kept.is_empty() || report.changed > 0;
    Ok(if kept { Exit::No } else { Exit::Done })
}

/// What of some repositories a text names.
fn find(
    holdings: &Holdings,
    pattern: &HeldPattern,
) -> Result<BTreeSet<DropTarget>, DigestStartError> {
    let records = holdings.records();
    let repositories = records.repositories.iter().enumerate();
    let named: BTreeSet<usize> = repositories
        .filter(|(_, name)| pattern.has_repository(name))
        .map(|(number, _)| number)
        .collect();
    if let HeldImages::Manifest(start) = pattern.images() {
        let rows = || records.manifests.iter().filter(|row| named.contains(&row.repository));
        let digest = start.only_of(rows().map(|row| &row.digest))?;
        let those = rows().filter(|row| row.digest == digest);
        return Ok(those.map(|row| DropTarget::Manifest(row.repository, digest.clone())).collect());
    }
    let tags = records.tags.iter().filter(|row| named.contains(&row.repository));
    let tags = tags.filter(|row| match pattern.images() {
        HeldImages::Tags(tags) => tags.matches(row.tag.as_str()),
        _ => false,
    });
    Ok(tags.map(|row| DropTarget::Tag(row.repository, row.tag.clone())).collect())
}

fn report(plan: &DropPlan, holdings: &Holdings, known: &KnownUse) -> DropReport {
    let records = holdings.records();
    let users = |repository: &RepositoryName, digest: &Digest, tag: &Tag| -> Vec<DroppedUser> {
        let number = records.repositories.iter().position(|name| name == repository);
        let Some(place) = number.and_then(|number| holdings.place(number, digest)) else {
            return Vec::new();
        };
        let parts = holdings.children(place).iter().chain([&place]);
        let contents: Vec<&Digest> = parts.map(|part| &records.manifests[*part].digest).collect();
        let uses = known.all.get(repository).map(Vec::as_slice).unwrap_or_default();
        let users = UsesBy::of(uses).users(contents, Some(tag)).into_iter();
        let users = users.map(|user| DroppedUser {
            who: user.who.map(str::to_owned),
            workload: user.workload.map(str::to_owned),
            used_at: time(user.last),
            last: user.last,
        });
        users.collect()
    };
    let tags = plan.tags.iter().cloned();
    let manifests = plan.manifests.iter().cloned();
    let kept = plan.kept.iter().cloned();
    DropReport {
        dry_run: true,
        tags: tags
            .map(|(repository, tag, digest)| {
                let users = users(&repository, &digest, &tag);
                DroppedTag { repository, tag, digest, users }
            })
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
