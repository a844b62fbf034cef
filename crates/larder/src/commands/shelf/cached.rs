//! What a cached shelf did, and how its upstream stands.

use std::collections::HashMap;

use larder_core::cached::Keeping;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use larder_store::{Move, Standing, Store, Traffic};
use serde::Serialize;

use super::shown::Shown;
use super::unreadable;
use crate::config::{Caching, Config};
use crate::context::{Context, now};
use crate::failure::Failure;
use crate::output::{BAD, GOOD, WARN, ago, bytes, paint, short, until};

/// Moves of tags that are shown.
const MOVES: usize = 5;

/// All that is said of a cached shelf as such.
#[derive(Serialize)]
pub(super) struct Report {
    shelf: String,
    host: String,
    only: Vec<String>,
    skip: Vec<String>,
    /// Over the last 30 days.
    hits: u64,
    misses: u64,
    sent: u64,
    fetched: u64,
    /// What it takes now, in bytes.
    content: u64,
    limit: Option<u64>,
    upstream: Option<Upstream>,
    moves: Vec<Moved>,
    /// What the upstream has no more; it is kept as long as it is used.
    gone: Vec<Gone>,
    #[serde(skip)]
    keep: Option<std::time::Duration>,
    #[serde(skip)]
    keeping: Keeping,
}

/// A tag that the upstream has no more.
#[derive(Serialize)]
struct Gone {
    image: String,
    /// When that was noticed.
    since: String,
}

/// How an upstream stood when a cached shelf last asked it.
#[derive(Serialize)]
pub struct Upstream {
    condition: String,
    until: Option<String>,
    cause: Option<String>,
    remaining: Option<u64>,
    at: String,
    #[serde(skip)]
    pub line: String,
}

impl From<Standing> for Upstream {
    fn from(standing: Standing) -> Self {
        Self {
            line: standing_line(&standing),
            until: standing.until.map(crate::output::time),
            at: crate::output::time(standing.at),
            condition: standing.condition,
            cause: standing.cause,
            remaining: standing.remaining,
        }
    }
}

#[derive(Serialize)]
struct Moved {
    repository: RepositoryName,
    tag: Tag,
    before: Digest,
    after: Option<Digest>,
    at: String,
    #[serde(skip)]
    when: i64,
}

/// The same in a line for people.
fn standing_line(standing: &Standing) -> String {
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

impl Report {
    pub async fn read(
        config: &Config,
        store: &Store,
        shelf: &str,
        caching: &Caching,
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
        let gone = gone.map(|(repository, tag, at)| Gone {
            image: format!("{repository}:{tag}"),
            since: crate::output::time(at),
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
            sent,
            fetched,
            content: store.bytes_of(&[shelf.to_owned()]).await.map_err(failed)?,
            limit: caching.habits.limit,
            upstream: standing.map(Upstream::from),
            gone: gone.collect(),
            moves: moves
                .map(|Move { repository, tag, before, after, at }| Moved {
                    repository,
                    tag,
                    before,
                    after,
                    at: crate::output::time(at),
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
        images: &mut [Shown],
    ) -> Result<(), Failure> {
        let failed = |error: larder_store::StoreError| unreadable(&error);
        let kept = store.kept_in(repository).await.map_err(failed)?;
        let ends: HashMap<&Digest, i64> =
            kept.iter().filter_map(|one| Some((&one.digest, self.keeping.expires(one)?))).collect();
        let confirmed: HashMap<Tag, i64> =
            store.confirmed(repository).await.map_err(failed)?.into_iter().collect();
        for one in images {
            one.goes = ends.get(&one.digest).copied();
            one.expires = one.goes.map(crate::output::time);
            one.checked = one.tag.as_ref().and_then(|tag| confirmed.get(tag).copied());
            one.confirmed = one.checked.map(crate::output::time);
        }
        Ok(())
    }

    pub fn show(&self, context: &Context) {
        let reach = match (self.only.as_slice(), self.skip.as_slice()) {
            ([], []) => "all of it".to_owned(),
            ([], skip) => format!("all but {}", skip.join(", ")),
            (only, []) => format!("only {}", only.join(", ")),
            (only, skip) => format!("only {}, but not {}", only.join(", "), skip.join(", ")),
        };
        let all = self.hits + self.misses;
        let rate = self.hits.saturating_mul(100).checked_div(all);
        let rate = rate.map(|rate| format!(" ({rate} % from here)")).unwrap_or_default();
        let saved = self.sent.saturating_sub(self.fetched);
        let limit = self.limit.map(|limit| format!(" of {}", bytes(limit))).unwrap_or_default();
        let keep = self.keep.map_or_else(
            || "kept until the limit is reached".to_owned(),
            |keep| format!("kept for {} after the last pull", larder_core::allowance::Span(keep)),
        );
        let mut lines = vec![
            format!("{} caches {}, {reach}", self.shelf, self.host),
            format!("  answers   {} from here, {} fetched{rate}; 30 days", self.hits, self.misses),
            format!(
                "  bytes     {} sent, {} fetched, {} saved",
                bytes(self.sent),
                bytes(self.fetched),
                bytes(saved)
            ),
            format!("  holds     {}{limit}; {keep}", bytes(self.content)),
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
        for (number, Gone { image, since }) in self.gone.iter().enumerate() {
            let head = if number == 0 { "gone" } else { "" };
            lines.push(format!(
                "  {head:<9} {image}: the upstream has it no more (since {since}); it is kept as long as it is used"
            ));
        }
        context.output.result(lines.join("\n"));
    }
}
