//! What was stopped by hand: the tokens of somebody, whatever their end, and content that nobody may have.

use std::collections::HashMap;

use super::Who;
use super::token::SignedInBy;
use crate::digest::Digest;

/// One thing that was stopped.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stop {
    pub what: Stopped,
    /// Because of what, for those who are refused. Empty: nothing was said.
    pub because: String,
    /// When, in milliseconds since 1970.
    pub at: i64,
}

/// What can be stopped.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub enum Stopped {
    /// Every token that was issued until then, of a user, a cluster with its namespaces, a namespace with its
    /// service accounts (`turbine-hall/scada`), or a service account (`turbine-hall/scada/board`).
    Tokens(Box<str>),
    /// Content, wherever it lies.
    Content(Digest),
}

impl Stopped {
    /// The kind and the name under which it is kept.
    pub fn parts(&self) -> (&'static str, &str) {
        match self {
            Self::Tokens(whose) => ("tokens", whose),
            Self::Content(digest) => ("content", digest.as_str()),
        }
    }

    /// Of its kind and name. None: there is no such thing.
    pub fn of(kind: &str, name: &str) -> Option<Self> {
        match kind {
            "tokens" => Some(Self::Tokens(name.into())),
            "content" => name.parse().ok().map(Self::Content),
            _ => None,
        }
    }
}

/// All that is stopped, ready to decide.
#[derive(Debug, Clone, Default)]
pub struct Stops {
    /// Until when issued tokens have ended, in milliseconds since 1970, by whose they are.
    tokens: HashMap<Box<str>, i64>,
    content: HashMap<Digest, Stop>,
}

impl Stops {
    /// Of what is kept.
    pub fn new(all: Vec<Stop>) -> Self {
        let mut stops = Self::default();
        for stop in all {
            match &stop.what {
                Stopped::Tokens(whose) => {
                    let at = stops.tokens.entry(whose.clone()).or_insert(stop.at);
                    *at = stop.at.max(*at);
                }
                Stopped::Content(digest) => {
                    stops.content.insert(digest.clone(), stop);
                }
            }
        }
        stops
    }

    /// Whether a token has been ended that somebody got at a time, in seconds since 1970, by what they signed in
    /// with.
    pub fn ends(&self, who: &Who, by: Option<&SignedInBy>, issued: i64) -> bool {
        if self.tokens.is_empty() {
            return false;
        }
        let ended =
            |whose: &str| self.tokens.get(whose).is_some_and(|at| issued <= at.div_euclid(1000));
        let user = who.to_string();
        let account = match by {
            Some(SignedInBy::Identity(account)) => {
                who.cluster_name().map(|cluster| format!("{cluster}/{account}"))
            }
            _ => None,
        };
        ended(&user)
            || who.cluster_name().is_some_and(ended)
            || account.is_some_and(|account| ended(&account))
    }

    /// Why nobody may have some content. None: it is not stopped.
    pub fn content(&self, digest: &Digest) -> Option<&Stop> {
        self.content.get(digest)
    }

    /// Whether no content is stopped.
    pub fn has_no_content(&self) -> bool {
        self.content.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_issued_until_then_has_ended_and_what_comes_after_has_not() {
        let stop = |whose: &str| {
            Stops::new(vec![Stop {
                what: Stopped::Tokens(whose.into()),
                because: String::new(),
                at: 5_500,
            }])
        };
        let by = Some(SignedInBy::Identity("scada/board".into()));
        let who = Who::cluster("turbine-hall", Some("scada"));
        for whose in ["turbine-hall", "turbine-hall/scada", "turbine-hall/scada/board"] {
            assert!(stop(whose).ends(&who, by.as_ref(), 5), "{whose}");
            assert!(!stop(whose).ends(&who, by.as_ref(), 6), "{whose}");
        }
        for whose in ["turbine-hall/scada/other", "turbine-hall/historian", "turbine", "ci"] {
            assert!(!stop(whose).ends(&who, by.as_ref(), 5), "{whose}");
        }
        let account = Who::Account("ci".into());
        assert!(stop("ci").ends(&account, None, 5) && !Stops::default().ends(&account, None, 5));
    }

    #[test]
    fn what_is_kept_is_read_again() {
        for what in [Stopped::Tokens("ci".into()), Stopped::Content(Digest::of(b"x"))] {
            let (kind, name) = what.parts();
            assert_eq!(Stopped::of(kind, name), Some(what.clone()));
        }
        assert_eq!(Stopped::of("content", "x"), None);
        assert_eq!(Stopped::of("other", "x"), None);
    }
}
