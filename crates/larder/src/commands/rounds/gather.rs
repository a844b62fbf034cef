//! Everything that may need a decision, from the store and the files of this larder.

use std::collections::BTreeMap;

use larder_core::lock::{Stale, stale};
use larder_core::platform::listed;
use larder_core::quantity::{Size, Span};
use larder_core::rounds::{Concern, Urgency, ends, fills, is_due, repeats, room_is_short};
use larder_core::shown::shown;
use larder_store::{Filter, Mark, MoveStage, Peer, RecordKind, Store, StoreError};
use serde::Deserialize;

use super::{published, signed};
use crate::commands::shelf::tidy::daily;
use crate::commands::shelf::{KnownUse, UseWish};
use crate::config::{Config, served_certificate_end};
use crate::context::{now, read_lock};
use crate::failure::Failure;
use crate::marks;
use crate::output::time;

const DAY: i64 = 24 * 3_600_000;
/// How far back refusals and moves are looked at.
const BACK: i64 = 7 * DAY;
/// Lines of the record that are looked at.
const LINES: usize = 20_000;
/// Lines of one kind that are told one by one.
const EACH: usize = 10;
/// How often backups are made, and everything is read again, in days.
const BACKUP: i64 = 7;
const VERIFY: i64 = 30;
/// What lies unused and is worth a line.
const UNTIDY: u64 = 1024 * 1024 * 1024;

struct Gatherer<'g> {
    config: &'g Config,
    store: &'g Store,
    now: i64,
    found: Vec<Concern>,
}

/// All of it, in no order.
pub async fn all(config: &Config, store: &Store) -> Result<Vec<Concern>, Failure> {
    let mut gatherer = Gatherer { config, store, now: now(), found: Vec::new() };
    let gathered = gatherer.the_store().await;
    gathered.map_err(|error| Failure::store("cannot tell what needs a decision", &error))?;
    gatherer.clusters().await?;
    gatherer.lock_and_files()?;
    gatherer.found.extend(published::all(config, store).await?);
    gatherer.found.extend(signed::all(config, store).await?);
    Ok(gatherer.found)
}

/// What a survey found, as its mark has it.
#[derive(Debug, Default, Clone, PartialEq, Eq, serde::Serialize, Deserialize)]
#[serde(default)]
pub struct SurveyFound {
    pub references: usize,
    pub uncovered: usize,
    pub missing: usize,
    pub malformed: usize,
    pub floating: usize,
}

impl Gatherer<'_> {
    fn add(
        &mut self,
        name: impl Into<String>,
        urgency: Urgency,
        since: Option<i64>,
        text: impl Into<String>,
        remedy: impl Into<String>,
    ) {
        let text = shown(&text.into()).into_owned();
        let (name, remedy) = (name.into(), remedy.into());
        self.found.push(Concern { name, urgency, since, text, remedy });
    }

    async fn the_store(&mut self) -> Result<(), StoreError> {
        self.intake().await?;
        self.keys().await?;
        self.refusals().await?;
        self.upstreams().await?;
        self.room().await?;
        self.marks().await
    }

    /// Images that failed, and tags that moved.
    async fn intake(&mut self) -> Result<(), StoreError> {
        let (mut failed, mut moved) = (Vec::new(), Vec::new());
        for record in self.store.intake().await? {
            let wanted = self.config.intake_of(&record.want.image);
            if !wanted.is_some_and(|intake| intake.tags.want(&record.want.tag)) {
                continue;
            }
            let image = format!("{}:{}", record.want.image, record.want.tag);
            if let Some((cause, at)) = &record.failed {
                failed.push((image.clone(), cause.clone(), *at));
            }
            let brought = record.brought.as_ref().map_or(i64::MIN, |(_, at)| *at);
            if let Some(at) = record.moved.filter(|at| *at > brought && *at > self.now - BACK) {
                moved.push((image, at));
            }
        }
        failed.sort_by_key(|(.., at)| *at);
        let more = failed.len().saturating_sub(EACH);
        for (image, cause, at) in failed.into_iter().take(EACH) {
            let text = format!("{image} could not be brought in: {cause}");
            let urgency = if self.now - at > DAY { Urgency::Urgent } else { Urgency::Soon };
            self.add(format!("intake/{image}"), urgency, Some(at), text, "larder intake run");
        }
        if more > 0 {
            let text = format!("{more} more images could not be brought in");
            self.add("intake/more", Urgency::Soon, None, text, "larder intake status");
        }
        for (image, at) in moved.into_iter().take(EACH) {
            let text = format!("{image} moved at its upstream, and is here as it was");
            let remedy = "larder intake diff, then larder intake run";
            self.add(format!("moved/{image}"), Urgency::Notice, Some(at), text, remedy);
        }
        let caching: Vec<String> = self
            .config
            .cached_shelves()
            .map(|(shelf, ..)| shelf.name.get_ref().to_string())
            .collect();
        for shelf in caching {
            for one in self.store.moves(&shelf, EACH).await? {
                if one.at < self.now - BACK || one.after.is_some() {
                    continue;
                }
                let text = format!(
                    "{}:{} is gone at its upstream, and is still served",
                    one.repository, one.tag
                );
                let name = format!("moved/{}:{}", one.repository, one.tag);
                let remedy = format!("larder shelf show {}:{}", one.repository, one.tag);
                self.add(name, Urgency::Notice, Some(one.at), text, remedy);
            }
        }
        Ok(())
    }

    async fn keys(&mut self) -> Result<(), StoreError> {
        // The one of each user that ends last counts.
        let mut last: BTreeMap<String, Option<i64>> = BTreeMap::new();
        for key in self.store.keys().await? {
            if key.revoked.is_some() || self.config.grants.who(&key.user).is_none() {
                continue;
            }
            let end = last.entry(key.user).or_insert(key.expires);
            *end = end.zip(key.expires).map(|(a, b)| a.max(b));
        }
        for (user, end) in last {
            let Some(end) = end else { continue };
            let Some(urgency) = ends(end, self.now) else { continue };
            let cluster = user.split('/').next().unwrap_or_default();
            let is_cluster = self.config.clusters.iter().any(|one| one.name.get_ref() == cluster);
            let (remedy, of) = match is_cluster {
                true => (format!("larder handoff apply {cluster} --rotate-before 14d"), "cluster"),
                false => (format!("larder key rotate --account {user}"), "account"),
            };
            let verb = if end <= self.now { "ended" } else { "ends" };
            let text = format!("the key of the {of} {user} {verb} {}", time(end));
            let since = (end <= self.now).then_some(end);
            self.add(format!("key/{user}"), urgency, since, text, remedy);
        }
        Ok(())
    }

    /// What is refused again and again.
    async fn refusals(&mut self) -> Result<(), StoreError> {
        let filter = Filter {
            since: Some(self.now - BACK),
            kinds: vec![RecordKind::Refused, RecordKind::Failed],
            limit: Some(LINES),
            ..Filter::default()
        };
        let mut groups: BTreeMap<(String, String), (u64, i64, i64, String)> = BTreeMap::new();
        for entry in self.store.entries(filter).await? {
            let who = if entry.who.is_empty() { "somebody".to_owned() } else { entry.who };
            let about = entry.reference.unwrap_or_default();
            let group = groups.entry((who, about)).or_insert((0, entry.first, 0, String::new()));
            group.0 += entry.count;
            group.1 = group.1.min(entry.first);
            if entry.last >= group.2 {
                (group.2, group.3) = (entry.last, entry.number);
            }
        }
        let mut all: Vec<_> = groups.into_iter().collect();
        all.sort_by_key(|(_, (times, ..))| std::cmp::Reverse(*times));
        for ((who, about), (times, first, _, number)) in all.into_iter().take(EACH) {
            let Some(urgency) = repeats(times) else { continue };
            // Strangers are refused all day long on any network.
            let urgency = if who == "somebody" { Urgency::Notice } else { urgency };
            let of = if about.is_empty() { String::new() } else { format!(" {about}") };
            let text = format!("{who} was refused{of} {times} times in 7 days");
            let remedy = format!("larder log {number}");
            self.add(format!("refused/{who}/{about}"), urgency, Some(first), text, remedy);
        }
        Ok(())
    }

    async fn upstreams(&mut self) -> Result<(), StoreError> {
        for one in self.store.standing().await? {
            if self.config.upstream(&one.host).is_none() {
                continue;
            }
            let still = one.until.is_none_or(|until| until > self.now);
            let urgency = match one.condition.as_str() {
                "well" | larder_store::RETRY => continue,
                _ if !still || self.now - one.at > BACK => continue,
                "limited" => Urgency::Soon,
                _ => Urgency::Urgent,
            };
            let cause = one.cause.map(|cause| format!(": {cause}")).unwrap_or_default();
            let what =
                if one.condition == "limited" { "limits our pulls" } else { "is in trouble" };
            let text = format!("{} {what}{cause}", one.host);
            let remedy = format!("larder shelf retry {}", one.host);
            self.add(format!("upstream/{}", one.host), urgency, Some(one.at), text, remedy);
        }
        Ok(())
    }

    /// Tells of a quota that fills.
    fn quota(&mut self, name: &str, whose: &str, held: (u64, Option<u64>), remedy: &str) {
        let (held, Some(most)) = held else { return };
        if let Some(urgency) = fills(held, most) {
            let text = format!("{whose} holds {} of its quota of {}", Size(held), Size(most));
            self.add(format!("quota/{name}"), urgency, None, text, remedy);
        }
    }

    async fn room(&mut self) -> Result<(), StoreError> {
        if let (Some(room), Some(capacity)) =
            (self.store.room().await?, self.store.capacity().await?)
        {
            let reserve = self.config.larder.reserve;
            let left = room.saturating_sub(reserve);
            let most = capacity.saturating_sub(reserve);
            if let Some(urgency) = room_is_short(left, most) {
                let text =
                    format!("the disk of the store has {} left above its reserve", Size(left));
                self.add("room", urgency, None, text, "larder shelf list --sort size");
            }
        }
        let quotas = self.config.quotas();
        for one in self.store.shelf_totals(i64::MAX).await? {
            let quota = quotas.iter().find(|(name, _)| *name == one.shelf).map(|(_, quota)| *quota);
            let Some(quota) = quota else { continue };
            let (shelf, held) = (one.shelf, one.bytes + one.loose);
            let remedy = format!("larder shelf tidy {shelf}");
            self.quota(&shelf, &format!("the shelf {shelf}"), (held, quota.shelf), &remedy);
            if quota.repository.is_some() {
                for (name, held) in self.store.largest_repositories(&shelf, EACH).await? {
                    let (whose, most) = (format!("the repository {name}"), quota.repository);
                    let remedy = format!("larder shelf show {name}");
                    self.quota(&name, &whose, (held, most), &remedy);
                }
            }
        }
        for (shelf, account, held) in self.store.account_bytes().await? {
            let quota = quotas.iter().find(|(name, _)| *name == shelf);
            let most = quota.and_then(|(_, quota)| quota.account);
            let (name, whose) = (format!("{shelf}/{account}"), format!("{account} in {shelf}"));
            self.quota(&name, &whose, (held, most), "larder shelf list");
        }
        let (_, unused) = self.store.collectable(self.now - DAY).await?;
        if unused > UNTIDY {
            let text = format!("{} lie in the store that nothing refers to", Size(unused));
            self.add("unused", Urgency::Notice, None, text, "larder store collect");
        }
        Ok(())
    }

    /// Larders that share the store and are not alike.
    async fn peers(&mut self) -> Result<(), StoreError> {
        let peers = self.store.peers().await?;
        let mut tell = |what: &str, of: fn(&Peer) -> &str, urgency, remedy: &str| {
            let first = peers.first().map(of);
            if peers.iter().any(|peer| Some(of(peer)) != first) {
                let all: Vec<String> =
                    peers.iter().map(|peer| format!("{} has {}", peer.name, of(peer))).collect();
                let text = format!(
                    "larders that share this store have several {what}s: {}",
                    all.join(", ")
                );
                self.add(format!("serving/{what}"), urgency, None, text, remedy);
            }
        };
        let text = "let larder.toml be the same at each of them";
        tell("configuration", |peer| &peer.configuration, Urgency::Soon, text);
        tell("version", |peer| &peer.version, Urgency::Notice, "bring all to the same version");
        Ok(())
    }

    async fn marks(&mut self) -> Result<(), StoreError> {
        self.peers().await?;
        if let Some(state) = self.store.move_state().await? {
            let urgency = match state.stage {
                MoveStage::Copying => Urgency::Notice,
                MoveStage::Frozen | MoveStage::Moved => Urgency::Urgent,
            };
            let text = crate::commands::store::moving::told(&state);
            let remedy = match state.stage {
                MoveStage::Moved => "larder serve --config FILE",
                MoveStage::Copying | MoveStage::Frozen => "larder store move --to FILE",
            };
            self.add("move", urgency, Some(state.at), text, remedy);
        }
        let marks = self.store.marks("").await?;
        let of = |name: &str| marks.iter().find(|mark| mark.name == name);
        self.upkeep(of(marks::BACKUP), of(marks::VERIFY));
        for one in &self.config.notify {
            let failing = of(&format!("{}{}/failing", marks::NOTIFY, one.name()));
            if let Some(Mark { value, at, .. }) = failing {
                let name = one.name();
                let text = format!("{name} cannot be told of events: {value}");
                self.add(
                    format!("notify/{name}"),
                    Urgency::Soon,
                    Some(*at),
                    text,
                    "larder check --tell",
                );
            }
        }
        if let Some(mark) = of(marks::EXPORT)
            && let Some(urgency) = is_due(Some(mark.at), BACKUP, self.now)
        {
            let text = format!("the record was exported last {}", time(mark.at));
            self.add("export", urgency, Some(mark.at), text, "larder log --export FOLDER");
        }
        for (name, text) in [
            (
                marks::CONFIG_WAITS,
                "a changed configuration waits for a new start of `larder serve`",
            ),
            (
                marks::CONFIG_WRONG,
                "the changed configuration cannot be used, so what held before holds",
            ),
        ] {
            if let Some(mark) = of(name).filter(|mark| !mark.value.is_empty()) {
                let text = format!("{text}: {}", mark.value);
                let urgency =
                    if name == marks::CONFIG_WRONG { Urgency::Urgent } else { Urgency::Soon };
                self.add(name.replace('/', "-"), urgency, Some(mark.at), text, "larder check");
            }
        }
        if let Some(mark) = of(marks::SURVEY)
            && let Ok(found) = serde_json::from_str::<SurveyFound>(&mark.value)
        {
            self.survey(&found, mark.at);
        }
        for mark in &marks {
            if let Some(cluster) = mark.name.strip_prefix(marks::HANDOFF)
                && mark.value != "right"
                && self.config.clusters.iter().any(|one| one.name.get_ref() == cluster)
            {
                let text = format!("the handoff of {cluster} differs: {}", mark.value);
                let remedy = format!("larder handoff apply {cluster}");
                self.add(format!("handoff/{cluster}"), Urgency::Soon, Some(mark.at), text, remedy);
            }
            if let Some(shelf) = mark.name.strip_prefix(daily::WAITING) {
                let text = format!(
                    "tidying {shelf} would take much of it, and waits for a person: {}",
                    mark.value
                );
                let remedy = format!("larder shelf tidy {shelf}, then larder shelf tidy --yes");
                self.add(format!("tidy/{shelf}"), Urgency::Soon, Some(mark.at), text, remedy);
            }
        }
        if self.config.larder.tidy.is_some()
            && of(daily::AGREED).is_none_or(|mark| mark.value != daily::rules_of(self.config))
        {
            let text = "`tidy` is written, and nobody has carried these [[keep]] out yet: nothing is tidied";
            self.add(
                "tidy",
                Urgency::Soon,
                None,
                text,
                "larder shelf tidy, then larder shelf tidy --yes",
            );
        }
        Ok(())
    }

    fn upkeep(&mut self, backup: Option<&Mark>, verify: Option<&Mark>) {
        if let Some(urgency) = is_due(backup.map(|mark| mark.at), BACKUP, self.now) {
            let text = match backup {
                None => "the store was never backed up".to_owned(),
                Some(mark) => format!("the store was backed up last {}", time(mark.at)),
            };
            self.add(
                "backup",
                urgency,
                backup.map(|mark| mark.at),
                text,
                "larder store backup FOLDER",
            );
        }
        if let Some(mark) = verify.filter(|mark| mark.value != marks::SOUND) {
            let text = format!("the store is damaged: {}", mark.value);
            let remedy = "larder store verify --repair";
            self.add("damage", Urgency::Urgent, Some(mark.at), text, remedy);
        }
        if let Some(urgency) = is_due(verify.map(|mark| mark.at), VERIFY, self.now) {
            let text = match verify {
                None => "the store was never read again".to_owned(),
                Some(mark) => format!("the store was read again last {}", time(mark.at)),
            };
            self.add("verify", urgency, verify.map(|mark| mark.at), text, "larder store verify");
        }
    }

    fn survey(&mut self, found: &SurveyFound, at: i64) {
        let lines = [
            (
                "uncovered",
                found.uncovered,
                Urgency::Soon,
                "that nobody brings in",
                "larder survey --missing",
            ),
            (
                "missing",
                found.missing,
                Urgency::Urgent,
                "that name this larder, which does not have them",
                "larder survey --fail-on missing",
            ),
            (
                "malformed",
                found.malformed,
                Urgency::Soon,
                "that cannot be read",
                "larder survey --fail-on malformed",
            ),
            (
                "floating",
                found.floating,
                Urgency::Notice,
                "that may be another image tomorrow",
                "larder survey --fail-on floating",
            ),
        ];
        for (name, number, urgency, text, remedy) in lines.into_iter().filter(|line| line.1 > 0) {
            let text =
                format!("the last survey found {number} of {} references {text}", found.references);
            self.add(format!("survey/{name}"), urgency, Some(at), text, remedy);
        }
    }

    /// Clusters of which nothing is known, where that holds images.
    async fn clusters(&mut self) -> Result<(), Failure> {
        if self.config.keeps.is_empty() {
            return Ok(());
        }
        let within = Span(self.config.larder.in_use);
        let read = KnownUse::read(self.config, self.store, Some(within), UseWish::Clusters);
        let known = read.await?;
        for one in known.clusters.unknown(self.now, within) {
            let cluster = &one.cluster;
            let text = format!(
                "it is not known what {cluster} runs: all that it may pull counts as in use"
            );
            let remedy = format!("larder survey --cluster {cluster}");
            self.add(format!("unknown/{cluster}"), Urgency::Notice, one.at, text, remedy);
        }
        Ok(())
    }

    /// What the lock and the certificate say.
    fn lock_and_files(&mut self) -> Result<(), Failure> {
        let lock = read_lock(self.config)?;
        let mut waiting = Vec::new();
        for one in stale(&self.config.wishes(), &lock) {
            match one {
                Stale::NotLocked(want) | Stale::OtherPlatforms(want) => {
                    waiting.push(format!("{}:{}", want.image, want.tag));
                }
                Stale::NothingLocked(image) => waiting.push(image.to_string()),
                Stale::Lacks(want, lacks) => {
                    let text = format!("{want} is wanted, and is not made for {}", listed(&lacks));
                    let next = format!("larder look {want}");
                    self.add(format!("lacking/{want}"), Urgency::Soon, None, text, next);
                }
                Stale::Unwanted(_) | Stale::PassedOver(_) => {}
            }
        }
        if let Some(first) = waiting.first() {
            let text = match waiting.len() {
                1 => format!("{first} is wanted and not locked"),
                more => format!("{first} and {} others are wanted and not locked", more - 1),
            };
            self.add("lock", Urgency::Soon, None, text, "larder intake lock");
        }
        if let Some((path, end)) = served_certificate_end(self.config)
            && let Some(urgency) = ends(end, self.now)
        {
            let verb = if end <= self.now { "ended" } else { "ends" };
            let text = format!("the larder's certificate {path} {verb} {}", time(end));
            self.add("certificate", urgency, (end <= self.now).then_some(end), text, "");
        }
        Ok(())
    }
}
