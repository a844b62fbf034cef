//! What removes things must hold: nothing that is needed goes, and what goes is really free.

use std::collections::BTreeSet;

use larder_core::digest::Digest;
use larder_core::holdings::{DropTarget, Holdings};
use larder_core::reference::Selector;
use larder_store::{Removal, Totals, Withdrawn, now};

use super::{by_tag, collect, has, image, index, name, pairs, push, tag};

#[tokio::test]
async fn what_is_needed_stays_and_what_depends_goes() {
    for pair in pairs() {
        let (one, two, kettle) = (&pair.one, &pair.two, &pair.kettle);
        let child = image(one, kettle, "layer", None).await;
        let top = index(one, kettle, &child, Some("2")).await;
        let layer = Digest::of(b"layer");
        let needed = two.remove_manifest(kettle, &child).await.unwrap();
        assert_eq!(needed, Removal::Needed(vec![top.clone()]));
        let needed = two.unlink_blob(kettle, &layer).await.unwrap();
        assert_eq!(needed, Removal::Needed(vec![child.clone()]));
        assert_eq!(two.remove_tag(kettle, &tag("3")).await.unwrap(), None);

        // A tag goes alone; a manifest takes its tags along.
        index(one, kettle, &child, Some("lts")).await;
        assert_eq!(two.remove_tag(kettle, &tag("2")).await.unwrap(), Some(top.clone()));
        assert!(has(one, kettle, &Selector::Digest(top.clone())).await);
        let gone = two.remove_manifest(kettle, &top).await.unwrap();
        assert_eq!(gone, Removal::Done(vec![tag("lts")]));
        assert!(!has(one, kettle, &by_tag("lts")).await);
        assert_eq!(one.body(&top).await.unwrap(), None);
        let gone = one.remove_manifest(kettle, &top).await.unwrap();
        assert_eq!(gone, Removal::NotThere);
        let gone = two.remove_manifest(kettle, &child).await.unwrap();
        assert_eq!(gone, Removal::Done(vec![]));
        assert_eq!(one.unlink_blob(kettle, &layer).await.unwrap(), Removal::Done(()));
        let elsewhere = name("a/b");
        assert_eq!(two.unlink_blob(&elsewhere, &layer).await.unwrap(), Removal::NotThere);
        assert_eq!(one.remove_manifest(&elsewhere, &child).await.unwrap(), Removal::NotThere);
    }
}

#[tokio::test]
async fn only_what_nothing_refers_to_is_freed() {
    for pair in pairs() {
        let (one, two, kettle) = (&pair.one, &pair.two, &pair.kettle);
        let first = image(one, kettle, "layer", Some("2")).await;
        let other = image(one, kettle, "other", Some("3")).await;
        push(one, kettle, "loose").await;
        assert_eq!(collect(two, now() - 3_600_000).await, 0, "everything is young");
        assert_eq!(two.collectable(i64::MAX).await.unwrap(), (1, 5));
        assert_eq!(collect(two, i64::MAX).await, 1);
        assert_eq!(one.size(&Digest::of(b"loose")).await.unwrap(), None);

        // Its layer goes, the shared config stays.
        crate::clock_moves().await;
        let removed = now();
        one.remove_manifest(kettle, &first).await.unwrap();
        assert_eq!(two.idle(i64::MAX).await.unwrap(), 1);
        let pushed = two.idle(removed).await.unwrap();
        assert_eq!(pushed, 0, "its idle time begins with the removal, not with the push");
        assert_eq!(collect(two, i64::MAX).await, 1);
        assert!(has(one, kettle, &Selector::Digest(other.clone())).await);
        assert_eq!(one.size(&Digest::of(b"other")).await.unwrap(), Some(5));

        // The last image takes its repository along.
        two.remove_manifest(kettle, &other).await.unwrap();
        assert_eq!(collect(one, i64::MAX).await, 2);
        assert_eq!(two.tags(kettle, None, 1).await.unwrap(), None);
        assert_eq!(two.totals().await.unwrap(), Totals::default());
        assert!(super::files(&pair.folder.path().join("content")).is_empty());
    }
}

#[tokio::test]
async fn what_one_repository_has_no_use_for_another_one_keeps() {
    for pair in pairs() {
        let other = name("vendor/other");
        let first = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        image(&pair.one, &other, "layer", Some("2")).await;
        pair.two.remove_manifest(&pair.kettle, &first).await.unwrap();
        assert_eq!(collect(&pair.two, i64::MAX).await, 0);
        assert_eq!(pair.one.blob(&pair.kettle, &Digest::of(b"layer")).await.unwrap(), None);
        assert_eq!(pair.one.blob(&other, &Digest::of(b"layer")).await.unwrap(), Some(5));
        let unused = vec![Digest::of(b"layer"), Digest::of(b"absent")];
        assert!(pair.two.free_unused(unused, i64::MAX).await.unwrap().is_empty());
    }
}

#[tokio::test]
async fn a_plan_is_carried_out_as_far_as_it_still_holds() {
    for pair in pairs() {
        let (one, two, kettle) = (&pair.one, &pair.two, &pair.kettle);
        let first = image(one, kettle, "layer", Some("2")).await;
        image(one, kettle, "other", Some("3")).await;
        let records = two.holdings(vec![kettle.clone()]).await.unwrap();
        let unwanted = BTreeSet::from([DropTarget::Tag(0, tag("2")), DropTarget::Tag(0, tag("3"))]);
        let plan = Holdings::new(records).plan_drop(&unwanted);
        assert_eq!((plan.tags.len(), plan.manifests.len()), (2, 2));
        // Meanwhile one tag moves, and the other's image gets a second one.
        image(one, kettle, "new", Some("3")).await;
        image(one, kettle, "layer", Some("lts")).await;
        let dropped = two.drop_planned(plan, Vec::new()).await.unwrap();
        assert_eq!((dropped.tags, dropped.manifests, dropped.changed), (1, 1, 2));
        assert!(has(one, kettle, &Selector::Digest(first)).await);
        assert!(has(one, kettle, &by_tag("3")).await);
        assert!(!has(one, kettle, &by_tag("2")).await);
    }
}

#[tokio::test]
async fn a_plan_frees_only_what_no_other_repository_uses() {
    for pair in pairs() {
        image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        let own = pair.two.holdings(vec![pair.kettle.clone()]).await.unwrap();
        let unwanted = BTreeSet::from([DropTarget::Tag(0, tag("2"))]);
        let alone = Holdings::new(own).plan_drop(&unwanted).freed;
        let other = name("elsewhere/other");
        image(&pair.one, &other, "layer", Some("2")).await;
        let own = pair.two.holdings(vec![pair.kettle.clone()]).await.unwrap();
        assert_eq!(own.elsewhere.len(), 3);
        assert_eq!(Holdings::new(own).plan_drop(&unwanted).freed, 0);
        // Both together free it.
        let both = pair.two.holdings(vec![pair.kettle.clone(), other]).await.unwrap();
        assert!(both.elsewhere.is_empty());
        let unwanted = BTreeSet::from([DropTarget::Tag(0, tag("2")), DropTarget::Tag(1, tag("2"))]);
        assert_eq!(Holdings::new(both).plan_drop(&unwanted).freed, alone);
    }
}

#[tokio::test]
async fn what_lost_its_content_is_withdrawn_up_to_its_tags() {
    for pair in pairs() {
        let (one, two, kettle) = (&pair.one, &pair.two, &pair.kettle);
        let child = image(one, kettle, "layer", None).await;
        let top = index(one, kettle, &child, Some("2")).await;
        let other = image(one, kettle, "other", Some("3")).await;
        let lost = vec![Digest::of(b"layer")];
        let before = two.withdraw(lost.clone(), true).await.unwrap();
        let healed = two.withdraw(lost.clone(), false).await.unwrap();
        assert_eq!(healed, Withdrawn::default(), "its content is there");
        let stored = two.stored_after(None, 10).await.unwrap();
        let stored = stored.iter().find(|one| one.digest == lost[0]).unwrap();
        assert!(two.condemn_damaged(stored).await.unwrap());
        assert!(has(one, kettle, &by_tag("2")).await, "nothing is done yet");
        let gone = two.withdraw(lost, false).await.unwrap();
        assert_eq!(gone, before);
        assert_eq!(gone.tags, [(kettle.clone(), tag("2"), top)]);
        assert_eq!(gone.manifests.len(), 2);
        assert!(!has(one, kettle, &Selector::Digest(child)).await);
        assert!(has(one, kettle, &Selector::Digest(other)).await);
        let layer = one.blob(kettle, &Digest::of(b"layer")).await.unwrap();
        assert_eq!(layer, None, "a client is told to send it again");
    }
}

#[tokio::test]
async fn a_manifest_whose_bytes_are_wrong_is_missing_until_it_is_sent_again() {
    for pair in pairs() {
        let digest = image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        pair.run(&format!("UPDATE bodies SET body = CAST('damaged' AS {})", pair.bytes()));
        let (found, body) = pair.two.bodies_after(None, 10).await.unwrap().remove(0);
        assert_eq!(found, digest);
        // Sent again meanwhile: that stays.
        image(&pair.one, &pair.kettle, "layer", Some("2")).await;
        assert!(!pair.two.remove_damaged_body(&digest, body.clone()).await.unwrap());
        assert!(pair.two.missing_bodies(10).await.unwrap().is_empty());
        pair.run(&format!("UPDATE bodies SET body = CAST('damaged' AS {})", pair.bytes()));
        assert!(pair.two.remove_damaged_body(&digest, body).await.unwrap());
        assert_eq!(pair.one.missing_bodies(10).await.unwrap(), std::slice::from_ref(&digest));
        let missing = pair.one.manifest(&pair.kettle, &by_tag("2")).await;
        assert!(matches!(missing, Err(larder_store::StoreError::NotFound(_))));
        let gone = pair.two.withdraw(vec![digest], false).await.unwrap();
        assert_eq!(gone.tags.len(), 1);
    }
}
