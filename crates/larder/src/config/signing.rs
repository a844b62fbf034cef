//! `sign` of a `[[signer]]`: with what is signed in its name.

use std::os::unix::fs::PermissionsExt as _;
use std::path::{Path, PathBuf};

use larder_core::signature::{PRIVATE_KEY_LIMIT, PrivateKey};
use serde::Deserialize;

use super::Config;
use super::trust::SignerConfig;
use crate::failure::Failure;

/// With what is signed: a key's file, or a program that signs what it is given.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SignWith {
    key: Option<PathBuf>,
    command: Option<Vec<String>>,
}

impl SignerConfig {
    /// The type of the statements that are signed in this name: the first that counts. None: none does.
    pub fn statement_type(&self) -> Option<&str> {
        self.statements.first().map(String::as_str)
    }

    /// Why nothing could be signed in this name, though it is to be, and what to do. None: something can, or nothing is.
    pub(super) fn signs_in_vain(&self) -> Option<(&'static str, &'static str)> {
        let sign = self.sign.as_ref()?;
        let is_one = match (&sign.key, &sign.command) {
            (Some(_), None) => true,
            (None, Some(words)) => !words.is_empty(),
            _ => false,
        };
        if !is_one {
            return Some((
                "`sign` says with what is signed: a file, or a program",
                "write `sign = { key = \"trust/approval.key\" }` or `sign = { command = [\"PROGRAM\", \"ARGUMENT\"] }`",
            ));
        }
        if self.keys.is_empty() {
            return Some((
                "who signs here is known by keys, and `keys` names none",
                "add the public half, which `larder sign --show-key FILE` tells",
            ));
        }
        self.statements.is_empty().then_some((
            "nothing says what a signature of ours says",
            "add a type of your own: `statements = [\"https://emberfall.example/approved/v1\"]`; the first is what is signed",
        ))
    }
}

impl Config {
    /// Why nothing can be signed in the name of a signer that says with what. None: something can, or it says nothing. A
    /// program is not run for it.
    pub fn signs_wrongly(&self, one: &SignerConfig) -> Option<String> {
        let path = one.sign.as_ref()?.key.as_ref()?;
        let name = one.name.get_ref();
        let path = self.folder().join(path);
        let key = match read_private_key("", &path) {
            Ok(key) => key,
            Err(failure) => {
                return Some(format!("nothing can be signed as {name} here: {}", failure.cause));
            }
        };
        let keys = self.signer(one).ok()?.keys;
        let is_known = key.public().is_ok_and(|public| keys.contains(&public));
        let shown = larder_transfer::files::named(&path);
        (!is_known).then(|| {
            format!("what is signed as {name} would not count: {shown} is none of its `keys`")
        })
    }

    /// Signs some bytes in the name of a signer; ECDSA in DER. Which of its keys that verifies is for others to find.
    ///
    /// # Errors
    /// Nothing says with what, or that cannot be used.
    pub fn sign_as(&self, one: &SignerConfig, message: &[u8]) -> Result<Vec<u8>, Failure> {
        let name = one.name.get_ref();
        let what = || format!("cannot sign as {name}");
        match &one.sign {
            Some(SignWith { key: Some(path), .. }) => {
                let path = self.folder().join(path);
                self.check_secret(&what(), Some(&path))?;
                let key = read_private_key(&what(), &path)?;
                key.sign(message).map_err(|error| Failure::usage(what(), error, ""))
            }
            Some(SignWith { command: Some(words), .. }) => {
                self.check_secret(&what(), None)?;
                super::credentials::answered_by(&what(), self.folder(), words, message)
            }
            _ => {
                let cause = "its [[signer]] says of nothing with which is signed";
                let remedy = "add `sign = { key = \"trust/approval.key\" }`; `larder sign --new-key FILE` makes one";
                Err(Failure::usage(what(), cause, remedy))
            }
        }
    }
}

/// Reads the half that signs from a file, which nobody else may read.
///
/// # Errors
/// Others may read it, or it is none.
pub fn read_private_key(what: &str, path: &Path) -> Result<PrivateKey, Failure> {
    let shown = larder_transfer::files::named(path);
    let failed = |error: &std::io::Error| Failure::file(what, path, error);
    let there = std::fs::metadata(path).map_err(|error| failed(&error))?;
    if !there.is_file() {
        let remedy = "name the file that `larder sign --new-key FILE` made";
        return Err(Failure::usage(what, format!("{shown} is no file"), remedy));
    }
    let mode = there.permissions().mode();
    if mode & 0o077 != 0 {
        let cause = format!("others may read {shown} (its mode is {:o})", mode & 0o777);
        return Err(Failure::usage(what, cause, format!("`chmod 600 {shown}`")));
    }
    let bytes = larder_transfer::files::read_bounded(path, PRIVATE_KEY_LIMIT);
    let bytes = bytes.map_err(|error| failed(&error))?;
    PrivateKey::read(&String::from_utf8_lossy(&bytes)).map_err(|error| {
        let remedy =
            "a key is a PEM file with `PRIVATE KEY`, as `larder sign --new-key FILE` makes";
        Failure::usage(what, format!("{shown}: {error}"), remedy)
    })
}
