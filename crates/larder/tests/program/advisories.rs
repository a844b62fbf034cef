//! Advisories: taken in from files, held against what images have, with who runs them and what mends it.

use larder_standin::{ImagePlan, image};

use crate::house::{House, OWN, small};

pub const CRITICAL: &str = "CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H";

/// An advisory about versions of a package before one that is mended.
pub fn osv(id: &str, ecosystem: &str, package: &str, fixed: &str, more: &str) -> String {
    format!(
        r#"{{"id":"{id}","modified":"2026-10-01T00:00:00Z",{more}"summary":"made up","affected":[{{"package":{{"ecosystem":"{ecosystem}","name":"{package}"}},"ranges":[{{"type":"ECOSYSTEM","events":[{{"introduced":"0"}},{{"fixed":"{fixed}"}}]}}]}}]}}"#
    )
}

pub fn severe(vector: &str) -> String {
    format!(r#""severity":[{{"type":"CVSS_V3","score":"{vector}"}}],"#)
}

/// An image on the vendor's layer, which has a library.
pub fn gauge(name: &str, layer: &str, version: &str) -> ImagePlan {
    let json = format!("{{\"name\":\"pressurekit\",\"version\":\"{version}\"}}");
    ImagePlan { shared: vec!["base".into(), layer.into()], ..small(name) }
        .for_platforms(&["linux/amd64"])
        .with_file(layer, "opt/gauges/node_modules/pressurekit/package.json", &json)
}

/// A larder with three images on a layer with an old library, and a newer tag of one with a new one.
pub fn house() -> House {
    let house = House::new();
    for (repository, tag, plan) in [
        ("gauges/steamgauge", "1.8", gauge("steamgauge 1.8", "vendor", "2.1.0")),
        ("gauges/steamgauge", "1.9", gauge("steamgauge 1.9", "vendor-2", "2.2.0")),
        ("gauges/valve-twin", "3", gauge("valve-twin 3", "vendor", "2.1.0")),
        ("gauges/flow", "1", gauge("flow 1", "vendor", "2.1.0")),
    ] {
        house.hold(&house.ventworks, repository, tag, &image(&plan));
        let to = repository.replace("gauges", "vendor");
        let copy =
            format!("copy ventworks.example/{repository}:{tag} {OWN}/{to}:{tag} --new-store");
        house.larder(&copy).ends(0);
    }
    house.larder("inventory --fill").ends(0);
    house
}

fn names(report: &serde_json::Value) -> Vec<&str> {
    let images = report["images"].as_array().unwrap();
    images.iter().map(|image| image["names"][0].as_str().unwrap()).collect()
}

#[test]
fn an_advisory_is_traced_to_the_layer_that_images_share_to_workloads_and_to_what_mends_it() {
    let house = house();
    house.larder("advisory check").ends(1).says(&["no advisories were taken in yet", "import"]);
    let text = osv("EMBER-2026-0001", "npm", "pressurekit", "2.2.0", &severe(CRITICAL));
    house.write("feed/a.json", &text);
    house.larder("advisory import feed").ends(0).says(&["1 advisory of feed: 1 new"]);
    let report = house.larder("--json advisory check").ends(0).json();
    assert_eq!(names(&report), ["vendor/flow:1", "vendor/steamgauge:1.8", "vendor/valve-twin:3"]);
    let gauge = &report["images"][1];
    let finding = &gauge["findings"][0];
    assert_eq!((&finding["severity"], &finding["score"]), (&"critical".into(), &9.8.into()));
    assert_eq!(
        (&finding["version"], &finding["fixed_version"]),
        (&"2.1.0".into(), &"2.2.0".into())
    );
    assert_eq!((&finding["layer"], &finding["command"]), (&2.into(), &"COPY vendor /".into()));
    assert_eq!(finding["shared_with"], serde_json::json!(["vendor/flow:1", "vendor/valve-twin:3"]));
    assert_eq!(finding["mended_by"], serde_json::json!(["vendor/steamgauge:1.9"]));
    // The same of one that is named, wherever it is.
    let own = format!("{OWN}/vendor/steamgauge:1.8");
    for place in [own.as_str(), "ventworks.example/gauges/steamgauge:1.8"] {
        let one = house.larder(&format!("--json advisory check {place}")).ends(0).json();
        let found = &one["images"][0]["findings"][0];
        for field in ["advisory", "version", "layer", "command", "mended_by"] {
            assert_eq!(found[field], finding[field], "{place}: {field}");
        }
    }
    house.larder("advisory check --by advisory").ends(0).says(&[
        "EMBER-2026-0001",
        "brings it into vendor/flow:1, vendor/steamgauge:1.8, vendor/valve-twin:3",
        "would mend 3 of 3, in 3 images",
    ]);
    house.larder("advisory check --fail-on critical").ends(1);
    house.larder("advisory check --fail-on critical --shelf vendor").ends(1);
    house.larder(&format!("advisory check {OWN}/vendor/steamgauge:1.9 --fail-on low")).ends(0);
    house.larder("advisory check --only EMBER-2026-0001").ends(0).says(&["1 advisory"]);
    house.larder("advisory check --only EMBER-2026-9999").ends(1).says(&["no feed has one"]);
    house.larder("advisory check --shelf nowhere").ends(1).says(&["there is no shelf"]);
    house.larder("advisory check --cluster nobody").ends(2);
    house.larder("advisory check --least nonsense").ends(2);
    let sarif = house.larder("advisory check --write sarif").ends(0).out;
    let sarif: serde_json::Value = serde_json::from_str(&sarif).unwrap();
    assert_eq!(sarif["runs"][0]["results"].as_array().unwrap().len(), 3);
    let vex = house.larder("advisory check --write vex").ends(0).out;
    let vex: serde_json::Value = serde_json::from_str(&vex).unwrap();
    assert_eq!(vex["vulnerabilities"].as_array().unwrap().len(), 3);
}

#[test]
fn who_runs_it_is_told_with_how_it_is_known() {
    let house = house();
    let cluster = "[[cluster]]\nname = \"turbine-hall\"\nnamespaces = [\"scada\"]\nplatforms = [\"linux/amd64\"]\npull = [\"vendor/**\"]\n\n[[shelf]]\nname = \"vendor\"\n\n[[shelf]]\nname = \"own\"\n";
    house.configure(cluster);
    house.write("a.json", osv("EMBER-2026-0001", "npm", "pressurekit", "2.2.0", ""));
    house.larder("advisory import a.json").ends(0);
    let text = house.read("larder.toml").replace("access = \"open\"", "access = \"grants\"");
    house.write("larder.toml", text);
    let issued =
        house.larder("--json key issue --cluster turbine-hall --namespace scada").ends(0).json();
    let login = crate::access::basic("turbine-hall/scada", issued["secret"].as_str().unwrap());
    let serving = crate::serving::Serving::with(&house, "");
    let path = "/v2/vendor/steamgauge/manifests/1.8";
    let headers = [("authorization", login.as_str()), ("accept", "*/*")];
    let answer = crate::serving::ask(serving.host(), "GET", path, &headers, b"").unwrap();
    assert_eq!(answer.status, 200, "{}", answer.text());
    assert_eq!(serving.stop("TERM"), 0);
    let check = "advisory check --cluster turbine-hall";
    let report = house.larder(&format!("--json {check}")).ends(0).json();
    assert_eq!(names(&report), ["vendor/steamgauge:1.8"]);
    let user = &report["images"][0]["users"][0];
    assert_eq!((&user["who"], &user["how"]), (&"turbine-hall/scada".into(), &"pulled".into()));
    house
        .larder(check)
        .ends(0)
        .says(&["used by  turbine-hall/scada (pulled, just now): vendor/steamgauge:1.8"]);
    // Under another name it is the same image, and used by the one that was pulled.
    let copy = format!("copy {OWN}/vendor/steamgauge:1.8 {OWN}/own/gauge:1");
    house.larder(&copy).ends(0);
    house
        .larder("advisory check --by advisory")
        .ends(0)
        .says(&["own/gauge:1 and 1 other name", "(pulled, just now): vendor/steamgauge:1.8"]);
}

#[test]
fn feeds_are_renewed_withdrawn_and_dropped() {
    let house = house();
    let newer = |text: &str| text.replace("2026-10-01", "2026-10-02");
    let first = osv("EMBER-2026-0001", "npm", "pressurekit", "2.2.0", "");
    let second =
        osv("EMBER-2026-0002", "npm", "pressurekit", "3.0.0", r#""aliases":["CVE-2026-99999"],"#);
    house.write("feed.jsonl", format!("{first}\n\n{second}\n"));
    house.larder("advisory import feed.jsonl").ends(0).says(&["2 new, 0 changed, 0 the same"]);
    house.larder("advisory import feed.jsonl").ends(0).says(&["0 new, 0 changed, 2 the same"]);
    let touched = || {
        let report = house.larder("--json advisory check").ends(0).json();
        let images = report["images"].as_array().unwrap().clone();
        images.iter().map(|image| image["findings"].as_array().unwrap().len()).sum::<usize>()
    };
    assert_eq!(touched(), 7);
    // An older one takes nothing back; a newer one is judged anew; a withdrawn one goes.
    house.write("old.json", first.replace("2026-10-01", "2026-09-01").replace("2.2.0", "9.0.0"));
    house.larder("advisory import old.json --feed feed").ends(0).says(&["1 the same"]);
    assert_eq!(touched(), 7);
    house.write("new.json", newer(&first).replace("2.2.0", "2.0.0"));
    house.larder("advisory import new.json --feed feed").ends(0).says(&["1 changed"]);
    assert_eq!(touched(), 4);
    let gone =
        newer(&second).replace("\"summary\"", "\"withdrawn\":\"2026-10-02T00:00:00Z\",\"summary\"");
    house.write("gone.json", gone);
    house.larder("advisory import gone.json --feed feed").ends(0).says(&["1 withdrawn"]);
    assert_eq!(touched(), 0);
    house.larder("advisory show CVE-2026-99999").ends(1);
    // As a whole: what the files have no more goes, unless one of them could not be read.
    house.write("whole/a.json", &second);
    house.write("whole/b.json", "{");
    house
        .larder("advisory import whole --feed feed --whole")
        .ends(1)
        .says(&["refused", "nothing was taken away"]);
    house.larder("advisory show EMBER-2026-0001").ends(0);
    house.write("whole/b.json", "[]");
    house.larder("advisory import whole --feed feed --whole").ends(0).says(&["1 taken away"]);
    house.larder("advisory show EMBER-2026-0001").ends(1);
    house
        .larder("advisory show CVE-2026-99999")
        .ends(0)
        .says(&["EMBER-2026-0002", "from the first before 3.0.0"]);
    assert_eq!(touched(), 4);
    house.larder("advisory list").ends(0).says(&["EMBER-2026-0002"]);
    house.larder("advisory list --feeds").ends(0).says(&["feed", "whole"]);
    house.larder("advisory drop nothing").ends(1).says(&["there are feed"]);
    house.larder("advisory drop feed --dry-run").ends(0);
    assert_eq!(touched(), 4);
    house.larder("advisory drop feed --yes").ends(0);
    house.larder("advisory check").ends(1).says(&["no advisories were taken in yet"]);
}

#[test]
fn every_form_of_file_is_read_and_what_is_none_is_told() {
    let house = house();
    let one =
        |number: u32| osv(&format!("EMBER-2026-000{number}"), "npm", "pressurekit", "2.2.0", "");
    let mut zip = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, text) in [("a/1.json", one(1)), ("readme.txt", "no".into()), ("2.json", "[".into())]
    {
        zip.start_file(name, zip::write::SimpleFileOptions::default()).unwrap();
        std::io::Write::write_all(&mut zip, text.as_bytes()).unwrap();
    }
    house.write("feed.zip", zip.finish().unwrap().into_inner());
    house.larder("advisory import feed.zip").ends(1).says(&["1 new", "feed.zip!/2.json"]);
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut gz, format!("{}\n{}\n", one(2), one(3)).as_bytes()).unwrap();
    house.write("lines.jsonl.gz", gz.finish().unwrap());
    house.larder("advisory import lines.jsonl.gz").ends(0).says(&["2 new"]);
    house.write("array.json", format!("[{},\n{}]", one(4), one(5)));
    house.larder("advisory import array.json").ends(0).says(&["2 new"]);
    house.write("pretty.json", one(6).replace(",\"", ",\n  \""));
    house.larder("advisory import pretty.json").ends(0).says(&["1 new"]);
    let csaf = r#"{"document":{"title":"made up","publisher":{"name":"Ventworks"},"tracking":{"id":"VENT-1","current_release_date":"2026-10-01T00:00:00Z"}},
      "product_tree":{"full_product_names":[{"name":"p","product_id":"P","product_identification_helper":{"purl":"pkg:npm/pressurekit@2.1.0"}}]},
      "vulnerabilities":[{"cve":"CVE-2026-99998","product_status":{"known_affected":["P"]}}]}"#;
    house.write("csaf.json", csaf);
    house.larder("advisory import csaf.json").ends(0).says(&["1 new"]);
    let report = house.larder("--json advisory check").ends(0).json();
    assert_eq!(report["images"][0]["findings"].as_array().unwrap().len(), 7);
    house.write("odd.json", osv("E-1", "Emberfall:12", "x", "1", ""));
    house.larder("advisory import odd.json").ends(0).says(&["ecosystems that are not known"]);
    house
        .larder("advisory import odd.json --dry-run --feed never")
        .ends(0)
        .says(&["would take in"]);
    assert!(!house.larder("advisory list --feeds").ends(0).out.contains("never"));
    house.write("hostile.json", osv("E\u{1b}[31m", "npm", "x", "1", ""));
    let told = house.larder("advisory import hostile.json").ends(1);
    assert!(!told.out.contains('\u{1b}'), "{}", told.out);
    house.larder("advisory import nowhere.json").ends(2);
    house.larder("advisory import array.json nowhere.json --feed half").ends(2);
    let feeds = house.larder("advisory list --feeds").ends(0).out;
    // What was taken in before it broke off can be seen, and dropped.
    let has = |name: &str| feeds.lines().any(|line| line.starts_with(name));
    assert!(has("half ") && !has("nowhere "), "{feeds}");
    house.larder("advisory import pretty.json --feed A/B").ends(2).says(&["no name of a feed"]);
    house.larder("advisory import").ends(2);
}

#[test]
fn a_broken_line_is_told_by_its_number_and_takes_no_other_with_it() {
    let house = house();
    let one =
        |number: u32| osv(&format!("EMBER-2026-000{number}"), "npm", "pressurekit", "2.2.0", "");
    let lines = [
        "\u{feff}".to_owned() + &one(1),
        "no json".to_owned(),
        one(2),
        one(3)[..80].to_owned(),
        one(4),
        "[5]".to_owned(),
        one(6).replace("2026-10-01T", "yesterday"),
        one(7),
    ];
    house.write("lines.jsonl", lines.join("\n"));
    house.larder("advisory import lines.jsonl").ends(1).says(&[
        "4 new",
        "lines.jsonl, line 2: it is no JSON object",
        "lines.jsonl, line 4: EOF",
        "lines.jsonl, line 6[0]: it is no JSON object",
        "lines.jsonl, line 7: `yesterday00:00:00Z` is no time",
    ]);
    let shown = house.larder("advisory show EMBER-2026-0007").ends(0);
    shown.says(&["3 images have what it is about", "vendor/flow:1  pressurekit 2.1.0", "--only"]);
    let shown = house.larder("--json advisory show EMBER-2026-0007").ends(0).json();
    assert_eq!((&shown["image_count"], &shown["not_read"]), (&3.into(), &0.into()));
}

#[test]
fn a_statement_hides_only_where_its_author_counts() {
    let house = house();
    house.write("a.json", osv("EMBER-2026-0001", "npm", "pressurekit", "2.2.0", &severe(CRITICAL)));
    house.larder("advisory import a.json").ends(0);
    let vex = r#"{"@context":"https://openvex.dev/ns/v0.2.0","author":"Ventworks","timestamp":"2026-10-03T00:00:00Z","version":1,"statements":[
      {"vulnerability":{"name":"EMBER-2026-0001"},"products":[{"@id":"pkg:npm/pressurekit@2.1.0"}],"status":"not_affected","justification":"vulnerable_code_not_present"}]}"#;
    house.write("vex.json", vex);
    house.larder("advisory import vex.json").ends(0).says(&["hide nothing"]);
    house
        .larder("advisory check --fail-on high")
        .ends(1)
        .says(&["not hidden", "Ventworks calls not affected"]);
    house.larder("advisory import vex.json --feed ours --own").ends(0).says(&["they count"]);
    house
        .larder("advisory check --fail-on high")
        .ends(0)
        .says(&["3 hidden", "vulnerable code not present"]);
    // Another statement of the same feed stands beside it.
    house.write("other.json", vex.replace("EMBER-2026-0001", "EMBER-2026-0009"));
    house.larder("advisory import other.json --feed ours").ends(0);
    house.larder("advisory check --fail-on high").ends(0).says(&["3 hidden"]);
    // A later word of one's own takes it back.
    let later = vex.replace("10-03", "10-04").replace("not_affected", "affected");
    house.write("later.json", later);
    house.larder("advisory import later.json --feed ours").ends(0);
    house.larder("advisory check --fail-on high").ends(1);
    house.larder("advisory show EMBER-2026-0001").ends(0).says(&["not affected", "feed vex"]);
}

#[test]
fn what_cannot_be_compared_and_what_was_not_read_is_never_taken_for_nothing() {
    let house = house();
    house.write("a.json", osv("EMBER-2026-0001", "npm", "pressurekit", "not-a-version", ""));
    house.larder("advisory import a.json").ends(0);
    house.larder("advisory check").ends(0).says(&["4 that cannot be compared"]);
    let report = house.larder("--json advisory check").ends(0).json();
    assert_eq!(report["images"][0]["unknown"].as_array().unwrap().len(), 1);
    // One of which something cannot be read, although its layers were.
    let broken = small("odd").for_platforms(&["linux/amd64"]).with_file(
        "own 0",
        "var/lib/rpm/rpmdb.sqlite",
        "SQLite format 3\0and no more",
    );
    house.hold(&house.bazaar, "library/odd", "1", &image(&broken));
    house.larder(&format!("copy bazaar.example/library/odd:1 {OWN}/vendor/odd:1")).ends(0);
    house.larder("inventory --fill").ends(0);
    let report = house.larder("--json advisory check").ends(0).json();
    assert_eq!(report["not_read"], serde_json::json!(["vendor/odd:1"]));
    let one = house.larder(&format!("--json advisory check {OWN}/vendor/odd:1")).ends(0).json();
    assert_eq!(one["images"][0]["not_read"], 1);
    // One whose layers nobody has read.
    house.hold(&house.bazaar, "library/kettle", "9", &image(&small("kettle nine")));
    house.larder(&format!("copy bazaar.example/library/kettle:9 {OWN}/vendor/kettle:9")).ends(0);
    house.larder("advisory check").ends(0).says(&["not read whole", "vendor/kettle:9", "--fill"]);
    house.larder("advisory check --fail-on unknown").ends(1);
    house.larder("advisory check --fail-on low").ends(0);
    house.larder("advisory list").ends(0).says(&["touches what was read", "not read whole: 3"]);
    let shown = house.larder("advisory show EMBER-2026-0001").ends(0);
    shown.says(&["no image that was read has", "not read whole: 3"]);
    house.larder("inventory --fill").ends(0);
    assert!(!house.larder("advisory check").ends(0).out.contains("vendor/kettle:9"));
}

#[test]
fn newer_tags_of_the_upstream_are_read_where_somebody_asks() {
    let house = house();
    for (tag, layer, version) in [
        ("1.10", "vendor-3", "2.2.1"),
        ("1.11", "vendor-4", "2.1.9"),
        ("1.12", "vendor-5", "2.3.0"),
    ] {
        let plan = gauge(&format!("steamgauge {tag}"), layer, version);
        house.hold(&house.ventworks, "gauges/steamgauge", tag, &image(&plan));
    }
    house.configure("[[shelf]]\nname = \"vendor\"\n\n[[intake]]\nimage = \"ventworks.example/gauges/steamgauge\"\ntags = { exact = [\"1.8\", \"1.10\"] }\nto = \"vendor/steamgauge\"\n");
    house.larder("intake lock").ends(0);
    let text = osv("EMBER-2026-0001", "npm", "pressurekit", "2.2.0", &severe(CRITICAL));
    house.write("a.json", &text);
    house.larder("advisory import a.json").ends(0);
    let of = |line: &str| {
        let report = house.larder(line).ends(0).json();
        let images = report["images"].as_array().unwrap().clone();
        let gauge =
            images.into_iter().find(|one| one["names"][0].to_string().contains("steamgauge"));
        gauge.unwrap()["findings"][0]["mended_upstream"].clone()
    };
    assert_eq!(of("--json advisory check"), serde_json::json!([]), "nobody asked");
    let expected = serde_json::json!([
        { "image": "ventworks.example/gauges/steamgauge:1.12", "locked": false },
        { "image": "ventworks.example/gauges/steamgauge:1.10", "locked": true },
    ]);
    assert_eq!(of("--json advisory check --upstream"), expected);
    assert_eq!(
        of(&format!("--json advisory check {OWN}/vendor/steamgauge:1.8 --upstream")),
        expected
    );
    let theirs = "--json advisory check ventworks.example/gauges/steamgauge:1.11 --upstream";
    assert_eq!(of(theirs)[0]["image"], "ventworks.example/gauges/steamgauge:1.12");
    // An upstream that does not answer is told, and the rest stands.
    let text = house.read("larder.toml").replace(&house.ventworks.endpoint(), "http://127.0.0.1:9");
    house.write("larder.toml", text);
    let away = house.larder("advisory check --upstream").ends(0);
    away.says(&[
        "EMBER-2026-0001",
        "note: cannot list the tags of ventworks.example/gauges/steamgauge",
    ]);
}
