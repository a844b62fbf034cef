//! How fast are the decisions? `cargo bench -p larder-core`; compare within one run.
#![allow(clippy::unwrap_used)]

use divan::counter::BytesCount;
use divan::{Bencher, black_box};
use larder_core::digest::{Algorithm, Digest, Hasher};
use larder_core::document::Document;
use larder_core::reference::{Reference, Unqualified};
use larder_core::rewrite::{FileContext, scan};

fn main() {
    divan::main();
}

#[divan::bench(args = [Algorithm::Sha256, Algorithm::Sha512])]
fn hash(bencher: Bencher<'_, '_>, algorithm: Algorithm) {
    let bytes = vec![7; 4 << 20];
    bencher.counter(BytesCount::of_slice(&bytes)).bench_local(|| {
        let mut hasher = Hasher::new(algorithm);
        hasher.update(black_box(&bytes));
        hasher.finish()
    });
}

#[divan::bench]
fn read_a_reference() -> Reference {
    let unqualified = Unqualified::default();
    Reference::read(black_box("ventworks.example/gauges/steamgauge:1.9.2"), &unqualified)
        .unwrap()
        .reference
}

#[divan::bench]
fn read_an_index(bencher: Bencher<'_, '_>) {
    let child = format!(
        r#"{{"mediaType":"application/vnd.oci.image.manifest.v1+json","digest":"{}","size":500,"platform":{{"os":"linux","architecture":"amd64"}}}}"#,
        Digest::of(b"child")
    );
    let text = format!(r#"{{"schemaVersion":2,"manifests":[{}]}}"#, vec![child; 12].join(","));
    let bytes = bytes::Bytes::from(text);
    bencher
        .counter(BytesCount::of_slice(&bytes))
        .bench_local(|| Document::read(black_box(&bytes).clone(), None).unwrap().children().len());
}

/// A file of a hundred workloads with two images each.
fn deployments() -> String {
    (0..100)
        .map(|n| {
            format!(
                "---\n# number {n}\napiVersion: apps/v1\nkind: Deployment\nmetadata: {{name: board-{n}}}\nspec:\n  template:\n    spec:\n      containers:\n      - name: a\n        image: bazaar.example/library/kettle:2   # why\n        env: [{{name: RETENTION, value: \"400d\"}}]\n      - name: b\n        image: 'ventworks.example/gauges/steamgauge:1.9.2'\n"
            )
        })
        .collect::<Vec<_>>()
        .concat()
}

/// What a parser that looks at nothing takes for the same text: the bound of [`find_images`].
#[divan::bench]
fn parse_alone(bencher: Bencher<'_, '_>) {
    let text = deployments();
    bencher.counter(BytesCount::of_str(&text)).bench_local(|| {
        let mut parser = granit_parser::Parser::new_from_str(black_box(&text));
        let mut events = 0;
        while let Some(event) = parser.next_event() {
            event.unwrap();
            events += 1;
        }
        events
    });
}

fn yaml() -> FileContext<'static> {
    FileContext { name: "deploy.yaml", ..FileContext::default() }
}

#[divan::bench]
fn find_images(bencher: Bencher<'_, '_>) {
    let text = deployments();
    bencher
        .counter(BytesCount::of_str(&text))
        .bench_local(|| scan(black_box(&text), &yaml()).unwrap().findings.len());
}

#[divan::bench]
fn change_images(bencher: Bencher<'_, '_>) {
    let text = deployments();
    let new = Reference::read("larder.example/vendor/kettle:2", &Unqualified::default());
    let new = new.unwrap().reference;
    bencher.counter(BytesCount::of_str(&text)).bench_local(|| {
        let found = scan(black_box(&text), &yaml()).unwrap();
        let plan = found.plan(&vec![Some(new.clone()); found.findings.len()]);
        found.splice(&plan.changes).unwrap().len()
    });
}

/// A review of a pod with twenty containers, from its bytes to the answer's.
#[divan::bench]
fn review_a_pod(bencher: Bencher<'_, '_>) {
    use larder_core::door::{Door, Review, RulesAt};
    use larder_core::retarget::{Retarget, RetargetWish};
    use larder_core::route::{Exception, ExceptionScope, Routes};
    let containers: Vec<String> = (0..20)
        .map(|n| {
            format!(
                r#"{{"name":"c{n}","image":"bazaar.example/library/kettle{n}:2","env":[{{"name":"RETENTION","value":"400d"}}],"resources":{{"limits":{{"memory":"1Gi"}}}}}}"#
            )
        })
        .collect();
    let body = format!(
        r#"{{"apiVersion":"admission.k8s.io/v1","kind":"AdmissionReview","request":{{"uid":"1","kind":{{"kind":"Pod"}},"namespace":"scada","object":{{"apiVersion":"v1","kind":"Pod","metadata":{{"name":"x"}},"spec":{{"containers":[{}]}}}}}}}}"#,
        containers.join(",")
    );
    let own: larder_core::name::Host = "larder.example:5080".parse().unwrap();
    let told = Exception {
        of: ExceptionScope::read("bazaar.example/library/**", None).unwrap(),
        to: Some(ExceptionScope::read("bazaar/**", Some(&own)).unwrap()),
        because: String::new(),
    };
    let routes = Routes::new(own, Vec::new()).with_exceptions(vec![told]);
    let (lock, unqualified) = (larder_core::lock::Lock::default(), Unqualified::default());
    let door = Door {
        rewrite: true,
        pin: false,
        secret: Some("larder-pull".into()),
        rules: RulesAt::Enforce,
        except: Vec::new(),
        rehearse: false,
        unanswered: None,
    };
    bencher.bench_local(|| {
        let review = Review::read(black_box(body.as_bytes())).unwrap();
        let retarget = Retarget::new(&routes, &lock, &unqualified, RetargetWish::default());
        let reply = door.rewritten(&review, &review.scan(None).unwrap().unwrap(), &retarget);
        assert_eq!(reply.patch.len(), 21);
        review.answer(&reply).len()
    });
}

/// 500 clusters and 1,000 rules, of which the last decides.
fn rules() -> (larder_core::policy::Rules, larder_core::policy::Classes) {
    use larder_core::policy::{Asks, Classes, PolicyRule, Rules, Verdict, WhatRuns};
    let patterns: Vec<[larder_core::pattern::Pattern; 1]> =
        (0..100).map(|n| [format!("vendor{n}.example/**").parse().unwrap()]).collect();
    let names: Vec<String> = (0..100).map(|n| format!("class{n}")).collect();
    let pairs = names.iter().zip(&patterns).map(|(name, all)| (name.as_str(), &all[..]));
    let rule = |n: usize| PolicyRule {
        name: format!("rule {n}"),
        clusters: (0..5).map(|c| format!("cluster{}", (n * 5 + c) % 500).into()).collect(),
        namespaces: Vec::new(),
        classes: vec![format!("class{}", n % 99).into()],
        images: Vec::new(),
        asks: Asks::default(),
        verdict: Verdict::Deny,
        running: WhatRuns::Warn,
        held_before: None,
        because: String::new(),
        line: larder_core::access::ConfigLine::default(),
    };
    let mut all: Vec<PolicyRule> = (0..999).map(rule).collect();
    all.push(PolicyRule { clusters: Vec::new(), classes: vec!["class99".into()], ..rule(999) });
    (Rules::new(all).unwrap(), Classes::new(pairs).unwrap())
}

#[divan::bench]
fn decide_by_1000_rules_for_500_clusters(bencher: Bencher<'_, '_>) {
    let (rules, classes) = rules();
    let image: larder_core::reference::Image =
        "vendor99.example/gauges/steamgauge".parse().unwrap();
    bencher.bench_local(|| {
        let asked = larder_core::policy::RuleQuestion {
            cluster: black_box(Some("cluster250")),
            namespace: None,
            image: &image,
            class: classes.of(&image),
            own: false,
            tag: None,
            digest: None,
            part: false,
            now: 0,
        };
        matches!(
            rules.decide(&asked, &larder_core::policy::ImageFacts::default()),
            larder_core::policy::RuleDecision::Verdict { rule: Some(999), .. }
        )
    });
}

#[divan::bench]
fn issue_a_token(bencher: Bencher<'_, '_>) {
    use larder_core::access::token::{Signer, TokenAccess};
    use larder_core::access::{Action, Who};
    let signer = Signer::new(&[7; 32], "larder.emberfall.example").unwrap();
    let (who, name) =
        (Who::cluster("turbine-hall", Some("scada")), "vendor/kettle".parse().unwrap());
    bencher.bench_local(|| {
        let access = vec![TokenAccess::repository(&name, &[Action::Pull])];
        signer.issue(&who, None, None, access, black_box(1_790_000_000), "0123abcd".into())
    });
}

#[divan::bench]
fn verify_a_key(bencher: Bencher<'_, '_>) {
    use larder_core::access::key::{Key, Pepper, RANDOM};
    let (pepper, key) = (Pepper::new(&[7; 32]), Key::new(&[9; RANDOM]));
    let kept = pepper.hash(&key);
    bencher.bench_local(|| {
        let read: Key = black_box(key.reveal()).parse().unwrap();
        pepper.verifies(&read, &kept)
    });
}

/// A layer of a system: many files of text, and what its databases say.
fn packed_layer() -> Vec<u8> {
    use std::io::Write as _;
    let mut archive = tar::Builder::new(Vec::new());
    let mut number = 1_u64;
    for file in 0..400 {
        let mut content = Vec::new();
        while content.len() < 60_000 {
            number = number.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let _ = write!(content, "reading {} ", (number >> 40) % 5000);
        }
        let mut header = tar::Header::new_ustar();
        header.set_size(content.len() as u64);
        header.set_mode(0o644);
        let path = match file % 10 {
            0 => format!("app/node_modules/p{file}/package.json"),
            _ => format!("usr/share/d{}/f{file}", file % 7),
        };
        archive.append_data(&mut header, path, &content[..]).unwrap();
    }
    let plain = archive.into_inner().unwrap();
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::new(6));
    packed.write_all(&plain).unwrap();
    packed.finish().unwrap()
}

/// Inflating a layer, beside which [`reading_a_layer`] stands.
#[divan::bench]
fn inflating_a_layer(bencher: Bencher) {
    let packed = packed_layer();
    bencher.bench_local(|| {
        let mut inflated = flate2::bufread::MultiGzDecoder::new(&packed[..]);
        std::io::copy(&mut inflated, &mut std::io::sink()).unwrap()
    });
}

#[divan::bench]
fn reading_a_layer(bencher: Bencher) {
    use larder_core::inventory::{LayerLimits, read_layer};
    let packed = packed_layer();
    bencher.bench_local(|| read_layer(&packed[..], &LayerLimits::default()).unwrap());
}

/// A key that signs, of the kind that is measured.
fn signing(kind: &str) -> rcgen::KeyPair {
    let algorithm = match kind {
        "Ed25519" => &rcgen::PKCS_ED25519,
        "P-256" => &rcgen::PKCS_ECDSA_P256_SHA256,
        _ => &rcgen::PKCS_ECDSA_P384_SHA384,
    };
    rcgen::KeyPair::generate_for(algorithm).unwrap()
}

/// What a statement in an envelope is worth, from the bytes of its companion on.
#[divan::bench(args = ["Ed25519", "P-256", "P-384"])]
fn examine_an_envelope(bencher: Bencher<'_, '_>, kind: &str) {
    use base64::Engine as _;
    use base64::engine::general_purpose::STANDARD;
    use larder_core::signature as signed;
    use rcgen::SigningKey as _;

    let pair = signing(kind);
    let keys = signed::read_key_file(pair.public_key_pem().as_bytes()).unwrap().keys;
    let image = Digest::of(b"image");
    let (hex, media_type) = (image.hex(), "application/vnd.in-toto+json");
    let statement = format!(
        r#"{{"_type":"https://in-toto.io/Statement/v1","subject":[{{"digest":{{"sha256":"{hex}"}}}}],"predicateType":"https://emberfall.example/approved/v1","predicate":{{}}}}"#
    );
    let front = format!("DSSEv1 {} {media_type} {} ", media_type.len(), statement.len());
    let signature = pair.sign(&[front.as_bytes(), statement.as_bytes()].concat()).unwrap();
    let envelope = format!(
        r#"{{"payloadType":"{media_type}","payload":"{}","signatures":[{{"sig":"{}"}}]}}"#,
        STANDARD.encode(&statement),
        STANDARD.encode(&signature)
    );
    let (layer, size) = (Digest::of(envelope.as_bytes()), envelope.len());
    let manifest = format!(
        r#"{{"schemaVersion":2,"config":{{"mediaType":"a/b","digest":"{image}","size":5}},"layers":[{{"mediaType":"application/vnd.dsse.envelope.v1+json","digest":"{layer}","size":{size}}}],"subject":{{"mediaType":"a/b","digest":"{image}","size":5}}}}"#
    );
    let trust = signed::Trust {
        signers: vec![signed::Signer {
            name: "emberfall-approval".to_owned(),
            images: vec!["**".parse().unwrap()],
            keys,
            revoked: Vec::new(),
            authorities: signed::Authorities::default(),
            identity: None,
            signed_as: Vec::new(),
            statements: Vec::new(),
            is_logged: true,
        }],
        ..signed::Trust::default()
    };
    let names = ["ventworks.example/gauges/steamgauge".to_owned()];
    let question = signed::Question {
        names: &names,
        tags: &[],
        image: signed::Target { digest: &image, media_type: "a/b", bytes: b"image" },
        indexes: &[],
        now: 1_800_000_000,
    };
    let layers = std::collections::BTreeMap::from([(layer, envelope.into_bytes())]);
    let companion = Digest::of(manifest.as_bytes());
    bencher.bench_local(|| {
        let found = signed::FoundCompanion {
            digest: &companion,
            about: &image,
            how: signed::FoundBy::Reference,
            bytes: black_box(manifest.as_bytes()),
            layers: &layers,
        };
        let examined = signed::examine(&trust, &question, [found]);
        assert!(examined[0].outcome.is_ok());
    });
}

/// What a pull costs once what was found of its image is kept: two signers are asked for, among notes of others.
#[divan::bench(args = [0, 100])]
fn decide_by_kept_signatures(bencher: Bencher<'_, '_>, notes: usize) {
    use larder_core::policy::{
        Asks, Fact, ImageFacts, PolicyRule, RuleDecision, RuleQuestion, Rules, SignatureFacts,
        Verdict, WhatRuns,
    };
    use larder_core::signature::{Examined, Flaw, Proven, SignatureAsk, SignedBy};
    let by = ["ventworks-release", "emberfall-approval"].map(str::to_owned);
    let ask = SignatureAsk { by: by.to_vec(), of: 2, within: None, says: None };
    let rule = PolicyRule {
        name: "vetted images are signed".to_owned(),
        clusters: Vec::new(),
        namespaces: Vec::new(),
        classes: vec!["vetted".into()],
        images: Vec::new(),
        asks: Asks { signed: vec![ask], ..Asks::default() },
        verdict: Verdict::Deny,
        running: WhatRuns::Warn,
        held_before: None,
        because: String::new(),
        line: larder_core::access::ConfigLine::default(),
    };
    let rules = Rules::new(vec![rule]).unwrap();
    let digest = Digest::of(b"image");
    let found = |outcome| Examined { companion: digest.clone(), form: None, outcome };
    let signed = by.map(|signer| {
        found(Ok(Proven {
            signer,
            by: SignedBy::Key(String::new()),
            over: digest.clone(),
            at: None,
            until: None,
            said: None,
            is_signature: true,
        }))
    });
    let noted = (0..notes).map(|_| found(Err(Flaw::NoSignature)));
    let found = noted.chain(signed).collect();
    let facts = ImageFacts {
        signatures: Fact::Is(SignatureFacts { found, is_withdrawn: false }),
        ..ImageFacts::UNKNOWN
    };
    let image = "ventworks.example/gauges/steamgauge".parse().unwrap();
    bencher.bench_local(|| {
        let asked = RuleQuestion {
            cluster: black_box(Some("turbine-hall")),
            namespace: None,
            image: &image,
            class: Some("vetted"),
            own: false,
            tag: None,
            digest: None,
            part: false,
            now: 0,
        };
        let decided = rules.decide(&asked, &facts);
        assert!(matches!(decided, RuleDecision::Verdict { verdict: Verdict::Allow, .. }));
    });
}
