//! Keys in files, whose word counts, and what the time is called.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use larder_core::parcel::Signed;
use larder_core::signature::{SigningKey, VerifyingKey};

use super::ParcelError;
use crate::config::Config;
use crate::context::now;
use crate::output::time;

/// The largest key file that is read, in bytes.
const KEY_LIMIT: usize = 16 * 1024;

/// Whose parcels and receipts are believed.
#[derive(Debug, Default)]
pub struct Trust {
    keys: BTreeMap<String, VerifyingKey>,
    /// The shelves to which those are limited that are.
    shelves: BTreeMap<String, Vec<String>>,
}

impl Trust {
    /// The keys that the configuration names, our own, and those named with the command.
    pub fn of(config: Option<&Config>, named: &[VerifyingKey]) -> Result<Self, ParcelError> {
        let (mut keys, mut shelves) = (BTreeMap::new(), BTreeMap::new());
        if let Some(config) = config {
            if config.parcel.sign.is_some() {
                keys.insert(config.larder.name.clone(), signing_key(config)?.verifying());
            }
            for (name, trusted) in &config.parcel.trust {
                keys.insert(name.clone(), trusted.key().clone());
                if let Some(limited) = trusted.shelves() {
                    shelves.insert(name.clone(), limited.to_vec());
                }
            }
        }
        for (number, key) in named.iter().enumerate() {
            keys.insert(format!("--trust {}", number + 1), key.clone());
        }
        Ok(Self { keys, shelves })
    }

    /// The shelves to which the parcels of a signer may bring something. None: to all.
    pub fn shelves_of(&self, signer: &str) -> Option<&[String]> {
        self.shelves.get(signer).map(Vec::as_slice)
    }

    /// The key of a signer, as a text. Empty: there is none of that name.
    pub fn key_of(&self, signer: &str) -> String {
        self.keys.get(signer).map(ToString::to_string).unwrap_or_default()
    }

    /// Takes a signed text apart and says who signed it.
    pub fn read<'t>(&self, what: &str, text: &'t str) -> Result<(&'t str, String), ParcelError> {
        let signed = Signed::read(text)
            .map_err(|source| ParcelError::Signed { what: what.to_owned(), source })?;
        match self.keys.iter().find(|(_, key)| **key == signed.key) {
            Some((name, _)) => Ok((signed.said, name.clone())),
            None => Err(ParcelError::Stranger { what: what.to_owned(), key: signed.key }),
        }
    }
}

/// The key with which this larder signs.
pub fn signing_key(config: &Config) -> Result<SigningKey, ParcelError> {
    let Some(path) = &config.parcel.sign else {
        return Err(ParcelError::NoKey);
    };
    let path = config.folder().join(path);
    config
        .check_secret("cannot read the signing key", Some(&path))
        .map_err(|failure| ParcelError::Foreign(failure.cause))?;
    let shown = crate::files::named(&path);
    let bytes = crate::files::read_bounded(&path, KEY_LIMIT)
        .map_err(ParcelError::io(format!("cannot read the signing key {shown}")))?;
    SigningKey::read(&String::from_utf8_lossy(&bytes))
        .map_err(|source| ParcelError::Key { what: shown, source })
}

/// Makes a key and writes it to a new file that only its owner reads.
pub fn make_key(path: &Path) -> Result<VerifyingKey, ParcelError> {
    let shown = crate::files::named(path);
    let (key, pem) = SigningKey::generate()
        .map_err(|source| ParcelError::Key { what: shown.clone(), source })?;
    let write = || -> std::io::Result<()> {
        let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(path)?;
        file.write_all(pem.as_bytes())?;
        file.sync_all()
    };
    write().map_err(ParcelError::io(format!("cannot write {shown}")))?;
    Ok(key.verifying())
}

/// Now, as RFC 3339. `SOURCE_DATE_EPOCH`, in seconds since 1970, takes its place, so that the same
/// contents can be made into the same bytes.
pub fn now_text() -> String {
    let fixed = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.parse::<i64>().ok());
    time(fixed.and_then(|seconds| seconds.checked_mul(1000)).unwrap_or_else(now))
}
