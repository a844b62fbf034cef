//! `[[upstream]]`: where somebody else's registry is reached, through whom, and as whom.

use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

use larder_client::Endpoint;
use larder_core::allowance::Allowance;
use larder_core::name::{Host, RepositoryName};
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};
use toml::Spanned;

use super::values::{read_allowance, read_timeout};

/// `[[upstream]]`: somebody else's registry.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct UpstreamConfig {
    /// What we call it.
    pub name: Spanned<String>,
    /// Its host as in references.
    pub host: Host,
    /// The repositories of its host for which this is the login, and what lies below them. None: all for which no other
    /// is.
    pub path: Option<RepositoryName>,
    /// Where it is reached. None: at its host.
    pub endpoint: Option<Endpoint>,
    /// Where the name and secret come from. None: anonymous.
    pub credentials: Option<CredentialSource>,
    /// Hosts beside its own at which it signs people in.
    #[serde(default)]
    pub token_hosts: Vec<String>,
    /// What they led to, once somebody has looked.
    #[serde(skip)]
    pub login: OnceLock<(SourcedLogin, larder_client::Account)>,
    /// A file with certificates that are trusted for it.
    pub ca: Option<PathBuf>,
    /// A file with the certificate that it is shown, and the one with its key. None: they are one file.
    pub certificate: Option<PathBuf>,
    /// The file with the certificate's key.
    pub certificate_key: Option<PathBuf>,
    /// Through whom it is reached. None: whom the environment names.
    pub proxy: Option<ProxyConfig>,
    /// Whether layers that it does not have are fetched where their manifests say that they lie.
    #[serde(default)]
    pub foreign: bool,
    /// What it is.
    #[serde(default)]
    pub form: UpstreamForm,
    /// How many blobs are moved at once.
    #[serde(default = "default_parallel", deserialize_with = "read_parallel")]
    pub parallel: usize,
    /// How long its answers may take to begin or to go on.
    #[serde(default, deserialize_with = "read_timeout")]
    pub timeout: Option<Duration>,
    /// What it lets us pull. None: no limit is known.
    #[serde(default, deserialize_with = "read_allowance")]
    pub allowance: Option<Allowance>,
}

/// What an upstream is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum UpstreamForm {
    #[default]
    Registry,
    /// A plain chart repository: an index and archives.
    ChartIndex,
}

/// Through whom an upstream is reached.
#[derive(Debug, Clone, Deserialize)]
#[serde(try_from = "ProxyText")]
pub enum ProxyConfig {
    /// Nobody, whatever the environment says.
    Nobody,
    /// This one, with where its login comes from.
    At {
        address: Endpoint,
        /// Where its login comes from. None: it wants none.
        credentials: Option<CredentialSource>,
    },
}

#[derive(Deserialize)]
#[serde(untagged)]
enum ProxyText {
    Address(String),
    Table(ProxyTable),
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ProxyTable {
    address: String,
    credentials: Option<CredentialSource>,
}

impl TryFrom<ProxyText> for ProxyConfig {
    type Error = String;

    fn try_from(text: ProxyText) -> Result<Self, String> {
        let (address, credentials) = match text {
            ProxyText::Address(word) if word == "none" => return Ok(Self::Nobody),
            ProxyText::Address(address) => (address, None),
            ProxyText::Table(ProxyTable { address, credentials }) => (address, credentials),
        };
        if !address.starts_with("http://") && !address.starts_with("https://") {
            return Err(
                "`proxy` is an address such as `http://proxy.example:3128`, or `none`".into()
            );
        }
        let address =
            address.parse().map_err(|error: larder_client::EndpointError| error.to_string())?;
        Ok(Self::At { address, credentials })
    }
}

/// Where credentials come from; never the secret itself.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct CredentialSource {
    /// An environment variable that holds `NAME:SECRET`.
    pub env: Option<String>,
    /// A file that holds `NAME:SECRET`.
    pub file: Option<PathBuf>,
    /// A program with its arguments, which says `NAME:SECRET` or a JSON document.
    pub command: Option<Vec<String>>,
    /// A file in the form that clients share, with the programs that it names.
    #[serde(rename = "auth-file")]
    pub auth_file: Option<PathBuf>,
}

/// A login, and where it came from.
#[derive(Debug, Clone)]
pub struct SourcedLogin {
    /// The name and the secret.
    pub login: larder_client::Credentials,
    /// Where from, in words.
    pub source: String,
    /// Until when it is good, in milliseconds since 1970. None: that is not said.
    pub until: Option<i64>,
}

fn read_parallel<'de, D: Deserializer<'de>>(from: D) -> Result<usize, D::Error> {
    let count = std::num::NonZeroUsize::deserialize(from);
    count.map(Into::into).map_err(|_| D::Error::custom("`parallel` is a number, 1 or more"))
}

fn default_parallel() -> usize {
    4
}
