//! Leases: one at a time, among threads and processes alike.

use bytes::Bytes;
use larder_core::digest::Digest;
use larder_store::{Purpose, StoreError};

use super::pairs;

#[tokio::test]
async fn a_lease_is_one_attempts_until_it_ends() {
    for pair in pairs() {
        let lease = pair.one.acquire("collect").await.unwrap().unwrap();
        assert!(pair.one.acquire("collect").await.unwrap().is_none(), "not twice in a process");
        assert!(pair.two.acquire("collect").await.unwrap().is_none());
        assert!(pair.two.acquire("keep-house").await.unwrap().is_some(), "another name");
        lease.release().await.unwrap();
        let lease = pair.two.acquire("collect").await.unwrap().unwrap();
        // Dropped, it ends too, soon.
        drop(lease);
        while pair.one.acquire("collect").await.unwrap().is_none() {
            tokio::time::sleep(std::time::Duration::from_millis(5)).await;
        }
    }
}

#[tokio::test]
async fn a_lease_of_a_process_that_has_ended_is_free() {
    for pair in pairs() {
        // A server cannot see which processes live: there a lease lasts for its term.
        if pair.server.is_some() {
            continue;
        }
        let lease = pair.one.acquire("collect").await.unwrap().unwrap();
        // As a process has left it that was killed: its holder has no file that is locked.
        let dead = "01920000000070008000000000000000/1";
        pair.run(&format!("UPDATE leases SET holder = '{dead}'"));
        let next = pair.two.acquire("collect").await.unwrap();
        assert!(next.is_some());
        // Nor does a holder's name lead out of the folder of these files.
        pair.run("UPDATE leases SET holder = '../ledger.sqlite/1'");
        assert!(pair.two.acquire("collect").await.unwrap().is_some());
        drop(lease);
    }
}

#[tokio::test]
async fn a_write_under_a_lease_that_another_has_by_now_is_refused() {
    for pair in pairs() {
        let lease = pair.one.acquire("fill/x").await.unwrap().unwrap();
        let digest = Digest::of(b"fetched");
        let mut writer = pair.one.write_once(Purpose::Read).await.unwrap();
        writer.write(Bytes::from_static(b"fetched")).await.unwrap();
        // It was held up for longer than its term.
        pair.run("UPDATE leases SET until = 1");
        let next = pair.two.acquire("fill/x").await.unwrap().unwrap();
        let refused = pair.one.commit_fetched(&pair.kettle, &digest, writer, &lease).await;
        assert!(matches!(refused, Err(StoreError::Busy(_))));
        assert_eq!(pair.two.blob(&pair.kettle, &digest).await.unwrap(), None);
        // Its end does not end the other's.
        lease.release().await.unwrap();
        let mut writer = pair.two.write_once(Purpose::Read).await.unwrap();
        writer.write(Bytes::from_static(b"fetched")).await.unwrap();
        pair.two.commit_fetched(&pair.kettle, &digest, writer, &next).await.unwrap();
        assert_eq!(pair.one.blob(&pair.kettle, &digest).await.unwrap(), Some(7));
    }
}

#[tokio::test]
async fn leases_that_ended_long_ago_are_forgotten_and_fences_go_on_to_grow() {
    for pair in pairs() {
        for name in ["a", "b"] {
            pair.one.acquire(name).await.unwrap().unwrap().release().await.unwrap();
        }
        pair.two.forget_leases().await.unwrap();
        let count = |sql: &str| pair.number(sql);
        assert_eq!(count("SELECT COUNT(*) FROM leases"), 1);
        let fence = count("SELECT MAX(fence) FROM leases");
        let lease = pair.one.acquire("c").await.unwrap().unwrap();
        assert!(count("SELECT MAX(fence) FROM leases") > fence);
        lease.release().await.unwrap();
    }
}
