//! `larder look`: what a reference is, without pulling it.

pub(super) mod companions;
pub(super) mod compare;
mod examined;
pub(super) mod proof;
pub(super) mod raw;
pub(super) mod signatures;
pub(super) mod tags;

use std::path::PathBuf;

use larder_core::digest::Digest;
use larder_core::document::{RunConfig, unpinned_base};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_core::shown::cut;
use larder_store::{Store, StoreError};
use larder_transfer::Source;
use larder_transfer::files::with_stdin;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, reference_on_shelf, store_if_any, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::health::{self, ImageHealth};
use crate::output::{DIM, Output, Report, STRONG, Table, bytes, count, paint, short};
use crate::place::{OpenedSource, Place};

pub(super) use compare::differences;
use examined::OnePlatform;
pub(super) use examined::{Look, examine};

/// Say what a reference is, without pulling it; with two, whether they are the same
#[derive(Debug, Clone, clap::Args)]
#[command(
    after_help = "A reference, a layout folder (`./folder#name`) or an archive (`file.tar#name`).\n\
    With two, exit status 1 says that they differ."
)]
pub struct Args {
    /// What to look at; `-` reads it from stdin
    reference: String,
    /// What to compare it with
    other: Option<String>,
    /// Show the details of this platform [default: the clusters' first, else the image's first]
    #[arg(long, value_name = "OS/ARCH")]
    platform: Option<Platform>,
    /// List the repository's tags, or the images of a folder or archive, with what each is
    #[arg(long, conflicts_with_all = ["other", "platform"])]
    tags: bool,
    /// With a list: look into so many of them, the newest
    #[arg(long, value_name = "COUNT", default_value_t = 20)]
    limit: usize,
    /// List what belongs to it instead: signatures, SBOMs and the like
    #[arg(long, conflicts_with_all = ["other", "platform", "tags"])]
    companions: bool,
    /// Write a document of it as it is, byte for byte
    #[arg(long, value_name = "DOCUMENT", conflicts_with_all = ["other", "tags", "companions"])]
    raw: Option<raw::RawDocument>,
    /// Compare a tag of a cached shelf with its upstream
    #[arg(long, conflicts_with_all = ["other", "platform", "tags", "companions", "raw"])]
    upstream: bool,
    /// Say everything that is known of how it is
    #[arg(long, conflicts_with_all = ["other", "tags", "companions", "raw", "upstream"])]
    health: bool,
    /// List everything that calls itself a signature of it, with what each is worth
    #[arg(long, conflicts_with_all = ["other", "platform", "tags", "companions", "raw", "upstream", "health"])]
    signatures: bool,
    /// What the image is called, where a folder or an archive does not say
    #[arg(long = "as", value_name = "REFERENCE", requires = "signatures")]
    named: Option<String>,
    /// And with what these Node objects (JSON) say that nodes have
    #[arg(long, value_name = "FILE", requires = "upstream")]
    nodes: Option<PathBuf>,
}

impl Args {
    /// With what stdin names in the place of `-`, one reference or two to compare, and with digests in full.
    async fn as_meant(&self, config: Option<&Config>) -> Result<Self, Failure> {
        let given: Vec<String> =
            [Some(&self.reference), self.other.as_ref()].into_iter().flatten().cloned().collect();
        let what = "cannot read the reference from stdin";
        let mut all = with_stdin(&given).map_err(|error| Failure::io(what, &error))?;
        for text in &mut all {
            *text = with_whole_digest(text, config).await?.into_owned();
        }
        let (reference, other) = match all.as_slice() {
            [reference] => (reference.clone(), None),
            [reference, other] => (reference.clone(), Some(other.clone())),
            all => {
                let cause = format!("it names {}", count(all.len(), "reference"));
                return Err(Failure::usage(what, cause, "name one, or two to compare"));
            }
        };
        Ok(Self { reference, other, ..self.clone() })
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config_if_any()?;
    let args = &args.as_meant(config.as_ref()).await?;
    let first = Place::read(&args.reference, config.as_ref())?;
    // Of several images none is meant: they are listed.
    let is_listed = args.companions || args.upstream || args.signatures;
    let alone = args.other.is_none() && args.raw.is_none() && !is_listed;
    if alone && let Some(images) = tags::of_place(&first, args.tags, args.limit).await? {
        context.output.tell(&images);
        return Ok(Exit::Done);
    }
    if args.tags {
        return tags::of_repository(&args.reference, args.limit, context, config.as_ref()).await;
    }
    if args.companions {
        return companions::companions_of(&args.reference, context, config.as_ref()).await;
    }
    if args.signatures {
        let named = args.named.as_deref();
        return signatures::run(&args.reference, named, context, config.as_ref()).await;
    }
    if args.upstream {
        let config = context.config()?;
        let read = reference_on_shelf(&args.reference, &config)?;
        return proof::prove(&read, args.nodes.as_deref(), &config, context).await;
    }
    if let Some(which) = args.raw {
        let platform = args.platform.as_ref();
        return raw::run(which, &args.reference, platform, context, config.as_ref()).await;
    }
    let mut first = look(&args.reference, config.as_ref()).await?;
    if let Some(other) = &args.other {
        let second = look(other, config.as_ref()).await?;
        return Ok(compare::compare(first, second, context));
    }
    let detailed = on_platform(&first, args.platform.as_ref(), config.as_ref())?;
    let detailed =
        detailed.and_then(|one| first.platforms.iter().position(|it| std::ptr::eq(it, one)));
    let store = config.as_ref().map(store_if_any).transpose()?.flatten();
    if let Some(store) = store {
        let what = "cannot tell how it is";
        let found = health_of(&first, detailed, &store, args.health).await;
        first.health = found.map_err(|error| Failure::store(what, &error))?;
    } else if args.health {
        let cause = "there is no larder here, which is where advisories are kept";
        let remedy = "`larder inventory REF` says what is in it";
        return Err(Failure::usage("cannot tell how it is", cause, remedy));
    }
    context.output.tell(&ImageReport { image: first, detailed, health: args.health });
    Ok(Exit::Done)
}

/// How an image is: as it is held here, else the platform that is shown, by what is known of its layers.
async fn health_of(
    look: &Look,
    detailed: Option<usize>,
    store: &Store,
    is_wanted: bool,
) -> Result<Option<ImageHealth>, StoreError> {
    if !is_wanted && !health::is_asked(store).await? {
        return Ok(None);
    }
    let held = health::of_held(store, &look.digest).await?;
    let Some(one) = detailed.and_then(|at| look.platforms.get(at)).filter(|_| held.is_none())
    else {
        return Ok(held);
    };
    let layers: Vec<Digest> = one.layers.iter().map(|layer| layer.digest.clone()).collect();
    if one.platform.is_none() || layers.is_empty() {
        return Ok(None);
    }
    let mut facts = store.health_of_layers(&one.digest, &layers).await?;
    let built = one.created_at.as_ref().and_then(|text| text.parse::<jiff::Timestamp>().ok());
    facts.built = built.map(jiff::Timestamp::as_millisecond);
    let run = RunConfig { user: one.user.clone(), ..RunConfig::default() };
    facts.runs_as_root = Some(run.is_root());
    facts.unpinned_base = unpinned_base(&one.annotations);
    Ok(Some(ImageHealth::of(&facts)))
}

/// The image for this platform, else the clusters' first, else its own first. None: there is no image.
fn on_platform<'l>(
    look: &'l Look,
    wanted: Option<&Platform>,
    config: Option<&Config>,
) -> Result<Option<&'l OnePlatform>, Failure> {
    let Some(on) = wanted else {
        let clusters = config.map(Config::cluster_platforms).unwrap_or_default();
        let clusters = clusters.iter().find_map(|on| choose(look, on));
        return Ok(clusters.or(look.platforms.first()));
    };
    choose(look, on).map(Some).ok_or_else(|| {
        let present: Vec<String> =
            look.platforms.iter().filter_map(|p| Some(p.platform.as_ref()?.to_string())).collect();
        let cause = format!("it is made for {}", present.join(", "));
        let what = format!("{} is not made for {on}", look.reference);
        Failure::usage(what, cause, "look at one of those").ending(Exit::No)
    })
}

fn choose<'l>(look: &'l Look, on: &Platform) -> Option<&'l OnePlatform> {
    let suits = |one: &&OnePlatform| one.platform.as_ref().and_then(|image| image.suits(on));
    look.platforms.iter().filter(|one| suits(one).is_some()).max_by_key(suits)
}

/// The manifest of the platform that is wanted, else of the clusters' first, else of its own first.
pub async fn platform_of(
    source: &dyn Source,
    selector: &Selector,
    reference: &str,
    wanted: Option<&Platform>,
    config: Option<&Config>,
) -> Result<Digest, Failure> {
    let what = || format!("cannot tell what is in {reference}");
    let found = examine(source, selector, reference.to_owned()).await;
    let look = found.map_err(|error| Failure::transfer(what(), &error))?;
    match on_platform(&look, wanted, config)? {
        Some(one) => Ok(one.digest.clone()),
        None => {
            let remedy = "`larder look` shows what is there";
            let cause = "there is no image under it, or none of its platforms is here";
            Err(Failure::usage(what(), cause, remedy).ending(Exit::No))
        }
    }
}

async fn look(text: &str, config: Option<&Config>) -> Result<Look, Failure> {
    let place = Place::read(text, config)?;
    let OpenedSource { source, selector, .. } = place.source(config)?;
    let found = examine(&*source, &selector, place.to_string()).await;
    found.map_err(|error| Failure::transfer(format!("cannot look at {place}"), &error))
}

fn shown_platform(platform: Option<&Platform>) -> String {
    platform.map_or_else(|| "(none)".to_owned(), ToString::to_string)
}

/// A text from a stranger's image: control characters would reach the terminal.
fn safe(text: &str) -> String {
    cut(text, 200)
}

#[derive(Serialize, JsonSchema)]
pub struct ImageReport {
    #[serde(flatten)]
    image: Look,
    /// The platform that is shown whole.
    #[serde(skip)]
    detailed: Option<usize>,
    /// Whether all is told of how it is.
    #[serde(skip)]
    health: bool,
}

impl Report for ImageReport {
    const KIND: &'static str = "image";

    fn show(&self, out: &Output) {
        if self.health {
            return show_health(&self.image, out);
        }
        show(&self.image, self.detailed.and_then(|at| self.image.platforms.get(at)), out);
    }
}

/// All that is known of how it is.
fn show_health(look: &Look, out: &Output) {
    let Some(health) = &look.health else {
        return out.result(format!("{} is no image", look.reference));
    };
    out.result(format!("{}\n  {}", paint(STRONG, &look.reference), health.painted()));
    for line in health.lines() {
        out.result(format!("  - {line}"));
    }
    let next =
        "`larder advisory check REF` lists the advisories, `larder inventory REF` the packages";
    out.note(paint(DIM, next));
}

/// What is known of one that is no image.
fn show_artifact(one: &OnePlatform, kind: &str, output: &Output) {
    let line = |name: &str, value: &str| {
        output.result(format!("  {name:<11}{}", safe(value)));
    };
    let title = if one.chart.is_some() { "a chart" } else { "an artifact" };
    output.result(format!("\n{}", paint(STRONG, title)));
    match &one.chart {
        Some(chart) => {
            line("name", &chart.name);
            line("version", &chart.version);
            line("installs", chart.app_version.as_deref().unwrap_or("(not said)"));
            line("about", chart.description.as_deref().unwrap_or("(not said)"));
            for chart in &chart.wants {
                line("wants", chart);
            }
        }
        None => line("kind", kind),
    }
    for (name, value) in &one.annotations {
        line("annotation", &format!("{} = {}", safe(name), safe(value)));
    }
    for layer in &one.layers {
        let (digest, size) = (short(&layer.digest), bytes(layer.size_bytes));
        line("layer", &format!("{digest}  {size}  {}", layer.media_type));
    }
    if one.chart.is_some() {
        output.note(paint(
            DIM,
            "`larder intake add REF --with-images` wants it and the images that it names",
        ));
    }
}

fn show(look: &Look, detailed: Option<&OnePlatform>, output: &Output) {
    let out = |text: String| output.result(text);
    let is_artifact = |one: &OnePlatform| one.artifact_type.is_some();
    // Of an index whose images are all elsewhere nothing is known.
    let artifacts = !look.platforms.is_empty() && look.platforms.iter().all(is_artifact);
    let total: u64 = look.platforms.iter().map(|one| one.size_bytes).sum();
    out(format!(
        "{}\n  digest  {}\n  type    {}\n  size    {} in {}",
        paint(STRONG, &look.reference),
        look.digest,
        look.media_type,
        bytes(total),
        match artifacts {
            true => count(look.platforms.iter().map(|one| one.layers.len()).sum(), "layer"),
            false => count(look.platforms.len(), "platform"),
        },
    ));
    if let Some(health) = &look.health {
        out(format!("  health  {}", health.line()));
    }
    if look.build_records > 0 {
        out(format!("  and     {} (no images)", count(look.build_records, "build record")));
    }
    if !artifacts {
        let mut table = Table::new(output.width(), &["PLATFORM", "DIGEST", "SIZE", "LAYERS"]);
        for one in &look.platforms {
            table.row([
                shown_platform(one.platform.as_ref()),
                short(&one.digest).to_owned(),
                bytes(one.size_bytes),
                one.layers.len().to_string(),
            ]);
        }
        out(String::new());
        output.table(&table);
    }
    let Some(one) = detailed else { return };
    if let Some(kind) = &one.artifact_type {
        return show_artifact(one, kind, output);
    }
    out(format!("\n{}", paint(STRONG, shown_platform(one.platform.as_ref()))));
    let line = |name: &str, value: String| out(format!("  {name:<11}{value}"));
    line("created", one.created_at.as_deref().map_or_else(|| "(not said)".into(), safe));
    line("entrypoint", safe(&one.entrypoint.join(" ")));
    line("arguments", safe(&one.cmd.join(" ")));
    line(
        "user",
        one.user
            .as_deref()
            .filter(|user| !user.is_empty())
            .map_or_else(|| "(not said: root)".into(), safe),
    );
    for (name, value) in [
        ("folder", one.working_dir.clone()),
        ("ports", Some(one.ports.join(" "))),
        ("volumes", Some(one.volumes.join(" "))),
        ("stop", one.stop_signal.clone()),
        ("well if", Some(one.health_check.join(" "))),
    ] {
        if let Some(value) = value.filter(|value| !value.is_empty()) {
            line(name, safe(&value));
        }
    }
    for variable in &one.env {
        line("variable", safe(variable));
    }
    for (kind, all) in [("label", &one.labels), ("annotation", &one.annotations)] {
        for (name, value) in all {
            line(kind, format!("{} = {}", safe(name), safe(value)));
        }
    }
    for step in &one.history {
        let mark = if step.makes_layer { "" } else { "  (no layer)" };
        let command = step.command.as_deref().unwrap_or("(not said)");
        line("built by", format!("{}{}", safe(command), paint(DIM, mark)));
    }
    for layer in &one.layers {
        line("layer", format!("{}  {}", short(&layer.digest), bytes(layer.size_bytes)));
    }
}
