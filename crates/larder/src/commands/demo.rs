//! `larder demo`: the whole story on made-up data, with the program's own commands.

mod guarded;
mod stage;
mod story;

use std::path::PathBuf;
use std::time::Instant;

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{GOOD, paint};

/// See the whole story on made-up data, on this machine
///
/// Stand-in upstreams, a larder and a stand-in cluster, all on loopback and in a temporary folder.
/// Every chapter is checked; exit status 0 says that all held.
#[derive(Debug, clap::Args)]
pub struct Args {
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
    let began = Instant::now();
    let mut stage = stage::Stage::set(args.into.as_deref(), context.output).await?;
    let told = story::tell(&mut stage).await;
    if let (Ok(()), true) = (&told, args.stay) {
        stage.stay().await?;
    }
    let struck = stage.strike().await;
    told.and(struck)?;
    context.output.result(format!(
        "\n{} in {:.1} s",
        paint(GOOD, "Every chapter held"),
        began.elapsed().as_secs_f64()
    ));
    if let Some(folder) = &args.into {
        context.output.result(format!("The files are in {}", folder.display()));
    }
    Ok(Exit::Done)
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
