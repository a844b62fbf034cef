//! What is asked for wrongly is refused with its cause and what to try, and nothing is changed by it.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;

use crate::access::granted;
use crate::house::{House, INTAKE, OWN, run};

/// Commands, how each ends, and what it says.
type Cases<'c> = &'c [(&'c str, i32, &'c [&'c str])];

/// Everything in a folder, by its path.
fn content(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut all = BTreeMap::new();
    for entry in fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        // What a ledger keeps beside itself while it is open is not content.
        let name = path.file_name().unwrap().to_str().unwrap();
        if path.is_dir() {
            all.extend(content(&path));
        } else if !name.starts_with("ledger.") && name != "serve.lock" {
            all.insert(path.display().to_string(), fs::read(&path).unwrap());
        }
    }
    all
}

/// Each is refused as it is said, with a remedy where there is one, and leaves everything as it was.
fn refuses(house: &House, cases: Cases<'_>) {
    let before = content(&house.path(""));
    for (line, exit, said) in cases {
        let run = house.larder(line);
        assert_eq!(run.exit, *exit, "{line}: {}{}", run.out, run.err);
        for words in *said {
            assert!(run.err.contains(words), "{line}: {words} is not in {}", run.err);
        }
        assert_eq!(run.out, "", "{line}: a result is printed");
        let after = content(&house.path(""));
        let changed: Vec<_> =
            after.iter().filter(|(k, v)| before.get(*k) != Some(v)).map(|(k, _)| k).collect();
        assert!(after == before, "{line}: something changed: {changed:?}");
    }
}

#[test]
fn what_cannot_be_wanted() {
    let house = House::new();
    house.configure(INTAKE);
    let text = house.read("larder.toml");
    house.write("larder.toml", format!("include = [\"more.toml\"]\n{text}"));
    house.write(
        "more.toml",
        "[[intake]]\nimage = \"bazaar.example/library/pumpd\"\ntags = { exact = [\"1\"] }\nto = \"vendor/pumpd\"\n",
    );
    refuses(
        &house,
        &[
            (
                &format!("intake add {OWN}/vendor/kettle:2"),
                2,
                &["it names this larder itself", "name the upstream's image"],
            ),
            (
                "intake add ventworks.example/gauges/valve-twin:3.1",
                2,
                &["is wanted by a pattern of tags", "see whether that pattern takes the tag"],
            ),
            (
                "intake add bazaar.example/library/pumpd:2",
                2,
                &["is wanted in an included file", "change it there"],
            ),
            (
                "intake lock --only nobody.example/**",
                2,
                &["nothing to lock", "no intake entry has an image that matches"],
            ),
        ],
    );
    let text = house.read("larder.toml");
    house
        .write("larder.toml", format!("intake = []\n{}", text.split("[[intake]]").next().unwrap()));
    refuses(
        &house,
        &[("intake add kettle:2", 2, &["is not written as [[intake]] tables", "by hand"])],
    );
}

#[test]
fn what_a_configuration_must_not_lead_to() {
    let house = granted("certificate = \"nodes.pem\"\n");
    refuses(
        &house,
        &[(
            "serve --listen 127.0.0.1:0",
            2,
            &["cannot read the certificate of the cluster turbine-hall", "name the PEM file"],
        )],
    );
    house.write("nodes.pem", "-----BEGIN CERTIFICATE-----\n!\n-----END CERTIFICATE-----\n");
    refuses(
        &house,
        &[("serve --listen 127.0.0.1:0", 2, &["cannot read the certificate of the cluster"])],
    );
    let text = house.read("larder.toml").replace("certificate = \"nodes.pem\"\n", "");
    house.write(
        "larder.toml",
        text.replace("access = \"grants\"", "access = \"grants\"\nanonymous = [\"vendor/[\"]"),
    );
    refuses(&house, &[("key list", 2, &["anonymous"])]);
    house.write("larder.toml", "#".repeat(9 * 1024 * 1024));
    refuses(&house, &[("check", 2, &["it has 9437184 bytes; 8 MiB are the most"])]);
}

#[test]
fn who_is_not_declared_has_no_keys_and_no_handoff() {
    let house = granted("");
    refuses(
        &house,
        &[
            (
                "policy explain vendor/kettle:2 --cluster boiler-house",
                2,
                &["is not declared; declared are: ", "turbine-hall/scada", "[[cluster]]"],
            ),
            (
                "key issue --cluster turbine-hall --namespace payroll",
                2,
                &["is not declared; declared are: "],
            ),
            (
                "handoff write turbine-hall --namespace payroll --into out",
                2,
                &["is declared without the namespace payroll", "add it to `namespaces`"],
            ),
            (
                "key rotate --account ci --finish",
                1,
                &["has no key that is good", "issues the second one"],
            ),
        ],
    );
    house.larder("key issue --account ci").ends(0);
    house.larder("key rotate --account ci").ends(0);
    let run = house.larder("key rotate --account ci --finish").ends(1);
    run.says(&["nobody has used the second key", "yet"]);
    let forced = house.larder("key rotate --account ci --finish --force").ends(0);
    forced.says(&["ended "]);
}

#[test]
fn keys_of_others_and_larders_that_are_away_are_told() {
    let (house, other) = (granted(""), granted(""));
    let (ours, theirs) = (house.issue("--account ci"), other.issue("--account ci"));
    house
        .larder_reads("key test", &theirs)
        .ends(1)
        .says(&["this larder issued no such key", "`larder key list --all`"]);
    house.larder("key test nowhere").ends(2).says(&["cause: nowhere: No such file"]);
    house.larder_reads("key test", "no key at all").ends(1).says(&["`larder handoff read`"]);
    let text = house.read("larder.toml");
    // Nobody listens on the first port.
    house.write("larder.toml", text.replace(&format!("http://{OWN}"), "http://127.0.0.1:1"));
    let run = house.larder_reads("key test --online", &ours).ends(3);
    run.says(&["cannot sign in at http://127.0.0.1:1", "that `larder serve` runs"]);
}

#[test]
fn without_a_store_or_a_configuration_there_is_nothing_to_tell() {
    let house = House::new();
    house.configure(INTAKE);
    fs::create_dir_all(house.path("deploy")).unwrap();
    house.write("deploy/one.yaml", "kind: Pod\nspec: {containers: [{name: a, image: kettle:2}]}\n");
    refuses(
        &house,
        &[
            ("log", 2, &["there is no store in", "--new-store"]),
            ("why --ref 3f2a", 2, &["there is no larder here that could have recorded it"]),
            ("why", 2, &["no image is named", "`--event -`"]),
            (
                "why --workload shed/one --namespace a --cluster turbine-hall",
                2,
                &["`shed` is no kind of workload"],
            ),
            (
                "survey deploy --against deploy/one.yaml",
                2,
                &["cannot compare with deploy/one.yaml", "`larder survey --json > FILE`"],
            ),
        ],
    );
    // Without clusters there is nobody for whom a policy could be checked.
    let text = house.read("larder.toml");
    house.write("larder.toml", text.split("[[cluster]]").next().unwrap());
    refuses(
        &house,
        &[("policy check deploy", 2, &["declares no cluster", "declare one with [[cluster]]"])],
    );
    house.bring_in();
    house
        .larder(&format!("look --tags {OWN}/vendor/nothing"))
        .ends(1)
        .says(&["the larder has no such repository", "`larder shelf list`"]);
    house
        .larder("shelf drop vendor/kettle")
        .ends(2)
        .says(&["it names a whole repository or shelf", "vendor/kettle:TAG"]);
    house.larder("shelf drop vendor//kettle:1").ends(2).says(&["SHELF/REPOSITORY:TAG"]);
    fs::remove_file(house.path("larder.toml")).unwrap();
    refuses(
        &house,
        &[
            ("survey deploy --unused", 2, &["no larder.toml is here", "name one with `--config`"]),
            (
                "look --tags bazaar.example/library/kettle",
                2,
                &["listing tags needs a configuration", "`larder init`"],
            ),
        ],
    );
}

#[test]
fn pods_and_kubeconfigs_that_hold_nothing_are_told() {
    let house = granted("");
    house.write("map.yaml", "apiVersion: v1\nkind: ConfigMap\nmetadata: {name: a}\n");
    refuses(
        &house,
        &[(
            "why bazaar.example/library/kettle:2 --pod map.yaml",
            2,
            &["it holds no pod and no workload", "name a pod's or a workload's file"],
        )],
    );
    let base = "apiVersion: v1\nkind: Config\ncurrent-context: a\ncontexts: [{name: a, context: {cluster: a, user: a}}]\n";
    let server = "clusters: [{name: a, cluster: {server: \"https://127.0.0.1:1\"}}]\n";
    let user = "users: [{name: a, user: {token: not-a-real-token}}]\n";
    for (text, said) in [
        ("kind: Config\n".to_owned(), "it has no current context"),
        (base.to_owned(), "`clusters` has no `a`"),
        (format!("{base}{server}"), "`users` has no `a`"),
        (format!("{base}clusters: [{{name: a, cluster: {{}}}}]\n"), "the cluster has no server"),
        (
            format!(
                "{base}{user}clusters: [{{name: a, cluster: {{server: \"https://127.0.0.1:1\", insecure-skip-tls-verify: true}}}}]\n"
            ),
            "`insecure-skip-tls-verify`",
        ),
        (
            format!(
                "{base}{user}clusters: [{{name: a, cluster: {{server: \"https://127.0.0.1:1\", certificate-authority-data: \"%%\"}}}}]\n"
            ),
            "`certificate-authority-data` is no base64",
        ),
        (
            format!(
                "{base}{user}clusters: [{{name: a, cluster: {{server: \"https://127.0.0.1:1\", certificate-authority: ca.pem}}}}]\n"
            ),
            "ca.pem: ",
        ),
        (
            format!("{base}{server}users: [{{name: a, user: {{exec: {{}}}}}}]\n"),
            "`exec` names no command",
        ),
    ] {
        house.write("kubeconfig", &text);
        let line = "handoff check turbine-hall --kubeconfig kubeconfig";
        let run = house.larder(line).ends(2);
        assert!(run.err.contains(said), "{text}: {}", run.err);
        assert!(run.err.contains("cannot use the kubeconfig kubeconfig"), "{}", run.err);
        assert!(!run.err.contains("not-a-real-token"), "{}", run.err);
    }
    fs::write(house.path("kubeconfig"), b"\xff\xfe").unwrap();
    house
        .larder("handoff check turbine-hall --kubeconfig kubeconfig")
        .ends(2)
        .says(&["it is no UTF-8 text"]);
    let mut command = house.command("handoff check turbine-hall");
    run(command.env_remove("HOME").env_remove("KUBECONFIG"))
        .ends(2)
        .says(&["cannot find the kubeconfig", "name it with `--kubeconfig`"]);
}

#[test]
fn a_node_that_asks_wrongly_is_told_what_is_spoken() {
    let house = House::new();
    let line = format!("node-login --larder http://127.0.0.1:1 --host {OWN}");
    let request = |kind: &str, image: &str, token: &str| {
        format!(
            "{{\"apiVersion\":\"credentialprovider.kubelet.k8s.io/v1\",\"kind\":\"{kind}\",\"image\":\"{image}\",\"serviceAccountToken\":\"{token}\"}}"
        )
    };
    let own = format!("{OWN}/vendor/kettle:2");
    let kind = "CredentialProviderRequest";
    for (input, exit, said) in [
        (String::new(), 2, "standard input holds no CredentialProviderRequest"),
        ("{}".into(), 2, "standard input holds no CredentialProviderRequest"),
        (request("Pod", &own, "a"), 2, "credentialprovider.kubelet.k8s.io/v1 is spoken"),
        (request(kind, "Bad//Name", "a"), 2, "the image's name: "),
        (request(kind, "bazaar.example/library/kettle:2", "a"), 2, "is no image of"),
        (request(kind, &own, ""), 2, "`--key-file` names no key"),
        (request(kind, &own, "a"), 3, "cannot sign the node in at http://127.0.0.1:1"),
    ] {
        let run = house.larder_reads(&line, &input).ends(exit);
        assert!(run.err.contains(said), "{input}: {}", run.err);
        assert_eq!(run.out, "", "{input}: a kubelet reads it as an answer");
    }
    house.write("key", "ci:no-key");
    let with_key = format!("{line} --key-file key");
    let run = house.larder_reads(&with_key, &request(kind, &own, "")).ends(2);
    run.says(&["key: "]);
    let with_ca = format!("{line} --ca missing");
    house.larder_reads(&with_ca, &request(kind, &own, "a")).ends(2).says(&["cause: missing: "]);
    let with_key = format!("{line} --key-file missing");
    house
        .larder_reads(&with_key, &request(kind, &own, ""))
        .ends(2)
        .says(&["cause: missing: No such file"]);
}

#[test]
fn a_filter_takes_one_stream_and_a_copy_a_name_that_can_be_one() {
    let house = House::new();
    house.configure(INTAKE);
    house.bring_in();
    house.write("one.yaml", "image: kettle:2\n");
    refuses(
        &house,
        &[
            (
                "rewrite - one.yaml",
                2,
                &["`-` goes alone, and its result to stdout", "leave the other paths"],
            ),
            ("rewrite - --write", 2, &["`-` goes alone"]),
            (
                &format!("copy {OWN}/vendor/kettle:2 ./out#a//b"),
                2,
                &["cannot name an image `a//b`"],
            ),
        ],
    );
}

#[test]
fn programs_that_give_no_login_are_told_and_what_they_said_is_not() {
    let house = House::new();
    let configured = house.read("larder.toml");
    let from = "credentials = { env = \"VENTWORKS_LOGIN\" }";
    let secret = "another-made-up-one";
    for (answer, said) in [
        (format!("{{\"user\":\"emberfall\",\"password\":\"{secret}\"}}"), "JSON of another form"),
        (
            format!("{{\"user\":\"a\",\"secret\":\"{secret}\",\"expires\":\"soon\"}}"),
            "JSON of another form",
        ),
        (format!(":{secret}"), "does not hold `NAME:SECRET`"),
    ] {
        house.write("answer", &answer);
        house.program("login", "cat answer");
        let text = configured.replace(from, "credentials = { command = [\"./login\"] }");
        house.write("larder.toml", text);
        let run = house.larder("look ventworks.example/gauges/steamgauge:1.9.2").ends(2);
        assert!(run.err.contains(said), "{answer}: {}", run.err);
        assert!(!run.err.contains(secret), "{}", run.err);
    }
    for (credentials, said) in [
        ("{ file = \"nowhere\" }", "cause: nowhere: No such file"),
        ("{ auth-file = \"nowhere.json\" }", "cause: nowhere.json: No such file"),
    ] {
        let text = configured.replace(from, &format!("credentials = {credentials}"));
        house.write("larder.toml", text);
        house.larder("look ventworks.example/gauges/steamgauge:1.9.2").ends(2).says(&[
            "cannot sign in to ventworks.example",
            said,
            "check the path",
        ]);
    }
    house.program("docker-credential-vault", &format!("echo '{{\"Secret\":\"{secret}\"}}'"));
    house.write("auth.json", r#"{"auths":{},"credsStore":"vault"}"#);
    house.write(
        "larder.toml",
        configured.replace(from, "credentials = { auth-file = \"auth.json\" }"),
    );
    let mut command = house.command("look ventworks.example/gauges/steamgauge:1.9.2");
    let path = format!("{}:{}", house.path("").display(), std::env::var("PATH").unwrap());
    let run = run(command.env("PATH", path)).ends(2);
    assert!(run.err.contains("docker-credential-vault answered with no login"), "{}", run.err);
    assert!(!run.err.contains(secret), "{}", run.err);
    let mut command = house.command("look ventworks.example/gauges/steamgauge:1.9.2");
    house.write("larder.toml", &configured);
    crate::house::run(command.env_remove("VENTWORKS_LOGIN"))
        .ends(2)
        .says(&["VENTWORKS_LOGIN is not set", "set VENTWORKS_LOGIN to `NAME:SECRET`"]);
}
