//! The figures of a report: what the page shows, and `--json` says.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::name::RepositoryName;
use larder_core::shown::shown;
use larder_store::{Filter, RecordKind, Store};
use schemars::JsonSchema;
use serde::Serialize;

use super::health::HealthFigures;
use super::service::ServiceFigures;
use crate::commands::rounds::{self, ConcernRow};
use crate::commands::shelf::{KnownUse, Named, UseWish};
use crate::config::Config;
use crate::context::now;
use crate::failure::Failure;
use crate::output::time;

const DAY: i64 = 24 * 3_600_000;
/// Rows of one table.
const ROWS: usize = 100;
/// Images that are listed by pulls.
const TOP: i64 = 20;
/// For how long growth is shown.
const GROWTH: i64 = 400 * DAY;
/// The kind of the samples of shelves' sizes.
pub const SIZES: &str = "shelf-bytes";

#[derive(Serialize, JsonSchema)]
pub struct Figures {
    pub larder: String,
    pub url: String,
    pub version: String,
    pub made_at: String,
    /// How many days back pulls, refusals and caches are counted.
    pub days: i64,
    pub repositories: u64,
    pub tags: u64,
    pub size_bytes: u64,
    /// null: nobody knows.
    pub free_bytes: Option<u64>,
    pub concerns: Vec<ConcernRow>,
    pub urgent: usize,
    pub shelves: Vec<ShelfFigures>,
    pub growth: Vec<Growth>,
    pub pulls: Vec<PullDay>,
    pub pulls_in_all: u64,
    pub images: Vec<ImageFigures>,
    pub caches: Vec<CacheFigures>,
    pub refusals: Vec<RefusalFigures>,
    pub keys: Vec<KeyFigures>,
    pub intake: IntakeFigures,
    pub users: Vec<UserFigures>,
    pub removals: Vec<RemovalFigures>,
    /// What the larders answered, hour by hour, a week at most.
    pub service: ServiceFigures,
    /// How the images are. null: nobody has taken advisories in.
    pub health: Option<HealthFigures>,
}

#[derive(Serialize, JsonSchema)]
pub struct ShelfFigures {
    pub shelf: String,
    pub repositories: u64,
    pub tags: u64,
    pub size_bytes: u64,
    pub quota_bytes: Option<u64>,
    pub pulls: u64,
    pub pulled_at: Option<String>,
}

/// The sizes of a shelf over time.
#[derive(Serialize, JsonSchema)]
pub struct Growth {
    pub shelf: String,
    pub points: Vec<GrowthPoint>,
}

#[derive(Serialize, JsonSchema)]
pub struct GrowthPoint {
    pub at: String,
    pub size_bytes: u64,
    #[serde(skip)]
    pub millis: i64,
}

/// Pulls of one day, by cluster or account.
#[derive(Serialize, JsonSchema)]
pub struct PullDay {
    pub day: String,
    pub who: String,
    pub pulls: u64,
    #[serde(skip)]
    pub number: i64,
}

#[derive(Serialize, JsonSchema)]
pub struct ImageFigures {
    pub image: String,
    pub pulls: u64,
    pub pulled_at: String,
}

#[derive(Serialize, JsonSchema)]
pub struct CacheFigures {
    pub shelf: String,
    pub host: String,
    pub hits: u64,
    pub misses: u64,
    pub sent_bytes: u64,
    pub fetched_bytes: u64,
    /// Of the bytes that clients were sent, how many the upstream was not asked for, in per cent.
    pub saved_percent: u64,
}

#[derive(Serialize, JsonSchema)]
pub struct RefusalFigures {
    /// The line of the configuration. null: none decided.
    pub line: Option<String>,
    /// `refused`, `warned`, `failed`.
    pub event: String,
    pub times: u64,
    pub last_at: String,
}

#[derive(Serialize, JsonSchema)]
pub struct KeyFigures {
    pub key: String,
    pub user: String,
    pub expires_at: Option<String>,
    pub used_at: Option<String>,
}

#[derive(Serialize, JsonSchema)]
pub struct IntakeFigures {
    pub images: usize,
    pub brought_in: usize,
    pub failed: Vec<FailedFigures>,
    pub moved: Vec<MovedFigures>,
}

#[derive(Serialize, JsonSchema)]
pub struct FailedFigures {
    pub image: String,
    pub cause: String,
    pub at: String,
}

#[derive(Serialize, JsonSchema)]
pub struct MovedFigures {
    pub image: String,
    pub moved_at: String,
}

#[derive(Serialize, JsonSchema)]
pub struct UserFigures {
    pub user: String,
    pub workload: Option<String>,
    pub image: String,
    pub how: &'static str,
    pub used_at: String,
}

#[derive(Serialize, JsonSchema)]
pub struct RemovalFigures {
    pub image: String,
    pub text: String,
    pub at: String,
}

/// The cluster or account of a user's name.
fn whose(who: &str) -> String {
    match who {
        "" | "-" => "nobody in particular".to_owned(),
        who => shown(who.split('/').next().unwrap_or(who)).into_owned(),
    }
}

pub fn day(number: i64) -> String {
    time(number.saturating_mul(DAY)).chars().take(10).collect()
}

/// Notes what each shelf takes now, as one of the samples over time.
pub async fn sample(store: &Store) -> Result<(), larder_store::StoreError> {
    let totals = store.shelf_totals(i64::MAX).await?;
    let sizes = totals.into_iter().map(|one| (one.shelf, one.bytes + one.loose)).collect();
    store.add_samples(SIZES, sizes).await
}

impl Figures {
    pub async fn gather(config: &Config, store: &Store, days: i64) -> Result<Self, Failure> {
        // Long: one figure after the other.
        let failed = |error| Failure::store("cannot read the figures", &error);
        let now = now();
        let since = now - days.saturating_mul(DAY);
        let from_day = since.div_euclid(DAY);
        sample(store).await.map_err(failed)?;
        let quotas = config.quotas();
        let quota = |shelf: &str| {
            quotas.iter().find(|(name, _)| *name == shelf).and_then(|(_, quota)| quota.shelf)
        };
        let shelves = store.shelf_totals(from_day).await.map_err(failed)?;
        let shelves: Vec<ShelfFigures> = shelves
            .into_iter()
            .map(|one| ShelfFigures {
                quota_bytes: quota(&one.shelf),
                shelf: one.shelf,
                repositories: one.repositories,
                tags: one.tags,
                size_bytes: one.bytes,
                pulls: one.pulls,
                pulled_at: one.pulled.map(time),
            })
            .collect();
        let totals = store.totals().await.map_err(failed)?;
        let rounds = rounds::rounds(config, store).await?;
        let concerns: Vec<ConcernRow> = rounds.open.iter().map(ConcernRow::from).collect();
        let mut growth: Vec<Growth> = Vec::new();
        for sample in store.samples(SIZES, now - GROWTH).await.map_err(failed)? {
            let point =
                GrowthPoint { at: time(sample.at), size_bytes: sample.value, millis: sample.at };
            match growth.last_mut().filter(|one| one.shelf == sample.name) {
                Some(one) => one.points.push(point),
                None => growth.push(Growth { shelf: sample.name, points: vec![point] }),
            }
        }
        let mut pulls: BTreeMap<(i64, String), u64> = BTreeMap::new();
        for one in store.pulls_by_day(since).await.map_err(failed)? {
            *pulls.entry((one.day, whose(&one.who))).or_default() += one.pulls;
        }
        let pulls: Vec<PullDay> = pulls
            .into_iter()
            .map(|((number, who), pulls)| PullDay { day: day(number), who, pulls, number })
            .collect();
        let images = store.most_pulled(from_day, TOP).await.map_err(failed)?;
        let images = images.into_iter().map(|one| ImageFigures {
            image: match &one.tag {
                Some(tag) => format!("{}:{tag}", one.repository),
                None => format!("{}@{}", one.repository, one.digest),
            },
            pulls: one.pulls,
            pulled_at: time(one.last),
        });
        let mut caches = Vec::new();
        for (shelf, _, upstream) in config.cached_shelves() {
            let name = shelf.name.get_ref().to_string();
            let traffic = store.traffic(&name, from_day).await.map_err(failed)?;
            let saved = traffic.sent.saturating_sub(traffic.fetched);
            let percent = u128::from(saved) * 100 / u128::from(traffic.sent.max(1));
            caches.push(CacheFigures {
                shelf: name,
                host: upstream.host.to_string(),
                hits: traffic.hits,
                misses: traffic.misses,
                sent_bytes: traffic.sent,
                fetched_bytes: traffic.fetched,
                saved_percent: u64::try_from(percent).unwrap_or(100),
            });
        }
        let refusals = store.refusals_by_line(since, 100).await.map_err(failed)?;
        let refusals = refusals.into_iter().map(|one| RefusalFigures {
            line: one.line.map(|line| shown(&line).into_owned()),
            event: one.kind,
            times: one.times,
            last_at: time(one.last),
        });
        let keys = store.keys().await.map_err(failed)?;
        let keys = keys.into_iter().filter(|key| key.is_good(now)).map(|key| KeyFigures {
            key: key.id.to_string(),
            user: key.user,
            expires_at: key.expires.map(time),
            used_at: key.used.map(time),
        });
        let removed = Filter {
            since: Some(since),
            kinds: vec![RecordKind::Delete],
            limit: Some(ROWS),
            ..Filter::default()
        };
        let removals = store.entries(removed).await.map_err(failed)?;
        let removals = removals.into_iter().rev().map(|entry| RemovalFigures {
            image: shown(&entry.reference.unwrap_or_default()).into_owned(),
            text: shown(&entry.text).into_owned(),
            at: time(entry.last),
        });
        Ok(Self {
            larder: config.larder.name.clone(),
            url: config.larder.url.endpoint.to_string(),
            version: env!("CARGO_PKG_VERSION").to_owned(),
            made_at: time(now),
            days,
            repositories: shelves.iter().map(|shelf| shelf.repositories).sum(),
            tags: totals.tags,
            size_bytes: totals.bytes,
            free_bytes: store.room().await.map_err(failed)?,
            urgent: concerns.iter().filter(|one| one.urgency == "urgent").count(),
            concerns,
            shelves,
            growth,
            pulls_in_all: pulls.iter().map(|one| one.pulls).sum(),
            pulls,
            images: images.collect(),
            caches,
            refusals: refusals.collect(),
            keys: keys.collect(),
            intake: intake(config, store, since).await?,
            users: users(config, store, since).await?,
            removals: removals.collect(),
            service: ServiceFigures::gather(store, since, now).await.map_err(failed)?,
            health: HealthFigures::gather(store).await.map_err(failed)?,
        })
    }
}

async fn intake(config: &Config, store: &Store, since: i64) -> Result<IntakeFigures, Failure> {
    let mut figures =
        IntakeFigures { images: 0, brought_in: 0, failed: Vec::new(), moved: Vec::new() };
    let records = store.intake().await;
    for record in records.map_err(|error| Failure::store("cannot read the figures", &error))? {
        let wanted = config.intake_of(&record.want.image);
        if !wanted.is_some_and(|intake| intake.tags.want(&record.want.tag)) {
            continue;
        }
        figures.images += 1;
        figures.brought_in += usize::from(record.brought.is_some());
        let image = format!("{}:{}", record.want.image, record.want.tag);
        if let Some((cause, at)) = record.failed {
            let cause = shown(&cause).into_owned();
            figures.failed.push(FailedFigures { image: image.clone(), cause, at: time(at) });
        }
        if let Some(at) = record.moved.filter(|at| *at >= since) {
            figures.moved.push(MovedFigures { image, moved_at: time(at) });
        }
    }
    figures.failed.truncate(ROWS);
    figures.moved.truncate(ROWS);
    Ok(figures)
}

/// When (negative, so that the last is the first), by whom, by which workload, what, and how it is known.
type UserRow = (i64, String, Option<String>, (RepositoryName, Named), &'static str);

async fn users(config: &Config, store: &Store, since: i64) -> Result<Vec<UserFigures>, Failure> {
    let span = std::time::Duration::from_millis(u64::try_from(now() - since).unwrap_or_default());
    let known =
        KnownUse::read(config, store, Some(larder_core::quantity::Span(span)), UseWish::Everything)
            .await?;
    let mut all: BTreeSet<UserRow> = BTreeSet::new();
    for (repository, uses) in &known.all {
        for one in uses {
            let who = one.by.as_deref().map_or_else(|| whose(""), str::to_owned);
            let image = (repository.clone(), one.named.clone());
            let workload = one.workload.as_deref().map(str::to_owned);
            all.insert((-one.last, who, workload, image, one.how));
            if all.len() > ROWS {
                all.pop_last();
            }
        }
    }
    let text = |text: String| shown(&text).into_owned();
    let mut users: Vec<UserFigures> = Vec::new();
    for (last, user, workload, (repository, named), how) in all {
        let image = tagged(&repository, &named, store).await?;
        let (user, workload) = (text(user), workload.map(text));
        let known = |one: &UserFigures| {
            one.image == image && one.user == user && one.workload == workload && one.how == how
        };
        if !users.iter().any(known) {
            users.push(UserFigures { user, workload, image, how, used_at: time(-last) });
        }
    }
    Ok(users)
}

/// An image by a tag, if it has one here: nodes pull what an index lists by its digest.
async fn tagged(
    repository: &RepositoryName,
    named: &Named,
    store: &Store,
) -> Result<String, Failure> {
    let Named::Content(digest) = named else { return Ok(named.image(repository)) };
    let holders = store.holders(digest).await;
    let holders = holders.map_err(|error| Failure::store("cannot read the figures", &error))?;
    let tag = holders.into_iter().find(|one| one.repository == *repository).and_then(|one| one.tag);
    Ok(match tag {
        Some(tag) => format!("{repository}:{tag}"),
        None => format!("{repository}@{}", digest.short()),
    })
}
