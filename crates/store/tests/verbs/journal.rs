//! What was done, and when.

use larder_core::digest::Digest;
use larder_core::lock::Want;
use larder_store::{BroughtIn, IntakeEvent, Store};

use super::{name, pairs};

async fn battery(journal: &Store, second: &Store) {
    let want = |tag: &str| Want {
        image: "bazaar.example/library/kettle".parse().unwrap(),
        tag: tag.parse().unwrap(),
    };
    let (one, two) = (Digest::of(b"one"), Digest::of(b"two"));
    let seen = |digest: &Digest| IntakeEvent::Seen(digest.clone());
    journal.note_intake(vec![(want("2"), seen(&one)), (want("1"), seen(&one))], 10).await.unwrap();
    journal.note_intake(vec![(want("2"), seen(&one))], 20).await.unwrap();
    let all = second.intake().await.unwrap();
    assert_eq!(
        all.iter().map(|record| record.want.clone()).collect::<Vec<_>>(),
        [want("1"), want("2")]
    );
    assert_eq!((all[1].checked, all[1].moved), (Some(20), None));
    // It moved, failed to come, and came in the end.
    journal.note_intake(vec![(want("2"), seen(&two))], 30).await.unwrap();
    journal.note_intake(vec![(want("2"), IntakeEvent::Failed("cut".into()))], 40).await.unwrap();
    let record = second.intake().await.unwrap().remove(1);
    assert_eq!((record.moved, record.seen.as_ref()), (Some(30), Some(&two)));
    assert_eq!(record.failed, Some(("cut".into(), 40)));
    // An answer of the upstream does not mend what could not be brought in, only what it is about.
    let unresolved = IntakeEvent::Unresolved("down".into());
    journal.note_intake(vec![(want("2"), seen(&two)), (want("1"), unresolved)], 45).await.unwrap();
    let all = second.intake().await.unwrap();
    assert_eq!(all[1].failed, Some(("cut".into(), 40)));
    assert_eq!(all[0].failed, Some(("down".into(), 45)));
    journal.note_intake(vec![(want("1"), seen(&one))], 46).await.unwrap();
    assert_eq!(second.intake().await.unwrap()[0].failed, None);
    let to = "larder.example/vendor/kettle".to_owned();
    let brought = BroughtIn { digest: two.clone(), to, whole: one.clone() };
    journal
        .note_intake(vec![(want("2"), IntakeEvent::Brought(brought.clone()))], 50)
        .await
        .unwrap();
    let record = second.intake().await.unwrap().remove(1);
    assert_eq!((record.brought, record.failed), (Some((brought, 50)), None));
    journal.note_intake(Vec::new(), 60).await.unwrap();

    let (bazaar, other) = ("bazaar.example".parse().unwrap(), "other.example".parse().unwrap());
    for (count, at) in [(3, 100), (2, 100), (4, 200)] {
        journal.note_pulls(&bazaar, count, at).await.unwrap();
    }
    assert_eq!(second.pulls(&bazaar, 0).await.unwrap(), [(100, 5), (200, 4)]);
    assert_eq!(second.pulls(&bazaar, 100).await.unwrap(), [(200, 4)]);
    assert!(second.pulls(&other, 0).await.unwrap().is_empty());

    let place = name("vendor/kettle");
    journal.note_placed(&other, &place, vec![one.clone()]).await.unwrap();
    assert_eq!(second.placed(&other, &one).await.unwrap(), Some(place));
    assert_eq!(second.placed(&bazaar, &one).await.unwrap(), None);
    assert_eq!(second.placed(&other, &two).await.unwrap(), None);
}

#[tokio::test]
async fn a_journal_keeps_its_promises() {
    for pair in pairs() {
        battery(&pair.one, &pair.two).await;
    }
}

#[tokio::test]
async fn the_number_of_a_parcel_only_grows() {
    for pair in pairs() {
        assert_eq!(pair.one.last_parcel("a").await.unwrap(), None);
        pair.one.note_parcel("a", 3, None).await.unwrap();
        pair.two.note_parcel("a", 5, Some(3)).await.unwrap();
        pair.one.note_parcel("a", 4, Some(3)).await.unwrap();
        assert_eq!(pair.two.last_parcel("a").await.unwrap(), Some((5, Some(3))));
        assert_eq!(pair.two.last_parcel("b").await.unwrap(), None);
    }
}
