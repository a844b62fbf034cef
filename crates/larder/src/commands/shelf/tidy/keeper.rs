//! What decides over all images, and takes them away.

use std::collections::BTreeSet;
use std::time::Duration;

use larder_core::companion::{is_beside, is_made_from_digest, list_tag};
use larder_core::digest::Digest;
use larder_core::holdings::{DropPlan, DropTarget};
use larder_core::name::{RepositoryName, Tag};
use larder_core::quantity::Span;
use larder_core::retention::{
    ClusterUse, Fate, GoesBecause, HeldImage, InUse, KeepRule, KnownAt, Retention, StaysBecause,
};
use larder_store::{RecordKind, Store};

use super::super::known_use::{KnownUse, UseWish, may_pull};
use super::super::{House, unreadable};
use super::surveys::Named;
use super::{TidiedImage, TidyReport};
use crate::config::Config;
use crate::context::{now, read_lock};
use crate::failure::Failure;
use crate::output::time;
use crate::record;

/// Pulls are written down after they were answered, by each process for itself, each second: what goes was let go by
/// two looks at the records that are so long apart.
pub(super) const LAG: Duration = Duration::from_secs(3);

/// What decides over all images.
pub(super) struct Keeper<'c> {
    config: &'c Config,
    pub retention: Retention,
    uses: ClusterUse,
    pub unknown: Vec<KnownAt>,
    named: Named,
    grace: Span,
    now: i64,
}

impl<'c> Keeper<'c> {
    pub async fn new(config: &'c Config, store: &Store, grace: Span) -> Result<Self, Failure> {
        let now = now();
        let within = Span(config.larder.in_use);
        let known = KnownUse::read(config, store, Some(within), UseWish::Clusters).await?;
        let unknown = known.clusters.unknown(now, within);
        let uses = known.clusters;
        let rules = config.keeps.iter().map(|keep| keep.rule.clone()).collect();
        let named = Named::read(config, &read_lock(config)?)?;
        Ok(Self { config, retention: Retention { rules }, uses, unknown, named, grace, now })
    }

    /// Decides over one repository.
    fn judge(
        &self,
        rule: &KeepRule,
        name: &RepositoryName,
        house: &House,
    ) -> Vec<(HeldImage, Fate)> {
        let records = house.holdings.records();
        let mut images = Vec::new();
        for (place, row) in records.manifests.iter().enumerate() {
            // What is pulled of an index are its images.
            let parts = house.holdings.children(place).iter().chain([&place]);
            let pulled = parts.filter_map(|part| house.used(*part)).map(|used| used.last).max();
            let image = |tag, since| HeldImage { tag, digest: row.digest.clone(), since, pulled };
            let tags = house.holdings.tags_of(place);
            images.extend(tags.map(|tag| (place, image(Some(tag.tag.clone()), tag.since))));
            if house.holdings.stands_alone(place) {
                images.push((place, image(None, row.added)));
            }
        }
        let unknown: Vec<(KnownAt, bool)> = self
            .unknown
            .iter()
            .map(|known| (known.clone(), may_pull(self.config, &known.cluster, name)))
            .collect();
        let within = Span(self.config.larder.in_use);
        let places: std::collections::HashMap<Digest, usize> =
            images.iter().map(|(place, image)| (image.digest.clone(), *place)).collect();
        let uses = |image: &HeldImage| -> Option<InUse> {
            if let Some(named) = self.named.of(name, image) {
                return Some(named);
            }
            let place = places.get(&image.digest)?;
            let parts = house.holdings.children(*place).iter().chain([place]);
            let contents = parts.map(|part| &records.manifests[*part].digest);
            self.uses.of_image(name, contents, image.tag.as_ref(), &unknown, self.now, within)
        };
        let images: Vec<HeldImage> = images.into_iter().map(|(_, image)| image).collect();
        let fates = rule.judge(&images, &uses, self.now, self.grace);
        images.into_iter().zip(fates).collect()
    }
}

/// What becomes of the images of a repository.
pub(super) struct TidiedRepository {
    pub going: Vec<TidiedImage>,
    pub kept: Vec<TidiedImage>,
    pub plan: DropPlan,
    /// What goes, of all that the repository holds, in bytes without sharing.
    pub weight: (u64, u64),
}

impl Keeper<'_> {
    /// Looks at a repository and decides.
    pub async fn look(
        &self,
        name: &RepositoryName,
        store: &Store,
    ) -> Result<TidiedRepository, Failure> {
        let rule = self.retention.rule_for(name);
        let house = House::of(store, vec![name.clone()]).await?;
        let nobody = KeepRule::default();
        let judged = self.judge(rule.unwrap_or(&nobody), name, &house);
        let line = rule.map(|rule| rule.line.to_string());
        let tidied = |image: &HeldImage, because: String| TidiedImage {
            repository: name.clone(),
            tag: image.tag.clone(),
            digest: image.digest.clone(),
            pulled_at: image.pulled.map(time),
            because,
            rule: line.clone(),
        };
        let (mut going, mut kept) = (Vec::new(), Vec::new());
        for (image, fate) in &judged {
            match fate {
                Fate::Goes(because) => going.push(tidied(image, words(because))),
                Fate::Stays(because) => {
                    let because = if rule.is_some() { because } else { &StaysBecause::NoRule };
                    kept.push(tidied(image, because.to_string()));
                }
            }
        }
        let mut plan = house.holdings.plan_drop(&targets(&going));
        // What lies under a tag made from the digest of what goes, goes with it; and so on.
        loop {
            let gone: Vec<Tag> =
                plan.manifests.iter().map(|(_, digest)| list_tag(digest)).collect();
            let of_it = |one: &TidiedImage| {
                let tag = one.tag.as_ref().filter(|tag| is_made_from_digest(tag));
                tag.is_some_and(|tag| gone.iter().any(|list| tag == list || is_beside(tag, list)))
            };
            let (with_it, others): (Vec<TidiedImage>, Vec<TidiedImage>) =
                kept.into_iter().partition(of_it);
            kept = others;
            if with_it.is_empty() {
                break;
            }
            let because = "goes with the image that it is about";
            going.extend(
                with_it.into_iter().map(|one| TidiedImage { because: because.into(), ..one }),
            );
            plan = house.holdings.plan_drop(&targets(&going));
        }
        let weight = weigh(&house, &plan);
        Ok(TidiedRepository { going, kept, plan, weight })
    }
}

/// What a plan takes of all that a repository holds, in bytes, as if no two images shared anything.
fn weigh(house: &House, plan: &DropPlan) -> (u64, u64) {
    let records = house.holdings.records();
    let size = |gone: &dyn Fn(&Digest) -> bool| -> u64 {
        let places = 0..records.manifests.len();
        let places: Vec<_> =
            places.filter(|place| gone(&records.manifests[*place].digest)).collect();
        house.holdings.volume(&places).apart
    };
    let gone: BTreeSet<&Digest> = plan.manifests.iter().map(|(_, digest)| digest).collect();
    (size(&|digest| gone.contains(digest)), size(&|_| true))
}

fn targets(going: &[TidiedImage]) -> BTreeSet<DropTarget> {
    let targets = going.iter().map(|one| match &one.tag {
        Some(tag) => DropTarget::Tag(0, tag.clone()),
        None => DropTarget::Manifest(0, one.digest.clone()),
    });
    targets.collect()
}

/// Removes what goes by a second look too, a repository after the other; each removal is in the record.
pub(super) async fn remove(
    going: &[(RepositoryName, Vec<TidiedImage>)],
    grace: Span,
    config: &Config,
    store: &Store,
    report: &mut TidyReport,
) -> Result<(), Failure> {
    let keeper = Keeper::new(config, store, grace).await?;
    report.removed.clear();
    report.freed_bytes = 0;
    // On a full disk the records could not be written: what is kept aside for that makes room.
    store.use_spare().await.map_err(|error| unreadable(&error))?;
    for (name, before) in going {
        let tidied = keeper.look(name, store).await?;
        let same = |one: &TidiedImage| {
            before.iter().any(|old| old.tag == one.tag && old.digest == one.digest)
        };
        let removed: Vec<TidiedImage> = tidied.going.into_iter().filter(same).collect();
        report.changed += before.len() - removed.len();
        report.kept_images += before.len() - removed.len();
        if removed.is_empty() {
            continue;
        }
        let house = House::of(store, vec![name.clone()]).await?;
        let plan = house.holdings.plan_drop(&targets(&removed));
        let entries = removed.iter().map(|one| {
            let text = format!("tidied: {}; it was {}", one.because, one.digest);
            let mut entry = record::entry(RecordKind::Delete, &one.name(), &text);
            entry.line.clone_from(&one.rule);
            entry
        });
        let (entries, freed) = (entries.collect(), plan.freed);
        let dropped = store.drop_planned(plan, entries).await;
        let dropped = dropped.map_err(|error| unreadable(&error))?;
        report.changed += dropped.changed;
        report.freed_bytes += freed;
        report.removed.extend(removed);
    }
    store.keep_spare().await;
    Ok(())
}

fn words(because: &[GoesBecause]) -> String {
    because.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}
