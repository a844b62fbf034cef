//! A stand-in cluster that lives: what its API is given is run. Workloads get pods, pods pull their images as
//! kubelets do, again and again with growing pauses, and say in their events and states what came of it.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use larder_core::objects::{self, text};
use serde_json::{Value, json};

use crate::api::{Api, time, uid};
use crate::cluster::{Cluster, Pod, PodEvent, suffix};
use crate::door::admit;

/// The kinds that have pods made, by their plurals, with where their pods' form stands.
const WORKLOADS: [(&str, &str); 5] = [
    ("deployments", "/spec/template"),
    ("statefulsets", "/spec/template"),
    ("daemonsets", "/spec/template"),
    ("jobs", "/spec/template"),
    ("replicationcontrollers", "/spec/template"),
];
/// How long a pod waits before it pulls again: at first, and at most. A kubelet's are ten seconds and five minutes.
const PAUSE: (Duration, Duration) = (Duration::from_secs(2), Duration::from_secs(10));

/// When a pod pulls again, and how often it has tried.
struct Again {
    at: Instant,
    tries: u32,
}

impl Cluster {
    /// Runs what its API is given, until the program ends.
    ///
    /// # Errors
    /// When it has no API.
    pub fn live(mut self) -> Result<(), &'static str> {
        let api = self.its_api().ok_or("the stand-in cluster has no API")?;
        tokio::spawn(async move {
            let mut changes = api.changes();
            let mut waiting: BTreeMap<String, Again> = BTreeMap::new();
            loop {
                make_pods(&api).await;
                for (path, pod) in api.of_plural("pods") {
                    let phase = text(&pod, &["status", "phase"]).unwrap_or("Pending");
                    let due = waiting.get(&path).is_none_or(|again| again.at <= Instant::now());
                    if phase != "Pending" || !due {
                        continue;
                    }
                    let tries = waiting.get(&path).map_or(0, |again| again.tries) + 1;
                    if self.start_one(&api, &path, pod).await {
                        waiting.remove(&path);
                    } else {
                        let pause = PAUSE.1.min(PAUSE.0 * 2_u32.pow(tries.min(8) - 1));
                        waiting.insert(path, Again { at: Instant::now() + pause, tries });
                    }
                }
                waiting.retain(|path, _| api.get(path).is_some());
                tell_workloads(&api);
                // Whatever changes is looked at at once; what waits for its time, soon.
                let _ = tokio::time::timeout(Duration::from_millis(500), changes.recv()).await;
                while changes.try_recv().is_ok() {}
            }
        });
        Ok(())
    }

    /// Starts a pod, and tells whether it runs.
    async fn start_one(&mut self, api: &Api, path: &str, pod: Value) -> bool {
        let pods = self.run(&objects::write(&pod)).await;
        let ran = match pods {
            Ok(pods) => pods.into_iter().next(),
            Err(error) => {
                tracing::warn!(path, error, "a pod cannot be read");
                None
            }
        };
        let Some(Pod { status, events, .. }) = ran else { return false };
        let runs = status == "Running";
        // It may have gone, or changed, meanwhile.
        let Some(mut now) = api.get(path) else { return true };
        let names: Vec<Value> = now["spec"]["containers"].as_array().cloned().unwrap_or_default();
        let why = events.iter().find(|event| event.warning).map(|event| event.message.clone());
        let states: Vec<Value> = names
            .iter()
            .map(|one| {
                let state = match runs {
                    true => json!({ "running": { "startedAt": time() } }),
                    false => json!({ "waiting": { "reason": status, "message": why } }),
                };
                json!({
                    "name": one["name"], "image": one["image"], "imageID": "", "ready": runs, "started": runs,
                    "restartCount": 0, "state": state,
                })
            })
            .collect();
        let ready = if runs { "True" } else { "False" };
        now["status"] = json!({
            "phase": if runs { "Running" } else { "Pending" }, "hostIP": "127.0.0.1", "startTime": time(),
            "conditions": [{ "type": "Ready", "status": ready }, { "type": "PodScheduled", "status": "True" }],
            "containerStatuses": states,
        });
        now["spec"]["nodeName"] = json!(format!("{}-1", self.name()));
        api.update(path, now.clone(), "kubelet");
        for event in events {
            tell(api, &now, "Pod", &event);
        }
        runs
    }
}

/// Writes an event, or counts one that is there.
fn tell(api: &Api, about: &Value, kind: &str, event: &PodEvent) {
    let of = |path: &[&str]| text(about, path).unwrap_or_default().to_owned();
    let (name, space) = (of(&["metadata", "name"]), of(&["metadata", "namespace"]));
    let told = format!("{} {}", event.reason, event.message);
    let hash = larder_core::digest::Digest::of(told.as_bytes()).hex()[..16].to_owned();
    let path = format!("/api/v1/namespaces/{space}/events/{name}.{hash}");
    let before = api.get(&path);
    let count = before.as_ref().and_then(|it| it["count"].as_u64()).unwrap_or(0) + 1;
    let first = before.as_ref().map_or_else(|| json!(time()), |it| it["firstTimestamp"].clone());
    let metadata = match &before {
        Some(before) => before["metadata"].clone(),
        None => json!({
            "name": format!("{name}.{hash}"), "namespace": space, "uid": uid(), "creationTimestamp": time(),
        }),
    };
    let object = json!({
        "apiVersion": "v1", "kind": "Event", "metadata": metadata,
        "involvedObject": {
            "apiVersion": about["apiVersion"], "kind": kind, "name": name, "namespace": space,
            "uid": about["metadata"]["uid"],
        },
        "reason": event.reason, "message": event.message,
        "type": if event.warning { "Warning" } else { "Normal" },
        "source": { "component": if kind == "Pod" { "kubelet" } else { "controller" } },
        "firstTimestamp": first, "lastTimestamp": time(), "count": count,
    });
    api.update(&path, object, "kubelet");
}

/// Has each workload's pod made, and takes away those whose workload is gone or has another form by now.
async fn make_pods(api: &Api) {
    let mut wanted: BTreeMap<String, Value> = BTreeMap::new();
    for (plural, form) in WORKLOADS {
        for (_, workload) in api.of_plural(plural) {
            let Some(mut template) = workload.pointer(form).cloned() else { continue };
            let of = |path: &[&str]| text(&workload, path).unwrap_or_default().to_owned();
            let (name, space) = (of(&["metadata", "name"]), of(&["metadata", "namespace"]));
            if workload["spec"]["replicas"] == 0 {
                continue;
            }
            let made = larder_core::digest::Digest::of(template.to_string().as_bytes());
            let pod = match plural {
                "statefulsets" => format!("{name}-0"),
                _ => format!("{name}-{}", suffix(&format!("{name} {made}"))),
            };
            template["apiVersion"] = json!("v1");
            template["kind"] = json!("Pod");
            template["metadata"]["name"] = json!(pod);
            template["metadata"]["namespace"] = json!(space);
            template["metadata"]["ownerReferences"] = json!([{
                "apiVersion": workload["apiVersion"], "kind": workload["kind"], "name": name,
                "uid": workload["metadata"]["uid"], "controller": true,
            }]);
            template["metadata"]["annotations"]["stand-in/form"] = json!(made.hex());
            wanted.insert(format!("/api/v1/namespaces/{space}/pods/{pod}"), template);
        }
    }
    for (path, pod) in api.of_plural("pods") {
        let owned = pod["metadata"]["ownerReferences"].is_array();
        let form = &pod["metadata"]["annotations"]["stand-in/form"];
        // One that nobody made by a form was put there as it is.
        let made = owned && form.is_string();
        let still = wanted
            .get(&path)
            .is_some_and(|it| it["metadata"]["annotations"]["stand-in/form"] == *form);
        if made && !still {
            api.remove(&path);
        }
    }
    for (path, pod) in wanted {
        if api.get(&path).is_some() {
            continue;
        }
        let space = text(&pod, &["metadata", "namespace"]).unwrap_or_default().to_owned();
        match api.let_in(&space, pod.clone()).await {
            Ok(pod) => api.update(&path, pod, "controller"),
            Err(message) => {
                let owner = &pod["metadata"]["ownerReferences"][0];
                let kind = text(owner, &["kind"]).unwrap_or_default().to_owned();
                let about = json!({
                    "apiVersion": owner["apiVersion"],
                    "metadata": { "name": owner["name"], "namespace": space, "uid": owner["uid"] },
                });
                let message = format!("Error creating: {message}");
                tell(
                    api,
                    &about,
                    &kind,
                    &PodEvent { warning: true, reason: "FailedCreate", message },
                );
            }
        }
    }
}

/// How many pods of each workload run.
fn tell_workloads(api: &Api) {
    let pods = api.of_plural("pods");
    for plural in ["deployments", "statefulsets", "daemonsets"] {
        for (path, mut workload) in api.of_plural(plural) {
            let uid = &workload["metadata"]["uid"];
            if !uid.is_string() {
                continue;
            }
            let its =
                |pod: &&(String, Value)| pod.1["metadata"]["ownerReferences"][0]["uid"] == *uid;
            let all = pods.iter().filter(its).count();
            let ready = pods
                .iter()
                .filter(its)
                .filter(|(_, pod)| pod["status"]["phase"] == "Running")
                .count();
            let status = json!({
                "observedGeneration": workload["metadata"]["generation"].as_u64().unwrap_or(1),
                "replicas": all, "updatedReplicas": all, "readyReplicas": ready, "availableReplicas": ready,
            });
            if workload["status"] != status {
                workload["status"] = status;
                api.update(&path, workload, "controller");
            }
        }
    }
}

impl Api {
    /// Lets a pod in as the platform does: its own admission, then the webhooks.
    ///
    /// # Errors
    /// Why it is refused, as an event says it.
    pub(crate) async fn let_in(&self, namespace: &str, mut pod: Value) -> Result<Value, String> {
        self.give_account(namespace, &mut pod)?;
        pod["metadata"]["uid"] = json!(uid());
        pod["metadata"]["creationTimestamp"] = json!(time());
        let admitted = admit(self, &self.hosts(), pod).await.map_err(|text| {
            let text = text.strip_prefix("Error from server ").unwrap_or(&text);
            text.split_once("): ").map_or(text, |(_, message)| message).to_owned()
        })?;
        Ok(admitted.object)
    }
}
