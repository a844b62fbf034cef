//! Which tags does a repository have, and which repositories a registry? Listing, page by page
//! (Distribution Specification, "Listing tags").

use larder_core::name::{RepositoryName, Tag};
use reqwest::header::LINK;
use reqwest::{Method, StatusCode, Url};
use serde::Deserialize;

use crate::error::{ClientError, NotThere};
use crate::request::{Call, Registry};
use crate::sign_in::TokenScope;
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
    #[serde(default)]
    repositories: Option<Vec<String>>,
}

impl Registry {
    /// All tags of a repository, in the registry's order. Names that the standard does not allow
    /// are left out.
    pub async fn tags(&self, repository: &RepositoryName) -> Result<Vec<Tag>, ClientError> {
        let mut url = self.repository_url(repository, "tags/list");
        let mut tags = Vec::new();
        let scope = TokenScope::Pull(repository.to_string());
        for _ in 0..PAGE_COUNT_LIMIT {
            let call = Call::new(
                Method::GET,
                url.clone(),
                scope.clone(),
                format!("the tags of {repository}"),
            );
            let Some((page, next)) = self.page(&call).await? else {
                let wanted = NotThere::Repository(repository.to_string());
                return Err(ClientError::NotFound { host: self.host().to_owned(), wanted });
            };
            tags.extend(page.tags.unwrap_or_default().iter().filter_map(|tag| tag.parse().ok()));
            if tags.len() > TAG_COUNT_LIMIT {
                return Err(self
                    .transport()
                    .protocol(format!("{repository} has more than {TAG_COUNT_LIMIT} tags")));
            }
            match next {
                Some(next) => url = next,
                None => return Ok(tags),
            }
        }
        Err(self
            .transport()
            .protocol(format!("its list of tags has more than {PAGE_COUNT_LIMIT} pages")))
    }

    /// The first repositories of the registry, `most` at least where there are so many. None: it has
    /// no such list; the Distribution Specification reserves `_catalog` for one without asking for it.
    pub async fn repositories(
        &self,
        most: usize,
    ) -> Result<Option<Vec<RepositoryName>>, ClientError> {
        let mut url = self.transport().options.endpoint.url("_catalog");
        let mut names = Vec::new();
        for _ in 0..PAGE_COUNT_LIMIT {
            let action = "the list of repositories".to_owned();
            let call = Call::new(Method::GET, url.clone(), TokenScope::Catalog, action);
            let Some((page, next)) = self.page(&call).await? else { return Ok(None) };
            let listed = page.repositories.unwrap_or_default();
            names.extend(listed.iter().filter_map(|name| name.parse().ok()));
            match next {
                Some(next) if names.len() < most => url = next,
                _ => break,
            }
        }
        Ok(Some(names))
    }

    /// One page of a list, and where the next one is. None: there is no such list.
    async fn page(&self, call: &Call) -> Result<Option<(Page, Option<Url>)>, ClientError> {
        let answer = self.send(call).await?;
        match answer.status() {
            status if status.is_success() => {}
            StatusCode::NOT_FOUND => return Ok(None),
            _ => return Err(self.transport().refusal(answer, &call.action).await),
        }
        let link = answer.headers().get(LINK).and_then(|link| link.to_str().ok());
        let next = link.and_then(next_page).and_then(|next| call.url.join(next).ok());
        let next = next.filter(|next| {
            *next != call.url && self.transport().options.endpoint.is_same_host(next)
        });
        let body = read_bounded(answer, PAGE_LIMIT)
            .await
            .map_err(|cause| self.transport().protocol(cause))?;
        let page = serde_json::from_slice(&body).map_err(|_| {
            self.transport().protocol(format!("its answer to {} is not readable", call.action))
        })?;
        Ok(Some((page, next)))
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
