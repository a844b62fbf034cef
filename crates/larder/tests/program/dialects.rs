//! `larder survey` and `larder rewrite` over files of every kind.

use std::fs;
use std::os::unix::fs::symlink;

use crate::house::{House, OWN};

/// A house in which every image of the sample has a route.
fn house() -> House {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.write(
        "more/compose.yaml",
        "services:\n  board:\n    image: ${REGISTRY:-ventworks.example}/gauges/steamgauge:1.9.2  # the board\n  made:\n    build: .\n    image: made/here:1\n",
    );
    house.write(
        "more/Dockerfile",
        "ARG TAG=2\nFROM bazaar.example/library/kettle:${TAG} AS boil\nFROM boil\n",
    );
    house.write("more/chart/Chart.yaml", "name: board\nappVersion: \"1.9.2\"\n");
    house.write(
        "more/chart/values.yaml",
        "image:\n  registry: ventworks.example   # theirs\n  repository: gauges/steamgauge\n  tag: \"\"\n",
    );
    house.write(
        "more/chart/templates/board.yaml",
        "spec:\n  containers:\n  - image: {{ .Values.image.repository }}\n  - image: kettle:2\n",
    );
    house.write("more/task.json", "{\"containerDefinitions\": [{\"image\": \"kettle:2\"}]}\n");
    house.write("more/jobs.yml", "boil:\n  image: kettle:2\n  script: [make]\n");
    house.write("more/images.txt", "kettle:2\n");
    house
}

#[test]
fn every_kind_of_file_is_found_and_changed_where_it_names_the_image() {
    let house = house();
    let json = house.larder("survey more --json").ends(0).json();
    let places: Vec<(String, String)> = json["references"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|row| row["places"].as_array().unwrap())
        .map(|place| {
            let text = |key: &str| place[key].as_str().unwrap().to_owned();
            (text("file"), text("dialect"))
        })
        .collect();
    for (file, dialect) in [
        ("more/compose.yaml", "compose"),
        ("more/Dockerfile", "buildfile"),
        ("more/chart/values.yaml", "values"),
        ("more/chart/templates/board.yaml", "template"),
        ("more/task.json", "tasks"),
        ("more/jobs.yml", "pipeline"),
        ("more/images.txt", "list"),
    ] {
        assert!(places.contains(&(file.into(), dialect.into())), "{file}: {places:?}");
    }
    let files =
        ["compose.yaml", "Dockerfile", "chart/values.yaml", "task.json", "jobs.yml", "images.txt"];
    let before: Vec<String> =
        files.iter().map(|name| house.read(&format!("more/{name}"))).collect();
    // What a template names literally keeps its old name, which counts.
    house.larder("rewrite --write more").ends(1).says(&[
        "6 references changed in 6 of 8 files; 2 left",
        "more/chart/templates/board.yaml is a template and is left alone",
    ]);
    for (name, old, new) in [
        (
            "compose.yaml",
            ":-ventworks.example}/gauges/",
            ":-larder.emberfall.example:5080}/vendor/",
        ),
        ("Dockerfile", "bazaar.example/library/", "larder.emberfall.example:5080/vendor/"),
        (
            "chart/values.yaml",
            "ventworks.example   # theirs\n  repository: gauges/",
            "larder.emberfall.example:5080   # theirs\n  repository: vendor/",
        ),
        ("task.json", "kettle", "larder.emberfall.example:5080/vendor/kettle"),
        ("jobs.yml", "kettle", "larder.emberfall.example:5080/vendor/kettle"),
        ("images.txt", "kettle", "larder.emberfall.example:5080/vendor/kettle"),
    ] {
        let at = files.iter().position(|known| *known == name).unwrap();
        assert_eq!(house.read(&format!("more/{name}")), before[at].replace(old, new), "{name}");
    }
    house.larder("rewrite --check more").ends(1).says(&["nothing to change in 8 files"]);
    // And back: short names come back written out, everything else as it was.
    house
        .larder("rewrite --write --back more")
        .ends(0)
        .says(&["6 references changed in 6 of 8 files"]);
    for (name, before) in files.iter().zip(&before) {
        let full = match *name {
            "task.json" | "jobs.yml" | "images.txt" => {
                before.replace("kettle", "bazaar.example/library/kettle")
            }
            _ => before.clone(),
        };
        assert_eq!(house.read(&format!("more/{name}")), full, "{name}");
    }
}

#[test]
fn overlays_follow_the_names_of_their_bases() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let overlay = "resources: [../deploy]\nimages:\n- name: ventworks.example/gauges/steamgauge\n  newTag: 1.9.2\n";
    house.write("overlay/kustomization.yaml", overlay);
    // Alone, its base stays as it is.
    house
        .larder("rewrite overlay")
        .ends(0)
        .says(&[&format!("+  newName: {OWN}/vendor/steamgauge")]);
    // Together, the base is named otherwise.
    house.larder("rewrite --write deploy/steam-board.yaml overlay").ends(0);
    let name = format!("name: {OWN}/vendor/steamgauge\n");
    assert_eq!(
        house.read("overlay/kustomization.yaml"),
        overlay.replace("name: ventworks.example/gauges/steamgauge\n", &name)
    );
    house.larder("rewrite --check deploy/steam-board.yaml overlay").ends(0);
    house.larder("rewrite --write --back deploy/steam-board.yaml overlay").ends(0);
    assert_eq!(house.read("overlay/kustomization.yaml"), overlay);
}

#[test]
fn options_choose_what_becomes_of_references() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let pod = |image: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: p}}\nspec:\n  containers:\n  - image: {image}\n"
        )
    };
    let out = |options: &str, text: &str, exit: i32| {
        let line = format!("rewrite {options} -");
        let run = house.larder_reads(&line, text).ends(exit);
        run.out
    };
    let kettle = pod("bazaar.example/library/kettle:2");
    assert_eq!(out("--only ventworks.example/**", &kettle, 0), kettle);
    assert_eq!(out("--skip bazaar.example/library/*", &kettle, 0), kettle);
    assert_eq!(out("--to far.example", &kettle, 0), pod("far.example/vendor/kettle:2"));
    let wrong = pod("https://bazaar.example/library/Kettle:2");
    assert_eq!(out("", &wrong, 1), wrong);
    assert_eq!(out("--fix", &wrong, 0), pod(&format!("{OWN}/vendor/kettle:2")));
    let pinned = out("--pin", &kettle, 0);
    assert!(pinned.contains("/vendor/kettle:2@sha256:"), "{pinned}");
    assert_eq!(out("--unpin", &pinned, 0), pod(&format!("{OWN}/vendor/kettle:2")));
    // What was put in is taken out again, pins too, unless they are wanted.
    assert_eq!(out("--back", &pinned, 0), kettle);
    let back = out("--back --pin", &pinned, 0);
    assert!(back.contains("image: bazaar.example/library/kettle:2@sha256:"), "{back}");
    let secret = out("--secret larder-pull", &kettle, 0);
    assert_eq!(
        secret,
        pod(&format!("{OWN}/vendor/kettle:2"))
            .replace("  containers:", "  imagePullSecrets:\n  - name: larder-pull\n  containers:")
    );
    assert_eq!(out("--secret larder-pull", &secret, 0), secret);
    assert_eq!(out("--back --secret larder-pull", &secret, 0), kettle);
    assert_eq!(
        out("--back --secret other", &secret, 0),
        secret.replace(&format!("{OWN}/vendor"), "bazaar.example/library")
    );
    let texts = kettle.clone() + "    args: [\"--side-image=bazaar.example/library/ashlog:1.4\"]\n";
    assert!(out("", &texts, 0).contains("--side-image=bazaar.example/library/ashlog:1.4"));
    assert!(
        out("--include-strings", &texts, 0)
            .contains(&format!("--side-image={OWN}/vendor/ashlog:1.4"))
    );
    house
        .larder_reads("rewrite --secret Wrong_Name -", &kettle)
        .ends(2)
        .says(&["can name no secret"]);
    house.larder("rewrite --pin --unpin deploy").ends(2);
    house.larder("rewrite --online deploy").ends(2);
    house.larder("rewrite --format sarif deploy").ends(2);
}

#[test]
fn what_cannot_be_pinned_leads_to_the_larder_and_says_so() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let values = "image:\n  repository: bazaar.example/library/kettle\n  tag: \"2\"\n";
    house.write("values.yaml", values);
    let new = values.replace("bazaar.example/library/", &format!("{OWN}/vendor/"));
    house
        .larder("rewrite --pin --write values.yaml")
        .ends(1)
        .says(&["there is no `digest` beside it that could pin it", "1 reference changed"]);
    assert_eq!(house.read("values.yaml"), new);
    house.larder("rewrite --pin --write values.yaml").ends(1).says(&["nothing to change"]);
    house.larder("rewrite --check values.yaml").ends(0);
}

#[test]
fn what_was_put_in_is_taken_out_again_byte_for_byte() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let full = |name: &str| {
        let text =
            house.read(name).replace("image: kettle:2", "image: bazaar.example/library/kettle:2");
        house.write(name, &text);
        text
    };
    let files = ["deploy/steam-board.yaml", "deploy/wellhead-historian.yaml"];
    let before: Vec<String> = files.iter().map(|name| full(name)).collect();
    let run = house.larder("rewrite --write --pin --secret larder-pull deploy").ends(1);
    run.says(&["6 references and 3 pull secrets changed in 2 of 3 files"]);
    for (name, before) in files.iter().zip(&before) {
        assert_ne!(house.read(name), *before);
    }
    let run = house.larder("rewrite --write --back --secret larder-pull deploy").ends(1);
    run.says(&["6 references and 3 pull secrets changed"]);
    for (name, before) in files.iter().zip(&before) {
        assert_eq!(house.read(name), *before, "{name}");
    }
}

#[test]
fn a_registry_that_cannot_be_asked_is_no_answer() {
    let house = House::new();
    house.configure("[[upstream]]\nname = \"gone\"\nhost = \"gone.example\"\nendpoint = \"http://127.0.0.1:9\"\n[[shelf]]\nname = \"gone\"\ncaches = \"gone\"\n");
    house.write(
        "one.yaml",
        "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: gone.example/x:1}]}\n",
    );
    house.larder("survey --online one.yaml").ends(3).says(&["1 unavailable"]);
}

#[test]
fn digests_are_asked_for_where_the_lock_has_none() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"bazaar\"\ncaches = \"bazaar\"\n");
    let pod = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}, {image: bazaar.example/library/nothing:1}]}\n";
    house.write("pod.yaml", pod);
    house
        .larder("rewrite --pin pod.yaml")
        .ends(1)
        .says(&["cannot be pinned: the lock does not name"]);
    let run = house.larder("rewrite --pin --online pod.yaml").ends(1);
    let digest = larder_standin::image(&crate::house::small("kettle")).digest().to_string();
    let run = run.says(&[
        &format!("bazaar/library/kettle:2@{digest}"),
        "cannot tell the digest of bazaar.example/library/nothing:1",
    ]);
    drop(run);
}

#[test]
fn routes_and_kinds_of_the_operator_go_before_all_others() {
    let house = House::new();
    let rest = r#"
[[shelf]]
name = "bazaar"
caches = "bazaar"

[[route]]
match = "bazaar.example/community/**"
to = "vetted/**"

[[route]]
match = "bazaar.example/library/ashlog"
leave = true
because = "it is built here"

[[resource]]
group = "emberfall.example"
kind = "Turbine"
images = ["spec.tools[].image"]
"#;
    house.configure(rest);
    house.write(
        "t.yaml",
        "apiVersion: emberfall.example/v1\nkind: Turbine\nspec:\n  tools:\n  - image: bazaar.example/community/pipewatch:0.9\n  - image: bazaar.example/library/ashlog:1.4\n  - image: kettle\n",
    );
    house
        .larder("rewrite --write t.yaml")
        .ends(0)
        .says(&["[[route]] leaves it alone: it is built here"]);
    assert_eq!(
        house.read("t.yaml"),
        format!(
            "apiVersion: emberfall.example/v1\nkind: Turbine\nspec:\n  tools:\n  - image: {OWN}/vetted/pipewatch:0.9\n  - image: bazaar.example/library/ashlog:1.4\n  - image: {OWN}/bazaar/library/kettle\n"
        )
    );
    for (bad, words) in [
        ("[[route]]\nmatch = \"kettle\"\nleave = true\n", "it names no registry"),
        ("[[route]]\nmatch = \"a.example/x\"\n", "says where to"),
        (
            "[[route]]\nmatch = \"a.example/x\"\nto = \"v/x\"\nleave = true\n",
            "either leads somewhere",
        ),
        ("[[route]]\nmatch = \"a.example/x/**\"\nto = \"v/x\"\n", "both end with"),
        ("[[route]]\nmatch = \"a.example/*/x\"\nto = \"v/x\"\n", "at the end only"),
        ("[[resource]]\nkind = \"X\"\nimages = [\"spec..image\"]\n", "is no path of keys"),
    ] {
        house.configure(bad);
        house.larder("rewrite t.yaml").ends(2).says(&[words, "larder.toml"]);
    }
}

#[test]
fn pipelines_and_code_hosts_get_their_own_form() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let run = house.larder("rewrite --check --format github deploy").ends(1).says(&[
        "::warning file=deploy/steam-board.yaml,line=15,col=18::ventworks.example/gauges/steamgauge:1.9.2 -> ",
        "::error file=deploy/leak-watch.yaml,line=7,col=12::bazaar.example/community/pipewatch:0.9: no route",
    ]);
    drop(run);
    let run = house.larder("rewrite --check --format sarif deploy").ends(1);
    let sarif = run.json();
    assert_eq!(sarif["version"], "2.1.0");
    let results = sarif["runs"][0]["results"].as_array().unwrap();
    assert_eq!(results.len(), 8);
    let first = &results[0]["locations"][0]["physicalLocation"];
    assert_eq!(first["artifactLocation"]["uri"], "deploy/leak-watch.yaml");
    assert_eq!(first["region"]["startLine"], 7);
}

#[test]
fn each_bad_file_has_its_answer_and_stops_no_other() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let pod = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}]}\n";
    let bad = |name: &str, bytes: &[u8]| house.write(&format!("bad/{name}"), bytes);
    bad("good.yaml", pod.as_bytes());
    bad("nul.yaml", b"image: a\0b\n");
    bad("bomb.yaml", format!("image: {}", "[".repeat(300_000)).as_bytes());
    bad("latin.yaml", b"image: caf\xe9\n");
    let utf16: Vec<u8> =
        [0xff, 0xfe].into_iter().chain(pod.encode_utf16().flat_map(u16::to_le_bytes)).collect();
    bad("wide.yaml", &utf16);
    let mut aliases = "a0: &a0 {image: kettle:2}\n".to_owned();
    for n in 1..40 {
        aliases.push_str(&format!("a{n}: &a{n} [*a{0}, *a{0}, *a{0}, *a{0}]\n", n - 1));
    }
    bad("aliases.yaml", aliases.as_bytes());
    bad(
        "twice.yaml",
        b"apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2, image: kettle:2}]}\n",
    );
    bad("tabs.yaml", b"apiVersion: v1\nkind: Pod\nspec:\n\tcontainers: [{image: kettle:2}]\n");
    symlink(house.path("bad"), house.path("bad/loop")).unwrap();
    fs::create_dir_all(house.path("outside")).unwrap();
    house.write("outside/real.yaml", pod);
    symlink(house.path("outside/real.yaml"), house.path("bad/link.yaml")).unwrap();
    let run = house.larder("survey bad").ends(1).says(&[
        "bad/nul.yaml cannot be read: line 1, column 1: there is a NUL byte in it",
        "bad/bomb.yaml cannot be read",
        "bad/latin.yaml cannot be read: it is no UTF-8 text (at byte 10)",
        "bad/wide.yaml cannot be read: it is written in UTF-16",
        "bad/tabs.yaml cannot be read: line 4",
        "the key `image` stands there twice",
        "bad/good.yaml:3",
    ]);
    assert!(!run.out.contains("link.yaml"), "links are not followed: {}", run.out);
    house.larder("rewrite --write bad").ends(1).says(&["3 references changed in 2 of 3 files"]);
    // A link that is named is followed within its tree, and not out of it.
    let work = house.path("bad");
    let mut command = house.command("--config ../larder.toml rewrite --write link.yaml");
    crate::house::run(command.current_dir(&work))
        .ends(1)
        .says(&["a link that leads out of its folder"]);
    assert_eq!(house.read("outside/real.yaml"), pod);
    house.larder("rewrite --write bad/link.yaml").ends(0);
    assert!(house.read("outside/real.yaml").contains(OWN));
}

#[test]
fn a_large_file_and_a_long_stream_are_read() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let filler = format!("# {}\n", "x".repeat(1000)).repeat(50_000);
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: {name: p}\nspec: {containers: [{name: c, image: kettle:2}]}\n";
    house.write("large.yaml", format!("{filler}{pod}"));
    house.larder("rewrite --check large.yaml").ends(1).says(&["large.yaml:50004:38"]);
    house.write("stream.yaml", format!("---\n{pod}").repeat(10_000));
    house.larder("rewrite --write stream.yaml").ends(0).says(&["10000 references changed"]);
    house.larder("rewrite --check stream.yaml").ends(0);
    house.write("huge.yaml", "x".repeat(64 * 1024 * 1024 + 1));
    house.larder("survey huge.yaml").ends(1).says(&["it is larger than 64"]);
}

#[test]
fn a_survey_says_what_is_missing_unused_and_different() {
    let house = House::new();
    house.bring_in();
    let run = house.larder("survey --missing deploy").ends(1);
    assert_eq!(run.out, "bazaar.example/community/pipewatch:0.9\n");
    let added = house.larder_reads("intake add --dry-run -", &run.out).ends(0);
    drop(added.says(&["pipewatch"]));
    house.larder("survey --unused deploy").ends(0).says(&["0 of 5 tags"]);
    fs::remove_file(house.path("deploy/steam-board.yaml")).unwrap();
    let unused = house.larder("survey --unused deploy").ends(1);
    assert_eq!(unused.out, "vendor/steamgauge:1.9.2\nvendor/valve-twin:3.1\n");
    let earlier = house.larder("survey deploy --json").ends(1).out;
    house.write("earlier.json", earlier);
    house.larder("survey deploy --against earlier.json").ends(0).says(&["name the same images"]);
    house.write(
        "deploy/new.yaml",
        "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:3}]}\n",
    );
    house.larder("survey deploy --against earlier.json").ends(1).says(&[
        "new",
        "bazaar.example/library/kettle:3",
        "+ deploy/new.yaml",
        "1 image differ",
    ]);
    house.larder("survey deploy --against deploy/new.yaml").ends(2).says(&["larder survey --json"]);
    house.larder("survey deploy --against nowhere").ends(2);
    for (by, words) in [
        ("upstream", &["UPSTREAM", "bazaar.example", "locked"][..]),
        ("class", &["CLASS", "(none)"][..]),
        ("cluster", &["CLUSTER", "(none)"][..]),
        ("file", &["FILE", "deploy/leak-watch.yaml"][..]),
    ] {
        let words: Vec<&str> = words.iter().copied().filter(|word| *word != "locked").collect();
        house.larder(&format!("survey --by {by} deploy")).ends(1).says(&words);
    }
}

#[test]
fn online_it_says_which_platforms_are_lacking() {
    let house = House::new();
    let cluster = "\n[[cluster]]\nname = \"field-lab\"\nnamespaces = [\"rigs\"]\nplatforms = [\"linux/arm64\"]\n";
    house.configure(&(crate::house::INTAKE.to_owned() + cluster));
    house.bring_in();
    let pod = |namespace: &str, image: &str, more: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: p, namespace: {namespace}}}\nspec: {{{more}containers: [{{image: {image}}}]}}\n"
        )
    };
    let twin = "ventworks.example/gauges/valve-twin:3.1";
    house.write("one.yaml", pod("rigs", twin, ""));
    house
        .larder("survey --online one.yaml")
        .ends(1)
        .says(&["not made for linux/arm64", "1 without a platform"]);
    house.write("one.yaml", pod("scada", twin, "nodeSelector: {kubernetes.io/arch: amd64}, "));
    house.larder("survey --online one.yaml").ends(0);
    let affinity = |values: &str| {
        let term = format!(
            "{{matchExpressions: [{{key: kubernetes.io/arch, operator: In, values: [{values}]}}]}}"
        );
        let node = format!(
            "requiredDuringSchedulingIgnoredDuringExecution: {{nodeSelectorTerms: [{term}]}}"
        );
        format!("affinity: {{nodeAffinity: {{{node}}}}}, ")
    };
    house.write("one.yaml", pod("scada", twin, &affinity("amd64")));
    house.larder("survey --online one.yaml").ends(0);
    house.write("one.yaml", pod("scada", twin, &affinity("arm64")));
    house.larder("survey --online one.yaml").ends(1).says(&["not made for linux/arm64"]);
    house.write("one.yaml", pod("rigs", "ventworks.example/gauges/steamgauge:1.9.2", ""));
    house.larder("survey --online one.yaml").ends(0);
    house.write("one.yaml", pod("rigs", "bazaar.example/library/nothing:1", ""));
    house.larder("survey --online one.yaml").ends(1).says(&["1 unavailable"]);
}
