//! What does a request do, and to what? A method at an end point of the Distribution Specification, "Endpoints", read once:
//! what it needs, what the record says of it and who answers it follow from it.

use axum::http::{HeaderValue, Method, header};
use larder_core::access::Action;
use larder_core::digest::Digest;
use larder_core::name::RepositoryName;
use larder_core::reference::Selector;
use larder_store::RecordKind;

use crate::access::reference;
use crate::error::{ApiError, Code};
use crate::path::EndPoint;

/// A method that is answered at its target.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Operation<'t> {
    pub target: &'t EndPoint,
    pub verb: Verb,
}

/// What is done with a target.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Verb {
    /// GET, and HEAD, which is answered without a body.
    Read,
    Post,
    Patch,
    Put,
    Delete,
}

/// The image, or the part of one, that a request pulls.
#[derive(Clone, Copy)]
pub(crate) enum Pull<'p> {
    /// A manifest, by tag or digest.
    Manifest(&'p RepositoryName, &'p Selector),
    /// A blob, which belongs to no image in particular.
    Part(&'p RepositoryName),
}

impl<'t> Operation<'t> {
    /// The operation of a method.
    ///
    /// # Errors
    /// The target does not answer the method: 405, with those that it answers (RFC 9110, section 15.5.6).
    pub fn of(target: &'t EndPoint, method: &Method) -> Result<Self, ApiError> {
        let verb = match *method {
            Method::GET | Method::HEAD => Some(Verb::Read),
            Method::POST => Some(Verb::Post),
            Method::PATCH => Some(Verb::Patch),
            Method::PUT => Some(Verb::Put),
            Method::DELETE => Some(Verb::Delete),
            _ => None,
        };
        let (verbs, methods): (&[Verb], _) = match target {
            EndPoint::Base | EndPoint::Catalog | EndPoint::Tags(_) | EndPoint::Referrers(..) => {
                (&[Verb::Read], "GET, HEAD")
            }
            EndPoint::Manifest(..) => {
                (&[Verb::Read, Verb::Put, Verb::Delete], "GET, HEAD, PUT, DELETE")
            }
            EndPoint::Blob(..) => (&[Verb::Read, Verb::Delete], "GET, HEAD, DELETE"),
            EndPoint::Uploads(_) => (&[Verb::Post], "POST"),
            EndPoint::Upload(..) => {
                (&[Verb::Read, Verb::Patch, Verb::Put, Verb::Delete], "GET, PATCH, PUT, DELETE")
            }
        };
        match verb.filter(|verb| verbs.contains(verb)) {
            Some(verb) => Ok(Self { target, verb }),
            None => {
                let message = format!("{method} is not answered there; {methods} are");
                let error = ApiError::new(Code::Unsupported, message);
                Err(error.with_header(header::ALLOW, HeaderValue::from_static(methods)))
            }
        }
    }

    /// What must be granted, and on which repository. None: nothing in particular.
    pub fn needs(self) -> Option<(Action, &'t RepositoryName)> {
        let action = match (self.target, self.verb) {
            // A client that may push may look at, and give up, what it has begun.
            (EndPoint::Uploads(_) | EndPoint::Upload(..), _) => Action::Push,
            (_, Verb::Read) => Action::Pull,
            (_, Verb::Delete) => Action::Delete,
            (_, Verb::Post | Verb::Patch | Verb::Put) => Action::Push,
        };
        self.target.repository().map(|repository| (action, repository))
    }

    /// The content that it names by its digest, and whether that is a manifest. None: it names none.
    pub fn content(self) -> Option<(&'t Digest, bool)> {
        match self.target {
            EndPoint::Manifest(_, Selector::Digest(digest)) => Some((digest, true)),
            EndPoint::Blob(_, digest) => Some((digest, false)),
            _ => None,
        }
    }

    /// What it pulls. None: it does not.
    pub fn pull(self) -> Option<Pull<'t>> {
        match (self.target, self.verb) {
            (EndPoint::Manifest(repository, selector), Verb::Read) => {
                Some(Pull::Manifest(repository, selector))
            }
            (EndPoint::Blob(repository, _), Verb::Read) => Some(Pull::Part(repository)),
            _ => None,
        }
    }

    /// What the record says of it once it is done. None: nothing, or whoever answers it says so.
    pub fn recorded(self) -> Option<RecordKind> {
        match (self.target, self.verb) {
            (EndPoint::Manifest(..), Verb::Put) => Some(RecordKind::Push),
            (EndPoint::Manifest(..) | EndPoint::Blob(..), Verb::Delete) => Some(RecordKind::Delete),
            _ => None,
        }
    }
}

/// What a target is called in the record. None: it is of no repository.
pub(crate) fn about(target: &EndPoint) -> Option<String> {
    match target {
        EndPoint::Base | EndPoint::Catalog => None,
        EndPoint::Manifest(repository, selector) => Some(reference(repository, selector)),
        EndPoint::Blob(repository, digest) | EndPoint::Referrers(repository, digest) => {
            Some(format!("{repository}@{digest}"))
        }
        EndPoint::Tags(repository)
        | EndPoint::Uploads(repository)
        | EndPoint::Upload(repository, _) => Some(repository.to_string()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_end_point_answers_its_methods_and_needs_what_they_do() {
        let digest = Digest::of(b"x");
        let id = larder_store::UploadId::fresh();
        let cases = [
            ("/v2/".to_owned(), [Some(None), None, None, None, None]),
            ("/v2/_catalog".to_owned(), [Some(None), None, None, None, None]),
            ("/v2/a/tags/list".to_owned(), [Some(Some(Action::Pull)), None, None, None, None]),
            (
                format!("/v2/a/referrers/{digest}"),
                [Some(Some(Action::Pull)), None, None, None, None],
            ),
            (
                "/v2/a/manifests/v1".to_owned(),
                [
                    Some(Some(Action::Pull)),
                    None,
                    None,
                    Some(Some(Action::Push)),
                    Some(Some(Action::Delete)),
                ],
            ),
            (
                format!("/v2/a/blobs/{digest}"),
                [Some(Some(Action::Pull)), None, None, None, Some(Some(Action::Delete))],
            ),
            ("/v2/a/blobs/uploads/".to_owned(), [None, Some(Some(Action::Push)), None, None, None]),
            (
                format!("/v2/a/blobs/uploads/{id}"),
                [
                    Some(Some(Action::Push)),
                    None,
                    Some(Some(Action::Push)),
                    Some(Some(Action::Push)),
                    Some(Some(Action::Push)),
                ],
            ),
        ];
        let methods = [Method::GET, Method::POST, Method::PATCH, Method::PUT, Method::DELETE];
        for (path, answers) in cases {
            let target = EndPoint::read(&path).unwrap();
            for (method, expected) in methods.iter().zip(answers) {
                let operation = Operation::of(&target, method).ok();
                let needs = operation.map(|one| one.needs().map(|(action, _)| action));
                assert_eq!(needs, expected, "{method} {path}");
            }
            assert!(Operation::of(&target, &Method::TRACE).is_err(), "{path}");
            assert_eq!(
                Operation::of(&target, &Method::HEAD).is_ok(),
                Operation::of(&target, &Method::GET).is_ok(),
                "{path}"
            );
        }
    }
}
