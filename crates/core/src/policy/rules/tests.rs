//! Rules decide as they are written.

use super::*;
use crate::policy::SignatureFacts;

fn rule(name: &str, clusters: &[&str], classes: &[&str], verdict: Verdict) -> PolicyRule {
    let boxed = |texts: &[&str]| texts.iter().map(|text| Box::from(*text)).collect();
    PolicyRule {
        name: name.into(),
        clusters: boxed(clusters),
        namespaces: Vec::new(),
        classes: boxed(classes),
        images: Vec::new(),
        asks: Asks::default(),
        verdict,
        running: WhatRuns::Warn,
        held_before: None,
        because: "runs the turbines".into(),
        line: ConfigLine::default(),
    }
}

fn asked<'a>(
    image: &'a Image,
    cluster: Option<&'a str>,
    class: Option<&'a str>,
) -> RuleQuestion<'a> {
    RuleQuestion {
        cluster,
        namespace: None,
        image,
        class,
        own: false,
        tag: None,
        digest: None,
        part: false,
        now: 1_000_000,
    }
}

fn verdict(
    rules: &Rules,
    asked: &RuleQuestion<'_>,
    facts: &ImageFacts,
) -> (Verdict, Option<usize>, Option<Lack>) {
    match rules.decide(asked, facts) {
        RuleDecision::Verdict { verdict, rule, lack } => (verdict, rule, lack),
        RuleDecision::Needs(asks) => panic!("{asks:?}"),
    }
}

#[test]
fn the_first_rule_that_matches_decides() {
    let image: Image = "bazaar.example/community/pipewatch".parse().unwrap();
    let mut named = rule("named", &["field-lab"], &[], Verdict::Warn);
    named.images = vec!["bazaar.example/community/*".parse().unwrap()];
    let mut narrow = rule("narrow", &[], &[], Verdict::Deny);
    narrow.namespaces = vec!["scada".into()];
    let rules = Rules::new(vec![
        rule("unvetted", &["turbine-hall"], &["community"], Verdict::Deny),
        named,
        narrow,
        rule("own", &[], &["own"], Verdict::Deny),
        rule("rest", &["control-room"], &[], Verdict::Deny),
    ])
    .unwrap();
    let none = ImageFacts::default();
    let decide = |cluster, class| {
        let (verdict, rule, _) = verdict(&rules, &asked(&image, cluster, class), &none);
        (verdict, rule)
    };
    assert_eq!(decide(Some("turbine-hall"), Some("community")), (Verdict::Deny, Some(0)));
    assert_eq!(decide(Some("turbine-hall"), Some("vetted")), (Verdict::Allow, None));
    assert_eq!(decide(Some("turbine-hall"), None), (Verdict::Allow, None));
    assert_eq!(decide(Some("field-lab"), None), (Verdict::Warn, Some(1)));
    assert_eq!(decide(Some("nobody-names-it"), None), (Verdict::Allow, None));
    assert_eq!(decide(None, None), (Verdict::Allow, None));
    assert_eq!(decide(Some("control-room"), None), (Verdict::Deny, Some(4)));
    let own = RuleQuestion { own: true, ..asked(&image, Some("control-room"), None) };
    assert_eq!(verdict(&rules, &own, &none).0, Verdict::Allow, "no rule names it");
    let own = RuleQuestion { class: Some("own"), ..own };
    assert_eq!(verdict(&rules, &own, &none).1, Some(3));
    let scada = RuleQuestion { namespace: Some("scada"), ..asked(&image, None, None) };
    assert_eq!(verdict(&rules, &scada, &none).1, Some(2));
    let said = rules.all()[0].reason(None);
    assert_eq!(said, "rule `unvetted`: runs the turbines");
}

#[test]
fn what_a_rule_asks_for_is_looked_up_and_its_lack_is_told() {
    let image: Image = "bazaar.example/library/kettle".parse().unwrap();
    let (latest, fixed): (Tag, Tag) = ("latest".parse().unwrap(), "2.1".parse().unwrap());
    let digest = Digest::of(b"x");
    let decide = |asks: Asks, change: fn(&mut ImageFacts), tag: Option<&Tag>, digest| {
        let mut one = rule("asks", &[], &[], Verdict::Deny);
        one.asks = asks;
        let rules = Rules::new(vec![one]).unwrap();
        let mut facts = ImageFacts::default();
        change(&mut facts);
        let asked = RuleQuestion { tag, digest, ..asked(&image, None, None) };
        assert!(
            matches!(
                rules.decide(&RuleQuestion { part: true, ..asked }, &facts),
                RuleDecision::Verdict { rule: None, .. }
            ),
            "a layer is asked nothing"
        );
        match rules.decide(&asked, &facts) {
            RuleDecision::Needs(_) => Err("look"),
            RuleDecision::Verdict { lack, .. } => Ok(lack),
        }
    };
    let nothing = |_: &mut ImageFacts| {};
    let wants = Asks { digest: true, ..Asks::default() };
    assert_eq!(decide(wants.clone(), nothing, Some(&fixed), None), Ok(Some(Lack::Digest)));
    assert_eq!(decide(wants, nothing, None, Some(&digest)), Ok(None));
    let wants = Asks { fixed_tag: true, ..Asks::default() };
    let moves = Lack::FixedTag("latest".into());
    assert_eq!(decide(wants.clone(), nothing, Some(&latest), None), Ok(Some(moves.clone())));
    assert_eq!(decide(wants.clone(), nothing, None, None), Ok(Some(moves)));
    assert_eq!(decide(wants.clone(), nothing, Some(&fixed), None), Ok(None));
    assert_eq!(decide(wants, nothing, Some(&latest), Some(&digest)), Ok(None));
    let arm = "linux/arm64".parse().unwrap();
    let wants = Asks { platforms: vec![arm], ..Asks::default() };
    assert_eq!(decide(wants.clone(), nothing, None, None), Err("look"));
    let lack = decide(
        wants.clone(),
        |facts| {
            facts.platforms = Fact::Is(vec!["linux/amd64".parse().unwrap()]);
        },
        None,
        None,
    );
    assert_eq!(lack.unwrap().unwrap().to_string(), "it is not for linux/arm64");
    let lack = decide(
        wants.clone(),
        |facts| {
            facts.platforms =
                Fact::Is(vec!["linux/amd64".parse().unwrap(), "linux/arm64/v8".parse().unwrap()]);
        },
        None,
        None,
    );
    assert_eq!(lack, Ok(None));
    let unknown = decide(wants, |facts| facts.platforms = Fact::Unknown, None, None);
    assert_eq!(unknown, Ok(Some(Lack::Unknown("platform"))));
    let wants = Asks { age: Some(500_000), ..Asks::default() };
    assert_eq!(decide(wants.clone(), nothing, None, None), Err("look"));
    let young = decide(wants.clone(), |facts| facts.held = Fact::Is(600_000), None, None);
    assert_eq!(young, Ok(Some(Lack::Age(500_000))));
    assert_eq!(decide(wants.clone(), |facts| facts.held = Fact::Is(500_000), None, None), Ok(None));
    assert_eq!(
        decide(wants, |facts| facts.held = Fact::Unknown, None, None),
        Ok(Some(Lack::Unknown("age")))
    );
    let wants = Asks { signature: true, ..Asks::default() };
    assert_eq!(decide(wants.clone(), nothing, None, None), Err("look"));
    assert_eq!(decide(wants.clone(), |facts| facts.signed = Fact::Is(true), None, None), Ok(None));
    assert_eq!(
        decide(wants, |facts| facts.signed = Fact::Is(false), None, None),
        Ok(Some(Lack::Signature))
    );
    assert_eq!(Lack::Age(7 * 86_400_000).to_string(), "the larder has held it for less than 7 d");
}

#[test]
fn what_was_held_before_is_let_be_and_what_arrives_is_not() {
    let image: Image = "ventworks.example/gauges/steamgauge".parse().unwrap();
    let by = vec!["ventworks-release".to_owned()];
    let signed = vec![crate::signature::SignatureAsk { by, of: 1, within: None, says: None }];
    let rules = Rules::new(vec![PolicyRule {
        asks: Asks { age: Some(1000), signed, ..Asks::default() },
        held_before: Some(500_000),
        ..rule("signed", &[], &["vetted"], Verdict::Deny)
    }]);
    let rules = rules.unwrap();
    let of = |held: Fact<i64>| {
        let signatures = Fact::Is(SignatureFacts::default());
        let facts = ImageFacts { held, signatures, ..ImageFacts::UNKNOWN };
        verdict(&rules, &asked(&image, None, Some("vetted")), &facts).0
    };
    assert_eq!(of(Fact::Is(499_999)), Verdict::Warn);
    assert_eq!(of(Fact::Is(500_000)), Verdict::Deny);
    assert_eq!(of(Fact::Later), Verdict::Deny, "its age is asked later, and it was not here");
}

#[test]
fn what_is_asked_later_hides_no_rule_that_is_asked_now() {
    let image: Image = "ventworks.example/gauges/steamgauge".parse().unwrap();
    let by = vec!["ventworks-release".to_owned()];
    let signed = vec![crate::signature::SignatureAsk { by, of: 1, within: None, says: None }];
    let platforms = vec!["linux/amd64".parse().unwrap()];
    let limit = "none".parse().unwrap();
    let inside = InsideAsks { advisories: Some(limit), ..InsideAsks::default() };
    let asking = |asks: Asks| PolicyRule { asks, ..rule("one", &[], &["vetted"], Verdict::Deny) };
    let rules = Rules::new(vec![
        asking(Asks { platforms, ..Asks::default() }),
        asking(Asks { age: Some(1000), signature: true, ..Asks::default() }),
        asking(Asks { inside, ..Asks::default() }),
        asking(Asks { signed, ..Asks::default() }),
    ]);
    let rules = rules.unwrap();
    let later = ImageFacts {
        platforms: Fact::Later,
        held: Fact::Later,
        signed: Fact::Later,
        inside: Fact::Later,
        runs: Fact::Later,
        signatures: Fact::Is(SignatureFacts::default()),
    };
    let asked = asked(&image, None, Some("vetted"));
    assert_eq!(verdict(&rules, &asked, &later).1, Some(3));
    let all = ImageFacts { signatures: Fact::Later, ..later };
    assert_eq!(verdict(&rules, &asked, &all).0, Verdict::Allow);
}
