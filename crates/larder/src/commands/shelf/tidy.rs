//! `larder shelf tidy`: apply the retention of `[[keep]]`.

use std::collections::BTreeSet;
use std::time::Duration;

use larder_core::companion::{is_beside, is_made_from_digest, list_tag};
use larder_core::digest::Digest;
use larder_core::holdings::{DropPlan, DropTarget, HeldImages};
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::retention::{
    ClusterUse, Fate, GoesBecause, HeldImage, InUse, KeepRule, KnownAt, Retention, StaysBecause,
};
use larder_store::{RecordKind, Store};
use schemars::JsonSchema;
use serde::Serialize;

use super::known_use::{KnownUse, may_pull};
use super::named::{self, NamedRepositories};
use super::shown::image_name;
use super::{House, unreadable};
use crate::config::Config;
use crate::context::{Context, now, read_lock};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GONE, Output, Report, Table, bytes, count, paint, short, time};
use crate::record;

mod surveys;

use surveys::Named;

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

/// Pulls are written down after they were answered, by each process for itself, each second: what goes was let go by
/// two looks at the records that are so long apart.
const LAG: Duration = Duration::from_secs(3);

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
        let stays = count(self.kept_images, "image");
        let freed = bytes(self.freed_bytes);
        out.result(match (self.removed.is_empty(), self.dry_run) {
            (true, _) => format!("nothing goes; {stays} stay"),
            (false, true) => format!("{goes} would go and {stays} stay; {freed} would be free"),
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
            out.note(format!("{} changed meanwhile and stay", count(self.changed, "image")));
        }
        if self.dry_run && !self.removed.is_empty() {
            out.note("nothing was removed; `--yes` does it");
        }
    }
}

/// What decides over all images.
struct Keeper<'c> {
    config: &'c Config,
    retention: Retention,
    uses: ClusterUse,
    unknown: Vec<KnownAt>,
    named: Named,
    grace: Span,
    now: i64,
}

impl<'c> Keeper<'c> {
    async fn new(config: &'c Config, store: &Store, grace: Span) -> Result<Self, Failure> {
        let now = now();
        let within = Span(config.larder.in_use);
        let known = KnownUse::read(config, store, Some(within)).await?;
        let unknown = known.clusters.unknown(now, within);
        let uses = known.clusters;
        let rules = config.keeps.iter().map(|keep| keep.rule.clone()).collect();
        let named = Named::read(config, &read_lock(config)?)?;
        Ok(Self { config, retention: Retention { rules }, uses, unknown, named, grace, now })
    }

    /// Decides over one repository.
    fn judge(
        &self,
        rule: &KeepRule,
        name: &RepositoryName,
        house: &House,
    ) -> Vec<(HeldImage, Fate)> {
        let records = house.holdings.records();
        let mut images = Vec::new();
        for (place, row) in records.manifests.iter().enumerate() {
            // What is pulled of an index are its images.
            let parts = house.holdings.children(place).iter().chain([&place]);
            let pulled = parts.filter_map(|part| house.used(*part)).map(|used| used.last).max();
            let image = |tag, since| HeldImage { tag, digest: row.digest.clone(), since, pulled };
            let tags = house.holdings.tags_of(place);
            images.extend(tags.map(|tag| (place, image(Some(tag.tag.clone()), tag.since))));
            if house.holdings.stands_alone(place) {
                images.push((place, image(None, row.added)));
            }
        }
        let unknown: Vec<(KnownAt, bool)> = self
            .unknown
            .iter()
            .map(|known| (known.clone(), may_pull(self.config, &known.cluster, name)))
            .collect();
        let within = Span(self.config.larder.in_use);
        let places: std::collections::HashMap<Digest, usize> =
            images.iter().map(|(place, image)| (image.digest.clone(), *place)).collect();
        let uses = |image: &HeldImage| -> Option<InUse> {
            if let Some(named) = self.named.of(name, image) {
                return Some(named);
            }
            let place = places.get(&image.digest)?;
            let parts = house.holdings.children(*place).iter().chain([place]);
            let contents = parts.map(|part| &records.manifests[*part].digest);
            self.uses.of_image(name, contents, image.tag.as_ref(), &unknown, self.now, within)
        };
        let images: Vec<HeldImage> = images.into_iter().map(|(_, image)| image).collect();
        let fates = rule.judge(&images, &uses, self.now, self.grace);
        images.into_iter().zip(fates).collect()
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot tidy the shelves";
    if config.keeps.is_empty() {
        let cause = "larder.toml has no [[keep]], so everything stays";
        let remedy = "write [[keep]] with `match` and `newest`, `unpulled` or `untagged`";
        return Err(Failure::usage(what, cause, remedy));
    }
    let names = match args.names.as_slice() {
        [] => vec!["**".to_owned()],
        names => names.to_vec(),
    };
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
                    report.removed.extend(tidied.going.iter().cloned());
                    going.push((name, tidied.going));
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
        remove(&going, args, config, store, &mut report).await?;
    }
    progress.done();
    context.output.tell(&report);
    Ok(Exit::Done)
}

/// What becomes of the images of a repository.
struct TidiedRepository {
    going: Vec<TidiedImage>,
    kept: Vec<TidiedImage>,
    plan: DropPlan,
}

impl Keeper<'_> {
    /// Looks at a repository and decides.
    async fn look(
        &self,
        name: &RepositoryName,
        store: &Store,
    ) -> Result<TidiedRepository, Failure> {
        let rule = self.retention.rule_for(name);
        let house = House::of(store, vec![name.clone()]).await?;
        let nobody = KeepRule::default();
        let judged = self.judge(rule.unwrap_or(&nobody), name, &house);
        let line = rule.map(|rule| rule.line.to_string());
        let tidied = |image: &HeldImage, because: String| TidiedImage {
            repository: name.clone(),
            tag: image.tag.clone(),
            digest: image.digest.clone(),
            pulled_at: image.pulled.map(time),
            because,
            rule: line.clone(),
        };
        let (mut going, mut kept) = (Vec::new(), Vec::new());
        for (image, fate) in &judged {
            match fate {
                Fate::Goes(because) => going.push(tidied(image, words(because))),
                Fate::Stays(because) => {
                    let because = if rule.is_some() { because } else { &StaysBecause::NoRule };
                    kept.push(tidied(image, because.to_string()));
                }
            }
        }
        let mut plan = house.holdings.plan_drop(&targets(&going));
        // What lies under a tag made from the digest of what goes, goes with it; and so on.
        loop {
            let gone: Vec<Tag> =
                plan.manifests.iter().map(|(_, digest)| list_tag(digest)).collect();
            let of_it = |one: &TidiedImage| {
                let tag = one.tag.as_ref().filter(|tag| is_made_from_digest(tag));
                tag.is_some_and(|tag| gone.iter().any(|list| tag == list || is_beside(tag, list)))
            };
            let (with_it, others): (Vec<TidiedImage>, Vec<TidiedImage>) =
                kept.into_iter().partition(of_it);
            kept = others;
            if with_it.is_empty() {
                break;
            }
            let because = "goes with the image that it is about";
            going.extend(
                with_it.into_iter().map(|one| TidiedImage { because: because.into(), ..one }),
            );
            plan = house.holdings.plan_drop(&targets(&going));
        }
        Ok(TidiedRepository { going, kept, plan })
    }
}

fn targets(going: &[TidiedImage]) -> BTreeSet<DropTarget> {
    let targets = going.iter().map(|one| match &one.tag {
        Some(tag) => DropTarget::Tag(0, tag.clone()),
        None => DropTarget::Manifest(0, one.digest.clone()),
    });
    targets.collect()
}

/// Removes what goes by a second look too, a repository after the other; each removal is in the record.
async fn remove(
    going: &[(RepositoryName, Vec<TidiedImage>)],
    args: &Args,
    config: &Config,
    store: &Store,
    report: &mut TidyReport,
) -> Result<(), Failure> {
    let keeper = Keeper::new(config, store, args.grace).await?;
    report.removed.clear();
    report.freed_bytes = 0;
    // On a full disk the records could not be written: what is kept aside for that makes room.
    store.use_spare().await.map_err(|error| unreadable(&error))?;
    for (name, before) in going {
        let tidied = keeper.look(name, store).await?;
        let same = |one: &TidiedImage| {
            before.iter().any(|old| old.tag == one.tag && old.digest == one.digest)
        };
        let removed: Vec<TidiedImage> = tidied.going.into_iter().filter(same).collect();
        report.changed += before.len() - removed.len();
        report.kept_images += before.len() - removed.len();
        if removed.is_empty() {
            continue;
        }
        let house = House::of(store, vec![name.clone()]).await?;
        let plan = house.holdings.plan_drop(&targets(&removed));
        let entries = removed.iter().map(|one| {
            let text = format!("tidied: {}; it was {}", one.because, one.digest);
            let mut entry = record::entry(RecordKind::Delete, &one.name(), &text);
            entry.line.clone_from(&one.rule);
            entry
        });
        let (entries, freed) = (entries.collect(), plan.freed);
        let dropped = store.drop_planned(plan, entries).await;
        let dropped = dropped.map_err(|error| unreadable(&error))?;
        report.changed += dropped.changed;
        report.freed_bytes += freed;
        report.removed.extend(removed);
    }
    store.keep_spare().await;
    Ok(())
}

fn words(because: &[GoesBecause]) -> String {
    because.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}
