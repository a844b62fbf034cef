//! `larder survey`: every image that deployments name.

mod compare;
mod held;
mod online;
mod rows;
mod show;

use std::collections::BTreeSet;
use std::path::PathBuf;

use larder_core::name::{RepositoryName, Tag};
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, read_lock, store_if_any};
use crate::deployments::{self, Broken, Named};
use crate::failure::{Exit, Failure, Outcome};
use crate::kube::Reach;
use crate::output::count;
pub use rows::Row;
use rows::Word;

/// List every image that deployments name: where it stands and what is wrong with it
///
/// Exit status 1 says that something is uncovered, malformed or unreadable, lacks a platform, or with
/// `--against` that something differs.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Standing: covered = the larder has it; locked = locked, not brought in yet;\n\
    cached = a cached shelf fetches it when it is asked for; routed = a [[route]] says where it is;\n\
    not locked = wanted, but not at this tag; uncovered = nobody brings it in;\n\
    own = it names the larder; missing = it names the larder, which does not have it;\n\
    left = a [[route]] leaves it alone; open = something else fills it in; built = it is what a build makes;\n\
    malformed = it cannot be read."
)]
pub struct Args {
    /// Files and folders [default: this folder, unless `--cluster` is given]
    paths: Vec<PathBuf>,
    /// How the images are put together
    #[arg(long, value_enum, default_value_t)]
    by: By,
    /// Ask the larder or the upstreams whether each is there, for the platforms that are wanted
    #[arg(long)]
    online: bool,
    /// List what the larder's shelves hold and nothing names, instead
    #[arg(long, group = "instead")]
    unused: bool,
    /// List what nobody brings in, one a line, as `larder intake add -` reads it
    #[arg(long, group = "instead")]
    missing: bool,
    /// Say what could not be pulled if all upstreams were gone, instead: what the store lacks of it
    #[arg(long, group = "instead")]
    held: bool,
    /// Say what differs from an earlier survey: a file that `--json` wrote
    #[arg(long, value_name = "FILE", group = "instead")]
    against: Option<PathBuf>,
    /// Also what this cluster has and runs, through its API
    #[arg(long, value_name = "NAME")]
    cluster: Option<String>,
    #[command(flatten)]
    reach: Reach,
}

/// How images are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
pub enum By {
    /// One row each
    #[default]
    Image,
    /// By the file that names them
    File,
    /// By the registry that they come from
    Upstream,
    /// By their class
    Class,
    /// By the cluster whose namespaces name them
    Cluster,
}

#[derive(Serialize)]
struct Report {
    files: usize,
    references: Vec<Row>,
    broken: Vec<Broken>,
    templates: Vec<String>,
    #[serde(skip_serializing_if = "Option::is_none")]
    groups: Option<Vec<show::Group>>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let earlier = match &args.against {
        Some(path) => Some(compare::read(path)?),
        None => None,
    };
    let mut paths = args.paths.clone();
    if paths.is_empty() && args.cluster.is_none() {
        paths.push(".".into());
    }
    let custom = config.as_ref().map(|config| config.resources.clone()).unwrap_or_default();
    let deployments::Outcome { mut done, broken } = deployments::named(&paths, &custom);
    let files = done.len();
    if let Some(name) = &args.cluster {
        done.extend(deployments::live::read(name, &args.reach, &custom).await?);
    }
    let report = survey(files, done, broken, config.as_ref(), args, context).await?;
    if args.missing {
        return Ok(missing(&report, context));
    }
    if args.held {
        return held::run(&report, config.as_ref(), context).await;
    }
    if args.unused {
        return unused(&report, config.as_ref(), context).await;
    }
    if let Some(earlier) = earlier {
        return Ok(compare::show(&earlier, &report, context));
    }
    if context.output.json {
        context.output.document(&report);
    } else {
        show::report(&report, args.by, config.as_ref(), context);
    }
    let fine = report.broken.is_empty() && report.references.iter().all(Row::is_fine);
    Ok(if fine { Exit::Done } else { Exit::No })
}

async fn survey(
    files: usize,
    named: Vec<Named>,
    broken: Vec<Broken>,
    config: Option<&Config>,
    args: &Args,
    context: &Context,
) -> Result<Report, Failure> {
    let mut references = rows::collect(&named, config);
    if let Some(config) = config {
        let lock = read_lock(config)?;
        let store = store_if_any(config)?;
        rows::stand(&mut references, config, &lock, store.as_ref()).await?;
    }
    if args.online {
        online::ask(&mut references, config, context).await;
    }
    references.sort_by(|a, b| (a.standing, &a.reference).cmp(&(b.standing, &b.reference)));
    let templates = named.iter().filter(|one| one.template).map(|one| one.shown.clone()).collect();
    let mut report = Report { files, references, broken, templates, groups: None };
    if args.by != By::Image {
        report.groups = Some(show::groups(&report, args.by, config));
    }
    Ok(report)
}

/// What nobody brings in, as references with a tag.
fn missing(report: &Report, context: &Context) -> Exit {
    let wanted =
        |row: &&Row| row.certain && matches!(row.standing, Word::Uncovered | Word::NotLocked);
    let rows: Vec<&Row> = report.references.iter().filter(wanted).collect();
    let lines: BTreeSet<String> = rows.iter().filter_map(|row| row.wanted.clone()).collect();
    if context.output.json {
        context.output.document(&lines);
    } else {
        for line in &lines {
            context.output.result(line);
        }
    }
    for row in rows.iter().filter(|row| row.wanted.is_none()) {
        context.output.note(format!(
            "note: {} is left out: which tag of it is wanted is decided in another place",
            row.reference
        ));
    }
    if lines.is_empty() {
        context.output.note("nothing is missing: every image has a way in");
    }
    if lines.is_empty() { Exit::Done } else { Exit::No }
}

/// What the shelves hold and nothing names.
async fn unused(report: &Report, config: Option<&Config>, context: &Context) -> Outcome {
    let what = "cannot tell what is unused";
    let Some(config) = config else {
        let cause = "no larder.toml is here, so there is no larder to compare with";
        return Err(Failure::usage(what, cause, "name one with `--config`"));
    };
    let store = store_if_any(config)?;
    let held = match &store {
        Some(store) => store.ledger.all_tags().await,
        None => Ok(Vec::new()),
    };
    let held = held.map_err(|error| Failure::store(what, &error))?;
    let named: BTreeSet<&str> = report
        .references
        .iter()
        .flat_map(|row| [Some(row.reference.as_str()), row.target.as_deref()])
        .flatten()
        .collect();
    // A tag whose content is named by digest is used as well.
    let digests: BTreeSet<&str> =
        named.iter().filter_map(|name| name.split_once('@')).map(|(_, digest)| digest).collect();
    let host = &config.larder.url.host;
    let whole: BTreeSet<&str> = report
        .references
        .iter()
        .filter(|row| row.wanted.is_none())
        .filter_map(|row| row.target.as_deref())
        .collect();
    let is_named = |repository: &RepositoryName, tag: &Tag| {
        let image = format!("{host}/{repository}");
        named.contains(format!("{image}:{tag}").as_str())
            || (*tag == Tag::latest() && named.contains(image.as_str()))
            || whole.contains(image.as_str())
    };
    let unused: Vec<String> = held
        .iter()
        .filter(|(repository, tag, digest)| {
            !is_named(repository, tag) && !digests.contains(digest.to_string().as_str())
        })
        .map(|(repository, tag, _)| format!("{repository}:{tag}"))
        .collect();
    if context.output.json {
        context.output.document(&unused);
    } else {
        for one in &unused {
            context.output.result(one);
        }
        let of = count(held.len(), "tag");
        context
            .output
            .note(format!("{} of {of} on the shelves are named by nothing", unused.len()));
    }
    Ok(if unused.is_empty() { Exit::Done } else { Exit::No })
}
