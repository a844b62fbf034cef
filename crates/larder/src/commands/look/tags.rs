//! The tags of a repository, or the images of a layout or archive, each with what it is.

use futures_util::stream::{self, StreamExt as _};
use larder_core::digest::Digest;
use larder_core::document::{CONFIG_LIMIT, Descriptor, ImageConfig, ManifestShape};
use larder_core::name::Tag;
use larder_core::platform::Platforms;
use larder_core::reference::{Reference, Selector};
use larder_core::selection::sort_newest_first;
use larder_core::shown::shown;
use larder_transfer::{Archive, Layout, Outline, Own, Remote, Source};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::{Context, now, reference, reference_here, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, DIM, Output, Report, Table, ago, bytes, count, paint, short, time};
use crate::place::Place;

/// Tags that are looked into at once.
const AT_ONCE: usize = 6;

#[derive(Serialize, JsonSchema)]
pub struct TagsReport {
    image: String,
    /// Versions first, then days, the newest first; then all others by name.
    tags: Vec<TagRow>,
}

#[derive(Serialize, JsonSchema)]
struct TagRow {
    tag: String,
    /// null: it was not looked into, or could not be.
    digest: Option<String>,
    /// All blobs of all its platforms together, each once. null: it was not looked into.
    size_bytes: Option<u64>,
    /// When it was built, as its configuration says. null: it does not, or was not looked into.
    created_at: Option<String>,
    platforms: Vec<String>,
    /// Why it could not be looked into. null: it could, or was not.
    cause: Option<String>,
    #[serde(skip)]
    built: Option<i64>,
}

impl TagRow {
    fn plain(tag: &str) -> Self {
        Self {
            tag: shown(tag).into_owned(),
            digest: None,
            size_bytes: None,
            created_at: None,
            platforms: Vec::new(),
            cause: None,
            built: None,
        }
    }
}

impl Report for TagsReport {
    const KIND: &'static str = "image-tags";

    fn show(&self, out: &Output) {
        let looked = |row: &&TagRow| row.digest.is_some() || row.cause.is_some();
        let mut table = Table::new(out.width(), &["TAG", "DIGEST", "SIZE", "BUILT", "PLATFORMS"])
            .sparing(&["BUILT", "PLATFORMS", "SIZE"]);
        for row in self.tags.iter().filter(looked) {
            let digest = row.digest.as_ref().and_then(|text| text.parse::<Digest>().ok());
            let digest = match &digest {
                Some(digest) => short(digest).to_owned(),
                None => paint(BAD, "cannot be told"),
            };
            let built = row.built.map_or_else(|| "-".to_owned(), |at| ago(at, now()));
            let size = row.size_bytes.map_or_else(String::new, bytes);
            table.row([row.tag.clone(), digest, size, built, row.platforms.join(" ")]);
        }
        if self.tags.iter().any(|row| looked(&row)) {
            out.table(&table);
        }
        for row in &self.tags {
            if let Some(cause) = &row.cause {
                out.note(format!("{}: {cause}", row.tag));
            }
        }
        self.tags.iter().filter(|row| !looked(row)).for_each(|row| out.result(&row.tag));
        let more = self.tags.iter().filter(|row| !looked(row)).count();
        let note = match more {
            0 => count(self.tags.len(), "tag"),
            more => format!(
                "{}; {more} of them were not looked into (`--limit`)",
                count(self.tags.len(), "tag")
            ),
        };
        out.note(paint(DIM, note));
    }
}

/// Lists the tags of a repository, and looks into so many of them.
pub async fn of_repository(
    text: &str,
    limit: usize,
    context: &Context,
    config: Option<&Config>,
) -> Outcome {
    let reference = match config {
        Some(config) => reference_here(text, config)?,
        None => reference(text, None)?,
    };
    let what = || format!("cannot list the tags of {}", reference.image());
    let Some(config) = config else {
        let remedy = "`larder init` writes one";
        return Err(Failure::usage(what(), "listing tags needs a configuration", remedy));
    };
    let own = if config.larder.has_name(&reference.host) { store_if_any(config)? } else { None };
    let (mut tags, source): (Vec<Tag>, Box<dyn Source>) = match own {
        Some(store) => {
            let found = store.tags(&reference.repository, None, usize::MAX).await;
            let found =
                found.map_err(|error| Failure::store(what(), &error))?.ok_or_else(|| {
                    let remedy = "`larder shelf list` shows what there is";
                    Failure::usage(what(), "the larder has no such repository", remedy)
                        .ending(Exit::No)
                })?;
            (found, Box::new(Own::new(store, reference.repository.clone())))
        }
        None => {
            let upstream = config.upstream_for(&reference.host, Some(&reference.repository));
            let registry = config.registry_as(&reference.host, upstream)?;
            let found = registry.tags(&reference.repository).await;
            let found = found.map_err(|error| Failure::remote(what(), &error))?;
            (found, Box::new(Remote::new(registry, reference.repository.clone())))
        }
    };
    sort_newest_first(&mut tags);
    let progress = context.output.progress();
    progress.say(format!("looking into {}", reference.image()));
    let rows = stream::iter(tags.iter().enumerate())
        .map(|(place, tag)| {
            let source = &*source;
            async move {
                match place < limit {
                    true => row(tag.as_str(), &Selector::Tag(tag.clone()), source).await,
                    false => TagRow::plain(tag.as_str()),
                }
            }
        })
        .buffered(AT_ONCE)
        .collect()
        .await;
    progress.done();
    context.output.tell(&TagsReport { image: name(&reference), tags: rows });
    Ok(Exit::Done)
}

fn name(reference: &Reference) -> String {
    reference.image().to_string()
}

/// The images of a layout or archive, where the place names none of them and there are several, or where they are asked
/// for. None: it is no such place.
pub async fn of_place(
    place: &Place,
    asked: bool,
    limit: usize,
) -> Result<Option<TagsReport>, Failure> {
    let (source, names): (Box<dyn Source>, Vec<(String, Digest)>) = match place {
        Place::Folder(path, None) => {
            let what = format!("cannot read {place}");
            let layout = Layout::open(path).map_err(|error| Failure::transfer(what, &error))?;
            let images = layout.images();
            (Box::new(layout), images)
        }
        Place::Archive(path, None) => {
            let what = format!("cannot read {place}");
            let archive = Archive::open(path).map_err(|error| Failure::transfer(what, &error))?;
            let images = archive.images();
            (Box::new(archive), images)
        }
        _ => return Ok(None),
    };
    if !asked && names.len() < 2 {
        return Ok(None);
    }
    let mut rows = Vec::new();
    for (place, (name, digest)) in names.into_iter().enumerate() {
        rows.push(match place < limit {
            true => row(&name, &Selector::Digest(digest), &*source).await,
            false => TagRow::plain(&name),
        });
    }
    Ok(Some(TagsReport { image: place.to_string(), tags: rows }))
}

/// What a tag is.
async fn row(tag: &str, selector: &Selector, source: &dyn Source) -> TagRow {
    let looked = async {
        let (digest, document) = source.manifest(selector).await?;
        let outline = Outline::of(source, &digest, &Platforms::All, None).await?;
        let size = outline.blobs().iter().map(|blob| blob.size).sum();
        let mut platforms: Vec<String> = document
            .children()
            .iter()
            .filter_map(Descriptor::platform)
            .filter(|platform| !platform.is_unknown())
            .map(|platform| platform.to_string())
            .collect();
        let mut config = None;
        for (_, one) in &outline.documents {
            let ManifestShape::Manifest { config: blob, .. } = &one.kind else { continue };
            let read = source.small_blob(blob, CONFIG_LIMIT).await;
            config = read.ok().and_then(|bytes| ImageConfig::read(&bytes).ok());
            if config.is_some() {
                break;
            }
        }
        if platforms.is_empty() {
            platforms
                .extend(config.as_ref().and_then(ImageConfig::platform).map(|one| one.to_string()));
        }
        let built = config.and_then(|config| config.built());
        Ok::<_, larder_transfer::TransferError>((digest, size, built, platforms))
    };
    match looked.await {
        Ok((digest, size, built, platforms)) => TagRow {
            digest: Some(digest.to_string()),
            size_bytes: Some(size),
            created_at: built.map(time),
            platforms,
            built,
            ..TagRow::plain(tag)
        },
        Err(error) => {
            TagRow { cause: Some(shown(&error.to_string()).into_owned()), ..TagRow::plain(tag) }
        }
    }
}
