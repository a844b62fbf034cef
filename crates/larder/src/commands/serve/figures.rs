//! Figures that take more than a look: worked out now and then while the larder serves.

use std::sync::Arc;
use std::time::Duration;

use larder_core::advisory::Severity;
use larder_server::{App, Figure, SampledValue};
use larder_store::{Store, StoreError};
use tokio::sync::watch;

use crate::commands::intake;
use crate::config::{Config, served_certificate_end};
use crate::failure::Failure;
use crate::marks;

/// How often what shelves hold and what was done last is looked up.
const EACH: Duration = Duration::from_secs(30);
/// Of so many turns one looks at all that is wanted, and one at all advisories.
const INTAKE: u32 = 10;
const ADVISORIES: u32 = 120;

/// What is looked up each time.
const CHEAP: &[Figure] = &[
    Figure::ShelfBytes,
    Figure::ShelfTags,
    Figure::ShelfQuota,
    Figure::CertificateEnd,
    Figure::ConfigurationGood,
    Figure::ConfigurationWaiting,
    Figure::LastRun,
    Figure::VerifySound,
    Figure::Leases,
];
/// How the intake stands.
const WANTED: &[Figure] =
    &[Figure::IntakeWanted, Figure::IntakeMissing, Figure::IntakeFailed, Figure::IntakeMoved];

/// Goes on for as long as the larder serves. What cannot be told now stays as it was.
pub async fn watch(app: &App, configs: watch::Receiver<Arc<Config>>) {
    let mut turn: u32 = 0;
    loop {
        let config = Arc::clone(&configs.borrow());
        match cheap(&config, &app.store).await {
            Ok(values) => app.meters.set_sampled(CHEAP, &values),
            Err(error) => tracing::warn!(%error, "figures could not be worked out"),
        }
        if turn.is_multiple_of(INTAKE) {
            match wanted(&config, &app.store).await {
                Ok(values) => app.meters.set_sampled(WANTED, &values),
                Err(failure) => {
                    tracing::warn!(
                        cause = failure.cause,
                        "how the intake stands could not be told"
                    );
                }
            }
        }
        if turn.is_multiple_of(ADVISORIES) {
            match advisories(&app.store).await {
                Ok(values) => app.meters.set_sampled(&[Figure::Advisories], &values),
                Err(error) => tracing::warn!(%error, "advisories could not be counted"),
            }
        }
        turn = turn.wrapping_add(1);
        tokio::time::sleep(EACH).await;
    }
}

/// Seconds since 1970, of milliseconds.
fn seconds(milliseconds: i64) -> i64 {
    milliseconds / 1000
}

async fn cheap(config: &Config, store: &Store) -> Result<Vec<SampledValue>, StoreError> {
    let mut values = Vec::new();
    let quotas = config.quotas();
    for shelf in store.shelf_totals(i64::MAX).await? {
        let name = shelf.shelf;
        values.push(SampledValue::for_one(Figure::ShelfBytes, &*name, shelf.bytes + shelf.loose));
        values.push(SampledValue::for_one(Figure::ShelfTags, &*name, shelf.tags));
    }
    for (shelf, quota) in quotas.iter() {
        if let Some(most) = quota.shelf {
            values.push(SampledValue::for_one(Figure::ShelfQuota, shelf.to_owned(), most));
        }
    }
    if let Some((file, end)) = served_certificate_end(config) {
        values.push(SampledValue::for_one(Figure::CertificateEnd, file, seconds(end)));
    }
    let all = store.marks("").await?;
    let of = |name: &str| all.iter().find(|mark| mark.name == name);
    for (what, name) in [
        ("intake", marks::INTAKE),
        ("verify", marks::VERIFY),
        ("collect", marks::COLLECT),
        ("backup", marks::BACKUP),
        ("survey", marks::SURVEY),
        ("export", marks::EXPORT),
    ] {
        let at = of(name).map_or(0, |mark| seconds(mark.at));
        values.push(SampledValue::for_one(Figure::LastRun, what, at));
    }
    if let Some(mark) = of(marks::VERIFY) {
        let sound = i64::from(mark.value == marks::SOUND);
        values.push(SampledValue::of(Figure::VerifySound, sound));
    }
    let is_set = |name: &str| of(name).is_some_and(|mark| !mark.value.is_empty());
    values
        .push(SampledValue::of(Figure::ConfigurationGood, i64::from(!is_set(marks::CONFIG_WRONG))));
    values.push(SampledValue::of(
        Figure::ConfigurationWaiting,
        i64::from(is_set(marks::CONFIG_WAITS)),
    ));
    values.push(SampledValue::of(Figure::Leases, store.leases_held().await?));
    Ok(values)
}

async fn wanted(config: &Config, store: &Store) -> Result<Vec<SampledValue>, Failure> {
    let counts = intake::counts(config, store).await?;
    Ok(vec![
        SampledValue::of(Figure::IntakeWanted, counts.wanted),
        SampledValue::of(Figure::IntakeMissing, counts.missing),
        SampledValue::of(Figure::IntakeFailed, counts.failed),
        SampledValue::of(Figure::IntakeMoved, counts.moved),
    ])
}

async fn advisories(store: &Store) -> Result<Vec<SampledValue>, StoreError> {
    let mut values = Vec::new();
    let mut above = 0;
    for severity in Severity::ALL.into_iter().rev() {
        let all = store.advisories_as_severe_as(severity).await?.len();
        values.push(SampledValue::for_one(
            Figure::Advisories,
            severity.word(),
            all - above.min(all),
        ));
        above = all;
    }
    Ok(values)
}
