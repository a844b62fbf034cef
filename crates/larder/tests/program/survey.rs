//! `larder survey`.

use snapbox::{assert_data_eq, str};

use crate::house::House;

#[test]
fn each_reference_is_told_once_with_all_its_places() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let run = house.larder("survey deploy").ends(1);
    assert_data_eq!(
        run.out,
        str![[r#"
STANDING   IMAGE                                                WHERE
malformed  http://bazaar.example/library/ashlog:1.4             deploy/leak-watch.yaml:9  Pod scada/leak-watch (bell)
           it starts with `http://`; a reference has no scheme
           meant: bazaar.example/library/ashlog:1.4
uncovered  bazaar.example/community/pipewatch:0.9               deploy/leak-watch.yaml:7  Pod scada/leak-watch (watch)
locked     bazaar.example/library/ashlog:1.4                    deploy/wellhead-historian.yaml:24  StatefulSet historian/wellhead-historian (logs)
locked     bazaar.example/library/brinedb:5.2                   deploy/wellhead-historian.yaml:20  StatefulSet historian/wellhead-historian (database)
locked     bazaar.example/library/kettle:2                      deploy/steam-board.yaml:36  CronJob scada/steam-report (report)
           ambiguous: written as kettle:2, without a registry   deploy/wellhead-historian.yaml:17  StatefulSet historian/wellhead-historian (wait-for-steam)
locked     ventworks.example/gauges/steamgauge:1.9.2            deploy/steam-board.yaml:15  Deployment scada/steam-board (gauge)
           class vetted
locked     ventworks.example/gauges/valve-twin:3.1              deploy/steam-board.yaml:17  Deployment scada/steam-board (twin)
           class vetted

7 images in 8 places of 3 files: 1 malformed, 1 uncovered, 5 locked
1 ambiguous, 6 not pinned to a digest

"#]]
    );
    house.larder("intake run").ends(0);
    let json = house.larder("survey deploy --json").ends(1).json();
    let kettle = json["references"]
        .as_array()
        .unwrap()
        .iter()
        .find(|row| row["reference"] == "bazaar.example/library/kettle:2");
    let kettle = kettle.unwrap();
    assert_eq!(kettle["standing"], "covered");
    assert_eq!(kettle["target"], "larder.emberfall.example:5080/vendor/kettle:2");
    assert_eq!(kettle["places"][1]["container"], "wait-for-steam");
    assert_eq!(kettle["places"][1]["line"], 17);
}

#[test]
fn one_bad_file_never_stops_the_others() {
    let house = House::new();
    house.write("deploy/broken.yaml", "apiVersion: v1\nkind: Pod\nspec: {containers: [image: {\n");
    house.write("deploy/wide.yaml", [0xff, 0xfe, b'i', 0, b'm', 0]);
    house.write(
        "deploy/chart/templates/x.yaml",
        "kind: Pod\n{{- if .x }}\nimage: {{ .image }}\n{{ end }}\n",
    );
    house.write(
        "deploy/left/out.yaml",
        "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: ignored}]}\n",
    );
    house.write("deploy/.gitignore", "left/\n");
    house.write("deploy/package.json", "{ // no deployment\n}");
    std::os::unix::fs::symlink(house.path("deploy"), house.path("deploy/loop")).unwrap();
    let run = house.larder("survey deploy").ends(1).says(&[
        "8 images in 9 places of 5 files",
        "deploy/broken.yaml cannot be read: line 3, column 28",
        "deploy/wide.yaml cannot be read: it is written in UTF-16",
        "x.yaml is a template: what it names is listed and never changed",
    ]);
    assert!(!run.out.contains("ignored"));
    house
        .larder("survey nowhere.yaml")
        .ends(2)
        .says(&["nowhere.yaml cannot be read", "No such file"]);
}

#[test]
fn what_is_wrong_with_a_name_is_told() {
    let house = House::new();
    let pod = |image: &str| {
        format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: p}}\nspec: {{containers: [{{name: c, image: {image}}}]}}\n"
        )
    };
    for (written, words) in [
        ("kettle", &["floating: no tag", "ambiguous"][..]),
        ("bazaar.example/library/kettle:stable", &["floating: stable moves"][..]),
        ("Kettle:2", &["repository names are lower case", "meant: kettle:2"][..]),
        ("'kettle :2'", &["there is a blank in it", "meant: kettle:2"][..]),
        ("'bazaar.example/library/kettle:'", &["no tag after it"][..]),
        (
            "bazaar.example/library/kettle@sha256:12",
            &["has 64 hexadecimal digits, this one has 2"][..],
        ),
        ("bazaar.example/library/kettle/", &["ends with a slash"][..]),
        ("bazaar.example/", &["no repository in it"][..]),
        ("bazaar.example", &["looks like a registry"][..]),
        ("bazaar.example/library/kettle:9", &["not locked", "wanted, but not locked"][..]),
        ("larder.emberfall.example:5080/vendor/kettle:2", &["missing"][..]),
    ] {
        house.write("one.yaml", pod(written));
        house.larder("survey one.yaml").ends(1).says(words);
    }
    house.write("one.yaml", pod("'${IMAGE}'"));
    house.larder("survey one.yaml").ends(0).says(&["1 open"]);
    house.write("one.yaml", pod("\"a\\x1b[31mred\""));
    assert!(
        !house.larder("survey one.yaml --color always").out.contains("\u{1b}[31mred"),
        "a file reaches the terminal"
    );
}

#[test]
fn it_works_without_a_configuration_too() {
    let house = House::new();
    std::fs::remove_file(house.path("larder.toml")).unwrap();
    house.larder("survey deploy").ends(1).says(&["docker.io/library/kettle:2", "7 uncovered"]);
}
