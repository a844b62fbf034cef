//! What of a cached shelf is kept, and letting go of it, in SQLite.

use crate::sql::{Connection, Optional as _, params};
use larder_core::cached::KeptCandidate;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};

use super::upkeep::{forget_empty, forget_manifest, known_repository};
use super::{any, checked, unsigned};
use crate::clock::now;

/// A manifest and all that it lists, whether through one index or several.
fn closure(
    connection: &Connection,
    repository: i64,
    root: &Digest,
) -> crate::sql::Result<Vec<Digest>> {
    connection
        .prepare_cached(
            "WITH RECURSIVE tree (digest) AS (
               SELECT digest FROM manifests WHERE digest = $1 AND repository = $2
           UNION SELECT n.target FROM tree t JOIN needs n
                 ON n.repository = $2 AND n.manifest = t.digest AND n.is_child = 1)
             SELECT digest FROM tree",
        )?
        .query_map(params![root.as_str(), repository], |row| checked(row, 0))?
        .collect()
}

/// Removes a manifest with what it lists and what is about it, unless something else lists it or,
/// below the first, a tag points to it.
fn let_go(
    connection: &Connection,
    repository: i64,
    root: &Digest,
    gone: &mut Vec<Digest>,
) -> crate::sql::Result<()> {
    let mut waiting = vec![root.clone()];
    let mut blobs: Vec<Digest> = Vec::new();
    while let Some(digest) = waiting.pop() {
        let parameters = params![repository, digest.as_str()];
        let there = "SELECT 1 FROM manifests WHERE repository = $1 AND digest = $2";
        let listed = "SELECT 1 FROM needs WHERE repository = $1 AND target = $2 AND is_child = 1";
        let tagged = "SELECT 1 FROM tags WHERE repository = $1 AND digest = $2";
        let held = any(connection, listed, parameters)?
            || (digest != *root && any(connection, tagged, parameters)?);
        if held || !any(connection, there, parameters)? {
            continue;
        }
        let mut needs = connection.prepare_cached(
            "SELECT target, is_child FROM needs WHERE repository = $1 AND manifest = $2",
        )?;
        let needs: Vec<(Digest, bool)> = needs
            .query_map(parameters, |row| Ok((checked(row, 0)?, row.get::<i64>(1)? == 1)))?
            .collect::<crate::sql::Result<_>>()?;
        let about: Vec<Digest> = connection
            .prepare_cached("SELECT digest FROM manifests WHERE repository = $1 AND subject = $2")?
            .query_map(parameters, |row| checked(row, 0))?
            .collect::<crate::sql::Result<_>>()?;
        connection
            .prepare_cached("DELETE FROM tags WHERE repository = $1 AND digest = $2")?
            .execute(parameters)?;
        forget_manifest(connection, repository, &digest)?;
        gone.push(digest);
        waiting.extend(about);
        for (target, is_child) in needs {
            if is_child { waiting.push(target) } else { blobs.push(target) }
        }
    }
    for digest in blobs {
        let removed = connection
            .prepare_cached(
                "DELETE FROM blobs WHERE repository = $1 AND digest = $2 AND users = 0",
            )?
            .execute(params![repository, digest.as_str()])?;
        if removed > 0 {
            gone.push(digest);
        }
    }
    Ok(())
}

/// The images of some repositories; `of` says which, of `r` and `$1`.
fn images(connection: &Connection, of: &str, name: &str) -> crate::sql::Result<Vec<KeptCandidate>> {
    let sql = format!(
        "SELECT m.repository, r.name, m.digest, m.volume FROM repositories r
         JOIN manifests m ON m.repository = r.id
         WHERE {of}
           AND NOT EXISTS (SELECT 1 FROM needs p WHERE p.target = m.digest
             AND p.repository = m.repository AND p.is_child = 1)
           AND NOT EXISTS (SELECT 1 FROM manifests s WHERE s.repository = m.repository
             AND s.digest = m.subject)"
    );
    let mut last = connection.prepare_cached(
        "WITH RECURSIVE tree (digest) AS (
           SELECT digest FROM manifests WHERE digest = $1 AND repository = $2
           UNION SELECT n.target FROM tree t JOIN needs n
             ON n.repository = $2 AND n.manifest = t.digest AND n.is_child = 1)
         SELECT MAX(COALESCE((SELECT MAX(u.last) FROM uses u
             WHERE u.repository = $2 AND u.digest = t.digest), 0)), MAX(COALESCE(m.added, 0))
         FROM tree t LEFT JOIN manifests m ON m.repository = $2 AND m.digest = t.digest",
    )?;
    let mut tags = connection.prepare_cached(
        "SELECT name FROM tags WHERE digest = $1 AND repository = $2 ORDER BY name",
    )?;
    let mut found = Vec::new();
    let mut query = connection.prepare_cached(&sql)?;
    let mut rows = query.query(params![name])?;
    while let Some(row) = &rows.next()? {
        let repository: i64 = row.get(0)?;
        let digest: Digest = checked(row, 2)?;
        let parameters = params![digest.as_str(), repository];
        let (used, added): (i64, i64) =
            last.query_row(parameters, |row| Ok((row.get(0)?, row.get(1)?)))?;
        let tags: Vec<Tag> = tags
            .query_map(parameters, |row| checked(row, 0))?
            .collect::<crate::sql::Result<_>>()?;
        found.push(KeptCandidate {
            repository: checked(row, 1)?,
            digest,
            tags,
            last: used.max(added),
            bytes: unsigned(row, 3)?,
        });
    }
    found.sort_by(|a, b| (&a.repository, &a.tags).cmp(&(&b.repository, &b.tags)));
    Ok(found)
}

/// The images of a shelf.
pub(super) fn kept(connection: &Connection, shelf: &str) -> crate::sql::Result<Vec<KeptCandidate>> {
    images(connection, "r.shelf = $1", shelf)
}

/// The images of a repository.
pub(super) fn kept_in(
    connection: &Connection,
    name: &RepositoryName,
) -> crate::sql::Result<Vec<KeptCandidate>> {
    images(connection, "r.name = $1", name.as_str())
}

/// The bytes that shelves take together, each content once.
pub(super) fn bytes_of(connection: &Connection, shelves: &[String]) -> crate::sql::Result<u64> {
    let (mut bytes, mut loose) = (0, 0);
    let mut query = connection.prepare_cached(
        "SELECT bytes, CASE WHEN loose > 0 THEN loose ELSE 0 END FROM totals WHERE shelf = $1",
    )?;
    for shelf in shelves {
        let found = query
            .query_row(params![shelf], |row| Ok((unsigned(row, 0)?, unsigned(row, 1)?)))
            .optional()?;
        let (own, own_loose) = found.unwrap_or_default();
        (bytes, loose) = (bytes + own, loose + own_loose);
    }
    if shelves.len() > 1 {
        // What lies on several of them counts once.
        let places: Vec<String> = (1..=shelves.len()).map(|at| format!("${at}")).collect();
        let sql = format!(
            "SELECT CAST(COALESCE(SUM(size * (times - 1)), 0) AS BIGINT) FROM
               (SELECT MAX(size) AS size, COUNT(*) AS times FROM holds WHERE shelf IN ({})
                GROUP BY digest HAVING COUNT(*) > 1) AS several",
            places.join(", ")
        );
        let twice = connection
            .prepare_cached(&sql)?
            .query_row(crate::sql::Many(shelves.to_vec()), |row| unsigned(row, 0))?;
        bytes = bytes.saturating_sub(twice);
    }
    Ok(bytes + loose)
}

/// Evicts an image unless it, or a part of it, was asked for after `since`.
pub(super) fn let_go_of(
    connection: &Connection,
    name: &RepositoryName,
    root: &Digest,
    since: i64,
) -> crate::sql::Result<Vec<Digest>> {
    let mut gone = Vec::new();
    let Some(id) = known_repository(connection, name.as_str())? else { return Ok(gone) };
    for member in closure(connection, id, root)? {
        let asked = "SELECT 1 FROM uses WHERE repository = $1 AND digest = $2 AND last > $3";
        if any(connection, asked, params![id, member.as_str(), since])? {
            return Ok(gone);
        }
    }
    let_go(connection, id, root, &mut gone)?;
    forget_empty(connection, id)?;
    Ok(gone)
}

/// Evicts blobs of a shelf that no manifest has needed since `before`.
pub(super) fn let_go_loose(
    connection: &Connection,
    shelf: &str,
    before: i64,
    limit: i64,
) -> crate::sql::Result<Vec<Digest>> {
    let loose: Vec<(i64, Digest)> = connection
        .prepare_cached(
            "SELECT b.repository, b.digest FROM blobs b
             JOIN repositories r ON r.id = b.repository
             WHERE r.shelf = $1 AND b.users = 0 AND b.idle < $2 ORDER BY b.idle LIMIT $3",
        )?
        .query_map(params![shelf, before.min(now()), limit], |row| {
            Ok((row.get(0)?, checked(row, 1)?))
        })?
        .collect::<crate::sql::Result<_>>()?;
    let mut remove =
        connection.prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?;
    for (repository, digest) in &loose {
        remove.execute(params![repository, digest.as_str()])?;
    }
    Ok(loose.into_iter().map(|(_, digest)| digest).collect())
}
