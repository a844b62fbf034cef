//! The files of a node, or a copy of them: where its mirror folders lie, and what its runtime's own configuration says
//! of them.

use std::path::{Path, PathBuf};

use larder_core::nodes::{Reads, RuntimeConfig, RuntimeSeries};
use larder_transfer::files::read_bounded;

/// The folder of folders.
pub const CERTS: &str = "certs.d";
/// The largest file that is read, in bytes.
pub const LIMIT: usize = 1024 * 1024;

/// The folder of folders: the one that is named, or `certs.d` in it.
pub fn certs(folder: &Path) -> PathBuf {
    Some(folder.join(CERTS)).filter(|inner| inner.is_dir()).unwrap_or_else(|| folder.to_owned())
}

/// The runtime's own configuration.
pub struct Runtime {
    pub path: PathBuf,
    /// What it says, or why no runtime can read it.
    pub config: Result<RuntimeConfig, String>,
}

/// What a line of the runtime makes of it.
pub struct JudgedMirror {
    pub line: RuntimeSeries,
    pub reads: Reads,
    /// Whether a node with such a file may be of this line.
    pub likely: bool,
}

impl Runtime {
    /// The `config.toml` in a node's folder, or beside its folder of folders. None: there is none.
    pub fn beside(folder: &Path) -> Option<Self> {
        let certs = certs(folder);
        let beside = match certs.parent() {
            Some(parent) if certs.file_name().is_some() => parent.join("config.toml"),
            _ => certs.join("../config.toml"),
        };
        let (path, bytes) = [folder.join("config.toml"), beside]
            .into_iter()
            .find_map(|path| read_bounded(&path, LIMIT).ok().map(|bytes| (path, bytes)))?;
        let text = String::from_utf8(bytes).map_err(|_| "it is no UTF-8 text".to_owned());
        Some(Self { path, config: text.and_then(|text| RuntimeConfig::read(&text)) })
    }

    /// What each line makes of it, or the one that the node has.
    pub fn judge(&self, its: Option<RuntimeSeries>) -> Vec<JudgedMirror> {
        let lines = its.map_or_else(|| RuntimeSeries::ALL.to_vec(), |line| vec![line]);
        let judge = |line| match &self.config {
            Err(why) => {
                let reads = Reads::Broken(format!("the runtime does not start: {why}"));
                JudgedMirror { line, reads, likely: true }
            }
            Ok(config) => {
                // Only the second line starts with what is written for it alone.
                let likely = its.is_some() || config.version() < 3 || line == RuntimeSeries::Two;
                JudgedMirror { line, reads: config.reads(line), likely }
            }
        };
        lines.into_iter().map(judge).collect()
    }

    /// Why no runtime that may be meant reads the folder. None: one does.
    pub fn why_not(&self, its: Option<RuntimeSeries>) -> Option<String> {
        let judged = self.judge(its);
        let likely = || judged.iter().filter(|one| one.likely);
        if likely().any(|one| matches!(one.reads, Reads::Folders(_))) {
            return None;
        }
        likely().find_map(|one| match &one.reads {
            Reads::Nothing(why) | Reads::Broken(why) => Some(why.clone()),
            Reads::Folders(_) => None,
        })
    }
}
