//! Which repositories and images of the larder does a text of the call name?

use larder_core::holdings::HeldPattern;
use larder_core::name::RepositoryName;
use larder_store::Store;

use super::unreadable;
use crate::config::Config;
use crate::failure::Failure;

/// Repositories that are read at once.
const PAGE: usize = 200;

/// What a text names; the larder's own host before it says nothing more.
pub fn read(text: &str, config: &Config, what: &str) -> Result<HeldPattern, Failure> {
    let own = text
        .split_once('/')
        .filter(|(host, _)| host.parse().is_ok_and(|host| config.larder.has_name(&host)));
    own.map_or(text, |(_, rest)| rest).parse().map_err(|error| {
        let remedy = "write SHELF, SHELF/REPOSITORY, SHELF/REPOSITORY:TAG or SHELF/REPOSITORY@DIGEST; repository and tag may be patterns";
        Failure::usage(what, error, remedy)
    })
}

/// The names of a call; without any, the pattern of everything.
pub fn or_everything(names: &[String]) -> Vec<String> {
    match names {
        [] => vec!["**".to_owned()],
        names => names.to_vec(),
    }
}

/// The repositories that a text names and that hold something, page by page.
pub struct NamedRepositories<'a> {
    store: &'a Store,
    pattern: &'a HeldPattern,
    /// Whether what lies below a repository that is named is meant too.
    with_those_below: bool,
    last: Option<RepositoryName>,
}

impl<'a> NamedRepositories<'a> {
    pub fn new(store: &'a Store, pattern: &'a HeldPattern, with_those_below: bool) -> Self {
        Self { store, pattern, with_those_below, last: None }
    }

    /// The next of them. None: there are no more.
    pub async fn next(&mut self) -> Result<Option<Vec<RepositoryName>>, Failure> {
        let after = self.last.as_ref();
        let page = match self.pattern.below() {
            Some(below) => self.store.repositories_below(&below, after, PAGE).await,
            None => self.store.repositories(after, PAGE).await,
        };
        let mut page = page.map_err(|error| unreadable(&error))?;
        let Some(last) = page.last() else { return Ok(None) };
        self.last = Some(last.clone());
        page.retain(|name| match self.with_those_below {
            true => self.pattern.has_repository_or_parent(name),
            false => self.pattern.has_repository(name),
        });
        Ok(Some(page))
    }
}
