//! `larder handoff check`: what a cluster has, compared with what it should have.

use larder_core::handoff::{ClusterFault, WantedSecret};
use larder_core::objects::text;
use larder_store::{KeyRecord, now};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use super::Objects;
use super::apply::{AppliedDoor, door};
use crate::config::Config;
use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::handoff::{self, held_key, newer};
use crate::kube::{ApiReach, Kube};
use crate::marks;
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, ago, paint, time, until};

/// Compare what a cluster has with what it should have
///
/// Missing, in the wrong namespace, of the wrong type, for the wrong host or user, unknown, expired,
/// stale, not linked. Exit status 1 says that something is wrong.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The cluster, as `[[cluster]]` names it
    cluster: String,
    /// Only this namespace
    #[arg(long, value_name = "NAME")]
    namespace: Option<String>,
    #[command(flatten)]
    reach: ApiReach,
}

#[derive(Serialize, JsonSchema)]
struct CheckedNamespace {
    namespace: String,
    secret: String,
    /// The key in it. None: it holds none of this larder.
    key: Option<String>,
    expires_at: Option<String>,
    used_at: Option<String>,
    faults: Vec<HandoffFault>,
    #[serde(skip)]
    record: Option<KeyRecord>,
}

/// One of the objects that lead the cluster's API to its door.
#[derive(Serialize, JsonSchema)]
struct DoorRow {
    kind: String,
    name: String,
    /// `right`, `missing` or `differs`.
    state: &'static str,
}

#[derive(Serialize, JsonSchema)]
struct HandoffFault {
    fault: &'static str,
    text: String,
    /// What a pod's pull fails of, as `larder why` names it. None: it does not fail of that.
    cause: Option<&'static str>,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let what = format!("cannot check the handoff of {}", args.cluster);
    let config = context.config()?;
    let cluster = handoff::cluster(&config, &what, &args.cluster)?;
    if cluster.identity.is_some() {
        context.output.note(
            "note: this cluster has an identity: its nodes sign in with service accounts and need no pull secret",
        );
    }
    let wanted = handoff::wanted(&config, cluster, args.namespace.as_deref(), &what)?;
    let store = open_store(&config)?;
    let known = store.keys().await.map_err(|error| Failure::store(&what, &error))?;
    let kube = Kube::connect(&args.reach).await?;
    // Of all namespaces where they may be seen, so that a secret in the wrong one is found.
    let namespaces: Vec<&str> = wanted.iter().map(|one| one.namespace.as_str()).collect();
    let (all, whole) = kube.list_all_or("secrets", &namespaces).await?;
    if !whole {
        context.output.note(
            "note: the user of this kubeconfig may list secrets of its own namespaces alone: one in a wrong namespace is not found",
        );
    }
    let mut rows = Vec::new();
    for one in &wanted {
        let objects = Objects::read(&kube, one).await?;
        rows.push(judge(&config, one, &objects, &all, &known)?);
    }
    let mut doors = Vec::new();
    for object in handoff::admission(&config, cluster, None, &kube, &what).await? {
        let state = match door(&kube, &object).await? {
            AppliedDoor::Right => "right",
            AppliedDoor::Missing => "missing",
            AppliedDoor::Differs => "differs",
        };
        let text = |value: &Value| value.as_str().unwrap_or_default().to_owned();
        let (kind, name) = (text(&object["kind"]), text(&object["metadata"]["name"]));
        doors.push(DoorRow { kind, name, state });
    }
    let bad = rows.iter().any(|row| !row.faults.is_empty())
        || doors.iter().any(|door| door.state != "right");
    if args.namespace.is_none()
        && let Some(store) = crate::context::store_if_any(&config)?
    {
        let faults = rows.iter().flat_map(|row| &row.faults).map(|fault| fault.text.clone());
        let doors = doors.iter().filter(|door| door.state != "right");
        let doors = doors.map(|door| format!("{} {} is {}", door.kind, door.name, door.state));
        let all: Vec<String> = faults.chain(doors).take(3).collect();
        let found = if all.is_empty() { "right".to_owned() } else { all.join("; ") };
        marks::note(&store, &format!("{}{}", marks::HANDOFF, args.cluster), &found).await;
    }
    context.output.tell(&HandoffCheck {
        cluster: args.cluster.clone(),
        server: kube.server().to_owned(),
        namespaces: rows,
        door: doors,
        bad,
    });
    Ok(if bad { Exit::No } else { Exit::Done })
}

#[derive(Serialize, JsonSchema)]
pub struct HandoffCheck {
    cluster: String,
    /// The address of its API.
    server: String,
    namespaces: Vec<CheckedNamespace>,
    door: Vec<DoorRow>,
    #[serde(skip)]
    bad: bool,
}

impl Report for HandoffCheck {
    const KIND: &'static str = "handoff-check";

    fn show(&self, out: &Output) {
        show(&self.namespaces, out);
        for DoorRow { kind, name, state } in &self.door {
            let told = match *state {
                "right" => paint(GOOD, "is right"),
                "missing" => paint(BAD, "is missing"),
                _ => paint(BAD, "is not as it should be"),
            };
            out.result(format!("door: {kind} {name} {told}"));
        }
        if self.bad {
            out.note(format!("Next: `larder handoff apply {}` puts it right.", self.cluster));
        }
    }
}

fn judge(
    config: &Config,
    one: &WantedSecret,
    objects: &Objects,
    all: &[Value],
    known: &[KeyRecord],
) -> Result<CheckedNamespace, Failure> {
    let mut faults = Vec::new();
    let mut record = None;
    match (&objects.namespace, &objects.secret) {
        (false, _) => faults.push(ClusterFault::NoNamespace),
        (true, None) => {
            let same = all.iter().filter(|it| text(it, &["metadata", "name"]) == Some(&*one.name));
            let elsewhere = same.filter_map(|it| text(it, &["metadata", "namespace"]));
            faults.push(ClusterFault::Missing(elsewhere.map(str::to_owned).collect()));
        }
        (true, Some(secret)) => {
            faults.extend(one.faults(secret));
            let readable = !faults.iter().any(|it| {
                matches!(
                    it,
                    ClusterFault::Type(_) | ClusterFault::Unreadable(_) | ClusterFault::Host(_)
                )
            });
            if readable {
                record = held_key(config, one, secret, known)?;
                match &record {
                    None => faults.push(ClusterFault::Unknown),
                    Some(key) if key.revoked.is_some() => {
                        faults.push(ClusterFault::Ended("is revoked".into()));
                    }
                    Some(key) if !key.is_good(now()) => {
                        let end = key
                            .expires
                            .map_or_else(String::new, |end| format!(" {}", ago(end, now())));
                        faults.push(ClusterFault::Ended(format!("expired{end}")));
                    }
                    Some(key) => {
                        faults.extend(
                            newer(key, known).map(|it| ClusterFault::Stale(it.id.to_string())),
                        );
                    }
                }
            }
        }
    }
    for (name, account) in objects.accounts.iter().filter(|_| objects.namespace) {
        match account {
            None => faults.push(ClusterFault::NoAccount(name.clone())),
            Some(account) if !one.is_linked(account) => {
                faults.push(ClusterFault::NotLinked(name.clone()));
            }
            Some(_) => {}
        }
    }
    Ok(CheckedNamespace {
        namespace: one.namespace.clone(),
        secret: one.name.clone(),
        key: record.as_ref().map(|key| key.id.to_string()),
        expires_at: record.as_ref().and_then(|key| key.expires).map(time),
        used_at: record.as_ref().and_then(|key| key.used).map(time),
        faults: faults
            .iter()
            .map(|fault| HandoffFault {
                fault: fault.word(),
                text: fault.to_string(),
                cause: handoff::diagnosed(one, fault).map(|finding| finding.cause.word()),
            })
            .collect(),
        record,
    })
}

fn show(rows: &[CheckedNamespace], out: &Output) {
    let mut table =
        Table::new(out.width(), &["NAMESPACE", "SECRET", "KEY", "STATE"]).sparing(&["KEY"]);
    for row in rows {
        let state = match (&row.record, row.faults.is_empty()) {
            (Some(key), true) => {
                let left = key.expires.map_or_else(
                    || "does not expire".to_owned(),
                    |end| format!("{} left", until(end, now())),
                );
                paint(GOOD, format!("right, {left}"))
            }
            (None, true) => paint(GOOD, "right"),
            (_, false) => {
                let told = |it: &HandoffFault| {
                    let page = it.cause.map(|cause| paint(DIM, format!(" ({cause})")));
                    format!("{}{}", paint(BAD, &it.text), page.unwrap_or_default())
                };
                row.faults.iter().map(told).collect::<Vec<_>>().join("\n")
            }
        };
        let key = row.key.clone().unwrap_or_else(|| "-".into());
        table.row([row.namespace.clone(), row.secret.clone(), key, state]);
    }
    out.table(&table);
}
