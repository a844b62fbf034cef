//! The cheap look before parsing hides nothing that a reader finds.

use proptest::prelude::*;

use super::super::dialect::hides;
use super::*;

/// Lines of which documents of every dialect are made, with every key and every value in any place.
const KEYS: [&str; 40] = [
    "apiVersion",
    "kind",
    "metadata",
    "spec",
    "template",
    "containers",
    "initContainers",
    "ephemeralContainers",
    "image",
    "images",
    "sideImage",
    "base_image",
    "imageName",
    "imageRepository",
    "repository",
    "registry",
    "tag",
    "digest",
    "name",
    "newName",
    "newTag",
    "args",
    "command",
    "env",
    "value",
    "data",
    "volumes",
    "reference",
    "services",
    "build",
    "additional_contexts",
    "steps",
    "container",
    "uses",
    "jobs",
    "runs-on",
    "containerDefinitions",
    "patches",
    "patch",
    "run",
];
const VALUES: [&str; 14] = [
    "v1",
    "Pod",
    "ConfigMap",
    "Kustomization",
    "Turbine",
    "kettle:2",
    "bazaar.example/library/kettle:2",
    "\"docker://bazaar.example/x:1\"",
    "docker-image://bazaar.example/x:1",
    "library/kettle",
    "'1'",
    "\"--at=bazaar.example/x:1\"",
    "DockerImage",
    "alpine",
];

/// A document as nested lines.
fn document() -> impl Strategy<Value = String> {
    let line = (0..4usize, prop::bool::ANY, 0..KEYS.len(), prop::option::of(0..VALUES.len()));
    prop::collection::vec(line, 1..14).prop_map(|lines| {
        let mut text = String::new();
        let mut deepest = 0;
        for (depth, dash, key, value) in lines {
            let depth = depth.min(deepest);
            let indent = "  ".repeat(depth);
            let dash = if dash && depth > 0 { "- " } else { "" };
            match value {
                Some(value) => {
                    text.push_str(&format!("{indent}{dash}{}: {}\n", KEYS[key], VALUES[value]));
                    deepest = depth;
                }
                None => {
                    text.push_str(&format!("{indent}{dash}{}:\n", KEYS[key]));
                    deepest = depth + 1;
                }
            }
        }
        text
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4000))]
    #[test]
    fn whatever_is_found_has_a_word_that_is_looked_for(text in document(), values: bool) {
        let path = "spec.run".parse().unwrap();
        let custom = [CustomResource { group: String::new(), kind: "Turbine".into(), path }];
        let name = if values { "values.yaml" } else { "x.yaml" };
        let file = FileContext { name, custom: &custom, app_version: values.then_some("1"), ..FileContext::default() };
        prop_assert!(!hides(&text, &file), "{}", text);
    }
}

#[test]
fn shapes_that_once_were_hidden_are_seen() {
    let path = "spec.tools[].run".parse().unwrap();
    let custom =
        [CustomResource { group: "emberfall.example".into(), kind: "Turbine".into(), path }];
    for text in [
        "apiVersion: emberfall.example/v1\nkind: Turbine\nspec: {tools: [{run: kettle:2}]}\n",
        "on: push\njobs: {a: {runs-on: x, container: node:18}}\n",
        "steps:\n- name: bazaar.example/x\n  args: [a]\n",
        "apiVersion: v1\nkind: ConfigMap\ndata: {a: \"bazaar.example/x:1\"}\n",
        "{\"services\": {\"a\": {\"build\": {\"additional_contexts\": [\"docker-image://x:1\"]}}}}",
        "kind: Kustomization\npatches: [{patch: \"use bazaar.example/x:1\"}]\n",
        "apiVersion: v1\nkind: Pod\nspec: {containers: [{args: [\"--at=bazaar.example/x:1\"]}]}\n",
        "apiVersion: v1\nkind: X\nspec: {from: {kind: DockerImage, name: bazaar.example/x}}\n",
    ] {
        let file = FileContext { name: "x.yaml", custom: &custom, ..FileContext::default() };
        assert!(!hides(text, &file), "{text}");
        assert!(!scan(text, &file).unwrap().findings.is_empty(), "{text}");
    }
}

#[test]
fn what_was_put_into_a_pod_is_taken_out_again() {
    for spec in [
        "spec:\n  # what runs\n  containers:\n  - image: kettle:2\n",
        "spec:\n    containers:\n      - image: kettle:2\n    restartPolicy: Always\n",
        "spec: {containers: [{image: kettle:2}]}\n",
        "spec:\n  containers:\n  - image: kettle:2\n  imagePullSecrets:\n  - name: other\n",
        "spec:\n  containers:\n  - image: kettle:2\n  imagePullSecrets: [{name: other}]\n",
        "spec:\n  ? containers\n  : - image: kettle:2\n",
        "spec:\n  &c containers:\n  - image: kettle:2",
        "pods:\n- containers:\n  - image: kettle:2\n- containers: # why\n  - image: kettle:2\n    args:\n    - |\n      last\n",
    ] {
        for end in ["\n", "\r\n"] {
            let text = format!("apiVersion: v1\nkind: Pod\n{spec}").replace('\n', end);
            let found = yaml(&text).unwrap();
            assert!(!found.pods.is_empty());
            let added: Vec<Change> = found
                .pods
                .iter()
                .map(|pod| found.attach(pod, "larder-pull").unwrap().unwrap())
                .collect();
            let done = found.rewrite(&vec![None; found.findings.len()], &added);
            assert!(done.left_out.is_empty(), "{text}");
            let new = done.text.unwrap();
            let again = yaml(&new).unwrap();
            assert!(
                again.pods.iter().all(|pod| again.secrets(pod).contains(&"larder-pull".to_owned()))
            );
            let gone: Vec<Change> = again
                .pods
                .iter()
                .map(|pod| again.detach(pod, "larder-pull").unwrap().unwrap())
                .collect();
            let done = again.rewrite(&vec![None; again.findings.len()], &gone);
            assert_eq!(done.text.as_deref(), Some(text.as_str()), "{new}");
        }
    }
    let pod = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}]}\n";
    let found = yaml(pod).unwrap();
    assert_eq!(found.detach(&found.pods[0], "larder-pull"), Ok(None));
}

#[test]
fn what_cannot_be_proved_is_put_back_alone() {
    // A slot that says something else than the reader saw: its change cannot be what it should.
    let text = "apiVersion: v1\nkind: Pod\nspec:\n  containers:\n  - image: kettle:2\n  - image: ashlog:1\n  - image: brinedb:16\n";
    let mut found = yaml(text).unwrap();
    let FindingAccess::Edit(third) = found.findings[2].access.clone() else { panic!() };
    found.findings[1].access = FindingAccess::Edit(third);
    let wish = |text: &str| Some(FindingWish::Become(read(text)));
    let done =
        found.rewrite(&[wish("l.example/k:1"), wish("l.example/a:1"), wish("l.example/b:16")], &[]);
    let new = done.text.unwrap();
    assert!(new.contains("image: l.example/k:1\n") && new.contains("image: ashlog:1\n"), "{new}");
    assert!(done.refused.contains_key(&1), "{:?}", done.refused);
}
