//! Tables of evidence and finding, and what must hold when a piece of the evidence is hidden.

mod events;

use super::*;
use crate::reference::{Reference, Unqualified};

fn reads() -> NameEvidence {
    NameEvidence::Reads { node: "larder.example/vendor/x:1".into(), here: None }
}

fn visit(host: &str, mirror: bool, ours: bool, outcome: HostOutcome) -> Visit {
    Visit { host: host.into(), mirror, ours, outcome: Some(outcome) }
}

fn fits(key: Option<KeyState>, agrees: bool) -> Credential {
    let from = "pull secret scada/larder-pull".into();
    Credential::Fits(Secret { from, user: "turbine-hall/scada".into(), agrees, key })
}

fn record(access: ContentAccess) -> Record {
    Record { by: "the store".into(), at_upstream: false, access }
}

fn pulls() -> HostOutcome {
    HostOutcome::Pulls { digest: "sha256:a".into(), expected: None, alone: None, stale: false }
}

/// Evidence in which everything is known, with what one host answers.
fn at(ours: bool, outcome: HostOutcome) -> Evidence {
    Evidence {
        written: "larder.example/vendor/x:1".into(),
        name: Some(reads()),
        policy: Some(if ours { Policy::Allows } else { Policy::Elsewhere }),
        nodes: Some(Nodes::None),
        visits: vec![visit("larder.example", false, ours, outcome)],
        credential: Some(fits(None, true)),
        record: Some(record(ContentAccess::There)),
        origin: Some("vendor.example/x:1".into()),
        platform: Some("linux/amd64".into()),
        event: None,
        recorded: None,
        by_default: None,
        identity: false,
        through: None,
    }
}

fn malformed(text: &str) -> Evidence {
    let wrong = Reference::read(text, &Unqualified::default()).unwrap_err();
    Evidence {
        written: text.into(),
        name: Some(NameEvidence::Malformed(wrong)),
        ..Evidence::default()
    }
}

#[test]
fn only_what_an_upstream_may_have_is_to_be_brought_in() {
    let brings = |at_upstream: bool, origin: Option<&str>| {
        let mut evidence = at(true, HostOutcome::NotFound);
        evidence.record =
            Some(Record { at_upstream, ..record(ContentAccess::NoTag(vec!["2".into()])) });
        evidence.origin = origin.map(str::to_owned);
        let PullVerdict::Fails(finding) = diagnose(&evidence) else { panic!("it fails") };
        assert_eq!(finding.cause, Cause::TagMissing);
        let mut commands = finding.remedies.into_iter().filter_map(|one| one.command);
        commands.find(|one| one.starts_with("larder intake add"))
    };
    let named = Some("larder intake add vendor.example/x:1".to_owned());
    assert_eq!(brings(false, Some("vendor.example/x:1")), named);
    assert_eq!(brings(false, None), None, "there is no name to get it by");
    assert_eq!(brings(true, Some("vendor.example/x:1")), None, "the upstream does not have it");
}

/// All rows: evidence, and what must come of it for sure. None: the pull succeeds without a remark.
fn table() -> Vec<(Evidence, Option<Cause>)> {
    // Long: one row for each cause, read from top to bottom.
    let unauthorized = |shown| HostOutcome::Unauthorized { shown, said: None };
    let missing = |elsewhere: &[&str]| {
        let elsewhere = elsewhere.iter().map(|name| (*name).to_owned()).collect();
        Some(Credential::Unfit(SecretFault::Missing {
            name: "larder-pull".into(),
            elsewhere,
            near: None,
        }))
    };
    let unfit = |fault| Some(Credential::Unfit(fault));
    let with = |evidence: Evidence, change: &dyn Fn(&mut Evidence)| {
        let mut evidence = evidence;
        change(&mut evidence);
        evidence
    };
    let signed = |credential: Option<Credential>, shown: bool| {
        with(at(true, unauthorized(shown)), &|e| e.credential.clone_from(&credential))
    };
    let gone = |access: ContentAccess, outcome: HostOutcome| {
        with(at(true, outcome), &|e| e.record = Some(record(access.clone())))
    };
    let mirrored = |outcome: HostOutcome| {
        with(at(false, pulls()), &|e| {
            e.nodes = Some(Nodes::Read(Vec::new()));
            e.visits.insert(0, visit("mirror.example", true, true, outcome.clone()));
        })
    };
    let forbidden = |said: &str| HostOutcome::Forbidden(Some(said.to_owned()));
    let rule = Policy::Rule { reason: "rule `x`: y".into(), line: Some("larder.toml:3".into()) };
    let grant = Policy::Grant { who: "it".into(), repository: "vendor/x".into(), line: None };
    let denied = |policy: &Policy| {
        with(at(true, forbidden("refused")), &|e| e.policy = Some(policy.clone()))
    };
    let alone = HostOutcome::Pulls {
        digest: "sha256:a".into(),
        expected: None,
        alone: Some("linux/arm64".into()),
        stale: false,
    };
    let moved = HostOutcome::Pulls {
        digest: "sha256:a".into(),
        expected: Some("sha256:b".into()),
        alone: None,
        stale: false,
    };
    let stale =
        HostOutcome::Pulls { digest: "sha256:a".into(), expected: None, alone: None, stale: true };
    let token = |shown| HostOutcome::TokenWithoutAccess { shown, said: None };
    let text = || "x".to_owned();
    let mut rows = vec![
        (malformed("https://bazaar.example/kettle:2"), Some(Cause::Scheme)),
        (malformed("kettle :2"), Some(Cause::Blank)),
        (malformed("Kettle:2"), Some(Cause::UpperCase)),
        (malformed("bazaar.example/"), Some(Cause::NoRepository)),
        (malformed("${REGISTRY}/kettle"), Some(Cause::Placeholder)),
        (malformed("kettle@sha256:12"), Some(Cause::BadDigest)),
        (malformed("kettle:"), Some(Cause::Malformed)),
        (at(true, pulls()), None),
        (at(false, pulls()), None),
        (signed(Some(Credential::None), false), Some(Cause::NoCredential)),
        (signed(missing(&["historian"]), false), Some(Cause::SecretElsewhere)),
        (signed(missing(&[]), false), Some(Cause::SecretMissing)),
        (signed(unfit(SecretFault::Type(text())), false), Some(Cause::SecretType)),
        (signed(unfit(SecretFault::Unreadable(text())), false), Some(Cause::SecretUnreadable)),
        (signed(unfit(SecretFault::Host(vec![text()])), false), Some(Cause::SecretHost)),
        (signed(unfit(SecretFault::NotLinked(text())), false), Some(Cause::NotLinked)),
        (signed(Some(fits(None, false)), true), Some(Cause::SecretDisagrees)),
        (signed(Some(fits(Some(KeyState::Expired(text())), true)), true), Some(Cause::KeyExpired)),
        (signed(Some(fits(Some(KeyState::Revoked(text())), true)), true), Some(Cause::KeyRevoked)),
        (signed(Some(fits(Some(KeyState::Unknown), true)), true), Some(Cause::KeyUnknown)),
        (signed(Some(fits(None, true)), true), Some(Cause::WrongCredential)),
        (
            gone(ContentAccess::NoRepository(vec![text()]), unauthorized(false)),
            Some(Cause::RepositoryMissing),
        ),
        (gone(ContentAccess::NoTag(vec![text()]), HostOutcome::NotFound), Some(Cause::TagMissing)),
        (gone(ContentAccess::NoDigest, HostOutcome::NotFound), Some(Cause::DigestMissing)),
        (gone(ContentAccess::Removed(text()), HostOutcome::NotFound), Some(Cause::Removed)),
        (gone(ContentAccess::NotBroughtIn, HostOutcome::NotFound), Some(Cause::NotBroughtIn)),
        (gone(ContentAccess::NoShelf(vec![]), HostOutcome::NotFound), Some(Cause::NoShelf)),
        (
            gone(ContentAccess::OutsideShelf(text()), forbidden("outside")),
            Some(Cause::OutsideShelf),
        ),
        (denied(&rule), Some(Cause::RuleDenies)),
        (denied(&grant), Some(Cause::GrantMissing)),
        (at(true, forbidden("x is not known in a way that is believed")), Some(Cause::StrangeNode)),
        (at(false, HostOutcome::NotFound), Some(Cause::Forbidden)),
        (at(false, forbidden("no")), Some(Cause::Forbidden)),
        (at(false, token(true)), Some(Cause::TokenWithoutAccess)),
        (
            with(at(true, token(true)), &|e| e.policy = Some(grant.clone())),
            Some(Cause::GrantMissing),
        ),
        (at(true, alone), Some(Cause::WrongArchitecture)),
        (at(true, moved), Some(Cause::TagMoved)),
        (at(true, stale), Some(Cause::StaleServed)),
        (at(true, HostOutcome::Failing { status: 503, said: None }), Some(Cause::UpstreamDown)),
        (at(false, HostOutcome::Failing { status: 503, said: None }), Some(Cause::Failing)),
        (at(false, HostOutcome::RateLimited(Some(60))), Some(Cause::RateLimited)),
        (
            at(false, HostOutcome::TokenRefused { status: 500, shown: false, said: None }),
            Some(Cause::TokenRefused),
        ),
        (
            with(at(false, HostOutcome::UnknownHost), &|e| e.nodes = Some(Nodes::NotRead(text()))),
            Some(Cause::MirrorNotRead),
        ),
        (
            with(at(false, HostOutcome::UnknownHost), &|e| e.nodes = Some(Nodes::Dropped(text()))),
            Some(Cause::MirrorFile),
        ),
        (
            with(at(false, HostOutcome::NotFound), &|e| {
                let node = "docker.io/library/x:1".to_owned();
                e.name =
                    Some(NameEvidence::Reads { node, here: Some("bazaar.example/x:1".into()) });
            }),
            Some(Cause::ShortName),
        ),
    ];
    for outcome in [
        unauthorized(false),
        forbidden("no"),
        HostOutcome::NotFound,
        HostOutcome::Failing { status: 500, said: None },
        HostOutcome::Refused(text()),
    ] {
        rows.push((mirrored(outcome), Some(Cause::MirrorSkipped)));
    }
    rows.push((mirrored(HostOutcome::BlobCorrupt(text())), Some(Cause::BlobCorrupt)));
    rows.push((mirrored(HostOutcome::Stalled), Some(Cause::Stalled)));
    for (outcome, cause) in [
        (HostOutcome::UnknownHost, Cause::UnknownHost),
        (HostOutcome::NameService(text()), Cause::NameService),
        (HostOutcome::Refused(text()), Cause::Refused),
        (HostOutcome::NoAnswer, Cause::NoAnswer),
        (HostOutcome::Reset, Cause::Reset),
        (HostOutcome::PlainHttp, Cause::PlainHttp),
        (HostOutcome::WantsTls, Cause::WantsTls),
        (HostOutcome::NotHttp(text()), Cause::NotHttp),
        (HostOutcome::CaptivePage(text()), Cause::CaptivePage),
        (HostOutcome::Proxy(text()), Cause::Proxy),
        (HostOutcome::Stalled, Cause::Stalled),
        (HostOutcome::RedirectLoop(text()), Cause::RedirectLoop),
        (HostOutcome::UnknownAuthority(text()), Cause::UnknownAuthority),
        (HostOutcome::WrongName(text()), Cause::WrongName),
        (HostOutcome::CertificateExpired(text()), Cause::CertificateExpired),
        (HostOutcome::CertificateEarly(text()), Cause::CertificateEarly),
        (HostOutcome::ClientCertificate, Cause::ClientCertificate),
        (HostOutcome::TokenDown(text()), Cause::TokenDown),
        (HostOutcome::TokenOdd(text()), Cause::TokenOdd),
        (HostOutcome::ChildMissing(text()), Cause::ChildMissing),
        (HostOutcome::BlobMissing(text()), Cause::BlobMissing),
        (HostOutcome::BlobCorrupt(text()), Cause::BlobCorrupt),
        (HostOutcome::BlobLength(text()), Cause::BlobLength),
        (HostOutcome::StreamCut(text()), Cause::StreamCut),
        (HostOutcome::PlatformMissing(vec![text()]), Cause::PlatformMissing),
        (HostOutcome::ManifestTooLarge(5_000_000), Cause::ManifestTooLarge),
        (HostOutcome::ManifestOdd(text()), Cause::ManifestOdd),
        (HostOutcome::NoImage(text()), Cause::NoImage),
        (HostOutcome::OddHead(text()), Cause::OddHead),
    ] {
        rows.push((at(false, outcome), Some(cause)));
    }
    rows
}

fn certain(verdict: &PullVerdict) -> Option<Cause> {
    match verdict {
        PullVerdict::Fails(finding) if finding.confidence == Confidence::Certain => {
            Some(finding.cause)
        }
        PullVerdict::Succeeds(odd) => odd.first().map(|finding| finding.cause),
        _ => None,
    }
}

#[test]
fn each_evidence_has_its_finding() {
    let mut seen = std::collections::BTreeSet::new();
    for (evidence, expected) in table() {
        let verdict = diagnose(&evidence);
        assert_eq!(certain(&verdict), expected, "{evidence:#?}\n{verdict:#?}");
        seen.extend(expected);
        if let PullVerdict::Fails(finding) = &verdict {
            assert!(!finding.remedies.is_empty(), "{:?} has no remedy", finding.cause);
            assert!(finding.ruled_out.iter().all(|step| *step < finding.cause.step()));
        }
    }
    // Every cause but those that are weak by nature has a row.
    let weak = |cause: &Cause| {
        matches!(cause, Cause::AbsentOrHidden | Cause::Blocked) || cause.step() == PullStep::Node
    };
    let lacking: Vec<_> =
        Cause::ALL.iter().filter(|one| !seen.contains(one) && !weak(one)).collect();
    assert!(lacking.is_empty(), "{lacking:?}");
}

/// Hides what the bits name.
fn hide(evidence: &Evidence, bits: u32) -> Evidence {
    let mut hidden = evidence.clone();
    let bit = |at: u32| bits & (1 << at) != 0;
    if bit(0) {
        hidden.name = None;
    }
    if bit(1) {
        hidden.policy = None;
    }
    if bit(2) {
        hidden.nodes = None;
    }
    if bit(3) {
        hidden.credential = None;
    }
    if bit(4) {
        hidden.record = None;
    }
    if bit(5) {
        hidden.platform = None;
    }
    for (at, visit) in hidden.visits.iter_mut().enumerate() {
        if bit(6 + u32::try_from(at).unwrap()) {
            visit.outcome = None;
        }
    }
    if bit(9) {
        hidden.visits.clear();
    }
    hidden
}

proptest::proptest! {
    #[test]
    fn hidden_evidence_never_makes_another_cause_certain(row in 0usize..200, bits in 0u32..1024) {
        let rows = table();
        let (evidence, expected) = &rows[row % rows.len()];
        let verdict = diagnose(&hide(evidence, bits));
        // What succeeds with a remark may lose it; what fails must not be said to succeed.
        let whole = diagnose(evidence);
        if let PullVerdict::Fails(_) = whole {
            proptest::prop_assert!(!matches!(verdict, PullVerdict::Succeeds(_)), "{evidence:#?}\n{bits:b} {verdict:#?}");
        }
        if let Some(cause) = certain(&verdict) {
            proptest::prop_assert_eq!(Some(cause), *expected, "{:#?}\n{:b} {:#?}", evidence, bits, verdict);
        }
    }

    #[test]
    fn no_event_panics(text in "\\PC{0,200}|(failed to pull|\"|:|//| 4[0-9][0-9] |[A-Za-z.]{0,5}|\\[|\\]){0,30}") {
        read_events(&text);
    }
}

#[test]
fn where_the_node_is_not_known_both_ways_are_judged() {
    // The larder is asked as larder.toml says; a node without a file asks otherwise.
    let by_default = Some(Cause::PlainHttp);
    let PullVerdict::Succeeds(odd) = diagnose(&Evidence { by_default, ..at(true, pulls()) }) else {
        panic!("it can be pulled")
    };
    assert_eq!((odd[0].cause, odd[0].confidence), (Cause::PlainHttp, Confidence::Possible));
    assert!(odd[0].remedies[0].command.as_ref().unwrap().starts_with("larder handoff write"));
    // Straight it fails, and through the larder it does not.
    let through = |through| Evidence {
        nodes: None,
        through: Some(through),
        ..at(false, HostOutcome::UnknownHost)
    };
    let PullVerdict::Undecided(missing) = diagnose(&through(Through::Gives)) else {
        panic!("it depends on the way")
    };
    assert!(missing[0].contains("--nodes"), "{missing:?}");
    // The other way round.
    let refuses = Policy::Rule { reason: "rule `none`".into(), line: None };
    let evidence =
        Evidence { nodes: None, through: Some(Through::Refuses(refuses)), ..at(false, pulls()) };
    let PullVerdict::Succeeds(odd) = diagnose(&evidence) else { panic!("straight it is pulled") };
    assert_eq!((odd[0].cause, odd[0].confidence), (Cause::RuleDenies, Confidence::Possible));
    // What the node said decides, whatever may be.
    let mut told = through(Through::Gives);
    told.event =
        read_events("Failed to pull image \"larder.example/vendor/x:1\": no such host").pop();
    assert!(matches!(diagnose(&told), PullVerdict::Fails(_)));
}
