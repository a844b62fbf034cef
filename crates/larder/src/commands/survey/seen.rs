//! What a survey of a live cluster saw is noted: it is in use.

use larder_core::reference::Selector;
use larder_store::{SeenBy, SeenWorkload};

use super::Survey;
use super::rows::StandingWord;
use crate::commands::rounds::gather::SurveyFound;
use crate::config::Config;
use crate::context::{now, read_reference, store_if_any};
use crate::marks;

/// Notes what a cluster runs from this larder, and that it was looked at. Without a store on this machine nothing is.
///
/// # Errors
/// In words, what could not be written.
pub(super) async fn note(report: &Survey, cluster: &str, config: &Config) -> Result<usize, String> {
    let Ok(Some(store)) = store_if_any(config) else { return Ok(0) };
    let row = |namespace: &str, workload: &str| SeenWorkload {
        cluster: cluster.to_owned(),
        namespace: namespace.to_owned(),
        workload: workload.to_owned(),
        repository: String::new(),
        selector: String::new(),
        digest: String::new(),
        how: SeenBy::Survey,
        first: None,
        last: now(),
    };
    let mut rows = vec![row("", "")];
    let live = format!("{cluster}:");
    for reference in report.references.iter().filter(|reference| reference.certain) {
        let here = reference.target.as_deref().unwrap_or(&reference.reference);
        let Ok(here) = read_reference(here, Some(config)) else { continue };
        let here = here.reference;
        if !config.larder.has_name(&here.host) {
            continue;
        }
        let digest = match here.selector() {
            Selector::Digest(digest) => digest.to_string(),
            named @ Selector::Tag(_) => {
                let found = store.manifest_record(&here.repository, &named).await;
                let found = found.map_err(|error| error.to_string())?;
                found.map(|found| found.digest.to_string()).unwrap_or_default()
            }
        };
        for place in reference.places.iter().filter(|place| place.file.starts_with(&live)) {
            let workload = format!("{}/{}", place.kind, place.name);
            rows.push(SeenWorkload {
                repository: here.repository.to_string(),
                selector: here.selector().to_string(),
                digest: digest.clone(),
                ..row(place.namespace.as_deref().unwrap_or_default(), &workload)
            });
        }
    }
    let seen = rows.len() - 1;
    store.saw(rows).await.map_err(|error| error.to_string())?;
    Ok(seen)
}

/// Notes what a survey found, for the rounds.
pub(super) async fn note_found(report: &Survey, config: &Config) -> Result<(), String> {
    let Ok(Some(store)) = store_if_any(config) else { return Ok(()) };
    let rows = || report.references.iter().filter(|row| row.certain);
    let of = |words: &[StandingWord]| rows().filter(|row| words.contains(&row.standing)).count();
    let found = SurveyFound {
        references: rows().count(),
        uncovered: of(&[StandingWord::Uncovered, StandingWord::NotLocked]),
        missing: of(&[StandingWord::Missing]),
        malformed: of(&[StandingWord::Malformed]),
        floating: rows().filter(|row| row.floating).count(),
    };
    let text = serde_json::to_string(&found).map_err(|error| error.to_string())?;
    store.set_mark(marks::SURVEY, &text).await.map_err(|error| error.to_string())
}
