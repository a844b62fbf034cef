//! How much is held, by repository and by account, and whether more may be.

use crate::sql::{Connection, Optional as _, params};
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::quantity::Size;
use larder_core::quota::{HeldBytes, Quota, QuotaLeft, Quotas};

use super::{any, unsigned};
use crate::error::StoreError;
use crate::store::Store;

/// What version 8 of the file has more than version 7, in part: what each repository and each account holds, kept right
/// as it changes. What was there before is nobody's.
pub(super) const TABLES: &str = "
    ALTER TABLE repositories ADD COLUMN bytes BIGINT NOT NULL DEFAULT 0;
    ALTER TABLE blobs ADD COLUMN account TEXT NOT NULL DEFAULT '';
    ALTER TABLE manifests ADD COLUMN account TEXT NOT NULL DEFAULT '';
    CREATE TABLE accounts (
        shelf TEXT NOT NULL, account TEXT NOT NULL, bytes BIGINT NOT NULL, PRIMARY KEY (shelf, account)
    ) WITHOUT ROWID;
    UPDATE repositories SET bytes =
        (SELECT COALESCE(SUM(size), 0) FROM blobs b WHERE b.repository = repositories.id)
        + (SELECT COALESCE(SUM(size), 0) FROM manifests m WHERE m.repository = repositories.id);

    CREATE TRIGGER blob_weighed AFTER INSERT ON blobs BEGIN
        UPDATE repositories SET bytes = bytes + NEW.size WHERE id = NEW.repository;
    END;
    CREATE TRIGGER blob_unweighed AFTER DELETE ON blobs BEGIN
        UPDATE repositories SET bytes = bytes - OLD.size WHERE id = OLD.repository;
    END;
    CREATE TRIGGER manifest_weighed AFTER INSERT ON manifests BEGIN
        UPDATE repositories SET bytes = bytes + NEW.size WHERE id = NEW.repository;
    END;
    CREATE TRIGGER manifest_unweighed AFTER DELETE ON manifests BEGIN
        UPDATE repositories SET bytes = bytes - OLD.size WHERE id = OLD.repository;
    END;
    CREATE TRIGGER blob_owned AFTER INSERT ON blobs WHEN NEW.account <> '' BEGIN
        INSERT INTO accounts (shelf, account, bytes)
            SELECT r.shelf, NEW.account, 0 FROM repositories r WHERE r.id = NEW.repository
            AND NOT EXISTS (SELECT 1 FROM accounts a WHERE a.shelf = r.shelf AND a.account = NEW.account);
        UPDATE accounts SET bytes = bytes + NEW.size WHERE account = NEW.account
            AND shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository);
    END;
    CREATE TRIGGER blob_disowned AFTER DELETE ON blobs WHEN OLD.account <> '' BEGIN
        UPDATE accounts SET bytes = bytes - OLD.size WHERE account = OLD.account
            AND shelf = (SELECT shelf FROM repositories WHERE id = OLD.repository);
    END;
    CREATE TRIGGER manifest_owned AFTER INSERT ON manifests WHEN NEW.account <> '' BEGIN
        INSERT INTO accounts (shelf, account, bytes)
            SELECT r.shelf, NEW.account, 0 FROM repositories r WHERE r.id = NEW.repository
            AND NOT EXISTS (SELECT 1 FROM accounts a WHERE a.shelf = r.shelf AND a.account = NEW.account);
        UPDATE accounts SET bytes = bytes + NEW.size WHERE account = NEW.account
            AND shelf = (SELECT shelf FROM repositories WHERE id = NEW.repository);
    END;
    CREATE TRIGGER manifest_disowned AFTER DELETE ON manifests WHEN OLD.account <> '' BEGIN
        UPDATE accounts SET bytes = bytes - OLD.size WHERE account = OLD.account
            AND shelf = (SELECT shelf FROM repositories WHERE id = OLD.repository);
    END;
    CREATE TRIGGER account_empty AFTER UPDATE OF bytes ON accounts WHEN NEW.bytes <= 0 BEGIN
        DELETE FROM accounts WHERE shelf = NEW.shelf AND account = NEW.account;
    END;
";

/// In whose name something is written, and what may be held.
#[derive(Debug, Clone, Default)]
pub(crate) struct Bringer {
    /// Empty: nobody's.
    pub account: String,
    pub quotas: std::sync::Arc<Quotas>,
}

/// What is held of what the quotas of a repository's shelf are about.
fn held(
    connection: &Connection,
    name: &RepositoryName,
    account: &str,
) -> crate::sql::Result<HeldBytes> {
    let shelf = name.first_component();
    let one = |sql: &str, given: &[&dyn crate::sql::ToValue]| {
        connection.prepare_cached(sql)?.query_row(given, |row| unsigned(row, 0)).optional()
    };
    // What no image needs yet takes room as well.
    let all = one("SELECT bytes + loose FROM totals WHERE shelf = $1", &[&shelf])?;
    let repository = one("SELECT bytes FROM repositories WHERE name = $1", &[&name.as_str()])?;
    let own = match account {
        "" => None,
        account => {
            let sql = "SELECT bytes FROM accounts WHERE shelf = $1 AND account = $2";
            Some(one(sql, &[&shelf, &account])?.unwrap_or_default())
        }
    };
    Ok(HeldBytes {
        shelf: all.unwrap_or_default(),
        repository: repository.unwrap_or_default(),
        account: own,
    })
}

impl Bringer {
    /// Whether a repository may have so many bytes more under a digest, which it does not have yet.
    ///
    /// # Errors
    /// [`StoreError::Quota`].
    pub fn check(
        &self,
        connection: &Connection,
        name: &RepositoryName,
        digest: &Digest,
        size: u64,
    ) -> Result<(), StoreError> {
        let Some(quota) = self.quotas.of(name) else { return Ok(()) };
        let shelf = name.first_component();
        let passed = || -> crate::sql::Result<Option<QuotaLeft>> {
            let held = held(connection, name, &self.account)?;
            // What another repository of the shelf has counts once.
            let sql = "SELECT 1 FROM holds WHERE shelf = $1 AND digest = $2";
            let shared =
                quota.shelf.is_some() && any(connection, sql, params![shelf, digest.as_str()])?;
            let quota = if shared { Quota { shelf: None, ..*quota } } else { *quota };
            Ok(quota.check(&held, size).err())
        };
        match passed().map_err(StoreError::ledger("be read"))? {
            None => Ok(()),
            Some(passed) => Err(self.refuse(name, passed, size)),
        }
    }

    fn refuse(&self, name: &RepositoryName, passed: QuotaLeft, wanted: u64) -> StoreError {
        StoreError::Quota(Box::new(QuotaPassed {
            repository: name.clone(),
            account: self.account.clone(),
            passed,
            wanted,
        }))
    }
}

/// A quota that something would pass.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QuotaPassed {
    /// What it was for.
    pub repository: RepositoryName,
    /// Who brought it. Empty: nobody in particular.
    pub account: String,
    pub passed: QuotaLeft,
    /// Bytes that were wanted more.
    pub wanted: u64,
}

impl std::fmt::Display for QuotaPassed {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        use larder_core::quota::QuotaOf;
        let whose = match self.passed.of {
            QuotaOf::Shelf => format!("the shelf {}", self.repository.first_component()),
            QuotaOf::Repository => format!("the repository {}", self.repository),
            QuotaOf::Account => {
                format!("{} in the shelf {}", self.account, self.repository.first_component())
            }
        };
        let QuotaLeft { held, most, .. } = self.passed;
        let (held, most, wanted) = (Size(held), Size(most), Size(self.wanted));
        write!(f, "the quota of {whose} is {most}; {held} are held, and {wanted} more do not fit")
    }
}

/// A tagged image with what it takes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WeightyImage {
    pub repository: String,
    pub tag: String,
    pub bytes: u64,
    /// When it was pulled last, in milliseconds since 1970. None: never, as far as is known.
    pub pulled: Option<i64>,
}

impl Store {
    /// A handle on the same store that writes in an account's name.
    #[must_use]
    pub fn as_account(&self, account: &str) -> Self {
        let mut store = self.clone();
        store.account = account.into();
        store
    }

    /// Holds what is written from now on to these quotas.
    pub fn set_quotas(&self, quotas: Quotas) {
        *self.quotas.write().unwrap_or_else(std::sync::PoisonError::into_inner) = quotas.into();
    }

    pub(crate) fn bringer(&self) -> Bringer {
        let quotas = self.quotas.read().unwrap_or_else(std::sync::PoisonError::into_inner);
        Bringer { account: self.account.to_string(), quotas: std::sync::Arc::clone(&quotas) }
    }

    /// Whether so many bytes more may be held in a repository, as far as is known before their digest is; and how many.
    /// None: as many as there is room for.
    ///
    /// # Errors
    /// [`StoreError::Quota`].
    pub async fn check_quota(
        &self,
        repository: &RepositoryName,
        wanted: u64,
    ) -> Result<Option<u64>, StoreError> {
        let bringer = self.bringer();
        let Some(quota) = bringer.quotas.of(repository).copied() else { return Ok(None) };
        let (name, account) = (repository.clone(), bringer.account.clone());
        let held = self.records.read(move |connection| held(connection, &name, &account)).await?;
        match quota.check(&held, wanted) {
            Err(passed) => Err(bringer.refuse(repository, passed, wanted)),
            Ok(()) => Ok(quota.tightest(&held).map(|one| one.left())),
        }
    }

    /// The largest and the longest unpulled tagged images of a shelf, or of a repository of it, so many of each at most.
    pub async fn weighty_images(
        &self,
        shelf: &str,
        repository: Option<&RepositoryName>,
        most: usize,
    ) -> Result<(Vec<WeightyImage>, Vec<WeightyImage>), StoreError> {
        let most = i64::try_from(most).unwrap_or(i64::MAX);
        let given = (shelf.to_owned(), repository.map(ToString::to_string), most);
        let rows = |order: &str| {
            format!(
                "SELECT repository, tag, volume, pulled FROM (
                 SELECT r.name AS repository, t.name AS tag, m.volume AS volume, m.added AS added,
                   (SELECT MAX(u.last) FROM uses u WHERE u.repository = m.repository AND u.digest = m.digest)
                     AS pulled
                 FROM repositories r JOIN manifests m ON m.repository = r.id
                 JOIN tags t ON t.repository = m.repository AND t.digest = m.digest
                 WHERE r.shelf = $1 AND ($2 IS NULL OR r.name = $2) AND m.subject IS NULL) AS found
                 ORDER BY {order} LIMIT $3"
            )
        };
        self.records
            .read(move |connection| {
                let ask = |order: &str| -> crate::sql::Result<Vec<WeightyImage>> {
                    connection
                        .prepare_cached(&rows(order))?
                        .query_map(params![given.0, given.1, given.2], |row| {
                            Ok(WeightyImage {
                                repository: row.get(0)?,
                                tag: row.get(1)?,
                                bytes: unsigned(row, 2)?,
                                pulled: row.get(3)?,
                            })
                        })?
                        .collect()
                };
                Ok((ask("volume DESC")?, ask("COALESCE(pulled, added), volume DESC")?))
            })
            .await
    }

    /// What each account holds in each shelf, in bytes.
    pub async fn account_bytes(&self) -> Result<Vec<(String, String, u64)>, StoreError> {
        self.records
            .rows(
                "SELECT shelf, account, bytes FROM accounts ORDER BY shelf, bytes DESC",
                (),
                |row| Ok((row.get(0)?, row.get(1)?, unsigned(row, 2)?)),
            )
            .await
    }

    /// The repositories of a shelf that hold the most, in bytes.
    pub async fn largest_repositories(
        &self,
        shelf: &str,
        most: usize,
    ) -> Result<Vec<(String, u64)>, StoreError> {
        self.records
            .rows(
                "SELECT name, bytes FROM repositories WHERE shelf = $1 ORDER BY bytes DESC LIMIT $2",
                (shelf.to_owned(), i64::try_from(most).unwrap_or(i64::MAX)),
                |row| Ok((row.get(0)?, unsigned(row, 1)?)),
            )
            .await
    }
}
