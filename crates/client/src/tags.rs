//! Which tags does a repository have? Listing, page by page (Distribution Specification,
//! "Listing tags").

use larder_core::name::{RepositoryName, Tag};
use reqwest::header::LINK;
use reqwest::{Method, StatusCode};
use serde::Deserialize;

use crate::error::{ClientError, Wanted};
use crate::request::{Call, Registry};
use crate::sign_in::Scope;
use crate::transport::read_bounded;

/// The largest page that is read, in bytes.
const PAGE_LIMIT: usize = 8 * 1024 * 1024;
/// The most tags that one repository may have before we stop listing.
const TAG_COUNT_LIMIT: usize = 500_000;
/// The most pages that are asked for.
const PAGE_COUNT_LIMIT: usize = 10_000;

#[derive(Deserialize)]
struct Page {
    #[serde(default)]
    tags: Option<Vec<String>>,
}

impl Registry {
    /// All tags of a repository, in the registry's order. Names that the standard does not allow
    /// are left out.
    pub async fn tags(&self, repository: &RepositoryName) -> Result<Vec<Tag>, ClientError> {
        let mut url = self.repository_url(repository, "tags/list");
        let mut tags = Vec::new();
        let scope = Scope::Pull(repository.to_string());
        for _ in 0..PAGE_COUNT_LIMIT {
            let call = Call::new(
                Method::GET,
                url.clone(),
                scope.clone(),
                format!("the tags of {repository}"),
            );
            let answer = self.send(&call).await?;
            match answer.status() {
                status if status.is_success() => {}
                StatusCode::NOT_FOUND => {
                    let wanted = Wanted::Repository(repository.to_string());
                    return Err(ClientError::NotFound { host: self.host().to_owned(), wanted });
                }
                _ => return Err(self.transport().refusal(answer, &call.action).await),
            }
            let link = answer.headers().get(LINK).and_then(|link| link.to_str().ok());
            let next = link.and_then(next_page).and_then(|next| url.join(next).ok());
            let body = read_bounded(answer, PAGE_LIMIT)
                .await
                .map_err(|cause| self.transport().protocol(cause))?;
            let page: Page = serde_json::from_slice(&body)
                .map_err(|_| self.transport().protocol("its list of tags is not readable"))?;
            tags.extend(page.tags.unwrap_or_default().iter().filter_map(|tag| tag.parse().ok()));
            if tags.len() > TAG_COUNT_LIMIT {
                return Err(self
                    .transport()
                    .protocol(format!("{repository} has more than {TAG_COUNT_LIMIT} tags")));
            }
            match next {
                Some(next)
                    if next != url && self.transport().options.endpoint.is_same_host(&next) =>
                {
                    url = next;
                }
                _ => return Ok(tags),
            }
        }
        Err(self
            .transport()
            .protocol(format!("its list of tags has more than {PAGE_COUNT_LIMIT} pages")))
    }
}

/// The target of a `Link: <…>; rel="next"` (RFC 8288).
pub(crate) fn next_page(link: &str) -> Option<&str> {
    let (target, parameters) = link.trim().strip_prefix('<')?.split_once('>')?;
    parameters.to_ascii_lowercase().contains("next").then_some(target)
}

#[cfg(test)]
mod tests {
    use super::next_page;

    #[test]
    fn the_next_page_is_found() {
        assert_eq!(
            next_page(r#"</v2/a/tags/list?n=1&last=x>; rel="next""#),
            Some("/v2/a/tags/list?n=1&last=x")
        );
        assert_eq!(next_page(r"<x>; rel=next"), Some("x"));
        assert_eq!(next_page("x"), None);
        assert_eq!(next_page(r#"<x>; rel="prev""#), None);
    }
}
