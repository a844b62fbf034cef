//! Who did what?

/// What happened.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum RecordKind {
    /// Somebody signed in.
    SignIn,
    /// A sign-in with a wrong or expired secret.
    Failed,
    /// Something was not let through.
    Refused,
    /// Something was let through although a rule warns of it.
    Warned,
    /// A manifest was fetched.
    Pull,
    /// A manifest was pushed.
    Push,
    /// Something was removed.
    Delete,
    /// A key was issued, rotated or revoked.
    Key,
    /// The configuration was read anew.
    Config,
    /// Somebody tried how a pull would go, as `larder why` does: whatever came of it.
    Probe,
    /// Something was brought in from an upstream.
    Intake,
    /// Something was copied here, or from here.
    Copy,
    /// Something was promoted.
    Promote,
    /// An image was signed in the name of one of our signers.
    Sign,
    /// Something came by parcel.
    Unpack,
    /// What nothing refers to was removed.
    Collect,
}

impl RecordKind {
    /// All, in the order of their words' use.
    pub const ALL: [Self; 16] = [
        Self::SignIn,
        Self::Failed,
        Self::Refused,
        Self::Warned,
        Self::Pull,
        Self::Push,
        Self::Delete,
        Self::Key,
        Self::Config,
        Self::Probe,
        Self::Intake,
        Self::Copy,
        Self::Promote,
        Self::Sign,
        Self::Unpack,
        Self::Collect,
    ];

    /// As it is written.
    pub fn word(self) -> &'static str {
        match self {
            Self::SignIn => "sign-in",
            Self::Failed => "failed",
            Self::Refused => "refused",
            Self::Warned => "warned",
            Self::Pull => "pull",
            Self::Push => "push",
            Self::Delete => "delete",
            Self::Key => "key",
            Self::Config => "config",
            Self::Probe => "probe",
            Self::Intake => "intake",
            Self::Copy => "copy",
            Self::Promote => "promote",
            Self::Sign => "sign",
            Self::Unpack => "unpack",
            Self::Collect => "collect",
        }
    }

    /// Of its word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|kind| kind.word() == word)
    }
}

/// One line of the record. The same done again on the same day may be one line with a larger count.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RecordEntry {
    /// Its name: the reference number that a refusal carries.
    pub number: String,
    /// When it happened first, in milliseconds since 1970.
    pub first: i64,
    /// When it happened last.
    pub last: i64,
    /// How often.
    pub count: u64,
    pub kind: RecordKind,
    /// Who, by the user's name. Empty: nobody signed in.
    pub who: String,
    /// By which key or service account. None: by none.
    pub by: Option<String>,
    /// By whom of the operating system, on which machine and by which command. None: not by a command.
    pub origin: Option<String>,
    /// From which address. None: from this machine's command line.
    pub address: Option<String>,
    /// What it was about: `REPOSITORY:TAG`, `REPOSITORY@DIGEST`, a key. None: nothing in particular.
    pub reference: Option<String>,
    /// The line of the configuration that decided. None: none did.
    pub line: Option<String>,
    /// The rest, in words.
    pub text: String,
    /// What makes two of them the same line. None: this one stands alone.
    pub same: Option<String>,
}
/// That somebody pulled a content.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pulled {
    /// The account, or the cluster with its namespace. Empty, or `-`: nobody signed in.
    pub by: String,
    /// The repository, as it was named.
    pub repository: Box<str>,
    /// The digest, as it was recorded.
    pub digest: Box<str>,
    /// When it was pulled first and last, as far as the record goes back, in milliseconds since 1970.
    pub first: i64,
    pub last: i64,
}

/// Which lines are wanted. What is None does not matter.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Filter {
    /// Those that happened last at this time or later.
    pub since: Option<i64>,
    /// Those of these kinds. Empty: of all.
    pub kinds: Vec<RecordKind>,
    /// Those of this user, or of a cluster's namespaces.
    pub who: Option<String>,
    /// Those about a reference that contains this text.
    pub about: Option<String>,
    /// The one of this number.
    pub number: Option<String>,
    /// So many at most, the latest. None: all.
    pub limit: Option<usize>,
}
