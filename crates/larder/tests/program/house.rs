//! The one fixture: a folder with a configuration and deployments, two upstreams that run, and the
//! program.

use std::fs;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use larder_standin::{
    DEPLOYMENTS, ImagePlan, SampleImage, SignIn, Upstream, UpstreamPlan, VENTWORKS_LOGIN, image,
};
use tokio::runtime::Runtime;

pub const OWN: &str = "larder.emberfall.example:5080";

pub struct House {
    pub folder: tempfile::TempDir,
    pub bazaar: Upstream,
    pub ventworks: Upstream,
    pub runtime: Runtime,
}

/// How a run of the program ended.
#[derive(Debug)]
pub struct Run {
    pub exit: i32,
    pub out: String,
    pub err: String,
}

impl Run {
    /// It ended as expected; its results are given.
    #[track_caller]
    pub fn ends(self, exit: i32) -> Self {
        assert_eq!(self.exit, exit, "\n--- out\n{}\n--- err\n{}", self.out, self.err);
        self
    }

    /// Its errors and notes say all of this.
    #[track_caller]
    pub fn says(self, words: &[&str]) -> Self {
        for word in words {
            let both = format!("{}{}", self.out, self.err);
            assert!(
                both.contains(word),
                "`{word}` is not said\n--- out\n{}\n--- err\n{}",
                self.out,
                self.err
            );
        }
        self
    }

    pub fn json(&self) -> serde_json::Value {
        serde_json::from_str(&self.out).unwrap_or_else(|error| panic!("{error}: {}", self.out))
    }
}

/// A small image; all content grows from its name.
pub fn small(name: &str) -> ImagePlan {
    ImagePlan { layer_size: 30_000, ..ImagePlan::new(name) }
}

impl House {
    /// Two upstreams with small images, the sample deployments, and a configuration with one intake
    /// entry for each image.
    pub fn new() -> Self {
        let runtime = Runtime::new().unwrap();
        let folder = tempfile::tempdir().unwrap();
        let login = SignIn::Bearer { login: VENTWORKS_LOGIN.into() };
        let bazaar = start(&runtime, &folder.path().join("bazaar"), UpstreamPlan::default());
        let plan = UpstreamPlan { sign_in: login, ..UpstreamPlan::default() };
        let ventworks = start(&runtime, &folder.path().join("ventworks"), plan);
        let house = Self { folder, bazaar, ventworks, runtime };
        house.hold(&house.bazaar, "library/kettle", "2", &image(&small("kettle")));
        house.hold(&house.bazaar, "library/brinedb", "5.2", &image(&small("brinedb")));
        let old = ImagePlan { schema2: true, ..small("ashlog") };
        house.hold(&house.bazaar, "library/ashlog", "1.4", &image(&old));
        house.hold(&house.ventworks, "gauges/steamgauge", "1.9.2", &image(&small("steamgauge")));
        let single = small("valve-twin").for_platforms(&["linux/amd64"]);
        house.hold(&house.ventworks, "gauges/valve-twin", "3.1", &image(&single));
        fs::create_dir_all(house.path("deploy")).unwrap();
        for (name, text) in DEPLOYMENTS {
            house.write(&format!("deploy/{name}"), text);
        }
        house.configure(INTAKE);
        house
    }

    pub fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join("work").join(name)
    }

    pub fn write(&self, name: &str, text: impl AsRef<[u8]>) {
        fs::create_dir_all(self.path(name).parent().unwrap()).unwrap();
        fs::write(self.path(name), text).unwrap();
    }

    pub fn read(&self, name: &str) -> String {
        fs::read_to_string(self.path(name)).unwrap()
    }

    pub fn hold(&self, upstream: &Upstream, repository: &str, tag: &str, image: &SampleImage) {
        let (repository, tag) = (repository.parse().unwrap(), tag.parse().unwrap());
        self.runtime.block_on(upstream.hold(&repository, &tag, image)).unwrap();
    }

    /// Writes the configuration: the usual beginning, then `rest`.
    pub fn configure(&self, rest: &str) {
        let (bazaar, ventworks) = (self.bazaar.endpoint(), self.ventworks.endpoint());
        self.write(
            "larder.toml",
            format!(
                "[larder]\nname = \"emberfall\"\nurl = \"http://{OWN}\"\nunqualified = \"bazaar.example/library\"\naccess = \"open\"\n\n\
                 [[upstream]]\nname = \"bazaar\"\nhost = \"bazaar.example\"\nendpoint = \"{bazaar}\"\n\n\
                 [[upstream]]\nname = \"ventworks\"\nhost = \"ventworks.example\"\nendpoint = \"{ventworks}\"\ncredentials = {{ env = \"VENTWORKS_LOGIN\" }}\n\n{rest}"
            ),
        );
    }

    /// Makes a program of the shell, and gives its path.
    pub fn program(&self, name: &str, text: &str) -> String {
        use std::os::unix::fs::PermissionsExt as _;
        self.write(name, format!("#!/bin/sh\n{text}\n"));
        let path = self.path(name);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
        path.display().to_string()
    }

    /// One more `[[upstream]]`.
    pub fn add_upstream(&self, host: &str, endpoint: &str, more: &str) {
        let text = self.read("larder.toml");
        let added = format!(
            "\n[[upstream]]\nname = \"{host}\"\nhost = \"{host}\"\nendpoint = \"{endpoint}\"\n{more}\n"
        );
        self.write("larder.toml", text + &added);
    }

    /// Does something while a symbolic link, and then a second name, of a file lies at a path. Neither the link nor
    /// the file may be touched by it.
    pub fn for_each_link_at(&self, at: &Path, something: impl Fn()) {
        self.write("precious", "not to be touched");
        let (symbolic, hard) = (std::os::unix::fs::symlink::<_, _>, std::fs::hard_link::<_, _>);
        for link in [symbolic, hard] {
            link(self.path("precious"), at.to_owned()).unwrap();
            something();
            assert_eq!(self.read("precious"), "not to be touched");
            assert!(at.symlink_metadata().is_ok(), "it is not ours to remove");
            std::fs::remove_file(at).unwrap();
        }
    }

    /// Starts one more upstream, which nothing names yet.
    pub fn start(&self, plan: UpstreamPlan) -> Upstream {
        start(&self.runtime, &self.folder.path().join("more"), plan)
    }

    pub fn command(&self, line: &str) -> Command {
        let mut command = Command::new(env!("CARGO_BIN_EXE_larder"));
        // The house is a new one: whichever command needs a store first makes it.
        let mut words = line.split_whitespace();
        command.arg("--new-store").args(words.next());
        if line.starts_with("why") {
            command.args(self.names());
        }
        command
            .args(words)
            .current_dir(self.path(""))
            .env_remove("LARDER_CONFIG")
            .env_remove("NO_COLOR")
            .env("VENTWORKS_LOGIN", VENTWORKS_LOGIN)
            .stdin(Stdio::null());
        command
    }

    /// Where the names of the stand-ins lead: no name service knows them.
    fn names(&self) -> Vec<String> {
        let Ok(text) = std::fs::read_to_string(self.path("larder.toml")) else { return Vec::new() };
        let Ok(config) = toml::from_str::<toml::Table>(&text) else { return Vec::new() };
        let upstreams = config.get("upstream").and_then(toml::Value::as_array);
        let mut words = Vec::new();
        for upstream in upstreams.into_iter().flatten() {
            let of = |key: &str| upstream.get(key).and_then(toml::Value::as_str);
            if let (Some(host), Some(endpoint)) = (of("host"), of("endpoint")) {
                words.extend(["--at".to_owned(), format!("{host}={endpoint}")]);
            }
            if let Some(ca) = of("ca") {
                words.extend(["--ca".to_owned(), ca.to_owned()]);
            }
        }
        words
    }

    /// Runs the program as typed.
    pub fn larder(&self, line: &str) -> Run {
        run(&mut self.command(line))
    }

    /// Runs it with words that may hold blanks.
    pub fn larder_words(&self, words: &[&str]) -> Run {
        let mut command = self.command("");
        run(command.args(words))
    }

    /// Runs it with something on its standard input.
    pub fn larder_reads(&self, line: &str, input: &str) -> Run {
        let mut child = spawn(&mut self.command(line), Stdio::piped());
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        ended(child)
    }

    /// Locks and brings in everything.
    pub fn bring_in(&self) {
        self.larder("intake lock").ends(0);
        self.larder("intake run").ends(0);
    }

    /// The files that lie unfinished in the larder's store.
    pub fn unfinished(&self) -> usize {
        fs::read_dir(self.path("larder-data/uploads")).map_or(0, Iterator::count)
    }
}

fn start(runtime: &Runtime, folder: &Path, plan: UpstreamPlan) -> Upstream {
    runtime.block_on(Upstream::start(folder, plan)).unwrap()
}

pub fn spawn(command: &mut Command, input: Stdio) -> Child {
    command.stdin(input).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap()
}

pub fn run(command: &mut Command) -> Run {
    ended(spawn(command, Stdio::null()))
}

pub fn ended(child: Child) -> Run {
    let done = child.wait_with_output().unwrap();
    let run = Run {
        exit: done.status.code().unwrap_or(-1),
        out: String::from_utf8(done.stdout).unwrap(),
        err: String::from_utf8(done.stderr).unwrap(),
    };
    // Whatever happens: no secret, no panic, no debug dump reaches anybody.
    let secret = VENTWORKS_LOGIN.split(':').nth(1).unwrap();
    for text in [&run.out, &run.err] {
        assert!(!text.contains(secret), "a secret is shown: {text}");
        assert!(!text.contains("panicked at"), "{text}");
    }
    if run.out.starts_with('{') {
        documents(&run.out).iter().for_each(crate::documents::check);
    }
    run
}

/// Our own documents in an output: one, or one a line. None of what other standards define.
fn documents(out: &str) -> Vec<serde_json::Value> {
    let whole = serde_json::from_str(out).map(|one| vec![one]);
    let lines = || out.lines().filter_map(|line| serde_json::from_str(line).ok()).collect();
    let mut all: Vec<serde_json::Value> = whole.unwrap_or_else(|_| lines());
    let theirs =
        ["$schema", "apiVersion", "$defs", "schemaVersion", "spdxVersion", "bomFormat", "runs"];
    all.retain(|one| theirs.iter().all(|key| one[*key].is_null()));
    all
}

pub const INTAKE: &str = r#"
[[intake]]
image = "bazaar.example/library/kettle"
tags = { exact = ["2"] }
to = "vendor/kettle"

[[intake]]
image = "bazaar.example/library/brinedb"
tags = { exact = ["5.2"] }
platforms = ["linux/amd64"]
to = "vendor/brinedb"

[[intake]]
image = "bazaar.example/library/ashlog"
tags = { exact = ["1.4"] }
to = "vendor/ashlog"

[[intake]]
image = "ventworks.example/gauges/steamgauge"
tags = { exact = ["1.9.2"] }
to = "vendor/steamgauge"

[[intake]]
image = "ventworks.example/gauges/valve-twin"
tags = { match = "3.*" }
to = "vendor/valve-twin"

[[class]]
name = "vetted"
match = ["ventworks.example/**"]

[[cluster]]
name = "turbine-hall"
platforms = ["linux/amd64"]
"#;
