//! What is done with what a cluster is about to run? The platform's admission review (`AdmissionReview`
//! of `admission.k8s.io/v1`): read, decided, answered.

use std::sync::atomic::AtomicBool;

use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE_NO_PAD};
use ring::hmac;
use serde::Deserialize;
use serde_json::value::RawValue;
use serde_json::{Value, json};

use crate::retarget::{LeftBecause, Retarget, RetargetAnswer};
use crate::rewrite::{FileContext, ParseError, Scan, scan};
use crate::workload::Ownership;

/// The largest review that is read, in bytes: what the platform keeps of one object, twice over.
pub const REVIEW_LIMIT: usize = 4 * 1024 * 1024;
/// Images that one object may name; one that names more is not judged.
pub const IMAGES_LIMIT: usize = 10_000;
/// Warnings that one answer carries, and the bytes of each (Kubernetes: "Response", `warnings`).
const WARNINGS: usize = 16;
const WARNING: usize = 250;

/// The first part of the path at which doors are answered.
pub const PREFIX: &str = "/door/";

/// Makes the paths at which clusters ask: the platform's API cannot sign in, so that who knows the path
/// is believed to be it.
pub struct DoorKey(hmac::Key);

impl DoorKey {
    /// From the larder's own secret.
    pub fn new(secret: &[u8; 32]) -> Self {
        Self(hmac::Key::new(hmac::HMAC_SHA256, secret))
    }

    fn said(cluster: &str) -> Vec<u8> {
        [b"door\0", cluster.as_bytes()].concat()
    }

    /// `/door/CLUSTER/TOKEN/`, before `rewrite` or `rules`. A secret.
    pub fn path(&self, cluster: &str) -> String {
        let tag = hmac::sign(&self.0, &Self::said(cluster));
        format!("{PREFIX}{cluster}/{}/", URL_SAFE_NO_PAD.encode(tag.as_ref()))
    }

    /// The cluster that a path is of, and what is asked there. None: this larder has no such door. Takes as long
    /// for a wrong token as for a right one.
    pub fn read<'p>(&self, path: &'p str) -> Option<(&'p str, Question)> {
        let mut parts = path.strip_prefix(PREFIX)?.split('/');
        let (cluster, token, question) = (parts.next()?, parts.next()?, parts.next()?);
        let shown = URL_SAFE_NO_PAD.decode(token).ok()?;
        hmac::verify(&self.0, &Self::said(cluster), &shown).ok()?;
        let question = match (question, parts.next()) {
            ("rewrite", None) => Question::Rewrite,
            ("rules", None) => Question::Rules { refuses_by_default: false },
            ("rules", Some("refuse")) if parts.next().is_none() => {
                Question::Rules { refuses_by_default: true }
            }
            _ => return None,
        };
        Some((cluster, question))
    }
}

/// What a cluster asks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Question {
    /// What is changed in an object.
    Rewrite,
    /// Whether the rules let it in.
    Rules {
        /// It asks by a webhook that was written since what cannot be decided is refused by default.
        refuses_by_default: bool,
    },
}

/// What a cluster wants to be done at its door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Door {
    /// References are made to name the larder.
    pub rewrite: bool,
    /// Digests are put in.
    pub pin: bool,
    /// The pull secret that is put into pods that pull from the larder. None: none is.
    pub secret: Option<String>,
    /// What becomes of what the rules deny.
    pub rules: RulesAt,
    /// Namespaces that are let through as they are.
    pub except: Vec<String>,
    /// It is only told what would be done.
    pub rehearse: bool,
    /// What becomes of what cannot be decided. None: nothing is written, see [`Door::refuses`].
    pub unanswered: Option<Unanswered>,
}

/// What becomes of what the larder cannot decide.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Unanswered {
    /// It runs as it is, and the person who applied it is warned.
    Admit,
    /// It does not run.
    Refuse,
}

/// What becomes of what the rules deny.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum RulesAt {
    Enforce,
    /// It is let through with a warning.
    Warn,
    /// They are not asked.
    Off,
}

/// What the platform asks.
#[derive(Debug)]
pub struct Review {
    /// What the platform calls the review by.
    pub uid: String,
    /// The namespace of the object. None: it lies in none.
    pub namespace: Option<String>,
    /// `Pod`, `Deployment`, …
    pub kind: String,
    /// The object's name, where it has one already.
    pub name: String,
    /// Nothing comes of it: it is only asked what would.
    pub dry_run: bool,
    update: bool,
    object: Option<Box<RawValue>>,
}

/// Why a review cannot be answered.
#[derive(Debug, thiserror::Error)]
pub enum ReviewError {
    #[error("it is no AdmissionReview of admission.k8s.io/v1: {0}")]
    Shape(String),
    /// The object in it cannot be read.
    #[error("the object in it cannot be read: {0}")]
    Object(#[from] ParseError),
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Envelope {
    api_version: String,
    kind: String,
    request: ReviewRequest,
}

#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct ReviewRequest {
    uid: String,
    kind: KindName,
    #[serde(default)]
    name: String,
    namespace: Option<String>,
    #[serde(default)]
    operation: String,
    dry_run: Option<bool>,
    object: Option<Box<RawValue>>,
}

#[derive(Deserialize)]
struct KindName {
    kind: String,
}

impl Review {
    /// Reads the body of a request.
    pub fn read(body: &[u8]) -> Result<Self, ReviewError> {
        let read = serde_json::from_slice::<Envelope>(body);
        let read = read.map_err(|error| ReviewError::Shape(error.to_string()))?;
        if read.kind != "AdmissionReview" || read.api_version != "admission.k8s.io/v1" {
            let found = format!("{} of {}", read.kind, read.api_version);
            return Err(ReviewError::Shape(found.chars().take(120).collect()));
        }
        let ReviewRequest { uid, kind, name, namespace, operation, dry_run, object } = read.request;
        if uid.len() > 128 {
            return Err(ReviewError::Shape("its uid is too long".into()));
        }
        let object = object.filter(|object| object.get() != "null");
        let (update, dry_run) = (operation == "UPDATE", dry_run.unwrap_or_default());
        Ok(Self { uid, namespace, kind: kind.kind, name, dry_run, update, object })
    }

    /// The name of a review, of which nothing else is read: what it costs does not depend on its object's shape.
    /// None: it has none near its beginning.
    pub fn uid_of(body: &[u8]) -> Option<String> {
        const NEAR: usize = 4096;
        let head = String::from_utf8_lossy(&body[..body.len().min(NEAR)]);
        let after = head.split_once("\"uid\"")?.1.trim_start().strip_prefix(':')?;
        let uid = after.trim_start().strip_prefix('"')?.split('"').next()?;
        let known = |b: u8| b.is_ascii_alphanumeric() || b == b'-';
        (!uid.is_empty() && uid.len() <= 128 && uid.bytes().all(known)).then(|| uid.to_owned())
    }

    /// The workload that the object belongs to.
    pub fn workload(&self) -> String {
        let object = self.object.as_deref().map(RawValue::get).unwrap_or_default();
        Ownership::read(object).workload(&self.kind)
    }

    /// Whether the platform still lets a pod's secrets be changed: those of one that is there it does
    /// not.
    fn takes_secrets(&self) -> bool {
        !(self.update && self.kind == "Pod")
    }

    /// What the object names. None: there is no object, as when one is deleted.
    /// Reading ends early, with an error, once `stop` is set.
    pub fn scan<'s>(
        &'s self,
        stop: Option<&'s AtomicBool>,
    ) -> Result<Option<Scan<'s>>, ReviewError> {
        let Some(object) = &self.object else { return Ok(None) };
        let most = Some(IMAGES_LIMIT);
        let file = FileContext { name: "object.json", stop, most, ..FileContext::default() };
        Ok(Some(scan(object.get(), &file)?))
    }

    /// The answer, as the platform reads it.
    pub fn answer(&self, answer: &Reply) -> String {
        Self::answer_to(&self.uid, answer)
    }

    /// The answer to the review of that name, as the platform reads it.
    pub fn answer_to(uid: &str, answer: &Reply) -> String {
        let mut response = json!({ "uid": uid, "allowed": answer.refused.is_none() });
        if let Some(refused) = &answer.refused {
            response["status"] = json!({ "code": 403, "reason": "Forbidden", "message": refused });
        }
        if !answer.warnings.is_empty() {
            let cut = |text: &String| text.chars().take(WARNING).collect::<String>();
            let all: Vec<String> = answer.warnings.iter().take(WARNINGS).map(cut).collect();
            response["warnings"] = all.into();
        }
        if !answer.patch.is_empty() {
            response["patchType"] = "JSONPatch".into();
            let patch = Value::from(answer.patch.clone()).to_string();
            response["patch"] = STANDARD.encode(patch).into();
        }
        json!({ "apiVersion": "admission.k8s.io/v1", "kind": "AdmissionReview", "response": response })
            .to_string()
    }
}

/// What is answered.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Reply {
    /// Why it must not run. None: it may.
    pub refused: Option<String>,
    /// What the person who applied it is told.
    pub warnings: Vec<String>,
    /// What is changed in it (RFC 6902).
    pub patch: Vec<Value>,
}

impl Door {
    /// Whether what cannot be decided is refused. Where nothing is written, `enforce` means it; only webhooks that
    /// a cluster has from before that was so are still admitted to.
    pub fn refuses(&self, question: Question) -> bool {
        match (self.unanswered, question) {
            (Some(unanswered), _) => unanswered == Unanswered::Refuse,
            (None, Question::Rewrite) => false,
            (None, Question::Rules { refuses_by_default }) => {
                refuses_by_default && self.rules == RulesAt::Enforce && !self.rehearse
            }
        }
    }

    /// Whether a namespace is let through as it is.
    pub fn excepts(&self, namespace: Option<&str>) -> bool {
        namespace.is_some_and(|namespace| self.except.iter().any(|one| one == namespace))
    }

    /// What is changed in an object.
    pub fn rewritten(&self, review: &Review, scan: &Scan<'_>, retarget: &Retarget<'_>) -> Reply {
        let mut reply = Reply::default();
        let host = retarget.host().as_str();
        let mut from_here = vec![false; scan.pods.len()];
        for finding in scan.findings.iter().filter(|one| one.is_run()) {
            let answer = retarget.answer(&finding.text, finding.tag_elsewhere);
            let pulled = match &answer {
                RetargetAnswer::Become(new) if self.rewrite => new.host.as_str() == host,
                _ => names(&finding.text, host),
            };
            if let Some(pod) = finding.pod.filter(|_| pulled) {
                from_here[pod] = true;
            }
            match answer {
                RetargetAnswer::Become(new) if self.rewrite => {
                    let text = &finding.text;
                    match scan.pointer(finding) {
                        Some(path) if !self.rehearse => reply.patch.push(
                            json!({ "op": "replace", "path": path, "value": new.to_string() }),
                        ),
                        Some(_) => {
                            reply.warnings.push(format!("larder: {text} would become {new}"));
                        }
                        None => {
                            reply.warnings.push(format!("larder: {text} should become {new}"));
                        }
                    }
                }
                RetargetAnswer::Left(
                    left @ (LeftBecause::Unpinned(_) | LeftBecause::Malformed(_)),
                ) => {
                    reply.warnings.push(format!("larder: {} stays as it is: {left}", finding.text));
                }
                _ => {}
            }
        }
        let secret = self.secret.as_ref().filter(|_| review.takes_secrets());
        let Some(secret) = secret else { return reply };
        for (pod, _) in scan.pods.iter().zip(from_here).filter(|(_, here)| *here) {
            let named = scan.secrets(pod);
            if named.contains(secret) {
                continue;
            }
            let path = scan.pod_pointer(pod);
            let (end, value) = match named.is_empty() {
                true => ("", json!([{ "name": secret }])),
                false => ("/-", json!({ "name": secret })),
            };
            if self.rehearse {
                reply.warnings.push(format!("larder: the pull secret {secret} would be added"));
            } else {
                let path = format!("{path}/imagePullSecrets{end}");
                reply.patch.push(json!({ "op": "add", "path": path, "value": value }));
            }
        }
        reply
    }

    /// What comes of what the rules say of the images of an object: of each that they do not simply
    /// allow, whether they deny it, and why.
    pub fn judged(&self, said: Vec<(bool, String)>) -> Reply {
        let mut reply = Reply::default();
        for (denied, why) in said {
            match denied && self.rules == RulesAt::Enforce && !self.rehearse {
                true if reply.refused.is_none() => reply.refused = Some(format!("larder: {why}")),
                _ => reply.warnings.push(format!("larder: {why}")),
            }
        }
        reply
    }
}

fn names(text: &str, host: &str) -> bool {
    text.strip_prefix(host).is_some_and(|rest| rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lock::Lock;
    use crate::name::Host;
    use crate::reference::Unqualified;
    use crate::retarget::RetargetWish;
    use crate::route::{Exception, ExceptionScope, Routes};

    const OURS: &str = "larder.example:5080";

    fn review(object: &str) -> Review {
        let text = format!(
            r#"{{"apiVersion":"admission.k8s.io/v1","kind":"AdmissionReview","request":{{"uid":"u1","kind":{{"group":"","version":"v1","kind":"Pod"}},"namespace":"scada","object":{object}}}}}"#
        );
        Review::read(text.as_bytes()).unwrap()
    }

    fn rewritten(door: &Door, object: &str) -> Reply {
        let own: Host = OURS.parse().unwrap();
        let told = Exception {
            of: ExceptionScope::read("bazaar.example/library/**", None).unwrap(),
            to: Some(ExceptionScope::read("bazaar/**", Some(&own)).unwrap()),
            because: String::new(),
        };
        let routes = Routes::new(own, Vec::new()).with_exceptions(vec![told]);
        let (lock, unqualified) = (Lock::default(), Unqualified::default());
        let retarget = Retarget::new(&routes, &lock, &unqualified, RetargetWish::default());
        let review = review(object);
        door.rewritten(&review, &review.scan(None).unwrap().unwrap(), &retarget)
    }

    fn door() -> Door {
        Door {
            rewrite: true,
            pin: false,
            secret: Some("larder-pull".into()),
            rules: RulesAt::Enforce,
            except: vec!["kube-system".into()],
            rehearse: false,
            unanswered: None,
        }
    }

    const POD: &str = r#"{"apiVersion":"v1","kind":"Pod","spec":{"containers":[{"name":"a","image":"bazaar.example/library/kettle:2"},{"name":"b","image":"other.example/x:1"}],"imagePullSecrets":[{"name":"other"}]}}"#;

    #[test]
    fn an_object_gets_its_references_and_its_secret() {
        let reply = rewritten(&door(), POD);
        assert_eq!(
            reply.patch,
            [
                json!({"op": "replace", "path": "/spec/containers/0/image", "value": format!("{OURS}/bazaar/kettle:2")}),
                json!({"op": "add", "path": "/spec/imagePullSecrets/-", "value": {"name": "larder-pull"}}),
            ]
        );
        let template = format!(
            r#"{{"apiVersion":"apps/v1","kind":"Deployment","spec":{{"template":{}}}}}"#,
            POD.replace(r#","imagePullSecrets":[{"name":"other"}]"#, "")
        );
        let reply = rewritten(&door(), &template);
        assert_eq!(reply.patch[0]["path"], "/spec/template/spec/containers/0/image");
        assert_eq!(reply.patch[1]["path"], "/spec/template/spec/imagePullSecrets");
        // What is right already is left as it is, and a rehearsal only tells.
        let right = POD.replace("bazaar.example/library", &format!("{OURS}/bazaar"));
        let right = right.replace("\"other\"", "\"larder-pull\"");
        assert_eq!(rewritten(&door(), &right), Reply::default());
        let told = rewritten(&Door { rehearse: true, ..door() }, POD);
        assert!(told.patch.is_empty() && told.warnings.len() == 2, "{told:?}");
    }

    #[test]
    fn an_answer_is_what_the_platform_reads() {
        let review = review(POD);
        let reply = door().judged(vec![(false, "x is old".into()), (true, "y is denied".into())]);
        let answer: Value = serde_json::from_str(&review.answer(&reply)).unwrap();
        let response = &answer["response"];
        assert_eq!(response["uid"], "u1");
        assert_eq!(response["allowed"], false);
        assert_eq!(response["status"]["message"], "larder: y is denied");
        assert_eq!(response["warnings"], json!(["larder: x is old"]));
        let patched =
            Reply { patch: vec![json!({"op": "remove", "path": "/x"})], ..Reply::default() };
        let answer: Value = serde_json::from_str(&review.answer(&patched)).unwrap();
        let patch = STANDARD.decode(answer["response"]["patch"].as_str().unwrap()).unwrap();
        assert_eq!(patch, br#"[{"op":"remove","path":"/x"}]"#);
        let lenient = Door { rules: RulesAt::Warn, ..door() };
        assert!(lenient.judged(vec![(true, "y".into())]).refused.is_none());
        assert!(door().excepts(Some("kube-system")) && !door().excepts(None));
    }

    #[test]
    fn only_who_knows_its_path_asks_for_a_cluster() {
        let key = DoorKey::new(&[7; 32]);
        let path = key.path("turbine-hall");
        assert_eq!(key.read(&format!("{path}rewrite")), Some(("turbine-hall", Question::Rewrite)));
        for (end, refuses_by_default) in [("rules", false), ("rules/refuse", true)] {
            let question = Question::Rules { refuses_by_default };
            assert_eq!(key.read(&format!("{path}{end}")), Some(("turbine-hall", question)));
        }
        let other = path.replace("turbine-hall", "field-lab");
        for wrong in [
            format!("{other}rules"),
            format!("{path}rules/more"),
            format!("{path}other"),
            path.clone(),
            "/door/turbine-hall//rules".into(),
            "/door/".into(),
            "/v2/".into(),
        ] {
            assert_eq!(key.read(&wrong), None, "{wrong}");
        }
        assert_eq!(DoorKey::new(&[8; 32]).read(&format!("{path}rules")), None);
    }

    #[test]
    fn what_is_no_review_is_told() {
        for wrong in [
            "",
            "{}",
            "[]",
            r#"{"apiVersion":"v1","kind":"Pod","request":{"uid":"","kind":{"kind":"Pod"}}}"#,
        ] {
            assert!(Review::read(wrong.as_bytes()).is_err(), "{wrong}");
        }
        assert!(review("null").scan(None).unwrap().is_none());
    }
}
