//! Is each image there, and for the platforms that are wanted? Asked of the larder or the upstreams.

use std::collections::BTreeSet;

use futures_util::StreamExt as _;
use larder_client::ClientError;
use larder_core::document::{CONFIG_LIMIT, Document, ImageConfig, ManifestShape};
use larder_core::platform::Platform;
use larder_core::signature::Trust;
use larder_transfer::{Source, TransferError};

use super::rows::{Row, StandingWord};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure};
use crate::place::Place;
use crate::signatures::{Judging, gathered, names_of, signers_of};

/// Registries that are asked at once.
const AT_ONCE: usize = 8;

/// Asks for every reference whose tag is known. True: something could not be asked.
pub(super) async fn ask(
    rows: &mut [Row],
    config: Option<&Config>,
    context: &Context,
) -> Result<bool, Failure> {
    let config_with_signers = config.filter(|config| !config.signers.is_empty());
    let trust = config_with_signers.map(Config::trust).transpose()?;
    let trust = trust.as_ref();
    let progress = context.output.progress();
    let asked: Vec<(usize, String, BTreeSet<Platform>)> = rows
        .iter()
        .enumerate()
        .filter(|(_, row)| row.certain && row.wanted.is_some())
        .filter_map(|(number, row)| Some((number, whom(row, config)?, wanted(row, config))))
        .collect();
    let one = |(number, text, wanted): (usize, String, BTreeSet<Platform>)| async move {
        let found = look(&text, config, trust).await;
        let found = found.map(|(has, signed_by)| {
            let is_had = |on: &&Platform| has.iter().any(|image| image.suits(on).is_some());
            let lacks = wanted.iter().filter(|on| !is_had(on) && !has.is_empty());
            (lacks.map(ToString::to_string).collect::<Vec<_>>(), signed_by)
        });
        (number, text, found)
    };
    let futures: Vec<_> = asked.into_iter().map(one).collect();
    let mut answers = futures_util::stream::iter(futures).buffer_unordered(AT_ONCE);
    while let Some((number, text, answer)) = answers.next().await {
        progress.say(text);
        match answer {
            Ok((lacks, signed_by)) => {
                (rows[number].lacks, rows[number].signed_by) = (lacks, signed_by);
            }
            Err(failure) => {
                rows[number].unasked = failure.exit == Exit::Remote;
                rows[number].unreachable = Some(failure.cause);
            }
        }
    }
    progress.done();
    Ok(rows.iter().any(|row| row.unasked))
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

/// The platforms for which an image is there, and who signed it. No platform: it does not say, as artifacts do not. None:
/// nobody is named whose signatures count.
async fn look(
    text: &str,
    config: Option<&Config>,
    trust: Option<&Trust>,
) -> Result<(Vec<Platform>, Option<Vec<String>>), Failure> {
    let place = Place::read(text, config)?;
    let opened = place.source(config)?;
    let source: &dyn Source = &*opened.source;
    let failed = |error: TransferError| {
        let failure = Failure::transfer(format!("cannot look at {text}"), &error);
        // Who says that it is not there was asked.
        match error {
            TransferError::Client(ClientError::NotFound { .. }) => failure.ending(Exit::No),
            _ => failure,
        }
    };
    let found = source.manifest(&opened.selector).await.map_err(failed)?;
    let document = &found.1;
    let platforms: Vec<Platform> = match &document.kind {
        ManifestShape::Manifest { .. } => {
            own_platform(source, document).await.map_err(failed)?.into_iter().collect()
        }
        ManifestShape::Index(_) => document
            .children()
            .iter()
            .filter_map(larder_core::document::Descriptor::platform)
            .filter(|platform| !platform.is_unknown())
            .collect(),
    };
    let (Some(trust), Place::Registry(reference)) = (trust, &place) else {
        return Ok((platforms, None));
    };
    let names = names_of(reference, config);
    let tags: Vec<String> = reference.tag.iter().map(ToString::to_string).collect();
    let gathered = gathered(source, &found, &[]).await.map_err(failed)?;
    let judging = Judging { trust, names: &names, tags: &tags };
    Ok((platforms, Some(signers_of(&judging.examine(&found, &[], &gathered)))))
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
