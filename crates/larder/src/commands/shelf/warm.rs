//! `larder shelf warm`: fetch images to a cached shelf before anybody asks for them.

use std::collections::BTreeSet;
use std::path::PathBuf;

use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::reference::{Reference, Selector};
use larder_server::Cache;
use larder_transfer::files::with_stdin;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, open_store, read_reference, reference_on_shelf};
use crate::deployments::{self, BrokenFile};
use crate::failure::{Exit, Failure, Outcome};
use crate::kube::ApiReach;
use crate::output::{BAD, Output, Report, bytes, count, paint, short};
use larder_store::Store;

/// Fetch images to a cached shelf before anybody asks for them
///
/// Of an index it fetches the platforms that the shelf names, or all where it names none. What is there
/// already is not fetched again.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Images, by their upstream's name or the larder's: `bazaar.example/library/kettle:2`; `-` reads them from stdin
    #[arg(value_name = "REF", required_unless_present_any = ["from_survey", "cluster"])]
    references: Vec<String>,
    /// Every image in these deployments that lies on a cached shelf; `-` reads them from stdin
    #[arg(long, value_name = "PATH")]
    from_survey: Vec<PathBuf>,
    /// Everything that this cluster has and runs and that lies on a cached shelf, through its API: before nodes are drained
    #[arg(long, value_name = "NAME")]
    cluster: Option<String>,
    #[command(flatten)]
    reach: ApiReach,
    /// Ask the upstream where each tag points now, however young its last answer is
    #[arg(long)]
    anew: bool,
    /// Say what would be fetched
    #[arg(long)]
    dry_run: bool,
}

/// One image that is wanted.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct WarmWish {
    repository: RepositoryName,
    selector: Selector,
}

impl WarmWish {
    fn name(&self) -> String {
        match &self.selector {
            Selector::Tag(tag) => format!("{}:{tag}", self.repository),
            Selector::Digest(digest) => format!("{}@{digest}", self.repository),
        }
    }
}

#[derive(Serialize, JsonSchema)]
pub struct WarmReport {
    /// Whether nothing was fetched.
    dry_run: bool,
    images: Vec<WarmedImage>,
}

#[derive(Serialize, JsonSchema)]
struct WarmedImage {
    image: String,
    /// None: it was not fetched.
    #[schemars(with = "Option<String>")]
    digest: Option<Digest>,
    manifests: usize,
    blobs: usize,
    /// What had to be fetched.
    fetched_bytes: u64,
    /// Why it could not be fetched. None: it was, or would be.
    cause: Option<String>,
}

impl WarmedImage {
    fn unfetched(image: String, cause: Option<String>) -> Self {
        Self { image, digest: None, manifests: 0, blobs: 0, fetched_bytes: 0, cause }
    }
}

impl Report for WarmReport {
    const KIND: &'static str = "shelf-warm";

    fn show(&self, out: &Output) {
        if self.images.is_empty() {
            out.note("nothing of that lies on a cached shelf");
        } else if self.dry_run {
            self.images.iter().for_each(|one| out.result(&one.image));
            out.note(format!("{} would be fetched", count(self.images.len(), "image")));
        }
    }
}

async fn cache_of(config: &Config, store: &Store) -> Result<Cache, Failure> {
    let cache = Cache::open(store.clone(), &crate::plan::cache(config)?).await;
    cache.map_err(|error| Failure::store("cannot tell how upstreams stand", &error))
}

pub async fn run(args: &Args, config: &Config, context: &Context) -> Outcome {
    let store = open_store(config)?;
    let cache = cache_of(config, &store).await?;
    let mut wanted = collect(args, config, &cache, context)?;
    if let Some(name) = &args.cluster {
        crate::handoff::cluster(config, "cannot warm", name)?;
        for named in crate::deployments::live::read(name, &args.reach, &config.resources).await? {
            for finding in named.pulled() {
                let Ok(read) = read_reference(&finding.text, Some(config)) else { continue };
                wanted.extend(on_shelf(&read.reference, config, &cache));
            }
        }
    }
    if args.dry_run {
        let images = wanted.iter().map(|one| WarmedImage::unfetched(one.name(), None));
        context.output.tell(&WarmReport { dry_run: true, images: images.collect() });
        return Ok(Exit::Done);
    }
    let mut rows = Vec::new();
    for one in &wanted {
        let name = one.name();
        let row = match cache.warm_image(&one.repository, &one.selector, args.anew).await {
            Ok((digest, warmed)) => {
                let (manifests, blobs) = (warmed.manifests, warmed.blobs);
                let (digest, fetched_bytes) = (Some(digest), warmed.fetched);
                WarmedImage { image: name, digest, manifests, blobs, fetched_bytes, cause: None }
            }
            Err(trouble) => WarmedImage::unfetched(name, Some(trouble.to_string())),
        };
        context.output.step(line(&row));
        rows.push(row);
    }
    cache.write_counts().await;
    let failed = rows.iter().any(|row| row.cause.is_some());
    context.output.tell(&WarmReport { dry_run: false, images: rows });
    Ok(if failed { Exit::Remote } else { Exit::Done })
}

fn line(row: &WarmedImage) -> String {
    match (&row.cause, &row.digest) {
        (Some(cause), _) => format!("{} {}: {cause}", paint(BAD, "failed:"), row.image),
        (None, Some(digest)) if row.fetched_bytes == 0 => {
            format!("{}  {}  was here already", row.image, short(digest))
        }
        (None, digest) => format!(
            "{}  {}  {}, {}, {} fetched",
            row.image,
            digest.as_ref().map_or("", short),
            count(row.manifests, "manifest"),
            count(row.blobs, "blob"),
            bytes(row.fetched_bytes)
        ),
    }
}

fn collect(
    args: &Args,
    config: &Config,
    cache: &Cache,
    context: &Context,
) -> Result<BTreeSet<WarmWish>, Failure> {
    let mut wanted = BTreeSet::new();
    let references = with_stdin(&args.references);
    let references =
        references.map_err(|error| Failure::io("cannot read the references from stdin", &error))?;
    for text in &references {
        let read = reference_on_shelf(text, config)?;
        let found = on_shelf(&read, config, cache).ok_or_else(|| {
            let upstreams = cache.upstreams();
            let cached: Vec<&str> = upstreams.iter().map(|one| one.host().as_str()).collect();
            let cached = if cached.is_empty() { "nothing".into() } else { cached.join(", ") };
            Failure::usage(
                format!("cannot warm {text}"),
                format!("it lies on no cached shelf; they cache: {cached}"),
                "declare one with [[shelf]] and `caches`, or bring it in with `larder intake add`",
            )
        })?;
        wanted.insert(found);
    }
    if !args.from_survey.is_empty() {
        let read =
            deployments::named(&args.from_survey, deployments::Sight::with(&config.resources));
        for BrokenFile { file, cause } in &read.broken {
            context.output.note(format!("{} {file}: {cause}", paint(BAD, "broken:")));
        }
        for finding in read.done.iter().flat_map(deployments::NamedImages::pulled) {
            let Ok(read) = read_reference(&finding.text, Some(config)) else { continue };
            wanted.extend(on_shelf(&read.reference, config, cache));
        }
    }
    Ok(wanted)
}

/// Where a reference lies on a cached shelf. None: on none.
fn on_shelf(reference: &Reference, config: &Config, cache: &Cache) -> Option<WarmWish> {
    let repository = if config.larder.has_name(&reference.host) {
        cache.shelf_of(&reference.repository)?;
        reference.repository.clone()
    } else {
        let shelf = cache.shelf_for(&reference.host)?;
        format!("{}/{}", shelf.name, reference.repository).parse().ok()?
    };
    Some(WarmWish { repository, selector: reference.selector() })
}
