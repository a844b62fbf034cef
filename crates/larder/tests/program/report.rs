//! The report: one page with the figures that `--json` says, whatever the names are.

use crate::house::{House, OWN};

/// The text of an element, by its id.
fn by_id(page: &str, id: &str) -> String {
    let at = page.find(&format!("id=\"{id}\"")).unwrap_or_else(|| panic!("no {id}"));
    let from = page[at..].find('>').unwrap() + at + 1;
    page[from..from + page[from..].find('<').unwrap()].to_owned()
}

#[test]
fn the_page_says_what_json_says_and_needs_nothing_else() {
    let house = House::new();
    house.larder("report --into page").ends(2).says(&["there is no store"]);
    house.larder("intake lock").ends(0);
    house.larder("intake run --new-store").ends(0);
    let told = house.larder("report --into page").ends(0);
    told.says(&["wrote page/report.html", "5 tags", "lines to decide"]);
    let json = house.larder("--json report --into page --days 7").ends(0).json();
    let (figures, page) = (&json["figures"], house.read("page/report.html"));
    assert_eq!(by_id(&page, "tags"), figures["tags"].to_string());
    assert_eq!(by_id(&page, "pulls"), figures["pulls_in_all"].to_string());
    assert_eq!(by_id(&page, "concerns"), figures["concerns"].as_array().unwrap().len().to_string());
    assert!(page.contains("the last 7 days"));
    for row in figures["concerns"].as_array().unwrap() {
        assert!(page.contains(row["text"].as_str().unwrap()), "{row}");
    }
    assert!(page.contains("5 of 5 wanted images were brought in"));
    // Nothing is fetched: no reference leads out of the page.
    for reference in ["src=", "href=", "url(", "@import"] {
        assert!(!page.contains(reference), "{reference}");
    }
    assert!(page.contains("default-src 'none'"));
    house.larder("report --into page --days 0").ends(2);
}

#[test]
fn hostile_names_do_not_break_out_of_the_page() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"own\"\n");
    house.larder(&format!("copy bazaar.example/library/kettle:2 {OWN}/own/kettle:2")).ends(0);
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    let hostile = "</table><script>alert(1)</script>\u{202e}\u{1b}[31m'\"&";
    let now = larder_store::now();
    for kind in ["pull", "refused", "delete"] {
        ledger
            .execute(
                "INSERT INTO record (number, first, last, count, kind, who, reference, line, text)
                 VALUES (?1, ?2, ?2, 9, ?1, ?3, ?3, ?3, ?3)",
                rusqlite::params![kind, now, hostile],
            )
            .unwrap();
    }
    ledger
        .execute(
            "INSERT INTO sightings (cluster, namespace, workload, repository, selector, digest, how, last)
             VALUES ('own', ?1, ?1, 'own/kettle', '2', '', 'door', ?2)",
            rusqlite::params![hostile, now],
        )
        .unwrap();
    house.larder("report --into page").ends(0);
    let page = house.read("page/report.html");
    assert_eq!(page.matches("<script>").count(), 1, "the page's own");
    assert!(page.contains("&#60;script&#62;alert(1)") || page.contains("&lt;script&gt;alert(1)"));
    assert!(!page.contains('\u{202e}') && !page.contains('\u{1b}'));
}

#[test]
fn growth_is_drawn_from_samples_that_stay_few() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.larder("intake run --new-store").ends(0);
    house.larder("report --into page").ends(0);
    assert!(house.read("page/report.html").contains("There are not two moments to compare yet"));
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    let (hour, now) = (3_600_000, larder_store::now());
    for back in 1..2000_i64 {
        let at = (now / hour - back) * hour;
        ledger
            .execute(
                "INSERT INTO samples VALUES ('shelf-bytes', 'vendor', ?1, ?2)",
                [at, 1_000_000 - back * 100],
            )
            .unwrap();
    }
    house.larder("report --into page").ends(0);
    assert!(house.read("page/report.html").contains("class=\"plot\""));
    let held: i64 = ledger.query_row("SELECT COUNT(*) FROM samples", [], |row| row.get(0)).unwrap();
    assert!(
        held <= 7 * 24 + 2 + 2000 / 24,
        "one for each hour of a week, then one for each day: {held}"
    );
}

#[test]
fn what_the_larders_did_hour_by_hour_is_added_up_and_drawn() {
    let house = House::new();
    house.configure("[[shelf]]\nname = \"vendor\"\n");
    let serving = crate::serving::Serving::start(&house);
    let ledger = rusqlite::Connection::open(house.path("larder-data/ledger.sqlite")).unwrap();
    let noted =
        "SELECT COUNT(*) FROM samples WHERE kind = 'service' AND name LIKE 'requests %:' || ?1";
    let port = serving.address.rsplit(':').next().unwrap();
    crate::node::wait_until("this hour is noted", || {
        ledger.query_row(noted, [port], |row| row.get::<_, i64>(0)).unwrap() == 1
    });
    house.larder("report --into page").ends(0);
    assert!(house.read("page/report.html").contains("There are not two hours to compare yet"));
    drop(serving);
    let (hour, now) = (3_600_000, larder_store::now());
    ledger.execute("DELETE FROM samples WHERE kind = 'service'", []).unwrap();
    for (name, back, value) in [
        ("requests gate-1:5080", 3, 1000),
        ("requests gate-2:5080", 3, 500),
        ("requests gate-1:5080", 2, 7),
        ("refused gate-1:5080", 2, 4),
        ("failed gate-1:5080", 2, 2),
        ("sent gate-2:5080", 2, 4096),
        ("received gate-2:5080", 2, 2048),
        ("requests gate-2:5080", 24 * 8, 999_999),
    ] {
        let at = (now / hour - back) * hour;
        let insert = "INSERT INTO samples VALUES ('service', ?1, ?2, ?3)";
        ledger.execute(insert, rusqlite::params![name, at, value]).unwrap();
    }
    let json = house.larder("report --into page --json").ends(0).json();
    let service = &json["figures"]["service"];
    assert_eq!(service["hours"].as_array().unwrap().len(), 2, "{service}");
    assert_eq!(service["hours"][0]["requests"], 1500);
    let page = house.read("page/report.html");
    let said = "In 2 hours: 1507 requests, 4 refused, 2 failed; 4.0 KiB sent, 2.0 KiB taken.";
    assert!(page.contains(said), "{}", &page[page.find("Service, hour").unwrap()..]);
    let section = page.split("id=\"service\"").nth(1).unwrap().split("</section>").next().unwrap();
    assert!(section.contains("class=\"plot\"") && section.contains("refused"), "{section}");
}
