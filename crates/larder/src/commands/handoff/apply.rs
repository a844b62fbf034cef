//! `larder handoff apply`: pull secrets and their links, through the cluster's API.

use std::path::PathBuf;

use larder_client::{Web, WebOptions};
use larder_core::handoff::{SECRET_TYPE, WantedSecret, Webhooks, path_of};
use larder_core::objects;
use larder_core::quantity::Span;
use larder_store::{KeyRecord, Store, now};
use larder_transfer::files::{CA_LIMIT, read_bounded};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use super::Objects;
use crate::commands::Expires;
use crate::config::Config;
use crate::context::{Context, open_store};
use crate::failure::{Exit, Failure, Outcome};
use crate::handoff::{self, SecretPlace, SecretTurn};
use crate::kube::{ApiReach, Kube, path};
use crate::output::{DIM, GOOD, Output, Report, WARN, count, paint};
use crate::record;

/// Give a cluster's namespaces their pull secrets and links, through its API
///
/// Only what differs is applied, on the server's side: what others own in these objects stays. A secret
/// that holds a good key is left as it is; where one has to be written, its key is issued beside the one
/// that is good, so that nothing breaks meanwhile.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The cluster, as `[[cluster]]` names it
    cluster: String,
    /// Only this namespace
    #[arg(long, value_name = "NAME")]
    namespace: Option<String>,
    #[command(flatten)]
    reach: ApiReach,
    /// How long new keys are good: 90d, 12h, or `never`
    #[arg(long, value_name = "SPAN", default_value = "90d")]
    expires: Expires,
    /// The authority that the cluster's API trusts for its door at the larder (PEM)
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// Have the cluster refuse what its door does not answer, though the door cannot be asked from here
    #[arg(long)]
    door_unasked: bool,
    /// Write new keys also where the old ones are good; `larder key rotate --finish` ends the old ones
    #[arg(long)]
    rotate: bool,
    /// Write new keys where the old ones end within this time (14d); for a timer, with `--expires` longer than it
    #[arg(long, value_name = "SPAN", conflicts_with = "rotate")]
    rotate_before: Option<Span>,
    /// Say what would be applied, and apply nothing
    #[arg(long)]
    dry_run: bool,
}

/// Which good keys are renewed.
#[derive(Clone, Copy)]
enum Renewal {
    None,
    All,
    /// Those that end by then, in milliseconds since 1970.
    EndingBy(i64),
}

impl Renewal {
    fn renews(
        self,
        config: &Config,
        wanted: &WantedSecret,
        secret: Option<&Value>,
        known: &[KeyRecord],
    ) -> Result<bool, Failure> {
        match (self, secret) {
            (Self::All, _) => Ok(true),
            (Self::None, _) | (_, None) => Ok(false),
            (Self::EndingBy(by), Some(secret)) => {
                let held = handoff::held_key(config, wanted, secret, known)?;
                Ok(held.and_then(|key| key.expires).is_some_and(|end| end <= by))
            }
        }
    }
}

#[derive(Serialize, JsonSchema)]
pub struct ApplyReport {
    cluster: String,
    /// The address of its API.
    server: String,
    dry_run: bool,
    objects: Vec<AppliedObject>,
}

impl Report for ApplyReport {
    const KIND: &'static str = "handoff-apply";

    fn show(&self, out: &Output) {
        // The objects were told before anything was done to them.
        let done = if self.dry_run { "would be applied" } else { "applied" };
        let differs = self.objects.iter().filter(|one| one.change != "stays").count();
        out.note(format!("{} {done} at {}", count(differs, "object"), self.server));
    }
}

/// One object, and what happens to it.
#[derive(Serialize, JsonSchema)]
struct AppliedObject {
    namespace: String,
    kind: &'static str,
    name: String,
    /// `stays`, `new`, `replaced`, `changed` or `linked`.
    change: &'static str,
    #[serde(skip)]
    at: usize,
}

impl AppliedObject {
    fn shown(&self) -> String {
        match self.namespace.is_empty() {
            true => self.name.clone(),
            false => format!("{}/{}", self.namespace, self.name),
        }
    }
}

/// How a cluster's API asks at its door, beside how it should.
pub(super) enum AppliedDoor {
    Right,
    Missing,
    Differs,
}

/// The kind of an admission object.
fn kind_of(object: &Value) -> &'static str {
    match object["kind"].as_str() {
        Some("MutatingWebhookConfiguration") => "MutatingWebhookConfiguration",
        Some("ValidatingAdmissionPolicy") => "ValidatingAdmissionPolicy",
        Some("ValidatingAdmissionPolicyBinding") => "ValidatingAdmissionPolicyBinding",
        _ => "ValidatingWebhookConfiguration",
    }
}

/// Looks whether the cluster has an admission object as it should be.
pub(super) async fn door(kube: &Kube, hook: &Value) -> Result<AppliedDoor, Failure> {
    let holds = |found: &Value, what| objects::holds(&found[what], &hook[what]);
    Ok(match kube.get(&path_of(hook)).await? {
        None => AppliedDoor::Missing,
        Some(found) if holds(&found, "webhooks") && holds(&found, "spec") => AppliedDoor::Right,
        Some(_) => AppliedDoor::Differs,
    })
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let what = format!("cannot apply the handoff of {}", args.cluster);
    let config = context.config()?;
    let cluster = handoff::cluster(&config, &what, &args.cluster)?;
    if cluster.identity.is_some() {
        context.output.note("note: this cluster has an identity; its nodes can do without pull secrets (`larder handoff write`)");
    }
    let span = |span: Span| i64::try_from(span.0.as_millis()).unwrap_or(i64::MAX);
    let renewing = match (args.rotate, args.rotate_before) {
        (true, _) => Renewal::All,
        (false, None) => Renewal::None,
        (false, Some(before)) => {
            let by = now().saturating_add(span(before));
            if args.expires.end().is_some_and(|end| end <= by) {
                let cause = "new keys would end within the time of `--rotate-before`, and be renewed each time";
                return Err(Failure::usage(&what, cause, "give `--expires` a longer time"));
            }
            Renewal::EndingBy(by)
        }
    };
    let wanted = handoff::wanted(&config, cluster, args.namespace.as_deref(), &what)?;
    let store = open_store(&config)?;
    let kube = Kube::connect(&args.reach).await?;
    let read =
        |path| read_bounded(path, CA_LIMIT).map_err(|error| Failure::file(&what, path, &error));
    let ca = args.ca.as_deref().map(read).transpose()?;
    let hooks = handoff::admission(&config, cluster, ca.as_deref(), &kube, &what).await?;
    let mut changes = plan(&config, &store, &kube, &wanted, renewing, &what).await?;
    for (at, hook) in hooks.iter().enumerate() {
        let change = match door(&kube, hook).await? {
            AppliedDoor::Right => "stays",
            AppliedDoor::Missing => "new",
            AppliedDoor::Differs => "changed",
        };
        let kind = kind_of(hook);
        let name = hook["metadata"]["name"].as_str().unwrap_or_default().to_owned();
        changes.push(AppliedObject { namespace: String::new(), kind, name, change, at });
    }
    for change in &changes {
        let word = match change.change {
            "stays" => paint(DIM, format!("{:<7}", "stays")),
            word => paint(if args.dry_run { WARN } else { GOOD }, format!("{word:<7}")),
        };
        context.output.step(format!("{word} {} {}", change.kind, change.shown()));
    }
    let tells = |change: &&AppliedObject| change.namespace.is_empty() && change.change != "stays";
    let needed = changes.iter().filter(tells).any(|change| Webhooks::is_needed(&hooks[change.at]));
    if needed && !args.dry_run && !args.door_unasked {
        let url = hooks.iter().find_map(Webhooks::url).unwrap_or_default();
        answers(&url, ca.as_deref(), &what).await?;
    }
    if !args.dry_run {
        let open: Vec<&AppliedObject> =
            changes.iter().filter(|change| change.change != "stays").collect();
        for (number, change) in open.iter().enumerate() {
            let done = match change.namespace.as_str() {
                "" => kube.apply(&path_of(&hooks[change.at]), &hooks[change.at]).await,
                _ => apply(args, &config, &store, &kube, &wanted[change.at], change).await,
            };
            if let Err(failure) = done {
                tell_what_was_done(&open[..number], &open[number..], context);
                return Err(failure);
            }
        }
    }
    if args.rotate_before.is_some() && !args.dry_run {
        let noted = record::note(&store, vec![record::renewal(&args.cluster)]).await;
        noted.map_err(|error| Failure::store(&what, &error))?;
    }
    context.output.tell(&ApplyReport {
        cluster: args.cluster.clone(),
        server: kube.server().to_owned(),
        dry_run: args.dry_run,
        objects: changes,
    });
    Ok(Exit::Done)
}

/// Whether the door answers: a cluster that refuses what nobody answers would start nothing any more.
async fn answers(url: &str, ca: Option<&[u8]>, what: &str) -> Result<(), Failure> {
    let silent = |cause: String| {
        let cause = format!("the door that would have to answer does not: {cause}");
        let remedy = "have `larder serve` answer there first; or set `unanswered = \"admit\"` in [cluster.door]; \
            where only the cluster reaches it, add `--door-unasked`. To take it back at any time: \
            `kubectl delete validatingwebhookconfigurations,mutatingwebhookconfigurations,validatingadmissionpolicies,validatingadmissionpolicybindings -l app.kubernetes.io/managed-by=iron-larder`";
        Failure::usage(what, cause, remedy).ending(Exit::Remote)
    };
    let options = WebOptions { ca: ca.unwrap_or_default().to_vec(), ..WebOptions::default() };
    let web = Web::new(url, options).map_err(silent)?;
    let review = serde_json::json!({
        "apiVersion": "admission.k8s.io/v1", "kind": "AdmissionReview",
        "request": { "uid": "larder-asks", "kind": { "kind": "Pod" }, "operation": "CREATE", "dryRun": true },
    });
    let content = Some(("application/json", review.to_string().into_bytes()));
    let answer = web.send("POST", "", content).await.map_err(silent)?;
    let read: Value = serde_json::from_slice(&answer.body).unwrap_or_default();
    match read["response"]["uid"] == "larder-asks" {
        true => Ok(()),
        false => {
            Err(silent(format!("it answered {}, and not as a door of this larder", answer.status)))
        }
    }
}

/// Applies a secret or a link.
async fn apply(
    args: &Args,
    config: &Config,
    store: &Store,
    kube: &Kube,
    one: &WantedSecret,
    change: &AppliedObject,
) -> Result<(), Failure> {
    if change.kind == "Secret" {
        let there = path(&one.namespace, "secrets", &one.name);
        let found = kube.get(&there).await?;
        // The new one is ready before the old one goes.
        let fresh = handoff::fresh(
            config,
            store,
            one,
            SecretPlace::Cluster(found.as_ref()),
            args.expires.end(),
        );
        let (secret, key) = fresh.await?;
        let replaced = change.change == "replaced";
        if let Err(failure) = put(kube, &there, &secret, replaced).await {
            // Nobody has this key, and it must not stand in the way of the next one.
            handoff::end(store, &key, &one.user, "it could not be handed over").await?;
            return Err(failure);
        }
        return handoff::handed_over(store, &key, one).await;
    }
    let link = one.links().into_iter().find(|link| link["metadata"]["name"] == *change.name);
    match link {
        Some(link) => {
            kube.apply(&path(&one.namespace, "serviceaccounts", &change.name), &link).await
        }
        None => Ok(()),
    }
}

/// What was applied before something failed, and what was not.
fn tell_what_was_done(done: &[&AppliedObject], left: &[&AppliedObject], context: &Context) {
    let named = |all: &[&AppliedObject]| {
        let all: Vec<String> =
            all.iter().map(|change| format!("{} {}", change.kind, change.shown())).collect();
        if all.is_empty() { "nothing".to_owned() } else { all.join(", ") }
    };
    context.output.note(format!("applied before it failed: {}", named(done)));
    context.output.note(format!("not applied: {}", named(left)));
}

/// Applies a secret. Its type cannot be changed: one of another type makes way.
async fn put(kube: &Kube, path: &str, secret: &Value, replaced: bool) -> Result<(), Failure> {
    if replaced {
        kube.delete(path).await?;
    }
    kube.apply(path, secret).await
}

/// What has to be done; everything that must be there is looked for first.
async fn plan(
    config: &Config,
    store: &Store,
    kube: &Kube,
    wanted: &[WantedSecret],
    renewing: Renewal,
    what: &str,
) -> Result<Vec<AppliedObject>, Failure> {
    let known = store.keys().await.map_err(|error| Failure::store(what, &error))?;
    let mut changes = Vec::new();
    for (at, one) in wanted.iter().enumerate() {
        let Objects { namespace, secret, accounts } = Objects::read(kube, one).await?;
        if !namespace {
            let cause = format!("the cluster has no namespace {}", one.namespace);
            return Err(Failure::usage(what, cause, "create it first; nothing was applied")
                .ending(Exit::No));
        }
        let of_type = |it: &Value| objects::text(it, &["type"]) == Some(SECRET_TYPE);
        let replaced = secret.as_ref().is_some_and(|it| !of_type(it));
        let change = match handoff::turn(config, one, secret.as_ref(), &known)? {
            SecretTurn::Stays if !renewing.renews(config, one, secret.as_ref(), &known)? => "stays",
            _ if replaced => "replaced",
            _ => "new",
        };
        // What could not be done is told before anything is done.
        if change != "stays" {
            handoff::room(config, store, one, SecretPlace::Cluster(secret.as_ref()), &known)
                .await?;
        }
        let (namespace, name) = (one.namespace.clone(), one.name.clone());
        changes.push(AppliedObject { namespace, kind: "Secret", name, change, at });
        for (name, account) in accounts {
            let Some(account) = account else {
                let cause = format!("there is no service account {}/{name}", one.namespace);
                let remedy =
                    "create it, or leave it out of `service_accounts`; nothing was applied";
                return Err(Failure::usage(what, cause, remedy).ending(Exit::No));
            };
            let change = if one.is_linked(&account) { "stays" } else { "linked" };
            changes.push(AppliedObject {
                namespace: one.namespace.clone(),
                kind: "ServiceAccount",
                name,
                change,
                at,
            });
        }
    }
    Ok(changes)
}
