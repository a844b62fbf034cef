//! What remotes do to us, each told in its own words.

use std::time::Duration;

use larder_standin::{FaultKind, SignIn, Upstream, UpstreamPlan, image};
use tokio_rustls::rustls;

use crate::house::{House, small};

/// One more upstream, which holds an image.
fn start(house: &House, plan: UpstreamPlan) -> Upstream {
    let upstream = house.start(plan);
    house.hold(&upstream, "library/kettle", "2", &image(&small("kettle")));
    upstream
}

#[test]
fn a_host_that_cannot_be_reached_is_told_from_one_that_refuses() {
    let house = House::new();
    house
        .larder("look nowhere.example/kettle:2")
        .ends(3)
        .says(&["nowhere.example cannot be reached", "`endpoint` in an [[upstream]]"]);
    // Nobody listens on the first port.
    house.add_upstream("closed.example", "http://127.0.0.1:1", "");
    house
        .larder("look closed.example/kettle:2")
        .ends(3)
        .says(&["closed.example cannot be reached", "refused"]);
    house.larder("check").ends(3).says(&["closed.example cannot be reached"]);
}

#[test]
fn missing_things_are_told_apart() {
    let house = House::new();
    house
        .larder("look bazaar.example/library/kettle:9")
        .ends(3)
        .says(&["bazaar.example has no tag 9 in library/kettle", "--tags"]);
    house
        .larder("look bazaar.example/library/none:1")
        .ends(3)
        .says(&["has no repository library/none"]);
    let digest = format!("sha256:{}", "0".repeat(64));
    house
        .larder(&format!("look bazaar.example/library/kettle@{digest}"))
        .ends(3)
        .says(&["has no manifest"]);
    house.larder("look --tags bazaar.example/library/none").ends(3).says(&["has no repository"]);
    house
        .larder("look bazaar.example//kettle")
        .ends(2)
        .says(&["empty part", "write bazaar.example/kettle"]);
}

#[test]
fn refusals_say_who_asked() {
    let house = House::new();
    let text =
        house.read("larder.toml").replace("credentials = { env = \"VENTWORKS_LOGIN\" }\n", "");
    house.write("larder.toml", text);
    house.larder("look ventworks.example/gauges/steamgauge:1.9.2").ends(3).says(&[
        "answered 401",
        "no credentials configured",
        "add `credentials`",
    ]);
    house.bazaar.faults.add(None, "/manifests/", 9, FaultKind::Status(403, None));
    house.larder("look kettle:2").ends(3).says(&["answered 403 to the pull of library/kettle"]);

    let upstream = start(
        &house,
        UpstreamPlan { sign_in: SignIn::Basic { login: "a:b".into() }, ..UpstreamPlan::default() },
    );
    house.write("login", "a:b");
    house.add_upstream("basic.example", &upstream.endpoint(), "credentials = { file = \"login\" }");
    house.larder("look basic.example/library/kettle:2").ends(0);
    house.write("login", "a:c");
    house.larder("look basic.example/library/kettle:2").ends(3).says(&[
        "answered 401",
        "with the configured credentials",
        "check the name and the secret",
    ]);
}

#[test]
fn a_certificate_is_trusted_only_when_its_authority_is_named() {
    let house = House::new();
    let made = rcgen::generate_simple_self_signed(["127.0.0.1".to_owned()]).unwrap();
    let key = rustls::pki_types::PrivateKeyDer::try_from(made.signing_key.serialize_der()).unwrap();
    let provider = std::sync::Arc::new(rustls::crypto::ring::default_provider());
    let tls = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![made.cert.der().clone()], key)
        .unwrap();
    let upstream = start(
        &house,
        UpstreamPlan {
            tls: Some(larder_server::Tls::fixed(std::sync::Arc::new(tls))),
            ..UpstreamPlan::default()
        },
    );
    let before = house.read("larder.toml");
    house.add_upstream("secure.example", &upstream.endpoint(), "");
    house
        .larder("look secure.example/library/kettle:2")
        .ends(3)
        .says(&["a certificate that is not trusted", "`ca` in the [[upstream]]"]);
    house.write("larder.toml", &before);
    house.write("ca.pem", made.cert.pem());
    house.add_upstream("secure.example", &upstream.endpoint(), "ca = \"ca.pem\"");
    house.larder("look secure.example/library/kettle:2").ends(0);
    house.write("larder.toml", &before);
    house.add_upstream("secure.example", &upstream.endpoint().replace("https", "http"), "");
    house
        .larder("look secure.example/library/kettle:2")
        .ends(3)
        .says(&["secure.example cannot be reached"]);
    house.write("larder.toml", &before);
    house.add_upstream("secure.example", &upstream.endpoint(), "ca = \"no.pem\"");
    house
        .larder("look secure.example/library/kettle:2")
        .ends(2)
        .says(&["cannot read the certificates"]);
}

#[test]
fn passing_faults_are_waited_for_and_lasting_ones_are_told() {
    let house = House::new();
    house.bazaar.faults.add(None, "/manifests/2", 1, FaultKind::Status(429, Some(1)));
    house.bazaar.faults.add(None, "/manifests/2", 2, FaultKind::Status(503, None));
    house.larder("look kettle:2").ends(0);
    house.bazaar.faults.add(None, "/manifests/2", 9, FaultKind::Status(429, Some(9999)));
    house.larder("look kettle:2").ends(3).says(&["limits our rate", "asks to wait 9999 s"]);
    house.bazaar.faults.clear();
    house.bazaar.faults.add(None, "/manifests/2", 99, FaultKind::Status(500, None));
    house.larder("look kettle:2").ends(3).says(&["answered 500", "try again later"]);
    house.bazaar.faults.clear();
    house.bazaar.faults.add(None, "/manifests/2", 9, FaultKind::Page);
    house.larder("look kettle:2").ends(4).says(&["cannot be used"]);
    house.bazaar.faults.clear();
    house.bazaar.faults.add(Some("GET"), "/manifests/sha256", 9, FaultKind::Altered);
    house.larder("intake lock").ends(4).says(&[
        "sent content for sha256:",
        "that has the digest",
        "it was not kept",
    ]);
    house.bazaar.faults.clear();
    house.bazaar.faults.add(None, "/manifests/2", 1, FaultKind::Late(Duration::from_millis(300)));
    house.larder("look kettle:2").ends(0);
}

/// Writes a program into the house and gives its path.
#[test]
fn logins_come_from_programs_and_shared_files_and_their_source_is_told() {
    let house = House::new();
    let configured = house.read("larder.toml");
    let with = |credentials: &str| {
        let text = configured.replace("credentials = { env = \"VENTWORKS_LOGIN\" }", credentials);
        house.write("larder.toml", text);
        let mut command = house.command("check");
        let path = format!("{}:{}", house.path("").display(), std::env::var("PATH").unwrap());
        crate::house::run(command.env("PATH", path))
    };
    let login = larder_standin::VENTWORKS_LOGIN;
    let (user, secret) = login.split_once(':').unwrap();
    let says = house.program("says-login", &format!("cat >/dev/null; echo {login}"));
    with(&format!("credentials = {{ command = [\"{says}\"] }}")).ends(0).says(&[
        "answers",
        "the program",
        "says-login",
    ]);
    let json = format!(
        "echo '{{\"user\":\"{user}\",\"secret\":\"{secret}\",\"expires\":\"2199-01-01T00:00:00Z\"}}'"
    );
    let until = house.program("says-json", &json);
    with(&format!("credentials = {{ command = [\"{until}\"] }}"))
        .ends(0)
        .says(&["until 2199-01-01T00:00:00Z"]);
    house.program(
        "docker-credential-vault",
        &format!(
            "read host; [ \"$1 $host\" = 'get ventworks.example' ] && echo '{{\"ServerURL\":\"x\",\"Username\":\"{user}\",\"Secret\":\"{secret}\"}}'"
        ),
    );
    house.write("auth.json", r#"{"auths":{},"credHelpers":{"ventworks.example":"vault"}}"#);
    with("credentials = { auth-file = \"auth.json\" }")
        .ends(0)
        .says(&["docker-credential-vault, as"]);
    house.write("auth.json", r#"{"auths":{},"credsStore":"vault"}"#);
    with("credentials = { auth-file = \"auth.json\" }")
        .ends(0)
        .says(&["docker-credential-vault, as"]);
    house.write(
        "auth.json",
        format!(
            r#"{{"auths":{{"ventworks.example":{{"username":"{user}","password":"{secret}"}}}}}}"#
        ),
    );
    with("credentials = { auth-file = \"auth.json\" }").ends(0).says(&["auth.json"]);
    let fails = house.program("fails", "exit 3");
    let empty = house.program("empty", "true");
    let late = house.program("late", &json.replace("2199", "1999"));
    for (credentials, said) in [
        (
            "credentials = { auth-file = \"missing.json\" }".to_owned(),
            "cannot sign in to ventworks.example",
        ),
        (format!("credentials = {{ command = [\"{fails}\"] }}"), "it ended with exit status: 3"),
        (format!("credentials = {{ command = [\"{empty}\"] }}"), "does not hold `NAME:SECRET`"),
        (format!("credentials = {{ command = [\"{late}\"] }}"), "has expired"),
        ("credentials = { command = [\"/nowhere/program\"] }".into(), "No such file"),
        ("credentials = { command = [] }".into(), "names no program"),
        ("credentials = { env = \"A\", file = \"b\" }".into(), "no source, or several"),
    ] {
        let run = with(&credentials);
        assert_eq!(run.exit, 2, "{credentials}: {}", run.out);
        let both = format!("{}{}", run.out, run.err);
        assert!(both.contains(said) || said.starts_with("cannot sign"), "{credentials}: {both}");
    }
    for (text, said) in [
        (r#"{"auths":{"other.example":{"auth":"eDp5"}}}"#, "no login for ventworks.example"),
        (r#"{"auths":{"ventworks.example":{}}}"#, "is empty"),
        (r#"{"auths":{"ventworks.example":{"identitytoken":"x"}}}"#, "identity token"),
        (r#"{"auths":{},"credsStore":"../x"}"#, "cannot exist"),
        ("hello", "no auth file"),
    ] {
        house.write("auth.json", text);
        with("credentials = { auth-file = \"auth.json\" }").ends(2).says(&[said]);
    }
}
