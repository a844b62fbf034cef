//! `larder rounds`: everything that needs a decision today, worst first.

pub mod gather;
mod published;
mod signed;

use larder_core::quantity::Span;
use larder_core::rounds::{Concern, Rounds, Silence, Urgency};
use larder_store::Store;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::config::Config;
use crate::context::{Context, now, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::marks;
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, ago, count, paint, time, until};

/// List everything that needs a decision today, worst first
///
/// Each line says since when, how bad, and what to type. Nothing is asked over the network: it is what this larder's store
/// and files tell. Exit status 1 says that something is urgent. With --quiet only what is urgent is shown, for timers.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "Urgent: somebody is hurt by it, or will be within days. Soon: it becomes urgent if nobody looks.\n\
    Notice: good to know.\n\n\
    Examples:\n  larder rounds --since 1d\n  \
    larder rounds --silence backup --because \"the new disk comes on Monday\" --for 5d"
)]
pub struct Args {
    /// Only what began so long ago or later; what has no beginning too
    #[arg(long, value_name = "SPAN")]
    since: Option<Span>,
    /// Do not show the line of this name for a while (as its last column has it)
    #[arg(long, value_name = "NAME", requires = "because", requires = "span")]
    silence: Option<String>,
    /// With --silence: why
    #[arg(long, value_name = "TEXT", requires = "silence")]
    because: Option<String>,
    /// With --silence: for how long
    #[arg(long = "for", id = "span", value_name = "SPAN", requires = "silence")]
    span: Option<Span>,
    /// Show the line of this name again
    #[arg(long, value_name = "NAME", conflicts_with = "silence")]
    unsilence: Option<String>,
    /// Show what is silenced, too
    #[arg(long)]
    silenced: bool,
}

/// The longest that something is silenced: a year.
const LONGEST: std::time::Duration = std::time::Duration::from_secs(366 * 24 * 3600);

/// A silence, as the store has it.
#[derive(Serialize, Deserialize)]
struct StoredSilence {
    because: String,
    until: i64,
}

#[derive(Serialize, JsonSchema)]
pub struct RoundsReport {
    concerns: Vec<ConcernRow>,
    silenced: Vec<SilencedRow>,
    urgent: usize,
    #[serde(skip)]
    show_silenced: bool,
}

#[derive(Serialize, JsonSchema, Clone)]
pub struct ConcernRow {
    pub name: String,
    /// `urgent`, `soon`, `notice`.
    pub urgency: &'static str,
    /// null: that is not known.
    pub since: Option<String>,
    pub text: String,
    /// What to type. Empty: nothing.
    pub remedy: String,
    #[serde(skip)]
    at: Option<i64>,
}

#[derive(Serialize, JsonSchema)]
struct SilencedRow {
    name: String,
    text: String,
    because: String,
    until: String,
    #[serde(skip)]
    end: i64,
}

impl From<&Concern> for ConcernRow {
    fn from(one: &Concern) -> Self {
        Self {
            name: one.name.clone(),
            urgency: one.urgency.word(),
            since: one.since.map(time),
            text: one.text.clone(),
            remedy: one.remedy.clone(),
            at: one.since,
        }
    }
}

impl Report for RoundsReport {
    const KIND: &'static str = "rounds";

    fn show(&self, out: &Output) {
        let urgent = |row: &&ConcernRow| row.urgency == Urgency::Urgent.word();
        let rows: Vec<&ConcernRow> =
            self.concerns.iter().filter(|row| !out.quiet || urgent(row)).collect();
        let mut table = Table::new(out.width(), &["", "SINCE", "WHAT", "NAME"]).sparing(&["NAME"]);
        for row in &rows {
            let word = match row.urgency {
                "urgent" => paint(BAD, row.urgency),
                "soon" => paint(WARN, row.urgency),
                _ => paint(DIM, row.urgency),
            };
            let since = row.at.map_or_else(|| "-".to_owned(), |at| ago(at, now()));
            let mut text = row.text.clone();
            if !row.remedy.is_empty() {
                text.push_str(&paint(DIM, format!("\n→ {}", row.remedy)));
            }
            table.row([word, since, text, paint(DIM, &row.name)]);
        }
        if !rows.is_empty() {
            out.table(&table);
        }
        if !out.quiet {
            let (all, urgent) = (count(self.concerns.len(), "line"), self.urgent);
            out.result(match self.concerns.is_empty() {
                true => paint(GOOD, "nothing needs a decision"),
                false => format!("{all}, {urgent} urgent"),
            });
        }
        if self.show_silenced {
            for one in &self.silenced {
                let left = until(one.end, now());
                out.result(format!(
                    "silenced for {left}: {} ({}); because {}",
                    one.text, one.name, one.because
                ));
            }
        } else if !self.silenced.is_empty() {
            out.note(format!(
                "{} silenced; `--silenced` shows them",
                count(self.silenced.len(), "line")
            ));
        }
    }
}

/// What is silenced, by name.
pub async fn silences(store: &Store) -> Result<Vec<Silence>, Failure> {
    let marks = store.marks(marks::SILENCE).await;
    let marks = marks.map_err(|error| Failure::store("cannot read what is silenced", &error))?;
    let silence = marks.into_iter().filter_map(|mark| {
        let StoredSilence { because, until } = serde_json::from_str(&mark.value).ok()?;
        let name = mark.name.strip_prefix(marks::SILENCE)?.to_owned();
        Some(Silence { name, because, until })
    });
    Ok(silence.collect())
}

/// The rounds as they are now.
pub async fn rounds(config: &Config, store: &Store) -> Result<Rounds, Failure> {
    let concerns = gather::all(config, store).await?;
    Ok(Rounds::new(concerns, &silences(store).await?, now()))
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let failed = |error| Failure::store("cannot silence it", &error);
    if let Some(name) = &args.unsilence {
        let mark = format!("{}{name}", marks::SILENCE);
        let was = store.remove_mark(&mark).await.map_err(failed)?;
        context.output.note(match was {
            true => format!("{name} is shown again"),
            false => format!("{name} was not silenced"),
        });
        return Ok(if was { Exit::Done } else { Exit::No });
    }
    if let (Some(name), Some(because), Some(span)) = (&args.silence, &args.because, args.span) {
        return silence(name, because, span, &config, &store, context).await;
    }
    let mut rounds = rounds(&config, &store).await?;
    if let Some(Span(since)) = args.since {
        let from = now().saturating_sub(i64::try_from(since.as_millis()).unwrap_or(i64::MAX));
        rounds.open.retain(|one| one.since.is_none_or(|since| since >= from));
    }
    let urgent = rounds.open.iter().filter(|one| one.urgency == Urgency::Urgent).count();
    context.output.tell(&RoundsReport {
        concerns: rounds.open.iter().map(ConcernRow::from).collect(),
        silenced: rounds
            .silenced
            .iter()
            .map(|(concern, silence)| SilencedRow {
                name: concern.name.clone(),
                text: concern.text.clone(),
                because: silence.because.clone(),
                until: time(silence.until),
                end: silence.until,
            })
            .collect(),
        urgent,
        show_silenced: args.silenced,
    });
    Ok(if rounds.is_urgent() { Exit::No } else { Exit::Done })
}

async fn silence(
    name: &str,
    because: &str,
    Span(span): Span,
    config: &Config,
    store: &Store,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot silence {}", name.escape_debug());
    if span > LONGEST {
        let cause = "nothing is silenced for longer than a year";
        return Err(Failure::usage(what(), cause, "say `--for 366d` at most"));
    }
    if because.trim().is_empty() {
        return Err(Failure::usage(what(), "`--because` says nothing", "say why"));
    }
    let rounds = rounds(config, store).await?;
    let known = rounds.open.iter().chain(rounds.silenced.iter().map(|(one, _)| one));
    let names: Vec<&str> = known.map(|one| one.name.as_str()).collect();
    if !names.contains(&name) {
        let near = larder_core::nearest::nearest(name, names.iter().copied());
        let remedy = near.map_or_else(
            || "the last column of `larder rounds` has the names".to_owned(),
            |near| format!("did you mean {near}?"),
        );
        return Err(Failure::usage(what(), "no line has that name now", remedy));
    }
    let until = now().saturating_add(i64::try_from(span.as_millis()).unwrap_or(i64::MAX));
    let silence = StoredSilence { because: because.to_owned(), until };
    let text = serde_json::to_string(&silence).unwrap_or_default();
    let mark = format!("{}{name}", marks::SILENCE);
    store.set_mark(&mark, &text).await.map_err(|error| Failure::store(what(), &error))?;
    context.output.note(format!("{name} is silenced until {}", time(until)));
    Ok(Exit::Done)
}
