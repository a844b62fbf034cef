//! Archives that nobody signed: OCI layouts, and what container daemons save.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::Instant;

use larder_core::name::{RepositoryName, Tag};
use larder_core::platform::Platforms;
use larder_core::reference::Selector;
use larder_transfer::{Archive, Engine, MoveOrder, MoveOutcome, Target};

use super::elsewhere::FarRegistry;
use super::gate::{Arriving, ParcelGate};
use super::unpack::{UnpackReport, UnpackedImage};
use crate::commands::copy::move_with_companions;
use crate::config::Config;
use crate::context::{Context, open_store, own, reference};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::count;

/// What is asked for.
pub(super) struct PlainRequest<'w> {
    pub paths: &'w [PathBuf],
    /// Where the image goes. None: where its name and the routes say.
    pub to: Option<&'w RepositoryName>,
    pub dry_run: bool,
}

pub(super) async fn unpack(
    wish: &PlainRequest<'_>,
    elsewhere: Option<&FarRegistry>,
    config: &Config,
    context: &Context,
) -> Outcome {
    // Long: the steps of unpacking in their order.
    let began = Instant::now();
    // Everything is read and has its place before anything is written.
    let mut all = Vec::new();
    for path in wish.paths {
        let what = || format!("cannot unpack {}", larder_transfer::files::named(path));
        let archive = Archive::open(path).map_err(|error| Failure::transfer(what(), &error))?;
        let names = archive.names();
        if names.is_empty() {
            return Err(Failure::usage(
                what(),
                "none of its images has a name",
                "`larder copy` takes it under a name",
            ));
        }
        if wish.to.is_some() && names.len() > 1 {
            let cause = format!(
                "`--as` names one place, and it has {}: {}",
                count(names.len(), "image"),
                names.join(", ")
            );
            return Err(Failure::usage(
                what(),
                cause,
                "leave `--as` out, or take one with `larder copy PATH#NAME`",
            ));
        }
        for name in names {
            let (to, tag) = place(&name, wish.to, config, path)?;
            if elsewhere.is_none() {
                config.check_shelf(what(), &to)?;
            }
            all.push((path.clone(), name, to, tag));
        }
    }
    let gate = ParcelGate::of(config)?;
    let mut refused: Vec<(String, Failure)> = Vec::new();
    let mut images = Vec::new();
    let mut total = MoveOutcome::default();
    let progress = context.output.progress();
    for (path, name, to, tag) in all {
        let shown = match elsewhere {
            Some(elsewhere) => format!("{}:{tag}", elsewhere.image(&to)?),
            None => format!("{to}:{tag}"),
        };
        if let Some(failure) = refusal(gate.as_ref(), &path, &name, (&to, &tag)).await? {
            refused.push((shown, failure));
            continue;
        }
        if !wish.dry_run {
            let failed = |error: &_| {
                Failure::transfer(
                    format!("cannot unpack {}#{name}", larder_transfer::files::named(&path)),
                    error,
                )
            };
            let archive = Archive::open(&path).map_err(|error| failed(&error))?;
            let (digest, _) = archive.find(Some(&name)).map_err(|error| failed(&error.into()))?;
            let target: Box<dyn Target> = match elsewhere {
                Some(elsewhere) => Box::new(elsewhere.end(&to, config)?),
                None => Box::new(own(open_store(config)?, config, to)),
            };
            let order = MoveOrder {
                source: &archive,
                selector: Selector::Digest(digest),
                target: &*target,
                tag: Some(tag),
                platforms: &Platforms::All,
                leave: &BTreeSet::new(),
                trimmed: None,
            };
            // What was signed of it comes along, where the archive has that.
            let engine = Engine::new(progress.clone());
            let moved = move_with_companions(&engine, &order, true).await;
            total.add(&moved.map_err(|error| failed(&error))?.0);
        }
        images.push(UnpackedImage { to: shown, archive: Some(path), name: Some(name) });
    }
    progress.done();
    context.output.tell(&UnpackReport {
        dry_run: wish.dry_run,
        images,
        refused: refused.iter().map(|(name, _)| name.clone()).collect(),
        blobs_copied: total.copied,
        blobs_present: total.present,
        copied_bytes: total.bytes,
        seconds: began.elapsed().as_secs_f64(),
        ..UnpackReport::default()
    });
    for (_, failure) in &refused {
        context.output.failure(failure);
    }
    Ok(if refused.is_empty() { Exit::Done } else { Exit::No })
}

/// Why an image of an archive is refused. None: it is not.
async fn refusal(
    gate: Option<&ParcelGate>,
    path: &Path,
    name: &str,
    (to, tag): (&RepositoryName, &Tag),
) -> Result<Option<Failure>, Failure> {
    let Some(gate) = gate else { return Ok(None) };
    let failed = |error: &_| {
        let what = format!("cannot unpack {}#{name}", larder_transfer::files::named(path));
        Failure::transfer(what, error)
    };
    let archive = Archive::open(path).map_err(|error| failed(&error))?;
    let (digest, _) = archive.find(Some(name)).map_err(|error| failed(&error.into()))?;
    let arriving = Arriving { to, tag, digest: &digest, image: None };
    match gate.check(&archive, arriving).await {
        Ok(()) => Ok(None),
        Err(failure) if failure.exit == Exit::No => Ok(Some(failure)),
        Err(failure) => Err(failure),
    }
}

/// Where an image goes by its name: where the routes lead its reference, or where a name of this
/// larder says.
fn place(
    name: &str,
    to: Option<&RepositoryName>,
    config: &Config,
    path: &Path,
) -> Result<(RepositoryName, Tag), Failure> {
    let what = || format!("cannot unpack {}", larder_transfer::files::named(path));
    if let Some(to) = to {
        let tag = name.rsplit_once(':').map_or(name, |(_, tag)| tag);
        return Ok((to.clone(), tag.parse().unwrap_or_else(|_| Tag::latest())));
    }
    if let Some((repository, tag)) = name.rsplit_once(':')
        && let (Ok(repository), Ok(tag)) = (repository.parse::<RepositoryName>(), tag.parse())
        && config.storing_shelves().iter().any(|shelf| shelf == repository.first_component())
        && !repository.is_single()
    {
        return Ok((repository, tag));
    }
    let reference = reference(name, Some(config))?;
    let Some(target) = config.routes().target(&reference.image()) else {
        let cause = format!("no intake entry says where {} goes", reference.image());
        return Err(Failure::usage(what(), cause, "say so with `--as SHELF/NAME`"));
    };
    Ok((target.repository, reference.tag.unwrap_or_else(Tag::latest)))
}
