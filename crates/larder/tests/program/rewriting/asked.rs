//! What is asked of survey and rewrite beside the files themselves: streams, what counts, what is passed over.

use serde_json::json;

use super::yard::{OWN, Yard};

fn pod(namespace: &str, image: &str) -> String {
    format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{name: p, namespace: {namespace}}}\nspec:\n  containers:\n  - image: {image}\n"
    )
}

#[test]
fn streams_are_read_as_files_are() {
    let yard = Yard::new();
    let text = pod("scada", "kettle:2");
    yard.reads("survey -", &text)
        .ends(0)
        .says(&["stdin:6  Pod scada/p", "1 image in 1 place of 1 file"]);
    yard.reads("survey -", &pod("scada", "unrouted.example/x:1")).ends(1).says(&["uncovered"]);
    yard.reads("survey -", "image: [").ends(1).says(&["stdin cannot be read"]);
    yard.reads("rewrite --check -", &text)
        .ends(1)
        .says(&["stdin:6:12: kettle:2 -> larder.example:5080/hub/library/kettle:2"]);
    let right = text.replace("kettle", &format!("{OWN}/hub/library/kettle"));
    yard.reads("rewrite --check -", &right).ends(0);
    let sarif = yard.reads("rewrite --check --format sarif -", &text).ends(1).json();
    let place = &sarif["runs"][0]["results"][0]["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "stdin");
    assert_eq!(place["region"]["startLine"], 6);
    // One document and nothing else.
    let json = yard.reads("--json rewrite -", &text).ends(0).json();
    assert_eq!(json["text"], right);
    assert_eq!(json["changed"], 1);
    assert_eq!(json["references"][0]["to"], format!("{OWN}/hub/library/kettle:2"));
    yard.reads("rewrite --write -", &text).ends(2).says(&["`-` goes alone"]);
    let wide: String = text.chars().flat_map(|c| [c, '\0']).collect();
    yard.reads("rewrite -", &wide).ends(1).says(&["UTF-16"]);
}

#[test]
fn what_counts_is_said_by_the_one_who_asks() {
    let yard = Yard::new();
    yard.write("d/a.yaml", pod("scada", "kettle"));
    yard.write("d/b.yaml", pod("rigs", "bazaar.example/library/ashlog:1"));
    yard.write("d/c.yaml", "settings:\n  image: ubuntu:22.04\n");
    yard.larder("survey d").ends(0).says(&["cached?", "it may be no image", "1 perhaps"]);
    for (faults, exit) in [
        ("floating", 1),
        ("ambiguous", 1),
        ("unpinned", 1),
        ("uncovered", 0),
        ("malformed,missing,not-locked,platform,absent", 0),
        ("uncovered,floating", 1),
    ] {
        yard.larder(&format!("survey d --fail-on {faults}")).ends(exit);
    }
    yard.larder("survey d/b.yaml --fail-on floating,ambiguous").ends(0);
    yard.larder("survey d --fail-on nonsense").ends(2);
    yard.write("d/broken.yaml", "apiVersion: v1\nkind: Pod\nimage: [\n");
    yard.larder("survey d --fail-on uncovered").ends(1).says(&["broken.yaml cannot be read"]);
}

#[test]
fn images_are_put_together_by_namespace_and_told_in_fields() {
    let yard = Yard::new();
    yard.write("d/a.yaml", pod("scada", "bazaar.example/library/kettle:2"));
    yard.write("d/b.yaml", pod("rigs", "bazaar.example/library/Kettle:2"));
    yard.write("d/c.yaml", "services: {a: {image: kettle}}\n");
    let run = yard.larder("survey d --by namespace").ends(1);
    for word in ["NAMESPACE", "scada", "rigs", "(none)"] {
        assert!(run.out.contains(word), "{word}: {}", run.out);
    }
    let all = yard.larder("--json survey d").ends(1).json();
    let row = |name: &str| {
        let rows = all["references"].as_array().unwrap();
        rows.iter().find(|row| row["reference"].as_str().unwrap().contains(name)).unwrap().clone()
    };
    let kettle = row("bazaar.example/library/kettle");
    assert_eq!(
        (&kettle["host"], &kettle["repository"], &kettle["tag"], &kettle["digest"]),
        (&json!("bazaar.example"), &json!("library/kettle"), &json!("2"), &json!(null))
    );
    let wrong = row("Kettle");
    assert_eq!(
        (&wrong["fault"], &wrong["proposal"]),
        (&json!("upper-case"), &json!("bazaar.example/library/kettle:2"))
    );
    let short = row("docker.io/library/kettle");
    assert_eq!((&short["ambiguous"], &short["floating"]), (&json!(true), &json!(true)));
}

#[test]
fn what_is_passed_over_is_told() {
    let yard = Yard::new();
    yard.write("d/.cache/pod.yaml", pod("scada", "unrouted.example/x:1"));
    yard.write(
        "d/.github/workflows/w.yml",
        "jobs:\n  a:\n    runs-on: x\n    container: unrouted.example/y:1\n    steps: [{run: x}]\n",
    );
    yard.write(
        "d/.forge/workflows/w.yml",
        "jobs: {a: {runs-on: x, container: unrouted.example/z:1}}\n",
    );
    yard.write("d/values.yaml", "a: {image: cirros}\nb: {image: glance}\n");
    yard.write("d/images.txt", "kettle:2\nnot an image line\nbrinedb\n");
    yard.write("d/tsconfig.json", "{ // a comment\n \"a\": 1 }\n");
    let run = yard.larder("survey d").ends(1).says(&[
        "passed over: 2 times a word alone where an image could stand",
        "passed over: d/images.txt:2 (not an image line): a line of a list that is no reference",
        "passed over: d/.cache: a hidden file or folder; `--hidden` reads them",
        "`--explain` lists them",
        "unrouted.example/y:1",
        "unrouted.example/z:1",
        "docker.io/library/brinedb",
    ]);
    assert!(!run.out.contains("unrouted.example/x:1"));
    yard.larder("survey d --explain")
        .ends(1)
        .says(&["  d/values.yaml:1 (cirros)", "  d/values.yaml:2 (glance)"]);
    yard.larder("survey d --hidden")
        .ends(1)
        .says(&["unrouted.example/x:1", "unrouted.example/y:1"]);
    yard.larder("rewrite d --hidden").ends(1).says(&["unrouted.example/x:1: no route"]);
    let json = yard.larder("--json survey d").json();
    let passed = json["passed_over"].as_array().unwrap();
    assert!(
        passed.contains(
            &json!({"why": "word", "file": "d/values.yaml", "line": 2, "text": "glance"})
        ),
        "{passed:?}"
    );
}

#[test]
fn nothing_is_said_to_be_in_order_that_is_not() {
    let yard = Yard::new();
    yard.write("d/a.yaml", pod("scada", "bazaar.example/"));
    yard.write("d/c/Chart.yaml", "name: c\n");
    yard.write(
        "d/c/templates/t.yaml",
        "{{ if .x }}\nspec:\n  containers:\n  - image: unrouted.example/x:1\n{{ end }}\n",
    );
    let run = yard.larder("survey --missing d").ends(1).says(&["1 image cannot be read"]);
    assert_eq!(run.out, "unrouted.example/x:1\n");
    assert!(!run.err.contains("nothing is missing"));
    // Settings of another program are one thing to both.
    yard.write("e/site.yaml", "heroImage: cdn.example/hero\n");
    yard.larder("survey e").ends(0).says(&["uncovered?"]);
    yard.larder("rewrite --check e").ends(0);
    yard.write("f/site.yaml", "settings:\n  image: unknown.example/library/kettle:2\n");
    yard.larder("survey f").ends(1).says(&["uncovered"]);
    yard.larder("rewrite --check f").ends(1).says(&["no route"]);
}

#[test]
fn templates_of_a_run_are_told_once() {
    let yard = Yard::new();
    for number in 0..40 {
        yard.write(&format!("d/{number}.yaml.j2"), "image: {{ x }}\n");
        yard.write(&format!("d/other{number}.j2"), "nothing here\n");
    }
    let run = yard.larder("rewrite d").ends(0).says(&["40 files are templates and are left alone"]);
    assert_eq!(run.err.matches("template").count(), 1, "{}", run.err);
    let run = yard.larder("survey d").ends(0).says(&["40 files are templates"]);
    assert_eq!(run.err.matches("template").count(), 1, "{}", run.err);
}

#[test]
fn texts_of_other_encodings_and_too_many_images_are_told() {
    let yard = Yard::new();
    let text = pod("scada", "kettle:2");
    let two: Vec<u8> = text.encode_utf16().flat_map(u16::to_le_bytes).collect();
    let four: Vec<u8> = text.chars().flat_map(|c| u32::from(c).to_le_bytes()).collect();
    let marked = [&[0xff, 0xfe, 0, 0][..], &four].concat();
    yard.write("d/two.yaml", two);
    yard.write("d/four.yaml", &four);
    yard.write("d/marked.yaml", marked);
    yard.write("d/Dockerfile", "FROM kettle:1\n".repeat(10_002));
    yard.write("d/Dockerfile-1.2", "FROM bazaar.example/library/kettle:1\n");
    yard.larder("survey d").ends(1).says(&[
        "two.yaml cannot be read: it is written in UTF-16",
        "four.yaml cannot be read: it is written in UTF-32",
        "marked.yaml cannot be read: it is written in UTF-32",
        "Dockerfile cannot be read: line 1, column 1: it names more than 10000 images",
        "d/Dockerfile-1.2:1",
    ]);
}

#[test]
fn a_long_list_takes_as_long_as_it_is() {
    let yard = Yard::new();
    let line = |n: usize| format!("bazaar.example/library/kettle-{n}:1\n");
    yard.write("images.txt", (0..60_000).map(line).collect::<String>());
    yard.larder("rewrite --write images.txt").ends(0).says(&["60000 references changed"]);
    assert!(yard.read("images.txt").ends_with("/bazaar/library/kettle-59999:1\n"));
}

#[test]
fn an_overlay_that_is_about_nothing_is_told_and_mended_with_its_base() {
    let yard = Yard::new();
    yard.write("base/d.yaml", pod("scada", "kettle:1"));
    let overlay = "resources: [../base/d.yaml]\nimages:\n- name: kettle\n  newTag: \"3\"\n";
    yard.write("over/kustomization.yaml", overlay);
    yard.larder("rewrite --write base").ends(0);
    // Its base was changed alone.
    yard.larder("survey over").ends(0).says(&["nothing that it is about has this name any more"]);
    yard.larder("rewrite --write base over")
        .ends(0)
        .says(&["it was about nothing, and is about its image again"]);
    assert_eq!(
        yard.read("over/kustomization.yaml"),
        overlay.replace("name: kettle", &format!("name: {OWN}/hub/library/kettle"))
    );
    yard.larder("rewrite --check base over").ends(0);
    let run = yard.larder("survey over").ends(0);
    assert!(!run.out.contains("nothing that it is about"), "{}", run.out);
    // One that never was about anything is told, and its image stays as it is written.
    yard.write("dead/d.yaml", pod("scada", "docker.io/library/kettle:1"));
    yard.write(
        "dead/kustomization.yaml",
        "resources: [d.yaml]\nimages:\n- name: kettle\n  newTag: \"3\"\n",
    );
    yard.larder("rewrite --write dead").ends(1).says(&["means the same; write both alike"]);
    assert!(yard.read("dead/d.yaml").contains("docker.io/library/kettle:1"));
}

#[test]
fn what_belongs_together_stays_as_it_is_when_a_part_of_it_cannot_change() {
    use std::os::unix::fs::PermissionsExt as _;
    let yard = Yard::new();
    let base = pod("scada", "kettle:1");
    let overlay = "resources: [d.yaml]\nimages:\n- name: kettle\n  newTag: \"3\"\n";
    let read_only = |name: &str| {
        std::fs::set_permissions(yard.path(name), std::fs::Permissions::from_mode(0o444)).unwrap();
    };
    // An overlay that may not be written keeps its base.
    yard.write("a/d.yaml", &base);
    yard.write("a/kustomization.yaml", overlay);
    read_only("a/kustomization.yaml");
    yard.larder("rewrite --write a")
        .ends(1)
        .says(&["an overlay that is about it cannot be changed"]);
    assert_eq!(
        (yard.read("a/d.yaml"), yard.read("a/kustomization.yaml").as_str()),
        (base.clone(), overlay)
    );
    // A base that may not be written keeps its name in the overlay.
    yard.write("b/d.yaml", &base);
    yard.write("b/kustomization.yaml", overlay);
    read_only("b/d.yaml");
    yard.larder("rewrite --write b").ends(1).says(&["nobody may write it"]);
    assert_eq!(
        yard.read("b/kustomization.yaml"),
        overlay.replace("kettle\n", &format!("kettle\n  newName: {OWN}/hub/library/kettle\n"))
    );
    // Nor does an entry change that is written in a way that is left alone.
    yard.write("c/d.yaml", &base);
    let odd = overlay.replace("name: kettle", "name: \"ket\\\n    tle\"");
    yard.write("c/kustomization.yaml", &odd);
    yard.larder("rewrite --write c").ends(1);
    assert_eq!((yard.read("c/d.yaml"), yard.read("c/kustomization.yaml")), (base, odd));
    // A chart below one whose registry is written once for both.
    let top = "global: {imageRegistry: bazaar.example}\nimage: {repository: library/kettle, tag: \"1\"}\n";
    yard.write("e/Chart.yaml", "name: e\n");
    yard.write("e/values.yaml", top);
    yard.write("e/charts/s/Chart.yaml", "name: s\n");
    yard.write("e/charts/s/values.yaml", "image: {repository: library/ashlog, tag: \"2\"}\n");
    read_only("e/charts/s/values.yaml");
    yard.larder("rewrite --write e").ends(1).says(&["charts below this one take its registry too"]);
    assert_eq!(yard.read("e/values.yaml"), top);
}

#[test]
fn what_a_file_upon_another_builds_keeps_its_name() {
    let yard = Yard::new();
    let base = "services:\n  a: {image: \"acme/a:1\"}\n  b: {image: \"kettle:2\"}\n  c: {image: \"acme/a:1\"}\n";
    yard.write("c/compose.yaml", base);
    yard.write("c/compose.override.yaml", "services:\n  a: {build: .}\n");
    yard.larder("rewrite --write c").ends(0).says(&["1 reference changed in 1 of 2 files"]);
    assert_eq!(
        yard.read("c/compose.yaml"),
        base.replace("kettle:2", &format!("{OWN}/hub/library/kettle:2"))
    );
}

#[test]
fn a_registry_for_all_is_left_where_charts_take_it_that_are_not_here() {
    let yard = Yard::new();
    yard.write(
        "c/Chart.yaml",
        "name: c\ndependencies: [{name: far, version: 1.0.0, repository: \"https://x.example\"}]\n",
    );
    let values = "global: {imageRegistry: bazaar.example}\nimage: {repository: library/kettle, tag: \"1\"}\n";
    yard.write("c/values.yaml", values);
    yard.larder("rewrite --write c").ends(1).says(&["charts below this one take its registry too"]);
    assert_eq!(yard.read("c/values.yaml"), values);
    // With the chart below it in the run, both change; alone, neither.
    yard.write("c/charts/far/Chart.yaml", "name: far\n");
    let below = "image: {repository: library/ashlog, tag: \"2\"}\n";
    yard.write("c/charts/far/values.yaml", below);
    yard.larder("rewrite --write c/charts")
        .ends(1)
        .says(&["a chart above this one writes its registry"]);
    yard.larder("rewrite --write c/values.yaml").ends(1).says(&["charts below this one"]);
    assert_eq!(
        (yard.read("c/values.yaml").as_str(), yard.read("c/charts/far/values.yaml").as_str()),
        (values, below)
    );
    yard.larder("rewrite --write c").ends(0).says(&["2 references changed in 2 of"]);
    assert_eq!(yard.read("c/charts/far/values.yaml"), below.replace("library/", "bazaar/library/"));
    assert!(yard.read("c/values.yaml").contains(&format!("imageRegistry: {OWN}")));
}

#[test]
fn what_the_larder_does_not_govern_is_told_apart_from_what_it_allows() {
    let yard = Yard::new();
    let config = yard.read("larder.toml");
    let more = "[[cluster]]\nname = \"hall\"\nnamespaces = [\"shop\"]\npull = [\"**\"]\n";
    yard.write("larder.toml", format!("{config}{more}"));
    yard.write("d/a.yaml", pod("shop", "bazaar.example/library/kettle:2"));
    yard.write("d/b.yaml", pod("shop", "localhost:5000/dev/scratchpad:1"));
    yard.write("d/c.yaml", pod("nowhere", "bazaar.example/library/kettle:2"));
    let all = yard.larder("--json policy check d").json();
    let verdict = |place: &str| {
        let rows = all["images"].as_array().unwrap();
        let row =
            rows.iter().find(|row| row["place"].as_str().unwrap().starts_with(place)).unwrap();
        (row["verdict"].as_str().unwrap().to_owned(), row["reason"].to_string())
    };
    assert_eq!(verdict("d/a.yaml").0, "allow", "{all:#}");
    assert_eq!(verdict("d/b.yaml").0, "not-ours", "{all:#}");
    assert!(
        verdict("d/c.yaml").1.contains("the namespace nowhere of hall is not declared"),
        "{all:#}"
    );
    yard.larder("policy check d/b.yaml").ends(0).says(&["not ours"]);
}

#[test]
fn a_pod_that_goes_back_loses_the_secret_of_its_cluster_and_no_other_does() {
    let yard = Yard::new();
    let config = yard.read("larder.toml");
    let more = "[[cluster]]\nname = \"hall\"\nnamespaces = [\"shop\"]\npull = [\"**\"]\n";
    yard.write("larder.toml", format!("{config}{more}"));
    let with = |image: &str, secret: &str| {
        pod("shop", image).replace(
            "  containers:",
            &format!("  imagePullSecrets:\n  - name: {secret}\n  containers:"),
        )
    };
    let there = "bazaar.example/library/kettle:2";
    let here = format!("{OWN}/bazaar/library/kettle:2");
    yard.write("d/a.yaml", with(&here, "larder-pull"));
    yard.write("d/b.yaml", with(there, "larder-pull"));
    yard.write("d/c.yaml", with(&here, "own-pull"));
    yard.larder("rewrite --write --back d")
        .ends(0)
        .says(&["2 references and 1 pull secret changed"]);
    assert_eq!(yard.read("d/a.yaml"), pod("shop", there));
    assert_eq!(yard.read("d/b.yaml"), with(there, "larder-pull"));
    assert_eq!(yard.read("d/c.yaml"), with(there, "own-pull"));
}
