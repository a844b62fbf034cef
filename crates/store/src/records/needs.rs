//! What manifests need: asked and written for many at once where each question goes over a network.

use std::collections::{BTreeMap, HashMap};

use larder_core::digest::Digest;

use super::{checked, signed, unsigned};
use crate::ledger::NewManifest;
use crate::sql::{Connection, Dialect, Result, ToValue};

/// How many are asked about, or written, by one statement.
fn together(connection: &Connection) -> usize {
    match connection.dialect() {
        // One statement, prepared once, is as quick there.
        Dialect::Sqlite => 1,
        #[cfg(feature = "replicas")]
        Dialect::Postgres => 100,
    }
}

/// The sizes that a repository's blobs, or manifests, have; those that it lacks are not among them.
pub(super) fn sizes(
    connection: &Connection,
    table: &'static str,
    repository: i64,
    parts: &[(Digest, u64)],
) -> Result<HashMap<Digest, u64>> {
    let mut sizes = HashMap::with_capacity(parts.len());
    for some in parts.chunks(together(connection)) {
        let numbers: Vec<String> = (0..some.len()).map(|at| format!("${}", at + 2)).collect();
        let sql = format!(
            "SELECT digest, size FROM {table} WHERE repository = $1 AND digest IN ({})",
            numbers.join(", ")
        );
        let digests: Vec<&str> = some.iter().map(|(digest, _)| digest.as_str()).collect();
        let mut given: Vec<&dyn ToValue> = vec![&repository];
        given.extend(digests.iter().map(|digest| digest as &dyn ToValue));
        let mut ask = connection.prepare_cached(&sql)?;
        let mut rows = ask.query(&given[..])?;
        while let Some(row) = &rows.next()? {
            sizes.insert(checked(row, 0)?, unsigned(row, 1)?);
        }
    }
    Ok(sizes)
}

/// Records what a manifest needs.
pub(super) fn record(connection: &Connection, repository: i64, new: &NewManifest) -> Result<()> {
    // Something that is needed twice is one need, of a blob first.
    let mut needs: BTreeMap<&str, (i64, Option<i64>)> = BTreeMap::new();
    for (target, _) in &new.children {
        needs.insert(target.as_str(), (1, None));
    }
    for (target, size) in &new.blobs {
        needs.insert(target.as_str(), (0, Some(signed(*size))));
    }
    let needs: Vec<_> = needs.into_iter().collect();
    for some in needs.chunks(together(connection)) {
        let rows: Vec<String> = (0..some.len())
            .map(|at| format!("($1, $2, ${}, ${}, ${})", 3 * at + 3, 3 * at + 4, 3 * at + 5))
            .collect();
        let sql = format!(
            "INSERT INTO needs (repository, manifest, target, is_child, size) VALUES {}
             ON CONFLICT (repository, manifest, target) DO UPDATE SET size = excluded.size",
            rows.join(", ")
        );
        let manifest = new.record.digest.as_str();
        let mut given: Vec<&dyn ToValue> = vec![&repository, &manifest];
        for (target, (is_child, size)) in some {
            given.extend([target as &dyn ToValue, is_child, size]);
        }
        connection.prepare_cached(&sql)?.execute(&given[..])?;
    }
    Ok(())
}
