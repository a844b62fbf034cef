//! Tags that a parcel says were removed where it was made.

use std::collections::BTreeSet;

use larder_core::holdings::{DropTarget, Holdings};
use larder_core::parcel::ParcelRemoval;
use larder_core::quantity::Span;
use larder_core::reference::Selector;
use larder_store::{RecordKind, Store, StoreError};
use larder_transfer::parcel::Parcel;

use super::unpack::KeptTag;
use crate::commands::shelf::{KnownUse, UseWish};
use crate::config::Config;
use crate::context::now;
use crate::failure::Failure;
use crate::record;

/// What becomes of them here.
pub(super) struct RemovalPlan {
    gone: Vec<ParcelRemoval>,
    kept: Vec<KeptTag>,
}

fn name(one: &ParcelRemoval) -> String {
    format!("{}:{}", one.to, one.tag)
}

/// Decides what goes: what is not here, points to something else or is in use stays.
pub(super) async fn plan(
    parcel: &Parcel,
    wanted: bool,
    config: &Config,
    store: &Store,
) -> Result<RemovalPlan, Failure> {
    let failed = |error| Failure::store("cannot tell what goes", &error);
    let mut plan = RemovalPlan { gone: Vec::new(), kept: Vec::new() };
    let removals = &parcel.contents.removals;
    if removals.is_empty() {
        return Ok(plan);
    }
    let within = Span(config.larder.in_use);
    let known = KnownUse::read(config, store, Some(within), UseWish::Clusters).await?;
    for one in removals {
        let here = store.manifest_record(&one.to, &Selector::Tag(one.tag.clone())).await;
        let Some(here) = here.map_err(failed)? else { continue };
        let holdings = Holdings::new(store.holdings(vec![one.to.clone()]).await.map_err(failed)?);
        let place = holdings.place(0, &here.digest);
        let parts: Vec<_> =
            place.map(|place| holdings.children(place)).unwrap_or_default().to_vec();
        let contents = parts.iter().chain(place.iter());
        let contents = contents.map(|part| &holdings.records().manifests[*part].digest);
        let used = known.clusters.of_image(&one.to, contents, Some(&one.tag), &[], now(), within);
        let because = match (wanted, here.digest == one.digest, used) {
            (_, false, _) => Some("it points to something else here".to_owned()),
            (_, true, Some(used)) => Some(used.to_string()),
            (false, true, None) => Some("`--removals` takes it".to_owned()),
            (true, true, None) => None,
        };
        match because {
            Some(because) => plan.kept.push(KeptTag { tag: name(one), because }),
            None => plan.gone.push(one.clone()),
        }
    }
    Ok(plan)
}

impl RemovalPlan {
    /// What goes, and what stays with the reasons.
    pub fn told(&self) -> (Vec<String>, Vec<KeptTag>) {
        let kept = self
            .kept
            .iter()
            .map(|one| KeptTag { tag: one.tag.clone(), because: one.because.clone() });
        (self.gone.iter().map(name).collect(), kept.collect())
    }

    /// Removes them, each with its line in the record.
    pub async fn carry_out(&self, parcel: &Parcel, store: &Store) -> Result<(), Failure> {
        for one in &self.gone {
            let remove = async {
                let holdings = Holdings::new(store.holdings(vec![one.to.clone()]).await?);
                let plan =
                    holdings.plan_drop(&BTreeSet::from([DropTarget::Tag(0, one.tag.clone())]));
                let text = format!(
                    "removed by a parcel signed by {}: {}; it was {}",
                    parcel.signed_by, one.because, one.digest
                );
                let entry = record::entry(RecordKind::Delete, &name(one), &text);
                store.drop_planned(plan, vec![entry]).await?;
                Ok::<(), StoreError>(())
            };
            let removed = remove.await;
            removed
                .map_err(|error| Failure::store(format!("cannot remove {}", name(one)), &error))?;
        }
        Ok(())
    }
}
