//! `larder serve`, and what clients make of it.

use std::time::Duration;

use rcgen::{CertificateParams, CertifiedIssuer, IsCa, KeyPair};

use crate::house::{House, OWN};
use crate::serving::{Serving, ask};

#[test]
fn clients_pull_and_push_and_signals_end_it_well() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    // Another machine's configuration: it has no store, so it goes through the registry.
    let host = serving.host();
    let elsewhere = house.folder.path().join("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    let there = |line: &str| {
        let mut command = house.command(line);
        command.current_dir(&elsewhere);
        crate::house::run(&mut command)
    };
    there(&format!("copy {host}/vendor/kettle:2 ./kettle")).ends(0).says(&["8 blobs copied"]);
    there(&format!("copy ./kettle {host}/vendor/pushed:2")).ends(0).says(&["8 blobs copied"]);
    there(&format!("copy ./kettle {host}/nowhere/pushed:2"))
        .ends(3)
        .says(&["the shelves are: vendor"]);
    house.larder(&format!("look {OWN}/vendor/pushed:2 {OWN}/vendor/kettle:2")).ends(0);
    // A platform that was not brought in is told as such.
    there(&format!("copy {host}/vendor/brinedb:5.2 ./brinedb")).ends(3).says(&["has no manifest"]);
    there(&format!("copy {host}/vendor/brinedb:5.2 ./brinedb --platform linux/amd64")).ends(0);
    // Bringing in while it serves shows at once.
    house.hold(
        &house.bazaar,
        "library/kettle",
        "2",
        &larder_standin::image(&crate::house::small("new")),
    );
    house.bring_in();
    there(&format!("look {host}/vendor/kettle:2 {host}/vendor/pushed:2")).ends(1);
    assert_eq!(serving.stop("TERM"), 0);
    assert_eq!(Serving::start(&house).stop("INT"), 0);
}

#[test]
fn it_serves_only_where_and_how_that_is_safe() {
    let house = House::new();
    house
        .larder("serve --listen 0.0.0.0:0")
        .ends(2)
        .says(&["others can reach this address", "listen on 127.0.0.1"]);
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    house
        .larder(&format!("serve --listen {}", taken.local_addr().unwrap()))
        .ends(2)
        .says(&["another program listens there"]);
    let text = house.read("larder.toml");
    let with = |more: &str| {
        house.write(
            "larder.toml",
            text.replace("access = \"open\"\n", &format!("access = \"open\"\n{more}\n")),
        );
        house.larder("serve --listen 127.0.0.1:0").ends(2)
    };
    with("tls = { cert = \"a.pem\", key = \"b.pem\" }").says(&["a.pem", "check `tls`"]);
    house.write("a.pem", "no certificate");
    with("tls = { cert = \"a.pem\", key = \"b.pem\" }").says(&["there is no certificate in it"]);
    with("tls = { cert = \"a.pem\" }").says(&["`key` is missing"]);
    with("reserve = \"much\"").says(&["650 MB"]);
    with("limits = { connections = 0 }").says(&["larder.toml"]);
    with("limits = { stall = \"0s\" }").says(&["longer than nothing"]);
    let metrics = format!("metrics = \"{}\"", taken.local_addr().unwrap());
    with(&metrics).says(&["another program listens there"]);
}

/// Adds lines to `[larder]`.
fn add(house: &House, more: &str) {
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replace("access = \"open\"\n", &format!("access = \"open\"\n{more}\n")),
    );
}

#[test]
fn figures_and_health_are_told_and_every_request_has_its_line() {
    let house = House::new();
    house.bring_in();
    add(&house, "metrics = \"127.0.0.1:0\"");
    let serving = Serving::logging_json(&house, "");
    assert_eq!(serving.ask("GET", "/healthz").status, 200);
    assert_eq!(serving.ask("GET", "/readyz").text(), "store: ok\nledger: ok\nroom: ok\n");
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/none").status, 404);
    let lines: Vec<serde_json::Value> =
        serving.log().lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let pulled = lines
        .iter()
        .find(|line| line["path"] == "/v2/vendor/kettle/manifests/2")
        .unwrap_or_else(|| panic!("{lines:?}"));
    assert_eq!((&pulled["status"], &pulled["method"]), (&200.into(), &"GET".into()));
    assert_eq!((&pulled["client"], &pulled["from"]), (&"127.0.0.1".into(), &"disk".into()));
    assert!(pulled["sent"].as_u64().unwrap() > 100);
    let figures = serving.said.iter().find_map(|line| line.strip_prefix("  figures http://"));
    let figures = figures.unwrap().strip_suffix("/metrics").unwrap();
    let metrics = ask(figures, "GET", "/metrics", &[], b"").unwrap().text();
    for line in [
        "larder_requests_total{method=\"GET\",resource=\"manifest\",status=\"200\"} 1",
        "larder_requests_total{method=\"GET\",resource=\"manifest\",status=\"404\"} 1",
        "larder_errors_total{code=\"MANIFEST_UNKNOWN\"} 1",
        "larder_store_tags 5",
        "larder_uploads 0",
    ] {
        assert!(metrics.contains(line), "{line}: {metrics}");
    }
    assert_eq!(ask(figures, "GET", "/readyz", &[], b"").unwrap().status, 200);
    assert_eq!(ask(figures, "GET", "/v2/", &[], b"").unwrap().status, 404);
    assert_eq!(ask(figures, "POST", "/metrics", &[], b"").unwrap().status, 405);
    assert_eq!(serving.stop("TERM"), 0);
    // Pulls that were counted and not yet written are written at the end.
    let shown = house.larder("--json shelf show vendor/kettle:2").ends(0).json();
    assert_eq!(shown["images"][0]["pulls_in_30_days"], 1);
    let listed = house.larder("--json shelf list --sort pulled").ends(0).json();
    assert_eq!(listed["shelves"][0]["pulls_in_30_days"], 1);
}

#[test]
fn what_is_read_only_and_what_is_full_serve_pulls_alone() {
    let house = House::new();
    house.bring_in();
    let blob = format!("/v2/vendor/a/blobs/uploads/?digest=sha256:{}", "0".repeat(64));
    let serving = Serving::with(&house, "--read-only");
    assert!(serving.said.iter().any(|line| line.contains("read-only")), "{:?}", serving.said);
    let refused = serving.ask("POST", &blob);
    assert_eq!(refused.status, 403);
    assert!(refused.text().contains("read-only"));
    assert_eq!(serving.ask("DELETE", "/v2/vendor/kettle/manifests/2").status, 403);
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    drop(serving);
    add(&house, "reserve = \"900000 TiB\"");
    let serving = Serving::start(&house);
    let refused = serving.ask("POST", &blob);
    assert_eq!(refused.status, 507, "{}", refused.text());
    assert!(
        refused.head.starts_with("HTTP/1.1 507 Insufficient Storage: the larder's disk is full")
    );
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    // Bringing in keeps to it too, and says what to do.
    house.hold(
        &house.bazaar,
        "library/kettle",
        "2",
        &larder_standin::image(&crate::house::small("new")),
    );
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(2).says(&["reserve", "larder store collect"]);
}

/// An authority, and certificates for this machine.
pub struct Authority(pub CertifiedIssuer<'static, KeyPair>);

impl Authority {
    pub fn new() -> Self {
        let mut params = CertificateParams::new(Vec::new()).unwrap();
        params.is_ca = IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
        Self(CertifiedIssuer::self_signed(params, KeyPair::generate().unwrap()).unwrap())
    }

    /// A certificate and its key, in PEM.
    pub fn certificate(&self) -> (String, String) {
        let key = KeyPair::generate().unwrap();
        let params = CertificateParams::new(vec!["127.0.0.1".to_owned()]).unwrap();
        (params.signed_by(&key, &self.0).unwrap().pem(), key.serialize_pem())
    }
}

#[test]
fn https_is_served_and_a_new_certificate_is_taken_up() {
    let house = House::new();
    house.bring_in();
    let (first, second) = (Authority::new(), Authority::new());
    let write = |authority: &Authority| {
        let (cert, key) = authority.certificate();
        house.write("cert.pem", cert);
        house.write("key.pem", key);
    };
    write(&first);
    house.write("first.pem", first.0.pem());
    house.write("second.pem", second.0.pem());
    add(&house, "tls = { cert = \"cert.pem\", key = \"key.pem\" }");
    let serving = Serving::start(&house);
    assert!(serving.address.starts_with("https://"), "{}", serving.address);
    let with = |authority: &str| {
        let ca = format!("ca = \"{authority}.pem\"");
        house.add_upstream(&format!("{authority}.example"), &serving.address, &ca);
    };
    with("first");
    with("second");
    let look = |authority: &str| house.larder(&format!("look {authority}.example/vendor/kettle:2"));
    look("first").ends(0).says(&["linux/amd64"]);
    look("second").ends(3).says(&["certificate"]);
    // One that cannot be used changes nothing; a good one is taken up without a restart.
    house.write("cert.pem", "broken");
    wait_for(|| serving.log().contains("the old one stays"));
    look("first").ends(0);
    write(&second);
    wait_for(|| look("second").exit == 0);
    look("first").ends(3);
    assert_eq!(serving.stop("TERM"), 0);
}

#[test]
fn clients_can_be_asked_for_certificates() {
    let house = House::new();
    house.bring_in();
    let authority = Authority::new();
    let (cert, key) = authority.certificate();
    house.write("cert.pem", cert);
    house.write("key.pem", key);
    house.write("first.pem", authority.0.pem());
    add(&house, "tls = { cert = \"cert.pem\", key = \"key.pem\", clients = \"first.pem\" }");
    let (node, node_key) = authority.certificate();
    let text = house.read("larder.toml");
    let named = "\n[[cluster]]\nname = \"control-room\"\ncertificate = \"node.pem\"\n";
    house.write("larder.toml", format!("{text}{named}"));
    house.larder("serve").ends(2).says(&["certificate of the cluster control-room", "node.pem"]);
    house.write("node.pem", &node);
    let serving = Serving::start(&house);
    assert!(serving.said.iter().any(|line| line.contains("shows a certificate")));
    house.add_upstream("first.example", &serving.address, "ca = \"first.pem\"");
    house.larder("look first.example/vendor/kettle:2").ends(3);
    let greet = |(cert, key): (&str, &str)| {
        let greeted = greet_with_certificate(&authority, cert, key, serving.host());
        let greeted = house.runtime.block_on(greeted);
        assert!(greeted.starts_with("HTTP/1.1 200"), "{greeted}");
    };
    let (other, other_key) = authority.certificate();
    greet((&other, &other_key));
    assert!(!serving.log().contains("control-room"), "{}", serving.log());
    // The certificate tells which cluster the node belongs to.
    greet((&node, &node_key));
    wait_for(|| serving.log().contains("cluster=\"control-room\""));
}

#[test]
fn a_certificate_that_was_revoked_gets_nobody_in() {
    use rcgen::{
        CertificateRevocationListParams, KeyIdMethod, RevokedCertParams, SerialNumber,
        date_time_ymd,
    };
    let house = House::new();
    house.bring_in();
    let authority = Authority::new();
    let (cert, key) = authority.certificate();
    house.write("cert.pem", cert);
    house.write("key.pem", key);
    house.write("first.pem", authority.0.pem());
    // Two nodes, and a list with which either is revoked.
    let node = |serial: u64| {
        let key = KeyPair::generate().unwrap();
        let mut params = CertificateParams::new(vec!["127.0.0.1".to_owned()]).unwrap();
        params.serial_number = Some(SerialNumber::from(serial));
        (params.signed_by(&key, &authority.0).unwrap().pem(), key.serialize_pem())
    };
    let list = |serial: u64| {
        let revoked = RevokedCertParams {
            serial_number: SerialNumber::from(serial),
            revocation_time: date_time_ymd(2020, 1, 1),
            reason_code: None,
            invalidity_date: None,
        };
        let params = CertificateRevocationListParams {
            this_update: date_time_ymd(2020, 1, 1),
            next_update: date_time_ymd(2090, 1, 1),
            crl_number: SerialNumber::from(serial),
            issuing_distribution_point: None,
            revoked_certs: vec![revoked],
            key_identifier_method: KeyIdMethod::Sha256,
        };
        house.write("gone.crl", params.signed_by(&authority.0).unwrap().pem().unwrap());
    };
    let (first, second) = (node(7), node(8));
    list(7);
    add(
        &house,
        "tls = { cert = \"cert.pem\", key = \"key.pem\", clients = \"first.pem\", crl = \"gone.crl\" }",
    );
    let serving = Serving::start(&house);
    let gets_in = |(cert, key): &(String, String)| {
        let greeted = greet_with_certificate(&authority, cert, key, serving.host());
        house.runtime.block_on(greeted).starts_with("HTTP/1.1 200")
    };
    assert!(!gets_in(&first) && gets_in(&second));
    // A newer list is taken up without a restart.
    list(8);
    wait_for(|| !gets_in(&second));
    assert!(gets_in(&first));
}

/// Greets a larder as a client with a certificate does.
async fn greet_with_certificate(
    authority: &Authority,
    cert: &str,
    key: &str,
    host: &str,
) -> String {
    use tokio::io::{AsyncReadExt as _, AsyncWriteExt as _};
    use tokio_rustls::rustls::pki_types::pem::PemObject as _;
    use tokio_rustls::rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
    let mut roots = tokio_rustls::rustls::RootCertStore::empty();
    roots.add(authority.0.der().clone()).unwrap();
    let provider = std::sync::Arc::new(tokio_rustls::rustls::crypto::ring::default_provider());
    let config = tokio_rustls::rustls::ClientConfig::builder_with_provider(provider)
        .with_safe_default_protocol_versions()
        .unwrap()
        .with_root_certificates(roots)
        .with_client_auth_cert(
            vec![CertificateDer::from_pem_slice(cert.as_bytes()).unwrap()],
            PrivateKeyDer::from_pem_slice(key.as_bytes()).unwrap(),
        )
        .unwrap();
    let connector = tokio_rustls::TlsConnector::from(std::sync::Arc::new(config));
    let stream = tokio::net::TcpStream::connect(host).await.unwrap();
    let name = ServerName::try_from("127.0.0.1").unwrap();
    let mut stream = connector.connect(name, stream).await.unwrap();
    stream
        .write_all(b"GET /v2/ HTTP/1.1\r\nhost: localhost\r\nconnection: close\r\n\r\n")
        .await
        .unwrap();
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer).await;
    answer
}

/// Waits until something is so, for half a minute at most.
pub fn wait_for(mut so: impl FnMut() -> bool) {
    let began = std::time::Instant::now();
    while !so() {
        assert!(began.elapsed() < Duration::from_secs(30), "it never came");
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[test]
fn a_push_by_hand_is_held_as_the_standard_says() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"vendor\"\n\n[[shelf]]\nname = \"thin\"\nsparse = true\n");
    let serving = Serving::start(&house);
    let absent = format!("sha256:{}", "a".repeat(64));
    let index = format!(
        r#"{{"schemaVersion":2,"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"{absent}","size":1}}]}}"#
    );
    let kind = [("content-type", "application/vnd.oci.image.index.v1+json")];
    let put = |shelf: &str| {
        let path = format!("/v2/{shelf}/a/manifests/1");
        ask(serving.host(), "PUT", &path, &kind, index.as_bytes()).unwrap().status
    };
    assert_eq!((put("vendor"), put("thin"), put("other")), (400, 201, 404));
}

#[test]
fn an_upload_goes_on_after_the_server_was_killed() {
    let house = House::new();
    let serving = Serving::start(&house);
    let begun = serving.ask("POST", "/v2/vendor/a/blobs/uploads/");
    let location = |head: &str| {
        let line = head.lines().find_map(|line| line.strip_prefix("location: "));
        line.unwrap().to_owned()
    };
    let upload = location(&begun.head);
    let send = |serving: &Serving, method: &str, path: &str, body: &[u8]| {
        ask(serving.host(), method, path, &[], body).unwrap()
    };
    assert_eq!(send(&serving, "PATCH", &upload, b"01234").status, 202);
    serving.signal("KILL");
    drop(serving);
    let serving = Serving::start(&house);
    let status = serving.ask("GET", &upload);
    assert!(status.head.contains("range: 0-4"), "{}", status.head);
    assert_eq!(send(&serving, "PATCH", &upload, b"567").status, 202);
    let digest = larder_core::digest::Digest::of(b"0123456789");
    let done = send(&serving, "PUT", &format!("{upload}?digest={digest}"), b"89");
    assert_eq!(done.status, 201, "{}", done.text());
    assert_eq!(serving.ask("GET", &location(&done.head)).body, b"0123456789");
}

#[test]
fn what_is_answered_from_memory_is_the_same_and_told_as_such() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::logging_json(&house, "");
    let manifest = "/v2/vendor/kettle/manifests/2";
    let document: serde_json::Value =
        serde_json::from_slice(&serving.ask("GET", manifest).body).unwrap();
    let child = document["manifests"][0]["digest"].as_str().unwrap();
    let child = format!("/v2/vendor/kettle/manifests/{child}");
    let document: serde_json::Value =
        serde_json::from_slice(&serving.ask("GET", &child).body).unwrap();
    let blob =
        format!("/v2/vendor/kettle/blobs/{}", document["config"]["digest"].as_str().unwrap());
    let head = |answer: &crate::serving::Answer| -> Vec<String> {
        let lines = answer.head.lines().filter(|line| !line.starts_with("date: "));
        let mut lines: Vec<_> = lines.map(str::to_owned).collect();
        lines.sort();
        lines
    };
    for (method, path) in [("GET", manifest), ("HEAD", manifest), ("HEAD", &*blob), ("GET", &*blob)]
    {
        let (first, again) = (serving.ask(method, path), serving.ask(method, path));
        assert_eq!(first.status, 200, "{method} {path}");
        assert_eq!(head(&first), head(&again), "{method} {path}");
        assert!(first.body == again.body && (method == "HEAD") == first.body.is_empty());
    }
    // Another process puts another image there.
    let new = larder_standin::image(&crate::house::small("new"));
    house.hold(&house.bazaar, "library/kettle", "2", &new);
    house.bring_in();
    assert!(serving.ask("GET", manifest).head.contains(new.digest().as_str()));
    let told = |method: &str, path: &str| -> Vec<(String, bool)> {
        let log = serving.log();
        let lines =
            log.lines().map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap());
        lines
            .filter(|line| line["method"] == method && line["path"] == path)
            .map(|line| {
                (line["from"].as_str().unwrap().to_owned(), line["sent"].as_u64() == Some(0))
            })
            .collect()
    };
    let (memory, disk) = (("memory".to_owned(), false), ("disk".to_owned(), false));
    let all = [disk.clone(), memory.clone(), memory.clone(), disk.clone()];
    wait_for(|| told("GET", manifest).len() == all.len());
    assert_eq!(told("GET", manifest), all);
    assert_eq!(told("HEAD", manifest), [("memory".to_owned(), true), ("memory".to_owned(), true)]);
    assert_eq!(told("HEAD", &blob)[1], ("memory".to_owned(), true));
    assert_eq!(told("GET", &blob), [disk.clone(), disk]);
}

#[test]
fn what_takes_longer_than_the_grace_is_broken_off_and_leaves_nothing() {
    use std::io::{Read as _, Write as _};
    let house = House::new();
    house.bring_in();
    let serving = Serving::with(&house, "--grace 1");
    let digest = larder_core::digest::Digest::of(b"never whole");
    let mut streams = Vec::new();
    // More of them than there are threads: each thread has one.
    for _ in 0..8 {
        let mut stream = std::net::TcpStream::connect(serving.host()).unwrap();
        let request = format!(
            "POST /v2/vendor/a/blobs/uploads/?digest={digest} HTTP/1.1\r\nhost: localhost\r\ncontent-length: 1000\r\n\r\nnever"
        );
        stream.write_all(request.as_bytes()).unwrap();
        streams.push(stream);
    }
    let uploads = house.path("larder-data/uploads");
    let count = || std::fs::read_dir(&uploads).map_or(0, Iterator::count);
    wait_for(|| count() == 8);
    // Who is quick is answered all the while.
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    let log = house.path("serve.log");
    assert_eq!(serving.stop("TERM"), 0);
    assert_eq!(count(), 0, "nothing half done is left behind");
    let said = std::fs::read_to_string(log).unwrap();
    assert!(said.contains("longer than 1s were broken off"), "{said}");
    for mut stream in streams {
        let mut rest = Vec::new();
        let _ = stream.read_to_end(&mut rest);
        assert!(!rest.starts_with(b"HTTP/1.1 2"), "{}", String::from_utf8_lossy(&rest));
    }
}

#[test]
fn a_header_is_bounded_and_what_is_longer_harms_nobody() {
    let house = House::new();
    let serving = Serving::start(&house);
    let greet =
        |length: usize| ask(serving.host(), "GET", "/v2/", &[("x-long", &"a".repeat(length))], b"");
    assert_eq!(greet(32 * 1024).unwrap().status, 200);
    for length in [65 * 1024, 200 * 1024, 4 * 1024 * 1024] {
        // Whoever sends much more than is read may lose the refusal.
        assert!(greet(length).is_none_or(|answer| answer.status == 431), "{length}");
    }
    assert_eq!(greet(65 * 1024).unwrap().status, 431);
    assert_eq!(serving.ask("GET", "/v2/").status, 200);
}
