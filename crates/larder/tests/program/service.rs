//! The larder under a service manager: what it tells it, the sockets that it is handed, and a log for machines.

use std::net::TcpListener;
use std::os::fd::OwnedFd;
use std::os::unix::net::UnixDatagram;
use std::process::{Command, Stdio};
use std::time::Duration;

use serde_json::Value;

use crate::access::{basic, granted};
use crate::house::House;
use crate::node::wait_until;
use crate::serving::{Serving, ask};

/// What stands in for the service manager: the socket that it listens on.
struct StandInManager(UnixDatagram);

impl StandInManager {
    fn new(house: &House) -> Self {
        let socket = UnixDatagram::bind(house.path("notify")).unwrap();
        socket.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
        Self(socket)
    }

    fn serve(house: &House, name: &str, more: &[(&str, &str)]) -> Serving {
        let mut command = house.command("serve --listen 127.0.0.1:0");
        command.env("NOTIFY_SOCKET", name).envs(more.iter().copied());
        Serving::spawn(command, house.path("serve.log"))
    }

    /// Waits until a message says this, and gives the whole message.
    fn hears(&self, wanted: &str) -> String {
        let mut bytes = [0; 4096];
        loop {
            let length =
                self.0.recv(&mut bytes).unwrap_or_else(|error| panic!("{wanted}: {error}"));
            let said = String::from_utf8(bytes[..length].to_vec()).unwrap();
            if said.lines().any(|line| line.starts_with(wanted)) {
                return said;
            }
        }
    }
}

#[test]
fn a_service_manager_hears_how_it_stands() {
    let house = House::new();
    let manager = StandInManager::new(&house);
    let name = house.path("notify").display().to_string();
    let serving = StandInManager::serve(&house, &name, &[("WATCHDOG_USEC", "300000")]);
    assert_eq!(manager.hears("READY=1"), "READY=1\nSTATUS=serves");
    manager.hears("WATCHDOG=1");
    manager.hears("WATCHDOG=1");
    let good = house.read("larder.toml");
    serving.signal("HUP");
    assert!(manager.hears("RELOADING=1").contains("\nMONOTONIC_USEC="));
    assert_eq!(manager.hears("READY=1"), "READY=1\nSTATUS=serves");
    // What cannot be used is told, and it goes on serving.
    house.write("larder.toml", good.clone() + "\nnonsense = 1\n");
    serving.signal("HUP");
    manager.hears("RELOADING=1");
    let told = manager.hears("READY=1");
    assert!(told.contains("the one in its file cannot be used"), "{told}");
    // The file says where it listens, and `--listen` named another place: nothing waits for that.
    house.write("larder.toml", good.replace("[larder]\n", "[larder]\nmetrics = \"127.0.0.1:1\"\n"));
    serving.signal("HUP");
    manager.hears("RELOADING=1");
    let told = manager.hears("READY=1");
    assert!(told.contains("waits for a new start"), "{told}");
    assert_eq!(serving.ask("GET", "/v2/").status, 200);
    serving.signal("TERM");
    manager.hears("STOPPING=1");
}

#[test]
fn a_manager_that_is_not_there_or_asks_another_process_changes_nothing() {
    let house = House::new();
    let serving = StandInManager::serve(&house, "/nonexistent/notify", &[("WATCHDOG_USEC", "x")]);
    assert_eq!(serving.ask("GET", "/v2/").status, 200);
    assert_eq!(serving.stop("TERM"), 0);
    let manager = StandInManager::new(&house);
    let name = house.path("notify").display().to_string();
    let asked = [("WATCHDOG_USEC", "30000"), ("WATCHDOG_PID", "1")];
    let serving = StandInManager::serve(&house, &name, &asked);
    manager.hears("READY=1");
    serving.signal("TERM");
    let mut bytes = [0; 4096];
    let length = manager.0.recv(&mut bytes).unwrap();
    let next = String::from_utf8_lossy(&bytes[..length]);
    assert!(next.starts_with("STOPPING=1"), "no sign of life was asked of it: {next}");
}

/// Starts it with a socket that was opened for it, as file handle 3.
fn handed(house: &House, socket: &TcpListener, options: &str, names: &str) -> Command {
    let socket: OwnedFd = socket.try_clone().unwrap().into();
    let program = env!("CARGO_BIN_EXE_larder");
    let call = format!(
        "LISTEN_PID=$$ LISTEN_FDS=1 LISTEN_FDNAMES={names} exec {program} serve {options} 3<&0 </dev/null"
    );
    let mut command = Command::new("sh");
    command.args(["-c", &call]).current_dir(house.path("")).stdin(Stdio::from(socket));
    command.env_remove("LARDER_CONFIG").env("VENTWORKS_LOGIN", "a:b");
    command
}

#[test]
fn it_serves_on_the_socket_that_it_is_handed() {
    let house = House::new();
    house.bring_in();
    let socket = TcpListener::bind("127.0.0.1:0").unwrap();
    let at = socket.local_addr().unwrap().to_string();
    let serving = Serving::spawn(handed(&house, &socket, "", "larder"), house.path("serve.log"));
    assert_eq!(serving.host(), at, "not where the configuration says");
    let path = "/v2/vendor/kettle/manifests/2";
    assert_eq!(ask(&at, "GET", path, &[], b"").unwrap().status, 200);
    assert_eq!(serving.stop("TERM"), 0);
    // The socket stays: who comes meanwhile waits for the next one, and is answered.
    let asked = std::thread::spawn({
        let at = at.clone();
        move || ask(&at, "GET", "/v2/vendor/kettle/manifests/2", &[], b"").unwrap().status
    });
    let next = Serving::spawn(handed(&house, &socket, "", "larder"), house.path("serve.log"));
    assert_eq!(asked.join().unwrap(), 200);
    assert_eq!(next.stop("TERM"), 0);
}

#[test]
fn a_handed_socket_is_judged_like_any_other_place() {
    let house = House::new();
    house.bring_in();
    let said = |mut command: Command| {
        let run = command.output().unwrap();
        (run.status.code(), String::from_utf8_lossy(&run.stderr).into_owned())
    };
    let socket = TcpListener::bind("127.0.0.1:0").unwrap();
    let (exit, told) = said(handed(&house, &socket, "--listen 127.0.0.1:0", "larder"));
    assert_eq!(exit, Some(2), "{told}");
    assert!(told.contains("`--listen` names another place"), "{told}");
    // What is handed over under the name of the figures serves figures alone.
    let mut command = handed(&house, &socket, "--listen 127.0.0.1:0", "metrics");
    command.env("LARDER_LOG", "warn");
    let serving = Serving::spawn(command, house.path("serve.log"));
    let at = socket.local_addr().unwrap().to_string();
    let figures = ask(&at, "GET", "/metrics", &[], b"").unwrap();
    assert_eq!(figures.status, 200);
    assert_eq!(ask(&at, "GET", "/v2/", &[], b"").unwrap().status, 404);
    assert_eq!(serving.stop("TERM"), 0);
}

#[test]
fn a_log_for_machines_is_json_to_the_last_line() {
    let house = House::new();
    house.bring_in();
    let serving = Serving::logging_json(&house, "");
    assert_eq!(serving.ask("GET", "/v2/vendor/kettle/manifests/2").status, 200);
    assert_eq!(serving.ask("GET", "/v2/vendor/none/manifests/2").status, 404);
    house.write("larder.toml", house.read("larder.toml") + "\nnonsense = 1\n");
    serving.signal("HUP");
    wait_until("the wrong configuration is told", || serving.log().contains("cannot be used"));
    serving.signal("TERM");
    wait_until("it says that it stopped", || serving.log().contains("every request was finished"));
    let log = serving.log();
    let lines: Vec<Value> = log
        .lines()
        .map(|line| serde_json::from_str(line).unwrap_or_else(|error| panic!("{error}: {line}")))
        .collect();
    let level = |words: &str| {
        let found =
            lines.iter().find(|line| line["message"].as_str().unwrap_or("").contains(words));
        found.unwrap_or_else(|| panic!("`{words}` is not in\n{log}"))["level"].clone()
    };
    assert_eq!(level(" serves on http://127.0.0.1:"), "INFO");
    assert_eq!(level("the configuration cannot be used"), "ERROR");
    assert_eq!(level("every request was finished"), "INFO");
    assert!(lines.iter().all(|line| line["timestamp"].is_string()), "{log}");
    // A larder that cannot begin says so in the same form, with its three parts.
    let refused = house.larder("serve --log json --listen 0.0.0.0:0");
    let line: Value = serde_json::from_str(refused.err.trim()).unwrap();
    assert_eq!((refused.exit, refused.out.as_str()), (2, ""));
    assert_eq!(line["level"], "ERROR");
    assert!(line["cause"].as_str().is_some() && line["try"].as_str().is_some(), "{line}");
}

#[test]
fn the_log_tells_the_number_by_which_the_record_has_a_refusal() {
    let house = granted("");
    let serving = Serving::logging_json(&house, "");
    let login = basic("ci", &house.issue("--account ci"));
    let login = [("authorization", login.as_str())];
    let path = "/v2/else/where/manifests/1";
    let refused = ask(serving.host(), "PUT", path, &login, b"{}").unwrap();
    assert_eq!(refused.status, 403);
    let wrong = [("authorization", basic("ci", "larder_wrong"))];
    let wrong = wrong.each_ref().map(|(name, value)| (*name, value.as_str()));
    assert_eq!(ask(serving.host(), "GET", "/v2/", &wrong, b"").unwrap().status, 401);
    let kettle = "/v2/vendor/kettle/manifests/2";
    assert_eq!(ask(serving.host(), "GET", kettle, &login, b"").unwrap().status, 200);
    let line = |path: &str, status: u16| {
        let log = serving.log();
        let mut lines = log.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        lines.find(|line| line["path"] == path && line["status"] == status).unwrap()
    };
    assert_eq!(line(kettle, 200)["number"], "-");
    for (path, status, words) in [(path, 403, "else/where"), ("/v2/", 401, "failed")] {
        let number = line(path, status)["number"].as_str().unwrap().to_owned();
        assert_eq!(number.len(), 8, "{number}");
        wait_until("the record has it", || house.larder(&format!("log {number}")).exit == 0);
        house.larder(&format!("log {number}")).says(&[&number, words]);
        if status == 403 {
            assert!(refused.text().contains(&format!("[{number}]")), "{}", refused.text());
        }
    }
}

/// A file that packages carry.
fn packaged(name: &str) -> String {
    let path = format!("{}/../../packaging/{name}", env!("CARGO_MANIFEST_DIR"));
    std::fs::read_to_string(&path).unwrap_or_else(|error| panic!("{path}: {error}"))
}

#[test]
fn units_call_what_the_program_has() {
    let house = House::new();
    let mut calls = 0;
    for unit in ["larder", "larder-tidy", "larder-verify", "larder-backup", "larder-rounds"] {
        let text = packaged(&format!("systemd/{unit}.service"));
        for call in text.lines().filter_map(|line| line.strip_prefix("ExecStart=/usr/bin/larder "))
        {
            house.larder(&format!("{call} --help")).ends(0);
            calls += 1;
        }
        if unit != "larder" {
            assert!(packaged(&format!("systemd/{unit}.timer")).contains("OnCalendar="));
        }
    }
    assert_eq!(calls, 6);
}

#[test]
fn units_stand_what_the_service_manager_says_of_them() {
    let Ok(found) = Command::new("systemd-analyze").arg("--version").output() else {
        eprintln!("left out: systemd-analyze is not here");
        return;
    };
    assert!(found.status.success());
    let house = House::new();
    let folder = format!("{}/../../packaging/systemd", env!("CARGO_MANIFEST_DIR"));
    let copied =
        Command::new("cp").args(["-r", &folder, "units"]).current_dir(house.path("")).status();
    assert!(copied.unwrap().success());
    // The program lies where the package puts it; here it lies elsewhere.
    for entry in std::fs::read_dir(house.path("units")).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_some_and(|kind| kind == "service") {
            let text = std::fs::read_to_string(&path).unwrap();
            std::fs::write(&path, text.replace("/usr/bin/larder", env!("CARGO_BIN_EXE_larder")))
                .unwrap();
        }
    }
    for unit in [
        "larder.service",
        "larder.socket",
        "larder-tidy.timer",
        "larder-verify.timer",
        "larder-backup.timer",
        "larder-rounds.timer",
    ] {
        let mut analyze = Command::new("systemd-analyze");
        analyze.args(["verify", "--man=no", &format!("./{unit}")]).current_dir(house.path("units"));
        let told = analyze.output().unwrap();
        let said = String::from_utf8_lossy(&told.stderr);
        let ours: Vec<&str> = said
            .lines()
            .filter(|line| line.contains("/units/") || line.contains("larder"))
            .collect();
        assert!(ours.is_empty(), "{unit}: {said}");
    }
    let mut analyze = Command::new("systemd-analyze");
    analyze.args(["security", "--offline=yes", "--threshold=20", "./larder.service"]);
    let judged = analyze.current_dir(house.path("units")).output().unwrap();
    assert!(judged.status.success(), "{}", String::from_utf8_lossy(&judged.stdout));
}

#[test]
fn root_does_not_write_into_the_store_of_a_service() {
    let house = House::new();
    house.bring_in();
    let ledger = house.path("larder-data/ledger.sqlite");
    // Only root can make it somebody else's.
    if std::os::unix::fs::chown(&ledger, Some(12345), None).is_err() {
        eprintln!("left out: only root meets this");
        return;
    }
    for command in ["shelf list", "intake run", "store verify", "serve --listen 127.0.0.1:0"] {
        let refused = house.larder(command).ends(2);
        refused.says(&["belongs to the user with the number 12345", "run it as that user"]);
    }
    std::os::unix::fs::chown(&ledger, Some(0), None).unwrap();
    house.larder("shelf list").ends(0);
}
