//! What leads a cluster's API to its door at the larder: the platform's webhook configurations
//! (`admissionregistration.k8s.io/v1`).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Map, Value, json};

use super::MANAGER;

/// How a cluster's API asks at its door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Webhooks {
    pub cluster: String,
    /// Where, with the secret path, up to the last slash: `https://…/door/CLUSTER/TOKEN/`.
    pub url: String,
    /// The authority that the API trusts for it, in PEM. None: the system's.
    pub ca: Option<String>,
    /// Namespaces of which it does not ask at all.
    pub except: Vec<String>,
    /// Whether references are rewritten, or secrets put in.
    pub rewrites: bool,
    /// Whether the rules are asked.
    pub judges: bool,
    /// Whether the question about rewriting has to be answered for an object to be taken.
    pub rewriting_needed: bool,
    /// Whether the question about the rules has to be.
    pub rules_needed: bool,
    /// Whether the cluster's API knows `matchConditions` (Kubernetes 1.28 and later), so that an update is asked
    /// about only when it changes an image.
    pub conditions: bool,
}

/// Seconds that the API waits. The larder takes far less; the rest is for the network.
const PATIENCE: u32 = 2;
/// What runs the cluster itself never depends on the larder.
pub(super) const NEVER: &str = "kube-system";

/// The path of an admission object in the cluster's API.
pub fn path_of(object: &Value) -> String {
    let kind = match object["kind"].as_str() {
        Some("MutatingWebhookConfiguration") => "mutatingwebhookconfigurations",
        Some("ValidatingAdmissionPolicy") => "validatingadmissionpolicies",
        Some("ValidatingAdmissionPolicyBinding") => "validatingadmissionpolicybindings",
        _ => "validatingwebhookconfigurations",
    };
    let name = object["metadata"]["name"].as_str().unwrap_or_default();
    format!("/apis/admissionregistration.k8s.io/v1/{kind}/{name}")
}

impl Webhooks {
    /// The objects, in the order in which they are applied.
    pub fn objects(&self) -> Vec<Value> {
        let mut all = Vec::new();
        if self.rewrites {
            all.push(self.object("MutatingWebhookConfiguration", "rewrite"));
        }
        if self.judges {
            all.push(self.object("ValidatingWebhookConfiguration", "rules"));
        }
        all
    }

    /// The name that both objects have.
    pub fn name(&self) -> String {
        format!("larder-door-{}", self.cluster)
    }

    /// Whether what one of the objects asks about must be answered.
    pub fn is_needed(object: &Value) -> bool {
        let hooks = object["webhooks"].as_array().into_iter().flatten();
        hooks.into_iter().any(|hook| hook["failurePolicy"] == "Fail")
    }

    /// Where one of the objects asks. A secret.
    pub fn url(object: &Value) -> Option<String> {
        object["webhooks"][0]["clientConfig"]["url"].as_str().map(str::to_owned)
    }

    fn object(&self, kind: &str, question: &str) -> Value {
        let webhooks = match question {
            "rewrite" => vec![Value::Object(self.rewriting())],
            _ => self.rules().into_iter().map(Value::Object).collect(),
        };
        json!({
            "apiVersion": "admissionregistration.k8s.io/v1",
            "kind": kind,
            "metadata": {
                "name": self.name(),
                "labels": { "app.kubernetes.io/managed-by": MANAGER },
            },
            "webhooks": webhooks,
        })
    }

    fn rewriting(&self) -> Map<String, Value> {
        let rules: Vec<Value> = ASKED
            .iter()
            .map(|asked| {
                asked.rule(if asked.updates { &["CREATE", "UPDATE"] } else { &["CREATE"] })
            })
            .chain([ephemeral()])
            .collect();
        let mut webhook = self.webhook("rewrite", "rewrite", &rules, self.rewriting_needed);
        webhook.insert("reinvocationPolicy".into(), "IfNeeded".into());
        webhook
    }

    /// One question for what is new, and one for each way in which an update can change an image.
    fn rules(&self) -> Vec<Map<String, Value>> {
        let path = if self.rules_needed { "rules/refuse" } else { "rules" };
        let mut new: Vec<Value> = ASKED.iter().map(|asked| asked.rule(&["CREATE"])).collect();
        new.push(ephemeral());
        let mut all = vec![self.webhook("rules", path, &new, self.rules_needed)];
        let mut places: Vec<&str> = ASKED.iter().filter(|it| it.updates).map(|it| it.pod).collect();
        places.dedup();
        if !self.conditions {
            // It would be asked about every change of state: what it does not answer must not stop those.
            let updates = ASKED.iter().filter(|asked| asked.updates);
            let rules: Vec<Value> = updates.map(|asked| asked.rule(&["UPDATE"])).collect();
            all.push(self.webhook("updates", path, &rules, false));
            return all;
        }
        for (number, pod) in places.iter().enumerate() {
            let these = ASKED.iter().filter(|asked| asked.updates && asked.pod == *pod);
            let rules: Vec<Value> = these.map(|asked| asked.rule(&["UPDATE"])).collect();
            let name = format!("updates-{number}");
            let mut webhook = self.webhook(&name, path, &rules, self.rules_needed);
            let condition = json!({ "name": "an-image-changes", "expression": changes(pod) });
            webhook.insert("matchConditions".into(), json!([condition]));
            all.push(webhook);
        }
        all
    }

    fn webhook(&self, name: &str, path: &str, rules: &[Value], needed: bool) -> Map<String, Value> {
        let mut client = json!({ "url": format!("{}{path}", self.url) });
        if let Some(ca) = &self.ca {
            client["caBundle"] = STANDARD.encode(ca).into();
        }
        let mut except: Vec<&str> = self.except.iter().map(String::as_str).collect();
        if !except.contains(&NEVER) {
            except.push(NEVER);
        }
        let webhook = json!({
            // At least three parts, as the platform wants them.
            "name": format!("{name}.door.iron-larder"),
            "clientConfig": client,
            "rules": rules,
            // The platform itself sets this label to the namespace's name.
            "namespaceSelector": { "matchExpressions": [
                { "key": "kubernetes.io/metadata.name", "operator": "NotIn", "values": except },
            ]},
            "admissionReviewVersions": ["v1"],
            // Refusals are recorded, but not those of a dry run.
            "sideEffects": "NoneOnDryRun",
            "timeoutSeconds": PATIENCE,
            "failurePolicy": if needed { "Fail" } else { "Ignore" },
            "matchPolicy": "Equivalent",
        });
        match webhook {
            Value::Object(webhook) => webhook,
            _ => Map::new(),
        }
    }
}

/// A kind of object about which is asked.
pub(super) struct ReviewedKind {
    group: &'static str,
    resources: &'static [&'static str],
    /// The way to its pod's specification, from `object` on.
    pub pod: &'static str,
    /// Whether an update can change its images.
    pub updates: bool,
}

pub(super) const ASKED: [ReviewedKind; 5] = [
    ReviewedKind { group: "", resources: &["pods"], pod: "spec", updates: true },
    ReviewedKind {
        group: "",
        resources: &["replicationcontrollers"],
        pod: "spec.template.spec",
        updates: true,
    },
    ReviewedKind {
        group: "apps",
        resources: &["deployments", "statefulsets", "daemonsets", "replicasets"],
        pod: "spec.template.spec",
        updates: true,
    },
    ReviewedKind {
        group: "batch",
        resources: &["jobs"],
        pod: "spec.template.spec",
        updates: false,
    },
    ReviewedKind {
        group: "batch",
        resources: &["cronjobs"],
        pod: "spec.jobTemplate.spec.template.spec",
        updates: true,
    },
];

impl ReviewedKind {
    /// The rule of a webhook that asks about it.
    pub fn rule(&self, operations: &[&str]) -> Value {
        rule(self.group, operations, self.resources)
    }
}

/// Debugging containers come by an update of their own.
fn ephemeral() -> Value {
    rule("", &["UPDATE"], &["pods/ephemeralcontainers"])
}

pub(super) fn rule(group: &str, operations: &[&str], resources: &[&str]) -> Value {
    json!({
        "apiGroups": [group], "apiVersions": ["v1"], "operations": operations,
        "resources": resources, "scope": "Namespaced",
    })
}

/// Whether an update changes an image, in the platform's expression language: every field that may be absent is
/// asked for first, since an expression that fails refuses the update.
fn changes(pod: &str) -> String {
    let present = |object: &str| {
        let mut path = object.to_owned();
        let each = pod.split('.').map(|step| {
            path = format!("{path}.{step}");
            format!("has({path})")
        });
        each.collect::<Vec<_>>().join(" && ")
    };
    let images = |object: &str| {
        let pod = format!("{object}.{pod}");
        let list = |name: &str, keep: &str, image: &str| {
            format!(
                "(has({pod}.{name}) ? {pod}.{name}{keep}.map(c, has(c.{image}) ? c.{image} : \"\") : [])"
            )
        };
        [
            list("containers", "", "image"),
            list("initContainers", "", "image"),
            list("volumes", ".filter(c, has(c.image))", "image.reference"),
        ]
        .join(" + ")
    };
    let (now, before) = ("object", "oldObject");
    format!("!({} && {}) || ({} != {})", present(now), present(before), images(now), images(before))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_api_is_led_to_the_door() {
        let webhooks = Webhooks {
            cluster: "turbine-hall".into(),
            url: "https://larder.example/door/turbine-hall/t/".into(),
            ca: Some("PEM".into()),
            except: vec!["lab".into()],
            rewrites: true,
            judges: true,
            rewriting_needed: false,
            rules_needed: false,
            conditions: false,
        };
        let objects = webhooks.objects();
        assert_eq!(objects.len(), 2);
        let hook = &objects[0]["webhooks"][0];
        assert_eq!(
            hook["clientConfig"],
            json!({"url": "https://larder.example/door/turbine-hall/t/rewrite", "caBundle": "UEVN"})
        );
        assert_eq!(hook["failurePolicy"], "Ignore");
        assert_eq!(
            hook["namespaceSelector"]["matchExpressions"][0]["values"],
            json!(["lab", "kube-system"])
        );
        assert_eq!(
            path_of(&objects[1]),
            "/apis/admissionregistration.k8s.io/v1/validatingwebhookconfigurations/larder-door-turbine-hall"
        );
        assert_eq!(
            objects[1]["webhooks"][0]["clientConfig"]["url"],
            "https://larder.example/door/turbine-hall/t/rules"
        );
        let needed = Webhooks { rewrites: false, rules_needed: true, ..webhooks };
        let policies = |webhooks: &Webhooks| -> Vec<String> {
            let objects = webhooks.objects();
            assert_eq!(objects.len(), 1);
            let hooks = objects[0]["webhooks"].as_array().unwrap().iter();
            hooks
                .map(|hook| {
                    let url = hook["clientConfig"]["url"].as_str().unwrap();
                    assert!(url.ends_with("/rules/refuse"), "{url}");
                    format!("{} {}", hook["rules"][0]["operations"], hook["failurePolicy"])
                })
                .collect()
        };
        assert_eq!(policies(&needed), [r#"["CREATE"] "Fail""#, r#"["UPDATE"] "Ignore""#]);
        let conditional = Webhooks { conditions: true, ..needed };
        assert_eq!(
            policies(&conditional)[1..],
            [r#"["UPDATE"] "Fail""#, r#"["UPDATE"] "Fail""#, r#"["UPDATE"] "Fail""#]
        );
        let hooks = &conditional.objects()[0]["webhooks"];
        let asked = hooks[2]["matchConditions"][0]["expression"].as_str().unwrap();
        assert!(asked.starts_with("!(has(object.spec) && has(object.spec.template) && has(object.spec.template.spec) && has(oldObject.spec)"), "{asked}");
        assert_eq!(asked.matches('(').count(), asked.matches(')').count());
    }
}
