//! Whom does the node ask, and in which order? By its mirror configuration, read as its runtime does.

use std::path::Path;

use larder_client::Endpoint;
use larder_core::diagnosis::Nodes;
use larder_core::name::RepositoryName;
use larder_core::nodes::{DEFAULT, Way, folder_of, read_hosts, reads_folders};
use larder_core::reference::Reference;

use super::Args;
use crate::config::Config;
use crate::failure::Failure;
use crate::files::read_bounded;

/// The largest file of a node that is read, in bytes.
const LIMIT: usize = 1024 * 1024;

/// One host that the node asks.
#[derive(Debug, Clone)]
pub(super) struct Host {
    /// With what stands in front of `/v2/`.
    pub address: String,
    /// The name by which it is told. None: by its address.
    shown: Option<String>,
    pub namespace: Option<String>,
    prefix: String,
    pub headers: Vec<(String, String)>,
    pub ca: Vec<u8>,
    pub mirror: bool,
    pub ours: bool,
}

impl Host {
    /// Its name and port.
    pub fn name(&self) -> String {
        if let Some(shown) = &self.shown {
            return shown.clone();
        }
        let rest = self.address.split_once("://").map_or(&*self.address, |(_, rest)| rest);
        rest.split('/').next().unwrap_or_default().to_owned()
    }

    /// The repository as it is asked for there. None: no such name can be.
    pub fn repository(&self, reference: &Reference) -> Option<RepositoryName> {
        match self.prefix.as_str() {
            "" => Some(reference.repository.clone()),
            prefix => format!("{prefix}/{}", reference.repository).parse().ok(),
        }
    }
}

/// The way of one image.
pub(super) struct Routed {
    pub hosts: Vec<Host>,
    /// None: nobody knows the nodes' configuration.
    pub nodes: Option<Nodes>,
    pub text: String,
    /// The same image in this larder, where it is asked. None: it is not.
    pub here: Option<Reference>,
}

/// Finds the way of an image.
pub(super) fn of(
    args: &Args,
    config: Option<&Config>,
    reference: &Reference,
) -> Result<Routed, Failure> {
    let own = config.map(|config| &config.larder.url.host);
    let is_own = config.is_some_and(|config| config.larder.has_name(&reference.host));
    let (nodes, way, folder) = match &args.nodes {
        None => (is_own.then_some(Nodes::None), Way { upstream: true, ..Way::default() }, None),
        Some(folder) => {
            let (nodes, way, its) = read(folder, reference)?;
            (Some(nodes), way, its)
        }
    };
    let larder = config.map(|config| config.larder.url.endpoint.to_string());
    let mut hosts = Vec::new();
    let mut here =
        own.filter(|_| is_own).map(|own| Reference { host: own.clone(), ..reference.clone() });
    for ask in way.asks.iter().filter(|ask| ask.resolves) {
        let ours = larder.as_ref().is_some_and(|larder| {
            ask.address == *larder || ask.address.starts_with(&format!("{larder}/"))
        });
        let mut address = ask.address.clone();
        if let (true, Some(larder), Some(at)) = (ours, &larder, &args.larder) {
            address = format!("{}{}", at.trim_end_matches('/'), &address[larder.len()..]);
        }
        if ours {
            here = here.or_else(|| cached(config?, reference));
        }
        let from = |path: &String| {
            let path = Path::new(path);
            let beside = folder.as_ref().map(|folder: &std::path::PathBuf| {
                folder.join(path.file_name().unwrap_or_default())
            });
            // On the node the file lies elsewhere than in what was copied from it.
            let found = read_bounded(path, LIMIT).ok();
            found.or_else(|| beside.and_then(|beside| read_bounded(&beside, LIMIT).ok()))
        };
        hosts.push(Host {
            address,
            shown: ours.then(|| own.map(ToString::to_string)).flatten(),
            namespace: ask.named.then(|| reference.host.to_string()),
            prefix: ask.prefix.clone(),
            headers: ask.headers.clone(),
            ca: ask.ca.as_ref().and_then(from).unwrap_or_default(),
            mirror: true,
            ours,
        });
    }
    if way.upstream {
        hosts.push(upstream(args, config, reference, is_own)?);
    } else if let Some(last) = hosts.last_mut() {
        // Closed: nobody is asked after it.
        last.mirror = false;
    }
    let names: Vec<String> = hosts.iter().map(Host::name).collect();
    let mut text = match names.as_slice() {
        [] => "it asks nobody".to_owned(),
        [one] => format!("it asks {one}"),
        many => format!("it asks {}", many.join(", then ")),
    };
    match &nodes {
        Some(Nodes::NotRead(why)) => text = format!("{why}; {text}"),
        Some(Nodes::Dropped(why)) => text = format!("a mirror file is dropped: {why}; {text}"),
        Some(Nodes::Read(remarks)) if !remarks.is_empty() => {
            text.push_str(&format!(" ({})", remarks.join("; ")));
        }
        None => text.push_str("; mirrors are not known (`--nodes DIR`)"),
        Some(Nodes::None)
            if is_own
                && args.nodes.is_none()
                && larder.is_some_and(|it| it.starts_with("http://")) =>
        {
            text.push_str("; it speaks plain HTTP, which a node has to be told (`--nodes DIR`, `larder handoff write`)");
        }
        _ => {}
    }
    Ok(Routed { hosts, nodes, text, here })
}

/// The same image on the cached shelf of its upstream. None: no shelf caches it.
fn cached(config: &Config, reference: &Reference) -> Option<Reference> {
    let (shelf, _, _) =
        config.cached_shelves().find(|(_, _, upstream)| upstream.host == reference.host)?;
    let repository = format!("{}/{}", shelf.name.get_ref(), reference.repository).parse().ok()?;
    Some(Reference { host: config.larder.url.host.clone(), repository, ..reference.clone() })
}

/// The registry itself, as it is reached from here.
fn upstream(
    args: &Args,
    config: Option<&Config>,
    reference: &Reference,
    is_own: bool,
) -> Result<Host, Failure> {
    let what = || format!("cannot ask {}", reference.host);
    let known = config.and_then(|config| config.upstream(&reference.host));
    // Without a file of the node's for it, the node asks by HTTPS, whatever larder.toml says.
    let as_node = |address: &str| match (&args.nodes, address.split_once("://")) {
        (Some(_), Some((_, place))) if !reference.host.is_loopback() => format!("https://{place}"),
        _ => address.to_owned(),
    };
    let endpoint = match (is_own, &args.larder, config) {
        (true, Some(at), _) => as_node(at.trim_end_matches('/')),
        (true, None, Some(config)) => as_node(&config.larder.url.endpoint.to_string()),
        _ => match known.and_then(|upstream| upstream.endpoint.as_ref()) {
            Some(endpoint) => endpoint.to_string(),
            None => Endpoint::of_host(&reference.host)
                .map_err(|error| Failure::usage(what(), error, ""))?
                .to_string(),
        },
    };
    let ca = match (known.and_then(|upstream| upstream.ca.as_ref()), config) {
        (Some(path), Some(config)) => {
            let path = config.folder().join(path);
            read_bounded(&path, LIMIT).map_err(|error| Failure::file(what(), &path, &error))?
        }
        _ => Vec::new(),
    };
    Ok(Host {
        address: endpoint,
        shown: Some(reference.host.to_string()),
        namespace: None,
        prefix: String::new(),
        headers: Vec::new(),
        ca,
        mirror: false,
        ours: is_own,
    })
}

/// Reads a node's folder for one host: what is read, the way that it says, and the folder of that host.
fn read(
    folder: &Path,
    reference: &Reference,
) -> Result<(Nodes, Way, Option<std::path::PathBuf>), Failure> {
    let what =
        || format!("cannot read the nodes' configuration in {}", crate::files::named(folder));
    if !folder.is_dir() {
        return Err(Failure::usage(
            what(),
            "it is no folder",
            "name the folder that the runtime's `config_path` names",
        ));
    }
    let straight = Way { upstream: true, ..Way::default() };
    let certs = Some(folder.join("certs.d")).filter(|inner| inner.is_dir());
    let certs = certs.unwrap_or_else(|| folder.to_owned());
    let host = &reference.host;
    let own = [certs.join(host.as_str()), certs.join(folder_of(host))];
    let found = own.into_iter().find(|one| one.is_dir());
    let found = found.or_else(|| Some(certs.join(DEFAULT)).filter(|one| one.is_dir()));
    // The runtime's own configuration beside it says whether the folder is read at all.
    for config in [folder.join("config.toml"), certs.join("../config.toml")] {
        let Ok(bytes) = read_bounded(&config, LIMIT) else { continue };
        let set = reads_folders(&String::from_utf8_lossy(&bytes));
        if !set && found.is_some() {
            let why = format!(
                "{} sets no `config_path`, so that the folder is not read",
                crate::files::named(&config)
            );
            return Ok((Nodes::NotRead(why), straight, None));
        }
    }
    let Some(found) = found else { return Ok((Nodes::None, straight, None)) };
    let file = found.join("hosts.toml");
    let text = match read_bounded(&file, LIMIT) {
        Ok(bytes) => match String::from_utf8(bytes) {
            Ok(text) => text,
            Err(_) => {
                return Ok((Nodes::Dropped("it is no UTF-8 text".into()), straight, None));
            }
        },
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            let why = match found.join("host.toml").exists() {
                true => {
                    "the file is called host.toml, and the runtime reads hosts.toml alone".into()
                }
                false => format!("there is no hosts.toml in {}", crate::files::named(&found)),
            };
            return Ok((Nodes::NotRead(why), straight, None));
        }
        Err(error) => return Err(Failure::io(what(), &error)),
    };
    let way = read_hosts(Some(&text), host);
    let bad: Vec<String> =
        way.remarks.iter().filter(|one| one.bad).map(|one| one.text.clone()).collect();
    // One that names the registry itself alone changes nothing, and is no fault.
    if way.asks.is_empty() && !bad.is_empty() {
        let why = bad.into_iter().next().unwrap_or_default();
        return Ok((Nodes::Dropped(why), way, Some(found)));
    }
    Ok((Nodes::Read(bad), way, Some(found)))
}
