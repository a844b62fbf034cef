//! `larder rewrite`: make deployments name the larder's images, and change nothing else in them.

mod decide;
mod online;
mod show;

use std::collections::{BTreeMap, BTreeSet};
use std::io::Read as _;
use std::path::{Path, PathBuf};

use larder_core::name::Host;
use larder_core::pattern::Pattern;
use larder_core::reference::{Image, Reference};
use larder_core::retarget::{Direction, Pin, Retarget, Wish};
use larder_core::rewrite::{FILE_LIMIT, File, Scan, scan};
use serde::Serialize;

use crate::context::{Context, read_lock};
use crate::deployments::{self, Broken, Deployment};
use crate::failure::{Exit, Failure, Outcome};
use crate::files::{Replacements, shown};
use decide::{Decided, Decider};

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
    /// Give the upstreams' names again
    #[arg(long)]
    back: bool,
    /// Only images that match, as HOST/REPOSITORY with `*` and `**` (again for more)
    #[arg(long, value_name = "PATTERN")]
    only: Vec<Pattern>,
    /// Not those that match (again for more)
    #[arg(long, value_name = "PATTERN")]
    skip: Vec<Pattern>,
    /// Add this pull secret to pods that pull from the larder and do not name it
    #[arg(long, value_name = "NAME")]
    secret: Option<String>,
    /// Also change references within longer texts: environment, arguments, files in ConfigMaps
    #[arg(long)]
    include_strings: bool,
    /// Mend malformed names that can mean one thing only
    #[arg(long)]
    fix: bool,
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
#[derive(Debug, Clone, Serialize)]
struct Line {
    file: String,
    #[serde(rename = "line")]
    row: usize,
    column: usize,
    from: String,
    /// The new text. None: it is left as it is.
    to: Option<String>,
    /// Why it is left. None: it is changed, or right already.
    left: Option<String>,
    /// Whether that it is left is an answer of "no".
    #[serde(skip)]
    counts: bool,
}

/// What becomes of one file.
struct Rewritten {
    file: String,
    lines: Vec<Line>,
    /// The diff, where one is wanted. None: nothing changes.
    diff: Option<String>,
    changed: bool,
    template: bool,
    decided: Decided,
    /// It was not changed yet: it depends on what becomes of others.
    waits: Option<PathBuf>,
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
    let wish = Wish {
        direction: if args.back { Direction::Back } else { Direction::Here },
        pin: match (args.pin, args.unpin) {
            (true, _) => Pin::Add,
            (_, true) => Pin::Remove,
            _ => Pin::Keep,
        },
        host: args.to.clone(),
        only: args.only.clone(),
        skip: args.skip.clone(),
        mend: args.fix,
    };
    let retarget = Retarget::new(&routes, &lock, &config.larder.unqualified, wish);
    let mut decider = Decider {
        retarget,
        strings: args.include_strings,
        secret: args.secret.clone(),
        overlays: BTreeMap::new(),
    };
    if args.paths.iter().any(|path| path.as_os_str() == "-") {
        return filter(args, decider, &config, context).await;
    }
    if args.online {
        let asked = |one: &Deployment, found: &Scan<'_>| {
            Ok(decider.decide(&one.shown, found, false).1.unpinned)
        };
        let asked = deployments::each(&args.paths, &config.resources, asked);
        let asked: BTreeSet<Reference> = asked.done.into_iter().flatten().collect();
        decider.retarget.known = online::digests(&asked, &config, context).await;
    }
    let writing = Replacements::default();
    let work = |waits: bool| {
        let (decider, writing) = (&decider, &writing);
        move |one: &Deployment, found: &Scan<'_>| {
            rewrite_one(args, context, decider, one, found, writing, waits)
        }
    };
    let deployments::Outcome { done, mut broken } =
        deployments::each(&args.paths, &config.resources, work(true));
    // What overlays are about may just have got another name.
    let overlays: BTreeMap<Image, Image> =
        done.iter().flat_map(|one| one.decided.renamed.clone()).collect();
    let waiting: Vec<PathBuf> = done.iter().filter_map(|one| one.waits.clone()).collect();
    let mut files: Vec<Rewritten> = done.into_iter().filter(|one| one.waits.is_none()).collect();
    decider.overlays = overlays;
    let work = |one: &Deployment, found: &Scan<'_>| {
        rewrite_one(args, context, &decider, one, found, &writing, false)
    };
    let second = deployments::each(&waiting, &config.resources, work);
    files.extend(second.done);
    files.sort_by(|a, b| a.file.cmp(&b.file));
    broken.extend(second.broken);
    for (path, error) in writing.finish() {
        let file = shown(&path);
        if let Some(one) = files.iter_mut().find(|one| one.file == file) {
            one.changed = false;
        }
        broken.push(Broken { file, cause: error.to_string() });
    }
    show::all(args, &files, &broken, context);
    let lines = || files.iter().flat_map(|file| &file.lines);
    let refused = !broken.is_empty() || lines().any(|line| line.counts);
    let differs = args.check && files.iter().any(|file| file.changed);
    Ok(if refused || differs { Exit::No } else { Exit::Done })
}

fn rewrite_one(
    args: &Args,
    context: &Context,
    decider: &Decider<'_>,
    one: &Deployment,
    found: &Scan<'_>,
    writing: &Replacements,
    may_wait: bool,
) -> Result<Rewritten, String> {
    let file = one.shown.clone();
    let (lines, decided) = decider.decide(&file, found, true);
    let template = found.template;
    let mut rewritten =
        Rewritten { file, lines, diff: None, changed: false, template, decided, waits: None };
    if may_wait && rewritten.decided.overlay {
        rewritten.waits = Some(one.path.clone());
        return Ok(rewritten);
    }
    let changes = std::mem::take(&mut rewritten.decided.changes);
    if changes.is_empty() {
        return Ok(rewritten);
    }
    let new = found.splice(&changes).map_err(|error| format!("nothing was changed: {error}"))?;
    rewritten.changed = true;
    if args.write {
        may_write(&one.path, &one.text)?;
        let added = writing.add(&one.path, new.as_bytes());
        added.map_err(|error| error.to_string())?;
    } else if !args.check && !context.output.json {
        rewritten.diff = Some(show::unified(&one.shown, &one.text, &new));
    }
    Ok(rewritten)
}

/// Refuses to write where something would be lost.
fn may_write(path: &Path, old: &str) -> Result<(), String> {
    let text = |error: std::io::Error| error.to_string();
    // A link may lead to a file that belongs to something else.
    if std::fs::symlink_metadata(path).map_err(text)?.is_symlink() {
        let real = std::fs::canonicalize(path).map_err(text)?;
        let here = path.parent().filter(|one| !one.as_os_str().is_empty());
        let tree = std::fs::canonicalize(here.unwrap_or(Path::new("."))).map_err(text)?;
        let inside = std::env::current_dir().is_ok_and(|now| real.starts_with(now));
        if !real.starts_with(&tree) && !inside {
            return Err(format!(
                "it is a link that leads out of its folder, to {}; nothing was written",
                crate::files::named(&real)
            ));
        }
    }
    // Somebody may have saved the file since it was read; their version wins.
    let now = std::fs::read(path).map_err(text)?;
    if now != old.as_bytes() {
        return Err("it was changed while it was read; nothing was written".into());
    }
    Ok(())
}

async fn filter(
    args: &Args,
    mut decider: Decider<'_>,
    config: &crate::config::Config,
    context: &Context,
) -> Outcome {
    let what = "cannot rewrite what comes from stdin";
    if args.paths.len() > 1 || args.write || args.check {
        return Err(Failure::usage(
            what,
            "`-` goes alone, and its result to stdout",
            "leave the other paths and options out",
        ));
    }
    let mut bytes = Vec::new();
    let read = std::io::stdin().take(FILE_LIMIT + 1).read_to_end(&mut bytes);
    read.map_err(|error| Failure::io(what, &error))?;
    if bytes.len() as u64 > FILE_LIMIT {
        return Err(Failure::usage(
            what,
            format!("it is larger than {}", crate::output::bytes(FILE_LIMIT)),
            "",
        ));
    }
    let unreadable = |cause: String| {
        Failure::usage(what, cause, "mend it first; nothing was written").ending(Exit::No)
    };
    let text = String::from_utf8(bytes).map_err(|_| unreadable("it is no UTF-8 text".into()))?;
    let file = File { custom: &config.resources, ..File::default() };
    let found = scan(&text, &file).map_err(|error| unreadable(error.to_string()))?;
    if args.online {
        let asked = decider.decide("stdin", &found, false).1.unpinned.into_iter().collect();
        decider.retarget.known = online::digests(&asked, config, context).await;
    }
    let (lines, decided) = decider.decide("stdin", &found, true);
    let new = found.splice(&decided.changes).map_err(|error| unreadable(error.to_string()))?;
    context.output.raw(&new);
    show::left(&lines, context);
    Ok(if lines.iter().any(|line| line.counts) { Exit::No } else { Exit::Done })
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
