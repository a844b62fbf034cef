//! `larder key list`: who has keys.

use larder_core::quantity::Span;
use larder_store::{KeyRecord, Store, now};
use schemars::JsonSchema;
use serde::Serialize;

use super::{last_use, state};
use crate::config::Config;
use crate::context::Context;
use crate::failure::{Exit, Outcome};
use crate::keys::failed;
use crate::output::{BAD, DIM, Output, Report, Table, WARN, ago, count, paint, time};

/// List the keys: whose, what they may do, how old, until when, last used when and from where
///
/// Exit status 1 says that a key expires soon.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// Also those that are revoked or have expired
    #[arg(long)]
    all: bool,
    /// What "soon" is
    #[arg(long, value_name = "SPAN", default_value = "14d")]
    soon: Span,
}

#[derive(Serialize, JsonSchema)]
pub struct KeysReport {
    keys: Vec<KeyRow>,
    /// What "soon" is, as it was asked.
    #[serde(skip)]
    soon: Span,
}

#[derive(Serialize, JsonSchema)]
struct KeyRow {
    key: String,
    user: String,
    /// Whether it lets anybody in now.
    good: bool,
    /// Whether it expires soon, and nothing that lasts longer was issued beside it.
    expires_soon: bool,
    issued_at: String,
    expires_at: Option<String>,
    revoked_at: Option<String>,
    replaces: Option<String>,
    used_at: Option<String>,
    /// The address that used it last.
    used_from: Option<String>,
    pull: Vec<String>,
    push: Vec<String>,
    delete: Vec<String>,
    #[serde(skip)]
    record: KeyRecord,
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
        rows.push(KeyRow {
            key: key.id.to_string(),
            user: key.user.clone(),
            good: good && who.is_some(),
            expires_soon: ends_soon(key, &keys, at, soon),
            issued_at: time(key.issued),
            expires_at: key.expires.map(time),
            revoked_at: key.revoked.map(time),
            replaces: key.replaces.as_ref().map(ToString::to_string),
            used_at: key.used.map(time),
            used_from: key.used_from.clone().filter(|from| !from.is_empty()),
            pull: texts(|permits| &permits.pull),
            push: texts(|permits| &permits.push),
            delete: texts(|permits| &permits.delete),
            record: key.clone(),
        });
    }
    let report = KeysReport { keys: rows, soon: args.soon };
    context.output.tell(&report);
    Ok(if report.ending() > 0 { Exit::No } else { Exit::Done })
}

fn ends_soon(key: &KeyRecord, all: &[KeyRecord], at: i64, soon: i64) -> bool {
    let ends = |key: &KeyRecord| key.expires.is_some_and(|end| end < soon);
    let mut others = all.iter().filter(|other| other.user == key.user && other.id != key.id);
    key.is_good(at) && ends(key) && !others.any(|other| other.is_good(at) && !ends(other))
}

impl KeysReport {
    fn ending(&self) -> usize {
        self.keys.iter().filter(|row| row.expires_soon).count()
    }
}

impl Report for KeysReport {
    const KIND: &'static str = "keys";

    fn show(&self, out: &Output) {
        if self.keys.is_empty() {
            out.result("no keys were issued");
            return;
        }
        let columns = ["KEY", "USER", "MAY", "ISSUED", "STATE", "LAST USED"];
        let mut table = Table::new(out.width(), &columns).sparing(&["ISSUED", "LAST USED"]);
        for row in &self.keys {
            table.row(row.cells());
        }
        out.table(&table);
        let ending = self.ending();
        if ending > 0 {
            out.note(format!(
                "{} within {}. Next: `larder key rotate` issues the next one beside it.",
                count(ending, "key") + if ending == 1 { " expires" } else { " expire" },
                self.soon
            ));
        }
    }
}

impl KeyRow {
    fn cells(&self) -> [String; 6] {
        let (row, key) = (self, &self.record);
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
        let state = match (good, row.good, row.expires_soon) {
            (true, false, _) => paint(BAD, "no longer declared"),
            (true, _, true) => paint(WARN, state),
            (true, ..) => state,
            (false, ..) => paint(DIM, state),
        };
        let mut user = row.user.clone();
        if let Some(first) = &row.replaces {
            user.push_str(&paint(DIM, format!("\nto replace {first}")));
        }
        let issued = ago(key.issued, now());
        [row.key.clone(), user, may.join("\n"), issued, state, last_use(key)]
    }
}
