//! A changed configuration takes effect while the larder serves: on SIGHUP, and when a file has changed.

use std::net::SocketAddr;
use std::path::PathBuf;
use std::sync::Arc;
use std::time::{Duration, SystemTime};

use larder_server::{App, Figure, Plan, SampledValue};
use larder_store::RecordKind;
use tokio::signal::unix::Signal;
use tokio::sync::watch;

use super::{Args, plan_for};
use crate::config::{self, Config, TlsFiles};
use crate::failure::Failure;
use crate::marks;
use crate::service::Manager;

/// How often it is looked whether a file has changed.
const LOOK: Duration = Duration::from_secs(2);

/// The log shows what the server says.
const TARGET: &str = "larder_server::configuration";

type SeenFiles = Vec<(PathBuf, Option<(SystemTime, u64)>)>;

fn look(sources: &[PathBuf]) -> SeenFiles {
    let one = |path: &PathBuf| {
        let metadata = std::fs::metadata(path).ok()?;
        Some((metadata.modified().ok()?, metadata.len()))
    };
    sources.iter().map(|path| (path.clone(), one(path))).collect()
}

/// Shows in this larder's figures how its own configuration stands: others of the same store may have another.
fn show(app: &App, wrong: bool, waits: bool) {
    let values = [
        SampledValue::of(Figure::ConfigurationGood, i64::from(!wrong)),
        SampledValue::of(Figure::ConfigurationWaiting, i64::from(waits)),
    ];
    app.meters.set_sampled(&[Figure::ConfigurationGood, Figure::ConfigurationWaiting], &values);
}

/// Goes on for as long as the larder serves. A configuration that cannot be used is logged, and what
/// held before holds.
pub async fn watch(
    configs: &watch::Sender<Arc<Config>>,
    args: &Args,
    listen: SocketAddr,
    app: &App,
    mut hangup: Signal,
    manager: &Manager,
) {
    let first = Arc::clone(&configs.borrow());
    let first = &*first;
    let mut sources = first.sources.clone();
    let running = NeedsStart::of(first);
    let mut told = Vec::new();
    // What an earlier process left there is told of no longer.
    let mut wrong = true;
    marks::note(&app.store, marks::CONFIG_WAITS, "").await;
    show(app, false, false);
    // Nothing was looked at while it was read at the start: so it is read once more.
    let mut seen = SeenFiles::new();
    loop {
        let asked = tokio::select! {
            _ = hangup.recv() => true,
            () = tokio::time::sleep(LOOK) => false,
        };
        let now = look(&sources);
        if !asked && now == seen {
            continue;
        }
        if asked {
            manager.reloads();
        }
        match read(first, args, listen) {
            Ok((config, plan)) => {
                // Files that were not looked at before are read again, in case they changed meanwhile.
                seen = if config.sources == sources { now } else { SeenFiles::new() };
                sources.clone_from(&config.sources);
                let changed = plan.differences(&app.plan());
                let waiting = running.differences(&NeedsStart::of(&config));
                app.set_plan(plan);
                if waiting != told {
                    marks::note(&app.store, marks::CONFIG_WAITS, &waiting.join(", ")).await;
                }
                if wrong {
                    wrong = false;
                    marks::note(&app.store, marks::CONFIG_WRONG, "").await;
                }
                show(app, wrong, !waiting.is_empty());
                tell(app, &changed, (waiting != told).then_some(&waiting), asked);
                told = waiting;
                configs.send_replace(Arc::new(config));
            }
            Err(failure) => {
                seen = now;
                let text = format!(
                    "the configuration cannot be used, so what held before holds: {}",
                    failure.what
                );
                app.note(RecordKind::Config, &text);
                wrong = true;
                show(app, wrong, !told.is_empty());
                let cause = format!("{}: {}", failure.what, failure.cause);
                marks::note(&app.store, marks::CONFIG_WRONG, &cause).await;
                tracing::error!(target: TARGET, cause = failure.cause, "{text}");
            }
        }
        if asked {
            manager.ready(match (wrong, told.is_empty()) {
                (true, _) => {
                    "serves by the configuration from before; the one in its file cannot be used"
                }
                (false, false) => "serves; a part of the configuration waits for a new start",
                (false, true) => "serves",
            });
        }
    }
}

/// The configuration as its files are now, judged as at the start.
fn read(first: &Config, args: &Args, listen: SocketAddr) -> Result<(Config, Plan), Failure> {
    let config = config::load(&first.path, first.provenance)?;
    let mut plan = plan_for(&config, listen)?;
    plan.read_only |= args.read_only;
    Ok((config, plan))
}

fn tell(app: &App, changed: &[&str], waiting: Option<&Vec<&str>>, asked: bool) {
    if !changed.is_empty() {
        let text = format!("the configuration changed and is in force: {}", changed.join(", "));
        app.note(RecordKind::Config, &text);
        tracing::info!(target: TARGET, "{text}");
    } else if asked && waiting.is_none() {
        tracing::info!(target: TARGET, "the configuration was read again; nothing in it changed");
    }
    match waiting.map(Vec::as_slice) {
        None => {}
        Some([]) => {
            tracing::info!(target: TARGET, "the configuration is again as the larder was started");
        }
        Some(keys) => {
            let text = format!(
                "changed in [larder], and in force only after a new start: {}",
                keys.join(", ")
            );
            app.note(RecordKind::Config, &text);
            tracing::warn!(target: TARGET, "{text}");
        }
    }
}

/// The keys of `[larder]` that a running larder cannot exchange.
struct NeedsStart {
    listen: SocketAddr,
    data: PathBuf,
    tls: Option<TlsFiles>,
    metrics: Option<SocketAddr>,
}

impl NeedsStart {
    fn of(config: &Config) -> Self {
        let larder = &config.larder;
        Self {
            listen: larder.listen,
            data: larder.data.clone(),
            tls: larder.tls.clone(),
            metrics: larder.metrics,
        }
    }

    fn differences(&self, other: &Self) -> Vec<&'static str> {
        let Self { listen, data, tls, metrics } = self;
        let keys = [
            ("listen", *listen != other.listen),
            ("data", *data != other.data),
            ("tls", *tls != other.tls),
            ("metrics", *metrics != other.metrics),
        ];
        keys.into_iter().filter_map(|(key, differs)| differs.then_some(key)).collect()
    }
}
