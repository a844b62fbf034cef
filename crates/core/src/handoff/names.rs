//! What the rules decide by names alone, as the platform's own admission policy
//! (`ValidatingAdmissionPolicy` of `admissionregistration.k8s.io/v1`): it holds without the larder. It refuses only
//! what the rules refuse whatever the image holds; everything else it leaves to the door and to the pull.

use serde_json::{Value, json};

use super::MANAGER;
use super::webhook::{ASKED, NEVER, rule};
use crate::pattern::Pattern;
use crate::policy::{Classes, PolicyRule, Rules, Verdict};
use crate::reference::{DEFAULT_NAMES, DEFAULT_PREFIX, Unqualified};
use crate::route::{Origins, RouteWay};

/// The longest expression that is written, in bytes: the platform reads no longer ones (Common Expression Language,
/// the platform's parser).
const LONGEST: usize = 60_000;

/// What the policy of a cluster is made from.
#[derive(Debug, Clone, Copy)]
pub struct NameRules<'a> {
    pub cluster: &'a str,
    /// The larder's host, as references have it.
    pub host: &'a str,
    /// All rules.
    pub rules: &'a Rules,
    /// The classes that they name.
    pub classes: &'a Classes,
    /// Where what lies in the larder comes from.
    pub origins: &'a Origins,
    /// What short names mean.
    pub unqualified: &'a Unqualified,
    /// Namespaces that it leaves alone.
    pub except: &'a [String],
    /// It warns only, and refuses nothing.
    pub warns: bool,
}

/// There are so many rules, classes or routes that the platform would not read the policy.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the rules, classes and routes are too many for the platform's own policy")]
pub struct TooMany;

impl NameRules<'_> {
    /// The objects: for each place where a pod stands, a policy and its binding. Empty: names alone decide nothing
    /// in this cluster.
    pub fn objects(&self) -> Result<Vec<Value>, TooMany> {
        let Some(verdicts) = self.verdicts() else { return Ok(Vec::new()) };
        let mut places: Vec<&str> = ASKED.iter().map(|asked| asked.pod).collect();
        places.dedup();
        let mut all = Vec::new();
        for pod in places {
            all.extend(self.at(pod, &verdicts)?);
        }
        Ok(all)
    }

    fn at(&self, pod: &str, verdicts: &str) -> Result<[Value; 2], TooMany> {
        let kind = match pod.split('.').count() {
            1 => "pods",
            3 => "workloads",
            _ => "cronjobs",
        };
        let name = format!("larder-names-{}-{kind}", self.cluster);
        let labels = json!({ "app.kubernetes.io/managed-by": MANAGER });
        let variables: Vec<Value> = self
            .variables(pod, verdicts)
            .into_iter()
            .map(|(name, expression)| match expression.len() > LONGEST {
                true => Err(TooMany),
                false => Ok(json!({ "name": name, "expression": expression })),
            })
            .collect::<Result<_, _>>()?;
        let here = || ASKED.iter().filter(|asked| asked.pod == pod);
        let mut rules: Vec<Value> = here()
            .map(|asked| {
                asked.rule(if asked.updates { &["CREATE", "UPDATE"] } else { &["CREATE"] })
            })
            .collect();
        if kind == "pods" {
            rules.push(rule("", &["UPDATE"], &["pods/ephemeralcontainers"]));
        }
        let policy = json!({
            "apiVersion": "admissionregistration.k8s.io/v1",
            "kind": "ValidatingAdmissionPolicy",
            "metadata": { "name": name, "labels": labels },
            "spec": {
                // What cannot be computed is left to the door and to the pull.
                "failurePolicy": "Ignore",
                "matchConstraints": { "resourceRules": rules, "matchPolicy": "Equivalent" },
                "variables": variables,
                "validations": [{
                    "expression": "variables.refused.size() == 0",
                    "messageExpression": "\"larder: \" + variables.refused[0] + (variables.refused.size() > 1 ? \
                        \"; and \" + string(variables.refused.size() - 1) + \" more\" : \"\")",
                    "reason": "Forbidden",
                }],
            },
        });
        let mut except: Vec<&str> = self.except.iter().map(String::as_str).collect();
        if !except.contains(&NEVER) {
            except.push(NEVER);
        }
        let binding = json!({
            "apiVersion": "admissionregistration.k8s.io/v1",
            "kind": "ValidatingAdmissionPolicyBinding",
            "metadata": { "name": name, "labels": labels },
            "spec": {
                "policyName": name,
                "validationActions": [if self.warns { "Warn" } else { "Deny" }],
                "matchResources": { "namespaceSelector": { "matchExpressions": [
                    { "key": "kubernetes.io/metadata.name", "operator": "NotIn", "values": except },
                ]}},
            },
        });
        Ok([policy, binding])
    }

    /// From the object to what is refused of it, step by step. An image is a list of texts, to which each step adds:
    /// as written; without tag and digest, its host written out; its tag; its digest; where it comes from (nothing:
    /// it is one of the larder's own); its class.
    fn variables(&self, pod: &str, verdicts: &str) -> Vec<(&'static str, String)> {
        let (written, before) = (images("object", pod), images("oldObject", pod));
        let texts = |name: &str| format!("variables.{name}.map(e, ");
        let last = "e[1].substring(e[1].lastIndexOf(\"/\") + 1)";
        let [unqualified, prefix] = self.unqualified_as_texts();
        let aliases: Vec<String> = DEFAULT_NAMES.iter().map(|name| text(name)).collect();
        let (main, usual) = (text(DEFAULT_NAMES[0]), text(&format!("{DEFAULT_PREFIX}/")));
        vec![
            ("before", format!("oldObject == null ? [] : {before}")),
            ("written", format!("({written}).filter(i, i != \"\" && !(i in variables.before))")),
            // As written, without the digest, the digest.
            (
                "parted",
                "variables.written.map(i, [i, i.split(\"@\")[0], i.contains(\"@\") ? i.split(\"@\")[1] : \"\"])".into(),
            ),
            // The same, without the tag; the tag last.
            (
                "tagged",
                format!(
                    "{}{last}.contains(\":\") ? [e[0], e[1].substring(0, e[1].lastIndexOf(\":\")), e[2], \
                     e[1].substring(e[1].lastIndexOf(\":\") + 1)] : [e[0], e[1], e[2], \"\"])",
                    texts("parted")
                ),
            ),
            // The same, with the host (or nothing) and what follows it.
            (
                "hosted",
                format!(
                    "{}e[1].contains(\"/\") && (e[1].split(\"/\")[0].matches(\"[.:]\") || e[1].startsWith(\"localhost/\")) \
                     ? e + [e[1].split(\"/\")[0].lowerAscii(), e[1].substring(e[1].indexOf(\"/\") + 1)] : e + [\"\", e[1]])",
                    texts("tagged")
                ),
            ),
            // As written, digest, tag, host, repository; the port without zeros in front.
            (
                "ported",
                format!(
                    "{}[e[0], e[2], e[3], e[4].matches(\":[0-9]{{1,18}}$\") ? e[4].substring(0, e[4].lastIndexOf(\":\") + 1) + \
                     string(int(e[4].substring(e[4].lastIndexOf(\":\") + 1))) : e[4], e[5]])",
                    texts("hosted")
                ),
            ),
            // The same, without the port that is meant anyway.
            (
                "folded",
                format!(
                    "{}e[3].matches(\"([.\\\\]]|^localhost).*:(443|80)$\") ? [e[0], e[1], e[2], \
                     e[3].substring(0, e[3].lastIndexOf(\":\")), e[4]] : e)",
                    texts("ported")
                ),
            ),
            // The same, with the host that is meant by none, and by its other names.
            (
                "named",
                format!(
                    "{}[e[0], e[1], e[2]] + (e[3] == \"\" ? [{unqualified}, (e[4].contains(\"/\") ? \"\" : {prefix}) + e[4]] : \
                     e[3] in [{}] ? [{main}, (e[4].contains(\"/\") ? \"\" : {usual}) + e[4]] : [e[3], e[4]]))",
                    texts("folded"),
                    aliases.join(", ")
                ),
            ),
            ("sourced", format!("{}e + [{}])", texts("named"), self.origin())),
            ("classed", format!("{}e + ({} + [\"\"]))", texts("sourced"), self.class())),
            (
                "refused",
                format!(
                    "{}{verdicts} + [e[0], \"\"]).filter(v, v[0] != \"\" && v.size() > 2).map(v, v[v.size() - 2] + \" is refused by \" + v[0])",
                    texts("classed")
                ),
            ),
        ]
    }

    fn unqualified_as_texts(&self) -> [String; 2] {
        let prefix = self.unqualified.prefix().map(|prefix| format!("{prefix}/"));
        [text(self.unqualified.host().as_str()), text(&prefix.unwrap_or_default())]
    }

    /// Where `e[3]/e[4]` comes from. Nothing: it is one of the larder's own.
    fn origin(&self) -> String {
        let name = "(e[3] + \"/\" + e[4])";
        let each =
            self.origins.ways().into_iter().map(|RouteWay { here, origin, below }| match below {
                false => format!("({name} == {} ? [{}] : [])", text(&here), text(&origin)),
                true => {
                    let (here, origin) = (format!("{here}/"), format!("{origin}/"));
                    format!(
                        "({name}.startsWith({}) ? [{} + {name}.substring({})] : [])",
                        text(&here),
                        text(&origin),
                        here.len()
                    )
                }
            });
        let last = format!("[e[3] == {} ? \"\" : {name}]", text(self.host));
        format!("({})[0]", each.chain([last]).collect::<Vec<_>>().join(" + "))
    }

    /// The list of an image's classes, the one that counts first.
    fn class(&self) -> String {
        let name = format!("(e[5] == \"\" ? {} + e[4] : e[5])", text(&format!("{}/", self.host)));
        let each = self.classes.each().map(|(class, pattern)| match matches(&name, pattern) {
            Some(hit) => format!("({hit} ? [{}] : [])", text(class)),
            None => "[]".into(),
        });
        let each: Vec<String> = each.collect();
        if each.is_empty() { "[]".into() } else { each.join(" + ") }
    }

    /// The list of what the rules say of an image, the one that counts first; an empty text: it may, or the name
    /// alone does not decide. None: nothing is ever refused by its name.
    fn verdicts(&self) -> Option<String> {
        let mut each = Vec::new();
        let mut refuses = false;
        for rule in self.rules.for_cluster(self.cluster) {
            let Some(hit) = self.hit(rule) else { continue };
            let denies = rule.verdict == Verdict::Deny;
            let say = |reason: String, more: &str| {
                if denies { format!("[{}{more}]", text(&reason)) } else { "[\"\"]".into() }
            };
            let asks = &rule.asks;
            refuses |= denies && (asks.is_empty() || asks.digest || asks.fixed_tag);
            if asks.is_empty() {
                each.push(format!("({hit} ? {} : [])", say(rule.reason(None), "")));
                continue;
            }
            if asks.digest {
                let said = say(format!("{}; it is not named by digest", rule.reason(None)), "");
                each.push(format!("({hit} && e[1] == \"\" ? {said} : [])"));
            }
            if asks.fixed_tag {
                let tag = "(e[2] == \"\" ? \"latest\" : e[2])";
                let more = format!(" + {tag} + \" moves\"");
                let said = say(format!("{}; the tag ", rule.reason(None)), &more);
                each.push(format!(
                    "({hit} && e[1] == \"\" && !{tag}.matches(\"[0-9]\") ? {said} : [])"
                ));
            }
            if !asks.is_decided_by_names() && !denies {
                each.push(format!("({hit} ? [\"\"] : [])"));
            }
        }
        refuses.then(|| each.join(" + "))
    }

    /// Whether a rule concerns an image. None: it never does.
    fn hit(&self, rule: &PolicyRule) -> Option<String> {
        let list = |names: &[Box<str>]| names.iter().map(|name| text(name)).collect::<Vec<_>>();
        let mut all = Vec::new();
        if rule.images.is_empty() && rule.classes.is_empty() {
            all.push("e[5] != \"\"".to_owned());
        }
        if !rule.classes.is_empty() {
            all.push(format!("e[6] in [{}]", list(&rule.classes).join(", ")));
        }
        if !rule.namespaces.is_empty() {
            all.push(format!("request.namespace in [{}]", list(&rule.namespaces).join(", ")));
        }
        if !rule.images.is_empty() {
            let name =
                format!("(e[5] == \"\" ? {} + e[4] : e[5])", text(&format!("{}/", self.host)));
            let any: Vec<String> =
                rule.images.iter().filter_map(|pattern| matches(&name, pattern)).collect();
            if any.is_empty() {
                return None;
            }
            all.push(format!("({})", any.join(" || ")));
        }
        Some(all.join(" && "))
    }
}

/// All images that a pod names. What is absent is asked for first: an expression that fails decides nothing.
fn images(object: &str, pod: &str) -> String {
    let mut path = object.to_owned();
    let mut present = Vec::new();
    for step in pod.split('.') {
        path = format!("{path}.{step}");
        present.push(format!("has({path})"));
    }
    let list = |name: &str| {
        format!("(has({path}.{name}) ? {path}.{name}.map(c, has(c.image) ? c.image : \"\") : [])")
    };
    let mut lists = vec![list("containers"), list("initContainers")];
    if pod == "spec" {
        lists.push(list("ephemeralContainers"));
    }
    lists.push(format!(
        "(has({path}.volumes) ? {path}.volumes.map(c, has(c.image) && has(c.image.reference) ? c.image.reference : \"\") : [])"
    ));
    format!("({} ? {} : [])", present.join(" && "), lists.join(" + "))
}

/// Whether a text matches a pattern. None: no name can.
fn matches(name: &str, pattern: &Pattern) -> Option<String> {
    // Names are ASCII, and only for those both kinds of expressions mean the same.
    pattern.as_str().is_ascii().then(|| format!("{name}.matches({})", text(&pattern.regex())))
}

/// A text in an expression.
fn text(text: &str) -> String {
    Value::from(text).to_string()
}

#[cfg(test)]
mod tests;
