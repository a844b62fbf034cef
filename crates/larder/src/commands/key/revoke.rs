//! `larder key revoke`: the end of a key, at once.

use larder_core::access::Who;
use larder_core::access::key::{Key, KeyId};
use larder_core::access::stop::{Stop, Stopped};
use larder_store::{KeyRecord, RecordKind, Store, now};

use schemars::JsonSchema;
use serde::Serialize;

use super::last_use;
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::keys::{failed, note};
use crate::output::{Output, Report};
use crate::record;

/// End keys at once, with all tokens issued for them; or all tokens of a service account or a cluster
///
/// `--tokens-of` ends what needs no key: every token that was issued until now, and every token of the cluster's own
/// that was made until now. Who may still pull signs in again with a newer one.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The keys' names, as `larder key list` shows them
    #[arg(required_unless_present = "tokens_of", value_name = "KEY")]
    keys: Vec<String>,
    /// Whose tokens end: a cluster, CLUSTER/NAMESPACE, CLUSTER/NAMESPACE/SERVICE-ACCOUNT, or an account (again for
    /// more)
    #[arg(long, value_name = "WHO")]
    tokens_of: Vec<String>,
    /// Because of what, for the record
    #[arg(long, value_name = "REASON", default_value = "", hide_default_value = true)]
    because: String,
    /// Say what would end, and end nothing
    #[arg(long)]
    dry_run: bool,
    /// Do not ask
    #[arg(long, short, conflicts_with = "dry_run")]
    yes: bool,
}

/// The name of a key; the key itself, which somebody found lying about, means the same. It is never shown.
fn key_id(what: &str, text: &str) -> Result<KeyId, Failure> {
    if let Ok(key) = text.parse::<Key>() {
        return Ok(key.id());
    }
    text.parse().map_err(|_| {
        let cause = match text.starts_with("larder_") {
            true => "one of the texts is neither the name of a key nor a whole key".to_owned(),
            false => format!("`{}` is not the name of a key", larder_core::shown::cut(text, 40)),
        };
        Failure::usage(
            what,
            cause,
            "`larder key list` shows the names: 8 letters and digits; nothing was revoked",
        )
    })
}

/// Whose tokens are meant.
fn whose(text: &str, config: &Config) -> Result<Stopped, Failure> {
    let parts: Vec<&str> = text.split('/').collect();
    let who = match parts.as_slice() {
        [name] if config.clusters.iter().any(|one| one.name.get_ref() == name) => {
            Who::cluster(name, None)
        }
        [name] => Who::Account((*name).into()),
        [cluster, namespace] => Who::cluster(cluster, Some(namespace)),
        [cluster, namespace, account] if !account.is_empty() => {
            Who::cluster(cluster, Some(namespace))
        }
        _ => Who::Anonymous,
    };
    // Who has just been taken out of the configuration may still be meant.
    let known = config.grants.knows(&who)
        || who.cluster_name().is_some_and(|name| config.grants.knows(&Who::cluster(name, None)));
    if who == Who::Anonymous || !known {
        let all: Vec<String> = config.grants.everybody().iter().map(Who::to_string).collect();
        let cause = format!("`{}` is nobody that larder.toml declares", text.escape_debug());
        let remedy = format!("one of: {}; or CLUSTER/NAMESPACE/SERVICE-ACCOUNT", all.join(", "));
        return Err(Failure::usage("cannot end the tokens", cause, remedy));
    }
    Ok(Stopped::Tokens(text.into()))
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot revoke the keys";
    let known = store.keys().await.map_err(failed(what))?;
    let keys: Vec<KeyId> =
        args.keys.iter().map(|text| key_id(what, text)).collect::<Result<_, _>>()?;
    for id in &keys {
        let cause = match known.iter().find(|key| key.id == *id) {
            None => format!("no key {id} was issued"),
            Some(key) if key.revoked.is_some() => format!("{id} is revoked already"),
            Some(_) => continue,
        };
        let remedy = "`larder key list --all` shows them; nothing was revoked";
        return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
    }
    let ended: Vec<Stopped> =
        args.tokens_of.iter().map(|text| whose(text, config)).collect::<Result<_, _>>()?;
    let report = Revocation {
        revoked: keys.iter().map(ToString::to_string).collect(),
        tokens_ended_of: args.tokens_of.clone(),
        dry_run: args.dry_run,
    };
    if args.dry_run {
        context.output.tell(&report);
        return Ok(Exit::Done);
    }
    if !args.yes {
        context.output.confirm(what, &question(&keys, &known, &args.tokens_of))?;
    }
    for id in &keys {
        store.revoke_key(id, now()).await.map_err(failed(what))?;
        note(store, id, "revoked").await?;
    }
    let stop =
        |what: &Stopped| Stop { what: what.clone(), because: args.because.clone(), at: now() };
    if !ended.is_empty() {
        store.add_stops(ended.iter().map(stop).collect()).await.map_err(failed(what))?;
        let because = if args.because.is_empty() { "" } else { ": " };
        let text = format!("all tokens from before ended{because}{}", args.because);
        let entries =
            args.tokens_of.iter().map(|of| record::entry(RecordKind::Key, of, &text)).collect();
        record::note(store, entries).await.map_err(failed("cannot write the record"))?;
    }
    context.output.tell(&report);
    Ok(Exit::Done)
}

/// What is about to end, in one line.
fn question(keys: &[KeyId], known: &[KeyRecord], tokens_of: &[String]) -> String {
    let mut parts = Vec::new();
    for id in keys {
        let record = known.iter().find(|key| key.id == *id);
        parts.push(record.map_or_else(
            || format!("key {id} ends"),
            |key| format!("key {id} of {} ends, last used: {}", key.user, last_use(key)),
        ));
    }
    parts.extend(tokens_of.iter().map(|of| format!("every token of {of} ends")));
    parts.join("; ")
}

#[derive(Serialize, JsonSchema)]
pub struct Revocation {
    /// The keys that let nobody in any more.
    revoked: Vec<String>,
    /// Whose tokens have ended.
    tokens_ended_of: Vec<String>,
    /// Whether nothing was changed.
    dry_run: bool,
}

impl Report for Revocation {
    const KIND: &'static str = "revocation";

    fn show(&self, out: &Output) {
        if !self.revoked.is_empty() {
            let verb = if self.dry_run { "would revoke" } else { "revoked" };
            out.result(format!("{verb} {}", self.revoked.join(", ")));
        }
        for of in &self.tokens_ended_of {
            let verb = if self.dry_run { "would end" } else { "ended" };
            out.result(format!("{verb} every token issued to {of} until now"));
        }
    }
}
