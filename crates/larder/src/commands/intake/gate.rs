//! Before an image gets its tag: what is inside is read, and who signed it is verified, where a rule asks; the rule decides.

use larder_core::policy::{
    Court, Fact, FactsWish, ImageFacts, ImageName, Lack, RuleAnswer, Verdict,
};
use larder_core::reference::Selector;
use larder_store::{HeldLayers, Store, StoreError};

use super::job::IntakeJob;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure};
use crate::inventory::read_unread;
use crate::policy::refused;

/// What images have to pass before they get their tags.
#[derive(Clone, Copy)]
pub struct IntakeGate<'g> {
    court: &'g Court,
    store: &'g Store,
    context: &'g Context,
}

impl<'g> IntakeGate<'g> {
    /// Whoever may come in. None: no rule asks what is inside of what is brought in, or who signed it.
    pub fn of(court: &'g Court, store: &'g Store, context: &'g Context) -> Option<Self> {
        let asks = court.rules.ask_inside(None) || court.rules.ask_signed(None);
        asks.then_some(Self { court, store, context })
    }

    /// Refuses what goes to another registry, where a rule asks for more than its name: nobody reads it there.
    pub fn check_elsewhere(&self, job: &IntakeJob<'_>) -> Result<(), Failure> {
        match job.is_elsewhere() {
            false => Ok(()),
            true => {
                let (inside, signatures) = (Fact::Unknown, Fact::Unknown);
                self.judge(job, &ImageFacts { inside, signatures, ..known() })
            }
        }
    }

    /// Reads what is in an image that is here without its tag, and lets a rule decide whether it gets it.
    pub async fn check(&self, job: &IntakeJob<'_>) -> Result<(), Failure> {
        let what = format!("cannot bring in {}", job.name());
        let facts = self.facts(job).await.map_err(|error| Failure::store(what, &error))?;
        self.judge(job, &facts)
    }

    async fn facts(&self, job: &IntakeJob<'_>) -> Result<ImageFacts, StoreError> {
        if self.court.rules.ask_inside(None) {
            let HeldLayers { layers, images } =
                self.store.layers_of_images([job.locked.here().clone()]).await?;
            read_unread(self.store, layers, self.context).await?;
            self.store.note_images(&images).await?;
        }
        let named = ImageName { tag: Some(&job.want.tag), digest: Some(&job.locked.digest) };
        let case = self.court.intake(&job.want.image, named);
        let wish = FactsWish { runs: None, ..self.court.wish(None, &case, now()) };
        let selector = Selector::Digest(job.locked.here().clone());
        let found = self.store.facts(&job.to.repository, &selector, wish).await?;
        let ImageFacts { inside, platforms, signatures, .. } = found;
        Ok(ImageFacts { inside, platforms, signatures, ..known() })
    }

    fn judge(&self, job: &IntakeJob<'_>, facts: &ImageFacts) -> Result<(), Failure> {
        let named = ImageName { tag: Some(&job.want.tag), digest: Some(&job.locked.digest) };
        let case = self.court.intake(&job.want.image, named);
        match self.court.rule(None, None, &case, facts, now()) {
            RuleAnswer::Decided { verdict: Verdict::Deny, rule: Some(rule), lack } => {
                let remedy = match lack {
                    Some(Lack::Signed(..)) if !job.intake.companions => {
                        "its [[intake]] entry brings no signatures: add `companions = true`, and lock it again"
                    }
                    _ => {
                        "change the rule, or give it an exception with an end: what came of it stays without a tag, and the next run sets that"
                    }
                };
                Err(Failure { remedy: remedy.into(), ..refused(job.want, rule, lack.as_ref()) }
                    .ending(Exit::No))
            }
            RuleAnswer::Decided { verdict: Verdict::Warn, rule: Some(rule), lack } => {
                let reason = rule.reason(lack.as_ref());
                self.context.output.note(format!("warning: {}; {reason}", job.name()));
                Ok(())
            }
            RuleAnswer::Decided { .. } | RuleAnswer::Needs(_) => Ok(()),
        }
    }
}

/// What is asked of it when it is pulled, and not before: its age here, and what refers to it.
fn known() -> ImageFacts {
    ImageFacts { held: Fact::Later, signed: Fact::Later, ..ImageFacts::default() }
}
