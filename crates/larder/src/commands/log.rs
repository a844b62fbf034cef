//! `larder log`: who pulled, pushed, was refused.

pub mod export;

use std::collections::HashMap;
use std::path::PathBuf;
use std::time::Duration;

use clap::builder::{PossibleValuesParser, TypedValueParser};
use larder_core::digest::Digest;
use larder_core::quantity::Span;
use larder_core::shown::shown;
use larder_core::signature::VerifyingKey;
use larder_store::{Filter, RecordEntry, RecordKind, now};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, paint, short, time};

/// Show who signed in, pulled, pushed, removed and was refused, and by which line
///
/// Pulls of one image by one account are one line a day, with a count; sign-ins and refusals that repeat
/// within a minute are one line. Exit status 1 says that nothing was found.
///
/// --export writes the hours that have closed as signed files, each with its predecessor's digest; --verify proves them.
/// What is merged or forgotten here later stays provable there.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Kinds: sign-in, failed, refused, warned, pull, push, delete, key, config, probe,\nintake, copy, promote, sign, unpack, collect."
)]
pub struct Args {
    /// The refusal of this reference number, as its message carries it
    #[arg(value_name = "NUMBER")]
    number: Option<String>,
    /// Only what happened so long ago or later: 2h, 30d
    #[arg(long, value_name = "SPAN")]
    since: Option<Span>,
    /// Only these kinds (again for more)
    #[arg(long, value_name = "KIND", value_parser = kinds(), hide_possible_values = true)]
    kind: Vec<RecordKind>,
    /// Only this user; a cluster's name stands for its namespaces too
    #[arg(long, value_name = "USER")]
    who: Option<String>,
    /// Only what is about this: a part of a reference, or a key
    #[arg(long, value_name = "TEXT")]
    about: Option<String>,
    /// At most so many lines, the latest
    #[arg(long, value_name = "COUNT", default_value_t = 200)]
    limit: usize,
    /// Go on with what happens from now on
    #[arg(long, short)]
    follow: bool,
    /// Write the hours that have closed since the last export into this folder, signed, each file after the other
    #[arg(long, value_name = "FOLDER", group = "files")]
    export: Option<PathBuf>,
    /// With --export: begin a new chain, in an empty folder
    #[arg(long, requires = "export")]
    anew: bool,
    /// Prove that exported files are complete and unaltered
    #[arg(long, value_name = "FOLDER", group = "files")]
    verify: Option<PathBuf>,
    /// With --verify: believe this key too, beside those of `[parcel]` in larder.toml (again for more)
    #[arg(long, value_name = "KEY", requires = "verify")]
    trust: Vec<VerifyingKey>,
}

/// Reads a kind, and says which there are.
fn kinds() -> impl TypedValueParser<Value = RecordKind> {
    let words = PossibleValuesParser::new(RecordKind::ALL.map(RecordKind::word));
    words.try_map(|word| RecordKind::of(&word).ok_or("it is no kind of line"))
}

/// How long after it happened something may be written down, in milliseconds.
const LATE: i64 = 10_000;

/// A line as programs read it.
#[derive(Serialize, JsonSchema)]
pub struct LogEntry {
    number: String,
    first_at: String,
    last_at: String,
    count: u64,
    /// What happened: `pull`, `push`, `delete`, `sign-in`, `refused`, `warned`, `failed`, `key`, `config`, `probe`, `intake`, `copy`,
    /// `promote`, `sign`, `unpack`, `collect`.
    event: &'static str,
    who: Option<String>,
    /// By what they signed in.
    by: Option<String>,
    address: Option<String>,
    /// By whom of the operating system, on which machine, by which command. null: not by a command.
    origin: Option<String>,
    reference: Option<String>,
    /// The line of the configuration that decided.
    line: Option<String>,
    text: String,
}

impl Report for LogEntry {
    const KIND: &'static str = "log-entry";

    fn show(&self, out: &Output) {
        out.result(&self.text);
    }
}

impl LogEntry {
    fn of(entry: &RecordEntry) -> Self {
        Self {
            number: entry.number.clone(),
            first_at: time(entry.first),
            last_at: time(entry.last),
            count: entry.count,
            event: entry.kind.word(),
            who: Some(entry.who.clone()).filter(|who| !who.is_empty()),
            by: entry.by.clone(),
            address: entry.address.clone(),
            origin: entry.origin.clone(),
            reference: entry.reference.clone(),
            line: entry.line.clone(),
            text: entry.text.clone(),
        }
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    if let Some(folder) = &args.verify {
        let config = context.config_if_any()?;
        return export::verify(folder, &args.trust, config.as_ref(), context).await;
    }
    let config = context.config()?;
    let store = store_here(&config)?;
    if let Some(folder) = &args.export {
        return export::export(folder, args.anew, &config, &store, context).await;
    }
    let span = |span: Span| i64::try_from(span.0.as_millis()).unwrap_or(i64::MAX);
    let mut filter = Filter {
        since: args.since.map(|since| now().saturating_sub(span(since))),
        kinds: args.kind.clone(),
        who: args.who.clone(),
        about: args.about.clone(),
        number: args.number.as_ref().map(|text| text.trim_matches(['[', ']']).to_owned()),
        limit: Some(args.limit),
    };
    let failed = |error| Failure::store("cannot read the record", &error);
    let mut entries = store.entries(filter.clone()).await.map_err(failed)?;
    let found = !entries.is_empty();
    context.output.tell_each(entries.iter().map(LogEntry::of), |out| {
        show(&entries, args.follow, out);
    });
    if !args.follow {
        if !found {
            context.output.note(match &args.number {
                Some(_) => "no record has that number",
                None => "no record matches",
            });
        }
        return Ok(if found { Exit::Done } else { Exit::No });
    }
    // A line is written some time after what it tells of: it is looked back a little, and what was shown
    // already is left out.
    let counts = |entries: &[RecordEntry]| -> HashMap<String, u64> {
        entries.iter().map(|entry| (entry.number.clone(), entry.count)).collect()
    };
    let mut shown = counts(&entries);
    let mut latest = entries.last().map_or_else(now, |entry| entry.last.max(now()));
    (filter.limit, filter.since) = (None, Some(latest.saturating_sub(LATE)));
    loop {
        tokio::time::sleep(Duration::from_millis(500)).await;
        entries = store.entries(filter.clone()).await.map_err(failed)?;
        let before = std::mem::replace(&mut shown, counts(&entries));
        entries.retain(|entry| before.get(&entry.number) != Some(&entry.count));
        if let Some(last) = entries.last() {
            latest = latest.max(last.last);
            filter.since = Some(latest.saturating_sub(LATE));
            context.output.tell_each(entries.iter().map(LogEntry::of), |out| {
                show(&entries, true, out);
            });
        }
    }
}

/// A text for people: digests in it are as short as everywhere.
fn with_short_digests(text: &str) -> String {
    let words = text.split_inclusive([' ', ',', ';', ')']);
    let short_one = |word: &str| {
        let name = word.trim_end_matches([' ', ',', ';', ')']);
        let (before, digest) =
            name.rsplit_once('@').map_or(("", name), |(a, _)| name.split_at(a.len() + 1));
        match digest.parse::<Digest>() {
            Ok(digest) => format!("{before}{}{}", short(&digest), &word[name.len()..]),
            Err(_) => word.to_owned(),
        }
    };
    words.map(short_one).collect()
}

fn show(entries: &[RecordEntry], follow: bool, out: &Output) {
    if entries.is_empty() {
        return;
    }
    let mut table = Table::new(out.width(), &["LAST", "WHAT", "WHO", "ABOUT", "NUMBER"]);
    for entry in entries {
        let word = entry.kind.word();
        let word = match entry.kind {
            RecordKind::Refused | RecordKind::Failed => paint(BAD, word),
            RecordKind::Warned => paint(WARN, word),
            RecordKind::Pull | RecordKind::Push | RecordKind::SignIn => paint(GOOD, word),
            _ => word.to_owned(),
        };
        let times = if entry.count > 1 { format!(" ×{}", entry.count) } else { String::new() };
        // Who did it by command is known by the operating system.
        let who = match (entry.who.as_str(), entry.origin.as_deref()) {
            ("", Some(origin)) => shown(origin.split_once(": ").map_or(origin, |(who, _)| who)),
            ("", None) => "-".into(),
            (who, _) => shown(who),
        };
        let mut about: Vec<String> =
            entry.reference.iter().map(|about| shown(about).into_owned()).collect();
        if !entry.text.is_empty() && entry.kind != RecordKind::Pull {
            about.push(paint(DIM, with_short_digests(&shown(&entry.text))));
        }
        about.extend(entry.line.iter().map(|line| paint(DIM, format!("decided by {line}"))));
        let mut from: Vec<String> = vec![who.into_owned()];
        let from_where = entry.address.as_ref().map(|from| format!("from {from}"));
        let command = entry.origin.as_deref().and_then(|origin| origin.split_once(": "));
        let command = match (entry.who.is_empty(), command) {
            (true, Some((_, command))) => Some(command.to_owned()),
            _ => entry.origin.clone(),
        };
        let by = [entry.by.clone(), from_where, command];
        let by: Vec<String> = by.into_iter().flatten().collect();
        if !by.is_empty() {
            from.push(paint(DIM, shown(&by.join(", "))));
        }
        let number = paint(DIM, &entry.number);
        table.row([
            time(entry.last),
            format!("{word}{times}"),
            from.join("\n"),
            about.join("\n"),
            number,
        ]);
    }
    let text = table.text();
    let text = if follow { text.split_once('\n').map_or("", |(_, rows)| rows) } else { &text };
    out.result(text);
}
