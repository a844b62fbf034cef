//! What refers to a manifest: the referrers end point, and the tag that stands in for it where a
//! registry has none (Distribution Specification, "Listing Referrers", "Referrers Tag Schema").

use larder_core::companion::list_tag;
use larder_core::digest::Digest;
use larder_core::document::{Descriptor, Document, MANIFEST_LIMIT, media_type};
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use reqwest::header::{ACCEPT, CONTENT_TYPE, HeaderValue, LINK};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::error::ClientError;
use crate::request::{Call, Registry};
use crate::sign_in::TokenScope;
use crate::tags::next_page;
use crate::transport::read_bounded;

/// The most pages that are asked for.
const PAGE_COUNT_LIMIT: usize = 1000;
/// The most referrers that one manifest may have before we stop listing.
const COUNT_LIMIT: usize = 10_000;

impl Registry {
    /// The descriptors of what refers to a manifest. Empty when nothing does.
    pub async fn referrers(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
    ) -> Result<Vec<Descriptor>, ClientError> {
        let mut url = self.repository_url(repository, &format!("referrers/{subject}"));
        let mut found = Vec::new();
        for page in 0..PAGE_COUNT_LIMIT {
            let scope = TokenScope::Pull(repository.to_string());
            let action = format!("what refers to images of {repository}");
            let mut call = Call::new(Method::GET, url.clone(), scope, action);
            call.headers.insert(ACCEPT, HeaderValue::from_static(media_type::INDEX));
            let answer = self.send(&call).await?;
            match answer.status() {
                status if status.is_success() => {}
                // It has no such end point: the list lies under a tag.
                StatusCode::NOT_FOUND
                | StatusCode::METHOD_NOT_ALLOWED
                | StatusCode::BAD_REQUEST
                | StatusCode::NOT_IMPLEMENTED
                    if page == 0 =>
                {
                    let list = self.list_under_tag(repository, subject).await?;
                    return Ok(list.map_or_else(Vec::new, |list| list.children().to_vec()));
                }
                _ => return Err(self.transport().refusal(answer, &call.action).await),
            }
            let header = |name| answer.headers().get(name).and_then(|text| text.to_str().ok());
            let next = header(LINK).and_then(next_page).and_then(|next| url.join(next).ok());
            let announced = header(CONTENT_TYPE).map(str::to_owned);
            let body = read_bounded(answer, MANIFEST_LIMIT)
                .await
                .map_err(|cause| self.transport().protocol(cause))?;
            let index = Document::read(body, announced.as_deref()).map_err(|error| {
                self.transport().protocol(format!("its list of referrers: {error}"))
            })?;
            found.extend_from_slice(index.children());
            if found.len() > COUNT_LIMIT {
                let cause = format!("more than {COUNT_LIMIT} things refer to {subject}");
                return Err(self.transport().protocol(cause));
            }
            match next {
                Some(next)
                    if next != url && self.transport().options.endpoint.is_same_host(&next) =>
                {
                    url = next;
                }
                _ => return Ok(found),
            }
        }
        let cause = format!("its list of referrers has more than {PAGE_COUNT_LIMIT} pages");
        Err(self.transport().protocol(cause))
    }

    /// The list under the tag that stands in for the end point. None: there is none, or something
    /// else lies there.
    async fn list_under_tag(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
    ) -> Result<Option<Document>, ClientError> {
        let found = self.manifest_if_any(repository, &Selector::Tag(list_tag(subject))).await?;
        let list = found.map(|(_, document)| document);
        Ok(list.filter(|list| media_type::is_index(&list.media_type)))
    }

    /// Adds a pushed manifest to the list of those that refer to its subject, for a registry that
    /// keeps none itself.
    pub(crate) async fn list_referrer(
        &self,
        repository: &RepositoryName,
        subject: &Digest,
        document: &Document,
    ) -> Result<(), ClientError> {
        // Two of our own pushes must not overwrite each other's list.
        let _turn = self.inner.listing.lock().await;
        let digest = Digest::of(&document.bytes);
        let mut entries: Vec<Value> = match self.list_under_tag(repository, subject).await? {
            Some(list) if list.children().iter().any(|known| known.digest == digest) => {
                return Ok(());
            }
            Some(list) => serde_json::from_slice::<Value>(&list.bytes)
                .ok()
                .and_then(|mut list| match list.get_mut("manifests").map(Value::take) {
                    Some(Value::Array(entries)) => Some(entries),
                    _ => None,
                })
                .unwrap_or_default(),
            None => Vec::new(),
        };
        let mut entry = json!({
            "mediaType": document.media_type, "digest": digest, "size": document.bytes.len(),
        });
        if let Some(kind) = document.artifact_type() {
            entry["artifactType"] = kind.into();
        }
        if !document.annotations.is_empty() {
            entry["annotations"] = json!(document.annotations);
        }
        entries.push(entry);
        let list = json!({
            "schemaVersion": 2, "mediaType": media_type::INDEX, "manifests": entries,
        });
        let list = Document::read(list.to_string().into(), None).map_err(|error| {
            self.transport().protocol(format!("its list of referrers: {error}"))
        })?;
        self.put_manifest(repository, &Selector::Tag(list_tag(subject)), &list).await.map(drop)
    }
}
