//! A cluster's client configuration, as its own client reads it.

use std::sync::{Arc, Mutex};

use larder_standin::Api;

use crate::access::granted;
use crate::house::{House, run};
use crate::stub::{http, listen_whole};

const CHECK: &str = "handoff check turbine-hall";

fn cluster(house: &House) -> (String, String) {
    let _ = rustls::crypto::ring::default_provider().install_default();
    let api = Api::new("turbine-hall", &["scada", "historian"]).unwrap();
    let address = house.runtime.block_on(api.listen()).unwrap();
    house.write("authority.pem", api.authority());
    house.write("there/authority.pem", api.authority());
    (format!("https://{address}"), api.operator_token().to_owned())
}

/// What the check says when it came through to the cluster: the secrets are not there.
fn comes_through(house: &House, named: &str) {
    let checked = run(house.command(CHECK).env("KUBECONFIG", named));
    checked.ends(1).says(&["the secret is missing"]);
}

#[test]
fn several_files_are_one_and_missing_ones_are_none() {
    let house = granted("");
    let (server, token) = cluster(&house);
    house.write("clusters", format!("clusters: [{{name: a, cluster: {{server: \"{server}\", certificate-authority: authority.pem}}}}]\ncontexts: [{{name: a, context: {{cluster: a, user: a}}}}]\n"));
    house.write(
        "users",
        format!("current-context: a\nusers: [{{name: a, user: {{token: {token}}}}}]\n"),
    );
    // Of two that say the same, the first counts.
    house.write("late", "current-context: b\nusers: [{name: a, user: {token: wrong}}]\n");
    comes_through(&house, "clusters:users");
    comes_through(&house, ":clusters:nowhere:users:late");
    run(house.command(CHECK).env("KUBECONFIG", "nowhere:elsewhere"))
        .ends(2)
        .says(&["cannot use the kubeconfig nowhere"]);
    house.larder(&format!("{CHECK} --kubeconfig nowhere")).ends(2);
}

#[test]
fn programs_and_files_lie_beside_the_file_that_names_them() {
    let house = granted("");
    let (server, token) = cluster(&house);
    std::fs::create_dir_all(house.path("there")).unwrap();
    house.write("there/token", &token);
    house.write("there/config", format!("current-context: a\nclusters: [{{name: a, cluster: {{server: \"{server}\", certificate-authority: authority.pem}}}}]\ncontexts: [{{name: a, context: {{cluster: a, user: a}}}}]\nusers: [{{name: a, user: {{tokenFile: token, token: stale}}}}]\n"));
    comes_through(&house, "there/config");
    house.program(
        "there/login",
        &format!("printf '%s' \"$KUBERNETES_EXEC_INFO\" > info\nprintf '{{\"apiVersion\":\"client.authentication.k8s.io/v1\",\"kind\":\"ExecCredential\",\"status\":{{\"token\":\"{token}\"}}}}'"),
    );
    house.write("there/config", format!("current-context: a\nclusters: [{{name: a, cluster: {{server: \"{server}\", certificate-authority: authority.pem, extensions: [{{name: client.authentication.k8s.io/exec, extension: {{audience: x}}}}]}}}}]\ncontexts: [{{name: a, context: {{cluster: a, user: a}}}}]\nusers: [{{name: a, user: {{exec: {{apiVersion: client.authentication.k8s.io/v1, command: ./login, provideClusterInfo: true}}}}}}]\n"));
    comes_through(&house, "there/config");
    let info: serde_json::Value = serde_json::from_str(&house.read("info")).unwrap();
    assert_eq!(info["spec"]["cluster"]["server"], server);
    assert_eq!(info["spec"]["cluster"]["config"]["audience"], "x");
    let text = house.read("there/config");
    house.write(
        "there/config",
        text.replace("./login", "./nothing")
            .replace("provideClusterInfo: true", "installHint: get it"),
    );
    run(house.command(CHECK).env("KUBECONFIG", "there/config"))
        .ends(2)
        .says(&["./nothing", "get it"]);
}

#[test]
fn whom_it_acts_as_is_said_and_a_secret_never_goes_in_the_clear() {
    let house = granted("");
    let seen = Arc::new(Mutex::new(String::new()));
    let keep = Arc::clone(&seen);
    let address = listen_whole(move |request| {
        keep.lock().unwrap().push_str(request);
        http(
            request,
            "403 Forbidden",
            "content-type: application/json\r\n",
            r#"{"message":"not you"}"#,
        )
    });
    let config = |server: &str, user: &str, more: &str| {
        house.write("kubeconfig", format!("current-context: a\nclusters: [{{name: a, cluster: {{server: \"{server}\"{more}}}}}]\ncontexts: [{{name: a, context: {{cluster: a, user: a}}}}]\nusers: [{{name: a, user: {{{user}}}}}]\n"));
    };
    let check = || house.larder(&format!("{CHECK} --kubeconfig kubeconfig"));
    config(
        &format!("http://{address}"),
        "token: t, as: auditor, as-groups: [readers, night], as-user-extra: {reason: [drill]}",
        "",
    );
    check().ends(3).says(&["not you"]);
    let asked = seen.lock().unwrap().to_lowercase();
    for field in [
        "impersonate-user: auditor",
        "impersonate-group: readers",
        "impersonate-group: night",
        "impersonate-extra-reason: drill",
    ] {
        assert!(asked.contains(field), "{field}: {asked}");
    }
    config("https://127.0.0.1:1", "token: t", ", insecure-skip-tls-verify: true");
    check().ends(2).says(&["--any-certificate"]);
    house.larder(&format!("{CHECK} --kubeconfig kubeconfig --any-certificate")).ends(3);
    // Through the proxy that it names, also to this machine.
    seen.lock().unwrap().clear();
    config("https://127.0.0.1:1", "token: t", &format!(", proxy-url: \"http://{address}\""));
    check().ends(3);
    assert!(seen.lock().unwrap().starts_with("CONNECT 127.0.0.1:1 "), "{}", seen.lock().unwrap());
    config("https://127.0.0.1:1", "token: t", ", proxy-url: \"socks5://127.0.0.1:1\"");
    check().ends(2).says(&["proxy-url"]);
    config("https://127.0.0.1:1", "token: t, as-groups: [x]", "");
    check().ends(2).says(&["`as` does not say of whom"]);
}
