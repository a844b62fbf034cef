//! `larder why`: why a pull fails, or would fail.

pub(super) mod ask;
pub(super) mod batch;
pub(super) mod damage;
pub(super) mod live;
pub(super) mod record;
pub(super) mod recorded;
pub(super) mod route;
pub(super) mod secrets;
pub(super) mod show;

use std::io::Read as _;
use std::path::PathBuf;

use larder_client::Endpoint;
use larder_core::diagnosis::{PullEvent, read_events};
use larder_core::name::Host;
use larder_core::platform::Platform;
use larder_core::quantity::Span;
use larder_core::reference::{Reference, Unqualified};
use larder_core::rewrite::Finding;

use crate::config::Config;
use crate::context::{Context, read_reference, with_whole_digest};
use crate::failure::{Exit, Failure, Outcome};
use crate::handoff;
use crate::kube::ApiReach;
use crate::pick::Pick;
use ask::{ImageQuestion, PullInquiry};
use secrets::PullingPod;

/// Say why a pull fails, or would fail, and what to do
///
/// The pull is made step by step as a node makes it, and nothing is kept. Exit status 0: it would succeed;
/// 1: a cause was found; 3: it could not be decided, and then it is said what is missing.
#[derive(Debug, clap::Args)]
#[command(after_help = "Examples:\n  \
    larder why larder.emberfall.example:5080/vendor/steamgauge:1.9.2 --cluster turbine-hall --namespace scada\n  \
    kubectl describe pod steam-board | larder why --event -\n  \
    larder why --cluster turbine-hall --workload Deployment/steam-board --namespace scada\n  \
    larder why --all deploy/ --cluster turbine-hall")]
pub struct Args {
    /// The image, as the deployment names it
    reference: Option<String>,
    /// As this cluster pulls it
    #[arg(long, value_name = "NAME")]
    cluster: Option<String>,
    /// In this namespace
    #[arg(long, value_name = "NAME")]
    namespace: Option<String>,
    /// For nodes of this platform [default: the cluster's first, else linux/amd64]
    #[arg(long, value_name = "OS/ARCH")]
    platform: Option<Platform>,
    /// With the mirror configuration of a node: a folder as the runtime reads it
    #[arg(long, value_name = "DIR")]
    nodes: Option<PathBuf>,
    /// Of a runtime of this version: 1.6, 1.7 or 2.x [default: as the event tells, else as any of them]
    #[arg(long, value_name = "VERSION", requires = "nodes")]
    runtime: Option<larder_core::nodes::RuntimeSeries>,
    /// With what this pod, or workload, says of pull secrets (YAML or JSON)
    #[arg(long, value_name = "FILE")]
    pod: Option<PathBuf>,
    /// With the secrets and service accounts in this file (YAML or JSON; again for more)
    #[arg(long, value_name = "FILE")]
    secret: Vec<PathBuf>,
    /// Also by what the cluster's events, a journal or a runtime say; `-` reads it from stdin
    #[arg(long, value_name = "TEXT|-")]
    event: Option<String>,
    /// By the number that a refusal of the larder carries
    #[arg(long = "number", alias = "ref", value_name = "NUMBER", conflicts_with_all = ["reference", "event", "all", "workload"])]
    number: Option<String>,
    /// Read pod, events, secrets and service account of this workload through the cluster's API
    #[arg(long, value_name = "KIND/NAME", requires_all = ["cluster", "namespace"], conflicts_with_all = ["reference", "pod", "secret", "all"])]
    workload: Option<String>,
    #[command(flatten)]
    reach: ApiReach,
    /// For every image that these deployments name, as one table
    #[arg(long, value_name = "PATH", conflicts_with_all = ["reference", "event"])]
    all: Vec<PathBuf>,
    #[command(flatten)]
    pick: Pick,
    /// Read all content too, and look whether it is unaltered
    #[arg(long)]
    deep: bool,
    /// Also ask upstreams with the configured credentials whether it is there
    #[arg(long)]
    online: bool,
    /// Ask no host: by configuration, records and events alone
    #[arg(long, conflicts_with_all = ["online", "deep"])]
    offline: bool,
    /// Where the larder is reached from here [default: its `url`]
    #[arg(long, value_name = "ADDRESS")]
    larder: Option<String>,
    /// Where nodes reach this host (again for more) [default: by HTTPS, where its name leads]
    #[arg(long = "at", value_name = "HOST=ADDRESS", value_parser = AtAddress::read)]
    at: Vec<AtAddress>,
    /// Nodes trust this authority too (PEM; again for more)
    #[arg(long, value_name = "FILE")]
    ca: Vec<PathBuf>,
    /// How long each step may take, up to 2m
    #[arg(long, value_name = "SPAN", default_value = "5s", value_parser = patience)]
    patience: Span,
}

/// Where nodes reach a host.
#[derive(Debug, Clone)]
struct AtAddress {
    host: Host,
    /// Scheme, host and port.
    address: String,
}

impl AtAddress {
    fn read(text: &str) -> Result<Self, String> {
        let (host, address) = text.split_once('=').ok_or("it is written HOST=ADDRESS")?;
        let host = host.parse().map_err(|error| format!("{error}"))?;
        let address: Endpoint = address.parse().map_err(|error| format!("{error}"))?;
        Ok(Self { host, address: address.to_string().trim_end_matches('/').to_owned() })
    }
}

impl Args {
    /// Whether an image of deployments is asked about. What cannot be read matches no pattern.
    fn takes(&self, finding: &Finding, config: Option<&Config>) -> bool {
        match read_reference(&finding.text, config) {
            Ok(reading) => self.pick.takes(&reading.reference.image()),
            Err(_) => self.pick.only.is_empty(),
        }
    }
}

fn patience(text: &str) -> Result<Span, String> {
    let span = crate::pick::seconds(text)?;
    match span.0.as_secs() {
        1..=120 => Ok(span),
        _ => Err("a step may take from 1s to 2m".into()),
    }
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let what = "cannot say why";
    let config = context.config_if_any()?;
    if let (Some(name), Some(config)) = (&args.cluster, &config) {
        handoff::cluster(config, what, name)?;
    }
    if let Some(number) = &args.number {
        return recorded::show(number, config.as_ref(), context).await;
    }
    if !args.all.is_empty() {
        let asker = PullInquiry::new(args, config.as_ref(), PullingPod::read(args)?).await?;
        return batch::run(args, &asker, context).await;
    }
    let (asked, pod) = match &args.workload {
        Some(workload) => live::read(workload, args).await?,
        None => (asked(args, config.as_ref()).await?, PullingPod::read(args)?),
    };
    if asked.is_empty() {
        let cause = "no image is named, and nothing that was given names one";
        return Err(Failure::usage(
            what,
            cause,
            "name the image, or give the pod's events with `--event -`",
        ));
    }
    let asker = PullInquiry::new(args, config.as_ref(), pod).await?;
    let mut answers = Vec::new();
    let progress = context.output.progress();
    for one in &asked {
        progress.say(format!("asking about {}", one.written.escape_debug()));
        answers.push(asker.answer(one).await?);
    }
    progress.done();
    Ok(show::answers(answers, context))
}

/// What is asked about: the reference that was named, or those that the events name.
async fn asked(args: &Args, config: Option<&Config>) -> Result<Vec<ImageQuestion>, Failure> {
    let events = events(args)?;
    if let Some(reference) = &args.reference {
        let about = |event: &&PullEvent| {
            event.reference.as_ref().is_none_or(|name| same_image(name, reference))
        };
        let event = events.iter().find(about).or(events.first()).cloned();
        let reference = with_whole_digest(reference, config).await?.into_owned();
        return Ok(vec![ImageQuestion { written: reference, event, ..ImageQuestion::default() }]);
    }
    if !events.is_empty() || args.event.is_some() {
        return Ok(events
            .into_iter()
            .map(|event| ImageQuestion {
                written: event.reference.clone().unwrap_or_default(),
                event: Some(event),
                ..ImageQuestion::default()
            })
            .collect());
    }
    // A pod's file names its images.
    let Some(path) = &args.pod else { return Ok(Vec::new()) };
    let found =
        crate::deployments::named(std::slice::from_ref(path), crate::deployments::Sight::default());
    let images = found.done.iter().flat_map(crate::deployments::NamedImages::pulled);
    Ok(images
        .map(|one| ImageQuestion { written: one.text.clone(), ..ImageQuestion::default() })
        .collect())
}

/// Whether a text of an event means a reference: events have it as written, or in its normal form.
fn same_image(event: &str, reference: &str) -> bool {
    let normal = |text: &str| {
        let read = Reference::read(text, &Unqualified::default());
        read.ok().map(|reading| {
            let reference = reading.reference;
            reference.at(reference.selector())
        })
    };
    event == reference || normal(event).is_some_and(|event| Some(event) == normal(reference))
}

fn events(args: &Args) -> Result<Vec<PullEvent>, Failure> {
    const LIMIT: u64 = 1024 * 1024;
    let text = match args.event.as_deref() {
        None => return Ok(Vec::new()),
        Some("-") => {
            let mut text = String::new();
            let read = std::io::stdin().take(LIMIT).read_to_string(&mut text);
            read.map_err(|error| Failure::io("cannot read the events", &error))?;
            text
        }
        Some(text) => text.to_owned(),
    };
    let events = read_events(&text);
    if events.is_empty() && args.reference.is_none() {
        let cause = "it tells of no failed pull";
        let remedy =
            "give the pod's events whole (`kubectl describe pod NAME`), or name the image too";
        return Err(Failure::usage("cannot read the events", cause, remedy));
    }
    Ok(events)
}

/// The cluster's platform, where none is named.
fn platform(args: &Args, config: Option<&Config>) -> Platform {
    let cluster = args.cluster.as_deref().and_then(|name| config?.cluster(name));
    let named = cluster.and_then(|cluster| cluster.platforms.first().cloned());
    let named = args.platform.clone().or(named);
    named.unwrap_or_else(|| Platform::new("linux", "amd64", None))
}

fn exit(found: bool, undecided: bool) -> Exit {
    match (found, undecided) {
        (true, _) => Exit::No,
        (false, true) => Exit::Remote,
        (false, false) => Exit::Done,
    }
}
