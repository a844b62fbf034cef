//! What may whom be pulled by, pushed by, removed by? The grants of the configuration, compiled.

use std::collections::{BTreeMap, HashMap};

use super::{Action, ConfigLine, Who};
use crate::name::RepositoryName;
use crate::nearest::nearest;
use crate::pattern::{Pattern, PatternError, PatternSet};
use crate::shown::cut;

/// Patterns of repositories, each with the line where it stands.
#[derive(Debug, Clone, Default)]
pub struct Patterns {
    all: Vec<(Pattern, ConfigLine)>,
    set: PatternSet,
}

/// By what is written, wherever it stands; the rest is compiled from it.
impl PartialEq for Patterns {
    fn eq(&self, other: &Self) -> bool {
        self.texts().eq(other.texts())
    }
}

impl Patterns {
    /// Compiles them.
    pub fn new(all: Vec<(Pattern, ConfigLine)>) -> Result<Self, PatternError> {
        let set = PatternSet::new(all.iter().map(|(pattern, _)| pattern))?;
        Ok(Self { all, set })
    }

    /// The first that covers a repository.
    pub fn covers(&self, repository: &str) -> Option<(&Pattern, &ConfigLine)> {
        let at = self.set.first_match(repository)?;
        self.all.get(at).map(|(pattern, line)| (pattern, line))
    }

    /// As written.
    pub fn texts(&self) -> impl Iterator<Item = &str> {
        self.all.iter().map(|(pattern, _)| pattern.as_str())
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// The line of the first. None: there are none.
    pub fn line(&self) -> Option<&ConfigLine> {
        self.all.first().map(|(_, line)| line)
    }
}

/// What one account, cluster or namespace may do.
#[derive(Debug, Clone)]
pub struct Permits {
    /// What it may pull.
    pub pull: Patterns,
    /// What it may push to; that may be pulled too.
    pub push: Patterns,
    /// What it may remove from.
    pub delete: Patterns,
    /// Where it is declared.
    pub line: ConfigLine,
}

/// By what they permit, wherever that is declared.
impl PartialEq for Permits {
    fn eq(&self, other: &Self) -> bool {
        let Self { pull, push, delete, line: _ } = self;
        (pull, push, delete) == (&other.pull, &other.push, &other.delete)
    }
}

impl Permits {
    /// The pattern that lets it do something.
    pub fn allows(&self, action: Action, repository: &str) -> Option<(&Pattern, &ConfigLine)> {
        match action {
            Action::Pull => self.pull.covers(repository).or_else(|| self.push.covers(repository)),
            Action::Push => self.push.covers(repository),
            Action::Delete => self.delete.covers(repository),
        }
    }

    fn of(&self, action: Action) -> &Patterns {
        match action {
            Action::Pull => &self.pull,
            Action::Push => &self.push,
            Action::Delete => &self.delete,
        }
    }
}

/// What a cluster may do, and where its namespaces differ.
#[derive(Debug, Clone, PartialEq)]
pub struct ClusterPermits {
    /// The cluster as a whole, and the namespaces that have no grants of their own.
    pub whole: Permits,
    /// Its namespaces. None: this one has the grants of the whole.
    pub namespaces: BTreeMap<Box<str>, Option<Permits>>,
}

/// The grants of a configuration.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Grants {
    /// What anybody may pull.
    pub anonymous: Patterns,
    /// By the account's name.
    pub accounts: HashMap<Box<str>, Permits>,
    /// By the cluster's name.
    pub clusters: HashMap<Box<str>, ClusterPermits>,
}

/// What was decided, and by which line.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Decision {
    pub allowed: bool,
    /// The pattern that says so. None: none does.
    pub pattern: Option<String>,
    /// The line of that pattern, or where the grants stand that lack one. None: nothing is declared.
    pub line: Option<ConfigLine>,
    /// What the decision is about, in words: "the pull grants of the cluster turbine-hall".
    pub grants: String,
}

impl Grants {
    /// Whom a user's name means. None: nobody that is declared.
    pub fn who(&self, user: &str) -> Option<Who> {
        if self.accounts.contains_key(user) {
            return Some(Who::Account(user.into()));
        }
        let (cluster, namespace) = match user.split_once('/') {
            Some((cluster, namespace)) => (cluster, Some(namespace)),
            None => (user, None),
        };
        let known = self.clusters.get(cluster)?;
        let is_known = namespace.is_none_or(|name| known.has_namespace(name));
        is_known.then(|| Who::cluster(cluster, namespace))
    }

    /// Whether somebody is still declared.
    pub fn knows(&self, who: &Who) -> bool {
        self.permits(who).is_some() || *who == Who::Anonymous
    }

    /// What somebody may do beside what anybody may. None: it is not declared, or it is anybody.
    pub fn permits(&self, who: &Who) -> Option<&Permits> {
        match who {
            Who::Anonymous => None,
            Who::Account(name) => self.accounts.get(name),
            Who::Cluster { cluster, namespace } => {
                let known = self.clusters.get(cluster)?;
                match namespace {
                    None => Some(&known.whole),
                    Some(name) if !known.has_namespace(name) => None,
                    Some(name) => {
                        let own = known.namespaces.get(name).and_then(Option::as_ref);
                        Some(own.unwrap_or(&known.whole))
                    }
                }
            }
        }
    }

    /// Whether somebody may do something; nothing is explained.
    pub fn may(&self, who: &Who, action: Action, repository: &RepositoryName) -> bool {
        let name = repository.as_str();
        self.permits(who).is_some_and(|permits| permits.allows(action, name).is_some())
            || (action == Action::Pull && self.anonymous.covers(name).is_some())
    }

    /// Decides, and says by which line.
    pub fn decide(&self, who: &Who, action: Action, repository: &RepositoryName) -> Decision {
        let name = repository.as_str();
        let word = action.word();
        let permits = self.permits(who);
        if let Some((pattern, line)) = permits.and_then(|permits| permits.allows(action, name)) {
            return Decision {
                allowed: true,
                pattern: Some(pattern.to_string()),
                line: Some(line.clone()),
                grants: format!("the {word} grants of {}", who.described()),
            };
        }
        if action == Action::Pull
            && let Some((pattern, line)) = self.anonymous.covers(name)
        {
            return Decision {
                allowed: true,
                pattern: Some(pattern.to_string()),
                line: Some(line.clone()),
                grants: "what anybody may pull".into(),
            };
        }
        let line = permits
            .map(|permits| permits.of(action).line().unwrap_or(&permits.line))
            .or_else(|| self.anonymous.line());
        Decision {
            allowed: false,
            pattern: None,
            line: line.cloned(),
            grants: match who {
                Who::Anonymous => "what anybody may pull".into(),
                who => format!("the {word} grants of {}", who.described()),
            },
        }
    }

    /// That a cluster, namespace or account is not declared, with the nearest name that is. None: it is.
    pub fn undeclared(&self, who: &Who) -> Option<String> {
        if self.knows(who) {
            return None;
        }
        let names: Vec<String>;
        let (name, known): (&str, Vec<&str>) = match who {
            Who::Anonymous => return None,
            Who::Account(name) => (name, self.accounts.keys().map(|one| &**one).collect()),
            Who::Cluster { cluster, namespace } => match (self.clusters.get(cluster), namespace) {
                (Some(known), Some(namespace)) => {
                    names = known.namespaces.keys().map(ToString::to_string).collect();
                    (namespace, names.iter().map(String::as_str).collect())
                }
                _ => (cluster, self.clusters.keys().map(|one| &**one).collect()),
            },
        };
        let what = match who {
            Who::Cluster { cluster, .. } if !self.clusters.contains_key(cluster) => {
                format!("the cluster {}", cut(cluster, 63))
            }
            who => who.described(),
        };
        let rest = match nearest(name, known) {
            Some(near) => format!(" (did you mean {near}?)"),
            None => String::new(),
        };
        Some(format!("{what} is not declared{rest}"))
    }

    /// Everybody that is declared, in the order of names.
    pub fn everybody(&self) -> Vec<Who> {
        let accounts = self.accounts.keys().map(|name| Who::Account(name.clone()));
        let clusters = self.clusters.iter().flat_map(|(name, cluster)| {
            let namespaces = cluster.namespaces.keys();
            let namespaces = namespaces.map(|namespace| Who::cluster(name, Some(namespace)));
            std::iter::once(Who::cluster(name, None)).chain(namespaces)
        });
        let mut all: Vec<Who> = accounts.chain(clusters).collect();
        all.sort();
        all
    }
}

impl ClusterPermits {
    /// Whether the cluster has this namespace. One that names none has any.
    pub fn has_namespace(&self, name: &str) -> bool {
        self.namespaces.is_empty() && super::is_namespace(name)
            || self.namespaces.contains_key(name)
    }
}

#[cfg(test)]
mod tests {
    use super::Action::{Delete, Pull, Push};
    use super::*;

    fn patterns(line: usize, texts: &[&str]) -> Patterns {
        let line = ConfigLine { file: "larder.toml".into(), number: line };
        let all = texts.iter().map(|text| (text.parse().unwrap(), line.clone()));
        Patterns::new(all.collect()).unwrap()
    }

    fn permits(line: usize, pull: &[&str], push: &[&str]) -> Permits {
        let delete = patterns(0, &[]);
        let (pull, push) = (patterns(line + 1, pull), patterns(line + 2, push));
        Permits {
            pull,
            push,
            delete,
            line: ConfigLine { file: "larder.toml".into(), number: line },
        }
    }

    fn grants() -> Grants {
        let namespaces = [
            ("scada".into(), None),
            ("historian".into(), Some(permits(20, &["vendor/brinedb"], &[]))),
        ];
        let turbine = ClusterPermits {
            whole: permits(10, &["vendor/**"], &[]),
            namespaces: namespaces.into(),
        };
        let lab = ClusterPermits { whole: permits(30, &["bazaar/**"], &[]), namespaces: [].into() };
        Grants {
            anonymous: patterns(2, &["public/**"]),
            accounts: [("ci".into(), permits(40, &[], &["apps/**"]))].into(),
            clusters: [("turbine-hall".into(), turbine), ("field-lab".into(), lab)].into(),
        }
    }

    #[test]
    fn each_may_what_its_lines_say() {
        let grants = grants();
        let decide = |user: &str, action, name: &str| {
            let who = grants.who(user).unwrap_or(Who::Anonymous);
            let decision = grants.decide(&who, action, &name.parse().unwrap());
            assert_eq!(decision.allowed, grants.may(&who, action, &name.parse().unwrap()));
            (decision.allowed, decision.line.map_or(0, |line| line.number))
        };
        assert_eq!(decide("turbine-hall", Pull, "vendor/a"), (true, 11));
        assert_eq!(decide("turbine-hall/scada", Pull, "vendor/a"), (true, 11));
        assert_eq!(decide("turbine-hall/historian", Pull, "vendor/a"), (false, 21));
        assert_eq!(decide("turbine-hall/historian", Pull, "vendor/brinedb"), (true, 21));
        assert_eq!(decide("turbine-hall/historian", Push, "vendor/brinedb"), (false, 20));
        assert_eq!(decide("turbine-hall", Pull, "public/a"), (true, 2));
        assert_eq!(decide("nobody", Pull, "public/a"), (true, 2));
        assert_eq!(decide("nobody", Push, "public/a"), (false, 2));
        assert_eq!(decide("ci", Push, "apps/board"), (true, 42));
        assert_eq!(decide("ci", Pull, "apps/board"), (true, 42));
        assert_eq!(decide("ci", Delete, "apps/board"), (false, 40));
        assert_eq!(decide("ci", Pull, "vendor/a"), (false, 40));
    }

    #[test]
    fn names_mean_what_is_declared() {
        let grants = grants();
        assert_eq!(grants.who("turbine-hall/other"), None);
        assert!(grants.who("field-lab/anything").is_some(), "it names no namespaces: it has any");
        assert_eq!(grants.who("field-lab/Any"), None);
        assert_eq!(grants.who("ci/x"), None);
        let names: Vec<String> = grants.everybody().iter().map(Who::to_string).collect();
        assert_eq!(
            names,
            ["ci", "field-lab", "turbine-hall", "turbine-hall/historian", "turbine-hall/scada"]
        );
        assert!(!grants.knows(&Who::Account("gone".into())));
    }
}
