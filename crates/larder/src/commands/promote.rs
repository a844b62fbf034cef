//! `larder promote`: images from one place to the next, by digest, with a record of who and why.

use std::sync::Arc;

use larder_core::digest::Digest;
use larder_core::platform::Platform;
use larder_core::policy::Court;
use larder_core::reference::Reference;
use larder_core::signature::Trust;
use larder_store::RecordKind;
use larder_transfer::{Source, Target};

use super::copy::several::{self, Wish};
use crate::approval::{ApprovalWish, Approved, Approver};
use crate::config::Config;
use crate::context::{Context, read_lock};
use crate::failure::{Failure, Outcome};
use crate::images::Ends;
use crate::record;
use crate::signatures::{FoundDocument, JudgedImage, SignatureGate};

/// Promote images between shelves or registries, by digest, with a record of who and why
///
/// Nothing is downloaded where the blobs are at the target already, or its registry takes them over itself. A tag that
/// points to another image there stops its image, unless `--move` is given. Companions come along. A rule that asks who
/// signed an image, and holds for everybody, is asked before the image goes. What is done already is left alone, so the
/// same call again does what is left.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "FROM is HOST/REPOSITORY:TAG or SHELF/REPOSITORY:TAG; repository and tag may be patterns; `-` reads lines.\n\
    TO ends with `/`: each image keeps its name below it, but for the parts that FROM writes out before the first\n\
    wildcard. Without the slash it is the repository.\n\n\
    Examples:\n  larder promote dev/board:1.4.0 prod/ --because \"passed on the bench\"\n  \
    larder promote 'dev/**:1.4.*' prod/ --because \"release 1.4\" --dry-run\n  \
    larder promote dev/board:1.4.0 prod/ --because \"passed on the bench\" --sign-as emberfall-approval\n  \
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
    /// Sign each image in the name of this signer before it gets its tag
    #[arg(long, value_name = "NAME", requires = "because")]
    sign_as: Option<String>,
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
    let because = args.because.as_deref();
    let passing = Passing::new(&config, args.sign_as.as_deref(), because.unwrap_or_default())?;
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
        passing: passing.as_ref(),
    };
    several::run(&wish, &config, context).await
}

/// What is asked of an image before it goes, and done before it gets its tag.
pub struct Passing<'p> {
    court: Court,
    trust: Arc<Trust>,
    approver: Option<Approver<'p>>,
}

/// What goes: as it is at the target.
pub struct Passed {
    pub found: FoundDocument,
    /// The digest of what it was trimmed from. None: it was not trimmed.
    pub trimmed_from: Option<Digest>,
}

impl<'p> Passing<'p> {
    /// By the rules of a configuration, and with a signature in somebody's name. None: neither is asked for.
    fn new(
        config: &'p Config,
        sign_as: Option<&'p str>,
        because: &'p str,
    ) -> Result<Option<Self>, Failure> {
        let court = config.court(read_lock(config)?)?;
        let asks = court.rules.ask_signed(None);
        if !asks && sign_as.is_none() {
            return Ok(None);
        }
        let wish = |name| ApprovalWish { name, because, small: false, anew: false };
        let approver = sign_as.map(|name| Approver::new(config, wish(name))).transpose()?;
        let trust = Arc::clone(&court.trust.trust);
        Ok(Some(Self { court, trust, approver }))
    }

    /// Whether images are signed.
    pub fn signs(&self) -> bool {
        self.approver.is_some()
    }

    fn of<'a>(
        source: &'a dyn Source,
        ends: &'a Ends<'_>,
        (from, to): (&'a Reference, &'a Reference),
        passed: &'a Passed,
    ) -> Approved<'a> {
        let held = ends.own_store(&from.host).map(|store| (store, from));
        let trimmed_from = passed.trimmed_from.as_ref();
        Approved { image: to, found: &passed.found, trimmed_from, from: source, held }
    }

    /// Refuses an image that its rules would refuse to everybody where it goes, for who signed it. True: it is to be signed
    /// on its way, and is not yet.
    pub async fn check(
        &self,
        source: &dyn Source,
        ends: &Ends<'_>,
        (from, to): (&Reference, &Reference),
        passed: &Passed,
    ) -> Result<bool, Failure> {
        let of = Self::of(source, ends, (from, to), passed);
        if let Some(approver) = &self.approver {
            approver.judge(of).await?;
            let there = ends.source(to)?;
            return Ok(approver.sign(&*there, None, of).await?.wrote());
        }
        let gate = SignatureGate { court: &self.court, trust: &self.trust };
        let held = of.held.filter(|_| of.trimmed_from.is_none());
        let case = self.court.reference(to);
        let judged = JudgedImage { case, found: of.found, from: source, held };
        let facts = gate.facts(&judged).await?;
        let remedy = "have it signed first (`--sign-as` signs in the name of one of our own), or change the rule";
        gate.check(&judged, &facts, format!("cannot promote {from} to {to}"), remedy)?;
        Ok(false)
    }

    /// Signs it where it goes, if it is to be signed. False: it is not, or was already.
    pub async fn sign(
        &self,
        source: &dyn Source,
        target: &dyn Target,
        ends: &Ends<'_>,
        (from, to): (&Reference, &Reference),
        passed: &Passed,
    ) -> Result<bool, Failure> {
        let Some(approver) = &self.approver else { return Ok(false) };
        let (of, there) = (Self::of(source, ends, (from, to), passed), ends.source(to)?);
        let wrote = approver.sign(&*there, Some(target), of).await?.wrote();
        if wrote {
            record::note_signed(ends, to, &passed.found.0, approver.said()).await?;
        }
        Ok(wrote)
    }
}
