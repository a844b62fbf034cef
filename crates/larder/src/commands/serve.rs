//! `larder serve`: the registry.

use std::sync::Arc;
use std::time::Duration;

use larder_server::{App, router, serve};
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};

use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{STRONG, paint};

/// Run the registry
///
/// It stops on SIGTERM and SIGINT; running requests may finish.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Listen here instead of where the configuration says; port 0 takes a free one
    #[arg(long, value_name = "ADDRESS:PORT")]
    listen: Option<std::net::SocketAddr>,
    /// How many seconds running requests may take to finish at the end
    #[arg(long, value_name = "SECONDS", default_value_t = 30)]
    grace: u64,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let config = context.config()?;
    let listen = args.listen.unwrap_or(config.larder.listen);
    let what = || format!("cannot serve on {listen}");
    check_access(&config, listen)?;
    let store = open_store(&config)?;
    let removed = store.blobs.remove_abandoned(larder_store::ABANDONED).await;
    let removed = removed.map_err(|error| Failure::store(what(), &error))?;
    if removed > 0 {
        context.output.note(format!("gave up {removed} uploads that nobody went on with"));
    }
    let listener = TcpListener::bind(listen).await.map_err(|error| {
        let mut failure = Failure::io(what(), &error);
        if error.kind() == std::io::ErrorKind::AddrInUse {
            failure.remedy =
                "another program listens there; stop it, or choose another port with `--listen`"
                    .into();
        }
        failure
    })?;
    let address = listener.local_addr().map_err(|error| Failure::io(what(), &error))?;
    let shelves = config.storing_shelves();
    // Asked for before the address is told: whoever reads it may send a signal at once.
    let stop = stop_signal().map_err(|error| Failure::io(what(), &error))?;
    if context.output.json {
        context.output.document(&serde_json::json!({ "listen": address, "host": config.larder.url.host, "shelves": shelves, "access": "open" }));
    } else {
        context.output.result(format!(
            "larder {} serves on {}\n  as      {}\n  shelves {}\n  access  open: whoever reaches it may pull and push; on this machine only",
            paint(STRONG, &config.larder.name),
            paint(STRONG, format!("http://{address}")),
            config.larder.url.host,
            if shelves.is_empty() { "none declared: any name takes pushes".to_owned() } else { shelves.join(", ") },
        ));
    }
    let app = App { store, shelves, read_only: false };
    let finished =
        serve(listener, None, router(Arc::new(app)), stop, Duration::from_secs(args.grace)).await;
    let finished = finished.map_err(|error| Failure::io(what(), &error))?;
    context.output.note(if finished {
        "stopped; every request was finished".to_owned()
    } else {
        format!("stopped; requests that took longer than {} s were broken off", args.grace)
    });
    Ok(Exit::Done)
}

/// Sign-in to the larder is not there yet: until then it says openly that everybody may do
/// everything, and only where nobody else can reach it.
fn check_access(
    config: &crate::config::Config,
    listen: std::net::SocketAddr,
) -> Result<(), Failure> {
    let what = format!("cannot serve on {listen}");
    if !config.is_open() {
        return Err(Failure::usage(
            what,
            "`access = \"grants\"` needs sign-in, which this version of larder does not carry out",
            "set `access = \"open\"` under [larder]: whoever reaches it may then pull and push, so it listens on loopback only",
        ));
    }
    if !listen.ip().is_loopback() {
        return Err(Failure::usage(
            what,
            "`access = \"open\"` lets whoever reaches it pull and push, and this address can be reached by others",
            "listen on 127.0.0.1 or [::1] until grants are carried out",
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
