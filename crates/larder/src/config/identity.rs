//! By whose tokens clusters and pipelines are known: `identity` of `[[cluster]]` and of `[[account]]`.

use std::collections::BTreeMap;
use std::path::PathBuf;

use larder_core::access::claims::WantedClaims;
use larder_core::pattern::Pattern;
use serde::Deserialize;
use toml::Spanned;

use super::source::ConfigSource;
use crate::failure::Failure;

/// `[cluster.identity]`: how a cluster's service accounts are known.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Identity {
    /// Who issues their tokens, as the tokens say.
    pub issuer: String,
    /// The cluster's key set: a file, or an address.
    pub keys: String,
    /// For whom the tokens are meant. None: for the host of the larder's `url`.
    pub audience: Option<String>,
    /// A file with certificates that are trusted for that address.
    pub ca: Option<PathBuf>,
}

/// `identity` of an account: by which tokens of a build system it is known.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct PipelineIdentity {
    /// Who issues them, as the tokens say.
    issuer: String,
    /// The issuer's key set: a file, or an address.
    keys: String,
    /// For whom they are meant. None: for the host of the larder's `url`.
    audience: Option<String>,
    /// A file with certificates that are trusted for that address.
    ca: Option<PathBuf>,
    /// What they must say, claim by claim.
    r#where: Spanned<BTreeMap<String, Pattern>>,
}

impl PipelineIdentity {
    /// Whose tokens they are.
    pub fn identity(&self) -> Identity {
        let Self { issuer, keys, audience, ca, .. } = self.clone();
        Identity { issuer, keys, audience, ca }
    }

    /// Refuses one by which everybody would be known.
    pub(super) fn check(&self, source: &ConfigSource) -> Result<(), Failure> {
        if self.wanted().is_some() {
            return Ok(());
        }
        let message =
            "`where` names no claim, so everybody whom the issuer knows would be this account";
        let remedy = "write `where = { \"repository\" = \"…\", \"ref\" = \"refs/tags/*\" }`";
        Err(source.fault(&self.r#where, message, remedy))
    }

    /// What they must say. None: nothing, which is refused when the configuration is read.
    pub fn wanted(&self) -> Option<WantedClaims> {
        WantedClaims::new(self.r#where.get_ref().clone())
    }
}
