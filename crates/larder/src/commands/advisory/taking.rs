//! Documents that are taken into a feed, wherever they come from.

use larder_core::advisory::{Advisory, PublishedDocument, Statement, ecosystem_of, read_document};
use larder_core::digest::Digest;
use larder_core::shown::cut;
use larder_store::{Store, StoreError, TakenAdvisories};
use schemars::JsonSchema;
use serde::Serialize;
use tokio::sync::mpsc;

use super::published::{PublishedFiles, TakesDocuments};

/// A document that cannot be read.
#[derive(Serialize, JsonSchema, Clone)]
pub struct RefusedDocument {
    pub place: String,
    pub cause: String,
}

/// Advisories that are taken in with one change.
const TOGETHER: usize = 500;
/// Documents that were refused and are listed.
const LISTED: usize = 100;

/// What is in a document.
enum Read {
    Advisory(Advisory),
    Statement(Statement),
}

/// Reads documents on a thread of its own, and sends on what is in them.
pub struct Reading {
    to: mpsc::Sender<Read>,
    refused: Vec<RefusedDocument>,
    refused_count: u64,
}

impl TakesDocuments for Reading {
    fn take(&mut self, place: &str, document: &[u8]) -> bool {
        let all = match read_document(document) {
            Err(error) => {
                self.refuse(place, error.to_string());
                return true;
            }
            Ok(PublishedDocument::Advisory(advisory)) => vec![Read::Advisory(*advisory)],
            Ok(PublishedDocument::Csaf(document)) => {
                let statements = document.statements.into_iter().map(Read::Statement);
                document.advisories.into_iter().map(Read::Advisory).chain(statements).collect()
            }
            Ok(PublishedDocument::Statements(all)) => {
                all.into_iter().map(Read::Statement).collect()
            }
        };
        all.into_iter().all(|one| self.to.blocking_send(one).is_ok())
    }

    fn refuse(&mut self, place: &str, cause: String) {
        self.refused_count += 1;
        if self.refused.len() < LISTED {
            let (place, cause) = (cut(place, 300), cut(&cause, 300));
            self.refused.push(RefusedDocument { place, cause });
        }
    }
}

/// Where documents go.
pub struct Taking<'t> {
    pub store: &'t Store,
    pub feed: &'t str,
    /// Now, in milliseconds since 1970.
    pub at: i64,
    pub dry_run: bool,
}

/// What was taken in.
pub struct TakenDocuments {
    /// In a dry run all that would be taken in, whether it is here or not.
    pub advisories: TakenAdvisories,
    pub statements: u64,
    /// Those that name no package of an ecosystem that is known.
    pub unmatched: u64,
    /// When the newest of it was changed, in milliseconds since 1970. None: there is none.
    pub newest: Option<i64>,
    /// Of all that was read.
    pub digest: Digest,
    pub refused: Vec<RefusedDocument>,
    /// All that were refused, also those that are not listed.
    pub refused_count: u64,
}

impl Taking<'_> {
    /// Takes in what is read on a thread of its own; gives what the reading came to as well.
    pub async fn take<O: Send + 'static>(
        &self,
        tell: impl Fn(u64),
        read: impl FnOnce(&mut PublishedFiles<'_, Reading>) -> O + Send + 'static,
    ) -> Result<(O, TakenDocuments), StoreError> {
        let (to, mut from) = mpsc::channel(TOGETHER);
        let reading = tokio::task::spawn_blocking(move || {
            let mut reading = Reading { to, refused: Vec::new(), refused_count: 0 };
            let mut files = PublishedFiles::new(&mut reading);
            let outcome = read(&mut files);
            let digest = files.digest();
            (outcome, digest, reading.refused, reading.refused_count)
        });
        let mut all = TakenAdvisories::default();
        let (mut advisories, mut statements) = (Vec::new(), Vec::new());
        let (mut statement_count, mut unmatched, mut newest) = (0, 0, None);
        loop {
            let next = from.recv().await;
            let is_end = next.is_none();
            match next {
                Some(Read::Advisory(advisory)) => {
                    newest = newest.max(Some(advisory.modified.as_millisecond()));
                    unmatched += u64::from(advisory.withdrawn.is_none() && !is_matched(&advisory));
                    advisories.push(advisory);
                }
                Some(Read::Statement(statement)) => {
                    statement_count += 1;
                    statements.push(statement);
                }
                None => {}
            }
            if advisories.len() >= TOGETHER || is_end {
                let some = std::mem::take(&mut advisories);
                match self.dry_run {
                    true => {
                        let gone = some.iter().filter(|one: &&Advisory| one.withdrawn.is_some());
                        let gone = gone.count() as u64;
                        all.withdrawn += gone;
                        all.new += some.len() as u64 - gone;
                    }
                    false => all.add(self.store.take_advisories(self.feed, some, self.at).await?),
                }
                tell(all.sum());
            }
            if (statements.len() >= TOGETHER || is_end) && !self.dry_run {
                let some = std::mem::take(&mut statements);
                self.store.take_statements(self.feed, some, self.at).await?;
            }
            if is_end {
                break;
            }
        }
        let (outcome, digest, refused, refused_count) =
            reading.await.map_err(|_| StoreError::Closed)?;
        let taken = TakenDocuments {
            advisories: all,
            statements: statement_count,
            unmatched,
            newest,
            digest,
            refused,
            refused_count,
        };
        Ok((outcome, taken))
    }
}

/// Whether it names a package of an ecosystem that is known.
fn is_matched(advisory: &Advisory) -> bool {
    let packages = advisory.affected.iter().filter_map(|one| one.package.as_ref());
    packages.into_iter().any(|package| ecosystem_of(&package.ecosystem).is_some())
}
