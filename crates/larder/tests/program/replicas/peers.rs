//! Larders that share a store know of each other: a difference is told, and one that ends is missed by nobody.

use super::{Replicas, soon};
use crate::house::OWN;
use crate::serving::ask;

#[test]
fn configurations_that_differ_are_told_and_make_nobody_less_ready() {
    let Some(replicas) = Replicas::new("") else { return };
    let copy = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/kettle:2");
    replicas.larder("a", &copy).ends(0);
    let ready = |one: &crate::serving::Serving| {
        let answer = one.ask("GET", "/readyz");
        assert_eq!(answer.status, 200, "{}", answer.text());
        answer.text()
    };
    let (a, b) = (replicas.serve("a"), replicas.serve("b"));
    soon("it does not tell its configuration", || ready(&a).contains("configuration: "));
    assert!(!ready(&a).contains("differs"), "{}", ready(&a));
    soon("they do not know each other", || {
        let said = replicas.larder("a", "check --offline").ends(0);
        said.out.contains("2 larders serve it now") || said.err.contains("2 larders serve it now")
    });
    replicas.larder("a", "check --offline").ends(0).says(&["the database is PostgreSQL"]);
    // One of them gets a shelf more.
    let text = replicas.house.read("b/larder.toml");
    replicas.house.write("b/larder.toml", format!("{text}\n[[shelf]]\nname = \"more\"\n"));
    soon("it is not told", || {
        ready(&a).contains("; differs: ") && ready(&b).contains("; differs: ")
    });
    replicas.larder("a", "rounds").says(&["several configurations", "let larder.toml be the same"]);
    replicas.house.write("b/larder.toml", text);
    soon("it is still told", || !ready(&a).contains("differs") && !ready(&b).contains("differs"));
    // One that is about to end says so, and gives what is asked of it.
    b.signal("TERM");
    soon("it does not say that it ends", || {
        b.ask("GET", "/readyz").status == 503
            && b.ask("GET", "/readyz").text().contains("about to end")
    });
    let answer = ask(b.host(), "GET", "/v2/vendor/kettle/manifests/2", &[], b"").unwrap();
    assert_eq!(
        (answer.status, answer.header("connection")),
        (200, Some("close")),
        "{}",
        answer.head
    );
    assert_eq!(b.stop("TERM"), 0);
    soon("it is still known", || {
        let said = replicas.larder("a", "check --offline").ends(0);
        said.out.contains("1 larder serves it now") || said.err.contains("1 larder serves it now")
    });
}
