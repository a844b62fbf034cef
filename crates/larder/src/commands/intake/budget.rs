//! What a run costs in pulls, and whether the upstreams' limits allow it now.

use std::collections::BTreeMap;
use std::time::Duration;

use larder_client::Registry;
use larder_core::allowance::{Afford, Budget};
use larder_core::name::Host;
use larder_store::Store;
use schemars::JsonSchema;
use serde::Serialize;

use super::upstream::Upstreams;
use crate::config::Config;
use crate::context::{Context, now};
use crate::failure::{Exit, Failure};
use crate::output::{count, time};

/// The longest sleep at a stretch: what is left may change while we wait.
const NAP: i64 = 60_000;

/// The limits of all upstreams, as the runs of this larder see them.
pub struct Budgets<'b> {
    pub config: &'b Config,
    pub upstreams: &'b Upstreams<'b>,
    /// None: nothing was ever brought in, so no pull is known.
    pub store: Option<&'b Store>,
    turn: tokio::sync::Mutex<BTreeMap<Host, Failure>>,
}

/// What a run costs at one upstream.
#[derive(Debug, Serialize, JsonSchema)]
pub struct Cost {
    #[schemars(with = "String")]
    pub host: Host,
    /// Manifests to be fetched.
    pub pulls: u64,
    /// How many may be fetched now. None: no limit is known.
    pub left: Option<u64>,
    /// When all of them can be fetched, as RFC 3339. None: now, or never at once.
    pub back_at: Option<String>,
    /// The most that can be fetched at once, where that is not enough. None: it is.
    pub at_once: Option<u64>,
}

impl<'b> Budgets<'b> {
    pub fn new(config: &'b Config, upstreams: &'b Upstreams<'b>, store: Option<&'b Store>) -> Self {
        Self { config, upstreams, store, turn: tokio::sync::Mutex::default() }
    }

    async fn of(&self, host: &Host, registry: &Registry) -> Result<Budget, Failure> {
        let allowance = self.config.upstream(host).and_then(|upstream| upstream.allowance);
        let reported = registry.reported();
        let mut spent = Vec::new();
        if let (Some(store), true) = (self.store, allowance.is_some() || reported.is_some()) {
            let longest = allowance.map_or(Duration::from_secs(31 * 24 * 3600), |known| known.per);
            let since = now() - i64::try_from(longest.as_millis()).unwrap_or(i64::MAX);
            let noted = store.pulls(host, since).await;
            spent = noted.map_err(|error| Failure::store("cannot tell what was pulled", &error))?;
        }
        Ok(Budget { allowance, spent, reported })
    }

    /// Takes so many pulls of an upstream's limit if it affords them now: nobody else spends the same.
    async fn spend(&self, host: &Host, registry: &Registry, pulls: u64) -> Result<Afford, Failure> {
        let allowance = self.config.upstream(host).and_then(|upstream| upstream.allowance);
        let reported = registry.reported();
        let limited = allowance.is_some() || reported.is_some();
        let (Some(store), true) = (self.store, limited) else { return Ok(Afford::Now) };
        let budget = Budget { allowance, reported, ..Budget::default() };
        let spent = store.spend(host, budget, pulls, true, now()).await;
        spent
            .map(|(afford, _)| afford)
            .map_err(|error| Failure::store("cannot note what is pulled", &error))
    }

    /// Whether an upstream limits how much may be pulled, as far as that is known.
    pub fn is_limited(&self, host: &Host) -> bool {
        let allowance = self.config.upstream(host).and_then(|upstream| upstream.allowance);
        let reported = self.upstreams.registry(host).ok().and_then(Registry::reported);
        allowance.is_some() || reported.is_some()
    }

    /// What so many pulls of each upstream mean. Upstreams without pulls are left out.
    pub async fn costs(&self, pulls: BTreeMap<Host, u64>) -> Result<Vec<Cost>, Failure> {
        let mut costs = Vec::new();
        for (host, pulls) in pulls.into_iter().filter(|(_, pulls)| *pulls > 0) {
            let Ok(registry) = self.upstreams.registry(&host) else { continue };
            let budget = self.of(&host, registry).await?;
            let at = now();
            let (back_at, at_once) = match budget.affords(pulls, at) {
                Afford::Now => (None, None),
                Afford::At(then) => (Some(time(then)), None),
                Afford::Never(most) => (None, Some(most)),
            };
            costs.push(Cost { host, pulls, left: budget.left(at), back_at, at_once });
        }
        Ok(costs)
    }

    /// Takes so many pulls of an upstream's limit, before they are made: a run that is killed has
    /// counted too much rather than too little. It waits for them where that is wanted.
    pub async fn reserve(
        &self,
        host: &Host,
        pulls: u64,
        wait: bool,
        context: &Context,
    ) -> Result<(), Failure> {
        let registry = self.upstreams.registry(host)?;
        let mut told = false;
        loop {
            let then = {
                let turn = self.turn.lock().await;
                if let Some(failure) = turn.get(host) {
                    return Err(failure.clone());
                }
                match self.spend(host, registry, pulls).await? {
                    Afford::At(then) => then,
                    Afford::Now | Afford::Never(_) => return Ok(()),
                }
            };
            if !wait {
                return Err(Self::used_up(host, pulls, then));
            }
            if !told {
                told = true;
                context
                    .output
                    .note(format!("waiting until {} for the allowance of {host}", time(then)));
            }
            let nap = (then - now()).clamp(10, NAP);
            tokio::time::sleep(Duration::from_millis(nap.unsigned_abs())).await;
        }
    }

    /// Nothing more is asked of this upstream in this run: it has said that it is too much.
    pub async fn stop(&self, host: &Host, failure: &Failure) {
        let mut turn = self.turn.lock().await;
        let later = Failure {
            cause: format!("{host} limits our rate; nothing more was asked of it"),
            ..failure.clone()
        };
        turn.entry(host.clone()).or_insert(later);
    }

    fn used_up(host: &Host, pulls: u64, then: i64) -> Failure {
        let pulls = count(usize::try_from(pulls).unwrap_or(usize::MAX), "pull");
        let cause = format!("its {pulls} are back at {} by the allowance of {host}", time(then));
        let remedy = "run it again then; `--wait` waits by itself";
        Failure::usage("", cause, remedy).ending(Exit::No)
    }
}
