//! Taking records away, in SQLite.

use std::collections::{BTreeSet, HashMap};

use crate::sql::{Connection, Optional as _, params};
use larder_core::companion;
use larder_core::digest::Digest;
use larder_core::document::{Document, media_type};
use larder_core::holdings::DropPlan;
use larder_core::name::{RepositoryName, Tag};
use larder_core::reference::Selector;

use super::{TouchedNames, any, checked};
use crate::clock::now;
use crate::error::StoreError;
use crate::ledger::{Demand, NewManifest};
use crate::record::RecordEntry;
use crate::store::{Store, new_manifest};
use crate::upkeep::{DropOutcome, Removal, Withdrawn};

/// What version 3 of the file has more than version 2.
pub(super) const COLUMNS: &str = "
    ALTER TABLE blobs ADD COLUMN idle BIGINT NOT NULL DEFAULT 0;
    UPDATE blobs SET idle = CAST(strftime('%s', 'now') AS BIGINT) * 1000;
    CREATE INDEX manifests_by_digest ON manifests (digest);
    CREATE INDEX tags_by_digest ON tags (repository, digest);
";
/// Blobs that are taken from their repositories in one change: each holds up other writers.
const TOGETHER: i64 = 1000;

pub(super) fn known_repository(
    connection: &Connection,
    name: &str,
) -> crate::sql::Result<Option<i64>> {
    connection
        .prepare_cached("SELECT id FROM repositories WHERE name = $1")?
        .query_row(params![name], |row| row.get(0))
        .optional()
}

/// The manifests of a repository that need something.
pub(super) fn needed_by(
    connection: &Connection,
    repository: i64,
    target: &Digest,
    as_child: bool,
) -> crate::sql::Result<Vec<Digest>> {
    connection
        .prepare_cached(
            "SELECT manifest FROM needs WHERE target = $1 AND repository = $2 AND is_child = $3",
        )?
        .query_map(params![target.as_str(), repository, i64::from(as_child)], |row| {
            checked(row, 0)
        })?
        .collect()
}

/// Takes a manifest's own records away. Blobs that it needed begin to be idle.
pub(super) fn forget_manifest(
    connection: &Connection,
    repository: i64,
    digest: &Digest,
) -> crate::sql::Result<()> {
    let parameters = params![repository, digest.as_str()];
    connection
        .prepare_cached(
            "UPDATE blobs SET idle = $1 WHERE repository = $2 AND digest IN
               (SELECT target FROM needs WHERE repository = $2 AND manifest = $3 AND is_child = 0)",
        )?
        .execute(params![now(), repository, digest.as_str()])?;
    connection
        .prepare_cached("DELETE FROM needs WHERE repository = $1 AND manifest = $2")?
        .execute(parameters)?;
    connection
        .prepare_cached("DELETE FROM uses WHERE repository = $1 AND digest = $2")?
        .execute(parameters)?;
    connection
        .prepare_cached("DELETE FROM manifests WHERE repository = $1 AND digest = $2")?
        .execute(parameters)?;
    Ok(())
}

fn remove_manifest(
    connection: &Connection,
    name: &RepositoryName,
    digest: &Digest,
) -> crate::sql::Result<Removal<Vec<Tag>>> {
    let Some(repository) = known_repository(connection, name.as_str())? else {
        return Ok(Removal::NotThere);
    };
    let parameters = params![repository, digest.as_str()];
    let there = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
    if !any(connection, there, parameters)? {
        return Ok(Removal::NotThere);
    }
    let parents = needed_by(connection, repository, digest, true)?;
    if !parents.is_empty() {
        return Ok(Removal::Needed(parents));
    }
    let tags = connection
        .prepare_cached("DELETE FROM tags WHERE repository = $1 AND digest = $2 RETURNING name")?
        .query_map(parameters, |row| checked(row, 0))?
        .collect::<crate::sql::Result<_>>()?;
    forget_manifest(connection, repository, digest)?;
    Ok(Removal::Done(tags))
}

fn drop_planned(connection: &Connection, plan: &DropPlan) -> crate::sql::Result<DropOutcome> {
    let mut dropped = DropOutcome::default();
    for (name, tag, digest) in &plan.tags {
        let Some(repository) = known_repository(connection, name.as_str())? else { continue };
        let gone = connection
            .prepare_cached("DELETE FROM tags WHERE repository = $1 AND name = $2 AND digest = $3")?
            .execute(params![repository, tag.as_str(), digest.as_str()])?;
        dropped.tags += gone;
        dropped.changed += 1 - gone;
    }
    for (name, digest) in &plan.manifests {
        let Some(repository) = known_repository(connection, name.as_str())? else { continue };
        let tagged = any(
            connection,
            "SELECT 1 FROM tags WHERE repository = $1 AND digest = $2",
            params![repository, digest.as_str()],
        )?;
        if tagged || !needed_by(connection, repository, digest, true)?.is_empty() {
            dropped.changed += 1;
            continue;
        }
        forget_manifest(connection, repository, digest)?;
        dropped.manifests += 1;
    }
    Ok(dropped)
}

/// At most so many blobs that nothing in their repository has needed since a time.
fn unlink_idle(connection: &Connection, before: i64) -> crate::sql::Result<usize> {
    let idle: Vec<(i64, Digest)> = connection
        .prepare_cached(
            "SELECT repository, digest FROM blobs WHERE users = 0 AND idle < $1 ORDER BY idle LIMIT $2",
        )?
        .query_map(params![before, TOGETHER], |row| Ok((row.get(0)?, checked(row, 1)?)))?
        .collect::<crate::sql::Result<_>>()?;
    let mut unlink =
        connection.prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?;
    let mut repositories = BTreeSet::new();
    for (repository, digest) in &idle {
        unlink.execute(params![repository, digest.as_str()])?;
        repositories.insert(*repository);
    }
    for repository in repositories {
        forget_empty(connection, repository)?;
    }
    Ok(idle.len())
}

/// Forgets a repository that has nothing any more.
pub(super) fn forget_empty(connection: &Connection, repository: i64) -> crate::sql::Result<()> {
    connection
        .prepare_cached(
            "DELETE FROM repositories WHERE id = $1 AND manifests = 0
               AND NOT EXISTS (SELECT 1 FROM blobs b WHERE b.repository = $1)",
        )?
        .execute(params![repository])
        .map(drop)
}

/// Takes a manifest away, and out of the list of referrers that clients keep under a tag.
fn remove_with_list(
    connection: &Connection,
    name: &RepositoryName,
    digest: &Digest,
) -> Result<Removal<Vec<Tag>>, StoreError> {
    let failed = || StoreError::ledger("remove a manifest");
    let removal = remove_manifest(connection, name, digest).map_err(failed())?;
    let Removal::Needed(by) = &removal else { return Ok(removal) };
    let Some(repository) = known_repository(connection, name.as_str()).map_err(failed())? else {
        return Ok(removal);
    };
    let subject: Option<String> = connection
        .prepare_cached("SELECT subject FROM manifests WHERE repository = $1 AND digest = $2")
        .and_then(|mut ask| ask.query_row(params![repository, digest.as_str()], |row| row.get(0)))
        .map_err(failed())?;
    let Some(Ok(about)) = subject.map(|subject| subject.parse::<Digest>()) else {
        return Ok(removal);
    };
    let tag = companion::list_tag(&about);
    let list: Option<(Digest, String, Vec<u8>)> = connection
        .prepare_cached(
            "SELECT m.digest, m.media_type, b.body FROM tags t
             JOIN manifests m ON m.repository = t.repository AND m.digest = t.digest
             JOIN bodies b ON b.digest = m.digest WHERE t.repository = $1 AND t.name = $2",
        )
        .and_then(|mut ask| {
            ask.query_row(params![repository, tag.as_str()], |row| {
                Ok((checked(row, 0)?, row.get(1)?, row.get(2)?))
            })
            .optional()
        })
        .map_err(failed())?;
    let Some((list, kind, body)) = list.filter(|(list, ..)| by == std::slice::from_ref(list))
    else {
        return Ok(removal);
    };
    let Ok(document) = Document::read(body.into(), Some(&kind)) else { return Ok(removal) };
    let rest = document.children().iter().map(|one| one.digest.clone());
    let rest: BTreeSet<Digest> = rest.filter(|one| one != digest).collect();
    if rest.is_empty() {
        connection
            .prepare_cached("DELETE FROM tags WHERE repository = $1 AND name = $2")
            .and_then(|mut remove| remove.execute(params![repository, tag.as_str()]))
            .map_err(failed())?;
    } else if let Some(shorter) = document.trimmed(&rest) {
        let new = new_manifest(&Digest::of(&shorter.bytes), &shorter, Some(tag), Demand::Blobs);
        super::ledger::record(connection, name, &new)?;
    }
    forget_list(connection, repository, &list, &kind).map_err(failed())?;
    remove_manifest(connection, name, digest).map_err(failed())
}

/// Records a manifest; the list of referrers that its tag pointed to is forgotten. Gives an object that nobody names any
/// more.
pub(crate) fn replace(
    connection: &Connection,
    name: &RepositoryName,
    new: &NewManifest,
) -> Result<Option<String>, StoreError> {
    let list = new.tag.as_ref().filter(|tag| companion::is_made_from_digest(tag));
    let before = match list {
        Some(list) => {
            let list = Selector::Tag(list.clone());
            super::manifest(connection, name, &list).map_err(StoreError::ledger("be read"))?
        }
        None => None,
    };
    super::ledger::record(connection, name, new)?;
    if let Some((before, _)) = before.filter(|(before, _)| before.digest != new.record.digest) {
        let forget = || -> crate::sql::Result<()> {
            match known_repository(connection, name.as_str())? {
                Some(id) => forget_list(connection, id, &before.digest, &before.media_type),
                None => Ok(()),
            }
        };
        forget().map_err(StoreError::ledger("record a manifest"))?;
    }
    // Where it was kept as content until it became visible, that is done with.
    let staged = || -> crate::sql::Result<Option<String>> {
        let place: Option<String> = connection
            .prepare_cached("DELETE FROM contents WHERE digest = $1 AND links = 0 RETURNING place")?
            .query_row(params![new.record.digest.as_str()], |row| row.get(0))
            .optional()?;
        if let Some(place) = &place {
            super::leavings::leave(connection, place, new.at)?;
        }
        Ok(place)
    };
    staged().map_err(StoreError::ledger("record a manifest"))
}

/// Forgets a list of referrers that nothing holds any more: it held nothing but references.
fn forget_list(
    connection: &Connection,
    repository: i64,
    list: &Digest,
    kind: &str,
) -> crate::sql::Result<()> {
    let tagged = any(
        connection,
        "SELECT 1 FROM tags WHERE repository = $1 AND digest = $2",
        params![repository, list.as_str()],
    )?;
    if !media_type::is_index(kind)
        || tagged
        || !needed_by(connection, repository, list, true)?.is_empty()
    {
        return Ok(());
    }
    forget_manifest(connection, repository, list)
}

fn withdraw(connection: &Connection, lost: &[Digest], dry: bool) -> crate::sql::Result<Withdrawn> {
    let mut gone = Withdrawn::default();
    let mut waiting: Vec<(i64, Digest)> = Vec::new();
    let mut names: HashMap<i64, RepositoryName> = HashMap::new();
    for digest in lost {
        let holders: Vec<i64> = connection
            .prepare_cached(
                "SELECT repository FROM blobs WHERE digest = $1
                 UNION SELECT repository FROM manifests WHERE digest = $1",
            )?
            .query_map(params![digest.as_str()], |row| row.get(0))?
            .collect::<crate::sql::Result<_>>()?;
        waiting.extend(holders.into_iter().map(|holder| (holder, digest.clone())));
    }
    let mut seen: BTreeSet<(i64, String)> = BTreeSet::new();
    while let Some((repository, digest)) = waiting.pop() {
        if !seen.insert((repository, digest.to_string())) {
            continue;
        }
        for as_child in [false, true] {
            let above = needed_by(connection, repository, &digest, as_child)?;
            waiting.extend(above.into_iter().map(|manifest| (repository, manifest)));
        }
        let name = match names.get(&repository) {
            Some(name) => name.clone(),
            None => {
                let name: RepositoryName = connection
                    .prepare_cached("SELECT name FROM repositories WHERE id = $1")?
                    .query_row(params![repository], |row| checked(row, 0))?;
                names.insert(repository, name.clone());
                name
            }
        };
        let parameters = params![repository, digest.as_str()];
        let tags: Vec<Tag> = connection
            .prepare_cached("SELECT name FROM tags WHERE repository = $1 AND digest = $2")?
            .query_map(parameters, |row| checked(row, 0))?
            .collect::<crate::sql::Result<_>>()?;
        gone.tags.extend(tags.into_iter().map(|tag| (name.clone(), tag, digest.clone())));
        let is_manifest = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
        if any(connection, is_manifest, parameters)? {
            gone.manifests.push((name, digest.clone()));
        }
        if !dry {
            connection
                .prepare_cached("DELETE FROM tags WHERE repository = $1 AND digest = $2")?
                .execute(parameters)?;
            forget_manifest(connection, repository, &digest)?;
            if lost.contains(&digest) {
                connection
                    .prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?
                    .execute(parameters)?;
            }
        }
    }
    gone.tags.sort();
    gone.manifests.sort();
    Ok(gone)
}

impl Store {
    /// Takes a tag away; what it pointed to stays. None: it was not there.
    pub async fn remove_tag(
        &self,
        repository: &RepositoryName,
        tag: &Tag,
    ) -> Result<Option<Digest>, StoreError> {
        let (name, tag) = (repository.clone(), tag.clone());
        self.records
            .change(TouchedNames::one(repository), "remove a tag", move |connection| {
                let Some(repository) = known_repository(connection, name.as_str())? else {
                    return Ok(None);
                };
                connection
                    .prepare_cached(
                        "DELETE FROM tags WHERE repository = $1 AND name = $2 RETURNING digest",
                    )?
                    .query_row(params![repository, tag.as_str()], |row| checked(row, 0))
                    .optional()
            })
            .await
    }

    /// Takes a blob from a repository.
    pub async fn unlink_blob(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<()>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .change(TouchedNames::one(repository), "remove a blob", move |connection| {
                let Some(repository) = known_repository(connection, name.as_str())? else {
                    return Ok(Removal::NotThere);
                };
                let users = needed_by(connection, repository, &digest, false)?;
                if !users.is_empty() {
                    return Ok(Removal::Needed(users));
                }
                let gone = connection
                    .prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?
                    .execute(params![repository, digest.as_str()])?;
                Ok(if gone > 0 { Removal::Done(()) } else { Removal::NotThere })
            })
            .await
    }

    /// Carries out a plan as far as it still holds, and writes it into the record, all in one change.
    pub async fn drop_planned(
        &self,
        plan: DropPlan,
        record: Vec<RecordEntry>,
    ) -> Result<DropOutcome, StoreError> {
        let repositories = plan.tags.iter().map(|(name, ..)| name);
        let repositories = repositories.chain(plan.manifests.iter().map(|(name, _)| name));
        let touched: BTreeSet<RepositoryName> = repositories.cloned().collect();
        let touched = TouchedNames::Repositories(touched.into_iter().collect());
        self.records
            .change(touched, "drop images", move |connection| {
                let outcome = drop_planned(connection, &plan)?;
                super::record::insert(connection, &record)?;
                Ok(outcome)
            })
            .await
    }

    /// Takes those blobs from their repositories, and tells how many these were.
    pub async fn unlink_idle(&self, before: i64) -> Result<usize, StoreError> {
        let mut unlinked = 0;
        loop {
            let gone = self
                .records
                .change(TouchedNames::Everything, "collect", move |connection| {
                    unlink_idle(connection, before)
                })
                .await?;
            unlinked += gone;
            if gone == 0 {
                return Ok(unlinked);
            }
        }
    }

    /// Takes a manifest away, with the tags that point to it, all in one change. The list of referrers that clients keep
    /// under a tag does not hold it: it is written anew without it.
    pub async fn remove_manifest(
        &self,
        repository: &RepositoryName,
        digest: &Digest,
    ) -> Result<Removal<Vec<Tag>>, StoreError> {
        let (name, digest) = (repository.clone(), digest.clone());
        self.records
            .write(TouchedNames::one(repository), move |connection| {
                remove_with_list(connection, &name, &digest)
            })
            .await
    }

    /// How many blobs nothing in their repository has needed since `before`, in milliseconds since 1970.
    pub async fn idle(&self, before: i64) -> Result<u64, StoreError> {
        self.records
            .read(move |connection| {
                connection.query_row(
                    "SELECT COUNT(*) FROM blobs WHERE users = 0 AND idle < $1",
                    params![before],
                    |row| super::unsigned(row, 0),
                )
            })
            .await
    }

    /// Takes back every record of contents that are gone or damaged, and with them every manifest and tag that is
    /// incomplete without them. With `dry` it only tells which these are; without it, contents that are there again are
    /// left alone.
    pub async fn withdraw(&self, lost: Vec<Digest>, dry: bool) -> Result<Withdrawn, StoreError> {
        if dry {
            return self.records.read(move |connection| withdraw(connection, &lost, true)).await;
        }
        self.records
            .write(TouchedNames::Everything, move |connection| {
                let whole = |digest: &Digest| {
                    any(
                        connection,
                        "SELECT 1 FROM contents WHERE digest = $1 AND state <> 'damaged'
                         UNION ALL SELECT 1 FROM bodies WHERE digest = $1",
                        params![digest.as_str()],
                    )
                };
                let all = || -> crate::sql::Result<Withdrawn> {
                    let mut gone = Vec::new();
                    for digest in lost {
                        // Somebody may have sent it again meanwhile.
                        if !whole(&digest)? {
                            gone.push(digest);
                        }
                    }
                    let withdrawn = withdraw(connection, &gone, false)?;
                    let mut forget = connection.prepare_cached(
                        "DELETE FROM contents WHERE digest = $1 AND state = 'damaged' AND links = 0",
                    )?;
                    for digest in &gone {
                        forget.execute(params![digest.as_str()])?;
                    }
                    Ok(withdrawn)
                };
                all().map_err(StoreError::ledger("withdraw what is damaged"))
            })
            .await
    }

    /// Takes a manifest's bytes out of use, because they are not what its digest says: it is missing from then on.
    /// False: other bytes are recorded by now.
    pub async fn remove_damaged_body(
        &self,
        digest: &Digest,
        body: bytes::Bytes,
    ) -> Result<bool, StoreError> {
        let digest = digest.clone();
        self.records
            .write(TouchedNames::Everything, move |connection| {
                connection
                    .prepare_cached("DELETE FROM bodies WHERE digest = $1 AND body = $2")
                    .and_then(|mut remove| remove.execute(params![digest.as_str(), &body[..]]))
                    .map(|gone| gone > 0)
                    .map_err(StoreError::ledger("withdraw what is damaged"))
            })
            .await
    }

    /// Manifests that some repository has and whose bytes are missing: at most `limit`.
    pub async fn missing_bodies(&self, limit: usize) -> Result<Vec<Digest>, StoreError> {
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT DISTINCT m.digest FROM manifests m
                         WHERE NOT EXISTS (SELECT 1 FROM bodies b WHERE b.digest = m.digest)
                         ORDER BY m.digest LIMIT $1",
                (limit,),
                |row| checked(row, 0),
            )
            .await
    }

    /// At most `limit` manifests after `after`, sorted by digest, each with its bytes.
    pub async fn bodies_after(
        &self,
        after: Option<&Digest>,
        limit: usize,
    ) -> Result<Vec<(Digest, bytes::Bytes)>, StoreError> {
        let after = after.map(ToString::to_string).unwrap_or_default();
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        self.records
            .rows(
                "SELECT digest, body FROM bodies WHERE digest > $1 ORDER BY digest LIMIT $2",
                (after, limit),
                |row| Ok((checked(row, 0)?, row.get::<Vec<u8>>(1)?.into())),
            )
            .await
    }
}
