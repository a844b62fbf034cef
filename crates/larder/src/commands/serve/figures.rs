//! Figures that take more than a look: worked out now and then while the larder serves.

use std::sync::Arc;
use std::time::Duration;

use larder_core::advisory::Severity;
use larder_server::{App, Figure, SampledValue, ServiceTotals};
use larder_store::{Store, StoreError};
use tokio::sync::watch;

use crate::commands::intake;
use crate::commands::report::service::{SERVICE_FIGURES, SERVICE_SAMPLES};
use crate::config::{Config, served_certificate_end};
use crate::context::now;
use crate::failure::Failure;
use crate::marks;

/// How often what shelves hold and what was done last is looked up.
const EACH: Duration = Duration::from_secs(30);
/// The repositories of a shelf that are told one by one.
const LARGEST: usize = 20;
/// Accounts of a shelf that are told one by one.
const ACCOUNTS: usize = 100;
/// Of so many turns one looks at all that is wanted, and one at all advisories.
const INTAKE: u32 = 10;
const ADVISORIES: u32 = 120;
/// Of so many turns one notes what was done in this hour.
const SERVICE: u32 = 2;

/// What is looked up each time.
const CHEAP: &[Figure] = &[
    Figure::ShelfBytes,
    Figure::ShelfTags,
    Figure::ShelfQuota,
    Figure::AccountBytes,
    Figure::AccountQuota,
    Figure::RepositoryBytes,
    Figure::RepositoryQuota,
    Figure::CertificateEnd,
    Figure::LastRun,
    Figure::VerifySound,
    Figure::Leases,
];
/// Uploads that are not finished.
const UPLOADS: &[Figure] = &[Figure::OpenUploads, Figure::OpenUploadBytes];
/// How the intake stands.
const WANTED: &[Figure] =
    &[Figure::IntakeWanted, Figure::IntakeMissing, Figure::IntakeFailed, Figure::IntakeMoved];

/// Goes on for as long as the larder serves. What cannot be told now stays as it was.
pub async fn watch(app: &App, configs: watch::Receiver<Arc<Config>>) {
    let mut turn: u32 = 0;
    let mut hours = ServiceHours::default();
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
        if turn.is_multiple_of(INTAKE) {
            match app.store.unfinished(larder_store::ABANDONED).await {
                Ok((_, open)) => app.meters.set_sampled(
                    UPLOADS,
                    &[
                        SampledValue::of(Figure::OpenUploads, open.uploads),
                        SampledValue::of(Figure::OpenUploadBytes, open.bytes),
                    ],
                ),
                Err(error) => tracing::warn!(%error, "open uploads could not be counted"),
            }
        }
        if turn.is_multiple_of(ADVISORIES) {
            match advisories(&app.store).await {
                Ok(values) => app.meters.set_sampled(&[Figure::Advisories], &values),
                Err(error) => tracing::warn!(%error, "advisories could not be counted"),
            }
        }
        if turn.is_multiple_of(SERVICE)
            && let Err(error) = hours.note(app).await
        {
            tracing::warn!(%error, "what was done in this hour could not be noted");
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
    let by_account = store.account_bytes().await?;
    for (shelf, quota) in quotas.iter() {
        if let Some(most) = quota.account {
            values.push(SampledValue::for_one(Figure::AccountQuota, shelf, most));
            let held = by_account.iter().filter(|(of, ..)| of == shelf).take(ACCOUNTS);
            values.extend(held.map(|(_, account, held)| SampledValue {
                labels: vec![shelf.to_owned(), account.clone()],
                ..SampledValue::of(Figure::AccountBytes, *held)
            }));
        }
        if let Some(most) = quota.repository {
            values.push(SampledValue::for_one(Figure::RepositoryQuota, shelf, most));
            for (name, held) in store.largest_repositories(shelf, LARGEST).await? {
                values.push(SampledValue::for_one(Figure::RepositoryBytes, name, held));
            }
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
    values.push(SampledValue::of(Figure::Leases, store.leases_held().await?));
    Ok(values)
}

/// What this larder has done in the hour that runs, as the report tells it.
#[derive(Default)]
struct ServiceHours {
    /// The hour, and what was counted when it began, or when this larder was started in it.
    hour: i64,
    before: ServiceTotals,
    /// What was noted of the hour before this larder was started.
    carried: [u64; 5],
}

impl ServiceHours {
    async fn note(&mut self, app: &App) -> Result<(), StoreError> {
        const HOUR: i64 = 3_600_000;
        let (hour, totals, name) =
            (now().div_euclid(HOUR), app.meters.service_totals(), app.name());
        if self.hour != hour {
            // Nothing was counted before this larder was started.
            let is_first = std::mem::replace(&mut self.hour, hour) == 0;
            self.carried = [0; 5];
            if is_first {
                for one in app.store.samples(SERVICE_SAMPLES, hour * HOUR).await? {
                    let what = one.name.strip_suffix(&name).map(str::trim_end);
                    let place = SERVICE_FIGURES.iter().position(|figure| Some(*figure) == what);
                    if let Some(place) = place {
                        self.carried[place] = one.value;
                    }
                }
            } else {
                self.before = totals;
            }
        }
        let (of, before) = (figures_of(&totals), figures_of(&self.before));
        let all = SERVICE_FIGURES.iter().enumerate().map(|(place, figure)| {
            let done = of[place].saturating_sub(before[place]).saturating_add(self.carried[place]);
            (format!("{figure} {name}"), done)
        });
        app.store.add_samples(SERVICE_SAMPLES, all.collect()).await
    }
}

/// In the order of [`SERVICE_FIGURES`].
fn figures_of(totals: &ServiceTotals) -> [u64; 5] {
    let ServiceTotals { requests, failed, refused, sent_bytes, received_bytes } = *totals;
    [requests, failed, refused, sent_bytes, received_bytes]
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
