//! Reading a node's mirror configuration as its runtime does.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use larder_core::name::Host;
use larder_core::nodes::{
    DEFAULT, ExpectedWay, NodeWay, Reads, Remark, RuntimeSeries, host_of, judge, judge_own,
    read_drop_in, read_hosts,
};
use larder_transfer::files::read_bounded;
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::{Config, strange_nodes};
use crate::context::{Context, shown};
use crate::failure::{Exit, Failure, Outcome};
use crate::node_files::{CERTS, LIMIT, Runtime};
use crate::output::{BAD, DIM, GOOD, Output, Report, Table, WARN, paint};

/// The folder of drop-in files.
pub const DROP_INS: &str = "registries.conf.d";

#[derive(Serialize, JsonSchema)]
struct MirrorRow {
    /// The upstream; `_default` stands for all without a folder of their own.
    upstream: String,
    /// None: nothing is there for it.
    file: Option<String>,
    /// Whom the node asks, in this order.
    asks: Vec<String>,
    remarks: Vec<NodeRemark>,
}

#[derive(Serialize, JsonSchema)]
struct NodeRemark {
    /// Whether the runtime leaves something out or fails because of it.
    bad: bool,
    text: String,
}

/// Says what the runtimes of a node make of a folder.
///
/// Exit status 1 says that something is left out, or does not lead to the larder.
pub fn check(
    folder: &Path,
    line: Option<RuntimeSeries>,
    config: &Config,
    context: &Context,
) -> Outcome {
    let what = || format!("cannot check {}", larder_transfer::files::named(folder));
    if !folder.is_dir() {
        let remedy = "name a folder with `certs.d` or `registries.conf.d` in it, or one of these";
        return Err(Failure::usage(what(), "it is no folder", remedy));
    }
    let or_self = |name: &str| Some(folder.join(name)).filter(|inner| inner.is_dir());
    let certs = or_self(CERTS);
    let drop_ins = or_self(DROP_INS);
    let alone = certs.is_none() && drop_ins.is_none();
    let mut rows = Vec::new();
    let folders_here = certs.is_some() || alone;
    if let Some(certs) = certs.or_else(|| alone.then(|| folder.to_owned())) {
        rows.extend(folders(&certs, line, config).map_err(|error| Failure::io(what(), &error))?);
    }
    if let Some(drop_ins) = drop_ins.or_else(|| alone.then(|| folder.to_owned())) {
        rows.extend(files(&drop_ins, config).map_err(|error| Failure::io(what(), &error))?);
    }
    for (_, _, upstream) in config.cached_shelves() {
        let host = upstream.host.as_str();
        if !rows.iter().any(|row| row.upstream == host || row.upstream == DEFAULT) {
            let text = "nothing is here for it: its images do not come through the larder";
            rows.push(MirrorRow {
                upstream: host.to_owned(),
                file: None,
                asks: vec![format!("https://{host}")],
                remarks: vec![NodeRemark { bad: true, text: text.into() }],
            });
        }
    }
    // The larder's own name, where nodes would not reach it without a file.
    let own = config.larder.url.host.as_str();
    if !rows.iter().any(|row| row.upstream == own) && !config.larder.url.endpoint.is_https() {
        let text = "nothing is here for the larder's own name: nodes ask it by HTTPS, and it speaks plain HTTP; `larder handoff write` writes it";
        rows.push(MirrorRow {
            upstream: own.to_owned(),
            file: None,
            asks: vec![format!("https://{own}")],
            remarks: vec![NodeRemark { bad: true, text: text.into() }],
        });
    }
    let runtime = own_configuration(folder, line).filter(|_| folders_here);
    let bad = rows.iter().any(|row| row.remarks.iter().any(|remark| remark.bad))
        || runtime.iter().flat_map(|own| &own.lines).any(|line| line.bad);
    context.output.tell(&NodeFilesReport {
        folder: shown(folder),
        upstreams: rows,
        runtime,
        folders_here,
    });
    Ok(if bad { Exit::No } else { Exit::Done })
}

#[derive(Serialize, JsonSchema)]
pub struct NodeFilesReport {
    folder: String,
    upstreams: Vec<MirrorRow>,
    /// The runtime's own configuration. None: it is not there.
    runtime: Option<RuntimeConfiguration>,
    #[serde(skip)]
    folders_here: bool,
}

impl Report for NodeFilesReport {
    const KIND: &'static str = "node-files";

    fn show(&self, out: &Output) {
        show(&self.upstreams, out);
        if self.folders_here {
            show_own(self.runtime.as_ref(), out);
        }
    }
}

fn read(path: &Path) -> Result<Option<String>, NodeRemark> {
    match read_bounded(path, LIMIT) {
        Ok(bytes) => String::from_utf8(bytes).map(Some).map_err(|_| NodeRemark {
            bad: true,
            text: "it is not UTF-8: the runtime cannot read it".into(),
        }),
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(NodeRemark { bad: true, text: format!("it cannot be read: {error}") }),
    }
}

fn sorted(folder: &Path) -> std::io::Result<Vec<PathBuf>> {
    let entries: Result<Vec<_>, _> = std::fs::read_dir(folder)?.collect();
    let mut paths: Vec<PathBuf> = entries?.into_iter().map(|entry| entry.path()).collect();
    paths.sort();
    Ok(paths)
}

/// A folder for each host.
fn folders(
    certs: &Path,
    line: Option<RuntimeSeries>,
    config: &Config,
) -> std::io::Result<Vec<MirrorRow>> {
    let mut rows = Vec::new();
    for path in sorted(certs)?.into_iter().filter(|path| path.is_dir()) {
        let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
        let any: Option<Host> = config.cached_shelves().next().map(|(_, _, one)| one.host.clone());
        let host = if name == DEFAULT { any } else { host_of(name) };
        let file = path.join("hosts.toml");
        let Some(host) = host else {
            let text = "no upstream has such a name: the runtime never looks here";
            let remarks = vec![NodeRemark { bad: true, text: text.into() }];
            rows.push(MirrorRow {
                upstream: name.into(),
                file: Some(shown(&path)),
                asks: vec![],
                remarks,
            });
            continue;
        };
        let mut remarks = Vec::new();
        let way = match read(&file) {
            Ok(text) => {
                let text = text.as_deref();
                let way = read_hosts(text, &host, line.unwrap_or(RuntimeSeries::Six));
                let second = read_hosts(text, &host, RuntimeSeries::Two);
                if line.is_none() && (&second.asks, second.upstream) != (&way.asks, way.upstream) {
                    let text = format!(
                        "a runtime of the line 2.x reads it otherwise: it asks {}",
                        asks(&second, &host, name == DEFAULT).join(", then ")
                    );
                    remarks.push(NodeRemark { bad: false, text });
                }
                way
            }
            Err(note) => {
                remarks.push(note);
                NodeWay { upstream: true, ..NodeWay::default() }
            }
        };
        if !file.exists() && path.join("host.toml").exists() {
            remarks.push(NodeRemark {
                bad: true,
                text: "host.toml is not read; it is called hosts.toml".into(),
            });
        }
        for ca in way.asks.iter().filter_map(|ask| ask.ca.as_ref()) {
            remarks.extend(certificate(ca, &path));
        }
        let ported = config.cached_shelves().find(|(_, _, upstream)| {
            upstream.host.name() == host.as_str() && upstream.host != host
        });
        if let Some((_, _, upstream)) = ported {
            let text = format!(
                "references name {}: a folder without the port is not looked at for them",
                upstream.host
            );
            remarks.push(NodeRemark { bad: true, text });
        }
        let upstream = if name == DEFAULT { DEFAULT.to_owned() } else { host.to_string() };
        rows.push(row(upstream, &host, &file, way, remarks, config));
    }
    Ok(rows)
}

/// Whether the authority's certificate can be used. Where it lies on the node cannot be seen from here,
/// but a copy beside the file can.
fn certificate(ca: &str, folder: &Path) -> Option<NodeRemark> {
    let name = Path::new(ca).file_name()?;
    let place = if Path::new(ca).is_file() { PathBuf::from(ca) } else { folder.join(name) };
    match read(&place) {
        Ok(Some(text)) if text.contains("-----BEGIN CERTIFICATE-----") => None,
        Ok(Some(_)) => Some(NodeRemark {
            bad: true,
            text: format!("{ca} is no certificate in PEM: every pull fails"),
        }),
        Ok(None) => Some(NodeRemark {
            bad: true,
            text: format!("{ca} is not here; where it is not on the node either, every pull fails"),
        }),
        Err(note) => Some(note),
    }
}

/// Drop-in files with prefixes.
fn files(folder: &Path, config: &Config) -> std::io::Result<Vec<MirrorRow>> {
    let mut found: BTreeMap<Host, MirrorRow> = BTreeMap::new();
    for path in sorted(folder)? {
        if path.extension().is_none_or(|end| end != "conf") || !path.is_file() {
            continue;
        }
        let own = std::iter::once(&config.larder.url.host).chain(&config.larder.aliases);
        for host in own.chain(config.cached_shelves().map(|(_, _, upstream)| &upstream.host)) {
            let way = match read(&path) {
                Ok(Some(text)) => read_drop_in(&text, host),
                Ok(None) => None,
                Err(note) => {
                    let way = NodeWay { upstream: true, ..NodeWay::default() };
                    found.insert(
                        host.clone(),
                        row(host.to_string(), host, &path, way, vec![note], config),
                    );
                    None
                }
            };
            if let Some(way) = way {
                // A later file takes the place of an earlier one.
                found.insert(host.clone(), row(host.to_string(), host, &path, way, vec![], config));
            }
        }
    }
    Ok(found.into_values().collect())
}

fn row(
    upstream: String,
    host: &Host,
    file: &Path,
    way: NodeWay,
    mut remarks: Vec<NodeRemark>,
    config: &Config,
) -> MirrorRow {
    let larder = config.larder.url.endpoint.to_string();
    let is_own = config.larder.has_name(host);
    let clusters: Vec<&str> =
        config.clusters.iter().map(|cluster| cluster.name.get_ref().as_str()).collect();
    let shelf = config.cached_shelves().find(|(_, _, upstream)| upstream.host == *host);
    let shelf = shelf.map(|(shelf, _, _)| shelf.name.get_ref().as_str());
    let judged = match is_own {
        true => judge_own(&way, host, &larder),
        false => judge(&way, ExpectedWay { larder: &larder, clusters: &clusters, shelf }),
    };
    for ask in &way.asks {
        let Some((_, name)) = ask.address.split_once("/c/") else { continue };
        let cluster = config.clusters.iter().find(|cluster| cluster.name.get_ref() == name);
        if let Some(text) = cluster.and_then(|cluster| strange_nodes(config, cluster)) {
            remarks.push(NodeRemark { bad: true, text });
        }
    }
    let asks = asks(&way, host, upstream == DEFAULT);
    let told = way.remarks.into_iter().chain(judged);
    remarks.extend(told.map(|Remark { bad, text }| NodeRemark { bad, text }));
    MirrorRow { upstream, file: Some(shown(file)), asks, remarks }
}

/// Whom a way asks, in words.
fn asks(way: &NodeWay, host: &Host, for_all: bool) -> Vec<String> {
    let mut asks: Vec<String> = way
        .asks
        .iter()
        .map(|ask| match ask.prefix.as_str() {
            "" => ask.address.clone(),
            prefix => format!("{}/{prefix}", ask.address),
        })
        .collect();
    if way.upstream {
        asks.push(if for_all { "the upstream".to_owned() } else { format!("https://{host}") });
    }
    asks
}

/// What the runtime's own configuration says of the folder.
#[derive(Serialize, JsonSchema)]
struct RuntimeConfiguration {
    file: String,
    /// What the file says its version is. None: no runtime can read it.
    version: Option<i64>,
    lines: Vec<RuntimeLine>,
    imports: Vec<String>,
}

#[derive(Serialize, JsonSchema)]
struct RuntimeLine {
    line: String,
    /// The folders that it reads. Empty: none.
    folders: Vec<String>,
    /// Why it reads none.
    why: Option<String>,
    bad: bool,
}

fn own_configuration(folder: &Path, line: Option<RuntimeSeries>) -> Option<RuntimeConfiguration> {
    let runtime = Runtime::beside(folder)?;
    let lines = runtime.judge(line).into_iter().map(|judged| {
        let (folders, why) = match judged.reads {
            Reads::Folders(folders) => (folders, None),
            Reads::Nothing(why) | Reads::Broken(why) => (Vec::new(), Some(why)),
        };
        let bad = why.is_some() && judged.likely;
        RuntimeLine { line: judged.line.to_string(), folders, why, bad }
    });
    let lines = lines.collect();
    let config = runtime.config.as_ref().ok();
    Some(RuntimeConfiguration {
        file: shown(&runtime.path),
        version: config.map(larder_core::nodes::RuntimeConfig::version),
        imports: config
            .map(|it| it.imports().into_iter().map(str::to_owned).collect())
            .unwrap_or_default(),
        lines,
    })
}

fn show_own(own: Option<&RuntimeConfiguration>, out: &Output) {
    let note = |text: String| out.result(format!("{} {text}", paint(DIM, "note:")));
    let Some(own) = own else {
        note(
            "the runtime's config.toml is not here: whether it reads these files is not known"
                .into(),
        );
        return;
    };
    // Lines that read it alike are told once.
    let mut told: Vec<(Vec<&str>, &RuntimeLine)> = Vec::new();
    for one in &own.lines {
        match told.iter_mut().find(|(_, known)| {
            known.folders == one.folders && known.why == one.why && known.bad == one.bad
        }) {
            Some((lines, _)) => lines.push(&one.line),
            None => told.push((vec![&one.line], one)),
        }
    }
    for (lines, one) in told {
        let lines = match lines.split_last() {
            Some((last, rest)) if !rest.is_empty() => format!("{} or {last}", rest.join(", ")),
            _ => lines.join(""),
        };
        match &one.why {
            None => note(format!(
                "a runtime of the line {lines} reads {} ({})",
                one.folders.join(", "),
                own.file
            )),
            Some(why) => {
                let head = if one.bad { paint(WARN, "wrong:") } else { paint(DIM, "note:") };
                out.result(format!(
                    "{head} a runtime of the line {lines} does not read these files: {why} ({})",
                    own.file
                ));
            }
        }
    }
    if own.lines.len() > 1
        && own.lines.iter().any(|one| one.bad)
        && !own.lines.iter().all(|one| one.bad)
    {
        note("`--runtime 1.7` (or 1.6, 2.1) says which one the node has".into());
    }
    if !own.imports.is_empty() {
        note(format!(
            "{} takes in {}: what they set is not known here",
            own.file,
            own.imports.join(", ")
        ));
    }
}

fn show(rows: &[MirrorRow], out: &Output) {
    let mut table = Table::new(out.width(), &["UPSTREAM", "FILE", "THE NODE ASKS"]);
    for row in rows {
        let bad = row.remarks.iter().any(|remark| remark.bad);
        let style = if bad { BAD } else { GOOD };
        table.row([
            paint(style, &row.upstream),
            row.file.clone().unwrap_or_else(|| "-".into()),
            row.asks.join(", then "),
        ]);
    }
    out.table(&table);
    for row in rows {
        for remark in &row.remarks {
            let head = if remark.bad { paint(WARN, "wrong:") } else { paint(DIM, "note:") };
            out.result(format!("{head} {}: {}", row.upstream, remark.text));
        }
    }
}
