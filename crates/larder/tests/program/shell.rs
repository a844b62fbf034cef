//! What stands beside the commands: completions, manual pages, help on what is not a command.

use std::collections::BTreeSet;
use std::process::Command;

use crate::access::granted;
use crate::house::House;

/// What a shell would be offered after a call that has been typed so far; its last word is being typed.
fn offered(house: &House, shell: &str, words: &[&str]) -> Vec<String> {
    let run = Command::new(env!("CARGO_BIN_EXE_larder"))
        .current_dir(house.path(""))
        .env("LARDER_COMPLETE", shell)
        .env("_CLAP_IFS", "\n")
        .env("_CLAP_COMPLETE_INDEX", (words.len() - 1).to_string())
        .env("_CLAP_COMPLETE_COMP_TYPE", "9")
        .env("_CLAP_COMPLETE_SPACE", "false")
        .env_remove("LARDER_CONFIG")
        .arg("--")
        .args(words)
        .output()
        .unwrap();
    assert!(run.status.success() && run.stderr.is_empty(), "{run:?}");
    String::from_utf8(run.stdout).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn names_of_the_configuration_are_completed() {
    let house = granted("[[account]]\nname = \"ada\"\npull = [\"vendor/**\"]\n");
    house.larder("key issue --account ada --into ada.key").ends(0);
    let keys = house.larder("key list --json").ends(0).json();
    let key = keys["keys"][0]["key"].as_str().unwrap().to_owned();
    for (words, wanted) in [
        (vec!["larder", "inta"], "intake"),
        (vec!["larder", "handoff", "write", "tur"], "turbine-hall"),
        (vec!["larder", "why", "kettle:2", "--cluster", ""], "turbine-hall"),
        (vec!["larder", "why", "--namespace", "sca"], "scada"),
        (vec!["larder", "key", "issue", "--account", ""], "ada"),
        (vec!["larder", "key", "revoke", ""], key.as_str()),
        (vec!["larder", "shelf", "show", "ven"], "vendor"),
        (vec!["larder", "shelf", "show", "vendor/ket"], "vendor/kettle:2"),
        (vec!["larder", "shelf", "retry", "ba"], "bazaar"),
        (
            vec!["larder", "look", "bazaar.example/library/kettle:"],
            "bazaar.example/library/kettle:2",
        ),
        (vec!["larder", "intake", "remove", "ventworks"], "ventworks.example/gauges/steamgauge"),
        (vec!["larder", "help", "cause", "no-sh"], "no-shelf"),
        (vec!["larder", "help", "json", "survey-m"], "survey-missing"),
        (vec!["larder", "help", "configuration", "up"], "upstream"),
        (vec!["larder", "log", "--kind", "ref"], "refused"),
    ] {
        let all = offered(&house, "bash", &words);
        assert!(all.iter().any(|one| one == wanted), "{words:?}: {wanted} is not in {all:?}");
    }
    // A configuration that is named counts; one that cannot be read says nothing, and asks nobody.
    assert_eq!(
        offered(&house, "bash", &["larder", "--config", "none.toml", "handoff", "write", "t"]),
        [""; 0]
    );
    house.write("larder.toml", "[[[");
    assert_eq!(offered(&house, "bash", &["larder", "handoff", "write", "t"]), [""; 0]);
}

#[test]
fn bash_completes_a_tag_behind_its_colon() {
    let house = granted("");
    let script = house.larder("completions bash").ends(0).out;
    house.write("larder.bash", &script);
    let asked = "source ./larder.bash\n\
        asked() { COMP_LINE=$1; COMP_POINT=${#1}; COMP_TYPE=9; COMP_WORDBREAKS=$' \\t\\n\"\\'><=;|&(:'; COMPREPLY=(); _larder; echo \"${COMPREPLY[*]}\"; }\n\
        asked 'larder shelf show vendor/kettle:'; asked 'larder handoff write tur'; asked 'larder why --cluster=tur'; asked 'larder completions zs'";
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_larder"));
    let path = format!(
        "{}:{}",
        program.parent().unwrap().display(),
        std::env::var("PATH").unwrap_or_default()
    );
    let mut bash = Command::new("bash");
    bash.args(["-c", asked]).env("PATH", path).env_remove("LARDER_CONFIG");
    let run = bash.current_dir(house.path("")).output().unwrap();
    let said = String::from_utf8(run.stdout).unwrap();
    assert_eq!(said.lines().collect::<Vec<_>>(), ["2", "turbine-hall", "turbine-hall", "zsh"]);
}

#[test]
fn every_shell_has_its_script() {
    let house = House::new();
    for (shell, word) in [
        ("bash", "complete "),
        ("zsh", "#compdef larder"),
        ("fish", "complete "),
        ("elvish", "edit:completion"),
        ("powershell", "Register-ArgumentCompleter"),
    ] {
        house.larder(&format!("completions {shell}")).ends(0).says(&[word, "LARDER_COMPLETE"]);
    }
    house.larder("completions tcsh").ends(2).says(&["tcsh"]);
    house.larder("completions").ends(2);
}

#[test]
fn every_command_has_a_manual_page() {
    let house = House::new();
    let made = house.larder("man --into man --json").ends(0).json();
    let pages: Vec<&str> =
        made["pages"].as_array().unwrap().iter().map(|page| page.as_str().unwrap()).collect();
    for page in ["larder.1", "larder-shelf-drop.1", "larder-serve.1", "larder.toml.5"] {
        assert!(pages.contains(&page), "{page} is not in {pages:?}");
    }
    // The same again, with the same bytes.
    let before = house.read("man/larder-shelf-drop.1");
    assert!(before.contains(".TH LARDER-SHELF-DROP 1"), "{before}");
    house.larder("man --into man").ends(0).says(&["pages written to man"]);
    assert_eq!(house.read("man/larder-shelf-drop.1"), before);
    assert_eq!(house.larder("man shelf drop").ends(0).out, before);
    house.larder("man configuration").ends(0).says(&[".SH \"[[upstream]]\"", "\\fBallowance\\fR"]);
    house.larder("man shelves").ends(2).says(&["there is no command `shelves`"]);
    // What is linked to is not written through.
    house.write("precious", "not to be touched");
    std::fs::remove_file(house.path("man/larder.1")).unwrap();
    std::os::unix::fs::symlink(house.path("precious"), house.path("man/larder.1")).unwrap();
    house.larder("man --into man").ends(0);
    assert_eq!(house.read("precious"), "not to be touched");
    house.larder("man --into precious").ends(2).says(&["cannot make precious"]);
    for page in pages {
        let text = house.read(&format!("man/{page}"));
        let is_good = |line: &str| !line.starts_with('\'') && !line.contains('\u{1b}');
        assert!(text.lines().all(is_good), "{page}");
    }
}

#[test]
fn help_says_what_stands_in_the_configuration() {
    let house = House::new();
    house.larder("help configuration").ends(0).says(&["[[upstream]]", "allowance", "[larder]"]);
    let one = house.larder("help configuration upstream").ends(0);
    one.says(&["[[upstream]]", "allowance", "what it lets us pull"]);
    house.larder("help configuration [[shelf]]").ends(0).says(&["recheck"]);
    house.larder("help configuration shelve").ends(2).says(&["did you mean `shelf`?"]);
    let all = house.larder("help configuration --json").ends(0).json();
    assert_eq!(all["kind"], "configuration-tables");
    let keys = all["tables"].as_array().unwrap().iter().find(|one| one["table"] == "upstream");
    assert!(keys.unwrap()["keys"].as_array().unwrap().iter().any(|key| key == "allowance"));
}

#[test]
fn help_knows_every_key_of_every_table() {
    let house = House::new();
    let all = house.larder("help configuration --json").ends(0).json();
    let mut compared = 0;
    for table in all["tables"].as_array().unwrap() {
        let written = table["written"].as_str().unwrap();
        if !written.starts_with('[') {
            continue;
        }
        // What it reads says which keys it knows.
        house.write("wrong.toml", format!("{written}\nzzzzzzzzzzzz = 1\n"));
        let told = house.larder("--config wrong.toml check").ends(2).err;
        let known = told.lines().find_map(|line| line.split_once("the keys here are: "));
        let (_, known) = known.unwrap_or_else(|| panic!("{written}: {told}"));
        let known: BTreeSet<&str> = known.split(", ").collect();
        let listed = table["keys"].as_array().unwrap().iter().map(|key| key.as_str().unwrap());
        assert_eq!(listed.collect::<BTreeSet<_>>(), known, "{written}");
        compared += 1;
    }
    assert!(compared > 10, "{compared}");
}

#[test]
fn the_version_is_told_in_full() {
    let house = House::new();
    let short = house.larder("--version").ends(0).out;
    assert_eq!(short.lines().count(), 1, "{short}");
    for call in ["--version --verbose", "-V -v", "-vV"] {
        let long = house.larder(call).ends(0);
        assert!(long.out.starts_with(short.trim_end()), "{}", long.out);
        long.says(&["commit", "profile", "features", "rustls 0.", "libsqlite3-sys"]);
    }
    let all = house.larder("--version --verbose --json").ends(0).json();
    assert_eq!((&all["kind"], &all["format"]), (&"version".into(), &2.into()));
    assert!(
        all["libraries"]
            .as_array()
            .unwrap()
            .iter()
            .any(|one| one.as_str().unwrap().starts_with("ring "))
    );
    // With a command it is that command that is called.
    house.larder("shelf --version --verbose").ends(2);
}
