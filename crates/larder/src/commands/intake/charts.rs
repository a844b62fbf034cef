//! The images that a chart names: what `intake add --with-images` wants beside it.

use std::cell::OnceCell;
use std::collections::BTreeSet;
use std::fs;
use std::path::Path;
use std::sync::Arc;

use larder_core::chart::archive::ARCHIVE_LIMIT;
use larder_core::chart::{ChartArchive, ChartHelpers, ChartScope, chart_layer};
use larder_core::rewrite::{Nature, dependencies};
use schemars::JsonSchema;
use serde::Serialize;

use crate::config::Config;
use crate::context::read_reference;
use crate::deployments::{self, Sight};
use crate::failure::{Exit, Failure};
use crate::place::{OpenedSource, Place};

/// What a chart names.
#[derive(Serialize, JsonSchema)]
pub(super) struct ChartImages {
    /// The chart, as it was given.
    chart: String,
    /// The images that its values and templates name, with their tags or digests.
    pub images: Vec<String>,
    /// Those that name this larder already: nothing has to be wanted for them.
    pub own: Vec<String>,
    /// What names an image too, and cannot be told without running the chart.
    pub unsure: Vec<UnsureImage>,
}

/// What names an image that cannot be told.
#[derive(Serialize, JsonSchema, PartialEq, Eq, PartialOrd, Ord)]
pub(super) struct UnsureImage {
    /// The file, from the chart's folder on.
    file: String,
    /// 0: all of it.
    line: usize,
    /// As it is written there.
    text: String,
    why: String,
}

impl UnsureImage {
    /// For people.
    pub fn line(&self) -> String {
        let Self { file, line, text, why } = self;
        match (line, text.is_empty()) {
            (0, true) => format!("{file}: {why}"),
            (0, false) => format!("{file}: {text}: {why}"),
            _ => format!("{file}:{line}: {text}: {why}"),
        }
    }
}

/// Fetches a chart and looks what its values and templates name. The chart is not run.
pub(super) async fn named_by(text: &str, config: &Config) -> Result<ChartImages, Failure> {
    let what = || format!("cannot tell which images {text} names");
    let OpenedSource { source, selector, .. } =
        Place::read(text, Some(config))?.source(Some(config))?;
    let failed = |error| Failure::transfer(what(), &error);
    let (_, document) = source.manifest(&selector).await.map_err(failed)?;
    let Some(layer) = chart_layer(&document) else {
        let remedy = "leave `--with-images` out: an image names no others";
        return Err(Failure::usage(what(), "it is no chart", remedy));
    };
    let bytes = source.small_blob(layer, ARCHIVE_LIMIT).await.map_err(failed)?;
    let chart = ChartArchive::read(&bytes).map_err(|error| {
        Failure::usage(what(), error, "see what its upstream gives").ending(Exit::Content)
    })?;
    let folder = tempfile::tempdir().map_err(|error| Failure::io(what(), &error))?;
    let top = folder.path().join("chart");
    let written = chart.files.iter().try_for_each(|(path, content)| {
        // Hidden files name no images, and could say which files are passed over.
        if path.components().any(|part| part.as_os_str().to_string_lossy().starts_with('.')) {
            return Ok(());
        }
        let path = top.join(path);
        fs::create_dir_all(path.parent().unwrap_or(&top))?;
        fs::write(path, content)
    });
    written.map_err(|error| Failure::io(what(), &error))?;
    let read = deployments::named(&[top], Sight::with(&config.resources));
    let name = folder.path().file_name().unwrap_or_default().to_string_lossy().into_owned();
    let inside = |shown: &str| {
        let rest = shown.split_once(&format!("{name}/chart/")).map(|(_, rest)| rest);
        rest.unwrap_or(shown).to_owned()
    };
    let helpers = Arc::new(ChartHelpers::of(&chart));
    let (mut images, mut own, mut unsure) = (BTreeSet::new(), BTreeSet::new(), BTreeSet::new());
    for file in &read.done {
        let path = inside(&file.shown);
        let scope = OnceCell::new();
        for finding in file.findings.iter().filter(|finding| finding.nature() != Nature::Made) {
            let nature = finding.nature();
            let told = match nature {
                Nature::Open => {
                    let at = Path::new(&path);
                    let scope = scope.get_or_init(|| ChartScope::of(&chart, at, &helpers));
                    scope.fill(&finding.text)
                }
                _ => Some(finding.text.clone()),
            };
            let read = told.as_ref().map(|text| read_reference(text, Some(config)));
            let why = match (read, told) {
                (Some(Ok(reading)), Some(text)) => {
                    let named = reading.reference;
                    match named.tag.is_some() || named.digest.is_some() {
                        _ if nature == Nature::Perhaps => "it may be an image".to_owned(),
                        true => {
                            let is_own = config.larder.has_name(&named.host);
                            if is_own {
                                own.insert(text)
                            } else {
                                images.insert(text)
                            };
                            continue;
                        }
                        false => "it names no tag".to_owned(),
                    }
                }
                (Some(Err(error)), _) if nature == Nature::Image => error.to_string(),
                _ => "it is put together when the chart is run".to_owned(),
            };
            unsure.insert(UnsureImage {
                file: path.clone(),
                line: finding.position.line,
                text: finding.text.clone(),
                why,
            });
        }
    }
    for (path, content) in &chart.files {
        let Some(folder) = path.parent().filter(|_| path.ends_with("Chart.yaml")) else { continue };
        for name in dependencies(&String::from_utf8_lossy(content)) {
            let below = folder.join("charts").join(&name);
            if !chart.files.iter().any(|(path, _)| path.starts_with(&below)) {
                unsure.insert(UnsureImage {
                    file: path.display().to_string(),
                    line: 0,
                    text: larder_core::shown::cut(&name, 100),
                    why: "this chart is wanted below it and is not in it: add it too".to_owned(),
                });
            }
        }
    }
    for broken in &read.broken {
        unsure.insert(UnsureImage {
            file: inside(&broken.file),
            line: 0,
            text: String::new(),
            why: format!("it cannot be read: {}", broken.cause),
        });
    }
    Ok(ChartImages {
        chart: text.to_owned(),
        images: images.into_iter().collect(),
        own: own.into_iter().collect(),
        unsure: unsure.into_iter().collect(),
    })
}
