//! A full disk: what its operator can do about it at this moment.

use std::time::Duration;

use larder_store::{Store, now};

/// How long nobody must have written to an upload for it to count as left behind, and how long something must have lain
/// unused: what the commands that free it take where nothing else is said.
const UPLOADS: Duration = Duration::from_secs(3600);
const GRACE: i64 = 24 * 3_600_000;

/// What frees something now, and how much.
pub(crate) async fn advice(store: &Store) -> String {
    let mut ways = Vec::new();
    if let Ok((old, _)) = store.unfinished(UPLOADS).await
        && old.bytes > 0
    {
        ways.push(format!(
            "`larder store collect --uploads` ({} of unfinished uploads)",
            mib(old.bytes)
        ));
    }
    if let Ok((_, bytes)) = store.collectable(now() - GRACE).await
        && bytes > 0
    {
        ways.push(format!("`larder store collect` ({} that nothing refers to)", mib(bytes)));
    }
    if ways.is_empty() {
        ways.push("`larder shelf drop` takes images away, `larder store collect --grace 0s` then frees their space".into());
    }
    format!("Its operator can free space: {}", ways.join(", "))
}

fn mib(bytes: u64) -> String {
    match bytes.div_ceil(1024 * 1024) {
        1 => "1 MiB".to_owned(),
        all => format!("{all} MiB"),
    }
}
