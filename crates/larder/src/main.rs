//! Iron Larder, the program: it brings third-party container images into a registry of one's own,
//! serves them, and makes deployments use them.
//!
//! * [`access`] - clusters and accounts of a configuration, as the server wants them
//! * [`commands`] - one file for each command; `commands/documents.rs` lists what they give
//! * [`config`] - `larder.toml`, in types that cannot be wrong
//! * [`context`] - where a command runs: its configuration, its store, how it reads references
//! * [`deployments`] - files and folders of deployments, read and replaced
//! * [`failure`] - errors in their three parts, with the exit status
//! * [`handoff`], [`node_files`]: what clusters and nodes are given
//! * [`keys`], [`record`], [`marks`]: keys, records, and what was done last, as commands use them
//! * [`images`]: images named by patterns, and the ends of their moves
//! * [`interruption`] - what is said when somebody ends the program
//! * [`inventory`]: what is inside an image that the call names
//! * [`kube`] - a cluster's API
//! * [`notices`] - events for others
//! * [`output`] - everything that is written to the terminal: reports, tables, progress, JSON
//! * [`parcel`] - the keys of parcels, as the configuration has them
//! * [`pick`] - options that several commands share
//! * [`place`] - registries, folders and archives, as the call names them
//! * [`service`] - what a service manager is told, and what it hands over
//! * `traces` - spans of requests for others, with the feature of that name
//! * [`version`] - which program this is, exactly
//! * [`plan`], [`policy`]: what follows from a configuration, for the server and for commands

mod access;
mod approval;
mod commands;
mod config;
mod context;
mod deployments;
mod failure;
mod handoff;
mod health;
mod images;
mod interruption;
mod inventory;
mod keys;
mod kube;
mod marks;
mod node_files;
mod notices;
mod output;
mod parcel;
mod pick;
mod place;
mod plan;
mod policy;
mod record;
mod service;
mod signatures;
#[cfg(feature = "traces")]
mod traces;
mod version;

use std::path::PathBuf;
use std::process::ExitCode;

use clap::{CommandFactory as _, FromArgMatches as _, Parser};

use crate::commands::LogForm;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Color, Output};

/// The heading of the options that every command has.
const EVERYWHERE: &str = "Everywhere";

/// Bring third-party container images into your own registry, serve them, and make deployments
/// use them.
#[derive(Debug, Parser)]
#[command(name = "larder", version, max_term_width = 100, disable_help_subcommand = true)]
#[command(
    after_help = "Work goes in this order: survey, look, intake lock, intake diff, intake run, serve, rewrite.\n\
    Exit status: 0 done; 1 it ran and the answer is \"no\"; 2 the call or the configuration is wrong;\n\
    3 a remote could not be reached or refused us; 4 content did not match its digest."
)]
struct Cli {
    /// The configuration [default: $LARDER_CONFIG, else larder.toml here or in a parent folder]
    #[arg(long, global = true, value_name = "FILE", help_heading = EVERYWHERE)]
    config: Option<PathBuf>,
    /// Make the store where there is none yet
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    new_store: bool,
    /// Print one JSON document and nothing else
    #[arg(long, global = true, help_heading = EVERYWHERE)]
    json: bool,
    /// Print no notes and no progress
    #[arg(long, short, global = true, help_heading = EVERYWHERE)]
    quiet: bool,
    /// Tell what goes on: -v each request's fate, -vv more
    #[arg(long, short, global = true, action = clap::ArgAction::Count, help_heading = EVERYWHERE)]
    verbose: u8,
    /// When to use colours: auto, always, never
    #[arg(long, global = true, value_enum, default_value_t, value_name = "WHEN", hide_possible_values = true, help_heading = EVERYWHERE)]
    color: Color,
    #[command(subcommand)]
    command: commands::Command,
}

fn main() -> ExitCode {
    if commands::completions::answered() {
        return ExitCode::SUCCESS;
    }
    if version::told(std::env::args_os().skip(1)) {
        return ExitCode::SUCCESS;
    }
    let parsed = Cli::command().try_get_matches().and_then(|matches| {
        record::set_command(command_of(&matches));
        Cli::from_arg_matches(&matches)
    });
    let cli = match parsed {
        Ok(cli) => cli,
        Err(error) => {
            let code = if error.use_stderr() { Exit::Usage } else { Exit::Done };
            match error.use_stderr() {
                // What was typed may be a hostile file's name.
                true => Output::default().note(error.render().to_string().trim_end()),
                false => drop(error.print()),
            }
            return ExitCode::from(code as u8);
        }
    };
    let as_log =
        matches!(&cli.command, commands::Command::Serve(args) if args.log == LogForm::Json);
    let output = Output { json: cli.json, quiet: cli.quiet, color: cli.color, as_log };
    match start(cli, output) {
        Ok(exit) => ExitCode::from(exit as u8),
        Err(failure) => {
            output.failure(&failure);
            ExitCode::from(failure.exit as u8)
        }
    }
}

/// The program and the commands that were called, without their arguments.
fn command_of(matches: &clap::ArgMatches) -> Vec<String> {
    let mut words = vec!["larder".to_owned()];
    let mut matches = matches;
    while let Some((name, below)) = matches.subcommand() {
        words.push(name.to_owned());
        matches = below;
    }
    words
}

fn start(cli: Cli, output: Output) -> Outcome {
    let serving = match &cli.command {
        commands::Command::Serve(args) => Some(args.log),
        _ => None,
    };
    // The one place that chooses a cryptography provider; a second call would change nothing.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build();
    let runtime = runtime.map_err(|error| Failure::io("cannot start", &error))?;
    log(cli.verbose, output.quiet, serving, runtime.handle()).map_err(|cause| {
        let remedy = "check `OTEL_EXPORTER_OTLP_ENDPOINT`, or unset it";
        Failure::usage("cannot send traces", cause, remedy)
    })?;
    let named = || std::env::var_os("LARDER_CONFIG").filter(|path| !path.is_empty());
    let named = cli.config.or_else(|| named().map(PathBuf::from));
    let context = Context::new(named, cli.new_store, output);
    let command = record::command();
    let kept = command.strip_prefix("larder ").and_then(commands::kept::kept);
    let tells = !output.quiet
        && !output.json
        && !std::io::IsTerminal::is_terminal(&std::io::stderr())
        && !matches!(command.as_str(), "larder serve" | "larder demo");
    runtime.block_on(async {
        if tells {
            tokio::spawn(interruption::keep_telling(command.clone(), output));
        }
        let ended = Box::pin(commands::run(cli.command, &context));
        let Some(kept) = kept else {
            let outcome = ended.await;
            #[cfg(feature = "traces")]
            traces::finish().await;
            return outcome;
        };
        // Before the command begins: it may never wait.
        let interrupted = interruption::listen(kept, output);
        tokio::select! {
            outcome = ended => outcome,
            // What was being done has been let go of by now.
            status = interrupted => std::process::exit(status),
        }
    })
}

/// Sends what the crates below tell to stderr: warnings always, a server's requests too.
///
/// # Errors
/// In words, when traces are wanted and cannot be sent.
fn log(
    verbose: u8,
    quiet: bool,
    serving: Option<LogForm>,
    runtime: &tokio::runtime::Handle,
) -> Result<(), String> {
    use tracing_subscriber::Layer as _;
    use tracing_subscriber::layer::SubscriberExt as _;
    use tracing_subscriber::util::SubscriberInitExt as _;
    let level = match (verbose, serving.is_some() && !quiet) {
        // What it cannot verify is told in our own words.
        (0, false) => "warn,rustls_platform_verifier=off",
        (0, true) => "warn,rustls_platform_verifier=off,larder_server=info",
        (1, _) => "info,larder_client=debug,larder_server=info,larder_trace=off",
        _ => "debug,larder_trace=off",
    };
    let filter = tracing_subscriber::EnvFilter::try_from_env("LARDER_LOG")
        .unwrap_or_else(|_| tracing_subscriber::EnvFilter::new(level));
    let color = std::io::IsTerminal::is_terminal(&std::io::stderr());
    let lines = tracing_subscriber::fmt::layer().with_writer(|| output::Log(std::io::stderr()));
    let is_json = serving == Some(LogForm::Json);
    let lines = match is_json {
        true => lines.json().flatten_event(true).with_ansi(false).boxed(),
        false => lines.with_ansi(color).boxed(),
    };
    let log = tracing_subscriber::registry().with(lines.with_filter(filter));
    match serving.is_some() {
        true => traced(log, runtime)?,
        false => log.init(),
    }
    if is_json {
        // Whoever reads a log by machine reads this too.
        std::panic::set_hook(Box::new(|panic| {
            tracing::error!(target: "larder_server::fault", "a part of the larder failed: {panic}");
        }));
    }
    Ok(())
}

/// Begins to log, and to trace where that is wanted.
#[cfg(feature = "traces")]
fn traced<L>(log: L, runtime: &tokio::runtime::Handle) -> Result<(), String>
where
    L: tracing::Subscriber
        + for<'s> tracing_subscriber::registry::LookupSpan<'s>
        + Send
        + Sync
        + 'static,
{
    use tracing_subscriber::Layer as _;
    use tracing_subscriber::filter::{LevelFilter, Targets};
    use tracing_subscriber::layer::SubscriberExt as _;
    use tracing_subscriber::util::SubscriberInitExt as _;
    let spans = Targets::new().with_target(larder_server::SPANS, LevelFilter::INFO);
    let traces = traces::layer(runtime.clone())?;
    log.with(traces.map(|traces| traces.with_filter(spans))).init();
    Ok(())
}

/// Begins to log, and says where traces are wanted that this program cannot make.
#[cfg(not(feature = "traces"))]
#[expect(clippy::unnecessary_wraps, reason = "with the feature it can fail")]
fn traced<L>(log: L, _: &tokio::runtime::Handle) -> Result<(), String>
where
    L: tracing_subscriber::util::SubscriberInitExt,
{
    log.init();
    let wanted = ["OTEL_EXPORTER_OTLP_TRACES_ENDPOINT", "OTEL_EXPORTER_OTLP_ENDPOINT"];
    if let Some(name) = wanted.into_iter().find(|name| std::env::var_os(name).is_some()) {
        tracing::warn!(target: "larder_server::traces", name, "nothing is traced: this program was built without the feature `traces`");
    }
    Ok(())
}
