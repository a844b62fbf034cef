//! Options mean the same in every command that has them.

use crate::access::granted;
use crate::house::House;
use crate::node::wait_until;
use crate::serving::Serving;

/// The names of images in a document, in their order.
fn images(document: &serde_json::Value, list: &str) -> Vec<String> {
    let name = |row: &serde_json::Value| {
        let name = row["image"].as_str().or_else(|| row["reference"].as_str()).unwrap();
        name.to_owned()
    };
    document[list].as_array().unwrap().iter().map(name).collect()
}

#[test]
fn only_and_skip_choose_the_same_images_everywhere() {
    let house = House::new();
    house.write(
        "pods/all.yaml",
        "apiVersion: v1\nkind: Pod\nmetadata: {name: p}\nspec:\n  containers:\n  - image: bazaar.example/library/kettle:2\n  - image: bazaar.example/library/ashlog:1.4\n  - image: ventworks.example/gauges/steamgauge:1.9.2\n",
    );
    house.bring_in();
    let config = house.read("larder.toml");
    house
        .write("larder.toml", format!("{config}\n[[cluster]]\nname = \"hall\"\npull = [\"**\"]\n"));
    let pick = "--only bazaar.example/** --skip **/ashlog";
    for (command, list) in [
        ("survey pods", "references"),
        ("policy check pods", "images"),
        ("why --offline --cluster hall --all pods", "images"),
    ] {
        let run = house.larder(&format!("--json {command} {pick}"));
        let mut found = images(&run.json(), list);
        found.dedup();
        assert_eq!(found, ["bazaar.example/library/kettle:2"], "{command}");
    }
    for command in ["intake diff", "intake status", "intake lock --dry-run"] {
        let found = house.larder(&format!("--json {command} {pick}")).json();
        let names = images(&found, "images");
        assert!(!names.is_empty(), "{command}: {found:#}");
        let fits =
            |name: &String| name.starts_with("bazaar.example/") && !name.ends_with("/ashlog");
        assert!(names.iter().all(fits), "{command}: {names:?}");
    }
    let run = house.larder(&format!("--json intake run --dry-run {pick}")).ends(0).json();
    let all = house.larder("--json intake run --dry-run").ends(0).json();
    assert!(run["there_already"].as_u64() < all["there_already"].as_u64(), "{run:#}");
    house.larder("survey pods --only [").ends(2);
}

#[test]
fn a_dash_reads_stdin_wherever_names_or_deployments_are_taken() {
    let house = granted("");
    let pod = "apiVersion: v1\nkind: Pod\nmetadata: {name: p, namespace: scada}\nspec: {containers: [{image: \"kettle:2\"}]}\n";
    let who = "--cluster turbine-hall";
    house
        .larder_reads(&format!("policy check - {who}"), pod)
        .ends(1)
        .says(&["deny", "kettle:2", "stdin:4"]);
    house.larder_reads("survey -", pod).says(&["kettle", "stdin:4"]);
    let why = house.larder_reads(&format!("why --offline {who} --all -"), pod);
    why.says(&["kettle:2", "stdin:4"]);
    house
        .larder_reads("look -", "# one\nbazaar.example/library/kettle:2\n")
        .ends(0)
        .says(&["digest"]);
    house.larder_reads("look -", "").ends(2).says(&["names 0 references"]);
    house
        .larder_reads("shelf drop - --dry-run", "vendor/kettle:2\n\n# and\nvendor/steamgauge:*\n")
        .ends(0)
        .says(&["vendor/kettle:2", "vendor/steamgauge:1.9.2"]);
    house.larder_reads("shelf drop -", "vendor/none:1\n").ends(1).says(&["holds nothing"]);
}

#[test]
fn a_digest_can_be_named_as_short_as_it_is_shown() {
    let house = House::new();
    house.bring_in();
    let shown = house.larder("shelf show vendor/kettle").ends(0).out;
    let short = shown.split_whitespace().find(|word| word.starts_with("sha256:")).unwrap();
    assert!(short.len() < 30, "{short}");
    house.larder(&format!("shelf show vendor/kettle@{short}")).ends(0).says(&["vendor/kettle:2"]);
    house
        .larder(&format!("shelf drop vendor/kettle@{short} --dry-run"))
        .ends(0)
        .says(&["- vendor/kettle:2"]);
    house.larder("shelf show vendor/kettle@sha256:000000000000").ends(1).says(&["begins with"]);
    house.larder("shelf drop vendor/kettle@sha256:000000000000").ends(1).says(&["begins with"]);
    house.larder("shelf drop vendor/kettle@sha256:12").ends(2);
    house.larder(&format!("shelf drop vendor/kettle@{short} --yes")).ends(0).says(&["dropped"]);
}

#[test]
fn a_span_has_one_grammar_and_a_path_that_is_not_there_one_status() {
    let house = granted("");
    house.larder("serve --grace soon").ends(2).says(&["90s, 15m, 6h or 14d"]);
    house.larder("store collect --dry-run --grace 0").ends(0);
    house.larder("why kettle:2 --offline --patience 1h").ends(2).says(&["from 1s to 2m"]);
    let serving = Serving::with(&house, "--grace 2s");
    assert_eq!(serving.stop("TERM"), 0);
    let who = "--cluster turbine-hall";
    for command in [
        "survey gone.yaml".to_owned(),
        "rewrite gone.yaml".to_owned(),
        format!("policy check gone.yaml {who}"),
        format!("why --offline {who} --all gone.yaml"),
        "look ./gone.tar".to_owned(),
    ] {
        house.larder(&command).ends(2);
    }
}

#[test]
fn a_long_table_is_filtered_and_sorted_and_its_exit_status_is_of_all() {
    let house = granted("");
    let who = "--cluster turbine-hall --namespace scada";
    let asked =
        "policy check ventworks.example/gauges/steamgauge:1.9.2 kettle:2 localhost:5000/x:1";
    let all = house.larder(&format!("--json {asked} {who} --sort verdict")).ends(1).json();
    let verdicts = |found: &serde_json::Value| -> Vec<String> {
        let rows = found["images"].as_array().unwrap().iter();
        rows.map(|row| row["verdict"].as_str().unwrap().to_owned()).collect()
    };
    assert_eq!(verdicts(&all), ["deny", "not-ours", "allow"]);
    let some = house.larder(&format!("--json {asked} {who} --verdict allow")).ends(1).json();
    assert_eq!(verdicts(&some), ["allow"]);
    assert_eq!((&some["counts"]["asked"], &some["counts"]["refused"]), (&3.into(), &1.into()));
    house.larder(&format!("{asked} {who} --verdict maybe")).ends(2);
}

#[test]
fn a_table_keeps_to_the_columns_that_are_said() {
    let house = House::new();
    house.bring_in();
    let shown = |columns: &str| {
        let mut command = house.command("shelf show vendor");
        command.env("COLUMNS", columns);
        crate::house::run(&mut command).ends(0)
    };
    for columns in [40, 60, 80, 120] {
        let run = shown(&columns.to_string());
        let widest = run.out.lines().map(|line| line.chars().count()).max().unwrap();
        assert!(widest <= columns, "{columns}: {}", run.out);
        assert!(run.out.contains("vendor/steamgauge:1.9.2"), "{}", run.out);
    }
    shown("60").says(&["no room for", "`--json` has all"]);
    assert!(!shown("many").err.contains("no room"));
}

#[test]
fn a_key_is_tested_at_the_address_that_is_said() {
    let house = granted("");
    let serving = serve_as(&house);
    let secret = house.issue("--account ci");
    let address = format!("http://{}", serving.host());
    let run = house.larder_reads(&format!("key test - --online --larder {address}"), &secret);
    run.ends(0).says(&["the larder takes it"]);
    house.larder_reads(&format!("key test - --larder {address}"), &secret).ends(2);
}

#[test]
fn what_is_needed_is_said_whole_and_what_was_meant_too() {
    let house = granted("");
    house.larder("key issue").ends(2).says(&["--cluster <NAME>", "--account <NAME>"]);
    let mut named = house.command("look");
    let usage = crate::house::run(named.env("LARDER_CONFIG", "larder.toml")).ends(2);
    assert!(!usage.err.contains("--config"), "{}", usage.err);
    house
        .larder("look ./nowhere")
        .ends(2)
        .says(&["cause: No such file", "try:   check the path\n"]);
    let config = house.read("larder.toml");
    house.write(
        "larder.toml",
        format!("{config}\n[[upstream]]\nname = \"near\"\nhost = \"127.0.0.1:11\"\n"),
    );
    house
        .larder("look 127.0.0.1:1/library/kettle:2")
        .ends(3)
        .says(&["cannot be reached", "did you mean 127.0.0.1:11?"]);
}

fn serve_as(house: &House) -> Serving {
    let serving = Serving::start(house);
    wait_until("it serves", || serving.ask("GET", "/healthz").status == 200);
    serving
}
