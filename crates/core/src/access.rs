//! Who asks, and what may it do? Accounts and clusters with their grants, the keys and tokens by which
//! they are known, and what the token of a cluster's service account says.

pub mod brake;
pub mod claims;
pub mod grants;
pub mod identity;
mod jwt;
pub mod key;
pub mod network;
pub mod possession;
pub mod rate;
pub mod scope;
pub mod stop;
pub mod token;

use std::fmt;

/// A place in the configuration: what decided.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, Default)]
pub struct ConfigLine {
    /// The file, as the operator names it.
    pub file: std::sync::Arc<str>,
    /// The line, counted from 1.
    pub number: usize,
}

impl fmt::Display for ConfigLine {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.file, self.number)
    }
}

/// Who asks.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Who {
    /// Nobody that we know.
    Anonymous,
    /// A person or a pipeline: an `[[account]]`.
    Account(Box<str>),
    /// A cluster, or one of its namespaces.
    Cluster {
        cluster: Box<str>,
        /// The namespace. None: the cluster as a whole.
        namespace: Option<Box<str>>,
    },
}

impl Who {
    /// A cluster, or one of its namespaces.
    pub fn cluster(cluster: &str, namespace: Option<&str>) -> Self {
        Self::Cluster { cluster: cluster.into(), namespace: namespace.map(Into::into) }
    }

    /// The cluster's name. None: it is no cluster.
    pub fn cluster_name(&self) -> Option<&str> {
        match self {
            Self::Cluster { cluster, .. } => Some(cluster),
            _ => None,
        }
    }

    /// The namespace. None: it is no cluster, or a whole one.
    pub fn namespace(&self) -> Option<&str> {
        match self {
            Self::Cluster { namespace, .. } => namespace.as_deref(),
            _ => None,
        }
    }

    /// With the word for what it is, for sentences.
    pub fn described(&self) -> String {
        match self {
            Self::Anonymous => "clients that do not sign in".to_owned(),
            Self::Account(name) => format!("the account {name}"),
            Self::Cluster { cluster, namespace: None } => format!("the cluster {cluster}"),
            Self::Cluster { cluster, namespace: Some(namespace) } => {
                format!("the namespace {namespace} of {cluster}")
            }
        }
    }
}

impl fmt::Display for Who {
    /// The user's name with which it signs in: `ci`, `turbine-hall`, `turbine-hall/scada`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Anonymous => f.write_str("anonymous"),
            Self::Account(name) => f.write_str(name),
            Self::Cluster { cluster, namespace: None } => f.write_str(cluster),
            Self::Cluster { cluster, namespace: Some(namespace) } => {
                write!(f, "{cluster}/{namespace}")
            }
        }
    }
}

/// What is asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Action {
    /// Reading: manifests, blobs, tags, referrers.
    Pull,
    /// Writing.
    Push,
    /// Taking away.
    Delete,
}

impl Action {
    /// The token protocol's word.
    pub fn word(self) -> &'static str {
        match self {
            Self::Pull => "pull",
            Self::Push => "push",
            Self::Delete => "delete",
        }
    }

    /// What is done, for sentences.
    pub fn phrase(self) -> &'static str {
        match self {
            Self::Pull => "pull",
            Self::Push => "push to",
            Self::Delete => "remove from",
        }
    }
}

impl std::str::FromStr for Action {
    type Err = ();

    fn from_str(text: &str) -> Result<Self, ()> {
        match text {
            "pull" => Ok(Self::Pull),
            "push" => Ok(Self::Push),
            "delete" => Ok(Self::Delete),
            _ => Err(()),
        }
    }
}

/// Whether a text can name an account or a cluster: letters, digits, `.`, `_` and `-`, 63 at most, a
/// letter or digit first.
pub fn is_name(text: &str) -> bool {
    let inner = |c: char| c.is_ascii_alphanumeric() || matches!(c, '.' | '_' | '-');
    text.len() <= 63
        && text.starts_with(|c: char| c.is_ascii_alphanumeric())
        && text.chars().all(inner)
}

/// Whether a text can name a namespace: a label as RFC 1123 has them.
pub fn is_namespace(text: &str) -> bool {
    let inner = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    (1..=63).contains(&text.len())
        && text.chars().all(inner)
        && !text.starts_with('-')
        && !text.ends_with('-')
}
