//! Layers that are larger than what is gathered in memory before it goes to the disk: whole on every
//! way in and out, whatever breaks off.

use std::fs;
use std::io::{Read as _, Write as _};
use std::net::{TcpListener, TcpStream};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::time::Duration;

use larder_standin::{FaultKind, ImagePlan, SampleImage, image};

use crate::house::{House, OWN};
use crate::kill::kill_until_done;
use crate::parcel::Gap;

/// Of the layer before compression.
const SIZE: usize = 30_000_000;
/// What is smaller than this never goes straight to the disk.
const LARGE: u64 = 10_000_000;

/// An image of one platform whose own layer is large, at the place of `kettle:2`.
fn hold(house: &House) -> SampleImage {
    let plan = ImagePlan {
        layer_size: SIZE,
        shared: Vec::new(),
        own: 1,
        ..ImagePlan::new("large").for_platforms(&["linux/amd64"])
    };
    let large = image(&plan);
    house.hold(&house.bazaar, "library/kettle", "2", &large);
    large
}

/// The store has the image as the upstream has it, byte for byte.
#[track_caller]
fn is_there(house: &House) {
    house.larder("store verify").ends(0);
    house.larder(&format!("look kettle:2 {OWN}/vendor/kettle:2")).ends(0).says(&["same"]);
    let lying = ["content", "blobs"].map(|top| format!("larder-data/{top}"));
    assert_eq!(lying.iter().flat_map(|folder| large_files(house, folder)).count(), 1);
}

/// The sizes of the large files below a folder.
fn large_files(house: &House, folder: &str) -> Vec<u64> {
    let mut found = Vec::new();
    let mut folders = vec![house.path(folder)];
    while let Some(folder) = folders.pop() {
        let Ok(entries) = fs::read_dir(folder) else { continue };
        for entry in entries.flatten() {
            match entry.metadata().unwrap() {
                one if one.is_dir() => folders.push(entry.path()),
                one if one.len() > LARGE => found.push(one.len()),
                _ => {}
            }
        }
    }
    found
}

#[test]
fn a_large_layer_comes_in_whole_although_its_stream_breaks_off() {
    let house = House::new();
    hold(&house);
    house.larder("intake lock").ends(0);
    // Each stream ends somewhere else, and never where a block does.
    for after in [9_000_001, 3_333_333, 1_048_577] {
        house.bazaar.faults.add(
            Some("GET"),
            "/library/kettle/blobs/",
            2,
            FaultKind::CutAfter(after),
        );
    }
    house.larder("intake run").ends(0);
    house.bazaar.faults.clear();
    is_there(&house);
    assert_eq!(house.unfinished(), 0);
}

#[test]
fn a_large_layer_that_is_not_what_it_should_be_leaves_nothing() {
    let house = House::new();
    hold(&house);
    house.larder("intake lock").ends(0);
    house.bazaar.faults.add(Some("GET"), "/library/kettle/blobs/", 9999, FaultKind::Altered);
    house.larder("intake run").ends(4).says(&["kettle"]);
    house.larder("shelf show vendor/kettle").ends(1);
    assert!(large_files(&house, "larder-data").is_empty());
    assert_eq!(house.unfinished(), 0);
    house.bazaar.faults.clear();
    house.larder("intake run").ends(0);
    is_there(&house);
}

#[test]
fn a_large_layer_is_the_same_in_folders_archives_and_backups() {
    let house = House::new();
    hold(&house);
    house.larder("intake lock").ends(0);
    house.larder("intake run").ends(0);
    let held = format!("{OWN}/vendor/kettle:2");
    for place in ["./folder", "archive.tar"] {
        house.larder(&format!("copy {held} {place}")).ends(0);
        house.larder(&format!("look {place} {held}")).ends(0).says(&["same"]);
        house.larder(&format!("copy {place} ./again")).ends(0);
        house.larder(&format!("look ./again {held}")).ends(0).says(&["same"]);
        fs::remove_dir_all(house.path("again")).unwrap();
    }
    house.larder("store backup kept").ends(0);
    fs::remove_dir_all(house.path("larder-data")).unwrap();
    fs::rename(house.path("kept"), house.path("larder-data")).unwrap();
    is_there(&house);
}

#[test]
fn a_large_layer_crosses_an_air_gap_although_all_is_killed_on_the_way() {
    let gap = Gap::new();
    let house = &gap.house;
    hold(house);
    house.larder("intake lock").ends(0);
    house.bazaar.faults.add(Some("GET"), "/blobs/", 6, FaultKind::Late(Duration::from_millis(30)));
    kill_until_done(house, "intake run", Duration::from_millis(60), || {
        assert!(house.unfinished() <= 12, "unfinished files pile up: {}", house.unfinished());
    });
    house.bazaar.faults.clear();
    is_there(house);
    gap.near("parcel pack parcel --volume 5MiB").ends(0);
    gap.far("parcel verify parcel").ends(0);
    let line = "parcel unpack parcel --config far/larder.toml";
    kill_until_done(house, line, Duration::from_millis(40), || {
        // What is to be seen there is whole. A kill that came very early has left no store yet.
        let seen = gap.far("shelf show vendor/kettle");
        let nothing = seen.exit == 1 || seen.err.contains("there is no store in it");
        assert!(nothing || gap.far("store verify").exit == 0, "{}{}", seen.out, seen.err);
    });
    gap.far("store verify").ends(0);
    assert_eq!(large_files(house, "far/larder-data/content").len(), 1);
    let left = fs::read_dir(house.path("far/larder-data/uploads")).unwrap().count();
    assert_eq!(left, 0, "nothing unfinished stays");
}

/// Runs a command until so much of the layer has come, ends it by a signal, and gives what it said.
fn interrupted(house: &House, line: &str) -> crate::house::Run {
    let child = crate::house::spawn(&mut house.command(line), std::process::Stdio::null());
    let part = || large_files(house, "larder-data/uploads").first().copied();
    crate::node::wait_until("much of it has come", || part().is_some());
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    crate::house::ended(child)
}

#[test]
fn what_was_interrupted_within_a_layer_goes_on_there() {
    let house = House::new();
    hold(&house);
    house.larder("intake lock").ends(0);
    for line in [
        "intake run".to_owned(),
        format!("copy bazaar.example/library/kettle:2 {OWN}/vendor/again:2"),
    ] {
        house.bazaar.faults.add(
            Some("GET"),
            "/library/kettle/blobs/",
            99,
            FaultKind::StallAfter(12_000_000),
        );
        interrupted(&house, &line).ends(130).says(&["run it again, and it goes on where it was"]);
        house.bazaar.faults.clear();
        let _ = house.bazaar.take_ranges();
        house.larder(&line).ends(0);
        let from = house.bazaar.take_ranges().into_iter().filter_map(|range| {
            range.strip_prefix("bytes=")?.strip_suffix('-')?.parse::<u64>().ok()
        });
        let from: Vec<u64> = from.collect();
        assert!(from.iter().any(|from| *from > LARGE), "{line} began anew: {from:?}");
        house.larder("store verify").ends(0);
        assert_eq!(house.unfinished(), 0);
        house.larder("shelf drop vendor/**:* --yes").ends(0);
        house.larder("store collect --grace 0s").ends(0);
    }
    // What was left of another content is thrown away.
    house.bazaar.faults.add(
        Some("GET"),
        "/library/kettle/blobs/",
        99,
        FaultKind::StallAfter(12_000_000),
    );
    interrupted(&house, "intake run").ends(130);
    house.bazaar.faults.clear();
    let part =
        fs::read_dir(house.path("larder-data/uploads")).unwrap().map(|one| one.unwrap().path());
    let mut part = part;
    let part = part.find(|path| fs::metadata(path).unwrap().len() > LARGE).unwrap();
    let mut bytes = fs::read(&part).unwrap();
    bytes[5_000_000] ^= 1;
    fs::write(&part, bytes).unwrap();
    house.larder("intake run").ends(0);
    is_there(&house);
    assert_eq!(house.unfinished(), 0);
}

#[test]
fn a_folder_that_was_being_written_is_gone_on_with() {
    let house = House::new();
    hold(&house);
    let line = "copy bazaar.example/library/kettle:2 ./whole";
    house.bazaar.faults.add(
        Some("GET"),
        "/library/kettle/blobs/",
        99,
        FaultKind::StallAfter(12_000_000),
    );
    let child = crate::house::spawn(&mut house.command(line), std::process::Stdio::null());
    let part = || large_files(&house, "whole/.incoming").first().copied();
    crate::node::wait_until("much of it has come", || part().is_some());
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    crate::house::ended(child).ends(130);
    house.bazaar.faults.clear();
    let _ = house.bazaar.take_ranges();
    house.larder(line).ends(0);
    let from =
        house.bazaar.take_ranges().into_iter().filter_map(|range| {
            range.strip_prefix("bytes=")?.strip_suffix('-')?.parse::<u64>().ok()
        });
    let from: Vec<u64> = from.collect();
    assert!(from.iter().any(|from| *from > LARGE), "it began anew: {from:?}");
    house.larder("look ./whole bazaar.example/library/kettle:2").ends(0).says(&["same"]);
    assert!(!house.path("whole/.incoming").exists(), "nothing unfinished stays");
}

/// Passes connections on to a server, and cuts the first one that has sent so many bytes. Gives its address, and how
/// many bytes were sent in all.
fn cutting(to: &str, after: u64) -> (String, Arc<AtomicU64>) {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let (sent, cut) = (Arc::new(AtomicU64::new(0)), Arc::new(AtomicBool::new(false)));
    let (to, all) = (to.to_owned(), Arc::clone(&sent));
    std::thread::spawn(move || {
        for client in listener.incoming().take(200) {
            let (Ok(mut client), Ok(mut server)) = (client, TcpStream::connect(&to)) else {
                return;
            };
            let (mut back, mut answers) =
                (client.try_clone().unwrap(), server.try_clone().unwrap());
            std::thread::spawn(move || std::io::copy(&mut answers, &mut back));
            let (all, cut) = (Arc::clone(&all), Arc::clone(&cut));
            std::thread::spawn(move || {
                let (mut piece, mut ours) = (vec![0; 65536], 0);
                while let Ok(got @ 1..) = client.read(&mut piece) {
                    ours += got as u64;
                    all.fetch_add(got as u64, Ordering::SeqCst);
                    if ours > after && !cut.swap(true, Ordering::SeqCst) {
                        break;
                    }
                    if server.write_all(&piece[..got]).is_err() {
                        break;
                    }
                }
                let _ = client.shutdown(std::net::Shutdown::Both);
                let _ = server.shutdown(std::net::Shutdown::Both);
            });
        }
    });
    (address, sent)
}

#[test]
fn a_push_that_breaks_off_goes_on_where_it_was() {
    let house = House::new();
    let size = large_size(&hold(&house));
    house.configure("");
    let inner = house.start(larder_standin::UpstreamPlan::default());
    let at = inner.endpoint();
    let (address, sent) = cutting(at.trim_start_matches("http://"), 12_000_000);
    house.add_upstream("inner.example", &format!("http://{address}"), "");
    house.larder("copy bazaar.example/library/kettle:2 inner.example/vendor/kettle:2").ends(0);
    let asked = inner.take_requests();
    let count = |method: &str| -> usize {
        let uploads = asked
            .iter()
            .filter(|(line, _)| line.starts_with(method) && line.contains("/blobs/uploads/"));
        uploads.map(|(_, count)| count).sum()
    };
    assert!(count("GET ") > 0, "{asked:?}");
    let sent = sent.load(Ordering::SeqCst);
    assert!(sent > size && sent < size + 8_000_000, "{sent} were sent of {size}");
    house
        .larder("look inner.example/vendor/kettle:2 bazaar.example/library/kettle:2")
        .ends(0)
        .says(&["same"]);
}

/// The bytes of an image's largest blob.
fn large_size(large: &SampleImage) -> u64 {
    large.blobs.iter().map(|blob| blob.bytes.len() as u64).max().unwrap()
}
