//! What is said of deployments: `[[route]]`, `[[resource]]`, and the door of a cluster.

use larder_core::door::{Door, RulesAt, Unanswered};
use larder_core::name::Host;
use larder_core::rewrite::{CustomResource, FieldPath};
use larder_core::route::{Exception, ExceptionScope, ExceptionScopeError};
use serde::Deserialize;
use serde::de::{Deserializer, Error as _};
use toml::Spanned;

use super::source::ConfigSource;
use crate::failure::Failure;

/// `[[route]]`: where an image is found, when shelves and intake entries would say otherwise.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Route {
    r#match: Spanned<String>,
    to: Option<Spanned<String>>,
    #[serde(default)]
    leave: bool,
    #[serde(default)]
    because: String,
}

/// `[[resource]]`: where a kind that others made names images.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Resource {
    #[serde(default)]
    group: String,
    kind: String,
    #[serde(deserialize_with = "read_paths")]
    images: Vec<FieldPath>,
}

fn read_paths<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<FieldPath>, D::Error> {
    let all = Vec::<String>::deserialize(from)?;
    all.iter().map(|text| text.parse().map_err(D::Error::custom)).collect()
}

/// `[cluster.door]`: what is done with what a cluster is about to run.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RawDoor {
    #[serde(default = "yes")]
    rewrite: bool,
    #[serde(default)]
    pin: bool,
    #[serde(default = "yes")]
    secret: bool,
    #[serde(default)]
    rules: RawRulesAt,
    /// Whether what names alone decide is handed to the cluster's API, to hold by itself.
    #[serde(default = "yes")]
    names: bool,
    #[serde(default)]
    except: Vec<String>,
    namespace: Option<String>,
    #[serde(default)]
    rehearse: bool,
    /// Where the cluster's API reaches it. None: at the larder's `url`.
    pub url: Option<Spanned<String>>,
    /// What becomes of what the larder cannot decide, or gives no answer to. None: see
    /// [`Door::refuses`](larder_core::door::Door::refuses).
    pub unanswered: Option<Unanswered>,
}

fn yes() -> bool {
    true
}

#[derive(Debug, Clone, Copy, Default, Deserialize)]
#[serde(rename_all = "lowercase")]
enum RawRulesAt {
    #[default]
    Enforce,
    Warn,
    Off,
}

impl RawDoor {
    /// Where the cluster's API asks, up to the path. None: the platform calls HTTPS alone, and this is
    /// none.
    pub fn url(&self, larder: &str) -> Option<String> {
        let url = self.url.as_ref().map_or(larder, |url| url.get_ref());
        url.starts_with("https://").then(|| url.trim_end_matches('/').to_owned())
    }

    /// Whether it enforces rules, and nothing is written of what becomes of what cannot be decided.
    pub fn leaves_undecided_open(&self) -> bool {
        matches!(self.rules, RawRulesAt::Enforce) && !self.rehearse && self.unanswered.is_none()
    }

    /// The namespace of that cluster in which the larder itself runs, which must be able to start without its own
    /// consent: as it is written, or by the name of a service. None: it runs elsewhere.
    fn own_namespace(&self) -> Option<String> {
        if self.namespace.is_some() {
            return self.namespace.clone();
        }
        let host =
            self.url.as_ref()?.get_ref().strip_prefix("https://")?.split([':', '/']).next()?;
        let parts: Vec<&str> = host.split('.').collect();
        match parts.as_slice() {
            [_, namespace, "svc", ..] => Some((*namespace).to_owned()),
            _ => None,
        }
    }

    /// Whether the cluster's API holds by itself what names alone decide.
    pub fn names(&self) -> bool {
        self.names && !matches!(self.rules, RawRulesAt::Off)
    }

    /// As it is decided by.
    pub fn door(&self, pull_secret: &str) -> Door {
        Door {
            rewrite: self.rewrite,
            pin: self.pin,
            secret: self.secret.then(|| pull_secret.to_owned()),
            rules: match self.rules {
                RawRulesAt::Enforce => RulesAt::Enforce,
                RawRulesAt::Warn => RulesAt::Warn,
                RawRulesAt::Off => RulesAt::Off,
            },
            except: self.except.iter().cloned().chain(self.own_namespace()).collect(),
            rehearse: self.rehearse,
            unanswered: self.unanswered,
        }
    }
}

/// Compiles the routes of all files.
pub(super) fn routes(sources: &[ConfigSource], own: &Host) -> Result<Vec<Exception>, Failure> {
    let mut all = Vec::new();
    for source in sources {
        for raw in &source.file.route {
            let wrong = |at: &Spanned<String>, error: ExceptionScopeError| {
                source.fault(at, &format!("`{}`: {error}", at.get_ref().escape_debug()), "")
            };
            let of = ExceptionScope::read(raw.r#match.get_ref(), None);
            let of = of.map_err(|error| wrong(&raw.r#match, error))?;
            let to = match &raw.to {
                None if raw.leave => None,
                None => {
                    let message = "a route says where to (`to`), or that it leaves alone";
                    return Err(source.fault(
                        &raw.r#match,
                        message,
                        "add `to = \"SHELF/…\"`, or `leave = true`",
                    ));
                }
                Some(to) if raw.leave => {
                    let message = "a route either leads somewhere or leaves alone";
                    return Err(source.fault(to, message, "leave `to` or `leave` out"));
                }
                Some(to) => {
                    let scope = ExceptionScope::read(to.get_ref(), Some(own));
                    let scope = scope.map_err(|error| wrong(to, error))?;
                    if scope.is_below() != of.is_below() {
                        let message = "`match` and `to` both end with `/**`, or neither does";
                        return Err(source.fault(to, message, "write both alike"));
                    }
                    Some(scope)
                }
            };
            all.push(Exception { of, to, because: raw.because.clone() });
        }
    }
    Ok(all)
}

/// The kinds of all files.
pub(super) fn resources(sources: &[ConfigSource]) -> Vec<CustomResource> {
    let all = sources.iter().flat_map(|source| &source.file.resource);
    all.flat_map(|raw| {
        raw.images.iter().map(|path| CustomResource {
            group: raw.group.clone(),
            kind: raw.kind.clone(),
            path: path.clone(),
        })
    })
    .collect()
}
