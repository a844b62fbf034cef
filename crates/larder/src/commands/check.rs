//! `larder check`: is the configuration right, and can the upstreams be reached?

mod deep;
mod signers;

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::time::Duration;

use futures_util::future::join_all;
use larder_client::{Endpoint, ProbePlan, probe_host};
use larder_core::diagnosis::{
    Diagnosis, Evidence, NameEvidence, Nodes, Policy, PullVerdict, Visit, diagnose,
};
use larder_core::notice::About;
use larder_core::shown::shown as shown_text;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use self::signers::CheckedSigner;
use super::handoff::check_nodes;
use super::shelf::cached;
use super::shelf::tidy::surveys::Named;
use crate::config::{ClusterConfig, Config, NotifyConfig, UpstreamConfig, warnings};
use crate::context::{Context, shown, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::notices::Receiver;
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, count, paint, time};

/// Read the configuration, reach every upstream, say what is wrong
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Read the configuration only; reach nobody
    #[arg(long)]
    offline: bool,
    /// Look into the store too, before an upgrade: try on a copy of its records what this version does with them, read
    /// every manifest, and look for every blob in its place. Nothing is changed
    #[arg(long, conflicts_with = "nodes")]
    deep: bool,
    /// Send an event to every receiver of `[[notify]]`, to try whether it arrives
    #[arg(long, conflicts_with_all = ["nodes", "offline"])]
    tell: bool,
    /// Read a node's mirror configuration as its runtime does, and nothing else
    #[arg(long, value_name = "DIR")]
    nodes: Option<PathBuf>,
    /// Of this version: 1.6, 1.7 or 2.x [default: as any of them]
    #[arg(long, value_name = "VERSION", requires = "nodes")]
    runtime: Option<larder_core::nodes::RuntimeSeries>,
}

/// A key that ends within this time is told, in milliseconds.
const SOON: i64 = 7 * 24 * 3_600_000;
/// A clock that differs by more than this is told, in milliseconds.
const CLOCK: i64 = 5_000;
/// A renewal that is older than this does not run as it should: it is meant for every day.
const STALE: i64 = 2 * 24 * 3_600_000;

#[derive(Serialize, JsonSchema)]
pub struct CheckReport {
    /// The file that was read.
    config: String,
    name: String,
    upstreams: Vec<CheckedUpstream>,
    /// Whose signatures count.
    signers: Vec<CheckedSigner>,
    /// Who is told of events.
    receivers: Vec<CheckedReceiver>,
    notes: Vec<String>,
    /// How the store stands before an upgrade. None: that was not asked for, or there is none.
    deep: Option<deep::DeepReport>,
    /// Why `larder serve` would not start with it. None: it would.
    refused: Option<ServeRefusal>,
    #[serde(skip)]
    intake_entries: usize,
    #[serde(skip)]
    clusters: usize,
}

#[derive(Serialize, JsonSchema)]
struct ServeRefusal {
    cause: String,
    remedy: String,
}

#[derive(Serialize, JsonSchema)]
struct CheckedReceiver {
    name: String,
    /// Its scheme, host and port.
    address: String,
    about: Vec<&'static str>,
    /// Whether an event arrived. None: none was sent.
    told: Option<bool>,
    /// What is wrong. None: nothing that is known.
    cause: Option<String>,
    #[serde(skip)]
    exit: Exit,
}

#[derive(Serialize, JsonSchema)]
struct CheckedUpstream {
    name: String,
    host: String,
    /// `configured`, `anonymous`.
    account: &'static str,
    /// Where its login came from. None: it has none, or it cannot be read.
    source: Option<String>,
    /// Until when the login is good. None: that is not said.
    valid_until: Option<String>,
    ok: bool,
    /// What is wrong. None: nothing.
    cause: Option<String>,
    remedy: Option<String>,
    /// The cause as `larder why` names it. None: nothing is wrong, or it cannot be told.
    diagnosis: Option<&'static str>,
    #[serde(skip)]
    finding: Option<Diagnosis>,
    /// How it stood when `larder serve` last asked it for a cached shelf. None: it never did.
    cached: Option<cached::UpstreamStanding>,
    #[serde(skip)]
    exit: Exit,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    if let Some(folder) = &args.nodes {
        return check_nodes(folder, args.runtime, &config, context);
    }
    crate::context::read_lock(&config)?;
    let looked = if args.deep { deep::rehearse(&config, context).await? } else { None };
    let store = match &looked {
        Some(looked) => Some(looked.store.clone()),
        None => store_if_any(&config)?,
    };
    let deep = match &looked {
        Some(looked) => Some(deep::look(looked, context).await?),
        None => None,
    };
    let standing = match &store {
        Some(store) => store
            .standing()
            .await
            .map_err(|error| Failure::store("cannot tell how the upstreams stand", &error))?,
        None => Vec::new(),
    };
    let asked = config.upstreams.iter().filter(|_| !args.offline);
    let mut upstreams = join_all(asked.map(|upstream| reach(&config, upstream))).await;
    for one in &mut upstreams {
        let known = standing.iter().find(|known| known.host.as_str() == one.host);
        one.cached = known.cloned().map(cached::UpstreamStanding::from);
    }
    let receivers =
        join_all(config.notify.iter().map(|one| receiver(&config, one, args.tell))).await;
    let exits = upstreams.iter().map(|one| one.exit).chain(receivers.iter().map(|one| one.exit));
    let exit = exits.max().unwrap_or(Exit::Done);
    let mut notes =
        [notes(&config), Named::unreadable(&config), ending(&config, store.as_ref()).await?]
            .concat();
    if args.tell && config.notify.is_empty() {
        notes.push("there is no [[notify]], so nobody is told of anything".into());
    }
    let (signers, ends, untrusted) = signers::checked(&config, crate::context::now());
    notes.extend(ends);
    let refused = match tried_store(&config, store.as_ref()).await {
        Ok(moves) => {
            notes.extend(moves);
            super::serve::ready(&config, config.larder.listen).err()
        }
        Err(failure) => Some(failure),
    };
    let is_known = untrusted.is_none() && signers.iter().all(CheckedSigner::is_good);
    if let Some(failure) = untrusted {
        notes.push(format!("{}: {}; {}", failure.what, failure.cause, failure.remedy));
    }
    let is_right = refused.is_none() && is_known;
    let exit = if is_right { exit } else { exit.max(Exit::Usage) };
    let is_sound = deep.as_ref().is_none_or(deep::DeepReport::is_sound);
    let exit = if is_sound { exit } else { Exit::Content };
    let refused = refused.map(|failure| ServeRefusal {
        cause: format!("{}: {}", failure.what, failure.cause),
        remedy: failure.remedy,
    });
    let report = CheckReport {
        intake_entries: config.intake.len(),
        clusters: config.clusters.len(),
        config: shown(&config.path),
        deep,
        name: config.larder.name.clone(),
        notes,
        receivers,
        refused,
        signers,
        upstreams,
    };
    context.output.tell(&report);
    Ok(exit)
}

/// Whether a receiver of events can be told; with `tell`, whether an event arrives.
async fn receiver(config: &Config, one: &NotifyConfig, tell: bool) -> CheckedReceiver {
    let (exit, told, cause) = match Receiver::new(one, config) {
        Err(failure) => {
            (failure.exit, None, Some(format!("{}; {}", failure.cause, failure.remedy)))
        }
        Ok(_) if !tell => (Exit::Done, None, None),
        Ok(receiver) => {
            let at = crate::context::now();
            match receiver.tell(&crate::notices::trial(config, at), at).await {
                Ok(()) => (Exit::Done, Some(true), None),
                Err(undelivered) => (Exit::Remote, Some(false), Some(undelivered.cause)),
            }
        }
    };
    CheckedReceiver {
        name: one.name().to_owned(),
        address: one.address().map(|address| address.shown()).unwrap_or_default(),
        about: one.about().into_iter().map(About::word).collect(),
        told,
        cause,
        exit,
    }
}

async fn reach(config: &Config, upstream: &UpstreamConfig) -> CheckedUpstream {
    let greeted = match config.registry(&upstream.host) {
        Ok(registry) => registry
            .greet()
            .await
            .map_err(|error| Failure::remote(format!("cannot use {}", upstream.host), &error)),
        Err(failure) => Err(failure),
    };
    // One that cannot be read was told above.
    let sourced = config.login_of(upstream).ok().flatten();
    let (exit, cause, remedy) = match greeted {
        Ok(()) => (Exit::Done, None, None),
        Err(failure) => (failure.exit, Some(failure.cause), Some(failure.remedy)),
    };
    let finding = match &cause {
        Some(_) => diagnosed(config, upstream).await,
        None => None,
    };
    CheckedUpstream {
        name: upstream.name.get_ref().clone(),
        host: upstream.host.to_string(),
        account: if upstream.credentials.is_some() { "configured" } else { "anonymous" },
        valid_until: sourced.as_ref().and_then(|it| it.until).map(time),
        source: sourced.map(|it| it.source),
        ok: cause.is_none(),
        cause,
        remedy: remedy.filter(|remedy| !remedy.is_empty()),
        diagnosis: finding.as_ref().map(|finding| finding.cause.word()),
        finding,
        cached: None,
        exit,
    }
}

/// What is wrong with an upstream, found as `larder why` finds it. None: it cannot be told.
async fn diagnosed(config: &Config, upstream: &UpstreamConfig) -> Option<Diagnosis> {
    // A probe goes straight there, shows no certificate, and asks a registry.
    let is_registry = upstream.form == crate::config::UpstreamForm::Registry;
    if upstream.proxy.is_some() || upstream.certificate.is_some() || !is_registry {
        return None;
    }
    let address = match &upstream.endpoint {
        Some(endpoint) => endpoint.to_string(),
        None => Endpoint::of_host(&upstream.host).ok()?.to_string(),
    };
    let ca = upstream.ca.as_ref().map(|path| std::fs::read(config.folder().join(path)));
    let plan = ProbePlan {
        address,
        host: upstream.host.to_string(),
        token_hosts: upstream.token_hosts.clone(),
        namespace: None,
        headers: Vec::new(),
        ca: ca.and_then(Result::ok).unwrap_or_default(),
        credentials: config.login_of(upstream).ok().flatten().map(|sourced| sourced.login),
        patience: Duration::from_secs(5),
    };
    let outcome = probe_host(&plan).await?;
    let host = upstream.host.to_string();
    let evidence = Evidence {
        written: host.clone(),
        name: Some(NameEvidence::Reads { node: host.clone(), here: None }),
        policy: Some(Policy::Elsewhere),
        nodes: Some(Nodes::None),
        visits: vec![Visit { host, mirror: false, ours: false, outcome: Some(outcome) }],
        ..Evidence::default()
    };
    match diagnose(&evidence) {
        PullVerdict::Fails(finding) => Some(finding),
        PullVerdict::Succeeds(_) | PullVerdict::Undecided(_) => None,
    }
}

/// Keys of clusters that end soon, and whether what should renew them runs.
async fn ending(config: &Config, store: Option<&Store>) -> Result<Vec<String>, Failure> {
    let Some(store) = store else { return Ok(Vec::new()) };
    let failed = |error| Failure::store("cannot read the keys", &error);
    let keys = store.keys().await.map_err(failed)?;
    let now = larder_store::now();
    let mut notes = Vec::new();
    for cluster in &config.clusters {
        let name = cluster.name.get_ref();
        // The one of each user that ends last counts.
        let mut ends: BTreeMap<&str, i64> = BTreeMap::new();
        let its =
            |user: &str| user == name || user.split_once('/').is_some_and(|(of, _)| of == name);
        for key in keys.iter().filter(|key| key.is_good(now) && its(&key.user)) {
            let end = ends.entry(&key.user).or_insert(i64::MIN);
            *end = (*end).max(key.expires.unwrap_or(i64::MAX));
        }
        let soon: Vec<(&str, i64)> = ends.into_iter().filter(|(_, end)| end - now < SOON).collect();
        let Some((user, end)) = soon.iter().min_by_key(|(_, end)| *end) else { continue };
        let more = match soon.len() - 1 {
            0 => String::new(),
            more => format!(", and {more} more of {name}"),
        };
        let ran = crate::record::last_renewal(store, name).await.map_err(failed)?;
        let why = match ran {
            None => format!(
                "nothing has ever renewed them: have a timer run `larder handoff apply {name} --rotate-before 14d`"
            ),
            Some(at) if now - at > STALE => format!(
                "the renewal of {name} last ran {}: look at the timer that runs `larder handoff apply {name} --rotate-before 14d`",
                time(at)
            ),
            Some(at) => format!("the renewal of {name} ran {}, and did not renew it", time(at)),
        };
        notes.push(format!("the key of {user} ends {}{more}; {why}", time(*end)));
    }
    Ok(notes)
}

/// Whether the servers of a store that several larders share do what is asked of them, and whether the store moves; what
/// is to be known of it.
async fn tried_store(config: &Config, store: Option<&Store>) -> Result<Vec<String>, Failure> {
    let mut known = Vec::new();
    if config.shared_store()?.is_some() {
        let tried = super::store::moving::place(config)?.try_objects().await;
        let lacking =
            tried.map_err(|error| Failure::store("cannot use the larder's objects", &error))?;
        known.extend(lacking.into_iter().map(str::to_owned));
    }
    let failed = |error| Failure::store("cannot read the larder's records", &error);
    let Some(store) = store else { return Ok(known) };
    known
        .extend(store.move_state().await.map_err(failed)?.as_ref().map(super::store::moving::told));
    if let Some((ahead, version)) = store.records_server().await.map_err(failed)? {
        let peers = store.peers().await.map_err(failed)?.len();
        let serve = if peers == 1 { "serves" } else { "serve" };
        known.push(format!(
            "the database is PostgreSQL {version}; {} {serve} it now",
            count(peers, "larder")
        ));
        if ahead.abs() > CLOCK {
            let (seconds, way) =
                (ahead.abs() / 1000, if ahead > 0 { "ahead of" } else { "behind" });
            known.push(format!("this machine's clock is {seconds} seconds {way} the database's: set both by the same time server"));
        }
    }
    Ok(known)
}

/// What works, but may not be what was meant.
fn notes(config: &Config) -> Vec<String> {
    let mut notes = Vec::new();
    for intake in &config.intake {
        let image = intake.image.get_ref();
        if config.upstream(&image.host).is_none() {
            notes.push(format!("{image} is wanted, but no [[upstream]] has the host {}; it is reached at https://{}", image.host, image.host));
        }
    }
    let granted = |cluster: &ClusterConfig| !cluster.pull.is_empty() || !cluster.push.is_empty();
    if config.is_open() && config.clusters.iter().any(granted) {
        notes.push("`access = \"open\"` lets everybody on this machine pull and push: the clusters' grants are not enforced".into());
    }
    notes.extend(warnings(config));
    notes
}

impl Report for CheckReport {
    const KIND: &'static str = "check";

    fn show(&self, out: &Output) {
        show(self, out);
    }
}

fn show(report: &CheckReport, out: &Output) {
    let entries = count(report.intake_entries, "intake entry");
    let clusters = count(report.clusters, "cluster");
    let is_good = report.refused.is_none() && report.signers.iter().all(CheckedSigner::is_good);
    let read = if is_good { "is right" } else { "can be read" };
    out.result(format!("{} {read}: larder {}, {entries}, {clusters}", report.config, report.name));
    if let Some(ServeRefusal { cause, remedy }) = &report.refused {
        out.result(format!("{} `larder serve` would not start: {cause}", paint(BAD, "wrong:")));
        if !remedy.is_empty() {
            out.result(format!("       try {remedy}"));
        }
    }
    if !report.upstreams.is_empty() {
        let cached = report.upstreams.iter().any(|upstream| upstream.cached.is_some());
        let columns = ["UPSTREAM", "HOST", "ACCOUNT", "STATE", "THE CACHE FOUND"];
        let columns = if cached { &columns[..] } else { &columns[..4] };
        let mut table = Table::new(out.width(), columns).sparing(&["ACCOUNT"]);
        for upstream in &report.upstreams {
            let state = match &upstream.cause {
                None => paint(GOOD, "answers"),
                Some(cause) => paint(BAD, cause),
            };
            let found = upstream.cached.as_ref().map(|cached| cached.line.clone());
            let (name, host) = (upstream.name.clone(), upstream.host.clone());
            let mut account = upstream.source.clone().unwrap_or_else(|| upstream.account.into());
            if let Some(until) = &upstream.valid_until {
                account.push_str(&format!("\nuntil {until}"));
            }
            let mut row = vec![name, host, account, state];
            row.extend(cached.then(|| found.unwrap_or_default()));
            table.row(row);
        }
        out.result(format!("\n{}", table.text()));
    }
    if !report.receivers.is_empty() {
        let mut table = Table::new(out.width(), &["RECEIVER", "ADDRESS", "STATE", "ABOUT"]);
        for one in &report.receivers {
            let state = match (&one.cause, one.told) {
                (Some(cause), _) => paint(BAD, shown_text(cause)),
                (None, Some(true)) => paint(GOOD, "has the event"),
                (None, _) => paint(DIM, "not tried (`--tell`)"),
            };
            table.row(vec![one.name.clone(), one.address.clone(), state, one.about.join(", ")]);
        }
        out.result(format!("\n{}", table.text()));
    }
    signers::show(&report.signers, out);
    for upstream in &report.upstreams {
        if let Some(remedy) = &upstream.remedy {
            out.result(format!("try, for {}: {remedy}", upstream.name));
        }
        if let Some(finding) = &upstream.finding {
            let why = paint(DIM, format!("(`larder help cause {}`)", finding.cause.word()));
            out.result(format!("why, for {}: {} {why}", upstream.name, finding.told));
        }
    }
    if let Some(deep) = &report.deep {
        deep::show(deep, out);
    }
    for note in &report.notes {
        out.note(format!("note: {note}"));
    }
}
