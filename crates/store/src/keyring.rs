//! Whom do we let in? The promises that every keyring keeps.

use async_trait::async_trait;
use larder_core::access::key::{KeyHash, KeyId};
use larder_core::access::stop::{Stop, Stopped};

use crate::error::StoreError;

/// What is known of a key that was issued. The secret itself is kept nowhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyRecord {
    /// Its name.
    pub id: KeyId,
    /// The user's name for which it was issued.
    pub user: String,
    /// What is kept of the secret.
    pub hash: KeyHash,
    /// When it was issued, in milliseconds since 1970.
    pub issued: i64,
    /// Until when it is good. None: until it is revoked.
    pub expires: Option<i64>,
    /// When it was revoked. None: it was not.
    pub revoked: Option<i64>,
    /// The key beside which it was issued, to take its place. None: it was the first.
    pub replaces: Option<KeyId>,
    /// When somebody last signed in with it. None: nobody has.
    pub used: Option<i64>,
    /// From which address that was.
    pub used_from: Option<String>,
}

impl KeyRecord {
    /// Whether it lets anybody in at a time.
    pub fn is_good(&self, now: i64) -> bool {
        self.revoked.is_none() && self.expires.is_none_or(|end| now < end)
    }
}

/// Records of keys.
///
/// What an implementation promises: as for the [`Ledger`](crate::Ledger). After a change of keys the
/// ledger's moment is another one, in every process; after a note of their use it is not.
#[async_trait]
pub trait Keyring: Send + Sync {
    /// Records a key that was just made.
    async fn add_key(&self, key: KeyRecord) -> Result<(), StoreError>;

    /// All keys, also those that are revoked or have expired, in the order in which they were issued.
    async fn keys(&self) -> Result<Vec<KeyRecord>, StoreError>;

    /// Revokes a key at a time. False: there is none of this name that is not revoked already.
    async fn revoke_key(&self, id: &KeyId, at: i64) -> Result<bool, StoreError>;

    /// Notes when keys were last used, and from where.
    async fn note_key_uses(&self, uses: Vec<(KeyId, i64, String)>) -> Result<(), StoreError>;

    /// Stops things, all together. What was stopped before is stopped anew.
    async fn add_stops(&self, stops: Vec<Stop>) -> Result<(), StoreError>;

    /// Lets something be used again at a time. False: it was not stopped.
    async fn lift_stop(&self, what: Stopped, at: i64) -> Result<bool, StoreError>;

    /// All that is stopped, the oldest first.
    async fn stops(&self) -> Result<Vec<Stop>, StoreError>;

    /// A number that is another one after each change of keys or stops.
    async fn keys_version(&self) -> Result<i64, StoreError>;
}
