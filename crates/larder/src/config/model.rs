//! What `larder.toml` says, in types that cannot be wrong.

use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::time::Duration;

use larder_client::Endpoint;
use larder_core::access::grants::Grants;
use larder_core::immutable::ImmutableTags;
use larder_core::lock::{Lock, TagWish};
use larder_core::name::{Host, RepositoryName};
use larder_core::pattern::Pattern;
use larder_core::platform::{Platform, Platforms};
use larder_core::policy::{Classes, Court, Rules};
use larder_core::quota::Quotas;
use larder_core::reference::{Image, Unqualified};
use larder_core::rewrite::CustomResource;
use larder_core::route::{self, Exception, RouteEntry, Routes};
use larder_core::schedule::Schedule;
use larder_core::selection::Tags;
use larder_server::Limits;
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};
use toml::Spanned;

use crate::failure::Failure;

use super::access::{AccountConfig, ClusterConfig, RawRule};
use super::deployments::{Resource, Route};
use super::keep::{Keep, KeepConfig};
use super::notify::NotifyConfig;
use super::parcel::ParcelConfig;
use super::shelf::{CachingConfig, ShelfConfig};
use super::trust::{SignerConfig, TrustConfig};
use super::upstream::UpstreamConfig;
use super::values::{
    Destination, read_limit, read_name, read_platforms, read_schedule, read_size, read_span,
    read_tags, read_timeout,
};

/// A whole configuration, includes merged in.
#[derive(Debug)]
pub struct Config {
    /// Whether a store is made where there is none.
    pub new_store: bool,
    /// The file that was read first.
    pub path: PathBuf,
    /// `[larder]`.
    pub larder: Larder,
    /// `[[upstream]]`.
    pub upstreams: Vec<UpstreamConfig>,
    /// `[[shelf]]`.
    pub shelves: Vec<ShelfConfig>,
    /// `[[intake]]`.
    pub intake: Vec<Intake>,
    /// `[[class]]`, compiled.
    pub classes: Classes,
    /// `[[cluster]]`.
    pub clusters: Vec<ClusterConfig>,
    /// `[[account]]`.
    pub accounts: Vec<AccountConfig>,
    /// What they may do, compiled.
    pub grants: Grants,
    /// `[[rule]]`, compiled.
    pub rules: Rules,
    /// What of it should be the same at all larders that share a store, in short.
    pub fingerprint: String,
    /// The files that were read, and the folders in which others are looked for.
    pub sources: Vec<PathBuf>,
    /// `[parcel]`.
    pub parcel: ParcelConfig,
    /// `[[keep]]`.
    pub keeps: Vec<KeepConfig>,
    /// `[[signer]]`, whose files are read where they are needed.
    pub signers: Vec<SignerConfig>,
    /// `[trust]`.
    pub trust: TrustConfig,
    /// `[[notify]]`.
    pub notify: Vec<NotifyConfig>,
    /// `[[route]]`, compiled.
    pub exceptions: Vec<Exception>,
    /// `[[resource]]`.
    pub resources: Vec<CustomResource>,
    /// The rules that ask `signature`, the name of `looks_signed` from before.
    pub asks_for_signature: Vec<String>,
    /// How it came to be read.
    pub provenance: super::load::Provenance,
    /// Why it may say what its reader does not mean: somebody else can write one of its files. None: nobody can.
    pub foreign: Option<String>,
}

impl Config {
    /// Refuses to use a secret, or to run a program, for a configuration that somebody else can write. `secret` is
    /// the file that holds it, if one does.
    pub fn check_secret(&self, what: &str, secret: Option<&Path>) -> Result<(), Failure> {
        if self.provenance == super::load::Provenance::Named {
            return Ok(());
        }
        let foreign = || secret.and_then(super::owned::foreign);
        match self.foreign.clone().or_else(foreign) {
            None => Ok(()),
            Some(why) => {
                let cause = format!("{why}, so it is given no secret and runs no program");
                let remedy = "make the file yours and writable by you alone (`chown`, `chmod go-w`), or name the configuration with `--config` if you mean it";
                Err(Failure::usage(what, cause, remedy))
            }
        }
    }

    /// The folder of the configuration: relative paths in it start there.
    pub fn folder(&self) -> &Path {
        self.path.parent().unwrap_or(Path::new("."))
    }

    /// Where the store lies.
    pub fn data(&self) -> PathBuf {
        self.folder().join(&self.larder.data)
    }

    /// Where the lock lies.
    pub fn lock_path(&self) -> PathBuf {
        self.folder().join("larder.lock")
    }

    /// The upstream behind a host. None: none is configured.
    pub fn upstream(&self, host: &Host) -> Option<&UpstreamConfig> {
        self.upstreams.iter().find(|one| one.host == *host && one.path.is_none())
    }

    /// The upstream whose login a repository of a host is reached with: the one with the longest `path` that it lies
    /// in, or the host's own. None: none is configured.
    pub fn upstream_for(
        &self,
        host: &Host,
        repository: Option<&RepositoryName>,
    ) -> Option<&UpstreamConfig> {
        let of_path = |upstream: &&UpstreamConfig| {
            let path = upstream.path.as_ref()?;
            let name = repository?.as_str();
            let below = name.strip_prefix(path.as_str())?;
            (below.is_empty() || below.starts_with('/')).then(|| path.as_str().len())
        };
        let all = self.upstreams.iter().filter(|upstream| upstream.host == *host);
        let closest = all.filter(|upstream| of_path(upstream).is_some());
        closest.max_by_key(of_path).or_else(|| self.upstream(host))
    }

    /// The upstream of a name. None: none is configured.
    pub fn upstream_named(&self, name: &str) -> Option<&UpstreamConfig> {
        self.upstreams.iter().find(|upstream| upstream.name.get_ref() == name)
    }

    /// A shelf that caches. None: it stores, or is not declared.
    pub fn cached_shelf(&self, name: &str) -> Option<(&ShelfConfig, &CachingConfig)> {
        let shelf = self.shelves.iter().find(|shelf| shelf.name.get_ref().as_str() == name)?;
        Some((shelf, shelf.caching.as_ref()?))
    }

    /// The shelves that cache, each with its upstream.
    pub fn cached_shelves(
        &self,
    ) -> impl Iterator<Item = (&ShelfConfig, &CachingConfig, &UpstreamConfig)> {
        self.shelves.iter().filter_map(|shelf| {
            let caching = shelf.caching.as_ref()?;
            Some((shelf, caching, self.upstream_named(caching.upstream.get_ref())?))
        })
    }

    /// A cluster by its name. None: none is declared.
    pub fn cluster(&self, name: &str) -> Option<&ClusterConfig> {
        self.clusters.iter().find(|cluster| cluster.name.get_ref() == name)
    }

    /// The intake entry that wants an image. None: nobody does.
    pub fn intake_of(&self, image: &Image) -> Option<&Intake> {
        self.intake.iter().find(|intake| intake.image.get_ref() == image)
    }

    /// What the intake entries want.
    pub fn wishes(&self) -> Vec<TagWish<'_>> {
        self.intake.iter().map(Intake::wish).collect()
    }

    /// The routes from upstream images to this larder.
    pub fn routes(&self) -> Routes {
        let entries = self.intake.iter().map(|intake| RouteEntry {
            image: intake.image.get_ref().clone(),
            to: self.destination(intake),
        });
        let shelves = self.cached_shelves().map(|(shelf, caching, upstream)| route::RouteShelf {
            host: upstream.host.clone(),
            name: shelf.name.get_ref().clone(),
            reach: caching.habits.reach.clone(),
        });
        Routes::new(self.larder.url.host.clone(), entries.collect())
            .with_shelves(shelves.collect())
            .with_exceptions(self.exceptions.clone())
    }

    /// Who may pull what, by this configuration and a lock.
    ///
    /// # Errors
    /// A file that says whose signatures count cannot be used.
    pub fn court(&self, lock: Lock) -> Result<Court, Failure> {
        let mut court = Court::new(self.routes(), lock);
        court.open = self.is_open();
        court.grants.clone_from(&self.grants);
        court.classes.clone_from(&self.classes);
        court.rules.clone_from(&self.rules);
        court.in_use = i64::try_from(self.larder.in_use.as_millis()).unwrap_or(i64::MAX);
        court.trust = self.trust_kept()?;
        Ok(court)
    }

    /// Where an intake entry brings its image: to this larder, or to another registry.
    pub fn destination(&self, intake: &Intake) -> Image {
        let Destination { host, repository } = intake.to.get_ref();
        let host = host.as_ref().unwrap_or(&self.larder.url.host).clone();
        Image { host, repository: repository.clone() }
    }

    /// The names under which images can be pushed: the declared shelves and those that intake
    /// entries bring to.
    pub fn storing_shelves(&self) -> Vec<String> {
        let storing = self.shelves.iter().filter(|shelf| shelf.caching.is_none());
        let declared = storing.map(|shelf| shelf.name.get_ref().to_string());
        let brought = self.intake.iter().map(|intake| self.destination(intake));
        let brought = brought
            .filter(|to| to.host == self.larder.url.host)
            .map(|to| to.repository.first_component().to_owned());
        let mut all: Vec<String> = declared.chain(brought).collect();
        all.sort();
        all.dedup();
        all
    }

    /// How much the shelves may hold.
    pub fn quotas(&self) -> Quotas {
        let all = self.shelves.iter();
        Quotas::new(all.map(|shelf| (shelf.name.get_ref().to_string(), shelf.quota)))
    }

    /// The tags of a shelf that do not move.
    pub fn immutable_tags(&self, shelf: &str) -> ImmutableTags {
        let declared = self.shelves.iter().find(|one| one.name.get_ref().as_str() == shelf);
        declared.map(|shelf| shelf.immutable.clone()).unwrap_or_default()
    }

    /// Refuses to `what` something of a repository whose shelf this larder does not have.
    pub fn check_shelf(
        &self,
        what: impl Into<String>,
        repository: &RepositoryName,
    ) -> Result<(), Failure> {
        let shelves = self.storing_shelves();
        let shelf = repository.first_component();
        if shelves.iter().any(|known| known == shelf) {
            return Ok(());
        }
        Err(Failure::usage(
            what,
            format!("this larder has no shelf `{shelf}`; it has: {}", shelves.join(", ")),
            format!("declare it in larder.toml with [[shelf]] name = \"{shelf}\""),
        ))
    }

    /// Whether everybody may pull and push.
    pub fn is_open(&self) -> bool {
        self.larder.access == AccessMode::Open
    }

    /// The platforms that the clusters have. Empty: no cluster says.
    pub fn cluster_platforms(&self) -> Vec<Platform> {
        let mut all: Vec<Platform> =
            self.clusters.iter().flat_map(|c| c.platforms.clone()).collect();
        all.sort();
        all.dedup();
        all
    }
}

/// One file as written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ConfigFile {
    pub larder: Option<Spanned<Larder>>,
    #[serde(default)]
    pub include: Vec<Spanned<String>>,
    #[serde(default)]
    pub upstream: Vec<UpstreamConfig>,
    #[serde(default)]
    pub shelf: Vec<ShelfConfig>,
    #[serde(default)]
    pub intake: Vec<Intake>,
    #[serde(default)]
    pub class: Vec<Class>,
    #[serde(default)]
    pub cluster: Vec<ClusterConfig>,
    pub parcel: Option<Spanned<ParcelConfig>>,
    #[serde(default)]
    pub account: Vec<AccountConfig>,
    #[serde(default)]
    pub rule: Vec<RawRule>,
    #[serde(default)]
    pub route: Vec<Route>,
    #[serde(default)]
    pub resource: Vec<Resource>,
    #[serde(default)]
    pub keep: Vec<Keep>,
    #[serde(default)]
    pub signer: Vec<SignerConfig>,
    pub trust: Option<Spanned<TrustConfig>>,
    #[serde(default)]
    pub notify: Vec<NotifyConfig>,
}

/// `[larder]`: the installation.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Larder {
    /// What it is called.
    #[serde(deserialize_with = "read_name")]
    pub name: String,
    /// How clusters reach it.
    pub url: OwnUrl,
    /// Other names, with their ports, by which clusters reach it too.
    #[serde(default)]
    pub aliases: Vec<Host>,
    /// Where it listens.
    #[serde(default = "default_listen")]
    pub listen: std::net::SocketAddr,
    /// The folder of the store, from the configuration's folder.
    #[serde(default = "default_data")]
    pub data: PathBuf,
    /// The object store that has the bytes. None: the folder has them.
    pub objects: Option<super::remote::ObjectsConfig>,
    /// The database server that has the records. None: the folder has them.
    pub records: Option<super::remote::RecordsConfig>,
    /// What a name without a registry stands for.
    #[serde(default)]
    pub unqualified: Unqualified,
    /// Who may pull and push.
    #[serde(default)]
    pub access: AccessMode,
    /// What anybody may pull.
    #[serde(default)]
    pub anonymous: Vec<Spanned<Pattern>>,
    /// How long the record of who did what is kept.
    #[serde(default = "default_record", deserialize_with = "read_span")]
    pub record: Duration,
    /// With which certificate it listens. None: plain HTTP.
    pub tls: Option<TlsFiles>,
    /// Where figures and health are told. None: health alone, where it serves.
    pub metrics: Option<std::net::SocketAddr>,
    /// Who stands before the larder: what they say of whom they forward is believed.
    #[serde(default)]
    pub proxies: Vec<larder_core::access::network::Network>,
    /// Whether `/metrics` is answered to accounts that sign in with a key, and to nobody else.
    #[serde(default)]
    pub metrics_key: bool,
    /// Whether it only serves: pushes and removals by clients are refused.
    #[serde(default)]
    pub read_only: bool,
    /// Bytes of the store's disk that are kept free.
    #[serde(default = "default_reserve", deserialize_with = "read_size")]
    pub reserve: u64,
    /// Whether the layers of images that are brought in are read for what is in them.
    #[serde(default = "default_inventory")]
    pub inventory: bool,
    /// What clients may take.
    #[serde(default)]
    pub limits: ClientLimits,
    /// Bytes that all cached shelves may take together. None: no limit.
    #[serde(default, deserialize_with = "read_limit")]
    pub cache_limit: Option<u64>,
    /// How long what is known of a cluster tells what it runs; afterwards all that it may pull counts as in use.
    #[serde(default = "default_in_use", deserialize_with = "read_span")]
    pub in_use: Duration,
    /// When `serve` tidies the shelves by itself. None: never.
    #[serde(default, deserialize_with = "read_schedule")]
    pub tidy: Option<Schedule>,
    /// What nodes are answered that ask for an upstream's image and do not say where they belong.
    #[serde(default)]
    pub strangers: Strangers,
}

impl Larder {
    /// Whether this is its name, or one of its other names.
    pub fn has_name(&self, host: &Host) -> bool {
        *host == self.url.host || self.aliases.contains(host)
    }
}

/// What a node is answered that does not say to which cluster it belongs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Strangers {
    /// What everybody is.
    #[default]
    Serve,
    /// 403.
    Refuse,
}

/// `tls`: the files of a certificate, from the configuration's folder.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TlsFiles {
    /// The certificate and those that lead to its authority, in PEM.
    pub cert: PathBuf,
    /// Its key, in PEM.
    pub key: PathBuf,
    /// The authorities of clients that may connect, in PEM. None: clients show no certificate.
    pub clients: Option<PathBuf>,
    /// The lists of certificates that these authorities have revoked, in PEM. None: none is asked.
    pub crl: Option<PathBuf>,
}

/// `limits`: what clients may take. What is left out has the usual bound.
#[derive(Debug, Clone, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ClientLimits {
    connections: Option<NonZeroUsize>,
    connections_per_client: Option<NonZeroUsize>,
    uploads_per_client: Option<NonZeroUsize>,
    #[serde(default, deserialize_with = "read_timeout")]
    header_time: Option<Duration>,
    #[serde(default, deserialize_with = "read_timeout")]
    stall: Option<Duration>,
}

impl ClientLimits {
    /// As the server has them.
    pub fn limits(&self) -> Limits {
        let usual = Limits::default();
        let or = |said: Option<NonZeroUsize>, usual: usize| said.map_or(usual, NonZeroUsize::get);
        Limits {
            connections: or(self.connections, usual.connections),
            connections_per_client: or(self.connections_per_client, usual.connections_per_client),
            uploads_per_client: or(self.uploads_per_client, usual.uploads_per_client),
            header_time: self.header_time.unwrap_or(usual.header_time),
            stall: self.stall.unwrap_or(usual.stall),
            ..usual
        }
    }
}

/// Who may pull and push.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum AccessMode {
    /// Who has a grant.
    #[default]
    Grants,
    /// Anyone who can connect; loopback only.
    Open,
}

/// The larder's own address, and the host that references to it have.
#[derive(Debug, Clone)]
pub struct OwnUrl {
    pub endpoint: Endpoint,
    /// The host with its port.
    pub host: Host,
}

impl<'de> Deserialize<'de> for OwnUrl {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let endpoint = Endpoint::deserialize(from)?;
        let host = endpoint.host().parse().map_err(D::Error::custom)?;
        let text = endpoint.to_string();
        let place = text.split_once("://").map_or(&*text, |(_, place)| place);
        if place.trim_end_matches('/').contains('/') {
            return Err(D::Error::custom(
                "the larder's own address has no path: references cannot name one",
            ));
        }
        Ok(Self { endpoint, host })
    }
}

/// `[[intake]]`: an image that we want.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Intake {
    pub image: Spanned<Image>,
    /// Which of its tags.
    #[serde(deserialize_with = "read_tags")]
    pub tags: Tags,
    #[serde(default, deserialize_with = "read_platforms")]
    pub platforms: Platforms,
    /// Whether an index is written anew with these platforms alone.
    #[serde(default)]
    pub trim: bool,
    /// Whether signatures, SBOMs and the like come with it.
    #[serde(default)]
    pub companions: bool,
    /// Where the content is fetched, in this order. Empty: where the image's name says.
    #[serde(default)]
    pub from: Vec<Image>,
    pub to: Spanned<Destination>,
}

impl Intake {
    /// What it asks of all its tags.
    pub fn wish(&self) -> TagWish<'_> {
        TagWish {
            image: self.image.get_ref(),
            tags: &self.tags,
            platforms: &self.platforms,
            trim: self.trim,
        }
    }

    /// Where the content is fetched, in this order.
    pub fn sources(&self) -> &[Image] {
        if self.from.is_empty() { std::slice::from_ref(self.image.get_ref()) } else { &self.from }
    }
}

/// `[[class]]`: where images come from, in the operator's words.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Class {
    pub name: String,
    /// Which images, as `host/repository`.
    pub r#match: Vec<Pattern>,
}

fn default_listen() -> std::net::SocketAddr {
    std::net::SocketAddr::from(([127, 0, 0, 1], 5080))
}

/// Enough for the ledger to record that something was removed.
fn default_inventory() -> bool {
    true
}

fn default_reserve() -> u64 {
    64 * 1024 * 1024
}

fn default_data() -> PathBuf {
    "larder-data".into()
}

fn default_record() -> Duration {
    Duration::from_secs(90 * 24 * 3600)
}

fn default_in_use() -> Duration {
    Duration::from_secs(30 * 24 * 3600)
}
