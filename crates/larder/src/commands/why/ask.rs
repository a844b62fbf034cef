//! Collects the evidence for one image, step by step.

use std::time::{Duration, Instant};

use futures_util::future::join_all;
use larder_client::{Credentials, MadeStep, ProbeOutcome, ProbePlan, ProbeTarget, probe};
use larder_core::access::Who;
use larder_core::allowance::ReportedLimit;
use larder_core::diagnosis::{
    Blanks, ContentAccess, Credential, Diagnosis, Evidence, HostOutcome, NameEvidence, Nodes,
    Policy, PullEvent, PullStep, PullVerdict, Through, Visit, diagnose,
};
use larder_core::handoff::Login;
use larder_core::platform::Platform;
use larder_core::policy::{self, Court};
use larder_core::reference::{MalformedReference, Reason, Reference, Unqualified};
use larder_store::Store;

use super::recorded::RecordedRefusal;
use super::route::{self, Host};
use super::secrets::{Logins, PullingPod};
use super::{Args, damage, record, recorded};
use crate::config::Config;
use crate::context::store_if_any;
use crate::failure::Failure;
use crate::policy::Judge;

/// One image that is asked about.
#[derive(Debug, Clone, Default)]
pub(super) struct ImageQuestion {
    /// As written. Empty: only the event is known.
    pub written: String,
    pub event: Option<PullEvent>,
    /// Where it is written, for tables.
    pub place: Option<String>,
    /// The namespace that its file names. None: it names none.
    pub namespace: Option<String>,
}

/// Collects evidence; holds what is the same for all images.
pub(super) struct PullInquiry<'c> {
    args: &'c Args,
    config: Option<&'c Config>,
    store: Option<Store>,
    judge: Option<Judge>,
    pod: PullingPod,
    platform: Platform,
}

/// What was asked, what was found on the way, and what comes of it.
pub(super) struct WhyAnswer {
    pub asked: ImageQuestion,
    pub verdict: PullVerdict,
    pub steps: Vec<StepLine>,
    /// What the hosts say of their limits.
    pub limits: Vec<(String, ReportedLimit)>,
}

/// One step as it is shown.
pub(super) struct StepLine {
    pub step: PullStep,
    /// The host that was asked. None: none was.
    pub host: Option<String>,
    /// None: it could not be told.
    pub holds: Option<bool>,
    pub text: String,
    pub took: Duration,
}

/// The line of the runtime, as its wording tells it.
fn line_of(asked: &ImageQuestion) -> Option<larder_core::nodes::RuntimeSeries> {
    asked.event.as_ref().and_then(larder_core::diagnosis::PullEvent::line)
}

impl<'c> PullInquiry<'c> {
    pub async fn new(
        args: &'c Args,
        config: Option<&'c Config>,
        pod: PullingPod,
    ) -> Result<Self, Failure> {
        let store = config.map(store_if_any).transpose()?.flatten();
        let judge = match config {
            Some(config) => Some(Judge::new(config, store.clone())?),
            None => None,
        };
        let platform = super::platform(args, config);
        let pod = pod.knowing_keys(config, store.as_ref()).await?;
        Ok(Self { args, config, store, judge, pod, platform })
    }

    /// Goes through one image.
    pub async fn answer(&self, asked: &ImageQuestion) -> Result<WhyAnswer, Failure> {
        let mut evidence = Evidence {
            written: asked.written.clone(),
            platform: Some(self.platform.to_string()),
            event: asked.event.clone(),
            identity: self.args.cluster.as_ref().is_some_and(|name| {
                let cluster = self.config.and_then(|config| config.cluster(name));
                cluster.is_some_and(|cluster| cluster.identity.is_some())
            }),
            ..Evidence::default()
        };
        let mut steps = Vec::new();
        let mut limits = Vec::new();
        if let Some(reference) = self.name(asked, &mut evidence, &mut steps) {
            let namespace = self.args.namespace.as_deref().or(asked.namespace.as_deref());
            let began = Instant::now();
            let routed = route::of(self.args, self.config, &reference, line_of(asked))?;
            let route_text = routed.text.clone();
            let route_holds = !matches!(routed.nodes, Some(Nodes::NotRead(_) | Nodes::Dropped(_)));
            steps.push(line(PullStep::Route, None, Some(route_holds), route_text, began));
            evidence.nodes.clone_from(&routed.nodes);
            let began = Instant::now();
            let here = routed.here.clone();
            evidence.policy = self.policy(here.as_ref(), namespace).await?;
            steps.push(policy_line(evidence.policy.as_ref(), began));
            let origin = self
                .config
                .and_then(|config| record::origin(config, &reference, here.as_ref(), &evidence));
            evidence.origin = origin.map(|origin| origin.to_string());
            evidence.by_default = routed.by_default;
            if let Some(elsewhere) = &routed.elsewhere {
                evidence.through = self.through(elsewhere, namespace, &evidence).await?;
            }
            let began = Instant::now();
            evidence.record = record::of(self, &reference, here.as_ref(), &evidence).await?;
            let on_record = evidence.record.as_ref().map(|record| {
                let (holds, text) = record::told(record);
                line(PullStep::Existence, None, Some(holds), text, began)
            });
            self.visits(
                &reference,
                &routed.hosts,
                namespace,
                &mut evidence,
                &mut steps,
                &mut limits,
            )
            .await;
            steps.extend(on_record);
            let began = Instant::now();
            let own =
                here.filter(|here| self.config.is_some_and(|it| !it.routes().is_cached(here)));
            if let (Some(here), Some(store)) = (own, &self.store)
                && let Some(lost) = damage::of(store, &here, &self.platform).await?
            {
                steps.push(line(PullStep::Content, None, Some(false), lost.described(), began));
                for visit in evidence.visits.iter_mut().filter(|visit| visit.ours) {
                    if matches!(
                        visit.outcome,
                        Some(HostOutcome::Pulls { .. } | HostOutcome::Failing { .. })
                    ) {
                        visit.outcome = Some(lost.clone());
                    }
                }
            }
        }
        let number = asked.event.as_ref().and_then(|event| event.number.as_ref());
        let mut told = None;
        if let (Some(number), Some(store)) = (number, &self.store) {
            told = recorded::look_up(store, number).await?;
        }
        evidence.recorded = told.as_ref().map(|told| (told.cause, told.text.clone()));
        let verdict = self.filled(diagnose(&evidence), asked, told.as_ref());
        Ok(WhyAnswer { asked: asked.clone(), verdict, steps, limits })
    }

    /// The remedies with what is known of who asks for what.
    fn filled(
        &self,
        mut verdict: PullVerdict,
        asked: &ImageQuestion,
        told: Option<&RecordedRefusal>,
    ) -> PullVerdict {
        let findings: Vec<&mut Diagnosis> = match &mut verdict {
            PullVerdict::Fails(finding) => vec![finding],
            PullVerdict::Succeeds(odd) => odd.iter_mut().collect(),
            PullVerdict::Undecided(_) => Vec::new(),
        };
        let recorded = told.map(|told| told.who.split_once('/').unwrap_or((&told.who, "")));
        let recorded = recorded
            .filter(|(cluster, _)| self.config.is_some_and(|it| it.cluster(cluster).is_some()));
        let only = self.config.and_then(|config| match config.clusters.as_slice() {
            [one] => Some(one.name.get_ref().clone()),
            _ => None,
        });
        let cluster = self.args.cluster.clone();
        let namespace = self.args.namespace.clone().or_else(|| asked.namespace.clone());
        let shown = |path: &std::path::PathBuf| crate::context::shown(path);
        let blanks = Blanks {
            cluster: cluster.or_else(|| recorded.map(|(cluster, _)| cluster.to_owned())).or(only),
            namespace: namespace
                .or_else(|| recorded.map(|(_, its)| its.to_owned()).filter(|its| !its.is_empty())),
            nodes: self.args.nodes.as_ref().map(shown),
            secret: self.args.secret.first().map(shown),
            deployments: match self.args.all.first() {
                Some(path) => Some(shown(path)),
                None => self.args.pod.as_ref().map(shown),
            },
        };
        for finding in findings {
            let remedies = std::mem::take(&mut finding.remedies);
            finding.remedies = remedies.into_iter().map(|one| blanks.fill(one)).collect();
        }
        verdict
    }

    pub fn config(&self) -> Option<&'c Config> {
        self.config
    }

    pub fn store(&self) -> Option<&Store> {
        self.store.as_ref()
    }

    /// None: there is no configuration to judge by.
    pub fn court(&self) -> Option<&Court> {
        self.judge.as_ref().map(|judge| &judge.court)
    }

    pub fn args(&self) -> &Args {
        self.args
    }

    /// Reads the name as a node does. None: it cannot be read, or there is none.
    fn name(
        &self,
        asked: &ImageQuestion,
        evidence: &mut Evidence,
        steps: &mut Vec<StepLine>,
    ) -> Option<Reference> {
        // An event need not name its image.
        if asked.written.is_empty() && asked.event.is_some() {
            return None;
        }
        let began = Instant::now();
        let mut read = Reference::read(&asked.written, &Unqualified::default());
        // A node takes a host alone for a short name; nobody means that by the name of a registry.
        if let (Ok(host), Some(config)) =
            (asked.written.parse::<larder_core::name::Host>(), self.config)
            && (config.larder.has_name(&host) || config.upstream(&host).is_some())
        {
            let reason = Reason::MissingRepository;
            read = Err(MalformedReference { text: asked.written.clone(), reason, proposal: None });
        }
        match read {
            Ok(reading) => {
                let node = reading.reference;
                let ours = self.config.and_then(|config| {
                    let read = Reference::read(&asked.written, &config.larder.unqualified);
                    read.ok().map(|reading| reading.reference)
                });
                let here = ours.filter(|ours| *ours != node).map(|ours| ours.to_string());
                let full = node.at(node.selector());
                let mut text = format!("a node reads {full}");
                if let Some(here) = &here {
                    text.push_str(&format!("; larder.toml reads {here}"));
                }
                steps.push(line(PullStep::Name, None, Some(true), text, began));
                evidence.name = Some(NameEvidence::Reads { node: node.to_string(), here });
                Some(node)
            }
            Err(malformed) => {
                let text = malformed.to_string();
                steps.push(line(PullStep::Name, None, Some(false), text, began));
                evidence.name = Some(NameEvidence::Malformed(malformed));
                None
            }
        }
    }

    /// How the pull would go through the larder, by its rules and what its store has.
    async fn through(
        &self,
        elsewhere: &Reference,
        namespace: Option<&str>,
        evidence: &Evidence,
    ) -> Result<Option<Through>, Failure> {
        match self.policy(Some(elsewhere), namespace).await? {
            Some(Policy::Allows) => {
                let record = record::of(self, elsewhere, Some(elsewhere), evidence).await?;
                let there = record.is_some_and(|record| record.access == ContentAccess::There);
                Ok(there.then_some(Through::Gives))
            }
            Some(Policy::Elsewhere) | None => Ok(None),
            Some(refused) => Ok(Some(Through::Refuses(refused))),
        }
    }

    /// What rules and grants say of a pull from this larder.
    async fn policy(
        &self,
        here: Option<&Reference>,
        namespace: Option<&str>,
    ) -> Result<Option<Policy>, Failure> {
        let (Some(judge), Some(config)) = (&self.judge, self.config) else { return Ok(None) };
        let Some(here) = here else { return Ok(Some(Policy::Elsewhere)) };
        let Some(cluster) = &self.args.cluster else {
            let free = config.is_open() && config.rules.all().is_empty();
            return Ok(free.then_some(Policy::Allows));
        };
        let who = Who::cluster(cluster, namespace);
        let judged = judge.reference(&who, here).await?;
        let line = judged.reason().and_then(|(_, line)| line);
        if judged.grant.as_ref().is_some_and(|grant| !grant.allowed) {
            let repository = here.repository.to_string();
            return Ok(Some(Policy::Grant { who: who.described(), repository, line }));
        }
        if judged.verdict == policy::Verdict::Deny {
            let reason = judged.reason().map(|(reason, _)| reason).unwrap_or_default();
            return Ok(Some(Policy::Rule { reason, line }));
        }
        Ok(Some(Policy::Allows))
    }

    async fn visits(
        &self,
        reference: &Reference,
        hosts: &[Host],
        namespace: Option<&str>,
        evidence: &mut Evidence,
        steps: &mut Vec<StepLine>,
        limits: &mut Vec<(String, ReportedLimit)>,
    ) {
        let Logins { offers, instead } = self.pod.logins(reference, namespace);
        let first = offers.first().map(|(secret, _)| Credential::Fits(secret.clone()));
        evidence.credential = first.or(instead);
        let tried = |steps: &mut Vec<StepLine>, credential: Option<&Credential>| {
            if let Some((holds, text)) = told_credential(credential) {
                steps.push(line(PullStep::SignIn, None, Some(holds), text, Instant::now()));
            }
        };
        if self.args.offline {
            evidence.visits = hosts
                .iter()
                .map(|host| Visit {
                    host: host.name(),
                    mirror: host.mirror,
                    ours: host.ours,
                    outcome: None,
                })
                .collect();
            return;
        }
        // A kubelet tries one login after the other, until one is let in.
        let mut turns: Vec<(Option<Credential>, Option<&Login>)> = offers
            .iter()
            .map(|(secret, login)| (Some(Credential::Fits(secret.clone())), Some(login)))
            .collect();
        if turns.is_empty() {
            turns.push((evidence.credential.clone(), None));
        }
        let mut best: Option<LoginTurn> = None;
        for (credential, login) in turns {
            tried(steps, credential.as_ref());
            let turn = self.turn(reference, hosts, (credential, login)).await;
            steps.extend(turn.steps);
            let refused = turn
                .visits
                .iter()
                .all(|visit| visit.outcome.as_ref().is_none_or(depends_on_who_asks));
            limits.extend(turn.limits);
            let turn = LoginTurn { steps: Vec::new(), limits: Vec::new(), ..turn };
            if !refused {
                best = Some(turn);
                break;
            }
            best.get_or_insert(turn);
        }
        if let Some(turn) = best {
            evidence.visits = turn.visits;
            evidence.credential = turn.credential;
        }
    }

    /// Asks all hosts with one login.
    async fn turn(
        &self,
        reference: &Reference,
        hosts: &[Host],
        (credential, login): (Option<Credential>, Option<&Login>),
    ) -> LoginTurn {
        let mut turn = LoginTurn { credential, ..LoginTurn::default() };
        let selector = reference.selector();
        let repositories: Vec<_> = hosts.iter().map(|host| host.repository(reference)).collect();
        // They do not depend on each other, so a host that is away keeps nobody waiting.
        let probes = hosts.iter().zip(&repositories).map(|(host, repository)| async {
            let repository = repository.as_ref()?;
            let plan = self.plan(host, login);
            let deep = self.args.deep;
            let target =
                ProbeTarget { repository, selector: &selector, platform: &self.platform, deep };
            Some(probe(&plan, &target).await)
        });
        let expected = record::expected(self, reference);
        for (host, probed) in hosts.iter().zip(join_all(probes).await) {
            let visit = |outcome| Visit {
                host: host.name(),
                mirror: host.mirror,
                ours: host.ours,
                outcome,
            };
            let Some(probed) = probed else {
                turn.visits.push(visit(None));
                continue;
            };
            let ProbeOutcome { mut outcome, steps: made, reported } = probed;
            if let HostOutcome::Pulls { expected: wanted, .. } = &mut outcome {
                wanted.clone_from(&expected);
            }
            turn.limits.extend(reported.map(|reported| (host.name(), reported)));
            turn.steps.extend(made.into_iter().map(|one| shown(host, one, login.is_some())));
            turn.visits.push(visit(Some(outcome)));
        }
        turn
    }

    fn plan(&self, host: &Host, login: Option<&Login>) -> ProbePlan {
        let credentials = login.and_then(|login| {
            let secret = login.held.as_ref()?.reveal().to_owned();
            Some(Credentials { user: login.user.clone(), secret: secret.into() })
        });
        let named = host.name();
        let upstreams = self.config.map(|config| config.upstreams.as_slice()).unwrap_or_default();
        let upstream = upstreams.iter().find(|upstream| upstream.host.as_str() == named);
        ProbePlan {
            address: host.address.clone(),
            host: named,
            token_hosts: upstream.map(|upstream| upstream.token_hosts.clone()).unwrap_or_default(),
            namespace: host.namespace.clone(),
            headers: host.headers.clone(),
            ca: host.ca.clone(),
            credentials,
            patience: self.args.patience.0,
        }
    }
}

/// What came of asking with one login.
#[derive(Default)]
struct LoginTurn {
    credential: Option<Credential>,
    visits: Vec<Visit>,
    steps: Vec<StepLine>,
    limits: Vec<(String, ReportedLimit)>,
}

/// Whether another login may be answered otherwise.
fn depends_on_who_asks(outcome: &HostOutcome) -> bool {
    matches!(
        outcome,
        HostOutcome::Unauthorized { .. }
            | HostOutcome::TokenRefused { .. }
            | HostOutcome::TokenWithoutAccess { .. }
            | HostOutcome::Forbidden(_)
            | HostOutcome::NotFound
    )
}

fn line(
    step: PullStep,
    host: Option<String>,
    holds: Option<bool>,
    text: impl Into<String>,
    began: Instant,
) -> StepLine {
    StepLine { step, host, holds, text: text.into(), took: began.elapsed() }
}

fn shown(host: &Host, made: MadeStep, signs_in: bool) -> StepLine {
    let MadeStep { step, holds, mut text, took } = made;
    if step == PullStep::SignIn && !holds && !signs_in {
        text.push_str("; asked without credentials, as a pod without a pull secret does");
    }
    StepLine { step, host: Some(host.name()), holds: Some(holds), text, took }
}

fn policy_line(policy: Option<&Policy>, began: Instant) -> StepLine {
    let (holds, text) = match policy {
        None => (None, "not asked: name the cluster with `--cluster`".to_owned()),
        Some(Policy::Allows) => (Some(true), "rules and grants let it".to_owned()),
        Some(Policy::Elsewhere) => {
            (Some(true), "not for this larder to say: the image is pulled elsewhere".to_owned())
        }
        Some(Policy::Rule { reason, line }) => {
            (Some(false), format!("refused by {reason}{}", at(line.as_ref())))
        }
        Some(Policy::Grant { who, repository, line }) => {
            (Some(false), format!("{who} has no grant to pull {repository}{}", at(line.as_ref())))
        }
    };
    line(PullStep::Policy, None, holds, text, began)
}

fn at(line: Option<&String>) -> String {
    line.map(|line| format!(" ({line})")).unwrap_or_default()
}

fn told_credential(credential: Option<&Credential>) -> Option<(bool, String)> {
    Some(match credential? {
        Credential::None => (true, "the pod and its service account name no pull secret".into()),
        Credential::Unfit(_) => (false, "no pull secret that the pod names fits".into()),
        Credential::Fits(secret) => {
            (true, format!("the pod signs in as {} ({})", secret.user, secret.from))
        }
    })
}
