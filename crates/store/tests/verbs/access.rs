//! Keys, the record and the larder's own secret: what their keepers promise.

use std::fs;
use std::os::unix::fs::PermissionsExt as _;

use larder_core::access::key::{Key, Pepper, RANDOM};
use larder_core::access::stop::{Stop, Stopped};
use larder_core::digest::Digest;
use larder_store::{Filter, KeyRecord, RecordEntry, RecordKind, local_secret};

use super::{Pair, pairs};

fn record(seed: u8, user: &str, issued: i64) -> KeyRecord {
    let key = Key::new(&[seed; RANDOM]);
    KeyRecord {
        id: key.id(),
        user: user.into(),
        hash: Pepper::new(&[1; 32]).hash(&key),
        issued,
        expires: Some(issued + 100),
        revoked: None,
        replaces: None,
        used: None,
        used_from: None,
    }
}

/// Waits until other processes are told: at once on one machine.
async fn is_told(pair: &Pair, told: impl Fn() -> bool) {
    let began = std::time::Instant::now();
    while !told() {
        assert!(pair.server.is_some() && began.elapsed().as_secs() < 5, "others are not told");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
}

#[tokio::test]
async fn a_keyring_keeps_its_promises() {
    for pair in pairs() {
        let (store, other) = (&pair.one, &pair.two);
        let (first, second) = (record(1, "ci", 10), record(2, "ci", 20));
        let (moment, version) = (store.moment_of_access(), store.keys_version().await.unwrap());
        store.add_key(second.clone()).await.unwrap();
        assert!(store.add_key(second.clone()).await.is_err(), "it is there already");
        let replacing = KeyRecord { replaces: Some(second.id.clone()), ..first.clone() };
        other.add_key(replacing.clone()).await.unwrap();
        assert_eq!(store.keys().await.unwrap(), [replacing.clone(), second.clone()]);
        is_told(&pair, || store.moment_of_access() != moment).await;
        let changed = store.keys_version().await.unwrap();
        assert!(changed > version);
        let moment = store.moment_of_access();
        let uses = |at| vec![(second.id.clone(), at, format!("10.0.0.{at}"))];
        store.note_key_uses(uses(9)).await.unwrap();
        store.note_key_uses(uses(7)).await.unwrap();
        let known = store.keys().await.unwrap().remove(1);
        assert_eq!((known.used, known.used_from.as_deref()), (Some(9), Some("10.0.0.9")));
        assert_eq!(store.keys_version().await.unwrap(), changed);
        // A server may tell once more what it has told.
        assert!(pair.server.is_some() || store.moment_of_access() == moment);
        assert!(other.revoke_key(&second.id, 50).await.unwrap());
        assert!(!other.revoke_key(&second.id, 60).await.unwrap(), "once is enough");
        is_told(&pair, || store.moment_of_access() != moment).await;
        let known = store.keys().await.unwrap().remove(1);
        assert_eq!(known.revoked, Some(50));
        assert!(!known.is_good(40) && replacing.is_good(109) && !replacing.is_good(110));
    }
}

fn entry(number: &str, kind: RecordKind, who: &str, reference: &str, at: i64) -> RecordEntry {
    RecordEntry {
        number: number.into(),
        first: at,
        last: at,
        count: 1,
        kind,
        who: who.into(),
        by: None,
        address: Some("10.0.0.1".into()),
        reference: Some(reference.into()),
        line: None,
        text: "x".into(),
        same: None,
        origin: None,
    }
}

#[tokio::test]
async fn what_is_stopped_stays_so_until_it_is_lifted() {
    for pair in pairs() {
        let (store, other) = (&pair.one, &pair.two);
        let stop = |what: Stopped, at| Stop { what, because: "leaked".into(), at };
        let (tokens, content) =
            (Stopped::Tokens("turbine-hall".into()), Stopped::Content(Digest::of(b"bad")));
        assert!(store.stops().await.unwrap().is_empty());
        let (moment, version) = (other.moment_of_access(), other.keys_version().await.unwrap());
        let both = vec![stop(content.clone(), 20), stop(tokens.clone(), 10)];
        store.add_stops(both).await.unwrap();
        let known = other.stops().await.unwrap();
        assert_eq!(
            known,
            [stop(tokens.clone(), 10), stop(content.clone(), 20)],
            "the oldest first"
        );
        is_told(&pair, || other.moment_of_access() != moment).await;
        let changed = other.keys_version().await.unwrap();
        assert!(changed > version);
        // Stopped anew it counts from then; lifted it is gone, and once is enough.
        other.add_stops(vec![stop(tokens.clone(), 30)]).await.unwrap();
        assert_eq!(store.stops().await.unwrap()[1], stop(tokens.clone(), 30));
        assert!(other.lift_stop(content.clone(), 40).await.unwrap());
        assert!(!store.lift_stop(content, 50).await.unwrap());
        assert_eq!(store.stops().await.unwrap(), [stop(tokens, 30)]);
        assert!(store.keys_version().await.unwrap() > changed);
    }
}

#[tokio::test]
async fn what_strangers_leave_in_the_record_is_bounded() {
    for pair in pairs() {
        let store = &pair.one;
        let mut all = vec![
            entry("own", RecordKind::Push, "ci", "vendor/a:1", 1),
            entry("told", RecordKind::Refused, "ci", "vendor/a:1", 2),
        ];
        for number in 0..20 {
            let kind = if number % 2 == 0 { RecordKind::Failed } else { RecordKind::Refused };
            all.push(entry(&format!("n{number:02}"), kind, "", "vendor/a:1", 10 + number));
        }
        store.write_down(all).await.unwrap();
        store.shorten_strangers(3).await.unwrap();
        let left = store.entries(Filter::default()).await.unwrap();
        let left: Vec<_> = left.iter().map(|entry| &*entry.number).collect();
        assert_eq!(left, ["own", "told", "n17", "n18", "n19"], "whoever is known keeps theirs");
    }
}

#[tokio::test]
async fn a_record_keeps_its_promises() {
    for pair in pairs() {
        let store = &pair.one;
        let same = |number: &str, at| RecordEntry {
            same: Some("pull|ci|vendor/a:1|today".into()),
            ..entry(number, RecordKind::Pull, "ci", "vendor/a:1", at)
        };
        let all = vec![
            same("n1", 10),
            entry("n2", RecordKind::Refused, "turbine-hall/scada", "vendor/100%:1", 20),
            entry("n3", RecordKind::Push, "turbine-hall", "apps/board:1", 30),
            same("n4", 40),
        ];
        store.write_down(all).await.unwrap();
        let numbers = |filter: Filter| async move {
            let found = store.entries(filter).await.unwrap();
            found.into_iter().map(|entry| entry.number).collect::<Vec<_>>()
        };
        assert_eq!(numbers(Filter::default()).await, ["n2", "n3", "n1"], "the oldest first");
        let first = Filter { number: Some("n1".into()), ..Filter::default() };
        let pull = store.entries(first).await.unwrap().remove(0);
        assert_eq!((pull.first, pull.last, pull.count), (10, 40, 2));
        for (filter, found) in [
            (Filter { since: Some(30), ..Filter::default() }, &["n3", "n1"][..]),
            (
                Filter { kinds: vec![RecordKind::Push, RecordKind::Refused], ..Filter::default() },
                &["n2", "n3"],
            ),
            (Filter { who: Some("turbine-hall".into()), ..Filter::default() }, &["n2", "n3"]),
            (Filter { who: Some("turbine-hall/scada".into()), ..Filter::default() }, &["n2"]),
            (Filter { about: Some("100%".into()), ..Filter::default() }, &["n2"]),
            (Filter { about: Some("%".into()), ..Filter::default() }, &["n2"]),
            (Filter { limit: Some(1), ..Filter::default() }, &["n1"]),
            (Filter { who: Some("nobody".into()), ..Filter::default() }, &[]),
        ] {
            assert_eq!(numbers(filter.clone()).await, found, "{filter:?}");
        }
        assert_eq!(store.forget_before(30).await.unwrap(), 1);
        assert_eq!(numbers(Filter::default()).await, ["n3", "n1"]);
    }
}

#[tokio::test]
async fn what_was_written_after_a_change_is_given_in_its_order() {
    for pair in pairs() {
        let store = &pair.one;
        let pushed = |number: &str, at| RecordEntry {
            same: Some(format!("push|{}", &number[..1])),
            ..entry(number, RecordKind::Push, "ci", "vendor/a:1", at)
        };
        assert_eq!(store.last_change().await.unwrap(), 0);
        let all = vec![
            pushed("a1", 10),
            entry("p1", RecordKind::Pull, "ci", "vendor/a:1", 11),
            pushed("b1", 12),
        ];
        store.write_down(all).await.unwrap();
        let numbers = |after, limit| async move {
            let kinds = [RecordKind::Push, RecordKind::Refused];
            let found = store.written_after(after, &kinds, limit).await.unwrap();
            let found =
                found.into_iter().map(|(change, entry)| (change, entry.number, entry.count));
            found.collect::<Vec<_>>()
        };
        let first = numbers(0, 10).await;
        assert_eq!(first.iter().map(|(_, number, _)| &**number).collect::<Vec<_>>(), ["a1", "b1"]);
        assert_eq!(numbers(0, 1).await, first[..1]);
        assert_eq!(numbers(first[0].0, 10).await, first[1..]);
        let last = store.last_change().await.unwrap();
        assert_eq!(numbers(last, 10).await, []);
        // What is added to comes again, with its count.
        store.write_down(vec![pushed("a2", 20)]).await.unwrap();
        let again = numbers(last, 10).await;
        assert_eq!((&*again[0].1, again[0].2, again.len()), ("a1", 2, 1));
    }
}

#[test]
fn the_secret_is_made_once_and_nobody_else_reads_it() {
    let folder = tempfile::tempdir().unwrap();
    let made: Vec<[u8; 32]> = std::thread::scope(|scope| {
        let all: Vec<_> =
            (0..8).map(|_| scope.spawn(|| local_secret(folder.path()).unwrap())).collect();
        all.into_iter().map(|one| one.join().unwrap()).collect()
    });
    assert!(made.iter().all(|one| *one == made[0]) && made[0] != [0; 32]);
    let path = folder.path().join("access.secret");
    assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
    assert!(local_secret(folder.path()).unwrap_err().to_string().contains("access.secret"));
    fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).unwrap();
    fs::write(&path, "short").unwrap();
    assert!(local_secret(folder.path()).is_err());
}
