//! What the node said, beside what is found from here.

use super::{cause, granted};
use crate::house::{OWN, run};
use crate::serving::{Serving, ask};

/// Events as a cluster shows them, with the two lines that only say that there was a failure.
fn described(image: &str, rest: &str) -> String {
    format!(
        "Events:\n  Type     Reason   Age  From     Message\n  Normal   Pulling  3s   kubelet  Pulling image \"{image}\"\n  Warning  Failed   2s   kubelet  Failed to pull image \"{image}\": rpc error: code = Unknown desc = failed to pull and unpack image \"{image}\": {rest}\n  Warning  Failed   2s   kubelet  Error: ErrImagePull\n  Normal   BackOff  1s   kubelet  Back-off pulling image \"{image}\"\n  Warning  Failed   1s   kubelet  Error: ImagePullBackOff\n"
    )
}

#[test]
fn what_the_node_said_is_not_overruled_by_asking_without_its_secret() {
    let house = granted("");
    let serving = Serving::start(&house);
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let url = format!("http://{OWN}/v2/vendor/steamgauge/manifests/1.9.2");
    let resolve = format!("failed to resolve reference \"{image}\": ");
    for (said, wanted) in [
        (
            format!(
                "{resolve}unexpected status from HEAD request to {url}: 401 Unauthorized: the sign-in is refused: the key kh4f of turbine-hall/scada is revoked"
            ),
            "key-revoked",
        ),
        (
            format!(
                "{resolve}unexpected status from HEAD request to {url}: 401 Unauthorized: the sign-in is refused: the key kh4f of turbine-hall/scada has expired"
            ),
            "key-expired",
        ),
        (
            format!(
                "{resolve}unexpected status from HEAD request to {url}: 401 Unauthorized: the sign-in is refused: this key is not as it was issued: a character is wrong or missing"
            ),
            "key-unknown",
        ),
        (
            format!(
                "{resolve}unexpected status from HEAD request to {url}: 403 Forbidden: turbine-hall/scada may not pull vendor/steamgauge: no grant names it"
            ),
            "grant-missing",
        ),
        (
            format!(
                "{resolve}failed to do request: Head \"https://{OWN}/v2/vendor/steamgauge/manifests/1.9.2\": http: server gave HTTP response to HTTPS client"
            ),
            "plain-http",
        ),
        ("no match for platform in manifest: not found".to_owned(), "platform-missing"),
        (
            format!(
                "failed to copy: httpReadSeeker: failed open: unexpected status from GET request to {url}: 403 Forbidden\ndenied: {image} is refused by rule `x`: y"
            ),
            "rule-denies",
        ),
        (
            "failed to extract layer: write /var/lib/x: no space left on device".to_owned(),
            "disk-full",
        ),
    ] {
        let text = described(&image, &said);
        for how in [format!("--larder {}", serving.address), "--offline".to_owned()] {
            let line = format!("why --json --cluster turbine-hall --namespace scada {how} --event");
            let found = run(house.command(&line).arg(&text)).ends(1);
            assert_eq!(cause(&found).0, wanted, "{how} {said}\n{}", found.out);
            assert_ne!(cause(&found).1, "certain", "{how} {said}");
            let images = found.json()["images"].as_array().unwrap().len();
            assert_eq!(images, 1, "one pull is one answer: {}", found.out);
        }
    }
    // Nothing but that it failed: then it is not said to work.
    let vague = format!("Warning  Failed  2s  kubelet  Back-off pulling image \"{image}\"");
    let line = "why --cluster turbine-hall --namespace scada --offline --event";
    run(house.command(line).arg(&vague)).ends(3).says(&["it cannot be told"]);
}

#[test]
fn a_number_in_what_the_node_said_is_looked_up() {
    let house = granted("");
    let serving = Serving::start(&house);
    let image = format!("{OWN}/vendor/steamgauge:1.9.2");
    let fields = [("authorization", crate::access::basic("turbine-hall", "nonsense"))];
    let fields: Vec<(&str, &str)> = fields.iter().map(|(a, b)| (*a, b.as_str())).collect();
    let refused =
        ask(serving.host(), "GET", "/v2/vendor/steamgauge/manifests/1.9.2", &fields, b"").unwrap();
    assert_eq!(refused.status, 401);
    let text = refused.text();
    let number = text.split('[').next_back().unwrap().split(']').next().unwrap().to_owned();
    crate::node::wait_until("the record has it", || {
        house.larder(&format!("log {number}")).out.contains(&number)
    });
    // Newer runtimes hide the sentence, and leave the number.
    let said =
        described(&image, &format!("failed to resolve image: pull access denied: x [{number}]"));
    let found = run(house.command("why --json --offline --event").arg(&said)).ends(1);
    assert_eq!(cause(&found).1, "certain", "{}", found.out);
    assert!(found.out.contains(&format!("larder log {number}")), "{}", found.out);
}

#[test]
fn each_cause_is_explained_without_the_documentation() {
    let house = crate::house::House::new();
    house.larder("help cause disk-full").ends(0).says(&["The node's disk is full", "What to do:"]);
    house.larder("help cause").ends(0).says(&["key-revoked", "the key was revoked"]);
    house.larder("help cause key-revokd").ends(2).says(&["did you mean `key-revoked`?"]);
    house.larder("help shelf block").ends(0).says(&["Usage: larder shelf block"]);
    house.larder("help shelf nonsense").ends(2).says(&["no command `nonsense`"]);
}
