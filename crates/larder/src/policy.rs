//! May somebody pull this? The court of a configuration, with what the store holds as its evidence.

use larder_core::access::Who;
use larder_core::access::stop::Stops;
use larder_core::lock::{LockedTag, Want};
use larder_core::name::RepositoryName;
use larder_core::policy::{
    Case, Court, Fact, ImageFacts, ImageName, Judgement, Lack, PolicyRule, RuleAnswer, Verdict,
};
use larder_core::reference::Reference;
use larder_store::{Store, StoreError, now};
use tokio::sync::OnceCell;

use crate::config::Config;
use crate::context::read_lock;
use crate::failure::{Exit, Failure};

/// Decides by one configuration.
pub struct Judge {
    pub court: Court,
    store: Option<Store>,
    stops: OnceCell<Stops>,
}

impl Judge {
    /// By this configuration; what the store holds tells what rules ask of an image.
    pub fn new(config: &Config, store: Option<Store>) -> Result<Self, Failure> {
        Ok(Self { court: config.court(read_lock(config)?)?, store, stops: OnceCell::new() })
    }

    /// A reference as deployments have it.
    pub async fn reference(
        &self,
        who: &Who,
        reference: &Reference,
    ) -> Result<Judgement<'_>, Failure> {
        self.judge(who, &self.court.reference(reference)).await
    }

    /// What lies in one of the larder's repositories, named by tag, digest, or both.
    pub async fn own(
        &self,
        who: &Who,
        repository: &RepositoryName,
        named: ImageName<'_>,
    ) -> Result<Judgement<'_>, Failure> {
        self.judge(who, &self.court.repository(repository, named)).await
    }

    /// What the larder says of a case to somebody.
    pub async fn judge(&self, who: &Who, case: &Case<'_>) -> Result<Judgement<'_>, Failure> {
        let stops = self.stops().await;
        let stops = stops.map_err(|error| Failure::store("cannot tell what is blocked", &error))?;
        let digest = self.digest(case, stops).await;
        let digest =
            digest.map_err(|error| Failure::store("cannot tell what is blocked", &error))?;
        let blocked = digest.as_ref().and_then(|digest| stops?.content(digest));
        let judge = |facts: &ImageFacts| self.court.judge(who, case, facts, blocked, now());
        if let Some(judged) = judge(&ImageFacts::default()) {
            return Ok(judged);
        }
        let facts = match (&self.store, case.here()) {
            (Some(store), Some(repository)) => {
                let wish = self.court.wish(who.cluster_name(), case, now());
                let facts = store.facts(repository, &case.named.selector(), wish).await;
                facts.map_err(|error| Failure::store("cannot tell what the image is", &error))?
            }
            _ => ImageFacts::UNKNOWN,
        };
        judge(&facts).or_else(|| judge(&ImageFacts::UNKNOWN)).ok_or_else(|| {
            let cause = "a rule asks what nobody can look up";
            Failure::usage("cannot decide", cause, "check the [[rule]] entries with `larder check`")
        })
    }

    async fn stops(&self) -> Result<Option<&Stops>, StoreError> {
        let Some(store) = &self.store else { return Ok(None) };
        let read = async { Ok::<_, StoreError>(Stops::new(store.stops().await?)) };
        self.stops.get_or_try_init(|| read).await.map(Some)
    }

    /// The digest that blocks are looked up by. None: nothing is blocked, or the larder does not hold it.
    async fn digest(
        &self,
        case: &Case<'_>,
        stops: Option<&Stops>,
    ) -> Result<Option<larder_core::digest::Digest>, StoreError> {
        let Some(store) =
            self.store.as_ref().filter(|_| stops.is_some_and(|it| !it.has_no_content()))
        else {
            return Ok(None);
        };
        if let Some(digest) = case.named.digest {
            return Ok(Some(digest.clone()));
        }
        let Some(repository) = case.here() else { return Ok(None) };
        Ok(store
            .manifest_record(repository, &case.named.selector())
            .await?
            .map(|found| found.digest))
    }
}

/// Why an image is not to be brought in at all: a rule that names no cluster denies it. What a rule
/// asks beyond its platforms is asked when it is pulled. None: it may.
pub fn refuses_intake(court: &Court, want: &Want, locked: &LockedTag) -> Option<Failure> {
    let named = ImageName { tag: Some(&want.tag), digest: Some(&locked.digest) };
    let platforms: Vec<_> = locked.platforms.keys().cloned().collect();
    let platforms = if platforms.is_empty() { Fact::NotLooked } else { Fact::Is(platforms) };
    let facts = ImageFacts { platforms, ..ImageFacts::default() };
    let ruled = court.rule(None, None, &court.intake(&want.image, named), &facts, now());
    let RuleAnswer::Decided { verdict: Verdict::Deny, rule: Some(rule), lack } = ruled else {
        return None;
    };
    Some(refused(want, rule, lack.as_ref()))
}

/// A rule's refusal to bring an image in.
pub fn refused(want: &Want, rule: &PolicyRule, lack: Option<&Lack>) -> Failure {
    let what = format!("cannot bring in {}:{}", want.image, want.tag);
    let cause = format!("it is refused by {} ({})", rule.reason(lack), rule.line);
    let remedy = "remove its [[intake]] entry, or change the rule";
    Failure::usage(what, cause, remedy).ending(Exit::No)
}
