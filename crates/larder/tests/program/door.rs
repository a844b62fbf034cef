//! A cluster asks at its door: what slips through is corrected, or refused.

use std::collections::BTreeMap;
use std::os::unix::fs::PermissionsExt as _;

use larder_core::platform::Platform;
use larder_standin::{Api, Cluster};
use serde_json::json;

use crate::access::granted;
use crate::house::{House, OWN};
use crate::serving::{Serving, ask};

const DOOR: &str = "door.emberfall.example";

/// A house whose turbine hall has a door with these settings.
fn house(settings: &str) -> House {
    let house = granted("");
    let text = house.read("larder.toml");
    let cluster = "name = \"turbine-hall\"\n";
    assert!(text.contains(cluster));
    let door = format!("{cluster}door = {{ url = \"https://{DOOR}\", {settings} }}\n");
    house.write("larder.toml", text.replacen(cluster, &door, 1));
    house
}

fn cluster(house: &House, serving: &Serving) -> (Api, Cluster) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let api = Api::new("turbine-hall", &["default", "scada", "historian", "lab"]).unwrap();
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("kubeconfig", api.kubeconfig(address));
    let hosts = BTreeMap::from([
        (OWN.to_owned(), serving.address.clone()),
        (DOOR.to_owned(), serving.address.clone()),
    ]);
    let mut nodes = Cluster::new("turbine-hall", Platform::new("linux", "amd64", None), hosts);
    nodes.with_api(api.clone());
    (api, nodes)
}

fn workload(namespace: &str, image: &str) -> String {
    format!(
        "apiVersion: apps/v1\nkind: Deployment\nmetadata: {{name: board, namespace: {namespace}}}\nspec: {{template: {{spec: {{containers: [{{name: one, image: \"{image}\"}}]}}}}}}\n"
    )
}

fn apply(house: &House, cluster: &mut Cluster, text: &str) -> Result<String, String> {
    // Again where the machine had no time to decide: what is tested is what is decided.
    let mut tries = 50;
    let pods = loop {
        match house.runtime.block_on(cluster.apply(text)) {
            Err(late) if late.contains("in time") && tries > 0 => tries -= 1,
            other => break other?,
        }
    };
    Ok(pods.iter().map(ToString::to_string).collect())
}

#[test]
fn what_slips_through_is_corrected_and_what_is_denied_is_refused() {
    let house = house("");
    let serving = Serving::start(&house);
    let (api, mut nodes) = cluster(&house, &serving);
    house
        .larder("handoff check turbine-hall --kubeconfig kubeconfig")
        .ends(1)
        .says(&["door: MutatingWebhookConfiguration larder-door-turbine-hall is missing"]);
    house.larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked").ends(0).says(
        &["new     MutatingWebhookConfiguration larder-door-turbine-hall", "12 objects applied"],
    );
    house
        .larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked")
        .ends(0)
        .says(&["0 objects"]);
    house
        .larder("handoff check turbine-hall --kubeconfig kubeconfig")
        .ends(0)
        .says(&["door: ValidatingWebhookConfiguration larder-door-turbine-hall is right"]);
    // The upstream's name, which these nodes cannot reach: the door makes it ours, with the secret.
    let said =
        apply(&house, &mut nodes, &workload("scada", "ventworks.example/gauges/steamgauge:1.9.2"));
    let said = said.unwrap();
    assert!(
        said.contains("Running") && said.contains(&format!("{OWN}/vendor/steamgauge:1.9.2")),
        "{said}"
    );
    // What was let in is in use, and by which workload; the pod is its Deployment's.
    let used = || house.larder("--json shelf users vendor/steamgauge").ends(0).json();
    let by_door = |used: &serde_json::Value| {
        let users = used["images"][0]["users"].as_array().cloned().unwrap_or_default();
        let at_door = |user: &serde_json::Value| {
            user["who"] == "turbine-hall/scada"
                && user["workload"] == "Deployment/board"
                && user["how"] == "admitted at its door"
        };
        users.iter().any(at_door) && !users.iter().any(|user| user["workload"] == "Pod/board")
    };
    crate::node::wait_until("the door's answer is noted", || by_door(&used()));
    house.larder("shelf users --unused vendor").ends(0).says(&["vendor/kettle:2"]);
    // What the rules deny does not even become a pod, and the record has it.
    let refused = apply(&house, &mut nodes, &workload("scada", "bazaar.example/library/kettle:2"));
    let refused = refused.unwrap_err();
    assert!(
        refused.contains("admission webhook \"rules.door.iron-larder\" denied the request"),
        "{refused}"
    );
    assert!(refused.contains("runs the turbines; ask for an intake entry instead ["), "{refused}");
    let number = refused.rsplit_once('[').unwrap().1.trim_end_matches(']').to_owned();
    crate::node::wait_until("the record has it", || {
        house.larder(&format!("log {number}")).out.contains("at the door, for Deployment board")
    });
    let kettle = house.larder("--json shelf users vendor/kettle").ends(0).json();
    assert_eq!(kettle["images"].as_array().unwrap().len(), 0, "what was refused runs nowhere");
    // What has no route stays as it is, and fails as it would have.
    let other = apply(&house, &mut nodes, &workload("scada", "other.example/x:1")).unwrap();
    assert!(other.contains("other.example/x:1"), "{other}");
    // Somebody changed it by hand: that is told and put right.
    let path = "/apis/admissionregistration.k8s.io/v1/mutatingwebhookconfigurations/larder-door-turbine-hall";
    let mut hook = api.get(path).unwrap();
    hook["webhooks"][0]["failurePolicy"] = json!("Fail");
    api.put(path, hook);
    house.larder("handoff check turbine-hall --kubeconfig kubeconfig").ends(1).says(&[
        "door: MutatingWebhookConfiguration larder-door-turbine-hall is not as it should be",
    ]);
    house
        .larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked")
        .ends(0)
        .says(&["changed"]);
    house.larder("handoff check turbine-hall --kubeconfig kubeconfig").ends(0);
}

#[test]
fn each_switch_does_what_it_says() {
    let gauge = "ventworks.example/gauges/steamgauge:1.9.2";
    for (settings, namespace, image, expected) in [
        ("pin = true, secret = false", "scada", gauge, Ok("/vendor/steamgauge:1.9.2@sha256:")),
        (
            "rewrite = false, secret = false",
            "scada",
            gauge,
            Ok("\"ventworks.example/gauges/steamgauge:1.9.2\""),
        ),
        (
            "except = [\"lab\"]",
            "lab",
            "bazaar.example/library/kettle:2",
            Ok("\"bazaar.example/library/kettle:2\""),
        ),
        ("rules = \"off\"", "scada", "bazaar.example/library/kettle:2", Ok("/vendor/kettle:2")),
        ("rules = \"warn\"", "scada", "bazaar.example/library/kettle:2", Ok("/vendor/kettle:2")),
        ("rehearse = true", "scada", gauge, Ok("\"ventworks.example/gauges/steamgauge:1.9.2\"")),
        ("", "scada", "bazaar.example/library/kettle:2", Err("denied the request")),
    ] {
        let house = house(settings);
        let serving = Serving::start(&house);
        let (_, mut nodes) = cluster(&house, &serving);
        house.larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked").ends(0);
        let said = apply(&house, &mut nodes, &workload(namespace, image));
        match (expected, said) {
            (Ok(words), Ok(said)) => assert!(said.contains(words), "{settings}: {said}"),
            (Err(words), Err(said)) => assert!(said.contains(words), "{settings}: {said}"),
            (_, said) => panic!("{settings}: {said:?}"),
        }
        let told = nodes.warnings().join("\n");
        match settings {
            "rules = \"warn\"" => assert!(told.contains("runs the turbines"), "{told}"),
            "rehearse = true" => assert!(told.contains("would become"), "{told}"),
            _ => {}
        }
    }
}

#[test]
fn a_larder_that_is_away_does_what_was_chosen() {
    for (settings, refused) in
        [("unanswered = \"admit\"", false), ("unanswered = \"refuse\"", true)]
    {
        let house = house(settings);
        let serving = Serving::start(&house);
        let (_, mut nodes) = cluster(&house, &serving);
        house.larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked").ends(0);
        assert_eq!(serving.stop("TERM"), 0);
        let said = apply(
            &house,
            &mut nodes,
            &workload("scada", "ventworks.example/gauges/steamgauge:1.9.2"),
        );
        assert_eq!(said.is_err(), refused, "{said:?}");
        if let Err(said) = said {
            assert!(said.contains("failed calling webhook"), "{said}");
        }
    }
}

#[test]
fn only_who_knows_the_path_is_answered_and_the_log_does_not_tell_it() {
    let house = house("");
    let serving = Serving::start(&house);
    house.larder("handoff write turbine-hall --into handoff").ends(0).says(&["door/webhooks.yaml"]);
    let file = house.path("handoff/door/webhooks.yaml");
    assert_eq!(std::fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
    assert!(house.read("handoff/HANDOFF.md").contains("door/webhooks.yaml"));
    let text = house.read("handoff/door/webhooks.yaml");
    // The larder speaks HTTP here and a proxy has the door's certificate: the authority is for the door alone.
    house.write("ca.pem", "-----BEGIN CERTIFICATE-----\nTUFERQ==\n-----END CERTIFICATE-----\n");
    house.larder("handoff write turbine-hall --into with-ca --ca ca.pem").ends(0);
    assert!(house.read("with-ca/door/webhooks.yaml").contains("caBundle"));
    assert!(!house.path("with-ca/larder-ca.pem").exists());
    house.larder("handoff write turbine-hall --into x --nodes --ca ca.pem").ends(2);
    let at = text.find("/door/turbine-hall/").unwrap();
    let path = text[at..].split(['"', '\n', '\'']).next().unwrap().to_owned();
    let token = path.split('/').nth(3).unwrap().to_owned();
    let review = |object: &str| {
        format!(
            r#"{{"apiVersion":"admission.k8s.io/v1","kind":"AdmissionReview","request":{{"uid":"u","kind":{{"kind":"Pod"}},"namespace":"scada","object":{object}}}}}"#
        )
    };
    let post = |path: &str, body: &str| {
        ask(serving.host(), "POST", path, &[("content-type", "application/json")], body.as_bytes())
            .unwrap()
    };
    let pod = r#"{"apiVersion":"v1","kind":"Pod","spec":{"containers":[{"name":"a","image":"ventworks.example/gauges/steamgauge:1.9.2"}]}}"#;
    let answer = post(&path, &review(pod));
    assert_eq!(answer.status, 200);
    assert!(answer.text().contains("\"patchType\":\"JSONPatch\""), "{}", answer.text());
    // A pod that is there already keeps its secrets, for the platform would refuse the change.
    assert_eq!(post(&path, &review("null")).status, 200);
    for (path, body, status) in [
        (path.replace(&token, "AAAA"), review(pod), 404),
        (path.replace("turbine-hall", "field-lab"), review(pod), 404),
        ("/door/".to_owned(), review(pod), 404),
        ("/door/turbine-hall/%2e%2e/rewrite".to_owned(), review(pod), 404),
        (path.clone(), "{".to_owned(), 400),
        (path.clone(), "{\"apiVersion\":\"v1\",\"kind\":\"Pod\",\"request\":{\"uid\":\"\",\"kind\":{\"kind\":\"Pod\"}}}".to_owned(), 400),
        (path.clone(), " ".repeat(5 * 1024 * 1024), 413),
    ] {
        let shown: String = body.chars().take(80).collect();
        assert_eq!(post(&path, &body).status, status, "{path} {shown}");
    }
    assert_eq!(ask(serving.host(), "GET", &path, &[], b"").unwrap().status, 405);
    let deep = format!(
        "{{\"apiVersion\":\"v1\",\"kind\":\"Pod\",\"spec\":{}{}}}",
        "[".repeat(5000),
        "]".repeat(5000)
    );
    let answer = post(&path, &review(&deep));
    assert!(
        answer.status == 400 || answer.text().contains("\"allowed\":true"),
        "{}",
        answer.text()
    );
    let log = serving.log();
    assert!(log.contains("/door/turbine-hall/…/rewrite"), "{log}");
    assert!(!log.contains(&token), "the log tells the path");
}

#[test]
fn a_door_without_https_is_refused_and_told() {
    let house = house("");
    let text = house.read("larder.toml");
    house.write("larder.toml", text.replace(&format!("url = \"https://{DOOR}\", "), ""));
    house
        .larder("handoff write turbine-hall --into handoff")
        .ends(2)
        .says(&["the platform asks at a door by HTTPS alone", "set `tls`"]);
    house.write("larder.toml", text.replace(&format!("https://{DOOR}"), &format!("http://{DOOR}")));
    house.larder("handoff write turbine-hall --into handoff").ends(2).says(&["by HTTPS alone"]);
}

#[test]
fn a_live_cluster_is_surveyed_through_its_api() {
    let house = house("");
    let serving = Serving::start(&house);
    let (api, _) = cluster(&house, &serving);
    api.put(
        "/apis/apps/v1/namespaces/scada/deployments/board",
        json!({"metadata": {"name": "board", "namespace": "scada"}, "spec": {"template": {"spec": {"containers": [{"name": "one", "image": "kettle:2"}]}}}}),
    );
    api.put(
        "/api/v1/namespaces/scada/pods/board-1",
        json!({"metadata": {"name": "board-1", "namespace": "scada", "ownerReferences": [{"kind": "ReplicaSet"}]},
            "spec": {"containers": [{"name": "one", "image": "kettle:2"}]},
            "status": {"containerStatuses": [{"name": "one", "imageID": format!("runtime://{OWN}/vendor/kettle@sha256:{}", "a".repeat(64))}]}}),
    );
    let json =
        house.larder("survey --cluster turbine-hall --kubeconfig kubeconfig --json").ends(1).json();
    let rows = json["references"].as_array().unwrap();
    let named: Vec<&str> = rows.iter().map(|row| row["reference"].as_str().unwrap()).collect();
    assert!(named.contains(&"bazaar.example/library/kettle:2"), "{named:?}");
    assert!(named.iter().any(|name| name.contains("/vendor/kettle@sha256:aaaa")), "{named:?}");
    let kettle =
        rows.iter().find(|row| row["reference"] == "bazaar.example/library/kettle:2").unwrap();
    assert_eq!(kettle["places"].as_array().unwrap().len(), 1, "a pod's own copy is not news");
    assert_eq!(kettle["places"][0]["file"], "turbine-hall:scada/Deployment/board");
    house.larder("survey --cluster turbine-hall --kubeconfig nowhere").ends(2);
    // What it saw is noted: it is in use, and known of the cluster.
    let used = house.larder("--json shelf users vendor/kettle").ends(0).json();
    let user = &used["images"][0]["users"][0];
    assert_eq!((&user["who"], &user["how"]), (&json!("turbine-hall/scada"), &json!("surveyed")));
    assert_eq!(user["workload"], "Deployment/board");
    let text = house.read("larder.toml");
    let keep = "[[keep]]\nmatch = [\"vendor/**\"]\nunpulled = \"1s\"\n";
    house.write("larder.toml", format!("{text}\n{keep}"));
    std::fs::remove_file(house.path("larder.lock")).unwrap();
    house
        .larder("shelf tidy vendor/kettle --explain --grace 0s")
        .ends(0)
        .says(&["stays: surveyed by turbine-hall"]);
}

#[test]
fn what_names_alone_decide_is_written_for_the_cluster_to_hold_by_itself() {
    let names = |house: &House| {
        house.larder("handoff write turbine-hall --into handoff").ends(0);
        house.read("handoff/door/names.yaml")
    };
    let enforcing = house("except = [\"lab\"]");
    let written = names(&enforcing);
    for words in [
        "kind: ValidatingAdmissionPolicy\n",
        "kind: ValidatingAdmissionPolicyBinding\n",
        "larder-names-turbine-hall-cronjobs",
        "Deny",
        "runs the turbines; ask for an intake entry instead",
        "lab",
        "kube-system",
    ] {
        assert!(written.contains(words), "{words}: {written}");
    }
    assert!(!written.contains("/door/"), "no secret is in it: {written}");
    // Another cluster's rules are not this one's.
    let warning = house("rules = \"warn\"");
    let written = names(&warning);
    assert!(written.contains("Warn") && !written.contains("Deny"), "{written}");
    for settings in ["names = false", "rules = \"off\""] {
        let house = house(settings);
        house.larder("handoff write turbine-hall --into handoff").ends(0);
        assert!(!house.path("handoff/door/names.yaml").exists(), "{settings}");
    }
    // A rule that changes is told of by `check`, and applied.
    let serving = Serving::start(&enforcing);
    let (api, _) = cluster(&enforcing, &serving);
    enforcing.larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked").ends(0);
    let text = enforcing.read("larder.toml");
    enforcing.write("larder.toml", text.replace("runs the turbines", "turns the turbines"));
    enforcing
        .larder("handoff check turbine-hall --kubeconfig kubeconfig")
        .ends(1)
        .says(&["ValidatingAdmissionPolicy larder-names-turbine-hall-pods is not as it should be"]);
    enforcing.larder("handoff apply turbine-hall --kubeconfig kubeconfig --door-unasked").ends(0);
    let path = "/apis/admissionregistration.k8s.io/v1/validatingadmissionpolicies/larder-names-turbine-hall-pods";
    assert!(api.get(path).unwrap().to_string().contains("turns the turbines"));
    enforcing.larder("handoff check turbine-hall --kubeconfig kubeconfig").ends(0);
}
