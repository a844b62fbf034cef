//! What the demo plays on: upstreams, a larder, a cluster, and a folder with files.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use larder_core::platform::Platform;
use larder_core::reference::Selector;
use larder_standin::{
    Api, Cluster, DEPLOYMENTS, Pod, SignIn, Upstream, UpstreamPlan, VENTWORKS, VENTWORKS_LOGIN,
    bazaar_images, ventworks_images,
};
use tokio::io::{AsyncBufReadExt as _, BufReader};
use tokio::process::{Child, Command};

use super::broken;
use super::chapters::Chapter;
use super::texts::{BOARD, configuration};
use crate::failure::{Exit, Failure};
use crate::output::{BAD, DIM, GOOD, Output, STRONG, paint};

/// What the vendor attaches to its image.
const COMPANIONS: [&str; 2] =
    ["application/vnd.ventworks.signature+json", "application/vnd.ventworks.materials+json"];
/// The larder's name as clusters reach it.
pub const OWN: &str = "larder.emberfall.example:5080";

/// Everything that runs.
pub struct Stage {
    output: Output,
    folder: PathBuf,
    /// Removes the folder when it is a temporary one.
    _temporary: Option<tempfile::TempDir>,
    /// The public upstream.
    pub bazaar: Upstream,
    /// The vendor.
    pub ventworks: Upstream,
    /// The air-gapped cluster.
    pub cluster: Option<Cluster>,
    /// The folder of each larder that serves, its address, and its process.
    servers: Vec<(String, String, Child)>,
    /// Where the larder that serves now is reached.
    larder: String,
    /// The API of the cluster. None: it has none.
    api: Option<Api>,
    /// One that no chapter has used yet. None: none was made.
    made: Option<Api>,
    chapter: String,
    /// Whether the chapter is shown.
    shown: bool,
}

impl Stage {
    /// Starts the upstreams and writes the files.
    pub async fn set(into: Option<&Path>, output: Output) -> Result<Self, Failure> {
        let what = "cannot set the demo up";
        let io = |error: std::io::Error| Failure::io(what, &error);
        let (folder, temporary) = match into {
            Some(folder) => {
                fs::create_dir_all(folder).map_err(io)?;
                if fs::read_dir(folder).map_err(io)?.next().is_some() {
                    let cause = format!("{} is not empty", folder.display());
                    return Err(Failure::usage(what, cause, "name a new folder"));
                }
                (folder.canonicalize().map_err(io)?, None)
            }
            None => {
                let temporary =
                    tempfile::Builder::new().prefix("larder-demo-").tempdir().map_err(io)?;
                (temporary.path().to_owned(), Some(temporary))
            }
        };
        output.note(paint(DIM, "Making up images and starting two stand-in upstreams …"));
        let store = |error: larder_store::StoreError| Failure::store(what, &error);
        let hidden = folder.join(".upstreams");
        let bazaar = Upstream::start(&hidden.join("bazaar"), UpstreamPlan::default())
            .await
            .map_err(store)?;
        let sign_in = SignIn::Bearer { login: VENTWORKS_LOGIN.into() };
        let plan = UpstreamPlan { sign_in, ..UpstreamPlan::default() };
        let ventworks = Upstream::start(&hidden.join("ventworks"), plan).await.map_err(store)?;
        for (upstream, images) in [(&bazaar, bazaar_images()), (&ventworks, ventworks_images())] {
            for (repository, tag, image) in images {
                let wrong = |error| Failure::usage(what, error, "");
                let (repository, tag) =
                    (repository.parse().map_err(wrong)?, tag.parse().map_err(wrong)?);
                upstream.hold(&repository, &tag, &image).await.map_err(store)?;
            }
        }
        for kind in COMPANIONS {
            let wrong = |error| Failure::usage(what, error, "");
            let repository = "gauges/steamgauge".parse().map_err(wrong)?;
            let tag = "1.9.2".parse().map_err(wrong)?;
            let signed = ventworks.digest(&repository, &Selector::Tag(tag)).await.map_err(store)?;
            if let Some(signed) = signed {
                let held = ventworks.hold_companion(&repository, &signed, None, kind).await;
                held.map_err(store)?;
            }
        }
        fs::create_dir(folder.join("deploy")).map_err(io)?;
        for (name, text) in DEPLOYMENTS {
            fs::write(folder.join("deploy").join(name), text).map_err(io)?;
        }
        fs::write(folder.join("larder.toml"), configuration(&bazaar, &ventworks)).map_err(io)?;
        let cluster =
            Cluster::new("turbine-hall", Platform::new("linux", "amd64", None), BTreeMap::new());
        Ok(Self {
            output,
            folder,
            _temporary: temporary,
            bazaar,
            ventworks,
            cluster: Some(cluster),
            servers: Vec::new(),
            larder: String::new(),
            api: None,
            made: None,
            chapter: String::new(),
            shown: true,
        })
    }

    /// Begins a chapter, which is shown or played unseen.
    pub fn begin(&mut self, number: usize, chapter: &Chapter, shown: bool) {
        let Chapter { title, lead, .. } = chapter;
        (*title).clone_into(&mut self.chapter);
        self.shown = shown;
        self.say(format!("\n{}\n{lead}\n", paint(STRONG, format!("{number}. {title}"))));
    }

    /// Says something as it is.
    pub fn say(&self, text: impl AsRef<str>) {
        if self.shown {
            self.output.result(text);
        }
    }

    /// The API of the cluster that asks who comes; it is made where it is first wanted.
    pub fn cluster_api(&mut self) -> Result<Api, Failure> {
        if let Some(api) = &self.made {
            return Ok(api.clone());
        }
        let api = Api::new("turbine-hall", &["scada", "historian"]);
        let api = api.map_err(|error| self.broken(error))?;
        self.made = Some(api.clone());
        Ok(api)
    }

    /// Says what to notice.
    pub fn notice(&self, text: &str) {
        self.say(format!("{} {text}", paint(GOOD, "→")));
    }

    /// A chapter that did not hold.
    pub fn broken(&self, cause: impl std::fmt::Display) -> Failure {
        broken(&self.chapter, cause)
    }

    fn command(&self, place: &str, arguments: &[&str]) -> Result<Command, Failure> {
        let program = std::env::current_exe().map_err(|error| self.broken(error))?;
        let mut command = Command::new(program);
        let color =
            if anstream::AutoStream::choice(&std::io::stdout()) == anstream::ColorChoice::Never {
                "never"
            } else {
                "always"
            };
        let color = match self.output.color {
            crate::output::Color::Auto => color,
            crate::output::Color::Always => "always",
            crate::output::Color::Never => "never",
        };
        command
            // Every place in the story is a new one.
            .args(["--new-store", "--color", color])
            .args(arguments)
            .current_dir(self.folder.join(place))
            .env_remove("LARDER_CONFIG")
            .env("VENTWORKS_LOGIN", VENTWORKS_LOGIN)
            .stdin(Stdio::null())
            .kill_on_drop(true);
        Ok(command)
    }

    fn prompt(&self, place: &str, line: &str) {
        self.say(paint(STRONG, format!("{place}$ {line}")));
    }

    /// Runs one of the program's commands as the operator would type it, shows what it says, and
    /// gives its results. It must end as expected.
    pub async fn larder(&self, line: &str, expected: Exit) -> Result<String, Failure> {
        self.larder_at("", line, expected).await
    }

    /// The same in a folder of its own: another larder.
    pub async fn larder_at(
        &self,
        place: &str,
        line: &str,
        expected: Exit,
    ) -> Result<String, Failure> {
        self.prompt(place, &format!("larder {line}"));
        let done = self.run(place, line).await?;
        let (results, notes) =
            (String::from_utf8_lossy(&done.stdout), String::from_utf8_lossy(&done.stderr));
        for text in [results.trim_end(), notes.trim_end()] {
            if self.shown && !text.is_empty() {
                self.output.relay(text);
            }
        }
        self.say("");
        if done.status.code() != Some(expected as i32) {
            return Err(self.broken(format!(
                "`larder {line}` ended with {}, not with {}",
                done.status, expected as i32
            )));
        }
        Ok(anstream::adapter::strip_str(&results).to_string())
    }

    /// Starts `larder serve` in one of the folders, in place of the one that serves there already, and tells the
    /// cluster where it is.
    pub async fn serve(&mut self, place: &str) -> Result<(), Failure> {
        if let Some(at) = self.servers.iter().position(|(there, ..)| there == place) {
            self.prompt(place, "kill %1");
            let (.., child) = self.servers.remove(at);
            self.end(child).await?;
        }
        let line = "serve --listen 127.0.0.1:0";
        self.prompt(place, &format!("larder {line} &"));
        let arguments: Vec<&str> = line.split_whitespace().collect();
        let mut command = self.command(place, &arguments)?;
        command.stdout(Stdio::piped()).stderr(Stdio::null());
        let mut child = command.spawn().map_err(|error| self.broken(error))?;
        let output = child.stdout.take().ok_or_else(|| self.broken("it has no output"))?;
        let mut lines = BufReader::new(output).lines();
        let mut address = None;
        // What it says of itself ends with who may do what.
        let mut said = false;
        while !said {
            let next = tokio::time::timeout(Duration::from_secs(10), lines.next_line()).await;
            let next = next.map_err(|_| self.broken("the larder did not start in 10 s"))?;
            let Some(text) = next.map_err(|error| self.broken(error))? else { break };
            if self.shown {
                self.output.relay(&text);
            }
            let plain = anstream::adapter::strip_str(&text).to_string();
            said = plain.starts_with("  access");
            address =
                address.or_else(|| plain.split_once("serves on ").map(|(_, at)| at.to_owned()));
        }
        let address =
            address.ok_or_else(|| self.broken("the larder does not say where it listens"))?;
        if let Some(cluster) = &mut self.cluster {
            cluster.reach(OWN, &address);
        }
        self.larder = address;
        if let Some(api) = &self.api {
            let address = api.listen().await.map_err(|error| self.broken(error))?;
            self.write_kubeconfig(&api.kubeconfig(address))?;
        }
        self.servers.push((place.to_owned(), self.larder.clone(), child));
        Ok(())
    }

    /// Gives the deployments to the cluster, shows what becomes of them, and tells how many pods
    /// run and how many do not.
    pub async fn apply(&mut self) -> Result<(usize, usize), Failure> {
        let Some(cluster) = &mut self.cluster else { return Ok((0, 0)) };
        let mut pods = Vec::new();
        for (name, _) in DEPLOYMENTS {
            let text = fs::read_to_string(self.folder.join("deploy").join(name))
                .map_err(|error| broken(&self.chapter, error))?;
            pods.extend(cluster.apply(&text).await.map_err(|error| broken(&self.chapter, error))?);
        }
        let name = cluster.name().to_owned();
        self.say(paint(DIM, format!("the cluster {name} is given deploy/ and says:")));
        for pod in &pods {
            let status = paint(if pod.is_running() { GOOD } else { BAD }, pod.status);
            self.say(format!("  {}/{}  {status}", pod.namespace, pod.name));
            let warnings = pod.events.iter().filter(|event| event.warning);
            let told: Vec<_> =
                warnings.filter(|event| !event.message.starts_with("Error")).collect();
            if let Some(last) = told.last() {
                self.say(format!("      {}", paint(DIM, last)));
            }
            if told.len() > 1 {
                let more = format!("(and {} more like it)", told.len() - 1);
                self.say(format!("      {}", paint(DIM, more)));
            }
        }
        self.say("");
        let running = pods.iter().filter(|pod| pod.is_running()).count();
        Ok((running, pods.len() - running))
    }

    /// From here on the story is about another cluster, whose nodes read their mirror configuration from
    /// a folder and reach nothing but the larder.
    pub fn new_cluster(&mut self, name: &str, mirrors: &str) {
        let mut cluster =
            Cluster::new(name, Platform::new("linux", "amd64", None), BTreeMap::new());
        cluster.configure_nodes(&self.folder.join(mirrors));
        self.cluster = Some(cluster);
    }

    /// The cluster's nodes are replaced by new ones, which have pulled nothing yet.
    pub fn renew_nodes(&mut self) {
        if let Some(cluster) = &mut self.cluster {
            cluster.renew_nodes();
        }
    }

    /// Gives the cluster a pod with one image, shows what becomes of it, and tells whether it runs and
    /// what its last warning is.
    pub async fn start_pod(&mut self, image: &str) -> Result<(bool, String), Failure> {
        self.start_pod_in("default", image).await
    }

    /// The same in a namespace.
    pub async fn start_pod_in(
        &mut self,
        namespace: &str,
        image: &str,
    ) -> Result<(bool, String), Failure> {
        let (runs, status, warning) = self.start(namespace, image).await?;
        let status = paint(if runs { GOOD } else { BAD }, status);
        let place = if namespace == "default" { String::new() } else { format!(" in {namespace}") };
        self.say(format!("  a pod{place} with {image}  {status}"));
        if !warning.is_empty() {
            self.say(format!("      {}", paint(DIM, &warning)));
        }
        Ok((runs, warning))
    }

    /// Gives the cluster a file, and shows the warnings that the person who applied it sees. None: it was refused.
    pub async fn offer(&mut self, text: &str) -> Result<Option<Vec<Pod>>, Failure> {
        let Some(cluster) = &mut self.cluster else { return Ok(None) };
        let offered = cluster.apply(text).await;
        let warnings: Vec<String> = cluster.warnings().iter().map(ToString::to_string).collect();
        for warning in warnings {
            self.say(format!("      {}", paint(DIM, format!("Warning: {warning}"))));
        }
        match offered {
            Ok(pods) => {
                for pod in &pods {
                    let status = paint(if pod.is_running() { GOOD } else { BAD }, pod.status);
                    self.say(format!("  {}/{}  {status}", pod.namespace, pod.name));
                    if let Some(last) = pod.events.iter().rfind(|event| {
                        event.reason == "Pulled"
                            || event.warning && !event.message.starts_with("Error")
                    }) {
                        self.say(format!("      {}", paint(DIM, last)));
                    }
                }
                Ok(Some(pods))
            }
            Err(refused) => {
                self.say(format!("  {}", paint(BAD, refused)));
                Ok(None)
            }
        }
    }

    /// The cluster reaches the larder that serves now under another name too.
    pub fn reach_larder_as(&mut self, host: &str) {
        let address = self.larder.clone();
        if let Some(cluster) = &mut self.cluster {
            cluster.reach(host, &address);
        }
    }

    /// Where the larder that serves now is reached.
    pub fn address(&self) -> &str {
        &self.larder
    }

    /// The same without showing it.
    pub async fn start_pod_quietly(&mut self, image: &str) -> Result<bool, Failure> {
        self.start("default", image).await.map(|(runs, ..)| runs)
    }

    /// The same in a namespace.
    pub async fn start_pod_quietly_in(
        &mut self,
        namespace: &str,
        image: &str,
    ) -> Result<bool, Failure> {
        self.start(namespace, image).await.map(|(runs, ..)| runs)
    }

    /// A cluster with an API of its own, whose nodes reach the larder that serves now.
    pub fn another_cluster(&self, name: &str, api: &Api) -> Cluster {
        let hosts = BTreeMap::from([(OWN.to_owned(), self.larder.clone())]);
        let mut cluster = Cluster::new(name, Platform::new("linux", "amd64", None), hosts);
        cluster.with_api(api.clone());
        cluster
    }

    /// From here on the story is about a cluster with an API.
    pub fn guarded_cluster(&mut self, name: &str, api: &Api) {
        self.cluster = Some(self.another_cluster(name, api));
        self.api = Some(api.clone());
    }

    /// The cluster's kubelets ask `larder node-login` from now on.
    pub fn ask_node_login(&mut self) {
        let arguments = ["node-login", "--larder", &self.larder, "--host", OWN];
        let arguments: Vec<String> = arguments.map(str::to_owned).into();
        if let (Some(cluster), Ok(program)) = (&mut self.cluster, std::env::current_exe()) {
            cluster.ask_for_credentials(&program, &arguments, OWN);
        }
    }

    /// A file's text.
    pub fn text(&self, name: &str) -> Result<String, Failure> {
        fs::read_to_string(self.folder.join(name)).map_err(|error| self.broken(error))
    }

    /// Gives a file another text.
    pub fn replace(&self, name: &str, text: &str) -> Result<(), Failure> {
        fs::write(self.folder.join(name), text).map_err(|error| self.broken(error))
    }

    async fn start(
        &mut self,
        namespace: &str,
        image: &str,
    ) -> Result<(bool, &'static str, String), Failure> {
        let text = format!(
            "apiVersion: v1\nkind: Pod\nmetadata: {{name: one, namespace: {namespace}}}\nspec: {{containers: [{{name: one, image: \"{image}\"}}]}}\n"
        );
        let Some(cluster) = &mut self.cluster else { return Ok((false, "", String::new())) };
        let pods = cluster.apply(&text).await.map_err(|error| broken(&self.chapter, error))?;
        let Some(pod) = pods.first() else { return Ok((false, "", String::new())) };
        let mut warnings = pod.events.iter().filter(|event| event.warning);
        let told = warnings.rfind(|event| !event.message.starts_with("Error"));
        let told = told.map(|event| event.message.clone()).unwrap_or_default();
        Ok((pod.is_running(), pod.status, told))
    }

    /// Runs a command without showing it and gives its exit status.
    pub async fn larder_quietly(&self, place: &str, line: &str) -> Result<i32, Failure> {
        Ok(self.run(place, line).await?.status.code().unwrap_or(-1))
    }

    /// Waits until a command's results say something.
    pub async fn wait_for(&self, place: &str, line: &str, words: &str) -> Result<(), Failure> {
        let deadline = Instant::now() + Duration::from_secs(20);
        while !String::from_utf8_lossy(&self.run(place, line).await?.stdout).contains(words) {
            if Instant::now() > deadline {
                return Err(self.broken(format!("`larder {line}` does not say `{words}`")));
            }
            tokio::time::sleep(Duration::from_millis(200)).await;
        }
        Ok(())
    }

    async fn run(&self, place: &str, line: &str) -> Result<std::process::Output, Failure> {
        let arguments: Vec<&str> = line.split_whitespace().collect();
        self.command(place, &arguments)?.output().await.map_err(|error| self.broken(error))
    }

    /// Shows one table of a configuration.
    pub fn show(&self, name: &str, table: &str) -> Result<(), Failure> {
        let text =
            fs::read_to_string(self.folder.join(name)).map_err(|error| self.broken(error))?;
        let from = text.find(table).unwrap_or(0);
        let shown = text[from..].split("\n\n").next().unwrap_or_default();
        self.say(format!("{}\n", paint(DIM, format!("{name} has\n{shown}"))));
        Ok(())
    }

    /// Mends one line of a deployment by hand, as the operator does.
    pub fn mend(&self, name: &str, from: &str, to: &str) -> Result<(), Failure> {
        self.change("", &format!("deploy/{name}"), from, to)
    }

    /// Changes one line of a file in one of the folders by hand.
    pub fn change(&self, place: &str, name: &str, from: &str, to: &str) -> Result<(), Failure> {
        self.prompt(place, &format!("sed -i 's|{from}|{to}|' {name}"));
        let path = self.folder.join(place).join(name);
        let text = fs::read_to_string(&path).map_err(|error| self.broken(error))?;
        self.say("");
        fs::write(&path, text.replace(from, to)).map_err(|error| self.broken(error))
    }

    /// Adds to a file, as an editor would, making it where it is missing.
    pub fn add(&self, name: &str, text: &str) -> Result<(), Failure> {
        let path = self.folder.join(name);
        let before = match fs::read_to_string(&path) {
            Ok(before) => before,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => String::new(),
            Err(error) => return Err(self.broken(error)),
        };
        if let Some(folder) = path.parent() {
            fs::create_dir_all(folder).map_err(|error| self.broken(error))?;
        }
        fs::write(&path, before + text).map_err(|error| self.broken(error))
    }

    /// The size of a file, in bytes.
    pub fn size(&self, name: &str) -> Result<u64, Failure> {
        let metadata = fs::metadata(self.folder.join(name));
        Ok(metadata.map_err(|error| self.broken(error))?.len())
    }

    fn write_kubeconfig(&self, text: &str) -> Result<(), Failure> {
        let path = self.folder.join("kubeconfig");
        let written = larder_transfer::files::write_secret(&path, text.as_bytes());
        written.map_err(|error| self.broken(error))
    }

    /// Leaves everything running until somebody stops it, and says what to try.
    pub async fn stay(&mut self) -> Result<(), Failure> {
        let Some(cluster) = self.cluster.take() else { return Ok(()) };
        let name = cluster.name().to_owned();
        if let Some(api) = &self.api {
            let address = api.listen().await.map_err(|error| self.broken(error))?;
            self.write_kubeconfig(&api.kubeconfig(address))?;
            cluster.live().map_err(|error| self.broken(error))?;
        }
        self.add("gate/board.yaml", BOARD)?;
        let mut addresses = String::new();
        for (place, at, _) in &self.servers {
            let place = if place.is_empty() { "." } else { place.as_str() };
            addresses.push_str(&format!("  # the larder of {place}/ is at {at}\n"));
        }
        self.output.result(format!(
            "\n{}\n{}  cd {}\n  export VENTWORKS_LOGIN={VENTWORKS_LOGIN}\n  \
             larder look {VENTWORKS}/gauges/steamgauge:1.9.2 {OWN}/vendor/steamgauge:1.9.2\n  \
             larder intake add {VENTWORKS}/gauges/steamgauge:1.8\n  larder intake lock\n  larder intake run\n  \
             larder shelf show vendor\n  larder rewrite --check deploy\n\n\
             The cluster {name} runs what the platform's own client gives it:\n  cd {}/gate\n  \
             export KUBECONFIG={}/kubeconfig\n  kubectl apply -f board.yaml\n  kubectl -n scada get pods\n  \
             kubectl -n scada describe pod broken-board | larder why --event - --cluster {name} --namespace scada --larder {}\n  \
             kubectl -n scada run board --image {OWN}/vendor/steamgauge:1.9.2\n  kubectl -n scada get pods\n\nCtrl-C ends it.",
            paint(STRONG, "Everything stays up. Try, in another terminal:"),
            addresses,
            self.folder.display(),
            self.folder.display(),
            self.folder.display(),
            self.larder
        ));
        let stop = crate::commands::serve::stop_signal().map_err(|error| self.broken(error))?;
        stop.await;
        Ok(())
    }

    /// Stops the larders as an operator does, and sees that it stops well.
    pub async fn strike(&mut self) -> Result<(), Failure> {
        for (.., child) in std::mem::take(&mut self.servers) {
            self.end(child).await?;
        }
        Ok(())
    }

    async fn end(&self, mut child: Child) -> Result<(), Failure> {
        if let Some(id) = child.id() {
            let kill = Command::new("sh").args(["-c", &format!("kill -TERM {id}")]).status().await;
            kill.map_err(|error| self.broken(error))?;
        }
        let ended = tokio::time::timeout(Duration::from_secs(10), child.wait()).await;
        match ended {
            Ok(Ok(status)) if status.success() => Ok(()),
            Ok(Ok(status)) => {
                Err(self.broken(format!("the larder ended with {status} on SIGTERM")))
            }
            Ok(Err(error)) => Err(self.broken(error)),
            Err(_) => Err(self.broken("the larder did not stop on SIGTERM")),
        }
    }
}
