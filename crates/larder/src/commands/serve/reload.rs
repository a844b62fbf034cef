//! A changed configuration takes effect while the larder serves: on SIGHUP, and when a file has changed.

use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use larder_server::App;
use larder_store::Kind;
use tokio::signal::unix::Signal;

use crate::access;
use crate::config::{self, Config};

/// How often it is looked whether a file has changed.
const LOOK: Duration = Duration::from_secs(2);

type Seen = Vec<(PathBuf, Option<(SystemTime, u64)>)>;

fn look(sources: &[PathBuf]) -> Seen {
    let one = |path: &PathBuf| {
        let metadata = std::fs::metadata(path).ok()?;
        Some((metadata.modified().ok()?, metadata.len()))
    };
    sources.iter().map(|path| (path.clone(), one(path))).collect()
}

/// Goes on for as long as the larder serves. What cannot be read is told, and what held before holds.
pub async fn watch(path: &Path, first: &Config, app: &App, mut hangup: Signal) {
    let mut sources = first.sources.clone();
    let mut fixed = Fixed::of(first);
    let mut seen = look(&sources);
    loop {
        let asked = tokio::select! {
            _ = hangup.recv() => true,
            () = tokio::time::sleep(LOOK) => false,
        };
        let now = look(&sources);
        if !asked && now == seen {
            continue;
        }
        seen = now;
        let read = config::load(path, first.provenance)
            .and_then(|config| Ok((access::plan(&config)?, config)));
        match read {
            Ok((plan, config)) => {
                app.set_access(plan);
                sources.clone_from(&config.sources);
                seen = look(&sources);
                app.note(
                    Kind::Config,
                    "grants, rules, clusters and routes hold as the configuration says now",
                );
                tracing::warn!(target: "larder_server::access", "the configuration was read anew");
                let found = Fixed::of(&config);
                if found != fixed {
                    tracing::warn!(
                        "[larder], [[upstream]] or [[shelf]] changed too: that takes effect when the larder is started again"
                    );
                    fixed = found;
                }
            }
            Err(failure) => {
                let text = format!(
                    "the configuration cannot be used, so what held before holds: {}",
                    failure.what
                );
                app.note(Kind::Config, &text);
                tracing::error!(cause = failure.cause, "{text}");
            }
        }
    }
}

/// What takes effect only with a new start, to tell whether it changed.
#[derive(PartialEq, Eq)]
struct Fixed(String);

impl Fixed {
    fn of(config: &Config) -> Self {
        let larder = &config.larder;
        Self(format!(
            "{:?}{}{:?}{:?}{:?}{:?}{:?}{:?}{:?}{:?}{:?}",
            larder.listen,
            crate::files::named(&larder.data),
            larder.access,
            larder.tls,
            larder.metrics,
            larder.read_only,
            larder.limits,
            larder.cache_limit,
            larder.reserve,
            config
                .upstreams
                .iter()
                .map(|one| (one.name.get_ref(), &one.host, &one.endpoint))
                .collect::<Vec<_>>(),
            config
                .shelves
                .iter()
                .map(|one| (one.name.get_ref(), one.sparse, &one.caching))
                .collect::<Vec<_>>(),
        ))
    }
}
