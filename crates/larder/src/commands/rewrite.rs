//! `larder rewrite`: make deployments name the larder's images, and change nothing else in them.

mod families;
mod online;
mod show;

use std::collections::{BTreeSet, HashMap};
use std::os::unix::fs::MetadataExt as _;
use std::path::{Path, PathBuf};

use larder_core::name::Host;
use larder_core::reference::Reference;
use larder_core::retarget::{Direction, Pin, Retarget, RetargetWish};
use larder_core::rewrite::decide::{DecidedWhat, Decider, FileDecisions, FindingDecision, Others};
use larder_core::rewrite::{FileContext, Scan, scan};
use larder_transfer::files::{Replacements, shown};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, read_lock};
use crate::deployments::{self, BrokenFile, Deployment, Sight};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};
use crate::pick::Pick;

/// Make deployments name the larder's images, and change nothing else in them
///
/// Exit status 1 says that a reference has no route (it is left as it is), or with --check that
/// something would change.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Kubernetes objects, overlays, charts' values, Compose files, Dockerfiles, task definitions,\n\
    pipelines and plain lists are told by what stands in them. Templates are told and left alone."
)]
pub struct Args {
    /// Files and folders; `-` reads one file from stdin and writes it to stdout
    #[arg(required = true)]
    paths: Vec<PathBuf>,
    /// Show what would change as a unified diff (the default)
    #[arg(long, group = "mode")]
    diff: bool,
    /// Change the files
    #[arg(long, group = "mode")]
    write: bool,
    /// Say line by line what would change, and exit with 1 if anything would
    #[arg(long, group = "mode")]
    check: bool,
    /// In which form --check says it
    #[arg(long, value_enum, default_value_t, requires = "check", conflicts_with = "json")]
    format: Format,
    /// Add the digest from the lock
    #[arg(long, group = "digests")]
    pin: bool,
    /// Take the digests away where there is a tag
    #[arg(long, group = "digests")]
    unpin: bool,
    /// With --pin: ask the registries for digests that the lock does not have
    #[arg(long, requires = "pin")]
    online: bool,
    /// Name this host instead of the larder's own `url`
    #[arg(long, value_name = "HOST")]
    to: Option<Host>,
    /// Give the upstreams' names again, and take pins and pull secrets out that were put in
    #[arg(long)]
    back: bool,
    #[command(flatten)]
    pick: Pick,
    /// Add this pull secret to pods that pull from the larder and do not name it; with --back, take it out
    #[arg(long, value_name = "NAME")]
    secret: Option<String>,
    /// Also change references within longer texts: environment, arguments, files in ConfigMaps
    #[arg(long)]
    include_strings: bool,
    /// Mend malformed names that can mean one thing only
    #[arg(long)]
    fix: bool,
    /// Read hidden files and folders too; those of pipelines are read anyway
    #[arg(long)]
    hidden: bool,
    /// With --write: also change files that nobody may write, and one name of those that have several
    #[arg(long, requires = "write")]
    force: bool,
}

/// In which form findings are told.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, clap::ValueEnum)]
enum Format {
    /// One line each, `FILE:LINE:COLUMN: …`, as editors understand it
    #[default]
    Text,
    /// SARIF 2.1.0, as code hosts read it
    Sarif,
    /// Commands of a workflow's log, which become remarks on the change
    Github,
}

/// What is to become of one finding.
#[derive(Debug, Clone, Serialize, JsonSchema)]
struct RewriteLine {
    file: String,
    #[serde(rename = "line")]
    row: usize,
    column: usize,
    /// `reference`, or `secret` for the pull secret of a pod.
    what: &'static str,
    from: String,
    /// The new text. None: it is left as it is.
    to: Option<String>,
    /// Why it is left. None: it is changed, or right already.
    left: Option<String>,
    /// What it lacks although it is changed. None: nothing.
    lacks: Option<String>,
    /// Whether that it is left is an answer of "no".
    #[serde(skip)]
    counts: bool,
}

impl RewriteLine {
    /// Whether there is anything to say of it.
    fn is_told(&self) -> bool {
        self.to.is_some() || self.left.is_some()
    }

    fn of(file: &str, decision: FindingDecision) -> Self {
        let FindingDecision { what, position, from, to, left, lacks, counts } = decision;
        Self {
            file: file.to_owned(),
            row: position.line,
            column: position.column,
            what: match what {
                DecidedWhat::Reference => "reference",
                DecidedWhat::Secret => "secret",
            },
            from,
            to,
            left,
            lacks,
            counts,
        }
    }
}

/// What becomes of one file.
struct Rewritten {
    file: String,
    lines: Vec<RewriteLine>,
    /// The diff, where one is wanted. None: nothing changes.
    diff: Option<String>,
    changed: bool,
    template: bool,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let lock = read_lock(&config)?;
    let routes = config.routes();
    if let Some(secret) = args.secret.as_deref().filter(|name| !is_object_name(name)) {
        let cause = format!("`{}` can name no secret", secret.escape_debug());
        let remedy = "write lower-case letters, digits, `-` and `.`";
        return Err(Failure::usage("cannot add the pull secret", cause, remedy));
    }
    let wish = RetargetWish {
        direction: if args.back { Direction::Back } else { Direction::Here },
        pin: match (args.pin, args.unpin) {
            (true, _) => Pin::Add,
            (_, true) => Pin::Remove,
            _ => Pin::Keep,
        },
        host: args.to.clone(),
        only: args.pick.only.clone(),
        skip: args.pick.skip.clone(),
        mend: args.fix,
    };
    let retarget = Retarget::new(&routes, &lock, &config.larder.unqualified, wish);
    // What goes back loses the secret by which it was pulled from here.
    let detach = match (args.back, &args.secret) {
        (false, _) => BTreeSet::new(),
        (true, Some(secret)) => [secret.clone()].into(),
        (true, None) => config.clusters.iter().map(|one| one.pull_secret.clone()).collect(),
    };
    let secret = args.secret.clone().filter(|_| !args.back);
    // One that is named goes from every pod that does not pull from here.
    let detach_all = args.secret.is_some();
    let strings = args.include_strings;
    let mut decider = Decider { retarget, strings, secret, detach, detach_all };
    if args.paths.iter().any(|path| path.as_os_str() == "-") {
        return filter(args, decider, &config, context).await;
    }
    let may_change: Option<fn(&Path) -> bool> = match (args.write, args.force) {
        (true, true) => Some(|path| may_replace(path, true).is_ok()),
        (true, false) => Some(|path| may_replace(path, false).is_ok()),
        (false, _) => None,
    };
    let sight = Sight { hidden: args.hidden, may_change, ..Sight::with(&config.resources) };
    let found = deployments::candidates(&args.paths, sight);
    if args.online {
        let asked = |_: &Deployment, found: &Scan<'_>| {
            Ok(decider.decide(found, &Others::default()).unpinned)
        };
        let asked = deployments::each_of(&found.files, sight, asked);
        let asked: BTreeSet<Reference> = asked.done.into_iter().flatten().collect();
        decider.retarget.known = online::digests(&asked, &config, context).await;
    }
    let agreed = families::agreed(&found, sight, &decider);
    let sight = Sight { agreed: Some(&agreed), ..sight };
    let others = deployments::overlays::settle(&found.files, sight, &decider);
    let writing = Replacements::default();
    let work = |one: &Deployment, found: &Scan<'_>| {
        rewrite_one(args, context, &decider, &others, one, found, &writing)
    };
    let deployments::FilesOutcome { done: mut files, mut broken, .. } =
        deployments::each_of(&found.files, sight, work);
    let (more, _) = found.into_told();
    broken.extend(more);
    files.sort_by(|a, b| a.file.cmp(&b.file));
    for (path, error) in writing.finish() {
        let file = shown(&path);
        if let Some(one) = files.iter_mut().find(|one| one.file == file) {
            one.changed = false;
        }
        broken.push(BrokenFile { file, cause: error.to_string() });
    }
    let lines = || files.iter().flat_map(|file| &file.lines);
    let refused = !broken.is_empty() || lines().any(|line| line.counts);
    let differs = args.check && files.iter().any(|file| file.changed);
    show::all(args, files, broken, context);
    let exit = if refused || differs { Exit::No } else { Exit::Done };
    Ok(exit.max(deployments::missing(&args.paths)))
}

fn rewrite_one(
    args: &Args,
    _context: &Context,
    decider: &Decider<'_>,
    others: &HashMap<PathBuf, Others>,
    one: &Deployment,
    found: &Scan<'_>,
    writing: &Replacements,
) -> Result<Rewritten, String> {
    let nothing = Others::default();
    let its = match others.is_empty() {
        true => &nothing,
        false => others.get(&deployments::real(&one.path)).unwrap_or(&nothing),
    };
    let FileDecisions { decisions, text, .. } = decider.decide(found, its);
    let lines =
        decisions.into_iter().map(|decision| RewriteLine::of(&one.shown, decision)).collect();
    let file = one.shown.clone();
    let template = found.template && !found.findings.is_empty();
    let mut rewritten = Rewritten { file, lines, diff: None, changed: false, template };
    let Some(new) = text else { return Ok(rewritten) };
    rewritten.changed = true;
    if args.write {
        may_write(&one.path, &one.text, args.force)?;
        let added = writing.add(&one.path, new.as_bytes());
        added.map_err(|error| error.to_string())?;
    } else if !args.check {
        rewritten.diff = Some(show::unified(&one.shown, &one.text, &new));
    }
    Ok(rewritten)
}

/// Refuses to replace what is not to be written, or belongs to something else.
fn may_replace(path: &Path, force: bool) -> Result<(), String> {
    let text = |error: std::io::Error| error.to_string();
    let metadata = std::fs::metadata(path).map_err(text)?;
    if !force && metadata.mode() & 0o222 == 0 {
        return Err(
            "nobody may write it (its mode); `--force` changes it; nothing was written".into()
        );
    }
    if !force && metadata.nlink() > 1 {
        return Err(format!(
            "it has {} names (hard links), and would be parted from the others; `--force` does it; nothing was written",
            metadata.nlink()
        ));
    }
    // A link may lead to a file that belongs to something else.
    if std::fs::symlink_metadata(path).map_err(text)?.is_symlink() {
        let real = std::fs::canonicalize(path).map_err(text)?;
        let here = path.parent().filter(|one| !one.as_os_str().is_empty());
        let tree = std::fs::canonicalize(here.unwrap_or(Path::new("."))).map_err(text)?;
        let inside = std::env::current_dir().is_ok_and(|now| real.starts_with(now));
        if !real.starts_with(&tree) && !inside {
            return Err(format!(
                "it is a link that leads out of its folder, to {}; nothing was written",
                larder_transfer::files::named(&real)
            ));
        }
    }
    Ok(())
}

/// Refuses to write where something would be lost.
fn may_write(path: &Path, old: &str, force: bool) -> Result<(), String> {
    let text = |error: std::io::Error| error.to_string();
    may_replace(path, force)?;
    // Somebody may have saved the file since it was read; their version wins.
    let now = std::fs::read(path).map_err(text)?;
    if now != old.as_bytes() {
        return Err("it was changed while it was read; nothing was written".into());
    }
    Ok(())
}

/// What was changed, or would be.
#[derive(Serialize, JsonSchema)]
pub struct RewriteReport {
    /// Files that were read.
    files: usize,
    /// Files that changed, or would.
    changed: usize,
    /// Whether the files were written.
    written: bool,
    /// References and pull secrets that change, or are left for a reason.
    references: Vec<RewriteLine>,
    broken: Vec<BrokenFile>,
    /// The new text of what came from stdin. None: files were read.
    text: Option<String>,
    #[serde(skip)]
    shown: show::RewriteShown,
}

impl Report for RewriteReport {
    const KIND: &'static str = "rewrite";

    fn show(&self, out: &Output) {
        show::report(self, out);
    }
}

async fn filter(
    args: &Args,
    mut decider: Decider<'_>,
    config: &crate::config::Config,
    context: &Context,
) -> Outcome {
    let what = "cannot rewrite what comes from stdin";
    if args.paths.len() > 1 || args.write {
        return Err(Failure::usage(
            what,
            "`-` goes alone, and its result to stdout",
            "leave the other paths and `--write` out",
        ));
    }
    let unreadable = |cause: String| {
        Failure::usage(what, cause, "mend it first; nothing was written").ending(Exit::No)
    };
    let text = deployments::stdin(what)?;
    let file = FileContext { custom: &config.resources, ..FileContext::default() };
    let found = scan(&text, &file).map_err(|error| unreadable(error.to_string()))?;
    let others = Others::default();
    if args.online {
        let asked = decider.decide(&found, &others).unpinned.into_iter().collect();
        decider.retarget.known = online::digests(&asked, config, context).await;
    }
    let FileDecisions { decisions, text: new, .. } = decider.decide(&found, &others);
    let lines: Vec<RewriteLine> =
        decisions.into_iter().map(|decision| RewriteLine::of("stdin", decision)).collect();
    let refused = lines.iter().any(|line| line.counts);
    let changed = new.is_some();
    if args.check {
        let template = found.template && !found.findings.is_empty();
        let file = Rewritten { file: "stdin".into(), lines, diff: None, changed, template };
        show::all(args, vec![file], Vec::new(), context);
        return Ok(if refused || changed { Exit::No } else { Exit::Done });
    }
    let new = new.as_deref().unwrap_or(&text);
    show::filtered(lines, changed, new, context);
    Ok(if refused { Exit::No } else { Exit::Done })
}

/// Whether a text can name an object of a cluster (RFC 1123, "subdomain").
fn is_object_name(name: &str) -> bool {
    let inner = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || matches!(c, '-' | '.');
    let ends = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit();
    (1..=253).contains(&name.len())
        && name.chars().all(inner)
        && name.starts_with(ends)
        && name.ends_with(ends)
}
