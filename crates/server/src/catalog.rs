//! The list of repositories. The Distribution Specification reserves `_catalog` for it; its form is the
//! one that clients know: names in order, `n`, `last`, Link.

use axum::http::request::Parts;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse as _, Response};
use larder_core::name::RepositoryName;

use crate::access::Caller;
use crate::app::App;
use crate::error::ApiError;
use crate::headers::{insert, page_size, query};
use crate::plan::Plan;

/// Names that are looked at together.
const PAGE: usize = 1000;

pub(crate) async fn list(
    app: &App,
    plan: &Plan,
    caller: &Caller,
    parts: &Parts,
) -> Result<Response, ApiError> {
    let count = page_size(parts)?;
    // A text that is no name sorts among them all the same; only one that is can have been in a list.
    let last = query(parts, "last").and_then(|last| last.parse::<RepositoryName>().ok());
    let mut found = Vec::new();
    let mut after = last;
    // Pages of what there is, until there is a page of what this client may see.
    while found.len() <= count {
        let page = app.store.repositories(after.as_ref(), PAGE).await?;
        after = page.last().cloned();
        let whole = page.len() == PAGE;
        found.extend(page.into_iter().filter(|name| plan.sees(caller, name)));
        if !whole {
            break;
        }
    }
    let more = found.len() > count;
    found.truncate(count);
    let mut response = serde_json::json!({ "repositories": found }).to_string().into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    if let (true, Some(last)) = (more, found.last()) {
        insert(
            headers,
            header::LINK,
            &format!("</v2/_catalog?n={count}&last={last}>; rel=\"next\""),
        );
    }
    Ok(response)
}
