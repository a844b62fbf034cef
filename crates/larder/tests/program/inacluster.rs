//! The manifests with which the larder itself runs in a cluster.

use crate::house::House;

const IMAGE: &str = "registry.emberfall.example/ops/larder:0.1.0";
const URL: &str = "https://larder.emberfall.example";

/// The configuration within a manifest.
fn configuration(manifest: &str) -> String {
    let text = manifest.split("larder.toml: |\n").nth(1).unwrap().split("\n---").next().unwrap();
    text.lines()
        .map(|line| line.strip_prefix("    ").unwrap_or(line))
        .collect::<Vec<_>>()
        .join("\n")
}

#[test]
fn one_larder_with_a_volume() {
    let house = House::new();
    let call = format!("init --kubernetes run --image {IMAGE} --url {URL} --name emberfall");
    house.larder(&call).ends(0).says(&[
        "wrote begin.yaml and larder.yaml",
        "larder-tls",
        "apply it once",
    ]);
    let (begin, larder) = (house.read("run/begin.yaml"), house.read("run/larder.yaml"));
    for text in [&begin, &larder] {
        assert!(!text.contains('@'), "{text}");
        assert!(
            text.contains("claimName: larder-data") && !text.contains("larder-backends"),
            "{text}"
        );
        for word in [
            "runAsNonRoot: true",
            "drop: [\"ALL\"]",
            "allowPrivilegeEscalation: false",
            "RuntimeDefault",
        ] {
            assert!(text.contains(word), "{word}");
        }
    }
    assert!(larder.contains("replicas: 1\n") && larder.contains("type: Recreate"), "{larder}");
    assert!(larder.contains("port: 443, targetPort: registry"), "{larder}");
    // What they name is read as any deployment's, and every part is of a kind that is known.
    let survey = house.larder("--json survey run").ends(1).json();
    let references = survey["references"].as_array().unwrap();
    assert_eq!(references.len(), 1, "{survey:#}");
    assert_eq!(references[0]["reference"], IMAGE);
    assert_eq!(
        references[0]["places"].as_array().unwrap().len(),
        2,
        "the larder, and what makes its store"
    );
    assert!(survey["broken"].as_array().unwrap().is_empty(), "{survey:#}");
    house.write("inside/larder.toml", configuration(&begin));
    house.larder("check --offline --config inside/larder.toml").says(&["emberfall"]);
    // What is there is not written over.
    house.larder(&call).ends(2).says(&["there is a begin.yaml already"]);
    assert_eq!(house.read("run/begin.yaml"), begin);
}

#[test]
fn several_larders_on_servers() {
    let house = House::new();
    let call = format!(
        "init --kubernetes run --image {IMAGE} --url http://larder.emberfall.example:5080 --replicas 3 --namespace ops"
    );
    house.larder(&call).ends(0).says(&["larder-backends"]);
    let (begin, larder) = (house.read("run/begin.yaml"), house.read("run/larder.yaml"));
    for text in [&begin, &larder] {
        assert!(!text.contains('@') && text.contains("namespace: ops"), "{text}");
        assert!(
            !text.contains("PersistentVolumeClaim") && text.contains("larder-backends"),
            "{text}"
        );
        assert!(!text.contains("larder-tls"), "{text}");
    }
    assert!(larder.contains("replicas: 3\n") && larder.contains("port: 5432"), "{larder}");
    assert!(larder.contains("port: 5080, targetPort: registry"), "{larder}");
    let own = configuration(&begin);
    assert!(
        own.contains("records = { file = \"/run/secrets/backends/records-address\" }"),
        "{own}"
    );
    let json = house.larder(&format!("--json {}", call.replace(" run ", " other "))).ends(0).json();
    assert_eq!((&json["kind"], &json["replicas"]), (&"init-kubernetes".into(), &3.into()));
}

#[test]
fn what_would_make_no_manifest_is_refused() {
    let house = House::new();
    for (call, words) in [
        (format!("--kubernetes run --url {URL}"), vec!["--image"]),
        (format!("--kubernetes run --image {IMAGE}"), vec!["--url"]),
        (
            format!("--kubernetes run --image {IMAGE} --url {URL} --namespace A_b"),
            vec!["no namespace"],
        ),
        (format!("--kubernetes run --image {IMAGE} --url {URL} --replicas 1"), vec!["1"]),
        (
            format!("--kubernetes run --image http://x/y --url {URL}"),
            vec!["cannot read the reference"],
        ),
        (format!("--kubernetes run --image {IMAGE} --url nonsense"), vec!["nonsense"]),
        (format!("--replicas 3 --url {URL}"), vec!["--kubernetes"]),
    ] {
        house.larder(&format!("init {call}")).ends(2).says(&words);
        assert!(!house.path("run").exists(), "{call}");
    }
}
