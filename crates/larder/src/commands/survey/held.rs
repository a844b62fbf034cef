//! What could be pulled if every upstream were gone? Answered by the store alone, nobody is asked.

use std::collections::BTreeSet;

use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, ManifestShape};
use larder_core::name::RepositoryName;
use larder_core::platform::Platform;
use larder_core::reference::{Reference, Selector};
use larder_store::{Store, StoreError};
use schemars::JsonSchema;
use serde::Serialize;

use super::online::wanted;
use super::rows::{Row, StandingWord};
use super::{Survey, deployments};
use crate::config::Config;
use crate::context::{Context, store_here};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{BAD, Output, Report, Table, count, paint};

/// How deep indexes list indexes.
const DEPTH: usize = 4;

/// One image, and whether it is whole here.
#[derive(Serialize, JsonSchema)]
struct HeldImage {
    image: String,
    /// Its name in this larder. None: it has none.
    here: Option<String>,
    /// Why it could not be pulled. None: it could.
    why: Option<String>,
    /// The first place that names it, and how many do.
    place: Option<String>,
    places: usize,
}

/// Says of each image whether it could be pulled without any upstream. Exit status 1: one could not.
pub(super) async fn run(report: &Survey, config: Option<&Config>, context: &Context) -> Outcome {
    let what = "cannot tell what is held";
    let Some(config) = config else {
        let cause = "no larder.toml is here, so there is no larder to look into";
        return Err(Failure::usage(what, cause, "name one with `--config`"));
    };
    let store = store_here(config)?;
    let mut all = Vec::new();
    for row in &report.references {
        let asked =
            row.certain && !matches!(row.standing, StandingWord::Built | StandingWord::Open);
        if !asked {
            continue;
        }
        let here = here(row, config);
        let why = match &here {
            None => Some(match row.standing {
                StandingWord::Malformed => "it cannot be read".to_owned(),
                _ => "it does not come through this larder".to_owned(),
            }),
            Some(here) => why_not(&store, here, &wanted(row, Some(config)))
                .await
                .map_err(|error| Failure::store(what, &error))?,
        };
        all.push(HeldImage {
            image: row.reference.clone(),
            here: here.map(|here| here.to_string()),
            why,
            place: row.places.first().map(|place| place.file.clone()),
            places: row.places.len(),
        });
    }
    let report = HeldReport { images: all, broken: report.broken.clone() };
    context.output.tell(&report);
    let fine = report.lost().next().is_none() && report.broken.is_empty();
    Ok(if fine { Exit::Done } else { Exit::No })
}

#[derive(Serialize, JsonSchema)]
pub struct HeldReport {
    images: Vec<HeldImage>,
    broken: Vec<deployments::BrokenFile>,
}

impl HeldReport {
    fn lost(&self) -> impl Iterator<Item = &HeldImage> {
        self.images.iter().filter(|one| one.why.is_some())
    }
}

impl Report for HeldReport {
    const KIND: &'static str = "survey-held";

    fn show(&self, out: &Output) {
        let lost = self.lost().count();
        if lost > 0 {
            let mut table = Table::new(out.width(), &["IMAGE", "NOT HELD", "WHERE"]);
            for one in self.lost() {
                let more = match one.places {
                    0 | 1 => String::new(),
                    many => format!(" and {} more", many - 1),
                };
                table.row([
                    one.image.clone(),
                    paint(BAD, one.why.as_deref().unwrap_or_default()),
                    format!("{}{more}", one.place.as_deref().unwrap_or("-")),
                ]);
            }
            out.result(format!("{}\n", table.text()));
        }
        out.result(format!(
            "{} of {} could be pulled if all upstreams were gone",
            self.images.len() - lost,
            count(self.images.len(), "image")
        ));
        for deployments::BrokenFile { file, cause } in &self.broken {
            out.note(format!("{} {file}: {cause}", paint(BAD, "broken:")));
        }
    }
}

/// The image in this larder's own store. None: it has no place there.
fn here(row: &Row, config: &Config) -> Option<Reference> {
    let reference = &row.reading.as_ref()?.reference;
    if config.larder.has_name(&reference.host) {
        return Some(reference.clone());
    }
    let target = row.target.as_ref()?;
    let target = crate::context::read_reference(target, Some(config)).ok()?.reference;
    config.larder.has_name(&target.host).then_some(target)
}

/// Why an image could not be pulled from the store. None: it could, for all platforms that are wanted; where none
/// is, for one of its platforms.
async fn why_not(
    store: &Store,
    here: &Reference,
    wanted: &BTreeSet<Platform>,
) -> Result<Option<String>, StoreError> {
    let repository = &here.repository;
    let Some((_, top)) = store.document(repository, &here.selector()).await? else {
        return Ok(Some(format!("{} is not here", here.selector())));
    };
    if matches!(top.kind, ManifestShape::Manifest { .. }) {
        return lacks(store, repository, &top).await;
    }
    let mut lacking = Vec::new();
    for platform in wanted {
        if let Some(why) = for_platform(store, repository, &top, platform).await? {
            lacking.push(why);
        }
    }
    if wanted.is_empty() {
        for child in top.children().iter().filter(|child| is_image(child)) {
            match whole(store, repository, &child.digest, None, DEPTH).await? {
                None => return Ok(None),
                Some(why) => lacking.push(why),
            }
        }
        lacking.truncate(1);
    }
    Ok((!lacking.is_empty()).then(|| lacking.join("; ")))
}

/// Whether a child is an image, as far as its index says, and nothing that is only about one.
fn is_image(child: &Descriptor) -> bool {
    child.platform().is_none_or(|platform| !platform.is_unknown())
}

async fn for_platform(
    store: &Store,
    repository: &RepositoryName,
    index: &Document,
    platform: &Platform,
) -> Result<Option<String>, StoreError> {
    let children = index.children_for(platform);
    if children.is_empty() {
        return Ok(Some(format!("it is not made for {platform}")));
    }
    let mut first = None;
    for child in children {
        match whole(store, repository, &child.digest, Some(platform), DEPTH).await? {
            None => return Ok(None),
            Some(why) => {
                first.get_or_insert(format!("{platform}: {why}"));
            }
        }
    }
    Ok(first)
}

/// Why a child is not whole. None: it is.
async fn whole(
    store: &Store,
    repository: &RepositoryName,
    digest: &Digest,
    platform: Option<&Platform>,
    depth: usize,
) -> Result<Option<String>, StoreError> {
    let selector = Selector::Digest(digest.clone());
    let Some((_, found)) = store.document(repository, &selector).await? else {
        return Ok(Some("its manifest is not here".to_owned()));
    };
    match (&found.kind, depth.checked_sub(1)) {
        (ManifestShape::Manifest { .. }, _) => lacks(store, repository, &found).await,
        (ManifestShape::Index(_), None) => Ok(Some("its indexes lie too deep".to_owned())),
        (ManifestShape::Index(_), Some(depth)) => {
            let children: Vec<Digest> = match platform {
                Some(on) => {
                    found.children_for(on).into_iter().map(|it| it.digest.clone()).collect()
                }
                None => found.children().iter().map(|it| it.digest.clone()).collect(),
            };
            let mut why = Some("nothing in it is made for that".to_owned());
            for child in children {
                why = Box::pin(whole(store, repository, &child, platform, depth)).await?;
                if why.is_none() {
                    break;
                }
            }
            Ok(why)
        }
    }
}

/// Why a manifest's blobs are not all here, and whole. None: they are.
async fn lacks(
    store: &Store,
    repository: &RepositoryName,
    manifest: &Document,
) -> Result<Option<String>, StoreError> {
    let (mut missing, mut all) = (0, 0);
    for blob in manifest.blobs() {
        all += 1;
        // The ledger may know what the disk has lost.
        let known = store.blob(repository, &blob.digest).await?.is_some();
        if !known || store.size_on_disk(&blob.digest).await? != Some(blob.size) {
            missing += 1;
        }
    }
    Ok((missing > 0).then(|| format!("{missing} of {} are not here", count(all, "blob"))))
}
