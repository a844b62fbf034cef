//! What a cluster should have in order to pull, by its configuration.

use larder_core::access::Who;
use larder_core::access::key::{Key, KeyId, Pepper};
use larder_core::diagnosis::{
    ContentAccess, Credential, Diagnosis, Evidence, HostOutcome, KeyState, NameEvidence, Nodes,
    Policy, PullVerdict, Record, Secret, SecretFault, Visit, diagnose,
};
use larder_core::door::{DoorKey, Question, RulesAt, Unanswered};
use larder_core::handoff::{
    ClusterFault, NameRules, NodeLogin, SecretLogin, TooMany, WantedSecret, Webhooks, read_secrets,
};
use larder_store::{Filter, KeyRecord, RecordKind, Store, now};
use serde_json::Value;

use crate::access::{audience, secret};
use crate::config::{ClusterConfig, Config};
use crate::failure::{Exit, Failure};
use crate::keys::{failed, make, note};
use crate::kube::Kube;
use crate::output::time;

/// How long the kubelet may use a pull token again: less than it is good.
const CACHE: &str = "8m0s";
/// From which version on a cluster's API knows the conditions of webhooks, and policies of its own.
const CONDITIONS: (u32, u32) = (1, 28);
const POLICIES: (u32, u32) = (1, 30);

/// A cluster as it is declared.
pub fn cluster<'c>(
    config: &'c Config,
    what: &str,
    name: &str,
) -> Result<&'c ClusterConfig, Failure> {
    config.cluster(name).ok_or_else(|| {
        let known = config.clusters.iter().map(|one| one.name.get_ref().as_str());
        let cause = crate::failure::unknown("cluster", name, known);
        Failure::usage(what, cause, "declare it in larder.toml with [[cluster]]")
    })
}

/// Refuses one who is not declared, with the near names or all that are.
pub fn declared(config: &Config, what: &str, who: Who) -> Result<Who, Failure> {
    let Some(cause) = config.grants.undeclared(&who) else { return Ok(who) };
    let all: Vec<String> = config.grants.everybody().iter().map(Who::to_string).collect();
    let known = if all.is_empty() { "nobody".into() } else { all.join(", ") };
    let remedy = "declare it with [[cluster]] or [[account]] in larder.toml";
    Err(Failure::usage(what, format!("{cause}; declared are: {known}"), remedy))
}

/// The pull secrets that a cluster's namespaces should have; of one namespace, if one is named.
pub fn wanted(
    config: &Config,
    cluster: &ClusterConfig,
    namespace: Option<&str>,
    what: &str,
) -> Result<Vec<WantedSecret>, Failure> {
    let host = config.larder.url.host.to_string();
    let name = cluster.name.get_ref();
    let one = |namespace: &str, accounts: &[String]| WantedSecret {
        namespace: namespace.to_owned(),
        name: cluster.pull_secret.clone(),
        host: host.clone(),
        user: Who::cluster(name, Some(namespace)).to_string(),
        service_accounts: accounts.to_vec(),
    };
    if let Some(namespace) = namespace {
        let who = Who::cluster(name, Some(namespace));
        if !config.grants.knows(&who) {
            let cause = format!("the cluster {name} is declared without the namespace {namespace}");
            return Err(Failure::usage(what, cause, "add it to `namespaces` of the [[cluster]]"));
        }
    }
    let declared = cluster
        .namespaces
        .iter()
        .filter(|it| namespace.is_none_or(|name| it.name.get_ref() == name));
    let mut all: Vec<WantedSecret> = declared
        .map(|it| {
            let accounts = it.service_accounts.as_ref().unwrap_or(&cluster.service_accounts);
            one(it.name.get_ref(), accounts)
        })
        .collect();
    if let (true, Some(namespace)) = (all.is_empty(), namespace) {
        all.push(one(namespace, &cluster.service_accounts));
    }
    if all.is_empty() {
        let cause = format!("the cluster {name} is declared without namespaces");
        let remedy = "name one with `--namespace`, or add `namespaces` to the [[cluster]]";
        return Err(Failure::usage(what, cause, remedy));
    }
    Ok(all)
}

/// How its nodes get pull tokens. None: the cluster has no identity.
pub fn node_login(
    config: &Config,
    cluster: &ClusterConfig,
    ca: Option<String>,
) -> Option<NodeLogin> {
    let identity = cluster.identity.as_ref()?;
    Some(NodeLogin {
        host: config.larder.url.host.to_string(),
        url: config.larder.url.endpoint.to_string(),
        audience: audience(config, identity),
        ca,
        cache: CACHE.into(),
    })
}

/// What leads the cluster's API to its door. `conditions`: whether that API knows `matchConditions`. None: it has
/// no door.
pub fn webhooks(
    config: &Config,
    cluster: &ClusterConfig,
    ca: Option<&[u8]>,
    conditions: bool,
    what: &str,
) -> Result<Option<Webhooks>, Failure> {
    let Some(raw) = &cluster.door else { return Ok(None) };
    let name = cluster.name.get_ref();
    let Some(url) = raw.url(&config.larder.url.endpoint.to_string()) else {
        let cause = format!(
            "the platform asks at a door by HTTPS alone, and {} is none",
            raw.url.as_ref().map_or_else(
                || format!("the larder's `url` {}", config.larder.url.endpoint),
                |url| format!("the door's `url` {}", url.get_ref())
            )
        );
        let remedy = "set `tls` and an https:// `url` under [larder], or `url` under [cluster.door] when a proxy has the certificate";
        return Err(Failure::usage(what, cause, remedy));
    };
    let door = raw.door(&cluster.pull_secret);
    let path = DoorKey::new(&secret(config)?).path(name);
    Ok(Some(Webhooks {
        cluster: name.clone(),
        url: format!("{url}{path}"),
        ca: ca.map(|ca| String::from_utf8_lossy(ca).into_owned()),
        except: door.except.clone(),
        rewrites: door.rewrite || door.secret.is_some(),
        judges: door.rules != RulesAt::Off,
        rewriting_needed: door.unanswered == Some(Unanswered::Refuse),
        rules_needed: door.refuses(Question::Rules { refuses_by_default: true }),
        conditions,
    }))
}

/// What the rules decide by names alone, for the cluster's API to hold by itself. Empty: it has no door at which rules
/// are asked, or names alone decide nothing.
///
/// # Errors
/// There is too much of it for the platform. The door and every pull hold it all the same.
pub fn name_rules(config: &Config, cluster: &ClusterConfig) -> Result<Vec<Value>, TooMany> {
    let Some(raw) = cluster.door.as_ref().filter(|raw| raw.names()) else { return Ok(Vec::new()) };
    let door = raw.door(&cluster.pull_secret);
    let names = NameRules {
        cluster: cluster.name.get_ref(),
        host: config.larder.url.host.as_str(),
        rules: &config.rules,
        classes: &config.classes,
        origins: &config.routes().origins(),
        unqualified: &config.larder.unqualified,
        except: &door.except,
        warns: door.rehearse || door.rules == RulesAt::Warn,
    };
    names.objects()
}

/// All that the cluster's API is told about what is let in: how it asks at the door, and what it holds by itself, as
/// far as it can.
pub async fn admission(
    config: &Config,
    cluster: &ClusterConfig,
    ca: Option<&[u8]>,
    kube: &Kube,
    what: &str,
) -> Result<Vec<Value>, Failure> {
    let version = kube.version().await?;
    let webhooks = webhooks(config, cluster, ca, version >= CONDITIONS, what)?;
    let mut all = webhooks.map(|webhooks| webhooks.objects()).unwrap_or_default();
    if version >= POLICIES {
        // What is too much for the platform, `handoff write` tells.
        all.extend(name_rules(config, cluster).unwrap_or_default());
    }
    Ok(all)
}

/// The key that a secret holds, with what is known of it. None: it holds no key of this larder.
pub fn held_key(
    config: &Config,
    wanted: &WantedSecret,
    found: &Value,
    known: &[KeyRecord],
) -> Result<Option<KeyRecord>, Failure> {
    let Ok(read) = read_secrets(&found.to_string()) else { return Ok(None) };
    let login = read.iter().flat_map(|one| &one.logins).find(|login| login.host == wanted.host);
    let Some(SecretLogin::Password(text)) = login.and_then(|login| login.held.as_ref()) else {
        return Ok(None);
    };
    let Ok(key) = text.parse::<Key>() else { return Ok(None) };
    let pepper = Pepper::new(&secret(config)?);
    Ok(known.iter().find(|one| one.id == key.id() && pepper.verifies(&key, &one.hash)).cloned())
}

/// What comes of a fault when a pod pulls, found as `larder why` finds it. None: it is not about the pull.
pub fn diagnosed(wanted: &WantedSecret, fault: &ClusterFault) -> Option<Diagnosis> {
    let fits = |agrees: bool, key: Option<KeyState>| {
        let from = format!("pull secret {}/{}", wanted.namespace, wanted.name);
        Credential::Fits(Secret { from, user: wanted.user.clone(), agrees, key })
    };
    let credential = match fault {
        ClusterFault::Missing(elsewhere) => Credential::Unfit(SecretFault::Missing {
            name: wanted.name.clone(),
            elsewhere: elsewhere.clone(),
            near: None,
        }),
        ClusterFault::Type(kind) => Credential::Unfit(SecretFault::Type(kind.clone())),
        ClusterFault::Unreadable(why) => Credential::Unfit(SecretFault::Unreadable(why.clone())),
        ClusterFault::Host(hosts) => Credential::Unfit(SecretFault::Host(hosts.clone())),
        ClusterFault::NotLinked(_) => {
            Credential::Unfit(SecretFault::NotLinked(wanted.name.clone()))
        }
        ClusterFault::Disagrees => fits(false, None),
        ClusterFault::Unknown => fits(true, Some(KeyState::Unknown)),
        ClusterFault::Ended(how) if how.contains("revoked") => {
            fits(true, Some(KeyState::Revoked(String::new())))
        }
        ClusterFault::Ended(how) => {
            fits(true, Some(KeyState::Expired(how.replace("expired ", ""))))
        }
        ClusterFault::NoNamespace
        | ClusterFault::User(_)
        | ClusterFault::Stale(_)
        | ClusterFault::NoAccount(_) => return None,
    };
    let written = format!("an image of {}", wanted.host);
    let shown = matches!(credential, Credential::Fits(_));
    let outcome = HostOutcome::Unauthorized { shown, said: None };
    let host = wanted.host.clone();
    let evidence = Evidence {
        name: Some(NameEvidence::Reads { node: written.clone(), here: None }),
        written,
        policy: Some(Policy::Allows),
        nodes: Some(Nodes::None),
        visits: vec![Visit { host, mirror: false, ours: true, outcome: Some(outcome) }],
        credential: Some(credential),
        record: Some(Record {
            by: "the larder".into(),
            at_upstream: false,
            access: ContentAccess::There,
        }),
        ..Evidence::default()
    };
    match diagnose(&evidence) {
        PullVerdict::Fails(finding) => Some(finding),
        PullVerdict::Succeeds(_) | PullVerdict::Undecided(_) => None,
    }
}

/// The later key that was issued to take a key's place, and is good.
pub fn newer<'k>(key: &KeyRecord, known: &'k [KeyRecord]) -> Option<&'k KeyRecord> {
    known.iter().find(|other| other.replaces.as_ref() == Some(&key.id) && other.is_good(now()))
}

/// What happens to a pull secret.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SecretTurn {
    /// It holds a key that is good, and stays.
    Stays,
    /// It is written with a new key.
    New,
}

/// Whether a secret that is there can stay.
pub fn turn(
    config: &Config,
    wanted: &WantedSecret,
    found: Option<&Value>,
    known: &[KeyRecord],
) -> Result<SecretTurn, Failure> {
    let Some(found) = found else { return Ok(SecretTurn::New) };
    if !wanted.faults(found).is_empty() {
        return Ok(SecretTurn::New);
    }
    let key = held_key(config, wanted, found, known)?;
    let stays = key.is_some_and(|key| key.is_good(now()) && newer(&key, known).is_none());
    Ok(if stays { SecretTurn::Stays } else { SecretTurn::New })
}

/// What becomes of the keys that somebody has when a new one is issued.
pub struct ClusterRoom {
    who: Who,
    /// The key that goes on beside the new one.
    replaces: Option<KeyId>,
    /// One that was handed over and is in nobody's hands any more: it ends.
    lost: Option<KeyId>,
}

/// Where a secret is handed over.
#[derive(Debug, Clone, Copy)]
pub enum SecretPlace<'p> {
    /// In its cluster: what is not in the secret that is there (None: there is none), no pod has.
    Cluster(Option<&'p Value>),
    /// In a folder, of which there may be others.
    Folder,
}

/// Whether there is room for a new key.
///
/// # Errors
/// Two are good and may both be in use.
pub async fn room(
    config: &Config,
    store: &Store,
    wanted: &WantedSecret,
    place: SecretPlace<'_>,
    known: &[KeyRecord],
) -> Result<ClusterRoom, Failure> {
    let what = format!("cannot hand over the pull secret of {}", wanted.user);
    let who = config.grants.who(&wanted.user);
    let who = who.ok_or_else(|| Failure::usage(&what, "it is no longer declared", ""))?;
    let (user, at) = (who.to_string(), now());
    let mut good: Vec<&KeyRecord> =
        known.iter().filter(|key| key.user == user && key.is_good(at)).collect();
    good.sort_by_key(|key| key.issued);
    let (first, second) = match good.as_slice() {
        [] => return Ok(ClusterRoom { who, replaces: None, lost: None }),
        [first] => return Ok(ClusterRoom { who, replaces: Some(first.id.clone()), lost: None }),
        [first, .., second] => (first, second),
    };
    // What stood in a secret that is not there any more, nobody has. One that was issued to a file is in somebody's hands,
    // and so is one that is used since the other is there: another cluster of this name may have it.
    let held = match place {
        SecretPlace::Folder => None,
        SecretPlace::Cluster(None) => Some(None),
        SecretPlace::Cluster(Some(found)) => Some(held_key(config, wanted, found, known)?),
    };
    if let Some(held) = held {
        let is_held = |key: &KeyRecord| held.as_ref().is_some_and(|held| held.id == key.id);
        let unused = first.used.is_none_or(|used| used < second.issued);
        if unused && !is_held(first) && was_handed_over(store, &first.id).await? {
            let (replaces, lost) = (Some(second.id.clone()), Some(first.id.clone()));
            return Ok(ClusterRoom { who, replaces, lost });
        }
        if !is_held(second) && was_handed_over(store, &second.id).await? {
            let (replaces, lost) = (Some(first.id.clone()), Some(second.id.clone()));
            return Ok(ClusterRoom { who, replaces, lost });
        }
    }
    let cause = format!("two of its keys are good already: {} and {}", first.id, second.id);
    let remedy =
        "end the first with `larder key rotate --finish`, or revoke the one that nobody has";
    Err(Failure::usage(what, cause, remedy).ending(Exit::No))
}

/// A secret with a new key. Where one is good already, the new one is issued beside it.
pub async fn fresh(
    config: &Config,
    store: &Store,
    wanted: &WantedSecret,
    place: SecretPlace<'_>,
    expires: Option<i64>,
) -> Result<(Value, KeyId), Failure> {
    let known = store.keys().await.map_err(failed("cannot read the keys"))?;
    let ClusterRoom { who, replaces, lost } = room(config, store, wanted, place, &known).await?;
    if let Some(lost) = lost {
        end(store, &lost, &wanted.user, "its secret is lost").await?;
    }
    let (key, record) = make(config, store, &who, expires, replaces).await?;
    let expires = record.expires.map(time);
    let secret = wanted.secret(record.id.as_str(), key.reveal(), expires.as_deref());
    Ok((secret, record.id))
}

/// What the record says of a key that stands in a secret of its cluster.
const HANDED_OVER: &str = "handed over to ";

/// Writes down that a key stands in its cluster's secret.
pub async fn handed_over(store: &Store, key: &KeyId, one: &WantedSecret) -> Result<(), Failure> {
    let text = format!("of {} {HANDED_OVER}the secret {}/{}", one.user, one.namespace, one.name);
    note(store, key, &text).await
}

async fn was_handed_over(store: &Store, key: &KeyId) -> Result<bool, Failure> {
    let filter = Filter {
        kinds: vec![RecordKind::Key],
        about: Some(key.to_string()),
        limit: Some(50),
        ..Filter::default()
    };
    let entries = store.entries(filter).await.map_err(failed("cannot read the record"))?;
    Ok(entries.iter().any(|entry| entry.text.contains(HANDED_OVER)))
}

/// Ends a key that nobody can use.
pub async fn end(store: &Store, key: &KeyId, user: &str, why: &str) -> Result<(), Failure> {
    store.revoke_key(key, now()).await.map_err(failed("cannot end the key"))?;
    note(store, key, &format!("of {user} ended: {why}")).await
}
