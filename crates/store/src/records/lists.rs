//! Lists of what is held, page by page.

use crate::sql::{Optional as _, params};
use larder_core::digest::{Digest, DigestStart};
use larder_core::name::{RepositoryName, Tag};

use super::ledger::manifest_record;
use super::{checked, unsigned};
use crate::error::StoreError;
use crate::ledger::{HeldTag, Totals};
use crate::store::Store;

impl Store {
    /// At most `limit` repositories after `after` that have a manifest.
    pub async fn repositories(
        &self,
        after: Option<&RepositoryName>,
        limit: usize,
    ) -> Result<Vec<RepositoryName>, StoreError> {
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT name FROM repositories r WHERE name > $1 AND manifests > 0
                         ORDER BY name LIMIT $2",
                (after, limit),
                |row| checked(row, 0),
            )
            .await
    }

    /// At most `limit` digests of what is held, manifests too, that begin so; sorted.
    pub async fn digests_beginning(
        &self,
        start: &DigestStart,
        limit: usize,
    ) -> Result<Vec<Digest>, StoreError> {
        // `g` comes right after the last hexadecimal digit.
        let (from, end) = (start.as_str().to_owned(), format!("{start}g"));
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT digest FROM contents WHERE digest >= $1 AND digest < $2
                         UNION SELECT digest FROM bodies WHERE digest >= $1 AND digest < $2
                         ORDER BY digest LIMIT $3",
                (from, end, limit),
                |row| checked(row, 0),
            )
            .await
    }

    /// The tags that point to a manifest of a repository, sorted.
    pub async fn tags_of(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Vec<Tag>, StoreError> {
        self.records
            .rows(
                "SELECT t.name FROM tags t JOIN repositories r ON r.id = t.repository
                 WHERE r.name = $1 AND t.digest = $2 ORDER BY t.name",
                (repository.to_string(), digest.to_string()),
                |row| checked(row, 0),
            )
            .await
    }

    /// How much is recorded.
    pub async fn totals(&self) -> Result<Totals, StoreError> {
        self.records
            .read(|connection| {
                connection.query_row(
                    "SELECT repositories, tags, manifests, blobs, bytes FROM totals WHERE shelf = ''",
                    [],
                    |row| {
                        Ok(Totals {
                            repositories: unsigned(row, 0)?,
                            tags: unsigned(row, 1)?,
                            manifests: unsigned(row, 2)?,
                            blobs: unsigned(row, 3)?,
                            bytes: unsigned(row, 4)?,
                        })
                    },
                )
            })
            .await
    }

    /// All tags of a repository and of those below it, with what they hold.
    pub async fn held(&self, prefix: &RepositoryName) -> Result<Vec<HeldTag>, StoreError> {
        let (name, below, end) = super::shelves::range(prefix);
        self.records
            .rows(
                "SELECT m.digest, m.media_type, m.size, r.name, t.name, t.since, m.volume
                         FROM repositories r JOIN tags t ON t.repository = r.id
                         JOIN manifests m ON m.repository = t.repository AND m.digest = t.digest
                         WHERE r.name = $1 OR (r.name >= $2 AND r.name < $3)
                         ORDER BY r.name, t.name",
                (name, below, end),
                |row| {
                    Ok(HeldTag {
                        manifest: manifest_record(row)?,
                        repository: checked(row, 3)?,
                        tag: checked(row, 4)?,
                        since: row.get(5)?,
                        content: unsigned(row, 6)?,
                    })
                },
            )
            .await
    }

    /// At most `limit` tags of all repositories and what they point to, sorted, after `after`.
    pub async fn tags_after(
        &self,
        after: Option<&(RepositoryName, Tag)>,
        limit: usize,
    ) -> Result<Vec<(RepositoryName, Tag, Digest)>, StoreError> {
        let (name, tag) =
            after.map(|(name, tag)| (name.to_string(), tag.to_string())).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT r.name, t.name, t.digest FROM repositories r
                         JOIN tags t ON t.repository = r.id
                         WHERE r.name >= $1 AND (r.name > $1 OR t.name > $2)
                         ORDER BY r.name, t.name LIMIT $3",
                (name, tag, limit),
                |row| Ok((checked(row, 0)?, checked(row, 1)?, checked(row, 2)?)),
            )
            .await
    }

    /// What each of some tags points to; those that are not there are left out.
    pub async fn tags_named(
        &self,
        wanted: Vec<(RepositoryName, Tag)>,
    ) -> Result<Vec<(RepositoryName, Tag, Digest)>, StoreError> {
        self.records
            .read(move |connection| {
                let mut query = connection.prepare_cached(
                    "SELECT t.digest FROM tags t JOIN repositories r ON r.id = t.repository
                     WHERE r.name = $1 AND t.name = $2",
                )?;
                let mut found = Vec::new();
                for (name, tag) in wanted {
                    let digest = query
                        .query_row(params![name.as_str(), tag.as_str()], |row| checked(row, 0))
                        .optional()?;
                    found.extend(digest.map(|digest| (name, tag, digest)));
                }
                Ok(found)
            })
            .await
    }

    /// At most `limit` digests after `after` of what some repository has, as a blob or as a manifest, sorted.
    pub async fn digests_after(
        &self,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<Digest>, StoreError> {
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT digest FROM contents WHERE links > 0 AND digest > $1
                 UNION SELECT digest FROM bodies WHERE digest > $1 ORDER BY digest LIMIT $2",
                (after, limit),
                |row| checked(row, 0),
            )
            .await
    }
}

/// The images of a repository without what they are made of.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct ImageNames {
    /// Its tags, sorted, each with what it points to.
    pub tags: Vec<(Tag, Digest)>,
    /// Of the contents that were asked about: what an index lists, and the index.
    pub parents: Vec<(Digest, Digest)>,
    /// Manifests without a tag that nothing lists and that are about no other, as far as they were asked for.
    pub untagged: Vec<Digest>,
}

impl Store {
    /// The images of a repository, and which of them list some contents. With `untagged` also those without a tag.
    pub async fn image_names(
        &self,
        repository: &RepositoryName,
        contents: Vec<Digest>,
        untagged: bool,
    ) -> Result<ImageNames, StoreError> {
        let name = repository.clone();
        self.records
            .read(move |connection| {
                let id: Option<i64> = connection
                    .prepare_cached("SELECT id FROM repositories WHERE name = $1")?
                    .query_row(params![name.as_str()], |row| row.get(0))
                    .optional()?;
                let Some(id) = id else { return Ok(ImageNames::default()) };
                let tags = connection
                    .prepare_cached("SELECT name, digest FROM tags WHERE repository = $1 ORDER BY name")?
                    .query_map(params![id], |row| Ok((checked(row, 0)?, checked(row, 1)?)))?
                    .collect::<crate::sql::Result<_>>()?;
                let mut names = ImageNames { tags, ..ImageNames::default() };
                let mut above = connection.prepare_cached(
                    "SELECT manifest FROM needs WHERE target = $1 AND repository = $2 AND is_child = 1",
                )?;
                for content in contents {
                    let parents = above.query_map(params![content.as_str(), id], |row| checked(row, 0))?;
                    for parent in parents {
                        names.parents.push((content.clone(), parent?));
                    }
                }
                if untagged {
                    names.untagged = connection
                        .prepare_cached(
                            "SELECT m.digest FROM manifests m
                             WHERE m.repository = $1 AND m.tags = 0 AND m.subject IS NULL
                             AND NOT EXISTS (SELECT 1 FROM needs n WHERE n.target = m.digest
                               AND n.repository = m.repository AND n.is_child = 1)",
                        )?
                        .query_map(params![id], |row| checked(row, 0))?
                        .collect::<crate::sql::Result<_>>()?;
                }
                Ok(names)
            })
            .await
    }
}
