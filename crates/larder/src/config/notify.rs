//! `[[notify]]`: who is told when something happens.

use std::path::PathBuf;
use std::time::Duration;

use larder_client::WebAddress;
use larder_core::nearest::nearest;
use larder_core::notice::{About, SigningSecret};
use larder_core::quantity::Span;
use larder_core::rounds::Urgency;
use larder_transfer::files::read_bounded;
use secrecy::{ExposeSecret as _, SecretString};
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};
use toml::Spanned;

use super::Config;
use super::source::ConfigSource;
use crate::failure::Failure;

/// The longest secret, in bytes.
const LIMIT: usize = 64 * 1024;
/// How often it is looked for what needs a decision, where nothing is said.
const EVERY: Duration = Duration::from_secs(300);

/// `[[notify]]`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct NotifyConfig {
    /// How marks, figures and messages name the receiver.
    pub name: Spanned<String>,
    url: Spanned<String>,
    about: Spanned<Vec<String>>,
    /// From which urgency on it is told of what needs a decision.
    #[serde(default = "default_urgency", deserialize_with = "read_urgency")]
    pub urgency: Urgency,
    /// How often it is looked for what needs a decision.
    #[serde(default = "default_every", deserialize_with = "read_every")]
    pub every: Duration,
    secret: Option<PlainSecret>,
    token: Option<PlainSecret>,
    /// A file with certificates that are trusted for it.
    ca: Option<PathBuf>,
}

/// Where a secret comes from that is no login.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct PlainSecret {
    env: Option<String>,
    file: Option<PathBuf>,
}

fn default_urgency() -> Urgency {
    Urgency::Notice
}

fn default_every() -> Duration {
    EVERY
}

fn read_urgency<'de, D: Deserializer<'de>>(from: D) -> Result<Urgency, D::Error> {
    let word = String::deserialize(from)?;
    let all = [Urgency::Urgent, Urgency::Soon, Urgency::Notice];
    let found = all.into_iter().find(|one| one.word() == word);
    found.ok_or_else(|| D::Error::custom("`urgency` is \"urgent\", \"soon\" or \"notice\""))
}

fn read_every<'de, D: Deserializer<'de>>(from: D) -> Result<Duration, D::Error> {
    let span: Span = String::deserialize(from)?.parse().map_err(D::Error::custom)?;
    match span.0 {
        short if short < Duration::from_secs(1) => {
            Err(D::Error::custom("`every` is a second or longer, such as \"5m\""))
        }
        span => Ok(span),
    }
}

/// What is sent along with events.
pub struct NotifySecrets {
    pub signing: Option<SigningSecret>,
    /// The whole field `Authorization`.
    pub authorization: Option<SecretString>,
    /// Certificates (PEM) that are trusted for the receiver.
    pub ca: Vec<u8>,
}

impl NotifyConfig {
    /// Its name.
    pub fn name(&self) -> &str {
        self.name.get_ref()
    }

    /// What it is told of.
    pub fn about(&self) -> Vec<About> {
        self.about.get_ref().iter().filter_map(|word| About::of(word)).collect()
    }

    /// Refuses what cannot be told, or not safely.
    pub(super) fn check(&self, source: &ConfigSource) -> Result<(), Failure> {
        let plain = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
        let name = self.name();
        if name.is_empty() || name.len() > 63 || !name.chars().all(plain) {
            let message = "a receiver's name has lower-case letters, digits and `-`, 63 at most";
            return Err(source.fault(&self.name, message, "write `name = \"on-call\"`"));
        }
        if self.about.get_ref().is_empty() {
            let message = "`about` names nothing, so nothing would be told";
            return Err(source.fault(&self.about, message, &words()));
        }
        if let Some(wrong) = self.about.get_ref().iter().find(|word| About::of(word).is_none()) {
            let message =
                format!("`{}` is nothing that can be told", larder_core::shown::cut(wrong, 40));
            let remedy = nearest(wrong, About::words())
                .map_or_else(words, |near| format!("write \"{near}\""));
            return Err(source.fault(&self.about, &message, &remedy));
        }
        let remedy = "write `url = \"https://HOST/PATH\"`; a secret is better in `token`, which is sent as `Authorization: Bearer`";
        let url = self.url.get_ref().parse::<WebAddress>();
        let url = url.map_err(|why| source.fault(&self.url, &format!("`url`: {why}"), remedy))?;
        if !url.is_safe() {
            let message = "events would go over the network for everybody to read and change";
            let remedy = "write `https://`; `ca` names the file of a private authority";
            return Err(source.fault(&self.url, message, remedy));
        }
        Ok(())
    }

    /// Where events are posted. None: never, once the configuration is read.
    pub fn address(&self) -> Option<WebAddress> {
        self.url.get_ref().parse().ok()
    }

    /// Reads what is sent along.
    pub fn secrets(&self, config: &Config) -> Result<NotifySecrets, Failure> {
        let what = || format!("cannot tell {}", self.name());
        let read = |secret: &Option<PlainSecret>, key: &str| {
            secret.as_ref().map(|secret| secret.read(&what(), key, config)).transpose()
        };
        let signing = read(&self.secret, "secret")?;
        let signing = signing.map(|text| SigningSecret::parse(text.expose_secret())).transpose();
        let signing = signing.map_err(|error| {
            let remedy = "`head -c 32 /dev/urandom | base64` makes a good one";
            Failure::usage(what(), format!("`secret`: {error}"), remedy)
        })?;
        let token = read(&self.token, "token")?;
        let authorization =
            token.map(|token| format!("Bearer {}", token.expose_secret().trim()).into());
        let ca = match &self.ca {
            None => Vec::new(),
            Some(path) => {
                let path = config.folder().join(path);
                read_bounded(&path, larder_transfer::files::CA_LIMIT)
                    .map_err(|error| Failure::file(what(), &path, &error))?
            }
        };
        Ok(NotifySecrets { signing, authorization, ca })
    }
}

/// Everything that can be told.
fn words() -> String {
    format!("name some of {}", About::words().collect::<Vec<_>>().join(", "))
}

impl PlainSecret {
    fn read(&self, what: &str, key: &str, config: &Config) -> Result<SecretString, Failure> {
        match (&self.env, &self.file) {
            (Some(name), None) => {
                config.check_secret(what, None)?;
                std::env::var(name).map(Into::into).map_err(|_| {
                    let cause = format!("the environment variable {name} is not set");
                    Failure::usage(what, cause, format!("set {name} for `larder serve` too"))
                })
            }
            (None, Some(path)) => {
                let path = config.folder().join(path);
                config.check_secret(what, Some(&path))?;
                let bytes = read_bounded(&path, LIMIT)
                    .map_err(|error| Failure::file(what, &path, &error))?;
                String::from_utf8(bytes).map(Into::into).map_err(|_| {
                    let shown = larder_transfer::files::named(&path);
                    Failure::usage(what, format!("{shown} is no text"), "write one line of text")
                })
            }
            _ => {
                let cause = format!("`{key}` names no source, or two");
                let remedy =
                    format!("write `{key} = {{ file = \"PATH\" }}` or `{{ env = \"NAME\" }}`");
                Err(Failure::usage(what, cause, remedy))
            }
        }
    }
}
