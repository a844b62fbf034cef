//! What leads a cluster's API to its door at the larder: the platform's webhook configurations
//! (`admissionregistration.k8s.io/v1`).

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};

use super::MANAGER;

/// How a cluster's API asks at its door.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Webhooks {
    /// The cluster.
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
    /// Whether what the larder does not answer is refused.
    pub strict: bool,
}

/// Seconds that the API waits. The larder takes far less; the rest is for the network.
const PATIENCE: u32 = 2;
/// What runs the cluster itself never depends on the larder.
const NEVER: &str = "kube-system";

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

    /// The path of one of the objects in the cluster's API.
    pub fn path(object: &Value) -> String {
        let kind = match object["kind"].as_str() {
            Some("MutatingWebhookConfiguration") => "mutatingwebhookconfigurations",
            _ => "validatingwebhookconfigurations",
        };
        let name = object["metadata"]["name"].as_str().unwrap_or_default();
        format!("/apis/admissionregistration.k8s.io/v1/{kind}/{name}")
    }

    fn object(&self, kind: &str, question: &str) -> Value {
        let mut client = json!({ "url": format!("{}{question}", self.url) });
        if let Some(ca) = &self.ca {
            client["caBundle"] = STANDARD.encode(ca).into();
        }
        let mut except: Vec<&str> = self.except.iter().map(String::as_str).collect();
        if !except.contains(&NEVER) {
            except.push(NEVER);
        }
        let rule = |group: &str, operations: &[&str], resources: &[&str]| {
            json!({
                "apiGroups": [group], "apiVersions": ["v1"], "operations": operations,
                "resources": resources, "scope": "Namespaced",
            })
        };
        let mut webhook = json!({
            // At least three parts, as the platform wants them.
            "name": format!("{question}.door.iron-larder"),
            "clientConfig": client,
            "rules": [
                rule("", &["CREATE", "UPDATE"], &["pods", "replicationcontrollers"]),
                rule("", &["UPDATE"], &["pods/ephemeralcontainers"]),
                rule("apps", &["CREATE", "UPDATE"], &["deployments", "statefulsets", "daemonsets", "replicasets"]),
                rule("batch", &["CREATE"], &["jobs"]),
                rule("batch", &["CREATE", "UPDATE"], &["cronjobs"]),
            ],
            "namespaceSelector": { "matchExpressions": [
                { "key": "kubernetes.io/metadata.name", "operator": "NotIn", "values": except },
            ]},
            "admissionReviewVersions": ["v1"],
            // Refusals are recorded, but not those of a dry run.
            "sideEffects": "NoneOnDryRun",
            "timeoutSeconds": PATIENCE,
            "failurePolicy": if self.strict { "Fail" } else { "Ignore" },
            "matchPolicy": "Equivalent",
        });
        if kind == "MutatingWebhookConfiguration" {
            webhook["reinvocationPolicy"] = "IfNeeded".into();
        }
        json!({
            "apiVersion": "admissionregistration.k8s.io/v1",
            "kind": kind,
            "metadata": {
                "name": self.name(),
                "labels": { "app.kubernetes.io/managed-by": MANAGER },
            },
            "webhooks": [webhook],
        })
    }
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
            strict: false,
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
            Webhooks::path(&objects[1]),
            "/apis/admissionregistration.k8s.io/v1/validatingwebhookconfigurations/larder-door-turbine-hall"
        );
        let only = Webhooks { judges: false, strict: true, ..webhooks };
        assert_eq!(only.objects().len(), 1);
        assert_eq!(only.objects()[0]["webhooks"][0]["failurePolicy"], "Fail");
    }
}
