//! `larder promote`: images from one place to the next, by digest, with a record of who and why.

use larder_core::platform::Platform;
use larder_store::RecordKind;

use super::copy::several::{self, Wish};
use crate::context::Context;
use crate::failure::{Failure, Outcome};

/// Promote images between shelves or registries, by digest, with a record of who and why
///
/// Nothing is downloaded where the blobs are at the target already, or its registry takes them over itself. A tag that
/// points to another image there stops its image, unless `--move` is given. Companions come along. What is done already is
/// left alone, so the same call again does what is left.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "FROM is HOST/REPOSITORY:TAG or SHELF/REPOSITORY:TAG; repository and tag may be patterns; `-` reads lines.\n\
    TO ends with `/`: each image keeps its name below it, but for the parts that FROM writes out before the first\n\
    wildcard. Without the slash it is the repository.\n\n\
    Examples:\n  larder promote dev/board:1.4.0 prod/ --because \"passed on the bench\"\n  \
    larder promote 'dev/**:1.4.*' prod/ --because \"release 1.4\" --dry-run\n  \
    larder promote vendor/steamgauge:1.9.2 other.example/gauges/ --because \"for the field lab\""
)]
pub struct Args {
    /// Which images, and where they go
    #[arg(required = true, num_args = 2.., value_names = ["FROM", "TO"])]
    places: Vec<String>,
    /// Why: it stands in the record
    #[arg(long, value_name = "TEXT", required_unless_present = "dry_run")]
    because: Option<String>,
    /// Only for this platform (again for more); the index stays as it is
    #[arg(long, value_name = "OS/ARCH")]
    platform: Vec<Platform>,
    /// Write indexes anew with the wanted platforms alone
    #[arg(long, requires = "platform")]
    trim: bool,
    /// Without what belongs to them: signatures, SBOMs and the like
    #[arg(long)]
    no_companions: bool,
    /// Let tags move that point to another image at the target
    #[arg(long = "move")]
    moves: bool,
    /// Write with the login of this upstream, by its name
    #[arg(long, value_name = "NAME")]
    account: Option<String>,
    /// Say what would be done, and do nothing
    #[arg(long)]
    dry_run: bool,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let Some((to, from)) = args.places.split_last() else { unreachable!("two are required") };
    if args.because.as_ref().is_some_and(|because| because.trim().is_empty()) {
        let cause = "`--because` says nothing";
        return Err(Failure::usage("cannot promote", cause, "say why; it stands in the record"));
    }
    let wish = Wish {
        from,
        to,
        platforms: &args.platform,
        trim: args.trim,
        companions: !args.no_companions,
        account: args.account.as_deref(),
        because: args.because.as_deref(),
        dry_run: args.dry_run,
        moves_tags: args.moves,
        shelves: true,
        kind: RecordKind::Promote,
    };
    several::run(&wish, &config, context).await
}
