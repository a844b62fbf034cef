//! Pull secrets that do not fit, and what is refused to whom.

use serde_json::{Value, json};

use crate::access::granted;
use crate::causes::finds;
use crate::house::OWN;
use crate::node::wait_until;
use crate::serving::Serving;

/// Objects for `--secret`, by what is wrong with them.
pub(super) fn secret(
    namespace: &str,
    kind: &str,
    host: &str,
    user: &str,
    password: &str,
    auth: &str,
) -> String {
    let content =
        json!({ "auths": { host: { "username": user, "password": password, "auth": auth } } });
    json!({
        "apiVersion": "v1", "kind": "Secret", "type": kind,
        "metadata": { "name": "larder-pull", "namespace": namespace },
        "stringData": { ".dockerconfigjson": content.to_string() },
    })
    .to_string()
}

pub(super) fn basic(user: &str, password: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(format!("{user}:{password}"))
}

pub(super) const KIND: &str = "kubernetes.io/dockerconfigjson";

#[test]
fn pull_secrets_that_do_not_let_a_pod_in() {
    let house = granted("");
    let serving = Serving::start(&house);
    let key = house.issue("--cluster turbine-hall --namespace scada");
    let old = house.issue("--cluster turbine-hall --namespace historian --expires 1s");
    let user = "turbine-hall/scada";
    let pod = |links: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: p, namespace: scada}}\nspec: {{{links}containers: [{{name: c, image: {OWN}/vendor/steamgauge:1.9.2}}]}}\n"
        )
    };
    let linked = pod("imagePullSecrets: [{name: larder-pull}], ");
    let right = secret("scada", KIND, OWN, user, &key, &basic(user, &key));
    house.write("right.json", &right);
    house.write("pod.yaml", &linked);
    let line = |pod: &str, secret: &str| {
        format!(
            "--pod {pod} --secret {secret} --cluster turbine-hall --namespace scada --larder {}",
            serving.address
        )
    };
    house.larder(&format!("why {}", line("pod.yaml", "right.json"))).ends(0).says(&[
        "it can be pulled",
        "the pod signs in as turbine-hall/scada (pull secret scada/larder-pull)",
    ]);
    house.write("unlinked.yaml", pod(""));
    finds(&house, &line("unlinked.yaml", "right.json"), "not-linked");
    let account =
        json!({"kind": "ServiceAccount", "metadata": {"name": "default", "namespace": "scada"}});
    house.write("account.json", account.to_string());
    finds(&house, &line("unlinked.yaml", "account.json"), "no-credential");
    let wrong = "larder_aaaaaaaa_notakey";
    for (name, text, wanted) in [
        (
            "elsewhere",
            secret("historian", KIND, OWN, user, &key, &basic(user, &key)),
            "secret-elsewhere",
        ),
        ("type", secret("scada", "Opaque", OWN, user, &key, &basic(user, &key)), "secret-type"),
        (
            "host",
            secret("scada", KIND, "other.example", user, &key, &basic(user, &key)),
            "secret-host",
        ),
        (
            "disagrees",
            secret("scada", KIND, OWN, user, &key, &basic(user, wrong)),
            "secret-disagrees",
        ),
        ("unknown", secret("scada", KIND, OWN, user, wrong, &basic(user, wrong)), "key-unknown"),
        ("broken", right.replace("auths", "nothing"), "secret-unreadable"),
        ("missing", right.replace("larder-pull", "another-one"), "secret-missing"),
    ] {
        let file = format!("{name}.json");
        house.write(&file, text);
        finds(&house, &line("pod.yaml", &file), wanted);
    }
    let expired = secret(
        "scada",
        KIND,
        OWN,
        "turbine-hall/historian",
        &old,
        &basic("turbine-hall/historian", &old),
    );
    house.write("expired.json", expired);
    wait_until("the key has expired", || {
        house.larder("key list --all --json").out.contains("\"good\": false")
    });
    finds(&house, &line("pod.yaml", "expired.json"), "key-expired");
    let list = house.larder("key list --json").json();
    let id = list["keys"][0]["key"].as_str().unwrap().to_owned();
    house.larder(&format!("key revoke {id}")).ends(0);
    finds(&house, &line("pod.yaml", "right.json"), "key-revoked");
    // Whatever is asked, no secret is told.
    for format in ["", "--json"] {
        let run = house.larder(&format!("why {format} {}", line("pod.yaml", "right.json")));
        assert!(!run.out.contains(&key) && !run.err.contains(&key));
    }
}

#[test]
fn denials_and_absences_are_told_apart() {
    let house = granted("");
    let serving = Serving::start(&house);
    let historian = house.issue("--cluster turbine-hall --namespace historian");
    let scada = house.issue("--cluster turbine-hall --namespace scada");
    for (space, key) in [("historian", &historian), ("scada", &scada)] {
        let user = format!("turbine-hall/{space}");
        let text = secret(space, KIND, OWN, &user, key, &basic(&user, key));
        house.write(&format!("{space}.json"), text);
    }
    let ask = |image: &str, space: &str| {
        format!(
            "{OWN}/{image} --secret {space}.json --cluster turbine-hall --namespace {space} --larder {}",
            serving.address
        )
    };
    let told = finds(&house, &ask("vendor/kettle:2", "historian"), "grant-missing").to_string();
    assert!(told.contains("larder.toml:"), "the line is told: {told}");
    let told = finds(&house, &ask("vendor/kettle:2", "scada"), "rule-denies").to_string();
    assert!(told.contains("runs the turbines"), "{told}");
    finds(&house, &ask("vendor/steamgage:1.9.2", "scada"), "repository-missing")
        .to_string()
        .contains("vendor/steamgauge")
        .then_some(())
        .expect("the near name is told");
    let told = finds(&house, &ask("vendor/steamgauge:1.9.1", "scada"), "tag-missing").to_string();
    assert!(told.contains("it has 1.9.2"), "{told}");
    let bring = "larder intake add ventworks.example/gauges/steamgauge:1.9.1";
    assert!(told.contains(bring), "under its upstream's name: {told}");
    let digest = format!("vendor/steamgauge@sha256:{}", "a".repeat(64));
    finds(&house, &ask(&digest, "scada"), "digest-missing");
    finds(&house, &ask("wendor/steamgauge:1.9.2", "scada"), "no-shelf");
    house.larder("shelf drop vendor/steamgauge:1.9.2").ends(0);
    let told = finds(&house, &ask("vendor/steamgauge:1.9.2", "scada"), "removed").to_string();
    assert!(told.contains("by the operator"), "{told}");
    // The number of a refusal leads back to the decision.
    let lines = |kind: &str| -> Vec<Value> {
        let out = house.larder(&format!("log --kind {kind} --json")).out;
        out.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
    };
    // What was tried is recorded as that, and hides among no node's refusals.
    let refused = |one: &&Value| one["text"].as_str().unwrap().contains("may not pull");
    wait_until("it is recorded", || lines("probe").iter().any(|one| refused(&one)));
    assert!(lines("refused").is_empty() && lines("failed").is_empty() && lines("pull").is_empty());
    let shown = [("authorization", crate::access::basic("turbine-hall/historian", &historian))];
    let shown: Vec<(&str, &str)> = shown.iter().map(|(name, value)| (*name, &**value)).collect();
    let path = "/v2/vendor/kettle/manifests/2";
    let answer = crate::serving::ask(serving.host(), "HEAD", path, &shown, b"").unwrap();
    assert_eq!(answer.status, 403, "{}{}", answer.head, answer.text());
    wait_until("it is recorded", || !lines("refused").is_empty());
    let number = lines("refused")[0]["number"].as_str().unwrap().to_owned();
    house.larder(&format!("why --ref {number}")).ends(1).says(&["larder log", &number]);
    // What is recorded, and no refusal, is no cause.
    let log = house.larder("log --kind delete --json").out;
    let removed: Value = serde_json::from_str(log.lines().next().unwrap()).unwrap();
    let removed = removed["number"].as_str().unwrap();
    house.larder(&format!("why --ref {removed}")).ends(3).says(&["not of a refusal"]);
    house.larder("why --ref zzzz-99").ends(3).says(&["nothing of this number is in the record"]);
}

#[test]
fn secrets_are_tried_in_the_kubelets_order() {
    let house = granted("");
    let serving = Serving::start(&house);
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let good = house.issue("--cluster turbine-hall --namespace scada");
    let secret = |name: &str, kind: &str, host: &str, user: &str, key: &str| {
        let auth = crate::access::basic(user, key).replace("Basic ", "");
        let auths = serde_json::json!({ host: { "auth": auth } });
        let (field, content) = match kind {
            "kubernetes.io/dockercfg" => (".dockercfg", auths),
            _ => (".dockerconfigjson", serde_json::json!({ "auths": auths })),
        };
        serde_json::json!({
            "metadata": { "name": name, "namespace": "scada" }, "type": kind,
            "stringData": { field: content.to_string() },
        })
    };
    let (new, old) = ("kubernetes.io/dockerconfigjson", "kubernetes.io/dockercfg");
    let user = "turbine-hall/scada";
    let pod = serde_json::json!({
        "kind": "Pod", "metadata": { "name": "p", "namespace": "scada" },
        "spec": { "containers": [{ "name": "c", "image": image }],
            "imagePullSecrets": [{ "name": "a" }, { "name": "b" }] },
    });
    house.write("pod.json", pod.to_string());
    let path = format!("{OWN}/vendor");
    for (a, b, exit) in [
        // The older type is read too.
        (secret("a", old, OWN, user, &good), secret("b", new, "other.example", "x", "y"), 0),
        // The first is refused, the second lets in.
        (secret("a", new, OWN, user, "nonsense"), secret("b", new, OWN, user, &good), 0),
        // The more specific goes first, and is refused; the other follows.
        (secret("a", new, OWN, user, &good), secret("b", new, &path, user, "nonsense"), 0),
        (secret("a", new, OWN, user, "nonsense"), secret("b", new, OWN, user, "rubbish"), 1),
    ] {
        // As an API's list has them, its items without a kind.
        let list = serde_json::json!({ "kind": "SecretList", "apiVersion": "v1", "items": [a, b] });
        house.write("secrets.json", list.to_string());
        let run = house.larder(&format!(
            "why {image} --cluster turbine-hall --pod pod.json --secret secrets.json --larder {}",
            serving.address
        ));
        let run = run.ends(exit);
        let tried = run.out.matches("the pod signs in as").count();
        assert_eq!(tried, if list["items"][0]["type"] == old { 1 } else { 2 }, "{}", run.out);
    }
}
