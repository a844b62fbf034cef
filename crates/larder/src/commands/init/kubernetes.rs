//! `larder init --kubernetes`: manifests that run it in a cluster.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use larder_core::access::is_namespace;
use larder_core::reference::Reference;
use larder_transfer::files::named;
use schemars::JsonSchema;
use serde::Serialize;

use super::{NAME, TEMPLATE};
use crate::context::Context;
use crate::failure::{Exit, Failure, Outcome};
use crate::output::{Output, Report};

const LARDER: &str = include_str!("../../../assets/kubernetes/larder.yaml");
const BEGIN: &str = include_str!("../../../assets/kubernetes/begin.yaml");

/// Where the larder is to run, and as how many.
#[derive(Debug, clap::Args)]
pub struct ClusterArgs {
    /// Write manifests that run it in a cluster into this folder instead: begin.yaml, once, and larder.yaml
    #[arg(long, value_name = "FOLDER", requires = "image", requires = "url", conflicts_with_all = ["survey", "cache"])]
    kubernetes: Option<PathBuf>,
    /// With --kubernetes: the image of the larder itself, as the cluster pulls it
    #[arg(long, value_name = "REF", requires = "kubernetes")]
    image: Option<String>,
    /// With --kubernetes: several larders on an object store and a database, instead of one with a volume
    #[arg(long, value_name = "COUNT", requires = "kubernetes", value_parser = clap::value_parser!(u16).range(2..=100))]
    replicas: Option<u16>,
    /// With --kubernetes: the namespace [default: larder]
    #[arg(long, value_name = "NAME", requires = "kubernetes")]
    namespace: Option<String>,
}

/// Which manifests were written.
#[derive(Serialize, JsonSchema)]
pub struct ManifestsReport {
    folder: String,
    files: Vec<&'static str>,
    /// null: one, with a volume.
    replicas: Option<u16>,
    /// The Secrets that have to be made before.
    secrets: Vec<&'static str>,
}

impl ClusterArgs {
    pub(super) fn is_asked(&self) -> bool {
        self.kubernetes.is_some()
    }
}

/// Writes them. What is there already is not touched.
pub(super) fn run(
    args: &ClusterArgs,
    name: Option<&String>,
    url: Option<&String>,
    context: &Context,
) -> Outcome {
    let (Some(folder), Some(image), Some(url)) = (&args.kubernetes, &args.image, url) else {
        return Err(Failure::usage(
            "cannot write manifests",
            "`--image` and `--url` are needed",
            "",
        ));
    };
    let what = || format!("cannot write manifests to {}", named(folder));
    let namespace = args.namespace.as_deref().unwrap_or("larder");
    if !is_namespace(namespace) {
        let cause = format!("`{}` can name no namespace", namespace.escape_debug());
        let remedy = "a namespace has lower-case letters, digits and `-`, 63 at most";
        return Err(Failure::usage(what(), cause, remedy));
    }
    let reference: Reference = crate::context::reference(image, None)?;
    let configuration = configuration(args, name.map_or(NAME, String::as_str), url);
    let config = super::prove(&folder.join("larder.toml"), &configuration)?;
    let port = config.as_ref().map_or(443, |config| config.port);
    let host = config.map(|config| config.host).unwrap_or_default();
    let facts = ManifestFacts {
        several: args.replicas.is_some(),
        tls: url.starts_with("https://"),
        words: vec![
            ("@NAMESPACE@", namespace.to_owned()),
            ("@IMAGE@", reference.to_string()),
            ("@REPLICAS@", args.replicas.unwrap_or(1).to_string()),
            ("@PORT@", port.to_string()),
            ("@HOST@", host),
            (
                "@OUT@",
                if args.replicas.is_some() {
                    " and the object store, the database".to_owned()
                } else {
                    String::new()
                },
            ),
            ("@CONFIGURATION@", indented(&configuration)),
        ],
    };
    std::fs::create_dir_all(folder).map_err(|error| Failure::io(what(), &error))?;
    let files = [("begin.yaml", BEGIN), ("larder.yaml", LARDER)];
    if let Some((name, _)) =
        files.iter().find(|(name, _)| folder.join(name).symlink_metadata().is_ok())
    {
        let remedy = "edit that one, or name another folder";
        return Err(Failure::usage(what(), format!("there is a {name} already"), remedy));
    }
    for (name, text) in files {
        write(&folder.join(name), &facts.filled(text))?;
    }
    let mut secrets = Vec::new();
    secrets.extend(facts.tls.then_some("larder-tls"));
    secrets.extend(facts.several.then_some("larder-backends"));
    let files = files.iter().map(|(name, _)| *name).collect();
    let folder = folder.display().to_string();
    context.output.tell(&ManifestsReport { folder, files, replicas: args.replicas, secrets });
    Ok(Exit::Done)
}

fn write(path: &Path, text: &str) -> Result<(), Failure> {
    let fault = |error| Failure::io(format!("cannot write {}", named(path)), &error);
    let mut file = std::fs::File::create_new(path).map_err(fault)?;
    file.write_all(text.as_bytes()).map_err(fault)
}

/// The example of a configuration, as it has to be within a cluster.
fn configuration(args: &ClusterArgs, name: &str, url: &str) -> String {
    let quoted = |text: &str| toml_edit::Value::from(text).to_string();
    let mut own = format!(
        "[larder]\nname = {}\nurl = {}\nlisten = \"0.0.0.0:5080\"\nmetrics = \"0.0.0.0:5081\"\ndata = \"/var/lib/larder/store\"\naccess = \"grants\"\n",
        quoted(name),
        quoted(url)
    );
    if url.starts_with("https://") {
        own.push_str(
            "tls = { cert = \"/run/secrets/tls/tls.crt\", key = \"/run/secrets/tls/tls.key\" }\n",
        );
    }
    if args.replicas.is_some() {
        own.push_str("objects = { bucket = \"larder\", endpoint = \"https://objects.example\", credentials = { file = \"/run/secrets/backends/objects-key\" } }\nrecords = { file = \"/run/secrets/backends/records-address\" }\n");
    }
    // What follows in the example holds within a cluster too.
    let rest = TEMPLATE.find("# Other configuration files").map_or("", |at| &TEMPLATE[at..]);
    format!("{own}\n{rest}")
}

fn indented(text: &str) -> String {
    let line = |line: &str| if line.is_empty() { String::new() } else { format!("    {line}") };
    text.lines().map(line).collect::<Vec<_>>().join("\n")
}

struct ManifestFacts {
    several: bool,
    tls: bool,
    /// What stands for each word of the template.
    words: Vec<(&'static str, String)>,
}

impl ManifestFacts {
    /// A template with what holds here: lines of the other form are left out.
    fn filled(&self, template: &str) -> String {
        let marks =
            [("#@single#", !self.several), ("#@several#", self.several), ("#@tls#", self.tls)];
        let mut text = String::with_capacity(template.len());
        for line in template.lines() {
            let marked =
                marks.iter().find_map(|(mark, holds)| Some((line.strip_prefix(mark)?, *holds)));
            match marked {
                Some((_, false)) => continue,
                Some((rest, true)) => text.push_str(rest),
                None => text.push_str(line),
            }
            text.push('\n');
        }
        for (word, value) in &self.words {
            text = text.replace(word, value);
        }
        text
    }
}

impl Report for ManifestsReport {
    const KIND: &'static str = "init-kubernetes";

    fn show(&self, out: &Output) {
        let Self { folder, files, secrets, .. } = self;
        out.result(format!("wrote {} to {folder}", files.join(" and ")));
        let first = match secrets.is_empty() {
            true => "Edit the configuration in begin.yaml".to_owned(),
            false => format!(
                "Make the Secrets {}, as larder.yaml says; edit the configuration in begin.yaml",
                secrets.join(" and ")
            ),
        };
        out.note(format!("{first}; apply it once, then larder.yaml."));
    }
}
