//! What does a request's path name? The end points of the Distribution Specification, "Endpoints".

use larder_core::digest::{Digest, DigestError};
use larder_core::name::{NameError, RepositoryName};
use larder_core::reference::Selector;
use larder_store::UploadId;

/// The resource that a path names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum EndPoint {
    /// `/v2/`
    Base,
    /// `/v2/_catalog`
    Catalog,
    /// `/v2/NAME/manifests/REFERENCE`
    Manifest(RepositoryName, Selector),
    /// `/v2/NAME/blobs/DIGEST`
    Blob(RepositoryName, Digest),
    /// `/v2/NAME/blobs/uploads/`
    Uploads(RepositoryName),
    /// `/v2/NAME/blobs/uploads/ID`
    Upload(RepositoryName, UploadId),
    /// `/v2/NAME/tags/list`
    Tags(RepositoryName),
    /// `/v2/NAME/referrers/DIGEST`
    Referrers(RepositoryName, Digest),
}

/// Why a path names nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PathError {
    /// No end point has this shape.
    #[error("there is nothing at this path")]
    Nowhere,
    /// The repository's name cannot exist.
    #[error("{0}")]
    Name(NameError),
    /// The digest cannot be read.
    #[error("{0}")]
    Digest(DigestError),
    /// Neither a tag nor a digest.
    #[error("{0}")]
    Reference(NameError),
    /// No upload has such a name.
    #[error("there is no such upload")]
    Upload,
}

impl EndPoint {
    /// The repository that it is about. None: about none.
    pub fn repository(&self) -> Option<&RepositoryName> {
        match self {
            Self::Base | Self::Catalog => None,
            Self::Manifest(name, _)
            | Self::Blob(name, _)
            | Self::Uploads(name)
            | Self::Upload(name, _)
            | Self::Tags(name)
            | Self::Referrers(name, _) => Some(name),
        }
    }

    /// What kind of resource it is, in a word for figures.
    pub fn resource(&self) -> &'static str {
        match self {
            Self::Base => "base",
            Self::Catalog => "catalog",
            Self::Manifest(..) => "manifest",
            Self::Blob(..) => "blob",
            Self::Uploads(_) | Self::Upload(..) => "upload",
            Self::Tags(_) => "tags",
            Self::Referrers(..) => "referrers",
        }
    }

    /// Reads a path as it came, still percent-encoded. Only an encoded colon is decoded, and only
    /// in its last part: names have no other character that needs encoding, so every other `%` is
    /// refused and nothing is ever decoded twice.
    pub fn read(path: &str) -> Result<Self, PathError> {
        let rest = match path.strip_prefix("/v2") {
            Some("" | "/") => return Ok(Self::Base),
            Some("/_catalog") => return Ok(Self::Catalog),
            Some(rest) => rest.strip_prefix('/').ok_or(PathError::Nowhere)?,
            None => return Err(PathError::Nowhere),
        };
        let name = |text: &str| text.parse::<RepositoryName>().map_err(PathError::Name);
        if let Some(repository) =
            rest.strip_suffix("/blobs/uploads/").or(rest.strip_suffix("/blobs/uploads"))
        {
            return Ok(Self::Uploads(name(repository)?));
        }
        if let Some(repository) = rest.strip_suffix("/tags/list") {
            return Ok(Self::Tags(name(repository)?));
        }
        let (before, last) = rest.rsplit_once('/').ok_or(PathError::Nowhere)?;
        let last = last.replace("%3A", ":").replace("%3a", ":");
        if let Some(repository) = before.strip_suffix("/manifests") {
            let repository = name(repository)?;
            let selector = if last.contains(':') {
                Selector::Digest(last.parse().map_err(PathError::Digest)?)
            } else {
                Selector::Tag(last.parse().map_err(PathError::Reference)?)
            };
            return Ok(Self::Manifest(repository, selector));
        }
        if let Some(repository) = before.strip_suffix("/blobs/uploads") {
            let id = last.parse().map_err(|_| PathError::Upload)?;
            return Ok(Self::Upload(name(repository)?, id));
        }
        if let Some(repository) = before.strip_suffix("/referrers") {
            return Ok(Self::Referrers(
                name(repository)?,
                last.parse().map_err(PathError::Digest)?,
            ));
        }
        if let Some(repository) = before.strip_suffix("/blobs") {
            return Ok(Self::Blob(name(repository)?, last.parse().map_err(PathError::Digest)?));
        }
        Err(PathError::Nowhere)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_name_what_the_standard_says() {
        let digest = Digest::of(b"x");
        let name = |text: &str| text.parse::<RepositoryName>().unwrap();
        let read = |path: &str| EndPoint::read(path);
        assert_eq!(read("/v2/"), Ok(EndPoint::Base));
        assert_eq!(read("/v2"), Ok(EndPoint::Base));
        assert_eq!(read("/v2/_catalog"), Ok(EndPoint::Catalog));
        let manifest = EndPoint::Manifest(name("a/manifests"), "v1".parse().unwrap());
        assert_eq!(read("/v2/a/manifests/manifests/v1"), Ok(manifest));
        let encoded = digest.as_str().replace(':', "%3A");
        assert_eq!(
            read(&format!("/v2/a/blobs/{encoded}")),
            Ok(EndPoint::Blob(name("a"), digest.clone()))
        );
        assert_eq!(
            read(&format!("/v2/a/referrers/{digest}")),
            Ok(EndPoint::Referrers(name("a"), digest))
        );
        assert_eq!(read("/v2/a/b/blobs/uploads/"), Ok(EndPoint::Uploads(name("a/b"))));
        assert_eq!(read("/v2/a/b/blobs/uploads"), Ok(EndPoint::Uploads(name("a/b"))));
        let id = UploadId::fresh();
        assert_eq!(read(&format!("/v2/a/blobs/uploads/{id}")), Ok(EndPoint::Upload(name("a"), id)));
        assert_eq!(read("/v2/a/tags/list"), Ok(EndPoint::Tags(name("a"))));
    }

    #[test]
    fn tricks_name_nothing() {
        for path in [
            "/",
            "/v1/",
            "/v2x",
            "/v2/a",
            "/v2/a/manifests/",
            "/v2//manifests/x",
            "/v2/../manifests/x",
            "/v2/a/../b/manifests/x",
            "/v2/%2e%2e/manifests/x",
            "/v2/a/blobs/sha256:..%2f..",
            "/v2/a/blobs/x",
            "/v2/a/referrers/latest",
            "/v2/A/manifests/x",
            "/v2/a/manifests/x%00",
            "/v2/a/blobs/uploads/..",
            "/v2/a%252fb/tags/list",
        ] {
            assert!(EndPoint::read(path).is_err(), "{path}");
        }
    }

    proptest::proptest! {
        #[test]
        fn no_path_panics(path in "(/v2/)?(\\PC|[a-z/%:.]|/blobs/|/uploads/|/manifests/|sha256:){0,30}") {
            let _ = EndPoint::read(&path);
        }
    }
}
