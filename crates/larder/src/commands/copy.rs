//! `larder copy`: one image from one place to another.

pub(super) mod several;

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use larder_core::digest::Digest;
use larder_core::name::Tag;
use larder_core::platform::{Platform, Platforms};
use larder_core::reference::Selector;
use larder_store::RecordKind;
use larder_transfer::{Engine, MoveOrder, MoveOutcome, TransferError, belonging};
use schemars::JsonSchema;
use serde::Serialize;

use self::several::Wish;
use crate::config::Config;
use crate::context::{Context, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::images::is_pattern;
use crate::output::{Output, Report, bytes, count};
use crate::place::{OpenedSource, Place};
use crate::record;

/// Copy images between registry, OCI layout folder and archive
///
/// The digest stays the same, manifests stay byte for byte. Many at once go between registries, by lists and patterns.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "A path starts with `/`, `./` or `../`, or ends with `.tar`; `PATH#NAME` names one of its images.\n\
    Everything else is a reference; where it goes, the registry must be named. References to this larder itself go straight to its store.\n\
    Of several images each keeps its name below a TO that ends with `/`, but for the parts that FROM writes out before the\n\
    first wildcard. Copies from the same registry are taken over there where it allows that.\n\n\
    Examples:\n  larder copy ventworks.example/gauges/steamgauge:1.9.2 ./steamgauge\n  \
    larder copy ./steamgauge#1.9.2 larder.emberfall.example:5080/vendor/steamgauge\n  \
    larder copy bazaar.example/library/kettle:2 kettle.tar --platform linux/amd64\n  \
    larder copy 'ventworks.example/gauges/*:1.*' other.example/gauges/ --dry-run\n  \
    larder copy - other.example/mirror/ < images.txt"
)]
pub struct Args {
    /// What is copied, and where it goes
    #[arg(required = true, num_args = 2.., value_names = ["FROM", "TO"])]
    places: Vec<String>,
    /// Only for this platform (again for more); the index stays as it is
    #[arg(long, value_name = "OS/ARCH")]
    platform: Vec<Platform>,
    /// With what belongs to it: signatures, SBOMs and the like
    #[arg(long)]
    companions: bool,
    /// Write the index anew with the wanted platforms alone
    #[arg(long, requires = "platform")]
    trim: bool,
    /// Write with the login of this upstream, by its name
    #[arg(long, value_name = "NAME")]
    account: Option<String>,
    /// Why: it stands in the record
    #[arg(long, value_name = "TEXT")]
    because: Option<String>,
    /// Say what would be copied, and copy nothing
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize, JsonSchema, Default)]
pub struct CopyReport {
    /// Whether nothing was copied.
    dry_run: bool,
    from: String,
    to: String,
    digest: String,
    manifests: usize,
    companions: usize,
    blobs_copied: usize,
    blobs_present: usize,
    copied_bytes: u64,
    #[serde(skip)]
    children: usize,
    #[serde(skip)]
    took: Duration,
}

impl Report for CopyReport {
    const KIND: &'static str = "copy";

    fn show(&self, out: &Output) {
        let Self { from, to, digest, .. } = self;
        if self.dry_run {
            let kind = match self.children {
                0 => "an image".to_owned(),
                children => format!("an index of {}", count(children, "manifest")),
            };
            return out.result(format!("would copy {from} to {to}: {kind}, {digest}"));
        }
        out.result(format!(
            "copied {from} to {to}\n  digest {digest}\n  {} copied ({}), {} there already, in {:.1} s",
            count(self.blobs_copied, "blob"),
            bytes(self.copied_bytes),
            self.blobs_present,
            self.took.as_secs_f64()
        ));
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let Some((to, from)) = args.places.split_last() else { unreachable!("two are required") };
    let is_folder_of_registry = to.ends_with('/') && !is_path(to);
    let many = from.len() > 1 || from.iter().any(|one| one == "-" || is_pattern(one));
    if many || is_folder_of_registry || args.trim || args.account.is_some() {
        return copy_several(args, from, to, config, context).await;
    }
    let from = with_whole_digest(&from[0], config.as_ref()).await?;
    let from = Place::read(&from, config.as_ref())?;
    let to = Place::read_target(to, config.as_ref())?;
    let what = format!("cannot copy {from} to {to}");
    let OpenedSource { source, selector, tag } = from.source(config.as_ref())?;
    let platforms = match args.platform.is_empty() {
        true => Platforms::All,
        false => Platforms::Some(args.platform.clone()),
    };
    let report = CopyReport { from: from.to_string(), to: to.to_string(), ..CopyReport::default() };
    if args.dry_run {
        let (digest, document) =
            source.manifest(&selector).await.map_err(|error| Failure::transfer(what, &error))?;
        context.output.tell(&CopyReport {
            dry_run: true,
            digest: digest.to_string(),
            children: document.children().len(),
            ..report
        });
        return Ok(Exit::Done);
    }
    let (target, tag) = to.target(&from, tag, config.as_ref())?;
    let began = Instant::now();
    let progress = context.output.progress();
    progress.say(format!("{from} to {to}"));
    let engine = Engine::new(progress.clone());
    let nothing = BTreeSet::new();
    let order = MoveOrder {
        source: &*source,
        selector,
        target: &*target,
        tag,
        platforms: &platforms,
        leave: &nothing,
        trimmed: None,
    };
    let moved = move_with_companions(&engine, &order, args.companions).await;
    progress.done();
    let (moved, brought) = moved.map_err(|error| Failure::transfer(what, &error))?;
    if let (Some(config), Some(digest)) = (&config, &moved.digest) {
        note(config, &from, &to, order.tag.as_ref(), digest, args.because.as_deref()).await?;
    }
    context.output.tell(&CopyReport {
        digest: moved.digest.as_ref().map(ToString::to_string).unwrap_or_default(),
        manifests: moved.manifests,
        companions: brought,
        blobs_copied: moved.copied,
        blobs_present: moved.present,
        copied_bytes: moved.bytes,
        took: began.elapsed(),
        ..report
    });
    Ok(Exit::Done)
}

/// Moves an image, and with it what belongs to it; tells how many companions came along.
pub(super) async fn move_with_companions(
    engine: &Engine,
    order: &MoveOrder<'_>,
    with: bool,
) -> Result<(MoveOutcome, usize), TransferError> {
    let mut moved = engine.run(order).await?;
    let mut brought = 0;
    if with {
        let (digest, document) = order.source.manifest(&order.selector).await?;
        let children = document.children().iter().map(|child| child.digest.clone());
        let of = std::iter::once(digest).chain(children).collect();
        for (digest, companion) in belonging(order.source, of).await? {
            let selector = Selector::Digest(digest);
            let platforms = &Platforms::All;
            let order = MoveOrder {
                selector,
                tag: companion.tag,
                platforms,
                trimmed: None,
                ..order.clone()
            };
            moved.add(&engine.run(&order).await?);
            brought += 1;
        }
    }
    order.target.finish().await?;
    Ok((moved, brought))
}

/// Whether a text is a path, as [`Place::read`] takes it.
fn is_path(text: &str) -> bool {
    matches!(text, "." | "..") || ["/", "./", "../"].iter().any(|start| text.starts_with(start))
}

async fn copy_several(
    args: &Args,
    from: &[String],
    to: &str,
    config: Option<Config>,
    context: &Context,
) -> Outcome {
    let what = "cannot copy several images";
    let local = from.iter().map(String::as_str).chain([to]).find(|text| {
        let path = text.split('#').next().unwrap_or_default();
        let end = std::path::Path::new(path).extension();
        is_path(text) || end.is_some_and(|end| end.eq_ignore_ascii_case("tar"))
    });
    if let Some(local) = local {
        let cause = format!("{local} is a path, and many at once go between registries");
        let remedy = "copy to and from folders and archives one by one, or use `larder parcel`";
        return Err(Failure::usage(what, cause, remedy));
    }
    let Some(config) = config else {
        let cause = "no larder.toml is here, which says how registries are reached";
        return Err(Failure::usage(
            what,
            cause,
            "`larder init` writes one, or name one with `--config`",
        ));
    };
    let wish = Wish {
        from,
        to,
        platforms: &args.platform,
        trim: args.trim,
        companions: args.companions,
        account: args.account.as_deref(),
        because: args.because.as_deref(),
        dry_run: args.dry_run,
        moves_tags: true,
        shelves: false,
        kind: RecordKind::Copy,
        passing: None,
    };
    several::run(&wish, &config, context).await
}

/// Writes down what was copied here or from here.
async fn note(
    config: &Config,
    from: &Place,
    to: &Place,
    tag: Option<&Tag>,
    digest: &Digest,
    because: Option<&str>,
) -> Result<(), Failure> {
    let own =
        |place: &Place| matches!(place, Place::Registry(one) if config.larder.has_name(&one.host));
    if !(own(from) || own(to)) {
        return Ok(());
    }
    let Some(store) = crate::context::store_if_any(config)? else { return Ok(()) };
    let to = match (to, tag) {
        (Place::Registry(to), Some(tag)) if to.tag.is_none() => format!("{to}:{tag}"),
        (to, _) => to.to_string(),
    };
    let from = from.to_string();
    let entry = record::copied(RecordKind::Copy, config, (&from, &to), digest, because);
    record::note(&store, vec![entry])
        .await
        .map_err(|error| Failure::store("cannot write the record", &error))
}
