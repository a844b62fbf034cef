//! A chart's archive: a folder of files, packed. Whoever made it may mean harm.

use std::io::Read as _;
use std::path::{Component, Path, PathBuf};

use serde_json::Value;

use crate::objects;

/// The largest archive that is read, in bytes.
pub const ARCHIVE_LIMIT: usize = 20 * 1024 * 1024;
/// What it may hold.
const UNPACKED: u64 = 100 * 1024 * 1024;
const FILES: usize = 20_000;
/// How deep its files lie.
const DEPTH: usize = 32;

/// A chart, read.
#[derive(Debug, Clone, PartialEq)]
pub struct ChartArchive {
    pub name: String,
    pub version: String,
    /// All that `Chart.yaml` says.
    pub description: Value,
    /// Its files, each with its path from the chart's folder on: no path leads out of it.
    pub files: Vec<(PathBuf, Vec<u8>)>,
}

/// Why a chart cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ChartError {
    #[error("it is longer than {ARCHIVE_LIMIT} bytes")]
    Long,
    #[error("it is no packed archive: {0}")]
    Packed(String),
    #[error("it holds more than {FILES} files, or more than {UNPACKED} bytes")]
    Large,
    #[error("it holds a path that leads out of it, or too deep")]
    Path,
    #[error("there is no `Chart.yaml` in its folder")]
    NoDescription,
    #[error("its `Chart.yaml` {0}")]
    Description(String),
}

impl ChartArchive {
    /// Reads an archive (tar, gzip).
    ///
    /// # Errors
    /// It is no chart, or not one that can be read safely.
    pub fn read(bytes: &[u8]) -> Result<Self, ChartError> {
        if bytes.len() > ARCHIVE_LIMIT {
            return Err(ChartError::Long);
        }
        let packed = |error: std::io::Error| ChartError::Packed(error.to_string());
        let unpacked = flate2::read::MultiGzDecoder::new(bytes).take(UNPACKED + 1);
        let mut archive = tar::Archive::new(unpacked);
        let (mut files, mut size, mut seen) = (Vec::new(), 0_u64, 0_usize);
        let mut description = None;
        for entry in archive.entries().map_err(packed)? {
            let mut entry = entry.map_err(packed)?;
            seen += 1;
            size = size.saturating_add(entry.size());
            if seen > FILES || size > UNPACKED {
                return Err(ChartError::Large);
            }
            // Links and devices stand in no chart.
            if !entry.header().entry_type().is_file() {
                continue;
            }
            let path = entry.path().map_err(packed)?.into_owned();
            let Some(path) = within(&path)? else { continue };
            let mut content = Vec::new();
            entry.read_to_end(&mut content).map_err(packed)?;
            if path == Path::new("Chart.yaml") && description.is_none() {
                description = Some(described(&content)?);
            }
            files.push((path, content));
        }
        let (name, version, description) = description.ok_or(ChartError::NoDescription)?;
        Ok(Self { name, version, description, files })
    }
}

/// A path from the chart's folder on. None: it lies beside that folder.
fn within(path: &Path) -> Result<Option<PathBuf>, ChartError> {
    let mut parts = Vec::new();
    for part in path.components() {
        match part {
            Component::Normal(part) => parts.push(part.to_str().ok_or(ChartError::Path)?),
            Component::CurDir => {}
            _ => return Err(ChartError::Path),
        }
    }
    if parts.len() > DEPTH || parts.iter().any(|part| part.contains('\0')) {
        return Err(ChartError::Path);
    }
    Ok((parts.len() > 1).then(|| parts[1..].iter().collect()))
}

/// The name, the version and all of a description.
fn described(content: &[u8]) -> Result<(String, String, Value), ChartError> {
    let wrong = |why: &str| ChartError::Description(why.to_owned());
    let text = std::str::from_utf8(content).map_err(|_| wrong("is no UTF-8"))?;
    let read = objects::read(text).map_err(|error| wrong(&format!("cannot be read: {error}")))?;
    let description = read.into_iter().next().ok_or_else(|| wrong("is empty"))?;
    let said = |key: &str| match &description[key] {
        Value::String(text) if !text.is_empty() => Some(text.clone()),
        _ => None,
    };
    let name = said("name").ok_or_else(|| wrong("has no `name`"))?;
    let version = said("version").ok_or_else(|| wrong("has no `version` of three numbers"))?;
    Ok((name, version, description))
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    /// An archive with some files.
    pub fn packed(files: &[(&str, &str)]) -> Vec<u8> {
        let to = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
        let mut archive = tar::Builder::new(to);
        for (path, text) in files {
            let mut header = tar::Header::new_gnu();
            header.set_size(text.len() as u64);
            header.set_mode(0o644);
            // Also paths that the builder itself would refuse.
            let name = &mut header.as_gnu_mut().unwrap().name;
            name[..path.len()].copy_from_slice(path.as_bytes());
            header.set_cksum();
            archive.append(&header, text.as_bytes()).unwrap();
        }
        archive.into_inner().unwrap().finish().unwrap()
    }

    #[test]
    fn a_chart_is_read_with_its_files() {
        let bytes = packed(&[
            ("boiler/Chart.yaml", "name: boiler\nversion: 1.2.0\n"),
            ("boiler/values.yaml", "image: x\n"),
            ("boiler/charts/pump/Chart.yaml", "name: pump\nversion: 2.0.0\n"),
            ("stray", "x"),
        ]);
        let chart = ChartArchive::read(&bytes).unwrap();
        assert_eq!((chart.name.as_str(), chart.version.as_str()), ("boiler", "1.2.0"));
        let paths: Vec<&str> = chart.files.iter().map(|(path, _)| path.to_str().unwrap()).collect();
        assert_eq!(paths, ["Chart.yaml", "values.yaml", "charts/pump/Chart.yaml"]);
    }

    #[test]
    fn what_is_no_chart_or_means_harm_is_refused() {
        let told = |bytes: &[u8]| ChartArchive::read(bytes).unwrap_err().to_string();
        assert!(told(b"<html>").contains("no packed archive"));
        assert!(told(&packed(&[("boiler/values.yaml", "")])).contains("no `Chart.yaml`"));
        let described = |text| told(&packed(&[("b/Chart.yaml", text)]));
        assert!(described("name: [").contains("cannot be read"));
        assert!(described("name: boiler").contains("no `version`"));
        // A number to YAML, of which nobody knows how it was written.
        assert!(described("name: boiler\nversion: 1.20").contains("no `version`"));
        assert!(described("").contains("is empty"));
        for path in ["../Chart.yaml", "b/../../Chart.yaml", "/b/Chart.yaml"] {
            assert_eq!(told(&packed(&[(path, "")])), ChartError::Path.to_string(), "{path}");
        }
        assert_eq!(told(&vec![0; ARCHIVE_LIMIT + 1]), ChartError::Long.to_string());
    }

    #[test]
    fn a_small_archive_that_becomes_a_large_one_is_refused() {
        let zeros = "0".repeat(60 * 1024 * 1024);
        let bomb = packed(&[
            ("b/Chart.yaml", "name: b\nversion: 1.0.0"),
            ("b/1", &zeros),
            ("b/2", &zeros),
        ]);
        assert!(bomb.len() < 2 * 1024 * 1024);
        assert_eq!(ChartArchive::read(&bomb).unwrap_err(), ChartError::Large);
    }
}
