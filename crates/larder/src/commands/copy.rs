//! `larder copy`: one image from one place to another.

use std::collections::BTreeSet;
use std::time::{Duration, Instant};

use larder_core::platform::{Platform, Platforms};
use larder_core::reference::Selector;
use larder_transfer::{Engine, MoveOrder, companions};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::{Context, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report, bytes, count};
use crate::place::{OpenedSource, Place};

/// Copy one image between registry, OCI layout folder and archive
///
/// The digest stays the same, manifests stay byte for byte.
#[derive(Debug, clap::Args)]
#[command(
    after_help = "A path starts with `/`, `./` or `../`, or ends with `.tar`; `PATH#NAME` names one of its images.\n\
    Everything else is a reference; where it goes, the registry must be named. References to this larder itself go straight to its store.\n\n\
    Examples:\n  larder copy ventworks.example/gauges/steamgauge:1.9.2 ./steamgauge\n  \
    larder copy ./steamgauge#1.9.2 larder.emberfall.example:5080/vendor/steamgauge\n  \
    larder copy bazaar.example/library/kettle:2 kettle.tar --platform linux/amd64"
)]
pub struct Args {
    /// Where it is
    from: String,
    /// Where it goes
    to: String,
    /// Only for this platform (again for more); the index stays as it is
    #[arg(long, value_name = "OS/ARCH")]
    platform: Vec<Platform>,
    /// With what belongs to it: signatures, SBOMs and the like
    #[arg(long)]
    companions: bool,
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
    let from = with_whole_digest(&args.from, config.as_ref()).await?;
    let from = Place::read(&from, config.as_ref())?;
    let to = Place::read_target(&args.to, config.as_ref())?;
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
    let mut brought = 0;
    let moved = async {
        let mut moved = engine.run(&order).await?;
        if args.companions {
            let (digest, document) = source.manifest(&order.selector).await?;
            let children = document.children().iter().map(|child| child.digest.clone());
            let of = std::iter::once(digest).chain(children).collect();
            for digest in companions(&*source, of, &[]).await?.into_keys() {
                let selector = Selector::Digest(digest);
                let platforms = &Platforms::All;
                let order = MoveOrder { selector, tag: None, platforms, ..order.clone() };
                moved.add(&engine.run(&order).await?);
                brought += 1;
            }
        }
        target.finish().await?;
        Ok(moved)
    };
    let moved = moved.await;
    progress.done();
    let moved = moved.map_err(|error| Failure::transfer(what, &error))?;
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
