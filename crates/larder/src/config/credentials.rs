//! Where an upstream's name and secret come from, and how its client is set up.

use std::fs;
use std::time::Duration;

use larder_client::{Credentials as Login, Endpoint, Options, Registry};
use larder_core::name::Host;

use super::model::{Config, Credentials, Upstream};
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
            None if *host == self.larder.url.host => {
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
                    format!("cannot read the certificates {} of {}", path.display(), upstream.host),
                    &error,
                )
            })?;
        }
        if let Some(credentials) = &upstream.credentials {
            options.credentials = Some(self.login(upstream, credentials)?);
        }
        Ok(options)
    }

    fn login(&self, upstream: &Upstream, credentials: &Credentials) -> Result<Login, Failure> {
        let what = || format!("cannot sign in to {}", upstream.host);
        let (text, source) = match (&credentials.env, &credentials.file) {
            (Some(name), None) => {
                let text = std::env::var(name).map_err(|_| {
                    Failure::usage(
                        what(),
                        format!("the environment variable {name} is not set"),
                        format!("set {name} to `NAME:SECRET`"),
                    )
                })?;
                (text, format!("the environment variable {name}"))
            }
            (None, Some(path)) => {
                let path = self.folder().join(path);
                let text =
                    fs::read_to_string(&path).map_err(|error| Failure::io(what(), &error))?;
                (text, path.display().to_string())
            }
            _ => {
                return Err(Failure::usage(
                    what(),
                    "`credentials` names no source, or two",
                    "write `credentials = { env = \"NAME\" }` or `{ file = \"PATH\" }`",
                ));
            }
        };
        // The text is a secret: it appears in no message.
        match text.trim().split_once(':') {
            Some((user, secret)) if !user.is_empty() && !secret.is_empty() => {
                Ok(Login { user: user.to_owned(), secret: secret.into() })
            }
            _ => Err(Failure::usage(what(), format!("{source} does not hold `NAME:SECRET`"), "")),
        }
    }
}

fn endpoint_of(host: &Host) -> Result<Endpoint, Failure> {
    Endpoint::of_host(host)
        .map_err(|error| Failure::usage(format!("cannot reach {host}"), error, ""))
}
