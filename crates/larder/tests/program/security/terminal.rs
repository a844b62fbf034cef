//! Nothing from outside reaches a terminal but as letters: every command over hostile names, and the raw bytes of what
//! it prints looked through.

use larder_core::digest::Digest;
use serde_json::json;

use crate::house::{House, OWN, run};
use crate::serving::{Serving, ask};

/// Clears the screen, sets the title, turns the writing round, begins a line of its own.
const EVIL: &str =
    "\u{1b}[2J\u{1b}]0;PWNED\u{7}\u{202e}\u{9b}31m\n::error file=README.md,line=1::FAKE";

/// What a hostile text must not do.
fn is_clean(out: &[u8], line: &str) {
    let text = String::from_utf8_lossy(out);
    // Our own styles are the only escapes.
    let mut rest = &text[..];
    while let Some(at) = rest.find('\u{1b}') {
        let after = &rest[at + 1..];
        let style = after
            .strip_prefix('[')
            .map(|style| style.trim_start_matches(|c: char| c.is_ascii_digit() || c == ';'));
        assert!(style.is_some_and(|end| end.starts_with('m')), "{line}: {text:?}");
        rest = after;
    }
    for c in ['\u{7}', '\u{202e}', '\u{9b}', '\r'] {
        assert!(!text.contains(c), "{line}: {c:?} in {text:?}");
    }
    assert!(
        !text.lines().any(|line| line.trim_start().starts_with("::error file=README.md")),
        "{line}: {text:?}"
    );
}

fn looks_at(house: &House, lines: &[&str]) {
    for line in lines {
        for color in ["never", "always"] {
            for json in ["", " --json"] {
                let mut command = house.command(&format!("{line} --color {color}{json}"));
                // A path with a blank or a line end is given whole.
                if let Some((words, path)) = line.split_once(" FILE:") {
                    command = house.command(&format!("{words} --color {color}{json}"));
                    command.arg(path);
                }
                let done = run(&mut command);
                assert_ne!(done.exit, -1, "{line}");
                is_clean(done.out.as_bytes(), line);
                is_clean(done.err.as_bytes(), line);
            }
        }
    }
}

/// An image whose every text is hostile, pushed under a good name.
fn push(serving: &Serving) {
    let put = |path: &str, kind: &str, body: &[u8]| {
        let fields = [("content-type", kind)];
        let answer = ask(
            serving.host(),
            if path.contains("manifests") { "PUT" } else { "POST" },
            path,
            &fields,
            body,
        )
        .unwrap();
        assert_eq!(answer.status, 201, "{path}: {}", answer.text());
    };
    let config = json!({"os": format!("linux{EVIL}"), "architecture": EVIL, "variant": EVIL, "created": EVIL, "author": EVIL,
        "config": {"User": EVIL, "Entrypoint": [EVIL], "Labels": {EVIL: EVIL, "org.opencontainers.image.title": EVIL}}})
    .to_string();
    let digest = |bytes: &[u8]| Digest::of(bytes).to_string();
    put(
        &format!("/v2/vendor/evil/blobs/uploads/?digest={}", digest(config.as_bytes())),
        "x/y",
        config.as_bytes(),
    );
    let manifest = json!({"schemaVersion": 2, "mediaType": "application/vnd.oci.image.manifest.v1+json", "layers": [],
        "config": {"mediaType": "application/vnd.oci.image.config.v1+json", "digest": digest(config.as_bytes()), "size": config.len()},
        "annotations": {EVIL: EVIL}})
    .to_string();
    let kind = "application/vnd.oci.image.manifest.v1+json";
    put("/v2/vendor/evil/manifests/1", kind, manifest.as_bytes());
    let about = json!({"schemaVersion": 2, "mediaType": kind, "artifactType": format!("a/b{EVIL}"), "layers": [],
        "config": {"mediaType": format!("a/b{EVIL}"), "digest": digest(config.as_bytes()), "size": config.len()},
        "subject": {"mediaType": kind, "digest": digest(manifest.as_bytes()), "size": manifest.len()}, "annotations": {"x": EVIL}})
    .to_string();
    let path = format!("/v2/vendor/evil/manifests/{}", digest(about.as_bytes()));
    let _ = ask(serving.host(), "PUT", &path, &[("content-type", kind)], about.as_bytes());
    let index = json!({"schemaVersion": 2, "mediaType": "application/vnd.oci.image.index.v1+json",
        "manifests": [{"mediaType": kind, "digest": digest(manifest.as_bytes()), "size": manifest.len(),
            "platform": {"os": EVIL, "architecture": EVIL}, "annotations": {"org.opencontainers.image.ref.name": EVIL}}]})
    .to_string();
    put(
        "/v2/vendor/evil/manifests/all",
        "application/vnd.oci.image.index.v1+json",
        index.as_bytes(),
    );
}

#[test]
fn hostile_images_are_shown_as_letters() {
    let house = House::new();
    let serving = Serving::start(&house);
    push(&serving);
    let image = format!("{OWN}/vendor/evil");
    let lines = [
        "shelf list",
        "shelf show vendor/evil",
        "shelf show vendor/evil --tree",
        "shelf show vendor/evil --untagged",
        "store verify",
        "store collect --dry-run",
        "log",
        "check --offline",
        "intake status",
    ];
    looks_at(&house, &lines);
    for line in [
        format!("look {image}:1"),
        format!("look {image}:all"),
        format!("look {image}:1 {image}:all"),
        format!("look {image} --tags"),
        format!("copy {image}:all ./lay --platform linux/amd64"),
        format!("copy {image}:all ./lay/evil"),
        format!("copy {image}:all evil.tar"),
        "look ./lay/evil".to_owned(),
        "look evil.tar".to_owned(),
        format!("why {image}:1 --offline"),
        format!("policy check {image}:1"),
        "shelf drop vendor/evil:1 --dry-run".to_owned(),
    ] {
        looks_at(&house, &[&line]);
    }
    is_clean(serving.log().as_bytes(), "the server's log");
}

#[test]
fn hostile_files_are_shown_as_letters() {
    let house = House::new();
    let name = EVIL.replace('/', "-");
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: {name: x}\nspec:\n  containers:\n  - name: \"a\\e[2J\\n::error file=README.md\"\n    image: \"bazaar.example/library/kettle:2\\e[2J\"\n  - image: bazaar.example/library/kettle:2\n".to_string();
    house.write(&format!("hostile/{name}.yaml"), &pod);
    house.write(&format!("hostile/{name}/Dockerfile"), "FROM bazaar.example/community/x:1\n");
    house.write(&format!("hostile/{name}.txt"), "\u{1b}[2J\n");
    let file = house.path(&format!("hostile/{name}.yaml")).display().to_string();
    for words in [
        "survey",
        "policy check",
        "rewrite",
        "rewrite --check",
        "rewrite --check --format github",
        "rewrite --check --format sarif",
        "survey --by file",
    ] {
        looks_at(
            &house,
            &[
                &format!("{words} hostile"),
                &format!("{words} FILE:{file}"),
                &format!("{words} FILE:{name}"),
            ],
        );
    }
    for words in [
        "look",
        "parcel verify",
        "parcel show",
        "parcel unpack --unsigned",
        "handoff read",
        "check --nodes",
        "key test",
        "copy kettle:2",
        "--config",
    ] {
        looks_at(
            &house,
            &[
                &format!("{words} FILE:{file}"),
                &format!("{words} FILE:./{name}"),
                &format!("{words} FILE:{name}.tar"),
            ],
        );
    }
}

#[test]
fn hostile_layouts_and_archives_are_shown_as_letters() {
    let house = House::new();
    house.larder("copy bazaar.example/library/kettle:2 ./lay/kettle").ends(0);
    let index: serde_json::Value =
        serde_json::from_str(&house.read("lay/kettle/index.json")).unwrap();
    for change in [
        |one: &mut serde_json::Value| {
            one["annotations"] = json!({"org.opencontainers.image.ref.name": EVIL});
        },
        |one: &mut serde_json::Value| one["mediaType"] = EVIL.into(),
        |one: &mut serde_json::Value| one["digest"] = format!("{EVIL}:abc").into(),
        |one: &mut serde_json::Value| one["digest"] = format!("sha256:{EVIL}").into(),
        |one: &mut serde_json::Value| one["platform"] = json!({"os": EVIL, "architecture": EVIL}),
    ] {
        let mut evil = index.clone();
        change(&mut evil["manifests"][0]);
        house.write("lay/kettle/index.json", evil.to_string());
        looks_at(
            &house,
            &[
                "look ./lay/kettle",
                "look ./lay/kettle#2",
                "copy ./lay/kettle ./lay/out",
                "copy ./lay/kettle#x ./lay/out2",
                "parcel unpack --unsigned ./lay/kettle",
            ],
        );
    }
}

#[test]
fn hostile_upstreams_are_shown_as_letters() {
    for status in ["200 OK", "401 Unauthorized", "403 Forbidden", "404 Not Found", "500 No"] {
        let answer = crate::stub::listen(move |line| {
            let evil = EVIL.replace('\n', " ");
            let body = json!({"errors": [{"code": EVIL, "message": EVIL}], "name": EVIL, "tags": [EVIL, "1"], "mediaType": EVIL, "schemaVersion": 2}).to_string();
            let fields = format!(
                "content-type: a/b\r\ndocker-content-digest: x{}\r\nwww-authenticate: Bearer realm=\"{}\"\r\n",
                "y",
                evil.replace(['\u{1b}', '\u{7}', '\u{202e}', '\u{9b}'], "?")
            );
            crate::stub::http(line, status, &fields, &body)
        });
        let house = House::new();
        house.add_upstream("evil.example", &format!("http://{answer}"), "");
        looks_at(
            &house,
            &[
                "look evil.example/a/b:1",
                "look evil.example/a/b --tags",
                "copy evil.example/a/b:1 ./out",
                "check",
                "why evil.example/a/b:1 --patience 2",
            ],
        );
    }
}

#[test]
fn hostile_sign_ins_are_shown_as_letters() {
    use base64::Engine as _;
    let house = crate::access::granted(
        "\n[cluster.identity]\nissuer = \"https://x.example\"\nkeys = \"keys.json\"\n",
    );
    house.write("keys.json", "{\"keys\":[{\"kty\":\"OKP\",\"crv\":\"Ed25519\",\"x\":\"11qYAYKxCrfVS_7TyWQHOg7hcvPapiMlrwIaaPcHURo\"}]}");
    let serving = Serving::start(&house);
    let part = |text: String| base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(text);
    let token = format!(
        "{}.{}.{}",
        part(json!({"alg": EVIL, "kid": EVIL}).to_string()),
        part("{}".into()),
        part("x".into())
    );
    let login = crate::access::basic(&format!("turbine-hall{}", EVIL.replace(':', "")), &token);
    let refused = ask(serving.host(), "GET", "/v2/", &[("authorization", &login)], b"").unwrap();
    assert_eq!(refused.status, 401);
    crate::node::wait_until("it is written down", || {
        house.larder("log --kind failed").out.contains("signed with")
    });
    looks_at(&house, &["log", "log --kind failed"]);
    is_clean(serving.log().as_bytes(), "the server's log");
}
