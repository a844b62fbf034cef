//! How the client of an upstream is set up.

use std::fs;
use std::time::Duration;

use larder_client::{Endpoint, Options, Registry};
use larder_core::name::Host;

use super::model::{Config, Upstream};
use crate::failure::Failure;

impl Config {
    /// The client of an upstream as a cache asks it: somebody is waiting, so it is given up sooner.
    pub fn registry_behind_a_cache(&self, host: &Host) -> Result<Registry, Failure> {
        let mut options = self.options_of(host)?;
        let said = self.upstream(host).and_then(|upstream| upstream.timeout);
        options.silence = said.unwrap_or(Duration::from_secs(20));
        options.retries = 2;
        options.patience = Duration::from_secs(3);
        Registry::new(options)
            .map_err(|error| Failure::remote(format!("cannot speak to {host}"), &error))
    }

    /// The client of a registry: as its `[[upstream]]` says, else anonymously at its own name.
    pub fn registry(&self, host: &Host) -> Result<Registry, Failure> {
        let options = self.options_of(host)?;
        Registry::new(options)
            .map_err(|error| Failure::remote(format!("cannot speak to {host}"), &error))
    }

    fn options_of(&self, host: &Host) -> Result<Options, Failure> {
        Ok(match self.upstream(host) {
            Some(upstream) => self.options(upstream)?,
            None if self.larder.has_name(host) => {
                Options::new(host.as_str(), self.larder.url.endpoint.clone())
            }
            None => Options::new(host.as_str(), endpoint_of(host)?),
        })
    }

    fn options(&self, upstream: &Upstream) -> Result<Options, Failure> {
        let endpoint = match &upstream.endpoint {
            Some(endpoint) => endpoint.clone(),
            None => endpoint_of(&upstream.host)?,
        };
        let mut options = Options::new(upstream.host.as_str(), endpoint);
        options.parallel = upstream.parallel;
        options.silence = upstream.timeout.unwrap_or(options.silence);
        if let Some(path) = &upstream.ca {
            let path = self.folder().join(path);
            options.ca = fs::read(&path).map_err(|error| {
                Failure::io(
                    format!(
                        "cannot read the certificates {} of {}",
                        crate::files::named(&path),
                        upstream.host
                    ),
                    &error,
                )
            })?;
        }
        options.token_hosts.clone_from(&upstream.token_hosts);
        options.account = self.account_of(upstream)?;
        Ok(options)
    }
}

fn endpoint_of(host: &Host) -> Result<Endpoint, Failure> {
    Endpoint::of_host(host)
        .map_err(|error| Failure::usage(format!("cannot reach {host}"), error, ""))
}
