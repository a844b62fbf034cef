//! Signatures over images: what each that was found is worth, by the signers of the configuration.

use std::io::Read as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};

use crate::house::{House, OWN};
use crate::serving::{Serving, ask};

const VECTORS: &[u8] = include_bytes!("../../../core/src/signature/vectors.jsonl.gz");
const NAME: &str = "ventworks.example/gauges/steamgauge:1.9.2";

/// The vectors of the made-up vendor, each an image with what was found beside it, and what is believed.
pub fn vectors() -> Vec<Value> {
    let mut all = String::new();
    flate2::read::GzDecoder::new(VECTORS).read_to_string(&mut all).unwrap();
    all.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

pub fn vector(name: &str) -> Value {
    vectors().into_iter().find(|one| one["name"] == name).unwrap()
}

fn list(of: &Value) -> &[Value] {
    of.as_array().map(Vec::as_slice).unwrap_or_default()
}

fn bytes(text: &Value) -> Vec<u8> {
    STANDARD.decode(text.as_str().unwrap()).unwrap()
}

/// Writes a vector as a layout folder, with the files that the operator gave.
pub fn lay_out(house: &House, vector: &Value, folder: &str) {
    house.write(&format!("{folder}/oci-layout"), r#"{"imageLayoutVersion":"1.0.0"}"#);
    for (digest, body) in vector["blobs"].as_object().unwrap() {
        let path = format!("{folder}/blobs/{}", digest.replace(':', "/"));
        house.write(&path, bytes(body));
    }
    let entry = |object: &Value| {
        let mut entry = json!({
            "mediaType": object["mediaType"], "digest": object["digest"], "size": object["size"],
        });
        let is_asked = object["digest"] == vector["image"]["digest"];
        let tag = object["tag"].as_str().or(is_asked.then_some("asked"));
        if let Some(tag) = tag {
            entry["annotations"] = json!({ "org.opencontainers.image.ref.name": tag });
        }
        entry
    };
    let entries: Vec<Value> = list(&vector["objects"]).iter().map(entry).collect();
    let index = json!({ "schemaVersion": 2, "manifests": entries });
    house.write(&format!("{folder}/index.json"), index.to_string());
    for (path, body) in vector["files"].as_object().unwrap() {
        house.write(path, bytes(body));
    }
}

/// What is believed, as the configuration says it.
pub fn believed(vector: &Value) -> String {
    let of = &vector["trust"];
    let texts = |of: &Value| if of.is_null() { "[]".to_owned() } else { of.to_string() };
    let mut text = String::new();
    for signer in list(&of["signers"]) {
        let named = |revoked: bool| {
            let keys = list(&signer["keys"]).iter();
            let keys = keys.filter(|key| key["revoked"].as_bool().unwrap_or(false) == revoked);
            let keys =
                keys.map(|key| if key["file"].is_null() { &key["text"] } else { &key["file"] });
            Value::from(keys.cloned().collect::<Vec<_>>()).to_string()
        };
        let (name, images) = (&signer["name"], &signer["images"]);
        text += &format!("[[signer]]\nname = {name}\nimages = {images}\n");
        text += &format!("keys = {}\nrevoked = {}\n", named(false), named(true));
        if signer["authorities"].is_array() {
            let kind = if signer["identity"]["email"].is_string() { "email" } else { "uri" };
            let identity = &signer["identity"][kind];
            text += &format!("authorities = {}\n", signer["authorities"]);
            text += &format!("identity = {{ {kind} = {identity} }}\n");
            text += &format!("revocations = {}\n", texts(&signer["crls"]));
            let is_required = signer["crl_required"].as_bool().unwrap_or(false);
            text += &format!("revocations_required = {is_required}\n");
        }
        text += &format!("signed_as = {}\n\n", texts(&signer["identities"]));
    }
    text += &format!("[trust]\nstamps = {}\n", texts(&of["timestamp_authorities"]));
    let time = of["log_time_counts"].as_bool().unwrap_or(false);
    let logs = list(&of["logs"]).iter().map(|log| {
        let (origin, file, required) = (&log["origin"], &log["file"], &log["required"]);
        format!("{{ origin = {origin}, key = {file}, required = {required}, time = {time} }}")
    });
    text + &format!("logs = [{}]\n", logs.collect::<Vec<_>>().join(", "))
}

fn shelf() -> &'static str {
    "[[shelf]]\nname = \"vendor\"\n\n"
}

#[test]
fn every_vector_is_told_for_what_it_is() {
    // What a rule asks beyond that a signature holds.
    let asked = ["wrong-predicate", "condition", "stale", "threshold", "withdrawn"];
    let (mut wrong, house) = (Vec::new(), House::new());
    for vector in vectors() {
        let name = vector["name"].as_str().unwrap();
        lay_out(&house, &vector, "image");
        house.configure(&(shelf().to_owned() + &believed(&vector)));
        let mut objects = list(&vector["objects"]).iter();
        let asked_for = objects.find(|object| object["digest"] == vector["image"]["digest"]);
        let tag = asked_for.and_then(|object| object["tag"].as_str()).unwrap_or("asked");
        let line = format!("--json look --signatures ./image#{tag} --as {NAME}");
        if name == "b-key-secp256k1" {
            house.larder(&line).ends(2).says(&["secp256k1", "P-256"]);
            continue;
        }
        let report = house.larder(&line).ends(0).json();
        let all = list(&report["signatures"]);
        let holding = all.iter().filter(|one| one["holds"] == true).count();
        let flaws: Vec<&str> = all.iter().filter_map(|one| one["flaw"].as_str()).collect();
        let is_right = match (vector["expect"].as_str(), vector["why"].as_str()) {
            // A folder does not tell which indexes list an image: that is for the larder's own store.
            (Some("ok"), _) if name == "g-dsse-child-of-signed-index" => all.is_empty(),
            (Some("ok"), _) => holding > 0,
            (_, Some(why)) if asked.contains(&why) => true,
            // What a statement says is no signature.
            (_, Some("no-signature")) => {
                list(&report["signed_by"]).is_empty()
                    && flaws.iter().all(|flaw| *flaw == "no-signature")
            }
            // A folder finds companions by what they say that they are about.
            (_, Some("wrong-subject")) => all.is_empty(),
            // A platform's signature is none of the index.
            (_, Some("wrong-digest")) if name.contains("graph") => {
                list(&report["signed_by"]).is_empty()
            }
            (_, why) => holding == 0 && flaws.iter().any(|flaw| Some(*flaw) == why),
        };
        if !is_right {
            wrong.push(format!("{name}: {holding} hold; {flaws:?}"));
        }
    }
    assert!(wrong.is_empty(), "{}", wrong.join("\n"));
}

#[test]
fn a_signature_is_found_wherever_the_image_is_and_judged_by_where_it_comes_from() {
    let house = House::new();
    let vector = vector("g-jws-ps256");
    lay_out(&house, &vector, "image");
    let intake = "[[intake]]\nimage = \"ventworks.example/gauges/steamgauge\"\ntags = { exact = [\"1.9.2\"] }\nto = \"vendor/steamgauge\"\n\n";
    house.configure(&format!("{}{intake}{}", shelf(), believed(&vector)));
    let here = format!("{OWN}/vendor/steamgauge:1.9.2");
    house.larder(&format!("copy ./image#1.9.2 {here} --companions --new-store")).ends(0);
    let told = house.larder(&format!("look --signatures {here}")).ends(0);
    told.says(&[
        "holds",
        "release@ventworks.example",
        "of 2026-11-20",
        "is signed by ventworks-release",
    ]);
    let report = house.larder(&format!("--json look --signatures {here}")).ends(0).json();
    assert_eq!(report["names"][1], "ventworks.example/gauges/steamgauge");
    assert_eq!(report["signed_by"], json!(["ventworks-release"]));
    // Without the entry nobody says where it comes from, and the signer does not speak for what lies here.
    house.configure(&(shelf().to_owned() + &believed(&vector)));
    house
        .larder(&format!("look --signatures {here}"))
        .ends(0)
        .says(&["does not speak for this repository", "nobody who is named has signed"]);
    // A folder says of no name.
    house.larder("look --signatures ./image#1.9.2").ends(0).says(&["--as HOST/REPOSITORY:TAG"]);
    house.configure(shelf());
    house
        .larder(&format!("look --signatures ./image#1.9.2 --as {NAME}"))
        .ends(0)
        .says(&["no authority is given", "No [[signer]] is named"]);
    house.larder("look ./image#1.9.2 --as x").ends(2);
    house.larder("look --signatures --tags ./image").ends(2);
}

#[test]
fn an_index_vouches_for_the_platforms_that_it_lists() {
    let house = House::new();
    let vector = vector("g-dsse-child-of-signed-index");
    lay_out(&house, &vector, "image");
    let index = list(&vector["objects"]).iter().find(|object| object["role"] == "index").unwrap();
    let text = house.read("image/index.json");
    // The index has no name in the vector.
    let mut entries: Value = serde_json::from_str(&text).unwrap();
    for entry in entries["manifests"].as_array_mut().unwrap() {
        if entry["digest"] == index["digest"] {
            entry["annotations"] = json!({ "org.opencontainers.image.ref.name": "both" });
        }
    }
    house.write("image/index.json", entries.to_string());
    house.configure(
        &(shelf().to_owned() + &believed(&vector).replace("ventworks.example/**", "**")),
    );
    let here = format!("{OWN}/vendor/steamgauge");
    house.larder(&format!("copy ./image#both {here}:1.9.2 --companions --new-store")).ends(0);
    let child = vector["image"]["digest"].as_str().unwrap();
    let told = house.larder(&format!("--json look --signatures {here}@{child}")).ends(0).json();
    let found = &told["signatures"][0];
    assert_eq!((&found["holds"], &found["about"]), (&true.into(), &index["digest"]));
}

#[test]
fn what_files_of_keys_are_is_told_and_what_is_wrong_with_them() {
    let house = House::new();
    let vector = vector("g-jws-crl-clean");
    lay_out(&house, &vector, "image");
    house.configure(&(shelf().to_owned() + &believed(&vector)));
    house.larder("init").ends(0);
    house.larder("check --offline").ends(0).says(&[
        "ventworks-release",
        "ventworks.example/**",
        "a certificate of release@ventworks.example",
    ]);
    let report = house.larder("--json check --offline").ends(0).json();
    assert!(report["signers"][0]["lists_until"].is_string());
    let signer = |more: &str| {
        let text = "[[signer]]\nname = \"somebody\"\nimages = [\"**\"]\n";
        house.configure(&format!("{}{text}{more}\n", shelf()));
    };
    let private = rcgen::KeyPair::generate().unwrap();
    house.write("trust/private.pem", private.serialize_pem());
    house.write("trust/public.pem", private.public_key_pem());
    house.write("trust/page.pem", "<html>sign in</html>");
    for (more, said) in [
        ("keys = [\"trust/private.pem\"]", "secret half"),
        ("keys = [\"trust/page.pem\"]", "it is a page"),
        ("keys = [\"trust/nowhere.pem\"]", "nowhere.pem"),
        ("keys = [\"trust/*.nothing\"]", "no file has such a name"),
        ("keys = [\"trust/ventworks-root.pem\"]", "something else than public keys"),
        ("keys = [\"ed25519:AAAA\"]", "no public key"),
        (
            "keys = [\"trust/public.pem\"]\nrevoked = [\"trust/public.pem\"]",
            "stands in `keys` and in `revoked`",
        ),
        (
            "authorities = [\"trust/public.pem\"]\nidentity = { email = \"a@b.example\" }",
            "something else than certificates",
        ),
    ] {
        signer(more);
        let run =
            house.larder("check --offline").ends(2).says(&[said, "try, for the signer somebody"]);
        assert!(!run.out.contains("PRIVATE") && !run.err.contains("PRIVATE"), "{}", run.out);
        house.larder(&format!("look --signatures ./image#1.9.2 --as {NAME}")).ends(2).says(&[said]);
    }
    for (more, said) in [
        ("", "nothing says how this signer's signatures are known"),
        ("authorities = [\"trust/ventworks-root.pem\"]", "stand together"),
        ("keys = [\"trust/public.pem\"]\nidentity = { email = \"a@b.example\" }", "stand together"),
        ("keys = [\"trust/public.pem\"]\nrevocations = [\"x\"]", "those of authorities"),
        (
            "keys = [\"trust/public.pem\"]\nidentity = { email = \"*@b.example\" }",
            "one whole mail address",
        ),
        ("keys = [\"trust/public.pem\"]\nidentity = { }", "has one of `email` and `uri`"),
        ("keys = [\"trust/public.pem\"]\nkey = 1", "is not a key here"),
        (
            "keys = [\"trust/public.pem\"]\n[[signer]]\nname = \"somebody\"\nimages = [\"**\"]\nkeys = [\"x\"]",
            "is there twice",
        ),
    ] {
        signer(more);
        house.larder("check --offline").ends(2).says(&[said, "larder.toml"]);
    }
    // One key is nobody's twice.
    signer(
        "keys = [\"trust/public.pem\"]\n[[signer]]\nname = \"other\"\nimages = [\"**\"]\nkeys = [\"trust/public.pem\"]",
    );
    house.larder("check --offline").ends(2).says(&["is also that of somebody"]);
    house.configure(&format!("{}[trust]\nstamps = [\"trust/public.pem\"]\n", shelf()));
    house.larder("check --offline").ends(2).says(&["[trust]", "something else than certificates"]);
}

/// A house with the vendor's signed image on a shelf, the same without its signature, and a rule that asks for it.
fn ruled(vector: &str, more: &str) -> House {
    let house = House::new();
    let vector = self::vector(vector);
    lay_out(&house, &vector, "image");
    let intake = |name: &str| {
        format!(
            "[[intake]]\nimage = \"ventworks.example/gauges/{name}\"\ntags = {{ exact = [\"1.9.2\"] }}\nto = \"vendor/{name}\"\n\n"
        )
    };
    let class = "[[class]]\nname = \"vetted\"\nmatch = [\"ventworks.example/**\"]\n\n[[cluster]]\nname = \"turbine-hall\"\npull = [\"vendor/**\"]\n\n";
    let rule = format!(
        "[[rule]]\nname = \"vetted images are signed\"\nclasses = [\"vetted\"]\nverdict = \"deny\"\nbecause = \"ask the vendor\"\n{more}\n"
    );
    let intakes = intake("steamgauge") + &intake("bare");
    house.configure(&format!("{}{intakes}{class}{rule}{}", shelf(), believed(&vector)));
    for (name, companions) in [("steamgauge", "--companions"), ("bare", "")] {
        let to = format!("{OWN}/vendor/{name}:1.9.2");
        house.larder(&format!("copy ./image#1.9.2 {to} {companions} --new-store")).ends(0);
    }
    house
}

#[test]
fn a_rule_lets_through_what_was_signed_and_says_what_was_found_of_the_rest() {
    let house = ruled("g-jws-ps256", "asks = { signed_by = [\"ventworks-release\"] }");
    let check = |name: &str, exit: i32| {
        let line = format!("policy check {OWN}/vendor/{name}:1.9.2 --cluster turbine-hall");
        house.larder(&line).ends(exit)
    };
    check("steamgauge", 0);
    check("bare", 1).says(&["ventworks-release has not signed it; no other signature was found"]);
    let serving = Serving::start(&house);
    let get = |path: &str| serving.ask("GET", &format!("/v2/vendor/{path}"));
    assert_eq!(get("steamgauge/manifests/1.9.2").status, 200);
    let refused = get("bare/manifests/1.9.2");
    assert_eq!(refused.status, 403);
    assert!(refused.text().contains("ventworks-release has not signed it"), "{}", refused.text());
    // Whoever verifies for themselves can read the signature.
    let told = house.larder(&format!("--json look --signatures {OWN}/vendor/steamgauge:1.9.2"));
    let companion = told.ends(0).json()["signatures"][0]["companion"].as_str().unwrap().to_owned();
    assert_eq!(get(&format!("steamgauge/manifests/{companion}")).status, 200);
    // An image that says that it is about a signed one is not signed by that.
    let image = vector("g-jws-ps256")["image"].clone();
    let (digest, size) = (image["digest"].as_str().unwrap(), &image["size"]);
    let body = get("steamgauge/manifests/1.9.2").text();
    let subject = format!(
        ",\"subject\":{{\"mediaType\":{},\"digest\":\"{digest}\",\"size\":{size}}}}}",
        image["mediaType"]
    );
    let forged = body.trim_end().strip_suffix('}').unwrap().to_owned() + &subject;
    let kind = [("content-type", image["mediaType"].as_str().unwrap())];
    let (host, path) = (serving.host(), "/v2/vendor/steamgauge/manifests/forged");
    assert_eq!(ask(host, "PUT", path, &kind, forged.as_bytes()).unwrap().status, 201);
    assert_eq!(get("steamgauge/manifests/forged").status, 403);
}

#[test]
fn what_lies_under_a_tag_counts_and_can_be_read() {
    let house = ruled("g-small-p256", "asks = { signed_by = [\"ventworks-release\"] }");
    let digest = vector("g-small-p256")["image"]["digest"].as_str().unwrap().replace(':', "-");
    let beside = format!("copy ./image#{digest}.sig {OWN}/vendor/steamgauge:{digest}.sig");
    house.larder(&beside).ends(0);
    let serving = Serving::start(&house);
    let get = |path: &str| serving.ask("GET", &format!("/v2/vendor/{path}"));
    for path in ["manifests/1.9.2".to_owned(), format!("manifests/{digest}.sig")] {
        assert_eq!(get(&format!("steamgauge/{path}")).status, 200, "{path}");
    }
    assert_eq!(get("bare/manifests/1.9.2").status, 403);
}

#[test]
fn what_was_held_before_is_warned_of_and_what_comes_in_is_verified_first() {
    let more = "asks = { signed_by = [\"ventworks-release\"] }\nexcept_held_before = 2040-01-01";
    let house = ruled("g-jws-ps256", more);
    let line = format!("policy check {OWN}/vendor/bare:1.9.2 --cluster turbine-hall");
    house.larder(&line).ends(0).says(&["has not signed it", "held before 2040-01-01"]);
    let house = House::new();
    house.configure(
        "[[intake]]\nimage = \"bazaar.example/library/kettle\"\ntags = { exact = [\"2\"] }\nto = \"vendor/kettle\"\n\n[[class]]\nname = \"community\"\nmatch = [\"bazaar.example/**\"]\n\n[[rule]]\nname = \"signed\"\nclasses = [\"community\"]\nverdict = \"deny\"\nbecause = \"x\"\nasks = { signed_by = [\"bazaar\"] }\n\n[[signer]]\nname = \"bazaar\"\nimages = [\"bazaar.example/**\"]\nkeys = [\"ed25519:t3Ub/keyJL6qmUxLn/7hh3Niat3+VVSj9Bjbt/9LNyw=\"]\n",
    );
    house.larder("intake lock").ends(0);
    house
        .larder("intake run --new-store")
        .ends(1)
        .says(&["bazaar has not signed it", "companions = true"]);
    house.larder(&format!("look {OWN}/vendor/kettle:2")).ends(1);
}

#[test]
fn what_rules_ask_of_signatures_is_read_and_refused_in_words() {
    let house = House::new();
    let signer = "[[signer]]\nname = \"vendor\"\nimages = [\"**\"]\nkeys = [\"ed25519:t3Ub/keyJL6qmUxLn/7hh3Niat3+VVSj9Bjbt/9LNyw=\"]\n";
    let says = "says = [\"https://in-toto.io/attestation/vulns/v0.1\"]";
    let attested =
        |more: &str| format!("asks = {{ attested = {{ by = [\"vendor\"], {says}{more} }} }}");
    for (more, said) in [
        ("asks = { signed_by = [\"vendr\"] }".to_owned(), "no [[signer]] has the name `vendr`"),
        ("asks = { signed_by = [\"vendor\"], of = 2 }".to_owned(), "between 1 and 1"),
        ("asks = { signed_by = [\"vendor\", \"vendor\"] }".to_owned(), "stands twice"),
        ("asks = { within = \"30d\" }".to_owned(), "say more of `signed_by`"),
        ("asks = { digest = true }\nexcept_held_before = 2026-12-01".to_owned(), "softens a rule"),
        (
            "asks = { attested = { by = [], says = [] } }".to_owned(),
            "names who has to have said what",
        ),
        (attested(", newest = true"), "is told by `time`"),
        (attested(", where = { result = \"passed\" }"), "a pointer such as"),
        (attested(", where = { \"/n\" = { most = 3 } }"), "at_most"),
    ] {
        house.configure(&format!("[[rule]]\nname = \"r\"\nimages = [\"**\"]\nverdict = \"deny\"\nbecause = \"x\"\n{more}\n{signer}"));
        house.larder("check --offline").ends(2).says(&[said]);
    }
    let good = attested(
        ", where = { \"/result\" = \"passed\", \"/high\" = { at_most = 3 } }, time = \"/on\", newest = true, within = \"30d\"",
    );
    house.configure(&format!("[[rule]]\nname = \"r\"\nimages = [\"**\"]\nverdict = \"deny\"\nbecause = \"x\"\n{good}\n{signer}"));
    house.larder("init").ends(0);
    house.larder("check --offline").ends(0);
}
