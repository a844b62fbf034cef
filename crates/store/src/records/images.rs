//! Where the images of which something is inside have their names, and which of them were not noted.

use std::collections::HashMap;

use larder_core::digest::Digest;
use larder_core::inventory::FACTS_FORM;
use larder_core::name::{RepositoryName, Tag};

use super::rows::{Cell, insert};
use super::{checked, unsigned};
use crate::clock::now;
use crate::error::StoreError;
use crate::sql::params;
use crate::store::Store;

/// What version 10 of the file has more than version 9: whether a noted manifest is an image at all, its system for people
/// with the last day on which that is mended, as it says itself, since when an advisory is known here, and since when it
/// is seen that a cluster runs something. 0: since before that was counted.
pub(super) const COLUMNS: &str = "
    ALTER TABLE inventories ADD COLUMN is_image BIGINT NOT NULL DEFAULT 1;
    ALTER TABLE inventories ADD COLUMN system_name TEXT NOT NULL DEFAULT '';
    ALTER TABLE inventories ADD COLUMN support_end TEXT NOT NULL DEFAULT '';
    ALTER TABLE advisories ADD COLUMN first_at BIGINT NOT NULL DEFAULT 0;
    ALTER TABLE sightings ADD COLUMN first BIGINT NOT NULL DEFAULT 0;
";

/// The same for a server that has version 9.
#[cfg(feature = "replicas")]
pub(super) const SERVER_STEP: &str = include_str!("postgres-10.sql");

/// How deep indexes in indexes are followed upwards.
const DEEPEST: i64 = 4;

/// A tag that leads to an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ImageHome {
    pub repository: RepositoryName,
    pub tag: Tag,
    /// What the tag points to: the image, or an index above it.
    pub top: Digest,
}

/// Tags whose images have a layer.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LayerSharers {
    pub count: u64,
    /// Some of them, sorted.
    pub some: Vec<(RepositoryName, Tag)>,
}

/// The system of an image. All empty: none was found.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Default)]
pub struct NotedSystem {
    /// As advisories name it: `Debian:12`. Empty: they have no name for it.
    pub release: String,
    /// For people.
    pub name: String,
    /// The last day on which it is mended, as it says itself. Empty: it does not.
    pub support_end: String,
}

/// What is known of an image that was noted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NotedImage {
    pub system: NotedSystem,
    /// Whether it is an image: it has layers of a type that is read.
    pub is_image: bool,
    /// Layers that had not been read when it was noted.
    pub unread: u64,
    /// What of the other layers could not be read.
    pub parts: u64,
}

impl NotedImage {
    /// Whether all of it was read.
    pub fn is_whole(&self) -> bool {
        self.unread == 0 && self.parts == 0
    }
}

fn form() -> i64 {
    i64::from(FACTS_FORM)
}

impl Store {
    /// At most `limit` manifests after `after`, sorted by digest, each with its bytes: those that were never noted, and
    /// those of which a layer was read since.
    pub async fn unnoted_after(
        &self,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<(Digest, Vec<u8>)>, StoreError> {
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT b.digest, b.body FROM bodies b WHERE b.digest IN
                   (SELECT DISTINCT m.digest FROM manifests m WHERE m.digest > $1 AND NOT EXISTS
                     (SELECT 1 FROM inventories v
                      WHERE v.manifest = m.digest AND v.form = $2 AND v.read_at > 0)
                    ORDER BY m.digest LIMIT $3)
                 ORDER BY b.digest",
                (after, form(), limit),
                |row| Ok((checked(row, 0)?, row.get(1)?)),
            )
            .await
    }

    /// Notes that manifests are no images, so that nobody looks at them again.
    pub async fn note_others(&self, manifests: Vec<Digest>) -> Result<(), StoreError> {
        self.records
            .jot(move |connection| {
                let rows: Vec<Vec<Cell>> = manifests
                    .iter()
                    .map(|digest| {
                        let mut row = vec![Cell::text(digest.as_str())];
                        row.extend([form(), now()].map(Cell::Integer));
                        row.push(Cell::text(""));
                        row.extend([0, 0, 0].map(Cell::Integer));
                        row
                    })
                    .collect();
                // What was noted in another form is noted anew.
                let mut old = connection
                    .prepare_cached("DELETE FROM inventories WHERE manifest = $1 AND form <> $2")?;
                for digest in &manifests {
                    old.execute(params![digest.as_str(), form()])?;
                }
                let columns =
                    "inventories (manifest, form, read_at, release, unread, parts, is_image)";
                insert(connection, columns, 7, &rows)
            })
            .await
    }

    /// The bytes of manifests. Those that are not here are left out.
    pub async fn bodies_of(
        &self,
        manifests: Vec<Digest>,
    ) -> Result<Vec<(Digest, Vec<u8>)>, StoreError> {
        self.records
            .read(move |connection| {
                let mut ask =
                    connection.prepare_cached("SELECT body FROM bodies WHERE digest = $1")?;
                let mut found = Vec::new();
                for digest in manifests {
                    let mut rows = ask.query(params![digest.as_str()])?;
                    let body: Option<Vec<u8>> = match &rows.next()? {
                        Some(row) => Some(row.get(0)?),
                        None => None,
                    };
                    found.extend(body.map(|body| (digest, body)));
                }
                Ok(found)
            })
            .await
    }

    /// The tags that lead to each of these manifests, by an index or not, sorted.
    pub async fn homes_of(
        &self,
        manifests: Vec<Digest>,
    ) -> Result<Vec<(Digest, Vec<ImageHome>)>, StoreError> {
        self.records
            .read(move |connection| {
                let mut ask = connection.prepare_cached(
                    "WITH RECURSIVE above (repository, digest, depth) AS (
                       SELECT repository, digest, CAST(0 AS BIGINT) FROM manifests WHERE digest = $1
                       UNION
                       SELECT n.repository, n.manifest, a.depth + 1 FROM above a
                         JOIN needs n ON n.target = a.digest AND +n.repository = a.repository
                         WHERE n.is_child = 1 AND a.depth < $2)
                     SELECT DISTINCT r.name, t.name, a.digest FROM above a CROSS JOIN tags t
                       JOIN repositories r ON r.id = a.repository
                     WHERE t.repository = a.repository AND t.digest = a.digest
                     ORDER BY 1, 2",
                )?;
                let mut found = Vec::new();
                for digest in manifests {
                    let mut homes = Vec::new();
                    let mut rows = ask.query(params![digest.as_str(), DEEPEST])?;
                    while let Some(row) = &rows.next()? {
                        let (repository, tag) = (checked(row, 0)?, checked(row, 1)?);
                        homes.push(ImageHome { repository, tag, top: checked(row, 2)? });
                    }
                    found.push((digest, homes));
                }
                Ok(found)
            })
            .await
    }

    /// The tags whose images have a layer, at most `limit` of them by name.
    pub async fn sharers_of(
        &self,
        layer: &Digest,
        limit: usize,
    ) -> Result<LayerSharers, StoreError> {
        let layer = layer.to_string();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .read(move |connection| {
                const WITH: &str = "WITH RECURSIVE above (repository, digest, depth) AS (
                       SELECT repository, manifest, CAST(0 AS BIGINT) FROM needs
                         WHERE target = $1 AND is_child = 0
                       UNION
                       SELECT n.repository, n.manifest, a.depth + 1 FROM above a
                         JOIN needs n ON n.target = a.digest AND +n.repository = a.repository
                         WHERE n.is_child = 1 AND a.depth < $2)";
                // In this order, and by the target: a repository's needs, and all tags, are many more.
                const TAGS: &str = "above a CROSS JOIN tags t";
                const OF: &str = "t.repository = a.repository AND t.digest = a.digest";
                let count = connection
                    .prepare_cached(&format!(
                        "{WITH} SELECT COUNT(*) FROM (SELECT DISTINCT t.repository, t.name FROM {TAGS} WHERE {OF}) x"
                    ))?
                    .query_row(params![layer, DEEPEST], |row| unsigned(row, 0))?;
                let some = connection
                    .prepare_cached(&format!(
                        "{WITH} SELECT DISTINCT r.name, t.name FROM {TAGS}
                           JOIN repositories r ON r.id = a.repository WHERE {OF} ORDER BY 1, 2 LIMIT $3"
                    ))?
                    .query_map(params![layer, DEEPEST, limit], |row| {
                        Ok((checked(row, 0)?, checked(row, 1)?))
                    })?
                    .collect::<crate::sql::Result<_>>()?;
                Ok(LayerSharers { count, some })
            })
            .await
    }

    /// The tags of a repository, each with what it points to and all manifests below that, itself first.
    pub async fn tagged_manifests(
        &self,
        repository: &RepositoryName,
    ) -> Result<Vec<(Tag, Vec<Digest>)>, StoreError> {
        let name = repository.to_string();
        self.records
            .read(move |connection| {
                let mut below: HashMap<Digest, Vec<Digest>> = HashMap::new();
                let mut children = connection.prepare_cached(
                    "SELECT n.manifest, n.target FROM needs n JOIN repositories r ON r.id = n.repository
                     WHERE r.name = $1 AND n.is_child = 1",
                )?;
                let mut rows = children.query(params![name])?;
                while let Some(row) = &rows.next()? {
                    below.entry(checked(row, 0)?).or_default().push(checked(row, 1)?);
                }
                let mut tags = connection.prepare_cached(
                    "SELECT t.name, t.digest FROM tags t JOIN repositories r ON r.id = t.repository
                     WHERE r.name = $1 ORDER BY t.name",
                )?;
                let mut rows = tags.query(params![name])?;
                let mut found = Vec::new();
                while let Some(row) = &rows.next()? {
                    let (tag, digest) = (checked(row, 0)?, checked(row, 1)?);
                    let mut all: Vec<Digest> = vec![digest];
                    let mut at = 0;
                    while let Some(children) = all.get(at).map(|one| below.get(one)) {
                        at += 1;
                        for child in children.into_iter().flatten() {
                            if !all.contains(child) {
                                all.push(child.clone());
                            }
                        }
                    }
                    found.push((tag, all));
                }
                Ok(found)
            })
            .await
    }

    /// What was noted of each of these manifests. Those that never were are left out.
    pub async fn noted(
        &self,
        manifests: Vec<Digest>,
    ) -> Result<Vec<(Digest, NotedImage)>, StoreError> {
        self.records
            .read(move |connection| {
                let mut ask = connection.prepare_cached(
                    "SELECT is_image, unread, parts, release, system_name, support_end FROM inventories
                     WHERE manifest = $1 AND form = $2",
                )?;
                let mut found = Vec::new();
                for digest in manifests {
                    let mut rows = ask.query(params![digest.as_str(), form()])?;
                    if let Some(row) = &rows.next()? {
                        let is_image = row.get::<i64>(0)? != 0;
                        let (unread, parts) = (unsigned(row, 1)?, unsigned(row, 2)?);
                        let system = NotedSystem {
                            release: row.get(3)?,
                            name: row.get(4)?,
                            support_end: row.get(5)?,
                        };
                        found.push((digest, NotedImage { system, is_image, unread, parts }));
                    }
                }
                Ok(found)
            })
            .await
    }

    /// The systems of images that were noted, each once.
    pub async fn noted_systems(&self) -> Result<Vec<NotedSystem>, StoreError> {
        self.records
            .rows(
                "SELECT DISTINCT release, system_name, support_end FROM inventories
                 WHERE is_image = 1 AND system_name <> '' ORDER BY 1, 2, 3",
                (),
                |row| {
                    Ok(NotedSystem {
                        release: row.get(0)?,
                        name: row.get(1)?,
                        support_end: row.get(2)?,
                    })
                },
            )
            .await
    }

    /// The images of a system, at most `limit` of them, sorted by digest.
    pub async fn images_of(
        &self,
        system: &NotedSystem,
        limit: usize,
    ) -> Result<Vec<Digest>, StoreError> {
        let NotedSystem { release, name, support_end } = system.clone();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT manifest FROM inventories WHERE is_image = 1 AND release = $1
                   AND system_name = $2 AND support_end = $3 ORDER BY manifest LIMIT $4",
                (release, name, support_end, limit),
                |row| checked(row, 0),
            )
            .await
    }

    /// The images that were noted and not read whole, at most `limit` of them, and how many there are.
    pub async fn not_whole(&self, limit: usize) -> Result<(u64, Vec<Digest>), StoreError> {
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .read(move |connection| {
                let count = connection
                    .prepare_cached(
                        "SELECT COUNT(*) FROM inventories v WHERE (unread > 0 OR parts > 0 OR form <> $1)
                           AND EXISTS (SELECT 1 FROM manifests m WHERE m.digest = v.manifest)",
                    )?
                    .query_row(params![form()], |row| unsigned(row, 0))?;
                let some = connection
                    .prepare_cached(
                        "SELECT manifest FROM inventories v WHERE (unread > 0 OR parts > 0 OR form <> $1)
                           AND EXISTS (SELECT 1 FROM manifests m WHERE m.digest = v.manifest)
                         ORDER BY manifest LIMIT $2",
                    )?
                    .query_map(params![form(), limit], |row| checked(row, 0))?
                    .collect::<crate::sql::Result<_>>()?;
                Ok((count, some))
            })
            .await
    }
}
