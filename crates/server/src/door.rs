//! A cluster asks at its door what is to be done with what it is about to run: the platform's admission
//! review, answered by the same decisions as files and pulls.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::AtomicBool;
use std::time::Duration;

use axum::extract::Request;
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use larder_core::access::Who;
use larder_core::access::stop::Stops;
use larder_core::door::{Door, Question, REVIEW_LIMIT, Reply, Review, RulesAt};
use larder_core::name::RepositoryName;
use larder_core::policy::{Case, Fact, ImageFacts, RuleAnswer, Verdict};
use larder_core::reference::{Reference, Selector};
use larder_core::retarget::{Pin, Retarget, RetargetWish};
use larder_core::rewrite::Scan;
use larder_store::{RecordKind, StoreError, now};
use tokio::time::Instant;

use crate::access::{Caller, FactsPlace, RecordSubject, RecordedDeed};
use crate::app::App;
use crate::blocked;
use crate::error::ApiError;
use crate::health;
use crate::limits::Client;
use crate::meters::ToldNumber;
use crate::plan::Plan;
use crate::sightings::Sighting;
use crate::workers::Undone;

/// How long an answer may take before it is given up: a door in front of every pod is not to be felt, and the
/// platform gives up itself a little later.
const TIME: Duration = Duration::from_millis(200);
/// How long a review may take to arrive. It is no part of the answer's time.
const ARRIVAL: Duration = Duration::from_secs(10);

/// Answers a request below `/door/`, and tells where it was asked without what is secret of it.
pub(crate) async fn answer(
    app: &Arc<App>,
    plan: &Arc<Plan>,
    request: Request,
) -> (Response, String) {
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
        Question::Rules { .. } => "rules",
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
    let began = Instant::now();
    let address = parts.extensions.get::<Client>().map(|client| client.0);
    let ends = Instant::now() + TIME;
    // Nothing is believed to be unblocked because the store gives no answer.
    let stops = match app.gate.keys.now(&app.store).await {
        Ok(keys) => Arc::clone(&keys.stops),
        Err(error) => {
            tracing::error!(%error, "the store could not be asked at the door");
            let text = "the larder's store gives no answer\n".to_owned();
            return (health::plain(StatusCode::INTERNAL_SERVER_ERROR, text), told);
        }
    };
    let reading = {
        let (plan, door, cluster) = (Arc::clone(plan), door.clone(), cluster.to_owned());
        let (bytes, stops) = (bytes.clone(), Arc::clone(&stops));
        app.workers.run(TIME, move |stop| {
            let asking =
                ReviewPath { plan: &plan, cluster: &cluster, door: &door, question, stops: &stops };
            let mut seen = None;
            let read = asking.read(&bytes, stop.flag(), &mut seen);
            (read, seen)
        })
    };
    let asking = ReviewPath { plan, cluster, door, question, stops: &stops };
    let mut pending = None;
    let read = match reading.await {
        Ok((read, seen)) => {
            pending = seen;
            read
        }
        Err(undone) => {
            let why = match undone {
                Undone::Late => "the larder could not read it in time",
                Undone::Busy => "the larder has too many reviews to read at once",
            };
            // Only its number is still wanted of it, which stands near its beginning.
            match Review::uid_of(&bytes) {
                Some(uid) => ReadReview::Answered(
                    Review::answer_to(&uid, &asking.unanswered(why)),
                    UNANSWERED,
                ),
                None => ReadReview::Wrong(why.to_owned()),
            }
        }
    };
    let mut admitted = true;
    let mut number = None;
    let (text, outcome) = match read {
        ReadReview::Answered(text, outcome) => (text, outcome),
        ReadReview::Wrong(why) => {
            app.meters.door_answered(cluster, "wrong", began.elapsed());
            return (health::plain(StatusCode::BAD_REQUEST, format!("{why}\n")), told);
        }
        ReadReview::Judging(review, wanted) => {
            let judged = asking.judge_all(app, &review, wanted, address);
            let (reply, outcome) = match tokio::time::timeout_at(ends, judged).await {
                Ok(reply) => {
                    let outcome = outcome(&reply);
                    (reply, outcome)
                }
                Err(_) => (asking.unanswered("the larder did not decide in time"), UNANSWERED),
            };
            admitted = reply.refused.is_none();
            number = reply.refused.as_deref().and_then(ToldNumber::in_sentence);
            (Review::answer_to(&review.uid, &reply), outcome)
        }
    };
    app.meters.door_answered(cluster, outcome, began.elapsed());
    if let Some(seen) = pending.filter(|_| admitted) {
        app.sightings.note(cluster, seen);
    }
    let json = [(header::CONTENT_TYPE, "application/json")];
    let mut response = (json, text).into_response();
    if let Some(number) = number {
        response.extensions_mut().insert(number);
    }
    (response, told)
}

/// What an answer comes to that the larder could not decide, for the figures.
const UNANSWERED: &str = "unanswered";

/// What an answer comes to, for the figures.
fn outcome(reply: &Reply) -> &'static str {
    match reply {
        Reply { refused: Some(_), .. } => "refused",
        Reply { warnings, .. } if !warnings.is_empty() => "warned",
        Reply { patch, .. } if !patch.is_empty() => "changed",
        Reply { .. } => "admitted",
    }
}

/// What came of reading a review.
enum ReadReview {
    /// It is no review; in words.
    Wrong(String),
    /// The answer, as the platform reads it, and what it comes to.
    Answered(String, &'static str),
    /// What the rules do not simply allow of what the object names, and what it needs to decide that.
    Judging(Review, Vec<Reference>),
}

/// What is asked, and of whom.
#[derive(Clone, Copy)]
struct ReviewPath<'q> {
    plan: &'q Plan,
    cluster: &'q str,
    door: &'q Door,
    question: Question,
    stops: &'q Stops,
}

impl ReviewPath<'_> {
    fn unanswered(&self, why: &str) -> Reply {
        let text = format!("larder: {why}");
        match self.door.refuses(self.question) {
            false => Reply { warnings: vec![text], ..Reply::default() },
            true => Reply { refused: Some(text), ..Reply::default() },
        }
    }

    /// Reads a review: processor work, as long as the author of the object likes.
    /// Notes what of it runs from this larder in `seen`; None stays where nothing comes of it.
    fn read(
        &self,
        bytes: &[u8],
        stop: &AtomicBool,
        seen: &mut Option<Vec<Sighting>>,
    ) -> ReadReview {
        let review = match Review::read(bytes) {
            Ok(review) => review,
            Err(error) => return ReadReview::Wrong(error.to_string()),
        };
        let answered = |reply: &Reply| {
            ReadReview::Answered(Review::answer_to(&review.uid, reply), outcome(reply))
        };
        if self.door.excepts(review.namespace.as_deref()) {
            return answered(&Reply::default());
        }
        let scan = match review.scan(Some(stop)) {
            Ok(Some(scan)) => scan,
            Ok(None) => return answered(&Reply::default()),
            Err(error) => {
                let reply = self.unanswered(&error.to_string());
                let text = Review::answer_to(&review.uid, &reply);
                return ReadReview::Answered(text, UNANSWERED);
            }
        };
        if self.is_last() && !review.dry_run {
            *seen = Some(self.seen(&review, &scan));
        }
        match self.question {
            Question::Rewrite => {
                let pin = if self.door.pin { Pin::Add } else { Pin::Keep };
                answered(&self.door.rewritten(&review, &scan, &self.retarget(pin)))
            }
            Question::Rules { .. } if self.door.rules == RulesAt::Off => {
                answered(&Reply::default())
            }
            Question::Rules { .. } => {
                let retarget = self.retarget(Pin::Keep);
                let mut references: Vec<Reference> = scan
                    .findings
                    .iter()
                    .filter(|one| one.is_run())
                    .filter_map(|one| retarget.read(&one.text))
                    .collect();
                references.sort();
                references.dedup();
                drop(scan);
                let namespace = review.namespace.as_deref();
                // What is simply allowed needs no second look.
                references.retain(|reference| {
                    let case = self.plan.court.reference(reference);
                    let answer = self.rule(&case, namespace, &ImageFacts::default());
                    let allowed =
                        RuleAnswer::Decided { verdict: Verdict::Allow, rule: None, lack: None };
                    answer != allowed || !self.stops.has_no_content()
                });
                ReadReview::Judging(review, references)
            }
        }
    }

    /// Whether what is asked is the last question about an object: where the cluster asks for the rules too, it runs only
    /// what these let through.
    fn is_last(&self) -> bool {
        match self.question {
            Question::Rewrite => self.door.rules == RulesAt::Off,
            Question::Rules { .. } => true,
        }
    }

    /// What of an object runs from this larder.
    fn seen(&self, review: &Review, scan: &Scan<'_>) -> Vec<Sighting> {
        let retarget = self.retarget(Pin::Keep);
        let workload = review.workload();
        let images = scan.findings.iter().filter(|one| one.is_run()).filter_map(|one| {
            let reference = retarget.read(&one.text)?;
            let here = self.plan.court.reference(&reference).here()?.clone();
            Some((here, reference.selector()))
        });
        let images: BTreeSet<(RepositoryName, Selector)> = images.collect();
        images
            .into_iter()
            .map(|image| Sighting {
                cluster: self.cluster.to_owned(),
                namespace: review.namespace.clone().unwrap_or_default(),
                workload: workload.clone(),
                image,
            })
            .collect()
    }

    fn retarget(&self, pin: Pin) -> Retarget<'_> {
        let Plan { court, unqualified, .. } = self.plan;
        Retarget::new(
            court.routes(),
            &court.lock,
            unqualified,
            RetargetWish { pin, ..RetargetWish::default() },
        )
    }

    /// What the rules say of an image.
    fn rule(&self, case: &Case<'_>, namespace: Option<&str>, facts: &ImageFacts) -> RuleAnswer<'_> {
        self.plan.court.rule(Some(self.cluster), namespace, case, facts, now())
    }

    async fn judge_all(
        &self,
        app: &Arc<App>,
        review: &Review,
        wanted: Vec<Reference>,
        address: Option<std::net::IpAddr>,
    ) -> Reply {
        let mut said = Vec::new();
        for one in &wanted {
            match self.judge(app, review, one, address).await {
                Ok(judged) => said.extend(judged),
                Err(error) => {
                    tracing::error!(%error, "the store could not be asked at the door");
                    return self.unanswered("the larder's store gives no answer");
                }
            }
        }
        self.door.judged(said)
    }

    /// What the rules say of an image, where they do not simply allow it.
    async fn judge(
        &self,
        app: &Arc<App>,
        review: &Review,
        reference: &Reference,
        address: Option<std::net::IpAddr>,
    ) -> Result<Option<(bool, String)>, ApiError> {
        let case = self.plan.court.reference(reference);
        let namespace = review.namespace.as_deref();
        if let Some(sentence) = self.blocked(app, &case).await? {
            let message = format!("{reference} is refused: {sentence}");
            let told =
                self.told(app, review, reference, (RecordKind::Refused, None), message, address);
            return Ok(Some((true, told)));
        }
        let mut answer = self.rule(&case, namespace, &ImageFacts::default());
        if let RuleAnswer::Needs(_) = answer {
            let facts = match case.here() {
                Some(here) => {
                    let wish = self.plan.court.wish(Some(self.cluster), &case, now());
                    let place =
                        FactsPlace { repository: here, selector: &reference.selector(), wish };
                    app.facts.look(app, place, false).await?.facts
                }
                // It is not pulled through this larder, so that nothing will ever be known of it here.
                None => Arc::new(ImageFacts::UNKNOWN),
            };
            // What is not here yet is looked into when it is pulled; nobody waits for it at the door.
            let known = facts.held != Fact::Unknown || facts.platforms != Fact::Unknown;
            if !known && case.here().is_some() {
                return Ok(None);
            }
            answer = self.rule(&case, namespace, &facts);
            let since = now().saturating_sub(self.plan.court.in_use);
            if let (RuleAnswer::Needs(_), Some(here)) = (&answer, case.here()) {
                let selector = reference.selector();
                let runs = app.store.is_running(here, &selector, self.cluster, since).await?;
                let facts = ImageFacts { runs: Fact::Is(runs), ..(*facts).clone() };
                answer = self.rule(&case, namespace, &facts);
            }
        }
        let Some(said) = answer.said(reference) else { return Ok(None) };
        let kind = if said.denied { RecordKind::Refused } else { RecordKind::Warned };
        let about = (kind, Some(said.line));
        Ok(Some((said.denied, self.told(app, review, reference, about, said.sentence, address))))
    }

    /// Why an image is blocked, if it is, or if its digest in this larder is.
    async fn blocked(&self, app: &App, case: &Case<'_>) -> Result<Option<String>, StoreError> {
        if self.stops.has_no_content() {
            return Ok(None);
        }
        let mut digest = case.named.digest.cloned();
        if let (None, Some(here)) = (&digest, case.here()) {
            let found = app.store.manifest_record(here, &case.named.selector()).await?;
            digest = found.map(|found| found.digest);
        }
        let stop = digest.as_ref().and_then(|digest| self.stops.content(digest));
        Ok(stop.map(|stop| blocked::sentence("it", stop)))
    }

    /// Writes down what was decided of an image, and gives the sentence with its number.
    fn told(
        &self,
        app: &App,
        review: &Review,
        reference: &Reference,
        (kind, line): (RecordKind, Option<String>),
        message: String,
        address: Option<std::net::IpAddr>,
    ) -> String {
        let namespace = review.namespace.as_deref();
        let whose = format!("{} {}", review.kind, review.name);
        let caller = Caller {
            who: Who::cluster(self.cluster, namespace),
            by: None,
            token: None,
            address,
            node: false,
        };
        let text = format!("at the door, for {}: {message}", whose.trim());
        let mut happened = RecordedDeed::of(&caller, kind, &text);
        happened.reference = Some(RecordSubject::Text(reference.to_string()));
        happened.line = line;
        // A dry run leaves no trace.
        if review.dry_run {
            return message;
        }
        format!("{message}{}", app.recorder.note(&happened))
    }
}

/// Whether a request is for a door.
pub(crate) fn is_one(path: &str) -> bool {
    path.starts_with(larder_core::door::PREFIX)
}
