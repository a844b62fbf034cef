//! A layer is had only by who has it already: a digest is no secret.

use larder_core::digest::Digest;
use serde_json::json;

use crate::access::{basic, granted};
use crate::house::{House, INTAKE};
use crate::serving::{Answer, Serving, ask};

const SECRET: &[u8] = b"layer of secret/plans: nobody else may read it";

/// A manifest that names somebody's layer; the configuration is its own.
fn naming(layer: &Digest, size: u64) -> (Vec<u8>, Vec<u8>) {
    let config = br#"{"architecture":"amd64","os":"linux"}"#.to_vec();
    let manifest = json!({
        "schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json",
        "config": {"mediaType": "application/vnd.oci.image.config.v1+json", "digest": Digest::of(&config).to_string(), "size": config.len()},
        "layers": [{"mediaType": "application/vnd.oci.image.layer.v1.tar", "digest": layer.to_string(), "size": size}],
    });
    (manifest.to_string().into_bytes(), config)
}

/// An upstream of the attacker's: it has the manifest and the configuration, and what `has` gives of the layer.
fn evil(layer: Digest, manifest: Vec<u8>, config: Vec<u8>, has: Option<Vec<u8>>) -> String {
    let (of_config, of_manifest) = (Digest::of(&config), Digest::of(&manifest));
    crate::stub::listen(move |line| {
        let bytes = |kind: &str, body: &[u8]| {
            let mut answer = format!(
                "HTTP/1.1 200 OK\r\ncontent-type: {kind}\r\ndocker-content-digest: {of_manifest}\r\ncontent-length: {}\r\nconnection: close\r\n\r\n",
                body.len()
            )
            .into_bytes();
            if !line.starts_with("HEAD") {
                answer.extend_from_slice(body);
            }
            Some(answer)
        };
        match line.split(' ').nth(1).unwrap_or_default() {
            path if path.contains("/manifests/") => {
                bytes("application/vnd.oci.image.manifest.v1+json", &manifest)
            }
            path if path.contains(&of_config.to_string()) => {
                bytes("application/octet-stream", &config)
            }
            path if path.contains(layer.as_str()) && has.is_some() => {
                bytes("application/octet-stream", has.as_deref().unwrap_or_default())
            }
            "/v2/" => crate::stub::http(line, "200 OK", "", "{}"),
            _ => crate::stub::http(line, "404 Not Found", "", "{}"),
        }
    })
}

fn push_secret(house: &House, serving: &Serving) -> Digest {
    let login = basic("keeper", &house.issue("--account keeper"));
    let digest = Digest::of(SECRET);
    let path = format!("/v2/apps/plans/blobs/uploads/?digest={digest}");
    let pushed = ask(serving.host(), "POST", &path, &[("authorization", &login)], SECRET).unwrap();
    assert_eq!(pushed.status, 201);
    let (manifest, config) = naming(&digest, SECRET.len() as u64);
    let path = format!("/v2/apps/plans/blobs/uploads/?digest={}", Digest::of(&config));
    ask(serving.host(), "POST", &path, &[("authorization", &login)], &config).unwrap();
    let fields = [
        ("authorization", login.as_str()),
        ("content-type", "application/vnd.oci.image.manifest.v1+json"),
    ];
    let put = ask(serving.host(), "PUT", "/v2/apps/plans/manifests/1", &fields, &manifest).unwrap();
    assert_eq!(put.status, 201, "{}", put.text());
    digest
}

const ACCOUNTS: &str = "\n[[account]]\nname = \"keeper\"\npush = [\"apps/**\"]\npull = [\"apps/**\"]\n\n[[account]]\nname = \"cacher\"\npull = [\"evil/**\", \"vendor/**\"]\n\n[[shelf]]\nname = \"evil\"\ncaches = \"evil\"\n\n[[upstream]]\nname = \"evil\"\nhost = \"evil.example\"\nendpoint = \"http://127.0.0.1:9\"\n";

fn get(serving: &Serving, path: &str, login: &str) -> Answer {
    ask(serving.host(), "GET", path, &[("authorization", login)], b"").unwrap()
}

#[test]
fn a_cached_shelf_gives_only_what_its_upstream_gives() {
    let house = granted(ACCOUNTS);
    let secret = Digest::of(SECRET);
    let (manifest, config) = naming(&secret, SECRET.len() as u64);
    let mut other = SECRET.to_vec();
    *other.last_mut().unwrap() = b'!';
    let text = house.read("larder.toml");
    for has in [None, Some(other)] {
        let endpoint = evil(secret.clone(), manifest.clone(), config.clone(), has);
        house.write("larder.toml", text.replace("127.0.0.1:9\"", &format!("{endpoint}\"")));
        let serving = Serving::start(&house);
        if house.larder("shelf show apps/plans").exit != 0 {
            push_secret(&house, &serving);
        }
        let rotated = house.larder("key rotate --account cacher --json");
        let cacher = match rotated.exit {
            0 => rotated.json()["secret"].as_str().unwrap().to_owned(),
            _ => house.issue("--account cacher"),
        };
        let login = basic("cacher", &cacher);
        let layer = format!("/v2/evil/community/evil/blobs/{secret}");
        let found = get(&serving, "/v2/evil/community/evil/manifests/1", &login);
        assert_eq!(found.status, 200, "{}", found.text());
        for _ in 0..3 {
            let stolen = ask(serving.host(), "GET", &layer, &[("authorization", &login)], b"");
            // An upstream that sends other bytes is broken off before the end.
            let whole = stolen.is_some_and(|answer| answer.body == SECRET);
            assert!(!whole, "a foreign layer was given away");
        }
        serving.stop("TERM");
    }
}

#[test]
fn an_intake_brings_in_only_what_its_upstream_has() {
    let house = granted(ACCOUNTS);
    let serving = Serving::start(&house);
    push_secret(&house, &serving);
    drop(serving);
    let secret = Digest::of(SECRET);
    for size in [SECRET.len() as u64, 7] {
        let (manifest, config) = naming(&secret, size);
        let endpoint = evil(secret.clone(), manifest, config, None);
        house.configure(INTAKE);
        house.add_upstream("evil.example", &format!("http://{endpoint}"), "\n[[intake]]\nimage = \"evil.example/x/evil\"\ntags = { exact = [\"1\"] }\nto = \"vendor/evil\"\n");
        house.larder("intake lock").ends(0);
        let run = house.larder("intake run");
        assert!(run.exit >= 3, "{run:?}");
        house.larder("shelf show vendor/evil").ends(1);
    }
}

#[test]
fn an_archive_that_lacks_a_layer_does_not_get_it_from_others() {
    let house = granted(ACCOUNTS);
    let serving = Serving::start(&house);
    let secret = push_secret(&house, &serving);
    let own = crate::house::OWN;
    house.larder(&format!("copy {own}/apps/plans:1 ./plans")).ends(0);
    // What has the layer may share it: nothing is moved.
    house.larder(&format!("copy ./plans {own}/apps/again:1")).ends(0).says(&["2 there already"]);
    house
        .larder(&format!("copy {own}/apps/plans:1 {own}/apps/third:1"))
        .ends(0)
        .says(&["2 there already"]);
    std::fs::remove_file(house.path(&format!("plans/blobs/sha256/{}", secret.hex()))).unwrap();
    let stolen = house.larder(&format!("copy ./plans {own}/vendor/stolen:1"));
    assert_ne!(stolen.exit, 0, "{stolen:?}");
    house.larder("shelf show vendor/stolen").ends(1);
}

#[test]
fn wrong_sizes_are_refused_at_push() {
    let house = House::new();
    let serving = Serving::start(&house);
    let content = b"0123456789";
    let digest = Digest::of(content);
    let path = format!("/v2/vendor/x/blobs/uploads/?digest={digest}");
    assert_eq!(ask(serving.host(), "POST", &path, &[], content).unwrap().status, 201);
    let kind = [("content-type", "application/vnd.oci.image.manifest.v1+json")];
    let (good, config) = naming(&digest, 10);
    let path = format!("/v2/vendor/x/blobs/uploads/?digest={}", Digest::of(&config));
    assert_eq!(ask(serving.host(), "POST", &path, &[], &config).unwrap().status, 201);
    for size in [0, 1, 1 << 63, u64::MAX] {
        let (wrong, _) = naming(&digest, size);
        let answer = ask(serving.host(), "PUT", "/v2/vendor/x/manifests/1", &kind, &wrong).unwrap();
        assert_eq!(answer.status, 400, "{size}: {}", answer.text());
    }
    let answer = ask(serving.host(), "PUT", "/v2/vendor/x/manifests/1", &kind, &good).unwrap();
    assert_eq!(answer.status, 201, "{}", answer.text());
    let index = |size: usize| {
        json!({"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json",
            "manifests": [{"mediaType": kind[0].1, "digest": Digest::of(&good).to_string(), "size": size}]})
        .to_string()
    };
    let put = |body: &str| {
        let kind = [("content-type", "application/vnd.oci.image.index.v1+json")];
        ask(serving.host(), "PUT", "/v2/vendor/x/manifests/all", &kind, body.as_bytes())
            .unwrap()
            .status
    };
    assert_eq!(put(&index(good.len() + 1)), 400);
    assert_eq!(put(&index(good.len())), 201);
}
