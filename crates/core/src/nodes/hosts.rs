//! A folder for each upstream host, with a `hosts.toml` in it.

use std::collections::BTreeMap;
use std::fmt::Write as _;

use serde::Deserialize;
use toml::Spanned;

use super::{Ask, NodePlan, NodeWay, Remark, RuntimeSeries, is_own, straight};
use crate::name::Host;

/// The folder for all hosts that have none of their own.
pub const DEFAULT: &str = "_default";

/// The name of an upstream's folder. A colon is written as `_…_`, which every file system takes.
pub fn folder_of(host: &Host) -> String {
    match host.as_str().rsplit_once(':') {
        Some((name, port)) => format!("{name}_{port}_"),
        None => host.to_string(),
    }
}

/// The host that a folder is for. None: the runtime looks for no such folder.
pub fn host_of(folder: &str) -> Option<Host> {
    let text = match folder.strip_suffix('_').and_then(|rest| rest.rsplit_once('_')) {
        Some((name, port)) => format!("{name}:{port}"),
        None => folder.to_owned(),
    };
    text.parse().ok()
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', "\\\\").replace('"', "\\\""))
}

/// The file for one upstream, or with None for all that have none of their own.
pub fn write_hosts(plan: &NodePlan, host: Option<&Host>) -> String {
    let what = host.map_or_else(|| "every other upstream".to_owned(), Host::to_string);
    let (address, cluster) = (quoted(&plan.address()), &plan.cluster);
    let mut ca = plan.ca.as_ref().map(|ca| format!("ca = {}\n", quoted(ca))).unwrap_or_default();
    if let Some((cert, key)) = &plan.client {
        let _ = writeln!(ca, "client = [[{}, {}]]", quoted(cert), quoted(key));
    }
    let mut text =
        format!("# How nodes of {cluster} reach {what}. Written by `larder handoff write`.\n");
    let _ = if plan.open {
        writeln!(
            text,
            "# The larder first; where it does not answer as it should, the upstream itself.\n\
             [host.{address}]\ncapabilities = [\"pull\", \"resolve\"]\n{ca}",
        )
    } else {
        writeln!(
            text,
            "# The larder alone: what it refuses is refused.\nserver = {address}\n{ca}\n\
             # This empty table makes the runtime ask the server above once, and nobody else.\n[host]",
        )
    };
    text.trim_end().to_owned() + "\n"
}

/// The file for the larder's own name. Nodes ask for its images there as they ask any registry, with the pod's pull
/// secret; what they need to know is how it speaks, and by which authority they know it.
pub fn write_own_hosts(plan: &NodePlan, host: &Host) -> String {
    let (cluster, address) = (&plan.cluster, quoted(&plan.larder));
    let mut how = plan.ca.as_ref().map(|ca| format!("ca = {}\n", quoted(ca))).unwrap_or_default();
    if let Some((cert, key)) = &plan.client {
        let _ = writeln!(how, "client = [[{}, {}]]", quoted(cert), quoted(key));
    }
    let text = format!(
        "# How nodes of {cluster} pull images of {host}. Written by `larder handoff write`.\n\
         server = {address}\n{how}\n\
         # This empty table makes the runtime ask the server above once, and nobody else.\n[host]"
    );
    text + "\n"
}

#[derive(Deserialize)]
struct RawHosts {
    server: Option<String>,
    ca: Option<Ca>,
    capabilities: Option<Vec<String>>,
    override_path: Option<bool>,
    header: Option<BTreeMap<String, Values>>,
    host: Option<BTreeMap<Spanned<String>, RawHost>>,
    #[serde(flatten)]
    rest: BTreeMap<String, toml::Value>,
}

#[derive(Deserialize)]
struct RawHost {
    capabilities: Option<Vec<String>>,
    ca: Option<Ca>,
    override_path: Option<bool>,
    header: Option<BTreeMap<String, Values>>,
    #[serde(flatten)]
    rest: BTreeMap<String, toml::Value>,
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Values {
    One(String),
    Many(Vec<String>),
}

#[derive(Deserialize)]
#[serde(untagged)]
enum Ca {
    One(String),
    Many(Vec<String>),
}

impl Ca {
    fn first(&self) -> Option<String> {
        match self {
            Self::One(path) => Some(path.clone()),
            Self::Many(paths) => paths.first().cloned(),
        }
    }
}

/// Keys that the runtime knows and that change nothing here.
const KNOWN: [&str; 4] = ["client", "skip_verify", "dial_timeout", "override_path"];

fn unknown_keys(rest: &BTreeMap<String, toml::Value>, remarks: &mut Vec<Remark>) {
    for key in rest.keys().filter(|key| !KNOWN.contains(&key.as_str())) {
        let known = ["server", "host", "capabilities", "ca", "header", "client", "skip_verify"];
        let near = crate::nearest::nearest(key, known);
        let near = near.map(|near| format!("; did you mean `{near}`?")).unwrap_or_default();
        remarks.push(Remark::bad(format!(
            "the runtime does not know the key `{key}` and does without it{near}"
        )));
    }
}

/// Why the second line takes no file with this `dial_timeout`. None: it is one, such as `2s` or `1m30s`.
fn no_duration(value: &toml::Value) -> Option<String> {
    let Some(text) = value.as_str() else {
        return Some("its `dial_timeout` is no text, such as `2s`".to_owned());
    };
    let number = |it: &str| !it.is_empty() && it.bytes().all(|b| b.is_ascii_digit() || b == b'.');
    let units = ["ms", "us", "ns", "h", "m", "s"];
    let mut rest = text.strip_prefix(['+', '-']).unwrap_or(text);
    let mut whole = !rest.is_empty();
    while whole && !rest.is_empty() && rest != "0" {
        let end = rest.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(rest.len());
        let (value, unit) = rest.split_at(end);
        let unit = units.iter().find_map(|known| unit.strip_prefix(known));
        whole = number(value) && unit.is_some();
        rest = unit.unwrap_or_default();
    }
    (!whole).then(|| format!("its `dial_timeout` is no duration: `{}`", text.escape_debug()))
}

/// The address without what the runtime drops from it.
fn address(text: &str, remarks: &mut Vec<Remark>) -> String {
    let mut address = text.to_owned();
    if !address.contains("://") {
        remarks.push(Remark::note(format!("{text} has no scheme: the runtime takes https")));
        address = format!("https://{address}");
    }
    if let Some((before, _)) = address.split_once('?') {
        remarks.push(Remark::bad(format!("the runtime drops what stands behind `?` in {before}")));
        address = before.to_owned();
    }
    if let Some((scheme, rest)) = address.split_once("://")
        && let Some((account, host)) = rest.split_once('@')
        && !account.contains('/')
    {
        remarks.push(Remark::bad("the runtime drops the user and password of an address"));
        address = format!("{scheme}://{host}");
    }
    address.trim_end_matches('/').trim_end_matches("/v2").to_owned()
}

/// What a runtime of this line makes of a file for this upstream. `text` None: the folder has no `hosts.toml`.
pub fn read_hosts(text: Option<&str>, host: &Host, line: RuntimeSeries) -> NodeWay {
    // Long: one key of the file after the other, as the runtime reads them.
    let Some(text) = text else {
        return straight(
            "there is no hosts.toml in the folder: the runtime goes straight to the upstream without saying so",
        );
    };
    if text.trim().is_empty() {
        return straight(
            "the file is empty: the runtime goes straight to the upstream without saying so",
        );
    }
    let ignored = |why: String| {
        straight(format!(
            "the runtime cannot read it, says so once in its journal, and goes straight to the upstream: {why}"
        ))
    };
    let raw: RawHosts = match toml::from_str(text) {
        Ok(raw) => raw,
        Err(error) => return ignored(error.message().to_owned()),
    };
    let hosts = match (&raw.server, raw.host) {
        (_, Some(hosts)) => hosts,
        // The second line asks the server alone then, and ignores a misspelt table silently.
        (Some(_), None) if line == RuntimeSeries::Two => BTreeMap::new(),
        (Some(_), None) => {
            return ignored("it has `server` and no `[host]` table; an empty one is enough".into());
        }
        (None, None) if raw.rest.contains_key("hosts") => {
            return ignored("`[hosts.…]` is written `[host.…]`".into());
        }
        (None, None) => return ignored("it names neither a `server` nor a `[host]`".into()),
    };
    let mut way = NodeWay::default();
    let wrong = hosts.values().map(|host| &host.rest).chain([&raw.rest]);
    let wrong = wrong.filter_map(|rest| rest.get("dial_timeout")).find_map(no_duration);
    if let Some(why) = wrong.filter(|_| line == RuntimeSeries::Two) {
        return ignored(why);
    }
    unknown_keys(&raw.rest, &mut way.remarks);
    let capabilities = |said: &Option<Vec<String>>| -> Result<bool, String> {
        let said = said.as_deref().unwrap_or_default();
        if let Some(odd) =
            said.iter().find(|one| !matches!(one.as_str(), "pull" | "resolve" | "push"))
        {
            return Err(format!("`{odd}` is no capability; they are pull, resolve and push"));
        }
        Ok(said.is_empty() || said.iter().any(|one| one == "resolve"))
    };
    let ask = |address: String,
               resolves: bool,
               ca: Option<&Ca>,
               header: Option<BTreeMap<String, Values>>,
               overridden: bool,
               remarks: &mut Vec<Remark>| {
        if overridden {
            remarks.push(Remark::bad(format!("override_path makes the runtime leave out `/v2` behind {address}; the larder expects it there")));
        }
        let headers = header.unwrap_or_default().into_iter().flat_map(|(name, values)| {
            let values = match values {
                Values::One(value) => vec![value],
                Values::Many(values) => values,
            };
            values.into_iter().map(move |value| (name.clone(), value))
        });
        let named = !is_own(&address, host);
        let ca = ca.and_then(Ca::first);
        Ask { address, prefix: String::new(), named, resolves, headers: headers.collect(), ca }
    };
    let mut ordered: Vec<(Spanned<String>, RawHost)> = hosts.into_iter().collect();
    ordered.sort_by_key(|(name, _)| name.span().start);
    for (name, raw) in ordered {
        let resolves = match capabilities(&raw.capabilities) {
            Ok(resolves) => resolves,
            Err(why) => return ignored(why),
        };
        unknown_keys(&raw.rest, &mut way.remarks);
        let name = address(name.get_ref(), &mut way.remarks);
        let overridden = raw.override_path.unwrap_or(false);
        let one = ask(name, resolves, raw.ca.as_ref(), raw.header, overridden, &mut way.remarks);
        way.asks.push(one);
    }
    match raw.server {
        None => way.upstream = true,
        Some(server) => {
            let server = address(&server, &mut way.remarks);
            let plain = server == format!("https://{host}") && raw.ca.is_none();
            if plain {
                way.upstream = true;
            } else {
                if way.asks.iter().any(|known| known.address == server) {
                    way.remarks.push(Remark::note(format!("{server} is asked twice when it fails: as `server` and as a `[host]`; an empty `[host]` table is enough")));
                }
                let resolves = match capabilities(&raw.capabilities) {
                    Ok(resolves) => resolves,
                    Err(why) => return ignored(why),
                };
                let overridden = raw.override_path.unwrap_or(false);
                let one = ask(
                    server,
                    resolves,
                    raw.ca.as_ref(),
                    raw.header,
                    overridden,
                    &mut way.remarks,
                );
                way.asks.push(one);
            }
        }
    }
    if way.upstream && !way.asks.is_empty() {
        way.remarks.push(Remark::note(
            "the upstream is asked after that, also for what the larder refuses",
        ));
    }
    if !way.asks.is_empty() && !way.asks.iter().any(|ask| ask.resolves) {
        way.remarks.push(Remark::bad("no `[host]` resolves tags: the runtime asks the upstream what a tag points to, every time"));
    }
    way
}

#[cfg(test)]
mod tests {
    use super::*;

    fn plan(open: bool) -> NodePlan {
        NodePlan {
            larder: "http://larder.emberfall.example:5080".into(),
            cluster: "control-room".into(),
            ca: None,
            client: None,
            open,
        }
    }

    #[test]
    fn the_second_line_reads_some_files_otherwise() {
        let host: Host = "bazaar.example".parse().unwrap();
        let way = |text: &str, line| read_hosts(Some(text), &host, line);
        for text in [
            "server = \"http://larder.emberfall.example:5080\"",
            "server = \"http://larder.emberfall.example:5080\"\n[hosts.\"https://x.example\"]\n",
        ] {
            assert!(way(text, RuntimeSeries::Seven).upstream, "the file is dropped: {text}");
            let second = way(text, RuntimeSeries::Two);
            assert_eq!(second.asks.len(), 1, "{text}");
            assert!(!second.upstream, "{text}");
        }
        for (value, taken) in [
            ("\"2s\"", true),
            ("\"1m30.5s\"", true),
            ("\"0\"", true),
            ("\"soon\"", false),
            ("\"2\"", false),
            ("\"\"", false),
            ("2", false),
        ] {
            let text = format!(
                "server = \"http://larder.emberfall.example:5080\"\ndial_timeout = {value}\n[host]\n"
            );
            assert!(!way(&text, RuntimeSeries::Six).asks.is_empty(), "{text}");
            assert_eq!(!way(&text, RuntimeSeries::Two).asks.is_empty(), taken, "{text}");
        }
    }

    #[test]
    fn what_is_written_is_read_as_it_was_meant() {
        let host: Host = "bazaar.example".parse().unwrap();
        let closed =
            read_hosts(Some(&write_hosts(&plan(false), Some(&host))), &host, RuntimeSeries::Six);
        assert_eq!(closed.asks.len(), 1, "{closed:?}");
        assert_eq!(closed.asks[0].address, "http://larder.emberfall.example:5080/c/control-room");
        assert!(closed.asks[0].named && closed.asks[0].resolves && !closed.upstream);
        assert_eq!(closed.remarks, []);
        let ca = Some("/etc/larder \"ca\".pem".to_owned());
        let plan = NodePlan {
            larder: "https://larder.emberfall.example".into(),
            ca: ca.clone(),
            client: Some(("/etc/larder/node.pem".into(), "/etc/larder/node.key".into())),
            ..plan(true)
        };
        let open = read_hosts(Some(&write_hosts(&plan, Some(&host))), &host, RuntimeSeries::Six);
        assert!(open.upstream && open.asks[0].ca == ca && open.asks.len() == 1, "{open:?}");
        assert!(open.remarks.iter().all(|remark| !remark.bad), "{open:?}");
        let closed = read_hosts(
            Some(&write_hosts(&NodePlan { open: false, ..plan }, None)),
            &host,
            RuntimeSeries::Six,
        );
        assert!(!closed.upstream && closed.asks[0].ca == ca, "{closed:?}");
    }

    #[test]
    fn folders_name_hosts() {
        for (folder, host) in [
            ("bazaar.example", "bazaar.example"),
            ("bazaar.example:5000", "bazaar.example:5000"),
            ("bazaar.example_5000_", "bazaar.example:5000"),
        ] {
            assert_eq!(host_of(folder).unwrap().as_str(), host);
        }
        assert_eq!(folder_of(&"bazaar.example:5000".parse().unwrap()), "bazaar.example_5000_");
        assert_eq!(host_of(".."), None);
    }

    #[test]
    fn what_a_runtime_leaves_out_in_silence_is_told() {
        let host: Host = "bazaar.example".parse().unwrap();
        for (text, words) in [
            ("", "is empty"),
            ("server = \"http://m\"\n", "an empty one is enough"),
            ("[hosts.\"http://m\"]\n", "is written `[host.…]`"),
            ("[host.\"http://m\"]\ncapabilities = \"pull\"\n", "cannot read it"),
            ("[host.\"http://m\"]\ncapabilities = [\"fetch\"]\n", "`fetch` is no capability"),
            ("[host.\"http://m\"\n", "cannot read it"),
        ] {
            let way = read_hosts(Some(text), &host, RuntimeSeries::Six);
            assert!(way.upstream && way.asks.is_empty(), "{text}: {way:?}");
            assert!(way.remarks[0].bad && way.remarks[0].text.contains(words), "{text}: {way:?}");
        }
        assert!(read_hosts(None, &host, RuntimeSeries::Six).upstream);
        for (text, words) in [
            ("[host.\"http://m\"]\ncapability = [\"pull\"]\n", "did you mean `capabilities`?"),
            ("[host.\"m\"]\n", "takes https"),
            ("[host.\"http://u:p@m/x?y=z\"]\n", "drops the user and password"),
            ("[host.\"http://m\"]\ncapabilities = [\"pull\"]\n", "no `[host]` resolves tags"),
            ("[host.\"http://m\"]\noverride_path = true\n", "override_path"),
            ("server = \"http://m\"\n[host.\"http://m\"]\n", "is asked twice"),
        ] {
            let way = read_hosts(Some(text), &host, RuntimeSeries::Six);
            assert!(way.remarks.iter().any(|one| one.text.contains(words)), "{text}: {way:?}");
        }
    }

    #[test]
    fn hosts_are_asked_in_the_files_order() {
        let host: Host = "bazaar.example".parse().unwrap();
        let text = "server = \"https://bazaar.example\"\n[host.\"http://z\"]\n[host.\"http://a/v2\"]\n\
                    [host.\"http://a/v2\".header]\nx-cluster = \"blue\"\n";
        let way = read_hosts(Some(text), &host, RuntimeSeries::Six);
        let asked: Vec<&str> = way.asks.iter().map(|ask| ask.address.as_str()).collect();
        assert_eq!(asked, ["http://z", "http://a"]);
        assert_eq!(way.asks[1].headers, [("x-cluster".to_owned(), "blue".to_owned())]);
        assert!(way.upstream);
    }

    proptest::proptest! {
        #[test]
        fn no_file_panics(text in "(\\PC|\n|server = |\\[host\\.\"|\"\\]|capabilities|://|@|\\?){0,40}") {
            let _ = read_hosts(Some(&text), &"bazaar.example".parse().unwrap(), RuntimeSeries::Two);
        }
    }
}
