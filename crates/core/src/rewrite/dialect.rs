//! Which kind of file is it, and who reads it? Told by what stands in it, not only by its name.
//!
//! Each dialect is a module that walks a tree (or lines) and says where images are named; what
//! becomes of these places is the same for all.

mod buildfile;
pub(super) mod chart;
pub(super) mod compose;
pub(super) mod kubernetes;
mod list;
mod overlay;
mod pipeline;
mod shape;
pub(super) mod strings;
mod tasks;

use std::collections::BTreeMap;
use std::sync::LazyLock;
use std::sync::atomic::AtomicBool;

use memchr::memmem::Finder;

use super::finding::{ImageRole, Over, PassedText};
use super::place::{TreeFindings, settle, shortened};
use super::variables::UNKNOWN;
use super::{ParseError, Part, Position, Scan};
use kubernetes::CustomResource;
use larder_yaml::{NodeId, Tree};
use larder_yaml::{STOPPED, TextForm, documents, is_stopped, parse, parse_json};
use list::ListItems;
pub(super) use shape::is_foreign;

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
pub struct FileContext<'a> {
    /// Its name without folders. Empty: it has none.
    pub name: &'a str,
    /// It lies in a chart's folder of templates.
    pub template: bool,
    /// The version of what the file's chart installs, which is the tag where a values file has none.
    /// None: there is no chart, or it does not say.
    pub app_version: Option<&'a str>,
    /// Where kinds that others made name images.
    pub custom: &'a [CustomResource],
    /// What `.env` beside it says, from which a Compose file takes its variables. None: there is none.
    pub variables: Option<&'a Variables>,
    /// The services of a Compose file that another file beside it builds.
    pub built: &'a [String],
    /// The registry that a chart above this one writes for all images. None: there is none.
    pub registry: Option<Above<'a>>,
    /// Charts below this one take the registry that it writes for all images, and have not all agreed on another.
    pub shared_registry: bool,
    /// Set by another thread once nobody waits for the answer any more: reading it ends early then, with an
    /// error. None: it is read to its end.
    pub stop: Option<&'a AtomicBool>,
    /// Images that it may name; with more it is not read. None: any number.
    pub most: Option<usize>,
}

/// A registry that a chart writes for the images of those below it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Above<'a> {
    pub now: &'a str,
    /// What it becomes in this run, since all that take it agree. None: it stays.
    pub becomes: Option<&'a str>,
}

/// The variables that a file beside another gives it: `.env` with a `NAME=VALUE` on each line.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Variables(BTreeMap<String, Option<String>>);

impl Variables {
    /// Reads such a file. What cannot be told of a value is set to something unknown.
    pub fn read(text: &str) -> Self {
        let mut all = BTreeMap::new();
        for line in text.trim_start_matches('\u{feff}').lines() {
            let line = line.trim();
            let line = line.strip_prefix("export ").unwrap_or(line).trim_start();
            let Some((name, value)) = line.split_once('=').filter(|_| !line.starts_with('#'))
            else {
                continue;
            };
            let value = value.trim();
            let quoted = |quote: char| {
                let inside = value.strip_prefix(quote)?;
                inside.find(quote).map(|end| &inside[..end])
            };
            let value = if value.starts_with('\'') {
                quoted('\'').map(str::to_owned)
            } else {
                let bare = value.split(" #").next().unwrap_or_default().trim_end();
                let text = if value.starts_with('"') { quoted('"') } else { Some(bare) };
                text.filter(|text| !text.contains(['$', '\\'])).map(str::to_owned)
            };
            all.insert(name.trim().to_owned(), value);
        }
        Self(all)
    }

    /// A variable's value, where it is set; [`UNKNOWN`] where it cannot be told.
    pub(super) fn get(&self, name: &str) -> Option<&str> {
        self.0.get(name).map(|value| value.as_deref().unwrap_or(UNKNOWN))
    }
}

impl FileContext<'_> {
    /// Whether a file of this name, found in a folder, is worth a look.
    pub fn is_candidate(name: &str) -> bool {
        const ENDINGS: [&str; 13] = [
            "yaml", "yml", "json", "jsonc", "json5", "tpl", "tmpl", "j2", "ejs", "txt", "list",
            "lst", "images",
        ];
        match name.rsplit_once('.') {
            None => !name.is_empty(),
            Some((_, ending)) if ENDINGS.iter().any(|one| ending.eq_ignore_ascii_case(one)) => true,
            Some(_) => buildfile::may_be_named_so(name),
        }
    }

    /// Whether it has no ending that says what it is: it may be anything.
    pub fn is_named_plainly(name: &str) -> bool {
        !name.contains('.') && !buildfile::may_be_named_so(name)
    }

    /// Whether so many images are more than it may name.
    pub(super) fn is_over(&self, images: usize) -> bool {
        self.most.is_some_and(|most| images > most)
    }

    fn ends_with(&self, endings: &[&str]) -> bool {
        let ending = self.name.rsplit_once('.').map_or("", |(_, ending)| ending);
        endings.iter().any(|known| ending.eq_ignore_ascii_case(known))
    }

    /// Whether it is read as JSON, by its name.
    pub fn is_json(&self) -> bool {
        self.ends_with(&["json", "jsonc", "json5"])
    }

    /// Whether its program reads JSON with comments and commas at the end.
    fn is_loose_json(&self) -> bool {
        const KNOWN: [&str; 2] = ["devcontainer.json", ".devcontainer.json"];
        self.ends_with(&["jsonc", "json5"]) || KNOWN.contains(&self.name)
    }
}

/// See [`super::scan`].
pub(super) fn scan<'t>(text: &'t str, file: &FileContext<'t>) -> Result<Scan<'t>, ParseError> {
    match shape_of(text, file) {
        FileShape::Lines(dialect) => lines(text, dialect, file),
        FileShape::Tree => match trees(text, file) {
            Ok(scan) => Ok(scan),
            Err(_) if is_template(text) => lines(text, Dialect::Template, file),
            Err(error) => Err(error),
        },
        FileShape::Nothing(why) => {
            let mut scan = Scan { text, file: *file, ..Scan::default() };
            scan.passed.extend(why.map(|why| PassedText {
                position: Position::default(),
                text: String::new(),
                why,
            }));
            Ok(scan)
        }
    }
}

/// How a file is read.
enum FileShape {
    Lines(Dialect),
    Tree,
    /// Not at all; with a reason where one could think otherwise.
    Nothing(Option<Over>),
}

fn shape_of(text: &str, file: &FileContext<'_>) -> FileShape {
    let is_build = buildfile::is_named_so(file.name)
        || (buildfile::may_be_named_so(file.name) && buildfile::is_one(text));
    let by_ending = file.ends_with(&["tpl", "tmpl", "j2", "ejs"]);
    if is_build {
        return FileShape::Lines(Dialect::Buildfile);
    }
    if file.template || by_ending {
        return FileShape::Lines(Dialect::Template);
    }
    let is_tree = file.ends_with(&["yaml", "yml"]) || file.is_json();
    if !is_tree {
        if buildfile::is_one(text) {
            return FileShape::Lines(Dialect::Buildfile);
        }
        let may_be = file.name.is_empty() || file.ends_with(&["txt", "list", "lst", "images"]);
        if may_be && list::is_one(text, file.name) {
            return FileShape::Lines(Dialect::List);
        }
        // What has an ending of its own and is none of these is another kind of text.
        let may_be_objects =
            FileContext::is_named_plainly(file.name) && text.contains("apiVersion");
        if !(file.name.is_empty() || may_be_objects) {
            return FileShape::Nothing(list::why_not(text).filter(|_| may_be));
        }
    }
    if may_name_images(text, file) { FileShape::Tree } else { FileShape::Nothing(None) }
}

/// Reads a file that is no tree.
pub(super) fn lines<'t>(
    text: &'t str,
    dialect: Dialect,
    file: &FileContext<'t>,
) -> Result<Scan<'t>, ParseError> {
    let mut scan = Scan { text, file: *file, lines: Some(dialect), ..Scan::default() };
    let mut listed = match dialect {
        Dialect::Buildfile => {
            let build = buildfile::find(text);
            scan.elsewhere = build.elsewhere;
            if build.too_many {
                let message = format!("it names more than {} images", buildfile::MOST);
                return Err(ParseError { position: Position::default(), message });
            }
            ListItems { found: build.found, passed: Vec::new() }
        }
        Dialect::Template => chart::find(text, file.template),
        _ => list::find(text, file.name),
    };
    scan.template = dialect == Dialect::Template || file.ends_with(&["tpl", "tmpl", "j2", "ejs"]);
    listed.found.sort_by_key(|(byte, _)| *byte);
    let (mut position, mut counted) = (Position::default(), 0);
    for (byte, mut finding) in listed.found {
        position.advance(text.get(counted..byte).unwrap_or_default());
        counted = byte;
        finding.position = position;
        if scan.template {
            if finding.role != ImageRole::Text {
                finding.role = ImageRole::Template;
            }
            finding.access = chart::LEFT;
        }
        scan.findings.push(finding);
    }
    let (mut position, mut counted) = (Position::default(), 0);
    for (byte, text_, why) in listed.passed {
        position.advance(text.get(counted..byte).unwrap_or_default());
        counted = byte;
        let text = shortened(&text_);
        scan.passed.push(PassedText { position, text, why });
    }
    Ok(scan)
}

/// A cheap look before parsing: what names an image has one of these words. Whatever a reader finds must have one of
/// them; a test holds that.
fn may_name_images(text: &str, file: &FileContext<'_>) -> bool {
    static WORDS: LazyLock<[Finder<'static>; 9]> = LazyLock::new(|| {
        [
            "mage",
            "repository",
            "services:",
            "docker://",
            "ontainer",
            "steps",
            "ConfigMap",
            "patch",
            "\"services\"",
        ]
        .map(Finder::new)
    });
    // With an escape in it, a word may be written in any number of ways.
    memchr::memchr(b'\\', text.as_bytes()).is_some()
        || WORDS.iter().any(|word| word.find(text.as_bytes()).is_some())
        || file.custom.iter().any(|one| one.may_be_in(text))
}

/// Whether the cheap look would hide something that is found in a document.
#[cfg(test)]
pub(super) fn hides(text: &str, file: &FileContext<'_>) -> bool {
    let Ok(tree) = parse(text) else { return false };
    let mut found = TreeFindings::default();
    for document in &tree.documents {
        recognise(&tree, *document, file, &mut found);
    }
    !found.places.is_empty() && !may_name_images(text, file)
}

/// Whether a text has a word in it that speaks of images, so that it matters when it cannot be read.
pub fn speaks_of_images(text: &str) -> bool {
    const WORDS: [&str; 5] =
        ["containerDefinitions", "\"image\"", "\"containers\"", "image:", "\"services\""];
    WORDS.iter().any(|word| memchr::memmem::find(text.as_bytes(), word.as_bytes()).is_some())
}

fn is_template(text: &str) -> bool {
    ["{{", "{%", "<%"].iter().any(|mark| text.contains(mark))
}

fn trees<'t>(text: &'t str, file: &FileContext<'t>) -> Result<Scan<'t>, ParseError> {
    let mut scan = Scan { text, file: *file, ..Scan::default() };
    let begins = text.trim_start_matches('\u{feff}').trim_start_matches([' ', '\t', '\r', '\n']);
    let looks_like_json = begins.starts_with(['{', '[']);
    let whole = |tree, form| Part::new(0..text.len(), Position::default(), tree, form);
    if file.is_loose_json() {
        let tree = parse_json(text, file.stop, TextForm::Loose)?;
        read(&mut scan, whole(tree, TextForm::Loose), file)?;
        return Ok(scan);
    }
    if file.is_json() || looks_like_json {
        match parse_json(text, file.stop, TextForm::Json) {
            Ok(tree) => {
                read(&mut scan, whole(tree, TextForm::Json), file)?;
                return Ok(scan);
            }
            // Broken JSON may still be YAML of another meaning.
            Err(error) if file.is_json() => {
                // With comments it is another program's file, which need not name images at all.
                if let Ok(tree) = parse_json(text, file.stop, TextForm::Loose) {
                    read(&mut scan, whole(tree, TextForm::Loose), file)?;
                    if scan.findings.iter().all(|one| !one.is_certain()) {
                        return Ok(Scan { text, file: *file, ..Scan::default() });
                    }
                }
                return Err(error);
            }
            Err(_) => {}
        }
    }
    let (mut position, mut counted) = (Position::default(), 0);
    for span in documents(text) {
        let document = text.get(span.clone()).unwrap_or_default();
        if !may_name_images(document, file) {
            continue;
        }
        position.advance(text.get(counted..span.start).unwrap_or_default());
        counted = span.start;
        if memchr::memchr(0, document.as_bytes()).is_some() {
            return Err(ParseError { position, message: "there is a NUL byte in it".into() });
        }
        let tree = parse(document).map_err(|error| error.after(position))?;
        read(&mut scan, Part::new(span, position, tree, TextForm::Yaml), file)?;
    }
    Ok(scan)
}

/// Adds a part and what it names.
pub(super) fn read<'t>(
    scan: &mut Scan<'t>,
    part: Part<'t>,
    file: &FileContext<'_>,
) -> Result<(), ParseError> {
    let mut found = TreeFindings::default();
    for document in &part.tree.documents {
        recognise(&part.tree, *document, file, &mut found);
    }
    let (number, position) = (scan.parts.len(), part.position);
    if file.is_over(scan.findings.len() + found.places.len()) {
        let message = format!("it names more than {} images", file.most.unwrap_or_default());
        return Err(ParseError { position, message });
    }
    let before = scan.findings.len();
    scan.parts.push(part);
    settle(scan, number, &found, file);
    scan.parts[number].findings = before..scan.findings.len();
    match is_stopped(file.stop) {
        true => Err(ParseError { position, message: STOPPED.to_owned() }),
        false => Ok(()),
    }
}

/// Asks each dialect in turn whether a document is one of its own.
fn recognise(tree: &Tree<'_>, top: NodeId, file: &FileContext<'_>, found: &mut TreeFindings) {
    let readers = [overlay::find, kubernetes::find, tasks::find, compose::find, pipeline::find];
    if readers.iter().any(|reader| reader(tree, top, file, found)) {
        return;
    }
    let dialect = if shape::is_values(tree, top, file) { Dialect::Values } else { Dialect::Other };
    shape::find(tree, top, file, dialect, found);
}
