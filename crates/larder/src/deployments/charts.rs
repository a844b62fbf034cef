//! Charts and what lies beside files: versions, registries that are written once for several charts, variables.

use std::collections::HashMap;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use larder_core::rewrite::{Variables, app_version, built_services, dependencies, shared_registry};
use larder_transfer::files::read_regular;

/// The largest description of a chart that is read, in bytes.
const CHART_LIMIT: usize = 1024 * 1024;
/// How deep charts lie in charts.
const DEPTH: usize = 6;

/// What is known of the files of one folder.
#[derive(Clone, Default)]
pub(super) struct FolderFacts {
    /// They are templates of a chart.
    pub template: bool,
    /// The version of what their chart installs.
    pub app_version: Option<Arc<str>>,
    /// What `.env` says there.
    pub variables: Option<Arc<Variables>>,
    /// The services that the Compose files there build, where one of them goes upon another.
    pub built: Arc<[String]>,
    /// The charts of which they are part, if their registry is written once for all.
    pub family: Option<Arc<Family>>,
}

/// A chart and those below it, whose registry is written once.
pub struct Family {
    /// The values in which it is written.
    pub top: PathBuf,
    pub registry: String,
    /// The other files of values that take it.
    pub members: Vec<PathBuf>,
    /// No chart that takes it is out of sight.
    pub whole: bool,
}

/// A chart, as far as it matters here.
#[derive(Clone)]
struct Chart {
    app_version: Option<Arc<str>>,
    /// The charts that it wants below it.
    wants: Vec<String>,
}

/// The charts of the folders that were met.
#[derive(Default)]
pub(super) struct Charts {
    known: HashMap<PathBuf, Option<Chart>>,
    families: HashMap<PathBuf, Option<Arc<Family>>>,
    /// The folder that was asked for last.
    last: Option<(PathBuf, FolderFacts)>,
}

fn text_of(path: &Path) -> Option<String> {
    String::from_utf8(read_regular(path, CHART_LIMIT).ok()?).ok()
}

/// The services that a folder's Compose files build, where one goes upon another (`compose.override.yaml`), as its
/// program reads them together.
fn built(folder: &Path) -> Arc<[String]> {
    let mut all = Vec::new();
    for (stem, ending) in [
        ("compose", "yaml"),
        ("compose", "yml"),
        ("docker-compose", "yml"),
        ("docker-compose", "yaml"),
    ] {
        let upon = text_of(&folder.join(format!("{stem}.override.{ending}")));
        let Some(upon) = upon else { continue };
        all.extend(built_services(&upon));
        let below = ["yaml", "yml"]
            .iter()
            .find_map(|ending| text_of(&folder.join(format!("{stem}.{ending}"))));
        all.extend(below.iter().flat_map(|text| built_services(text)));
    }
    all.into()
}

impl Charts {
    /// The chart in a folder. None: it holds none.
    fn of(&mut self, folder: &Path) -> Option<Chart> {
        let read = || {
            let text = text_of(&folder.join("Chart.yaml"))?;
            Some(Chart {
                app_version: app_version(&text).map(Arc::from),
                wants: dependencies(&text),
            })
        };
        self.known.entry(folder.to_owned()).or_insert_with(read).clone()
    }

    /// What is known of the files of a folder. Files of one folder come one after the other.
    pub fn facts(&mut self, folder: &Path) -> FolderFacts {
        if let Some((known, facts)) = &self.last
            && known == folder
        {
            return facts.clone();
        }
        let mut facts = FolderFacts::default();
        // `templates` and what lies in it, beside a chart.
        for above in folder.ancestors().take(4) {
            if above.file_name().is_some_and(|name| name == "templates") {
                facts.template |= self.of(above.parent().unwrap_or(Path::new(""))).is_some();
            }
        }
        if let Some(chart) = self.of(folder) {
            facts.app_version = chart.app_version;
            facts.family = self.family(folder);
        }
        facts.variables =
            text_of(&folder.join(".env")).map(|text| Arc::new(Variables::read(&text)));
        facts.built = built(folder);
        self.last = Some((folder.to_owned(), facts.clone()));
        facts
    }

    /// The family of the chart in a folder. None: no registry is written once for it.
    fn family(&mut self, folder: &Path) -> Option<Arc<Family>> {
        let mut top = folder.to_owned();
        for _ in 0..DEPTH {
            let charts =
                top.parent().filter(|one| one.file_name().is_some_and(|name| name == "charts"));
            let Some(above) = charts.and_then(Path::parent).map(Path::to_owned) else { break };
            if self.of(&above).is_none() {
                break;
            }
            top = above;
        }
        if let Some(known) = self.families.get(&top) {
            return known.clone();
        }
        let values = top.join("values.yaml");
        let family = text_of(&values).and_then(|text| shared_registry(&text)).map(|registry| {
            let mut family = Family { top: values, registry, members: Vec::new(), whole: true };
            self.members(&top, &mut family, 0);
            Arc::new(family)
        });
        self.families.insert(top, family.clone());
        family
    }

    fn members(&mut self, folder: &Path, family: &mut Family, depth: usize) {
        let names = |folder: &Path| -> Vec<PathBuf> {
            let entries = fs::read_dir(folder).into_iter().flatten().flatten();
            let mut paths: Vec<PathBuf> = entries.map(|entry| entry.path()).take(1000).collect();
            paths.sort();
            paths
        };
        for path in names(folder) {
            let name = path.file_name().and_then(|name| name.to_str()).unwrap_or_default();
            let lower = name.to_ascii_lowercase();
            let is_values = lower.contains("values")
                && matches!(lower.rsplit_once('.'), Some((_, "yaml" | "yml")));
            if is_values && path != family.top {
                family.members.push(path);
            }
        }
        let charts = folder.join("charts");
        let wants = self.of(folder).map(|chart| chart.wants).unwrap_or_default();
        family.whole &= depth < DEPTH && wants.iter().all(|name| charts.join(name).is_dir());
        for path in names(&charts) {
            if path.is_dir() {
                if depth < DEPTH {
                    self.members(&path, family, depth + 1);
                }
            } else if path.extension().is_some_and(|ending| ending == "tgz") {
                family.whole = false;
            }
        }
    }
}
