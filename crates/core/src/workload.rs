//! Which workload does an object of a cluster belong to?

use std::collections::BTreeMap;

use serde::Deserialize;

/// The longest name that is kept, in characters: a kind, and a name of the platform (253).
const LONGEST: usize = 320;

/// What an object's metadata say of whose it is (Kubernetes API, "ObjectMeta").
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(rename_all = "camelCase", default)]
pub struct Ownership {
    name: Option<String>,
    generate_name: Option<String>,
    owner_references: Option<Vec<Owner>>,
    labels: Option<BTreeMap<String, String>>,
}

#[derive(Debug, Clone, Default, Deserialize)]
#[serde(default)]
struct Owner {
    kind: String,
    name: String,
    controller: Option<bool>,
}

#[derive(Deserialize)]
struct Object {
    metadata: Option<Ownership>,
}

impl Ownership {
    /// Of an object in JSON. What cannot be read belongs to nobody.
    pub fn read(object: &str) -> Self {
        let object: Option<Object> = serde_json::from_str(object).ok();
        object.and_then(|object| object.metadata).unwrap_or_default()
    }

    /// Of an object as a value.
    pub fn of(object: &serde_json::Value) -> Self {
        Self::deserialize(&object["metadata"]).unwrap_or_default()
    }

    /// The workload as people know it, `Deployment/turbine`: what controls the object, or itself. The platform's own
    /// steps in between, which have a new name each time, are left out.
    pub fn workload(&self, kind: &str) -> String {
        let owners = self.owner_references.as_deref().unwrap_or_default();
        let owner = owners.iter().find(|owner| owner.controller == Some(true)).or(owners.first());
        let named =
            |kind: &str, name: &str| format!("{kind}/{name}").chars().take(LONGEST).collect();
        let Some(Owner { kind: above, name, .. }) = owner else {
            let made = self.generate_name.as_deref().map(|name| name.trim_end_matches('-'));
            let name = self.name.as_deref().filter(|name| !name.is_empty()).or(made);
            return named(kind, name.unwrap_or_default());
        };
        let hash = self.labels.as_ref().and_then(|labels| labels.get("pod-template-hash"));
        let without = |end: &str| name.strip_suffix(end)?.strip_suffix('-');
        if let ("ReplicaSet", Some(deployment)) =
            (above.as_str(), hash.and_then(|hash| without(hash)))
        {
            return named("Deployment", deployment);
        }
        // A CronJob's jobs are named after it and the minute of their start.
        let digits = name.len() - name.trim_end_matches(|one: char| one.is_ascii_digit()).len();
        if let ("Job", 8.., Some(cron)) =
            (above.as_str(), digits, without(&name[name.len() - digits..]))
        {
            return named("CronJob", cron);
        }
        named(above, name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pod_is_its_workloads() {
        for (metadata, workload) in [
            (r#"{"name": "alone"}"#, "Pod/alone"),
            (r#"{"generateName": "made-"}"#, "Pod/made"),
            (
                r#"{"name": "turbine-7d9c5-x2x4p", "labels": {"pod-template-hash": "7d9c5"},
                    "ownerReferences": [{"kind": "Other", "name": "x"},
                        {"kind": "ReplicaSet", "name": "turbine-7d9c5", "controller": true}]}"#,
                "Deployment/turbine",
            ),
            (
                r#"{"ownerReferences": [{"kind": "ReplicaSet", "name": "own-7d9c5"}]}"#,
                "ReplicaSet/own-7d9c5",
            ),
            (r#"{"ownerReferences": [{"kind": "Job", "name": "tidy-29384756"}]}"#, "CronJob/tidy"),
            (r#"{"ownerReferences": [{"kind": "Job", "name": "tidy-7"}]}"#, "Job/tidy-7"),
            (r#"{"ownerReferences": [{"kind": "Job", "name": "29384756"}]}"#, "Job/29384756"),
            (
                r#"{"ownerReferences": [{"kind": "DaemonSet", "name": "vents"}], "labels": null}"#,
                "DaemonSet/vents",
            ),
            (r#"{"ownerReferences": "wrong"}"#, "Pod/"),
        ] {
            let object = format!(r#"{{"metadata": {metadata}}}"#);
            assert_eq!(Ownership::read(&object).workload("Pod"), workload);
            let value = serde_json::from_str(&object).unwrap();
            assert_eq!(Ownership::of(&value).workload("Pod"), workload);
        }
        assert_eq!(Ownership::read("[]").workload("Job"), "Job/");
        let long = format!(r#"{{"metadata": {{"name": "{}"}}}}"#, "ä".repeat(1000));
        assert_eq!(Ownership::read(&long).workload("Pod").chars().count(), LONGEST);
    }
}
