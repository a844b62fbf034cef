//! What is known of a pull. Every piece can be unknown.

use crate::reference::MalformedReference;

/// All that is known.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Evidence {
    /// The reference as written.
    pub written: String,
    /// How it reads. None: nobody looked.
    pub name: Option<NameEvidence>,
    /// What rules and grants say. None: nobody asked them.
    pub policy: Option<Policy>,
    /// How the node's runtime is led. None: nobody looked; there may be mirrors.
    pub nodes: Option<Nodes>,
    /// What a node without any file meets, where that is not what was asked. None: the same.
    pub by_default: Option<super::Cause>,
    /// How the pull would go through the larder, where it is not known whether the node is led there. None: it would not,
    /// or nobody looked.
    pub through: Option<Through>,
    /// What each host answers, in the order in which the node asks.
    pub visits: Vec<Visit>,
    /// With what the pod signs in. None: nobody looked.
    pub credential: Option<Credential>,
    /// What is there, asked as somebody who may see all. None: nobody could.
    pub record: Option<Record>,
    /// Whether the cluster's nodes sign in by themselves, with tokens of service accounts.
    pub identity: bool,
    /// What the image is called at its upstream. None: nobody looked, or it is the larder's and nothing
    /// brings it in.
    pub origin: Option<String>,
    /// The platform of the node. None: it is not known.
    pub platform: Option<String>,
    /// What the cluster's events say. None: none was given.
    pub event: Option<super::PullEvent>,
    /// What a larder recorded under the number that the event carries: the cause, in its sentence. None: it carries
    /// none, or nobody looked.
    pub recorded: Option<(super::Cause, String)>,
}

/// How a reference reads.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NameEvidence {
    /// It names this.
    Reads {
        /// The normal form, as the node reads it.
        node: String,
        /// As the larder's configuration reads it, where that differs: for short names.
        here: Option<String>,
    },
    /// It cannot be read.
    Malformed(MalformedReference),
}

/// What rules and grants say.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Policy {
    /// It may.
    Allows,
    /// A rule denies it.
    Rule {
        /// Its reason, in a sentence.
        reason: String,
        line: Option<String>,
    },
    /// No grant names it.
    Grant {
        /// Who lacks it.
        who: String,
        repository: String,
        /// Where the grants of the asker stand.
        line: Option<String>,
    },
    /// It is not for this larder to say: the reference leads elsewhere.
    Elsewhere,
}

/// How a node's runtime is led to mirrors.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Nodes {
    /// As its files say; what its owner may not expect of them.
    Read(Vec<String>),
    /// There are files, and the runtime reads none of them, because of this.
    NotRead(String),
    /// A file has an error, and is dropped.
    Dropped(String),
    /// There are none: the upstream is asked.
    None,
}

/// How a pull would go through the larder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Through {
    /// It has the image, and gives it.
    Gives,
    Refuses(Policy),
}

/// One host that the node asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Visit {
    /// Its name and port.
    pub host: String,
    /// Whether it is a mirror: when it does not answer as it should, the next is asked.
    pub mirror: bool,
    /// Whether it is this larder.
    pub ours: bool,
    /// What came of it. None: it was not tried.
    pub outcome: Option<HostOutcome>,
}

/// What came of asking one host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum HostOutcome {
    /// All of it can be pulled; what is odd about it.
    Pulls {
        /// The digest that it came to.
        digest: String,
        /// The digest that was expected: of the lock, or of what the node ran before. None: none was.
        expected: Option<String>,
        /// It is one image alone, for this platform. None: it says none, or it was chosen from an
        /// index.
        alone: Option<String>,
        /// The larder says that it serves an older answer.
        stale: bool,
    },
    /// Its name is not known.
    UnknownHost,
    /// Nobody answers for names.
    NameService(String),
    /// Nothing listens.
    Refused(String),
    /// Nothing comes back.
    NoAnswer,
    /// Broken off.
    Reset,
    /// It speaks plain HTTP.
    PlainHttp,
    /// It wants TLS.
    WantsTls,
    /// It speaks something else, or what came is no answer.
    NotHttp(String),
    /// A page.
    CaptivePage(String),
    /// A proxy answered, or cannot be reached.
    Proxy(String),
    /// It never answers.
    Stalled,
    /// It sends on in a circle, or to where nobody may go.
    RedirectLoop(String),
    /// The authority is not known; who signed the certificate.
    UnknownAuthority(String),
    /// The certificate is for these names.
    WrongName(String),
    /// It ended then.
    CertificateExpired(String),
    /// It begins then.
    CertificateEarly(String),
    /// A certificate of the client is wanted.
    ClientCertificate,
    /// 401.
    Unauthorized {
        /// Whether a credential was shown.
        shown: bool,
        said: Option<String>,
    },
    /// The token service cannot be reached.
    TokenDown(String),
    /// The token service refuses.
    TokenRefused {
        status: u16,
        /// Whether a credential was shown.
        shown: bool,
        said: Option<String>,
    },
    /// The token service says something else.
    TokenOdd(String),
    /// A token was shown, and is not enough.
    TokenWithoutAccess {
        /// Whether a credential was shown to get it.
        shown: bool,
        said: Option<String>,
    },
    /// 403, and what it says.
    Forbidden(Option<String>),
    /// 404 for the image itself.
    NotFound,
    /// 404 for the platform's manifest.
    ChildMissing(String),
    /// 404 for a blob.
    BlobMissing(String),
    /// Another digest.
    BlobCorrupt(String),
    /// Another length.
    BlobLength(String),
    /// It broke off.
    StreamCut(String),
    /// Not for the platform; for these.
    PlatformMissing(Vec<String>),
    /// So many bytes.
    ManifestTooLarge(u64),
    /// Why it cannot be used.
    ManifestOdd(String),
    /// What it is instead.
    NoImage(String),
    /// What is odd about HEAD.
    OddHead(String),
    /// 429, and when it may be asked again, in seconds.
    RateLimited(Option<u64>),
    /// 5xx, and what it says.
    Failing { status: u16, said: Option<String> },
}

/// With what a pod signs in at a host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Credential {
    /// With nothing: the pod and its service account name no pull secret.
    None,
    /// With nothing that fits: what is wrong with what they name.
    Unfit(SecretFault),
    /// With this.
    Fits(Secret),
}

/// What is wrong with a pull secret.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SecretFault {
    /// There is none of that name; the namespaces that have one.
    Missing {
        name: String,
        /// Where one of that name is.
        elsewhere: Vec<String>,
        /// The pull secret of the pod's namespace that was meant. None: none is like it.
        near: Option<String>,
    },
    Type(String),
    /// Why it cannot be read.
    Unreadable(String),
    /// It is for these hosts.
    Host(Vec<String>),
    /// One is there, for this host, and neither the pod nor its service account names it.
    NotLinked(String),
}

/// A login that fits the host.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Secret {
    /// Where it comes from: `pull secret scada/larder-pull`.
    pub from: String,
    pub user: String,
    /// Whether its two forms say the same.
    pub agrees: bool,
    /// What is known of the key in it. None: it is no key of this larder's, or nobody looked.
    pub key: Option<KeyState>,
}

/// What is known of a key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum KeyState {
    Good,
    /// It ended, and when.
    Expired(String),
    /// It was revoked, and when.
    Revoked(String),
    /// It was never issued here, or is written wrongly.
    Unknown,
}

/// What is there, asked as somebody who may see all.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Record {
    /// Who says so: `the larder's own store`, `bazaar.example with the configured credentials`.
    pub by: String,
    /// The upstream itself was asked: what it does not have cannot be brought in.
    pub at_upstream: bool,
    pub access: ContentAccess,
}

/// What somebody who may see all sees.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ContentAccess {
    There,
    /// There is no such repository; near names that there are.
    NoRepository(Vec<String>),
    /// There is no such tag; near names, else the newest.
    NoTag(Vec<String>),
    /// There is no such digest.
    NoDigest,
    /// It was there, and was removed: when, and by what.
    Removed(String),
    /// The lock names it, and it was not brought in yet.
    NotBroughtIn,
    /// There is no such shelf; those that there are.
    NoShelf(Vec<String>),
    /// The cached shelf does not reach it: why, in a sentence.
    OutsideShelf(String),
}
