//! The token end point: a short-lived token for a key, for the token of a cluster's service account, or
//! for nothing. GET and the POST form of the token protocol, and token exchange (RFC 8693).

use axum::extract::Request;
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse as _, Response};
use larder_core::access::scope::Scopes;
use larder_core::access::token::TokenAccess;
use larder_core::access::{Action, Who};
use larder_store::now;

use super::record::fresh_number;
use super::sign_in::{PresentedLogin, address, brought};
use super::{Caller, Head, parameters};
use crate::app::App;
use crate::error::{ApiError, Code};
use crate::limits::PacedBody;
use crate::plan::Plan;

/// Where it is.
pub(crate) const PATH: &str = "/larder/token";
/// The largest form, in bytes.
const FORM: usize = 64 * 1024;

/// What a request for a token says.
#[derive(Default)]
struct TokenRequest {
    scopes: Vec<String>,
    /// The user's name, which may be empty, and the secret. None: nobody signs in.
    login: Option<(String, String)>,
}

fn bad(text: impl Into<String>) -> ApiError {
    ApiError::new(Code::Unsupported, text).with_status(StatusCode::BAD_REQUEST)
}

pub(crate) async fn answer(app: &App, plan: &Plan, request: Request) -> Result<Response, ApiError> {
    let address = address(Head::of(&request));
    let asked = match *request.method() {
        Method::GET => from_query(&request)?,
        Method::POST => from_form(app, request).await?,
        _ => {
            let error = ApiError::new(Code::Unsupported, "tokens are asked for with GET or POST");
            return Err(error.with_header(header::ALLOW, HeaderValue::from_static("GET, POST")));
        }
    };
    let scopes = Scopes::read(asked.scopes.iter().map(String::as_str));
    let scopes = scopes.map_err(|error| bad(error.to_string()))?;
    let mut ends = None;
    let caller = match &asked.login {
        // Where everybody may do everything, nobody is asked for a secret, and none is believed.
        Some((user, secret)) if !plan.court.open => {
            match app.gate.sign_in(plan, user, secret, address).await? {
                Ok(signed_in) => {
                    ends = signed_in.ends;
                    signed_in.caller(address, false)
                }
                Err(wrong) => {
                    let message = app.gate.slow_down(user, secret, address, wrong).await?;
                    return Err(ApiError::new(Code::Unauthorized, message));
                }
            }
        }
        _ => Caller { who: Who::Anonymous, by: None, token: None, address, node: false },
    };
    let mut access = Vec::new();
    for (repository, wanted) in &scopes.repositories {
        let may = |action: &Action| plan.may(&caller, *action, repository);
        let granted: Vec<Action> = wanted.iter().copied().filter(|action| may(action)).collect();
        if !granted.is_empty() {
            access.push(TokenAccess::repository(repository, &granted));
        }
    }
    if scopes.catalog && (plan.court.open || caller.who != Who::Anonymous) {
        access.push(TokenAccess::catalog());
    }
    let Some(signer) = app.gate.signer() else {
        return Err(ApiError::new(Code::Internal, "tokens cannot be signed here"));
    };
    let at = now() / 1000;
    let (token, life) =
        signer.issue(&caller.who, caller.by.clone(), ends, access, at, fresh_number());
    let issued_at = jiff::Timestamp::from_second(at).unwrap_or_default().to_string();
    let body = serde_json::json!({
        "token": token, "access_token": token, "expires_in": life, "issued_at": issued_at,
        // Token exchange asks for these two.
        "token_type": "Bearer", "issued_token_type": "urn:ietf:params:oauth:token-type:access_token",
    });
    let mut response = body.to_string().into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    headers.insert(header::CACHE_CONTROL, HeaderValue::from_static("no-store"));
    Ok(response)
}

fn from_query(request: &Request) -> Result<TokenRequest, ApiError> {
    let mut asked = TokenRequest::default();
    for (name, value) in parameters(request.uri().query().unwrap_or_default()) {
        if name == "scope" {
            asked.scopes.push(value);
        }
    }
    asked.login = match brought(Head::of(request)) {
        PresentedLogin::Nothing => None,
        PresentedLogin::Basic(user, secret) => Some((user, secret)),
        PresentedLogin::Bearer(_) | PresentedLogin::Junk => {
            return Err(bad("`Authorization` is Basic here"));
        }
    };
    Ok(asked)
}

async fn from_form(app: &App, request: Request) -> Result<TokenRequest, ApiError> {
    let basic = request.headers().get(header::AUTHORIZATION).is_some();
    let mut asked = if basic { from_query(&request)? } else { TokenRequest::default() };
    let mut body = PacedBody::new(request.into_body(), &app.plan().limits);
    let mut form = Vec::new();
    while let Some(piece) = body.next().await.map_err(|error| bad(format!("the form: {error}")))? {
        if form.len() + piece.len() > FORM {
            return Err(bad("the form is too long").with_status(StatusCode::PAYLOAD_TOO_LARGE));
        }
        form.extend_from_slice(&piece);
    }
    let form = String::from_utf8(form).map_err(|_| bad("the form is not UTF-8"))?;
    let all = parameters(&form);
    let one = |name: &str| {
        all.iter().find(|(key, _)| key == name).map(|(_, value)| value.clone()).unwrap_or_default()
    };
    let secret = match one("grant_type").as_str() {
        "password" => one("password"),
        // Some clients keep one text without a user's name, and send it so.
        "refresh_token" => one("refresh_token"),
        "urn:ietf:params:oauth:grant-type:token-exchange" => {
            let kind = one("subject_token_type");
            let taken = ["jwt", "id_token", "access_token"]
                .map(|kind| format!("urn:ietf:params:oauth:token-type:{kind}"));
            if !taken.contains(&kind) {
                return Err(bad("`subject_token_type` is none that is taken: a JWT is"));
            }
            one("subject_token")
        }
        _ => {
            return Err(bad("`grant_type` is one of password, refresh_token and token exchange"));
        }
    };
    if secret.is_empty() {
        return Err(bad("the form holds no secret"));
    }
    if asked.login.is_none() {
        asked.login = Some((one("username"), secret));
    }
    asked.scopes.extend(all.into_iter().filter(|(key, _)| key == "scope").map(|(_, value)| value));
    Ok(asked)
}
