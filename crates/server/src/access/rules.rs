//! Do the rules allow it? What they ask of an image is looked up only when a rule asks.

use std::sync::Arc;

use axum::http::HeaderValue;
use larder_core::digest::Digest;
use larder_core::policy::{Case, Fact, ImageFacts, ImageName, RuleAnswer, Verdict};
use larder_store::{Moment, RecordKind, now};

use super::Caller;
use super::facts::{FactsPlace, KnownFacts};
use super::record::{RecordSubject, RecordedDeed, reference};
use crate::app::App;
use crate::cached;
use crate::error::{ApiError, Code};
use crate::headers::warning;
use crate::operation::Pull;
use crate::plan::Plan;

impl<'p> Pull<'p> {
    /// As the court sees it.
    fn case(self, plan: &'p Plan) -> Case<'p> {
        match self {
            Self::Manifest(repository, selector) => {
                plan.court.repository(repository, ImageName::from(selector))
            }
            Self::Part(repository) => {
                Case { part: true, ..plan.court.repository(repository, ImageName::default()) }
            }
        }
    }
}

/// Whether the rules let somebody pull, with nothing to say, by what is known already: of images whose content a rule asks
/// for, what was gathered for others. `at` is the moment of the repository at which the answer was looked up that would be
/// given. False: they do not, or must be asked at length.
pub(crate) fn passes(app: &App, plan: &Plan, caller: &Caller, pull: Pull<'_>, at: Moment) -> bool {
    if plan.court.rules.is_empty() {
        return true;
    }
    let case = pull.case(plan);
    let allows = |answer| matches!(answer, RuleAnswer::Decided { verdict: Verdict::Allow, .. });
    match (rule(plan, caller, &case, &ImageFacts::default()), pull) {
        (RuleAnswer::Needs(_), Pull::Manifest(repository, selector)) => {
            let wish = plan.court.wish(caller.who.cluster_name(), &case, now());
            let place = FactsPlace { repository, selector, wish };
            let known = app.facts.known(&app.store, place, Some(at));
            known.is_some_and(|known| allows(rule(plan, caller, &case, &known.facts)))
        }
        (answer, _) => allows(answer),
    }
}

fn rule<'p>(
    plan: &'p Plan,
    caller: &Caller,
    case: &Case<'_>,
    facts: &ImageFacts,
) -> RuleAnswer<'p> {
    let who = &caller.who;
    plan.court.rule(who.cluster_name(), who.namespace(), case, facts, now())
}

/// Lets a pull through, perhaps with a warning, or refuses it; either is written down.
pub(crate) async fn check(
    app: &Arc<App>,
    plan: &Plan,
    caller: &Caller,
    pull: Pull<'_>,
) -> Result<RuleOutcome, ApiError> {
    let mut ruled = RuleOutcome::default();
    if plan.court.rules.is_empty() {
        return Ok(ruled);
    }
    let case = pull.case(plan);
    let mut answer = rule(plan, caller, &case, &ImageFacts::default());
    if let (RuleAnswer::Needs(_), Pull::Manifest(repository, selector)) = (&answer, pull) {
        let wish = plan.court.wish(caller.who.cluster_name(), &case, now());
        let place = FactsPlace { repository, selector, wish };
        let KnownFacts { facts, digest, brought } = app.facts.look(app, place, true).await?;
        (ruled.brought, ruled.judged) = (brought, digest.map(JudgedManifest));
        answer = rule(plan, caller, &case, &facts);
        if let (RuleAnswer::Needs(_), Some((cluster, since))) = (&answer, wish.runs) {
            // What runs changes with every pull: it is asked for each time, where it matters.
            let runs = app.store.is_running(repository, selector, cluster, since).await?;
            answer =
                rule(plan, caller, &case, &ImageFacts { runs: Fact::Is(runs), ..(*facts).clone() });
        }
    }
    let image = match pull {
        Pull::Manifest(repository, selector) => reference(repository, selector),
        Pull::Part(repository) => repository.to_string(),
    };
    let Some(said) = answer.said(&image) else { return Ok(ruled) };
    let kind = if said.denied { RecordKind::Refused } else { RecordKind::Warned };
    let mut happened = RecordedDeed::of(caller, kind, &said.sentence);
    happened.reference = Some(RecordSubject::Text(image));
    happened.line = Some(said.line);
    let number = app.recorder.note(&happened);
    let message = format!("{}{number}", said.sentence);
    if said.denied {
        app.meters.refused("rule", &said.rule);
        return Err(ApiError::new(Code::Denied, message));
    }
    ruled.warning = warning(299, &message);
    Ok(ruled)
}

/// The manifest that rules have let through: what is answered with is this one, whatever its tag points to by then.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct JudgedManifest(pub Digest);

/// What the rules say of a pull that they let through.
#[derive(Default)]
pub(crate) struct RuleOutcome {
    /// What is said with the answer.
    pub warning: Option<HeaderValue>,
    /// The manifest that was judged, where its content had to be known.
    pub judged: Option<JudgedManifest>,
    /// The manifest that was brought for it, if its content had to be known.
    pub brought: Option<cached::CachedManifest>,
}
