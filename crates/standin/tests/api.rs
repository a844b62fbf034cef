//! The stand-in cluster's API is as unkind as a real one.
#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::time::Duration;

use larder_client::{Web, WebOptions};
use larder_core::platform::Platform;
use larder_standin::{Api, Cluster, ImagePlan, Upstream, UpstreamPlan, image};
use serde_json::{Value, json};

struct Asked {
    api: Api,
    web: Web,
}

impl Asked {
    async fn new() -> Self {
        let _ = rustls::crypto::ring::default_provider().install_default();
        let api = Api::new("turbine-hall", &["scada", "lab"]).unwrap();
        let web = open(&api, Some(api.operator_token())).await;
        Self { api, web }
    }

    async fn ask(&self, method: &str, path: &str, body: Option<Value>) -> (u16, Value) {
        let kind = match method {
            "PATCH" => "application/apply-patch+yaml",
            _ => "application/json",
        };
        let content = body.map(|body| (kind, body.to_string().into_bytes()));
        let answer = self.web.send(method, path, content).await.unwrap();
        (answer.status, serde_json::from_slice(&answer.body).unwrap())
    }
}

async fn open(api: &Api, token: Option<&str>) -> Web {
    let address = api.listen().await.unwrap();
    let options = WebOptions {
        ca: api.authority().as_bytes().to_vec(),
        authorization: token.map(|token| format!("Bearer {token}").into()),
        ..WebOptions::default()
    };
    Web::new(&format!("https://{address}"), options).unwrap()
}

#[tokio::test]
async fn nobody_is_let_in_without_a_token_or_without_trust() {
    let Asked { api, .. } = Asked::new().await;
    for token in [None, Some("wrong")] {
        let answer = open(&api, token).await.send("GET", "/api/v1/pods", None).await.unwrap();
        assert_eq!(answer.status, 401);
    }
    let address = api.listen().await.unwrap();
    let untrusted = Web::new(&format!("https://{address}"), WebOptions::default()).unwrap();
    assert!(untrusted.send("GET", "/api", None).await.is_err(), "its authority is its own");
    let plain = Web::new(&format!("http://{address}"), WebOptions::default()).unwrap();
    assert!(plain.send("GET", "/api", None).await.is_err(), "it speaks TLS alone");
}

#[tokio::test]
async fn what_it_knows_is_discovered() {
    let asked = Asked::new().await;
    let (_, core) = asked.ask("GET", "/api/v1", None).await;
    let names: Vec<&str> = core["resources"]
        .as_array()
        .unwrap()
        .iter()
        .map(|it| it["name"].as_str().unwrap())
        .collect();
    assert!(names.contains(&"pods") && names.contains(&"secrets"), "{names:?}");
    let (_, groups) = asked.ask("GET", "/apis", None).await;
    for group in groups["groups"].as_array().unwrap() {
        let at = format!("/apis/{}", group["preferredVersion"]["groupVersion"].as_str().unwrap());
        assert_eq!(asked.ask("GET", &at, None).await.0, 200, "{at}");
    }
    let (_, schemas) = asked.ask("GET", "/openapi/v3", None).await;
    for (_, at) in schemas["paths"].as_object().unwrap() {
        let at = at["serverRelativeURL"].as_str().unwrap();
        let (status, schema) = asked.ask("GET", at, None).await;
        assert!(status == 200 && schema["components"]["schemas"].is_object(), "{at}");
    }
    assert_eq!(asked.ask("GET", "/api/v1/widgets", None).await.0, 404);
}

#[tokio::test]
async fn fields_have_owners() {
    let asked = Asked::new().await;
    let path = "/api/v1/namespaces/scada/secrets/x";
    let secret = |value: &str| json!({ "apiVersion": "v1", "kind": "Secret", "metadata": { "name": "x" }, "stringData": { "a": value } });
    let apply = |who: &str, force: bool| format!("{path}?fieldManager={who}&force={force}");
    assert_eq!(asked.ask("PATCH", path, Some(secret("1"))).await.0, 422, "nobody says who");
    let (status, first) = asked.ask("PATCH", &apply("one", false), Some(secret("1"))).await;
    assert_eq!((status, &first["data"]["a"]), (201, &json!("MQ==")), "texts are kept encoded");
    assert!(first.get("stringData").is_none());
    let version = &first["metadata"]["resourceVersion"];
    let (_, again) = asked.ask("PATCH", &apply("one", false), Some(secret("1"))).await;
    assert_eq!(&again["metadata"]["resourceVersion"], version, "nothing changed");
    let (status, said) = asked.ask("PATCH", &apply("two", false), Some(secret("2"))).await;
    assert_eq!(status, 409);
    assert!(
        said["message"].as_str().unwrap().contains("conflict with \"one\" using v1: .data.a"),
        "{said}"
    );
    let (status, taken) = asked.ask("PATCH", &apply("two", true), Some(secret("2"))).await;
    assert_eq!((status, &taken["data"]["a"]), (200, &json!("Mg==")));
    let managers = taken["metadata"]["managedFields"].as_array().unwrap();
    assert!(managers.iter().any(|it| it["manager"] == "two"), "{managers:?}");
    let mut typed = secret("2");
    typed["type"] = json!("kubernetes.io/dockerconfigjson");
    assert_eq!(asked.ask("PATCH", &apply("two", true), Some(typed)).await.0, 422, "a type stays");
    let nowhere = path.replace("scada", "nowhere") + "?fieldManager=one";
    assert_eq!(asked.ask("PATCH", &nowhere, Some(secret("1"))).await.0, 404);
    assert_eq!(asked.ask("DELETE", path, None).await.0, 200);
    assert_eq!(asked.ask("DELETE", path, None).await.0, 404);
}

#[tokio::test]
async fn rights_end_at_the_namespace() {
    let asked = Asked::new().await;
    asked.api.confine(&["scada"]);
    assert_eq!(asked.ask("GET", "/api/v1/namespaces/scada/secrets", None).await.0, 200);
    let (status, said) = asked.ask("GET", "/api/v1/secrets", None).await;
    assert_eq!(status, 403);
    assert_eq!(
        said["message"],
        "secrets is forbidden: User \"operator\" cannot list resource \"secrets\" in API group \"\" at the cluster scope"
    );
    assert_eq!(asked.ask("GET", "/api/v1/namespaces/lab/secrets/x", None).await.0, 403);
    let review =
        json!({ "spec": { "resourceAttributes": { "verb": "list", "resource": "secrets" } } });
    let path = "/apis/authorization.k8s.io/v1/selfsubjectaccessreviews";
    assert_eq!(asked.ask("POST", path, Some(review)).await.1["status"]["allowed"], false);
}

#[tokio::test]
async fn what_it_is_given_is_run() {
    let asked = Asked::new().await;
    let folder = tempfile::tempdir().unwrap();
    let plan = UpstreamPlan::default();
    let upstream = Upstream::start(folder.path(), plan).await.unwrap();
    let small = image(&ImagePlan { layer_size: 5_000, ..ImagePlan::new("kettle") });
    upstream.hold(&"library/kettle".parse().unwrap(), &"2".parse().unwrap(), &small).await.unwrap();
    let hosts = BTreeMap::from([("bazaar.example".to_owned(), upstream.endpoint())]);
    let mut cluster = Cluster::new("turbine-hall", Platform::new("linux", "amd64", None), hosts);
    cluster.with_api(asked.api.clone());
    cluster.live().unwrap();
    let workload = |tag: &str, labels: Value| {
        json!({
            "apiVersion": "apps/v1", "kind": "Deployment", "metadata": { "name": "board" },
            "spec": {
                "selector": { "matchLabels": { "app": "board" } },
                "template": {
                    "metadata": { "labels": labels },
                    "spec": { "containers": [{ "name": "c", "image": format!("bazaar.example/library/kettle:{tag}") }] },
                },
            },
        })
    };
    let all = "/apis/apps/v1/namespaces/scada/deployments";
    let other = json!({ "app": "other" });
    assert_eq!(asked.ask("POST", all, Some(workload("2", other))).await.0, 422, "no selector fits");
    let fits = json!({ "app": "board" });
    assert_eq!(asked.ask("POST", all, Some(workload("3", fits.clone()))).await.0, 201);
    let pods = "/api/v1/namespaces/scada/pods?labelSelector=app%3Dboard";
    let state = async |wanted: &str| {
        for _ in 0..200 {
            let (_, list) = asked.ask("GET", pods, None).await;
            if list["items"].to_string().contains(wanted) {
                return list;
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        panic!("it never says {wanted}")
    };
    let failed = state("ImagePullBackOff").await;
    let pod = failed["items"][0]["metadata"]["name"].as_str().unwrap();
    let events =
        format!("/api/v1/namespaces/scada/events?fieldSelector=involvedObject.name%3D{pod}");
    let (_, events) = asked.ask("GET", &events, None).await;
    assert!(events["items"].to_string().contains("Failed to pull image"), "{events}");
    // Another form makes another pod, and the old one goes.
    let one = format!("{all}/board?fieldManager=one&force=true");
    assert_eq!(asked.ask("PATCH", &one, Some(workload("2", fits))).await.0, 200);
    let runs = state("\"phase\":\"Running\"").await;
    assert_eq!(runs["items"].as_array().unwrap().len(), 1, "{runs}");
    assert_eq!(asked.ask("DELETE", &format!("{all}/board"), None).await.0, 200);
    for _ in 0..200 {
        let (_, list) = asked.ask("GET", pods, None).await;
        if list["items"] == json!([]) {
            return;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    panic!("its pod stays");
}
