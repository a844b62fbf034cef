//! `larder report`: one page with figures and drawings.

pub mod figures;
mod health;
mod plots;
pub mod service;

use std::path::PathBuf;

use askama::Template;
use larder_transfer::files::{named, replace};
use schemars::JsonSchema;
use serde::Serialize;

use self::figures::Figures;
use self::plots::Plot;
use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, bytes, count};

/// Write one page with figures and drawings: what is stored, pulled, refused and needs a decision
///
/// The page needs nothing else: no script, no network, no other file. It is readable on a phone, light and dark, and
/// printable; with scripts on, its tables are sorted by a click. `--json` says the same figures.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The folder in which report.html is written, or replaced
    #[arg(long, value_name = "FOLDER")]
    into: PathBuf,
    /// How many days back pulls, refusals and removals are counted
    #[arg(long, value_name = "DAYS", default_value_t = 30, value_parser = clap::value_parser!(i64).range(1..=366))]
    days: i64,
}

#[derive(Serialize, JsonSchema)]
pub struct ReportDocument {
    /// The page that was written.
    file: PathBuf,
    figures: Figures,
}

impl Report for ReportDocument {
    const KIND: &'static str = "report";

    fn show(&self, out: &Output) {
        let Figures { tags, size_bytes, pulls_in_all, concerns, days, .. } = &self.figures;
        out.result(format!(
            "wrote {}: {tags} tags in {}, {pulls_in_all} pulls in {days} days, {} to decide",
            named(&self.file),
            bytes(*size_bytes),
            count(concerns.len(), "line")
        ));
    }
}

#[derive(Template)]
#[template(path = "report.html")]
struct Page<'p> {
    f: &'p Figures,
    growth: Option<Plot>,
    pulls: Option<Plot>,
    service: Option<Plot>,
}

impl Page<'_> {
    /// Bytes, for people.
    #[expect(clippy::unused_self, reason = "templates call methods")]
    fn size(&self, size: &u64) -> String {
        bytes(*size)
    }

    #[expect(clippy::unused_self, clippy::ref_option, reason = "templates call methods")]
    fn text(&self, text: &Option<String>) -> String {
        text.clone().unwrap_or_else(|| "-".to_owned())
    }

    #[expect(clippy::unused_self, clippy::ref_option, reason = "templates call methods")]
    fn quota(&self, held: &u64, most: &Option<u64>) -> String {
        let percent = |most: &u64| u128::from(*held) * 100 / u128::from((*most).max(1));
        most.as_ref().map_or_else(
            || "-".to_owned(),
            |most| format!("{} % of {}", percent(most), bytes(*most)),
        )
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let store = store_here(&config)?;
    let what = || format!("cannot write the report to {}", named(&args.into));
    let figures = Figures::gather(&config, &store, args.days).await?;
    let page = Page {
        growth: plots::growth(&figures)?,
        pulls: plots::pulls(&figures)?,
        service: plots::service(&figures)?,
        f: &figures,
    };
    let text = page.render().map_err(|error| Failure::usage(what(), error, ""))?;
    std::fs::create_dir_all(&args.into).map_err(|error| Failure::io(what(), &error))?;
    let file = args.into.join("report.html");
    replace(&file, text.as_bytes()).map_err(|error| Failure::file(what(), &file, &error))?;
    context.output.tell(&ReportDocument { file, figures });
    Ok(Exit::Done)
}
