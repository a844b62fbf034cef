//! Killed at any moment: the next start finishes the work, nothing half is ever seen, and nothing
//! piles up.

use std::cell::RefCell;
use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use larder_standin::{FaultKind, image};

use crate::house::{House, small};
use crate::parcel::Gap;

/// Runs a command again and again, and kills it each time a little later, until it ends by itself.
/// After each kill, `check` looks at what there is.
fn kill_until(
    is_done: impl Fn() -> bool,
    house: &House,
    line: &str,
    step: Duration,
    check: impl Fn(),
) -> usize {
    let began = Instant::now();
    let mut patience = step;
    for kills in 0.. {
        assert!(began.elapsed() < Duration::from_secs(120), "it never comes to its end");
        let mut command = house.command(line);
        let mut child = command.stdout(Stdio::null()).stderr(Stdio::null()).spawn().unwrap();
        let until = Instant::now() + patience;
        let ended = loop {
            if let Some(status) = child.try_wait().unwrap() {
                break Some(status);
            }
            if Instant::now() >= until {
                child.kill().unwrap();
                child.wait().unwrap();
                break None;
            }
            std::thread::sleep(Duration::from_millis(1));
        };
        check();
        match ended {
            Some(status) => assert!(status.success(), "{line}: {status}"),
            // It may have been killed when all was done.
            None if is_done() => {}
            None => {
                // Uneven steps, so that the kills do not all meet the same places.
                patience += step + step * u32::try_from(kills % 3).unwrap() / 3;
                continue;
            }
        }
        return kills;
    }
    0
}

pub fn kill_until_done(house: &House, line: &str, step: Duration, check: impl Fn()) -> usize {
    kill_until(|| false, house, line, step, check)
}

/// Every tag that a larder has can be read whole, each byte with its digest.
fn all_is_whole(house: &House, config: &str, host: &str) {
    let listed = house.larder(&format!("shelf show vendor --json {config}"));
    if listed.exit != 0 {
        return;
    }
    for (number, held) in listed.json()["images"].as_array().unwrap().iter().enumerate() {
        let name =
            format!("{}:{}", held["repository"].as_str().unwrap(), held["tag"].as_str().unwrap());
        let out = format!("check-{number}");
        let platform = if name.contains("brinedb") { "--platform linux/amd64" } else { "" };
        house.larder(&format!("copy {host}/{name} ./{out} {platform} {config}")).ends(0);
        fs::remove_dir_all(house.path(&out)).unwrap();
    }
}

#[test]
fn a_run_that_is_killed_again_and_again_comes_to_its_end() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    house.bazaar.faults.add(Some("GET"), "/blobs/", 30, FaultKind::Late(Duration::from_millis(30)));
    let kills = kill_until_done(&house, "intake run", Duration::from_millis(25), || {
        assert!(house.unfinished() <= 12, "unfinished files pile up: {}", house.unfinished());
        all_is_whole(&house, "", crate::house::OWN);
    });
    assert!(kills > 2, "it was killed {kills} times only");
    house.larder("intake diff").ends(0);
    // What the last kill left went with the run that finished.
    assert_eq!(house.unfinished(), 0);
}

#[test]
fn a_lock_that_is_killed_is_the_old_one_or_the_new_one() {
    let house = House::new();
    house.larder("intake lock").ends(0);
    let before = house.read("larder.lock");
    house.hold(&house.bazaar, "library/brinedb", "5.3", &image(&small("brinedb")));
    let text = house.read("larder.toml").replace("exact = [\"5.2\"]", "match = \"5.*\"");
    house.write("larder.toml", text);
    let seen = RefCell::new(vec![before.clone()]);
    kill_until_done(&house, "intake lock", Duration::from_millis(4), || {
        let now = house.read("larder.lock");
        if !seen.borrow().contains(&now) {
            seen.borrow_mut().push(now);
        }
    });
    let after = house.read("larder.lock");
    assert!(after.contains("\"5.3\""), "{after}");
    assert_eq!(*seen.borrow(), [before, after]);
    let beside: Vec<_> =
        fs::read_dir(house.path("")).unwrap().flatten().map(|one| one.file_name()).collect();
    assert!(
        beside.iter().filter(|name| name.to_string_lossy().contains("partial")).count() <= 1,
        "{beside:?}"
    );
}

#[test]
fn a_parcel_that_is_killed_while_it_is_packed_or_unpacked_comes_to_its_end() {
    let gap = Gap::new();
    let house = &gap.house;
    house.larder("intake run").ends(0);
    let packed = |config: &str| {
        kill_until_done(
            house,
            &format!("parcel pack killed {config}"),
            Duration::from_millis(8),
            || {
                // Until it is whole it is no parcel.
                if !house.path("killed/contents.jsonl").exists() {
                    gap.far("parcel verify killed").ends(2);
                }
                let files = fs::read_dir(house.path("killed")).map_or(0, Iterator::count);
                assert!(files <= 8, "{files} files");
            },
        )
    };
    packed("--volume 128KiB");
    gap.far("parcel verify killed").ends(0);
    let left = fs::read_dir(house.path("killed")).unwrap().flatten();
    assert!(left.into_iter().all(|one| !one.file_name().to_string_lossy().contains("partial")));
    // Straight from the upstreams, what a killed run has fetched is not fetched again.
    fs::remove_dir_all(house.path("killed")).unwrap();
    house.bazaar.faults.add(Some("GET"), "/blobs/", 12, FaultKind::Late(Duration::from_millis(40)));
    let kills = packed("--upstreams");
    assert!(kills > 1, "it was killed {kills} times only");

    let host = "larder.turbine-hall.example";
    let line = "parcel unpack killed --config far/larder.toml";
    kill_until_done(house, line, Duration::from_millis(6), || {
        all_is_whole(house, "--config far/larder.toml", host);
        let unfinished =
            fs::read_dir(house.path("far/larder-data/uploads")).map_or(0, Iterator::count);
        assert!(unfinished <= 12, "unfinished files pile up: {unfinished}");
    });
    let unfinished = fs::read_dir(house.path("far/larder-data/uploads")).unwrap().count();
    assert_eq!(unfinished, 0);
    let images = gap.far("shelf show vendor --json").ends(0).json();
    assert_eq!(images["images"].as_array().unwrap().len(), 5);
}

#[test]
fn a_copy_that_is_killed_leaves_one_unfinished_file_at_most() {
    let house = House::new();
    house.bazaar.faults.add(Some("GET"), "/blobs/", 12, FaultKind::Late(Duration::from_millis(30)));
    let line = "copy bazaar.example/library/kettle:2 kettle.tar";
    let count = || {
        let all = fs::read_dir(house.path("")).unwrap().flatten();
        all.filter(|one| one.file_name().to_string_lossy().starts_with("kettle.tar")).count()
    };
    let is_done = || house.path("kettle.tar").exists();
    let step = Duration::from_millis(20);
    kill_until(is_done, &house, line, step, || assert!(count() <= 1));
    house.larder("look kettle.tar").ends(0);
    assert_eq!(count(), 1);
}
