//! Keys: issued, used, rotated, revoked, recorded; and what a change of the configuration does.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

pub use base64_of::basic;

use crate::house::{House, OWN, Run};
use crate::node::wait_until;
use crate::serving::{Answer, Serving, ask};

/// Whose grants hold in these tests.
pub const GRANTS: &str = r#"
[[intake]]
image = "bazaar.example/library/kettle"
tags = { exact = ["2"] }
to = "vendor/kettle"

[[intake]]
image = "ventworks.example/gauges/steamgauge"
tags = { exact = ["1.9.2"] }
to = "vendor/steamgauge"

[[class]]
name = "community"
match = ["bazaar.example/**"]

[[rule]]
name = "nothing unvetted"
clusters = ["turbine-hall"]
namespaces = ["scada"]
classes = ["community"]
verdict = "deny"
because = "runs the turbines; ask for an intake entry instead"

[[account]]
name = "ci"
pull = ["vendor/**"]
push = ["apps/**"]

[[shelf]]
name = "apps"

[[cluster]]
name = "turbine-hall"
namespaces = ["scada", { name = "historian", pull = ["vendor/steamgauge"] }]
platforms = ["linux/amd64"]
pull = ["vendor/**"]
"#;

/// A house in which grants hold, with everything brought in.
pub fn granted(more: &str) -> House {
    let house = House::new();
    house.configure(&format!("{GRANTS}{more}"));
    let text = house.read("larder.toml");
    house.write("larder.toml", text.replace("access = \"open\"", "access = \"grants\""));
    house.bring_in();
    house
}

/// What `base64` says of a login; the tests have no other use for the crate.
mod base64_of {
    const LETTERS: &[u8; 64] = b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";

    pub fn basic(user: &str, secret: &str) -> String {
        let mut text = String::from("Basic ");
        for three in format!("{user}:{secret}").as_bytes().chunks(3) {
            let bits = three
                .iter()
                .enumerate()
                .fold(0_u32, |all, (at, byte)| all | u32::from(*byte) << (16 - 8 * at));
            for at in 0..4 {
                let letter = LETTERS[(bits >> (18 - 6 * at) & 63) as usize];
                text.push(if at <= three.len() { char::from(letter) } else { '=' });
            }
        }
        text
    }
}

impl House {
    /// Issues a key and gives its secret.
    pub fn issue(&self, whose: &str) -> String {
        let issued = self.larder(&format!("key issue {whose} --json")).ends(0);
        issued.json()["secret"].as_str().unwrap().to_owned()
    }
}

fn get(serving: &Serving, path: &str, user: &str, secret: &str) -> Answer {
    let authorization = basic(user, secret);
    ask(serving.host(), "GET", path, &[("authorization", &authorization)], b"").unwrap()
}

const GAUGE: &str = "/v2/vendor/steamgauge/manifests/1.9.2";
const KETTLE: &str = "/v2/vendor/kettle/manifests/2";

#[test]
fn a_key_lets_in_until_it_is_revoked_and_the_record_tells() {
    let house = granted("");
    let serving = Serving::start(&house);
    assert!(
        serving.said.iter().any(|line| line.contains("by grants: 1 cluster, 1 account, 1 rule")),
        "{:?}",
        serving.said
    );
    let secret = house.issue("--cluster turbine-hall");
    assert!(secret.starts_with("larder_"));
    assert_eq!(serving.ask("GET", GAUGE).status, 401);
    assert_eq!(get(&serving, GAUGE, "turbine-hall", &secret).status, 200);
    let refused = get(&serving, "/v2/apps/board/tags/list", "turbine-hall", &secret);
    assert_eq!(refused.status, 403);
    assert!(
        refused.head.starts_with(
            "HTTP/1.1 403 Forbidden: the cluster turbine-hall may not pull apps/board"
        ),
        "{}",
        refused.head
    );
    let number = refused.text().split('[').nth(2).unwrap().split(']').next().unwrap().to_owned();
    let mut said = Run { exit: 1, out: String::new(), err: String::new() };
    wait_until("the refusal is in the record", || {
        said = house.larder(&format!("log {number}"));
        said.exit == 0
    });
    said.says(&["refused", "turbine-hall", "apps/board", "decided by larder.toml:"]);
    wait_until("the use of the key is noted", || {
        house.larder("key list").out.contains("127.0.0.1")
    });
    let listed = house.larder("key list").ends(0).says(&[
        "turbine-hall",
        "pull vendor/**",
        "just now from 127.0.0.1",
    ]);
    assert!(!listed.out.contains(&secret));
    let id = secret.split('_').nth(1).unwrap();
    house.larder(&format!("key revoke {id} --dry-run")).ends(0).says(&["would revoke"]);
    house.larder(&format!("key revoke {id} --yes")).ends(0).says(&["revoked"]);
    wait_until("the key is no longer good", || {
        get(&serving, GAUGE, "turbine-hall", &secret).status == 401
    });
    house.larder(&format!("key revoke {id}")).ends(1).says(&["is revoked already"]);
    house
        .larder("key revoke zzzzzzzz")
        .ends(1)
        .says(&["no key zzzzzzzz was issued", "nothing was revoked"]);
    house.larder("key revoke nonsense!").ends(2).says(&["`nonsense!` is not the name of a key"]);
    // A key that was found lying about is its name, too, and is never shown.
    let torn = &secret[..60];
    let wrong = house.larder(&format!("key revoke {torn}")).ends(2);
    assert!(!wrong.err.contains(&torn[18..]), "{}", wrong.err);
    house.larder(&format!("key revoke {secret}")).ends(1).says(&["is revoked already"]);
    house
        .larder(&format!("log --about {id} --kind key"))
        .ends(0)
        .says(&["issued for turbine-hall", "revoked"]);
    let lines = house.larder("log --json --who turbine-hall").ends(0).out;
    for line in lines.lines() {
        let line: serde_json::Value = serde_json::from_str(line).unwrap();
        assert!(
            line["number"].as_str().unwrap().len() == 8
                && line["last_at"].as_str().unwrap().ends_with('Z')
        );
    }
    assert!(lines.contains("\"pull\"") && lines.contains("vendor/steamgauge:1.9.2"), "{lines}");
    house.larder("log --who nobody").ends(1).says(&["no record matches"]);
    house.larder("log --kind song").ends(2).says(&["possible values: sign-in, failed"]);
    // Nothing that was written down holds the secret.
    for file in ["serve.log", "larder-data/ledger.sqlite", "larder-data/ledger.sqlite-wal"] {
        let bytes = fs::read(house.path(file)).unwrap_or_default();
        let found = bytes.windows(secret.len()).any(|part| part == secret.as_bytes());
        assert!(!found, "{file} holds the secret");
    }
    let mode = fs::metadata(house.path("larder-data/access.secret")).unwrap().permissions().mode();
    assert_eq!(mode & 0o777, 0o600);
}

#[test]
fn a_rotation_breaks_no_pull_and_ends_only_what_nobody_uses() {
    let house = granted("");
    let serving = Serving::start(&house);
    house.larder("key rotate --account ci").ends(1).says(&["has no key that is good"]);
    let first = house.issue("--account ci");
    house
        .larder("key issue --account ci")
        .ends(1)
        .says(&["has a key already", "larder key rotate"]);
    assert_eq!(get(&serving, GAUGE, "ci", &first).status, 200);
    wait_until("the use is noted", || house.larder("key list").out.contains("127.0.0.1"));
    house
        .larder("key rotate --account ci --finish")
        .ends(1)
        .says(&["has only one key that is good"]);
    let rotated = house.larder("key rotate --account ci --into next.key").ends(0);
    rotated.says(&["was last used: just now from 127.0.0.1", "in next.key"]);
    assert_eq!(fs::metadata(house.path("next.key")).unwrap().permissions().mode() & 0o777, 0o600);
    let second = house.read("next.key").trim().to_owned();
    for secret in [&first, &second] {
        let answer = get(&serving, GAUGE, "ci", secret);
        assert_eq!(answer.status, 200, "{}", answer.text());
    }
    house.larder("key rotate --account ci").ends(1).says(&["two keys are good already"]);
    house.larder("key rotate --account ci --finish").ends(1).says(&["is still in use", "--force"]);
    wait_until("the second key's use is noted", || {
        house.larder("key list --json").json()["keys"][1]["used_at"].is_string()
    });
    house
        .larder("key rotate --account ci --finish --idle 0s --dry-run")
        .ends(0)
        .says(&["would end", "stays"]);
    house
        .larder("key rotate --account ci --finish --idle 0s --yes")
        .ends(0)
        .says(&["ended", "stays"]);
    wait_until("the first key is ended", || get(&serving, GAUGE, "ci", &first).status == 401);
    assert_eq!(get(&serving, GAUGE, "ci", &second).status, 200);
    house.larder("key list --soon 91d").ends(1).says(&["1 key expires within 91d"]);
    house.larder("key list --all").ends(0).says(&["revoked"]);
}

#[test]
fn a_key_is_tested_for_images_and_against_the_larder() {
    let house = granted("");
    let serving = Serving::start(&house);
    let url = format!("url = \"http://{OWN}\"");
    let text = house.read("larder.toml").replace(&url, &format!("url = \"{}\"", serving.address));
    house.write("larder.toml", &text);
    let host = serving.host().to_owned();
    house.larder("key list").ends(0).says(&["no keys were issued"]);
    let secret = house.issue("--cluster turbine-hall --namespace historian");
    let tested = house.larder_reads(
        &format!("key test --online --image {host}/vendor/steamgauge:1.9.2"),
        &secret,
    );
    tested.ends(0).says(&[
        "of turbine-hall/historian is good",
        "may pull   vendor/steamgauge",
        "may pull",
        "the larder takes it",
        "1 Authorization",
    ]);
    let more = house.larder_reads(
        &format!("key test --image {host}/vendor/kettle:2 --json"),
        &format!("turbine-hall/historian:{secret}"),
    );
    let report = more.ends(1).json();
    assert_eq!(report["images"][0]["allowed"], false);
    assert!(report["images"][0]["line"].as_str().unwrap().starts_with("larder.toml:"));
    house.larder_reads("key test", &format!("ci:{secret}")).ends(1).says(&["not of ci"]);
    let mut wrong = secret.clone();
    wrong.replace_range(20..21, if &secret[20..21] == "q" { "r" } else { "q" });
    house.larder_reads("key test", &wrong).ends(1).says(&["a character is wrong"]);
    house.larder_reads("key test", "password").ends(1).says(&["no key of a larder"]);
    house.larder("key test nothing.key").ends(2).says(&["cannot test the key"]);
    house
        .larder("key issue --cluster nowhere")
        .ends(2)
        .says(&["the cluster nowhere is not declared", "turbine-hall"]);
    house.larder("key issue --cluster turbine-hall --expires 0s").ends(2);
    house.larder("key issue").ends(2);
}

#[test]
fn a_rule_explains_itself_where_the_developer_reads() {
    let house = granted("");
    let serving = Serving::start(&house);
    let secret = house.issue("--cluster turbine-hall --namespace scada");
    let authorization = basic("turbine-hall/scada", &secret);
    let head =
        ask(serving.host(), "HEAD", KETTLE, &[("authorization", &authorization)], b"").unwrap();
    assert!(head.head.starts_with("HTTP/1.1 403 Forbidden: vendor/kettle:2 is refused by rule `nothing unvetted`: runs the turbines; ask for an intake entry instead ["), "{}", head.head);
    assert_eq!(get(&serving, GAUGE, "turbine-hall/scada", &secret).status, 200);
}

#[test]
fn a_changed_configuration_holds_without_a_new_start() {
    let house = granted("");
    let serving = Serving::start(&house);
    let secret = house.issue("--account ci");
    assert_eq!(get(&serving, GAUGE, "ci", &secret).status, 200);
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replace("pull = [\"vendor/**\"]\npush", "pull = [\"vendor/kettle\"]\npush"),
    );
    serving.signal("HUP");
    wait_until("the grant is taken back", || get(&serving, GAUGE, "ci", &secret).status == 403);
    house.write("larder.toml", "[larder\n");
    serving.signal("HUP");
    wait_until("the fault is told", || serving.log().contains("so what held before holds"));
    assert_eq!(get(&serving, KETTLE, "ci", &secret).status, 200);
    house.write(
        "larder.toml",
        text.replace("[[shelf]]\nname = \"apps\"", "[[shelf]]\nname = \"others\""),
    );
    wait_until("it is noticed without a signal", || {
        get(&serving, GAUGE, "ci", &secret).status == 200
    });
    wait_until("a new shelf is there", || serving.log().contains("in force: grants, [[shelf]]"));
    assert_eq!(serving.stop("TERM"), 0);
    house.write("larder.toml", &text);
    house.larder("log --kind config").ends(0).says(&[
        "is in force: grants",
        "in force: grants, [[shelf]]",
        "cannot be used",
    ]);
}

#[test]
fn a_backup_holds_what_keys_are_checked_with() {
    let house = granted("");
    let secret = house.issue("--account ci");
    house.larder("store backup copy").ends(0);
    assert_eq!(
        fs::metadata(house.path("copy/access.secret")).unwrap().permissions().mode() & 0o777,
        0o600
    );
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replace("access = \"grants\"", "access = \"grants\"\ndata = \"copy\""),
    );
    house.larder_reads("key test", &secret).ends(0).says(&["of ci is good"]);
    fs::set_permissions(house.path("copy/access.secret"), fs::Permissions::from_mode(0o644))
        .unwrap();
    house.larder_reads("key test", &secret).ends(2).says(&["others may read it", "chmod 600"]);
}

#[test]
fn what_is_wrong_with_grants_and_rules_is_told_with_its_place() {
    let house = House::new();
    for (more, said) in [
        ("[[account]]\nname = \"a b\"\n", "can name no account"),
        (
            "[[account]]\nname = \"x\"\n[[cluster]]\nname = \"x\"\n",
            "is the name of an account or cluster already",
        ),
        ("[[cluster]]\nname = \"x\"\nnamespaces = [\"Scada\"]\n", "is no namespace's name"),
        ("[[cluster]]\nname = \"x\"\nnamespaces = [\"a\", \"a\"]\n", "is there twice"),
        (
            "[[cluster]]\nname = \"x\"\nnamespaces = [{ name = \"a\", pul = [] }]\n",
            "`pul` is not a key here",
        ),
        ("[[cluster]]\nname = \"x\"\nnamespaces = [7]\n", "a namespace's name, or a table"),
        ("[[cluster]]\nname = \"x\"\nnodes = [\"10.4/16\"]\n", "is no network"),
        ("[[rule]]\nname = \"r\"\nverdict = \"deny\"\n", "says why"),
        ("[[rule]]\nname = \"r\"\nverdict = \"maybe\"\n", "maybe"),
        (
            "[[cluster]]\nname = \"turbine\"\n[[rule]]\nname = \"r\"\nverdict = \"allow\"\nclusters = [\"turbin\"]\n",
            "write \"turbine\"",
        ),
        (
            "[[rule]]\nname = \"r\"\nverdict = \"allow\"\nclasses = [\"own\"]\n",
            "no [[class]] has the name `own`",
        ),
        (
            "[[rule]]\nname = \"r\"\nverdict = \"deny\"\nbecause = \"x\\ny\"\n",
            "one line of 200 bytes",
        ),
        ("[[rule]]\nname = \"r\"\nverdict = \"allow\"\nasks = { age = \"old\" }\n", "old"),
    ] {
        house.configure(more);
        house.larder("check --offline").ends(2).says(&["larder.toml:", said]);
    }
}

#[test]
fn figures_tell_sign_ins_refusals_and_when_keys_end() {
    let house = granted("");
    let text = house.read("larder.toml");
    house.write(
        "larder.toml",
        text.replace("access = \"grants\"", "access = \"grants\"\nmetrics = \"127.0.0.1:0\""),
    );
    let serving = Serving::start(&house);
    let secret = house.issue("--cluster turbine-hall --namespace scada");
    assert_eq!(get(&serving, GAUGE, "turbine-hall/scada", &secret).status, 200);
    assert_eq!(get(&serving, KETTLE, "turbine-hall/scada", &secret).status, 403);
    assert_eq!(get(&serving, "/v2/apps/x/tags/list", "turbine-hall/scada", &secret).status, 403);
    assert_eq!(get(&serving, GAUGE, "turbine-hall/scada", "wrong").status, 401);
    let line = serving.said.iter().find(|line| line.contains("figures")).unwrap();
    let host = line.split("http://").nth(1).unwrap().split('/').next().unwrap();
    let figures = ask(host, "GET", "/metrics", &[], b"").unwrap().text();
    let id = secret.split('_').nth(1).unwrap();
    for told in [
        "larder_sign_ins_total{outcome=\"good\"} 3".to_owned(),
        "larder_sign_ins_total{outcome=\"failed\"} 1".into(),
        "larder_refusals_total{by=\"rule\",rule=\"".into(),
        "larder_refusals_total{by=\"grant\",rule=\"\"} 1".into(),
        format!("larder_key_expires_timestamp_seconds{{key=\"{id}\",user=\"turbine-hall/scada\"}}"),
    ] {
        assert!(figures.contains(&told), "`{told}` is not told: {figures}");
    }
    assert!(!figures.contains(&secret));
    assert!(serving.log().contains("who=\"turbine-hall/scada\""), "{}", serving.log());
}

#[test]
fn the_record_is_followed_while_it_is_written() {
    use std::io::{BufRead as _, BufReader};
    let house = granted("");
    let serving = Serving::start(&house);
    let secret = house.issue("--account ci");
    let mut command = house.command("log --follow --json --kind refused");
    let mut child = crate::house::spawn(&mut command, std::process::Stdio::null());
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    for name in ["apps-not-mine/a", "apps-not-mine/b"] {
        let refused = get(&serving, &format!("/v2/{name}/tags/list"), "ci", &secret);
        assert_eq!(refused.status, 403);
        let line = lines.next().unwrap().unwrap();
        let line: serde_json::Value = serde_json::from_str(&line).unwrap();
        assert_eq!((line["who"].as_str(), line["reference"].as_str()), (Some("ci"), Some(name)));
        assert!(refused.text().contains(line["number"].as_str().unwrap()));
    }
    child.kill().unwrap();
    child.wait().unwrap();
}
