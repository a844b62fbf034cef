//! `larder handoff move`: a pull secret for another namespace, name or cluster.

use std::path::PathBuf;

use larder_core::access::is_namespace;
use larder_core::handoff::{moved, read_secrets};
use larder_core::objects;
use larder_transfer::files::write_secret;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::Value;

use super::read::read;
use crate::context::{Context, shown};
use crate::failure::{Exit, Failure, Outcome};
use crate::kube::{ApiReach, Kube, path};
use crate::output::{Output, Report};

/// Re-target a pull secret: to another namespace, under another name, to another cluster
///
/// What belongs to its old place is left out: identifiers, versions, owners. With `--apply` it goes
/// straight to the cluster of the kubeconfig; else into a file that its owner alone may read.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The file with the Secret; `-` reads standard input
    file: PathBuf,
    /// The namespace it goes to [default: its own]
    #[arg(long, value_name = "NAME")]
    namespace: Option<String>,
    /// Its name there [default: its own]
    #[arg(long, value_name = "NAME")]
    name: Option<String>,
    /// Write it into this file
    #[arg(long, value_name = "FILE", required_unless_present = "apply")]
    into: Option<PathBuf>,
    /// Apply it to the cluster of the kubeconfig
    #[arg(long)]
    apply: bool,
    #[command(flatten)]
    reach: ApiReach,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    let what = format!("cannot move {}", larder_transfer::files::named(&args.file));
    let wrong =
        |cause: String| Failure::usage(&what, cause, "`larder handoff read` says what is in it");
    for name in [&args.namespace, &args.name].into_iter().flatten() {
        if !name.split('.').all(is_namespace) {
            return Err(wrong(format!("`{}` can name nothing in a cluster", name.escape_debug())));
        }
    }
    let text = read(&args.file).map_err(|error| Failure::io(&what, &error))?;
    let all = objects::read(&text).map_err(|error| wrong(error.to_string()))?;
    let secrets: Vec<&Value> =
        all.iter().filter(|one| objects::text(one, &["kind"]) == Some("Secret")).collect();
    let [secret] = secrets.as_slice() else {
        return Err(wrong(format!("it holds {} Secrets, not one", secrets.len())));
    };
    let moved = moved(secret, args.namespace.as_deref(), args.name.as_deref()).map_err(wrong)?;
    let name = objects::text(&moved, &["metadata", "name"]).unwrap_or_default().to_owned();
    let namespace =
        objects::text(&moved, &["metadata", "namespace"]).unwrap_or("default").to_owned();
    if !namespace.split('.').all(is_namespace) || !name.split('.').all(is_namespace) {
        return Err(wrong(
            format!("`{namespace}/{name}` can name nothing in a cluster")
                .escape_debug()
                .to_string(),
        ));
    }
    if let Some(file) = &args.into {
        write_secret(file, &super::secrets::documents(std::slice::from_ref(&moved)))
            .map_err(|error| Failure::file(&what, file, &error))?;
    }
    let mut server = None;
    if args.apply {
        let kube = Kube::connect(&args.reach).await?;
        kube.apply(&path(&namespace, "secrets", &name), &moved).await?;
        server = Some(kube.server().to_owned());
    }
    let users: Vec<String> = read_secrets(&moved.to_string())
        .map(|read| read.into_iter().flat_map(|one| one.logins).map(|login| login.user).collect())
        .unwrap_or_default();
    let file = args.into.as_ref().map(|file| shown(file));
    context.output.tell(&MoveReport { namespace, name, file, server, users });
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct MoveReport {
    namespace: String,
    name: String,
    /// Where it was written. None: in no file.
    file: Option<String>,
    /// The cluster's API to which it was applied. None: to none.
    server: Option<String>,
    /// As whom it signs in.
    users: Vec<String>,
}

impl Report for MoveReport {
    const KIND: &'static str = "handoff-move";

    fn show(&self, out: &Output) {
        let Self { namespace, name, file, server, users } = self;
        let places: Vec<String> = [
            file.as_ref().map(|file| format!("in {file}")),
            server.as_ref().map(|server| format!("applied at {server}")),
        ]
        .into_iter()
        .flatten()
        .collect();
        out.result(format!("Secret {namespace}/{name}  {}", places.join(", ")));
        out.note(format!(
            "It is still the login of {}: what is pulled with it is recorded under that name.",
            users.join(", ")
        ));
    }
}
