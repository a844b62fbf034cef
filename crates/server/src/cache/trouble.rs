//! Why an upstream's content cannot be served, and what a client is told.

use axum::http::{HeaderValue, StatusCode, header};
use larder_client::{ClientError, NotThere};
use larder_core::name::Host;
use larder_store::{StoreError, now};

use crate::error::{AWAY, ApiError, Code, MOVING};

/// Why something cannot be served through a cached shelf.
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
    /// It, or every image that needs it, is larger than its shelf may become: it cannot be kept.
    Beyond,
    /// A server of the store cannot be reached; the cause is in the log.
    Away,
    /// The store moves to another place, and keeps nothing new here.
    Moving,
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
        if error.is_frozen() {
            return Self::Moving;
        }
        if error.is_away() {
            tracing::error!(%error, "a server of the store is away");
            return Self::Away;
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
            Self::Upstream(error) => f.write_str(&for_clients(error)),
            Self::TooLong(host) => write!(f, "{host} takes too long to answer"),
            Self::Unwanted => f.write_str("the fetch was given up because nobody wanted it"),
            Self::NoRoom => f.write_str("the larder's disk is full up to its reserve"),
            Self::Beyond => f.write_str(
                "the image is larger than `limit` (or `cache_limit`) lets its shelf become: it passes through and is not kept",
            ),
            Self::Away => f.write_str(AWAY),
            Self::Moving => f.write_str(MOVING),
            Self::Store => f.write_str("the larder's store failed; its log has the cause"),
        }
    }
}

/// What an upstream's failure says to clients: where it is reached from here is for the operator.
pub(super) fn for_clients(error: &ClientError) -> String {
    match error {
        ClientError::Unreachable { host, cause, .. } => {
            format!("{host} cannot be reached: {cause}")
        }
        other => other.to_string(),
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
        let kept = !matches!(
            &trouble,
            Trouble::NoRepository(_)
                | Trouble::Unwanted
                | Trouble::NoRoom
                | Trouble::Beyond
                | Trouble::Away
                | Trouble::Moving
                | Trouble::Store
                | Trouble::Upstream(ClientError::NotFound { .. })
        );
        let error = match trouble {
            Trouble::OutOfReach(..) => Self::new(Code::Denied, message),
            Trouble::NoRepository(_) => Self::new(Code::NameUnknown, message),
            Trouble::Limited(_, until) | Trouble::Spent(_, until) => {
                later(Code::TooManyRequests, until)
            }
            Trouble::Resting(_, until, _) => later(Code::Internal, until),
            Trouble::Unwanted => later(Code::Internal, now()),
            Trouble::NoRoom => later(Code::Internal, now() + 60_000),
            Trouble::Away => later(Code::Internal, now() + 4_000),
            Trouble::Moving => later(Code::Denied, now() + 29_000),
            Trouble::TooLong(_) => {
                Self::new(Code::Internal, message).with_status(StatusCode::GATEWAY_TIMEOUT)
            }
            Trouble::Store | Trouble::Beyond => Self::new(Code::Internal, message),
            Trouble::Upstream(error) => match &error {
                ClientError::NotFound { wanted, .. } => {
                    let code = match wanted {
                        NotThere::Repository(_) => Code::NameUnknown,
                        NotThere::Tag(_) | NotThere::Manifest(_) => Code::ManifestUnknown,
                        NotThere::Blob(_) => Code::BlobUnknown,
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
        };
        if kept { error.kept() } else { error }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use axum::response::IntoResponse as _;

    use super::*;

    fn host() -> Host {
        "bazaar.example".parse().unwrap()
    }

    fn upstream(error: ClientError) -> Trouble {
        Trouble::Upstream(error)
    }

    /// Every trouble that there is, with the status and a part of what a client is told.
    fn all() -> Vec<(Trouble, u16, &'static str)> {
        let (h, action) =
            (|| "bazaar.example".to_owned(), || "the pull of library/kettle".to_owned());
        let denied = |status| ClientError::Denied {
            host: h(),
            status,
            action: action(),
            signed_in: true,
            message: Some("no".into()),
        };
        let refused =
            |status| ClientError::Refused { host: h(), status, action: action(), message: None };
        let absent = |wanted| ClientError::NotFound { host: h(), wanted };
        let limited =
            |retry_after| ClientError::RateLimited { host: h(), action: action(), retry_after };
        let soon = now() + 30_000;
        vec![
            (Trouble::OutOfReach("the shelf reaches library/** alone".into()), 403, "library/**"),
            (Trouble::NoRepository("bazaar".into()), 404, "write bazaar/REPOSITORY"),
            (Trouble::Limited(host(), soon), 503, "limits the larder's pulls"),
            (Trouble::Spent(host(), soon), 503, "the allowance for bazaar.example is used up"),
            (Trouble::Resting(host(), soon, "it broke off".into()), 503, "(it broke off)"),
            (Trouble::TooLong(host()), 504, "takes too long to answer"),
            (Trouble::Unwanted, 503, "nobody wanted it"),
            (Trouble::NoRoom, 503, "full up to its reserve"),
            (Trouble::Beyond, 500, "passes through and is not kept"),
            (Trouble::Store, 500, "its log has the cause"),
            (upstream(absent(NotThere::Repository("a".into()))), 404, "has no repository a"),
            (upstream(absent(NotThere::Tag("2".into()))), 404, "has no tag 2"),
            (upstream(absent(NotThere::Blob("sha256:00".into()))), 404, "has no blob"),
            (upstream(denied(401)), 403, "answered 401"),
            (upstream(denied(403)), 403, "answered 403"),
            (upstream(refused(408)), 502, "answered 408"),
            (upstream(refused(503)), 502, "answered 503"),
            (upstream(limited(None)), 503, "limits our rate"),
            (upstream(limited(Some(Duration::from_secs(9)))), 503, "limits our rate"),
            (upstream(ClientError::Login { host: h(), cause: "it ended".into() }), 502, "it ended"),
            (upstream(ClientError::Protocol { host: h(), cause: "odd".into() }), 502, "odd"),
        ]
    }

    #[test]
    fn clients_are_told_the_cause_and_never_what_makes_them_worse() {
        for (trouble, status, said) in all() {
            let shown = trouble.to_string();
            assert!(shown.contains(said), "{shown}");
            let answer = ApiError::from(trouble).into_response();
            assert_eq!(answer.status().as_u16(), status, "{shown}");
            // Runtimes ask again at once after these, or hand over their secrets.
            assert!(![401, 408, 429].contains(&answer.status().as_u16()), "{shown}");
            assert!(!answer.headers().contains_key(header::WWW_AUTHENTICATE), "{shown}");
        }
    }

    #[test]
    fn who_is_to_come_again_is_told_when() {
        let after = |trouble: Trouble| {
            let answer = ApiError::from(trouble).into_response();
            let field = answer.headers().get(header::RETRY_AFTER)?;
            field.to_str().ok()?.parse::<u64>().ok()
        };
        let close = |found: Option<u64>, seconds: u64| {
            let found = found.unwrap();
            assert!((seconds..=seconds + 1).contains(&found), "{found} for {seconds}");
        };
        close(after(Trouble::Limited(host(), now() + 30_000)), 30);
        close(after(Trouble::Spent(host(), now() + 7_000)), 7);
        close(after(Trouble::Resting(host(), now() - 5_000, String::new())), 1);
        close(after(Trouble::NoRoom), 60);
        let limited = |retry_after| {
            let (host, action) = ("bazaar.example".to_owned(), String::new());
            after(upstream(ClientError::RateLimited { host, action, retry_after }))
        };
        close(limited(Some(Duration::from_secs(9))), 9);
        close(limited(None), 60);
        // However long an upstream says, it is a number that a client can read.
        assert!(limited(Some(Duration::MAX)).is_some());
        assert_eq!(after(Trouble::Store), None);
        assert_eq!(after(Trouble::TooLong(host())), None);
    }

    #[test]
    fn a_time_is_told_in_the_unit_that_fits() {
        for (milliseconds, words) in [
            (-1_000, "1 s"),
            (0, "1 s"),
            (100_900, "101 s"),
            (600_000, "10 min"),
            (7_300_000, "2 h"),
            (86_400_000, "24 h"),
        ] {
            let told = wait(now() + milliseconds);
            assert_eq!(told, words, "{milliseconds}");
        }
    }
}
