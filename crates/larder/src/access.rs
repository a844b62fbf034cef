//! What the configuration says of who may do what, as the server wants it.

use std::collections::HashMap;
use std::path::Path;
use std::sync::Arc;

use futures_util::FutureExt as _;
use larder_client::{Web, WebOptions};
use larder_core::access::identity::{ExpectedToken, KEY_SET_LIMIT};
use larder_core::access::rate::Rate;
use larder_core::digest::Digest;
use larder_server::{ClusterIdentity, KeySource, PlannedCluster, PlannedPipeline};
use larder_transfer::files::read_bounded;
use rustls::pki_types::CertificateDer;
use rustls::pki_types::pem::PemObject as _;

use crate::config::{Config, Identity};
use crate::failure::Failure;

/// The larder's own secret; it is made where it is missing.
pub fn secret(config: &Config) -> Result<[u8; 32], Failure> {
    crate::context::check_store(config)?;
    let what = "cannot read the larder's own secret";
    let secret = match config.shared_store()? {
        None => larder_store::local_secret(&config.data()),
        Some(shared) => {
            // Its place is made with the store.
            if !crate::context::has_store(config)? {
                crate::context::open_store(config)?;
            }
            larder_store::Store::shared_secret(&shared.server)
        }
    };
    secret.map_err(|error| Failure::store(what, &error))
}

/// What bounds the accounts that are bounded.
pub fn rates(config: &Config) -> HashMap<Box<str>, Rate> {
    let accounts = config.accounts.iter();
    accounts.filter_map(|one| Some((one.name.get_ref().as_str().into(), one.rate?))).collect()
}

/// The clusters whose nodes may say that they come from there, each with how that is believed.
pub fn clusters(config: &Config) -> Result<Vec<PlannedCluster>, Failure> {
    let mut clusters = Vec::new();
    for cluster in &config.clusters {
        let name = cluster.name.get_ref().clone();
        let certificate = match &cluster.certificate {
            None => None,
            Some(path) => {
                let path = config.folder().join(path);
                let read = CertificateDer::from_pem_file(&path).map_err(|error| {
                    let what = format!("cannot read the certificate of the cluster {name}");
                    let cause = format!("{}: {error}", larder_transfer::files::named(&path));
                    Failure::usage(what, cause, "name the PEM file that its nodes show")
                })?;
                Some(Arc::from(read.as_ref()))
            }
        };
        let identity = match &cluster.identity {
            None => None,
            Some(identity) => {
                let what = format!("cannot use the identity of the cluster {name}");
                Some(known_by(config, &what, identity)?)
            }
        };
        let nodes = cluster.nodes.clone();
        let door = cluster.door.as_ref().map(|door| door.door(&cluster.pull_secret));
        clusters.push(PlannedCluster { name, certificate, nodes, identity, door });
    }
    Ok(clusters)
}

/// The accounts that are known by the tokens of build systems, in their order.
pub fn pipelines(config: &Config) -> Result<Vec<PlannedPipeline>, Failure> {
    let mut pipelines = Vec::new();
    for account in &config.accounts {
        let name = account.name.get_ref().clone();
        let Some(known) = &account.identity else { continue };
        let Some(wanted) = known.wanted() else { continue };
        let what = format!("cannot use the identity of the account {name}");
        let identity = known_by(config, &what, &known.identity())?;
        pipelines.push(PlannedPipeline { name, identity, wanted });
    }
    Ok(pipelines)
}

fn known_by(config: &Config, what: &str, identity: &Identity) -> Result<ClusterIdentity, Failure> {
    let audience = audience(config, identity);
    let expected = ExpectedToken { issuer: identity.issuer.clone(), audience };
    let (keys, made_of) = key_source(config, what, identity)?;
    Ok(ClusterIdentity { expected, keys, made_of })
}

/// For whom a cluster's tokens must be meant.
pub fn audience(config: &Config, identity: &Identity) -> String {
    identity.audience.clone().unwrap_or_else(|| config.larder.url.host.to_string())
}

/// Where an issuer's key set comes from: a file that is read anew, or an address.
/// Also what tells whether two are the same.
fn key_source(
    config: &Config,
    what: &str,
    identity: &Identity,
) -> Result<(KeySource, Digest), Failure> {
    let wrong = |cause: String| {
        Failure::usage(what, cause, "`keys` is the issuer's key set (JWKS): a file, or an address")
    };
    if !identity.keys.contains("://") {
        let path = config.folder().join(&identity.keys);
        // A file that is missing now may come; one that nobody can read is told when it is needed.
        let made_of = Digest::of(path.as_os_str().as_encoded_bytes());
        let keys: KeySource = Arc::new(move || std::future::ready(read_keys(&path)).boxed());
        return Ok((keys, made_of));
    }
    let ca = match &identity.ca {
        None => Vec::new(),
        Some(path) => {
            let path = config.folder().join(path);
            let read = std::fs::read(&path);
            read.map_err(|error| {
                wrong(format!("{}: {error}", larder_transfer::files::named(&path)))
            })?
        }
    };
    let made_of = Digest::of(&[identity.keys.as_bytes(), b"\n", &ca].concat());
    let options = WebOptions { ca, ..WebOptions::default() };
    let web = Arc::new(Web::new(&identity.keys, options).map_err(wrong)?);
    let keys: KeySource = Arc::new(move || {
        let web = Arc::clone(&web);
        async move {
            let answer = web.send("GET", "", None).await?;
            match answer.status {
                200 if answer.body.len() <= KEY_SET_LIMIT => Ok(answer.body),
                200 => Err("the key set is too large".to_owned()),
                status => Err(format!("it was answered {status}")),
            }
        }
        .boxed()
    });
    Ok((keys, made_of))
}

fn read_keys(path: &Path) -> Result<Vec<u8>, String> {
    read_bounded(path, KEY_SET_LIMIT)
        .map_err(|error| format!("{}: {error}", larder_transfer::files::named(path)))
}
