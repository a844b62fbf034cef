//! Keys are made here, and nowhere else: recorded, and written down in the record.

use larder_core::access::Who;
use larder_core::access::key::{Key, KeyId, Pepper, random};
use larder_store::{KeyRecord, RecordKind, Store, now};

use crate::access::secret;
use crate::config::Config;
use crate::failure::Failure;
use crate::output::time;
use crate::record;

/// What the store did, as it is told.
pub fn failed(doing: &str) -> impl Fn(larder_store::StoreError) -> Failure {
    let doing = doing.to_owned();
    move |error| Failure::store(doing.clone(), &error)
}

/// The keys of somebody that are good now, the oldest first.
pub async fn good_keys(store: &Store, who: &Who) -> Result<Vec<KeyRecord>, Failure> {
    let all = store.keys().await.map_err(failed("cannot read the keys"))?;
    let (user, at) = (who.to_string(), now());
    Ok(all.into_iter().filter(|key| key.user == user && key.is_good(at)).collect())
}

/// Makes a key and records it. What it returns is the only time that the secret is seen.
pub async fn make(
    config: &Config,
    store: &Store,
    who: &Who,
    expires: Option<i64>,
    replaces: Option<KeyId>,
) -> Result<(Key, KeyRecord), Failure> {
    let what = "cannot issue a key";
    let bytes = random();
    let bytes =
        bytes.ok_or_else(|| Failure::usage(what, "the system gave no random numbers", ""))?;
    let key = Key::new(&bytes);
    let record = KeyRecord {
        id: key.id(),
        user: who.to_string(),
        hash: Pepper::new(&secret(config)?).hash(&key),
        issued: now(),
        expires,
        revoked: None,
        replaces,
        used: None,
        used_from: None,
    };
    store.add_key(record.clone()).await.map_err(failed(what))?;
    let text = format!("issued for {who}, {}", ends(&record));
    note(store, &record.id, &text).await?;
    Ok((key, record))
}

/// Writes down what was done to a key.
pub async fn note(store: &Store, id: &KeyId, text: &str) -> Result<(), Failure> {
    let entry = record::entry(RecordKind::Key, id.as_str(), text);
    record::note(store, vec![entry]).await.map_err(failed("cannot write the record"))
}

/// Until when a key is good, in words.
pub fn ends(key: &KeyRecord) -> String {
    key.expires.map_or_else(
        || "good until it is revoked".into(),
        |end| format!("good until {}", time(end)),
    )
}
