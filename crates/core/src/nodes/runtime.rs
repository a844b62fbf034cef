//! The runtime's own configuration (`config.toml`): whether it reads a folder for each host, and which.
//!
//! Where `config_path` must stand depends on the version of the file and on the line of the runtime. At another place the
//! lines 1.x say nothing and the lines 2.x say one warning at the start, and every pull goes past the larder.

use std::fmt;
use std::str::FromStr;

use toml::{Table, Value};

/// A line of the runtime: those of one line read their files alike.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum RuntimeSeries {
    /// 1.6 and before it.
    Six,
    /// 1.7.
    Seven,
    /// 2.0 and later.
    Two,
}

impl RuntimeSeries {
    /// All of them.
    pub const ALL: [Self; 3] = [Self::Six, Self::Seven, Self::Two];
}

impl fmt::Display for RuntimeSeries {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Six => "1.6",
            Self::Seven => "1.7",
            Self::Two => "2.x",
        })
    }
}

/// A version of a runtime that is none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{}` is no version of a runtime: 1.6, 1.7 or 2.x, or a whole one such as 1.7.24", .0.escape_debug())]
pub struct NoLine(String);

impl FromStr for RuntimeSeries {
    type Err = NoLine;

    /// A version, as far as one likes: `2`, `1.7`, `v1.7.24`, `2.1.9+ds1`.
    fn from_str(text: &str) -> Result<Self, NoLine> {
        let wrong = || NoLine(text.to_owned());
        let mut parts = text.strip_prefix('v').unwrap_or(text).split(['.', '+', '~', '-']);
        let major: u32 = parts.next().and_then(|it| it.parse().ok()).ok_or_else(wrong)?;
        let minor: Option<u32> = parts.next().and_then(|it| it.parse().ok());
        match (major, minor) {
            (1, Some(..=6)) => Ok(Self::Six),
            (1, Some(_)) => Ok(Self::Seven),
            (2.., _) => Ok(Self::Two),
            _ => Err(wrong()),
        }
    }
}

/// What a runtime makes of its configuration.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Reads {
    /// It reads a folder for each host in these, the first that has one.
    Folders(Vec<String>),
    /// It reads none, and says nothing of it: why.
    Nothing(String),
    /// It does not start, or pulls nothing: why.
    Broken(String),
}

const OLD: &str = "io.containerd.grpc.v1.cri";
const NEW: &str = "io.containerd.cri.v1.images";

/// The runtime's configuration, as far as it decides whom nodes ask.
#[derive(Debug, Clone)]
pub struct RuntimeConfig {
    top: Table,
    /// What the file says its version is. 1: it says none.
    version: i64,
}

impl RuntimeConfig {
    /// Reads a `config.toml`.
    ///
    /// # Errors
    /// In words, when no runtime could read it.
    pub fn read(text: &str) -> Result<Self, String> {
        let top: Table = toml::from_str(text).map_err(|error| error.message().to_owned())?;
        let version = match top.get("version") {
            None => 1,
            Some(value) => value.as_integer().ok_or("its `version` is no number")?,
        };
        Ok(Self { top, version })
    }

    /// What the file says its version is; 1 where it says none.
    pub fn version(&self) -> i64 {
        self.version
    }

    /// The files that it takes in besides, as they are written: what they set is not known.
    pub fn imports(&self) -> Vec<&str> {
        let listed = self.top.get("imports").and_then(Value::as_array);
        listed.into_iter().flatten().filter_map(Value::as_str).collect()
    }

    /// The table of a plugin. The file's name for it counts as it is written.
    fn plugin(&self, name: &str) -> Option<&Table> {
        self.top.get("plugins")?.get(name)?.as_table()
    }

    fn registry(&self, name: &str) -> Option<&Table> {
        self.plugin(name)?.get("registry")?.as_table()
    }

    /// The plugin whose `registry` counts for a line. None: the line reads no such file.
    fn counts(&self, line: RuntimeSeries) -> Result<&'static [&'static str], String> {
        Ok(match (self.version, line) {
            (1, RuntimeSeries::Six | RuntimeSeries::Seven) => &["cri"],
            (1, RuntimeSeries::Two) => &[NEW],
            (2, RuntimeSeries::Six | RuntimeSeries::Seven) => &[OLD],
            // It is brought up to date when the runtime starts.
            (2, RuntimeSeries::Two) => &[NEW, OLD],
            (3, RuntimeSeries::Six) => &[OLD],
            (3, RuntimeSeries::Two) => &[NEW],
            (version, line) => {
                let most = if line == RuntimeSeries::Two { 3 } else { 2 };
                return Err(format!(
                    "the file says `version = {version}`, and this line knows none above {most}"
                ));
            }
        })
    }

    /// What a runtime of this line makes of it.
    pub fn reads(&self, line: RuntimeSeries) -> Reads {
        let counts = match self.counts(line) {
            Ok(counts) => counts,
            Err(why) => return Reads::Broken(why),
        };
        let has = |key: &str| {
            counts.iter().filter_map(|name| self.registry(name)).find_map(|table| table.get(key))
        };
        let path = match has("config_path") {
            Some(Value::String(path)) => path.as_str(),
            Some(_) => return Reads::Broken("its `config_path` is no text".to_owned()),
            None => "",
        };
        let mirrors = has("mirrors").and_then(Value::as_table).is_some_and(|it| !it.is_empty());
        match (path, mirrors) {
            ("", true) => Reads::Nothing(
                "it lists its mirrors itself (`registry.mirrors`), and reads no folder beside them"
                    .to_owned(),
            ),
            ("", false) => Reads::Nothing(self.why_not(counts)),
            (_, true) => Reads::Broken(
                "`registry.mirrors` stands beside `config_path`: the runtime pulls nothing at all"
                    .to_owned(),
            ),
            (path, false)
                if path.contains(':') && line == RuntimeSeries::Two && !self.pulls_itself() =>
            {
                Reads::Nothing(format!(
                    "`config_path` names a list ({path}), which this line reads as no folder; name one"
                ))
            }
            (path, false) => Reads::Folders(
                path.split(':').filter(|it| !it.is_empty()).map(str::to_owned).collect(),
            ),
        }
    }

    /// Why no folder is read: nothing names one, or what does stands where it does not count.
    fn why_not(&self, counts: &[&str]) -> String {
        let wanted = match counts.last() {
            Some(&"cri") => "[plugins.cri.registry]".to_owned(),
            Some(name) => format!("[plugins.\"{name}\".registry]"),
            None => String::new(),
        };
        let mut found = Vec::new();
        find(&self.top, "", &mut found);
        match found.first() {
            Some(at) => format!(
                "`config_path` stands in [{at}], where this line does not look; it looks in {wanted}"
            ),
            None => format!("it sets no `config_path`; it belongs into {wanted}"),
        }
    }

    /// Whether a runtime of the second line pulls by itself, and not by its transfer service: any of these settings
    /// makes it.
    fn pulls_itself(&self) -> bool {
        [OLD, NEW].iter().filter_map(|name| self.plugin(name)).any(|plugin| {
            let inner = plugin.get("containerd").and_then(Value::as_table);
            let set = |key: &str| {
                [Some(plugin), inner].into_iter().flatten().find_map(|table| table.get(key))
            };
            let on = |key: &str| set(key).and_then(Value::as_bool) == Some(true);
            let tables = ["configs", "mirrors"].iter().any(|key| {
                let registry = plugin.get("registry").and_then(Value::as_table);
                let table = registry.and_then(|it| it.get(*key)).and_then(Value::as_table);
                table.is_some_and(|table| !table.is_empty())
            });
            set("max_concurrent_downloads").is_some_and(|it| it.as_integer() != Some(3))
                || on("use_local_image_pull")
                || on("discard_unpacked_layers")
                || on("image_pull_with_sync_fs")
                || set("disable_snapshot_annotations").and_then(Value::as_bool) == Some(false)
                || tables
        })
    }
}

/// The tables in which a `config_path` stands, by their names. Other plugins have keys of that name too: only those of
/// a registry, or of the transfer service, were meant for this.
fn find(table: &Table, at: &str, found: &mut Vec<String>) {
    for (key, value) in table {
        let Some(inner) = value.as_table() else { continue };
        let key = if key.contains('.') { format!("\"{key}\"") } else { key.clone() };
        let name = if at.is_empty() { key } else { format!("{at}.{key}") };
        if inner.get("config_path").and_then(Value::as_str).is_some_and(|it| !it.is_empty()) {
            found.push(name.clone());
        }
        if name.matches('.').count() < 16 {
            find(inner, &name, found);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const AT: &str = "config_path = \"/etc/runtime/certs.d\"\n";

    fn said(text: &str) -> [&'static str; 3] {
        let config = RuntimeConfig::read(text).unwrap();
        RuntimeSeries::ALL.map(|line| match config.reads(line) {
            Reads::Folders(_) => "read",
            Reads::Nothing(_) => "ignored",
            Reads::Broken(_) => "broken",
        })
    }

    #[test]
    fn the_table_that_counts_is_that_of_the_file_and_the_line() {
        let old = format!("[plugins.\"{OLD}\".registry]\n{AT}");
        let new = format!("[plugins.\"{NEW}\".registry]\n{AT}");
        let other = format!("[plugins.\"io.containerd.cri.v1.runtime\".registry]\n{AT}");
        let bare = format!("[plugins.cri.registry]\n{AT}");
        let moved = format!("[plugins.\"io.containerd.transfer.v1.local\"]\n{AT}");
        for (text, six, seven, two) in [
            (format!("version = 2\n{old}"), "read", "read", "read"),
            (format!("version = 2\n{new}"), "ignored", "ignored", "read"),
            (format!("version = 3\n{new}"), "ignored", "broken", "read"),
            (format!("version = 3\n{old}"), "read", "broken", "ignored"),
            (format!("version = 3\n{other}"), "ignored", "broken", "ignored"),
            (bare.clone(), "read", "read", "ignored"),
            (format!("version = 2\n{bare}"), "ignored", "ignored", "ignored"),
            (old.clone(), "ignored", "ignored", "ignored"),
            (new.clone(), "ignored", "ignored", "read"),
            (format!("version = 2\n{moved}"), "ignored", "ignored", "ignored"),
            (format!("version = 3\n{moved}"), "ignored", "broken", "ignored"),
            (format!("version = 4\n{new}"), "broken", "broken", "broken"),
            ("version = 2\n".to_owned(), "ignored", "ignored", "ignored"),
            (String::new(), "ignored", "ignored", "ignored"),
        ] {
            assert_eq!(said(&text), [six, seven, two], "{text}");
        }
    }

    #[test]
    fn a_list_is_read_by_the_second_line_only_where_it_pulls_itself() {
        let list = format!("version = 2\n[plugins.\"{OLD}\".registry]\nconfig_path = \"/a:/b\"\n");
        assert_eq!(said(&list), ["read", "read", "ignored"]);
        let set = format!("{list}[plugins.\"{OLD}\"]\nmax_concurrent_downloads = 5\n");
        assert_eq!(said(&set), ["read", "read", "read"]);
        let shipped = format!("{list}[plugins.\"{OLD}\"]\nmax_concurrent_downloads = 3\n");
        assert_eq!(said(&shipped), ["read", "read", "ignored"]);
        let with =
            format!("{list}[plugins.\"{OLD}\".registry.configs.\"a:1\".auth]\nusername = \"u\"\n");
        assert_eq!(said(&with)[2], "read");
        let Reads::Folders(folders) = RuntimeConfig::read(&set).unwrap().reads(RuntimeSeries::Two)
        else {
            panic!("it is read")
        };
        assert_eq!(folders, ["/a", "/b"]);
    }

    #[test]
    fn mirrors_keep_the_folder_from_being_read_or_the_runtime_from_pulling() {
        let mirrors = format!(
            "version = 2\n[plugins.\"{OLD}\".registry.mirrors.\"a.example\"]\nendpoint = [\"http://b\"]\n"
        );
        assert_eq!(said(&mirrors), ["ignored", "ignored", "ignored"]);
        let both = format!("{mirrors}[plugins.\"{OLD}\".registry]\n{AT}");
        assert_eq!(said(&both), ["broken", "broken", "broken"]);
    }

    #[test]
    fn what_stands_elsewhere_is_named() {
        let text = format!("version = 3\n[plugins.\"{OLD}\".registry]\n{AT}");
        let Reads::Nothing(why) = RuntimeConfig::read(&text).unwrap().reads(RuntimeSeries::Two)
        else {
            panic!("it is not read")
        };
        assert!(why.contains(&format!("[plugins.\"{OLD}\".registry]")), "{why}");
        assert!(why.contains(&format!("[plugins.\"{NEW}\".registry]")), "{why}");
        assert!(RuntimeConfig::read("version = \"2\"").is_err());
        assert!(RuntimeConfig::read("version = ").is_err());
    }

    #[test]
    fn versions_are_read_as_far_as_they_are_written() {
        for (text, line) in [
            ("1.6", RuntimeSeries::Six),
            ("1.6.20~ds1", RuntimeSeries::Six),
            ("v1.7.24", RuntimeSeries::Seven),
            ("2", RuntimeSeries::Two),
            ("2.x", RuntimeSeries::Two),
            ("2.1.9+ds1-5", RuntimeSeries::Two),
        ] {
            assert_eq!(text.parse(), Ok(line), "{text}");
        }
        for text in ["", "1", "x", "0.9"] {
            assert!(text.parse::<RuntimeSeries>().is_err(), "{text}");
        }
    }
}
