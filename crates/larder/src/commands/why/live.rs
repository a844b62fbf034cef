//! A workload as its cluster has it: pod, events, secrets and service account, through the API.

use larder_core::diagnosis::read_events;
use larder_core::objects::text;
use serde_json::Value;

use super::Args;
use super::ask::ImageQuestion;
use super::secrets::{PullingPod, spec};
use crate::failure::{Exit, Failure};
use crate::kube::Kube;

/// The kinds that hold pods, with their path in the API.
const KINDS: [(&str, &str, &str); 8] = [
    ("pod", "/api/v1", "pods"),
    ("deployment", "/apis/apps/v1", "deployments"),
    ("statefulset", "/apis/apps/v1", "statefulsets"),
    ("daemonset", "/apis/apps/v1", "daemonsets"),
    ("replicaset", "/apis/apps/v1", "replicasets"),
    ("replicationcontroller", "/api/v1", "replicationcontrollers"),
    ("job", "/apis/batch/v1", "jobs"),
    ("cronjob", "/apis/batch/v1", "cronjobs"),
];

/// Reads a workload: the images that are asked about, and with what they are pulled.
pub(super) async fn read(
    workload: &str,
    args: &Args,
) -> Result<(Vec<ImageQuestion>, PullingPod), Failure> {
    let what = || format!("cannot read {workload} from the cluster");
    let namespace = args.namespace.clone().unwrap_or_default();
    let (kind, name) = workload.split_once('/').unwrap_or(("pod", workload));
    let known = KINDS.iter().find(|(word, _, plural)| {
        kind.eq_ignore_ascii_case(word) || kind.eq_ignore_ascii_case(plural)
    });
    let Some((_, group, plural)) = known else {
        let words: Vec<&str> = KINDS.iter().map(|(word, _, _)| *word).collect();
        let cause = format!("`{}` is no kind of workload", kind.escape_debug());
        return Err(Failure::usage(what(), cause, format!("one of: {}", words.join(", "))));
    };
    let kube = Kube::connect(&args.reach).await?;
    let path = format!("{group}/namespaces/{namespace}/{plural}/{name}");
    let object = kube.get(&path).await?.ok_or_else(|| {
        let cause = format!("{namespace} has no {kind} {name}");
        Failure::usage(what(), cause, "look with `kubectl get`").ending(Exit::No)
    })?;
    let account = spec(&object).and_then(|spec| text(spec, &["serviceAccountName"]));
    let account = account.unwrap_or("default");
    let account =
        kube.get(&format!("/api/v1/namespaces/{namespace}/serviceaccounts/{account}")).await?;
    let mut pod = PullingPod::default();
    // Of all namespaces where they may be seen, so that one in the wrong place is found.
    pod.secrets = kube.list_all_or("secrets", &[&namespace]).await?.0;
    pod.of(&object, account.as_slice());
    pod.namespace = Some(namespace.clone());
    let events = kube.list(&format!("/api/v1/namespaces/{namespace}/events")).await?;
    let its = events.iter().filter(|event| {
        let about = text(event, &["involvedObject", "name"]).unwrap_or_default();
        text(event, &["metadata", "namespace"]) == Some(&*namespace)
            && (about == name || about.starts_with(&format!("{name}-")))
    });
    let mut messages: Vec<&str> = its.filter_map(|event| text(event, &["message"])).collect();
    // Events go after an hour; what a pod waits for stays.
    let states = ["initContainerStatuses", "containerStatuses", "ephemeralContainerStatuses"];
    let states = states.iter().filter_map(|list| object["status"][*list].as_array()).flatten();
    messages.extend(states.filter_map(|one| text(one, &["state", "waiting", "message"])));
    let events = read_events(&messages.join("\n"));
    let images = images(&object);
    let asked = images.into_iter().map(|written| {
        let about = |event: &&larder_core::diagnosis::PullEvent| {
            event.reference.as_ref().is_some_and(|name| super::same_image(name, &written))
        };
        let event = events.iter().find(about).cloned();
        ImageQuestion { written, event, ..ImageQuestion::default() }
    });
    Ok((asked.collect(), pod))
}

fn images(object: &Value) -> Vec<String> {
    let Some(spec) = spec(object) else { return Vec::new() };
    let lists = ["initContainers", "containers", "ephemeralContainers"];
    let containers = lists.iter().filter_map(|list| spec[*list].as_array()).flatten();
    let mut images: Vec<String> =
        containers.filter_map(|one| text(one, &["image"])).map(str::to_owned).collect();
    let mut seen = std::collections::HashSet::new();
    images.retain(|image| seen.insert(image.clone()));
    images
}
