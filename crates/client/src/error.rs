//! What can go wrong with a remote, in the words of the operator who asked for it.

use std::time::Duration;

use larder_core::digest::Digest;
use larder_core::document::DocumentError;

/// What was asked for and is not there.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NotThere {
    Repository(String),
    /// A tag of a repository that exists, or whose existence cannot be told.
    Tag(String),
    /// A manifest by its digest.
    Manifest(String),
    /// A blob by its digest.
    Blob(String),
}

impl std::fmt::Display for NotThere {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::Repository(name) => write!(f, "repository {name}"),
            Self::Tag(name) => write!(f, "tag {name}"),
            Self::Manifest(name) => write!(f, "manifest {name}"),
            Self::Blob(name) => write!(f, "blob {name}"),
        }
    }
}

/// What a remote did. `host` is always the registry as references name it.
#[derive(Debug, Clone, thiserror::Error)]
pub enum ClientError {
    /// No connection: unknown name, refused, reset, time-out.
    #[error("{host} cannot be reached at {endpoint}: {cause}")]
    Unreachable {
        host: String,
        /// Where it was tried.
        endpoint: String,
        cause: String,
    },
    /// The certificate is not trusted.
    #[error("{host} shows a certificate that is not trusted here: {cause}")]
    Untrusted { host: String, cause: String },
    /// 401 or 403.
    #[error("{host} answered {status} to {action} ({account}){message}", account = account(*.signed_in), message = quoted(.message.as_ref()))]
    Denied {
        host: String,
        /// 401 or 403.
        status: u16,
        /// What was asked, as in "the pull of gauges/steamgauge".
        action: String,
        /// Whether credentials were configured and sent.
        signed_in: bool,
        /// The registry's own words. None: it gave none.
        message: Option<String>,
    },
    /// 404.
    #[error("{host} has no {wanted}")]
    NotFound {
        host: String,
        /// What is not there.
        wanted: NotThere,
    },
    /// A layer that the registry does not have, and that lies elsewhere by its manifest.
    #[error("{host} does not have the layer {digest}: by its manifest it lies at {at}")]
    Foreign { host: String, digest: Digest, at: String },
    /// 429, and waiting as long as it asks for is too long.
    #[error("{host} limits our rate: it answered 429 to {action}{}", wait(*.retry_after))]
    RateLimited {
        host: String,
        action: String,
        /// When it may be asked again. None: it did not say.
        retry_after: Option<Duration>,
    },
    /// Another status that is no success.
    #[error("{host} answered {status} to {action}{}", quoted(.message.as_ref()))]
    Refused {
        host: String,
        status: u16,
        action: String,
        /// The registry's own words. None: it gave none.
        message: Option<String>,
    },
    /// An answer that the protocol does not allow.
    #[error("{host} gave an answer that is not understood: {cause}")]
    Protocol {
        host: String,
        /// What is wrong with it.
        cause: String,
    },
    /// A chart that is not what its index says, or is none.
    #[error("{host} has the chart {chart}, which cannot be used: {cause}")]
    Chart {
        host: String,
        /// Its name and version.
        chart: String,
        cause: String,
    },
    /// A chart whose archive lies where nobody allowed to fetch it.
    #[error("{host} has the chart {chart} at {at}, where it is not fetched")]
    ChartElsewhere {
        host: String,
        /// Its name and version.
        chart: String,
        at: String,
    },
    /// The manifest cannot be used.
    #[error("{host} sent a manifest for {what} that cannot be used: {source}")]
    Document {
        host: String,
        /// What was asked for.
        what: String,
        source: DocumentError,
    },
    /// The content is not what its digest says. It was not kept.
    #[error("{host} sent content for {expected} that has the digest {actual}")]
    Mismatch {
        host: String,
        /// What was asked for.
        expected: Digest,
        actual: Digest,
    },
    /// More or fewer bytes than the descriptor says. They were not kept.
    #[error("{host} sent {actual} bytes for {digest}; its descriptor says {expected}")]
    Length {
        host: String,
        /// What was asked for.
        digest: Digest,
        /// The descriptor's size in bytes.
        expected: u64,
        /// What came, in bytes; when more came than expected, where we stopped.
        actual: u64,
    },
    /// The stream broke off again and again without any progress.
    #[error(
        "{host} broke off after {received} of {size} bytes of {digest}, again after each retry: {cause}"
    )]
    Cut {
        host: String,
        /// What was asked for.
        digest: Digest,
        /// Bytes that came.
        received: u64,
        /// Bytes that there should be.
        size: u64,
        cause: String,
    },
    /// The content that we were to send could not be read. Nothing of it became visible.
    #[error("the content to send to {host} could not be read: {cause}")]
    Source {
        /// The registry that was to receive it.
        host: String,
        cause: String,
    },
    /// It wants its login to be shown at a host that is not its own.
    #[error("{host} sends us to {at} for a token, and its login is not shown to other hosts")]
    TokenHost {
        host: String,
        /// Where it sends us.
        at: String,
    },
    /// There is no login to send: the one that was used has ended or was refused, and its source gives no other.
    #[error("there is no login for {host} any more: {cause}")]
    Login { host: String, cause: String },
    /// The client could not be set up.
    #[error("{0}")]
    Setup(String),
}

impl ClientError {
    /// Whether the same call may well succeed a moment later.
    pub fn is_passing(&self) -> bool {
        match self {
            Self::Unreachable { .. } | Self::RateLimited { .. } | Self::Cut { .. } => true,
            Self::Refused { status, .. } => matches!(status, 408 | 500 | 502..=504),
            _ => false,
        }
    }

    /// Whether content did not match its name.
    pub fn is_mismatch(&self) -> bool {
        matches!(self, Self::Mismatch { .. } | Self::Length { .. })
    }
}

fn account(signed_in: bool) -> &'static str {
    if signed_in { "with the configured credentials" } else { "no credentials configured" }
}

fn quoted(message: Option<&String>) -> String {
    message.map_or_else(String::new, |text| format!(": “{text}”"))
}

fn wait(after: Option<Duration>) -> String {
    after.map_or_else(String::new, |after| format!(" and asks to wait {} s", after.as_secs()))
}
