//! `larder advisory import`: taking in what others have published, from files.

use std::path::PathBuf;

use larder_core::advisory::is_feed_name;
use larder_core::shown::cut;
use larder_store::{Feed, Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use super::taking::{RefusedDocument, Taking};
use crate::context::{Context, now, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, STRONG, WARN, count, paint, time};

/// Take in advisories and statements that others have published, from files
#[derive(Debug, Clone, clap::Args)]
#[command(
    after_help = "OSV (a folder, a zip archive, a file, or one document a line, also as .gz), CSAF 2.0 and OpenVEX.\n\
    What is newer takes the place of what is here; what was withdrawn goes."
)]
pub struct Args {
    /// Files, folders and archives; `-` reads stdin
    #[arg(required = true, value_name = "PATH")]
    paths: Vec<PathBuf>,
    /// What they are called together [default: the first path's name]
    #[arg(long, value_name = "NAME")]
    feed: Option<String>,
    /// Take away what the feed had and these files do not have
    #[arg(long)]
    whole: bool,
    /// They are your own: what their statements say is not affected counts as hidden
    #[arg(long)]
    own: bool,
    /// Read and judge, and take nothing in
    #[arg(long)]
    dry_run: bool,
}

/// What was taken in.
#[derive(Serialize, JsonSchema)]
pub struct ImportReport {
    feed: String,
    dry_run: bool,
    /// Of all that was read.
    digest: String,
    /// In a dry run all that would be taken in, whether it is here or not.
    new: u64,
    changed: u64,
    /// Those that were here as they are, or newer.
    same: u64,
    /// Those that were withdrawn.
    withdrawn: u64,
    /// Those that the feed had and that the files do not have.
    removed: u64,
    statements: u64,
    /// Whether what the statements call not affected counts as hidden.
    own: bool,
    /// Those that name no package of an ecosystem that is known: they are kept, and matched with nothing.
    unmatched: u64,
    /// When the newest of it was changed. null: it has none.
    newest_at: Option<String>,
    refused: Vec<RefusedDocument>,
    /// All that were refused, also those that are not listed.
    refused_count: u64,
}

/// A feed's name: what fits on a line and into a file's name.
fn feed_name(args: &Args) -> Result<String, Failure> {
    let what = "cannot name the feed";
    let name = match &args.feed {
        Some(name) => name.clone(),
        None => {
            let first = args.paths.first().and_then(|path| path.file_name());
            let name = first.and_then(|name| name.to_str()).unwrap_or_default();
            name.split('.').next().unwrap_or_default().to_ascii_lowercase()
        }
    };
    if !is_feed_name(&name) {
        let cause = format!("`{}` is no name of a feed", name.escape_debug());
        let remedy = "give one with `--feed`: lower-case letters, digits, `-`, `_` and `.`";
        return Err(Failure::usage(what, cause, remedy));
    }
    Ok(name)
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: the steps of an import, in their order.
    let config = context.config()?;
    let store = store_here(&config)?;
    let feed = feed_name(args)?;
    let what = || format!("cannot take in the feed {feed}");
    let failed = |error: StoreError| Failure::store(what(), &error);
    let known = store.feeds().await.map_err(failed)?;
    let paths = args.paths.clone();
    let at = now();
    let progress = context.output.progress();
    let taking = Taking { store: &store, feed: &feed, at, dry_run: args.dry_run };
    let tell = |count: u64| progress.say(format!("{count} advisories"));
    let taken = taking.take(tell, move |files| {
        paths.iter().try_for_each(|path| files.read(path).map_err(|error| (path.clone(), error)))
    });
    let (outcome, taken) = taken.await.map_err(failed)?;
    progress.done();
    let broke_off = outcome.err().map(|(path, error)| {
        let named = larder_transfer::files::named(&path);
        Failure::io(format!("cannot read {named}"), &error)
    });
    let was_own = known.iter().any(|one| one.name == feed && one.is_trusted);
    let own = args.own || was_own;
    let mut report = ImportReport {
        own,
        feed: feed.clone(),
        dry_run: args.dry_run,
        digest: taken.digest.to_string(),
        new: taken.advisories.new,
        changed: taken.advisories.changed,
        same: taken.advisories.same,
        withdrawn: taken.advisories.withdrawn,
        removed: 0,
        statements: taken.statements,
        unmatched: taken.unmatched,
        newest_at: taken.newest.map(time),
        refused: taken.refused,
        refused_count: taken.refused_count,
    };
    let is_nothing = taken.advisories.sum() == 0 && taken.statements == 0;
    if let Some(failure) = broke_off.as_ref().filter(|_| args.dry_run || is_nothing) {
        return Err(failure.clone());
    }
    if !args.dry_run {
        let origin: Vec<String> = args.paths.iter().map(larder_transfer::files::named).collect();
        let noted = Feed {
            name: feed.clone(),
            origin: cut(&origin.join(" "), 500),
            digest: taken.digest.to_string(),
            imported_at: at,
            newest: taken.newest.unwrap_or(0),
            advisories: 0,
            unmatched: taken.unmatched,
            is_trusted: own,
        };
        // What could not be read may be what would be taken away.
        let whole = args.whole && report.refused_count == 0 && broke_off.is_none();
        report.removed = store.finish_feed(noted, whole.then_some(at)).await.map_err(failed)?;
        if args.whole && !whole {
            let told = "note: nothing was taken away, since not all of it could be read";
            context.output.note(told);
        }
        store.note_held().await.map_err(failed)?;
    }
    // What was taken in before it broke off is a feed all the same.
    if let Some(failure) = broke_off {
        return Err(failure);
    }
    context.output.tell(&report);
    Ok(if report.refused_count == 0 { Exit::Done } else { Exit::No })
}

/// Opens the store for a command about advisories, which needs some.
pub async fn with_feeds(store: &Store, what: &str) -> Result<Vec<Feed>, Failure> {
    let feeds = store.feeds().await.map_err(|error| Failure::store(what, &error))?;
    if feeds.is_empty() {
        let cause = "no advisories were taken in yet, so that nothing can be said";
        let remedy = "take some in: `larder advisory import PATH`";
        return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
    }
    Ok(feeds)
}

impl Report for ImportReport {
    const KIND: &'static str = "advisory-import";

    fn show(&self, out: &Output) {
        let would = if self.dry_run { "would take in" } else { "took in" };
        let read = match self.new + self.changed + self.same {
            1 => "1 advisory".to_owned(),
            number => format!("{number} advisories"),
        };
        let new = match self.dry_run {
            true => String::new(),
            false => {
                format!(": {} new, {} changed, {} the same", self.new, self.changed, self.same)
            }
        };
        out.result(format!("{would} {read} of {}{new}", paint(STRONG, &self.feed)));
        if self.statements > 0 {
            let counts = if self.own { "they count" } else { "they are shown and hide nothing" };
            let statements = count(usize::try_from(self.statements).unwrap_or(0), "statement");
            out.result(format!("  {statements} about what is affected; {counts}"));
        }
        for (number, words) in [
            (self.withdrawn, "withdrawn by their publisher"),
            (self.removed, "taken away: the files have them no more"),
            (self.unmatched, "of ecosystems that are not known: kept, and matched with nothing"),
        ] {
            if number > 0 {
                out.result(format!("  {number} {words}"));
            }
        }
        for one in &self.refused {
            out.result(format!("{}: {}: {}", paint(WARN, "refused"), one.place, one.cause));
        }
        if self.refused_count > self.refused.len() as u64 {
            out.result(format!("{} in all were refused", self.refused_count));
        }
    }
}
