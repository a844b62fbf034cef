//! Where do files name images, and how are those names changed without touching anything else?
//!
//! A file goes through four steps: it is parsed into a tree whose nodes know their bytes
//! ([`tree`]); the recogniser of its dialect walks the tree and gives [`Finding`]s; the caller
//! decides a new text for some of them; [`splice`] puts these in and proves that nothing else
//! changed before anything is given back.

mod kubernetes;
mod splice;
#[cfg(test)]
mod tests;
pub(crate) mod tree;

use std::ops::Range;

pub use splice::{Edit, SpliceError, splice};
pub use tree::ParseError;

/// The largest file that is read, in bytes.
pub const FILE_LIMIT: u64 = 64 * 1024 * 1024;

/// What was found in one file.
#[derive(Debug, Default)]
pub struct Scan {
    /// The references, in the order of the file.
    pub findings: Vec<Finding>,
    /// The file is a template of another tool and no YAML until that has run: nothing of it was
    /// read.
    pub template: bool,
}

/// One place that names an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// What is written there, decoded: without quotes and escapes.
    pub text: String,
    /// Where it stands.
    pub position: Position,
    /// Whose image it is.
    pub workload: Workload,
    /// The container's name. None: it has none.
    pub container: Option<String>,
    /// Further places that take their image from this one, through an anchor or a merge.
    pub shared_by: usize,
    /// What can be done about it.
    pub access: Access,
    /// The same key stands there more than once, and readers differ on which one wins.
    pub duplicate: bool,
}

/// The object of the cluster that a reference belongs to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Workload {
    /// `Deployment`, …
    pub kind: String,
    /// Its name. Empty: none is written.
    pub name: String,
    /// Its namespace. None: none is written.
    pub namespace: Option<String>,
}

/// A place in a file; both count from one, columns in characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Position {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

/// Whether a finding can be edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Access {
    /// These bytes can be replaced.
    Edit(Slot),
    /// It is left alone, and why.
    Leave(&'static str),
}

/// The bytes that hold a reference.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Slot {
    pub(crate) span: Range<usize>,
    pub(crate) form: Form,
    pub(crate) event: usize,
}

/// How the text is written there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Form {
    Plain,
    SingleQuoted,
    DoubleQuoted,
    /// The one line of a block scalar.
    Block,
    /// A `*alias` that a literal takes the place of.
    Alias,
}

/// Finds the images that a YAML or JSON file names.
///
/// ```
/// use larder_core::rewrite::{Access, Edit, scan, splice};
///
/// let file = "apiVersion: v1\nkind: Pod\nspec: {containers: [{image: kettle:2}]} # boils\n";
/// let finding = scan(file).unwrap().findings.remove(0);
/// assert_eq!(finding.text, "kettle:2");
/// let Access::Edit(slot) = finding.access else { panic!() };
/// let edit = Edit { slot, text: "larder.example/vendor/kettle:2".into() };
/// let new = splice(file, &[edit]).unwrap();
/// assert_eq!(new, file.replace("kettle:2", "larder.example/vendor/kettle:2"));
/// ```
///
/// # Errors
/// [`ParseError`] when a document of the file cannot be read. Nothing of such a file is given:
/// what one reader takes for the end of a broken document is not what another does.
pub fn scan(text: &str) -> Result<Scan, ParseError> {
    if !may_name_images(text) {
        return Ok(Scan::default());
    }
    match tree::parse(text) {
        Ok(tree) => Ok(Scan { findings: kubernetes::find(&tree), template: false }),
        Err(_) if is_template(text) => Ok(Scan { findings: Vec::new(), template: true }),
        Err(error) => Err(error),
    }
}

/// A cheap look before parsing: an image is named under a key that ends with `mage`, and a file
/// without one holds nothing for us, whatever else it is.
fn may_name_images(text: &str) -> bool {
    text.contains("image")
}

fn is_template(text: &str) -> bool {
    ["{{", "{%", "<%"].iter().any(|mark| text.contains(mark))
}
