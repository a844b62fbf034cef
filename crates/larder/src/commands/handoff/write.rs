//! `larder handoff write`: all that a cluster needs in order to pull, as files.

use std::fs;
use std::path::{Path, PathBuf};

use larder_core::name::Host;
use larder_core::nodes::{
    DEFAULT, NodePlan, folder_of, write_drop_in, write_hosts, write_own_hosts,
};
use larder_transfer::files::{CA_LIMIT, read_bounded, replace, write_secret};
use schemars::JsonSchema;
use serde::Serialize;

use super::nodes::DROP_INS;
use super::secrets::{self, SecretFile};
use crate::commands::Expires;
use crate::config::{ClusterConfig, Config, strange_nodes};
use crate::context::{Context, open_store, shown};
use crate::failure::{Exit, Failure, Outcome};
use crate::handoff;
use crate::node_files::CERTS;
use crate::output::{Output, Report, count};

/// The certificate's name beside a `hosts.toml`.
const CA_NAME: &str = "larder-ca.pem";

/// Write all that a cluster needs in order to pull
///
/// The pull secret of each namespace and its links to service accounts (or, for a cluster with an
/// identity, what its nodes need to sign in with them); how its nodes reach the larder's own name, and
/// their mirror configuration where the larder caches upstreams. HANDOFF.md and NODES.md say what to do with them. A secret that is in the
/// folder already and holds a good key stays; else a key is issued, beside the one that is good.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The cluster, as `[[cluster]]` names it
    cluster: String,
    /// Write the configuration of its nodes alone
    #[arg(long)]
    nodes: bool,
    /// Write the secrets of this namespace alone
    #[arg(long, value_name = "NAME", conflicts_with = "nodes")]
    namespace: Option<String>,
    /// How long new keys are good: 90d, 12h, or `never`
    #[arg(long, value_name = "SPAN", default_value = "90d", conflicts_with = "nodes")]
    expires: Expires,
    /// Write it into this folder
    #[arg(long, value_name = "DIR")]
    into: PathBuf,
    /// Let nodes go to the upstream itself when the larder is away, or refuses
    #[arg(long)]
    open: bool,
    /// Only for this upstream, by its name or host (again for more) [default: all that are cached]
    #[arg(long, value_name = "NAME")]
    upstream: Vec<String>,
    /// Also for every other upstream: what the larder does not cache is refused
    #[arg(long)]
    default: bool,
    /// The authority that nodes, and the cluster's API at its door, trust for the larder (PEM)
    #[arg(long, value_name = "FILE")]
    ca: Option<PathBuf>,
    /// Where the certificate that nodes show lies on them, in PEM; the larder knows it as the cluster's
    #[arg(long, value_name = "PATH", requires = "client_key")]
    client_cert: Option<String>,
    /// Where its key lies on them
    #[arg(long, value_name = "PATH", requires = "client_cert")]
    client_key: Option<String>,
    /// Where the folders lie on the node
    #[arg(long, value_name = "PATH", default_value = "/etc/containerd/certs.d")]
    config_path: String,
    /// Say what would be written
    #[arg(long)]
    dry_run: bool,
}

#[derive(Serialize, JsonSchema)]
struct HandoffFile {
    path: String,
    /// `written` or `unchanged`.
    state: &'static str,
}

pub async fn run(args: &Args, context: &Context) -> Outcome {
    // Long: what is written, in the order in which it must be known.
    let config = context.config()?;
    let what = || format!("cannot write the handoff of {}", args.cluster);
    let wrong = |cause: String, remedy: &str| Failure::usage(what(), cause, remedy);
    let cluster = handoff::cluster(&config, &what(), &args.cluster)?;
    let about_nodes = args.nodes || !args.upstream.is_empty() || args.namespace.is_none();
    let upstreams = if about_nodes { chosen(args, &config)? } else { Vec::new() };
    let larder = config.larder.url.endpoint.to_string();
    let ca = match &args.ca {
        Some(path) => {
            let failed = |error: std::io::Error| Failure::file(what(), path, &error);
            let bytes = read_bounded(path, CA_LIMIT).map_err(failed)?;
            if !String::from_utf8_lossy(&bytes).contains("-----BEGIN CERTIFICATE-----") {
                let cause =
                    format!("{} holds no certificate in PEM", larder_transfer::files::named(path));
                return Err(wrong(cause, "runtimes read nothing else"));
            }
            Some(bytes)
        }
        None => None,
    };
    let is_https = config.larder.url.endpoint.is_https();
    let door = cluster.door.as_ref().filter(|_| !args.nodes).and_then(|door| door.url(&larder));
    if ca.is_some() && !is_https && door.is_none() {
        let cause = format!("`--ca` is for HTTPS, and the larder's `url` is {larder}");
        return Err(wrong(cause, "leave it out, or set `url` and `tls` under [larder]"));
    }
    if ca.is_none() && is_https {
        context
            .output
            .note("note: without `--ca` the nodes must trust the larder's certificate already");
    }
    // Where a proxy has the certificate, it is the door alone that is reached by HTTPS.
    let of_nodes = ca.as_deref().filter(|_| is_https);
    let mut files: Vec<SecretFile> = match about_nodes {
        true => files(args, &config, &upstreams, of_nodes)
            .into_iter()
            .map(|(path, content)| SecretFile { path, content, secret: false, fresh: None })
            .collect(),
        false => Vec::new(),
    };
    if !args.nodes {
        files.extend(access_files(args, &config, cluster, ca.as_deref(), &context.output).await?);
    }
    let mut written = Vec::new();
    for SecretFile { path, content, secret, fresh } in &files {
        let path = args.into.join(path);
        let same = fresh.is_none() && fs::read(&path).is_ok_and(|found| found == *content);
        let failed = |error: std::io::Error| {
            Failure::io(format!("cannot write {}", larder_transfer::files::named(&path)), &error)
        };
        match fresh {
            _ if same || args.dry_run => {}
            None => put(&path, content, *secret).map_err(failed)?,
            Some(wanted) => {
                // The key is issued once its place is there, and ends when it could not be put there.
                if let Some(folder) = path.parent() {
                    fs::create_dir_all(folder).map_err(failed)?;
                }
                let store = open_store(&config)?;
                let expires = args.expires.end();
                let fresh = secrets::with_key(&config, &store, wanted, expires);
                let (content, key) = fresh.await?;
                if let Err(error) = put(&path, &content, true) {
                    let why = "it could not be handed over";
                    handoff::end(&store, &key, &wanted.user, why).await?;
                    return Err(failed(error));
                }
            }
        }
        let state = if same { "unchanged" } else { "written" };
        written.push(HandoffFile { path: shown(&path), state });
    }
    let says = if args.dry_run { "would say" } else { "says" };
    let nodes = about_nodes.then(|| {
        let refusals = if args.open {
            "what the larder refuses can still be pulled from the upstream"
        } else {
            "what the larder refuses is refused"
        };
        let caches = match upstreams.len() {
            0 => String::new(),
            many => format!(" and {}; {refusals}", count(many, "upstream")),
        };
        format!(
            "the files are for {}{caches}. NODES.md {says} where the files go.",
            config.larder.url.host
        )
    });
    let strange = if upstreams.is_empty() { None } else { strange_nodes(&config, cluster) };
    let access = (!args.nodes).then(|| {
        let secrets = if cluster.identity.is_none() { "; those in secrets/ hold keys" } else { "" };
        format!("HANDOFF.md {says} what to do with the files{secrets}.")
    });
    let strange = strange.map(|why| format!("note: {why}"));
    context.output.tell(&HandoffFiles {
        cluster: args.cluster.clone(),
        dry_run: args.dry_run,
        open: args.open,
        files: written,
        notes: [nodes, strange, access].into_iter().flatten().collect(),
    });
    Ok(Exit::Done)
}

#[derive(Serialize, JsonSchema)]
pub struct HandoffFiles {
    cluster: String,
    dry_run: bool,
    /// Whether nodes may go to the upstream with what the larder refuses.
    open: bool,
    files: Vec<HandoffFile>,
    #[serde(skip)]
    notes: Vec<String>,
}

impl Report for HandoffFiles {
    const KIND: &'static str = "handoff-write";

    fn show(&self, out: &Output) {
        for HandoffFile { path, state } in &self.files {
            let state = match *state {
                "written" if self.dry_run => "would be written",
                state => state,
            };
            out.result(format!("{state:<9} {path}"));
        }
        self.notes.iter().for_each(|note| out.note(note));
    }
}

/// The files that let its pods pull.
async fn access_files(
    args: &Args,
    config: &Config,
    cluster: &ClusterConfig,
    ca: Option<&[u8]>,
    output: &Output,
) -> Result<Vec<SecretFile>, Failure> {
    let what = format!("cannot write the handoff of {}", args.cluster);
    let host = config.larder.url.host.to_string();
    // The path in it is a secret.
    let mut door: Vec<SecretFile> = handoff::webhooks(config, cluster, ca, true, &what)?
        .map(|webhooks| SecretFile {
            path: "door/webhooks.yaml".into(),
            content: secrets::documents(&webhooks.objects()),
            secret: true,
            fresh: None,
        })
        .into_iter()
        .collect();
    let names = handoff::name_rules(config, cluster).unwrap_or_else(|error| {
        output.note(format!("note: {error}: the door and every pull hold them all the same"));
        Vec::new()
    });
    if !names.is_empty() {
        let content = secrets::documents(&names);
        door.push(SecretFile {
            path: "door/names.yaml".into(),
            content,
            secret: false,
            fresh: None,
        });
    }
    let ca = ca
        .filter(|_| config.larder.url.endpoint.is_https())
        .map(|_| format!("/etc/larder/{CA_NAME}"));
    if let Some(login) = handoff::node_login(config, cluster, ca) {
        let page = secrets::page(cluster, &[], Some(&login), &host).into_bytes();
        let page =
            SecretFile { path: "HANDOFF.md".into(), content: page, secret: false, fresh: None };
        return Ok([secrets::node_login(&login), page].into_iter().chain(door).collect());
    }
    let wanted = handoff::wanted(config, cluster, args.namespace.as_deref(), &what)?;
    let store = open_store(config)?;
    let mut files = secrets::files(config, &store, &wanted, &args.into).await?;
    let page = secrets::page(cluster, &wanted, None, &host).into_bytes();
    files.push(SecretFile { path: "HANDOFF.md".into(), content: page, secret: false, fresh: None });
    files.extend(door);
    Ok(files)
}

/// The upstreams that are meant, each with its shelf.
fn chosen(args: &Args, config: &Config) -> Result<Vec<(Host, String)>, Failure> {
    let what = || format!("cannot write the handoff of {}", args.cluster);
    let mut all = Vec::new();
    let mut names = Vec::new();
    for (shelf, _, upstream) in config.cached_shelves() {
        let (name, host) = (upstream.name.get_ref(), &upstream.host);
        let asked = |wanted: &String| wanted == name || wanted == host.as_str();
        names.push(name.as_str());
        let meant = args.upstream.is_empty() || args.upstream.iter().any(asked);
        if meant && all.iter().all(|(known, _)| known != host) {
            all.push((host.clone(), shelf.name.get_ref().to_string()));
        }
    }
    let known = |wanted: &String| {
        config.cached_shelves().any(|(_, _, upstream)| {
            upstream.name.get_ref() == wanted || upstream.host.as_str() == wanted
        })
    };
    if let Some(unknown) = args.upstream.iter().find(|wanted| !known(wanted)) {
        let cause = format!("no shelf caches `{unknown}`; cached are: {}", names.join(", "));
        return Err(Failure::usage(what(), cause, "declare a [[shelf]] with `caches`"));
    }
    Ok(all)
}

/// All files, by their paths in the folder.
fn files(
    args: &Args,
    config: &Config,
    upstreams: &[(Host, String)],
    ca: Option<&[u8]>,
) -> Vec<(PathBuf, Vec<u8>)> {
    let mut files = Vec::new();
    let own = &config.larder.url;
    let larder = &own.endpoint.to_string();
    let config_path = args.config_path.trim_end_matches('/');
    let plan = |folder: &str| NodePlan {
        larder: larder.to_owned(),
        cluster: args.cluster.clone(),
        ca: ca.map(|_| format!("{config_path}/{folder}/{CA_NAME}")),
        client: args.client_cert.clone().zip(args.client_key.clone()),
        open: args.open,
    };
    let mut folders: Vec<(String, Option<&Host>)> =
        upstreams.iter().map(|(host, _)| (folder_of(host), Some(host))).collect();
    if args.default {
        folders.push((DEFAULT.to_owned(), None));
    }
    let scheme = larder.split_once("://").map_or("https", |(scheme, _)| scheme);
    for host in std::iter::once(&own.host).chain(&config.larder.aliases) {
        let folder = folder_of(host);
        let path = Path::new(CERTS).join(&folder);
        let its = match *host == own.host {
            true => larder.clone(),
            false => format!("{scheme}://{host}"),
        };
        let plan = NodePlan { larder: its, ..plan(&folder) };
        files.push((path.join("hosts.toml"), write_own_hosts(&plan, host).into_bytes()));
        files.extend(ca.map(|ca| (path.join(CA_NAME), ca.to_vec())));
        if let Some(ca) = ca {
            let path = Path::new("containers-certs.d").join(host.as_str());
            files.push((path.join("ca.crt"), ca.to_vec()));
        }
    }
    for (folder, host) in folders {
        let path = Path::new(CERTS).join(&folder);
        files.push((path.join("hosts.toml"), write_hosts(&plan(&folder), host).into_bytes()));
        files.extend(ca.map(|ca| (path.join(CA_NAME), ca.to_vec())));
    }
    let drop_in = Path::new(DROP_INS).join(format!("50-larder-{}.conf", args.cluster));
    files.push((drop_in, write_drop_in(&plan(""), upstreams).into_bytes()));
    files.push(("NODES.md".into(), page(args, config, upstreams, ca.is_some()).into_bytes()));
    files
}

/// What to do with the files.
fn page(args: &Args, config: &Config, upstreams: &[(Host, String)], ca: bool) -> String {
    let own = &config.larder.url.host;
    let hosts: Vec<&str> = upstreams.iter().map(|(host, _)| host.as_str()).collect();
    let (config_path, cluster) = (args.config_path.trim_end_matches('/'), &args.cluster);
    let fallback = match (hosts.is_empty(), args.open) {
        (true, _) => String::new(),
        (_, true) => format!(
            " They also lead pulls from {} through it. When the larder does not answer, or refuses, nodes go to the\n\
             upstream itself.",
            hosts.join(", ")
        ),
        (_, false) => format!(
            " They also lead pulls from {} through it. Nodes ask the larder alone: a refusal is a refusal,\n\
             and without the larder nothing is pulled.",
            hosts.join(", ")
        ),
    };
    let strange = match config.cluster(cluster).and_then(|it| strange_nodes(config, it)) {
        Some(why) if !hosts.is_empty() => format!("\n**Before you copy them:** {why}.\n"),
        _ => String::new(),
    };
    let other_ca = if ca {
        "\nCopy `containers-certs.d/*` to `/etc/containers/certs.d/`: it holds the authority.\n"
    } else {
        ""
    };
    let client = match (&args.client_cert, &args.client_key) {
        (Some(cert), Some(key)) => format!(
            "\nThe certificate that nodes show lies beside it, under names of that family: link `{cert}` as\n\
             `/etc/containers/certs.d/{own}/client.cert`, and `{key}` as `client.key`.\n"
        ),
        _ => String::new(),
    };
    let cached = hosts.first().map(|host| {
        format!(
            " Then pull an image of {host} on the node and look for `cluster=\"{cluster}\"` in the\nlarder's log."
        )
    });
    format!(
        "# Nodes of {cluster}\n\n\
         These files tell nodes how they reach {own}.{fallback}\n{strange}\n\
         ## Runtimes with a folder for each host\n\n\
         1. Copy `certs.d/*` to `{config_path}/` on each node.\n\
         2. Have the runtime read it: `config_path = \"{config_path}\"`, in the table that fits its `config.toml`:\n\n   \
         | first line of `config.toml` | runtime | table |\n   \
         |---|---|---|\n   \
         | `version = 2` | 1.x and 2.x | `[plugins.\"io.containerd.grpc.v1.cri\".registry]` |\n   \
         | `version = 3` | 2.x | `[plugins.\"io.containerd.cri.v1.images\".registry]` |\n   \
         | none | 1.x | `[plugins.cri.registry]` |\n\n   \
         At another place it is not read, and nothing says so; one folder, no list. A table `registry.mirrors` beside it\n   \
         keeps the runtime from starting: take it out. What the runtime took, `containerd config dump` shows.\n\
         3. Restart the runtime once for step 2; the files themselves are read anew with every pull.\n\n\
         ## Runtimes with drop-in files\n\n\
         Copy `registries.conf.d/*` to `/etc/containers/registries.conf.d/` and reload the runtime. These runtimes\n\
         cannot say from which cluster they come.\n{other_ca}{client}\n\
         ## Test\n\n\
         On a node, with an image of the larder and the name of one who may pull it; the key is asked for:\n\n   \
         ctr --namespace k8s.io images pull --hosts-dir {config_path} --user USER {own}/SHELF/IMAGE:TAG\n\n\
         Without a key (leave `--user` out) it is refused, with a number, unless anybody may pull it (`anonymous`):\n\
         `larder log NUMBER` says why.\n\
         Copy a node's folder back and run `larder check --nodes FOLDER`: it reads the files as the runtime does and\n\
         says what it would leave out.{}\n\n\
         ## Undo\n\n\
         Remove what was copied: the next pull goes the way it went before. Nothing needs a restart.\n",
        cached.unwrap_or_default()
    )
}

fn put(path: &Path, content: &[u8], secret: bool) -> std::io::Result<()> {
    if let Some(folder) = path.parent() {
        fs::create_dir_all(folder)?;
    }
    if secret { write_secret(path, content) } else { replace(path, content) }
}
