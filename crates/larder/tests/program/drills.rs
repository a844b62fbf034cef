//! What the pages on upgrades, moves and backups tell to type is typed, line by line.

use std::process::Command;

use crate::house::House;

/// A page of the documentation.
fn page(name: &str) -> String {
    let path = format!("{}/../../docs/{name}.md", env!("CARGO_MANIFEST_DIR"));
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{path}: {error}"))
}

/// The lines that a part of a page tells to type. An empty heading is the part before the first.
fn lines(page: &str, heading: &str) -> Vec<String> {
    let part = match heading {
        "" => page.split("\n## ").next(),
        heading => page.split("\n## ").find(|part| part.starts_with(heading)),
    };
    let part = part.unwrap_or_else(|| panic!("there is no part `{heading}`"));
    let mut typed = Vec::new();
    for block in part.split("```console\n").skip(1) {
        let block = block.split("```").next().unwrap();
        typed.extend(block.lines().filter_map(|line| line.strip_prefix("$ ")).map(str::to_owned));
    }
    assert!(!typed.is_empty(), "`{heading}` tells nothing to type");
    typed
}

/// Types them in a house, one after the other; each must end as it should.
fn carry_out(house: &House, lines: &[String]) -> String {
    let program = std::path::Path::new(env!("CARGO_BIN_EXE_larder"));
    let path = format!(
        "{}:{}",
        program.parent().unwrap().display(),
        std::env::var("PATH").unwrap_or_default()
    );
    let mut said = String::new();
    for line in lines {
        let mut shell = Command::new("sh");
        shell.args(["-c", line]).current_dir(house.path("")).env("PATH", &path);
        shell.env_remove("LARDER_CONFIG").env("VENTWORKS_LOGIN", larder_standin::VENTWORKS_LOGIN);
        let run = shell.output().unwrap();
        let out = format!(
            "$ {line}\n{}{}",
            String::from_utf8_lossy(&run.stdout),
            String::from_utf8_lossy(&run.stderr)
        );
        // The rounds say by their status that something needs a person.
        let good =
            run.status.success() || (line == "larder rounds" && run.status.code() == Some(1));
        assert!(good, "{said}\n{out}");
        said.push_str(&out);
    }
    said
}

fn stocked() -> House {
    let house = House::new();
    house.bring_in();
    house
}

#[test]
fn a_larder_comes_back_from_its_backup() {
    let house = stocked();
    let page = page("backup");
    carry_out(&house, &lines(&page, ""));
    let said = carry_out(&house, &lines(&page, "The drill: the disk is gone"));
    assert!(said.contains("vendor"), "{said}");
    assert!(
        house.path("lost/ledger.sqlite").is_file()
            && house.path("larder-data/ledger.sqlite").is_file()
    );
    house.larder("shelf show vendor/kettle:2").ends(0);
}

#[test]
fn an_image_that_was_dropped_comes_back() {
    let house = stocked();
    let said = carry_out(&house, &lines(&page("backup"), "The drill: one image was dropped"));
    assert!(said.contains("vendor/kettle:2"), "{said}");
}

#[test]
fn an_upgrade_and_the_way_back_hold() {
    let house = stocked();
    let page = page("upgrade");
    carry_out(&house, &lines(&page, ""));
    let said = carry_out(&house, &lines(&page, "Back to the version before"));
    assert!(said.contains("vendor"), "{said}");
    assert!(house.path("newer/ledger.sqlite").is_file());
}

#[test]
fn a_larder_moves_to_another_disk() {
    let house = stocked();
    let said = carry_out(&house, &lines(&page("move"), "To another disk"));
    assert!(said.contains("vendor"), "{said}");
    assert!(house.path("../new-disk/ledger.sqlite").is_file());
    house.larder("shelf show vendor/kettle:2").ends(0);
}
