//! What somebody is told who has to set up a place, and whether it holds there.

use std::process::Command;

use larder_standin::{BOILER, chart_image, packed_chart};

use crate::access::granted;
use crate::house::House;
use crate::serving::Serving;

const ADA: &str = "\n[[account]]\nname = \"ada\"\npull = [\"vendor/**\"]\npush = [\"apps/**\"]\n";

#[test]
fn every_place_has_its_steps_with_the_real_names_and_no_secret() {
    let house = granted(ADA);
    let secret = house.issue("--account ada");
    house.larder("handoff guide").ends(0).says(&["laptop", "curl", "not tried yet"]);
    for (call, words) in [
        (
            "--for laptop --account ada",
            vec![
                "login --tls-verify=false --username ada --password-stdin larder.emberfall.example:5080",
                "pull --tls-verify=false larder.emberfall.example:5080/vendor/",
                "push --tls-verify=false larder.emberfall.example:5080/apps/NAME:TAG",
                "plain HTTP: keys cross the network readable",
                "carried out with a container engine",
            ],
        ),
        (
            "--for node --cluster turbine-hall",
            vec!["larder handoff write turbine-hall --nodes --into nodes-turbine-hall", "certs.d"],
        ),
        (
            "--for pipeline --account ada",
            vec!["LARDER_KEY", "--username ada", "larder policy check deploy/"],
        ),
        (
            "--for charts --account ada",
            vec!["oci://larder.emberfall.example:5080/apps", "not carried out"],
        ),
        (
            "--for cluster --cluster turbine-hall",
            vec!["larder handoff apply turbine-hall --dry-run", "larder rewrite deploy/ --write"],
        ),
        ("--for http --account ada", vec!["/v2/vendor/", "user = \"ada:%s\"", "larder log NUMBER"]),
    ] {
        let told = house.larder(&format!("handoff guide {call}")).ends(0).says(&words);
        assert!(!format!("{}{}", told.out, told.err).contains(&secret), "{call}");
        let json = house.larder(&format!("--json handoff guide {call}")).ends(0).json();
        assert_eq!(json["kind"], "handoff-guide");
        assert!(json["steps"].as_array().unwrap().len() > 2, "{json}");
    }
    let named = house.larder("handoff guide --for http --account ada --shelf vendor").ends(0);
    assert!(named.out.contains("/v2/vendor/") && !named.out.contains("/v2/apps/"), "{}", named.out);
}

#[test]
fn what_is_shown_is_let_through() {
    let refused = "\n[[class]]\nname = \"all\"\nmatch = [\"**\"]\n\n[[rule]]\nname = \"none here\"\nclusters = [\"turbine-hall\"]\nclasses = [\"all\"]\nverdict = \"deny\"\nbecause = \"a test\"\n";
    let house = granted(&format!("{ADA}{refused}"));
    let open = house.larder("handoff guide --for http --account ada").ends(0);
    assert!(open.out.contains("/v2/vendor/kettle/manifests/2"), "{}", open.out);
    // Nothing that is here would be: a place below what is granted stands for it.
    let told = house.larder("handoff guide --for http --cluster turbine-hall").ends(0);
    told.says(&["/v2/vendor/NAME/manifests/TAG"]);
    // What is wrong with the store, or that it may not be opened, hinders nobody.
    let ledger = house.path("larder-data/ledger.sqlite");
    let away = house.path("ledger.away");
    std::fs::rename(&ledger, &away).unwrap();
    std::fs::write(&ledger, "no records").unwrap();
    house.larder("handoff guide --for http --account ada").ends(0).says(&["/v2/vendor/"]);
    std::fs::rename(&away, &ledger).unwrap();
    // A chart is shown where charts are.
    let told = house.larder("handoff guide --for charts --account ada").ends(0);
    told.says(&["oci://larder.emberfall.example:5080/apps/NAME --version VERSION"]);
    house.hold(
        &house.bazaar,
        "charts/boiler",
        "1.2.0_hot",
        &chart_image(packed_chart("boiler", BOILER).unwrap()),
    );
    house
        .larder("intake add bazaar.example/charts/boiler:1.2.0_hot --to vendor/charts/boiler")
        .ends(0);
    house.larder("intake lock").ends(0);
    let told = house.larder("handoff guide --for charts --account ada").ends(0);
    told.says(&["oci://larder.emberfall.example:5080/vendor/charts/boiler --version 1.2.0+hot"]);
    let told = house.larder("handoff guide --for charts --cluster turbine-hall").ends(0);
    assert!(!told.out.contains("boiler"), "{}", told.out);
}

#[test]
fn who_is_known_by_a_token_is_told_to_store_nothing() {
    let house = granted(
        "\n[[account]]\nname = \"builds\"\npull = [\"vendor/**\"]\nidentity = { issuer = \"https://build.emberfall.example\", keys = \"k.json\", where = { ref = \"refs/tags/*\" } }\n",
    );
    let told = house.larder("handoff guide --for pipeline --account builds").ends(0);
    let told = told.says(&[
        "JOB_TOKEN",
        "audience is larder.emberfall.example:5080",
        "Nothing secret is stored",
    ]);
    assert!(!told.out.contains("LARDER_KEY") && !told.out.contains("key issue"), "{}", told.out);
}

#[test]
fn who_is_not_declared_is_not_guessed() {
    let house = granted(ADA);
    for (call, words) in [
        ("--for laptop", vec!["it is not said who signs in", "--account NAME"]),
        ("--for node", vec!["it is not said which cluster"]),
        ("--for cluster --account ada", vec!["it is not said which cluster"]),
        ("--for laptop --account adda", vec!["no account `adda`", "did you mean `ada`?"]),
        ("--for node --cluster turbine", vec!["no cluster `turbine`", "turbine-hall"]),
        (
            "--for http --account ada --shelf vendr",
            vec!["no shelf `vendr`", "did you mean `vendor`?"],
        ),
        ("--for toaster", vec!["toaster"]),
        ("--for laptop --account ada --cluster turbine-hall", vec!["cannot be used with"]),
    ] {
        house.larder(&format!("handoff guide {call}")).ends(2).says(&words);
    }
    // Where anybody may pull, nobody signs in.
    let open = House::new();
    let told = open.larder("handoff guide --for laptop").ends(0);
    assert!(!told.out.contains("login") && told.out.contains("pull"), "{}", told.out);
}

#[test]
fn the_calls_by_plain_http_hold() {
    if Command::new("curl").arg("--version").output().is_err() {
        eprintln!("left out: curl is not here");
        return;
    }
    let house = granted(ADA);
    let serving = Serving::start(&house);
    let guide = house.larder("--json handoff guide --for http --account ada").ends(0).json();
    let mut calls: Vec<String> = Vec::new();
    for step in guide["steps"].as_array().unwrap() {
        for command in step["commands"].as_array().unwrap() {
            let command = command.as_str().unwrap();
            let command = command.replace("http://larder.emberfall.example:5080", &serving.address);
            // The key is issued as it says, by this house's program.
            calls.push(match command.strip_prefix("larder ") {
                Some(call) => {
                    house.larder(call).ends(0);
                    continue;
                }
                None => command
                    .replace("NAME", "valves")
                    .replace("FILE", "part")
                    .replace(":TAG", ":1")
                    .replace("/TAG", "/1"),
            });
        }
    }
    // What the steps leave to their reader: a digest that the manifest named, a file, and a manifest that names it.
    let before = "printf part > part\nSIZE=$(wc -c < part)\n";
    let manifest = "printf '{\"schemaVersion\":2,\"mediaType\":\"application/vnd.oci.image.manifest.v1+json\",\"artifactType\":\"application/vnd.emberfall.part\",\"config\":{\"mediaType\":\"application/octet-stream\",\"digest\":\"%s\",\"size\":%s},\"layers\":[]}' \"$DIGEST\" \"$SIZE\" > manifest.json\n";
    let mut script = format!("set -e\n{before}");
    for call in calls {
        let call = match call.contains("/blobs/DIGEST") {
            true => format!(
                "D=$(grep -o 'sha256:[0-9a-f]*' answer | head -1)\n{}",
                call.replace("/blobs/DIGEST", "/manifests/$D")
            ),
            false if call.contains("/manifests/") && !call.contains("PUT") => {
                format!("{call} > answer")
            }
            false => call,
        };
        script.push_str(&call);
        script.push('\n');
        if script.ends_with("cut -d ' ' -f 1)\n") {
            script.push_str(manifest);
        }
    }
    house.write("steps.sh", &script);
    let run = Command::new("sh").arg("steps.sh").current_dir(house.path("")).output().unwrap();
    assert!(run.status.success(), "{script}\n{}", String::from_utf8_lossy(&run.stderr));
    house.larder("shelf show apps/valves").ends(0).says(&["1"]);
}
