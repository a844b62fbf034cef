//! Whom does the node ask, and in which order? By its mirror configuration, read as its runtime does.

use std::path::Path;

use larder_client::Endpoint;
use larder_core::diagnosis::{Cause, Nodes};
use larder_core::name::RepositoryName;
use larder_core::nodes::{DEFAULT, NodeWay, RuntimeSeries, folder_of, read_hosts};
use larder_core::reference::Reference;
use larder_transfer::files::read_bounded;

use super::Args;
use crate::config::Config;
use crate::failure::Failure;
use crate::node_files::{self, LIMIT, Runtime};

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
pub(super) struct ImageRoute {
    pub hosts: Vec<Host>,
    /// None: nobody knows the nodes' configuration.
    pub nodes: Option<Nodes>,
    pub text: String,
    /// The same image in this larder, where it is asked. None: it is not.
    pub here: Option<Reference>,
    /// What a node without any file meets, where larder.toml says otherwise.
    pub by_default: Option<Cause>,
    /// The image on the cached shelf of its upstream, where nobody knows whether the node is led there.
    pub elsewhere: Option<Reference>,
}

/// Finds the way of an image.
pub(super) fn of(
    args: &Args,
    config: Option<&Config>,
    reference: &Reference,
    line: Option<RuntimeSeries>,
) -> Result<ImageRoute, Failure> {
    // Long: the ways to an image, as a node tries them.
    let own = config.map(|config| &config.larder.url.host);
    let is_own = config.is_some_and(|config| config.larder.has_name(&reference.host));
    let (nodes, way, folder) = match &args.nodes {
        None => {
            (is_own.then_some(Nodes::None), NodeWay { upstream: true, ..NodeWay::default() }, None)
        }
        Some(folder) => {
            let (nodes, way, its) = read(folder, reference, args.runtime.or(line))?;
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
        // By what was said of the host.
        let place = address.split_once("://").map_or(&*address, |(_, rest)| rest);
        let (name, path) = place.split_at(place.find('/').unwrap_or(place.len()));
        if let Some(said) = name.parse().ok().and_then(|host| at(args, config, &host)) {
            address = format!("{said}{path}");
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
                && larder.as_ref().is_some_and(|it| it.starts_with("http://")) =>
        {
            text.push_str("; it speaks plain HTTP, which a node has to be told (`--nodes DIR`, `larder handoff write`)");
        }
        _ => {}
    }
    let unknown = args.nodes.is_none();
    let plain = larder.as_ref().is_some_and(|it| it.starts_with("http://"));
    let by_default =
        (unknown && is_own && plain && !reference.host.is_loopback()).then_some(Cause::PlainHttp);
    let elsewhere = config.filter(|_| unknown && !is_own).and_then(|it| cached(it, reference));
    Ok(ImageRoute { hosts, nodes, text, here, by_default, elsewhere })
}

/// The same image on the cached shelf of its upstream. None: no shelf caches it.
fn cached(config: &Config, reference: &Reference) -> Option<Reference> {
    let (shelf, _, _) =
        config.cached_shelves().find(|(_, _, upstream)| upstream.host == reference.host)?;
    let repository = format!("{}/{}", shelf.name.get_ref(), reference.repository).parse().ok()?;
    Some(Reference { host: config.larder.url.host.clone(), repository, ..reference.clone() })
}

/// Where nodes reach a host, as it was said. None: nobody said it.
fn at<'a>(
    args: &'a Args,
    config: Option<&Config>,
    host: &larder_core::name::Host,
) -> Option<&'a str> {
    let ours = || config.is_some_and(|config| config.larder.has_name(host));
    match &args.larder {
        Some(larder) if ours() => Some(larder.trim_end_matches('/')),
        _ => args.at.iter().find(|at| at.host == *host).map(|at| at.address.as_str()),
    }
}

/// The registry itself, as nodes reach it.
fn upstream(
    args: &Args,
    config: Option<&Config>,
    reference: &Reference,
    is_own: bool,
) -> Result<Host, Failure> {
    let what = || format!("cannot ask {}", reference.host);
    let by_default = |host: &larder_core::name::Host| {
        Endpoint::of_host(host)
            .map(|endpoint| endpoint.to_string())
            .map_err(|error| Failure::usage(what(), error, ""))
    };
    // Without a file of the node's for it, the node asks by HTTPS, whatever larder.toml says.
    let as_node = |address: &str| match (&args.nodes, address.split_once("://")) {
        (Some(_), Some((_, place))) if !reference.host.is_loopback() => format!("https://{place}"),
        _ => address.to_owned(),
    };
    let endpoint = match (is_own, at(args, config, &reference.host), config) {
        (true, Some(at), _) => as_node(at),
        (true, None, Some(config)) if reference.host == config.larder.url.host => {
            as_node(&config.larder.url.endpoint.to_string())
        }
        (_, Some(at), _) => at.to_owned(),
        // The operator's own way to an upstream (`endpoint`) is no node's.
        (_, None, _) => by_default(&reference.host)?,
    };
    let mut ca = Vec::new();
    for path in &args.ca {
        let read = read_bounded(path, LIMIT);
        ca.extend(read.map_err(|error| Failure::file(what(), path, &error))?);
        ca.push(b'\n');
    }
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
    line: Option<RuntimeSeries>,
) -> Result<(Nodes, NodeWay, Option<std::path::PathBuf>), Failure> {
    let what = || {
        format!("cannot read the nodes' configuration in {}", larder_transfer::files::named(folder))
    };
    if !folder.is_dir() {
        return Err(Failure::usage(
            what(),
            "it is no folder",
            "name the folder that the runtime's `config_path` names",
        ));
    }
    let straight = NodeWay { upstream: true, ..NodeWay::default() };
    let certs = node_files::certs(folder);
    let host = &reference.host;
    let own = [certs.join(host.as_str()), certs.join(folder_of(host))];
    let found = own.into_iter().find(|one| one.is_dir());
    let found = found.or_else(|| Some(certs.join(DEFAULT)).filter(|one| one.is_dir()));
    // The runtime's own configuration beside it says whether the folder is read at all.
    let runtime = Runtime::beside(folder).filter(|_| found.is_some());
    if let Some((runtime, why)) = runtime.and_then(|it| it.why_not(line).map(|why| (it, why))) {
        let why = format!("{}: {why}", larder_transfer::files::named(&runtime.path));
        return Ok((Nodes::NotRead(why), straight, None));
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
                false => {
                    format!("there is no hosts.toml in {}", larder_transfer::files::named(&found))
                }
            };
            return Ok((Nodes::NotRead(why), straight, None));
        }
        Err(error) => return Err(Failure::io(what(), &error)),
    };
    let way = read_hosts(Some(&text), host, line.unwrap_or(RuntimeSeries::Six));
    let bad: Vec<String> =
        way.remarks.iter().filter(|one| one.bad).map(|one| one.text.clone()).collect();
    // One that names the registry itself alone changes nothing, and is no fault.
    if way.asks.is_empty() && !bad.is_empty() {
        let why = bad.into_iter().next().unwrap_or_default();
        return Ok((Nodes::Dropped(why), way, Some(found)));
    }
    Ok((Nodes::Read(bad), way, Some(found)))
}
