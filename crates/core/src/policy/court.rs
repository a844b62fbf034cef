//! One verdict for every asker: pulls, the cluster's door, intake and every command decide here.
//!
//! A [`Case`] is an image as the larder sees it; [`Court::rule`] asks the rules alone, [`Court::judge`]
//! asks blocks, grants and rules together.

use std::borrow::Cow;
use std::sync::Arc;

use super::{
    Asks, Classes, FactsWish, ImageFacts, Lack, PolicyRule, RuleDecision, RuleQuestion, Rules,
    SignatureWish, Verdict,
};
use crate::access::grants::{Decision, Grants};
use crate::access::stop::Stop;
use crate::access::{Action, Who};
use crate::digest::Digest;
use crate::lock::Lock;
use crate::name::{Host, RepositoryName, Tag};
use crate::reference::{Image, Reference, Selector};
use crate::route::{Origins, Routes, Standing};
use crate::signature::Trust;

/// Everything that decides who may pull what.
#[derive(Debug, Clone)]
pub struct Court {
    /// Whether grants are not asked: everybody may pull and push. Rules hold all the same.
    pub open: bool,
    /// Who may do what.
    pub grants: Grants,
    /// Images in the operator's words.
    pub classes: Classes,
    /// What follows from class, cluster and content.
    pub rules: Rules,
    /// What the intake entries resolved to.
    pub lock: Lock,
    /// For how long after it was seen to be used something counts as running, in milliseconds.
    pub in_use: i64,
    /// Whose signatures count.
    pub trust: TrustKept,
    routes: Routes,
    /// `routes` backwards, compiled once.
    origins: Origins,
}

/// What is believed of signers, with the digest of everything that it was read from: two of the same are the same.
#[derive(Debug, Clone, Default)]
pub struct TrustKept {
    pub trust: Arc<Trust>,
    /// Of all files, and of what the configuration says of them. Empty: nothing is believed.
    pub print: String,
}

impl PartialEq for TrustKept {
    fn eq(&self, other: &Self) -> bool {
        self.print == other.print
    }
}

/// How an image is named within its repository.
#[derive(Debug, Clone, Copy, Default)]
pub struct ImageName<'a> {
    /// None: no tag is written.
    pub tag: Option<&'a Tag>,
    /// None: no digest is written.
    pub digest: Option<&'a Digest>,
}

impl<'a> ImageName<'a> {
    /// As a reference has it.
    pub fn by(reference: &'a Reference) -> Self {
        Self { tag: reference.tag.as_ref(), digest: reference.digest.as_ref() }
    }

    /// What it is looked up by: the digest, else the tag, else `latest`.
    pub fn selector(self) -> Selector {
        match (self.digest, self.tag) {
            (Some(digest), _) => Selector::Digest(digest.clone()),
            (None, Some(tag)) => Selector::Tag(tag.clone()),
            (None, None) => Selector::Tag(Tag::latest()),
        }
    }
}

impl<'a> From<&'a Selector> for ImageName<'a> {
    fn from(selector: &'a Selector) -> Self {
        match selector {
            Selector::Tag(tag) => Self { tag: Some(tag), digest: None },
            Selector::Digest(digest) => Self { tag: None, digest: Some(digest) },
        }
    }
}

/// Why a pull does not go through this larder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Elsewhere {
    /// No intake entry, cached shelf or route names it.
    NoRoute,
    /// A route of the operator leaves it where it is; the text says why.
    Left(String),
    /// It is wanted, but the lock has other tags of it only.
    NotLocked(Vec<Tag>),
    /// It is brought to another registry.
    Registry(Host),
}

impl Elsewhere {
    /// In one sentence.
    pub fn sentence(&self) -> String {
        match self {
            Self::NoRoute => {
                "no shelf, intake entry or route covers it: nodes pull it from elsewhere".into()
            }
            Self::Left(because) if because.is_empty() => "a route leaves it where it is".into(),
            Self::Left(because) => format!("a route leaves it where it is: {because}"),
            Self::NotLocked(tags) if tags.is_empty() => {
                "it is wanted, but not locked yet: nodes pull it from elsewhere".into()
            }
            Self::NotLocked(tags) => {
                let tags: Vec<&str> = tags.iter().take(5).map(Tag::as_str).collect();
                format!(
                    "the lock has other tags of it ({}): nodes pull this one from elsewhere",
                    tags.join(", ")
                )
            }
            Self::Registry(host) => format!("it is brought to {host}, not to this larder"),
        }
    }
}

/// An image as the court sees it.
#[derive(Debug, Clone)]
pub struct Case<'a> {
    /// The repository of this larder that it is pulled from, or why it is not.
    pub place: Result<Cow<'a, RepositoryName>, Elsewhere>,
    /// Where it comes from; for one of our own, its name here.
    pub image: Image,
    /// Whether it is our own: brought in from nowhere.
    pub own: bool,
    /// None: no class names it.
    pub class: Option<&'a str>,
    /// How it is named within its repository.
    pub named: ImageName<'a>,
    /// Whether only a part of an image is asked for, such as a layer: what rules ask of whole images is
    /// not asked then.
    pub part: bool,
}

impl Case<'_> {
    /// The repository of this larder. None: it is pulled from elsewhere.
    pub fn here(&self) -> Option<&RepositoryName> {
        self.place.as_deref().ok()
    }
}

/// What the rules say.
#[derive(Debug, Clone, PartialEq)]
pub enum RuleAnswer<'c> {
    /// A rule asks for something that nobody has looked up yet.
    Needs(&'c Asks),
    /// They have decided.
    Decided {
        verdict: Verdict,
        /// The rule that decided. None: none matched, so it may.
        rule: Option<&'c PolicyRule>,
        /// What the image lacks of what the rule asks. None: the rule decides on whatever it matches.
        lack: Option<Lack>,
    },
}

/// What is said to somebody whom the rules warn or refuse.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RuleSentence {
    /// Whether it is refused; else it is let through with this warning.
    pub denied: bool,
    /// One sentence.
    pub sentence: String,
    /// The line of the rule.
    pub line: String,
    /// What the rule is called.
    pub rule: String,
}

impl RuleAnswer<'_> {
    /// What is said of an image. None: it is allowed, or facts are missing.
    pub fn said(&self, image: impl std::fmt::Display) -> Option<RuleSentence> {
        let Self::Decided { verdict, rule: Some(rule), lack } = self else { return None };
        let reason = rule.reason(lack.as_ref());
        let sentence = match verdict {
            Verdict::Allow => return None,
            Verdict::Warn => format!("{image} is let through; {reason}"),
            Verdict::Deny => format!("{image} is refused by {reason}"),
        };
        Some(RuleSentence {
            denied: *verdict == Verdict::Deny,
            sentence,
            line: rule.line.to_string(),
            rule: rule.name.clone(),
        })
    }
}

/// How it ends for an image, from the best to the worst.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Ruling {
    /// It may be pulled.
    Allowed,
    /// It is not pulled through this larder, which neither allows nor refuses it.
    NotOurs,
    /// It may be pulled, with a warning.
    Warned,
    /// A denying rule asks for what cannot be told. It is refused.
    Unknown,
    Refused,
}

impl Ruling {
    /// The word for programs: `allow`, `not-ours`, `warn`, `unknown`, `deny`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Allowed => "allow",
            Self::NotOurs => "not-ours",
            Self::Warned => "warn",
            Self::Unknown => "unknown",
            Self::Refused => "deny",
        }
    }

    /// Whether it cannot be pulled.
    pub fn is_refused(self) -> bool {
        matches!(self, Self::Unknown | Self::Refused)
    }
}

/// What was decided for somebody, and by what.
#[derive(Debug, Clone)]
pub struct Judgement<'c> {
    /// How it ends.
    pub ruling: Ruling,
    /// Why the operator has blocked the content. None: nobody has.
    pub blocked: Option<String>,
    /// What the grants say. None: they are not asked.
    pub grant: Option<Decision>,
    /// What the rules say, whatever the grants say.
    pub verdict: Verdict,
    /// The rule that decided. None: none matched.
    pub rule: Option<&'c PolicyRule>,
    /// What the image lacks of what the rule asks.
    pub lack: Option<Lack>,
    /// Why it is not pulled through this larder. None: it is.
    pub elsewhere: Option<Elsewhere>,
    /// That the asker is not declared, in words. None: it is.
    pub undeclared: Option<String>,
}

impl Judgement<'_> {
    /// Why not, or what is warned of, and the line that decided. None: nothing is to be said.
    pub fn reason(&self) -> Option<(String, Option<String>)> {
        let (reason, line) = match (&self.blocked, &self.grant, self.rule) {
            (Some(because), ..) => (Some(format!("it is blocked: {because}")), None),
            (_, Some(grant), _) if !grant.allowed => {
                let line = grant.line.as_ref().map(ToString::to_string);
                (Some(format!("{} do not name it", grant.grants)), line)
            }
            (.., Some(rule)) if self.verdict != Verdict::Allow => {
                (Some(rule.reason(self.lack.as_ref())), Some(rule.line.to_string()))
            }
            _ => (self.elsewhere.as_ref().map(Elsewhere::sentence), None),
        };
        match (&self.undeclared, reason) {
            (None, reason) => reason.map(|reason| (reason, line)),
            (Some(who), None) => Some((who.clone(), line)),
            (Some(who), Some(reason)) => Some((format!("{who}; {reason}"), line)),
        }
    }
}

/// By what is written; `origins` follows from `routes`.
impl PartialEq for Court {
    fn eq(&self, other: &Self) -> bool {
        let Self { open, grants, classes, rules, lock, in_use, trust, routes, origins: _ } = self;
        (*open, *in_use, trust) == (other.open, other.in_use, &other.trust)
            && (grants, classes, rules) == (&other.grants, &other.classes, &other.rules)
            && (lock, routes) == (&other.lock, &other.routes)
    }
}

/// For how long something counts as running, where nothing else is said: 30 days.
const IN_USE: i64 = 30 * 86_400_000;

impl Court {
    /// Nobody may do anything that is not granted: no grants, no rules, no routes.
    pub fn new(routes: Routes, lock: Lock) -> Self {
        Self {
            open: false,
            grants: Grants::default(),
            classes: Classes::default(),
            rules: Rules::default(),
            lock,
            in_use: IN_USE,
            trust: TrustKept::default(),
            origins: routes.origins(),
            routes,
        }
    }

    /// The ways from upstreams' images to this larder.
    pub fn routes(&self) -> &Routes {
        &self.routes
    }

    /// The same backwards.
    pub fn origins(&self) -> &Origins {
        &self.origins
    }

    /// Something in one of the larder's repositories.
    pub fn repository<'a>(
        &'a self,
        repository: &'a RepositoryName,
        named: ImageName<'a>,
    ) -> Case<'a> {
        self.here(Cow::Borrowed(repository), named)
    }

    fn here<'a>(&'a self, repository: Cow<'a, RepositoryName>, named: ImageName<'a>) -> Case<'a> {
        let origin = self.origins.of(&repository);
        let own = origin.is_none();
        let image = origin.unwrap_or_else(|| Image {
            host: self.routes.own().clone(),
            repository: repository.clone().into_owned(),
        });
        let class = self.classes.of(&image);
        Case { place: Ok(repository), image, own, class, named, part: false }
    }

    /// A reference as deployments write it.
    pub fn reference<'a>(&'a self, reference: &'a Reference) -> Case<'a> {
        let named = ImageName::by(reference);
        let own = self.routes.own();
        let elsewhere = match self.routes.standing(reference, &self.lock) {
            Standing::Own if reference.host == *own => {
                return self.here(Cow::Borrowed(&reference.repository), named);
            }
            Standing::Routed { target, .. }
            | Standing::Cached { target }
            | Standing::Told { target } => {
                if target.host == *own {
                    return self.here(Cow::Owned(target.repository), named);
                }
                Elsewhere::Registry(target.host)
            }
            Standing::Own => Elsewhere::Registry(reference.host.clone()),
            Standing::NotLocked { locked } => Elsewhere::NotLocked(locked),
            Standing::Left { because } => Elsewhere::Left(because),
            Standing::NoRoute => Elsewhere::NoRoute,
        };
        let image = reference.image();
        let class = self.classes.of(&image);
        Case { place: Err(elsewhere), image, own: false, class, named, part: false }
    }

    /// An upstream's image that is about to be brought in.
    pub fn intake<'a>(&'a self, image: &Image, named: ImageName<'a>) -> Case<'a> {
        let class = self.classes.of(image);
        let place = Err(Elsewhere::NoRoute);
        Case { place, image: image.clone(), own: false, class, named, part: false }
    }

    /// What the rules say of a case. `now` in milliseconds since 1970.
    pub fn rule(
        &self,
        cluster: Option<&str>,
        namespace: Option<&str>,
        case: &Case<'_>,
        facts: &ImageFacts,
        now: i64,
    ) -> RuleAnswer<'_> {
        let asked = RuleQuestion {
            cluster,
            namespace,
            image: &case.image,
            class: case.class,
            own: case.own,
            tag: case.named.tag,
            digest: case.named.digest,
            part: case.part,
            now,
        };
        match self.rules.decide(&asked, facts) {
            RuleDecision::Needs(asks) => RuleAnswer::Needs(asks),
            RuleDecision::Verdict { verdict, rule, lack } => {
                let rule = rule.and_then(|at| self.rules.all().get(at));
                RuleAnswer::Decided { verdict, rule, lack }
            }
        }
    }

    /// What of an image's content has to be looked up for a cluster, where the rules say that they need it. `now` in
    /// milliseconds since 1970.
    pub fn wish<'w>(
        &'w self,
        cluster: Option<&'w str>,
        case: &'w Case<'w>,
        now: i64,
    ) -> FactsWish<'w> {
        let signatures =
            SignatureWish { trust: &self.trust.trust, image: &case.image, tag: case.named.tag };
        self.rules.wish(cluster, now.saturating_sub(self.in_use), signatures)
    }

    /// Whether somebody may pull it. None: the facts have to be looked up first; where they cannot be,
    /// [`ImageFacts::UNKNOWN`] says so. `blocked` is what the operator has blocked of it.
    pub fn judge(
        &self,
        who: &Who,
        case: &Case<'_>,
        facts: &ImageFacts,
        blocked: Option<&Stop>,
        now: i64,
    ) -> Option<Judgement<'_>> {
        let ruled = self.rule(who.cluster_name(), who.namespace(), case, facts, now);
        let RuleAnswer::Decided { verdict, rule, lack } = ruled else { return None };
        let grant = case.here().filter(|_| !self.open);
        let grant = grant.map(|repository| self.grants.decide(who, Action::Pull, repository));
        let refused = blocked.is_some() || grant.as_ref().is_some_and(|grant| !grant.allowed);
        let ruling = match verdict {
            _ if refused => Ruling::Refused,
            Verdict::Deny if matches!(lack, Some(ref lack) if lack.is_unknown()) => Ruling::Unknown,
            Verdict::Deny => Ruling::Refused,
            Verdict::Warn => Ruling::Warned,
            Verdict::Allow if case.place.is_err() => Ruling::NotOurs,
            Verdict::Allow => Ruling::Allowed,
        };
        Some(Judgement {
            ruling,
            blocked: blocked.map(|stop| stop.because.clone()),
            grant,
            verdict,
            rule,
            lack,
            elsewhere: case.place.as_ref().err().cloned(),
            undeclared: self.grants.undeclared(who),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::access::ConfigLine;
    use crate::access::grants::{ClusterPermits, Patterns, Permits};
    use crate::pattern::Pattern;
    use crate::policy::{Fact, WhatRuns};
    use crate::reference::Unqualified;
    use crate::route::RouteEntry;

    const OWN: &str = "larder.example";

    fn rule(name: &str, class: &str, asks: Asks, verdict: Verdict) -> PolicyRule {
        PolicyRule {
            name: name.into(),
            clusters: Vec::new(),
            namespaces: Vec::new(),
            classes: vec![class.into()],
            images: Vec::new(),
            asks,
            verdict,
            running: WhatRuns::Warn,
            held_before: None,
            because: String::new(),
            line: ConfigLine { file: "larder.toml".into(), number: 7 },
        }
    }

    /// Vendor's images are routed, and may be pulled by the turbine hall's scada; community is denied,
    /// vetted must have aged, old ones are warned of.
    fn court() -> Court {
        let entries = vec![RouteEntry {
            image: "bazaar.example/library/kettle".parse().unwrap(),
            to: format!("{OWN}/vendor/kettle").parse().unwrap(),
        }];
        let lock = Lock::default();
        let mut court = Court::new(Routes::new(OWN.parse().unwrap(), entries), lock);
        let patterns = |text: &str| {
            Patterns::new(vec![(text.parse().unwrap(), ConfigLine::default())]).unwrap()
        };
        let none = || Patterns::new(Vec::new()).unwrap();
        let whole = Permits {
            pull: patterns("vendor/**"),
            push: none(),
            delete: none(),
            line: ConfigLine::default(),
        };
        let namespaces = [("scada".into(), None)].into();
        let hall = ClusterPermits { whole, namespaces };
        court.grants.clusters = [("turbine-hall".into(), hall)].into();
        let class = |text: &str| [text.parse::<Pattern>().unwrap()];
        let (community, vetted, old) = (
            class("bazaar.example/community/**"),
            class("ventworks.example/**"),
            class("bazaar.example/library/**"),
        );
        court.classes =
            Classes::new([("community", &community[..]), ("vetted", &vetted), ("old", &old)])
                .unwrap();
        let aged = Asks { age: Some(1000), ..Asks::default() };
        court.rules = Rules::new(vec![
            rule("no community", "community", Asks::default(), Verdict::Deny),
            rule("aged", "vetted", aged, Verdict::Deny),
            rule("old", "old", Asks::default(), Verdict::Warn),
        ])
        .unwrap();
        court
    }

    #[test]
    fn every_asker_gets_the_same_ruling_and_its_reason() {
        let court = court();
        let hall = Who::cluster("turbine-hall", Some("scada"));
        let judge = |who: &Who, text: &str, facts: &ImageFacts| {
            let reference = Reference::read(text, &Unqualified::default()).unwrap().reference;
            let case = court.reference(&reference);
            let judged = court.judge(who, &case, facts, None, 5000)?;
            Some((judged.ruling, judged.reason().map(|(reason, _)| reason).unwrap_or_default()))
        };
        let none = ImageFacts::default();
        let cases = [
            ("larder.example/vendor/valve:1", Ruling::Allowed, ""),
            ("larder.example/vendor/kettle:1", Ruling::Warned, "rule `old`"),
            ("larder.example/apps/board:1", Ruling::Refused, "do not name it"),
            ("bazaar.example/community/pipewatch:1", Ruling::Refused, "rule `no community`"),
            ("localhost:5000/dev/scratchpad:1", Ruling::NotOurs, "nodes pull it from elsewhere"),
            ("bazaar.example/library/kettle:2", Ruling::Warned, "rule `old`"),
        ];
        for (text, ruling, reason) in cases {
            let (found, said) = judge(&hall, text, &none).unwrap();
            assert_eq!(found, ruling, "{text}: {said}");
            assert!(said.contains(reason), "{text}: {said}");
        }
        let vetted = "ventworks.example/gauges/steamgauge:1";
        assert_eq!(judge(&hall, vetted, &none), None, "its age has to be looked up");
        let (ruling, said) = judge(&hall, vetted, &ImageFacts::UNKNOWN).unwrap();
        assert_eq!(ruling, Ruling::Unknown, "{said}");
        assert!(ruling.is_refused() && said.contains("its age cannot be told"), "{said}");
        let old = ImageFacts { held: Fact::Is(0), ..ImageFacts::default() };
        assert_eq!(judge(&hall, vetted, &old).unwrap().0, Ruling::NotOurs);
    }

    #[test]
    fn a_block_and_an_unknown_name_are_told() {
        let court = court();
        let valve = "vendor/valve".parse().unwrap();
        let case = court.repository(&valve, ImageName::default());
        let stop = Stop {
            what: crate::access::stop::Stopped::Content(Digest::of(b"x")),
            because: "it leaks".into(),
            at: 0,
        };
        let hall = Who::cluster("turbine-hall", None);
        let judged = court.judge(&hall, &case, &ImageFacts::default(), Some(&stop), 0).unwrap();
        assert_eq!(judged.ruling, Ruling::Refused);
        assert_eq!(judged.reason().unwrap().0, "it is blocked: it leaks");
        let said = |cluster, namespace| court.grants.undeclared(&Who::cluster(cluster, namespace));
        assert_eq!(said("turbine-hall", Some("scada")), None);
        let near = said("turbine-hall", Some("scda")).unwrap();
        assert!(
            near.contains("scda of turbine-hall is not declared (did you mean scada?)"),
            "{near}"
        );
        let near = said("turbin-hall", Some("scada")).unwrap();
        assert_eq!(near, "the cluster turbin-hall is not declared (did you mean turbine-hall?)");
        let nobody = Who::Account("ci".into());
        let judged = court.judge(&nobody, &case, &ImageFacts::default(), None, 0).unwrap();
        assert!(judged.reason().unwrap().0.starts_with("the account ci is not declared; "));
    }
}
