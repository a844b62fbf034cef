//! A stand-in cluster: it takes workloads, pulls their images over HTTP as a node does, and
//! reports events and states in the platform's own words.

use std::collections::BTreeMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;

use larder_client::{Account, ClientError, Credentials, Options, Registry};
use larder_core::digest::{Digest, Hasher};
use larder_core::document::Document;
use larder_core::name::Host;
use larder_core::nodes::{self, NodeWay};
use larder_core::objects;
use larder_core::platform::Platform;
use larder_core::reference::{MalformedReference, Reason, Reference, Selector, Unqualified};
use larder_core::rewrite::{FileContext, Finding, ImageRole, scan};

use crate::api::Api;
use crate::door::{AdmittedObject, admit};
use crate::pulling::{PodLogins, Provider, ask, pulling};

/// A cluster with one kind of node.
pub struct Cluster {
    name: String,
    platform: Platform,
    /// The hosts that its nodes can reach, with the address behind each. All others do not exist
    /// for it.
    hosts: BTreeMap<String, String>,
    /// The folder of its nodes' mirror configuration. None: they have none.
    mirrors: Option<PathBuf>,
    /// References that its nodes have pulled already, with what each was.
    present: BTreeMap<String, Digest>,
    /// Its objects.
    api: Option<Api>,
    /// The program that its kubelets ask for credentials, with its arguments and the audience of the
    /// tokens that it is given. None: none.
    provider: Option<Provider>,
    /// What the person who applied the last file was told beside the pods.
    warnings: Vec<String>,
}

/// A pod as the cluster lists it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pod {
    pub namespace: String,
    pub name: String,
    /// `Running`, `Completed` or the reason why not.
    pub status: &'static str,
    /// What happened to it.
    pub events: Vec<PodEvent>,
}

/// One line of a pod's events.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PodEvent {
    /// Whether something went wrong.
    pub warning: bool,
    /// `PodLogins`, `Pulled`, `Failed`, …
    pub reason: &'static str,
    pub message: String,
}

impl fmt::Display for PodEvent {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let kind = if self.warning { "Warning" } else { "Normal" };
        write!(f, "{kind:<8} {:<8} {}", self.reason, self.message)
    }
}

impl Pod {
    /// Whether it runs.
    pub fn is_running(&self) -> bool {
        self.status == "Running"
    }
}

impl fmt::Display for Pod {
    /// The pod with its state, then its events, one a line.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}/{}  {}", self.namespace, self.name, self.status)?;
        for event in &self.events {
            write!(f, "\n    {event}")?;
        }
        Ok(())
    }
}

fn normal(reason: &'static str, message: impl Into<String>) -> PodEvent {
    PodEvent { warning: false, reason, message: message.into() }
}

fn warning(reason: &'static str, message: impl Into<String>) -> PodEvent {
    PodEvent { warning: true, reason, message: message.into() }
}

impl Cluster {
    /// A cluster whose nodes have this platform and reach these hosts: names as in references,
    /// each with the endpoint behind it.
    pub fn new(name: &str, platform: Platform, hosts: BTreeMap<String, String>) -> Self {
        Self {
            name: name.to_owned(),
            platform,
            hosts,
            mirrors: None,
            present: BTreeMap::new(),
            api: None,
            provider: None,
            warnings: Vec::new(),
        }
    }

    /// What the person who applied the last file was told by webhooks.
    pub fn warnings(&self) -> &[String] {
        &self.warnings
    }

    /// From now on its nodes reach this host too, at this endpoint.
    pub fn reach(&mut self, host: &str, endpoint: &str) {
        self.hosts.insert(host.to_owned(), endpoint.to_owned());
        if let Some(api) = &self.api {
            api.reach(self.hosts.clone());
        }
    }

    /// From now on its nodes read this folder as the runtime of the first family does: anew with every
    /// pull.
    pub fn configure_nodes(&mut self, folder: &Path) {
        self.mirrors = Some(folder.to_owned());
    }

    /// From now on its pods pull with the secrets and service accounts of these objects.
    pub fn with_api(&mut self, api: Api) {
        api.reach(self.hosts.clone());
        self.api = Some(api);
    }

    /// From now on its kubelets ask this program for credentials, with tokens for this audience.
    pub fn ask_for_credentials(&mut self, program: &Path, arguments: &[String], audience: &str) {
        let (program, arguments) = (program.to_owned(), arguments.to_vec());
        self.provider = Some(Provider { program, arguments, audience: audience.to_owned() });
    }

    /// Its nodes forget what they have pulled, as new ones would.
    pub fn renew_nodes(&mut self) {
        self.present.clear();
    }

    /// What its nodes have, in the form in which the platform reports it.
    pub fn node_report(&self) -> serde_json::Value {
        let images = self.present.iter().map(|(reference, digest)| {
            let repository = reference.split('@').next().unwrap_or(reference);
            let end = repository.rfind('/').unwrap_or(0);
            let repository = match repository[end..].find(':') {
                Some(colon) => &repository[..end + colon],
                None => repository,
            };
            serde_json::json!({ "names": [format!("{repository}@{digest}"), reference] })
        });
        let node = serde_json::json!({
            "apiVersion": "v1", "kind": "Node",
            "metadata": { "name": format!("{}-1", self.name) },
            "status": { "images": images.collect::<Vec<_>>() },
        });
        serde_json::json!({ "apiVersion": "v1", "kind": "List", "items": [node] })
    }

    /// Takes files on a free loopback port: `POST /apply` answers with the pods and their events.
    pub async fn listen(self) -> std::io::Result<std::net::SocketAddr> {
        let cluster = Arc::new(tokio::sync::Mutex::new(self));
        let apply = move |text: String| {
            let cluster = Arc::clone(&cluster);
            async move {
                match cluster.lock().await.apply(&text).await {
                    Ok(pods) => {
                        pods.iter().map(Pod::to_string).collect::<Vec<_>>().join("\n") + "\n"
                    }
                    Err(error) => format!("error: {error}\n"),
                }
            }
        };
        let router = axum::Router::new().route("/apply", axum::routing::post(apply));
        crate::serve_on_loopback("a stand-in cluster", router, None).await
    }

    pub(crate) fn its_api(&self) -> Option<Api> {
        self.api.clone()
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// Takes the workloads of a file and starts a pod of each.
    ///
    /// # Errors
    /// The text that a client of the platform shows when it cannot read the file.
    pub async fn apply(&mut self, text: &str) -> Result<Vec<Pod>, String> {
        let mut admitted = text.to_owned();
        self.warnings.clear();
        if let Some(api) = &self.api {
            let documents =
                objects::read(text).map_err(|error| format!("error parsing: {error}"))?;
            let mut written = Vec::new();
            for document in documents {
                let AdmittedObject { object, warnings } = admit(api, &self.hosts, document).await?;
                self.warnings.extend(warnings);
                written.push(objects::write(&object));
            }
            admitted = written.join("---\n");
        }
        self.run(&admitted).await
    }

    /// Starts a pod of each workload of a file that was let in.
    pub(crate) async fn run(&mut self, text: &str) -> Result<Vec<Pod>, String> {
        let file = FileContext { name: "objects.yaml", ..FileContext::default() };
        let found = scan(text, &file).map_err(|error| format!("error parsing: {error}"))?;
        let documents = objects::read(text).map_err(|error| format!("error parsing: {error}"))?;
        let mut workloads: Vec<(String, Vec<&Finding>)> = Vec::new();
        for finding in found.findings.iter().filter(|one| one.role == ImageRole::Pulled) {
            let workload = &finding.workload;
            let name = match workload.kind.as_str() {
                "Pod" => workload.name.clone(),
                "StatefulSet" => format!("{}-0", workload.name),
                _ => format!("{}-{}", workload.name, suffix(&workload.name)),
            };
            let key = format!("{}/{name}", workload.namespace.as_deref().unwrap_or("default"));
            match workloads.iter_mut().find(|(known, _)| *known == key) {
                Some((_, list)) => list.push(finding),
                None => workloads.push((key, vec![finding])),
            }
        }
        let mut pods = Vec::new();
        for (key, findings) in workloads {
            let (namespace, name) = key.split_once('/').unwrap_or(("default", &key));
            let mut pod = Pod {
                namespace: namespace.into(),
                name: name.into(),
                status: "Running",
                events: Vec::new(),
            };
            for finding in findings {
                let pulling = pulling(&documents, finding);
                self.start(&mut pod, finding, &pulling).await;
            }
            pods.push(pod);
        }
        Ok(pods)
    }

    async fn start(&mut self, pod: &mut Pod, finding: &Finding, pulling: &PodLogins) {
        let container = finding.container.as_deref().unwrap_or("container");
        let written = &finding.text;
        let reference = match Reference::read(written, &Unqualified::default()) {
            Ok(reading) => reading.reference,
            Err(malformed) => {
                pod.events.push(warning("InspectFailed", invalid_name(written, &malformed)));
                pod.events.push(warning("Failed", "Error: InvalidImageName"));
                pod.status = "InvalidImageName";
                return;
            }
        };
        if self.present.contains_key(&reference.to_string()) && !reference.is_floating() {
            let message = format!("Container image \"{written}\" already present on machine");
            pod.events.push(normal("Pulled", message));
        } else {
            pod.events.push(normal("Pulling", format!("Pulling image \"{written}\"")));
            match self.pull(&reference, pulling).await {
                Ok((bytes, digest)) => {
                    self.present.insert(reference.to_string(), digest);
                    let message = format!(
                        "Successfully pulled image \"{written}\". Image size: {bytes} bytes."
                    );
                    pod.events.push(normal("Pulled", message));
                }
                Err(text) => {
                    pod.events.push(warning(
                        "Failed",
                        format!("Failed to pull image \"{written}\": {text}"),
                    ));
                    pod.events.push(warning("Failed", "Error: ErrImagePull"));
                    pod.events
                        .push(normal("BackOff", format!("Back-off pulling image \"{written}\"")));
                    pod.events.push(warning("Failed", "Error: ImagePullBackOff"));
                    pod.status = "ImagePullBackOff";
                    return;
                }
            }
        }
        pod.events.push(normal("Started", format!("Started container {container}")));
    }

    /// Pulls an image as a node's runtime does and gives the bytes moved, or the runtime's text.
    async fn pull(
        &self,
        reference: &Reference,
        pulling: &PodLogins,
    ) -> Result<(u64, Digest), String> {
        let mut full = reference.clone();
        if full.tag.is_none() && full.digest.is_none() {
            full = full.at(full.selector());
        }
        let way = self.way(&full.host);
        let mut errors = Vec::new();
        let logins = self.logins(&full, pulling).await?;
        for place in places(&way, &full.host) {
            let outcome = self.pull_with(&place, &full, &logins).await;
            match outcome {
                Ok(pulled) => return Ok(pulled),
                Err(error) => errors.push(error),
            }
        }
        // The first that is more than "not found" is what the operator reads.
        let missing = |error: &String| error.contains("code = NotFound");
        let told = errors.iter().position(|error| !missing(error)).unwrap_or(0);
        Err(errors.into_iter().nth(told).unwrap_or_else(|| "rpc error: code = NotFound".into()))
    }

    /// What its nodes do for an upstream.
    fn way(&self, host: &Host) -> NodeWay {
        let straight = NodeWay { upstream: true, ..NodeWay::default() };
        let Some(folder) = &self.mirrors else { return straight };
        let own = [folder.join(host.as_str()), folder.join(nodes::folder_of(host))];
        let found = own.into_iter().find(|folder| folder.is_dir());
        let found = found.or_else(|| Some(folder.join(nodes::DEFAULT)).filter(|one| one.is_dir()));
        match found {
            Some(folder) => {
                let text = std::fs::read_to_string(folder.join("hosts.toml")).ok();
                nodes::read_hosts(text.as_deref(), host, nodes::RuntimeSeries::Six)
            }
            None => straight,
        }
    }

    /// The logins that its kubelets have for a pod's image.
    async fn logins(
        &self,
        full: &Reference,
        pulling: &PodLogins,
    ) -> Result<Vec<Credentials>, String> {
        let Some(api) = &self.api else { return Ok(Vec::new()) };
        let PodLogins { namespace, account, secrets } = pulling;
        let kept = api.logins(namespace, account, secrets, &full.to_string()).into_iter();
        let mut logins: Vec<Credentials> = kept
            .filter_map(|login| {
                let secret = login.held?.reveal().to_owned();
                Some(Credentials { user: login.user, secret: secret.into() })
            })
            .collect();
        if let Some(provider) = &self.provider {
            let now = larder_store::now() / 1000;
            let token = api.account_token(namespace, account, &provider.audience, now);
            logins.extend(ask(provider, &full.to_string(), &token, full.host.as_str()).await?);
        }
        Ok(logins)
    }

    /// Pulls an image from one place with each login in turn; with none, when there is none.
    async fn pull_with(
        &self,
        place: &AskedHost,
        full: &Reference,
        logins: &[Credentials],
    ) -> Result<(u64, Digest), String> {
        let mut outcome = Err(String::new());
        for login in logins {
            outcome = self.pull_from(place, full, Some(login)).await;
            if outcome.is_ok() {
                return outcome;
            }
        }
        if logins.is_empty() { self.pull_from(place, full, None).await } else { outcome }
    }

    /// Pulls an image from one place.
    async fn pull_from(
        &self,
        place: &AskedHost,
        full: &Reference,
        login: Option<&Credentials>,
    ) -> Result<(u64, Digest), String> {
        let unpack = format!("failed to pull and unpack image \"{full}\": ");
        let resolve = format!("{unpack}failed to resolve reference \"{full}\": ");
        let unknown = |text: String| format!("rpc error: code = Unknown desc = {text}");
        let missing = |text: String| format!("rpc error: code = NotFound desc = {text}");
        let (address, host) = (&place.address, place.host());
        let head =
            format!("Head \"{address}/v2/{}/manifests/{}\"", full.repository, full.selector());
        let Some(endpoint) = self.hosts.get(host) else {
            let name = host.split(':').next().unwrap_or(host);
            let text = format!(
                "{resolve}failed to do request: {head}: dial tcp: lookup {name} on 10.96.0.10:53: no such host"
            );
            return Err(unknown(text));
        };
        let endpoint = format!("{}{}", endpoint.trim_end_matches('/'), place.path());
        let registry = connect(host, &endpoint, place.namespace.clone(), login.cloned())?;
        let kind = if login.is_some() { "oauth" } else { "anonymous" };
        let status = |error: &ClientError| match error {
            // The token service's own refusal: its reason phrase is shown, its body is not.
            ClientError::Denied { status, action, message, .. }
            | ClientError::Refused { status, action, message, .. }
                if action.starts_with("the sign-in") =>
            {
                let said = message.as_ref().map(|said| format!(": {said}")).unwrap_or_default();
                unknown(format!(
                    "{resolve}failed to authorize: failed to fetch {kind} token: unexpected status: {status} {}{said}",
                    phrase(*status)
                ))
            }
            ClientError::NotFound { .. } => missing(format!("{resolve}{full}: not found")),
            ClientError::Denied { status, message, .. }
            | ClientError::Refused { status, message, .. } => {
                let said = message.as_ref().map(|said| format!(": {said}")).unwrap_or_default();
                unknown(format!(
                    "{resolve}pulling from host {host} failed with status code [manifests {}]: {status} {}{said}",
                    full.selector(),
                    phrase(*status)
                ))
            }
            other => unknown(format!("{resolve}failed to do request: {head}: {other}")),
        };
        let found = registry
            .resolve(&full.repository, &full.selector())
            .await
            .map_err(|error| status(&error))?;
        let content = |error: ClientError| {
            let failed = format!("{unpack}failed to copy: httpReadSeeker: failed open:");
            match &error {
                // The first message of the error document is shown.
                ClientError::Denied { status, message: Some(said), .. } => unknown(format!(
                    "{failed} unexpected status code {address}/v2/{}/manifests: {status} {} - Server message: denied: {said}",
                    full.repository,
                    phrase(*status)
                )),
                _ => unknown(format!("{failed} {error}")),
            }
        };
        let top = found.digest.clone();
        let index = Selector::Digest(found.digest);
        let (_, mut document) =
            registry.manifest(&full.repository, &index).await.map_err(content)?;
        if !document.children().is_empty() {
            let none = || missing(format!("{unpack}no match for platform in manifest: not found"));
            let child = document.child_for(&self.platform).ok_or_else(none)?;
            let child = Selector::Digest(child.digest.clone());
            (_, document) = registry.manifest(&full.repository, &child).await.map_err(content)?;
        }
        let bytes = self.fetch_blobs(&registry, full, &document).await;
        bytes.map(|bytes| (bytes, top)).map_err(|text| unknown(format!("{unpack}{text}")))
    }

    async fn fetch_blobs(
        &self,
        registry: &Registry,
        full: &Reference,
        document: &Document,
    ) -> Result<u64, String> {
        let mut total = 0;
        for blob in document.blobs() {
            let copy = |error: ClientError| {
                format!("failed to copy: httpReadSeeker: failed open: {error}")
            };
            let mut stream =
                registry.blob(&full.repository, &blob.digest, blob.size).await.map_err(copy)?;
            let mut hasher = Hasher::new(blob.digest.algorithm());
            while let Some(chunk) = stream.next().await.map_err(copy)? {
                hasher.update(&chunk);
                total += chunk.len() as u64;
            }
            let actual = hasher.finish();
            if actual != blob.digest {
                return Err(format!(
                    "failed commit on ref \"layer-{0}\": unexpected commit digest {actual}, expected {0}: failed precondition",
                    blob.digest
                ));
            }
        }
        Ok(total)
    }
}

fn connect(
    host: &str,
    endpoint: &str,
    namespace: Option<String>,
    credentials: Option<Credentials>,
) -> Result<Registry, String> {
    let endpoint = endpoint.parse().map_err(|error| format!("{error}"))?;
    // A runtime does not wait between its tries.
    let options = Options {
        retries: 1,
        pause: Duration::from_millis(1),
        namespace,
        account: credentials.map(Account::fixed),
        ..Options::new(host, endpoint)
    };
    Registry::new(options).map_err(|error| error.to_string())
}

/// One place that a node asks.
struct AskedHost {
    /// With what stands in front of `/v2/`.
    address: String,
    /// The upstream's host, where the place is told it.
    namespace: Option<String>,
}

impl AskedHost {
    fn host(&self) -> &str {
        let rest = self.address.split_once("://").map_or(&*self.address, |(_, rest)| rest);
        rest.split('/').next().unwrap_or_default()
    }

    fn path(&self) -> &str {
        let rest = self.address.split_once("://").map_or(&*self.address, |(_, rest)| rest);
        rest.find('/').map_or("", |slash| &rest[slash..])
    }
}

/// The places that a node asks, in its order.
fn places(way: &NodeWay, host: &Host) -> Vec<AskedHost> {
    let mut places: Vec<AskedHost> = way
        .asks
        .iter()
        .filter(|ask| ask.resolves)
        .map(|ask| AskedHost {
            address: ask.address.clone(),
            namespace: ask.named.then(|| host.to_string()),
        })
        .collect();
    if way.upstream {
        places.push(AskedHost { address: format!("https://{host}"), namespace: None });
    }
    places
}

fn invalid_name(written: &str, malformed: &MalformedReference) -> String {
    let why = match malformed.reason.word() {
        "upper-case" => "invalid reference format: repository name must be lowercase",
        _ if matches!(malformed.reason, Reason::Empty) => "invalid reference format: empty",
        _ => "invalid reference format",
    };
    format!(
        "Failed to apply default image tag \"{written}\": couldn't parse image name \"{written}\": {why}"
    )
}

/// The standard reason phrase of a status.
fn phrase(status: u16) -> &'static str {
    axum::http::StatusCode::from_u16(status)
        .ok()
        .and_then(|status| status.canonical_reason())
        .unwrap_or("")
}

/// The made-up end of a pod's name, always the same for a workload.
pub(crate) fn suffix(name: &str) -> String {
    const LETTERS: &[u8] = b"bcdfghjklmnpqrstvwxz2456789";
    let digest = larder_core::digest::Digest::of(name.as_bytes());
    digest.hex().bytes().take(5).map(|b| LETTERS[usize::from(b) % LETTERS.len()] as char).collect()
}
