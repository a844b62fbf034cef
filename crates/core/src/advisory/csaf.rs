//! Advisories and statements as CSAF 2.0 writes them.

use std::collections::{BTreeMap, BTreeSet};

use jiff::Timestamp;
use serde_json::{Map, Value};

use super::osv::{
    Advisory, Affected, AffectedPackage, LARGEST, MalformedAdvisory, RangeEvent, RangeEvents,
    Reference, SeverityEntry, is_id,
};
use super::statement::{Statement, StatementStatus, osv_ecosystem};
use crate::purl::PackageUrl;

/// What a document says.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct CsafDocument {
    /// One for each vulnerability that touches packages which can be named.
    pub advisories: Vec<Advisory>,
    pub statements: Vec<Statement>,
}

/// The most products of a document, and how deep its branches go.
const MOST: usize = 200_000;
const DEEPEST: usize = 64;

fn text<'v>(value: &'v Value, key: &str) -> Option<&'v str> {
    value.get(key).and_then(Value::as_str)
}

fn list<'v>(value: &'v Value, key: &str) -> &'v [Value] {
    value.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default()
}

fn shape(what: &str) -> MalformedAdvisory {
    MalformedAdvisory::Shape(format!("{what} is missing"))
}

/// Reads a document.
pub fn read_csaf(bytes: &[u8]) -> Result<CsafDocument, MalformedAdvisory> {
    if bytes.len() > LARGEST {
        return Err(MalformedAdvisory::Large);
    }
    let json: Value = serde_json::from_slice(bytes)
        .map_err(|error| MalformedAdvisory::Shape(error.to_string()))?;
    let document = json.get("document").ok_or_else(|| shape("document"))?;
    let tracking = document.get("tracking").ok_or_else(|| shape("document.tracking"))?;
    let own = text(tracking, "id").filter(|id| is_id(id)).ok_or(MalformedAdvisory::Id)?;
    let at = text(tracking, "current_release_date").and_then(|time| time.parse().ok());
    let at: Timestamp = at.ok_or_else(|| shape("document.tracking.current_release_date"))?;
    let author = document.get("publisher").and_then(|one| text(one, "name")).unwrap_or_default();
    let author = crate::shown::cut(author, 200);
    let title = text(document, "title").unwrap_or_default();
    let products = products(json.get("product_tree").unwrap_or(&Value::Null));
    let mut all = CsafDocument::default();
    for vulnerability in list(&json, "vulnerabilities").iter().take(MOST) {
        let named = Vulnerability::read(vulnerability, own, title, at);
        let status = vulnerability.get("product_status").unwrap_or(&Value::Null);
        let of = |kinds: &[&str]| -> Vec<&PackageUrl> {
            let ids = kinds.iter().flat_map(|kind| list(status, kind)).filter_map(Value::as_str);
            let ids: BTreeSet<&str> = ids.take(MOST).collect();
            ids.into_iter().filter_map(|id| products.get(id)).collect()
        };
        all.advisories.extend(named.advisory(
            &of(&["known_affected", "first_affected", "last_affected"]),
            &of(&["fixed", "first_fixed"]),
        ));
        let not = of(&["known_not_affected"]);
        if !not.is_empty() {
            let flags = list(vulnerability, "flags").iter().find_map(|flag| text(flag, "label"));
            let impact = list(vulnerability, "threats")
                .iter()
                .filter(|threat| text(threat, "category") == Some("impact"))
                .find_map(|threat| text(threat, "details"));
            all.statements.push(Statement {
                vulnerabilities: named.names,
                products: not.into_iter().map(ToString::to_string).collect(),
                within: Vec::new(),
                status: StatementStatus::NotAffected,
                because: crate::shown::cut(flags.or(impact).unwrap_or_default(), 500),
                author: author.clone(),
                at,
            });
        }
    }
    Ok(all)
}

struct Vulnerability {
    /// The first its own.
    names: Vec<String>,
    advisory: Advisory,
}

impl Vulnerability {
    fn read(vulnerability: &Value, own: &str, title: &str, at: Timestamp) -> Self {
        let mut names: Vec<String> = Vec::new();
        names.extend(text(vulnerability, "cve").map(str::to_owned));
        let ids = list(vulnerability, "ids").iter().filter_map(|id| text(id, "text"));
        names.extend(ids.map(str::to_owned));
        names.push(own.to_owned());
        names.retain(|name| is_id(name));
        let vectors = list(vulnerability, "scores").iter().flat_map(|score| {
            ["cvss_v4", "cvss_v3", "cvss_v2"].into_iter().filter_map(|kind| {
                let vector = text(score.get(kind)?, "vectorString")?.to_owned();
                Some(SeverityEntry { kind: kind.to_uppercase(), score: vector })
            })
        });
        let notes = list(vulnerability, "notes")
            .iter()
            .find(|note| matches!(text(note, "category"), Some("description" | "summary")));
        let details = notes.and_then(|note| text(note, "text")).unwrap_or_default();
        let urls = list(vulnerability, "references").iter().filter_map(|one| text(one, "url"));
        let advisory = Advisory {
            id: names.first().cloned().unwrap_or_default(),
            modified: at,
            published: None,
            withdrawn: None,
            aliases: names.iter().skip(1).filter(|name| *name != own).cloned().collect(),
            related: vec![own.to_owned()],
            upstream: Vec::new(),
            summary: text(vulnerability, "title").unwrap_or(title).to_owned(),
            details: crate::shown::cut(details, 10_000),
            severity: vectors.collect(),
            affected: Vec::new(),
            references: urls.take(50).map(|url| Reference { url: url.to_owned() }).collect(),
            database_specific: Map::new(),
        };
        Self { names, advisory }
    }

    /// The advisory, with the packages that it touches. None: it touches none that can be named.
    fn advisory(&self, affected: &[&PackageUrl], fixed: &[&PackageUrl]) -> Option<Advisory> {
        let mut entries: BTreeMap<(String, String), Affected> = BTreeMap::new();
        let mut entry = |url: &PackageUrl, take: &dyn Fn(&mut Affected, Option<String>)| {
            let Some(ecosystem) = osv_ecosystem(url) else { return };
            let name = match url.kind.as_str() {
                "deb" | "rpm" | "apk" => url.name.clone(),
                "maven" => {
                    url.namespace.iter().chain([&url.name]).cloned().collect::<Vec<_>>().join(":")
                }
                _ => url.namespace.iter().chain([&url.name]).cloned().collect::<Vec<_>>().join("/"),
            };
            let epoch = url.qualifiers.get("epoch").filter(|epoch| *epoch != "0");
            let version = url.version.clone().map(|version| match epoch {
                Some(epoch) => format!("{epoch}:{version}"),
                None => version,
            });
            let package = AffectedPackage { ecosystem: ecosystem.clone(), name: name.clone() };
            let new = || Affected {
                package: Some(package),
                versions: Vec::new(),
                ranges: Vec::new(),
                severity: Vec::new(),
                ecosystem_specific: Map::new(),
            };
            take(entries.entry((ecosystem, name)).or_insert_with(new), version);
        };
        let range = |events: Vec<RangeEvent>| RangeEvents { kind: "ECOSYSTEM".to_owned(), events };
        let start = || RangeEvent { introduced: Some("0".to_owned()), ..RangeEvent::default() };
        for url in affected {
            entry(url, &|one, version| match version {
                Some(version) => one.versions.push(version),
                // All versions, until one mends it.
                None if one.ranges.is_empty() => one.ranges.push(range(vec![start()])),
                None => {}
            });
        }
        for url in fixed {
            entry(url, &|one, version| {
                let Some(version) = version else { return };
                if one.ranges.is_empty() {
                    one.ranges.push(range(vec![start()]));
                }
                let end = RangeEvent { fixed: Some(version), ..RangeEvent::default() };
                if let Some(range) = one.ranges.first_mut()
                    && !range.events.contains(&end)
                {
                    range.events.push(end);
                }
            });
        }
        let affected: Vec<Affected> = entries.into_values().collect();
        (!affected.is_empty()).then(|| Advisory { affected, ..self.advisory.clone() })
    }
}

/// Every product that a package URL names, by its id.
fn products(tree: &Value) -> BTreeMap<&str, PackageUrl> {
    let mut found = BTreeMap::new();
    let mut open: Vec<(&Value, usize)> = vec![(tree, 0)];
    while let Some((branch, depth)) = open.pop() {
        if depth > DEEPEST || found.len() > MOST {
            break;
        }
        open.extend(list(branch, "branches").iter().map(|inner| (inner, depth + 1)));
        let own = branch.get("product").into_iter();
        for product in own.chain(list(branch, "full_product_names")) {
            let helper = product.get("product_identification_helper");
            let url = helper.and_then(|helper| text(helper, "purl")?.parse().ok());
            found.extend(text(product, "product_id").zip(url));
        }
    }
    // A part of something is named by what it is itself.
    for relation in list(tree, "relationships").iter().take(MOST) {
        let id = relation.get("full_product_name").and_then(|name| text(name, "product_id"));
        let of = text(relation, "product_reference").and_then(|of| found.get(of).cloned());
        found.extend(id.zip(of));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::super::{PackageKey, PackageVerdict, Severity, judge};
    use super::*;
    use crate::version::Ecosystem;

    #[test]
    fn products_are_followed_to_their_package_urls() {
        let text = r#"{"document":{"category":"csaf_vex","title":"made up","publisher":{"name":"Ventworks"},
          "tracking":{"id":"VENT-2026-1","version":"1","current_release_date":"2026-10-01T00:00:00Z"}},
          "product_tree":{"branches":[{"category":"vendor","name":"x","branches":[
             {"category":"product_version","name":"a","product":{"product_id":"P1","product_identification_helper":{"purl":"pkg:rpm/redhat/ember@1.0-1.el9?epoch=2"}}},
             {"category":"product_version","name":"b","product":{"product_id":"P2","product_identification_helper":{"purl":"pkg:npm/damper"}}},
             {"category":"product_version","name":"c","product":{"product_id":"P3","product_identification_helper":{"purl":"pkg:npm/hinge@1.0.0"}}}]}],
            "relationships":[{"category":"default_component_of","product_reference":"P1","relates_to_product_reference":"OS","full_product_name":{"name":"n","product_id":"OS:P1"}}]},
          "vulnerabilities":[{"cve":"CVE-2026-99999","ids":[{"system_name":"x","text":"EMBER-2026-0001"}],
             "scores":[{"cvss_v3":{"vectorString":"CVSS:3.1/AV:N/AC:L/PR:N/UI:N/S:U/C:H/I:H/A:H"},"products":["P2"]}],
             "flags":[{"label":"vulnerable_code_not_present","product_ids":["P3"]}],
             "product_status":{"fixed":["OS:P1"],"known_affected":["P2"],"known_not_affected":["P3"]}}]}"#;
        let read = read_csaf(text.as_bytes()).unwrap();
        let [advisory] = read.advisories.as_slice() else { panic!("{read:?}") };
        assert_eq!(advisory.names(), ["CVE-2026-99999", "EMBER-2026-0001", "VENT-2026-1"]);
        assert_eq!(advisory.severity(), Severity::Critical);
        let key = |ecosystem, name: &str, release: &str, version: &str| PackageKey {
            ecosystem,
            name: name.to_owned(),
            release: release.to_owned(),
            version: version.to_owned(),
        };
        let verdict = |key| judge(advisory, &key);
        assert_eq!(
            verdict(key(Ecosystem::Rpm, "ember", "Red Hat:9", "2:0.9-1.el9")),
            PackageVerdict::Affected { fixed: "2:1.0-1.el9".to_owned() }
        );
        assert_eq!(
            verdict(key(Ecosystem::Rpm, "ember", "Red Hat:9", "2:1.0-1.el9")),
            PackageVerdict::NotAffected
        );
        assert_eq!(
            verdict(key(Ecosystem::Npm, "damper", "", "1.0.0")),
            PackageVerdict::Affected { fixed: String::new() }
        );
        let [statement] = read.statements.as_slice() else { panic!("{read:?}") };
        assert_eq!(statement.because, "vulnerable_code_not_present");
        assert!(statement.is_about(&key(Ecosystem::Npm, "hinge", "", "1.0.0"), "hinge", &[]));
        for bad in ["{}", "[]", r#"{"document":{"tracking":{"id":"a"}}}"#] {
            assert!(read_csaf(bad.as_bytes()).is_err(), "{bad}");
        }
    }
}
