//! Refusals in the standard's document (Distribution Specification, "Error codes").

use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use hyper::ext::ReasonPhrase;
use larder_core::digest::Digest;
use larder_core::shown::in_ascii;
use larder_store::StoreError;

use crate::meters::{RefusalCode, ToldNumber};
use crate::path::PathError;

/// The standard's codes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Code {
    /// The repository does not have the blob.
    BlobUnknown,
    /// The upload went wrong.
    BlobUploadInvalid,
    /// There is no such upload.
    BlobUploadUnknown,
    /// The digest cannot be read, or the content has another one.
    DigestInvalid,
    /// The manifest needs content that the repository does not have.
    ManifestBlobUnknown,
    /// The manifest cannot be used.
    ManifestInvalid,
    /// The repository has no such manifest or tag.
    ManifestUnknown,
    /// The name cannot exist.
    NameInvalid,
    /// There is no such repository.
    NameUnknown,
    /// More or fewer bytes than announced.
    SizeInvalid,
    /// Sign-in is needed.
    Unauthorized,
    /// It is not allowed.
    Denied,
    /// Not answered here.
    Unsupported,
    /// Too many requests.
    TooManyRequests,
    /// Our own fault; not one of the standard's.
    Internal,
}

impl Code {
    fn text(self) -> &'static str {
        match self {
            Self::BlobUnknown => "BLOB_UNKNOWN",
            Self::BlobUploadInvalid => "BLOB_UPLOAD_INVALID",
            Self::BlobUploadUnknown => "BLOB_UPLOAD_UNKNOWN",
            Self::DigestInvalid => "DIGEST_INVALID",
            Self::ManifestBlobUnknown => "MANIFEST_BLOB_UNKNOWN",
            Self::ManifestInvalid => "MANIFEST_INVALID",
            Self::ManifestUnknown => "MANIFEST_UNKNOWN",
            Self::NameInvalid => "NAME_INVALID",
            Self::NameUnknown => "NAME_UNKNOWN",
            Self::SizeInvalid => "SIZE_INVALID",
            Self::Unauthorized => "UNAUTHORIZED",
            Self::Denied => "DENIED",
            Self::Unsupported => "UNSUPPORTED",
            Self::TooManyRequests => "TOOMANYREQUESTS",
            Self::Internal => "UNKNOWN",
        }
    }

    fn status(self) -> StatusCode {
        match self {
            Self::BlobUnknown
            | Self::BlobUploadUnknown
            | Self::ManifestUnknown
            | Self::NameUnknown => StatusCode::NOT_FOUND,
            Self::BlobUploadInvalid
            | Self::DigestInvalid
            | Self::ManifestBlobUnknown
            | Self::ManifestInvalid
            | Self::NameInvalid
            | Self::SizeInvalid => StatusCode::BAD_REQUEST,
            Self::Unauthorized => StatusCode::UNAUTHORIZED,
            Self::Denied => StatusCode::FORBIDDEN,
            Self::Unsupported => StatusCode::METHOD_NOT_ALLOWED,
            Self::TooManyRequests => StatusCode::TOO_MANY_REQUESTS,
            Self::Internal => StatusCode::INTERNAL_SERVER_ERROR,
        }
    }
}

/// A refusal: a code for programs, a sentence for people.
#[derive(Debug, Clone)]
pub struct ApiError {
    /// Whether it is written down, with a number, though nobody forbids it: an upstream does not give it.
    kept: bool,
    code: Code,
    message: String,
    detail: Option<serde_json::Value>,
    status: StatusCode,
    headers: Vec<(header::HeaderName, HeaderValue)>,
}

/// The sentence.
impl std::fmt::Display for ApiError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.message)
    }
}

impl ApiError {
    /// A refusal with the code's usual status.
    pub fn new(code: Code, message: impl Into<String>) -> Self {
        Self {
            kept: false,
            code,
            message: message.into(),
            detail: None,
            status: code.status(),
            headers: Vec::new(),
        }
    }

    /// With another status than the code's usual one.
    #[must_use]
    pub fn with_status(mut self, status: StatusCode) -> Self {
        self.status = status;
        self
    }

    /// Written down with a number, as what is forbidden is.
    #[must_use]
    pub(crate) fn kept(mut self) -> Self {
        self.kept = true;
        self
    }

    /// The sentence of one that is to be written down, and is not yet.
    pub(crate) fn to_keep(&self) -> Option<&str> {
        let forbidden = self.code == Code::Denied && self.status == StatusCode::FORBIDDEN;
        let is_told = ToldNumber::in_sentence(&self.message).is_some();
        ((forbidden || self.kept) && !is_told).then_some(&self.message)
    }

    /// With the number under which it was written down.
    #[must_use]
    pub(crate) fn with_number(mut self, number: &str) -> Self {
        self.message.push_str(number);
        self
    }

    /// Whether it says that the disk is full.
    pub(crate) fn is_full(&self) -> bool {
        self.status == StatusCode::INSUFFICIENT_STORAGE
    }

    /// With one more sentence.
    #[must_use]
    pub(crate) fn adding(mut self, sentence: &str) -> Self {
        self.message = format!("{}. {sentence}", self.message);
        self
    }

    /// With one more header.
    #[must_use]
    pub fn with_header(mut self, name: header::HeaderName, value: HeaderValue) -> Self {
        self.headers.push((name, value));
        self
    }

    /// Something cannot be removed while these manifests need it.
    pub(crate) fn needed(what: &str, by: &[Digest]) -> Self {
        let named = by.first().map(Digest::as_str).unwrap_or_default();
        let more = by.len().saturating_sub(1);
        let more = if more > 0 { format!(" and {more} more") } else { String::new() };
        let message = format!("{what} is needed by the manifest {named}{more}; remove that first");
        let mut error = Self::new(Code::Denied, message).with_status(StatusCode::CONFLICT);
        error.detail = Some(serde_json::json!({ "digests": by }));
        error
    }

    /// What the manifest needs and the repository does not have.
    fn missing(digests: &[Digest]) -> Self {
        let listed: Vec<&str> = digests.iter().map(Digest::as_str).collect();
        let message = format!(
            "the repository does not have {} of the things that this manifest needs; push these first: {}",
            listed.len(),
            listed.iter().take(3).copied().collect::<Vec<_>>().join(", ")
        );
        let mut error = Self::new(Code::ManifestBlobUnknown, message);
        error.detail = Some(serde_json::json!({ "digests": listed }));
        error
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let mut entry = serde_json::json!({ "code": self.code.text(), "message": self.message });
        if let Some(detail) = self.detail {
            entry["detail"] = detail;
        }
        let body = serde_json::json!({ "errors": [entry] }).to_string();
        let mut response = (self.status, body).into_response();
        // An answer to HEAD has no body, and node runtimes show nothing but the status line of one: the
        // sentence stands there too.
        if let Some(reason) = reason(self.status, &self.message) {
            response.extensions_mut().insert(reason);
        }
        response.extensions_mut().insert(RefusalCode(self.code.text()));
        if let Some(number) = ToldNumber::in_sentence(&self.message) {
            response.extensions_mut().insert(number);
        }
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
        headers.extend(self.headers);
        response
    }
}

/// The longest reason phrase, in bytes.
const REASON: usize = 300;

/// The status line's words: the standard's, and after a colon ours in plain ASCII. What is too long is cut before the
/// number by which the refusal is found.
fn reason(status: StatusCode, message: &str) -> Option<ReasonPhrase> {
    let words = status.canonical_reason()?;
    let mut text = format!("{words}: {}", in_ascii(message));
    if text.len() > REASON {
        let number = ToldNumber::in_sentence(&text).map(|ToldNumber(one)| format!(" [{one}]"));
        let number = number.unwrap_or_default();
        text.truncate(REASON - number.len() - 3);
        text.push_str("...");
        text.push_str(&number);
    }
    ReasonPhrase::try_from(text.into_bytes()).ok()
}

/// What is said while a server of the store does not answer.
pub(crate) const AWAY: &str =
    "a part of the larder's store cannot be reached now; its log has the cause";
/// What is said while the store moves.
pub(crate) const MOVING: &str =
    "the larder's store moves to another place: what it has is given, nothing new is kept here";

impl From<StoreError> for ApiError {
    fn from(error: StoreError) -> Self {
        match error {
            StoreError::Mismatch { .. } => Self::new(Code::DigestInvalid, error.to_string()),
            StoreError::Missing(digests) => Self::missing(&digests),
            StoreError::Size { .. } => {
                let message = format!("the manifest is wrong: {error}");
                Self::new(Code::ManifestInvalid, message)
            }
            StoreError::Immutable { .. } => {
                Self::new(Code::Denied, format!("{error}; push under another tag"))
            }
            StoreError::Quota(passed) => Self::new(Code::Denied, passed.to_string()),
            StoreError::NotFound(_) => Self::new(Code::BlobUploadUnknown, error.to_string()),
            StoreError::Busy(_) => Self::new(Code::BlobUploadInvalid, error.to_string())
                .with_status(StatusCode::CONFLICT),
            StoreError::Vanished(_) => Self::new(Code::BlobUploadInvalid, error.to_string())
                .with_status(StatusCode::CONFLICT),
            error if error.is_full() => {
                tracing::warn!(%error, "a push was refused: no room");
                Self::new(Code::Denied, "the larder's disk is full up to its reserve; pulls go on")
                    .with_status(StatusCode::INSUFFICIENT_STORAGE)
            }
            error if error.is_frozen() => {
                tracing::warn!("refused: the store is being moved elsewhere");
                Self::new(Code::Denied, MOVING)
                    .with_status(StatusCode::SERVICE_UNAVAILABLE)
                    .with_header(header::RETRY_AFTER, HeaderValue::from_static("30"))
            }
            error if error.is_away() => {
                tracing::error!(%error, "a server of the store is away");
                Self::new(Code::Internal, AWAY)
                    .with_status(StatusCode::SERVICE_UNAVAILABLE)
                    .with_header(header::RETRY_AFTER, HeaderValue::from_static("5"))
            }
            error => {
                // What broke is for the operator's log, not for clients.
                tracing::error!(%error, "the store failed");
                Self::new(Code::Internal, "the larder's store failed; its log has the cause")
            }
        }
    }
}

impl From<PathError> for ApiError {
    fn from(error: PathError) -> Self {
        let code = match &error {
            PathError::Nowhere => {
                return Self::new(Code::Unsupported, error.to_string())
                    .with_status(StatusCode::NOT_FOUND);
            }
            PathError::Name(_) => Code::NameInvalid,
            PathError::Digest(_) => Code::DigestInvalid,
            PathError::Reference(_) => Code::ManifestInvalid,
            PathError::Upload => Code::BlobUploadUnknown,
        };
        Self::new(code, error.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_sentence_keeps_its_number() {
        let said = |message: &str| {
            let phrase = reason(StatusCode::FORBIDDEN, message).unwrap();
            String::from_utf8(phrase.as_bytes().to_vec()).unwrap()
        };
        assert_eq!(said("no; \u{fc} [7kq2m4xa]"), "Forbidden: no; ue [7kq2m4xa]");
        let long = said(&format!("{} [7kq2m4xa]", "x".repeat(400)));
        assert!(long.len() == REASON && long.ends_with("x... [7kq2m4xa]"), "{long}");
        let plain = said(&"x".repeat(400));
        assert!(plain.len() == REASON && plain.ends_with("x..."), "{plain}");
    }
}
