//! The platform evaluates what is written for it as the rules decide.

use std::sync::Arc;

use cel::{Context, Env, extensions, to_value};

use super::*;
use crate::access::ConfigLine;
use crate::cached::ShelfReach;
use crate::handoff::path_of;
use crate::lock::Lock;
use crate::name::Host;
use crate::policy::{Asks, Fact, ImageFacts, RuleDecision, RuleQuestion, WhatRuns};
use crate::reference::{Image, Reference};
use crate::route::{Exception, ExceptionScope, RouteEntry, RouteShelf, Routes};

const HOST: &str = "larder.emberfall.example:5080";

/// What the platform makes of an object, variable by variable.
fn variables(
    env: &Arc<Env>,
    policy: &Value,
    (object, before): (&Value, Option<&Value>),
    namespace: &str,
) -> Value {
    let mut context = Context::with_env(Arc::clone(env));
    context.add_variable("object", to_value(object).unwrap()).unwrap();
    context.add_variable("oldObject", to_value(before).unwrap()).unwrap();
    context.add_variable("request", to_value(json!({ "namespace": namespace })).unwrap()).unwrap();
    let mut variables = json!({});
    for variable in policy["spec"]["variables"].as_array().unwrap() {
        context.add_variable("variables", to_value(&variables).unwrap()).unwrap();
        let value = run(env, &context, variable["expression"].as_str().unwrap());
        variables[variable["name"].as_str().unwrap()] = value;
    }
    variables
}

fn run(env: &Env, context: &Context<'_, '_>, expression: &str) -> Value {
    let program = env.compile(expression).unwrap_or_else(|error| panic!("{expression}: {error}"));
    let value = program.execute(context).unwrap_or_else(|error| panic!("{expression}: {error}"));
    value.json().unwrap()
}

fn platform() -> Arc<Env> {
    let mut env = Env::stdlib();
    env.add_extension(extensions::strings).unwrap();
    Arc::new(env)
}

/// What the platform answers: the sentence with which the object is refused. None: it is taken.
fn answer(
    policy: &Value,
    object: &Value,
    before: Option<&Value>,
    namespace: &str,
) -> Option<String> {
    let env = platform();
    let variables = variables(&env, policy, (object, before), namespace);
    let mut context = Context::with_env(Arc::clone(&env));
    context.add_variable("variables", to_value(&variables).unwrap()).unwrap();
    let validation = &policy["spec"]["validations"][0];
    match run(&env, &context, validation["expression"].as_str().unwrap()) {
        Value::Bool(true) => None,
        _ => run(&env, &context, validation["messageExpression"].as_str().unwrap())
            .as_str()
            .map(str::to_owned),
    }
}

fn pod(images: &[&str]) -> Value {
    let containers: Vec<Value> =
        images.iter().map(|image| json!({ "name": "c", "image": image })).collect();
    json!({ "kind": "Pod", "spec": { "containers": containers } })
}

fn rule(name: &str, verdict: Verdict) -> PolicyRule {
    PolicyRule {
        name: name.into(),
        clusters: Vec::new(),
        namespaces: Vec::new(),
        classes: Vec::new(),
        images: Vec::new(),
        asks: Asks::default(),
        verdict,
        running: WhatRuns::Warn,
        held_before: None,
        because: "it is \"so\"".into(),
        line: ConfigLine::default(),
    }
}

fn boxed(names: &[&str]) -> Vec<Box<str>> {
    names.iter().map(|name| Box::from(*name)).collect()
}

struct House {
    rules: Rules,
    classes: Classes,
    routes: Routes,
    unqualified: Unqualified,
}

impl House {
    fn new(rules: Vec<PolicyRule>) -> Self {
        let own: Host = HOST.parse().unwrap();
        let image = |text: &str| text.parse::<Image>().unwrap();
        let scope = |text: &str| ExceptionScope::read(text, Some(&own)).unwrap();
        let patterns =
            |all: &[&str]| -> Vec<Pattern> { all.iter().map(|one| one.parse().unwrap()).collect() };
        let vetted = patterns(&["ventworks.example/**", "docker.io/library/{kettle,brine*}"]);
        let own_images = patterns(&["larder.emberfall.example:5080/built/**"]);
        let rest = patterns(&["bazaar.example/*/*", "docker.io/**"]);
        let classes =
            [("vetted", &vetted[..]), ("built", &own_images[..]), ("community", &rest[..])];
        let brought = RouteEntry {
            image: image("ventworks.example/gauges/steamgauge"),
            to: image(&format!("{HOST}/vendor/steamgauge")),
        };
        let shelf = |name: &str, host: &str| RouteShelf {
            host: host.parse().unwrap(),
            name: name.parse().unwrap(),
            reach: ShelfReach::new(Vec::new(), Vec::new()).unwrap(),
        };
        let told = Exception {
            of: scope("bazaar.example/community/**"),
            to: Some(scope("moved/community/**")),
            because: String::new(),
        };
        Self {
            rules: Rules::new(rules).unwrap(),
            classes: Classes::new(classes).unwrap(),
            routes: Routes::new(own, vec![brought])
                .with_shelves(vec![shelf("hub", "docker.io"), shelf("bazaar", "bazaar.example")])
                .with_exceptions(vec![told]),
            unqualified: "bazaar.example/library".parse().unwrap(),
        }
    }

    fn objects(&self) -> Vec<Value> {
        let origins = self.routes.origins();
        let names = NameRules {
            cluster: "turbine-hall",
            host: HOST,
            rules: &self.rules,
            classes: &self.classes,
            origins: &origins,
            unqualified: &self.unqualified,
            except: &["lab".to_owned()],
            warns: false,
        };
        names.objects().unwrap()
    }

    /// Whether the rules refuse an image whatever it holds, decided as a pull is.
    fn refuses(&self, text: &str, namespace: &str) -> bool {
        let Ok(read) = Reference::read(text, &self.unqualified) else { return false };
        let reference = read.reference;
        let own = self.routes.own();
        let origin = match reference.host == *own {
            true => self.routes.origins().of(&reference.repository),
            false => Some(reference.image()),
        };
        // A route changes nothing of where an image comes from.
        let _ = self.routes.standing(&reference, &Lock::default());
        let image = origin.clone().unwrap_or_else(|| reference.image());
        let decide = |facts: &ImageFacts| {
            let asked = RuleQuestion {
                cluster: Some("turbine-hall"),
                namespace: Some(namespace),
                image: &image,
                class: self.classes.of(&image),
                own: origin.is_none(),
                tag: reference.tag.as_ref(),
                digest: reference.digest.as_ref(),
                part: false,
                now: 1_000_000,
            };
            match self.rules.decide(&asked, facts) {
                RuleDecision::Verdict { verdict, .. } => verdict == Verdict::Deny,
                RuleDecision::Needs(_) => panic!("all facts are given"),
            }
        };
        let all = ImageFacts {
            platforms: Fact::Is(vec!["linux/amd64".parse().unwrap()]),
            held: Fact::Is(0),
            signed: Fact::Is(true),
            ..ImageFacts::UNKNOWN
        };
        decide(&all) && decide(&ImageFacts::UNKNOWN)
    }
}

/// Rules of every shape, in orders that matter.
fn houses() -> Vec<House> {
    let asks = |asks: Asks| asks;
    let digest = asks(Asks { digest: true, ..Asks::default() });
    let fixed = asks(Asks { fixed_tag: true, ..Asks::default() });
    let signed = asks(Asks { signature: true, ..Asks::default() });
    let both = asks(Asks { digest: true, signature: true, ..Asks::default() });
    let with = |mut one: PolicyRule, change: &dyn Fn(&mut PolicyRule)| {
        change(&mut one);
        one
    };
    let deny = |change: &dyn Fn(&mut PolicyRule)| with(rule("no", Verdict::Deny), change);
    let allow = |change: &dyn Fn(&mut PolicyRule)| with(rule("yes", Verdict::Allow), change);
    vec![
        House::new(vec![deny(&|one| one.classes = boxed(&["community"]))]),
        House::new(vec![
            allow(&|one| one.images = vec!["docker.io/library/kettle".parse().unwrap()]),
            deny(&|one| one.asks = digest.clone()),
        ]),
        House::new(vec![
            deny(&|one| {
                one.classes = boxed(&["vetted", "built"]);
                one.asks = fixed.clone();
            }),
            deny(&|one| {
                one.namespaces = boxed(&["scada"]);
                one.images = vec!["**/team-?/*".parse().unwrap(), "*/built/**".parse().unwrap()];
            }),
        ]),
        // What lets images in by what they hold leaves the rest to those who know.
        House::new(vec![
            allow(&|one| {
                one.classes = boxed(&["vetted"]);
                one.asks = signed.clone();
            }),
            deny(&|_| {}),
        ]),
        House::new(vec![
            deny(&|one| {
                one.classes = boxed(&["community"]);
                one.asks = both.clone();
            }),
            with(rule("told", Verdict::Warn), &|one| one.classes = boxed(&["built"])),
            deny(&|one| one.clusters = boxed(&["turbine-hall"])),
            deny(&|one| one.clusters = boxed(&["control-room"])),
        ]),
        House::new(vec![deny(&|one| one.clusters = boxed(&["control-room"]))]),
    ]
}

fn references() -> Vec<String> {
    let digest = format!("@sha256:{}", "a".repeat(64));
    let stable = format!(":stable{digest}");
    let mut all = Vec::new();
    for host in [
        "",
        "docker.io/",
        "docker.io:443/",
        "index.docker.io:0443/",
        "Bazaar.Example/",
        "bazaar.example:80/",
        "bazaar.example:08080/",
        "ventworks.example/",
        "localhost/",
        "localhost:443/",
        "dotless:443/",
        "larder.emberfall.example:5080/",
        "larder.emberfall.example:05080/",
        "LARDER.emberfall.example:5080/",
        "[::1]:443/",
    ] {
        for name in [
            "kettle",
            "library/kettle",
            "brinedb",
            "community/pipewatch",
            "hub/library/kettle",
            "hub/team/x",
            "bazaar/community/pipewatch",
            "moved/community/pipewatch",
            "vendor/steamgauge",
            "vendor/steamgauge/more",
            "built/control",
            "a/team-7/x",
        ] {
            // How a name ends does not depend on how it begins.
            let ends = ["", ":1.2", &digest, ":stable", ":latest", ":0", &stable];
            let few = if host.is_empty() || name == "kettle" { ends.len() } else { 3 };
            all.extend(ends[..few].iter().map(|end| format!("{host}{name}{end}")));
        }
    }
    all
}

#[test]
fn the_platform_refuses_what_the_rules_refuse_whatever_an_image_holds() {
    let mut refused = 0;
    for (at, house) in houses().iter().enumerate() {
        let objects = house.objects();
        let references = references();
        let texts: Vec<&str> = references.iter().map(String::as_str).collect();
        for (namespace, texts) in ["scada", "office"]
            .iter()
            .flat_map(|namespace| texts.chunks(300).map(move |texts| (*namespace, texts)))
        {
            let expected: Vec<&str> =
                texts.iter().copied().filter(|text| house.refuses(text, namespace)).collect();
            refused += expected.len();
            let found = objects.first().map(|policy| {
                variables(&platform(), policy, (&pod(texts), None), namespace)["refused"].clone()
            });
            let found = found.unwrap_or_else(|| json!([]));
            let found: Vec<&str> = found
                .as_array()
                .unwrap()
                .iter()
                .map(|said| said.as_str().unwrap().split(" is refused by rule `").next().unwrap())
                .collect();
            let odd = |one: &&&str| found.contains(*one) != expected.contains(*one);
            let odd: Vec<&&str> = texts.iter().filter(odd).collect();
            assert!(odd.is_empty(), "{at} in {namespace}: {odd:?}");
        }
    }
    assert!(refused > 1000, "{refused}");
}

#[test]
fn each_place_of_a_pod_has_its_policy() {
    let house = House::new(vec![{
        let mut one = rule("fixed", Verdict::Deny);
        one.asks.fixed_tag = true;
        one
    }]);
    let objects = house.objects();
    let names: Vec<&str> =
        objects.iter().map(|one| one["metadata"]["name"].as_str().unwrap()).collect();
    assert_eq!(
        names,
        [
            "larder-names-turbine-hall-pods",
            "larder-names-turbine-hall-pods",
            "larder-names-turbine-hall-workloads",
            "larder-names-turbine-hall-workloads",
            "larder-names-turbine-hall-cronjobs",
            "larder-names-turbine-hall-cronjobs",
        ]
    );
    assert_eq!(
        path_of(&objects[0]),
        "/apis/admissionregistration.k8s.io/v1/validatingadmissionpolicies/larder-names-turbine-hall-pods"
    );
    assert_eq!(
        path_of(&objects[1]),
        "/apis/admissionregistration.k8s.io/v1/validatingadmissionpolicybindings/larder-names-turbine-hall-pods"
    );
    let except = &objects[1]["spec"]["matchResources"]["namespaceSelector"]["matchExpressions"];
    assert_eq!(except[0]["values"], json!(["lab", "kube-system"]));
    let spec = |image: &str| json!({ "containers": [{ "name": "c", "image": image }] });
    let moving = spec("bazaar.example/a/b:edge");
    let template = json!({ "spec": { "template": { "spec": moving } } });
    let cronjob =
        json!({ "spec": { "jobTemplate": { "spec": { "template": { "spec": moving } } } } });
    let says = |policy: usize, object: &Value, before: Option<&Value>| {
        answer(&objects[policy], object, before, "scada")
    };
    let sentence = "larder: bazaar.example/a/b:edge is refused by rule `fixed`: it is \"so\"; the tag edge moves";
    assert_eq!(says(2, &template, None).as_deref(), Some(sentence));
    assert_eq!(says(4, &cronjob, None).as_deref(), Some(sentence));
    // What runs already goes on, and may change otherwise; what is new is asked about.
    assert_eq!(says(2, &template, Some(&template)), None);
    let other = json!({ "spec": { "template": { "spec": spec("bazaar.example/a/b:1") } } });
    assert!(says(2, &template, Some(&other)).is_some());
    // Every place in a pod.
    let many = json!({ "spec": {
        "initContainers": [{ "name": "i", "image": "bazaar.example/a/i" }],
        "containers": [{ "name": "c", "image": "bazaar.example/a/b:1" }, { "name": "none" }],
        "ephemeralContainers": [{ "name": "e", "image": "e:dev" }],
        "volumes": [{ "name": "v", "image": { "reference": "bazaar.example/a/v:new" } }, { "name": "w" }],
    }});
    let said = says(0, &many, None).unwrap();
    assert_eq!(
        said,
        "larder: bazaar.example/a/i is refused by rule `fixed`: it is \"so\"; the tag latest moves; and 2 more"
    );
    assert_eq!(says(0, &json!({ "spec": {} }), None), None);
    assert_eq!(says(2, &json!({}), None), None);
}

#[test]
fn what_the_platform_cannot_read_is_not_written() {
    let mut one = rule("many", Verdict::Deny);
    one.images = (0..3000).map(|n| format!("bazaar.example/a/b{n}").parse().unwrap()).collect();
    let house = House::new(vec![one]);
    let origins = house.routes.origins();
    let names = NameRules {
        cluster: "turbine-hall",
        host: HOST,
        rules: &house.rules,
        classes: &house.classes,
        origins: &origins,
        unqualified: &house.unqualified,
        except: &[],
        warns: true,
    };
    assert_eq!(names.objects(), Err(TooMany));
}
