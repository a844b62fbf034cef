//! Charts: from plain chart repositories and from registries, with the images that they name.

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_standin::{BOILER, ChartRepository, FaultKind, chart_image, packed_chart};
use serde_json::Value;

use crate::house::House;
use crate::serving::Serving;

fn boiler() -> Bytes {
    packed_chart("boiler", BOILER).unwrap()
}

/// A boiler of another version.
fn boiler_of(version: &str) -> Bytes {
    let description = BOILER[0].1.replace("version: 1.2.0", &format!("version: {version}"));
    let files: Vec<(&str, &str)> = [("Chart.yaml", description.as_str())]
        .into_iter()
        .chain(BOILER[1..].iter().copied())
        .collect();
    packed_chart("boiler", &files).unwrap()
}

/// A chart repository, and a house that knows it.
fn repository(house: &House, login: Option<&str>, more: &str) -> ChartRepository {
    let charts = house.runtime.block_on(ChartRepository::start(login)).unwrap();
    house.configure("[[shelf]]\nname = \"vendor\"\n");
    let more = format!("form = \"chart-index\"\n{more}");
    house.add_upstream("charts.example", &charts.endpoint(), &more);
    charts
}

#[test]
fn a_chart_of_an_index_comes_in_with_the_images_that_it_names() {
    let house = House::new();
    let charts = repository(&house, None, "");
    charts.publish("boiler", &[("1.2.0", boiler()), ("1.1.0", boiler_of("1.1.0"))]);
    let dry =
        house.larder("intake add charts.example/boiler:1.2.0 --with-images --dry-run").ends(0);
    dry.says(&["would be wanted: charts.example/boiler:1.2.0, to vendor/boiler"]);
    let added = house
        .larder("intake add charts.example/boiler:1.2.0 --to vendor/charts/boiler --with-images --platform linux/amd64")
        .ends(0);
    added.says(&[
        "wanted: charts.example/boiler:1.2.0, to vendor/charts/boiler",
        "wanted: bazaar.example/library/kettle:2, to vendor/kettle",
        "wanted: bazaar.example/library/brinedb:5.2, to vendor/brinedb",
        "wanted: bazaar.example/library/ashlog:1.4, to vendor/ashlog",
        "not told: templates/room.yaml:14: {{ .Values.probe.registry }}/gauges/",
        "it is put together when the chart is run",
        "larder survey --missing -",
    ]);
    house.larder("intake lock").ends(0).says(&["charts.example/boiler"]);
    // The lock is all that another process knows.
    house.larder("intake run").ends(0);
    house.larder("intake run").ends(0);
    house.larder("intake status").ends(0);
    let shown = house.larder("shelf show vendor/charts/boiler --json").ends(0).json();
    assert!(shown.to_string().contains("1.2.0"), "{shown}");
    house.larder("shelf show vendor/kettle:2").ends(0);
    // It is served as the artifact that a registry would have.
    let serving = Serving::start(&house);
    let manifest = serving.ask("GET", "/v2/vendor/charts/boiler/manifests/1.2.0");
    assert_eq!(manifest.status, 200);
    let json: Value = serde_json::from_slice(&manifest.body).unwrap();
    assert!(json["config"]["mediaType"].as_str().unwrap().ends_with(".config.v1+json"), "{json}");
    let layer = &json["layers"][0];
    assert!(layer["mediaType"].as_str().unwrap().ends_with(".v1.tar+gzip"), "{json}");
    let digest = Digest::of(&boiler()).to_string();
    assert_eq!(layer["digest"], digest.as_str());
    let blob = serving.ask("GET", &format!("/v2/vendor/charts/boiler/blobs/{digest}"));
    assert_eq!(blob.body, boiler());
    let config = json["config"]["digest"].as_str().unwrap();
    let config = serving.ask("GET", &format!("/v2/vendor/charts/boiler/blobs/{config}"));
    let config: Value = serde_json::from_slice(&config.body).unwrap();
    assert_eq!((&config["name"], &config["version"]), (&"boiler".into(), &"1.2.0".into()));
    house.larder("store verify").ends(0);
}

#[test]
fn an_index_is_asked_as_a_registry_is() {
    let house = House::new();
    let charts = repository(&house, None, "");
    let versions: Vec<(String, Bytes)> = ["1.10.0", "1.9.0", "1.2.0+hot"]
        .map(|version| (version.to_owned(), boiler_of(version)))
        .into();
    let versions: Vec<(&str, Bytes)> =
        versions.iter().map(|(version, bytes)| (version.as_str(), bytes.clone())).collect();
    charts.publish("boiler", &versions);
    house.larder("check").ends(0).says(&["charts.example", "answers"]);
    house.larder("look --tags charts.example/boiler").ends(0).says(&[
        "1.10.0",
        "1.9.0",
        "1.2.0_hot",
    ]);
    let shown = house.larder("look charts.example/boiler:1.9.0").ends(0);
    assert!(!shown.out.contains("PLATFORM") && !shown.out.contains("root"), "{}", shown.out);
    shown.says(&["sha256:", "a chart", "version    1.9.0", "installs   2", "in 1 layer"]);
    let json = house.larder("look charts.example/boiler:1.9.0 --json").ends(0).json();
    let one = &json["platforms"][0];
    assert_eq!(
        (&one["chart"]["name"], &one["platform"]),
        (&"boiler".into(), &Value::Null),
        "{one}"
    );
    assert!(one["artifact_type"].as_str().unwrap().ends_with(".config.v1+json"), "{one}");
    house.larder("find boiler").ends(0).says(&["charts.example/boiler"]);
    house.larder("copy charts.example/boiler:1.10.0 ./layout").ends(0);
    house.larder("copy ./layout archive.tar").ends(0);
    // By a rule: the newest two.
    let text = house.read("larder.toml")
        + "\n[[intake]]\nimage = \"charts.example/boiler\"\ntags = { semver = \">=1.3\", newest = 2 }\nto = \"vendor/boiler\"\n";
    house.write("larder.toml", text);
    house.larder("intake lock").ends(0).says(&["1.10.0", "1.9.0"]);
    house.larder("intake run").ends(0);
    house.larder("intake status").ends(0);
    // It takes nothing.
    let pushed = house.larder("copy ./layout charts.example/boiler:2.0.0").ends(3);
    pushed.says(&["charts.example"]);
    // What is not there.
    house.larder("look charts.example/boiler:9.9.9").ends(3).says(&["9.9.9"]);
    house.larder("look charts.example/pump:1.0.0").ends(3);
}

#[test]
fn a_chart_in_a_registry_is_an_image_like_any_other() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"vendor\"\n");
    house.hold(&house.bazaar, "charts/boiler", "1.2.0", &chart_image(boiler()));
    let added = house.larder("intake add bazaar.example/charts/boiler:1.2.0 --with-images --json");
    let json = added.ends(0).json();
    assert_eq!(json["images"].as_array().unwrap().len(), 4, "{json}");
    let named = &json["charts"][0]["images"];
    assert_eq!(named[0], "bazaar.example/library/ashlog:1.4", "{json}");
    assert_eq!(json["charts"][0]["unsure"][0]["file"], "templates/room.yaml");
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0);
    house.larder("shelf show vendor/boiler:1.2.0").ends(0);
    // A chart below it that is not in it is told.
    let wants = format!("{}dependencies:\n- name: pump\n  version: 2.x\n", BOILER[0].1);
    let alone = packed_chart("boiler", &[("Chart.yaml", &wants)]).unwrap();
    house.hold(&house.bazaar, "charts/alone", "1.2.0", &chart_image(alone));
    house
        .larder("intake add bazaar.example/charts/alone:1.2.0 --with-images --dry-run")
        .ends(0)
        .says(&["not told: Chart.yaml: pump: this chart is wanted below it and is not in it"]);
    // What helpers say is told where nothing decides it; arguments are told apart.
    let values = "image: {repository: bazaar.example/library/kettle, tag: \"2\"}\nextraArgs: [--pump-image=bazaar.example/library/pump:5]\n";
    let helpers = "{{- define \"boiler.image\" -}}\n{{- $tag := .Values.image.tag | default .Chart.AppVersion -}}\n{{- printf \"%s-fine:%s\" .Values.image.repository $tag -}}\n{{- end -}}\n";
    let room = "containers:\n- image: {{ include \"boiler.image\" . | quote }}\n  args:\n  - --helper-image={{ .Values.image.repository }}-helper:{{ .Values.image.tag }}\n  - --at=bazaar.example/library/gauge:7\n{{ if .Values.x }}\n{{ end }}\n";
    let files = [
        BOILER[0],
        ("values.yaml", values),
        ("templates/_h.tpl", helpers),
        ("templates/x.yaml", room),
    ];
    let helped = packed_chart("boiler", &files).unwrap();
    house.hold(&house.bazaar, "charts/helped", "1.2.0", &chart_image(helped));
    let told =
        house.larder("intake add bazaar.example/charts/helped:1.2.0 --with-images --dry-run");
    told.ends(0).says(&[
        "wanted already: bazaar.example/library/kettle:2,",
        "would be wanted: bazaar.example/library/kettle-fine:2,",
        "would be wanted: bazaar.example/library/kettle-helper:2,",
        "not told: values.yaml:2: bazaar.example/library/pump:5: it may be an image",
        "not told: templates/x.yaml:5: bazaar.example/library/gauge:7: it may be an image",
    ]);
    // What names this larder already needs no want.
    let own =
        [BOILER[0], ("values.yaml", "image: larder.emberfall.example:5080/vendor/kettle:2\n")];
    let own = chart_image(packed_chart("boiler", &own).unwrap());
    house.hold(&house.bazaar, "charts/own", "1.2.0", &own);
    let told = house.larder("intake add bazaar.example/charts/own:1.2.0 --with-images --dry-run");
    told.ends(0).says(&["from here already: larder.emberfall.example:5080/vendor/kettle:2"]);
    let plus = house.larder("look bazaar.example/charts/own:1.2.0+hot").ends(2);
    plus.says(&["write bazaar.example/charts/own:1.2.0_hot", "its tag has `_`"]);
    // They come to lie on the chart's shelf.
    let beside = "intake add bazaar.example/charts/helped:1.2.0 --with-images --to apps/charts/x";
    house.write("larder.toml", house.read("larder.toml") + "\n[[shelf]]\nname = \"apps\"\n");
    house.larder(beside).ends(0).says(&["library/kettle-fine:2, to apps/kettle-fine"]);
    // An image names no others, and nothing is written.
    let before = house.read("larder.toml");
    let wrong = house.larder("intake add ventworks.example/gauges/steamgauge:1.9.2 --with-images");
    wrong.ends(2).says(&["it is no chart", "--with-images"]);
    assert_eq!(house.read("larder.toml"), before);
    house.larder("intake add bazaar.example/** --all --with-images").ends(2);
}

#[test]
fn a_chart_repository_that_wants_a_login_gets_it_and_nobody_else() {
    let house = House::new();
    let charts =
        repository(&house, Some("boilers:made-up"), "credentials = { file = \"charts.login\" }");
    charts.publish("boiler", &[("1.2.0", boiler())]);
    house.write("charts.login", "boilers:wrong\n");
    house.larder("look charts.example/boiler:1.2.0").ends(3).says(&["charts.example"]);
    house.write("charts.login", "boilers:made-up\n");
    house.larder("look charts.example/boiler:1.2.0").ends(0);
    // Archives elsewhere: not unless that is allowed.
    let other = house.runtime.block_on(ChartRepository::start(None)).unwrap();
    other.put("boiler.tgz", boiler_of("1.3.0"));
    let index = |more: &str| {
        format!(
            "entries:\n  boiler:\n  - version: 1.3.0\n    urls: [\"{}/boiler.tgz\"]\n{more}",
            other.endpoint()
        )
    };
    charts.put("index.yaml", index(""));
    let elsewhere = house.larder("look charts.example/boiler:1.3.0").ends(3);
    elsewhere.says(&["where it is not fetched", "`foreign = true`"]);
    let text = house
        .read("larder.toml")
        .replace("form = \"chart-index\"", "form = \"chart-index\"\nforeign = true");
    house.write("larder.toml", text);
    house.larder("look charts.example/boiler:1.3.0").ends(0);
    // Into files of this machine never.
    charts.put(
        "index.yaml",
        "entries:\n  boiler:\n  - version: 1.3.0\n    urls: [\"file:///etc/passwd\"]\n",
    );
    house.larder("look charts.example/boiler:1.3.0").ends(3).says(&["where it is not fetched"]);
}

#[test]
fn what_a_chart_repository_gets_wrong_is_told() {
    let house = House::new();
    let charts = repository(&house, None, "");
    charts.publish("boiler", &[("1.2.0", boiler())]);
    house.larder("intake add charts.example/boiler:1.2.0").ends(0);
    house.larder("intake lock").ends(0);
    // The same version is another chart by now.
    charts.publish("boiler", &[("1.2.0", packed_chart("boiler", &BOILER[..2]).unwrap())]);
    let moved = house.larder("intake run");
    assert_ne!(moved.exit, 0, "{}{}", moved.out, moved.err);
    house.larder("intake diff").ends(1).says(&["charts.example/boiler:1.2.0"]);
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0);
    // It is not what the index says.
    charts.publish("boiler", &[("1.2.0", boiler())]);
    charts.put("boiler-1.2.0.tgz", boiler_of("1.2.0+x"));
    house.larder("look charts.example/boiler:1.2.0").ends(4).says(&["that has the digest sha256:"]);
    // Nor is this, by what the archive itself says, and nothing can be what is no digest.
    charts.publish("boiler", &[("1.2.0", boiler_of("1.2.1"))]);
    house.larder("look charts.example/boiler:1.2.0").ends(4).says(&[
        "charts.example has the chart boiler 1.2.0",
        "by its archive it is boiler 1.2.1",
        "tell whoever keeps that chart repository",
    ]);
    charts.publish("pump", &[("1.2.0", boiler())]);
    house.larder("copy charts.example/pump:1.2.0 ./pump").ends(4).says(&["it is boiler 1.2.0"]);
    let odd = "entries: {boiler: [{version: 1.2.0, digest: soon, urls: [boiler-1.2.0.tgz]}]}";
    charts.put("index.yaml", odd);
    house.larder("look charts.example/boiler:1.2.0").ends(4).says(&["`soon`, which is no digest"]);
    // It lies elsewhere.
    charts.put("index.yaml", "entries: {boiler: [{version: 1.2.0, urls: ['file:///x.tgz']}]}");
    let listed = house.larder("look --tags charts.example/boiler").ends(0);
    listed.says(&["cannot be told", "1.2.0: charts.example has the chart boiler 1.2.0 at file:"]);
    let elsewhere = house.larder("look charts.example/boiler:1.2.0").ends(3);
    elsewhere.says(&["at file:///x.tgz, where it is not fetched", "`foreign = true`"]);
    // It is no chart.
    charts.publish("boiler", &[("1.2.0", Bytes::from_static(b"<html>"))]);
    house.larder("look charts.example/boiler:1.2.0").ends(4).says(&["no packed archive"]);
    charts.publish("boiler", &[("1.2.0", packed_chart("boiler", &BOILER[1..]).unwrap())]);
    house.larder("look charts.example/boiler:1.2.0").ends(4).says(&["no `Chart.yaml`"]);
    // There is no index.
    charts.put("index.yaml", "<html>");
    house.larder("look charts.example/boiler:1.2.0").ends(3).says(&["its index of charts"]);
    house.larder("check").ends(3).says(&["charts.example", "its index of charts"]);
    charts.faults.add(None, "/", 9, FaultKind::Status(404, None));
    house.larder("check").ends(3);
    charts.faults.clear();
    // It is not cached.
    let cached = "\n[[shelf]]\nname = \"hub\"\ncaches = \"charts.example\"\n";
    house.write("larder.toml", house.read("larder.toml") + cached);
    house.larder("check --offline").ends(2).says(&["an index of charts, which is not cached"]);
    let text = house.read("larder.toml").replace("chart-index", "charts");
    house.write("larder.toml", text);
    house.larder("check --offline").ends(2).says(&["form", "chart-index"]);
}
