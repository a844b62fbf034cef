//! What is inside the images that are held: the facts of their layers, each read once.

use std::collections::HashMap;
use std::sync::Arc;

use larder_core::digest::Digest;
use larder_core::inventory::{FACTS_FORM, LayerFacts};

use crate::clock::now;
use crate::error::StoreError;
use crate::sql::{Optional as _, params};
use crate::store::Store;

/// What version 9 of the file has more than version 8.
///
/// - `layer_facts`: what is known of a layer's content, by its digest; it goes with the content.
/// - `packages`: each package that any image has, once, by the name and version that advisories use. `release` is the
///   system that it belongs to; empty: it is of a language.
/// - `inventories`: the images whose packages are in `image_packages`. `unread` counts layers that were not read yet,
///   `parts` what of the others could not be read.
/// - `feeds`, `advisories`, `advisory_aliases`, `advisory_names`, `statements`: what was published, as it was imported.
/// - `findings`: which advisory is about which package.
pub(super) const TABLES: &str = "
    CREATE TABLE layer_facts (
        digest TEXT PRIMARY KEY, form BIGINT NOT NULL, read_at BIGINT NOT NULL, facts BLOB NOT NULL
    );
    CREATE TABLE packages (
        id INTEGER PRIMARY KEY, kind TEXT NOT NULL, name TEXT NOT NULL, release TEXT NOT NULL,
        version TEXT NOT NULL, UNIQUE (kind, name, release, version)
    );
    CREATE TABLE inventories (
        id INTEGER PRIMARY KEY, manifest TEXT NOT NULL UNIQUE, form BIGINT NOT NULL,
        read_at BIGINT NOT NULL, release TEXT NOT NULL, unread BIGINT NOT NULL, parts BIGINT NOT NULL
    );
    CREATE TABLE image_packages (
        package BIGINT NOT NULL, image BIGINT NOT NULL, layer BIGINT NOT NULL,
        PRIMARY KEY (package, image)
    ) WITHOUT ROWID;
    CREATE INDEX image_packages_by_image ON image_packages (image);
    CREATE TABLE feeds (
        name TEXT PRIMARY KEY, origin TEXT NOT NULL, digest TEXT NOT NULL, imported_at BIGINT NOT NULL,
        newest BIGINT NOT NULL, advisories BIGINT NOT NULL, unmatched BIGINT NOT NULL, trusted BIGINT NOT NULL
    ) WITHOUT ROWID;
    CREATE TABLE advisories (
        id INTEGER PRIMARY KEY, feed TEXT NOT NULL, name TEXT NOT NULL, modified BIGINT NOT NULL,
        severity BIGINT NOT NULL, taken_at BIGINT NOT NULL, body BLOB NOT NULL, UNIQUE (name, feed)
    );
    CREATE INDEX advisories_by_feed ON advisories (feed);
    CREATE TABLE advisory_aliases (
        alias TEXT NOT NULL, advisory BIGINT NOT NULL, PRIMARY KEY (alias, advisory)
    ) WITHOUT ROWID;
    CREATE TABLE advisory_names (
        kind TEXT NOT NULL, name TEXT NOT NULL, advisory BIGINT NOT NULL,
        PRIMARY KEY (kind, name, advisory)
    ) WITHOUT ROWID;
    CREATE TABLE findings (
        advisory BIGINT NOT NULL, package BIGINT NOT NULL, verdict BIGINT NOT NULL, fixed TEXT NOT NULL,
        PRIMARY KEY (advisory, package)
    ) WITHOUT ROWID;
    CREATE INDEX findings_by_package ON findings (package);
    CREATE TABLE statements (
        id INTEGER PRIMARY KEY, feed TEXT NOT NULL, vulnerability TEXT NOT NULL, taken_at BIGINT NOT NULL, body BLOB NOT NULL
    );
    CREATE INDEX statements_by_vulnerability ON statements (vulnerability);
    CREATE INDEX statements_by_feed ON statements (feed);
    CREATE TRIGGER layer_facts_gone AFTER DELETE ON contents BEGIN
        DELETE FROM layer_facts WHERE digest = OLD.digest;
    END;
";

/// The same for a server that has version 8.
#[cfg(feature = "replicas")]
pub(super) const SERVER_STEP: &str = include_str!("postgres-9.sql");

/// How many are asked for at once.
const TOGETHER: usize = 500;

impl Store {
    /// What is known of layers, of those that have been read. What another version of the program has noted in a form
    /// that this one does not know is not known.
    pub async fn layer_facts(
        &self,
        layers: &[Digest],
    ) -> Result<HashMap<Digest, Arc<LayerFacts>>, StoreError> {
        let mut known = HashMap::new();
        for some in layers.chunks(TOGETHER) {
            let asked = some.to_vec();
            let found: Vec<(Digest, Vec<u8>)> = self
                .records
                .read(move |connection| {
                    let mut ask = connection.prepare_cached(
                        "SELECT facts FROM layer_facts WHERE digest = $1 AND form = $2",
                    )?;
                    let mut found = Vec::new();
                    for digest in asked {
                        let form = i64::from(FACTS_FORM);
                        let facts: Option<Vec<u8>> = ask
                            .query_row(params![digest.as_str(), form], |row| row.get(0))
                            .optional()?;
                        found.extend(facts.map(|facts| (digest, facts)));
                    }
                    Ok(found)
                })
                .await?;
            known.extend(found.into_iter().filter_map(|(digest, facts)| {
                Some((digest, Arc::new(LayerFacts::unpack(&facts)?)))
            }));
        }
        Ok(known)
    }

    /// Keeps what is known of a layer, for as long as its content is here. False: it is not.
    pub async fn keep_layer_facts(
        &self,
        layer: &Digest,
        facts: &LayerFacts,
    ) -> Result<bool, StoreError> {
        let (digest, packed) = (layer.clone(), facts.pack());
        self.records
            .jot(move |connection| {
                let is_here = connection
                    .prepare_cached("SELECT 1 FROM contents WHERE digest = $1")?
                    .exists(params![digest.as_str()])?;
                if is_here {
                    connection
                        .prepare_cached(
                            "INSERT INTO layer_facts (digest, form, read_at, facts)
                             VALUES ($1, $2, $3, $4)
                             ON CONFLICT (digest) DO UPDATE SET form = excluded.form,
                               read_at = excluded.read_at, facts = excluded.facts",
                        )?
                        .execute(params![digest.as_str(), i64::from(FACTS_FORM), now(), packed])?;
                    // Images that were noted without it are looked at once more.
                    connection
                        .prepare_cached(
                            "UPDATE inventories SET read_at = 0 WHERE unread > 0 AND manifest IN
                               (SELECT n.manifest FROM needs n WHERE n.target = $1)",
                        )?
                        .execute(params![digest.as_str()])?;
                }
                Ok(is_here)
            })
            .await
    }

    /// Which of these layers have not been read in the form that this program knows.
    pub async fn unread_layers(&self, layers: Vec<Digest>) -> Result<Vec<Digest>, StoreError> {
        self.records
            .read(move |connection| {
                let mut ask = connection
                    .prepare_cached("SELECT 1 FROM layer_facts WHERE digest = $1 AND form = $2")?;
                let mut unread = Vec::new();
                for digest in layers {
                    if !ask.exists(params![digest.as_str(), i64::from(FACTS_FORM)])? {
                        unread.push(digest);
                    }
                }
                Ok(unread)
            })
            .await
    }
}
