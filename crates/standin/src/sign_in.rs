//! How an upstream lets its clients in.

use std::sync::{Arc, Mutex, PoisonError};

use axum::extract::Request;
use axum::http::{HeaderMap, HeaderValue, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use base64::Engine as _;
use larder_core::digest::Digest;

/// How an upstream lets its clients in.
#[derive(Debug, Clone, Default)]
pub enum SignIn {
    /// It asks nobody.
    #[default]
    Open,
    /// Name and password with each request.
    Basic {
        /// `name:password`.
        login: String,
    },
    /// A token from its own token service, given for name and password.
    Bearer {
        /// `name:password`.
        login: String,
    },
}

/// The tokens that were given.
#[derive(Debug, Clone, Default)]
pub(crate) struct Tokens {
    given: Arc<Mutex<Vec<String>>>,
}

impl SignIn {
    fn knows(&self, headers: &HeaderMap) -> bool {
        let (Self::Basic { login } | Self::Bearer { login }) = self else { return true };
        let expected = format!("Basic {}", base64::engine::general_purpose::STANDARD.encode(login));
        headers
            .get(header::AUTHORIZATION)
            .is_some_and(|sent| sent.as_bytes() == expected.as_bytes())
    }

    /// Lets a request through, answers it as the token service, or refuses it.
    pub(crate) async fn answer(
        &self,
        tokens: &Tokens,
        request: Request,
        next: axum::middleware::Next,
    ) -> Response {
        match self {
            Self::Open => next.run(request).await,
            Self::Basic { .. } if self.knows(request.headers()) => next.run(request).await,
            Self::Basic { .. } => refuse("Basic realm=\"stand-in\""),
            Self::Bearer { .. } if request.uri().path() == "/token" => {
                if !self.knows(request.headers()) {
                    return StatusCode::UNAUTHORIZED.into_response();
                }
                let scope = request.uri().query().unwrap_or_default();
                tokens.give(scope)
            }
            Self::Bearer { .. } if tokens.has(request.headers()) => next.run(request).await,
            Self::Bearer { .. } => {
                let host = request.headers().get(header::HOST).and_then(|host| host.to_str().ok());
                let host = host.unwrap_or_default().to_owned();
                refuse(&format!("Bearer realm=\"http://{host}/token\",service=\"{host}\""))
            }
        }
    }
}

impl Tokens {
    pub(crate) fn forget(&self) {
        self.given.lock().unwrap_or_else(PoisonError::into_inner).clear();
    }

    fn give(&self, scope: &str) -> Response {
        let mut given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        let token = Digest::of(format!("{scope} {}", given.len()).as_bytes()).hex().to_owned();
        given.push(token.clone());
        let body = serde_json::json!({ "token": token, "expires_in": 300 }).to_string();
        ([(header::CONTENT_TYPE, "application/json")], body).into_response()
    }

    fn has(&self, headers: &HeaderMap) -> bool {
        let sent = headers.get(header::AUTHORIZATION).and_then(|sent| sent.to_str().ok());
        let given = self.given.lock().unwrap_or_else(PoisonError::into_inner);
        sent.and_then(|sent| sent.strip_prefix("Bearer "))
            .is_some_and(|sent| given.iter().any(|token| token == sent))
    }
}

fn refuse(challenge: &str) -> Response {
    let body = r#"{"errors":[{"code":"UNAUTHORIZED","message":"sign in first"}]}"#;
    let mut response = (StatusCode::UNAUTHORIZED, body).into_response();
    if let Ok(challenge) = HeaderValue::from_str(challenge) {
        response.headers_mut().insert(header::WWW_AUTHENTICATE, challenge);
    }
    response
}
