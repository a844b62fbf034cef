//! What must hold for every edit, on files as people write them and on generated nasty ones.

mod dialects;
mod look;
use super::*;
use crate::reference::{Reference, Unqualified};

const DEPLOYMENT: &str = "\
# the board
apiVersion: apps/v1
kind: Deployment
metadata: {name: steam-board, namespace: scada}
spec:
  template:
    spec:
      initContainers:
      - name: wait
        image: 'bazaar.example/library/kettle:2'   # quoted
      containers:
      - image: \"bazaar.example\\/library/kettle:2\"
        name: board
      -   name: gauge
          image: >-
            ventworks.example/gauges/steamgauge:1.9.2
";

fn read(text: &str) -> Reference {
    Reference::read(text, &Unqualified::default()).unwrap().reference
}

fn yaml(text: &str) -> Result<Scan<'_>, ParseError> {
    scan(text, &FileContext { name: "deploy.yaml", ..FileContext::default() })
}

/// What a file of some name becomes when every image that can be changed becomes another.
fn replaced(text: &str, file: &FileContext<'_>, new: &str) -> Result<String, SpliceError> {
    let found = scan(text, file).unwrap();
    let wishes: Vec<Option<Reference>> = found
        .findings
        .iter()
        .map(|one| matches!(one.access, FindingAccess::Edit(_)).then(|| read(new)))
        .collect();
    found.splice(&found.plan(&wishes).changes)
}

/// Replaces every reference that can be edited.
fn replace_all(text: &str, new: &str) -> String {
    replaced(text, &FileContext { name: "deploy.yaml", ..FileContext::default() }, new).unwrap()
}

fn texts(text: &str) -> Vec<String> {
    yaml(text).unwrap().findings.into_iter().map(|finding| finding.text).collect()
}

#[test]
fn every_style_keeps_its_style_and_its_surroundings() {
    let expected = DEPLOYMENT
        .replace("'bazaar.example/library/kettle:2'", "'l.example/k:1'")
        .replace("\"bazaar.example\\/library/kettle:2\"", "\"l.example/k:1\"")
        .replace("ventworks.example/gauges/steamgauge:1.9.2", "l.example/k:1");
    assert_eq!(replace_all(DEPLOYMENT, "l.example/k:1"), expected);
    let crlf = DEPLOYMENT.replace('\n', "\r\n");
    assert_eq!(replace_all(&crlf, "l.example/k:1"), expected.replace('\n', "\r\n"));
    let marked = format!("\u{feff}{DEPLOYMENT}");
    assert_eq!(replace_all(&marked, "l.example/k:1"), format!("\u{feff}{expected}"));
}

#[test]
fn a_finding_tells_where_and_whose() {
    let findings = yaml(DEPLOYMENT).unwrap().findings;
    let first = &findings[0];
    assert_eq!(first.position, Position { line: 10, column: 16 });
    assert_eq!(first.container.as_deref(), Some("wait"));
    assert_eq!(first.workload.kind, "Deployment");
    assert_eq!(first.workload.name, "steam-board");
    assert_eq!(first.workload.namespace.as_deref(), Some("scada"));
    assert_eq!(findings[1].text, "bazaar.example/library/kettle:2", "escapes are decoded");
    assert_eq!(findings.len(), 3);
}

#[test]
fn every_kind_that_holds_a_pod_is_found_and_decoys_are_not() {
    let pod = "{containers: [{name: a, image: kettle:2}]}";
    for (kind, spec) in [
        ("Pod", pod.to_owned()),
        ("Deployment", format!("{{template: {{spec: {pod}}}}}")),
        ("CronJob", format!("{{jobTemplate: {{spec: {{template: {{spec: {pod}}}}}}}}}")),
        ("TurbineSet", format!("{{pools: [{{podTemplate: {{spec: {pod}}}}}]}}")),
    ] {
        let text = format!("apiVersion: v1\nkind: {kind}\nmetadata: {{name: x}}\nspec: {spec}\n");
        assert_eq!(texts(&text), ["kettle:2"], "{kind}");
        let list = format!(
            "apiVersion: v1\nkind: List\nitems: [{{apiVersion: v1, kind: {kind}, spec: {spec}}}]\n"
        );
        assert_eq!(texts(&list), ["kettle:2"], "{kind} in a List");
    }
    for decoy in [
        "image: cirros\n",
        "apiVersion: v1\nkind: Secret\nstringData:\n  pod.yaml: |\n    containers:\n    - image: kettle:2\n",
        "apiVersion: v1\nkind: CustomResourceDefinition\nspec: {containers: [{image: kettle:2}]}\n",
        "apiVersion: v1\nkind: Glance\nspec: {image: glance, containers: {image: {type: string}}}\n",
        "apiVersion: v1\nkind: Pod\nspec: {containers: [{name: a, image: }]}\n",
        "",
        "# image\n",
    ] {
        assert!(texts(decoy).is_empty(), "{decoy}");
    }
}

#[test]
fn several_documents_and_json_are_read() {
    let two = format!("{DEPLOYMENT}---\n{DEPLOYMENT}...\n");
    assert_eq!(texts(&two).len(), 6);
    let json = r#"{"apiVersion":"v1","kind":"Pod","spec":{"containers":[{"image":"kettle:2"}]}}"#;
    assert_eq!(replace_all(json, "l.example/k:1"), json.replace("kettle:2", "l.example/k:1"));
}

#[test]
fn anchors_are_edited_where_they_stand_and_only_when_that_is_safe() {
    let pod = |first: &str, second: &str, rest: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: x{rest}}}\nspec:\n  containers:\n  - image: {first}\n  - image: {second}\n"
        )
    };
    // One definition, two images.
    let shared = pod("&k kettle:2", "*k", "");
    assert_eq!(yaml(&shared).unwrap().findings[0].shared_by, 1);
    assert_eq!(replace_all(&shared, "l.example/k:1"), shared.replace("kettle:2", "l.example/k:1"));
    // Used as an annotation too: the definition may not change.
    let outside = format!("{}---\n{}", pod("&k kettle:2", "*k", ", note: no"), "apiVersion: v1\n");
    let outside = outside
        .replace("containers:\n", "note: &z z\n  containers:\n")
        .replace("- image: *k", "- image: *k\n    note: *k");
    assert_eq!(replace_all(&outside, "l.example/k:1"), outside);
    // Defined elsewhere: the alias gives way to a literal.
    let elsewhere = pod("*k", "a.example/b", ", k: &k kettle:2");
    let literal = elsewhere
        .replace("image: *k", "image: l.example/k:1")
        .replace("a.example/b", "l.example/k:1");
    assert_eq!(replace_all(&elsewhere, "l.example/k:1"), literal);
    // Through a merge: the base is edited.
    let merged = "apiVersion: v1\nkind: Pod\nx: &base {image: kettle:2}\nspec:\n  containers:\n  - {<<: *base, name: a}\n  - {<<: *base, name: b}\n";
    assert_eq!(replace_all(merged, "l.example/k:1"), merged.replace("kettle:2", "l.example/k:1"));
}

#[test]
fn duplicates_are_all_edited_and_told() {
    let text = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: a.example/a, image: a.example/b}]}\n";
    assert!(yaml(text).unwrap().findings.iter().all(|finding| finding.duplicate));
    assert_eq!(texts(&replace_all(text, "l.example/k:1")), ["l.example/k:1", "l.example/k:1"]);
}

#[test]
fn an_ipv6_host_is_quoted_where_it_would_be_a_list() {
    let text = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}]}\n";
    let new = replace_all(text, "[::1]:5000/vendor/kettle:2");
    assert!(new.contains("image: \"[::1]:5000/vendor/kettle:2\""), "{new}");
}

#[test]
fn templates_are_left_and_broken_files_are_told() {
    let template = "apiVersion: v1\nkind: Pod\nspec:\n{{- range .images }}\n  containers: [{image: {{ . }}}]\n{{ end }}";
    assert!(yaml(template).unwrap().template);
    let braces =
        "apiVersion: v1\nkind: Pod\nspec:\n  containers:\n  - image: {{ .image }}\n    name: a\n";
    let finding = &yaml(braces).unwrap().findings[0];
    assert!(matches!(finding.access, FindingAccess::Leave(_)));
    assert_eq!(finding.position.line, 6);
    let broken = "apiVersion: v1\nkind: Pod\nspec: [image: {\n";
    assert!(yaml(broken).unwrap_err().to_string().starts_with("line "));
    let bomb = format!("image: {}", "[".repeat(100_000));
    assert!(yaml(&bomb).is_err());
}

#[test]
fn an_edit_that_would_change_something_else_is_refused() {
    let found = yaml(DEPLOYMENT).unwrap();
    let FindingAccess::Edit(hold) = &found.findings[0].access else { panic!() };
    let slot = hold.only().unwrap().clone();
    let put = |text: &str| Change::Put(slot.clone(), text.to_owned());
    assert_eq!(found.splice(&[put("a"), put("b")]), Err(SpliceError::Overlap));
    assert!(matches!(found.splice(&[put("a' #")]), Err(SpliceError::Text(_))));
    // A slot of one file in another: what stands there means something else.
    let other = DEPLOYMENT.replacen("# the board", "# board: x", 1);
    assert!(yaml(&other).unwrap().splice(&[put("a.example/b")]).is_err());
}

mod generated {
    use super::*;
    use proptest::prelude::*;

    /// A container in one of many spellings.
    fn container() -> impl Strategy<Value = String> {
        let image = prop_oneof![
            Just("kettle:2"),
            Just("'kettle:2'"),
            Just("\"ket\\u0074le:2\""),
            Just("!!str kettle:2"),
            Just(">-\n      kettle:2"),
            Just("|\n      kettle:2\n"),
            Just("&a kettle:2"),
            Just("*top"),
            Just("\n      kettle:2"),
            Just("~"),
            Just("{{ x }}"),
            Just("kettle:2 # why"),
            Just("a\n      b"),
        ];
        let extra = prop_oneof![
            Just(""),
            Just("    env: [{name: Ü, value: '日本'}]\n"),
            Just("    # c\n\n"),
            Just("    x: |\n      image: no\n")
        ];
        (image, extra)
            .prop_map(|(image, extra)| format!("  - name: c\n    image: {image}\n{extra}"))
    }

    proptest! {
        #[test]
        fn untouched_bytes_stay_and_a_second_run_changes_nothing(
            containers in prop::collection::vec(container(), 0..5), crlf: bool
        ) {
            let mut text = format!(
                "apiVersion: v1\nkind: Pod\nmetadata: {{name: &top bazaar.example/x}}\nspec:\n  containers:\n{}",
                containers.concat()
            );
            if crlf { text = text.replace('\n', "\r\n"); }
            if let Ok(found) = yaml(&text) {
                // The guards hold by themselves; what they let through must read back as planned.
                let new = replace_all(&text, "l.example/k:1");
                let mut rest = new.as_str();
                let mut done = 0;
                let mut spans: Vec<_> = found.findings.iter().filter_map(|one| match &one.access {
                    FindingAccess::Edit(hold) => hold.only().map(|slot| slot.span.clone()),
                    FindingAccess::Leave(_) => None,
                }).collect();
                spans.sort_by_key(|span| span.start);
                for span in spans {
                    let kept = &text[done..span.start];
                    prop_assert!(rest.starts_with(kept), "bytes before an edit changed");
                    let quotes = ["", "'", "\""];
                    let put = quotes.iter().map(|q| format!("{q}l.example/k:1{q}"));
                    let put = put.clone().find(|put| rest[kept.len()..].starts_with(put.as_str()));
                    prop_assert!(put.is_some(), "the new reference does not stand there");
                    rest = &rest[kept.len() + put.unwrap().len()..];
                    done = span.end;
                }
                prop_assert_eq!(rest, &text[done..]);
                let again = yaml(&new).unwrap();
                prop_assert_eq!(again.findings.len(), found.findings.len());
                prop_assert_eq!(replace_all(&new, "l.example/k:1"), new);
            }
        }

        #[test]
        fn no_text_panics(text in "(\\PC|[\n\t{}\\[\\]&*!|>'\"%@:#-]|image: |containers:\n|- ){0,60}") {
            let _ = yaml(&text);
            let _ = yaml(&format!("apiVersion: v1\nkind: Pod\nspec:\n  containers:\n  - image: {text}"));
        }

        #[test]
        fn a_changed_byte_never_panics(at in 0usize..500, byte in 0u8..128) {
            let mut bytes = DEPLOYMENT.as_bytes().to_vec();
            let at = at % bytes.len();
            bytes[at] = byte;
            if let Ok(text) = String::from_utf8(bytes) && yaml(&text).is_ok() {
                let _ = replaced(&text, &FileContext { name: "a.yaml", ..FileContext::default() }, "a.example/b");
            }
        }
    }
}

/// The shapes that real files have, each as the lines under `containers:`, with the references that
/// must be found and whether they can be edited.
#[test]
fn the_spellings_of_real_files_are_read() {
    for (lines, expected) in [
        // Lists flush and indented, oddly too.
        ("  - image: a.example/x", &[("a.example/x", true)][..]),
        ("      -    image: a.example/x", &[("a.example/x", true)][..]),
        ("  -\n    name: c\n    image: a.example/x", &[("a.example/x", true)][..]),
        // The value on the next line, a comment between, quoted keys, explicit keys, tags.
        ("  - image:\n      a.example/x", &[("a.example/x", true)][..]),
        ("  - image: # why\n      a.example/x", &[("a.example/x", true)][..]),
        ("  - \"image\": a.example/x", &[("a.example/x", true)][..]),
        ("  - ? image\n    : a.example/x", &[("a.example/x", true)][..]),
        ("  - image: !!str a.example/x", &[("a.example/x", true)][..]),
        // Flow style, trailing commas, JSON in YAML.
        ("  - {image: a.example/x, name: c,}", &[("a.example/x", true)][..]),
        ("  - {\"name\":\"c\",\"image\":\"a.example/x\"}", &[("a.example/x", true)][..]),
        // Escapes are decoded; what is written over several lines is told and left.
        ("  - image: \"a.example\\/x\"", &[("a.example/x", true)][..]),
        ("  - image: 'a.example/''x'", &[("a.example/'x", true)][..]),
        ("  - image: >-\n      a.example/x\n    name: c", &[("a.example/x", true)][..]),
        ("  - image: |\n      a.example/x\n    name: c", &[("a.example/x\n", true)][..]),
        ("  - image: a.example/x\n      y", &[("a.example/x y", false)][..]),
        ("  - image: \"a.example/x\\\n      y\"", &[("a.example/xy", false)][..]),
        // Numbers, nulls and maps are no references.
        ("  - image: ~\n    name: c", &[][..]),
        ("  - image: null", &[][..]),
        ("  - image: 'null'", &[("null", true)][..]),
        ("  - image: {repository: a.example/x}\n    name: c", &[("", false)][..]),
        ("  - image: [a.example/x]\n    name: c", &[("", false)][..]),
        // Wide characters before it on the line.
        ("  - {name: 蒸気ゲージ, image: a.example/x}", &[("a.example/x", true)][..]),
        // Several in one list, one without an image.
        (
            "  - image: a.example/x\n  - name: c\n  - image: a.example/y",
            &[("a.example/x", true), ("a.example/y", true)][..],
        ),
    ] {
        let text = format!(
            "apiVersion: v1\nkind: Pod\nmetadata:\n  name: p\nspec:\n  containers:\n{lines}\n"
        );
        let found: Vec<(String, bool)> = yaml(&text)
            .unwrap_or_else(|error| panic!("{error}\n{text}"))
            .findings
            .into_iter()
            .map(|finding| (finding.text, matches!(finding.access, FindingAccess::Edit(_))))
            .collect();
        let expected: Vec<(String, bool)> =
            expected.iter().map(|(text, edit)| ((*text).to_owned(), *edit)).collect();
        assert_eq!(found, expected, "{lines}");
        // Whatever can be edited is edited alone, and stays so.
        let new = replace_all(&text, "l.example/k:1");
        assert_eq!(replace_all(&new, "l.example/k:1"), new, "{lines}");
        let changed = expected.iter().filter(|(_, edit)| *edit).count();
        assert_eq!(new.matches("l.example/k:1").count(), changed, "{lines}");
    }
}

#[test]
fn line_ends_of_every_kind_count_as_lines() {
    for end in ["\n", "\r\n", "\r"] {
        let text =
            ["apiVersion: v1", "kind: Pod", "spec:", " containers:", " - image: kettle:2", ""]
                .join(end);
        let findings = yaml(&text).unwrap().findings;
        let expected = Position { line: 5, column: 11 };
        assert_eq!(findings[0].position, expected, "{end:?}");
    }
}
