//! Where do files name images, and how are those names changed without touching anything else?
//!
//! A file goes through four steps: it is parsed into trees whose nodes know their bytes ([`larder_yaml`]);
//! the recogniser of its [dialect] walks them and says where an image is named ([`place`]), which
//! becomes a [`Finding`]; the caller decides a new reference for some of them and [`plan`] settles
//! which bytes that takes; [`splice`] puts these in and proves that nothing else changed before
//! anything is given back.

mod change;
pub mod decide;
mod dialect;
mod finding;
mod insert;
mod judge;
pub mod overlays;
mod place;
mod plan;
mod slot;
mod splice;
#[cfg(test)]
mod tests;
mod variables;

use std::ops::Range;

pub use change::Change;
pub use dialect::chart::{app_version, dependencies};
pub use dialect::compose::built_services;
pub use dialect::kubernetes::{CustomResource, FieldPath};
pub use dialect::{Above, Dialect, FileContext, Variables, speaks_of_images};
pub use finding::{Finding, FindingAccess, ImageRole, Over, PassedText, Workload};
pub use insert::{PodSpec, Unattached};
pub use judge::{Hindrance, Nature};
use larder_yaml::{NodeId, TextForm, Tree, TreeStep, parse};
pub use larder_yaml::{ParseError, Position};
pub use plan::{FindingWish, RewritePlan};
pub use splice::{Rewrite, SpliceError};

/// The largest file that is read, in bytes.
pub const FILE_LIMIT: u64 = 64 * 1024 * 1024;

/// What was found in one file.
#[derive(Debug, Default)]
pub struct Scan<'t> {
    /// The references, in the order of the file.
    pub findings: Vec<Finding>,
    /// The pod specs of Kubernetes objects, in the order of the file.
    pub pods: Vec<PodSpec>,
    /// The file is a template of another tool and no YAML until that has run. What could be made
    /// out is found, and none of it can be edited.
    pub template: bool,
    /// What could be taken for an image and is passed over, in the order of the file.
    pub passed: Vec<PassedText>,
    text: &'t str,
    file: FileContext<'t>,
    /// What variables say in other places than names of images; no change may touch that.
    elsewhere: Vec<(String, Option<String>)>,
    parts: Vec<Part<'t>>,
    /// What the text was read as when it is no tree.
    lines: Option<Dialect>,
}

/// Documents of a stream that were parsed together.
#[derive(Debug)]
struct Part<'t> {
    /// Its bytes in the file.
    span: Range<usize>,
    position: Position,
    tree: Tree<'t>,
    form: TextForm,
    /// Which of the scan's findings are its own.
    findings: Range<usize>,
}

/// Finds the images that a file names.
///
/// ```
/// use larder_core::reference::Reference;
/// use larder_core::rewrite::{FileContext, scan};
///
/// let file = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}]} # boils\n";
/// let scan = scan(file, &FileContext::default()).unwrap();
/// assert_eq!(scan.findings[0].text, "kettle:2");
/// let new = Reference::read("larder.example/vendor/kettle:2", &Default::default()).unwrap();
/// let done = scan.rewrite(&[Some(new.reference.into())], &[]);
/// assert_eq!(done.text, Some(file.replace("kettle:2", "larder.example/vendor/kettle:2")));
/// ```
///
/// # Errors
/// [`ParseError`] when a document that could name an image cannot be read. Nothing of such a file is
/// given: what one reader takes for the end of a broken document is not what another does.
pub fn scan<'t>(text: &'t str, file: &FileContext<'t>) -> Result<Scan<'t>, ParseError> {
    dialect::scan(text, file)
}

impl<'t> Part<'t> {
    fn new(span: Range<usize>, position: Position, tree: Tree<'t>, form: TextForm) -> Self {
        Self { span, position, tree, form, findings: 0..0 }
    }
}

/// The registry that the values of a chart write for all images, its own and those of the charts below it. None: they
/// write none, or cannot be read.
pub fn shared_registry(values: &str) -> Option<String> {
    objects_of(values, &["global", "imageRegistry"])
}

/// The text under keys of a small YAML file. None: there is none, or it cannot be read.
fn objects_of(text: &str, keys: &[&str]) -> Option<String> {
    let tree = parse(text).ok()?;
    let mut at = *tree.documents.first()?;
    for key in keys {
        at = tree.get(at, key)?;
    }
    tree.filled(at).map(str::to_owned)
}

impl Scan<'_> {
    /// The way from the top of its document to a finding's text, as a JSON pointer (RFC 6901).
    /// None: it stands in no tree, or is put together from several places.
    pub fn pointer(&self, finding: &Finding) -> Option<String> {
        let slot = match &finding.access {
            FindingAccess::Edit(hold) => hold.only()?,
            FindingAccess::Leave(_) => return None,
        };
        let (part, node) = slot.node?;
        Some(pointer(&self.parts.get(part)?.tree, node))
    }
}

fn pointer(tree: &Tree<'_>, node: NodeId) -> String {
    let mut pointer = String::new();
    for step in tree.path(node) {
        pointer.push('/');
        match step {
            TreeStep::Key(key) => pointer.push_str(&key.replace('~', "~0").replace('/', "~1")),
            TreeStep::Item(number) => pointer.push_str(&number.to_string()),
        }
    }
    pointer
}
