//! `larder shelf show`: the images of a shelf or a repository.

use std::collections::{BTreeMap, BTreeSet};

use futures_util::stream::{self, StreamExt as _, TryStreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::{CONFIG_LIMIT, Document, ImageConfig, ManifestShape};
use larder_core::holdings::{HeldImages, HeldPattern, ManifestPlace, ManifestRow};
use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_store::{Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use super::cached::CachedShelfReport;
use super::named::{self, NamedRepositories};
use super::shown::ShownImage;
use super::{House, tree, unreadable};
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure, Outcome};
use crate::health::{self, ImageHealth};
use crate::output::{Output, Report, Table, ago, bytes, count, short, until};

/// Show the images of a shelf or a repository
///
/// SIZE is what an image takes by itself, FREED what nothing but it uses: what would be free without it.
#[derive(Debug, Clone, clap::Args)]
pub struct Args {
    /// A shelf, a repository on it, or one of its tags or digests, also by patterns: `vendor`, `vendor/kettle:2`,
    /// `vendor/**:1.*`
    name: String,
    /// Show the layers of each image and which other images share them
    #[arg(long)]
    tree: bool,
    /// Manifests without a tag too: they can still be pulled by digest
    #[arg(long)]
    untagged: bool,
    /// Say everything that is known of how each image is
    #[arg(long, conflicts_with = "tree")]
    health: bool,
    /// Only what nobody has asked for in so many days, as 90d
    #[arg(long, value_name = "SPAN")]
    unpulled: Option<larder_core::quantity::Span>,
    /// In which order: name, size, freed, since, pulled, pulls
    #[arg(
        long,
        value_enum,
        value_name = "BY",
        default_value = "name",
        hide_possible_values = true
    )]
    sort: ShowOrder,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
enum ShowOrder {
    Name,
    Size,
    Freed,
    Since,
    Pulled,
    Pulls,
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = format!("cannot show {}", args.name);
    let pattern = named::read(&args.name, config, &what)?;
    let everything = *pattern.images() == HeldImages::All;
    let shelf = pattern.repository().filter(|name| everything && name.is_single());
    let mut caches = BTreeMap::new();
    if let Some(shelf) = shelf {
        caches.insert(shelf.to_string(), cache_of(shelf, config, store).await?);
    }
    let (mut shown, mut untagged) = (Vec::new(), 0);
    let mut repositories = NamedRepositories::new(store, &pattern, everything);
    // Images do not span repositories, so each is looked at by itself.
    while let Some(page) = repositories.next().await? {
        for name in &page {
            let found = ShownRepository::read(store, name, &pattern, args).await?;
            untagged += found.untagged;
            let mut images = found.images;
            let shelf = name.first_component();
            if !caches.contains_key(shelf) {
                caches.insert(shelf.to_owned(), cache_of(name, config, store).await?);
            }
            if let Some(Some(report)) = caches.get(shelf) {
                report.tell(store, name, &mut images).await?;
            }
            shown.extend(images);
        }
    }
    let refused = |cause: &dyn std::fmt::Display, remedy: &str| {
        Err(Failure::usage(&what, cause, remedy).ending(Exit::No))
    };
    if let HeldImages::Manifest(start) = pattern.images()
        && let Err(error) = start.only_of(shown.iter().map(|one| &one.digest))
    {
        return refused(&error, "`larder shelf show SHELF --untagged` shows what there is");
    }
    let on_cached_shelf = !caches.is_empty() && caches.values().all(Option::is_some);
    let cache = shelf.and_then(|shelf| caches.remove(shelf.as_str()).flatten());
    if shown.is_empty() && cache.is_none() {
        let declared = shelf.is_some_and(|shelf| {
            config.storing_shelves().iter().any(|declared| declared == shelf.as_str())
        });
        if !declared && args.unpulled.is_none() {
            let cause = "the larder holds nothing under that name";
            return refused(&cause, "`larder shelf list` shows what there is");
        }
    }
    shown.sort_by(|a, b| (a.repository.as_str(), &a.tag).cmp(&(b.repository.as_str(), &b.tag)));
    match args.sort {
        ShowOrder::Name => {}
        ShowOrder::Size => shown.sort_by_key(|one| std::cmp::Reverse(one.size_bytes)),
        ShowOrder::Freed => shown.sort_by_key(|one| std::cmp::Reverse(one.exclusive_bytes)),
        ShowOrder::Since => shown.sort_by_key(|one| std::cmp::Reverse(one.at)),
        ShowOrder::Pulled => shown.sort_by_key(|one| std::cmp::Reverse(one.last)),
        ShowOrder::Pulls => shown.sort_by_key(|one| std::cmp::Reverse(one.pulls_in_30_days)),
    }
    if args.tree {
        tree::add(store, &mut shown).await?;
    } else {
        let asked = add_health(store, &mut shown, args.health).await;
        asked.map_err(|error| unreadable(&error))?;
    }
    context.output.tell(&ShelfReport {
        name: pattern.to_string(),
        on_cached_shelf,
        cache,
        images: shown,
        untagged_manifests: untagged,
        args: args.clone(),
    });
    Ok(Exit::Done)
}

/// Of more images it is told only where somebody asks: it takes a millisecond or two for each.
const HEALTH_MOST: usize = 500;
/// Images of which it is found out at once how they are.
const HEALTH_AT_ONCE: usize = 8;

/// Says how each image is, where advisories were taken in or somebody wants to know.
async fn add_health(
    store: &Store,
    shown: &mut [ShownImage],
    is_wanted: bool,
) -> Result<(), StoreError> {
    // Several tags of one image are one image.
    let digests: BTreeSet<Digest> = shown.iter().map(|one| one.digest.clone()).collect();
    if !is_wanted && (digests.len() > HEALTH_MOST || !health::is_asked(store).await?) {
        return Ok(());
    }
    let each = digests.into_iter().map(|digest| async move {
        let found = health::of_held(store, &digest).await;
        found.map(|health| (digest, health))
    });
    let each = stream::iter(each).buffer_unordered(HEALTH_AT_ONCE);
    let found: BTreeMap<Digest, Option<ImageHealth>> = each.try_collect().await?;
    for one in shown {
        one.health = found.get(&one.digest).cloned().flatten();
    }
    Ok(())
}

/// What the cache of a repository's shelf is and does. None: the shelf is none that caches.
async fn cache_of(
    repository: &RepositoryName,
    config: &Config,
    store: &Store,
) -> Result<Option<CachedShelfReport>, Failure> {
    let Some((shelf, caching)) = config.cached_shelf(repository.first_component()) else {
        return Ok(None);
    };
    let name = shelf.name.get_ref().as_str();
    CachedShelfReport::read(config, store, name, caching).await.map(Some)
}

#[derive(Serialize, JsonSchema)]
pub struct ShelfReport {
    name: String,
    /// The cached shelf, where it was asked for as a whole. None: it is another, or a part of one.
    cache: Option<CachedShelfReport>,
    images: Vec<ShownImage>,
    /// Manifests without a tag; they can be pulled by digest.
    untagged_manifests: usize,
    #[serde(skip)]
    on_cached_shelf: bool,
    #[serde(skip)]
    args: Args,
}

impl Report for ShelfReport {
    const KIND: &'static str = "shelf";

    fn show(&self, out: &Output) {
        if self.args.tree && !self.images.is_empty() {
            return tree::show(&self.images, out);
        }
        if let Some(report) = &self.cache {
            report.show(out);
        }
        match (self.images.is_empty(), &self.cache) {
            (true, Some(_)) => return out.note("nothing was pulled from it yet"),
            (true, None) => {
                return out.result(match self.args.unpulled {
                    Some(span) => {
                        format!("every image in {} was pulled or set within {span}", self.name)
                    }
                    None => format!("{} is empty", self.name),
                });
            }
            (false, Some(_)) => out.result(""),
            (false, None) => {}
        }
        table(&self.images, self.on_cached_shelf, out);
        if self.args.health {
            for one in &self.images {
                let Some(health) = &one.health else { continue };
                out.result(format!("\n{}  {}", one.name(), health.painted()));
                health.lines().iter().for_each(|line| out.result(format!("  - {line}")));
            }
        }
        let is_left_out = self.images.len() > HEALTH_MOST && !self.args.health;
        if is_left_out && self.images.iter().all(|one| one.health.is_none()) {
            out.note(format!("How more than {HEALTH_MOST} images are is told with `--health`."));
        }
        if self.images.iter().any(|one| !one.absent.is_empty()) {
            out.note("Platforms in brackets are named by the index and are not here.");
        }
        let tags = self.images.iter().filter(|one| one.tag.is_some()).count();
        out.note(match (self.untagged_manifests, self.args.untagged) {
            (0, _) | (_, true) => count(tags, "tag"),
            (untagged, false) => format!(
                "{}, and {} without a tag; `--untagged` shows those too",
                count(tags, "tag"),
                count(untagged, "manifest")
            ),
        });
    }
}

/// What of a repository is shown.
struct ShownRepository {
    images: Vec<ShownImage>,
    /// Manifests without a tag that are not shown because of that.
    untagged: usize,
}

impl ShownRepository {
    async fn read(
        store: &Store,
        name: &RepositoryName,
        pattern: &HeldPattern,
        args: &Args,
    ) -> Result<Self, Failure> {
        let house = House::of(store, vec![name.clone()]).await?;
        let mut found = Self { images: Vec::new(), untagged: 0 };
        let everything = *pattern.images() == HeldImages::All;
        for (place, row) in house.holdings.records().manifests.iter().enumerate() {
            let named = matches!(pattern.images(), HeldImages::Manifest(start) if start.begins(&row.digest));
            let mut tags: Vec<(Option<Tag>, i64)> = house
                .holdings
                .tags_of(place)
                .map(|tag| (Some(tag.tag.clone()), tag.since))
                .collect();
            tags.retain(|(tag, _)| pattern.has_image(tag.as_ref().map(Tag::as_str), &row.digest));
            let loose = house.holdings.stands_alone(place) && everything;
            if loose {
                found.untagged += 1;
            }
            if (loose && args.untagged) || (named && tags.is_empty()) {
                tags.push((None, row.added));
            }
            for (tag, at) in tags {
                found.images.push(one(&house, place, row, name, tag, at));
            }
        }
        if let Some(span) = args.unpulled {
            let before = now() - i64::try_from(span.0.as_millis()).unwrap_or(i64::MAX);
            found.images.retain(|one| one.last.is_none_or(|last| last < before) && one.at < before);
        }
        for one in &mut found.images {
            let row = &house.holdings.records().manifests[one.place];
            let platforms = platforms(store, name, row).await;
            let platforms = platforms.map_err(|error| unreadable(&error))?;
            one.platforms = platforms.there.iter().map(|(_, platform)| platform.clone()).collect();
            one.absent = platforms.absent;
            one.parts = platforms.there;
            one.parts.retain(|(digest, _)| *digest != one.digest);
            if args.tree {
                one.blobs = layers(&house, one);
            }
        }
        Ok(found)
    }
}

/// The blobs of an image: those of each of its platforms, then what is of none.
fn layers(house: &House, one: &ShownImage) -> Vec<(Option<Platform>, Digest, u64)> {
    let repository = house.holdings.records().manifests[one.place].repository;
    let mut layers = Vec::new();
    let mut listed = BTreeSet::new();
    for (digest, platform) in &one.parts {
        let Some(place) = house.holdings.place(repository, digest) else { continue };
        for (digest, size) in house.holdings.blobs_of(place) {
            listed.insert(digest.clone());
            layers.push((Some(platform.clone()), digest.clone(), size));
        }
    }
    for (digest, size) in house.holdings.blobs_of(one.place) {
        if !listed.contains(digest) {
            layers.push((None, digest.clone(), size));
        }
    }
    layers
}

fn one(
    house: &House,
    place: ManifestPlace,
    row: &ManifestRow,
    repository: &RepositoryName,
    tag: Option<Tag>,
    at: i64,
) -> ShownImage {
    let volume = house.holdings.volume(&[place]);
    let used = house.used(place);
    ShownImage {
        repository: repository.clone(),
        tag,
        digest: row.digest.clone(),
        media_type: row.media_type.clone(),
        platforms: Vec::new(),
        absent: Vec::new(),
        size_bytes: volume.together,
        exclusive_bytes: volume.alone,
        changed_at: crate::output::time(at),
        pulled_at: used.map(|used| crate::output::time(used.last)),
        pulls_in_30_days: used.map_or(0, |used| used.pulls),
        confirmed_at: None,
        expires_at: None,
        health: None,
        goes: None,
        checked: None,
        at,
        last: used.map(|used| used.last),
        place,
        parts: Vec::new(),
        layers: None,
        blobs: Vec::new(),
    }
}

fn table(shown: &[ShownImage], cached: bool, out: &Output) {
    let own = ["IMAGE", "DIGEST", "PLATFORMS", "SIZE", "FREED", "SINCE", "LAST PULL", "PULLS"];
    let of_a_cache =
        ["IMAGE", "DIGEST", "PLATFORMS", "SIZE", "CONFIRMED", "LAST PULL", "PULLS", "GOES IN"];
    let has_health = shown.iter().any(|one| one.health.is_some());
    let mut columns: Vec<&str> = if cached { of_a_cache.into() } else { own.into() };
    if has_health {
        columns.insert(1, "HEALTH");
    }
    let mut table = Table::new(out.width(), &columns).sparing(&[
        "SINCE",
        "PULLS",
        "DIGEST",
        "CONFIRMED",
        "FREED",
        "PLATFORMS",
    ]);
    for one in shown {
        let mut platforms: Vec<String> = one.platforms.iter().map(ToString::to_string).collect();
        platforms.extend(one.absent.iter().map(|platform| format!("({platform})")));
        let pulled = one.last.map_or_else(|| "never".to_owned(), |last| ago(last, now()));
        let mut row = vec![one.name()];
        if has_health {
            row.push(one.health.as_ref().map(ImageHealth::painted).unwrap_or_default());
        }
        if cached {
            row.extend([
                short(&one.digest).to_owned(),
                platforms.join(" "),
                bytes(one.size_bytes),
                one.checked.map_or_else(String::new, |at| ago(at, now())),
                pulled,
                one.pulls_in_30_days.to_string(),
                one.goes.map_or_else(|| "-".to_owned(), |at| until(at, now())),
            ]);
            table.row(row);
            continue;
        }
        row.extend([
            short(&one.digest).to_owned(),
            platforms.join(" "),
            bytes(one.size_bytes),
            bytes(one.exclusive_bytes),
            ago(one.at, now()),
            pulled,
            one.pulls_in_30_days.to_string(),
        ]);
        table.row(row);
    }
    out.table(&table);
}

/// The platforms of an image.
#[derive(Default)]
struct HeldPlatforms {
    /// Those that are there, each with its manifest.
    there: Vec<(Digest, Platform)>,
    /// Those that the index names and that are not.
    absent: Vec<Platform>,
}

async fn platforms(
    store: &Store,
    repository: &RepositoryName,
    row: &ManifestRow,
) -> Result<HeldPlatforms, StoreError> {
    let mut found = HeldPlatforms::default();
    let Some(bytes) = store.body(&row.digest).await? else { return Ok(found) };
    let Ok(document) = Document::read(bytes, Some(&row.media_type)) else { return Ok(found) };
    match &document.kind {
        ManifestShape::Index(children) => {
            for child in children {
                let Some(platform) = child.platform().filter(|platform| !platform.is_unknown())
                else {
                    continue;
                };
                let selector = Selector::Digest(child.digest.clone());
                let held = store.manifest_record(repository, &selector).await?.is_some();
                if held {
                    found.there.push((child.digest.clone(), platform));
                } else {
                    found.absent.push(platform);
                }
            }
        }
        ManifestShape::Manifest { config, .. } if config.size <= CONFIG_LIMIT as u64 => {
            // A cached shelf has it only when somebody has pulled it.
            if store.size(&config.digest).await?.is_none() {
                return Ok(found);
            }
            let bytes = store.read_all(&config.digest, config.size).await?;
            let platform = ImageConfig::read(&bytes).ok().and_then(|config| config.platform());
            found.there.extend(platform.map(|platform| (row.digest.clone(), platform)));
        }
        ManifestShape::Manifest { .. } => {}
    }
    Ok(found)
}
