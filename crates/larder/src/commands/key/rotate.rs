//! `larder key rotate`: a second key beside the first, and later the end of the first.

use larder_core::access::Who;
use larder_core::quantity::Span;
use larder_store::{KeyRecord, Store, now};
use schemars::JsonSchema;
use serde::Serialize;

use super::issue::{How, hand_out};
use super::{KeyHolder, last_use};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::keys::{failed, good_keys, make, note};
use crate::output::{Output, Report};

/// Issue a second key beside the first; with `--finish`, end the first
///
/// Both are good until the first is ended: hand the second over, see with `--finish` whether the first is
/// still in use, and end it once it is not. Nothing ends by itself before its time.
#[derive(Debug, clap::Args)]
pub struct Args {
    #[command(flatten)]
    whose: KeyHolder,
    #[command(flatten)]
    how: How,
    /// End the first key; refused while it is still in use
    #[arg(long)]
    finish: bool,
    /// End it although it is still in use
    #[arg(long, requires = "finish")]
    force: bool,
    /// How long it must not have been used
    #[arg(long, value_name = "SPAN", default_value = "24h", requires = "finish")]
    idle: Span,
    /// Say which key would end, and end none
    #[arg(long, requires = "finish")]
    dry_run: bool,
    /// Do not ask
    #[arg(long, short, requires = "finish", conflicts_with = "dry_run")]
    yes: bool,
}

#[derive(Serialize, JsonSchema)]
pub struct Rotation {
    user: String,
    /// The keys that were ended.
    ended: Vec<String>,
    /// The key that stays.
    stays: String,
    /// Whether nothing was changed.
    dry_run: bool,
}

impl Report for Rotation {
    const KIND: &'static str = "rotation";

    fn show(&self, out: &Output) {
        let verb = if self.dry_run { "would end" } else { "ended" };
        out.result(format!("{verb} {}; {} stays", self.ended.join(", "), self.stays));
    }
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let what = "cannot rotate the key";
    let who = args.whose.who(what, config)?;
    let keys = good_keys(store, &who).await?;
    if args.finish {
        return finish(args, &who, &keys, store, context).await;
    }
    match keys.as_slice() {
        [] => Err(Failure::usage(
            what,
            format!("{} has no key that is good", who.described()),
            "`larder key issue` issues the first one",
        )
        .ending(Exit::No)),
        [first] => {
            context.output.note(format!("the first key, {}, was last used: {}", first.id, last_use(first)));
            let first = Some(first.id.clone());
            let (key, record) = make(config, store, &who, args.how.expires.end(), first).await?;
            hand_out(&who, &key, &record, &args.how, context)
        }
        [first, .., second] => Err(Failure::usage(
            what,
            format!(
                "two keys are good already: {} (last used: {}) and {} (last used: {})",
                first.id,
                last_use(first),
                second.id,
                last_use(second)
            ),
            "end the first with `larder key rotate --finish`, or one of them with `larder key revoke`",
        )
        .ending(Exit::No)),
    }
}

async fn finish(
    args: &Args,
    who: &Who,
    keys: &[KeyRecord],
    store: &Store,
    context: &Context,
) -> Outcome {
    let what = "cannot end the first key";
    let [firsts @ .., second] = keys else { return Err(no_second(what, who, keys.len())) };
    if firsts.is_empty() {
        return Err(no_second(what, who, keys.len()));
    }
    let idle = i64::try_from(args.idle.0.as_millis()).unwrap_or(i64::MAX);
    let busy = firsts.iter().find(|key| key.used.is_some_and(|at| now().saturating_sub(at) < idle));
    let refuse = |cause: String| {
        let remedy = "find what still uses it with `larder log --about KEY` and `larder handoff check`; `--force` ends it all the same";
        Failure::usage(what, cause, remedy).ending(Exit::No)
    };
    if !args.force {
        if let Some(busy) = busy {
            return Err(refuse(format!(
                "{} is still in use, last {}; it must not have been used for {}",
                busy.id,
                last_use(busy),
                args.idle
            )));
        }
        if second.used.is_none() {
            return Err(refuse(format!("nobody has used the second key, {}, yet", second.id)));
        }
    }
    let report = Rotation {
        user: who.to_string(),
        ended: firsts.iter().map(|key| key.id.to_string()).collect(),
        stays: second.id.to_string(),
        dry_run: args.dry_run,
    };
    if !args.dry_run {
        if !args.yes {
            let ends = report.ended.join(", ");
            let question = format!("{ends} of {who} ends, and {} stays", second.id);
            context.output.confirm(what, &question)?;
        }
        for key in firsts {
            store.revoke_key(&key.id, now()).await.map_err(failed(what))?;
            let text = format!("of {who} ended: {} has taken its place", second.id);
            note(store, &key.id, &text).await?;
        }
    }
    context.output.tell(&report);
    Ok(Exit::Done)
}

/// The first of two keys is wanted, and there are not two.
fn no_second(what: &str, who: &Who, keys: usize) -> Failure {
    let who = who.described();
    let cause = match keys {
        0 => format!("{who} has no key that is good"),
        _ => format!("{who} has only one key that is good; it stays until there is a second one"),
    };
    Failure::usage(what, cause, "`larder key rotate` issues the second one").ending(Exit::No)
}
