//! Routes that the operator writes down himself, where shelves and intake entries would say
//! otherwise.

use std::fmt;

use super::RouteWay;
use crate::name::{Host, NameError, RepositoryName};
use crate::reference::Image;

/// One image, or all below a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ExceptionScope {
    host: Host,
    /// None: everything of the host.
    path: Option<RepositoryName>,
    below: bool,
}

/// A route of its own.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Exception {
    /// What it is about.
    pub of: ExceptionScope,
    /// Where that is found. None: it is left alone.
    pub to: Option<ExceptionScope>,
    /// Why, in the operator's words. Empty: nothing was said.
    pub because: String,
}

/// Why a text is no scope.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ExceptionScopeError {
    /// It has no host, and none is meant.
    #[error("it names no registry; write HOST/REPOSITORY, or HOST/PATH/** for all below it")]
    NoHost,
    /// A name cannot exist.
    #[error(transparent)]
    Name(#[from] NameError),
    /// `**` stands elsewhere than at the end, or `*` at all.
    #[error("`**` can stand at the end only, and `*` not at all")]
    Stars,
}

impl ExceptionScope {
    /// Reads `HOST/REPOSITORY`, `HOST/PATH/**` or `HOST/**`. Where no host is written, `usual` is
    /// meant.
    pub fn read(text: &str, usual: Option<&Host>) -> Result<Self, ExceptionScopeError> {
        let (text, below) = match text.strip_suffix("**") {
            Some(rest) => (rest.strip_suffix('/').unwrap_or(rest), true),
            None => (text, false),
        };
        if text.contains('*') {
            return Err(ExceptionScopeError::Stars);
        }
        let (first, rest) = text.split_once('/').map_or((text, None), |(a, b)| (a, Some(b)));
        let is_host = first.contains(['.', ':', '[']) || first == "localhost";
        let (host, path) = match (is_host, usual) {
            (true, _) => (first.parse()?, rest),
            (false, Some(usual)) => (usual.clone(), Some(text).filter(|text| !text.is_empty())),
            (false, None) => return Err(ExceptionScopeError::NoHost),
        };
        let path = path.map(str::parse).transpose()?;
        if path.is_none() && !below {
            return Err(ExceptionScopeError::NoHost);
        }
        Ok(Self { host, path, below })
    }

    /// What of an image lies below the scope. Empty: it is the very image. None: it is another.
    fn rest<'i>(&self, image: &'i Image) -> Option<&'i str> {
        if image.host != self.host {
            return None;
        }
        let name = image.repository.as_str();
        match &self.path {
            None => Some(name),
            Some(path) if !self.below => (name == path.as_str()).then_some(""),
            Some(path) => name.strip_prefix(path.as_str())?.strip_prefix('/'),
        }
    }

    fn with(&self, rest: &str) -> Option<Image> {
        let name = match (&self.path, rest) {
            (None, rest) => rest.to_owned(),
            (Some(path), "") => path.to_string(),
            (Some(path), rest) => format!("{path}/{rest}"),
        };
        Some(Image { host: self.host.clone(), repository: name.parse().ok()? })
    }

    /// Whether all below it is meant.
    pub fn is_below(&self) -> bool {
        self.below
    }
}

impl fmt::Display for ExceptionScope {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.host)?;
        if let Some(path) = &self.path {
            write!(f, "/{path}")?;
        }
        if self.below { write!(f, "/**") } else { Ok(()) }
    }
}

impl Exception {
    /// What becomes of an image: its new name, or None within where it is left alone. None: the
    /// exception is about others.
    pub fn answer(&self, image: &Image) -> Option<Option<Image>> {
        let rest = self.of.rest(image)?;
        match &self.to {
            None => Some(None),
            Some(to) => to.with(rest).map(Some),
        }
    }

    /// The way back that it is. None: it leads nowhere.
    pub(super) fn way(&self) -> Option<RouteWay> {
        let to = self.to.as_ref()?;
        let name = |scope: &ExceptionScope| match &scope.path {
            Some(path) => format!("{}/{path}", scope.host),
            None => scope.host.to_string(),
        };
        Some(RouteWay { here: name(to), origin: name(&self.of), below: to.below })
    }

    /// The image that an exception leads to a name. None: it leads nothing there.
    pub fn origin(&self, image: &Image) -> Option<Image> {
        let rest = self.to.as_ref()?.rest(image)?;
        self.of.with(rest)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_route_of_its_own_leads_there_and_back() {
        let own: Host = "larder.emberfall.example:5080".parse().unwrap();
        let image = |text: &str| text.parse::<Image>().unwrap();
        let rule = |of: &str, to: Option<&str>| Exception {
            of: ExceptionScope::read(of, None).unwrap(),
            to: to.map(|to| ExceptionScope::read(to, Some(&own)).unwrap()),
            because: String::new(),
        };
        let all = rule("bazaar.example/community/**", Some("vetted/**"));
        let there = image("larder.emberfall.example:5080/vetted/pipewatch/probe");
        let here = image("bazaar.example/community/pipewatch/probe");
        assert_eq!(all.answer(&here), Some(Some(there.clone())));
        assert_eq!(all.origin(&there), Some(here.clone()));
        assert_eq!(all.answer(&image("bazaar.example/library/kettle")), None);
        assert_eq!(all.answer(&image("bazaar.example/community")), None);
        let one = rule("bazaar.example/a/b", Some("elsewhere.example/c"));
        assert_eq!(
            one.answer(&image("bazaar.example/a/b")),
            Some(Some(image("elsewhere.example/c")))
        );
        assert_eq!(one.answer(&image("bazaar.example/a/b/c")), None);
        assert_eq!(rule("bazaar.example/**", None).answer(&here), Some(None));
        for wrong in ["kettle", "bazaar.example", "bazaar.example/*/x", "bazaar.example/UPPER"] {
            assert!(ExceptionScope::read(wrong, None).is_err(), "{wrong}");
        }
        assert_eq!(
            ExceptionScope::read("vetted/**", Some(&own)).unwrap().to_string(),
            format!("{own}/vetted/**")
        );
    }
}
