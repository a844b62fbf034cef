//! Another registry to unpack into.

use larder_core::name::{Host, RepositoryName};
use larder_core::reference::Image;
use larder_transfer::Remote;

use crate::config::Config;
use crate::failure::Failure;

/// A registry to unpack into.
pub(super) struct FarRegistry {
    pub host: Host,
    prefix: Option<RepositoryName>,
}

impl FarRegistry {
    /// Reads `HOST[/PREFIX]`.
    pub fn read(text: &str) -> Result<Self, Failure> {
        let (host, prefix) = match text.split_once('/') {
            Some((host, prefix)) => (host, Some(prefix)),
            None => (text, None),
        };
        let wrong = |error: &dyn std::fmt::Display| {
            let what = format!("cannot unpack to {text}");
            Failure::usage(
                what,
                error,
                "name a registry, as in registry.example or registry.example/prefix",
            )
        };
        let host = host.parse().map_err(|error| wrong(&error))?;
        let prefix = prefix.map(str::parse).transpose().map_err(|error| wrong(&error))?;
        Ok(Self { host, prefix })
    }

    /// The repository's name there.
    pub fn image(&self, repository: &RepositoryName) -> Result<Image, Failure> {
        let name = match &self.prefix {
            Some(prefix) => format!("{prefix}/{repository}"),
            None => repository.to_string(),
        };
        let repository = name.parse().map_err(|error| {
            Failure::usage(format!("cannot unpack to {}/{name}", self.host), error, "")
        })?;
        Ok(Image { host: self.host.clone(), repository })
    }

    /// The repository as an end of a move.
    pub fn end(&self, repository: &RepositoryName, config: &Config) -> Result<Remote, Failure> {
        let image = self.image(repository)?;
        Ok(Remote::new(config.registry(&image.host)?, image.repository))
    }
}
