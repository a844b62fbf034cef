//! What is read the quick way is what the parser reads.

use proptest::prelude::*;

use crate::parse::by_parser;
use crate::quick;

/// Whether it was read the quick way; then it must be as the parser reads it.
fn agrees(text: &str) -> bool {
    let Some(quick) = quick::parse(text) else { return false };
    let parsed = by_parser(text).unwrap_or_else(|error| panic!("{text:?} is wrong: {error}"));
    assert_eq!(quick, parsed, "{text:?}");
    true
}

#[test]
fn what_people_write_is_read_the_quick_way() {
    for text in [
        "# the board\napiVersion: apps/v1\nkind: Deployment\nmetadata: {name: board, namespace: scada}\nspec:\n  containers:\n  - name: wait\n    image: 'x.example/kettle:2'   # quoted\n",
        "---\n# a comment\na: 1 # another\nb:\n\n  - x\n  # within\n  - y: 'it''s'\n    z: \"q\"\nc:\n",
        "a:\n- b\n- c: [x, 'y', {z: 1, w: [a]}]\n  d: {}\n-\n  - []\n- - e\n  - f\ng: h:i # j\n",
        "a:\n  - b: |\n      one\n        two\n\n      # three\n  # four\n    c: >-\n      five\n      six\n\n      seven\n",
        "a: |+\n  one\n\n\nb: |-\n  two\n\nc: >\n  three\n\n\n  four\n",
        "a: --flag=x\nb: http://x.example:80/y#z\nc: grün ⌘\n\"d e\": -1\n",
        "- a\n-\n- b:\n  c:\n- d",
        "a: b   ",
        "# nothing\n",
        "",
        "a: [b,c,\n  d\n  , {e: f}\n ]\n",
        "a: one\n  two # three\nb:\n  - four\n\n\n    five   \n    six\n  - \"\\\"\\\\ \\n\"\n",
        "key:\n  value\nnext:\n    - 1\n    -   - 2\n\n   \n",
    ] {
        assert!(agrees(text), "{text}");
    }
}

#[test]
fn what_is_not_certain_is_left_to_the_parser() {
    for text in [
        "a: &b c\nd: *b\n",
        "a: !t b\n",
        "a: b\n  c: d\n",
        "a: b\n  # c\n  d\n",
        "a: b: c\n",
        "a: \"b\n  c\"\n",
        "a: \"\\x41\"\n",
        "a:\tb\n",
        "a: b\r\n",
        "? a\n: b\n",
        "a: [b,\nc]\n",
        "a: [b, c\n  d]\n",
        "a: [b, ]\n",
        "a: |2\n   b\n",
        "a: >\n  b\n    c\n",
        "%YAML 1.2\n---\na: b\n",
        "a: b\n...\n",
        "a: b\n---\nc: d\n",
        "\u{feff}a: b\n",
        "a: \u{85}\n",
        "scalar\n",
        "---\n# nothing\n",
        "  a: b\n c: d\n",
        "a:\n  - b\n c: d\n",
        "a: 'b' c\n",
        "- a\nb: c\n",
    ] {
        assert!(quick::parse(text).is_none(), "{text:?}");
    }
    let deep: Vec<String> = (0..200).map(|depth| format!("{}a:", " ".repeat(depth))).collect();
    assert!(quick::parse(&deep.join("\n")).is_none());
    assert!(quick::parse(&format!("{}: b\n", "a".repeat(2000))).is_none());
}

/// Pieces of YAML that mean something, put together without sense.
fn nasty() -> impl Strategy<Value = String> {
    let piece = prop_oneof![
        8 => Just("\n"),
        4 => prop::sample::select(vec!["\n  ", "\n    ", "\n      ", "\n ", "\n\n", "\n- ", "\n  - "]),
        8 => prop::sample::select(vec!["a: ", "b:", "- ", "-", "'c': ", "\"d\": ", "e : ", "f"]),
        6 => prop::sample::select(vec!["x", "x y", "'x'", "''", "\"x\"", "'y''z'", "-1", "--x", "~", "é"]),
        3 => prop::sample::select(vec!["|", ">", "|-", ">-", "|+", ">+", "|\n", ">-\n", "| # c\n"]),
        3 => prop::sample::select(vec!["[", "]", "{", "}", ", ", ",", "[x, y]", "{a: b}", "[]", "{}"]),
        3 => prop::sample::select(vec![" # c", "# c", "#", " ", "  ", "   ", ":", ": ", "---", "..."]),
        1 => prop::sample::select(vec!["&a ", "*a", "!t ", "? ", "\t", "\r", "%", "@", "`", "\\", "'", "\""]),
    ];
    prop::collection::vec(piece, 0..24).prop_map(|pieces| pieces.concat())
}

/// Documents that are mostly right, line by line.
fn lines() -> impl Strategy<Value = String> {
    let line = (
        0_usize..5,
        prop::sample::select(vec!["", "- ", "- - ", "-   ", "-", "# "]),
        prop::sample::select(vec!["", "a: ", "b:", "c d: ", "'e': ", "f:  "]),
        prop::sample::select(vec![
            "",
            "x",
            "x # c",
            "\"x: y\"",
            "'x'",
            "[a, b]",
            "{a: b, c: [d]}",
            "|",
            ">-",
            "|+",
            "x:y",
            "  x",
            "[a,b]",
            "{a: }",
            "{\"a\": 1}",
            "[a: b]",
            "x  ",
            "-",
            "...",
            "[ a , b ]",
            "{ }",
            "- x",
            "?",
            "? x",
        ]),
    );
    prop::collection::vec(line, 1..10).prop_map(|lines| {
        let one = |(depth, dash, key, value): (usize, &str, &str, &str)| {
            format!("{}{dash}{key}{value}\n", "  ".repeat(depth))
        };
        lines.into_iter().map(one).collect()
    })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(4096))]

    #[test]
    fn nothing_is_read_otherwise_than_by_the_parser(text in prop_oneof![nasty(), lines()]) {
        agrees(&text);
    }
}
