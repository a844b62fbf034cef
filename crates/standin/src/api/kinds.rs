//! The kinds that the stand-in cluster knows, as its discovery tells them (Kubernetes API, "API Discovery").

use serde_json::{Value, json};

/// One kind of object.
#[derive(Debug, Clone, Copy)]
pub(crate) struct ObjectKind {
    /// Empty: the core group.
    pub group: &'static str,
    pub name: &'static str,
    pub plural: &'static str,
    pub short: &'static [&'static str],
    pub namespaced: bool,
}

const fn kind(
    group: &'static str,
    name: &'static str,
    plural: &'static str,
    short: &'static [&'static str],
    namespaced: bool,
) -> ObjectKind {
    ObjectKind { group, name, plural, short, namespaced }
}

const APPS: &str = "apps";
const BATCH: &str = "batch";
const ADMISSION: &str = "admissionregistration.k8s.io";

/// All of them. Each has one version, `v1`.
pub(crate) const KINDS: [ObjectKind; 18] = [
    kind("", "Namespace", "namespaces", &["ns"], false),
    kind("", "Node", "nodes", &["no"], false),
    kind("", "Pod", "pods", &["po"], true),
    kind("", "Secret", "secrets", &[], true),
    kind("", "ServiceAccount", "serviceaccounts", &["sa"], true),
    kind("", "ConfigMap", "configmaps", &["cm"], true),
    kind("", "Service", "services", &["svc"], true),
    kind("", "Event", "events", &["ev"], true),
    kind("", "ReplicationController", "replicationcontrollers", &["rc"], true),
    kind(APPS, "Deployment", "deployments", &["deploy"], true),
    kind(APPS, "StatefulSet", "statefulsets", &["sts"], true),
    kind(APPS, "DaemonSet", "daemonsets", &["ds"], true),
    kind(BATCH, "Job", "jobs", &[], true),
    kind(BATCH, "CronJob", "cronjobs", &["cj"], true),
    kind(ADMISSION, "MutatingWebhookConfiguration", "mutatingwebhookconfigurations", &[], false),
    kind(
        ADMISSION,
        "ValidatingWebhookConfiguration",
        "validatingwebhookconfigurations",
        &[],
        false,
    ),
    kind(ADMISSION, "ValidatingAdmissionPolicy", "validatingadmissionpolicies", &[], false),
    kind(
        ADMISSION,
        "ValidatingAdmissionPolicyBinding",
        "validatingadmissionpolicybindings",
        &[],
        false,
    ),
];
/// Groups besides the core one.
const GROUPS: [&str; 3] = [APPS, BATCH, ADMISSION];

impl ObjectKind {
    /// `v1`, `apps/v1`.
    pub fn version(self) -> String {
        if self.group.is_empty() { "v1".into() } else { format!("{}/v1", self.group) }
    }

    fn base(self) -> String {
        if self.group.is_empty() { "/api/v1".into() } else { format!("/apis/{}/v1", self.group) }
    }

    fn entry(self) -> Value {
        json!({
            "name": self.plural, "singularName": self.name.to_lowercase(), "kind": self.name,
            "namespaced": self.namespaced, "shortNames": self.short,
            "verbs": ["create", "delete", "get", "list", "patch", "update", "watch"],
        })
    }
}

/// Where a path leads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct ApiPlace<'p> {
    pub group: &'p str,
    pub plural: &'p str,
    /// None: of all namespaces, or of none.
    pub namespace: Option<&'p str>,
    /// None: all of them.
    pub name: Option<&'p str>,
    /// `status` and the like. None: the object itself.
    pub part: Option<&'p str>,
}

impl<'p> ApiPlace<'p> {
    /// Where a path leads. None: nowhere that is simulated.
    pub fn read(path: &'p str) -> Option<Self> {
        let parts: Vec<&str> = path.trim_start_matches('/').split('/').collect();
        let (group, rest) = match parts.as_slice() {
            ["api", "v1", rest @ ..] => ("", rest),
            ["apis", group, "v1", rest @ ..] => (*group, rest),
            _ => return None,
        };
        let of = |plural, namespace, name, part| Self { group, plural, namespace, name, part };
        Some(match rest {
            ["namespaces", name] => of("namespaces", None, Some(*name), None),
            ["namespaces", name, part @ ("status" | "finalize")] => {
                of("namespaces", None, Some(*name), Some(*part))
            }
            ["namespaces", space, plural] => of(plural, Some(*space), None, None),
            ["namespaces", space, plural, name] => of(plural, Some(*space), Some(*name), None),
            ["namespaces", space, plural, name, part] => {
                of(plural, Some(*space), Some(*name), Some(*part))
            }
            [plural] => of(plural, None, None, None),
            [plural, name] => of(plural, None, Some(*name), None),
            [plural, name, part] => of(plural, None, Some(*name), Some(*part)),
            _ => return None,
        })
    }

    /// Its kind. None: the cluster knows none of this name.
    pub fn kind(&self) -> Option<ObjectKind> {
        KINDS.into_iter().find(|kind| kind.group == self.group && kind.plural == self.plural)
    }
}

/// The path of an object.
pub(crate) fn path_of(kind: ObjectKind, namespace: Option<&str>, name: &str) -> String {
    let base = kind.base();
    match namespace {
        Some(space) => format!("{base}/namespaces/{space}/{}/{name}", kind.plural),
        None => format!("{base}/{}/{name}", kind.plural),
    }
}

/// What discovery and its documents answer to a path. None: it is no such path.
pub(crate) fn discovery(path: &str) -> Option<Value> {
    let group = |name: &str| {
        let version = json!({ "groupVersion": format!("{name}/v1"), "version": "v1" });
        json!({ "name": name, "versions": [version], "preferredVersion": version })
    };
    let resources = |of: &str, version: String| {
        let all: Vec<Value> =
            KINDS.into_iter().filter(|kind| kind.group == of).map(ObjectKind::entry).collect();
        json!({ "kind": "APIResourceList", "apiVersion": "v1", "groupVersion": version, "resources": all })
    };
    let parts: Vec<&str> = path.trim_start_matches('/').split('/').collect();
    Some(match parts.as_slice() {
        ["api"] => {
            json!({ "kind": "APIVersions", "versions": ["v1"], "serverAddressByClientCIDRs": [] })
        }
        ["apis"] => {
            let all: Vec<Value> = GROUPS.into_iter().map(group).collect();
            json!({ "kind": "APIGroupList", "apiVersion": "v1", "groups": all })
        }
        ["api", "v1"] => resources("", "v1".into()),
        ["apis", name] if GROUPS.contains(name) => group(name),
        ["apis", name, "v1"] if GROUPS.contains(name) => resources(name, format!("{name}/v1")),
        ["openapi", "v3"] => {
            let mut paths = serde_json::Map::new();
            for base in std::iter::once("api/v1".to_owned())
                .chain(GROUPS.iter().map(|name| format!("apis/{name}/v1")))
            {
                let at = json!({ "serverRelativeURL": format!("/openapi/v3/{base}?hash=1") });
                paths.insert(base, at);
            }
            json!({ "paths": paths })
        }
        ["openapi", "v3", "api", "v1"] => schema(""),
        ["openapi", "v3", "apis", name, "v1"] if GROUPS.contains(name) => schema(name),
        _ => return None,
    })
}

/// As much of a group's OpenAPI document as clients look for: which kinds there are, and that the server itself
/// validates fields.
fn schema(group: &str) -> Value {
    let parameter =
        |name: &str| json!({ "name": name, "in": "query", "schema": { "type": "string" } });
    let (mut paths, mut schemas) = (serde_json::Map::new(), serde_json::Map::new());
    for kind in KINDS.into_iter().filter(|kind| kind.group == group) {
        let named = json!({ "group": kind.group, "kind": kind.name, "version": "v1" });
        let operation = json!({
            "x-kubernetes-group-version-kind": named, "x-kubernetes-action": "patch",
            "parameters": [parameter("fieldManager"), parameter("fieldValidation"), parameter("dryRun")],
            "responses": { "200": { "description": "OK" } },
        });
        let namespace = if kind.namespaced { "/namespaces/{namespace}" } else { "" };
        let path = format!("{}{namespace}/{}/{{name}}", kind.base(), kind.plural);
        paths.insert(path, json!({ "patch": operation }));
        schemas.insert(
            format!("io.k8s.api.{}", kind.name),
            json!({ "type": "object", "x-kubernetes-group-version-kind": [named] }),
        );
    }
    json!({
        "openapi": "3.0.0", "info": { "title": "a stand-in cluster", "version": "v1.32.0" },
        "paths": paths, "components": { "schemas": schemas },
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_lead_where_they_say() {
        fn read(path: &str) -> ApiPlace<'_> {
            ApiPlace::read(path).unwrap()
        }
        let pod = read("/api/v1/namespaces/scada/pods/one");
        assert_eq!(
            (pod.namespace, pod.name, pod.kind().unwrap().name),
            (Some("scada"), Some("one"), "Pod")
        );
        let all = read("/apis/apps/v1/deployments");
        assert_eq!((all.namespace, all.name, all.kind().unwrap().name), (None, None, "Deployment"));
        let space = read("/api/v1/namespaces/scada");
        assert_eq!((space.kind().unwrap().name, space.name), ("Namespace", Some("scada")));
        let status = read("/api/v1/namespaces/scada/pods/one/status");
        assert_eq!(status.part, Some("status"));
        assert!(read("/api/v1/widgets").kind().is_none() && ApiPlace::read("/version").is_none());
        for kind in KINDS {
            let space = kind.namespaced.then_some("n");
            let path = path_of(kind, space, "x");
            let place = read(&path);
            assert_eq!((place.kind().unwrap().name, place.namespace), (kind.name, space), "{path}");
        }
    }
}
