//! What needs a decision today: each kind of line, the worst first, silenced and shown again.

use crate::house::{House, OWN};
use crate::serving::Serving;

fn ledger(house: &House) -> rusqlite::Connection {
    rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap()
}

fn lines(house: &House) -> Vec<(String, String)> {
    let rounds = house.larder("--json rounds").json();
    let rows = rounds["concerns"].as_array().unwrap();
    let text = |row: &serde_json::Value, key: &str| row[key].as_str().unwrap().to_owned();
    rows.iter().map(|row| (text(row, "name"), text(row, "urgency"))).collect()
}

/// How full the disk of this machine is, is no part of the test.
fn calm(house: &House) {
    house.larder("rounds --silence room --because machine --for 300d");
}

fn has(house: &House, name: &str) -> Option<String> {
    lines(house).into_iter().find(|(one, _)| one == name).map(|(_, urgency)| urgency)
}

#[test]
fn what_is_old_fails_ends_or_fills_is_told_until_it_is_done() {
    let house = House::new();
    house.larder("rounds").ends(2).says(&["there is no store"]);
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0);
    calm(&house);
    // Nothing was ever looked after.
    assert_eq!(has(&house, "backup").as_deref(), Some("soon"));
    assert_eq!(has(&house, "verify").as_deref(), Some("soon"));
    house
        .larder("rounds")
        .ends(0)
        .says(&["the store was never backed up", "→ larder store backup"]);
    house.larder("store backup safe").ends(0);
    house.larder("store verify").ends(0);
    assert_eq!(lines(&house), []);
    house.larder("rounds").ends(0).says(&["nothing needs a decision"]);
    let day = 24 * 3_600_000_i64;
    ledger(&house).execute(&format!("UPDATE marks SET at = at - {}", 40 * day), []).unwrap();
    assert_eq!(has(&house, "backup").as_deref(), Some("urgent"));
    let told = house.larder("rounds").ends(1).says(&["40 days ago", "2 lines, 1 urgent"]);
    assert!(told.out.find("backed up").unwrap() < told.out.find("read again").unwrap());
    assert_eq!(house.larder("rounds --since 1d").ends(0).says(&["nothing needs"]).exit, 0);
    let cron = house.larder("--quiet rounds").ends(1);
    assert!(cron.out.contains("backed up") && !cron.out.contains("read again"), "{}", cron.out);
    // Silenced with a reason and an end.
    house.larder("rounds --silence backup").ends(2);
    house
        .larder("rounds --silence bakcup --because x --for 1d")
        .ends(2)
        .says(&["did you mean backup?"]);
    let year = "rounds --silence backup --because x --for 400d";
    house.larder(year).ends(2).says(&["longer than a year"]);
    let words = ["rounds", "--silence", "backup", "--because", "the new disk", "--for", "5d"];
    house.larder_words(&words).ends(0).says(&["backup is silenced until"]);
    house.larder("rounds").ends(0).says(&["silenced; `--silenced` shows them"]);
    house.larder("rounds --silenced").ends(0).says(&["because the new disk"]);
    ledger(&house).execute("UPDATE marks SET value = '{\"because\":\"x\",\"until\":5}' WHERE name = 'silence/backup'", []).unwrap();
    house.larder("rounds").ends(1).says(&["backed up"]);
    house.larder("rounds --unsilence backup").ends(0);
    house.larder("rounds --unsilence backup").ends(1).says(&["was not silenced"]);
}

#[test]
fn what_intake_lock_and_surveys_left_open_is_told() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let text = house.read("larder.toml");
    house.write("larder.toml", format!("{text}\n[[intake]]\nimage = \"bazaar.example/library/none\"\ntags = {{ exact = [\"1\"] }}\nto = \"vendor/none\"\n"));
    house.larder("intake lock").ends(3);
    house.larder("survey deploy").ends(1);
    house.larder("intake run --new-store");
    house.larder("survey deploy").ends(1);
    let names: Vec<String> = lines(&house).into_iter().map(|(name, _)| name).collect();
    for name in ["lock", "survey/uncovered", "survey/malformed"] {
        assert!(names.iter().any(|one| one == name), "{name}: {names:?}");
    }
    house.larder("rounds").says(&[
        "bazaar.example/library/none:1 is wanted and not locked",
        "references that nobody brings in",
    ]);
}

#[test]
fn what_is_refused_again_and_again_and_keys_that_end_are_told() {
    let house = crate::access::granted("");
    house.larder("key issue --cluster turbine-hall --namespace scada --expires 2d").ends(0);
    house.larder("key issue --account ci --expires 10d").ends(0);
    assert_eq!(has(&house, "key/turbine-hall/scada").as_deref(), Some("urgent"));
    assert_eq!(has(&house, "key/ci").as_deref(), Some("soon"));
    house.larder("rounds").ends(1).says(&[
        "the key of the cluster turbine-hall/scada ends",
        "larder handoff apply turbine-hall --rotate-before 14d",
    ]);
    let next = house.larder("--json key rotate --account ci --expires 90d").ends(0).json();
    let secret = next["secret"].as_str().unwrap().to_owned();
    assert_eq!(has(&house, "key/ci"), None, "the next one is there");
    let serving = Serving::start(&house);
    for _ in 0..6 {
        use base64::Engine as _;
        let login = base64::engine::general_purpose::STANDARD.encode(format!("ci:{secret}"));
        let field = [("authorization", format!("Basic {login}"))];
        let field: Vec<(&str, &str)> = field.iter().map(|(a, b)| (*a, b.as_str())).collect();
        let path = "/v2/secret/thing/manifests/1";
        let answer = crate::serving::ask(serving.host(), "GET", path, &field, b"").unwrap();
        assert!(answer.status >= 400);
    }
    crate::node::wait_until("the refusals are told", || {
        lines(&house).iter().any(|(name, _)| name.starts_with("refused/ci/"))
    });
    house.larder("rounds").says(&[
        "ci was refused secret/thing:1",
        "times in 7 days",
        "larder log ",
    ]);
    // A configuration that cannot be used.
    let text = house.read("larder.toml");
    house.write("larder.toml", format!("{text}\nnonsense = 1\n"));
    serving.signal("HUP");
    crate::node::wait_until("the larder has read it", || {
        let ask = "SELECT value FROM marks WHERE name = 'configuration/wrong'";
        ledger(&house)
            .query_row(ask, [], |row| row.get::<_, String>(0))
            .is_ok_and(|text| !text.is_empty())
    });
    house.write("larder.toml", &text);
    house.larder("rounds").ends(1).says(&["the changed configuration cannot be used"]);
    crate::node::wait_until("it is right again", || has(&house, "configuration-wrong").is_none());
}

#[test]
fn a_shelf_near_its_quota_and_a_damaged_store_are_told() {
    let house = House::new();
    house.configure(
        "[[shelf]]\nname = \"own\"\nquota = { shelf = \"100 KiB\", repository = \"98 KiB\" }\n",
    );
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/own/kettle:2")).ends(0);
    let used = house.larder("--json shelf list").ends(0).json()["shelves"][0]["quota_used_bytes"]
        .as_u64()
        .unwrap();
    let text = house.read("larder.toml").replace("100 KiB", &format!("{} B", used + used / 50));
    house.write("larder.toml", text);
    assert_eq!(has(&house, "quota/own").as_deref(), Some("urgent"));
    house.larder("rounds").ends(1).says(&["the shelf own holds", "larder shelf tidy own"]);
    let blobs = house.path("larder-data/content");
    let mut waiting = vec![blobs];
    let mut broken = false;
    while let Some(folder) = waiting.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                waiting.push(path);
            } else if !broken {
                std::fs::write(path, "damaged").unwrap();
                broken = true;
            }
        }
    }
    house.larder("store verify").ends(4);
    assert_eq!(has(&house, "damage").as_deref(), Some("urgent"));
}
