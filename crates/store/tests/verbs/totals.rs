//! Sums are kept as things change: after whatever was done they are what adding up would give.

use std::collections::{BTreeMap, BTreeSet};

use larder_core::digest::Digest;
use larder_core::holdings::Holdings;
use larder_core::name::RepositoryName;
use larder_store::{ShelfTotals, Store, Use};

use super::{Pair, image, index_of, manifest_of, name, pairs, push, put, tag};

/// A shelf's sums, its images, those with a tag, and its repositories.
type Shelf = (ShelfTotals, Vec<usize>, Vec<usize>, BTreeSet<usize>);

/// What the shelves hold, added up from everything that is recorded.
async fn added_up(store: &Store) -> Vec<ShelfTotals> {
    let names = store.repositories(None, 1000).await.unwrap();
    let holdings = Holdings::new(store.holdings(names.clone()).await.unwrap());
    let records = holdings.records();
    let shelf_of = |repository: usize| names[repository].first_component().to_owned();
    let mut all: BTreeMap<String, Shelf> = BTreeMap::new();
    for (place, row) in records.manifests.iter().enumerate() {
        let shelf = shelf_of(row.repository);
        let entry = all.entry(shelf.clone()).or_insert_with(|| {
            let empty = ShelfTotals {
                shelf,
                repositories: 0,
                tags: 0,
                bytes: 0,
                alone: 0,
                apart: 0,
                changed: None,
                pulled: None,
                pulls: 0,
                loose: 0,
            };
            (empty, Vec::new(), Vec::new(), BTreeSet::new())
        });
        entry.1.push(place);
        entry.3.insert(row.repository);
        for tag in holdings.tags_of(place) {
            entry.0.tags += 1;
            entry.0.changed = entry.0.changed.max(Some(tag.since));
            if entry.2.last() != Some(&place) {
                entry.2.push(place);
            }
        }
    }
    all.into_values()
        .map(|(mut totals, images, tagged, repositories)| {
            let volume = holdings.volume(&images);
            totals.repositories = repositories.len() as u64;
            (totals.bytes, totals.alone) = (volume.together, volume.alone);
            totals.apart = holdings.volume(&tagged).apart;
            totals
        })
        .collect()
}

/// The sums that the store keeps; of what only grows, as much as adding up can tell.
async fn check(store: &Store, what: &str) {
    let mut kept = store.shelf_totals(0).await.unwrap();
    for one in &mut kept {
        (one.pulled, one.pulls, one.loose) = (None, 0, 0);
    }
    // Where a shelf has nothing but blobs of no image, adding images up tells nothing of it.
    kept.retain(|one| one.repositories > 0);
    let mut expected = added_up(store).await;
    for (kept, expected) in kept.iter_mut().zip(&mut expected) {
        // The last change may have been to a tag that is gone.
        assert!(kept.changed >= expected.changed, "{what}");
        (kept.changed, expected.changed) = (None, None);
    }
    assert_eq!(kept, expected, "{what}");
}

/// What the store says of repositories and accounts, against what their rows add up to.
fn check_owners(pair: &Pair, what: &str) {
    let wrong = |sql: &str| pair.number(sql);
    let repositories = "SELECT COUNT(*) FROM repositories r WHERE r.bytes <>
        (SELECT COALESCE(SUM(size), 0) FROM blobs WHERE repository = r.id)
        + (SELECT COALESCE(SUM(size), 0) FROM manifests WHERE repository = r.id)";
    assert_eq!(wrong(repositories), 0, "{what}");
    let rows = "SELECT r.shelf AS shelf, x.account AS account, SUM(x.size) AS bytes FROM
        (SELECT repository, account, size FROM blobs UNION ALL SELECT repository, account, size FROM manifests) x
        JOIN repositories r ON r.id = x.repository WHERE x.account <> '' GROUP BY 1, 2";
    let apart = format!(
        "SELECT (SELECT COUNT(*) FROM ({rows} EXCEPT SELECT shelf, account, bytes FROM accounts) a)
         + (SELECT COUNT(*) FROM (SELECT shelf, account, bytes FROM accounts EXCEPT {rows}) b)"
    );
    assert_eq!(wrong(&apart), 0, "{what}");
}

/// A row of numbers by chance, the same in every run of one seed.
struct Chance(u64);

impl Chance {
    fn next(&mut self, below: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        usize::try_from(self.0 % below as u64).unwrap()
    }
}

async fn step(
    store: &Store,
    chance: &mut Chance,
    made: &mut Vec<(RepositoryName, Digest)>,
) -> String {
    let repository = name(["one/a", "one/b", "two/a", "three"][chance.next(4)]);
    let layer = format!("layer {}", chance.next(6));
    let to = ["1", "2", "3"][chance.next(3)];
    let any = |chance: &mut Chance, made: &[(RepositoryName, Digest)]| {
        (!made.is_empty()).then(|| made[chance.next(made.len())].clone())
    };
    match chance.next(10) {
        0 | 1 => {
            let tag = (chance.next(3) > 0).then_some(to);
            let digest = image(store, &repository, &layer, tag).await;
            made.push((repository, digest));
            "an image".into()
        }
        2 => {
            push(store, &repository, &layer).await;
            "a blob".into()
        }
        3 => {
            // An index of two images, some of which may share their layers.
            let mut children = Vec::new();
            for layer in [&layer, &format!("layer {}", chance.next(6))] {
                let digest = image(store, &repository, layer, None).await;
                if !children.iter().any(|(one, _)| *one == digest) {
                    let size = manifest_of(layer).bytes.len() as u64;
                    children.push((digest, size));
                }
            }
            let listed: Vec<(&Digest, u64)> =
                children.iter().map(|(digest, size)| (digest, *size)).collect();
            let digest = put(store, &repository, &index_of(&listed), Some(to)).await;
            made.push((repository, digest));
            "an index".into()
        }
        4 => {
            // As an upstream names it: its blobs may come later, or never.
            let document = manifest_of(&layer);
            let digest = Digest::of(&document.bytes);
            store.believe(&repository, &digest, &document, Some(tag(to))).await.unwrap();
            made.push((repository, digest));
            "a belief".into()
        }
        5 => {
            store.remove_tag(&repository, &tag(to)).await.unwrap();
            "a tag's removal".into()
        }
        6 | 7 => match any(chance, made) {
            Some((repository, digest)) => {
                store.remove_manifest(&repository, &digest).await.unwrap();
                "a manifest's removal".into()
            }
            None => "nothing".into(),
        },
        8 => match any(chance, made) {
            Some((repository, digest)) => {
                store.let_go(&repository, &digest, i64::MAX).await.unwrap();
                "a letting go".into()
            }
            None => "nothing".into(),
        },
        _ => match chance.next(3) {
            0 => {
                store.unlink_idle(i64::MAX).await.unwrap();
                "a collection of links".into()
            }
            1 => {
                store.unlink_blob(&repository, &Digest::of(layer.as_bytes())).await.unwrap();
                "a blob's removal".into()
            }
            _ => {
                let lost = vec![Digest::of(layer.as_bytes())];
                let stored = store.stored_after(None, 100).await.unwrap();
                if let Some(one) = stored.iter().find(|one| one.digest == lost[0]) {
                    store.condemn_damaged(one).await.unwrap();
                    store.withdraw(lost, false).await.unwrap();
                }
                "a withdrawal".into()
            }
        },
    }
}

#[tokio::test]
async fn sums_are_right_after_whatever_was_done() {
    for seed in 1..=12 {
        for pair in pairs() {
            if seed > u64::from(pair.some(12)) {
                continue;
            }
            let mut chance = Chance(0x9e37_79b9_7f4a_7c15_u64.wrapping_mul(seed));
            let mut made = Vec::new();
            for number in 0..60 {
                let store = if number % 2 == 0 { &pair.one } else { &pair.two };
                let owner = store.as_account(["", "ci", "bench"][number % 3]);
                let what = step(&owner, &mut chance, &mut made).await;
                let what = format!("seed {seed}, step {number}: {what}");
                check(store, &what).await;
                check_owners(&pair, &what);
            }
            super::collect(&pair.one, i64::MAX).await;
            check(&pair.two, &format!("seed {seed}, after a collection")).await;
            let totals = pair.one.totals().await.unwrap();
            let all = pair.two.digests_after(None, 1000).await.unwrap();
            assert_eq!(totals.manifests + totals.blobs, all.len() as u64, "seed {seed}");
            let mut bytes = 0;
            for digest in &all {
                bytes += pair.two.size(digest).await.unwrap().unwrap();
            }
            assert_eq!(totals.bytes, bytes, "seed {seed}");
            let tags = pair.two.tags_after(None, 1000).await.unwrap();
            assert_eq!(totals.tags, tags.len() as u64);
        }
    }
}

#[tokio::test]
async fn what_a_shelf_takes_is_told_with_what_waits() {
    for pair in pairs() {
        image(&pair.one, &name("one/a"), "layer", Some("1")).await;
        image(&pair.one, &name("two/a"), "layer", Some("1")).await;
        push(&pair.one, &name("two/a"), "loose").await;
        let each = (manifest_of("layer").bytes.len() + super::CONFIG.len() + 5) as u64;
        let bytes = async |shelves: &[&str]| {
            let shelves: Vec<String> = shelves.iter().map(ToString::to_string).collect();
            pair.two.bytes_of(&shelves).await.unwrap()
        };
        assert_eq!(bytes(&["one"]).await, each);
        assert_eq!(bytes(&["two"]).await, each + 5);
        assert_eq!(bytes(&["one", "two"]).await, each + 5, "what both have counts once");
        assert_eq!(bytes(&["none"]).await, 0);
    }
}

#[tokio::test]
async fn pulls_count_for_an_image_and_not_for_its_parts() {
    for pair in pairs() {
        let child = image(&pair.one, &pair.kettle, "layer", None).await;
        let top = super::index(&pair.one, &pair.kettle, &child, Some("2")).await;
        let used = |digest: &Digest, day, pulls, last| Use {
            repository: pair.kettle.clone(),
            digest: digest.clone(),
            day,
            pulls,
            last,
        };
        let unknown = Digest::of(b"unknown");
        let uses = vec![used(&top, 10, 3, 500), used(&child, 10, 3, 900), used(&unknown, 10, 9, 9)];
        pair.one.note_uses(uses).await.unwrap();
        pair.two.note_uses(vec![used(&top, 11, 2, 550)]).await.unwrap();
        let shelf = pair.two.shelf_totals(0).await.unwrap().remove(0);
        assert_eq!((shelf.pulls, shelf.pulled), (5, Some(550)));
        assert_eq!(pair.one.shelf_totals(11).await.unwrap()[0].pulls, 2);
        let of = async |day| pair.one.uses(&pair.kettle, day).await.unwrap();
        let all = of(0).await;
        let top_use = all.iter().find(|one| one.digest == top).unwrap();
        assert_eq!((all.len(), top_use.pulls, top_use.last), (2, 5, 550));
        assert_eq!(of(11).await.iter().map(|one| one.pulls).sum::<u64>(), 2);
        // They go with the manifest.
        pair.two.remove_manifest(&pair.kettle, &top).await.unwrap();
        assert_eq!(of(0).await.len(), 1);
        assert!(pair.one.uses(&name("a/b"), 0).await.unwrap().is_empty());
    }
}
