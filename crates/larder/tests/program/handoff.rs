//! What a cluster needs in order to pull: written, applied, checked, read, moved; with and without a
//! stored credential.

use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::PermissionsExt as _;
use std::path::Path;

use larder_core::objects;
use larder_core::platform::Platform;
use larder_standin::{Api, Cluster};
use serde_json::json;

use crate::access::granted;
use crate::house::{House, OWN};
use crate::serving::Serving;

const SECRET: &str = "/api/v1/namespaces/scada/secrets/larder-pull";

/// A cluster's API, and the kubeconfig for it in the house.
fn cluster(house: &House) -> Api {
    // The stand-in's nodes pull from within this process.
    let _ = rustls::crypto::ring::default_provider().install_default();
    let api = Api::new("turbine-hall", &["default", "scada", "historian"]).unwrap();
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("kubeconfig", api.kubeconfig(address));
    api
}

fn pods(house: &House, cluster: &mut Cluster, namespace: &str, image: &str) -> String {
    let text = format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{name: one, namespace: {namespace}}}\nspec: {{containers: [{{name: one, image: \"{image}\"}}]}}\n"
    );
    let pods = house.runtime.block_on(cluster.apply(&text)).unwrap();
    pods[0].to_string()
}

#[test]
fn a_pod_pulls_once_the_handoff_is_applied() {
    let house = granted("");
    let serving = Serving::start(&house);
    let api = cluster(&house);
    let hosts = BTreeMap::from([(OWN.to_owned(), serving.address.clone())]);
    let mut nodes = Cluster::new("turbine-hall", Platform::new("linux", "amd64", None), hosts);
    nodes.with_api(api.clone());
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let before = pods(&house, &mut nodes, "scada", &image);
    assert!(
        before.contains(
            "403 Forbidden: nobody signed in, and vendor/steamgauge is not for everybody"
        ),
        "{before}"
    );
    house.larder("handoff check turbine-hall --kubeconfig kubeconfig").ends(1).says(&[
        "the secret is missing",
        "service account default does not have the secret",
        "larder handoff apply",
    ]);
    house.larder("handoff apply turbine-hall --kubeconfig kubeconfig --dry-run").ends(0).says(&[
        "new",
        "linked",
        "4 objects would be applied",
    ]);
    assert!(api.get(SECRET).is_none(), "nothing was applied");
    house
        .larder("handoff apply turbine-hall --kubeconfig kubeconfig")
        .ends(0)
        .says(&["Secret scada/larder-pull", "4 objects applied"]);
    house.larder("handoff check turbine-hall --kubeconfig kubeconfig").ends(0).says(&["right, "]);
    let after = pods(&house, &mut nodes, "scada", &image);
    assert!(after.contains("Running"), "{after}");
    let other = pods(&house, &mut nodes, "historian", &format!("{OWN}/vendor/kettle:2"));
    assert!(
        other.contains("the namespace historian of turbine-hall may not pull vendor/kettle"),
        "{other}"
    );
    let ruled = pods(&house, &mut nodes, "scada", &format!("{OWN}/vendor/kettle:2"));
    assert!(ruled.contains("runs the turbines; ask for an intake entry instead"), "{ruled}");
    let first = api.get(SECRET).unwrap();
    house
        .larder("handoff apply turbine-hall --kubeconfig kubeconfig")
        .ends(0)
        .says(&["stays", "0 objects applied"]);
    assert_eq!(api.get(SECRET).unwrap(), first, "a good key stays");
    // A second key makes the secret stale; the handoff then brings another one.
    house.larder("key rotate --cluster turbine-hall --namespace scada --into second.key").ends(0);
    house
        .larder("handoff check turbine-hall --namespace scada --kubeconfig kubeconfig")
        .ends(1)
        .says(&["was issued to take its key's place"]);
    house
        .larder("handoff apply turbine-hall --namespace scada --kubeconfig kubeconfig")
        .ends(1)
        .says(&["two of its keys are good already"]);
}

#[test]
fn everything_that_is_wrong_in_a_cluster_is_found() {
    let house = granted("");
    let api = cluster(&house);
    house.larder("handoff apply turbine-hall --kubeconfig kubeconfig").ends(0);
    let good = api.get(SECRET).unwrap();
    let check = |words: &[&str]| {
        let report = house
            .larder("handoff check turbine-hall --namespace scada --kubeconfig kubeconfig --json")
            .ends(1)
            .json();
        let faults: Vec<&str> = report["namespaces"][0]["faults"]
            .as_array()
            .unwrap()
            .iter()
            .map(|it| it["fault"].as_str().unwrap())
            .collect();
        assert_eq!(faults, words);
    };
    let mut other = good.clone();
    other["type"] = "Opaque".into();
    api.put(SECRET, other);
    check(&["wrong-type"]);
    house
        .larder("handoff apply turbine-hall --namespace scada --kubeconfig kubeconfig")
        .ends(0)
        .says(&["replaced"]);
    house.larder("handoff check turbine-hall --namespace scada --kubeconfig kubeconfig").ends(0);
    house.write(
        "pull.json",
        json!({"auths": {"other.example": {"username": "a", "password": "b"}}}).to_string(),
    );
    api.put(SECRET, json!({"apiVersion": "v1", "kind": "Secret", "type": "kubernetes.io/dockerconfigjson", "metadata": {"name": "larder-pull", "namespace": "scada"}, "stringData": {".dockerconfigjson": house.read("pull.json")}}));
    check(&["wrong-host"]);
    let unknown = json!({"auths": {OWN: {"username": "turbine-hall", "password": "nonsense"}}});
    api.put(SECRET, json!({"apiVersion": "v1", "kind": "Secret", "type": "kubernetes.io/dockerconfigjson", "metadata": {"name": "larder-pull", "namespace": "scada"}, "stringData": {".dockerconfigjson": unknown.to_string()}}));
    check(&["wrong-user", "unknown-key"]);
    api.put(SECRET, good.clone());
    let id = good["metadata"]["annotations"]["larder/key"].as_str().unwrap();
    house.larder(&format!("key revoke {id}")).ends(0);
    check(&["expired"]);
    let mut away = good;
    away["metadata"]["namespace"] = "default".into();
    let api = cluster(&house);
    api.put("/api/v1/namespaces/default/secrets/larder-pull", away);
    check(&["wrong-namespace", "not-linked"]);
    let text = house.read("kubeconfig").replace("operator-", "nobody-");
    house.write("kubeconfig", text);
    house
        .larder("handoff check turbine-hall --kubeconfig kubeconfig")
        .ends(3)
        .says(&["it answered 401", "check the kubeconfig"]);
    house.larder("handoff check turbine-hall --kubeconfig missing").ends(2);
    house
        .larder("handoff check turbine-hall --kubeconfig kubeconfig --context x")
        .ends(2)
        .says(&["`contexts` has no `x`"]);
    house
        .larder("handoff check nowhere --kubeconfig kubeconfig")
        .ends(2)
        .says(&["there is no cluster `nowhere`"]);
    house.write("kubeconfig", "a: [b");
    house
        .larder("handoff apply turbine-hall --kubeconfig kubeconfig")
        .ends(2)
        .says(&["cannot use the kubeconfig"]);
}

#[test]
fn the_files_of_a_handoff_hold_what_is_needed_and_stay_as_they_are() {
    let house = granted("");
    house
        .larder("handoff write turbine-hall --into out --dry-run")
        .ends(0)
        .says(&["would be written"]);
    house.larder("key list").ends(0).says(&["no keys were issued"]);
    house.larder("handoff write turbine-hall --into out").ends(0).says(&[
        "out/secrets/scada.yaml",
        "out/secrets/historian.yaml",
        "out/service-accounts/scada.yaml",
        "out/HANDOFF.md",
        "hold keys",
    ]);
    let secret = house.read("out/secrets/scada.yaml");
    assert_eq!(
        fs::metadata(house.path("out/secrets/scada.yaml")).unwrap().permissions().mode() & 0o777,
        0o600
    );
    let object = &objects::read(&secret).unwrap()[0];
    // The platform's published schema: a Secret's data are strings of base64, its type is immutable.
    assert_eq!(
        (object["apiVersion"].as_str(), object["kind"].as_str()),
        (Some("v1"), Some("Secret"))
    );
    assert_eq!(object["type"], "kubernetes.io/dockerconfigjson");
    assert!(object["data"].as_object().unwrap().values().all(serde_json::Value::is_string));
    assert!(
        object["metadata"]["annotations"]
            .as_object()
            .unwrap()
            .values()
            .all(serde_json::Value::is_string)
    );
    house
        .larder("handoff write turbine-hall --into out")
        .ends(0)
        .says(&["unchanged out/secrets/scada.yaml"]);
    assert_eq!(house.read("out/secrets/scada.yaml"), secret);
    let read = house.larder(&format!("handoff read out/secrets/scada.yaml --image {OWN}/vendor/kettle:2 --image other.example/x")).ends(0);
    let read = read.says(&[
        "Secret scada/larder-pull",
        "user turbine-hall/scada",
        "this larder issued it; it is good",
        "is offered for",
        "is not offered for other.example/x",
    ]);
    let held = larder_core::handoff::read_secrets(&secret)
        .unwrap()
        .remove(0)
        .logins
        .remove(0)
        .held
        .unwrap();
    assert!(!read.out.contains(held.reveal()), "the secret is shown");
    let from_stdin = house.larder_reads("handoff read - --json", &secret).ends(0);
    assert!(!from_stdin.out.contains(held.reveal()));
    assert_eq!(from_stdin.json()["secrets"][0]["logins"][0]["state"], "good");
    house
        .larder("handoff write turbine-hall --namespace nowhere --into out")
        .ends(2)
        .says(&["without the namespace nowhere"]);
}

#[test]
fn a_secret_is_moved_to_where_it_is_wanted() {
    let house = granted("");
    let api = cluster(&house);
    house.larder("handoff write turbine-hall --namespace scada --into out").ends(0);
    house.larder("handoff move out/secrets/scada.yaml --namespace historian --name other --into moved.yaml").ends(0).says(&["Secret historian/other", "still the login of turbine-hall/scada"]);
    let moved = objects::read(&house.read("moved.yaml")).unwrap().remove(0);
    assert_eq!(
        (moved["metadata"]["namespace"].as_str(), moved["metadata"]["name"].as_str()),
        (Some("historian"), Some("other"))
    );
    assert_eq!(fs::metadata(house.path("moved.yaml")).unwrap().permissions().mode() & 0o777, 0o600);
    house
        .larder("handoff move moved.yaml --apply --kubeconfig kubeconfig")
        .ends(0)
        .says(&["applied at https://127.0.0.1"]);
    assert!(api.get("/api/v1/namespaces/historian/secrets/other").is_some());
    house
        .larder("handoff move moved.yaml --namespace elsewhere --apply --kubeconfig kubeconfig")
        .ends(3)
        .says(&["namespaces \"elsewhere\" not found"]);
    house
        .larder("handoff move moved.yaml --namespace Bad! --into x.yaml")
        .ends(2)
        .says(&["can name nothing in a cluster"]);
    house.write("other.yaml", "kind: ConfigMap\n");
    house.larder("handoff move other.yaml --into x.yaml").ends(2).says(&["0 Secrets, not one"]);
    house.larder("handoff read other.yaml").ends(1).says(&["no Secret but a ConfigMap"]);
    house.larder("handoff read missing.yaml").ends(2);
    // Several at once: each with its file, and one that cannot be read stops no other.
    house.larder("handoff read moved.yaml missing.yaml out/secrets/scada.yaml").ends(2).says(&[
        "moved.yaml:",
        "Secret historian/other",
        "out/secrets/scada.yaml:",
        "missing.yaml",
    ]);
    let together = format!("{}{}", house.read("moved.yaml"), house.read("out/secrets/scada.yaml"));
    let read = house.larder_reads("handoff read - --json", &together).ends(0).json();
    assert_eq!(
        read["secrets"].as_array().unwrap().len(),
        2,
        "files that are put together stay apart"
    );
    house.larder("handoff move moved.yaml").ends(2);
}

#[test]
fn a_cluster_without_stored_credentials_pulls_with_its_service_accounts() {
    let house = granted("");
    let api = cluster(&house);
    // The key set is fetched from the cluster itself; the demo has it in a file.
    let kubeconfig = house.read("kubeconfig");
    let server = kubeconfig.split('"').find(|part| part.starts_with("https://")).unwrap();
    house.write("cluster.pem", api.authority());
    let identity = format!(
        "\n[cluster.identity]\nissuer = \"{}\"\nkeys = \"{server}/openid/v1/jwks\"\nca = \"cluster.pem\"\n",
        api.issuer()
    );
    let text = house.read("larder.toml") + &identity;
    house.write("larder.toml", text);
    let serving = Serving::start(&house);
    house
        .larder("handoff write turbine-hall --into out")
        .ends(0)
        .says(&["out/node-login/credential-provider.yaml", "out/HANDOFF.md"]);
    assert!(!house.path("out/secrets").exists(), "no secret is needed");
    let provider =
        objects::read(&house.read("out/node-login/credential-provider.yaml")).unwrap().remove(0);
    assert_eq!(provider["kind"], "CredentialProviderConfig");
    assert_eq!(provider["providers"][0]["args"][0], "node-login");
    let hosts = BTreeMap::from([(OWN.to_owned(), serving.address.clone())]);
    let mut nodes = Cluster::new("turbine-hall", Platform::new("linux", "amd64", None), hosts);
    nodes.with_api(api.clone());
    // As the kubelet is configured, but for the address: the host's name leads nowhere here.
    let line = format!("node-login --larder {} --host {OWN}", serving.address);
    let arguments: Vec<String> = line.split(' ').map(str::to_owned).collect();
    nodes.ask_for_credentials(Path::new(env!("CARGO_BIN_EXE_larder")), &arguments, OWN);
    let pulled = pods(&house, &mut nodes, "scada", &format!("{OWN}/vendor/steamgauge:1.9.2"));
    assert!(pulled.contains("Running"), "{pulled}");
    nodes.renew_nodes();
    let refused = pods(&house, &mut nodes, "default", &format!("{OWN}/vendor/steamgauge:1.9.2"));
    assert!(!refused.contains("Running"), "the namespace is not declared: {refused}");
    serving.stop("TERM");
    house
        .larder("log --kind sign-in --who turbine-hall")
        .ends(0)
        .says(&["turbine-hall/scada", "service account scada/default"]);
    house.larder("log --kind failed").ends(0).says(&["without the namespace default"]);
}

#[test]
fn the_credential_provider_speaks_the_kubelets_protocol() {
    let house = granted("");
    let serving = Serving::start(&house);
    let key = house.issue("--cluster turbine-hall --namespace scada");
    house.write("node.key", format!("turbine-hall/scada:{key}\n"));
    let request = |image: &str| {
        json!({"apiVersion": "credentialprovider.kubelet.k8s.io/v1", "kind": "CredentialProviderRequest", "image": image}).to_string()
    };
    let line = format!("node-login --larder {} --host {OWN}", serving.address);
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let answer =
        house.larder_reads(&format!("{line} --key-file node.key"), &request(&image)).ends(0);
    assert!(!answer.out.contains(&key), "the key is given away");
    let answer = answer.json();
    assert_eq!(
        (answer["kind"].as_str(), answer["cacheKeyType"].as_str()),
        (Some("CredentialProviderResponse"), Some("Image"))
    );
    assert_eq!(answer["cacheDuration"], "8m0s");
    let token = answer["auth"][OWN]["password"].as_str().unwrap();
    let bearer = format!("Bearer {token}");
    let pull = |path: &str| {
        crate::serving::ask(serving.host(), "GET", path, &[("authorization", &bearer)], b"")
            .unwrap()
            .status
    };
    assert_eq!(pull("/v2/vendor/steamgauge/manifests/1.9.2"), 200);
    assert_eq!(pull("/v2/vendor/valve-twin/manifests/3.1"), 401, "it is for one repository");
    house.larder_reads(&line, &request(&image)).ends(2).says(&["no service account's token"]);
    house
        .larder_reads(&format!("{line} --key-file node.key"), &request("other.example/x"))
        .ends(2)
        .says(&["no image of"]);
    house
        .larder_reads(&format!("{line} --key-file node.key"), "hello")
        .ends(2)
        .says(&["no CredentialProviderRequest"]);
    let old = request(&image).replace("k8s.io/v1", "k8s.io/v1alpha1");
    house.larder_reads(&format!("{line} --key-file node.key"), &old).ends(2).says(&["v1alpha1"]);
    let forged = json!({"apiVersion": "credentialprovider.kubelet.k8s.io/v1", "kind": "CredentialProviderRequest", "image": image, "serviceAccountToken": "a.b.c"});
    house
        .larder_reads(&line, &forged.to_string())
        .ends(3)
        .says(&["it answered 401", "no cluster of this larder issues such tokens"]);
}

#[test]
fn a_handoff_that_breaks_off_takes_nothing_away_and_leaves_no_key() {
    let house = granted("");
    let api = cluster(&house);
    let apply = "handoff apply turbine-hall --namespace scada --kubeconfig kubeconfig";
    api.refuse_writes();
    for _ in 0..3 {
        house.larder(apply).ends(3).says(&["it answered 403", "cannot patch"]);
    }
    house.larder("key list").ends(0).says(&["no keys were issued"]);
    house.larder("log --kind key").ends(0).says(&["it could not be handed over"]);
    // One of another type stays where no key can be made for the one that takes its place.
    let api = cluster(&house);
    house.larder(apply).ends(0);
    let mut other = api.get(SECRET).unwrap();
    other["type"] = "Opaque".into();
    api.put(SECRET, other.clone());
    house.larder("key rotate --cluster turbine-hall --namespace scada --into k").ends(0);
    house.larder(apply).ends(1).says(&["two of its keys are good already"]);
    assert_eq!(api.get(SECRET).unwrap(), other, "it was taken away");
}

#[test]
fn a_lost_secret_is_replaced_again_and_again_and_nothing_is_burned_on_the_way() {
    let house = granted("");
    let api = cluster(&house);
    let line = "--kubeconfig kubeconfig";
    // Those that are good; all of them with `--all`.
    let keys = |more: &str, user: &str| {
        let listed = house.larder(&format!("key list --json {more}")).json();
        let all = listed["keys"].as_array().unwrap().clone();
        all.iter().filter(|key| key["user"] == user).count()
    };
    let (scada, historian) = ("turbine-hall/scada", "turbine-hall/historian");
    for _ in 0..4 {
        house.larder(&format!("handoff apply turbine-hall {line} --dry-run")).ends(0);
        house.larder(&format!("handoff apply turbine-hall {line}")).ends(0);
        house.larder(&format!("handoff check turbine-hall {line}")).ends(0);
        assert!(keys("", scada) <= 2, "{}", house.larder("key list").out);
        api.remove(SECRET);
    }
    // What fails in one place says what was done before it, and leaves no key behind.
    house.larder(&format!("handoff apply turbine-hall {line}")).ends(0);
    api.remove("/api/v1/namespaces/historian/secrets/larder-pull");
    let before = keys("--all", historian);
    api.refuse_writes();
    house
        .larder(&format!("handoff apply turbine-hall {line}"))
        .ends(3)
        .says(&["applied before it failed: nothing", "not applied: Secret historian/larder-pull"]);
    assert_eq!(keys("--all", historian), before + 1);
    assert_eq!(keys("", historian), 1, "the key that nobody got has ended");
    // A folder that cannot be written gets no key.
    house.write("file", "in the way");
    let before = keys("--all", historian) + keys("--all", scada);
    assert_ne!(house.larder("handoff write turbine-hall --into file/x").exit, 0);
    assert_eq!(keys("--all", historian) + keys("--all", scada), before);
}

#[test]
fn keys_are_renewed_before_they_end() {
    let house = granted("");
    let api = cluster(&house);
    let apply = "handoff apply turbine-hall --namespace scada --kubeconfig kubeconfig";
    house.larder(&format!("{apply} --expires 10d")).ends(0);
    let first = api.get(SECRET).unwrap();
    // What lasts long enough stays; what ends sooner is renewed, and the old key goes on beside it.
    house.larder(&format!("{apply} --rotate-before 5d")).ends(0).says(&["stays", "0 objects"]);
    assert_eq!(api.get(SECRET).unwrap(), first);
    house.larder(&format!("{apply} --rotate-before 14d --dry-run")).ends(0).says(&["new"]);
    house.larder(&format!("{apply} --rotate-before 14d")).ends(0).says(&["1 object applied"]);
    assert_ne!(api.get(SECRET).unwrap(), first);
    let keys = house.larder("key list --json").json()["keys"].as_array().unwrap().len();
    assert_eq!(keys, 2);
    // A timer does nothing more until it is due again.
    for _ in 0..3 {
        house.larder(&format!("{apply} --rotate-before 14d")).ends(0).says(&["0 objects"]);
    }
    house
        .larder(&format!("{apply} --rotate-before 14d --expires 7d"))
        .ends(2)
        .says(&["renewed each time"]);
}

#[test]
fn a_renewal_that_does_not_run_is_told() {
    let house = granted("");
    let text = house.read("larder.toml").replacen(
        "[larder]\n",
        "[larder]\nmetrics = \"127.0.0.1:0\"\n",
        1,
    );
    house.write("larder.toml", text);
    let _api = cluster(&house);
    let check = || house.larder("check --offline").err;
    let apply = "handoff apply turbine-hall --namespace scada --kubeconfig kubeconfig";
    house.larder(&format!("{apply} --expires 3d")).ends(0);
    let told = check();
    assert!(told.contains("the key of turbine-hall/scada ends"), "{told}");
    assert!(told.contains("nothing has ever renewed them"), "{told}");
    // It ran, and left the key as it was.
    house.larder(&format!("{apply} --rotate-before 1d")).ends(0);
    house.larder(&format!("{apply} --rotate-before 1d")).ends(0);
    assert!(check().contains("and did not renew it"), "{}", check());
    let log = house.larder("log --kind key --json").ends(0).out;
    let renewals = log.matches("looked through for renewal").count();
    assert_eq!(renewals, 1, "one line, however often it ran: {log}");
    let serving = Serving::start(&house);
    let line = serving.said.iter().find(|line| line.contains("figures")).unwrap();
    let host = line.split("http://").nth(1).unwrap().split('/').next().unwrap();
    let figures = crate::serving::ask(host, "GET", "/metrics", &[], b"").unwrap().text();
    assert!(
        figures.contains("larder_renewal_timestamp_seconds{cluster=\"turbine-hall\"}"),
        "{figures}"
    );
    house.larder(&format!("{apply} --rotate-before 14d")).ends(0);
    assert!(!check().contains("the key of turbine-hall/scada ends"), "{}", check());
}

#[test]
fn rights_in_the_named_namespaces_suffice() {
    let house = granted("");
    let api = cluster(&house);
    api.confine(&["scada"]);
    let one = "turbine-hall --namespace scada --kubeconfig kubeconfig";
    house.larder(&format!("handoff check {one}")).ends(1).says(&["the secret is missing"]);
    house.larder(&format!("handoff apply {one}")).ends(0).says(&["new", "linked"]);
    house.larder(&format!("handoff check {one}")).ends(0);
    // What lies elsewhere is not to be had, and that is said in the cluster's own words.
    let all = "turbine-hall --kubeconfig kubeconfig";
    let refused = house.larder(&format!("handoff apply {all}")).ends(3);
    assert!(
        refused.err.contains("is forbidden: User \"operator\" cannot get resource"),
        "{}",
        refused.err
    );
    house
        .larder("survey --cluster turbine-hall --kubeconfig kubeconfig")
        .ends(3)
        .says(&["cannot list resource", "at the cluster scope"]);
}

#[test]
fn long_lists_are_read_whole() {
    let house = granted("");
    let api = cluster(&house);
    for number in 0..1_100 {
        let spec = json!({ "containers": [{ "name": "c", "image": format!("bazaar.example/t/i{number}:1") }] });
        api.put(
            &format!("/api/v1/namespaces/scada/pods/p{number:04}"),
            json!({
                "apiVersion": "v1", "kind": "Pod",
                "metadata": { "name": format!("p{number:04}"), "namespace": "scada" }, "spec": spec,
            }),
        );
    }
    let survey = "survey --cluster turbine-hall --kubeconfig kubeconfig --json";
    let images = || house.larder(survey).json()["references"].as_array().unwrap().len();
    assert_eq!(images(), 1_100, "in pages");
    api.hurry();
    assert_eq!(images(), 1_100, "in one piece, where the pages grow too old");
}
