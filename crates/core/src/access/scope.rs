//! The token protocol's scopes: `repository:NAME:pull,push`.

use std::collections::BTreeMap;

use super::Action;
use crate::name::RepositoryName;

/// Scopes that one request may name.
const MOST: usize = 64;

/// What a request for a token asks for: actions on repositories, and whether the catalog.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Scopes {
    /// The actions on each repository, sorted.
    pub repositories: BTreeMap<RepositoryName, Vec<Action>>,
    /// The list of repositories.
    pub catalog: bool,
}

/// Why scopes cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ScopeError {
    /// Not of the protocol's form.
    #[error("`{0}` is no scope; one is written as `repository:NAME:pull,push`")]
    Form(String),
    #[error("a request names {MOST} scopes at most")]
    TooMany,
}

impl Scopes {
    /// Reads scopes, each of which may be several with spaces between. What this registry does not
    /// have (other types, other actions) is left out: a token then does not hold it.
    pub fn read<'t>(texts: impl IntoIterator<Item = &'t str>) -> Result<Self, ScopeError> {
        let mut scopes = Self::default();
        let all = texts.into_iter().flat_map(str::split_whitespace);
        for (number, text) in all.enumerate() {
            if number >= MOST {
                return Err(ScopeError::TooMany);
            }
            scopes.add(text)?;
        }
        Ok(scopes)
    }

    fn add(&mut self, text: &str) -> Result<(), ScopeError> {
        let wrong = || ScopeError::Form(text.chars().take(80).collect());
        let (kind, rest) = text.split_once(':').ok_or_else(wrong)?;
        // A name has no colon, but a class may stand with the type: `repository(plugin)`.
        let (name, actions) = rest.rsplit_once(':').ok_or_else(wrong)?;
        match kind {
            "repository" => {
                let name: RepositoryName = name.parse().map_err(|_| wrong())?;
                let wanted = self.repositories.entry(name).or_default();
                for action in actions.split(',') {
                    match action {
                        "*" => wanted.extend([Action::Pull, Action::Push, Action::Delete]),
                        action => wanted.extend(action.parse::<Action>()),
                    }
                }
                wanted.sort();
                wanted.dedup();
            }
            "registry" => self.catalog |= name == "catalog",
            _ => {}
        }
        Ok(())
    }
}

/// One scope as a challenge names it.
pub fn scope_text(repository: &RepositoryName, actions: &[Action]) -> String {
    let words: Vec<&str> = actions.iter().map(|action| action.word()).collect();
    format!("repository:{repository}:{}", words.join(","))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn scopes_are_read_and_joined() {
        let texts = [
            "repository:vendor/a:pull,push repository:vendor/a:pull",
            "repository:b:*",
            "registry:catalog:*",
            "repository:c:sing",
            "other:thing:do",
        ];
        let scopes = Scopes::read(texts).unwrap();
        let of = |name: &str| scopes.repositories[&name.parse().unwrap()].clone();
        assert_eq!(of("vendor/a"), [Action::Pull, Action::Push]);
        assert_eq!(of("b"), [Action::Pull, Action::Push, Action::Delete]);
        assert!(of("c").is_empty() && scopes.catalog);
        assert_eq!(Scopes::read([""]).unwrap(), Scopes::default());
        let text = scope_text(&"vendor/a".parse().unwrap(), &[Action::Pull, Action::Push]);
        assert_eq!(text, "repository:vendor/a:pull,push");
    }

    #[test]
    fn what_is_no_scope_is_refused() {
        for wrong in ["repository", "repository:a", "repository:A:pull", "repository:../x:pull"] {
            assert!(matches!(Scopes::read([wrong]), Err(ScopeError::Form(_))), "{wrong}");
        }
        let many = "repository:a:pull ".repeat(65);
        assert_eq!(Scopes::read([many.as_str()]), Err(ScopeError::TooMany));
    }

    proptest::proptest! {
        #[test]
        fn no_text_panics(text in "(repository:)?[a-z/:,* ]{0,40}|\\PC{0,20}") {
            let _ = Scopes::read([text.as_str()]);
        }
    }
}
