//! What the policy says before anybody pulls.

use crate::access::granted;
use crate::node::wait_until;
use crate::serving::{Serving, ask};

#[test]
fn a_decision_is_explained_with_its_lines() {
    let house = granted("");
    house
        .larder("policy explain bazaar.example/library/kettle:2 --cluster turbine-hall --namespace scada")
        .ends(1)
        .says(&["may not pull", "vendor/kettle, from bazaar.example/library/kettle", "class  community", "name vendor/**", "rule   deny: rule `nothing unvetted`", "larder.toml:"]);
    house
        .larder("policy explain bazaar.example/library/kettle:2 --cluster turbine-hall")
        .ends(0)
        .says(&["may pull", "none matches, so it may"]);
    let report = house.larder("policy explain bazaar.example/library/kettle:2 --cluster turbine-hall --namespace historian --json").ends(1).json();
    assert_eq!(report["grant"]["allowed"], false);
    assert_eq!(report["verdict"], "allow");
    house
        .larder("policy explain other.example/x:1 --account ci")
        .ends(0)
        .says(&["is not ours", "nodes pull it from elsewhere"]);
    house.larder("policy explain kettle:2 --cluster nowhere").ends(2).says(&["is not declared"]);
    house.larder("policy explain kettle:2").ends(2);
    house.larder("policy explain http://kettle --account ci").ends(2);
}

#[test]
fn files_are_checked_before_they_are_applied_or_built() {
    let house = granted("");
    house.write("app/Dockerfile", "ARG TAG\nFROM kettle:2 AS boil\nFROM ventworks.example/gauges/steamgauge:1.9.2\nCOPY --from=boil /a /a\nFROM x:$TAG\nFROM ventworks.example/gauges/steamgauge:$TAG\n");
    house.write("app/pod.yaml", "apiVersion: v1\nkind: Pod\nmetadata: {name: p, namespace: historian}\nspec: {containers: [{image: \"kettle:2\"}, {image: \"KETTLE:2\"}]}\n");
    house.larder("policy check app --cluster turbine-hall --namespace scada").ends(1).says(&[
        "deny",
        "kettle:2",
        "app/Dockerfile:2  FROM",
        "nothing unvetted",
        "decided in another place",
        "turbine-hall/historian",
        "6 pulls asked: 3 refused",
    ]);
    let report = house
        .larder(
            "policy check app/Dockerfile kettle:2 --cluster turbine-hall --namespace scada --json",
        )
        .ends(1)
        .json();
    let verdicts: Vec<&str> = report["images"]
        .as_array()
        .unwrap()
        .iter()
        .map(|row| row["verdict"].as_str().unwrap())
        .collect();
    assert_eq!(verdicts, ["deny", "deny", "allow", "deny", "unknown"]);
    house
        .larder("policy check ventworks.example/gauges/steamgauge:1.9.2")
        .ends(0)
        .says(&["1 pull asked: 0 refused"]);
    house.larder("policy check missing.yaml").ends(2).says(&["there is no such file"]);
    house.larder("policy check app --cluster nowhere").ends(2);
    house.larder("policy check").ends(2);
}

#[test]
fn who_gains_and_who_loses_is_said_in_words() {
    let house = granted("");
    let text = house.read("larder.toml");
    house.write("same.toml", &text);
    house
        .larder("policy diff larder.toml same.toml")
        .ends(0)
        .says(&["written the same", "nothing changes"]);
    let changed = text
        .replace("push = [\"apps/**\"]", "push = [\"apps/board\"]")
        .replace("namespaces = [\"scada\"]\nclasses", "classes")
        .replace("pull = [\"vendor/steamgauge\"]", "pull = [\"vendor/**\"]");
    house.write(
        "new.toml",
        changed + "\n[[account]]\nname = \"anna\"\npull = [\"vendor/kettle\"]\n",
    );
    house
        .larder("policy diff larder.toml new.toml")
        .ends(1)
        .says(&[
            "anna gains a place here: pull vendor/kettle",
            "ci gains push to apps/board",
            "ci loses push to apps/**",
            "`nothing unvetted`: deny community for turbine-hall in scada becomes deny community for turbine-hall",
            "turbine-hall loses vendor/kettle:2",
            "turbine-hall/historian gains pull vendor/**",
            "anna gains vendor/kettle:2",
        ]);
    let report = house.larder("policy diff larder.toml new.toml --json").ends(1).json();
    assert_eq!(report["compared"], true);
    house.larder("policy diff larder.toml missing.toml").ends(2);
}

#[test]
fn recorded_pulls_are_rehearsed_against_changed_rules() {
    let house = granted("");
    let serving = Serving::start(&house);
    let secret = house.issue("--account ci");
    let form = format!(
        "grant_type=password&username=ci&password={secret}&scope=repository:vendor/kettle:pull repository:vendor/steamgauge:pull"
    );
    let answer = ask(
        serving.host(),
        "POST",
        "/larder/token",
        &[("content-type", "application/x-www-form-urlencoded")],
        form.as_bytes(),
    )
    .unwrap();
    let token: serde_json::Value = serde_json::from_slice(&answer.body).unwrap();
    let bearer = format!("Bearer {}", token["token"].as_str().unwrap());
    for path in [
        "/v2/vendor/kettle/manifests/2",
        "/v2/vendor/kettle/manifests/2",
        "/v2/vendor/steamgauge/manifests/1.9.2",
    ] {
        assert_eq!(
            ask(serving.host(), "HEAD", path, &[("authorization", &bearer)], b"").unwrap().status,
            200
        );
    }
    wait_until("the pulls are in the record", || {
        let found = house.larder("log --kind pull --json").out;
        found.contains("vendor/kettle:2")
            && found.contains("vendor/steamgauge")
            && found.contains("\"count\":2")
    });
    let text = house.read("larder.toml");
    house.write("same.toml", &text);
    house
        .larder("policy rehearse --rules same.toml")
        .ends(0)
        .says(&["3 pulls since", "none of them would have been refused"]);
    house.write(
        "new.toml",
        text.replace("pull = [\"vendor/**\"]\npush", "pull = [\"vendor/steamgauge\"]\npush"),
    );
    house.write("deploy.yaml", "apiVersion: v1\nkind: Pod\nmetadata: {name: p, namespace: scada}\nspec: {containers: [{image: \"kettle:2\"}]}\n");
    house.larder("policy rehearse --rules new.toml --survey deploy.yaml").ends(1).says(&[
        "refused",
        "ci",
        "vendor/kettle:2",
        "2, last just now",
        "do not name it",
        "2 of them would have been refused",
        "1 reference of deployments asked about, 1 would be refused",
    ]);
    let report = house.larder("policy rehearse --rules new.toml --json").ends(1).json();
    assert_eq!(report["pulls"], 3);
    assert_eq!(report["refused"][0]["pulls"], 2);
    // What cannot be read is told, not passed over.
    house.write("broken.yaml", "kind: Pod\nimage: [x\n");
    house
        .write("deploy.yaml", "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: KETTLE}]}\n");
    house
        .larder("policy rehearse --rules same.toml --survey broken.yaml --survey deploy.yaml")
        .ends(1)
        .says(&["broken.yaml cannot be read", "deploy.yaml:3 cannot be read", "lower case"]);
    house.write("gone.toml", text.replace("name = \"ci\"", "name = \"anna\""));
    house
        .larder("policy rehearse --rules gone.toml")
        .ends(1)
        .says(&["it would no longer be declared"]);
}

#[test]
fn what_a_rule_denies_to_everybody_is_not_brought_in() {
    let house = granted("");
    let rule = "\n[[rule]]\nname = \"not here\"\nclasses = [\"community\"]\nverdict = \"deny\"\nbecause = \"nobody knows who builds it\"\n";
    let text = house.read("larder.toml");
    house.write("larder.toml", format!("{text}{rule}"));
    house.larder("intake lock").ends(1).says(&[
        "bazaar.example/library/kettle:2",
        "it is refused by rule `not here`: nobody knows who builds it (larder.toml:",
    ]);
    // What was locked before stays locked, and is not brought in anew.
    std::fs::remove_dir_all(house.path("larder-data")).unwrap();
    let ran = house.larder("intake run").ends(1).says(&["refused by rule `not here`"]);
    assert!(ran.out.contains("steamgauge"), "the others are brought in: {}", ran.out);
    house.write("larder.toml", text);
    house.larder("intake run").ends(0);
}

#[test]
fn what_cannot_be_told_under_a_denying_rule_is_unknown_and_refused() {
    let aged = "\n[[rule]]\nname = \"aged\"\nclusters = [\"turbine-hall\"]\nimages = [\"ventworks.example/**\"]\nverdict = \"deny\"\nasks = { age = \"7d\" }\nbecause = \"others look first\"\n";
    let house = granted(aged);
    let image = "ventworks.example/gauges/steamgauge:9.9.9";
    let who = "--cluster turbine-hall --namespace scada";
    let all = house.larder(&format!("policy check {image} {who} --json")).ends(1).json();
    let row = &all["images"][0];
    assert_eq!((&row["verdict"], &row["refused"]), (&"unknown".into(), &true.into()), "{row:#}");
    assert!(row["reason"].as_str().unwrap().contains("its age cannot be told"), "{row:#}");
    house
        .larder(&format!("policy explain {image} {who}"))
        .ends(1)
        .says(&["may not pull", "it cannot be told"]);
    house.larder("policy check localhost:5000/dev/x:1").ends(0).says(&["not ours"]);
    house
        .larder("policy explain localhost:5000/dev/x:1 --cluster turbine-hall")
        .ends(0)
        .says(&["not ours"]);
}
