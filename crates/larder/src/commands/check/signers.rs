//! Whose signatures count, by which files, and until when.

use larder_core::signature::{Identity, Signer};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::failure::Failure;
use crate::output::{BAD, Output, Table, WARN, count, date, paint, time};

/// A signer as its files make it.
#[derive(Serialize, JsonSchema)]
pub struct CheckedSigner {
    name: String,
    /// What it speaks for.
    images: Vec<String>,
    /// Each as its kind and the SHA-256 of its SubjectPublicKeyInfo.
    keys: Vec<String>,
    revoked: Vec<String>,
    /// Whom its authorities have to have certified. null: it has none.
    holder: Option<String>,
    /// When the last of the authorities' certificates ends. null: it has none.
    authorities_until: Option<String>,
    /// When the first of the lists of revocations ends. null: it has none.
    lists_until: Option<String>,
    /// What is wrong. null: nothing.
    cause: Option<String>,
    remedy: Option<String>,
    #[serde(skip)]
    ends: Vec<(&'static str, i64)>,
}

/// An end that comes within this time is told, in milliseconds.
const SOON: i64 = 30 * 24 * 3_600_000;

impl CheckedSigner {
    fn wrong(name: &str, failure: &Failure) -> Self {
        Self {
            name: name.to_owned(),
            images: Vec::new(),
            keys: Vec::new(),
            revoked: Vec::new(),
            holder: None,
            authorities_until: None,
            lists_until: None,
            cause: Some(failure.cause.clone()),
            remedy: Some(failure.remedy.clone()).filter(|remedy| !remedy.is_empty()),
            ends: Vec::new(),
        }
    }

    fn of(signer: &Signer) -> Self {
        let keys = |keys: &[larder_core::signature::PublicKey]| {
            keys.iter().map(|key| format!("{} {}", key.kind(), key.id())).collect()
        };
        let milliseconds = |at: i64| at.saturating_mul(1000);
        let end = signer.authorities.end().map(milliseconds);
        let lists = signer.authorities.lists_end().map(milliseconds);
        let ends = [("its authorities end", end), ("a list of revocations of it ends", lists)];
        Self {
            name: signer.name.clone(),
            images: signer.images.iter().map(ToString::to_string).collect(),
            keys: keys(&signer.keys),
            revoked: keys(&signer.revoked),
            holder: signer.identity.as_ref().map(|identity| match identity {
                Identity::Email(email) => email.clone(),
                Identity::Uri(uri) => uri.clone(),
            }),
            authorities_until: end.map(time),
            lists_until: lists.map(time),
            cause: None,
            remedy: None,
            ends: ends.into_iter().filter_map(|(what, at)| Some((what, at?))).collect(),
        }
    }

    /// Whether nothing is wrong with it.
    pub fn is_good(&self) -> bool {
        self.cause.is_none()
    }
}

/// Reads the files of all signers; what ends soon, or has ended, and what else is wrong with what is believed.
pub fn checked(config: &Config, now: i64) -> (Vec<CheckedSigner>, Vec<String>, Option<Failure>) {
    let all: Vec<CheckedSigner> = config
        .signers
        .iter()
        .map(|one| match config.signer(one) {
            Ok(signer) => CheckedSigner::of(&signer),
            Err(failure) => CheckedSigner::wrong(one.name.get_ref(), &failure),
        })
        .collect();
    let mut notes = Vec::new();
    for one in &config.signers {
        notes.extend(config.signs_wrongly(one));
    }
    for one in &all {
        for (what, at) in one.ends.iter().filter(|(_, at)| *at < now + SOON) {
            let word = if *at < now { "ended" } else { "will" };
            let when = date(*at);
            notes.push(match word {
                "ended" => format!("of the signer {}, {what}: that was on {when}", one.name),
                _ => format!("of the signer {}, {what} on {when}", one.name),
            });
        }
    }
    let others = all.iter().all(CheckedSigner::is_good).then(|| config.trust().err()).flatten();
    (all, notes, others)
}

/// Lists them.
pub fn show(all: &[CheckedSigner], out: &Output) {
    if all.is_empty() {
        return;
    }
    let mut table = Table::new(out.width(), &["SIGNER", "SPEAKS FOR", "IS KNOWN BY"]);
    for one in all {
        let known = match &one.cause {
            Some(cause) => paint(BAD, cause),
            None => {
                let keys = one.keys.iter().map(|key| {
                    let (kind, id) = key.split_once(' ').unwrap_or((key, ""));
                    format!("{kind} {}", id.get(..12).unwrap_or(id))
                });
                let holder = one.holder.iter().map(|holder| format!("a certificate of {holder}"));
                let gone = (!one.revoked.is_empty())
                    .then(|| paint(WARN, format!("{} revoked", count(one.revoked.len(), "key"))));
                keys.chain(holder).chain(gone).collect::<Vec<_>>().join("\n")
            }
        };
        table.row([one.name.clone(), one.images.join("\n"), known]);
    }
    out.result(format!("\n{}", table.text()));
    for one in all {
        if let Some(remedy) = &one.remedy {
            out.result(format!("try, for the signer {}: {remedy}", one.name));
        }
    }
}
