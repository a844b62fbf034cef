//! Certificates of one's own, as nodes and other clients take them.

use std::sync::Arc;

use larder_server::Tls;
use larder_standin::UpstreamPlan;
use rcgen::{BasicConstraints, CertificateParams, IsCa, KeyPair};

use crate::house::House;

/// A registry whose certificate signed itself, and that certificate in PEM.
fn own(
    house: &House,
    name: &str,
    authority: bool,
    until: i32,
) -> (larder_standin::Upstream, String, String) {
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
    if authority {
        params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    }
    params.not_after = rcgen::date_time_ymd(until, 1, 1);
    let cert = params.self_signed(&key).unwrap();
    let der = rustls::pki_types::PrivateKeyDer::try_from(key.serialize_der()).unwrap();
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let tls = rustls::ServerConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_no_client_auth()
        .with_single_cert(vec![cert.der().clone()], der)
        .unwrap();
    let plan = UpstreamPlan { tls: Some(Tls::fixed(Arc::new(tls))), ..UpstreamPlan::default() };
    let upstream = house.start(plan);
    let kettle = larder_standin::image(&crate::house::small("kettle"));
    house.hold(&upstream, "library/kettle", "2", &kettle);
    let endpoint = upstream.endpoint();
    (upstream, endpoint, cert.pem())
}

#[test]
fn exactly_the_certificate_that_was_named_is_taken_for_its_names_and_time() {
    let house = House::new();
    let before = house.read("larder.toml");
    let look = |endpoint: &str, ca: Option<&str>| {
        house.write("larder.toml", &before);
        let more = ca.map(|_| "ca = \"ca.pem\"").unwrap_or_default();
        house.write("ca.pem", ca.unwrap_or_default());
        house.add_upstream("secure.example", endpoint, more);
        let run = house.larder("look secure.example/library/kettle:2");
        let all = format!("{}{}", run.out, run.err);
        for debug in [
            "Other(",
            "OtherError",
            "InvalidContentType",
            "UnknownIssuer",
            "(UNIX)",
            "verification time",
        ] {
            assert!(!all.contains(debug), "{all}");
        }
        run
    };
    for authority in [true, false] {
        let (_kept, endpoint, pem) = own(&house, "127.0.0.1", authority, 2090);
        look(&endpoint, Some(&pem)).ends(0);
        look(&endpoint, None).ends(3).says(&["not known here"]);
        // Another of the same kind is not it.
        let (_other, _, other) = own(&house, "127.0.0.1", authority, 2090);
        look(&endpoint, Some(&other)).ends(3).says(&["not trusted here"]);
        let (_kept, endpoint, pem) = own(&house, "elsewhere.example", authority, 2090);
        look(&endpoint, Some(&pem)).ends(3).says(&["not valid for name"]);
        let (_kept, endpoint, pem) = own(&house, "127.0.0.1", authority, 2001);
        look(&endpoint, Some(&pem)).ends(3).says(&["has expired"]);
        // A node whose file names it trusts it as well, and `why` says so.
        let (_kept, endpoint, pem) = own(&house, "127.0.0.1", authority, 2090);
        house.write("larder.toml", &before);
        let place = endpoint.replace("https://", "");
        let folder = format!("certs/{}_", place.replace(':', "_"));
        house.write(&format!("{folder}/ca.pem"), &pem);
        house.write(
            &format!("{folder}/hosts.toml"),
            format!("server = \"{endpoint}\"\nca = \"/etc/certs/ca.pem\"\n[host]\n"),
        );
        house.larder(&format!("why {place}/library/kettle:2 --nodes certs")).ends(0);
    }
    // Plain HTTP where TLS is spoken, in plain words.
    let plain = house.bazaar.endpoint().replace("http://", "https://");
    look(&plain, None).ends(3).says(&["does not speak TLS"]);
}

#[test]
fn what_a_node_would_say_to_the_served_certificate_is_told() {
    let house = House::new();
    let text = house.read("larder.toml");
    let text =
        text.replacen("[larder]\n", "[larder]\ntls = { cert = \"c.pem\", key = \"k.pem\" }\n", 1);
    for (name, until, said) in [
        (
            "elsewhere.example",
            2090,
            Some("is for elsewhere.example: nodes that ask for larder.emberfall.example"),
        ),
        ("larder.emberfall.example", 2001, Some("ended at 2001-01-01")),
        ("*.emberfall.example", 2090, None),
    ] {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec![name.to_owned()]).unwrap();
        params.not_after = rcgen::date_time_ymd(until, 1, 1);
        house.write("c.pem", params.self_signed(&key).unwrap().pem());
        house.write("k.pem", key.serialize_pem());
        std::fs::set_permissions(
            house.path("k.pem"),
            std::os::unix::fs::PermissionsExt::from_mode(0o600),
        )
        .unwrap();
        house.write("larder.toml", &text);
        let checked = house.larder("check --offline");
        let all = format!("{}{}", checked.out, checked.err);
        match said {
            Some(said) => assert!(all.contains(said), "{name}: {all}"),
            None => assert!(!all.contains("c.pem"), "{name}: {all}"),
        }
    }
}
