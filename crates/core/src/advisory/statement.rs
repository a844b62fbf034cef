//! Statements that a vulnerability does, or does not, touch something (OpenVEX 0.2.0; CSAF 2.0, profile 5).

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use super::ecosystem::ecosystem_of;
use super::osv::{LARGEST, MalformedAdvisory, is_id};
use super::{PackageKey, optional_moment};
use crate::digest::Digest;
use crate::inventory::purl_kind;
use crate::purl::PackageUrl;

/// What a statement says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StatementStatus {
    NotAffected,
    Affected,
    Fixed,
    UnderInvestigation,
}

/// One statement: of a vulnerability, about some products.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Statement {
    /// The names of the vulnerability, the first its own.
    pub vulnerabilities: Vec<String>,
    /// Package URLs, of packages or of images. Empty: nothing that we can find.
    pub products: Vec<String>,
    /// Package URLs within the products. Empty: it is about the products themselves.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub within: Vec<String>,
    pub status: StatementStatus,
    /// Why not: one of the standard's words, or a sentence. Empty: it does not say.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub because: String,
    /// Who says so.
    pub author: String,
    pub at: Timestamp,
}

impl StatementStatus {
    /// In the standard's word.
    pub fn word(self) -> &'static str {
        match self {
            Self::NotAffected => "not_affected",
            Self::Affected => "affected",
            Self::Fixed => "fixed",
            Self::UnderInvestigation => "under_investigation",
        }
    }

    /// Whether there is nothing to be done about it.
    pub fn hides(self) -> bool {
        matches!(self, Self::NotAffected | Self::Fixed)
    }
}

impl Statement {
    /// Whether it is about a package of an image.
    pub fn is_about(&self, package: &PackageKey, name: &str, images: &[&Digest]) -> bool {
        let package_is = |text: &String| is_package(text, package, name);
        let image_is = |text: &String| is_image(text, images);
        match self.within.is_empty() {
            true => self.products.iter().any(|one| package_is(one) || image_is(one)),
            false => {
                self.products.iter().any(|one| image_is(one) || package_is(one))
                    && self.within.iter().any(package_is)
            }
        }
    }
}

fn is_package(text: &str, package: &PackageKey, name: &str) -> bool {
    let Ok(url) = text.parse::<PackageUrl>() else { return false };
    if url.kind != purl_kind(package.ecosystem) {
        return false;
    }
    let full = |join: &str| {
        let mut parts = url.namespace.clone();
        parts.push(url.name.clone());
        parts.join(join)
    };
    let called = match url.kind.as_str() {
        "deb" | "rpm" | "apk" => url.name.clone(),
        "maven" => full(":"),
        _ => full("/"),
    };
    let is_called = |name: &str| {
        super::matched_name(package.ecosystem, name)
            .eq_ignore_ascii_case(&super::matched_name(package.ecosystem, &called))
    };
    let version = match (url.qualifiers.get("epoch"), &url.version) {
        (Some(epoch), Some(version)) if epoch != "0" => Some(format!("{epoch}:{version}")),
        (_, version) => version.clone(),
    };
    // Without a version it is about all of them.
    (is_called(&package.name) || is_called(name))
        && version.is_none_or(|version| {
            version == package.version
                || version.trim_start_matches('v') == package.version.trim_start_matches('v')
        })
}

fn is_image(text: &str, images: &[&Digest]) -> bool {
    let Ok(url) = text.parse::<PackageUrl>() else { return false };
    url.kind == "oci"
        && url
            .version
            .as_deref()
            .is_some_and(|version| images.iter().any(|one| one.as_str() == version))
}

/// The ecosystem in which a package URL's package is one, as OSV names it. None: it is not known.
pub(super) fn osv_ecosystem(url: &PackageUrl) -> Option<String> {
    let system =
        |default: &str| match url.qualifiers.get("distro").and_then(|text| text.split_once('-')) {
            Some(("debian", number)) => format!("Debian:{number}"),
            Some(("ubuntu", number)) => format!("Ubuntu:{number}"),
            Some(("alpine", number)) => {
                let parts: Vec<&str> = number.split('.').take(2).collect();
                format!("Alpine:v{}", parts.join("."))
            }
            Some(("rhel" | "redhat", number)) => format!("Red Hat:enterprise_linux:{number}"),
            _ => default.to_owned(),
        };
    let name = match (url.kind.as_str(), url.namespace.first().map(String::as_str)) {
        ("deb", Some("ubuntu")) => system("Ubuntu"),
        ("deb", _) => system("Debian"),
        ("apk", Some("wolfi")) => "Wolfi".to_owned(),
        ("apk", Some("chainguard")) => "Chainguard".to_owned(),
        ("apk", _) => system("Alpine"),
        ("rpm", Some("rocky" | "rocky-linux")) => "Rocky Linux".to_owned(),
        ("rpm", Some("almalinux")) => "AlmaLinux".to_owned(),
        ("rpm", Some("suse")) => "SUSE".to_owned(),
        ("rpm", Some("opensuse")) => "openSUSE".to_owned(),
        ("rpm", _) => system("Red Hat"),
        ("npm", _) => "npm".to_owned(),
        ("pypi", _) => "PyPI".to_owned(),
        ("golang", _) => "Go".to_owned(),
        ("maven", _) => "Maven".to_owned(),
        ("gem", _) => "RubyGems".to_owned(),
        ("cargo", _) => ["crates", "io"].join("."),
        _ => return None,
    };
    ecosystem_of(&name).map(|_| name)
}

#[derive(Deserialize)]
struct OpenVex {
    #[serde(default)]
    author: String,
    #[serde(default, deserialize_with = "optional_moment")]
    timestamp: Option<Timestamp>,
    statements: Vec<OpenVexStatement>,
}

#[derive(Deserialize)]
struct OpenVexStatement {
    vulnerability: Value,
    #[serde(default)]
    products: Vec<Value>,
    status: StatementStatus,
    #[serde(default)]
    justification: Option<String>,
    #[serde(default)]
    impact_statement: Option<String>,
    #[serde(default, deserialize_with = "optional_moment")]
    timestamp: Option<Timestamp>,
}

/// The most statements of one document, and the most products of a statement.
const MOST: usize = 100_000;

/// Writes a statement as a document of OpenVEX with nothing else in it.
pub fn write_openvex(statement: &Statement) -> Value {
    let Statement { vulnerabilities, products, within, status, because, author, at } = statement;
    let id = |name: &String| json!({ "@id": name });
    let mut products: Vec<Value> = products.iter().map(id).collect();
    // What is within is within any of them, however often it is said.
    if let Some(first) = products.first_mut().filter(|_| !within.is_empty()) {
        first["subcomponents"] = within.iter().map(id).collect();
    }
    let mut said = json!({
        "vulnerability": {
            "name": vulnerabilities.first(),
            "aliases": vulnerabilities.get(1..).unwrap_or_default(),
        },
        "products": products, "status": status.word(), "timestamp": at.to_string(),
    });
    if !because.is_empty() {
        said["impact_statement"] = because.as_str().into();
    }
    json!({
        "@context": OPENVEX, "@id": "urn:statement", "author": author, "timestamp": at.to_string(),
        "version": 1, "statements": [said],
    })
}

/// The context that names a document of OpenVEX.
const OPENVEX: &str = "https://openvex.dev/ns/v0.2.0";

/// Which of some statements counts for a package of an image: what our own feeds say goes before what others say, then the
/// latest. `all` has each with its feed and whether that is our own, the latest last; `places` are those about its
/// vulnerability. None: none is about it.
pub fn that_counts(
    all: &[(String, bool, Statement)],
    places: impl IntoIterator<Item = usize>,
    package: &PackageKey,
    images: &[&Digest],
) -> Option<usize> {
    let is_about = |place: &usize| {
        all.get(*place).is_some_and(|(.., one)| one.is_about(package, &package.name, images))
    };
    places.into_iter().filter(is_about).max_by_key(|place| (all[*place].1, *place))
}

/// Reads a document of OpenVEX.
pub fn read_openvex(bytes: &[u8]) -> Result<Vec<Statement>, MalformedAdvisory> {
    if bytes.len() > LARGEST {
        return Err(MalformedAdvisory::Large);
    }
    let shape = |error: serde_json::Error| MalformedAdvisory::Shape(error.to_string());
    let document: OpenVex = serde_json::from_slice(bytes).map_err(shape)?;
    let mut all = Vec::new();
    for one in document.statements.into_iter().take(MOST) {
        let at = one.timestamp.or(document.timestamp);
        let at =
            at.ok_or_else(|| MalformedAdvisory::Shape("a statement has no time".to_owned()))?;
        // A text in the first version, an object in later ones.
        let mut vulnerabilities: Vec<String> = Vec::new();
        match &one.vulnerability {
            Value::String(name) => vulnerabilities.push(name.clone()),
            Value::Object(object) => {
                let text = |key: &str| object.get(key).and_then(Value::as_str).map(str::to_owned);
                vulnerabilities.extend(text("name").or_else(|| text("@id")));
                let aliases = object.get("aliases").and_then(Value::as_array).into_iter().flatten();
                vulnerabilities.extend(aliases.filter_map(Value::as_str).map(str::to_owned));
            }
            _ => {}
        }
        vulnerabilities.retain(|name| is_id(name));
        if vulnerabilities.is_empty() {
            return Err(MalformedAdvisory::Id);
        }
        let (mut products, mut within) = (Vec::new(), Vec::new());
        for product in one.products.iter().take(MOST) {
            products.extend(product_urls(product));
            let inner =
                product.get("subcomponents").and_then(Value::as_array).into_iter().flatten();
            within.extend(inner.take(MOST).flat_map(product_urls));
        }
        let because = one.justification.or(one.impact_statement).unwrap_or_default();
        all.push(Statement {
            vulnerabilities,
            products,
            within,
            status: one.status,
            because: crate::shown::cut(&because, 500),
            author: crate::shown::cut(&document.author, 200),
            at,
        });
    }
    Ok(all)
}

/// The package URLs by which a product is named.
fn product_urls(product: &Value) -> Vec<String> {
    let texts = match product {
        Value::String(text) => vec![text.as_str()],
        Value::Object(object) => {
            let own = object.get("@id").and_then(Value::as_str);
            let other =
                object.get("identifiers").and_then(|all| all.get("purl")).and_then(Value::as_str);
            own.into_iter().chain(other).collect()
        }
        _ => Vec::new(),
    };
    texts.into_iter().filter(|text| text.starts_with("pkg:")).map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::version::Ecosystem;

    #[test]
    fn a_statement_is_about_its_products_alone() {
        let image = Digest::of(b"image");
        let text = format!(
            r#"{{"@context":"https://openvex.dev/ns/v0.2.0","author":"Emberfall","timestamp":"2026-10-01T00:00:00Z","version":1,"statements":[
            {{"vulnerability":{{"name":"CVE-2026-99999","aliases":["EMBER-2026-0001"]}},"products":["pkg:npm/%40ember/flue@1.0.0"],"status":"not_affected","justification":"vulnerable_code_not_present"}},
            {{"vulnerability":"CVE-2026-99998","products":[{{"@id":"pkg:oci/kettle@{}","subcomponents":[{{"@id":"pkg:deb/debian/ember"}}]}}],"status":"fixed","timestamp":"2026-10-02T00:00:00Z"}}]}}"#,
            image.as_str().replace(':', "%3A")
        );
        let all = read_openvex(text.as_bytes()).unwrap();
        assert_eq!(all[0].vulnerabilities, ["CVE-2026-99999", "EMBER-2026-0001"]);
        assert!(all[0].status.hides() && all[1].at > all[0].at);
        for one in &all {
            let again = read_openvex(write_openvex(one).to_string().as_bytes()).unwrap();
            assert_eq!((again.len(), &again[0]), (1, one));
        }
        let key = |ecosystem, name: &str, version: &str| PackageKey {
            ecosystem,
            name: name.to_owned(),
            release: String::new(),
            version: version.to_owned(),
        };
        let flue = key(Ecosystem::Npm, "@ember/flue", "1.0.0");
        assert!(all[0].is_about(&flue, "@ember/flue", &[]));
        assert!(!all[0].is_about(&key(Ecosystem::Npm, "@ember/flue", "1.0.1"), "@ember/flue", &[]));
        assert!(!all[0].is_about(&key(Ecosystem::Npm, "flue", "1.0.0"), "flue", &[]));
        let ember = key(Ecosystem::Deb, "ember", "2.3");
        assert!(all[1].is_about(&ember, "libember1", &[&image]));
        assert!(!all[1].is_about(&ember, "libember1", &[]));
        assert!(!all[1].is_about(&flue, "@ember/flue", &[&image]));
        for bad in ["{}", "[]", r#"{"statements":[{"vulnerability":5,"status":"fixed"}]}"#] {
            assert!(read_openvex(bad.as_bytes()).is_err(), "{bad}");
        }
    }
}
