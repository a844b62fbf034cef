//! `[[signer]]` and `[trust]`: whose signatures over images count, by which files.

use std::collections::BTreeMap;
use std::io::Read as _;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use larder_core::digest::Digest;
use larder_core::pattern::Pattern;
use larder_core::policy::TrustKept;
use larder_core::signature::{
    Authorities, Identity, Json, KeyFile, Log, PublicKey, SignatureAsk, Signer, StatementAsk,
    Trust, Wanted, read_key_file,
};
use serde::Deserialize;
use toml::Spanned;

use super::Config;
use super::access::{RawAsks, check_known};
use super::signing::SignWith;
use super::source::ConfigSource;
use crate::failure::Failure;

/// `[[signer]]`: somebody whose signatures count.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct SignerConfig {
    pub name: Spanned<String>,
    /// What they may speak for, as `host/repository`.
    pub images: Vec<Pattern>,
    /// Files with public keys, or `ed25519:` and base64. Any of them counts.
    #[serde(default)]
    pub keys: Vec<String>,
    /// Keys that were theirs: what they signed is refused, and told so.
    #[serde(default)]
    pub revoked: Vec<String>,
    /// Files with certificates of those that certify them.
    #[serde(default)]
    pub authorities: Vec<String>,
    #[serde(default, deserialize_with = "read_identity")]
    identity: Option<Identity>,
    /// Files with lists of what these authorities revoked.
    #[serde(default)]
    pub revocations: Vec<String>,
    #[serde(default)]
    pub revocations_required: bool,
    /// Other names that an image may be signed under.
    #[serde(default)]
    signed_as: Vec<Pattern>,
    /// Predicate types of statements that count as a signature.
    #[serde(default)]
    pub(super) statements: Vec<String>,
    /// Whether a log that is required is required of them too.
    #[serde(default = "yes")]
    logged: bool,
    /// With what `larder sign` signs in this name. None: it does not.
    pub sign: Option<SignWith>,
}

/// `[trust]`: what is believed of all signers.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TrustConfig {
    /// Files with certificates of those that certify time stamps.
    #[serde(default)]
    pub stamps: Vec<String>,
    #[serde(default)]
    pub logs: Vec<LogConfig>,
    /// Images that count as not signed, whatever was signed.
    #[serde(default)]
    withdrawn: Vec<Digest>,
}

/// One of `logs`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LogConfig {
    origin: String,
    pub key: String,
    #[serde(default)]
    required: bool,
    /// Whether its time stands in for now.
    #[serde(default)]
    time: bool,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawIdentity {
    email: Option<String>,
    uri: Option<String>,
}

fn yes() -> bool {
    true
}

fn read_identity<'de, D: serde::Deserializer<'de>>(from: D) -> Result<Option<Identity>, D::Error> {
    let raw = RawIdentity::deserialize(from)?;
    let wrong = |text: &str| Err(serde::de::Error::custom(text));
    match (raw.email, raw.uri) {
        (Some(email), None) if email.contains('@') && !email.contains('*') => {
            Ok(Some(Identity::Email(email)))
        }
        (Some(_), None) => wrong("`email` is one whole mail address"),
        (None, Some(uri)) if uri.contains(':') => Ok(Some(Identity::Uri(uri))),
        (None, Some(_)) => wrong("`uri` is a whole URI, in which `*` stands for anything but `/`"),
        _ => wrong("`identity` has one of `email` and `uri`"),
    }
}

/// Takes those of all files, each of whom has something to be known by.
pub(super) fn signers(sources: &[ConfigSource]) -> Result<Vec<SignerConfig>, Failure> {
    let mut all: Vec<SignerConfig> = Vec::new();
    for source in sources {
        for one in &source.file.signer {
            let name = one.name.get_ref();
            let wrong = |message: &str, remedy: &str| Err(source.fault(&one.name, message, remedy));
            let is_name = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
            if name.is_empty() || name.len() > 100 || !name.chars().all(is_name) {
                return wrong(
                    "a signer's name has letters, digits, `-`, `_` and `.`",
                    "choose another",
                );
            }
            if all.iter().any(|other| other.name.get_ref() == name) {
                return wrong(
                    &format!("the signer `{name}` is there twice"),
                    "leave one of them out",
                );
            }
            if one.images.is_empty() {
                return wrong(
                    "`images` says what a signer may speak for",
                    "add `images = [\"ventworks.example/**\"]`",
                );
            }
            if one.keys.is_empty() && one.authorities.is_empty() && one.revoked.is_empty() {
                return wrong(
                    "nothing says how this signer's signatures are known",
                    "add `keys = [\"trust/ventworks.pem\"]`, or `authorities` and `identity`",
                );
            }
            // An authority alone would vouch for everybody whom it certifies.
            if one.authorities.is_empty() != one.identity.is_none() {
                return wrong(
                    "`authorities` and `identity` stand together: who certifies, and whom",
                    "add `identity = { email = \"release@ventworks.example\" }`, or take `authorities` out",
                );
            }
            if one.authorities.is_empty()
                && (!one.revocations.is_empty() || one.revocations_required)
            {
                return wrong(
                    "lists of revocations are those of authorities",
                    "add `authorities`, or take them out",
                );
            }
            if let Some((message, remedy)) = one.signs_in_vain() {
                return wrong(message, remedy);
            }
            if one.revocations_required && one.revocations.is_empty() {
                return wrong(
                    "lists of revocations are required, and none is named",
                    "add `revocations = [\"trust/*.crl.pem\"]`",
                );
            }
            all.push(one.clone());
        }
    }
    Ok(all)
}

/// What a rule asks of signatures, each by signers that are declared.
pub(super) fn signed(
    source: &ConfigSource,
    asks: &RawAsks,
    signers: &[&str],
) -> Result<Vec<SignatureAsk>, Failure> {
    let seconds = |within: Option<i64>| within.map(|within| within / 1000);
    let named = |by: &[Spanned<String>]| by.iter().map(|name| name.get_ref().clone()).collect();
    let enough = |by: &[Spanned<String>], of: Option<usize>| -> Result<usize, Failure> {
        check_known(source, "signer", by, signers)?;
        let mut names: Vec<&String> = by.iter().map(Spanned::get_ref).collect();
        names.sort_unstable();
        if let Some(twice) = by
            .iter()
            .find(|name| names.windows(2).any(|two| two[0] == two[1] && two[0] == name.get_ref()))
        {
            return Err(source.fault(twice, "a signer stands twice", "leave one of them out"));
        }
        match (of.unwrap_or(1), by.first()) {
            (of, Some(first)) if of == 0 || of > by.len() => {
                let message = format!("`of` is between 1 and {}, the number of signers", by.len());
                Err(source.fault(first, &message, "name more signers, or ask for fewer"))
            }
            (of, _) => Ok(of),
        }
    };
    let mut all = Vec::new();
    if !asks.signed_by.is_empty() {
        all.push(SignatureAsk {
            of: enough(&asks.signed_by, asks.of)?,
            by: named(&asks.signed_by),
            within: seconds(asks.within),
            says: None,
        });
    } else if asks.of.is_some() || asks.within.is_some() {
        let cause = "`of` and `within` say more of `signed_by`, and a rule has none";
        let remedy = "add `signed_by = [\"…\"]` to its `asks`";
        return Err(Failure::usage(format!("{} cannot be used", source.shown), cause, remedy));
    }
    if let Some(attested) = &asks.attested {
        let wrong = |message: &str| {
            let remedy = "write `attested = { by = [\"scanner\"], says = [\"https://…\"] }`";
            match attested.by.first() {
                Some(first) => source.fault(first, message, remedy),
                None => Failure::usage(format!("{} cannot be used", source.shown), message, remedy),
            }
        };
        if attested.by.is_empty() || attested.says.is_empty() {
            return Err(wrong("`attested` names who has to have said what"));
        }
        if attested.newest && attested.time.is_none() {
            return Err(wrong("what is `newest` is told by `time`, a pointer to when it was said"));
        }
        let mut conditions = Vec::new();
        for (pointer, wanted) in &attested.conditions {
            let wanted = match wanted {
                toml::Value::Table(table) if table.len() == 1 => {
                    let most = table.get("at_most").and_then(|most| match most {
                        toml::Value::Integer(most) => Some(serde_json::Number::from(*most)),
                        toml::Value::Float(most) => serde_json::Number::from_f64(*most),
                        _ => None,
                    });
                    Wanted::AtMost(
                        most.ok_or_else(|| wrong("a condition is a value, or { at_most = 3 }"))?,
                    )
                }
                plain => {
                    let text = serde_json::to_string(plain).unwrap_or_default();
                    let read = Json::read(text.as_bytes());
                    Wanted::Is(
                        read.ok_or_else(|| wrong("a condition is a value, or { at_most = 3 }"))?,
                    )
                }
            };
            conditions.push((pointer.clone(), wanted));
        }
        let pointers = conditions.iter().map(|(pointer, _)| pointer).chain(&attested.time);
        if pointers.into_iter().any(|pointer| !pointer.starts_with('/')) {
            return Err(wrong("a place in a statement is a pointer such as \"/result\""));
        }
        all.push(SignatureAsk {
            of: enough(&attested.by, attested.of)?,
            by: named(&attested.by),
            within: seconds(attested.within),
            says: Some(StatementAsk {
                types: attested.says.clone(),
                conditions,
                time: attested.time.clone(),
                newest: attested.newest,
            }),
        });
    }
    Ok(all)
}

/// The largest file that is read as a key, in bytes.
const LARGEST: u64 = 64 * 1024;
/// The most files that one pattern leads to.
const MOST: usize = 100;

/// Every file that is named, from the configuration's folder; for a pattern the folder in which it is looked for.
pub(super) fn named_files(
    folder: &Path,
    signers: &[SignerConfig],
    trust: &TrustConfig,
) -> Vec<PathBuf> {
    let of_signers = signers.iter().flat_map(|one| {
        [&one.keys, &one.revoked, &one.authorities, &one.revocations].into_iter().flatten()
    });
    let all = of_signers.chain(&trust.stamps).chain(trust.logs.iter().map(|log| &log.key));
    let files = all.filter(|text| !text.starts_with("ed25519:")).map(|text| {
        let path = folder.join(text);
        let is_pattern = path.file_name().is_some_and(|name| name.to_string_lossy().contains('*'));
        if is_pattern { path.parent().unwrap_or(folder).to_owned() } else { path }
    });
    files.collect()
}

impl Config {
    /// What is believed, where a rule asks for it; else nothing is read.
    ///
    /// # Errors
    /// As [`Config::trust`] has them.
    pub fn trust_kept(&self) -> Result<TrustKept, Failure> {
        if self.rules.all().iter().all(|rule| rule.asks.signed.is_empty()) {
            return Ok(TrustKept::default());
        }
        let trust = self.trust()?;
        let print = Digest::of(format!("{trust:?}").as_bytes()).to_string();
        Ok(TrustKept { trust: Arc::new(trust), print })
    }

    /// The files of a setting, from the configuration's folder: `*` stands for anything in a file's name.
    fn trust_files(&self, text: &str) -> std::io::Result<Vec<PathBuf>> {
        let path = self.folder().join(text);
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        if !name.contains('*') {
            return Ok(vec![path]);
        }
        let pattern: Pattern = name.parse().map_err(std::io::Error::other)?;
        let folder = path.parent().unwrap_or(Path::new("."));
        let mut all = Vec::new();
        for entry in std::fs::read_dir(folder)? {
            let entry = entry?;
            if entry.file_name().to_str().is_some_and(|name| pattern.matches(name)) {
                all.push(entry.path());
            }
        }
        all.sort();
        match all.len() {
            0 => Err(std::io::Error::other("no file has such a name")),
            1..=MOST => Ok(all),
            _ => Err(std::io::Error::other(format!("more than {MOST} files have such a name"))),
        }
    }

    /// What a setting names as a key, a certificate or a list: files, or the key itself. `whose` says whose setting it is.
    ///
    /// # Errors
    /// What is wrong with one of them, and what to do.
    pub fn key_files(&self, whose: &str, text: &str) -> Result<Vec<(String, KeyFile)>, Failure> {
        let what = || format!("cannot use what {whose} names");
        let wrong = |place: &str, cause: &str| {
            let remedy = "`larder check` says what each file is; a key is a PEM file with `PUBLIC KEY`, a JSON Web Key, or `ed25519:` and base64";
            Failure::usage(what(), format!("{place}: {cause}"), remedy)
        };
        if text.starts_with("ed25519:") {
            let read = read_key_file(text.as_bytes())
                .map_err(|error| wrong("the key", &error.to_string()))?;
            return Ok(vec![("the configuration".to_owned(), read)]);
        }
        let files = self.trust_files(text);
        let files = files
            .map_err(|error| wrong(&larder_core::shown::cut(text, 200), &error.to_string()))?;
        let mut all = Vec::new();
        for path in files {
            let place = larder_transfer::files::named(&path);
            let mut bytes = Vec::new();
            let read = std::fs::File::open(&path)
                .and_then(|file| file.take(LARGEST + 1).read_to_end(&mut bytes));
            read.map_err(|error| Failure::file(what(), &path, &error))?;
            let read = read_key_file(&bytes).map_err(|error| wrong(&place, &error.to_string()))?;
            all.push((place, read));
        }
        Ok(all)
    }

    /// Reads the files of a setting that are to hold one kind of thing and nothing else.
    fn read_all<T>(
        &self,
        whose: &str,
        settings: &[String],
        kind: &str,
        take: impl Fn(KeyFile) -> Option<Vec<T>>,
    ) -> Result<Vec<T>, Failure> {
        let mut all = Vec::new();
        for text in settings {
            for (place, file) in self.key_files(whose, text)? {
                let taken = take(file).filter(|taken| !taken.is_empty()).ok_or_else(|| {
                    let cause = format!("{place} holds something else than {kind}");
                    Failure::usage(
                        format!("cannot use what {whose} names"),
                        cause,
                        "name the right file",
                    )
                })?;
                all.extend(taken);
            }
        }
        Ok(all)
    }

    fn public_keys(&self, whose: &str, settings: &[String]) -> Result<Vec<PublicKey>, Failure> {
        self.read_all(whose, settings, "public keys", |file| {
            (file.certificates.is_empty() && file.lists.is_empty()).then_some(file.keys)
        })
    }

    fn certificates(&self, whose: &str, settings: &[String]) -> Result<Vec<Vec<u8>>, Failure> {
        self.read_all(whose, settings, "certificates", |file| {
            (file.keys.is_empty() && file.lists.is_empty()).then_some(file.certificates)
        })
    }

    /// Reads what a signer's signatures are known by.
    ///
    /// # Errors
    /// A file of it cannot be used.
    pub fn signer(&self, one: &SignerConfig) -> Result<Signer, Failure> {
        let name = one.name.get_ref();
        let whose = format!("the signer {name}");
        let wrong = |cause: String, remedy: &str| {
            Failure::usage(format!("cannot use {whose}"), cause, remedy)
        };
        let keys = self.public_keys(&whose, &one.keys)?;
        let revoked = self.public_keys(&whose, &one.revoked)?;
        if let Some(key) = keys.iter().find(|key| revoked.contains(key)) {
            let cause = format!("the key {} stands in `keys` and in `revoked`", key.id());
            return Err(wrong(cause, "take it out of `keys`"));
        }
        let certificates = self.certificates(&whose, &one.authorities)?;
        let lists = self.read_all(&whose, &one.revocations, "lists of revocations", |file| {
            (file.keys.is_empty() && file.certificates.is_empty()).then_some(file.lists)
        })?;
        let authorities = Authorities::new(certificates, &lists, one.revocations_required);
        let authorities = authorities
            .map_err(|cause| wrong(format!("it names {cause}"), "name the right files"))?;
        Ok(Signer {
            name: name.clone(),
            images: one.images.clone(),
            keys,
            revoked,
            authorities,
            identity: one.identity.clone(),
            signed_as: one.signed_as.clone(),
            statements: one.statements.clone(),
            is_logged: one.logged,
        })
    }

    /// Reads all keys, certificates and lists.
    ///
    /// # Errors
    /// One of them cannot be used, or a key is that of two signers.
    pub fn trust(&self) -> Result<Trust, Failure> {
        let mut owners: BTreeMap<PublicKey, String> = BTreeMap::new();
        let mut signers = Vec::new();
        for one in &self.signers {
            let signer = self.signer(one)?;
            for key in signer.keys.iter().chain(&signer.revoked) {
                if let Some(other) = owners.insert(key.clone(), signer.name.clone())
                    && other != signer.name
                {
                    let cause = format!("the key {} is also that of {other}", key.id());
                    let remedy =
                        "give each signer keys of its own: a signature counts for one of them";
                    return Err(Failure::usage(
                        format!("cannot use the signer {}", signer.name),
                        cause,
                        remedy,
                    ));
                }
            }
            signers.push(signer);
        }
        let stamps = self.certificates("[trust]", &self.trust.stamps)?;
        let stamps = Authorities::new(stamps, &[], false).map_err(|cause| {
            Failure::usage(
                "cannot use [trust]",
                format!("it names {cause}"),
                "name the right files",
            )
        })?;
        let mut logs = Vec::new();
        for one in &self.trust.logs {
            let whose = format!("the log {}", larder_core::shown::cut(&one.origin, 100));
            let mut keys = self.public_keys(&whose, std::slice::from_ref(&one.key))?;
            let (Some(key), true) = (keys.pop(), keys.is_empty()) else {
                let cause = "its file holds more than one key";
                return Err(Failure::usage(
                    format!("cannot use {whose}"),
                    cause,
                    "name a file with one key",
                ));
            };
            let origin = one.origin.clone();
            logs.push(Log { origin, key, is_required: one.required, time_counts: one.time });
        }
        let withdrawn = self.trust.withdrawn.iter().cloned().collect();
        let asks = self.rules.all().iter().flat_map(|rule| &rule.asks.signed);
        let asked = asks.filter_map(|ask| ask.says.as_ref()).flat_map(|says| says.types.clone());
        Ok(Trust { signers, stamps, logs, withdrawn, asked: asked.collect() })
    }
}
