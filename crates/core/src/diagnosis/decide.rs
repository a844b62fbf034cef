//! From the evidence to the cause. Every branch that is certain has looked at all that could speak
//! against it; where one of these is not known, it is likely at most.

mod access;
mod alone;
mod existence;
mod sign_in;
mod weigh;

use super::describe::{quoted, span};
use super::evidence::{
    ContentAccess, Evidence, HostOutcome, NameEvidence, Nodes, Policy, Through, Visit,
};
use super::{Cause, Confidence, Diagnosis, PullStep, PullVerdict, Remedy};
use crate::reference::MalformedReference;
use Confidence::{Certain, Likely, Possible};
use access::{absent, denied, forbidden, without_access};
use alone::by_answer_alone;
use existence::gone;
use sign_in::sign_in;
use weigh::weigh;

/// A cause before it is put into words: the sentence, and what to do.
struct FoundCause {
    cause: Cause,
    confidence: Confidence,
    told: String,
    remedies: Vec<Remedy>,
}

fn found(cause: Cause, confidence: Confidence, told: impl Into<String>) -> FoundCause {
    FoundCause { cause, confidence, told: told.into(), remedies: Vec::new() }
}

impl FoundCause {
    fn say(mut self, text: impl Into<String>) -> Self {
        self.remedies.push(Remedy::say(text));
        self
    }

    fn run(mut self, text: impl Into<String>, command: impl Into<String>) -> Self {
        self.remedies.push(Remedy::run(text, command));
        self
    }

    /// How the image gets into the larder, where there is a name to get it by.
    fn wanted(self, e: &Evidence) -> Self {
        match (&e.record, &e.origin) {
            (Some(record), _) if record.at_upstream && record.access != ContentAccess::There => {
                self
            }
            (_, Some(origin)) => self.run("bring it in", format!("larder intake add {origin}")),
            (_, None) => self,
        }
    }

    fn at_most(mut self, confidence: Confidence) -> Self {
        self.confidence = self.confidence.min(confidence);
        self
    }
}

/// Finds the cause.
pub fn diagnose(evidence: &Evidence) -> PullVerdict {
    weigh(evidence, both_ways(evidence, by_asking(evidence)))
}

/// Where it is not known whether the node is led through the larder, both ways are judged.
fn both_ways(e: &Evidence, straight: PullVerdict) -> PullVerdict {
    match (straight, &e.through) {
        (PullVerdict::Fails(finding), Some(Through::Gives)) if e.event.is_none() => {
            undecided(vec![format!(
                "which way the node takes (`--nodes DIR`): led through the larder, it gets the image; else {}: {}",
                finding.cause.title(),
                finding.told
            )])
        }
        (PullVerdict::Succeeds(mut odd), Some(Through::Refuses(policy))) => {
            let refused = Evidence { policy: Some(policy.clone()), ..e.clone() };
            odd.extend(access::denied(&refused).map(|answer| {
                let told = format!("a node that is led through the larder: {}", answer.told);
                finish(e, None, FoundCause { told, ..answer }.at_most(Possible))
            }));
            PullVerdict::Succeeds(odd)
        }
        (straight, _) => straight,
    }
}

/// What is found without what the node said.
fn by_asking(e: &Evidence) -> PullVerdict {
    if let Some(NameEvidence::Malformed(malformed)) = &e.name {
        return fails(e, None, malformed_name(malformed));
    }
    let mut skipped = Vec::new();
    let mut unknown = Vec::new();
    for visit in &e.visits {
        match &visit.outcome {
            None => unknown.push(format!("what {} answers", visit.host)),
            Some(HostOutcome::Pulls { .. }) if !unknown.is_empty() => return undecided(unknown),
            Some(HostOutcome::Pulls { digest, expected, alone, stale }) => {
                return pulls(
                    e,
                    visit,
                    (digest, expected.as_ref(), alone.as_ref(), *stale),
                    skipped,
                );
            }
            Some(outcome) if is_final(outcome) => break,
            Some(outcome) if visit.mirror => skipped.push(mirror_skipped(visit, outcome)),
            Some(_) => {}
        }
    }
    let Some(visit) = deciding(&e.visits) else { return without_visits(e, unknown) };
    let Some(outcome) = &visit.outcome else { return without_visits(e, unknown) };
    let mut answer = at_host(e, visit, outcome);
    // What another host answered could be what the node stumbled over.
    if !unknown.is_empty() || e.name.is_none() {
        answer = answer.at_most(Likely);
    }
    fails(e, Some(visit), led_astray(e, visit, answer))
}

/// What a runtime does not go on from to the next host (measured: wrong bytes, answers that are no
/// answers, silence).
fn is_final(outcome: &HostOutcome) -> bool {
    matches!(
        outcome,
        HostOutcome::BlobCorrupt(_)
            | HostOutcome::BlobLength(_)
            | HostOutcome::OddHead(_)
            | HostOutcome::Stalled
            | HostOutcome::ManifestTooLarge(_)
    )
}

/// The visit whose error the runtime shows: the first that is not "not found", else the first. One that
/// it does not go on from is it in any case.
fn deciding(visits: &[Visit]) -> Option<&Visit> {
    let known = || visits.iter().filter(|visit| visit.outcome.is_some());
    let outcome = |visit: &&Visit| visit.outcome.as_ref().is_some_and(is_final);
    known()
        .find(outcome)
        .or_else(|| known().find(|visit| visit.outcome != Some(HostOutcome::NotFound)))
        .or_else(|| known().find(|visit| visit.ours))
        .or_else(|| known().next())
}

fn fails(e: &Evidence, visit: Option<&Visit>, found: FoundCause) -> PullVerdict {
    PullVerdict::Fails(finish(e, visit, found))
}

fn undecided(missing: Vec<String>) -> PullVerdict {
    PullVerdict::Undecided(missing)
}

fn finish(e: &Evidence, visit: Option<&Visit>, found: FoundCause) -> Diagnosis {
    let FoundCause { cause, confidence, told, remedies } = found;
    let mut ruled_out = Vec::new();
    for step in PullStep::ALL.into_iter().filter(|step| *step < cause.step()) {
        let holds = match step {
            PullStep::Name => matches!(e.name, Some(NameEvidence::Reads { .. })),
            PullStep::Policy => e.policy == Some(Policy::Allows),
            PullStep::Route => matches!(&e.nodes, Some(Nodes::Read(_) | Nodes::None)),
            // A host that answered at a later step was reached, believed and let in before.
            _ => visit.is_some_and(|visit| visit.outcome.is_some()),
        };
        if holds {
            ruled_out.push(step);
        }
    }
    Diagnosis { cause, confidence, told, ruled_out, remedies, or: Vec::new() }
}

fn malformed_name(malformed: &MalformedReference) -> FoundCause {
    let cause = Cause::of_name(malformed);
    let told = format!("no node can read the reference: {}", malformed.reason);
    let answer = found(cause, Certain, told);
    match &malformed.proposal {
        Some(meant) => answer
            .say(format!("write {meant}"))
            .run("mend the deployments", "larder rewrite --fix --diff DEPLOYMENTS"),
        None if cause == Cause::Placeholder => {
            answer.say("render the deployment before it is applied: something was to fill this in")
        }
        None => answer.say("write it as HOST/REPOSITORY:TAG"),
    }
}

/// What is odd although the image can be pulled.
fn pulls(
    e: &Evidence,
    visit: &Visit,
    (digest, expected, alone, stale): (&String, Option<&String>, Option<&String>, bool),
    skipped: Vec<FoundCause>,
) -> PullVerdict {
    if let Some(image) = alone {
        let Some(node) = &e.platform else {
            return undecided(vec!["the platform of the node (`--platform`)".into()]);
        };
        let parse = |text: &str| text.parse::<crate::platform::Platform>().ok();
        let suits =
            parse(image).zip(parse(node)).is_none_or(|(image, node)| image.suits(&node).is_some());
        if !suits {
            let told = format!(
                "{} is one image alone, for {image}; nodes with {node} pull it, and it does not start",
                e.written
            );
            let answer = found(Cause::WrongArchitecture, Certain, told)
                .run("look for a tag that is made for both", format!("larder look {}", e.written))
                .say("ask its maker for an index with your platform, or keep the pod off these nodes");
            return fails(e, Some(visit), answer);
        }
    }
    let mut odd = skipped;
    match &e.nodes {
        Some(Nodes::NotRead(why)) => odd.push(not_read(why)),
        Some(Nodes::Dropped(why)) => odd.push(dropped(why)),
        _ => {}
    }
    if let Some(expected) = expected.filter(|expected| *expected != digest) {
        let told = format!("the tag points to {digest} now; expected is {expected}");
        odd.push(
            found(Cause::TagMoved, Certain, told)
                .run("see what changed", format!("larder look {}", e.written))
                .run("pin what you mean", "larder rewrite --pin --diff DEPLOYMENTS"),
        );
    }
    if stale {
        let told =
            format!("{} serves an older answer, because its upstream cannot be asked", visit.host);
        odd.push(
            found(Cause::StaleServed, Certain, told)
                .run("see how the upstream stands", "larder check"),
        );
    }
    if let Some(cause) = e.by_default {
        let told = format!(
            "a node that has no file for {} asks it by HTTPS, and {}",
            visit.host,
            match cause {
                Cause::PlainHttp => "it speaks plain HTTP".to_owned(),
                other => other.title().to_owned(),
            }
        );
        odd.push(
            found(cause, Possible, told)
                .run("write the file", "larder handoff write CLUSTER --nodes --into INTO")
                .say("give a copy of the node's folder, which tells which it is: `--nodes DIR`"),
        );
    }
    PullVerdict::Succeeds(odd.into_iter().map(|one| finish(e, Some(visit), one)).collect())
}

fn mirror_skipped(visit: &Visit, outcome: &HostOutcome) -> FoundCause {
    let host = &visit.host;
    let told = format!("the mirror {host} is skipped in silence: {}", outcome.described());
    let answer = found(Cause::MirrorSkipped, Certain, told);
    match outcome {
        HostOutcome::Unauthorized { .. } | HostOutcome::TokenRefused { .. } => answer
            .say("a mirror that answers 401 is also shown the pull secrets of upstreams; it must answer 403 or serve"),
        HostOutcome::Forbidden(_) => {
            answer.run("see why it refuses", "larder log --kind refused")
        }
        HostOutcome::NotFound => answer.say("check that the mirror is one of this upstream: it does not have the image"),
        _ => answer.say("mend the mirror; the node's journal tells of it at debug level only"),
    }
}

fn not_read(why: &str) -> FoundCause {
    found(
        Cause::MirrorNotRead,
        Certain,
        format!("the node has mirror files that its runtime does not read: {why}"),
    )
    .say("set `config_path` in the runtime's configuration to the folder, and restart it once")
    .run("see what the runtime would read", "larder check --nodes NODES")
}

fn dropped(why: &str) -> FoundCause {
    found(
        Cause::MirrorFile,
        Certain,
        format!("the runtime drops the mirror file and goes straight to the upstream: {why}"),
    )
    .run("see where the error is", "larder check --nodes NODES")
    .run("write it anew", "larder handoff write CLUSTER --nodes --into INTO")
}

/// A fault of the mirror files is what leads a node to a host that it cannot use.
fn led_astray(e: &Evidence, visit: &Visit, answer: FoundCause) -> FoundCause {
    if visit.ours || visit.mirror {
        return answer;
    }
    let confidence = answer.confidence;
    match &e.nodes {
        Some(Nodes::NotRead(why)) => not_read(why).at_most(confidence),
        Some(Nodes::Dropped(why)) => dropped(why).at_most(confidence),
        // There may be mirrors of which we do not know.
        None => answer.at_most(Likely),
        Some(Nodes::Read(_) | Nodes::None) => short_name(e, answer),
    }
}

/// A short name that the node and the larder read differently.
fn short_name(e: &Evidence, answer: FoundCause) -> FoundCause {
    let Some(NameEvidence::Reads { node, here: Some(here) }) = &e.name else { return answer };
    let confidence = match &e.record {
        Some(record) if record.access == ContentAccess::There => Certain,
        Some(_) => return answer,
        None => Likely,
    };
    let told = format!(
        "`{}` means {node} to a node; larder.toml reads it as {here}, which is another image",
        e.written
    );
    found(Cause::ShortName, confidence.min(answer.confidence.max(Likely)), told)
        .say(format!("write {here}"))
        .run("write the larder's name into the deployments", "larder rewrite --diff DEPLOYMENTS")
}

/// What is wrong where a host was asked and did not let the image be pulled.
fn at_host(e: &Evidence, visit: &Visit, outcome: &HostOutcome) -> FoundCause {
    let host = &visit.host;
    match outcome {
        HostOutcome::Pulls { .. } => found(Cause::OddHead, Possible, "it can be pulled"),
        HostOutcome::Unauthorized { shown, said } => sign_in(e, visit, *shown, said.as_ref()),
        HostOutcome::TokenRefused { status: 400..=404, shown, said } => {
            sign_in(e, visit, *shown, said.as_ref())
        }
        HostOutcome::TokenRefused { status, said, .. } => found(
            Cause::TokenRefused,
            Certain,
            format!("the token service of {host} answers {status}{}", quoted(said.as_ref())),
        )
        .say("try again later, and tell its operator"),
        HostOutcome::TokenWithoutAccess { shown, said } => {
            without_access(e, visit, *shown, said.as_ref())
        }
        HostOutcome::Forbidden(said) => forbidden(e, visit, said.as_ref()),
        HostOutcome::NotFound => absent(e, visit),
        HostOutcome::RateLimited(again) => limited(e, host, *again),
        HostOutcome::Failing { status, said } => {
            let said = quoted(said.as_ref());
            match visit.ours && matches!(status, 502..=504) {
                true => found(
                    Cause::UpstreamDown,
                    Certain,
                    format!(
                        "{host} cannot ask the upstream of this shelf: it answers {status}{said}"
                    ),
                )
                .run("see how the upstream stands", "larder check")
                .run("once it is back, fetch ahead", format!("larder shelf warm {}", e.written)),
                false => found(Cause::Failing, Certain, format!("{host} answers {status}{said}"))
                    .say("try again later; if it lasts, ask its operator")
                    .say("bring the image in, so that it does not matter next time"),
            }
        }
        other => by_answer_alone(e, host, other),
    }
}

fn limited(e: &Evidence, host: &str, again: Option<u64>) -> FoundCause {
    let when = again.map_or_else(
        || "it does not say until when".to_owned(),
        |seconds| format!("it may be asked again in {}", span(seconds)),
    );
    found(Cause::RateLimited, Certain, format!("{host} limits how much is pulled; {when}"))
        .say("nodes ask again at once, six times, which makes it worse")
        .wanted(e)
        .say("put a cached shelf in front of it: one fetch for all nodes")
}

/// What no visit can tell: what is known without one.
fn without_visits(e: &Evidence, mut missing: Vec<String>) -> PullVerdict {
    if let Some(denied) = denied(e) {
        return fails(e, None, denied.at_most(Likely));
    }
    let here = Visit { host: "the larder".into(), mirror: false, ours: true, outcome: None };
    if let Some(gone) = gone(e, &here) {
        return fails(e, None, gone.at_most(Likely));
    }
    if missing.is_empty() {
        missing.push("what the hosts answer".into());
    }
    undecided(missing)
}
