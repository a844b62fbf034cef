//! A cluster asks at its door what is to be done with what it is about to run: the platform's admission
//! review, answered by the same decisions as files and pulls.

use std::time::Duration;

use axum::extract::Request;
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use larder_core::access::Who;
use larder_core::door::{Door, Question, REVIEW_LIMIT, Reply, Review, RulesAt, is_run};
use larder_core::policy::{Asked, Decided, Fact, Facts, Verdict};
use larder_core::reference::{Image, Reference};
use larder_core::retarget::{Pin, Retarget, Wish};
use larder_core::route::Standing;
use larder_store::{Kind, now};

use crate::access::{About, AccessPlan, Caller, Happened};
use crate::app::App;
use crate::health;
use crate::limits::Client;

/// How long an answer may take before it is given up: a door in front of every pod is not to be felt.
const TIME: Duration = Duration::from_millis(50);
/// How long a review may take to arrive. It is no part of the answer's time.
const ARRIVAL: Duration = Duration::from_secs(10);

/// Answers a request below `/door/`, and tells where it was asked without what is secret of it.
pub(crate) async fn answer(app: &App, plan: &AccessPlan, request: Request) -> (Response, String) {
    let (parts, body) = request.into_parts();
    let none = || {
        let text = "there is no such door; `larder handoff write` writes where it is\n";
        (health::plain(StatusCode::NOT_FOUND, text.into()), "/door/".to_owned())
    };
    let Some((cluster, question)) = app.gate.door(parts.uri.path()) else { return none() };
    let Some(door) = plan.cluster(cluster).and_then(|one| one.door.as_ref()) else {
        return none();
    };
    let word = match question {
        Question::Rewrite => "rewrite",
        Question::Rules => "rules",
    };
    let told = format!("/door/{cluster}/…/{word}");
    if parts.method != Method::POST {
        let mut response =
            health::plain(StatusCode::METHOD_NOT_ALLOWED, "POST a review there\n".into());
        response.headers_mut().insert(header::ALLOW, HeaderValue::from_static("POST"));
        return (response, told);
    }
    let read = tokio::time::timeout(ARRIVAL, axum::body::to_bytes(body, REVIEW_LIMIT)).await;
    let Ok(Ok(bytes)) = read else {
        let text = format!("a review of {REVIEW_LIMIT} bytes at most is read\n");
        return (health::plain(StatusCode::PAYLOAD_TOO_LARGE, text), told);
    };
    let review = match Review::read(&bytes) {
        Ok(review) => review,
        Err(error) => return (health::plain(StatusCode::BAD_REQUEST, format!("{error}\n")), told),
    };
    let address = parts.extensions.get::<Client>().map(|client| client.0);
    let asked = Asking { app, plan, cluster, door, review: &review, address };
    let reply = match tokio::time::timeout(TIME, asked.reply(question)).await {
        Ok(reply) => reply,
        Err(_) => asked.unanswered("the larder did not decide in time"),
    };
    let json = [(header::CONTENT_TYPE, "application/json")];
    ((json, review.answer(&reply)).into_response(), told)
}

/// What is asked, and of whom.
struct Asking<'q> {
    app: &'q App,
    plan: &'q AccessPlan,
    cluster: &'q str,
    door: &'q Door,
    review: &'q Review,
    address: Option<std::net::IpAddr>,
}

impl Asking<'_> {
    fn unanswered(&self, why: &str) -> Reply {
        let text = format!("larder: {why}");
        match self.door.admits_unanswered {
            true => Reply { warnings: vec![text], ..Reply::default() },
            false => Reply { refused: Some(text), ..Reply::default() },
        }
    }

    async fn reply(&self, question: Question) -> Reply {
        if self.door.excepts(self.review.namespace.as_deref()) {
            return Reply::default();
        }
        let scan = match self.review.scan() {
            Ok(Some(scan)) => scan,
            Ok(None) => return Reply::default(),
            Err(error) => return self.unanswered(&error.to_string()),
        };
        match question {
            Question::Rewrite => {
                let pin = if self.door.pin { Pin::Add } else { Pin::Keep };
                self.door.rewritten(self.review, &scan, &self.retarget(pin))
            }
            Question::Rules if self.door.rules == RulesAt::Off => Reply::default(),
            Question::Rules => {
                let retarget = self.retarget(Pin::Keep);
                let mut references: Vec<Reference> = scan
                    .findings
                    .iter()
                    .filter(|one| is_run(one))
                    .filter_map(|one| retarget.read(&one.text))
                    .collect();
                references.sort();
                references.dedup();
                drop(scan);
                let mut said = Vec::new();
                for reference in &references {
                    said.extend(self.judge(reference).await);
                }
                self.door.judged(said)
            }
        }
    }

    fn retarget(&self, pin: Pin) -> Retarget<'_> {
        let AccessPlan { routes, lock, unqualified, .. } = self.plan;
        Retarget::new(routes, lock, unqualified, Wish { pin, ..Wish::default() })
    }

    /// What the rules say of an image, where they do not simply allow it.
    async fn judge(&self, reference: &Reference) -> Option<(bool, String)> {
        let plan = self.plan;
        // What lies in the larder is judged as its pull would be.
        let here = match plan.routes.standing(reference, &plan.lock) {
            Standing::Own if reference.host == plan.host => Some(reference.clone()),
            Standing::Routed { target, .. }
            | Standing::Cached { target }
            | Standing::Told { target } => Some(target).filter(|to| to.host == plan.host),
            _ => None,
        };
        let origin = match &here {
            Some(here) => plan.origins.of(&here.repository),
            None => Some(reference.image()),
        };
        let own = origin.is_none();
        let image = origin.unwrap_or_else(|| Image {
            host: plan.host.clone(),
            repository: reference.repository.clone(),
        });
        let class = plan.classes.of(&image);
        let decide = |facts: &Facts| {
            let asked = Asked {
                cluster: Some(self.cluster),
                namespace: self.review.namespace.as_deref(),
                image: &image,
                class,
                own,
                tag: reference.tag.as_ref(),
                digest: reference.digest.as_ref(),
                part: false,
                now: now(),
            };
            match plan.rules.decide(&asked, facts) {
                Decided::Needs(_) => None,
                Decided::Verdict { verdict, rule, lack } => Some((verdict, rule, lack)),
            }
        };
        let decided = match (decide(&Facts::default()), &here) {
            (Some(decided), _) => decided,
            // What is not here yet is looked into when it is pulled; nobody waits for it at the door.
            (None, Some(here)) => {
                let facts = self.app.store.facts(&here.repository, &here.selector()).await.ok()?;
                let known = facts.built != Fact::Unknown || facts.platforms != Fact::Unknown;
                if !known {
                    return None;
                }
                decide(&facts)?
            }
            (None, None) => return None,
        };
        let (verdict, Some(rule), lack) = decided else { return None };
        let rule = plan.rules.all().get(rule)?;
        let reason = rule.reason(lack.as_ref());
        let (kind, message) = match verdict {
            Verdict::Allow => return None,
            Verdict::Warn => (Kind::Warned, format!("{reference} is let through; {reason}")),
            Verdict::Deny => (Kind::Refused, format!("{reference} is refused by {reason}")),
        };
        let whose = format!("{} {}", self.review.kind, self.review.name);
        let caller = Caller {
            who: Who::cluster(self.cluster, self.review.namespace.as_deref()),
            by: None,
            token: None,
            address: self.address,
            node: false,
        };
        let text = format!("at the door, for {}: {message}", whose.trim());
        let mut happened = Happened::of(&caller, kind, &text);
        happened.reference = Some(About::Text(reference.to_string()));
        happened.line = Some(rule.line.to_string());
        // A dry run leaves no trace.
        if self.review.dry_run {
            return Some((verdict == Verdict::Deny, message));
        }
        let number = self.app.recorder.note(&happened);
        Some((verdict == Verdict::Deny, format!("{message} [{number}]")))
    }
}

/// Whether a request is for a door.
pub(crate) fn is_one(path: &str) -> bool {
    path.starts_with(larder_core::door::PREFIX)
}
