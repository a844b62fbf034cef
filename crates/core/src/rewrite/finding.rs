//! One place that names an image, as it is told to the outside.

use super::Dialect;
use super::Position;
use super::slot::Hold;

/// One place that names an image.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Finding {
    /// What is written there, decoded: without quotes and escapes, put together where a file keeps
    /// the parts of a reference apart, with the defaults of variables put in.
    pub text: String,
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
    pub access: FindingAccess,
    /// The same key stands there more than once, and readers differ on which one wins.
    pub duplicate: bool,
    /// What the place is to the one who reads the file.
    pub role: ImageRole,
    /// Whether the tag is decided elsewhere: by a chart's version, a variable, or the base of an
    /// overlay. The text then has none.
    pub tag_elsewhere: bool,
    /// Its registry is written once for all images of its chart and of those below it.
    pub shared_registry: bool,
    /// Which of [`Scan::pods`](super::Scan::pods) it belongs to.
    pub pod: Option<usize>,
}

impl Finding {
    /// What a node says that it runs.
    pub fn running(text: String) -> Self {
        let access = FindingAccess::Leave("it runs on a node, and stands in no file");
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
            access: FindingAccess::Leave("its place in the file is not certain"),
            duplicate: false,
            role: ImageRole::Pulled,
            tag_elsewhere: false,
            shared_registry: false,
            pod: None,
        }
    }
}

/// What a place that names an image is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum ImageRole {
    /// By the rules of its format an image is pulled under this name.
    Pulled,
    /// It stands where values of a chart, objects of a cluster or settings name an image, and can be nothing
    /// else.
    Likely,
    /// It looks like one and stands where one could, but the format leaves it to others what it means.
    Doubtful,
    /// A piece of a text: an environment value, an argument, a file within the file.
    Text,
    /// What a build makes is called so.
    Built,
    /// It stands in a template.
    Template,
    /// Another program puts an image there, by a tag of YAML or a name for it: what stands there is none.
    Open,
}

/// Something that could be taken for an image and is passed over.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PassedText {
    pub position: Position,
    /// What stands there, shortened. Empty: it is no text.
    pub text: String,
    pub why: Over,
}

/// Why something that could be taken for an image is passed over.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Over {
    /// `image: cirros` is the disk of a machine as often as an image.
    Word,
    /// It is what a job runs on, not in.
    Machine,
    /// The values of a build matrix name what is made.
    Matrix,
    /// A cluster reports it of what runs.
    Status,
    /// It stands in a list of references and is none.
    Line,
    /// `broker:9092` is a host with a port.
    Port,
    /// A list of names without a tag or a digest is one of modules or packages.
    Names,
    /// There are more references in one text than are read.
    Many,
}

impl Over {
    /// Why, in the words that follow a number and its noun.
    pub fn why(self) -> &'static str {
        match self {
            Self::Word => {
                "a word alone where an image could stand, with neither a registry nor a tag"
            }
            Self::Machine => "the disk or the label of a machine that runs jobs",
            Self::Matrix => "a value of a build matrix",
            Self::Status => "what a cluster reports under `status`",
            Self::Line => "a line of a list that is no reference",
            Self::Port => "a host with a port",
            Self::Names => "a list of names that have neither a tag nor a digest",
            Self::Many => "a text with more references than are read of one",
        }
    }

    /// A short stable word for machines.
    pub fn word(self) -> &'static str {
        match self {
            Self::Word => "word",
            Self::Machine => "machine",
            Self::Matrix => "matrix",
            Self::Status => "status",
            Self::Line => "line",
            Self::Port => "port",
            Self::Names => "names",
            Self::Many => "many",
        }
    }
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
    /// The CPU architectures that its pods ask for (`kubernetes.io/arch`), one of which they need. Empty: any.
    pub architectures: Vec<String>,
}

/// Whether a finding can be edited.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum FindingAccess {
    /// These bytes can be replaced.
    Edit(Box<Hold>),
    /// It is left alone, and why.
    Leave(&'static str),
}
