//! `larder demo`: the whole story on made-up data, with the program's own commands.

mod chapters;
mod guarded;
mod house;
mod signed;
mod stage;
mod story;
mod texts;
mod told;

use std::path::PathBuf;
use std::time::Instant;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{DIM, GOOD, STRONG, paint};
use chapters::{ALL, Chapter};

/// See the whole story on made-up data, on this machine
///
/// Stand-in upstreams, a larder and a stand-in cluster, all on loopback and in a temporary folder.
/// Every chapter is checked; exit status 0 says that all held.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Show this chapter alone; those before it are played unseen
    #[arg(long, value_name = "N")]
    chapter: Option<usize>,
    /// List the chapters
    #[arg(long, conflicts_with_all = ["chapter", "stay", "into"])]
    list: bool,
    /// Leave everything running afterwards, and say what to try
    #[arg(long)]
    stay: bool,
    /// Keep the files in this folder, which must be new or empty
    #[arg(long, value_name = "DIR")]
    into: Option<PathBuf>,
}

pub async fn run(args: Args, context: &Context) -> Outcome {
    if context.output.json {
        let cause = "the demo is a story for people";
        return Err(Failure::usage("cannot tell the demo as JSON", cause, "leave `--json` out"));
    }
    if args.list {
        for (number, chapter) in (1..).zip(ALL) {
            let Chapter { title, lead, .. } = chapter;
            context.output.result(format!("{number:>2}. {}\n    {}", title, paint(DIM, lead)));
        }
        return Ok(Exit::Done);
    }
    if let Some(number) = args.chapter.filter(|number| !(1..=ALL.len()).contains(number)) {
        let cause = format!("there is no chapter {number}; there are {}", ALL.len());
        return Err(Failure::usage("cannot tell it", cause, "`larder demo --list` names them"));
    }
    introduce(&args, context);
    let began = Instant::now();
    let mut stage = stage::Stage::set(args.into.as_deref(), context.output).await?;
    let told = chapters::play(&mut stage, args.chapter).await;
    // What is played with afterwards is not the story's time.
    let took = began.elapsed();
    if let (Ok(()), true) = (&told, args.stay) {
        stage.stay().await?;
    }
    let struck = stage.strike().await;
    told.and(struck)?;
    let held = match args.chapter {
        None => "Every chapter held".to_owned(),
        Some(number) => format!("Chapter {number} held, and all before it"),
    };
    context.output.result(format!("\n{} in {:.1} s", paint(GOOD, held), took.as_secs_f64()));
    if let Some(folder) = &args.into {
        context.output.result(format!("The files are in {}", folder.display()));
    }
    Ok(Exit::Done)
}

/// The first screen: what it will show, and how long that takes.
fn introduce(args: &Args, context: &Context) {
    let what = match args.chapter {
        None => format!("{} chapters in about 30 seconds", ALL.len()),
        Some(number) => {
            format!("chapter {number} of {}; those before it are played unseen", ALL.len())
        }
    };
    context.output.result(format!(
        "{}\nOne image's way from a vendor to an air-gapped cluster, on made-up data and this machine alone:\n{what}. \
         Every line after a `$` is the real program; each chapter checks what it tells.\n",
        paint(STRONG, "Iron Larder, the demo")
    ));
    if args.chapter.is_none() {
        for (number, chapter) in (1..).zip(ALL) {
            context.output.result(paint(DIM, format!("  {number:>2}. {}", chapter.title)));
        }
        context.output.result("");
    }
}

/// A chapter that did not hold.
fn broken(chapter: &str, cause: impl std::fmt::Display) -> Failure {
    Failure::usage(
        format!("the demo's chapter “{chapter}” did not hold"),
        cause,
        "this is a fault of larder; please report it",
    )
    .ending(Exit::No)
}
