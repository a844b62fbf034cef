//! Keys in files, and whose word counts.

use std::collections::BTreeMap;
use std::fs::OpenOptions;
use std::io::Write as _;
use std::os::unix::fs::OpenOptionsExt as _;
use std::path::Path;

use larder_core::parcel::SignedText;
use larder_core::signature::{SigningKey, VerifyingKey};

use super::ParcelError;

/// The largest key file that is read, in bytes.
const KEY_LIMIT: usize = 16 * 1024;

/// Whose parcels and receipts are believed.
#[derive(Debug, Default)]
pub struct SignerTrust {
    keys: BTreeMap<String, VerifyingKey>,
    /// The shelves to which those are limited that are.
    shelves: BTreeMap<String, Vec<String>>,
}

impl SignerTrust {
    /// Believes a signer, for these shelves. None: for all.
    pub fn add(
        &mut self,
        signer: impl Into<String>,
        key: VerifyingKey,
        shelves: Option<&[String]>,
    ) {
        let signer = signer.into();
        if let Some(shelves) = shelves {
            self.shelves.insert(signer.clone(), shelves.to_vec());
        }
        self.keys.insert(signer, key);
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
        let signed = SignedText::read(text)
            .map_err(|source| ParcelError::Signed { what: what.to_owned(), source })?;
        match self.keys.iter().find(|(_, key)| **key == signed.key) {
            Some((name, _)) => Ok((signed.said, name.clone())),
            None => Err(ParcelError::Stranger { what: what.to_owned(), key: signed.key }),
        }
    }
}

/// Reads a signing key from its file.
pub fn read_key(path: &Path) -> Result<SigningKey, ParcelError> {
    let shown = crate::files::named(path);
    let bytes = crate::files::read_bounded(path, KEY_LIMIT)
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
