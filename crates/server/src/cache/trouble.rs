//! Why an upstream's content cannot be had, and how a client is told.

use axum::http::{HeaderValue, StatusCode, header};
use larder_client::{ClientError, Wanted};
use larder_core::name::Host;
use larder_store::{StoreError, now};

use crate::error::{ApiError, Code};

/// Why something cannot be had through a cached shelf.
#[derive(Debug, Clone)]
pub enum Trouble {
    /// The shelf does not reach so far; a sentence that says why.
    OutOfReach(String),
    /// The name has no repository behind the shelf's.
    NoRepository(String),
    /// The upstream limits us until this time, in milliseconds since 1970, and is not asked.
    Limited(Host, i64),
    /// What the operator allows is used up until this time, in milliseconds since 1970.
    Spent(Host, i64),
    /// The upstream failed so often that it is left alone until this time, in milliseconds since 1970;
    /// and what happened last.
    Resting(Host, i64, String),
    /// The upstream was asked, and this came of it.
    Upstream(ClientError),
    /// It took longer than anybody is kept waiting.
    TooLong(Host),
    /// Nobody wanted it any more.
    Unwanted,
    /// There is no room to keep it.
    NoRoom,
    /// The store failed; its cause is in the log.
    Store,
}

impl Trouble {
    /// Whether the upstream has said that it does not have it.
    pub fn is_absent(&self) -> bool {
        matches!(self, Self::Upstream(ClientError::NotFound { .. }))
    }
}

impl From<StoreError> for Trouble {
    fn from(error: StoreError) -> Self {
        if error.is_full() {
            tracing::warn!(%error, "there is no room to cache anything more");
            return Self::NoRoom;
        }
        tracing::error!(%error, "the store failed");
        Self::Store
    }
}

impl std::fmt::Display for Trouble {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match self {
            Self::OutOfReach(sentence) => f.write_str(sentence),
            Self::NoRepository(shelf) => {
                write!(f, "the shelf {shelf} has repositories below it; write {shelf}/REPOSITORY")
            }
            Self::Limited(host, until) => {
                write!(f, "{host} limits the larder's pulls; it is asked again in {}", wait(*until))
            }
            Self::Spent(host, until) => {
                write!(
                    f,
                    "the allowance for {host} is used up; it is asked again in {}",
                    wait(*until)
                )
            }
            Self::Resting(host, until, cause) => {
                write!(f, "{host} fails; it is asked again in {} ({cause})", wait(*until))
            }
            Self::Upstream(error) => write!(f, "{error}"),
            Self::TooLong(host) => write!(f, "{host} takes too long to answer"),
            Self::Unwanted => f.write_str("the fetch was given up because nobody wanted it"),
            Self::NoRoom => f.write_str("the larder's disk is full up to its reserve"),
            Self::Store => f.write_str("the larder's store failed; its log has the cause"),
        }
    }
}

/// How long until a time, in words.
fn wait(until: i64) -> String {
    match (until - now()).max(0).div_euclid(1000) + 1 {
        seconds @ 0..120 => format!("{seconds} s"),
        seconds @ 120..7200 => format!("{} min", seconds / 60),
        seconds => format!("{} h", seconds / 3600),
    }
}

/// Node runtimes ask again at once after 429 and 408, and hand over their secrets after 401: none of
/// these is ever passed on.
impl From<Trouble> for ApiError {
    fn from(trouble: Trouble) -> Self {
        let message = trouble.to_string();
        let later = |code: Code, until: i64| {
            let seconds = (until - now()).max(0) / 1000 + 1;
            let error = Self::new(code, message.clone());
            error
                .with_status(StatusCode::SERVICE_UNAVAILABLE)
                .with_header(header::RETRY_AFTER, HeaderValue::from(seconds))
        };
        match trouble {
            Trouble::OutOfReach(..) => Self::new(Code::Denied, message),
            Trouble::NoRepository(_) => Self::new(Code::NameUnknown, message),
            Trouble::Limited(_, until) | Trouble::Spent(_, until) => {
                later(Code::TooManyRequests, until)
            }
            Trouble::Resting(_, until, _) => later(Code::Internal, until),
            Trouble::Unwanted => later(Code::Internal, now()),
            Trouble::NoRoom => later(Code::Internal, now() + 60_000),
            Trouble::TooLong(_) => {
                Self::new(Code::Internal, message).with_status(StatusCode::GATEWAY_TIMEOUT)
            }
            Trouble::Store => Self::new(Code::Internal, message),
            Trouble::Upstream(error) => match &error {
                ClientError::NotFound { wanted, .. } => {
                    let code = match wanted {
                        Wanted::Repository(_) => Code::NameUnknown,
                        Wanted::Tag(_) | Wanted::Manifest(_) => Code::ManifestUnknown,
                        Wanted::Blob(_) => Code::BlobUnknown,
                    };
                    Self::new(code, message)
                }
                ClientError::Denied { .. } => Self::new(Code::Denied, message),
                ClientError::RateLimited { retry_after, .. } => {
                    let pause = retry_after.map_or(60_000, |pause| pause.as_millis());
                    later(
                        Code::TooManyRequests,
                        now() + i64::try_from(pause).unwrap_or(i64::MAX / 2),
                    )
                }
                _ => Self::new(Code::Internal, message).with_status(StatusCode::BAD_GATEWAY),
            },
        }
    }
}
