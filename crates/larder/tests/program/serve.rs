//! `larder serve`, and what clients make of it.

use std::io::{BufRead as _, BufReader};
use std::process::{Child, Command, Stdio};

use crate::house::{House, OWN};

/// A larder that serves.
struct Serving {
    child: Child,
    address: String,
}

impl Serving {
    fn start(house: &House) -> Self {
        let mut child = house
            .command("serve --listen 127.0.0.1:0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut line = String::new();
        BufReader::new(child.stdout.as_mut().unwrap()).read_line(&mut line).unwrap();
        let address = line.trim().rsplit(' ').next().unwrap().to_owned();
        assert!(address.starts_with("http://127.0.0.1:"), "{line}");
        Self { child, address }
    }

    fn stop(mut self, signal: &str) -> i32 {
        let id = self.child.id().to_string();
        Command::new("sh").args(["-c", &format!("kill -{signal} {id}")]).status().unwrap();
        self.child.wait().unwrap().code().unwrap_or(-1)
    }
}

#[test]
fn clients_pull_and_push_and_signals_end_it_well() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::start(&house);
    // Another machine's configuration: it has no store, so it goes through the registry.
    let host = serving.address.strip_prefix("http://").unwrap();
    let elsewhere = house.folder.path().join("elsewhere");
    std::fs::create_dir(&elsewhere).unwrap();
    let there = |line: &str| {
        let mut command = house.command(line);
        command.current_dir(&elsewhere);
        crate::house::run(&mut command)
    };
    there(&format!("copy {host}/vendor/kettle:2 ./kettle")).ends(0).says(&["8 blobs copied"]);
    there(&format!("copy ./kettle {host}/vendor/pushed:2")).ends(0).says(&["8 blobs copied"]);
    there(&format!("copy ./kettle {host}/nowhere/pushed:2"))
        .ends(3)
        .says(&["the shelves are: vendor"]);
    house.larder(&format!("look {OWN}/vendor/pushed:2 {OWN}/vendor/kettle:2")).ends(0);
    // A platform that was not brought in is told as such.
    there(&format!("copy {host}/vendor/brinedb:5.2 ./brinedb")).ends(3).says(&["has no manifest"]);
    there(&format!("copy {host}/vendor/brinedb:5.2 ./brinedb --platform linux/amd64")).ends(0);
    // Bringing in while it serves shows at once.
    house.hold(
        &house.bazaar,
        "library/kettle",
        "2",
        &larder_standin::image(&crate::house::small("new")),
    );
    house.bring_in();
    there(&format!("look {host}/vendor/kettle:2 {host}/vendor/pushed:2")).ends(1);
    assert_eq!(serving.stop("TERM"), 0);
    assert_eq!(Serving::start(&house).stop("INT"), 0);
}

#[test]
fn it_serves_only_where_and_how_that_is_safe() {
    let house = House::new();
    house
        .larder("serve --listen 0.0.0.0:0")
        .ends(2)
        .says(&["can be reached by others", "listen on 127.0.0.1"]);
    let taken = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    house
        .larder(&format!("serve --listen {}", taken.local_addr().unwrap()))
        .ends(2)
        .says(&["another program listens there"]);
    let text = house.read("larder.toml");
    house.write("larder.toml", text.replace("access = \"open\"\n", ""));
    house
        .larder("serve")
        .ends(2)
        .says(&["`access = \"grants\"` needs sign-in", "set `access = \"open\"`"]);
    house.write(
        "larder.toml",
        text.replace(
            "access = \"open\"\n",
            "access = \"open\"\ntls = { cert = \"a\", key = \"b\" }\n",
        ),
    );
    house.larder("serve").ends(2).says(&["`tls` (serving HTTPS) is not carried out"]);
}
