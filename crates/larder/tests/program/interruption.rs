//! Commands that somebody ends, and those that take long where nobody sits before them.

use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use larder_standin::FaultKind;

use crate::house::{House, OWN, Run, ended, spawn};
use crate::node::wait_until;
use crate::serving::Serving;

/// A call that an upstream keeps waiting.
fn waiting(house: &House, line: &str) -> Child {
    let _ = house.bazaar.take_requests();
    let child = spawn(&mut house.command(line), Stdio::null());
    is_asked(house);
    child
}

fn is_asked(house: &House) {
    wait_until("the upstream was asked", || {
        house.bazaar.take_requests().values().sum::<usize>() > 0
    });
}

fn signal(child: &Child, signal: rustix::process::Signal) {
    rustix::process::kill_process(rustix::process::Pid::from_child(child), signal).unwrap();
}

fn stalled(house: &House) {
    house.bazaar.faults.clear();
    house.bazaar.faults.add(None, "/", 99, FaultKind::Late(Duration::from_secs(60)));
}

fn interrupted(house: &House, line: &str, by: rustix::process::Signal) -> Run {
    stalled(house);
    let child = waiting(house, line);
    signal(&child, by);
    let run = ended(child);
    house.bazaar.faults.clear();
    run
}

#[test]
fn whoever_interrupts_is_told_what_is_kept_and_what_to_type() {
    use rustix::process::Signal;
    let house = House::new();
    let reads = interrupted(&house, "look bazaar.example/library/kettle:2", Signal::INT);
    reads.ends(130).says(&["interrupted: nothing was changed"]);
    let lock = interrupted(&house, "intake lock", Signal::TERM);
    let again = "`larder --new-store intake lock` does the rest";
    lock.ends(143).says(&["interrupted: the lock file is as it was or written whole", again]);
    let line = format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/again:2");
    let copy = interrupted(&house, &line, Signal::INT);
    copy.ends(130).says(&[
        "interrupted: the layers that have come stay",
        &format!("`larder --new-store {line}`, run it again, and it goes on where it was"),
    ]);
}

#[test]
fn a_terminal_that_goes_away_is_an_interruption_unless_it_is_to_go_on() {
    use rustix::process::Signal;
    let house = House::new();
    let reads = interrupted(&house, "look bazaar.example/library/kettle:2", Signal::HUP);
    reads.ends(129).says(&["interrupted: nothing was changed"]);
    // As `nohup` has it.
    stalled(&house);
    let command = house.command("look bazaar.example/library/kettle:2");
    let mut shell = std::process::Command::new("sh");
    shell.args(["-c", "trap '' HUP; exec \"$0\" \"$@\""]).arg(command.get_program());
    shell.args(command.get_args());
    if let Some(folder) = command.get_current_dir() {
        shell.current_dir(folder);
    }
    for (name, value) in command.get_envs() {
        shell.env(name, value.unwrap_or_default());
    }
    let child = spawn(&mut shell, Stdio::null());
    is_asked(&house);
    signal(&child, Signal::HUP);
    std::thread::sleep(Duration::from_millis(500));
    signal(&child, Signal::TERM);
    ended(child).ends(143);
    house.bazaar.faults.clear();
}

#[test]
fn whoever_is_waited_for_may_leave() {
    let house = House::new();
    let mut child = house.command("survey -").stdin(Stdio::piped()).spawn().unwrap();
    let _stdin = child.stdin.take();
    // Once it listens for signals (proc(5), `SigCgt`), it waits for what is typed.
    let status = format!("/proc/{}/status", child.id());
    wait_until("it listens for signals", || {
        let status = std::fs::read_to_string(&status).unwrap();
        let caught = status.lines().find_map(|line| line.strip_prefix("SigCgt:")).unwrap();
        u64::from_str_radix(caught.trim(), 16).unwrap() & 0b10 != 0
    });
    signal(&child, rustix::process::Signal::INT);
    assert_eq!(child.wait().unwrap().code(), Some(130));
}

#[test]
fn without_a_terminal_a_line_now_and_then_tells_that_it_is_still_at_it() {
    let house = House::new();
    stalled(&house);
    let began = Instant::now();
    let (tells, silent) = (
        waiting(&house, "look bazaar.example/library/kettle:2"),
        waiting(&house, "look bazaar.example/library/kettle:2 --quiet"),
    );
    while began.elapsed().as_millis() < 11_500 {
        std::thread::sleep(Duration::from_millis(100));
    }
    for child in [&tells, &silent] {
        signal(child, rustix::process::Signal::INT);
    }
    ended(tells).ends(130).says(&["still at it: `larder look`, for 10 s"]);
    let silent = ended(silent);
    assert!(!silent.err.contains("still at it"), "{}", silent.err);
}

#[test]
fn a_second_signal_ends_a_larder_at_once() {
    let house = House::new();
    let cached = "\n[[shelf]]\nname = \"hub\"\ncaches = \"bazaar\"\n";
    house.write("larder.toml", house.read("larder.toml") + cached);
    let serving = Serving::with(&house, "--grace 10m");
    // A pull that an upstream keeps waiting.
    stalled(&house);
    let _ = house.bazaar.take_requests();
    let host = serving.host().to_owned();
    let pull = std::thread::spawn(move || {
        std::panic::catch_unwind(|| {
            crate::serving::ask(&host, "GET", "/v2/hub/library/kettle/manifests/2", &[], b"")
        })
    });
    is_asked(&house);
    serving.signal("TERM");
    wait_until("it takes nothing new", || std::net::TcpStream::connect(serving.host()).is_err());
    assert_eq!(serving.stop("TERM"), 0);
    let log = house.read("serve.log");
    assert!(log.contains("stopped at the second signal"), "{log}");
    drop(pull.join());
}
