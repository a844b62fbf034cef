//! What is inside images, and what was published about it.

use larder_core::advisory::{
    Advisory, PackageKey, PackageVerdict, Severity, read_advisory, read_openvex,
};
use larder_core::digest::Digest;
use larder_core::inventory::{LayerFacts, Unread};
use larder_core::version::Ecosystem;
use larder_store::{Feed, InventoryGaps, NotedFinding, NotedSystem, Store};
use std::collections::BTreeSet;

use super::{image, name, pairs, shared};

fn facts(why: &str) -> LayerFacts {
    let unread = vec![Unread { path: "x".to_owned(), why: why.to_owned() }];
    LayerFacts { entries: 1, unread, ..LayerFacts::default() }
}

fn debian() -> NotedSystem {
    NotedSystem { release: "Debian:12".to_owned(), ..NotedSystem::default() }
}

fn key(name: &str, version: &str) -> PackageKey {
    let (name, version) = (name.to_owned(), version.to_owned());
    PackageKey { ecosystem: Ecosystem::Npm, name, release: String::new(), version }
}

fn advisory(id: &str, package: &str, fixed: &str, day: u32) -> Advisory {
    let text = format!(
        r#"{{"id":"{id}","modified":"2026-10-{day:02}T00:00:00Z","aliases":["CVE-{id}"],"severity":[{{"type":"CVSS_V3","score":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"}}],"affected":[{{"package":{{"ecosystem":"npm","name":"{package}"}},"ranges":[{{"type":"SEMVER","events":[{{"introduced":"0"}},{{"fixed":"{fixed}"}}]}}]}}]}}"#
    );
    read_advisory(text.as_bytes()).unwrap()
}

fn feed(at: i64) -> Feed {
    Feed {
        name: "feed".to_owned(),
        origin: "feed.zip".to_owned(),
        digest: String::new(),
        imported_at: at,
        newest: 0,
        advisories: 0,
        unmatched: 0,
        is_trusted: true,
    }
}

/// Every finding as `ADVISORY PACKAGE VERSION LAYER FIXED`.
async fn findings(store: &Store) -> Vec<String> {
    let fold = |all: &mut Vec<NotedFinding>, one| all.push(one);
    let all = store.fold_findings(None, Vec::new(), fold).await.unwrap();
    let numbers = all.iter().map(|one| one.advisory).collect();
    let of = store.advisories_numbered(numbers).await.unwrap();
    let mut told: Vec<String> = all
        .iter()
        .map(|one| {
            let id = &of[&one.advisory].advisory.id;
            let said = match &one.verdict {
                PackageVerdict::Affected { fixed } => fixed.clone(),
                other => format!("{other:?}"),
            };
            format!("{id} {} {} {} {said}", one.package.name, one.package.version, one.layer)
        })
        .collect();
    told.sort();
    told
}

#[tokio::test]
async fn what_is_known_of_a_layer_stays_as_long_as_its_content() {
    for pair in pairs() {
        image(&pair.one, &pair.kettle, "layer", Some("1")).await;
        let (layer, other) = (Digest::of(b"layer"), Digest::of(b"other"));
        assert!(pair.one.keep_layer_facts(&layer, &facts("first")).await.unwrap());
        assert!(!pair.one.keep_layer_facts(&other, &facts("none")).await.unwrap());
        let asked = [layer.clone(), other.clone()];
        let known = pair.two.layer_facts(&asked).await.unwrap();
        assert_eq!((known.len(), &*known[&layer]), (1, &facts("first")));
        assert_eq!(pair.two.unread_layers(asked.to_vec()).await.unwrap(), [other]);
        pair.two.keep_layer_facts(&layer, &facts("second")).await.unwrap();
        assert_eq!(*pair.one.layer_facts(&asked).await.unwrap()[&layer], facts("second"));
        // Facts of a form that this program does not know are as if they were not there.
        pair.run("UPDATE layer_facts SET form = form + 1");
        assert!(pair.one.layer_facts(&asked).await.unwrap().is_empty());
        let manifests = pair.two.bodies_after(None, 10).await.unwrap();
        assert_eq!(manifests.len(), 1);
        assert_eq!(Digest::of(&manifests[0].1), manifests[0].0);
        assert!(pair.two.bodies_after(Some(&manifests[0].0), 10).await.unwrap().is_empty());
        pair.run("DELETE FROM contents");
        assert_eq!(pair.number("SELECT COUNT(*) FROM layer_facts"), 0);
    }
}

#[tokio::test]
async fn whichever_is_new_the_advisory_or_the_image_it_is_found() {
    for pair in pairs() {
        let first = image(&pair.one, &pair.kettle, "one", Some("1")).await;
        let second = image(&pair.one, &pair.kettle, "two", Some("2")).await;
        let note = |image: Digest, packages: Vec<(PackageKey, usize)>| {
            let store = pair.one.clone();
            async move {
                store
                    .note_inventory(&image, &debian(), InventoryGaps::default(), packages)
                    .await
                    .unwrap();
            }
        };
        note(first.clone(), vec![(key("damper", "1.0.0"), 3), (key("hinge", "1.0.0"), 0)]).await;
        let unnoted = pair.two.unnoted(vec![first.clone(), second.clone()]).await.unwrap();
        assert_eq!(unnoted, [(second.clone(), None)]);
        let at = larder_store::now();
        let both = vec![advisory("A-1", "damper", "2.0.0", 1), advisory("A-2", "flue", "2.0.0", 1)];
        let taken = pair.two.take_advisories("feed", both.clone(), at).await.unwrap();
        assert_eq!((taken.new, taken.changed, taken.same), (2, 0, 0));
        pair.two.finish_feed(feed(at), None).await.unwrap();
        assert_eq!(findings(&pair.one).await, ["A-1 damper 1.0.0 3 2.0.0"]);
        // What it was noted with first is not what it has.
        note(second.clone(), vec![(key("damper", "0.1.0"), 0)]).await;
        note(second.clone(), vec![(key("flue", "1.0.0"), 1), (key("damper", "2.0.0"), 1)]).await;
        let all = ["A-1 damper 1.0.0 3 2.0.0", "A-2 flue 1.0.0 1 2.0.0"];
        assert_eq!(findings(&pair.two).await, all);
        // What nobody holds is judged without being noted.
        let asked = BTreeSet::from([key("damper", "1.9.0"), key("hinge", "1.0.0")]);
        let found = pair.two.findings_of(asked).await.unwrap();
        assert_eq!((found.len(), &*found[0].2.advisory.id), (1, "A-1"));
        let taken = pair.one.take_advisories("feed", both, at).await.unwrap();
        assert_eq!((taken.new, taken.same), (0, 2));
        // A newer one is judged anew, an older one changes nothing.
        let newer = advisory("A-1", "damper", "0.9.0", 2);
        let taken = pair.two.take_advisories("feed", vec![newer], at).await.unwrap();
        assert_eq!(taken.changed, 1);
        assert_eq!(findings(&pair.one).await, all[1..]);
        let listed = pair.one.list_advisories(None, Severity::High, true, 10).await.unwrap();
        assert_eq!(
            listed.iter().map(|one| (&*one.name, one.images)).collect::<Vec<_>>(),
            [("A-2", 1)]
        );
        let listed = pair.one.list_advisories(Some("feed".into()), Severity::Unknown, false, 10);
        assert_eq!(listed.await.unwrap().len(), 2);
        assert_eq!(pair.two.advisories_called("CVE-A-2").await.unwrap().len(), 1);
        // As a whole: what the next import does not have goes.
        let later = at + 1000;
        pair.one
            .take_advisories("feed", vec![advisory("A-1", "damper", "2.0.0", 3)], later)
            .await
            .unwrap();
        assert_eq!(pair.one.finish_feed(feed(later), Some(later)).await.unwrap(), 1);
        assert_eq!(findings(&pair.two).await, all[..1]);
        assert_eq!(pair.two.feeds().await.unwrap()[0].advisories, 1);
        // With its manifest an image goes, and with that what only it had.
        pair.run("DELETE FROM bodies");
        pair.one.forget_inventories().await.unwrap();
        assert!(findings(&pair.two).await.is_empty());
        for table in ["inventories", "image_packages", "packages", "findings"] {
            assert_eq!(pair.number(&format!("SELECT COUNT(*) FROM {table}")), 0, "{table}");
        }
        assert!(pair.two.drop_feed("feed").await.unwrap());
        assert!(!pair.two.drop_feed("feed").await.unwrap());
        for table in ["advisories", "advisory_aliases", "advisory_names", "feeds"] {
            assert_eq!(pair.number(&format!("SELECT COUNT(*) FROM {table}")), 0, "{table}");
        }
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 4)]
async fn an_advisory_and_an_image_that_come_at_once_find_each_other() {
    for pair in pairs() {
        let image = image(&pair.one, &pair.kettle, "one", Some("1")).await;
        for turn in 0..pair.some(20) {
            // Many at once, so that each takes its time.
            let name = |number: u32| format!("p{turn}-{number}");
            let all: Vec<Advisory> = (0..200)
                .map(|number| advisory(&format!("B-{turn}-{number}"), &name(number), "2.0.0", 1))
                .collect();
            let packages: Vec<(PackageKey, usize)> =
                (0..200).map(|number| (key(&name(number), "1.0.0"), 0)).collect();
            let (one, two, image) = (pair.one.clone(), pair.two.clone(), image.clone());
            let taking =
                tokio::spawn(async move { one.take_advisories("feed", all, 1).await.unwrap() });
            let noting = tokio::spawn(async move {
                two.note_inventory(
                    &image,
                    &NotedSystem::default(),
                    InventoryGaps::default(),
                    packages,
                )
                .await
                .unwrap();
            });
            taking.await.unwrap();
            noting.await.unwrap();
            assert_eq!(findings(&pair.one).await.len(), 200, "turn {turn}");
        }
    }
}

#[tokio::test]
async fn many_are_taken_at_once_and_statements_are_found_by_every_name() {
    for pair in pairs() {
        let count = pair.some(3000) as usize;
        let all: Vec<Advisory> = (0..count)
            .map(|number| {
                advisory(&format!("A-{number}"), &format!("p{}", number % 500), "2.0.0", 1)
            })
            .collect();
        let taken = pair.one.take_advisories("feed", all, 1).await.unwrap();
        assert_eq!(taken.new, count as u64);
        let packages = (0..700).map(|number| (key(&format!("p{number}"), "1.0.0"), 0)).collect();
        let image = image(&pair.one, &pair.kettle, "one", Some("1")).await;
        pair.two
            .note_inventory(
                &image,
                &NotedSystem::default(),
                InventoryGaps { layers: Vec::new(), parts: 2 },
                packages,
            )
            .await
            .unwrap();
        assert_eq!(findings(&pair.one).await.len(), count);
        assert_eq!(pair.one.not_whole(10).await.unwrap(), (1, vec![image.clone()]));
        assert_eq!(pair.two.findings_in(vec![image]).await.unwrap().len(), count);
        let vex = br#"{"author":"Emberfall","timestamp":"2026-10-01T00:00:00Z","statements":[
          {"vulnerability":{"name":"A-1","aliases":["CVE-A-1"]},"products":["pkg:npm/p1"],"status":"not_affected"}]}"#;
        let other = std::str::from_utf8(vex).unwrap().replace("A-1", "A-2");
        for at in [1, 2] {
            // The same again is the same, and others stand beside it.
            pair.one.take_statements("feed", read_openvex(vex).unwrap(), at).await.unwrap();
            let other = read_openvex(other.as_bytes()).unwrap();
            pair.two.take_statements("feed", other, 1).await.unwrap();
        }
        pair.one.finish_feed(feed(2), None).await.unwrap();
        assert_eq!(pair.number("SELECT COUNT(*) FROM statements"), 4);
        let about = |store: &Store, id: &str| {
            let (store, names) = (store.clone(), BTreeSet::from([id.to_owned()]));
            async move { store.statements_about(names).await.unwrap() }
        };
        for id in ["A-1", "CVE-A-1", "A-2"] {
            let found = about(&pair.two, id).await;
            assert_eq!((found.len(), found[0].1), (1, true), "{id}");
        }
        // As a whole: what the last import did not have goes.
        pair.two.finish_feed(feed(2), Some(2)).await.unwrap();
        assert_eq!(about(&pair.one, "A-1").await.len(), 1);
        assert!(about(&pair.one, "A-2").await.is_empty());
    }
}

#[tokio::test]
async fn a_server_of_an_earlier_form_gets_what_is_new() {
    let Some(address) = shared::address() else { return };
    let read = |name: &str| {
        let path = format!("{}/src/records/{name}", env!("CARGO_MANIFEST_DIR"));
        std::fs::read_to_string(path).unwrap()
    };
    // A form before is this one without what the steps add.
    let tables = read("postgres.sql");
    let before = [
        (8, tables.replace("VALUES (10, 8)", "VALUES (8, 8)")),
        (9, tables.replace("VALUES (10, 8)", "VALUES (9, 8)") + &read("postgres-9.sql")),
    ];
    for (version, tables) in before {
        let server = shared::fresh(&address);
        shared::run(&server, &tables);
        comes_to_this_form(&server, version).await;
    }
}

async fn comes_to_this_form(server: &str, version: i64) {
    let folder = tempfile::tempdir().unwrap();
    // Two that are started at once.
    let opened: Vec<_> = (0..2)
        .map(|_| {
            let (folder, server) = (folder.path().to_owned(), server.to_owned());
            std::thread::spawn(move || shared::open(&folder, &server))
        })
        .collect();
    let stores: Vec<Store> = opened.into_iter().map(|one| one.join().unwrap()).collect();
    assert_eq!(
        shared::number(server, "SELECT version * 100 + works_with FROM form"),
        1008,
        "{version}"
    );
    image(&stores[0], &name("vendor/kettle"), "layer", Some("1")).await;
    assert!(stores[1].keep_layer_facts(&Digest::of(b"layer"), &facts("x")).await.unwrap());
}

#[tokio::test]
async fn images_are_found_by_their_layers_and_noted_once_more_when_one_is_read() {
    for pair in pairs() {
        let first = image(&pair.one, &pair.kettle, "below", Some("1")).await;
        let same = image(&pair.one, &pair.kettle, "below", Some("2")).await;
        assert_eq!(first, same);
        let second = image(&pair.two, &name("vendor/other"), "above", Some("1")).await;
        let noted = pair.one.note_held().await.unwrap();
        assert_eq!((noted.noted, noted.unread), (0, 2), "nothing is read yet");
        assert_eq!(pair.two.not_whole(1).await.unwrap().0, 2);
        assert!(pair.two.unnoted_after(None, 10).await.unwrap().is_empty());
        let of = |digest: &Digest| {
            let (store, asked) = (pair.two.clone(), vec![digest.clone()]);
            async move { store.noted(asked).await.unwrap().pop().unwrap().1 }
        };
        assert!(of(&first).await.is_image && !of(&first).await.is_whole());
        // A layer that is read later tells of the images that have it, and of no others.
        let layer = Digest::of(b"below");
        assert!(pair.two.keep_layer_facts(&layer, &facts("x")).await.unwrap());
        let again = pair.one.unnoted_after(None, 10).await.unwrap();
        assert_eq!(again.iter().map(|(digest, _)| digest).collect::<Vec<_>>(), [&first]);
        assert_eq!(pair.one.note_held().await.unwrap().noted, 1);
        assert_eq!(of(&first).await.unread, 0);
        assert_eq!(of(&second).await.unread, 1);
        let homes = pair.two.homes_of(vec![first.clone(), second.clone()]).await.unwrap();
        let tags: Vec<Vec<&str>> = homes
            .iter()
            .map(|(_, all)| all.iter().map(|home| home.tag.as_str()).collect())
            .collect();
        assert_eq!(tags, [vec!["1", "2"], vec!["1"]]);
        let sharers = pair.one.sharers_of(&layer, 1).await.unwrap();
        assert_eq!((sharers.count, sharers.some.len()), (2, 1));
        let below = pair.one.tagged_manifests(&pair.kettle).await.unwrap();
        assert_eq!(below.len(), 2);
        assert_eq!((below[0].1.len(), &below[0].1[0]), (1, &first));
        let bodies = pair.one.bodies_of(vec![Digest::of(b"none"), first.clone()]).await.unwrap();
        assert_eq!((bodies.len(), Digest::of(&bodies[0].1)), (1, first.clone()));
        // What is no image is not looked at again.
        pair.run("DELETE FROM inventories");
        pair.one.note_others(vec![first.clone()]).await.unwrap();
        assert!(!of(&first).await.is_image);
        assert_eq!(pair.one.unnoted_after(None, 10).await.unwrap().len(), 1);
    }
}

#[tokio::test]
async fn it_is_known_since_when_an_advisory_is_here_and_worse_ones_are_new() {
    for pair in pairs() {
        let known = |store: &Store| {
            let store = store.clone();
            async move { store.advisories_called("A-1").await.unwrap()[0].1.known_at }
        };
        for (at, modified) in [(10, 1), (20, 1), (30, 2)] {
            let one = advisory("A-1", "damper", "2.0.0", modified);
            pair.one.take_advisories("feed", vec![one], at).await.unwrap();
            assert_eq!(known(&pair.two).await, 10, "at {at}");
        }
        // As an earlier program writes it, and as it goes on then.
        pair.run("UPDATE advisories SET first_at = 0, severity = 2");
        assert_eq!(known(&pair.two).await, 30);
        let same = advisory("A-1", "damper", "2.0.0", 2);
        pair.one.take_advisories("feed", vec![same], 40).await.unwrap();
        assert_eq!(known(&pair.two).await, 30);
        let worse = advisory("A-1", "damper", "2.0.0", 3);
        pair.one.take_advisories("feed", vec![worse], 50).await.unwrap();
        assert_eq!(known(&pair.two).await, 50);
    }
}

#[tokio::test]
async fn a_cluster_uses_what_it_pulled_or_runs_and_no_other_of_a_like_name() {
    const DAY: i64 = 24 * 3_600_000;
    for pair in pairs() {
        let (content, other) = (Digest::of(b"content"), Digest::of(b"other"));
        let now = larder_store::now();
        let pull = |who: &str, repository: &str, digest: &Digest, at: i64| {
            let reference = format!("{repository}:1");
            larder_store::RecordEntry {
                number: format!("{who}{repository}{at}"),
                first: at,
                last: at,
                count: 1,
                kind: larder_store::RecordKind::Pull,
                who: who.to_owned(),
                by: None,
                address: None,
                same: Some(format!("pull|{}|{who}||||{reference}|", at / DAY)),
                reference: Some(reference),
                line: None,
                text: digest.to_string(),
                origin: None,
            }
        };
        let pulls = vec![
            pull("hall/scada", "vendor/kettle", &content, now - 3 * DAY),
            pull("hall2", "vendor/kettle", &other, now),
            pull("hall", "vendor/kettle2", &other, now),
            pull("lab", "vendor/kettle", &content, now - 40 * DAY),
        ];
        pair.one.write_down(pulls).await.unwrap();
        let uses = |cluster: &str, contents: Vec<Digest>, days: i64| {
            let (store, cluster) = (pair.two.clone(), cluster.to_owned());
            let kettle = name("vendor/kettle");
            async move {
                let since = now - days * DAY;
                store.is_used_by(&cluster, &kettle, contents, since).await.unwrap()
            }
        };
        assert!(uses("hall", vec![other.clone(), content.clone()], 30).await);
        assert!(!uses("hall", vec![content.clone()], 2).await, "that is longer ago");
        assert!(!uses("hall", vec![other.clone()], 30).await, "another cluster pulled that");
        assert!(!uses("hal", vec![content.clone()], 30).await);
        assert!(!uses("lab", vec![content.clone()], 30).await);
        assert!(uses("lab", vec![content.clone()], 41).await);
        let seen = larder_store::SeenWorkload {
            cluster: "lab".to_owned(),
            namespace: String::new(),
            workload: "Pod/a".to_owned(),
            repository: "vendor/kettle".to_owned(),
            selector: "1".to_owned(),
            digest: content.to_string(),
            how: larder_store::SeenBy::Door,
            first: None,
            last: now,
        };
        pair.one.saw(vec![seen]).await.unwrap();
        assert!(uses("lab", vec![content.clone()], 30).await);
    }
}
