//! `larder key list`: who has keys.

use larder_core::allowance::Span;
use larder_store::{KeyRecord, Store, now};
use serde::Serialize;

use super::{last_use, state};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Outcome};
use crate::keys::failed;
use crate::output::{BAD, DIM, Table, WARN, ago, count, paint, time};

/// List the keys: whose, what they may do, how old, until when, last used when and from where
///
/// Exit status 1 says that a key expires soon.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Also those that are revoked or have expired
    #[arg(long)]
    all: bool,
    /// What "soon" is
    #[arg(long, value_name = "TIME", default_value = "14d")]
    soon: Span,
}

#[derive(Serialize)]
struct Row {
    key: String,
    user: String,
    /// Whether it lets anybody in now.
    good: bool,
    /// Whether it expires soon, and nothing that lasts longer was issued beside it.
    soon: bool,
    issued: String,
    expires: Option<String>,
    revoked: Option<String>,
    replaces: Option<String>,
    used: Option<String>,
    used_from: Option<String>,
    pull: Vec<String>,
    push: Vec<String>,
    delete: Vec<String>,
}

pub async fn run(args: &Args, config: &Config, store: &Store, context: &Context) -> Outcome {
    let keys = store.keys().await.map_err(failed("cannot read the keys"))?;
    let at = now();
    let soon = at.saturating_add(i64::try_from(args.soon.0.as_millis()).unwrap_or(i64::MAX));
    let mut rows = Vec::new();
    for key in &keys {
        let good = key.is_good(at);
        if !good && !args.all {
            continue;
        }
        let who = config.grants.who(&key.user);
        let permits = who.as_ref().and_then(|who| config.grants.permits(who));
        let texts = |of: fn(
            &larder_core::access::grants::Permits,
        ) -> &larder_core::access::grants::Patterns| {
            permits.map(|it| of(it).texts().map(str::to_owned).collect()).unwrap_or_default()
        };
        rows.push(Row {
            key: key.id.to_string(),
            user: key.user.clone(),
            good: good && who.is_some(),
            soon: ends_soon(key, &keys, at, soon),
            issued: time(key.issued),
            expires: key.expires.map(time),
            revoked: key.revoked.map(time),
            replaces: key.replaces.as_ref().map(ToString::to_string),
            used: key.used.map(time),
            used_from: key.used_from.clone().filter(|from| !from.is_empty()),
            pull: texts(|permits| &permits.pull),
            push: texts(|permits| &permits.push),
            delete: texts(|permits| &permits.delete),
        });
    }
    let ending = rows.iter().filter(|row| row.soon).count();
    if context.output.json {
        context.output.document(&serde_json::json!({ "keys": rows }));
    } else {
        show(&rows, &keys, context);
        if ending > 0 {
            context.output.note(format!(
                "{} within {}. Next: `larder key rotate` issues the next one beside it.",
                count(ending, "key") + if ending == 1 { " expires" } else { " expire" },
                args.soon
            ));
        }
    }
    Ok(if ending > 0 { Exit::No } else { Exit::Done })
}

fn ends_soon(key: &KeyRecord, all: &[KeyRecord], at: i64, soon: i64) -> bool {
    let ends = |key: &KeyRecord| key.expires.is_some_and(|end| end < soon);
    let mut others = all.iter().filter(|other| other.user == key.user && other.id != key.id);
    key.is_good(at) && ends(key) && !others.any(|other| other.is_good(at) && !ends(other))
}

fn show(rows: &[Row], keys: &[KeyRecord], context: &Context) {
    if rows.is_empty() {
        context.output.result("no keys were issued");
        return;
    }
    let columns = ["KEY", "USER", "MAY", "ISSUED", "STATE", "LAST USED"];
    let mut table = Table::new(context.output.width(), &columns);
    for row in rows {
        let Some(key) = keys.iter().find(|key| key.id.as_str() == row.key) else { continue };
        let mut may = Vec::new();
        for (word, patterns) in [("pull", &row.pull), ("push", &row.push), ("delete", &row.delete)]
        {
            if !patterns.is_empty() {
                may.push(format!("{word} {}", patterns.join(", ")));
            }
        }
        if may.is_empty() {
            may.push(paint(WARN, if row.good { "nothing is granted" } else { "-" }));
        }
        let (good, state) = state(key);
        let state = match (good, row.good, row.soon) {
            (true, false, _) => paint(BAD, "no longer declared"),
            (true, _, true) => paint(WARN, state),
            (true, ..) => state,
            (false, ..) => paint(DIM, state),
        };
        let mut user = row.user.clone();
        if let Some(first) = &row.replaces {
            user.push_str(&paint(DIM, format!("\nto replace {first}")));
        }
        table.row([
            row.key.clone(),
            user,
            may.join("\n"),
            ago(key.issued, now()),
            state,
            last_use(key),
        ]);
    }
    context.output.result(table.text());
}
