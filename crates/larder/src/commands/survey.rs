//! `larder survey`: every image that deployments name.

pub(super) mod compare;
pub(super) mod held;
pub(super) mod online;
pub(super) mod rows;
mod seen;
pub(super) mod show;

use std::collections::BTreeSet;
use std::path::PathBuf;

use larder_core::name::{RepositoryName, Tag};
use larder_core::retarget::{Retarget, RetargetWish};
use larder_core::rewrite::decide::Decider;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, every_tag, read_lock, store_if_any};
use crate::deployments::{self, BrokenFile, NamedImages, PassedOver, Sight};
use crate::failure::{Exit, Failure, Outcome};
use crate::kube::ApiReach;
use crate::output::{Output, Report, count};
use crate::pick::Pick;
pub use rows::Row;
use rows::StandingWord;

/// List every image that deployments name: where it stands and what is wrong with it
///
/// Exit status 1 says that something is uncovered, malformed or unreadable, lacks a platform, or with
/// `--against` that something differs; 3 that with `--online` something could not be asked.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Standing: covered = the larder has it; locked = locked, not brought in yet;\n\
    cached = a cached shelf fetches it when it is asked for; routed = a [[route]] says where it is;\n\
    not locked = wanted, but not at this tag; uncovered = nobody brings it in;\n\
    own = it names the larder; missing = it names the larder, which does not have it;\n\
    left = a [[route]] leaves it alone; open = something else fills it in; built = it is what a build makes;\n\
    malformed = it cannot be read. Dim and with a question mark: it may be no image, and does not count."
)]
pub struct Args {
    /// Files and folders; `-` is stdin [default: this folder, unless `--cluster` is given]
    paths: Vec<PathBuf>,
    /// How the images are put together
    #[arg(long, value_enum, default_value_t)]
    by: SurveyGrouping,
    #[command(flatten)]
    pick: Pick,
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
    /// What makes the exit status 1, instead of all but ambiguous, floating and unpinned; what cannot be read always does
    #[arg(long, value_enum, value_delimiter = ',', value_name = "FAULT,…")]
    fail_on: Vec<ImageFault>,
    /// List what could name an image and was passed over
    #[arg(long)]
    explain: bool,
    /// Read hidden files and folders too; those of pipelines are read anyway
    #[arg(long)]
    hidden: bool,
    #[command(flatten)]
    reach: ApiReach,
}

/// What can be wrong with an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum ImageFault {
    /// Nobody brings it in
    Uncovered,
    /// It is wanted, and not at this tag
    NotLocked,
    /// It names the larder, which does not have it
    Missing,
    /// It cannot be read
    Malformed,
    /// No registry is named
    Ambiguous,
    /// Tomorrow's pull may bring something else
    Floating,
    /// It has no digest
    Unpinned,
    /// A platform that is wanted is missing (with --online)
    Platform,
    /// It is not there (with --online)
    Absent,
}

impl ImageFault {
    /// What counts when nothing else is said.
    const USUAL: [Self; 6] = [
        Self::Uncovered,
        Self::NotLocked,
        Self::Missing,
        Self::Malformed,
        Self::Platform,
        Self::Absent,
    ];
}

/// How images are put together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
pub enum SurveyGrouping {
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
    /// By the namespace of the object that names them
    Namespace,
}

#[derive(Serialize, JsonSchema)]
pub struct Survey {
    /// Files that were read.
    files: usize,
    references: Vec<Row>,
    broken: Vec<BrokenFile>,
    templates: Vec<String>,
    passed_over: Vec<PassedOver>,
    /// The references as `--by` puts them together. Empty: each stands for itself.
    groups: Vec<show::Group>,
    #[serde(skip)]
    by: SurveyGrouping,
    #[serde(skip)]
    explain: bool,
}

impl Report for Survey {
    const KIND: &'static str = "survey";

    fn show(&self, out: &Output) {
        show::survey(self, out);
    }
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
    let sight = Sight { hidden: args.hidden, ..Sight::with(&custom) };
    let from_stdin = paths.iter().any(|path| path.as_os_str() == "-");
    paths.retain(|path| path.as_os_str() != "-");
    let found = deployments::candidates(&paths, sight);
    let read = deployments::each_of(&found.files, sight, |one, scan| {
        Ok(NamedImages::of(&one.shown, scan))
    });
    let dangling = dangling(&found, sight, config.as_ref());
    let deployments::FilesOutcome { mut done, mut broken, mut passed } = read;
    let (more, over) = found.into_told();
    broken.extend(more);
    passed.extend(over);
    passed.sort();
    if from_stdin {
        match deployments::stdin_named("cannot survey what comes from stdin", &custom)? {
            Ok(named) => done.push(named),
            Err(one) => broken.push(one),
        }
    }
    let files = done.len();
    if let Some(name) = &args.cluster {
        done.extend(deployments::live::read(name, &args.reach, &custom).await?);
    }
    let (report, unasked) =
        survey(files, (done, broken, passed, dangling), config.as_ref(), args, context).await?;
    let declared = |name: &String, config: &Config| {
        config.clusters.iter().any(|cluster| cluster.name.get_ref() == name)
    };
    let picks = !args.pick.only.is_empty() || !args.pick.skip.is_empty();
    if let (Some(name), Some(config)) = (&args.cluster, &config)
        && declared(name, config)
        && !picks
        && let Err(cause) = seen::note(&report, name, config).await
    {
        context.output.note(format!("warning: what {name} runs could not be noted: {cause}"));
    }
    if let (Some(config), false, false) = (&config, picks, from_stdin)
        && let Err(cause) = seen::note_found(&report, config).await
    {
        context.output.note(format!("warning: what was found could not be noted: {cause}"));
    }
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
        return Ok(compare::compare(&earlier, &report, context));
    }
    context.output.tell(&report);
    let absent = deployments::missing(&paths);
    let faults = if args.fail_on.is_empty() { &ImageFault::USUAL[..] } else { &args.fail_on };
    let fine = report.broken.is_empty() && report.references.iter().all(|row| !row.has(faults));
    let exit = match (unasked, fine) {
        (true, _) => Exit::Remote,
        (false, true) => Exit::Done,
        (false, false) => Exit::No,
    };
    Ok(exit.max(absent))
}

/// An overlay's entry that is about nothing: its file, its line, and what is said of it.
type DanglingEntry = (String, usize, String);

/// The entries of overlays that are about nothing.
fn dangling(
    found: &deployments::Candidates,
    sight: Sight<'_>,
    config: Option<&Config>,
) -> Vec<DanglingEntry> {
    let Some(config) = config else { return Vec::new() };
    let Ok(lock) = read_lock(config) else { return Vec::new() };
    let routes = config.routes();
    // Nothing changes, so that each name is the one that it was.
    let nothing =
        RetargetWish { skip: "**".parse().into_iter().collect(), ..RetargetWish::default() };
    let retarget = Retarget::new(&routes, &lock, &config.larder.unqualified, nothing);
    let (secret, detach) = (None, BTreeSet::new());
    let decider = Decider { retarget, strings: false, secret, detach, detach_all: false };
    deployments::overlays::dangling(&found.files, sight, &decider)
}

/// What was read: the references, what cannot be read, what was passed over, and overlays that are about nothing.
type SurveyInput = (Vec<NamedImages>, Vec<BrokenFile>, Vec<PassedOver>, Vec<DanglingEntry>);

/// Gives the report, and whether something could not be asked.
async fn survey(
    files: usize,
    (named, broken, passed_over, dangling): SurveyInput,
    config: Option<&Config>,
    args: &Args,
    context: &Context,
) -> Result<(Survey, bool), Failure> {
    let mut references = rows::collect(&named, config);
    references.retain(|row| match &row.reading {
        Some(reading) => args.pick.takes(&reading.reference.image()),
        // What cannot be read matches nothing.
        None => args.pick.only.is_empty(),
    });
    if let Some(config) = config {
        let lock = read_lock(config)?;
        let store = store_if_any(config)?;
        rows::stand(&mut references, config, &lock, store.as_ref()).await?;
    }
    for (file, line, told) in dangling {
        let its =
            |row: &&mut Row| row.places.iter().any(|one| one.file == file && one.line == line);
        for row in references.iter_mut().filter(its) {
            row.remarks.push(format!("{file}:{line}: {told}"));
        }
    }
    let mut unasked = false;
    if args.online {
        unasked = online::ask(&mut references, config, context).await?;
    }
    references.sort_by(|a, b| (a.standing, &a.reference).cmp(&(b.standing, &b.reference)));
    let of_images = |one: &&NamedImages| one.template && !one.findings.is_empty();
    let templates = named.iter().filter(of_images).map(|one| one.shown.clone()).collect();
    let groups = match args.by {
        SurveyGrouping::Image => Vec::new(),
        by => show::groups(&references, by, config),
    };
    let (by, explain) = (args.by, args.explain);
    let report = Survey { files, references, broken, templates, passed_over, groups, by, explain };
    Ok((report, unasked))
}

/// What nobody brings in, as references with a tag.
fn missing(report: &Survey, context: &Context) -> Exit {
    let wanted = |row: &&Row| {
        row.certain && matches!(row.standing, StandingWord::Uncovered | StandingWord::NotLocked)
    };
    let rows: Vec<&Row> = report.references.iter().filter(wanted).collect();
    let lines: BTreeSet<String> = rows.iter().filter_map(|row| row.wanted.clone()).collect();
    context.output.tell(&SurveyMissing { references: lines });
    for row in rows.iter().filter(|row| row.wanted.is_none()) {
        context.output.note(format!(
            "note: {} is left out: which tag of it is wanted is decided in another place",
            row.reference
        ));
    }
    // What the table shows in red and no line can bring in.
    let others =
        |word| report.references.iter().filter(move |row| row.certain && row.standing == word);
    let (malformed, absent) =
        (others(StandingWord::Malformed).count(), others(StandingWord::Missing).count());
    if malformed > 0 {
        let what = count(malformed, "image");
        context.output.note(format!(
            "note: {what} cannot be read and are left out; `larder survey` says why"
        ));
    }
    if absent > 0 {
        let what = count(absent, "image");
        context.output.note(format!(
            "note: {what} name the larder, which does not have them; they are left out"
        ));
    }
    for BrokenFile { file, cause } in &report.broken {
        context.output.note(format!("broken: {file} cannot be read: {cause}"));
    }
    let fine = rows.is_empty() && malformed == 0 && absent == 0 && report.broken.is_empty();
    if fine {
        context.output.note("nothing is missing: every image has a way in");
    }
    if fine { Exit::Done } else { Exit::No }
}

/// What nobody brings in.
#[derive(Serialize, JsonSchema)]
pub struct SurveyMissing {
    /// As `larder intake add -` reads them.
    references: BTreeSet<String>,
}

impl Report for SurveyMissing {
    const KIND: &'static str = "survey-missing";

    fn show(&self, out: &Output) {
        self.references.iter().for_each(|line| out.result(line));
    }
}

/// What the shelves hold and nothing names.
#[derive(Serialize, JsonSchema)]
pub struct SurveyUnused {
    references: Vec<String>,
    /// Tags on the shelves.
    held: usize,
}

impl Report for SurveyUnused {
    const KIND: &'static str = "survey-unused";

    fn show(&self, out: &Output) {
        self.references.iter().for_each(|one| out.result(one));
        let of = count(self.held, "tag");
        out.note(format!("{} of {of} on the shelves are named by nothing", self.references.len()));
    }
}

async fn unused(report: &Survey, config: Option<&Config>, context: &Context) -> Outcome {
    let what = "cannot tell what is unused";
    let Some(config) = config else {
        let cause = "no larder.toml is here, so there is no larder to compare with";
        return Err(Failure::usage(what, cause, "name one with `--config`"));
    };
    let Some(store) = store_if_any(config)? else {
        let cause = "the larder's store is not on this machine";
        return Err(Failure::usage(what, cause, "ask on the machine that has it"));
    };
    let held = every_tag(&store).await.map_err(|error| Failure::store(what, &error))?;
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
    let exit = if unused.is_empty() { Exit::Done } else { Exit::No };
    context.output.tell(&SurveyUnused { references: unused, held: held.len() });
    Ok(exit)
}
