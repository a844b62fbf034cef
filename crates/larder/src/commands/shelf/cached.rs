//! What a cached shelf did, and how its upstream stands.

use std::collections::HashMap;

use larder_core::cached::KeepingRule;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_store::{Move, Store, Traffic, UpstreamRecord};
use schemars::JsonSchema;
use serde::Serialize;

use super::shown::ShownImage;
use super::unreadable;
use crate::config::{CachingConfig, Config};
use crate::context::now;
use crate::failure::Failure;
use crate::output::{BAD, GOOD, Output, WARN, ago, bytes, paint, short, until};

/// Moves of tags that are shown.
const MOVES: usize = 5;

/// All that is said of a cached shelf as such.
#[derive(Serialize, JsonSchema)]
pub(super) struct CachedShelfReport {
    shelf: String,
    host: String,
    only: Vec<String>,
    skip: Vec<String>,
    /// Requests that were answered from here, in the last 30 days.
    hits: u64,
    /// Requests for which the upstream was asked, in the last 30 days.
    misses: u64,
    /// In the last 30 days.
    sent_bytes: u64,
    /// In the last 30 days.
    fetched_bytes: u64,
    /// What it takes now.
    size_bytes: u64,
    /// What it may take. None: no limit of its own.
    limit_bytes: Option<u64>,
    /// How the upstream stood when it was last asked. None: it never was.
    upstream: Option<UpstreamStanding>,
    /// Tags that moved, the latest first.
    moves: Vec<TagMove>,
    /// What the upstream no longer has; it is kept as long as it is used.
    gone: Vec<GoneImage>,
    #[serde(skip)]
    keep: Option<std::time::Duration>,
    #[serde(skip)]
    keeping: KeepingRule,
}

/// A tag that the upstream has no more.
#[derive(Serialize, JsonSchema)]
struct GoneImage {
    image: String,
    noticed_at: String,
}

/// How an upstream stood when a cached shelf last asked it.
#[derive(Serialize, JsonSchema)]
pub struct UpstreamStanding {
    /// `well`, `ailing`, `limited`, `resting`.
    condition: String,
    /// Until when it is not asked. None: it is.
    until: Option<String>,
    cause: Option<String>,
    /// Pulls that it still allows. None: it does not say.
    remaining_pulls: Option<u64>,
    asked_at: String,
    #[serde(skip)]
    pub line: String,
}

impl From<UpstreamRecord> for UpstreamStanding {
    fn from(standing: UpstreamRecord) -> Self {
        Self {
            line: standing_line(&standing),
            until: standing.until.map(crate::output::time),
            asked_at: crate::output::time(standing.at),
            condition: standing.condition,
            cause: standing.cause,
            remaining_pulls: standing.remaining,
        }
    }
}

#[derive(Serialize, JsonSchema)]
struct TagMove {
    #[schemars(with = "String")]
    repository: RepositoryName,
    #[schemars(with = "String")]
    tag: Tag,
    #[schemars(with = "String")]
    before: Digest,
    /// None: it is gone.
    #[schemars(with = "Option<String>")]
    after: Option<Digest>,
    moved_at: String,
    #[serde(skip)]
    when: i64,
}

/// The same in a line for people.
fn standing_line(standing: &UpstreamRecord) -> String {
    let said = ago(standing.at, now());
    let left = standing.remaining.map(|left| format!(", {left} pulls left")).unwrap_or_default();
    let end = standing.until.filter(|end| *end > now()).map(|end| until(end, now()));
    let cause = standing.cause.as_ref().map(|cause| format!(": {cause}")).unwrap_or_default();
    match (standing.condition.as_str(), end) {
        ("limited", Some(end)) => format!("{} for {end}{left}", paint(WARN, "limits us")),
        ("resting", Some(end)) => {
            format!("{} for {end}{cause}", paint(BAD, "fails and is left alone"))
        }
        ("well", _) => format!("{}{left} ({said})", paint(GOOD, "answered")),
        _ => format!("{}{left}{cause} ({said})", paint(WARN, "was in trouble")),
    }
}

impl CachedShelfReport {
    pub async fn read(
        config: &Config,
        store: &Store,
        shelf: &str,
        caching: &CachingConfig,
    ) -> Result<Self, Failure> {
        let host = config.upstream_named(caching.upstream.get_ref());
        let host = host.map(|upstream| upstream.host.to_string()).unwrap_or_default();
        let failed = |error: larder_store::StoreError| unreadable(&error);
        let from = now().div_euclid(24 * 3_600_000) - super::DAYS + 1;
        let Traffic { hits, misses, sent, fetched, .. } =
            store.traffic(shelf, from).await.map_err(failed)?;
        let standing = store.standing().await.map_err(failed)?;
        let standing = standing.into_iter().find(|one| one.host.as_str() == host);
        let moves = store.moves(shelf, MOVES).await.map_err(failed)?.into_iter();
        let gone = store.gone_tags(shelf).await.map_err(failed)?.into_iter();
        let gone = gone.map(|(repository, tag, at)| GoneImage {
            image: format!("{repository}:{tag}"),
            noticed_at: crate::output::time(at),
        });
        let texts = |patterns: &[larder_core::pattern::Pattern]| {
            patterns.iter().map(ToString::to_string).collect()
        };
        Ok(Self {
            shelf: shelf.to_owned(),
            host,
            only: texts(caching.habits.reach.only()),
            skip: texts(caching.habits.reach.skip()),
            hits,
            misses,
            sent_bytes: sent,
            fetched_bytes: fetched,
            size_bytes: store.bytes_of(&[shelf.to_owned()]).await.map_err(failed)?,
            limit_bytes: caching.habits.limit,
            upstream: standing.map(UpstreamStanding::from),
            gone: gone.collect(),
            moves: moves
                .map(|Move { repository, tag, before, after, at }| TagMove {
                    repository,
                    tag,
                    before,
                    after,
                    moved_at: crate::output::time(at),
                    when: at,
                })
                .collect(),
            keep: caching.habits.keeping.keep,
            keeping: caching.habits.keeping.clone(),
        })
    }

    /// Says of images of a repository when they go if nobody pulls them, and when the upstream last confirmed them.
    pub async fn tell(
        &self,
        store: &Store,
        repository: &RepositoryName,
        images: &mut [ShownImage],
    ) -> Result<(), Failure> {
        let failed = |error: larder_store::StoreError| unreadable(&error);
        let kept = store.kept_in(repository).await.map_err(failed)?;
        let ends: HashMap<&Digest, i64> =
            kept.iter().filter_map(|one| Some((&one.digest, self.keeping.expires(one)?))).collect();
        let confirmed: HashMap<Tag, i64> =
            store.confirmed(repository).await.map_err(failed)?.into_iter().collect();
        for one in images {
            one.goes = ends.get(&one.digest).copied();
            one.expires_at = one.goes.map(crate::output::time);
            one.checked = one.tag.as_ref().and_then(|tag| confirmed.get(tag).copied());
            one.confirmed_at = one.checked.map(crate::output::time);
        }
        Ok(())
    }

    pub fn show(&self, out: &Output) {
        let reach = match (self.only.as_slice(), self.skip.as_slice()) {
            ([], []) => "all of it".to_owned(),
            ([], skip) => format!("all but {}", skip.join(", ")),
            (only, []) => format!("only {}", only.join(", ")),
            (only, skip) => format!("only {}, but not {}", only.join(", "), skip.join(", ")),
        };
        let all = self.hits + self.misses;
        let rate = self.hits.saturating_mul(100).checked_div(all);
        let rate = rate.map(|rate| format!(" ({rate} % from here)")).unwrap_or_default();
        let saved = self.sent_bytes.saturating_sub(self.fetched_bytes);
        let limit =
            self.limit_bytes.map(|limit| format!(" of {}", bytes(limit))).unwrap_or_default();
        let keep = self.keep.map_or_else(
            || "kept until the limit is reached".to_owned(),
            |keep| format!("kept for {} after the last pull", larder_core::quantity::Span(keep)),
        );
        let mut lines = vec![
            format!("{} caches {}, {reach}", self.shelf, self.host),
            format!("  answers   {} from here, {} fetched{rate}; 30 days", self.hits, self.misses),
            format!(
                "  bytes     {} sent, {} fetched, {} saved",
                bytes(self.sent_bytes),
                bytes(self.fetched_bytes),
                bytes(saved)
            ),
            format!("  holds     {}{limit}; {keep}", bytes(self.size_bytes)),
        ];
        if let Some(upstream) = &self.upstream {
            lines.push(format!("  upstream  {}", upstream.line));
        }
        for (number, moved) in self.moves.iter().enumerate() {
            let after = moved.after.as_ref().map_or("gone", short);
            let head = if number == 0 { "moved" } else { "" };
            lines.push(format!(
                "  {head:<9} {}:{} {} → {after}, {}",
                moved.repository,
                moved.tag,
                short(&moved.before),
                ago(moved.when, now())
            ));
        }
        for (number, GoneImage { image, noticed_at }) in self.gone.iter().enumerate() {
            let head = if number == 0 { "gone" } else { "" };
            lines.push(format!(
                "  {head:<9} {image}: the upstream no longer has it (noticed {noticed_at}); it is kept as long as it is used"
            ));
        }
        out.result(lines.join("\n"));
    }
}
