//! `larder key revoke`: the end of a key, at once.

use larder_core::access::key::KeyId;
use larder_store::{Store, now};

use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::keys::{failed, note};

/// End keys at once, and with them all tokens that were had by them
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The keys' names, as `larder key list` shows them
    #[arg(required = true, value_name = "KEY")]
    keys: Vec<KeyId>,
}

pub async fn run(args: &Args, store: &Store, context: &Context) -> Outcome {
    let what = "cannot revoke the keys";
    let known = store.keyring.keys().await.map_err(failed(what))?;
    for id in &args.keys {
        let cause = match known.iter().find(|key| key.id == *id) {
            None => format!("no key {id} was issued"),
            Some(key) if key.revoked.is_some() => format!("{id} is revoked already"),
            Some(_) => continue,
        };
        let remedy = "`larder key list --all` shows them; nothing was revoked";
        return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
    }
    for id in &args.keys {
        store.keyring.revoke_key(id, now()).await.map_err(failed(what))?;
        note(store, id, "revoked").await?;
    }
    let names: Vec<&str> = args.keys.iter().map(KeyId::as_str).collect();
    if context.output.json {
        context.output.document(&serde_json::json!({ "revoked": names }));
    } else {
        context.output.result(format!("revoked {}", names.join(", ")));
    }
    Ok(Exit::Done)
}
