//! Every refusal carries a number, and the record has it.

use crate::access::{basic, granted};
use crate::node::wait_until;
use crate::serving::{Serving, ask};
use crate::stub::{http, listen};

#[test]
fn every_refusal_has_a_number_and_a_line_in_the_record() {
    let house = granted("");
    let address = listen(|line| match line {
        _ if line.contains("/library/no") => http(
            line,
            "403 Forbidden",
            "content-type: application/json\r\n",
            r#"{"errors":[{"code":"DENIED","message":"für niemanden"}]}"#,
        ),
        _ => http(line, "503 Service Unavailable", "", ""),
    });
    house.add_upstream("cached.example", &format!("http://{address}"), "");
    house.add_upstream("away.example", "http://127.0.0.1:1", "");
    let text = house.read("larder.toml");
    let text = text.replacen(
        "name = \"turbine-hall\"\n",
        "name = \"turbine-hall\"\nnodes = [\"127.0.0.0/8\"]\n",
        1,
    );
    let shelves = "\n[[shelf]]\nname = \"hub\"\ncaches = \"cached.example\"\nonly = [\"library/**\"]\n\n[[shelf]]\nname = \"far\"\ncaches = \"away.example\"\n";
    let text = text
        .replace("pull = [\"vendor/**\"]\n", "pull = [\"vendor/**\", \"hub/**\", \"far/**\"]\n");
    house.write("larder.toml", text + shelves);
    let serving = Serving::start(&house);
    let key = basic("turbine-hall", &house.issue("--cluster turbine-hall"));
    let by_key = [("authorization", key.as_str())];
    let node = |namespace: &str, name: &str| {
        format!("/c/turbine-hall/v2/{name}/manifests/1?ns={namespace}")
    };
    for (path, fields, words) in [
        (node("nobody.example", "library/x"), &[][..], "no shelf of this larder caches"),
        (node("cached.example", "other/x"), &[][..], "is outside of the shelf"),
        (
            "/c/nowhere/v2/library/x/manifests/1?ns=cached.example".into(),
            &[][..],
            "knows no cluster",
        ),
        (node("cached.example", "library/no"), &[][..], "answered 403"),
        (node("away.example", "library/x"), &[][..], "cannot be reached"),
        ("/v2/apps/x/manifests/1".into(), &by_key[..], "no grant names it"),
    ] {
        let refused = ask(serving.host(), "GET", &path, fields, b"").unwrap();
        let text = refused.text();
        assert!(text.contains(words), "{path}: {} {text}", refused.status);
        assert!(!text.contains("127.0.0.1"), "where an upstream is reached is nobody's: {text}");
        let number = text.rsplit_once('[').unwrap().1.split(']').next().unwrap().to_owned();
        assert!(refused.head.lines().next().unwrap().is_ascii(), "{}", refused.head);
        assert!(refused.head.contains(&format!("[{number}]")), "{}", refused.head);
        wait_until("the record has it", || {
            house.larder(&format!("log {number}")).out.contains(words)
        });
        house.larder(&format!("why --ref {number}")).ends(1);
    }
    // Letters keep their sound in the status line.
    let refused =
        ask(serving.host(), "GET", &node("cached.example", "library/no"), &[], b"").unwrap();
    assert!(refused.head.contains("fuer niemanden"), "{}", refused.head);
}

#[test]
fn a_reason_that_nodes_cannot_show_is_warned_of() {
    let house = granted("");
    let text = house.read("larder.toml");
    house.write("larder.toml", text.replace("runs the turbines;", "läuft an der Turbine – 禁止;"));
    house.larder("check --offline").says(&["`because` of the rule", "\\u{7981}"]);
}
