//! `larder advisory show`: what an advisory says.

use larder_core::advisory::Advisory;
use larder_core::shown::cut;
use schemars::JsonSchema;
use serde::Serialize;

use super::import::with_feeds;
use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, STRONG, folded, paint};

/// Say what an advisory says
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// Its name, or another name of the same
    #[arg(value_name = "ID")]
    id: String,
}

/// An advisory, as each feed has it.
#[derive(Serialize, JsonSchema)]
pub struct AdvisoryReport {
    asked: String,
    found: Vec<AdvisoryText>,
    statements: Vec<StatementText>,
}

#[derive(Serialize, JsonSchema)]
struct AdvisoryText {
    id: String,
    feed: String,
    modified_at: String,
    /// Its other names, and those of what it has to do with.
    names: Vec<String>,
    summary: String,
    details: String,
    severity: &'static str,
    /// Its best CVSS vector, and the score. null: it has none.
    vector: Option<String>,
    score: Option<f64>,
    affected: Vec<AffectedText>,
    references: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct AffectedText {
    ecosystem: String,
    package: String,
    /// Versions that it lists.
    versions: Vec<String>,
    /// Each as `from A before B`.
    ranges: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct StatementText {
    feed: String,
    /// Whether it counts.
    own: bool,
    author: String,
    at: String,
    /// `not_affected`, `affected`, `fixed`, `under_investigation`.
    status: &'static str,
    because: String,
    products: Vec<String>,
}

impl AdvisoryText {
    fn of(feed: &str, advisory: &Advisory) -> Self {
        let affected = advisory.affected.iter().filter_map(|one| {
            let package = one.package.as_ref()?;
            Some(AffectedText {
                ecosystem: package.ecosystem.clone(),
                package: package.name.clone(),
                versions: one.versions.clone(),
                ranges: one.ranges.iter().flat_map(range).collect(),
            })
        });
        let vector = advisory.vector();
        Self {
            id: advisory.id.clone(),
            feed: feed.to_owned(),
            modified_at: advisory.modified.to_string(),
            names: advisory.names().into_iter().skip(1).map(str::to_owned).collect(),
            summary: advisory.summary.clone(),
            details: advisory.details.clone(),
            severity: advisory.severity().word(),
            vector: vector.map(|(vector, _)| vector.to_owned()),
            score: vector.map(|(_, score)| score),
            affected: affected.collect(),
            references: advisory.references.iter().map(|one| one.url.clone()).collect(),
        }
    }
}

/// A range in words.
fn range(range: &larder_core::advisory::RangeEvents) -> Vec<String> {
    if range.kind == "GIT" {
        return vec!["commits, which are not compared".to_owned()];
    }
    let words = range.events.iter().filter_map(|event| {
        let version =
            |text: &String| if text == "0" { "the first".to_owned() } else { text.clone() };
        let (word, text) = match event {
            event if event.introduced.is_some() => ("from", event.introduced.as_ref()),
            event if event.fixed.is_some() => ("before", event.fixed.as_ref()),
            event if event.last_affected.is_some() => ("up to", event.last_affected.as_ref()),
            event => ("not from", event.limit.as_ref()),
        };
        text.map(|text| format!("{word} {}", version(text)))
    });
    vec![words.collect::<Vec<_>>().join(" ")]
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = format!("cannot show {}", larder_core::shown::shown(&args.id));
    with_feeds(&store, &what).await?;
    let failed = |error| Failure::store(&what, &error);
    let found = store.advisories_called(&args.id).await.map_err(failed)?;
    let mut names = std::collections::BTreeSet::from([args.id.clone()]);
    for (_, one) in &found {
        names.extend(one.advisory.names().into_iter().map(str::to_owned));
    }
    let statements = store.statements_about(names).await.map_err(failed)?;
    if found.is_empty() && statements.is_empty() {
        let remedy = "`larder advisory list --all` lists them";
        let cause = "no feed has one of that name";
        return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
    }
    let statements = statements.into_iter().map(|(feed, own, one)| StatementText {
        feed,
        own,
        author: one.author,
        at: one.at.to_string(),
        status: one.status.word(),
        because: one.because,
        products: one.products.into_iter().chain(one.within).collect(),
    });
    context.output.tell(&AdvisoryReport {
        asked: args.id.clone(),
        found: found.iter().map(|(_, one)| AdvisoryText::of(&one.feed, &one.advisory)).collect(),
        statements: statements.collect(),
    });
    Ok(Exit::Done)
}

impl Report for AdvisoryReport {
    const KIND: &'static str = "advisory";

    fn show(&self, out: &Output) {
        for (number, one) in self.found.iter().enumerate() {
            if number > 0 {
                out.result("");
            }
            out.result(format!("{}  {}", paint(STRONG, &one.id), cut(&one.summary, 300)));
            let score = one.score.map_or_else(String::new, |score| format!(" ({score:.1})"));
            out.result(format!("  severity  {}{score}", one.severity));
            if let Some(vector) = &one.vector {
                out.result(format!("  vector    {vector}"));
            }
            out.result(format!("  feed      {}, changed {}", one.feed, one.modified_at));
            if !one.names.is_empty() {
                out.result(format!("  also      {}", one.names.join(" ")));
            }
            for affected in one.affected.iter().take(200) {
                let (package, ecosystem) = (&affected.package, &affected.ecosystem);
                let mut words = affected.ranges.clone();
                if !affected.versions.is_empty() {
                    let listed: Vec<&str> =
                        affected.versions.iter().take(10).map(String::as_str).collect();
                    let more = affected.versions.len() - listed.len();
                    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                    words.push(format!("versions {}{more}", listed.join(" ")));
                }
                out.result(format!("  affected  {package} ({ecosystem}) {}", words.join("; ")));
            }
            for url in one.references.iter().take(20) {
                out.result(format!("  see       {}", cut(url, 200)));
            }
            if !one.details.is_empty() {
                for line in one.details.lines().take(100) {
                    out.result(format!("  {}", folded(&cut(line, 500), out.width(), 2)));
                }
            }
        }
        for one in &self.statements {
            let counts = if one.own { "" } else { "; it does not count" };
            let because =
                if one.because.is_empty() { String::new() } else { format!(": {}", one.because) };
            let status = one.status.replace('_', " ");
            out.result(format!(
                "statement  {status}{because} ({}, feed {}, {}{counts})",
                one.author, one.feed, one.at
            ));
            for product in one.products.iter().take(20) {
                out.result(format!("           {}", cut(product, 200)));
            }
        }
    }
}
