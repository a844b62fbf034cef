//! What every command works with: the configuration, the lock, the store, the output.

use std::borrow::Cow;
use std::fs;
use std::path::{Path, PathBuf};

use larder_core::digest::{Digest, DigestStart};
use larder_core::lock::{Lock, LockError};
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::{MalformedReference, Reading, Reference, Unqualified};
pub use larder_store::now;
use larder_store::{Store, StoreError};
use larder_transfer::Own;
pub use larder_transfer::files::shown;

use crate::config::{self, Config, Provenance, SharedStore};
use crate::failure::{Exit, Failure};
use crate::output::Output;

/// What every command works with.
pub struct Context {
    named: Option<PathBuf>,
    /// Whether a store is made where there is none.
    new_store: bool,
    /// Where it writes.
    pub output: Output,
}

impl Context {
    /// With the configuration file that was named, if one was.
    pub fn new(named: Option<PathBuf>, new_store: bool, output: Output) -> Self {
        Self { named, new_store, output }
    }

    fn load(&self, path: &Path) -> Result<Config, Failure> {
        let mut config = config::load(path, self.provenance())?;
        config.new_store = self.new_store;
        Ok(config)
    }

    /// The path of the configuration: the one that was named, or the one that is found.
    pub fn config_path(&self) -> Result<PathBuf, Failure> {
        match &self.named {
            Some(path) => Ok(path.clone()),
            None => {
                let here = std::env::current_dir()
                    .map_err(|error| Failure::io("cannot tell where we are", &error))?;
                config::find(&here)
            }
        }
    }

    fn provenance(&self) -> Provenance {
        if self.named.is_some() { Provenance::Named } else { Provenance::Found }
    }

    /// The configuration.
    pub fn config(&self) -> Result<Config, Failure> {
        self.load(&self.config_path()?)
    }

    /// The configuration, for commands that work without one too. None: none was named, and none
    /// is here.
    pub fn config_if_any(&self) -> Result<Option<Config>, Failure> {
        match (self.config_path(), &self.named) {
            (Ok(path), _) => self.load(&path).map(Some),
            (Err(failure), Some(_)) => Err(failure),
            (Err(_), None) => Ok(None),
        }
    }
}

/// Reads a reference as the configuration writes short names out.
pub fn read_reference(text: &str, config: Option<&Config>) -> Result<Reading, MalformedReference> {
    let default = Unqualified::default();
    Reference::read(text, config.map_or(&default, |config| &config.larder.unqualified))
}

/// The same for a reference that the operator typed: one that cannot be read ends the command.
pub fn reference(text: &str, config: Option<&Config>) -> Result<Reference, Failure> {
    let reading = read_reference(text, config).map_err(|malformed| {
        let meant = malformed.proposal.as_ref().map(|meant| format!("write {meant}"));
        let remedy = meant.or_else(|| {
            let version = text.replace('+', "_");
            let reads = version != text && read_reference(&version, config).is_ok();
            reads.then(|| {
                format!("write {version}: where a chart's version has `+`, its tag has `_`")
            })
        });
        let what = format!("cannot read the reference `{}`", text.escape_debug());
        Failure::usage(what, &malformed.reason, remedy.unwrap_or_default())
    })?;
    Ok(reading.reference)
}

/// The same where `bazaar/library/kettle:2` may name what lies on one of the larder's cached shelves.
pub fn reference_on_shelf(text: &str, config: &Config) -> Result<Reference, Failure> {
    let first = text.split(['/', ':', '@']).next().unwrap_or_default();
    match config.cached_shelf(first) {
        Some(_) => reference(&format!("{}/{text}", config.larder.url.host), Some(config)),
        None => reference(text, Some(config)),
    }
}

/// The same where `vendor/steamgauge:1.9.2` may name what lies on any of the larder's shelves.
pub fn reference_here(text: &str, config: &Config) -> Result<Reference, Failure> {
    let first = text.split(['/', ':', '@']).next().unwrap_or_default();
    match config.storing_shelves().iter().any(|shelf| shelf == first) {
        true => reference(&format!("{}/{text}", config.larder.url.host), Some(config)),
        false => reference_on_shelf(text, config),
    }
}

/// A text with its digest in full, where it names something that this larder holds by a digest as short as it is shown.
/// Any other text stays as it is: whoever reads it says what is wrong with it.
pub async fn with_whole_digest<'t>(
    text: &'t str,
    config: Option<&Config>,
) -> Result<Cow<'t, str>, Failure> {
    let as_it_is = Ok(Cow::Borrowed(text));
    let (Some(config), Some((image, digest))) = (config, text.rsplit_once('@')) else {
        return as_it_is;
    };
    let short = digest.parse::<DigestStart>().ok().filter(|start| start.whole().is_none());
    let own = image
        .split_once('/')
        .filter(|(host, _)| host.parse().is_ok_and(|host| config.larder.has_name(&host)));
    let repository = own.map_or(image, |(_, rest)| rest).split(':').next().unwrap_or_default();
    let repository = repository.parse::<RepositoryName>().ok().filter(|name| {
        let shelves = config.storing_shelves();
        own.is_some() || shelves.iter().any(|shelf| shelf == name.first_component())
    });
    let (Some(short), Some(repository)) = (short, repository) else { return as_it_is };
    let Some(store) = store_if_any(config)? else { return as_it_is };
    let what = || format!("cannot tell what {} is", larder_core::shown::shown(text));
    let held = store.holdings(vec![repository]).await;
    let held = held.map_err(|error| Failure::store(what(), &error))?;
    let whole = short.only_of(held.manifests.iter().map(|row| &row.digest)).map_err(|error| {
        let remedy = "`larder shelf show SHELF --untagged` shows what there is";
        Failure::usage(what(), error, remedy).ending(Exit::No)
    })?;
    Ok(Cow::Owned(format!("{image}@{whole}")))
}

/// The lock of a configuration. One that is not there yet is empty.
pub fn read_lock(config: &Config) -> Result<Lock, Failure> {
    let path = config.lock_path();
    let text = match fs::read_to_string(&path) {
        Ok(text) => text,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Lock::default()),
        Err(error) => {
            return Err(Failure::io(
                format!("cannot read {}", larder_transfer::files::named(&path)),
                &error,
            ));
        }
    };
    Lock::read(&text).map_err(|error| {
        let line = match &error {
            LockError::Shape { at, .. } => text.get(..*at).unwrap_or_default().matches('\n').count() + 1,
            _ => 1,
        };
        let what = format!("{}:{line} cannot be used", larder_transfer::files::named(&path));
        Failure::usage(what, &error, "take the version before from your version control, or write it anew with `larder intake lock`")
    })
}

/// That there is a store, or that one may be made: a disk that is not mounted must not look like an empty larder.
pub fn check_store(config: &Config) -> Result<(), Failure> {
    match config.new_store || has_store(config)? {
        true => Ok(()),
        false => Err(no_store(config)),
    }
}

/// Whether there is a store.
pub fn has_store(config: &Config) -> Result<bool, Failure> {
    match config.shared_store()? {
        None => Ok(Store::is_local(&config.data())),
        Some(SharedStore { server, .. }) => Store::has_records(&server)
            .map_err(|error| Failure::store("cannot reach the larder's records", &error)),
    }
}

/// There is no store.
pub fn no_store(config: &Config) -> Failure {
    let folder = config.data();
    if config.larder.records.is_some() {
        let remedy = "check `records` in larder.toml; a new store is made by `larder serve` and by commands that fill it, with `--new-store`";
        let cause = "the database has no store in it";
        return Failure::usage("cannot open the larder's store", cause, remedy);
    }
    let what =
        format!("cannot open the larder's store in {}", larder_transfer::files::named(&folder));
    let remedy = "check that its disk is there; a new store is made by `larder init`, or by a command that fills it, with `--new-store`";
    Failure::usage(what, "there is no store in it", remedy)
}

/// Refuses to write as root into a store that another user's service reads: what root makes there is closed to it.
pub fn check_owner(folder: &Path) -> Result<(), Failure> {
    let owner = Store::owner(folder).filter(|owner| *owner != 0);
    let is_root = rustix::process::geteuid().is_root();
    let Some(owner) = owner.filter(|_| is_root) else { return Ok(()) };
    let what =
        format!("cannot open the larder's store in {}", larder_transfer::files::named(folder));
    let cause = format!(
        "it belongs to the user with the number {owner}, who could not read what root puts there"
    );
    let remedy = format!(
        "run it as that user: `setpriv --reuid={owner} --clear-groups larder …`, or `runuser -u larder -- larder …` where the package made the user larder"
    );
    Err(Failure::usage(what, cause, remedy))
}

/// Opens the larder's store.
pub fn open_store(config: &Config) -> Result<Store, Failure> {
    check_store(config)?;
    check_owner(&config.data())?;
    let folder = config.data();
    let what = || match config.larder.records {
        Some(_) => "cannot open the larder's store".to_owned(),
        None => {
            format!("cannot open the larder's store in {}", larder_transfer::files::named(&folder))
        }
    };
    let opened = match config.shared_store()? {
        None => Store::open_local(&folder),
        Some(SharedStore { server, bucket }) => Store::open_remote(&folder, Some(server), &bucket),
    };
    let store = opened.map_err(|error| Failure::store(what(), &error))?;
    store.set_quotas(config.quotas());
    Ok(store.with_reserve(config.larder.reserve))
}

/// A repository of the larder's store as an end of a move, with the tags of its shelf that do not move.
pub fn own(store: Store, config: &Config, repository: RepositoryName) -> Own {
    let immutable = config.immutable_tags(repository.first_component());
    Own::new(store, repository).holding(immutable)
}

/// Opens the larder's store for reading. None: nothing was ever stored.
pub fn store_if_any(config: &Config) -> Result<Option<Store>, Failure> {
    if has_store(config)? { open_store(config).map(Some) } else { Ok(None) }
}

/// Opens the larder's store, which must be there: nothing can be said of one that nobody has begun.
pub fn store_here(config: &Config) -> Result<Store, Failure> {
    store_if_any(config)?.ok_or_else(|| no_store(config))
}

/// Every tag of a store, and what it points to: for what has to be asked of each of them.
pub async fn every_tag(store: &Store) -> Result<Vec<(RepositoryName, Tag, Digest)>, StoreError> {
    const PAGE: usize = 10_000;
    let mut all: Vec<(RepositoryName, Tag, Digest)> = Vec::new();
    loop {
        let after = all.last().map(|(name, tag, _)| (name.clone(), tag.clone()));
        let page = store.tags_after(after.as_ref(), PAGE).await?;
        if page.is_empty() {
            return Ok(all);
        }
        all.extend(page);
    }
}
