//! Uploads of several parts that were never completed: their parts take room, and no listing of objects shows them.
//!
//! A process that was killed leaves them, and so does an answer that was lost. The library has no call for them, so they are
//! asked for by signed addresses (S3 API, "ListMultipartUploads", "AbortMultipartUpload").

use std::time::Duration;

use object_store::aws::AmazonS3;
use object_store::path::Path;
use object_store::signer::{SignedUrlOptions, Signer as _};
use quick_xml::events::Event;
use reqwest::Method;

use super::bucket::Bucket;
use crate::error::StoreError;

/// An upload that was begun and not completed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct BegunUpload {
    /// Where its object would lie, from the bucket's beginning.
    key: String,
    id: String,
    /// How long ago it was begun.
    age: Duration,
}

/// How long a signed address holds, and an answer may take.
const TIME: Duration = Duration::from_secs(60);
/// The bytes of an answer that are read.
const MOST: usize = 8 * 1024 * 1024;
/// Pages that are read in one go.
const PAGES: usize = 100;

fn failed(doing: &'static str) -> impl FnOnce(String) -> StoreError {
    move |cause| StoreError::Objects { doing, cause }
}

impl Bucket {
    /// The uploads below our prefix that were begun this long ago and are not completed, with their places.
    pub async fn begun(&self, age: Duration) -> Result<Vec<(String, BegunUpload)>, StoreError> {
        const DOING: &str = "list unfinished uploads";
        let (mut found, mut after) = (Vec::new(), None);
        for _ in 0..PAGES {
            let mut query = vec![("uploads".to_owned(), String::new())];
            if !self.prefix().is_empty() {
                query.push(("prefix".to_owned(), self.prefix().to_owned()));
            }
            if let Some((key, id)) = after.take() {
                query.push(("key-marker".to_owned(), key));
                query.push(("upload-id-marker".to_owned(), id));
            }
            let text = self.ask(Method::GET, &Path::default(), query, DOING).await?;
            let page = read(&text).map_err(failed(DOING))?;
            found.extend(page.uploads);
            match page.next {
                Some(next) => after = Some(next),
                None => break,
            }
        }
        let places = found.into_iter().filter(|upload| upload.age >= age).filter_map(|upload| {
            let place = upload.key.strip_prefix(self.prefix())?.to_owned();
            Some((place, upload))
        });
        Ok(places.collect())
    }

    /// Gives one up; its parts are removed.
    pub async fn give_up(&self, upload: &BegunUpload) -> Result<(), StoreError> {
        const DOING: &str = "give up an unfinished upload";
        let path = Path::parse(&upload.key).map_err(|error| failed(DOING)(error.to_string()))?;
        let query = vec![("uploadId".to_owned(), upload.id.clone())];
        self.ask(Method::DELETE, &path, query, DOING).await.map(drop)
    }

    async fn ask(
        &self,
        method: Method,
        path: &Path,
        query: Vec<(String, String)>,
        doing: &'static str,
    ) -> Result<String, StoreError> {
        let (client, signer): (_, &AmazonS3) = self.asker();
        let options = SignedUrlOptions::new().with_query(query);
        let url = signer.signed_url_opts(method.clone(), path, TIME, &options).await;
        let url = url.map_err(|error| failed(doing)(super::told::told(&error)))?;
        let answer = client.request(method, url.as_str()).timeout(TIME).send().await;
        // Its text would have the signed address.
        let mut answer = answer.map_err(|error| failed(doing)(error.without_url().to_string()))?;
        let status = answer.status();
        let mut text = Vec::new();
        while let Some(piece) =
            answer.chunk().await.map_err(|error| failed(doing)(error.without_url().to_string()))?
        {
            if text.len() + piece.len() > MOST {
                return Err(failed(doing)("its answer is too long".to_owned()));
            }
            text.extend_from_slice(&piece);
        }
        let text = String::from_utf8_lossy(&text).into_owned();
        // Somebody else was quicker.
        if status.is_success() || (doing.starts_with("give") && status.as_u16() == 404) {
            return Ok(text);
        }
        Err(failed(doing)(super::told::told_of(&format!("Server returned {status}: {text}"))))
    }
}

/// One page of unfinished uploads.
struct Page {
    uploads: Vec<BegunUpload>,
    /// Where the next one begins. None: this was the last.
    next: Option<(String, String)>,
}

/// Reads a page. What has no time that can be read was begun just now.
fn read(text: &str) -> Result<Page, String> {
    let mut reader = quick_xml::Reader::from_str(text);
    let (mut path, mut said) = (Vec::<String>::new(), String::new());
    let mut page = Page { uploads: Vec::new(), next: None };
    let (mut truncated, mut marker) = (false, (String::new(), String::new()));
    let mut upload = (String::new(), String::new(), Duration::ZERO);
    loop {
        match reader.read_event().map_err(|error| error.to_string())? {
            Event::Eof => break,
            Event::Start(start) => {
                path.push(String::from_utf8_lossy(start.local_name().as_ref()).into_owned());
                said.clear();
            }
            Event::Text(text) => said.push_str(&text.decode().map_err(|error| error.to_string())?),
            Event::GeneralRef(name) => {
                let name = name.decode().map_err(|error| error.to_string())?;
                let character = quick_xml::escape::resolve_predefined_entity(&name);
                said.push_str(character.ok_or("it has an unknown entity")?);
            }
            Event::End(_) => {
                let names: Vec<&str> = path.iter().map(String::as_str).collect();
                match names[..] {
                    [_, "IsTruncated"] => truncated = said.trim() == "true",
                    [_, "NextKeyMarker"] => marker.0 = std::mem::take(&mut said),
                    [_, "NextUploadIdMarker"] => marker.1 = std::mem::take(&mut said),
                    [_, "Upload", "Key"] => upload.0 = std::mem::take(&mut said),
                    [_, "Upload", "UploadId"] => upload.1 = std::mem::take(&mut said),
                    [_, "Upload", "Initiated"] => upload.2 = age_of(said.trim()),
                    [_, "Upload"] => {
                        let (key, id, age) = std::mem::take(&mut upload);
                        page.uploads.push(BegunUpload { key, id, age });
                    }
                    _ => {}
                }
                path.pop();
                said.clear();
            }
            _ => {}
        }
    }
    page.next = (truncated && !marker.0.is_empty()).then_some(marker);
    Ok(page)
}

fn age_of(text: &str) -> Duration {
    let begun = text.parse::<jiff::Timestamp>().ok();
    let age = begun.map(|begun| jiff::Timestamp::now().duration_since(begun));
    age.and_then(|age| Duration::try_from(age).ok()).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pages_are_read() {
        let text = "<?xml version=\"1.0\"?><ListMultipartUploadsResult xmlns=\"http://s3.example/\"><IsTruncated>true</IsTruncated><NextKeyMarker>b&amp;c</NextKeyMarker><NextUploadIdMarker>2</NextUploadIdMarker><Upload><Key>a&lt;b</Key><UploadId>1</UploadId><Initiated>2020-01-01T00:00:00.000Z</Initiated></Upload><Upload><Key>b</Key><UploadId>2</UploadId><Initiated>soon</Initiated></Upload></ListMultipartUploadsResult>";
        let page = read(text).unwrap();
        assert_eq!(page.next, Some(("b&c".into(), "2".into())));
        let names: Vec<(&str, &str)> =
            page.uploads.iter().map(|one| (&*one.key, &*one.id)).collect();
        assert_eq!(names, [("a<b", "1"), ("b", "2")]);
        assert!(page.uploads[0].age > Duration::from_secs(86_400 * 365));
        assert_eq!(page.uploads[1].age, Duration::ZERO);
        assert!(read("<a><b></a>").is_err());
        assert!(read("").unwrap().uploads.is_empty());
    }
}
