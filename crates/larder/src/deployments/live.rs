//! What a cluster has and what its nodes really run, through its API.

use larder_core::objects::text;
use larder_core::rewrite::{CustomResource, FileContext, scan};
use larder_core::workload::Ownership;
use serde_json::{Value, json};

use super::NamedImages;
use crate::failure::Failure;
use crate::kube::{ApiReach, Kube};

/// The lists that hold workloads (Kubernetes API).
const LISTS: [(&str, &str, &str); 7] = [
    ("/apis/apps/v1/deployments", "apps/v1", "Deployment"),
    ("/apis/apps/v1/statefulsets", "apps/v1", "StatefulSet"),
    ("/apis/apps/v1/daemonsets", "apps/v1", "DaemonSet"),
    ("/apis/batch/v1/jobs", "batch/v1", "Job"),
    ("/apis/batch/v1/cronjobs", "batch/v1", "CronJob"),
    ("/api/v1/replicationcontrollers", "v1", "ReplicationController"),
    ("/api/v1/pods", "v1", "Pod"),
];

/// Reads all workloads, and of pods the digests that run.
pub async fn read(
    cluster: &str,
    reach: &ApiReach,
    custom: &[CustomResource],
) -> Result<Vec<NamedImages>, Failure> {
    let kube = Kube::connect(reach).await?;
    let mut all = Vec::new();
    for (path, version, kind) in LISTS {
        for mut object in kube.list(path).await? {
            // What a workload makes of its own template is named by that.
            if !object["metadata"]["ownerReferences"].is_null() && kind != "Pod" {
                continue;
            }
            let namespace =
                text(&object, &["metadata", "namespace"]).unwrap_or("default").to_owned();
            let name = text(&object, &["metadata", "name"]).unwrap_or_default().to_owned();
            let shown = format!("{cluster}:{namespace}/{kind}/{name}");
            let running = running(&object);
            object["apiVersion"] = json!(version);
            object["kind"] = json!(kind);
            let owned = !object["metadata"]["ownerReferences"].is_null();
            let objects = object.to_string();
            let file = FileContext { name: "object.json", custom, ..FileContext::default() };
            let scan = scan(&objects, &file).map_err(|error| {
                Failure::usage(format!("cannot read {shown}"), error, "")
                    .ending(crate::failure::Exit::No)
            })?;
            let mut findings = scan.findings;
            // Of a pod that a workload made, what it runs is news; what it names is not.
            if owned {
                findings.clear();
            }
            for finding in &mut findings {
                finding.position = larder_core::rewrite::Position::default();
            }
            let workload = Ownership::of(&object).workload(kind);
            let workload = workload.split_once('/').unwrap_or((kind, &name));
            for (container, digest) in running {
                let mut finding = larder_core::rewrite::Finding::running(digest);
                finding.workload = larder_core::rewrite::Workload {
                    kind: workload.0.to_owned(),
                    name: workload.1.to_owned(),
                    namespace: Some(namespace.clone()),
                    architectures: Vec::new(),
                };
                finding.container = Some(container);
                findings.push(finding);
            }
            if !findings.is_empty() {
                all.push(NamedImages { shown, findings, template: false });
            }
        }
    }
    Ok(all)
}

/// What the containers of a pod run, by digest (`status.containerStatuses[].imageID`).
fn running(pod: &Value) -> Vec<(String, String)> {
    let lists = ["initContainerStatuses", "containerStatuses"];
    let all = lists.iter().filter_map(|list| pod["status"][*list].as_array()).flatten();
    all.filter_map(|one| {
        let id = text(one, &["imageID"])?;
        // Some runtimes put a scheme in front.
        let id = id.rsplit_once("://").map_or(id, |(_, id)| id);
        let is_reference = id.contains('/') && id.contains("@sha");
        is_reference.then(|| (text(one, &["name"]).unwrap_or_default().to_owned(), id.to_owned()))
    })
    .collect()
}
