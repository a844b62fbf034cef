//! Causes behind a refusal: what is not granted, what is not there, and what hides which of the two.

use super::existence::gone;
use super::sign_in::{by_credential, no_credential, sign_in, unfit};
use super::{Certain, Evidence, FoundCause, Likely, Visit, found, quoted};
use crate::diagnosis::Cause;
use crate::diagnosis::evidence::{ContentAccess, Credential, Policy};

pub(super) fn without_access(
    e: &Evidence,
    visit: &Visit,
    shown: bool,
    said: Option<&String>,
) -> FoundCause {
    if let Some(gone) = gone(e, visit) {
        return gone;
    }
    if visit.ours
        && let Some(denied) = denied(e)
    {
        return denied;
    }
    let asked = e.record.is_some() && (!visit.ours || e.policy.is_some());
    let known = if asked { Certain } else { Likely };
    if !shown {
        let credential = e.credential.as_ref();
        return credential
            .map_or_else(
                || no_credential(e, visit).at_most(Likely),
                |credential| by_credential(e, visit, credential, shown, said),
            )
            .at_most(known);
    }
    let told = format!(
        "{} signs the pod in, and does not let it pull {}{}",
        visit.host,
        e.written,
        quoted(said)
    );
    found(Cause::TokenWithoutAccess, known, told)
        .say("ask there for the account's right to pull this repository")
        .say("check the repository's name: some registries answer so for what does not exist")
}

/// What rules and grants deny. None: nothing, or nobody asked.
pub(super) fn denied(e: &Evidence) -> Option<FoundCause> {
    let at =
        |line: &Option<String>| line.as_ref().map(|line| format!(" ({line})")).unwrap_or_default();
    match e.policy.as_ref()? {
        Policy::Rule { reason, line } => Some(
            found(
                Cause::RuleDenies,
                Certain,
                format!("{} is refused by {reason}{}", e.written, at(line)),
            )
            .run(
                "see what decides",
                format!(
                    "larder policy explain {} --cluster CLUSTER --namespace NAMESPACE",
                    e.written
                ),
            )
            .say("do what the rule's reason says, or have it changed"),
        ),
        Policy::Grant { who, repository, line } => Some(
            found(
                Cause::GrantMissing,
                Certain,
                format!("{who} has no grant to pull {repository}{}", at(line)),
            )
            .say(format!("add `\"{repository}\"` to the `pull` grants of the asker in larder.toml"))
            .run(
                "see what it may pull, and by which line",
                format!(
                    "larder policy explain {} --cluster CLUSTER --namespace NAMESPACE",
                    e.written
                ),
            ),
        ),
        Policy::Allows | Policy::Elsewhere => None,
    }
}

pub(super) fn forbidden(e: &Evidence, visit: &Visit, said: Option<&String>) -> FoundCause {
    let says = |words: &str| said.is_some_and(|said| said.contains(words));
    if visit.ours {
        if says("in a way that is believed") || says("which cluster") || says("knows no cluster") {
            let told = format!(
                "{} does not believe where the node comes from{}",
                visit.host,
                quoted(said)
            );
            return found(Cause::StrangeNode, Certain, told)
                .say("let the larder believe its nodes: `nodes = [\"10.4.0.0/16\"]` (their networks) or `certificate` of the [[cluster]]")
                .run(
                    "write the nodes' configuration anew, if it names another cluster",
                    "larder handoff write CLUSTER --nodes --into INTO",
                );
        }
        if says("nobody signed in") {
            return sign_in(e, visit, false, said);
        }
        if let Some(gone) = gone(e, visit) {
            return gone;
        }
        if let Some(denied) = denied(e) {
            return denied;
        }
        let told = format!("{} refuses{}", visit.host, quoted(said));
        let cause = match () {
            () if says("rule `") => Cause::RuleDenies,
            () if says("may not pull") => Cause::GrantMissing,
            () => Cause::Forbidden,
        };
        let confidence = if e.policy.is_some() { Certain } else { Likely };
        let confidence = if cause == Cause::Forbidden { confidence.min(Likely) } else { Likely };
        return found(cause, confidence, told)
            .run("see the recorded decision", "larder log --kind refused");
    }
    if let Some(gone) = gone(e, visit) {
        return gone;
    }
    let there = e.record.as_ref().is_some_and(|record| record.access == ContentAccess::There);
    if let Some(Credential::Unfit(fault)) = &e.credential {
        return unfit(visit, fault).at_most(if there { Certain } else { Likely });
    }
    let known = if there && e.credential.is_some() { Certain } else { Likely };
    let what = if there { "is there, and may not be pulled" } else { "may not be pulled" };
    found(
        Cause::Forbidden,
        known,
        format!("{} {what}: {} answers 403{}", e.written, visit.host, quoted(said)),
    )
    .say("ask there for the right to pull it, with the account that the pod uses")
}

pub(super) fn absent(e: &Evidence, visit: &Visit) -> FoundCause {
    if let Some(gone) = gone(e, visit) {
        return gone;
    }
    if e.record.is_some() {
        let told = format!(
            "{} is there; the asker may not see it, and {} answers as if it were not",
            e.written, visit.host
        );
        let denied = if visit.ours { denied(e) } else { None };
        return denied.unwrap_or_else(|| {
            let confidence = if visit.ours { Likely } else { Certain };
            found(Cause::Forbidden, confidence, told).say("give the pod an account that may see it")
        });
    }
    let told = format!("{} has no {}, or does not show it to the asker", visit.host, e.written);
    found(Cause::AbsentOrHidden, Likely, told)
        .run("look with your own account", format!("larder look {}", e.written))
        .say("give `--online`, so that it is asked with the configured credentials")
}
