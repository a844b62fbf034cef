//! How the client of an upstream is set up.

use std::fs;
use std::time::Duration;

use larder_client::{Endpoint, Options, Proxy, Registry};
use larder_core::digest::Digest;
use larder_core::name::Host;
use larder_core::nearest::nearest;

use super::model::Config;
use super::upstream::{self, UpstreamConfig, UpstreamForm};
use crate::failure::Failure;

impl Config {
    /// The client of an upstream as a cache asks it: somebody is waiting, so it is given up sooner.
    pub fn registry_behind_a_cache(
        &self,
        upstream: &UpstreamConfig,
    ) -> Result<(Registry, Digest), Failure> {
        let (host, mut options) = (&upstream.host, self.options(upstream)?);
        let made_of = made_of(upstream, &options);
        options.silence = upstream.timeout.unwrap_or(Duration::from_secs(20));
        options.retries = 2;
        options.patience = Duration::from_secs(3);
        Registry::new(options)
            .map(|registry| (registry, made_of))
            .map_err(|error| Failure::remote(format!("cannot speak to {host}"), &error))
    }

    /// The client of a registry: as its `[[upstream]]` says, else anonymously at its own name.
    pub fn registry(&self, host: &Host) -> Result<Registry, Failure> {
        self.registry_as(host, self.upstream(host))
    }

    /// The client of a registry with the login of one of its `[[upstream]]`.
    pub fn registry_as(
        &self,
        host: &Host,
        upstream: Option<&UpstreamConfig>,
    ) -> Result<Registry, Failure> {
        let options = self.options_of(host, upstream)?;
        Registry::new(options)
            .map_err(|error| Failure::remote(format!("cannot speak to {host}"), &error))
    }

    fn options_of(
        &self,
        host: &Host,
        upstream: Option<&UpstreamConfig>,
    ) -> Result<Options, Failure> {
        Ok(match upstream {
            Some(upstream) => self.options(upstream)?,
            None if self.larder.has_name(host) => {
                Options::new(host.as_str(), self.larder.url.endpoint.clone())
            }
            None => {
                let known = self.upstreams.iter().map(|upstream| upstream.host.as_str());
                let mut options = Options::new(host.as_str(), endpoint_of(host)?);
                options.meant = nearest(host.as_str(), known).map(str::to_owned);
                options
            }
        })
    }

    /// The certificate that an upstream is shown, with its key.
    fn identity_of(&self, upstream: &UpstreamConfig) -> Result<Option<Vec<u8>>, Failure> {
        let what = || format!("cannot show {} a certificate", upstream.host);
        let (certificate, key) = match (&upstream.certificate, &upstream.certificate_key) {
            (None, None) => return Ok(None),
            (None, Some(_)) => {
                let cause = "`certificate_key` names a key, and no `certificate` is there";
                return Err(Failure::usage(what(), cause, "name the certificate too"));
            }
            (Some(certificate), key) => (self.folder().join(certificate), key),
        };
        let key = key.as_ref().map_or_else(|| certificate.clone(), |key| self.folder().join(key));
        self.check_secret(&what(), Some(&key))?;
        let mut pem = Vec::new();
        for path in [Some(&certificate), (key != certificate).then_some(&key)].into_iter().flatten()
        {
            let read = larder_transfer::files::read_bounded(path, crate::node_files::LIMIT);
            pem.extend(read.map_err(|error| Failure::file(what(), path, &error))?);
            pem.push(b'\n');
        }
        Ok(Some(pem))
    }

    fn options(&self, upstream: &UpstreamConfig) -> Result<Options, Failure> {
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
                        larder_transfer::files::named(&path),
                        upstream.host
                    ),
                    &error,
                )
            })?;
        }
        options.foreign = upstream.foreign;
        options.charts = upstream.form == UpstreamForm::ChartIndex;
        options.identity = self.identity_of(upstream)?;
        options.proxy = match &upstream.proxy {
            None => Proxy::Environment,
            Some(upstream::ProxyConfig::Nobody) => Proxy::Nobody,
            Some(upstream::ProxyConfig::At { address, credentials }) => {
                let host: Host =
                    address.host().parse().map_err(|error: larder_core::name::NameError| {
                        Failure::usage(format!("cannot reach {}", upstream.host), error, "")
                    })?;
                let login = credentials.as_ref().map(|from| self.login_at_proxy(host, from));
                let login = login.transpose()?;
                Proxy::At(address.clone(), login)
            }
        };
        options.token_hosts.clone_from(&upstream.token_hosts);
        options.account = self.account_of(upstream)?;
        Ok(options)
    }
}

/// Tells whether two clients of an upstream speak alike: what is written of it, and the files that it names. Secrets
/// are never written, so none is in it.
fn made_of(upstream: &UpstreamConfig, options: &Options) -> Digest {
    let UpstreamConfig {
        endpoint,
        credentials,
        token_hosts,
        proxy,
        foreign,
        parallel,
        timeout,
        ..
    } = upstream;
    let endpoint = endpoint.as_ref().map(ToString::to_string);
    let written =
        format!("{:?}", (endpoint, credentials, token_hosts, proxy, foreign, parallel, timeout));
    let files = [options.ca.as_slice(), options.identity.as_deref().unwrap_or_default()];
    let files = files.map(|file| Digest::of(file).to_string());
    Digest::of(format!("{written}{}", files.concat()).as_bytes())
}

fn endpoint_of(host: &Host) -> Result<Endpoint, Failure> {
    Endpoint::of_host(host)
        .map_err(|error| Failure::usage(format!("cannot reach {host}"), error, ""))
}
