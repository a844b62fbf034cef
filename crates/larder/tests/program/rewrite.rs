//! `larder rewrite`.

use std::os::unix::fs::PermissionsExt as _;

use snapbox::{assert_data_eq, str};

use crate::house::{House, run};

#[test]
fn only_the_references_change() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let run = house.larder("rewrite deploy/wellhead-historian.yaml").ends(0);
    assert_data_eq!(
        run.out,
        str![[r#"
--- a/deploy/wellhead-historian.yaml
+++ b/deploy/wellhead-historian.yaml
@@ -14,11 +14,11 @@
     spec:
       initContainers:
       - name: wait-for-steam
-        image: kettle:2            # the short name that everybody uses
+        image: larder.emberfall.example:5080/vendor/kettle:2            # the short name that everybody uses
       containers:
       - name: database
-        image: "bazaar.example/library/brinedb:5.2"   # do not move to 5.3 before the audit
+        image: "larder.emberfall.example:5080/vendor/brinedb:5.2"   # do not move to 5.3 before the audit
         env:
         - {name: RETENTION, value: "400d"}
       - name: logs
-        image: bazaar.example/library/ashlog:1.4
+        image: larder.emberfall.example:5080/vendor/ashlog:1.4

"#]]
    );
    assert_eq!(run.err, "3 references would change in 1 of 1 file\n`--write` changes the files.\n");
}

#[test]
fn files_are_written_once_and_then_left_alone() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let path = house.path("deploy/steam-board.yaml");
    let crlf = house.read("deploy/steam-board.yaml").replace('\n', "\r\n");
    house.write("deploy/steam-board.yaml", &crlf);
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).unwrap();
    house.larder("rewrite --check deploy/steam-board.yaml").ends(1).says(&["deploy/steam-board.yaml:15:18: ventworks.example/gauges/steamgauge:1.9.2 -> larder.emberfall.example:5080/vendor/steamgauge:1.9.2"]);
    assert_eq!(house.read("deploy/steam-board.yaml"), crlf);
    house
        .larder("rewrite --write deploy/steam-board.yaml")
        .ends(0)
        .says(&["3 references changed in 1 of 1 file"]);
    let expected = crlf
        .replace("ventworks.example/gauges/", "larder.emberfall.example:5080/vendor/")
        .replace("bazaar.example/library/", "larder.emberfall.example:5080/vendor/");
    assert_eq!(house.read("deploy/steam-board.yaml"), expected);
    assert_eq!(std::fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o640);
    house.larder("rewrite --write deploy/steam-board.yaml").ends(0).says(&["nothing to change"]);
    house.larder("rewrite --check deploy/steam-board.yaml").ends(0);
    // Pinning what is rewritten already adds the digest and nothing else.
    house
        .larder("rewrite --write --pin deploy/steam-board.yaml")
        .ends(0)
        .says(&["3 references changed"]);
    let pinned = house.read("deploy/steam-board.yaml");
    let digest = larder_standin::image(&crate::house::small("steamgauge")).digest().to_string();
    assert!(
        pinned.contains(&format!(
            "larder.emberfall.example:5080/vendor/steamgauge:1.9.2@{digest}\r\n"
        )),
        "{pinned}"
    );
    house.larder("rewrite --check --pin deploy/steam-board.yaml").ends(0);
}

#[test]
fn what_has_no_route_is_reported_and_left() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let before = house.read("deploy/leak-watch.yaml");
    let told = house.larder("rewrite --write deploy").ends(1).says(&[
        "left: deploy/leak-watch.yaml:7:12: bazaar.example/community/pipewatch:0.9: no route",
        "left: deploy/leak-watch.yaml:9:12: http://bazaar.example/library/ashlog:1.4: it starts with `http://`",
        "meant: bazaar.example/library/ashlog:1.4",
        "6 references changed in 2 of 3 files; 2 left as they are",
    ]);
    drop(told);
    assert_eq!(house.read("deploy/leak-watch.yaml"), before);
    house.write("other.yaml", "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: bazaar.example/library/kettle:9}]}\n");
    house.larder("rewrite other.yaml").ends(1).says(&["the lock has other tags of it: 2"]);
    let json = house.larder("rewrite --json deploy").ends(1).json();
    assert_eq!(json["changed"], 0);
    assert_eq!(json["references"].as_array().unwrap().len(), 2);
}

#[test]
fn one_broken_file_does_not_stop_the_others_and_templates_are_left() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house
        .write("deploy/a-broken.yaml", "apiVersion: v1\nkind: Pod\nspec: {containers: [image: {\n");
    let template = "kind: Pod\n{{- if .x }}\nimage: {{ .image }}\n{{ end }}\n";
    house.write("deploy/b-template.yaml", template);
    let map = "apiVersion: v1\nkind: ConfigMap\ndata:\n  pod: |\n    containers:\n    - image: kettle:2\n";
    house.write("deploy/c-map.yaml", map);
    house.larder("rewrite --write deploy").ends(1).says(&[
        "broken: deploy/a-broken.yaml: line 3",
        "b-template.yaml is a template and is left alone",
        "6 references changed",
    ]);
    assert_eq!(house.read("deploy/b-template.yaml"), template);
    assert_eq!(house.read("deploy/c-map.yaml"), map);
}

#[test]
fn it_is_a_filter_too() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let pod = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}]} # no line break at the end";
    let run_ = house.larder_reads("rewrite -", pod).ends(0);
    assert_eq!(run_.out, pod.replace("kettle:2", "larder.emberfall.example:5080/vendor/kettle:2"));
    assert_eq!(run_.err, "");
    let other = pod.replace("kettle", "other");
    assert_eq!(house.larder_reads("rewrite -", &other).ends(1).out, other);
    house.larder_reads("rewrite -", "image: [").ends(1).says(&["nothing was written"]);
    house.larder_reads("rewrite - deploy", "").ends(2).says(&["`-` goes alone"]);
}

#[test]
fn a_closed_pipe_is_a_quiet_end() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let program = env!("CARGO_BIN_EXE_larder");
    let mut shell = std::process::Command::new("sh");
    shell
        .args([
            "-c",
            &format!("{program} rewrite deploy | true; {program} survey deploy | head -1"),
        ])
        .current_dir(house.path(""));
    run(&mut shell).ends(0).says(&["STANDING"]);
}

#[test]
fn a_file_that_is_named_in_several_ways_is_one_file() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let old = house.read("deploy/steam-board.yaml");
    std::os::unix::fs::symlink("steam-board.yaml", house.path("deploy/board.yaml")).unwrap();
    let paths = "deploy/steam-board.yaml ./deploy/steam-board.yaml deploy/board.yaml deploy";
    house.larder(&format!("survey {paths}")).ends(1).says(&["in 8 places of 3 files"]);
    house
        .larder(&format!("rewrite --write {paths}"))
        .ends(1)
        .says(&["6 references changed in 2 of 3 files"]);
    let new = house.read("deploy/steam-board.yaml");
    assert_ne!(new, old);
    assert!(house.path("deploy/board.yaml").is_symlink(), "a link stays one");
    let left = std::fs::read_dir(house.path("deploy")).unwrap().count();
    assert_eq!(left, 4, "nothing is left beside them");
    house
        .larder(&format!("rewrite --write --back {paths}"))
        .ends(1)
        .says(&["6 references changed in 2 of 3 files"]);
    assert_eq!(house.read("deploy/steam-board.yaml"), old);
}

#[test]
fn what_lies_beside_a_file_is_never_touched() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let path = "deploy/steam-board.yaml";
    let (old, partial) = (house.read(path), house.path("deploy/steam-board.yaml.partial"));
    house.for_each_link_at(&partial, || {
        house.write(path, &old);
        house.larder(&format!("rewrite --write {path}")).ends(0);
        assert_ne!(house.read(path), old);
    });
    std::fs::write(&partial, "notes of the operator").unwrap();
    house.write(path, &old);
    house.larder(&format!("rewrite --write {path}")).ends(0);
    assert_eq!(std::fs::read_to_string(&partial).unwrap(), "notes of the operator");
    let left = std::fs::read_dir(house.path("deploy")).unwrap().count();
    assert_eq!(left, 4, "nothing of ours is left beside it");
}

#[test]
fn files_that_nobody_may_write_and_names_of_one_file_are_asked_for() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let path = "deploy/steam-board.yaml";
    let old = house.read(path);
    let mode = |mode| {
        let permissions = std::fs::Permissions::from_mode(mode);
        std::fs::set_permissions(house.path(path), permissions).unwrap();
    };
    mode(0o444);
    house
        .larder(&format!("rewrite --write {path}"))
        .ends(1)
        .says(&["nobody may write it", "--force"]);
    assert_eq!(house.read(path), old);
    house.larder(&format!("rewrite --write --force {path}")).ends(0);
    assert_ne!(house.read(path), old);
    mode(0o644);
    house.write(path, &old);
    std::fs::hard_link(house.path(path), house.path("other.yaml")).unwrap();
    house.larder(&format!("rewrite --write {path}")).ends(1).says(&["it has 2 names"]);
    assert_eq!(house.read(path), old);
    house.larder(&format!("rewrite --write --force {path}")).ends(0);
    assert_ne!(house.read(path), old);
    assert_eq!(house.read("other.yaml"), old);
    house.larder(&format!("rewrite --force {path}")).ends(2);
}
