//! `larder shelf tidy`: apply the retention of `[[keep]]`.

use larder_core::digest::Digest;
use larder_core::holdings::HeldImages;
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::named::{self, NamedRepositories};
use super::shown::image_name;
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GONE, Output, Report, Table, bytes, count, paint, short, time};

pub mod daily;
mod keeper;
pub(in crate::commands) mod surveys;

use keeper::{Keeper, LAG, remove};

/// Show what `[[keep]]` lets go, with the reasons; with `--yes`, let it go
///
/// An image goes only when every condition of its `[[keep]]` lets it go. What the lock or a survey names, what a cluster
/// runs, and what came or was pulled within the grace never goes. The space is freed by `larder store collect`.
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// Only these shelves or repositories, also by patterns [default: all]
    #[arg(value_name = "NAME")]
    names: Vec<String>,
    /// Let it go
    #[arg(long, short, conflicts_with = "dry_run")]
    yes: bool,
    /// Say what would go, and remove nothing (the default)
    #[arg(long)]
    dry_run: bool,
    /// Say of every image why it goes or stays
    #[arg(long)]
    explain: bool,
    /// How long after it came or was pulled anything stays
    #[arg(long, value_name = "SPAN", default_value = "1d")]
    grace: Span,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct TidyReport {
    /// Whether nothing was removed.
    dry_run: bool,
    /// What goes.
    removed: Vec<TidiedImage>,
    /// With `--explain`: what stays. Empty: it was not asked.
    kept: Vec<TidiedImage>,
    /// How many images stay.
    kept_images: usize,
    /// What nothing uses then; `larder store collect` frees it. What several repositories share counts with none.
    freed_bytes: u64,
    /// Clusters of which it is not known what they run: all that they may pull stays.
    unknown_clusters: Vec<UnknownCluster>,
    /// How many of the images changed meanwhile, and stay.
    changed: usize,
}

/// What becomes of an image.
#[derive(Serialize, JsonSchema, Clone)]
struct TidiedImage {
    #[schemars(with = "String")]
    repository: RepositoryName,
    /// null: a manifest without a tag.
    #[schemars(with = "Option<String>")]
    tag: Option<Tag>,
    #[schemars(with = "String")]
    digest: Digest,
    pulled_at: Option<String>,
    because: String,
    /// The `[[keep]]` that decided, as FILE:LINE. null: none is about it.
    rule: Option<String>,
}

#[derive(Serialize, JsonSchema)]
struct UnknownCluster {
    cluster: String,
    /// When something was last learned of what it runs. null: never.
    known_at: Option<String>,
}

impl TidiedImage {
    fn name(&self) -> String {
        image_name(&self.repository, self.tag.as_ref(), &self.digest)
    }
}

impl Report for TidyReport {
    const KIND: &'static str = "shelf-tidy";

    fn show(&self, out: &Output) {
        let mut table = Table::new(out.width(), &["IMAGE", "DIGEST", "BECAUSE", "RULE"])
            .sparing(&["DIGEST", "RULE"]);
        let all = self.removed.iter().map(|one| (one, true));
        for (one, goes) in all.chain(self.kept.iter().map(|one| (one, false))) {
            let because = match goes {
                true => paint(GONE, format!("goes: {}", one.because)),
                false => paint(DIM, format!("stays: {}", one.because)),
            };
            let rule = one.rule.clone().unwrap_or_default();
            table.row([one.name(), short(&one.digest).to_owned(), because, rule]);
        }
        if !self.removed.is_empty() || !self.kept.is_empty() {
            out.table(&table);
        }
        let goes = count(self.removed.len(), "image");
        let stay = |number| {
            format!("{} {}", count(number, "image"), if number == 1 { "stays" } else { "stay" })
        };
        let stays = stay(self.kept_images);
        let freed = bytes(self.freed_bytes);
        out.result(match (self.removed.is_empty(), self.dry_run) {
            (true, _) => format!("nothing goes; {stays}"),
            (false, true) => format!("{goes} would go and {stays}; {freed} would be free"),
            (false, false) => format!("{goes} gone; `larder store collect` frees {freed}"),
        });
        for UnknownCluster { cluster, known_at } in &self.unknown_clusters {
            let since = match known_at {
                Some(at) => format!("nothing was learned of it since {at}"),
                None => "nothing was learned of it yet".to_owned(),
            };
            out.note(format!("{cluster}: {since}; all that it may pull counts as in use"));
        }
        if self.changed > 0 {
            out.note(format!("changed meanwhile: {}", stay(self.changed)));
        }
        if self.dry_run && !self.removed.is_empty() {
            out.note("nothing was removed; `--yes` does it");
        }
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot tidy the shelves";
    if config.keeps.is_empty() {
        let cause = "larder.toml has no [[keep]], so everything stays";
        let remedy = "write [[keep]] with `match` and `newest`, `unpulled` or `untagged`";
        return Err(Failure::usage(what, cause, remedy));
    }
    let whole = args.names.is_empty();
    let names = named::or_everything(&args.names);
    let keeper = Keeper::new(config, store, args.grace).await?;
    let mut report = TidyReport { dry_run: !args.yes, ..TidyReport::default() };
    report.unknown_clusters.extend(keeper.unknown.iter().map(|known| UnknownCluster {
        cluster: known.cluster.clone(),
        known_at: known.at.map(time),
    }));
    let progress = context.output.progress();
    let mut going = Vec::new();
    for text in &names {
        let pattern = named::read(text, config, what)?;
        if *pattern.images() != HeldImages::All {
            let cause =
                format!("{pattern} names images, and a [[keep]] decides over whole repositories");
            let remedy =
                "name a shelf or a repository; `larder shelf drop` takes single images away";
            return Err(Failure::usage(what, cause, remedy));
        }
        let mut repositories = NamedRepositories::new(store, &pattern, true);
        let mut found = false;
        while let Some(page) = repositories.next().await? {
            for name in page {
                found = true;
                let asked = args.explain || keeper.retention.rule_for(&name).is_some();
                if !asked || config.cached_shelf(name.first_component()).is_some() {
                    continue;
                }
                progress.say(name.to_string());
                let tidied = keeper.look(&name, store).await?;
                report.kept_images += tidied.kept.len();
                if args.explain {
                    report.kept.extend(tidied.kept);
                }
                if !tidied.going.is_empty() {
                    report.freed_bytes += tidied.plan.freed;
                    if args.yes {
                        going.push((name, tidied.going));
                    } else {
                        report.removed.extend(tidied.going);
                    }
                }
            }
        }
        if !found && !args.names.is_empty() {
            let cause = format!("the larder holds nothing under {pattern}");
            let remedy = "`larder shelf list` shows what there is";
            return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
        }
    }
    if args.yes && !going.is_empty() {
        progress.say("looking again");
        tokio::time::sleep(LAG).await;
        remove(&going, args.grace, config, store, &mut report).await?;
    }
    if args.yes && whole {
        daily::agree(config, store).await?;
    }
    progress.done();
    context.output.tell(&report);
    Ok(Exit::Done)
}
