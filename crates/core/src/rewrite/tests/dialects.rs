//! Each dialect: what is found, and what a change makes of it.

use super::*;

/// Where the tests' images go to.
const NEW: &str = "l.example/v/k:1";

/// A file, what is found in it with its role, and the file with every such image changed.
fn check(name: &str, text: &str, found: &[(&str, ImageRole)], new: &str) {
    let file = FileContext { name, app_version: Some("9.1"), ..FileContext::default() };
    let seen = scan(text, &file).unwrap_or_else(|error| panic!("{name}: {error}\n{text}"));
    let seen: Vec<(&str, ImageRole)> =
        seen.findings.iter().map(|one| (one.text.as_str(), one.role)).collect();
    assert_eq!(seen, found, "{name}\n{text}");
    let changed = replaced(text, &file, NEW).unwrap_or_else(|error| panic!("{error}\n{text}"));
    assert_eq!(changed, new, "{name}");
    assert_eq!(replaced(&changed, &file, NEW).unwrap(), changed, "a second run changes nothing");
}

#[test]
fn compose_files_keep_their_variables() {
    check(
        "compose.yaml",
        "services:\n  a:\n    image: kettle:2 # boils\n  b:\n    image: ${REG:-bazaar.example}/library/kettle:${TAG}\n  c:\n    build: .\n    image: made/here:1\n  d:\n    image: ${ALL:-bazaar.example/library/ashlog:1.4}\n  e: {image: $NOBODY/x}\n",
        &[
            ("kettle:2", ImageRole::Pulled),
            ("bazaar.example/library/kettle", ImageRole::Pulled),
            ("made/here:1", ImageRole::Built),
            ("bazaar.example/library/ashlog:1.4", ImageRole::Pulled),
            ("$NOBODY/x", ImageRole::Pulled),
        ],
        "services:\n  a:\n    image: l.example/v/k:1 # boils\n  b:\n    image: ${REG:-l.example}/v/k:${TAG}\n  c:\n    build: .\n    image: made/here:1\n  d:\n    image: ${ALL:-l.example/v/k:1}\n  e: {image: $NOBODY/x}\n",
    );
    // What several services share is changed once, where it is written.
    check(
        "compose.yaml",
        "x-base: &base\n  image: kettle:2\nservices:\n  a:\n    <<: *base\n  b:\n    <<: *base\n    environment: {SIDE_IMAGE: \"ashlog:1\"}\n",
        &[("kettle:2", ImageRole::Pulled), ("ashlog:1", ImageRole::Text)],
        "x-base: &base\n  image: l.example/v/k:1\nservices:\n  a:\n    <<: *base\n  b:\n    <<: *base\n    environment: {SIDE_IMAGE: \"l.example/v/k:1\"}\n",
    );
}

#[test]
fn builds_change_the_default_that_names_the_image() {
    check(
        "Dockerfile",
        "# syntax=bazaar.example/library/builder:1\nARG REG=bazaar.example\nARG TAG=2\nFROM ${REG}/library/kettle:$TAG AS boil\r\nFROM boil\nCOPY --from=bazaar.example/library/ashlog:1 /a /b\n",
        &[
            ("bazaar.example/library/builder:1", ImageRole::Pulled),
            ("bazaar.example/library/kettle:2", ImageRole::Pulled),
            ("bazaar.example/library/ashlog:1", ImageRole::Pulled),
        ],
        "# syntax=l.example/v/k:1\nARG REG=l.example\nARG TAG=2\nFROM ${REG}/v/k:$TAG AS boil\r\nFROM boil\nCOPY --from=l.example/v/k:1 /a /b\n",
    );
}

#[test]
fn values_of_charts_keep_tags_where_they_stand() {
    check(
        "values.yaml",
        "image:\n  registry: bazaar.example\n  repository: library/kettle\n  tag: 1.10\nsidecar:\n  image: {repository: bazaar.example/library/ashlog, tag: \"\"}\njob:\n  image: bazaar.example/library/brinedb\n  imageTag: \"16\"\nplain:\n  image: kettle:2\n  logo: a/b.png\nvm: {image: cirros}\n",
        &[
            ("bazaar.example/library/kettle:1.10", ImageRole::Likely),
            ("bazaar.example/library/ashlog:9.1", ImageRole::Likely),
            ("bazaar.example/library/brinedb:16", ImageRole::Likely),
            ("kettle:2", ImageRole::Likely),
        ],
        "image:\n  registry: l.example\n  repository: v/k\n  tag: 1.10\nsidecar:\n  image: {repository: l.example/v/k, tag: \"\"}\njob:\n  image: l.example/v/k\n  imageTag: \"16\"\nplain:\n  image: l.example/v/k:1\n  logo: a/b.png\nvm: {image: cirros}\n",
    );
    // Texts within them are told apart, and a list that an overlay could have makes them none.
    check(
        "values.yaml",
        "image: {repository: bazaar.example/library/kettle, tag: \"2\"}\nextraArgs: [\"--pump-image=ashlog:1\", --bazaar.example/x/y]\nenv:\n- {name: RELATED_IMAGE_A, value: ashlog:2}\n- {name: OTHER, value: a/b:1}\nhelper:\n  args: {pump-image: ashlog:3}\n  extraEnv: {PUMP: \"bazaar.example/library/pump:4\"}\nimages:\n- {name: a, newTag: b}\n",
        &[
            ("bazaar.example/library/kettle:2", ImageRole::Likely),
            ("ashlog:1", ImageRole::Text),
            ("ashlog:2", ImageRole::Text),
            ("ashlog:3", ImageRole::Text),
            ("bazaar.example/library/pump:4", ImageRole::Text),
        ],
        "image: {repository: l.example/v/k, tag: \"2\"}\nextraArgs: [\"--pump-image=l.example/v/k:1\", --bazaar.example/x/y]\nenv:\n- {name: RELATED_IMAGE_A, value: l.example/v/k:1}\n- {name: OTHER, value: a/b:1}\nhelper:\n  args: {pump-image: l.example/v/k:1}\n  extraEnv: {PUMP: \"l.example/v/k:1\"}\nimages:\n- {name: a, newTag: b}\n",
    );
    // One registry for all of them is written once.
    check(
        "values.yaml",
        "global: {imageRegistry: bazaar.example}\na: {image: {repository: library/kettle, tag: 2}}\nb: {image: {repository: library/kettle, tag: 2}}\n",
        &[
            ("bazaar.example/library/kettle:2", ImageRole::Likely),
            ("bazaar.example/library/kettle:2", ImageRole::Likely),
        ],
        "global: {imageRegistry: l.example}\na: {image: {repository: v/k, tag: 2}}\nb: {image: {repository: v/k, tag: 2}}\n",
    );
}

#[test]
fn a_registry_that_two_images_share_is_left_when_they_need_different_ones() {
    let text = "global: {imageRegistry: bazaar.example}\na: {image: {repository: library/kettle, tag: 2}}\nb: {image: {repository: library/ashlog, tag: 1}}\n";
    let file = FileContext { name: "values.yaml", ..FileContext::default() };
    let found = scan(text, &file).unwrap();
    let plan = found.plan(&[Some(read("l.example/v/kettle:2")), None]);
    assert!(plan.changes.is_empty());
    assert!(plan.refused[&0].contains("shares a part"), "{:?}", plan.refused);
    let plan =
        found.plan(&[Some(read("l.example/v/kettle:2")), Some(read("l.example/v/ashlog:1"))]);
    assert!(plan.refused.is_empty());
    assert_eq!(plan.changes.len(), 3);
}

#[test]
fn overlays_get_a_new_name_and_lose_it_again() {
    let before = "resources: [base]\nimages:\n- name: bazaar.example/library/kettle\n  newTag: \"2\"\n- {name: kettle, digest: \"\"}\n- name: x\n  newName: bazaar.example/library/ashlog\n";
    let after = "resources: [base]\nimages:\n- name: bazaar.example/library/kettle\n  newName: l.example/v/k\n  newTag: \"2\"\n- {name: kettle, newName: l.example/v/k, digest: \"\"}\n- name: x\n  newName: l.example/v/k\n";
    check(
        "kustomization.yaml",
        before,
        &[
            ("bazaar.example/library/kettle:2", ImageRole::Pulled),
            ("kettle", ImageRole::Pulled),
            ("bazaar.example/library/ashlog", ImageRole::Pulled),
        ],
        after,
    );
    let file = FileContext { name: "kustomization.yaml", ..FileContext::default() };
    let found = scan(after, &file).unwrap();
    let back = found.plan(&[Some(read("bazaar.example/library/kettle:2")), None, None]);
    let first = before.replace("name: kettle,", "name: kettle, newName: l.example/v/k,");
    let first = first.replace("newName: bazaar.example/library/ashlog", "newName: l.example/v/k");
    assert_eq!(found.splice(&back.changes).unwrap(), first);
}

#[test]
fn tasks_and_pipelines_and_lists_are_read() {
    check(
        "task.json",
        r#"{"family":"board","containerDefinitions":[{"name":"a","image":"bazaar.example\/library\/kettle:2"}]}"#,
        &[("bazaar.example/library/kettle:2", ImageRole::Pulled)],
        r#"{"family":"board","containerDefinitions":[{"name":"a","image":"l.example/v/k:1"}]}"#,
    );
    check(
        ".jobs.yml",
        "default: {image: kettle:2}\nboil:\n  image: {name: 'ashlog:1'}\n  services: [brinedb:16, {name: kettle:3}]\n  script: [\"echo image: no:1\"]\n",
        &[
            ("kettle:2", ImageRole::Pulled),
            ("ashlog:1", ImageRole::Pulled),
            ("brinedb:16", ImageRole::Pulled),
            ("kettle:3", ImageRole::Pulled),
        ],
        "default: {image: l.example/v/k:1}\nboil:\n  image: {name: 'l.example/v/k:1'}\n  services: [l.example/v/k:1, {name: l.example/v/k:1}]\n  script: [\"echo image: no:1\"]\n",
    );
    check(
        "build.yaml",
        "jobs:\n  boil:\n    runs-on: x\n    container: kettle:2\n    services:\n      db: {image: brinedb:16}\n    steps:\n    - uses: docker://bazaar.example/library/ashlog:1\n    - uses: other/action@v1\n",
        &[
            ("kettle:2", ImageRole::Pulled),
            ("brinedb:16", ImageRole::Pulled),
            ("bazaar.example/library/ashlog:1", ImageRole::Pulled),
        ],
        "jobs:\n  boil:\n    runs-on: x\n    container: l.example/v/k:1\n    services:\n      db: {image: l.example/v/k:1}\n    steps:\n    - uses: docker://l.example/v/k:1\n    - uses: other/action@v1\n",
    );
    check(
        "images.txt",
        "# ours\nkettle:2  # boils\r\n\nbazaar.example/library/ashlog\n",
        &[("kettle:2", ImageRole::Pulled), ("bazaar.example/library/ashlog", ImageRole::Pulled)],
        "# ours\nl.example/v/k:1  # boils\r\n\nl.example/v/k:1\n",
    );
}

#[test]
fn texts_in_objects_are_found_by_their_pattern() {
    check(
        "pod.yaml",
        "apiVersion: v1\nkind: Pod\nspec:\n  containers:\n  - image: kettle:2\n    args: [--wait, \"--sidecar-image=ashlog:1\", \"--at=bazaar.example/library/brinedb:16\", kettle:3]\n    env:\n    - {name: HELPER_IMAGE, value: kettle:4}\n    - {name: OTHER, value: kettle:5}\n",
        &[
            ("kettle:2", ImageRole::Pulled),
            ("ashlog:1", ImageRole::Text),
            ("bazaar.example/library/brinedb:16", ImageRole::Text),
            ("kettle:4", ImageRole::Text),
        ],
        "apiVersion: v1\nkind: Pod\nspec:\n  containers:\n  - image: l.example/v/k:1\n    args: [--wait, \"--sidecar-image=l.example/v/k:1\", \"--at=l.example/v/k:1\", kettle:3]\n    env:\n    - {name: HELPER_IMAGE, value: l.example/v/k:1}\n    - {name: OTHER, value: kettle:5}\n",
    );
    check(
        "map.yaml",
        "apiVersion: v1\nkind: ConfigMap\ndata:\n  pod.yaml: |\n    containers:\n    - image: kettle:2\n      name: x:1\n    - image: \"ashlog:1\"\n",
        &[("kettle:2", ImageRole::Text), ("ashlog:1", ImageRole::Text)],
        "apiVersion: v1\nkind: ConfigMap\ndata:\n  pod.yaml: |\n    containers:\n    - image: l.example/v/k:1\n      name: x:1\n    - image: \"l.example/v/k:1\"\n",
    );
}

#[test]
fn objects_of_other_kinds_are_read_by_path_and_by_shape() {
    let text = "apiVersion: emberfall.example/v1\nkind: Turbine\nspec:\n  tools: [{image: kettle}, {image: ashlog}]\n  pump: {image: {repository: bazaar.example/library/brinedb, tag: \"16\"}}\n  vm: {image: cirros}\n";
    let path = "spec.tools[].image".parse().unwrap();
    let custom =
        [CustomResource { group: "emberfall.example".into(), kind: "Turbine".into(), path }];
    let file = FileContext { name: "t.yaml", custom: &custom, ..FileContext::default() };
    let found = scan(text, &file).unwrap();
    let found: Vec<(&str, ImageRole)> =
        found.findings.iter().map(|one| (one.text.as_str(), one.role)).collect();
    let brinedb = ("bazaar.example/library/brinedb:16", ImageRole::Likely);
    assert_eq!(found, [("kettle", ImageRole::Pulled), ("ashlog", ImageRole::Pulled), brinedb]);
}

#[test]
fn templates_are_told_and_left() {
    let text = "{{- range .x }}\nspec:\n  containers:\n  - image: \"{{ .r }}/kettle:{{ .t }}\"\n  - image: kettle:2 # why\n{{ end }}\n";
    let file = FileContext { name: "deployment.yaml", template: true, ..FileContext::default() };
    let found = scan(text, &file).unwrap();
    assert!(found.template);
    let seen: Vec<(&str, usize)> =
        found.findings.iter().map(|one| (one.text.as_str(), one.position.line)).collect();
    assert_eq!(seen, [("{{ .r }}/kettle:{{ .t }}", 4), ("kettle:2", 5)]);
    let plan = found.plan(&[None, Some(read(NEW))]);
    assert!(plan.changes.is_empty() && plan.refused.len() == 1);
}

#[test]
fn pull_secrets_are_put_in_as_the_file_is_written() {
    for (before, after) in [
        (
            "spec:\n  # what runs\n  containers:\n  - image: kettle:2\n",
            "spec:\n  imagePullSecrets:\n  - name: larder-pull\n  # what runs\n  containers:\n  - image: kettle:2\n",
        ),
        (
            "spec:\n    containers:\n      - image: kettle:2\n",
            "spec:\n    imagePullSecrets:\n      - name: larder-pull\n    containers:\n      - image: kettle:2\n",
        ),
        (
            "spec: {containers: [{image: kettle:2}]}\n",
            "spec: {imagePullSecrets: [{name: larder-pull}], containers: [{image: kettle:2}]}\n",
        ),
        (
            "spec:\n  containers:\n  - image: kettle:2\n  imagePullSecrets:\n  - name: other\n",
            "spec:\n  containers:\n  - image: kettle:2\n  imagePullSecrets:\n  - name: larder-pull\n  - name: other\n",
        ),
        (
            "spec:\n  containers:\n  - image: kettle:2\n  imagePullSecrets:\n",
            "spec:\n  containers:\n  - image: kettle:2\n  imagePullSecrets: [{name: larder-pull}]\n",
        ),
        (
            "spec:\n  imagePullSecrets: []\n  containers: [{image: kettle:2}]\n",
            "spec:\n  imagePullSecrets: [{name: larder-pull}]\n  containers: [{image: kettle:2}]\n",
        ),
    ] {
        for end in ["\n", "\r\n"] {
            let text = format!("apiVersion: v1\nkind: Pod\n{before}").replace('\n', end);
            let found = yaml(&text).unwrap();
            let change = found.attach(&found.pods[0], "larder-pull").unwrap().unwrap();
            let new = found.splice(&[change]).unwrap_or_else(|error| panic!("{error}\n{text}"));
            assert_eq!(new, format!("apiVersion: v1\nkind: Pod\n{after}").replace('\n', end));
            let again = yaml(&new).unwrap();
            assert_eq!(again.attach(&again.pods[0], "larder-pull").unwrap(), None);
        }
    }
    let merged = "apiVersion: v1\nkind: Pod\nx: &b {imagePullSecrets: [{name: o}]}\nspec:\n  <<: *b\n  containers:\n  - image: kettle:2\n";
    let found = yaml(merged).unwrap();
    assert_eq!(found.attach(&found.pods[0], "larder-pull"), Err(Unattached::Merged));
}

#[test]
fn ten_thousand_documents_and_wide_files_keep_their_places() {
    let one =
        "---\napiVersion: v1\nkind: Pod\nspec: {containers: [{name: 蒸気, image: kettle:2}]}\n";
    let text = one.repeat(10_000);
    let found = yaml(&text).unwrap();
    assert_eq!(found.findings.len(), 10_000);
    let last = &found.findings[9_999];
    assert_eq!(last.position, Position { line: 40_000, column: 39 });
    assert_eq!(found.pointer(last).as_deref(), Some("/spec/containers/0/image"));
    // An error in one of them is told at its line.
    let broken = format!("{}---\nimage: [\n", one.repeat(3));
    assert_eq!(yaml(&broken).unwrap_err().position.line, 14);
}

mod generated {
    use super::*;
    use proptest::prelude::*;

    /// Names of the files, and lines that they are put together from.
    const KINDS: [(&str, &[&str]); 5] = [
        (
            "Dockerfile",
            &[
                "ARG R=bazaar.example\n",
                "ARG T=2\r\n",
                "FROM ${R}/library/kettle:${T} AS a\n",
                "FROM a\n",
                "FROM 'kettle:2' AS b\n",
                "COPY --from=ashlog:1 /a /b \\\n  # why\n  /c\n",
                "RUN <<E\nFROM no:1\nE\n",
                "RUN --mount=type=bind,from=kettle:2,target=/x y\n",
                "# FROM no:1\n",
                "FROM $X\n",
                "\n",
            ],
        ),
        (
            "values.yaml",
            &[
                "a: {image: {registry: bazaar.example, repository: library/kettle, tag: 1.10}}\n",
                "b:\n  image: &i bazaar.example/library/kettle:2 # c\n",
                "c:\n  image: *i\n",
                "d: {sideImage: 'kettle:2', note: *i}\n",
                "e:\n  repository: bazaar.example/library/ashlog\n  tag: \"\"\n",
                "global: {imageRegistry: bazaar.example}\n",
                "f: {image: cirros}\n",
                "g: |\n  image: kettle:2\n",
            ],
        ),
        (
            "compose.yaml",
            &[
                "services:\n  a: {image: \"${R:-bazaar.example}/library/kettle:$T\"}\n",
                "  b:\n    image: kettle:2\r\n",
                "  c:\n    build: .\n    image: made:1\n",
                "  d: {image: $X/y}\n",
                "  e:\n    image: >-\n      kettle:2\n",
                "  f: {environment: [\"X_IMAGE=kettle:2\"], image: kettle:2}\n",
            ],
        ),
        (
            "kustomization.yaml",
            &[
                "images:\n- name: kettle\n  newTag: \"2\"\n",
                "- {name: bazaar.example/library/ashlog, digest: \"\"}\n",
                "- newName: bazaar.example/library/brinedb\n  name: db\n",
                "- name: &k kettle\n  newName: *k\n  newTag: 1\n",
            ],
        ),
        ("images.txt", &["kettle:2 # c\n", "# c\n", "bazaar.example/library/ashlog\r\n", "\n"]),
    ];

    proptest! {
        #[test]
        fn what_is_changed_reads_as_planned_and_a_second_run_changes_nothing(
            kind in 0..KINDS.len(), picks in prop::collection::vec(0usize..20, 0..8)
        ) {
            let (name, lines) = KINDS[kind];
            let text: String = picks.iter().map(|at| lines[at % lines.len()]).collect();
            let file = FileContext { name, app_version: Some("3"), ..FileContext::default() };
            if let Ok(found) = scan(&text, &file) {
                // The guards hold: whatever can be changed is, and nothing else differs.
                let changed = replaced(&text, &file, NEW);
                prop_assert!(changed.is_ok(), "{changed:?}\n{text}");
                let changed = changed.unwrap();
                let again = scan(&changed, &file);
                prop_assert!(again.is_ok(), "{text}\n{changed}");
                prop_assert_eq!(again.unwrap().findings.len(), found.findings.len());
                prop_assert_eq!(replaced(&changed, &file, NEW).unwrap(), changed);
            }
        }
    }
}
