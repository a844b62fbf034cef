//! Is each image there, and for the platforms that are wanted? Asked of the larder or the upstreams.

use std::collections::BTreeSet;

use futures_util::StreamExt as _;
use larder_client::ClientError;
use larder_core::document::{CONFIG_LIMIT, Document, ImageConfig, ManifestShape};
use larder_core::platform::Platform;
use larder_transfer::{Source, TransferError};

use super::rows::{Row, StandingWord};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure};
use crate::place::Place;

/// Registries that are asked at once.
const AT_ONCE: usize = 8;

/// Asks for every reference whose tag is known. True: something could not be asked.
pub(super) async fn ask(rows: &mut [Row], config: Option<&Config>, context: &Context) -> bool {
    let progress = context.output.progress();
    let asked: Vec<(usize, String, BTreeSet<Platform>)> = rows
        .iter()
        .enumerate()
        .filter(|(_, row)| row.certain && row.wanted.is_some())
        .filter_map(|(number, row)| Some((number, whom(row, config)?, wanted(row, config))))
        .collect();
    let one = |(number, text, wanted): (usize, String, BTreeSet<Platform>)| async move {
        let found = platforms(&text, config).await;
        let lacks = found.map(|has| {
            let is_had = |on: &&Platform| has.iter().any(|image| image.suits(on).is_some());
            let lacks = wanted.iter().filter(|on| !is_had(on) && !has.is_empty());
            lacks.map(ToString::to_string).collect::<Vec<_>>()
        });
        (number, text, lacks)
    };
    let futures: Vec<_> = asked.into_iter().map(one).collect();
    let mut answers = futures_util::stream::iter(futures).buffer_unordered(AT_ONCE);
    while let Some((number, text, answer)) = answers.next().await {
        progress.say(text);
        match answer {
            Ok(lacks) => rows[number].lacks = lacks,
            Err(failure) => {
                rows[number].unasked = failure.exit == Exit::Remote;
                rows[number].unreachable = Some(failure.cause);
            }
        }
    }
    progress.done();
    rows.iter().any(|row| row.unasked)
}

/// What is asked for: the larder's own copy where there is one, else the upstream's.
fn whom(row: &Row, config: Option<&Config>) -> Option<String> {
    let reading = row.reading.as_ref()?;
    match (row.standing, &row.target) {
        (StandingWord::Covered | StandingWord::Routed, Some(target)) => Some(target.clone()),
        (
            StandingWord::Missing
            | StandingWord::Built
            | StandingWord::Open
            | StandingWord::Malformed,
            _,
        ) => None,
        // A cached shelf's own name is asked of its upstream, which knows what is there.
        (StandingWord::Own, _) => {
            let image = reading.reference.image();
            let origin = config.and_then(|config| config.routes().origins().of_image(&image));
            let cached = config.is_some_and(|c| c.routes().is_cached(&reading.reference));
            let origin = origin.filter(|_| cached).map(|image| {
                image.with(reading.reference.tag.clone(), reading.reference.digest.clone())
            });
            Some(origin.unwrap_or_else(|| reading.reference.clone()).to_string())
        }
        _ => Some(reading.reference.to_string()),
    }
}

/// The platforms on which it is to run: what its pods ask for, else those of the clusters that have its
/// namespaces, else those of all clusters.
pub(super) fn wanted(row: &Row, config: Option<&Config>) -> BTreeSet<Platform> {
    let mut wanted = BTreeSet::new();
    let clusters = config.map(|config| config.clusters.as_slice()).unwrap_or_default();
    for place in &row.places {
        if !place.architectures.is_empty() {
            let of = |one: &String| format!("linux/{one}").parse::<Platform>().ok();
            wanted.extend(place.architectures.iter().filter_map(of));
            continue;
        }
        let its = |one: &&crate::config::ClusterConfig| {
            let mut all = one.namespaces.iter().map(|space| space.name.get_ref().as_str());
            place.namespace.as_deref().is_some_and(|name| all.any(|one| one == name))
        };
        let named: Vec<_> = clusters.iter().filter(its).collect();
        if named.is_empty() {
            wanted.extend(clusters.iter().flat_map(|one| one.platforms.clone()));
        } else {
            wanted.extend(named.iter().flat_map(|one| one.platforms.clone()));
        }
    }
    wanted
}

/// The platforms for which an image is there. Empty: it does not say, as artifacts do not.
async fn platforms(text: &str, config: Option<&Config>) -> Result<Vec<Platform>, Failure> {
    let opened = Place::read(text, config)?.source(config)?;
    let source: &dyn Source = &*opened.source;
    let failed = |error: TransferError| {
        let failure = Failure::transfer(format!("cannot look at {text}"), &error);
        // Who says that it is not there was asked.
        match error {
            TransferError::Client(ClientError::NotFound { .. }) => failure.ending(Exit::No),
            _ => failure,
        }
    };
    let (_, document) = source.manifest(&opened.selector).await.map_err(failed)?;
    match &document.kind {
        ManifestShape::Manifest { .. } => {
            let config = own_platform(source, &document).await.map_err(failed)?;
            Ok(config.into_iter().collect())
        }
        ManifestShape::Index(_) => Ok(document
            .children()
            .iter()
            .filter_map(larder_core::document::Descriptor::platform)
            .filter(|platform| !platform.is_unknown())
            .collect()),
    }
}

async fn own_platform(
    source: &dyn Source,
    document: &Document,
) -> Result<Option<Platform>, TransferError> {
    let Some(config) = document.config().filter(|it| it.size <= CONFIG_LIMIT as u64) else {
        return Ok(None);
    };
    let bytes = source.small_blob(config, CONFIG_LIMIT).await?;
    Ok(ImageConfig::read(&bytes).ok().and_then(|config| config.platform()))
}
