//! `larder advisory check`: which images have what was published, by which layer, who runs them, and what mends it.

mod held;
mod judged;
mod named;
mod outputs;
mod shown;
mod upstream;

use std::collections::BTreeMap;
use std::sync::Arc;

use larder_core::advisory::Severity;
use larder_core::platform::Platform;
use schemars::JsonSchema;
use serde::Serialize;

use self::upstream::UpstreamTag;
use super::holdings::User;
use super::import::with_feeds;
use super::list::FeedRow;
use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};

/// Say which images have vulnerabilities that were published, by which layer, who runs them, and what mends it
#[derive(Debug, Clone, clap::Args)]
#[command(
    after_help = "Without a reference, all images that the larder holds are checked. Nobody is asked: what counts is what\n\
    `larder advisory import` took in, and what is known of the layers."
)]
pub struct Args {
    /// What to check: a reference, a layout folder or an archive
    #[arg(value_name = "REF", conflicts_with_all = ["shelf", "cluster"])]
    references: Vec<String>,
    /// All images of the larder, which is also meant where nothing is named
    #[arg(long, conflicts_with = "references")]
    all: bool,
    /// Only images of this shelf
    #[arg(long, value_name = "NAME")]
    shelf: Option<String>,
    /// Only images that this cluster was seen to use
    #[arg(long, value_name = "NAME")]
    cluster: Option<String>,
    /// The platform of what is named [default: the clusters' first, else the image's first]
    #[arg(long, value_name = "OS/ARCH", requires = "references")]
    platform: Option<Platform>,
    /// Only this advisory (again for more)
    #[arg(long, value_name = "ID")]
    only: Vec<String>,
    /// Also read newer tags at the upstreams that images come from, to say which lack it
    #[arg(long)]
    upstream: bool,
    /// Order by image, or by advisory: who is touched by each
    #[arg(long, value_name = "ORDER", value_enum, default_value_t)]
    by: Order,
    /// Only what is at least so severe: low, medium, high, critical
    #[arg(long, value_name = "SEVERITY", default_value = "unknown", hide_default_value = true)]
    least: Severity,
    /// End with status 1 where something is at least so severe, and not hidden; with `unknown` also where something cannot
    /// be compared or was not read
    #[arg(long, value_name = "SEVERITY")]
    fail_on: Option<Severity>,
    /// Write another document instead: sarif (2.1.0), or vex (CycloneDX 1.6)
    #[arg(long, value_name = "FORM", value_enum, hide_possible_values = true)]
    write: Option<outputs::Form>,
}

/// In which order findings are told.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Order {
    #[default]
    Image,
    Advisory,
}

/// What was found.
#[derive(Serialize, JsonSchema)]
pub struct AdvisoryCheck {
    /// What it rests on, with its age.
    feeds: Vec<FeedRow>,
    images: Vec<CheckedImage>,
    /// Images of the larder that were not read whole, so that there may be more in them.
    not_read: Vec<String>,
    /// Whether there are more of those: a thousand are named.
    not_read_is_cut: bool,
    #[serde(skip)]
    order: Order,
}

/// An image, and what it has.
#[derive(Serialize, JsonSchema, Clone)]
struct CheckedImage {
    /// By all its names.
    names: Vec<String>,
    /// Of the platform's manifest.
    digest: String,
    /// null: not said.
    platform: Option<String>,
    findings: Vec<Finding>,
    /// Packages of which nobody can say whether an advisory is about them.
    unknown: Vec<Unknown>,
    users: Vec<User>,
    /// How many layers and files of it were not read: there may be more in them.
    not_read: usize,
}

/// An advisory that is about a package of an image.
#[derive(Serialize, JsonSchema, Clone)]
struct Finding {
    advisory: Arc<str>,
    /// Its other names.
    aliases: Arc<[String]>,
    feed: Arc<str>,
    summary: Arc<str>,
    /// `unknown`, `none`, `low`, `medium`, `high`, `critical`.
    severity: &'static str,
    /// By CVSS. null: it has no vector.
    score: Option<f64>,
    /// `deb`, `rpm`, `apk`, `npm`, `go`, `rust`, `python`, `java`, `ruby`.
    kind: &'static str,
    /// As the advisory names it.
    package: String,
    version: String,
    /// The packages that were built from it and are in the image. Empty: that was not looked up.
    installed: Vec<String>,
    /// The first version that is mended. null: none is known.
    fixed_version: Option<String>,
    /// The layer that brought it, counted from 1.
    layer: usize,
    layer_digest: Option<Arc<str>>,
    /// The build step that made the layer. null: not said.
    command: Option<String>,
    /// How many other images here have the same layer. 0: it is the image's own.
    shared_count: usize,
    /// Some of them, by name.
    shared_with: Arc<[String]>,
    /// Newer tags of the same repository that are here and do not have it, the newest first.
    mended_by: Arc<[String]>,
    /// Newer tags of its upstream that are not here and do not have it. Empty: there are none, or nobody asked.
    mended_upstream: Vec<UpstreamTag>,
    /// A statement about it. null: there is none.
    statement: Option<StatementSeen>,
    #[serde(skip)]
    rank: Severity,
}

/// What somebody says of a finding.
#[derive(Serialize, JsonSchema, Clone)]
struct StatementSeen {
    /// `not_affected`, `affected`, `fixed`, `under_investigation`.
    status: &'static str,
    because: String,
    author: String,
    feed: String,
    at: String,
    /// Whether the finding is hidden by it: only what one's own feeds say hides.
    hides: bool,
}

/// A package of which nobody can say whether an advisory is about it.
#[derive(Serialize, JsonSchema, Clone)]
struct Unknown {
    advisory: String,
    kind: &'static str,
    package: String,
    version: String,
    cause: String,
}

impl Finding {
    fn is_hidden(&self) -> bool {
        self.statement.as_ref().is_some_and(|statement| statement.hides)
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = "cannot tell what advisories touch";
    let feeds = with_feeds(&store, what).await?;
    let failed = |error| Failure::store(what, &error);
    let only = only(args, &store).await?;
    let numbers = only.as_ref().map(|only| only.values().flatten().copied().collect());
    let held::HeldOutcome { mut images, not_read, is_cut } = match args.references.is_empty() {
        true => held::check(args, &config, &store, numbers).await?,
        false => {
            let images = named::check(args, &config, &store, context).await?;
            held::HeldOutcome { images, not_read: Vec::new(), is_cut: false }
        }
    };
    for image in &mut images {
        image.findings.retain(|one| {
            one.rank >= args.least
                && only.as_ref().is_none_or(|only| only.contains_key(&*one.advisory))
        });
        image
            .unknown
            .retain(|one| only.as_ref().is_none_or(|only| only.contains_key(&one.advisory)));
        image.findings.sort_by(|a, b| {
            (b.rank, &a.advisory, &a.package).cmp(&(a.rank, &b.advisory, &b.package))
        });
    }
    judged::states(&mut images, &store).await.map_err(failed)?;
    if args.upstream {
        upstream::look(&mut images, &config, &store, context).await?;
    }
    let is_failing = args.fail_on.is_some_and(|least| {
        let mut findings = images.iter().flat_map(|image| &image.findings);
        let is_open = |image: &CheckedImage| image.not_read > 0 || !image.unknown.is_empty();
        let may_have_more = !not_read.is_empty() || images.iter().any(is_open);
        findings.any(|one| one.rank >= least && !one.is_hidden())
            || (least == Severity::Unknown && may_have_more)
    });
    if args.references.is_empty() {
        images.retain(|image| !image.findings.is_empty() || !image.unknown.is_empty());
    }
    images.sort_by(|a, b| (&a.names, &a.platform).cmp(&(&b.names, &b.platform)));
    let report = AdvisoryCheck {
        feeds: feeds.iter().map(FeedRow::of).collect(),
        images,
        not_read,
        not_read_is_cut: is_cut,
        order: args.by,
    };
    match args.write {
        Some(form) => context.output.standard_document(&outputs::document(form, &report)),
        None => context.output.tell(&report),
    }
    Ok(if is_failing { Exit::No } else { Exit::Done })
}

/// The advisories that were asked for, by their own names, with their numbers. None: all.
async fn only(
    args: &Args,
    store: &larder_store::Store,
) -> Result<Option<BTreeMap<String, Vec<i64>>>, Failure> {
    if args.only.is_empty() {
        return Ok(None);
    }
    let mut names: BTreeMap<String, Vec<i64>> = BTreeMap::new();
    for text in &args.only {
        let what = format!("cannot check for {}", larder_core::shown::shown(text));
        let found = store.advisories_called(text).await;
        let found = found.map_err(|error| Failure::store(&what, &error))?;
        if found.is_empty() {
            let remedy = "`larder advisory list --all` lists them";
            let cause = "no feed has one of that name";
            return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
        }
        for (number, one) in found {
            names.entry(one.advisory.id).or_default().push(number);
        }
    }
    Ok(Some(names))
}
