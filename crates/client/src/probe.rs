//! What would a node meet if it pulled an image from this host? Asked step by step, as a node's runtime
//! does it, and nothing is kept. Unlike the client proper it never tries again and never waits long:
//! it wants to know, not to succeed.

mod ask;
mod reach;
mod walk;

use std::time::{Duration, Instant};

use larder_core::allowance::ReportedLimit;
use larder_core::diagnosis::{HostOutcome, PullStep};
use larder_core::name::RepositoryName;
use larder_core::platform::Platform;
use larder_core::reference::Selector;
use reqwest::Url;

use crate::credentials::Credentials;

/// How a host is asked.
#[derive(Debug, Clone)]
pub struct ProbePlan {
    /// Its address, with what stands in front of `/v2/`.
    pub address: String,
    /// Its name as in references, below whose subdomains its account may sign in.
    pub host: String,
    /// Further hosts at which its account may sign in.
    pub token_hosts: Vec<String>,
    /// The upstream's host, where a mirror is told it (`ns=HOST`). None: it is not.
    pub namespace: Option<String>,
    /// Header fields that the node sends along.
    pub headers: Vec<(String, String)>,
    /// Certificates (PEM) that are trusted beside the system's.
    pub ca: Vec<u8>,
    /// With which account, once it asks for one. None: none.
    pub credentials: Option<Credentials>,
    /// How long each step may take.
    pub patience: Duration,
}

/// What is asked for.
#[derive(Debug, Clone)]
pub struct ProbeTarget<'t> {
    pub repository: &'t RepositoryName,
    /// The tag or digest.
    pub selector: &'t Selector,
    pub platform: &'t Platform,
    /// Whether all content is read and hashed.
    pub deep: bool,
}

/// One step as it was made.
#[derive(Debug, Clone)]
pub struct MadeStep {
    pub step: PullStep,
    pub holds: bool,
    /// What was found, in a few words.
    pub text: String,
    /// How long it took.
    pub took: Duration,
}

/// What came of it.
#[derive(Debug, Clone)]
pub struct ProbeOutcome {
    /// In the diagnosis' terms.
    pub outcome: HostOutcome,
    /// The steps in their order.
    pub steps: Vec<MadeStep>,
    /// What the host says of its limit. None: nothing.
    pub reported: Option<ReportedLimit>,
}

/// A step that ended it, and why.
type EndedAt = HostOutcome;

/// The steps so far.
#[derive(Default)]
struct Trail {
    steps: Vec<MadeStep>,
    reported: Option<ReportedLimit>,
}

impl Trail {
    /// Writes a step down; one that does not hold ends the visit.
    fn note<T>(
        &mut self,
        step: PullStep,
        began: Instant,
        result: Result<T, EndedAt>,
        held: impl FnOnce(&T) -> String,
    ) -> Result<T, EndedAt> {
        let (holds, text) = match &result {
            Ok(value) => (true, held(value)),
            Err(stop) => (false, stop.described()),
        };
        self.steps.push(MadeStep { step, holds, text, took: began.elapsed() });
        result
    }
}

/// Asks one host for one image.
pub async fn probe(plan: &ProbePlan, target: &ProbeTarget<'_>) -> ProbeOutcome {
    let mut trail = Trail::default();
    let outcome = match visit(plan, target, &mut trail).await {
        Ok(outcome) | Err(outcome) => outcome,
    };
    ProbeOutcome { outcome, steps: trail.steps, reported: trail.reported }
}

/// Asks whether a host is a registry at all, without asking for an image. None: it is.
pub async fn probe_host(plan: &ProbePlan) -> Option<HostOutcome> {
    let asked = async {
        let url: Url = plan.address.parse().map_err(|error| {
            HostOutcome::NotHttp(format!("{} is no address: {error}", plan.address))
        })?;
        let mut trail = Trail::default();
        let reached = reach::reach(&url, plan.patience, &mut trail).await?;
        let asking = ask::Asking::new(plan, &url, reached)?;
        let mut answer = asking.send(reqwest::Method::GET, asking.url(""), None).await?;
        let mut pass = None;
        if answer.status == reqwest::StatusCode::UNAUTHORIZED && plan.credentials.is_some() {
            pass = Some(asking.pass(&answer).await?);
            answer = asking.send(reqwest::Method::GET, asking.url(""), pass.as_deref()).await?;
        }
        // A host that wants a sign-in and was given none is a registry all the same.
        if answer.status.is_success()
            || (answer.status == reqwest::StatusCode::UNAUTHORIZED && pass.is_none())
        {
            return ask::Asking::page(answer).await.map_or(Ok(()), Err);
        }
        let shown = asking.shows_credentials();
        Err(asking.refusal(answer, asking.url(""), pass.as_deref(), shown).await)
    };
    let outcome: Result<(), EndedAt> = asked.await;
    outcome.err()
}

async fn visit(
    plan: &ProbePlan,
    target: &ProbeTarget<'_>,
    trail: &mut Trail,
) -> Result<HostOutcome, EndedAt> {
    let url: Url = plan.address.parse().map_err(|error| {
        HostOutcome::NotHttp(format!("{} is no address: {error}", plan.address))
    })?;
    let reached = reach::reach(&url, plan.patience, trail).await?;
    let asking = ask::Asking::new(plan, &url, reached)?;
    walk::walk(&asking, target, trail).await
}
