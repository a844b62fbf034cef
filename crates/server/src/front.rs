//! What no request may be, from any client: one that names no host or two, one that signs in twice, and, where
//! everybody may do everything, one that a browser sends for somebody else's page.

use axum::http::uri::Authority;
use axum::http::{HeaderMap, Request, StatusCode, Version, header};
use larder_core::name::Host;

use crate::error::{ApiError, Code};
use crate::limits::Unclear;
use crate::plan::Plan;

fn bad(message: &str) -> ApiError {
    ApiError::new(Code::Unsupported, message).with_status(StatusCode::BAD_REQUEST)
}

fn count(headers: &HeaderMap, name: header::HeaderName) -> usize {
    headers.get_all(name).iter().count()
}

/// Refuses what is no request to us.
pub(crate) fn check<B>(plan: &Plan, request: &Request<B>) -> Result<(), ApiError> {
    let headers = request.headers();
    // RFC 9112, section 3.2; in HTTP/2 the authority is a field of its own.
    let hosts = count(headers, header::HOST);
    let second = request.version() >= Version::HTTP_2;
    let named = request.uri().authority().is_some();
    if hosts > 1 || (hosts == 0 && !named && (second || request.version() == Version::HTTP_11)) {
        return Err(bad("a request names one `Host`"));
    }
    if count(headers, header::AUTHORIZATION) > 1 {
        return Err(bad("a request has one `Authorization`"));
    }
    if request.extensions().get::<Unclear>().is_some() {
        return Err(bad("`Forwarded` and `X-Forwarded-For` name two different clients"));
    }
    if !plan.court.open {
        return Ok(());
    }
    let host = headers.get(header::HOST).map(|host| host.to_str().unwrap_or_default());
    let host =
        host.or_else(|| request.uri().authority().map(Authority::as_str)).unwrap_or_default();
    if !host.is_empty() && !is_ours(plan, host) {
        let message = "`access = \"open\"` is for programs of this machine: they name it `localhost`, by its loopback address, or by the larder's own name";
        return Err(ApiError::new(Code::Denied, message));
    }
    if is_cross_site(headers, host) {
        let message = "`access = \"open\"` is for programs of this machine, and a browser sends this for another page";
        return Err(ApiError::new(Code::Denied, message));
    }
    Ok(())
}

/// Whether a name is one by which programs of this machine reach it. Any other one may be a stranger's, made to
/// resolve to a loopback address.
fn is_ours(plan: &Plan, host: &str) -> bool {
    let Ok(host) = host.parse::<Host>() else { return false };
    let own = || std::iter::once(plan.host()).chain(&plan.aliases);
    host.is_loopback() || own().any(|one| host.name() == one.name())
}

/// Whether a browser says that the request comes from somebody else's page (Fetch Metadata; RFC 6454).
fn is_cross_site(headers: &HeaderMap, host: &str) -> bool {
    let text = |name: &str| headers.get(name).map(|value| value.to_str().unwrap_or("?"));
    if matches!(text("sec-fetch-site"), Some(site) if site != "same-origin" && site != "none") {
        return true;
    }
    text("origin").is_some_and(|origin| {
        origin.split_once("://").is_none_or(|(_, from)| !from.eq_ignore_ascii_case(host))
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn checked(open: bool, fields: &[(&str, &str)]) -> Option<StatusCode> {
        let host: Host = "larder.emberfall.example:5080".parse().unwrap();
        let mut plan = Plan::open(host);
        plan.court.open = open;
        let mut request = Request::builder().uri("/v2/");
        for (name, value) in fields {
            request = request.header(*name, *value);
        }
        check(&plan, &request.body(()).unwrap())
            .err()
            .map(|error| axum::response::IntoResponse::into_response(error).status())
    }

    #[test]
    fn open_access_is_for_programs_of_this_machine() {
        for host in [
            "localhost:5080",
            "127.0.0.1:5080",
            "127.0.61.4",
            "[::1]:5080",
            "larder.emberfall.example:5080",
        ] {
            assert_eq!(checked(true, &[("host", host)]), None, "{host}");
        }
        for host in ["evil.example", "evil.example:5080", "127.0.0.1.evil.example", "10.0.0.1", "?"]
        {
            assert_eq!(checked(true, &[("host", host)]), Some(StatusCode::FORBIDDEN), "{host}");
            assert_eq!(checked(false, &[("host", host)]), None, "{host}");
        }
        let here = ("host", "127.0.0.1:5080");
        for (name, value, refused) in [
            ("origin", "http://127.0.0.1:5080", false),
            ("origin", "http://evil.example", true),
            ("origin", "null", true),
            ("sec-fetch-site", "cross-site", true),
            ("sec-fetch-site", "same-site", true),
            ("sec-fetch-site", "same-origin", false),
        ] {
            let status = checked(true, &[here, (name, value)]);
            assert_eq!(status.is_some(), refused, "{name}: {value}");
        }
    }

    #[test]
    fn one_host_and_one_authorization() {
        assert_eq!(checked(false, &[]), Some(StatusCode::BAD_REQUEST));
        assert_eq!(checked(false, &[("host", "a"), ("host", "a")]), Some(StatusCode::BAD_REQUEST));
        let twice =
            [("host", "a"), ("authorization", "Basic YTpi"), ("authorization", "Basic YTpi")];
        assert_eq!(checked(false, &twice), Some(StatusCode::BAD_REQUEST));
    }
}
