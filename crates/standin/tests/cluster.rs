//! The stand-in cluster says what a real one says.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;

use larder_core::platform::Platform;
use larder_standin::{Cluster, FaultKind, ImagePlan, Pod, SignIn, Upstream, UpstreamPlan, image};

struct Fixture {
    _folder: tempfile::TempDir,
    upstream: Upstream,
    cluster: Cluster,
}

impl Fixture {
    async fn new(sign_in: SignIn) -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let folder = tempfile::tempdir().unwrap();
        let plan = UpstreamPlan { sign_in, ..UpstreamPlan::default() };
        let upstream = Upstream::start(folder.path(), plan).await.unwrap();
        let small = ImagePlan { layer_size: 10_000, ..ImagePlan::new("kettle") };
        upstream
            .hold(&"library/kettle".parse().unwrap(), &"2".parse().unwrap(), &image(&small))
            .await
            .unwrap();
        let arm = small.for_platforms(&["linux/arm64", "linux/arm/v7"]);
        upstream
            .hold(&"library/arm".parse().unwrap(), &"2".parse().unwrap(), &image(&arm))
            .await
            .unwrap();
        let hosts = BTreeMap::from([("bazaar.example".to_owned(), upstream.endpoint())]);
        let cluster = Cluster::new("turbine-hall", Platform::new("linux", "amd64", None), hosts);
        Self { _folder: folder, upstream, cluster }
    }

    async fn run(&mut self, image: &str) -> Pod {
        let pod = format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: p, namespace: n}}\nspec: {{containers: [{{name: c, image: '{image}'}}]}}\n"
        );
        self.cluster.apply(&pod).await.unwrap().remove(0)
    }
}

fn texts(pod: &Pod) -> String {
    pod.to_string()
}

#[tokio::test]
async fn a_pod_that_can_pull_runs_and_pulls_once() {
    let mut fixture = Fixture::new(SignIn::Open).await;
    let pod = fixture.run("bazaar.example/library/kettle:2").await;
    assert!(pod.is_running());
    let reasons: Vec<_> = pod.events.iter().map(|event| event.reason).collect();
    assert_eq!(reasons, ["Pulling", "Pulled", "Started"]);
    let requests = fixture.upstream.take_requests();
    let first = requests.keys().filter(|line| line.starts_with("HEAD")).count();
    assert_eq!(first, 1, "a pull begins with HEAD and goes on by digest: {requests:?}");
    assert!(
        requests.keys().filter(|line| line.starts_with("GET")).all(|line| line.contains("sha256:"))
    );
    let again = fixture.run("bazaar.example/library/kettle:2").await;
    assert!(texts(&again).contains("already present on machine"));
    assert!(fixture.upstream.take_requests().is_empty());
}

#[tokio::test]
async fn failures_are_told_in_the_platforms_words() {
    let mut fixture = Fixture::new(SignIn::Open).await;
    for (image, status, words) in [
        (
            "bazaar.example/library/kettle:9",
            "ImagePullBackOff",
            "code = NotFound desc = failed to pull and unpack image \"bazaar.example/library/kettle:9\": failed to resolve reference \"bazaar.example/library/kettle:9\": bazaar.example/library/kettle:9: not found",
        ),
        (
            "bazaar.example/library/arm:2",
            "ImagePullBackOff",
            "no match for platform in manifest: not found",
        ),
        (
            "ventworks.example/a:1",
            "ImagePullBackOff",
            "dial tcp: lookup ventworks.example on 10.96.0.10:53: no such host",
        ),
        ("kettle", "ImagePullBackOff", "\"docker.io/library/kettle:latest\""),
        ("http://bazaar.example/library/kettle:2", "InvalidImageName", "invalid reference format"),
        (
            "bazaar.example/library/Kettle:2",
            "InvalidImageName",
            "repository name must be lowercase",
        ),
    ] {
        let pod = fixture.run(image).await;
        assert_eq!(pod.status, status, "{image}");
        assert!(texts(&pod).contains(words), "{image}: {pod}");
    }
    fixture.upstream.faults.add(Some("HEAD"), "/manifests/", 9, FaultKind::Status(403, None));
    let pod = fixture.run("bazaar.example/library/kettle:2").await;
    assert!(
        texts(&pod).contains(
            "pulling from host bazaar.example failed with status code [manifests 2]: 403 Forbidden"
        ),
        "{pod}"
    );
    fixture.upstream.faults.clear();
    fixture.upstream.faults.add(Some("GET"), "/blobs/", 1, FaultKind::Altered);
    let pod = fixture.run("bazaar.example/library/kettle:2").await;
    assert!(texts(&pod).contains("unexpected commit digest sha256:"), "{pod}");
    assert!(
        texts(&pod).contains("Error: ErrImagePull")
            && texts(&pod).contains("Back-off pulling image")
    );
}

#[tokio::test]
async fn a_missing_sign_in_reads_unauthorized() {
    let mut fixture = Fixture::new(SignIn::Basic { login: "a:b".into() }).await;
    let pod = fixture.run("bazaar.example/library/kettle:2").await;
    assert!(texts(&pod).contains("401 Unauthorized"), "{pod}");
}

#[tokio::test]
async fn workloads_become_pods_with_their_names() {
    let mut fixture = Fixture::new(SignIn::Open).await;
    let documents: Vec<String> = ["Deployment", "StatefulSet"]
        .iter()
        .map(|kind| format!("---\napiVersion: apps/v1\nkind: {kind}\nmetadata: {{name: board}}\nspec: {{template: {{spec: {{containers: [{{image: bazaar.example/library/kettle:2}}]}}}}}}\n"))
        .collect();
    let pods = fixture.cluster.apply(&documents.concat()).await.unwrap();
    assert!(pods[0].name.starts_with("board-") && pods[0].name.len() == 11, "{}", pods[0].name);
    assert_eq!((pods[1].name.as_str(), pods[1].namespace.as_str()), ("board-0", "default"));
    assert!(fixture.cluster.apply("kind: [image").await.is_err());
    assert_eq!(fixture.cluster.name(), "turbine-hall");
}

#[test]
fn the_same_plan_gives_the_same_bytes_and_shared_layers() {
    let plan = ImagePlan { layer_size: 10_000, ..ImagePlan::new("kettle") };
    let (first, second) = (image(&plan), image(&plan));
    assert_eq!(first.digest(), second.digest());
    let other = image(&ImagePlan { name: "other".into(), ..plan });
    assert_ne!(first.digest(), other.digest());
    let shared = first
        .blobs
        .iter()
        .filter(|blob| other.blobs.iter().any(|b| b.digest == blob.digest))
        .count();
    assert_eq!(shared, 2, "the base layer of each platform");
    for blob in first.blobs.iter().filter(|blob| blob.bytes.starts_with(&[0x1f, 0x8b])) {
        assert!(blob.bytes.len() < 8_000, "layers compress like real ones");
    }
}
