//! Lists of tags (Distribution Specification, "Listing tags").

use axum::http::request::Parts;
use axum::http::{HeaderValue, header};
use axum::response::{IntoResponse as _, Response};
use larder_core::name::{RepositoryName, Tag};

use crate::app::App;
use crate::cached;
use crate::error::{ApiError, Code};
use crate::headers::{page_size, query};

pub(crate) async fn list(
    app: &App,
    repository: &RepositoryName,
    parts: &Parts,
) -> Result<Response, ApiError> {
    let count = page_size(parts)?;
    // A text that is no tag cannot be in the list; nothing comes after what does not exist.
    let last = query(parts, "last").and_then(|last| last.parse::<Tag>().ok());
    let (found, warning) = match cached::tags(app, repository).await? {
        Some(Ok(all)) => {
            let after = last.as_ref().map_or(0, |last| all.partition_point(|tag| tag <= last));
            (Some(all[after..].iter().take(count + 1).cloned().collect()), None)
        }
        other => {
            let found = app.store.tags(repository, last.as_ref(), count + 1).await?;
            (found, other.and_then(Result::err))
        }
    };
    let Some(mut tags): Option<Vec<Tag>> = found else {
        return Err(ApiError::new(
            Code::NameUnknown,
            format!("there is no repository {repository}"),
        ));
    };
    let more = tags.len() > count;
    tags.truncate(count);
    let body = serde_json::json!({ "name": repository.as_str(), "tags": tags }).to_string();
    let mut response = body.into_response();
    let headers = response.headers_mut();
    headers.insert(header::CONTENT_TYPE, HeaderValue::from_static("application/json"));
    cached::warn(headers, warning.as_ref());
    if let (true, Some(last)) = (more, tags.last()) {
        let link = format!("</v2/{repository}/tags/list?n={count}&last={last}>; rel=\"next\"");
        if let Ok(link) = HeaderValue::from_str(&link) {
            headers.insert(header::LINK, link);
        }
    }
    Ok(response)
}
