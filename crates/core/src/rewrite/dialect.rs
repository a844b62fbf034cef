//! Which kind of file is it, and who reads it? Told by what stands in it, not only by its name.
//!
//! Each dialect is a module that walks a tree (or lines) and says where images are named; what
//! becomes of these places is the same for all.

mod buildfile;
pub(super) mod chart;
mod compose;
pub(super) mod kubernetes;
mod list;
mod overlay;
mod pipeline;
mod shape;
pub(super) mod strings;
mod tasks;

use std::sync::LazyLock;
use std::sync::atomic::AtomicBool;

use memchr::memmem::Finder;

use super::parse::{STOPPED, documents, is_stopped, parse, parse_json};
use super::place::{Found, settle};
use super::tree::{NodeId, Tree};
use super::{ParseError, Part, Position, Scan};
use kubernetes::CustomResource;

/// What kind of file names an image.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub enum Dialect {
    /// Objects of a cluster.
    Kubernetes,
    /// The `images:` of an overlay.
    Overlay,
    /// Services of one machine.
    Compose,
    /// How an image is built.
    Buildfile,
    /// Task definitions in JSON or YAML.
    Tasks,
    /// Jobs of continuous integration.
    Pipeline,
    /// Values of a chart.
    Values,
    /// A template of another tool.
    Template,
    /// One reference on each line.
    List,
    /// Something else that names images as the others do.
    #[default]
    Other,
}

impl Dialect {
    /// Its name, for people and in JSON.
    pub fn word(self) -> &'static str {
        match self {
            Self::Kubernetes => "kubernetes",
            Self::Overlay => "overlay",
            Self::Compose => "compose",
            Self::Buildfile => "buildfile",
            Self::Tasks => "tasks",
            Self::Pipeline => "pipeline",
            Self::Values => "values",
            Self::Template => "template",
            Self::List => "list",
            Self::Other => "other",
        }
    }
}

/// What is known of a file beside its text.
#[derive(Debug, Clone, Copy, Default)]
pub struct File<'a> {
    /// Its name without folders. Empty: it has none.
    pub name: &'a str,
    /// It lies in a chart's folder of templates.
    pub template: bool,
    /// The version of what the file's chart installs, which is the tag where a values file has none.
    /// None: there is no chart, or it does not say.
    pub app_version: Option<&'a str>,
    /// Where kinds that others made name images.
    pub custom: &'a [CustomResource],
    /// Set by another thread once nobody waits for the answer any more: reading it ends early then, with an
    /// error. None: it is read to its end.
    pub stop: Option<&'a AtomicBool>,
    /// Images that it may name; with more it is not read. None: any number.
    pub most: Option<usize>,
}

impl File<'_> {
    /// Whether a file of this name, found in a folder, is worth a look.
    pub fn is_candidate(name: &str) -> bool {
        const ENDINGS: [&str; 11] =
            ["yaml", "yml", "json", "tpl", "tmpl", "j2", "ejs", "txt", "list", "lst", "images"];
        match name.rsplit_once('.') {
            None => !name.is_empty(),
            Some((_, ending)) if ENDINGS.iter().any(|one| ending.eq_ignore_ascii_case(one)) => true,
            Some(_) => buildfile::is_named_so(name),
        }
    }

    /// Whether so many images are more than it may name.
    pub(super) fn is_over(&self, images: usize) -> bool {
        self.most.is_some_and(|most| images > most)
    }

    fn ends_with(&self, endings: &[&str]) -> bool {
        let ending = self.name.rsplit_once('.').map_or("", |(_, ending)| ending);
        endings.iter().any(|known| ending.eq_ignore_ascii_case(known))
    }

    fn is_json(&self) -> bool {
        self.ends_with(&["json"])
    }
}

/// See [`super::scan`].
pub(super) fn scan<'t>(text: &'t str, file: &File<'_>) -> Result<Scan<'t>, ParseError> {
    if file.template || file.ends_with(&["tpl", "tmpl", "j2", "ejs"]) {
        return Ok(template(text));
    }
    if buildfile::is_named_so(file.name) {
        return Ok(lines(text, Dialect::Buildfile, file));
    }
    let is_tree = file.ends_with(&["yaml", "yml", "json"]);
    if !is_tree && let Some(dialect) = without_tree(text, file) {
        return Ok(lines(text, dialect, file));
    }
    // What has an ending of its own and is none of these is another kind of text.
    if !is_tree && !file.name.is_empty() && !named_plainly(file, text) {
        return Ok(Scan { text, ..Scan::default() });
    }
    if !may_name_images(text) {
        return Ok(Scan { text, ..Scan::default() });
    }
    match trees(text, file) {
        Ok(scan) => Ok(scan),
        Err(_) if is_template(text) => Ok(template(text)),
        Err(error) => Err(error),
    }
}

fn without_tree(text: &str, file: &File<'_>) -> Option<Dialect> {
    if buildfile::is_one(text) {
        return Some(Dialect::Buildfile);
    }
    let may_be = file.name.is_empty() || file.ends_with(&["txt", "list", "lst", "images"]);
    (may_be && list::is_one(text)).then_some(Dialect::List)
}

/// A file without an ending may be objects too; one with the ending of plain text is not.
fn named_plainly(file: &File<'_>, text: &str) -> bool {
    !file.name.contains('.') && text.contains("apiVersion")
}

fn template(text: &str) -> Scan<'_> {
    let mut scan = lines(text, Dialect::Template, &File::default());
    scan.template = true;
    scan
}

/// Reads a file that is no tree.
pub(super) fn lines<'t>(text: &'t str, dialect: Dialect, _file: &File<'_>) -> Scan<'t> {
    let mut findings = match dialect {
        Dialect::Buildfile => buildfile::find(text),
        Dialect::Template => chart::find(text),
        _ => list::find(text),
    };
    findings.sort_by_key(|(byte, _)| *byte);
    let (mut position, mut counted) = (Position::default(), 0);
    for (byte, finding) in &mut findings {
        position.advance(text.get(counted..*byte).unwrap_or_default());
        counted = *byte;
        finding.position = position;
    }
    Scan {
        findings: findings.into_iter().map(|(_, finding)| finding).collect(),
        text,
        lines: Some(dialect),
        ..Scan::default()
    }
}

/// A cheap look before parsing: what names an image has one of these words.
fn may_name_images(text: &str) -> bool {
    static WORDS: LazyLock<[Finder<'static>; 4]> =
        LazyLock::new(|| ["mage", "repository", "services:", "docker://"].map(Finder::new));
    // With an escape in it, a word may be written in any number of ways.
    memchr::memchr(b'\\', text.as_bytes()).is_some()
        || WORDS.iter().any(|word| word.find(text.as_bytes()).is_some())
}

fn is_template(text: &str) -> bool {
    ["{{", "{%", "<%"].iter().any(|mark| text.contains(mark))
}

fn trees<'t>(text: &'t str, file: &File<'_>) -> Result<Scan<'t>, ParseError> {
    let mut scan = Scan { text, ..Scan::default() };
    let begins = text.trim_start_matches('\u{feff}').trim_start_matches([' ', '\t', '\r', '\n']);
    let looks_like_json = begins.starts_with(['{', '[']);
    if file.is_json() || looks_like_json {
        match parse_json(text, file.stop) {
            Ok(tree) => {
                read(&mut scan, Part::new(0..text.len(), Position::default(), tree, true), file)?;
                return Ok(scan);
            }
            // Broken JSON may still be YAML of another meaning.
            Err(error) if file.is_json() => return Err(error),
            Err(_) => {}
        }
    }
    let (mut position, mut counted) = (Position::default(), 0);
    for span in documents(text) {
        let document = text.get(span.clone()).unwrap_or_default();
        if !may_name_images(document) {
            continue;
        }
        position.advance(text.get(counted..span.start).unwrap_or_default());
        counted = span.start;
        if memchr::memchr(0, document.as_bytes()).is_some() {
            return Err(ParseError { position, message: "there is a NUL byte in it".into() });
        }
        let tree = parse(document).map_err(|error| error.after(position))?;
        read(&mut scan, Part::new(span, position, tree, false), file)?;
    }
    Ok(scan)
}

fn read<'t>(scan: &mut Scan<'t>, part: Part<'t>, file: &File<'_>) -> Result<(), ParseError> {
    let mut found = Found::default();
    for document in &part.tree.documents {
        recognise(&part.tree, *document, file, &mut found);
    }
    let (number, position) = (scan.parts.len(), part.position);
    if file.is_over(scan.findings.len() + found.places.len()) {
        let message = format!("it names more than {} images", file.most.unwrap_or_default());
        return Err(ParseError { position, message });
    }
    scan.parts.push(part);
    settle(scan, number, &found, file.stop);
    match is_stopped(file.stop) {
        true => Err(ParseError { position, message: STOPPED.to_owned() }),
        false => Ok(()),
    }
}

/// Asks each dialect in turn whether a document is one of its own.
fn recognise(tree: &Tree<'_>, top: NodeId, file: &File<'_>, found: &mut Found) {
    let readers = [overlay::find, kubernetes::find, tasks::find, compose::find, pipeline::find];
    if readers.iter().any(|reader| reader(tree, top, file, found)) {
        return;
    }
    let dialect = if shape::is_values(tree, top, file) { Dialect::Values } else { Dialect::Other };
    shape::find(tree, top, file, dialect, found);
}
