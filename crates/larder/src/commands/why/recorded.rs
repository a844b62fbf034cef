//! A refusal by its number: what the larder recorded when it decided.

use larder_core::diagnosis::{Cause, Confidence, Finding, Remedy, Verdict};
use larder_store::{Filter, Kind};

use super::Args;
use super::ask::{Answer, Asked};
use super::show;
use crate::config::Config;
use crate::context::{Context, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::time;

pub(super) async fn show(
    number: &str,
    _args: &Args,
    config: Option<&Config>,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot look up {}", number.escape_debug());
    let number = number.trim_matches(['[', ']']);
    let store = config.map(store_if_any).transpose()?.flatten();
    let Some(store) = store else {
        let cause = "there is no larder here that could have recorded it";
        return Err(Failure::usage(what(), cause, "name its configuration with `--config`"));
    };
    let filter = Filter { number: Some(number.to_owned()), ..Filter::default() };
    let entries = store.record.entries(filter).await;
    let entries = entries.map_err(|error| Failure::store(what(), &error))?;
    let Some(entry) = entries.into_iter().next() else {
        let cause = "nothing of this number is in the record";
        let remedy = "the record keeps `record` of [larder] (90d); is the number whole?";
        return Err(Failure::usage(what(), cause, remedy).ending(Exit::Remote));
    };
    let text = entry.text.as_str();
    let cause = match entry.kind {
        Kind::Refused if text.contains("rule `") => Cause::RuleDenies,
        Kind::Refused if text.contains("nobody signed in") => Cause::NoCredential,
        Kind::Refused if text.contains("may not") => Cause::GrantMissing,
        Kind::Failed => Cause::WrongCredential,
        _ => Cause::Forbidden,
    };
    let line = entry.line.as_ref().map(|line| format!(", decided by {line}")).unwrap_or_default();
    let who = if entry.who.is_empty() { "somebody who did not sign in" } else { &entry.who };
    let told = format!("{text} ({who}, {}{line})", time(entry.last));
    let written = entry.reference.clone().unwrap_or_default();
    let finding = Finding {
        cause,
        confidence: Confidence::Certain,
        told,
        ruled_out: Vec::new(),
        remedies: vec![
            Remedy {
                text: "see all that is recorded of it".into(),
                command: Some(format!("larder log {number}")),
            },
            Remedy {
                text: "see whether it still is so".into(),
                command: Some(format!("larder policy explain {written} --cluster CLUSTER")),
            },
        ],
    };
    let answer = Answer {
        asked: Asked { written, ..Asked::default() },
        verdict: Verdict::Fails(finding),
        steps: Vec::new(),
        limits: Vec::new(),
    };
    Ok(show::answers(&[answer], context))
}
