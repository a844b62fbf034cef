//! What was done last of its kind is noted in the store under these names, for `larder rounds` and `larder report`.

use larder_store::{Store, StoreError};

/// A backup was made; where.
pub const BACKUP: &str = "backup/last";
/// All was read again; what was wrong.
pub const VERIFY: &str = "verify/last";
/// What it says where nothing was wrong.
pub const SOUND: &str = "sound";
/// What nothing refers to was removed; how much.
pub const COLLECT: &str = "collect/last";
/// Images were brought in; how many failed.
pub const INTAKE: &str = "intake/last";
/// Deployments were surveyed; what was found, as JSON.
pub const SURVEY: &str = "survey/last";
/// Closed hours were exported; up to when, and the last file's digest.
pub const EXPORT: &str = "export/last";
/// What of a changed configuration waits for a new start. Empty: nothing.
pub const CONFIG_WAITS: &str = "configuration/waits";
/// Why a changed configuration cannot be used. Empty: it can.
pub const CONFIG_WRONG: &str = "configuration/wrong";
/// What was wrong with a cluster's handoff when it was checked last, by cluster.
pub const HANDOFF: &str = "handoff/";
/// What a receiver of events was told, and since when it cannot be told, by its name.
pub const NOTIFY: &str = "notify/";
/// A line of the rounds is silenced; why, and until when.
pub const SILENCE: &str = "silence/";

/// Notes that something was done. The command that did it does not fail because this cannot be written.
pub async fn note(store: &Store, name: &str, value: &str) {
    if let Err(error) = store.set_mark(name, value).await {
        tell(name, &error);
    }
}

fn tell(name: &str, error: &StoreError) {
    tracing::warn!(%error, name, "what was done could not be noted");
}
