//! Which names can stand at which place of a call.

use std::collections::BTreeSet;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;
use std::time::Duration;

use clap::{Arg, Command};
use clap_complete::engine::{ArgValueCompleter, CompletionCandidate};
use larder_core::diagnosis::Cause;

use crate::commands::documents::ALL;
use crate::config::Config;
use crate::context::{Context, read_lock, store_if_any};
use crate::output::Output;

/// No more candidates are given than this: nobody reads them.
const MOST: usize = 1000;
/// How long it is waited for the store.
const PATIENCE: Duration = Duration::from_secs(2);

/// What is named at a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Named {
    Cluster,
    Namespace,
    Account,
    Upstream,
    Shelf,
    /// An image as deployments name it, or as it lies here.
    Image,
    /// An image that lies here.
    Held,
    /// An image that the intake wants.
    Wanted,
    Key,
    Signer,
    /// A command, `cause`, `json` and what stands behind these.
    Help,
}

/// What is named by an argument of a command. None: something that no configuration lists.
fn named(command: &str, arg: &Arg) -> Option<Named> {
    let id = arg.get_id().as_str();
    Some(match (command, id) {
        ("help", "words") => Named::Help,
        ("handoff write" | "handoff apply" | "handoff check", "cluster") => Named::Cluster,
        (_, "cluster" | "clusters" | "to_cluster") => Named::Cluster,
        (_, "namespace" | "namespaces") => Named::Namespace,
        (_, "account") => Named::Account,
        ("shelf retry", "upstream") => Named::Upstream,
        ("shelf show" | "shelf tidy" | "shelf users", "name" | "names") => Named::Held,
        ("shelf drop" | "shelf block" | "shelf unblock" | "sign", _) if arg.is_positional() => {
            Named::Held
        }
        ("promote", _) if arg.is_positional() => Named::Held,
        ("intake remove", _) if arg.is_positional() => Named::Wanted,
        ("key revoke", "keys" | "key") => Named::Key,
        (_, "shelf") => Named::Shelf,
        (_, "signer" | "as") => Named::Signer,
        (
            "look" | "why" | "inventory" | "advisory check" | "policy explain" | "policy check"
            | "shelf warm" | "copy",
            _,
        ) if arg.is_positional() => Named::Image,
        _ => return None,
    })
}

/// The commands with what their arguments are completed by.
pub(super) fn completed(command: Command) -> Command {
    below(command, "")
}

fn below(command: Command, path: &str) -> Command {
    let command = command.mut_args(|arg| match named(path, &arg) {
        Some(names) => {
            arg.add(ArgValueCompleter::new(move |typed: &OsStr| beginning(names, typed)))
        }
        None => arg,
    });
    let path = path.to_owned();
    command.mut_subcommands(move |child| {
        let name = child.get_name();
        let path = if path.is_empty() { name.to_owned() } else { format!("{path} {name}") };
        below(child, &path)
    })
}

/// The names that begin with what was typed.
fn beginning(names: Named, typed: &OsStr) -> Vec<CompletionCandidate> {
    let Some(typed) = typed.to_str() else { return Vec::new() };
    let words: Vec<OsString> = std::env::args_os().collect();
    let all = all_of(names, &words).unwrap_or_default();
    let fits = |name: &&String| {
        let is_plain = |c: char| c.is_ascii_graphic();
        name.starts_with(typed) && name.chars().all(is_plain)
    };
    all.iter().filter(fits).take(MOST).map(CompletionCandidate::new).collect()
}

/// The configuration that the call names or would find. None: there is none that can be read.
fn configuration(words: &[OsString]) -> Option<Config> {
    let named = words.iter().enumerate().find_map(|(place, word)| {
        let word = word.to_str()?;
        match word.strip_prefix("--config") {
            Some("") => words.get(place + 1).map(PathBuf::from),
            Some(rest) => rest.strip_prefix('=').map(PathBuf::from),
            None => None,
        }
    });
    let variable = || std::env::var_os("LARDER_CONFIG").filter(|path| !path.is_empty());
    let named = named.or_else(|| variable().map(PathBuf::from));
    Context::new(named, false, Output { quiet: true, ..Output::default() }).config().ok()
}

fn all_of(names: Named, words: &[OsString]) -> Option<BTreeSet<String>> {
    if names == Named::Help {
        return Some(topics(words));
    }
    let config = configuration(words)?;
    Some(match names {
        Named::Cluster => config.clusters.iter().map(|one| one.name.get_ref().clone()).collect(),
        Named::Namespace => {
            let all = config.clusters.iter().flat_map(|one| &one.namespaces);
            all.map(|one| one.name.get_ref().clone()).collect()
        }
        Named::Account => config.accounts.iter().map(|one| one.name.get_ref().clone()).collect(),
        Named::Upstream => config.upstreams.iter().map(|one| one.name.get_ref().clone()).collect(),
        Named::Signer => config.signers.iter().map(|one| one.name.get_ref().clone()).collect(),
        Named::Shelf => shelves(&config),
        Named::Wanted => wanted(&config),
        Named::Held => {
            let mut all = shelves(&config);
            all.extend(locked(&config).1);
            all
        }
        Named::Image => {
            let mut all = wanted(&config);
            let (upstream, held) = locked(&config);
            all.extend(upstream);
            all.extend(held);
            all
        }
        Named::Key => keys(config).unwrap_or_default(),
        Named::Help => BTreeSet::new(),
    })
}

fn shelves(config: &Config) -> BTreeSet<String> {
    let declared = config.shelves.iter().map(|shelf| shelf.name.get_ref().to_string());
    let mut all: BTreeSet<String> = declared.collect();
    all.extend(config.storing_shelves().iter().map(ToString::to_string));
    all
}

fn wanted(config: &Config) -> BTreeSet<String> {
    config.intake.iter().map(|one| one.image.get_ref().to_string()).collect()
}

/// What the lock holds: by the upstream's name, and by where it lies here.
fn locked(config: &Config) -> (BTreeSet<String>, BTreeSet<String>) {
    let Ok(lock) = read_lock(config) else { return Default::default() };
    let upstream = lock.entries.keys().map(|want| format!("{}:{}", want.image, want.tag));
    let held = lock.entries.keys().filter_map(|want| {
        let to = config.destination(config.intake_of(&want.image)?);
        (to.host == config.larder.url.host).then(|| format!("{}:{}", to.repository, want.tag))
    });
    (upstream.collect(), held.collect())
}

/// The keys that have been issued and can still be used. A store that gives no answer is not waited for.
fn keys(config: Config) -> Option<BTreeSet<String>> {
    let (tell, told) = std::sync::mpsc::channel();
    std::thread::spawn(move || {
        let ask = || {
            let store = store_if_any(&config).ok()??;
            let runtime =
                tokio::runtime::Builder::new_current_thread().enable_all().build().ok()?;
            let keys = runtime.block_on(store.keys()).ok()?;
            let now = crate::context::now();
            Some(keys.iter().filter(|key| key.is_good(now)).map(|key| key.id.to_string()).collect())
        };
        // Whoever asked may have stopped waiting.
        let _ = tell.send(ask());
    });
    told.recv_timeout(PATIENCE).ok()?
}

/// What `larder help` can be asked, after what has been typed so far.
fn topics(words: &[OsString]) -> BTreeSet<String> {
    let is_there = |topic: &str| words.iter().any(|word| word == topic);
    let own = |words: &[&'static str]| words.iter().map(|word| (*word).to_owned()).collect();
    if is_there("cause") {
        return Cause::ALL.iter().map(|cause| cause.word().to_owned()).collect();
    }
    if is_there("json") {
        return ALL.iter().map(|one| one.kind.to_owned()).collect();
    }
    if is_there("configuration") {
        return super::super::help::configuration_parts();
    }
    let mut all: BTreeSet<String> = own(&["cause", "json", "configuration"]);
    let command = <crate::Cli as clap::CommandFactory>::command();
    all.extend(command.get_subcommands().map(|one| one.get_name().to_owned()));
    all
}
