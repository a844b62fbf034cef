//! `larder serve`: the registry.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use larder_core::quantity::Span;
use larder_server::{
    App, Certificates, Crew, Figures, Listener, Plan, RegistryService, Tls, serve,
};
use larder_transfer::files::{CA_LIMIT, read_bounded};
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};

use crate::commands::shelf::tidy::daily;
use crate::commands::store::convert::convert;
use crate::config::{Config, warnings};
use crate::context::{Context, check_store, now, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::count;

mod figures;
mod notify;
mod reload;
mod report;

pub use report::ServeReport;

/// How long it is waited at the end for what was just fetched to be kept.
const SETTLE: Duration = Duration::from_secs(10);

/// How long a larder that is to be gone at once takes leave.
const LEAVE: Duration = Duration::from_secs(2);
/// How long several larders that share a store still take requests at the end.
const DRAIN: Duration = Duration::from_secs(3);
/// How often it is looked whether the certificate has changed.
const CERTIFICATE: Duration = Duration::from_secs(2);

/// How the log is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum LogForm {
    /// Lines for people.
    Text,
    /// One JSON object a line.
    Json,
}

/// Run the registry
///
/// It writes one line for each request to stderr (`--quiet`: warnings alone) and stops on SIGTERM and
/// SIGINT; running requests may finish.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Listen here instead of where the configuration says; port 0 takes a free one
    #[arg(long, value_name = "ADDRESS:PORT")]
    listen: Option<SocketAddr>,
    /// How long running requests may take to finish at the end
    #[arg(long, value_name = "SPAN", default_value = "30s", value_parser = crate::pick::seconds)]
    grace: Span,
    /// How long it still takes requests at the end, while `/readyz` says that it stops, so that a balancer notices
    /// [default: 3s where several larders share the store, else 0s]
    #[arg(long, value_name = "SPAN", value_parser = crate::pick::seconds)]
    drain: Option<Span>,
    /// Refuse pushes and removals, whatever the configuration says
    #[arg(long)]
    read_only: bool,
    /// How the log is written: text, json
    #[arg(
        long,
        value_enum,
        value_name = "FORM",
        default_value = "text",
        hide_possible_values = true
    )]
    pub log: LogForm,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: what is started, in the order in which it is stopped again.
    let config = Arc::new(context.config()?);
    let (configs, current) = tokio::sync::watch::channel(Arc::clone(&config));
    let manager = crate::service::Manager::of_this_process();
    let handed = crate::service::handed()?;
    let listen = place(args, &config, &handed)?;
    let what = || format!("cannot serve on {listen}");
    let (tls, mut plan) = ready(&config, listen)?;
    plan.read_only |= args.read_only;
    check_store(&config)?;
    manager.busy("opens its store");
    convert(&config, context)?;
    let store = open_store(&config)?;
    let serving = larder_store::ServingLock::begin(&config.data());
    let _serving = serving.map_err(|error| Failure::store(what(), &error))?;
    let tightened = larder_store::Store::tighten(&config.data());
    if tightened.map_err(|error| Failure::store(what(), &error))? {
        context.output.note("note: others could enter the folder of the store; it is closed to them now (mode 0700)");
    }
    own_objects(&store, context).await.map_err(|error| Failure::store(what(), &error))?;
    match store.remove_abandoned(larder_store::ABANDONED).await {
        Ok(removed) if removed.uploads > 0 => {
            let uploads = count(removed.uploads, "upload");
            context.output.note(format!("gave up {uploads} that nobody resumed"));
        }
        Ok(_) => {}
        // It is done again while it serves.
        Err(error) if error.is_away() => {
            let told = "note: what was left behind could not be removed; it is tried again";
            context.output.note(format!("{told}: {error}"));
        }
        Err(error) => return Err(Failure::store(what(), &error)),
    }
    let moves = store.move_state().await.map_err(|error| Failure::store(what(), &error))?;
    if let Some(state) = &moves {
        context.output.note(format!("note: {}", super::store::moving::told(state)));
    }
    store.keep_spare().await;
    let socket = match handed.registry {
        Some(socket) => taken(socket).map_err(|error| Failure::io(what(), &error))?,
        None => bind(listen).await?,
    };
    let address = socket.local_addr().map_err(|error| Failure::io(what(), &error))?;
    let figures = match (handed.figures, config.larder.metrics) {
        (Some(socket), _) => Some(taken(socket).map_err(|error| Failure::io(what(), &error))?),
        (None, Some(figures)) => Some(bind(figures).await?),
        (None, None) => None,
    };
    let figures_at = figures.as_ref().map(TcpListener::local_addr).transpose();
    let figures_at = figures_at.map_err(|error| Failure::io(what(), &error))?;
    // Installed before the address is printed: a reader may send a signal at once.
    let stop = stop_signal().map_err(|error| Failure::io(what(), &error))?;

    let secret = crate::access::secret(&config)?;
    let hangup = signal(SignalKind::hangup()).map_err(|error| Failure::io(what(), &error))?;
    let report = ServeReport::of(&config, &plan, address, figures_at);
    match context.output.as_log && !context.output.json {
        true => report.log(&context.output),
        false => context.output.tell(&report),
    }
    for warning in warnings(&config) {
        context.output.note(format!("note: {warning}"));
    }
    let app = App::open(store, plan, &secret).await;
    let app = Arc::new(app.map_err(|error| Failure::store(what(), &error))?);
    let crew = Arc::new(Crew::start().map_err(|error| Failure::io(what(), &error))?);
    let listener = Listener {
        socket,
        tls: tls.clone(),
        limits: app.limits(),
        open: Some(app.meters.connections.clone()),
        crew: Some(Arc::clone(&crew)),
    };
    let grace = args.grace.0;
    app.set_name(format!(
        "{}:{}",
        rustix::system::uname().nodename().to_string_lossy(),
        address.port()
    ));
    let drain = args
        .drain
        .map_or_else(|| if app.store.is_shared() { DRAIN } else { Duration::ZERO }, |span| span.0);
    let hurry = Arc::new(tokio::sync::Notify::new());
    let stop = drained(stop, &app, drain, &manager, Arc::clone(&hurry));
    let registry = serve(listener, RegistryService(Arc::clone(&app)), stop, grace);
    let beside = async {
        let told = async {
            let Some(socket) = figures else { return std::future::pending().await };
            let listener = Listener { limits: app.limits(), ..Listener::plain(socket) };
            let never = std::future::pending();
            let figures = Figures { app: Arc::clone(&app) };
            serve(listener, figures, never, Duration::ZERO).await
        };
        let watched = async {
            if let Some(tls) = &tls {
                tls.watch(CERTIFICATE).await;
            }
            std::future::pending::<()>().await;
        };
        tokio::select! {
            outcome = told => outcome,
            () = app.keep_house() => Ok(true),
            () = reload::watch(&configs, args, listen, &app, hangup, &manager) => Ok(true),
            () = manager.keep_telling(|within| crew.answers(within)) => Ok(true),
            () = keep_record(&app) => Ok(true),
            () = figures::watch(&app, current.clone()) => Ok(true),
            () = daily::watch(&app, current.clone()) => Ok(true),
            () = notify::watch(&app, current) => Ok(true),
            () = watched => Ok(true),
        }
    };
    manager.ready("serves");
    let finished = tokio::select! {
        finished = registry => finished,
        failed = beside => failed,
        () = hurry.notified() => {
            leave(&app, LEAVE).await;
            drop(crew);
            context.output.note("stopped at the second signal; requests that ran were broken off");
            return Ok(Exit::Done);
        }
    };
    // What clients were given a moment ago is kept, and what was counted is written down.
    app.cache.settle(SETTLE).await;
    leave(&app, Duration::MAX).await;
    // What took too long is released before it is told.
    drop(crew);
    let finished = finished.map_err(|error| Failure::io(what(), &error))?;
    context.output.note(if finished {
        "stopped; every request was finished".to_owned()
    } else {
        format!("stopped; requests that took longer than {} were broken off", args.grace)
    });
    Ok(Exit::Done)
}

/// Writes down what was counted and that this larder goes, as far as that takes no longer than `within`.
async fn leave(app: &App, within: Duration) {
    let left = tokio::time::timeout(within, async {
        app.write_tally().await;
        app.depart().await;
    });
    if left.await.is_err() {
        tracing::warn!("what was counted last could not be written down in time");
    }
}

/// Makes sure that the object store is this larder's. One that has just been started may need a moment itself.
async fn own_objects(
    store: &larder_store::Store,
    context: &Context,
) -> Result<(), larder_store::StoreError> {
    const PATIENCE: Duration = Duration::from_secs(20);
    const PAUSE: Duration = Duration::from_secs(1);
    let (began, mut is_told) = (std::time::Instant::now(), false);
    loop {
        match store.own_objects().await {
            Err(error) if error.is_away() && began.elapsed() < PATIENCE => {
                if !std::mem::replace(&mut is_told, true) {
                    let patience = PATIENCE.as_secs();
                    let told = format!("note: {error}; it is tried again for {patience} seconds");
                    context.output.note(told);
                }
                tokio::time::sleep(PAUSE).await;
            }
            owned => return owned,
        }
    }
}

/// Resolves when nothing new is to be taken: a while after the first signal. From then on a second one is told to
/// `hurry`.
async fn drained(
    stop: impl Future<Output = ()>,
    app: &App,
    drain: Duration,
    manager: &crate::service::Manager,
    hurry: Arc<tokio::sync::Notify>,
) {
    stop.await;
    // Listened to from here on, so that it is not the first one that is heard again.
    match stop_signal() {
        Ok(again) => drop(tokio::spawn(async move {
            again.await;
            hurry.notify_one();
        })),
        Err(error) => tracing::warn!(%error, "a second signal will not be heard"),
    }
    manager.stops();
    app.begin_stop();
    tokio::time::sleep(drain).await;
}

/// Forgets what is older than the record is kept.
async fn keep_record(app: &App) {
    const EACH: Duration = Duration::from_secs(3600);
    loop {
        let kept = i64::try_from(app.plan().record.as_millis()).unwrap_or(i64::MAX);
        match app.store.forget_before(now().saturating_sub(kept)).await {
            Ok(0) => {}
            Ok(lines) => tracing::info!(lines, "the record was shortened"),
            Err(error) => tracing::error!(%error, "the record could not be shortened"),
        }
        if let Err(error) = crate::commands::report::figures::sample(&app.store).await {
            tracing::warn!(%error, "the figures of this hour could not be noted");
        }
        if let Err(error) = app.store.forget_sightings(now().saturating_sub(kept)).await {
            tracing::error!(%error, "old sightings could not be forgotten");
        }
        tokio::time::sleep(EACH).await;
    }
}

/// Where it listens: where the call says, on the socket that was opened for it, or where the configuration says.
fn place(
    args: &Args,
    config: &Config,
    handed: &crate::service::Handed,
) -> Result<SocketAddr, Failure> {
    match (args.listen, &handed.registry) {
        (Some(listen), Some(_)) => {
            let cause = "the service manager has opened a socket for it, and `--listen` names another place";
            let remedy = "leave `--listen` out, or stop the socket's unit";
            Err(Failure::usage(format!("cannot serve on {listen}"), cause, remedy))
        }
        (Some(listen), None) => Ok(listen),
        (None, Some(socket)) => {
            let what = "cannot serve on the socket that the service manager opened";
            socket.local_addr().map_err(|error| Failure::io(what, &error))
        }
        (None, None) => Ok(config.larder.listen),
    }
}

/// A socket that somebody else has opened.
fn taken(socket: std::net::TcpListener) -> std::io::Result<TcpListener> {
    socket.set_nonblocking(true)?;
    TcpListener::from_std(socket)
}

async fn bind(listen: SocketAddr) -> Result<TcpListener, Failure> {
    TcpListener::bind(listen).await.map_err(|error| {
        let mut failure = Failure::io(format!("cannot serve on {listen}"), &error);
        if error.kind() == std::io::ErrorKind::AddrInUse {
            failure.remedy =
                "another program listens there; stop it, or choose another port with `--listen`"
                    .into();
        }
        failure
    })
}

fn certificates(config: &Config) -> Option<Certificates> {
    let files = config.larder.tls.as_ref()?;
    let from = |path: &std::path::Path| config.folder().join(path);
    Some(Certificates {
        cert: from(&files.cert),
        key: from(&files.key),
        clients: files.clients.as_deref().map(from),
        crl: files.crl.as_deref().map(from),
    })
}

/// What a configuration is served by, or why it cannot be. `larder check` asks the same.
pub(super) fn ready(config: &Config, listen: SocketAddr) -> Result<(Option<Tls>, Plan), Failure> {
    let what = || format!("cannot serve on {listen}");
    let plan = plan_for(config, listen)?;
    if config.larder.metrics == Some(listen) && listen.port() != 0 {
        let cause = format!("`metrics` is to listen on {listen}, where the larder itself listens");
        return Err(Failure::usage(what(), cause, "name another port for `metrics`"));
    }
    if let Some(files) = &config.larder.tls {
        config.check_secret(&what(), Some(&config.folder().join(&files.key)))?;
    }
    let tls = certificates(config).map(Tls::from_files).transpose().map_err(|error| {
        let remedy = "check `tls` under [larder]: `cert`, `key` and `clients` are PEM files";
        Failure::usage(what(), error, remedy)
    })?;
    check_store(config)?;
    Ok((tls, plan))
}

/// What can be exchanged while it serves.
fn plan_for(config: &Config, listen: SocketAddr) -> Result<Plan, Failure> {
    let what = || format!("cannot serve on {listen}");
    check_access(config, listen)?;
    for upstream in &config.upstreams {
        let Some(path) = &upstream.ca else { continue };
        let path = config.folder().join(path);
        read_bounded(&path, CA_LIMIT).map_err(|error| Failure::file(what(), &path, &error))?;
    }
    crate::plan::plan(config)
}

/// Anyone may do anything only where nobody else can connect.
fn check_access(config: &Config, listen: SocketAddr) -> Result<(), Failure> {
    if config.is_open() && !listen.ip().is_loopback() {
        return Err(Failure::usage(
            format!("cannot serve on {listen}"),
            "`access = \"open\"` lets anyone who can connect pull and push, and others can reach this address",
            "listen on 127.0.0.1 or [::1], or set `access = \"grants\"` and issue keys with `larder key issue`",
        ));
    }
    Ok(())
}

/// Resolves at the first SIGTERM or SIGINT.
pub(super) fn stop_signal() -> std::io::Result<impl Future<Output = ()>> {
    let mut terminate = signal(SignalKind::terminate())?;
    let mut interrupt = signal(SignalKind::interrupt())?;
    Ok(async move {
        tokio::select! {
            _ = terminate.recv() => {}
            _ = interrupt.recv() => {}
        }
    })
}
