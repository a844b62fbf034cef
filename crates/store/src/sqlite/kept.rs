//! What of a cached shelf is kept, and letting go of it, in SQLite.

use std::collections::{BTreeMap, HashMap};

use larder_core::cached::Kept;
use larder_core::digest::Digest;
use larder_core::name::{RepositoryName, Tag};
use rusqlite::{Connection, params};

use super::cache::ON_SHELF;
use super::upkeep::{forget_manifest, known_repository};
use super::{any, checked, unsigned};
use crate::clock::now;

/// A manifest and all that it lists, whether through one index or several.
fn closure(
    connection: &Connection,
    repository: i64,
    root: &Digest,
) -> rusqlite::Result<Vec<Digest>> {
    connection
        .prepare_cached(
            "WITH RECURSIVE tree (digest) AS (
               SELECT $1 UNION SELECT n.target FROM tree t JOIN needs n
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
) -> rusqlite::Result<()> {
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
            .query_map(parameters, |row| Ok((checked(row, 0)?, row.get::<_, i64>(1)? == 1)))?
            .collect::<rusqlite::Result<_>>()?;
        let about: Vec<Digest> = connection
            .prepare_cached("SELECT digest FROM manifests WHERE repository = $1 AND subject = $2")?
            .query_map(parameters, |row| checked(row, 0))?
            .collect::<rusqlite::Result<_>>()?;
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
                "DELETE FROM blobs WHERE repository = $1 AND digest = $2 AND NOT EXISTS
                   (SELECT 1 FROM needs n WHERE n.repository = $1 AND n.target = $2)",
            )?
            .execute(params![repository, digest.as_str()])?;
        if removed > 0 {
            gone.push(digest);
        }
    }
    Ok(())
}

/// The images of a shelf.
pub(super) fn kept(connection: &Connection, shelf: &str) -> rusqlite::Result<Vec<Kept>> {
    let prefix = format!("{shelf}/");
    let mut own: HashMap<(i64, String), u64> = HashMap::new();
    let sql = format!(
        "SELECT n.repository, n.manifest, CAST(SUM(b.size) AS BIGINT) FROM needs n
         JOIN repositories r ON r.id = n.repository
         JOIN blobs b ON b.repository = n.repository AND b.digest = n.target
         WHERE n.is_child = 0 AND {ON_SHELF} GROUP BY n.repository, n.manifest"
    );
    let mut query = connection.prepare_cached(&sql)?;
    let mut rows = query.query(params![prefix])?;
    while let Some(row) = rows.next()? {
        own.insert((row.get(0)?, row.get(1)?), unsigned(row, 2)?);
    }
    let mut tags: HashMap<(i64, String), Vec<Tag>> = HashMap::new();
    let sql = format!(
        "SELECT t.repository, t.digest, t.name FROM tags t
         JOIN repositories r ON r.id = t.repository WHERE {ON_SHELF} ORDER BY t.name"
    );
    let mut query = connection.prepare_cached(&sql)?;
    let mut rows = query.query(params![prefix])?;
    while let Some(row) = rows.next()? {
        tags.entry((row.get(0)?, row.get(1)?)).or_default().push(checked(row, 2)?);
    }
    let sql = format!(
        "WITH RECURSIVE tree (repository, root, digest) AS (
           SELECT m.repository, m.digest, m.digest FROM manifests m
           JOIN repositories r ON r.id = m.repository
           WHERE {ON_SHELF}
             AND NOT EXISTS (SELECT 1 FROM needs p WHERE p.repository = m.repository
               AND p.target = m.digest AND p.is_child = 1)
             AND NOT EXISTS (SELECT 1 FROM manifests s WHERE s.repository = m.repository
               AND s.digest = m.subject)
           UNION
           SELECT t.repository, t.root, n.target FROM tree t
           JOIN needs n ON n.repository = t.repository AND n.manifest = t.digest AND n.is_child = 1)
         SELECT t.repository, r.name, t.root, t.digest, m.size, m.added,
           (SELECT MAX(u.last) FROM uses u WHERE u.repository = t.repository AND u.digest = t.digest)
         FROM tree t JOIN repositories r ON r.id = t.repository
         JOIN manifests m ON m.repository = t.repository AND m.digest = t.digest"
    );
    let mut found: BTreeMap<(i64, String), Kept> = BTreeMap::new();
    let mut query = connection.prepare_cached(&sql)?;
    let mut rows = query.query(params![prefix])?;
    while let Some(row) = rows.next()? {
        let (repository, root): (i64, String) = (row.get(0)?, row.get(2)?);
        let last = row.get::<_, Option<i64>>(6)?.unwrap_or(0).max(row.get(5)?);
        let key = (repository, root);
        let kept = match found.get_mut(&key) {
            Some(kept) => kept,
            None => {
                let kept = Kept {
                    repository: checked(row, 1)?,
                    digest: checked(row, 2)?,
                    tags: tags.remove(&key).unwrap_or_default(),
                    last: 0,
                    bytes: 0,
                };
                found.entry(key).or_insert(kept)
            }
        };
        kept.last = kept.last.max(last);
        kept.bytes += unsigned(row, 4)?;
        kept.bytes += own.get(&(repository, row.get(3)?)).copied().unwrap_or(0);
    }
    let mut all: Vec<Kept> = found.into_values().collect();
    all.sort_by(|a, b| (&a.repository, &a.tags).cmp(&(&b.repository, &b.tags)));
    Ok(all)
}

/// The bytes that shelves take together, each content once; their names end with a slash.
pub(super) fn bytes_of(connection: &Connection, prefixes: &[String]) -> rusqlite::Result<u64> {
    let mut sizes: HashMap<String, u64> = HashMap::new();
    for table in ["blobs", "manifests"] {
        let sql = format!(
            "SELECT c.digest, c.size FROM {table} c
             JOIN repositories r ON r.id = c.repository WHERE {ON_SHELF}"
        );
        let mut query = connection.prepare_cached(&sql)?;
        for prefix in prefixes {
            let mut rows = query.query(params![prefix])?;
            while let Some(row) = rows.next()? {
                sizes.insert(row.get(0)?, unsigned(row, 1)?);
            }
        }
    }
    Ok(sizes.values().sum())
}

/// Lets go of an image unless it, or a part of it, was asked for after `since`.
pub(super) fn let_go_of(
    connection: &Connection,
    name: &RepositoryName,
    root: &Digest,
    since: i64,
) -> rusqlite::Result<Vec<Digest>> {
    let mut gone = Vec::new();
    let Some(id) = known_repository(connection, name.as_str())? else { return Ok(gone) };
    for member in closure(connection, id, root)? {
        let asked = "SELECT 1 FROM uses WHERE repository = $1 AND digest = $2 AND last > $3";
        if any(connection, asked, params![id, member.as_str(), since])? {
            return Ok(gone);
        }
    }
    let_go(connection, id, root, &mut gone)?;
    connection
        .prepare_cached(
            "DELETE FROM repositories WHERE id = $1
               AND NOT EXISTS (SELECT 1 FROM blobs b WHERE b.repository = $1)
               AND NOT EXISTS (SELECT 1 FROM manifests m WHERE m.repository = $1)",
        )?
        .execute(params![id])?;
    Ok(gone)
}

/// Lets go of blobs of a shelf that no manifest has needed since `before`.
pub(super) fn let_go_loose(
    connection: &Connection,
    prefix: &str,
    before: i64,
    limit: i64,
) -> rusqlite::Result<Vec<Digest>> {
    let sql = format!(
        "SELECT b.repository, b.digest FROM blobs b
         JOIN repositories r ON r.id = b.repository
         WHERE {ON_SHELF} AND b.idle < $2 AND NOT EXISTS
           (SELECT 1 FROM needs n WHERE n.repository = b.repository AND n.target = b.digest)
         ORDER BY b.idle LIMIT $3"
    );
    let loose: Vec<(i64, Digest)> = connection
        .prepare_cached(&sql)?
        .query_map(params![prefix, before.min(now()), limit], |row| {
            Ok((row.get(0)?, checked(row, 1)?))
        })?
        .collect::<rusqlite::Result<_>>()?;
    let mut remove =
        connection.prepare_cached("DELETE FROM blobs WHERE repository = $1 AND digest = $2")?;
    for (repository, digest) in &loose {
        remove.execute(params![repository, digest.as_str()])?;
    }
    Ok(loose.into_iter().map(|(_, digest)| digest).collect())
}
