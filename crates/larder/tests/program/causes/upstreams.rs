//! Upstreams that answer otherwise than the standard has it.

use std::fs;
use std::sync::Mutex;

use larder_standin::{FaultKind, image};

use crate::causes::secrets::{KIND, basic, secret};
use crate::causes::{finds, suspects, upstream};
use crate::house::{House, OWN, small};
use crate::node::shelves;
use crate::serving::Serving;
use crate::stub::{http, listen};

/// How a registry answers.
type Answer = Box<dyn Fn(&str) -> Option<Vec<u8>> + Send + Sync>;

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
    let (own, token_host) = (scope.clone(), format!("token_hosts = [\"{scope}\"]"));
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
    let line = upstream(&house, "r.example", &format!("http://{scope}"), &token_host);
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
        ("/blobs/", FaultKind::Status(404, None), false, "blob-missing"),
        ("/blobs/", FaultKind::Longer(3), false, "blob-length"),
        ("/blobs/", FaultKind::Altered, true, "blob-corrupt"),
        ("/blobs/", FaultKind::CutAfter(50), true, "stream-cut"),
        ("/blobs/", FaultKind::StallAfter(50), true, "stalled"),
        ("/manifests/sha256", FaultKind::Altered, false, "blob-corrupt"),
        ("/v2/", FaultKind::Page, false, "captive-page"),
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
fn indexes_are_read_as_runtimes_read_them() {
    use crate::serving::{Serving, ask};
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    let kind = "application/vnd.oci.image.index.v1+json";
    let get = |name: &str| {
        let path = format!("/v2/vendor/kettle/manifests/{name}");
        ask(serving.host(), "GET", &path, &[("accept", "*/*")], b"").unwrap()
    };
    let digest = |text: &[u8]| larder_core::digest::Digest::of(text).to_string();
    let put = |tag: &str, children: Vec<serde_json::Value>| {
        let index =
            serde_json::json!({ "schemaVersion": 2, "mediaType": kind, "manifests": children });
        let path = format!("/v2/vendor/kettle/manifests/{tag}");
        let body = index.to_string();
        let put = ask(serving.host(), "PUT", &path, &[("content-type", kind)], body.as_bytes());
        assert_eq!(put.unwrap().status, 201);
    };
    let top = get("2").body;
    let read: serde_json::Value = serde_json::from_slice(&top).unwrap();
    let is = |architecture: &str| {
        let all = read["manifests"].as_array().unwrap();
        all.iter().find(|one| one["platform"]["architecture"] == architecture).unwrap().clone()
    };
    let bare = |mut child: serde_json::Value| {
        child.as_object_mut().unwrap().remove("platform");
        child
    };
    let inner = serde_json::json!({ "mediaType": read["mediaType"], "digest": digest(&top), "size": top.len() });
    put("nested", vec![inner.clone()]);
    put("bare", vec![bare(is("arm64")), bare(is("amd64"))]);
    put("deeper", vec![bare(is("arm64")), inner]);
    put("other", vec![bare(is("arm64"))]);
    let why = |tag: &str| {
        house.larder(&format!(
            "why {}/vendor/kettle:{tag} --larder {}",
            crate::house::OWN,
            serving.address
        ))
    };
    for tag in ["nested", "bare", "deeper"] {
        why(tag).ends(0);
    }
    why("other").ends(1).says(&["not made for this platform", "linux/arm64"]);
}

#[test]
fn what_the_larders_own_disk_lacks_is_found_without_reading_it_all() {
    let house = House::new();
    house.configure(&shelves(""));
    let own = format!("{OWN}/vendor/kettle:2");
    house.larder(&format!("copy bazaar.example/library/kettle:2 {own}")).ends(0);
    let serving = Serving::start(&house);
    let line = format!("{own} --larder {}", serving.address);
    house.larder(&format!("why {line}")).ends(0);
    let made = image(&small("kettle"));
    let layer = made.documents[0].1.blobs().last().unwrap().digest.hex().to_owned();
    let is_it =
        |path: &std::path::PathBuf| path.file_stem().is_some_and(|stem| stem == layer.as_str());
    let file = walk(&house.path("larder-data")).into_iter().find(is_it).unwrap();
    let bytes = std::fs::read(&file).unwrap();
    std::fs::remove_file(&file).unwrap();
    let told = finds(&house, &line, "blob-missing").to_string();
    assert!(told.contains("larder store verify --repair"), "{told}");
    std::fs::write(&file, &bytes[..bytes.len() - 1]).unwrap();
    finds(&house, &line, "blob-length");
    // Followed to the letter, and pushed again, it can be pulled.
    drop(serving);
    house.larder("store verify --repair").ends(4);
    house.larder(&format!("copy bazaar.example/library/kettle:2 {own}")).ends(0);
    let serving = Serving::start(&house);
    house.larder(&format!("why {own} --larder {}", serving.address)).ends(0);
}

/// All files below a folder.
pub fn walk(folder: &std::path::Path) -> Vec<std::path::PathBuf> {
    let mut found = Vec::new();
    let mut open = vec![folder.to_owned()];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() { open.push(path) } else { found.push(path) }
        }
    }
    found
}
