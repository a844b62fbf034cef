//! What clusters were seen to run at their doors: in memory, written down beside the requests.

use std::collections::HashMap;
use std::sync::{Mutex, PoisonError};

use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::{SeenBy, SeenWorkload, Store, StoreError, now};

/// What is remembered until it is written down; what comes on top of that is not.
const MOST: usize = 20_000;
/// Workloads of which it is looked up what their tags point to, each time.
const LOOKED_UP: usize = 500;

/// A workload, and an image of this larder that it names.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub(crate) struct Sighting {
    pub cluster: String,
    pub namespace: String,
    pub workload: String,
    pub image: (RepositoryName, Selector),
}

/// What was seen since it was last written down.
#[derive(Default)]
pub(crate) struct Sightings(Mutex<Pending>);

#[derive(Default)]
struct Pending {
    seen: HashMap<Sighting, i64>,
    /// Clusters that asked, whatever it was.
    clusters: HashMap<String, i64>,
}

impl Sightings {
    /// A cluster asked at its door for these.
    pub fn note(&self, cluster: &str, seen: Vec<Sighting>) {
        let at = now();
        let mut pending = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        pending.clusters.insert(cluster.to_owned(), at);
        for one in seen {
            if pending.seen.len() < MOST || pending.seen.contains_key(&one) {
                pending.seen.insert(one, at);
            }
        }
    }

    /// Writes down what was seen. What cannot be written is seen again.
    pub async fn write(&self, store: &Store) {
        let pending = std::mem::take(&mut *self.0.lock().unwrap_or_else(PoisonError::into_inner));
        if pending.clusters.is_empty() {
            return;
        }
        if let Err(error) = write(pending, store).await {
            tracing::warn!(%error, "what clusters run could not be written down");
        }
    }
}

async fn write(pending: Pending, store: &Store) -> Result<(), StoreError> {
    let mut rows: Vec<SeenWorkload> = pending
        .clusters
        .into_iter()
        .map(|(cluster, last)| SeenWorkload {
            cluster,
            namespace: String::new(),
            workload: String::new(),
            repository: String::new(),
            selector: String::new(),
            digest: String::new(),
            how: SeenBy::Door,
            first: None,
            last,
        })
        .collect();
    for (place, (one, last)) in pending.seen.into_iter().enumerate() {
        let (repository, selector) = one.image;
        let digest = match &selector {
            Selector::Digest(digest) => digest.to_string(),
            Selector::Tag(_) if place >= LOOKED_UP => String::new(),
            Selector::Tag(_) => {
                let found = store.manifest_record(&repository, &selector).await?;
                found.map(|found| found.digest.to_string()).unwrap_or_default()
            }
        };
        rows.push(SeenWorkload {
            cluster: one.cluster,
            namespace: one.namespace,
            workload: one.workload,
            repository: repository.to_string(),
            selector: selector.to_string(),
            digest,
            how: SeenBy::Door,
            first: None,
            last,
        });
    }
    store.saw(rows).await
}
