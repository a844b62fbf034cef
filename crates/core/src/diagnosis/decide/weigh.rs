//! What a node or a larder said, beside what is found from here: what they said decides, and what is found from here
//! explains it where both fit.

use super::sign_in::to_sign_in;
use super::{FoundCause, Likely, Possible, finish, found};
use crate::diagnosis::event::{PullEvent, WordingFit, refusal};
use crate::diagnosis::{Cause, Confidence, Credential, Diagnosis, Evidence, PullStep, PullVerdict};

/// Brings together what was found from here with what the node said.
pub(super) fn weigh(e: &Evidence, asked: PullVerdict) -> PullVerdict {
    if let PullVerdict::Fails(finding) = &asked
        && finding.cause.step() == PullStep::Name
        && finding.confidence == Confidence::Certain
    {
        return asked;
    }
    // A line of the record that is not about what the node was told is another one's.
    let told_otherwise = |cause: Cause| {
        let sentence = e.event.as_ref().and_then(|event| refusal(&event.text));
        sentence.is_some_and(|sentence| sentence != cause)
    };
    if let Some((cause, told)) = e.recorded.as_ref().filter(|(cause, _)| !told_otherwise(*cause)) {
        let said = WordingFit { cause: *cause, told: told.clone(), or: Vec::new() };
        let answer = |confidence, told: String| {
            finish(e, None, with_remedies(e, found(said.cause, confidence, told)))
        };
        return match asked {
            PullVerdict::Fails(finding) if explains(e, &said, finding.cause) => {
                PullVerdict::Fails(finding)
            }
            PullVerdict::Succeeds(mut odd) if is_mended(e, said.cause) => {
                odd.push(answer(Possible, format!("the node was told before: {}", said.told)));
                PullVerdict::Succeeds(odd)
            }
            _ => PullVerdict::Fails(answer(Confidence::Certain, said.told.clone())),
        };
    }
    let Some(event) = &e.event else { return asked };
    let Some(said) = event.said() else {
        return match asked {
            // It fails there: that it would not fail here does not say why.
            PullVerdict::Succeeds(_) => PullVerdict::Undecided(vec![
                "what the node said beyond that it failed: asked from here, the image can be pulled"
                    .into(),
            ]),
            other => other,
        };
    };
    match asked {
        PullVerdict::Fails(finding) if explains(e, &said, finding.cause) => {
            PullVerdict::Fails(finding)
        }
        PullVerdict::Fails(finding) => {
            let told = format!("{}; asked from here: {}", said.told, finding.told);
            by_event(e, event, said, told)
        }
        PullVerdict::Succeeds(mut odd) if is_mended(e, said.cause) => {
            let told = format!("the node was told before: {}", said.told);
            odd.push(finish(e, None, with_remedies(e, found(said.cause, Possible, told))));
            PullVerdict::Succeeds(odd)
        }
        PullVerdict::Succeeds(_) => {
            let told = format!("{}; asked from here, it can be pulled", said.told);
            by_event(e, event, said, told)
        }
        PullVerdict::Undecided(_) => {
            let told = said.told.clone();
            by_event(e, event, said, told)
        }
    }
}

/// Whether a pull that is made with the pod's own secret, and succeeds, shows that the failure is over: what a
/// registry decides by who asks for what has been asked again, and decided otherwise.
fn is_mended(e: &Evidence, cause: Cause) -> bool {
    let decided = [PullStep::Policy, PullStep::SignIn, PullStep::Permission, PullStep::Existence];
    matches!(&e.credential, Some(Credential::Fits(_))) && decided.contains(&cause.step())
}

fn by_event(e: &Evidence, event: &PullEvent, said: WordingFit, told: String) -> PullVerdict {
    let confidence = if said.or.is_empty() { Likely } else { Possible };
    let mut answer = with_remedies(e, found(said.cause, confidence, told));
    if e.visits.iter().all(|visit| visit.outcome.is_none()) && event.number.is_none() {
        answer = answer.say("leave `--offline` out, so that the hosts are asked");
    }
    let finding = finish(e, None, answer);
    PullVerdict::Fails(Diagnosis { or: said.or, ..finding })
}

/// What can be done about a cause of which nothing but its name is known.
fn with_remedies(e: &Evidence, answer: FoundCause) -> FoundCause {
    let cause = answer.cause;
    let number = e.event.as_ref().and_then(|event| event.number.as_ref());
    let said = e.event.as_ref().and_then(|event| refusal(&event.text)).is_some();
    let ours = said || e.recorded.is_some() || e.visits.iter().any(|visit| visit.ours);
    let explain =
        || format!("larder policy explain {} --cluster CLUSTER --namespace NAMESPACE", e.written);
    let mut answer = match cause {
        Cause::StrangeNode => answer
            .say("let the larder believe its nodes: `nodes = [\"10.4.0.0/16\"]` or `certificate` of the [[cluster]] in larder.toml"),
        Cause::NoCredential if ours => to_sign_in(e, answer),
        Cause::KeyRevoked | Cause::KeyExpired | Cause::KeyUnknown | Cause::WrongCredential if ours => {
            answer.run("write new pull secrets", "larder handoff apply CLUSTER")
        }
        Cause::RuleDenies | Cause::GrantMissing if ours && !e.written.is_empty() => {
            answer.run("see what decides", explain())
        }
        Cause::OutsideShelf => {
            answer.say("let the [[shelf]] take it in (`only`, `skip`), or bring the image in")
        }
        Cause::NoShelf => answer.say("write the shelf's name, or declare it with [[shelf]]"),
        Cause::UnknownAuthority if ours => answer.run(
            "give the nodes the authority",
            "larder handoff write CLUSTER --nodes --ca AUTHORITY --into INTO",
        ),
        Cause::PlainHttp if ours => answer.run(
            "tell the nodes how the larder speaks",
            "larder handoff write CLUSTER --nodes --into INTO",
        ),
        Cause::MirrorFile | Cause::MirrorNotRead => {
            answer.run("see what the runtime reads", "larder check --nodes NODES")
        }
        Cause::UpstreamDown => answer.run("see how the upstream stands", "larder check"),
        _ => answer,
    };
    if let Some(number) = number {
        answer = answer.run("see what was recorded of it", format!("larder log {number}"));
    }
    answer.run("read more", format!("larder help cause {}", cause.word()))
}

/// Whether a cause that was found from here is behind what the node said: the same, or one of those of which nodes
/// say this.
fn explains(e: &Evidence, said: &WordingFit, here: Cause) -> bool {
    use Cause as C;
    if said.cause == here || said.or.contains(&here) {
        return true;
    }
    // Who asks without credentials, because nobody looked for the pod's, learns nothing of the pod's.
    if here == C::NoCredential && e.credential.is_none() {
        return false;
    }
    let step = here.step();
    match said.cause {
        C::NoCredential => {
            matches!(step, PullStep::SignIn | PullStep::Permission) && here != C::WrongCredential
        }
        C::WrongCredential => matches!(
            here,
            C::KeyExpired | C::KeyRevoked | C::KeyUnknown | C::SecretDisagrees | C::TokenRefused
        ),
        C::TokenWithoutAccess => {
            matches!(
                step,
                PullStep::Policy | PullStep::SignIn | PullStep::Permission | PullStep::Existence
            )
        }
        C::TokenRefused => matches!(step, PullStep::SignIn | PullStep::Permission),
        C::Forbidden => {
            matches!(step, PullStep::Policy | PullStep::SignIn | PullStep::Permission)
                || matches!(
                    here,
                    C::OutsideShelf | C::NoShelf | C::StrangeNode | C::Removed | C::NotBroughtIn
                )
        }
        // "not found" hides all of these; the node's own connections only where it is known whom it asks.
        C::AbsentOrHidden => {
            matches!(step, PullStep::Existence | PullStep::Route)
                || (e.nodes.is_some() && matches!(step, PullStep::Reach | PullStep::Trust))
        }
        C::Failing => matches!(here, C::UpstreamDown | C::TokenRefused),
        C::RateLimited | C::UpstreamDown => {
            matches!(here, C::UpstreamDown | C::RateLimited | C::Failing)
        }
        C::MirrorSkipped => matches!(step, PullStep::Route | PullStep::Reach | PullStep::Trust),
        C::ChildMissing | C::BlobMissing => {
            matches!(step, PullStep::Content | PullStep::Platform)
                || matches!(here, C::DigestMissing | C::TagMoved | C::Removed)
        }
        C::StreamCut => {
            matches!(here, C::BlobCorrupt | C::BlobLength | C::BlobMissing | C::Failing)
        }
        C::OddHead | C::ManifestOdd | C::NoImage => {
            matches!(here, C::OddHead | C::ManifestOdd | C::NoImage | C::ManifestTooLarge)
        }
        C::Stalled => matches!(here, C::NoAnswer | C::StreamCut),
        // What leads a node astray is behind whatever it meets there.
        _ if matches!(said.cause.step(), PullStep::Reach | PullStep::Trust) => {
            step == PullStep::Route
        }
        _ => false,
    }
}
