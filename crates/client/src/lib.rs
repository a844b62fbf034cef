//! The OCI distribution protocol as a client: sign-in, pull, push, mount, bounded retries.
//!
//! A [`Registry`] is one registry as one account sees it. It holds the connections, the tokens and
//! the limits; clones share them. Content is streamed and never held whole, but for manifests.
//!
//! * [`account`] - logins that end and are renewed
//! * [`challenge`] - `WWW-Authenticate`
//! * [`credentials`] - a name and a secret
//! * [`endpoint`] - addresses, and where answers may lead
//! * [`charts`] - a plain chart repository, asked as a registry is
//! * [`error`] - what can go wrong with a remote
//! * [`inner`] - which addresses an answer may lead to
//! * [`limits`] - rate limits that a registry reports
//! * [`probe`](mod@probe) - a pull step by step, as a node makes it
//! * [`pull`] - manifests and blobs
//! * [`push`] - blobs, mounts and manifests
//! * [`referrers`] - what refers to a manifest
//! * [`request`] - one request with its sign-in
//! * [`sign_in`] - Anonymous, Basic and Bearer
//! * [`tags`] - lists of tags and repositories
//! * [`transport`] - connections and retries
//! * [`trust`] - which certificates are trusted
//! * [`web`] - requests to what is no registry

mod account;
mod challenge;
mod charts;
mod credentials;
mod endpoint;
mod error;
mod inner;
mod limits;
mod probe;
mod pull;
mod push;
mod referrers;
mod request;
mod sign_in;
mod tags;
mod transport;
mod trust;
mod web;

/// How a probe names itself (`User-Agent`): a larder records it as one, whatever comes of it.
pub const PROBE_AGENT: &str = "iron-larder-probe";

/// Under which name spans are told, so that the log does not take them up.
pub const SPANS: &str = "larder_trace";

pub use account::{Account, Fresh, LoginSource};
pub use challenge::Challenge;
pub use credentials::Credentials;
pub use endpoint::{Endpoint, EndpointError};
pub use error::{ClientError, NotThere};
pub use probe::{MadeStep, ProbeOutcome, ProbePlan, ProbeTarget, probe, probe_host};
pub use pull::{BlobStream, ResolvedTag};
pub use push::{CutUpload, FailedPush, Mount};
pub use request::Registry;
pub use transport::{Options, Proxy};
pub use trust::database_tls;
pub use web::{Web, WebAddress, WebAnswer, WebOptions};
