//! Nobody takes all, and nobody passes for another: rates of accounts, and who stands behind a proxy.

use crate::access::{basic, granted};
use crate::house::House;
use crate::node::wait_until;
use crate::serving::{Answer, Serving, ask};

fn get(serving: &Serving, login: &str, path: &str) -> Answer {
    ask(serving.host(), "GET", path, &[("authorization", login)], b"").unwrap()
}

/// Gives the account `ci` a rate, as the running server reads it.
fn rate(house: &House, rate: &str) {
    let text = house.read("larder.toml");
    let kept: Vec<&str> = text.lines().filter(|line| !line.starts_with("rate = ")).collect();
    let text = format!("{}\n", kept.join("\n"));
    house.write("larder.toml", text.replace("name = \"ci\"\n", &format!("name = \"ci\"\n{rate}")));
}

#[test]
fn one_account_does_not_starve_the_others() {
    let house = granted("");
    rate(&house, "rate = { requests = 3, per = \"1h\" }\n");
    let serving = Serving::start(&house);
    let ci = basic("ci", &house.issue("--account ci"));
    let scada =
        basic("turbine-hall/scada", &house.issue("--cluster turbine-hall --namespace scada"));
    let path = "/v2/vendor/steamgauge/manifests/1.9.2";
    // Answered from the store first, and from memory from then on.
    for _ in 0..3 {
        assert_eq!(get(&serving, &ci, path).status, 200);
    }
    let refused = get(&serving, &ci, path);
    assert_eq!(refused.status, 429);
    assert!(
        refused.text().contains("the account ci has taken all that its rate"),
        "{}",
        refused.text()
    );
    assert!(refused.text().contains("TOOMANYREQUESTS"), "{}", refused.text());
    let head = refused.head.to_ascii_lowercase();
    let field = head.lines().find_map(|line| line.strip_prefix("retry-after: ")).unwrap();
    let wait: u64 = field.parse().unwrap();
    assert!((1100..=1200).contains(&wait), "{wait}");
    assert_eq!(get(&serving, &scada, path).status, 200);
    // Bytes are counted when they went: the next one waits.
    rate(&house, "rate = { bytes = \"1 B\", per = \"1h\" }\n");
    serving.signal("HUP");
    wait_until("the new rate holds", || get(&serving, &ci, path).text().contains("again in"));
    assert_eq!(get(&serving, &scada, path).status, 200);
    rate(&house, "");
    serving.signal("HUP");
    wait_until("no rate holds", || get(&serving, &ci, path).status == 200);
}

#[test]
fn a_rate_that_bounds_nothing_is_refused() {
    let house = granted("");
    for (wrong, told) in [
        ("rate = { per = \"1m\" }\n", "a rate names `requests`, `bytes` or both"),
        ("rate = { requests = 0 }\n", "`requests` must be a number, 1 or more, not 0"),
        ("rate = { requests = 5, per = \"0s\" }\n", "a day at most"),
        ("rate = { requests = 5, per = \"9d\" }\n", "a day at most"),
        ("rate = { bytes = \"many\" }\n", "is not a size"),
    ] {
        rate(&house, wrong);
        let run = house.larder("check --offline").ends(2);
        assert!(run.err.contains(told), "{wrong}: {}", run.err);
    }
}

#[test]
fn only_a_proxy_that_is_named_says_whom_it_forwards() {
    for proxies in [false, true] {
        let house = granted("");
        if proxies {
            let text = house.read("larder.toml");
            let named = "[larder]\nproxies = [\"127.0.0.0/8\"]\n";
            house.write("larder.toml", text.replace("[larder]\n", named));
        }
        let serving = Serving::start(&house);
        let host = serving.host();
        for (field, value) in [
            ("x-forwarded-for", "203.0.113.9, 198.51.100.7"),
            ("forwarded", "for=203.0.113.9, for=\"198.51.100.7:4711\""),
        ] {
            ask(host, "GET", &format!("/v2/{field}/tags/list"), &[(field, value)], b"").unwrap();
            let line = || {
                let log = serving.log();
                log.lines().find(|line| line.contains(&format!("/{field}/"))).map(str::to_owned)
            };
            wait_until("the request is in the log", || line().is_some());
            let line = line().unwrap();
            assert_eq!(line.contains("198.51.100.7"), proxies, "{line}");
            assert!(!line.contains("203.0.113.9"), "what a client says of itself: {line}");
        }
        // A proxy writes one of them, and hands on the other as it came.
        let twice = [("forwarded", "for=198.51.100.7"), ("x-forwarded-for", "192.0.2.1")];
        let answer = ask(host, "GET", "/v2/both/tags/list", &twice, b"").unwrap();
        assert_eq!(answer.status, if proxies { 400 } else { 401 });
    }
}
