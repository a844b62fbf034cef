//! What events, journals and clients say, and how it weighs beside what is found from here.

use super::*;

#[test]
fn events_are_read_in_their_wordings() {
    let r = |rest: &str| {
        format!(
            "Warning Failed rpc error: code = Unknown desc = failed to pull and unpack image \"bazaar.example/library/kettle:2\": failed to resolve reference \"bazaar.example/library/kettle:2\": {rest}"
        )
    };
    for (text, cause) in [
        (r("bazaar.example/library/kettle:2: not found"), Some(Cause::AbsentOrHidden)),
        (r("pulling from host bazaar.example failed with status code [manifests 2]: 401 Unauthorized"), Some(Cause::NoCredential)),
        (r("pulling from host bazaar.example failed with status code [manifests 2]: 403 Forbidden: bazaar/x is refused by rule `y`: z [ab12-34]"), Some(Cause::RuleDenies)),
        (r("pulling from host bazaar.example failed with status code [manifests 2]: 503 Service Unavailable"), Some(Cause::Failing)),
        (r("pull access denied, repository does not exist or may require authorization: server message: insufficient_scope: authorization failed"), Some(Cause::TokenWithoutAccess)),
        (r("failed to authorize: failed to fetch oauth token: unexpected status: 401 Unauthorized"), Some(Cause::WrongCredential)),
        (r("failed to authorize: failed to fetch anonymous token: unexpected status: 503 Service Unavailable"), Some(Cause::TokenRefused)),
        (r("failed to do request: Head \"https://bazaar.example/v2/library/kettle/manifests/2\": dial tcp: lookup bazaar.example on 10.96.0.10:53: no such host"), Some(Cause::UnknownHost)),
        (r("failed to do request: Head \"https://bazaar.example/v2/\": x509: certificate signed by unknown authority"), Some(Cause::UnknownAuthority)),
        (r("failed to do request: Head \"https://bazaar.example/v2/\": tls: first record does not look like a TLS handshake"), Some(Cause::PlainHttp)),
        (r("failed to do request: Head \"https://bazaar.example/v2/\": http: server gave HTTP response to HTTPS client"), Some(Cause::PlainHttp)),
        ("Failed to pull image \"kettle\": rpc error: code = NotFound desc = failed to pull and unpack image \"docker.io/library/kettle:latest\": no match for platform in manifest: not found".into(), Some(Cause::PlatformMissing)),
        ("Failed to apply default image tag \"http://kettle\": couldn't parse image name \"http://kettle\": invalid reference format".into(), Some(Cause::Scheme)),
        ("Back-off pulling image \"kettle:2\"".into(), None),
    ] {
        let events = read_events(&text);
        assert_eq!(events.len(), 1, "{text}");
        assert_eq!(events[0].cause().map(|it| it.0), cause, "{text}");
    }
    let refused = r(
        "pulling from host larder.example:5080 failed with status code [manifests 2]: 403 Forbidden: x may not pull y [7k3m-22]",
    );
    let event = &read_events(&refused)[0];
    assert_eq!(event.host.as_deref(), Some("larder.example:5080"));
    assert_eq!(event.status, Some(403));
    assert_eq!(event.number.as_deref(), Some("7k3m-22"));
    // A whole description: each failure once, and the vague lines only where nothing better is said.
    let described = format!(
        "Events:\n  Normal Pulling Pulling image \"bazaar.example/library/kettle:2\"\n  {}\n  {}\n  Warning Failed Error: ErrImagePull\n  Normal BackOff Back-off pulling image \"bazaar.example/library/kettle:2\"\n  Normal BackOff Back-off pulling image \"other:1\"\n",
        r("bazaar.example/library/kettle:2: not found"),
        r("bazaar.example/library/kettle:2: not found"),
    );
    let references: Vec<Option<String>> =
        read_events(&described).into_iter().map(|event| event.reference).collect();
    assert_eq!(references.len(), 2, "{references:?}");
}

/// What follows "failed to resolve reference …: " in a node's journal, the cause, and a part of what is told.
const WORDINGS: [(&str, Cause, &str); 33] = [
    (
        "bazaar.example/Library/kettle:2: repository name must be lowercase",
        Cause::UpperCase,
        "names are lower case",
    ),
    (
        "failed to decode hosts.toml: invalid TOML at line 3",
        Cause::MirrorFile,
        "drops a mirror file",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": tls: failed to verify certificate: x509: certificate has expired or is not yet valid: current time 2031-01-01T00:00:00Z is after 2030-01-01T00:00:00Z",
        Cause::CertificateExpired,
        "bazaar.example is not good at the node's time",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": tls: failed to verify certificate: x509: certificate has expired or is not yet valid: current time 2026-01-01T00:00:00Z is before 2030-01-01T00:00:00Z",
        Cause::CertificateEarly,
        "bazaar.example is not good at the node's time",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": x509: certificate is valid for other.example, not bazaar.example",
        Cause::WrongName,
        "bazaar.example is for another name",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": remote error: tls: certificate required",
        Cause::ClientCertificate,
        "bazaar.example wants a certificate of the node",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": remote error: tls: bad certificate",
        Cause::ClientCertificate,
        "wants a certificate",
    ),
    (
        "failed to do request: Head \"http://bazaar.example/v2/\": http: server gave HTTP response to HTTPS client",
        Cause::PlainHttp,
        "bazaar.example speaks plain HTTP",
    ),
    (
        "pulling from host bazaar.example failed with status code [manifests 2]: 400 Bad Request: Client sent an HTTP request to an HTTPS server.",
        Cause::WantsTls,
        "bazaar.example wants HTTPS",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": proxyconnect tcp: dial tcp 10.0.0.9:3128: connect: connection refused",
        Cause::Proxy,
        "between the node and bazaar.example",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": Proxy Authentication Required",
        Cause::Proxy,
        "a proxy stands between",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": dial tcp: lookup bazaar.example on 10.96.0.10:53: server misbehaving",
        Cause::NameService,
        "name service gives no answer",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": dial tcp: lookup bazaar.example: read udp 10.4.0.7:53: i/o timeout",
        Cause::NameService,
        "name service gives no answer",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": dial tcp 10.0.0.9:443: connect: connection refused",
        Cause::Refused,
        "nothing listens at bazaar.example",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": read tcp 10.4.0.7:443: read: connection reset by peer",
        Cause::Reset,
        "bazaar.example breaks the connection off",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": dial tcp 10.0.0.9:443: i/o timeout",
        Cause::NoAnswer,
        "nothing answers at bazaar.example",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": net/http: TLS handshake timeout",
        Cause::NoAnswer,
        "nothing answers at bazaar.example",
    ),
    (
        "failed to do request: Get \"https://bazaar.example/v2/library/kettle/blobs/x\": context deadline exceeded",
        Cause::Stalled,
        "bazaar.example did not answer in time",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": stopped after 10 redirects",
        Cause::RedirectLoop,
        "bazaar.example redirects in a circle",
    ),
    (
        "failed to do request: Head \"https://bazaar.example/v2/\": net/http: HTTP/1.x transport connection broken: malformed HTTP response \"SSH-2.0\"",
        Cause::NotHttp,
        "bazaar.example is no registry",
    ),
    (
        "bazaar.example/library/kettle:2: unexpected media type text/html for sha256:00: not found",
        Cause::CaptivePage,
        "is no registry",
    ),
    (
        "no matching manifest for linux/arm64 in the manifest list entries",
        Cause::PlatformMissing,
        "is not made for the node's platform",
    ),
    (
        "unexpected commit digest sha256:00, expected sha256:11: failed precondition",
        Cause::BlobCorrupt,
        "is not what its digest says",
    ),
    (
        "failed commit on ref \"layer-sha256:00\": failed size validation: 10 != 11: failed precondition",
        Cause::BlobCorrupt,
        "is not what its digest says",
    ),
    (
        "layer-sha256:00: failed size validation: 10 != 11: failed precondition",
        Cause::BlobLength,
        "has another length",
    ),
    ("failed to copy: httpReadSeeker: unexpected EOF", Cause::StreamCut, "broke off in the middle"),
    (
        "failed to read expected number of bytes: 100 of 200",
        Cause::StreamCut,
        "broke off in the middle",
    ),
    (
        "failed to copy: httpReadSeeker: failed open: could not fetch content descriptor sha256:00 from remote: not found",
        Cause::BlobMissing,
        "a part of bazaar.example/library/kettle:2 is not there",
    ),
    (
        "rejecting 5000000 byte manifest with digest sha256:00: too large",
        Cause::ManifestTooLarge,
        "is too large",
    ),
    (
        "failed to fetch oauth token: response did not include a token",
        Cause::TokenOdd,
        "gives no token",
    ),
    (
        "failed to authorize: failed to fetch anonymous token: unexpected status from GET request to https://bazaar.example/token: 403 Forbidden",
        Cause::TokenRefused,
        "the token service of bazaar.example refuses",
    ),
    (
        "unexpected status from HEAD request to https://bazaar.example/v2/library/kettle/manifests/2: 429 Too Many Requests",
        Cause::RateLimited,
        "bazaar.example limits how much is pulled",
    ),
    (
        "unexpected status from HEAD request to https://bazaar.example/v2/library/kettle/manifests/2: 403 Forbidden",
        Cause::Forbidden,
        "bazaar.example forbids the pull",
    ),
];

#[test]
fn events_tell_the_cause_and_whom_it_is_about() {
    let image = "bazaar.example/library/kettle:2";
    for (rest, cause, told) in WORDINGS {
        let text = format!(
            "failed to pull and unpack image \"{image}\": failed to resolve reference \"{image}\": {rest}"
        );
        // The same in a journal's fields, whose quotes are escaped.
        let journal =
            format!("level=error msg=\"PullImage failed\" error=\"{}\"", text.replace('"', "\\\""));
        for text in [text, journal] {
            let events = read_events(&text);
            let [event] = events.as_slice() else { panic!("{text}: {events:?}") };
            assert_eq!(event.reference.as_deref(), Some(image), "{text}");
            let (found, said) = event.cause().unwrap_or_else(|| panic!("{text}"));
            assert_eq!(found, cause, "{text}");
            assert!(said.contains(told), "{text}: {said}");
            // Alone, it is what a node met then, and never certain now.
            let evidence = Evidence { event: Some(event.clone()), ..Evidence::default() };
            let PullVerdict::Fails(finding) = diagnose(&evidence) else { panic!("{text}") };
            assert_eq!(finding.cause, cause, "{text}");
            assert!(finding.confidence < Confidence::Certain, "{text}");
            assert!(!finding.remedies.is_empty(), "{text}: nothing to do is said");
        }
    }
}

#[test]
fn without_any_answer_the_events_still_tell_what_is_possible() {
    let text = "failed to pull and unpack image \"x.example/a:1\": failed to resolve reference \"x.example/a:1\": failed to do request: Head \"https://x.example/v2/\": dial tcp: lookup x.example: no such host";
    let evidence = Evidence { event: read_events(text).pop(), ..Evidence::default() };
    let PullVerdict::Fails(finding) = diagnose(&evidence) else { panic!() };
    assert_eq!((finding.cause, finding.confidence), (Cause::UnknownHost, Confidence::Likely));
    assert!(
        matches!(diagnose(&Evidence::default()), PullVerdict::Undecided(missing) if !missing.is_empty())
    );
}

/// What the node said beside what is found from here: never "it can be pulled" where it failed, and never what was
/// found missing here over what the node was told.
#[test]
fn what_the_node_said_decides_and_what_is_found_here_explains_it() {
    let r = |rest: &str| {
        let image = "vendor.example/x:1";
        format!(
            "failed to pull and unpack image \"{image}\": failed to resolve reference \"{image}\": {rest}"
        )
    };
    let refused = |status: &str, said: &str| {
        r(&format!(
            "unexpected status from HEAD request to http://larder.example/v2/x/manifests/1: {status}: {said}"
        ))
    };
    let anonymous = HostOutcome::Unauthorized { shown: false, said: None };
    let revoked = refused(
        "401 Unauthorized",
        "the sign-in is refused: the key k7 of scada is revoked [0eq3ce5z]",
    );
    for (text, outcome, expected) in [
        // Asked from here without a key: that says nothing of the key that the node showed.
        (revoked.clone(), anonymous.clone(), Cause::KeyRevoked),
        (
            refused(
                "401 Unauthorized",
                "the sign-in is refused: the key k7 of scada has expired [0eq3ce5z]",
            ),
            anonymous.clone(),
            Cause::KeyExpired,
        ),
        (
            refused("403 Forbidden", "scada may not pull vendor/x: no grant names it [0eq3ce5z]"),
            anonymous.clone(),
            Cause::GrantMissing,
        ),
        (
            r("no match for platform in manifest: not found"),
            anonymous.clone(),
            Cause::PlatformMissing,
        ),
        (
            r(
                "failed to do request: Head \"https://larder.example/v2/\": http: server gave HTTP response to HTTPS client",
            ),
            anonymous.clone(),
            Cause::PlainHttp,
        ),
        // It would work from here; there it did not.
        (
            r(
                "failed to do request: Head \"https://larder.example/v2/\": http: server gave HTTP response to HTTPS client",
            ),
            pulls(),
            Cause::PlainHttp,
        ),
        (r("write /var/lib/x: no space left on device"), pulls(), Cause::DiskFull),
        // What is found here says more of the same.
        (r("vendor.example/x:1: not found"), HostOutcome::NotFound, Cause::TagMissing),
        (
            refused("502 Bad Gateway", "x"),
            HostOutcome::Failing { status: 502, said: None },
            Cause::UpstreamDown,
        ),
    ] {
        let mut evidence = at(true, outcome);
        evidence.event = read_events(&text).into_iter().next();
        if expected == Cause::TagMissing {
            evidence.record = Some(record(ContentAccess::NoTag(Vec::new())));
        }
        let PullVerdict::Fails(finding) = diagnose(&evidence) else { panic!("{text}") };
        assert_eq!(finding.cause, expected, "{text}: {finding:#?}");
        assert!(!finding.remedies.is_empty());
    }
    // With the pod's own secret it is let in now: what the node was told is over, and is told all the same.
    let mut evidence = at(true, pulls());
    evidence.event = read_events(&revoked).into_iter().next();
    let PullVerdict::Succeeds(odd) = diagnose(&evidence) else { panic!() };
    assert_eq!(odd[0].cause, Cause::KeyRevoked);
    evidence.credential = None;
    assert!(
        matches!(diagnose(&evidence), PullVerdict::Fails(found) if found.cause == Cause::KeyRevoked)
    );
    // A failure without a reason is not talked away.
    let mut evidence = at(true, pulls());
    evidence.event = read_events("Error: ErrImagePull").into_iter().next();
    assert!(matches!(diagnose(&evidence), PullVerdict::Undecided(_)));
}

#[test]
fn a_sentence_with_line_breaks_stays_whole() {
    let text = "  Warning  Failed  2s  kubelet  Failed to pull image \"larder.example/vendor/x:1\": rpc error: code = Unknown desc = failed to pull and unpack image \"larder.example/vendor/x:1\": failed to copy: httpReadSeeker: failed open: unexpected status from GET request to http://larder.example/v2/vendor/x/manifests/sha256:1: 403 Forbidden\ndenied: larder.example/vendor/x:1 is refused by rule `nothing unvetted`: runs the turbines [0eq3ce5z]\n  Warning  Failed  2s  kubelet  Error: ErrImagePull\n";
    let events = read_events(text);
    let [event] = events.as_slice() else { panic!("{events:#?}") };
    assert_eq!(event.number.as_deref(), Some("0eq3ce5z"));
    let (cause, told) = event.cause().unwrap();
    assert_eq!(cause, Cause::RuleDenies);
    assert_eq!(
        told,
        "the larder says: larder.example/vendor/x:1 is refused by rule `nothing unvetted`: runs the turbines [0eq3ce5z]"
    );
}

#[test]
fn a_journal_tells_what_its_last_line_hides() {
    let text = "level=info msg=\"trying next host after status: 404 Not Found\" host=\"mirror.example:5050\"\nlevel=info msg=\"fetch failed\" error=\"failed to do request: Head \\\"https://vendor.example/v2/x/manifests/1\\\": tls: failed to verify certificate: x509: certificate signed by unknown authority\" host=vendor.example\nlevel=error msg=\"PullImage \\\"vendor.example/x:1\\\" failed\" error=\"rpc error: code = NotFound desc = failed to pull and unpack image \\\"vendor.example/x:1\\\": failed to resolve image: vendor.example/x:1: not found\"\n";
    let events = read_events(text);
    let [event] = events.as_slice() else { panic!("{events:#?}") };
    assert_eq!(event.reference.as_deref(), Some("vendor.example/x:1"));
    assert_eq!(event.cause().unwrap().0, Cause::UnknownAuthority);
    assert_eq!(event.host.as_deref(), Some("vendor.example"));
}

#[test]
fn a_line_of_the_record_that_is_another_ones_decides_nothing() {
    let text = "Failed to pull image \"larder.example/vendor/x:1\": unexpected status from GET request to \
                https://larder.example/larder/token: 401 Unauthorized: the sign-in is refused: the key abc of \
                turbine-hall/scada is revoked [7kq2m4xa]";
    let found = |recorded: Cause| {
        let mut evidence = at(true, HostOutcome::NotFound);
        evidence.event = read_events(text).into_iter().next();
        evidence.recorded = Some((recorded, "what the line says".into()));
        let PullVerdict::Fails(finding) = diagnose(&evidence) else { panic!("it fails") };
        (finding.cause, finding.confidence)
    };
    assert_eq!(found(Cause::KeyRevoked), (Cause::KeyRevoked, Confidence::Certain));
    assert_eq!(found(Cause::KeyUnknown), (Cause::KeyRevoked, Confidence::Likely));
}

#[test]
fn a_status_is_read_whatever_follows_it() {
    let cause = |text: &str| {
        let text = format!("Failed to pull image \"a.example:5000/x:1\": {text}");
        read_events(&text).pop().unwrap().said().map(|said| said.cause)
    };
    let head = "failed to resolve image: unexpected status from HEAD request to https://a.example:5000/v2/x/manifests/1?ns=b: ";
    for (status, expected) in [
        ("401 it is as it is", Cause::NoCredential),
        ("403 kein Zutritt", Cause::Forbidden),
        ("429 langsam", Cause::RateLimited),
        ("503 später", Cause::Failing),
        ("520 ", Cause::Failing),
        ("408 Request Timeout", Cause::Failing),
        ("410 Gone", Cause::AbsentOrHidden),
    ] {
        assert_eq!(cause(&format!("{head}{status}")), Some(expected), "{status}");
    }
    let older =
        "pulling from host a.example:5000 failed with status code [manifests 1]: 503 morgen wieder";
    assert_eq!(cause(older), Some(Cause::Failing));
    assert_eq!(
        cause("failed to fetch oauth token: unexpected status: 503 nein"),
        Some(Cause::TokenRefused)
    );
    assert_eq!(
        cause("failed to resolve image: no realm specified for token auth challenge"),
        Some(Cause::TokenOdd)
    );
}
