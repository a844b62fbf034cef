//! Whom do we let in?

use larder_core::access::key::{KeyHash, KeyId};

/// What is known of a key that was issued. The secret itself is kept nowhere.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyRecord {
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
