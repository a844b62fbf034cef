//! `larder why`: each cause, with the real situation set up.

use std::collections::BTreeSet;
use std::fs;
use std::sync::Mutex;

use larder_standin::{Api, ImagePlan, What, image};
use serde_json::{Value, json};

use crate::access::granted;
use crate::house::{House, OWN, Run, small};
use crate::node::{shelves, wait_until};
use crate::serving::Serving;
use crate::stub::{http, listen, secure};

/// What is odd about a certificate.
type Change = fn(&mut rcgen::CertificateParams);
/// How a registry answers.
type Answer = Box<dyn Fn(&str) -> Option<Vec<u8>> + Send + Sync>;

/// What `larder why` finds: the cause, and how sure it is.
#[track_caller]
fn cause(run: &Run) -> (String, String) {
    let found = &run.json()["images"][0]["findings"][0];
    let text = |key: &str| found[key].as_str().unwrap_or_else(|| panic!("{}", run.out)).to_owned();
    // Each cause that is found has its page.
    let page = format!("{}/../../docs/causes/{}.md", env!("CARGO_MANIFEST_DIR"), text("cause"));
    assert!(fs::exists(&page).unwrap(), "{page}");
    (text("cause"), text("confidence"))
}

#[track_caller]
fn finds(house: &House, line: &str, wanted: &str) -> Value {
    let run = house.larder(&format!("why --json {line}")).ends(1);
    assert_eq!(cause(&run), (wanted.to_owned(), "certain".to_owned()), "{line}\n{}", run.out);
    let found = run.json();
    for remedy in found["images"][0]["findings"][0]["remedies"].as_array().unwrap() {
        understands(house, remedy["command"].as_str().unwrap_or_default());
    }
    found
}

/// What is advised can be typed. Only what changes nothing is tried.
#[track_caller]
fn understands(house: &House, command: &str) {
    let Some(line) = command.strip_prefix("larder ") else { return };
    let reads =
        ["log ", "look ", "policy ", "handoff move FILE ", "handoff read FILE", "rewrite --"];
    if reads.iter().any(|read| line.starts_with(read)) {
        let run = house.larder(line);
        assert!(!run.err.contains("For more information, try '--help'"), "{command}\n{}", run.err);
    }
}

/// The same where the cause cannot be certain.
#[track_caller]
fn suspects(house: &House, line: &str, wanted: &str) {
    let run = house.larder(&format!("why --json {line}")).ends(1);
    let (found, confidence) = cause(&run);
    assert_eq!(found, wanted, "{line}\n{}", run.out);
    assert_ne!(confidence, "certain", "{line}\n{}", run.out);
}

/// One more upstream, and a node without mirrors that pulls from it.
fn upstream(house: &House, host: &str, endpoint: &str, more: &str) -> String {
    fs::create_dir_all(house.path("bare")).unwrap();
    house.add_upstream(host, endpoint, more);
    format!("{host}/library/kettle:2 --nodes bare --patience 2")
}

#[test]
fn names_that_no_node_can_read() {
    let house = House::new();
    for (written, wanted) in [
        ("https://bazaar.example/library/kettle:2", "scheme"),
        ("bazaar.example/library/\u{a0}kettle:2", "blank"),
        ("bazaar.example/library/Kettle:2", "upper-case"),
        ("bazaar.example/", "no-repository"),
        ("${REGISTRY}/kettle:2", "placeholder"),
        ("bazaar.example/library/kettle@sha256:12ab", "bad-digest"),
        ("bazaar.example/library/kettle:", "malformed"),
    ] {
        let mut command = house.command("why --json");
        let run = crate::house::run(command.arg(written)).ends(1);
        assert_eq!(cause(&run), (wanted.into(), "certain".into()), "{written}");
    }
    // In ten seconds: the cause, what to do, and where it broke.
    house.larder("why https://bazaar.example/library/kettle:2").ends(1).says(&[
        "a scheme is typed in front of the reference: https://bazaar.example/library/kettle:2",
        "try write bazaar.example/library/kettle:2",
        "✗ name",
        "docs/causes/scheme.md",
    ]);
}

#[test]
fn a_pull_that_works_is_said_to_work() {
    let house = House::new();
    house.larder("why bazaar.example/library/kettle:2").ends(0).says(&[
        "it can be pulled: bazaar.example/library/kettle:2",
        "✓ name",
        "✓ reach",
        "✓ platform   bazaar.example: made for linux/amd64",
        "blobs are there, with the right sizes",
    ]);
    house
        .larder("why bazaar.example/library/kettle:2 --deep")
        .ends(0)
        .says(&["read, and unaltered"]);
    let before = crate::node::requests(&house.bazaar);
    assert!(before.iter().all(|(line, _)| line.starts_with("GET") || line.starts_with("HEAD")));
    assert_eq!(
        house.larder("why bazaar.example/library/kettle:2 --json").ends(0).json()["images"][0]["verdict"],
        "succeeds"
    );
}

#[test]
fn hosts_that_cannot_be_reached() {
    let house = House::new();
    let closed = {
        let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
        format!("http://{}", listener.local_addr().unwrap())
    };
    let line = upstream(&house, "closed.example", &closed, "");
    finds(&house, &line, "connection-refused");
    let secure_but_plain = house.bazaar.endpoint().replace("http://", "https://");
    let line = upstream(&house, "plain.example", &secure_but_plain, "");
    finds(&house, &line, "plain-http");
    let (tls, _) = secure(&house, |_| {}, false);
    let line =
        upstream(&house, "wants.example", &tls.endpoint().replace("https://", "http://"), "");
    finds(&house, &line, "wants-tls");
    let banner = listen(|_| Some(b"SSH-2.0-x\r\n".to_vec()));
    let line = upstream(&house, "other.example", &format!("http://{banner}"), "");
    finds(&house, &line, "not-http");
    let gone = listen(|_| Some(Vec::new()));
    let line = upstream(&house, "gone.example", &format!("http://{gone}"), "");
    finds(&house, &line, "connection-reset");
    let silent = listen(|_| None);
    let line = upstream(&house, "silent.example", &format!("http://{silent}"), "");
    finds(&house, &line, "stalled");
    let page = listen(|line| {
        http(line, "200 OK", "content-type: text/html\r\n", "<title>Please sign in</title>")
    });
    let line = upstream(&house, "portal.example", &format!("http://{page}"), "");
    let told = finds(&house, &line, "captive-page");
    assert!(told.to_string().contains("Please sign in"));
    let proxy = listen(|line| http(line, "407 Proxy Authentication Required", "", ""));
    let line = upstream(&house, "proxied.example", &format!("http://{proxy}"), "");
    finds(&house, &line, "proxy");
    let circle = listen(|line| http(line, "307 Temporary Redirect", "location: /v2/again\r\n", ""));
    let line = upstream(&house, "circle.example", &format!("http://{circle}"), "");
    finds(&house, &line, "redirect-loop");
    // No name service is needed to know nothing of such a name; where there is none, that is told.
    let line = "why --json nowhere.invalid/library/kettle:2 --nodes bare --patience 5";
    let (found, _) = cause(&house.larder(line).ends(1));
    assert!(["unknown-host", "name-service"].contains(&found.as_str()), "{found}");
}

#[test]
fn certificates_that_are_not_believed() {
    let house = House::new();
    let situations: [(&str, Change, bool, bool, &str); 5] = [
        ("a.example", |_| {}, false, false, "unknown-authority"),
        (
            "b.example",
            |it| {
                it.subject_alt_names =
                    vec![rcgen::SanType::DnsName("other.example".try_into().unwrap())];
            },
            true,
            false,
            "wrong-name",
        ),
        (
            "c.example",
            |it| {
                (it.not_before, it.not_after) =
                    (rcgen::date_time_ymd(2020, 1, 1), rcgen::date_time_ymd(2021, 1, 1));
            },
            true,
            false,
            "certificate-expired",
        ),
        (
            "d.example",
            |it| {
                (it.not_before, it.not_after) =
                    (rcgen::date_time_ymd(2090, 1, 1), rcgen::date_time_ymd(2091, 1, 1));
            },
            true,
            false,
            "certificate-early",
        ),
        ("e.example", |_| {}, true, true, "client-certificate"),
    ];
    for (host, change, trusted, clients, wanted) in situations {
        let (tls, authority) = secure(&house, change, clients);
        let file = format!("{host}.pem");
        house.write(&file, authority);
        let ca = if trusted { format!("ca = \"{file}\"") } else { String::new() };
        let line = upstream(&house, host, &tls.endpoint(), &ca);
        let told = finds(&house, &line, wanted).to_string();
        match wanted {
            "unknown-authority" => assert!(told.contains("the house's own authority"), "{told}"),
            "wrong-name" => assert!(told.contains("other.example"), "{told}"),
            "certificate-expired" => assert!(told.contains("2021"), "{told}"),
            "certificate-early" => assert!(told.contains("2090"), "{told}"),
            _ => {}
        }
    }
}

/// Objects for `--secret`, by what is wrong with them.
fn secret(
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

fn basic(user: &str, password: &str) -> String {
    use base64::Engine as _;
    base64::engine::general_purpose::STANDARD.encode(format!("{user}:{password}"))
}

const KIND: &str = "kubernetes.io/dockerconfigjson";

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
    assert!(told.contains("there are 1.9.2"), "{told}");
    let bring = "larder intake add ventworks.example/gauges/steamgauge:1.9.1";
    assert!(told.contains(bring), "under its upstream's name: {told}");
    let digest = format!("vendor/steamgauge@sha256:{}", "a".repeat(64));
    finds(&house, &ask(&digest, "scada"), "digest-missing");
    finds(&house, &ask("wendor/steamgauge:1.9.2", "scada"), "no-shelf");
    house.larder("shelf drop vendor/steamgauge:1.9.2").ends(0);
    let told = finds(&house, &ask("vendor/steamgauge:1.9.2", "scada"), "removed").to_string();
    assert!(told.contains("by the operator"), "{told}");
    // The number of a refusal leads back to the decision.
    let refused = serving.ask("HEAD", "/v2/vendor/kettle/manifests/2");
    assert!(refused.status == 401 || refused.status == 403);
    let log = || house.larder("log --kind refused --json").out;
    wait_until("it is recorded", || log().contains("number"));
    let number = serde_json::from_str::<Value>(log().lines().next().unwrap()).unwrap();
    let number = number["number"].as_str().unwrap().to_owned();
    house.larder(&format!("why --ref {number}")).ends(1).says(&["larder log", &number]);
    // What is recorded, and no refusal, is no cause.
    let log = house.larder("log --kind delete --json").out;
    let removed: Value = serde_json::from_str(log.lines().next().unwrap()).unwrap();
    let removed = removed["number"].as_str().unwrap();
    house.larder(&format!("why --ref {removed}")).ends(3).says(&["nothing was refused"]);
    house.larder("why --ref zzzz-99").ends(3).says(&["nothing of this number is in the record"]);
}

#[test]
fn what_is_locked_but_not_here_and_what_is_not_for_this_platform() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let serving = Serving::start(&house);
    let at = format!("--larder {}", serving.address);
    house.larder("intake run").ends(0);
    house.larder(&format!("why {OWN}/vendor/kettle:2 {at}")).ends(0);
    // Locked for one platform alone: the index lists the other, and it is known to be absent.
    let arm = format!("{OWN}/vendor/brinedb:5.2 --platform linux/arm64 {at}");
    finds(&house, &arm, "child-missing");
    finds(
        &house,
        &format!("{OWN}/vendor/kettle:2 --platform linux/s390x {at}"),
        "platform-missing",
    );
    let single = format!("{OWN}/vendor/valve-twin:3.1 --platform linux/arm64 {at}");
    let told = finds(&house, &single, "wrong-architecture").to_string();
    assert!(told.contains("linux/amd64"), "{told}");
    // Locked, and not brought in.
    let other = House::new();
    other.larder("intake lock").ends(0);
    let serving = Serving::start(&other);
    let line = format!("{OWN}/vendor/kettle:2 --larder {}", serving.address);
    finds(&other, &line, "not-brought-in");
}

#[test]
fn upstreams_that_answer_otherwise() {
    let house = House::new();
    let manifest = |line: &str, fields: &str, body: &str| http(line, "200 OK", fields, body);
    let kind = "application/vnd.oci.image.manifest.v1+json";
    let situations: Vec<(&str, Answer, &str)> = vec![
        ("f.example", Box::new(|line| http(line, "503 Service Unavailable", "", "")), "failing"),
        (
            "g.example",
            Box::new(|line| http(line, "429 Too Many Requests", "retry-after: 3600\r\n", "")),
            "rate-limited",
        ),
        ("h.example", Box::new(|line| http(line, "429 Too Many Requests", "", "")), "rate-limited"),
        (
            "i.example",
            Box::new(|line| http(line, "204 No Content", "content-length: 0\r\n", "")),
            "odd-head",
        ),
        (
            "j.example",
            Box::new(|line| http(line, "200 OK", "content-type: application/json\r\n", "{}")),
            "odd-head",
        ),
        (
            "k.example",
            Box::new(move |line| {
                manifest(
                    line,
                    &format!("content-type: {kind}\r\ncontent-length: 5000000\r\n"),
                    "{}",
                )
            }),
            "manifest-too-large",
        ),
        (
            "l.example",
            Box::new(move |line| {
                manifest(line, &format!("content-type: {kind}\r\n"), "{\"schemaVersion\":2}")
            }),
            "manifest-odd",
        ),
        (
            "m.example",
            Box::new(|line| {
                http(
                    line,
                    "401 Unauthorized",
                    "www-authenticate: Bearer realm=\"http://127.0.0.1:1/token\",service=\"x\"\r\n",
                    "",
                )
            }),
            "token-down",
        ),
        (
            "n.example",
            Box::new(|line| bearer(line, "503 Service Unavailable", "")),
            "token-refused",
        ),
        ("o.example", Box::new(|line| bearer(line, "200 OK", "<html>")), "token-odd"),
    ];
    for (host, answer, wanted) in situations {
        let own: &'static Mutex<String> = Box::leak(Box::default());
        let address = listen(move |line| {
            let bytes = answer(line)?;
            let text = String::from_utf8_lossy(&bytes).replace("SELF", &own.lock().unwrap());
            Some(text.into_bytes())
        });
        own.lock().unwrap().clone_from(&address);
        let line = upstream(&house, host, &format!("http://{address}"), "");
        let told = finds(&house, &line, wanted).to_string();
        match host {
            "g.example" => assert!(told.contains("60 min"), "{told}"),
            "h.example" => assert!(told.contains("does not say until when"), "{told}"),
            _ => {}
        }
    }
    // Where only somebody who may see could tell, nothing is certain.
    let denies = listen(|line| {
        http(
            line,
            "403 Forbidden",
            "",
            "{\"errors\":[{\"code\":\"DENIED\",\"message\":\"not yours\"}]}",
        )
    });
    let line = upstream(&house, "p.example", &format!("http://{denies}"), "");
    suspects(&house, &line, "forbidden");
    let hides = listen(|line| http(line, "404 Not Found", "", ""));
    let line = upstream(&house, "q.example", &format!("http://{hides}"), "");
    suspects(&house, &line, "absent-or-hidden");
    let scope = listen(|line| match line.contains("/token") {
        true => http(line, "200 OK", "content-type: application/json\r\n", "{\"token\":\"t\"}"),
        false => http(
            line,
            "401 Unauthorized",
            "www-authenticate: Bearer realm=\"/token\",error=\"insufficient_scope\"\r\n",
            "",
        ),
    });
    let own = scope.clone();
    let scope = listen(move |line| match line.contains("/token") {
        true => http(line, "200 OK", "content-type: application/json\r\n", "{\"token\":\"t\"}"),
        false => http(
            line,
            "401 Unauthorized",
            &format!(
                "www-authenticate: Bearer realm=\"http://{own}/token\",error=\"insufficient_scope\"\r\n"
            ),
            "",
        ),
    });
    let secret_text = secret("x", KIND, "r.example", "a", "b", &basic("a", "b"));
    house.write("r.json", secret_text);
    let line = upstream(&house, "r.example", &format!("http://{scope}"), "");
    suspects(&house, &format!("{line} --secret r.json"), "token-without-access");
    let refuses = listen(|line| {
        http(line, "401 Unauthorized", "www-authenticate: Basic realm=\"x\"\r\n", "")
    });
    let line = upstream(&house, "s.example", &format!("http://{refuses}"), "");
    house.write("s.json", secret("x", KIND, "s.example", "a", "b", &basic("a", "b")));
    suspects(&house, &format!("{line} --secret s.json"), "wrong-credential");
    suspects(&house, &line, "no-credential");
}

/// A registry that sends to its own token service, which answers so.
fn bearer(line: &str, status: &str, body: &str) -> Option<Vec<u8>> {
    match line.contains("/token") {
        true => http(line, status, "", body),
        false => http(
            line,
            "401 Unauthorized",
            "www-authenticate: Bearer realm=\"http://SELF/token\",service=\"x\"\r\n",
            "",
        ),
    }
}

#[test]
fn parts_that_are_missing_or_altered() {
    let house = House::new();
    fs::create_dir_all(house.path("bare")).unwrap();
    let line = "bazaar.example/library/kettle:2 --nodes bare --patience 2";
    for (path, what, deep, wanted) in [
        ("/blobs/", What::Status(404, None), false, "blob-missing"),
        ("/blobs/", What::Longer(3), false, "blob-length"),
        ("/blobs/", What::Altered, true, "blob-corrupt"),
        ("/blobs/", What::CutAfter(50), true, "stream-cut"),
        ("/blobs/", What::StallAfter(50), true, "stalled"),
        ("/manifests/sha256", What::Altered, false, "blob-corrupt"),
        ("/v2/", What::Page, false, "captive-page"),
    ] {
        house.bazaar.faults.clear();
        house.bazaar.faults.add(None, path, 1000, what);
        let deep = if deep { " --deep" } else { "" };
        finds(&house, &format!("{line}{deep}"), wanted);
    }
    house.bazaar.faults.clear();
    // What belongs to an image is none.
    let about = image(&small("kettle")).digest().clone();
    let companion = house.runtime.block_on(house.bazaar.hold_companion(
        &"library/kettle".parse().unwrap(),
        &about,
        None,
        "application/vnd.example.sbom",
    ));
    let reference = format!("bazaar.example/library/kettle@{}", companion.unwrap());
    finds(&house, &format!("{reference} --nodes bare"), "no-image");
    // Asked as somebody who may see, what is not there is told apart.
    finds(&house, "bazaar.example/library/kettle:7 --nodes bare --online", "tag-missing");
    let found = finds(
        &house,
        "bazaar.example/library/kettel:2 --nodes bare --online",
        "repository-missing",
    );
    let told = found["images"][0]["findings"][0]["told"].as_str().unwrap();
    assert!(told.contains("there is library/kettle"), "{told}");
    let digest = format!("bazaar.example/library/kettle@sha256:{}", "b".repeat(64));
    finds(&house, &format!("{digest} --nodes bare --online"), "digest-missing");
    // A vendor that hides what nobody may see: the operator's account tells that it is there.
    let vendor = "ventworks.example/gauges/steamgauge:1.9.2 --nodes bare";
    suspects(&house, vendor, "no-credential");
    house.write("none.yaml", "apiVersion: v1\nkind: Pod\nmetadata: {name: p, namespace: scada}\nspec: {containers: [{name: c, image: x.example/a:1}]}\n");
    house.write(
        "account.json",
        "{\"kind\": \"ServiceAccount\", \"metadata\": {\"name\": \"default\"}}",
    );
    finds(
        &house,
        &format!("{vendor} --online --pod none.yaml --secret account.json"),
        "no-credential",
    );
}

#[test]
fn a_tag_that_moved_and_a_short_name() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    fs::create_dir_all(house.path("bare")).unwrap();
    let moved = ImagePlan { layer_size: 40_000, ..ImagePlan::new("kettle") };
    house.hold(&house.bazaar, "library/kettle", "2", &image(&moved));
    let run = house.larder("why --json bazaar.example/library/kettle:2 --nodes bare").ends(0);
    assert_eq!(cause(&run).0, "tag-moved");
    // A short name means the public registry to a node, and another one here.
    let hides = listen(|line| http(line, "404 Not Found", "", ""));
    house.add_upstream("docker.io", &format!("http://{hides}"), "");
    finds(&house, "kettle:2 --nodes bare --online", "short-name");
}

#[test]
fn mirrors_that_are_not_read_and_mirrors_that_are_skipped() {
    let house = House::new();
    house.configure(&shelves(""));
    let serving = Serving::start(&house);
    let larder = format!("http://{OWN}");
    let at = format!("--larder {}", serving.address);
    let closed = "http://127.0.0.1:1";
    house.add_upstream("far.example", closed, "");
    let mirror =
        |host: &str, text: &str| house.write(&format!("nodes/certs.d/{host}/hosts.toml"), text);
    mirror("bazaar.example", &format!("server = \"{larder}\"\n[host]\n"));
    house
        .larder(&format!("why bazaar.example/library/kettle:2 --nodes nodes {at}"))
        .ends(0)
        .says(&[&format!("it asks {OWN}"), "it can be pulled"]);
    // Only what the shelf reaches.
    finds(
        &house,
        &format!("bazaar.example/community/pipewatch:1 --nodes nodes {at}"),
        "outside-shelf",
    );
    // Dropped in silence, so that the node goes where it cannot go.
    mirror("far.example", "[host.\"http://mirror.example\"\n");
    finds(&house, "far.example/library/kettle:2 --nodes nodes", "mirror-file");
    fs::remove_file(house.path("nodes/certs.d/far.example/hosts.toml")).unwrap();
    house.write("nodes/certs.d/far.example/host.toml", "");
    finds(&house, "far.example/library/kettle:2 --nodes nodes", "mirror-not-read");
    house.write("nodes/config.toml", "version = 2\n");
    let told = finds(&house, "far.example/library/kettle:2 --nodes nodes", "mirror-not-read");
    assert!(told.to_string().contains("config_path"), "{told}");
    fs::remove_file(house.path("nodes/config.toml")).unwrap();
    // Skipped, whatever it answers: the pull works, and the mirror is named.
    for status in
        ["401 Unauthorized", "403 Forbidden", "404 Not Found", "500 Internal Server Error"]
    {
        let skipped = listen(move |line| http(line, status, "", ""));
        mirror("bazaar.example", &format!("[host.\"http://{skipped}\"]\n"));
        let run = house.larder("why --json bazaar.example/library/kettle:2 --nodes nodes").ends(0);
        assert_eq!(cause(&run), ("mirror-skipped".into(), "certain".into()), "{status}");
        assert!(run.out.contains(&skipped), "the mirror is named");
    }
    // A node that names a cluster which is not believed.
    mirror("bazaar.example", &format!("server = \"{larder}/c/nobody\"\n[host]\n"));
    finds(&house, &format!("bazaar.example/library/kettle:2 --nodes nodes {at}"), "strange-node");
}

#[test]
fn an_upstream_behind_a_cached_shelf() {
    let house = House::new();
    house.configure(&shelves("recheck = \"0s\"\npatience = \"1s\""));
    let serving = Serving::start(&house);
    let at = format!("--larder {}", serving.address);
    house.larder(&format!("why {OWN}/bazaar/library/kettle:2 {at}")).ends(0);
    house.bazaar.faults.add(None, "/v2/", 100_000, What::Status(503, None));
    let run = house.larder(&format!("why --json {OWN}/bazaar/library/kettle:2 {at}")).ends(0);
    assert_eq!(cause(&run).0, "stale-served");
    finds(&house, &format!("{OWN}/bazaar/library/ashlog:1.4 {at}"), "upstream-down");
}

#[test]
fn events_alone_name_what_is_possible_and_then_the_hosts_are_asked() {
    let house = House::new();
    fs::create_dir_all(house.path("bare")).unwrap();
    let event = "Warning  Failed  rpc error: code = NotFound desc = failed to pull and unpack image \"bazaar.example/library/kettle:7\": failed to resolve reference \"bazaar.example/library/kettle:7\": bazaar.example/library/kettle:7: not found";
    let described = format!(
        "Events:\n  {event}\n  {event}\n  Normal BackOff Back-off pulling image \"bazaar.example/library/kettle:7\"\n"
    );
    let run = house.larder_reads("why --event - --offline --json", &described).ends(1);
    assert_eq!(cause(&run), ("absent-or-hidden".into(), "possible".into()));
    let run = house.larder_reads("why --event - --online --nodes bare --json", &described).ends(1);
    assert_eq!(cause(&run), ("tag-missing".into(), "certain".into()));
    assert_eq!(run.json()["images"].as_array().unwrap().len(), 1, "each failure once");
    house
        .larder_reads("why --event -", "all is well")
        .ends(2)
        .says(&["it tells of no failed pull"]);
    house.larder("why").ends(2).says(&["no image is named"]);
    // What nobody asked cannot be told, and then it is said what is missing.
    house
        .larder("why bazaar.example/library/kettle:2 --offline")
        .ends(3)
        .says(&["it cannot be told", "not known is what bazaar.example answers"]);
}

#[test]
fn a_workload_is_read_from_its_cluster_and_a_folder_as_a_table() {
    let house = granted("");
    let serving = Serving::start(&house);
    let api = Api::new("turbine-hall", &["scada", "historian"]).unwrap();
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("kubeconfig", api.kubeconfig(address));
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let template = json!({"spec": {"containers": [{"name": "one", "image": image}]}});
    api.put(
        "/apis/apps/v1/namespaces/scada/deployments/board",
        json!({"kind": "Deployment", "metadata": {"name": "board", "namespace": "scada"}, "spec": {"template": template}}),
    );
    api.put(
        "/api/v1/namespaces/scada/events/one",
        json!({"metadata": {"name": "one", "namespace": "scada"}, "involvedObject": {"name": "board-1"},
            "message": format!("Failed to pull image \"{image}\": failed to resolve reference \"{image}\": pulling from host {OWN} failed with status code [manifests 1.9.2]: 403 Forbidden: nobody signed in")}),
    );
    let line = format!(
        "--cluster turbine-hall --namespace scada --workload Deployment/board --kubeconfig kubeconfig --larder {}",
        serving.address
    );
    let told = finds(&house, &line, "no-credential");
    assert_eq!(told["images"][0]["event"]["cause"], "no-credential");
    house.larder("handoff apply turbine-hall --kubeconfig kubeconfig").ends(0);
    house
        .larder(&format!("why {line}"))
        .ends(0)
        .says(&["it can be pulled", "pull secret scada/larder-pull"]);
    house
        .larder(&line.replace("board", "nobody").replace("--cluster", "why --cluster"))
        .ends(1)
        .says(&["scada has no Deployment nobody"]);
    house
        .larder(&line.replace("Deployment/", "Turbine/").replace("--cluster", "why --cluster"))
        .ends(2)
        .says(&["is no kind of workload"]);
    // A whole folder, before it is rolled out.
    let table = house
        .larder(&format!("why --all deploy --cluster turbine-hall --larder {}", serving.address))
        .ends(1);
    let table = table.says(&["PULL", "works", "fails", "a scheme is typed in front", "would fail"]);
    drop(table);
    let json =
        house.larder("why --all deploy --cluster turbine-hall --offline --json").ends(1).json();
    assert_eq!(json["images"].as_array().unwrap().len(), 8);
}

#[test]
fn every_page_is_of_a_cause_and_every_cause_has_its_page() {
    let folder = format!("{}/../../docs/causes", env!("CARGO_MANIFEST_DIR"));
    let pages: BTreeSet<String> = fs::read_dir(folder)
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .filter(|name| name != "README.md")
        .collect();
    let causes: BTreeSet<String> = larder_core::diagnosis::Cause::ALL
        .iter()
        .map(|cause| format!("{}.md", cause.word()))
        .collect();
    assert_eq!(pages, causes);
}
