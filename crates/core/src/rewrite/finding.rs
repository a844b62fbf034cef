//! One place that names an image, as it is told to the outside.

use super::Dialect;
use super::slot::Hold;

/// One place that names an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// What is written there, decoded: without quotes and escapes, put together where a file keeps
    /// the parts of a reference apart, with the defaults of variables put in.
    pub text: String,
    /// Where it stands.
    pub position: Position,
    /// What kind of file names it.
    pub dialect: Dialect,
    /// Whose image it is.
    pub workload: Workload,
    /// The container's, service's or stage's name. None: it has none.
    pub container: Option<String>,
    /// Further places that take their image from this one, through an anchor or a merge.
    pub shared_by: usize,
    /// What can be done about it.
    pub access: Access,
    /// The same key stands there more than once, and readers differ on which one wins.
    pub duplicate: bool,
    /// What the place is to the one who reads the file.
    pub role: Role,
    /// Whether the tag is decided elsewhere: by a chart's version, a variable, or the base of an
    /// overlay. The text then has none.
    pub tag_elsewhere: bool,
    /// Which of [`Scan::pods`](super::Scan::pods) it belongs to.
    pub pod: Option<usize>,
}

impl Finding {
    /// What a node says that it runs.
    pub fn running(text: String) -> Self {
        let access = Access::Leave("it runs on a node, and stands in no file");
        Self { access, ..Self::of(text, Dialect::Kubernetes) }
    }

    /// An image that is pulled under this name, and belongs to nobody.
    pub(super) fn of(text: String, dialect: Dialect) -> Self {
        Self {
            text,
            position: Position::default(),
            dialect,
            workload: Workload::default(),
            container: None,
            shared_by: 0,
            access: Access::Leave("its place in the file is not certain"),
            duplicate: false,
            role: Role::Pulled,
            tag_elsewhere: false,
            pod: None,
        }
    }
}

/// What a place that names an image is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Role {
    /// By the rules of its format an image is pulled under this name.
    Pulled,
    /// It looks like one, but the format leaves it to others what it means.
    Likely,
    /// A piece of a text: an environment value, an argument, a file within the file.
    Text,
    /// What a build makes is called so.
    Built,
    /// It stands in a template; what comes of it is not known.
    Template,
}

/// The object of the cluster that a reference belongs to.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Workload {
    /// `Deployment`, … Empty: it belongs to no object.
    pub kind: String,
    /// Its name. Empty: none is written.
    pub name: String,
    /// Its namespace. None: none is written.
    pub namespace: Option<String>,
    /// The CPU architecture that its pods ask for (`kubernetes.io/arch`). None: any.
    pub architecture: Option<String>,
}

/// A place in a file; both count from one, columns in characters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Position {
    /// The line.
    pub line: usize,
    /// The column.
    pub column: usize,
}

impl Default for Position {
    fn default() -> Self {
        Self { line: 1, column: 1 }
    }
}

impl Position {
    /// Goes on past a text. A line ends with LF, CRLF or a lone CR.
    pub(super) fn advance(&mut self, text: &str) {
        let bytes = text.as_bytes();
        let mut last = 0;
        for at in memchr::memchr2_iter(b'\n', b'\r', bytes) {
            if bytes[at] == b'\n' || bytes.get(at + 1) != Some(&b'\n') {
                self.line += 1;
                self.column = 1;
                last = at + 1;
            }
        }
        self.column += text[last..].chars().count();
    }
}

/// Whether a finding can be edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Access {
    /// These bytes can be replaced.
    Edit(Box<Hold>),
    /// It is left alone, and why.
    Leave(&'static str),
}
