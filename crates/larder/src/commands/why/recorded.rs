//! A refusal by its number: what the larder recorded when it decided.

use larder_core::diagnosis::{Cause, Confidence, Diagnosis, PullVerdict, Remedy, refusal};
use larder_store::{Filter, RecordEntry, RecordKind, Store};

use super::ask::{ImageQuestion, WhyAnswer};
use super::show;
use crate::config::Config;
use crate::context::{Context, store_if_any};
use crate::failure::{Exit, Failure, Outcome};
use crate::output::time;

pub(super) async fn show(number: &str, config: Option<&Config>, context: &Context) -> Outcome {
    let what = || format!("cannot look up {}", number.escape_debug());
    let number = number.trim_matches(['[', ']']);
    let store = config.map(store_if_any).transpose()?.flatten();
    let Some(store) = store else {
        let cause = "there is no larder here that could have recorded it";
        return Err(Failure::usage(what(), cause, "name its configuration with `--config`"));
    };
    let filter = Filter { number: Some(number.to_owned()), ..Filter::default() };
    let entries = store.entries(filter).await;
    let entries = entries.map_err(|error| Failure::store(what(), &error))?;
    let Some(entry) = entries.into_iter().next() else {
        let cause = "nothing of this number is in the record";
        let remedy = "check that the number is whole; the record goes back as far as `record` in [larder] says (90d)";
        return Err(Failure::usage(what(), cause, remedy).ending(Exit::Remote));
    };
    let Some((cause, told)) = cause_of(&entry) else {
        let kind = entry.kind.word();
        let cause = format!("it is the number of a {kind}, not of a refusal");
        let remedy = format!("`larder log {number}` shows it");
        return Err(Failure::usage(what(), cause, remedy).ending(Exit::Remote));
    };
    let written = entry.reference.clone().unwrap_or_default();
    let mut remedies =
        vec![Remedy::run("see all that is recorded of it", format!("larder log {number}"))];
    let (cluster, namespace) = entry.who.split_once('/').unwrap_or((&entry.who, ""));
    let is_cluster = config.is_some_and(|config| config.cluster(cluster).is_some());
    if is_cluster && !written.is_empty() {
        let mut command = format!("larder policy explain {written} --cluster {cluster}");
        if !namespace.is_empty() {
            command.push_str(&format!(" --namespace {namespace}"));
        }
        remedies.push(Remedy::run("see whether it still is so", command));
    }
    let mends = [Cause::KeyRevoked, Cause::KeyExpired, Cause::KeyUnknown, Cause::WrongCredential];
    if mends.contains(&cause) {
        let account =
            config.and_then(|it| it.accounts.iter().find(|one| *one.name.get_ref() == entry.who));
        remedies.insert(
            0,
            match account {
                Some(_) => Remedy::run(
                    "issue a new one",
                    format!("larder key issue --account {}", entry.who),
                ),
                None if is_cluster => {
                    Remedy::run("hand over a new one", format!("larder handoff apply {cluster}"))
                }
                None => {
                    Remedy::say("signing in needs a good key: `larder key list` shows the keys")
                }
            },
        );
    }
    let finding = Diagnosis {
        cause,
        confidence: Confidence::Certain,
        told,
        ruled_out: Vec::new(),
        remedies,
        or: Vec::new(),
    };
    let answer = WhyAnswer {
        asked: ImageQuestion { written, ..ImageQuestion::default() },
        verdict: PullVerdict::Fails(finding),
        steps: Vec::new(),
        limits: Vec::new(),
    };
    Ok(show::answers(vec![answer], context))
}

/// What a recorded refusal was about, in its sentence. None: nothing was refused.
fn cause_of(entry: &RecordEntry) -> Option<(Cause, String)> {
    let text = entry.text.as_str();
    let cause = match entry.kind {
        RecordKind::Refused => refusal(text).unwrap_or(Cause::Forbidden),
        RecordKind::Failed => refusal(text).unwrap_or(Cause::WrongCredential),
        RecordKind::Probe => refusal(text)?,
        _ => return None,
    };
    let line = entry.line.as_ref().map(|line| format!(", decided by {line}")).unwrap_or_default();
    let who = if entry.who.is_empty() { "somebody who did not sign in" } else { &entry.who };
    Some((cause, format!("{text} ({who}, {}{line})", time(entry.last))))
}

/// What the larder recorded under a number.
pub(super) struct RecordedRefusal {
    pub cause: Cause,
    pub text: String,
    /// Who was refused, by the user's name.
    pub who: String,
}

/// What the larder recorded under a number. None: nothing of it, or nothing was refused.
pub(super) async fn look_up(
    store: &Store,
    number: &str,
) -> Result<Option<RecordedRefusal>, Failure> {
    let filter = Filter { number: Some(number.to_owned()), ..Filter::default() };
    let entries = store.entries(filter).await;
    let entries =
        entries.map_err(|error| Failure::store(format!("cannot look up {number}"), &error))?;
    let first = entries.into_iter().next();
    Ok(first.and_then(|entry| {
        cause_of(&entry).map(|(cause, text)| RecordedRefusal { cause, text, who: entry.who })
    }))
}
