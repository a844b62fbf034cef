//! Reading a bill of materials that somebody else made. It is hostile like everything from outside.

use serde_json::{Map, Value};

use crate::purl::PackageUrl;

/// In which form it was written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SbomForm {
    Spdx,
    CycloneDx,
}

/// What a bill of materials lists.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sbom {
    pub form: SbomForm,
    /// What made it. Empty: it does not say.
    pub made_by: String,
    pub packages: Vec<ListedPackage>,
    /// Entries without a package URL, with which nothing can be compared.
    pub unnamed: usize,
}

/// A package that it lists.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct ListedPackage {
    pub url: PackageUrl,
}

/// Why a document is no bill of materials that we read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum MalformedSbom {
    /// It is larger than any that is read.
    #[error("it has more than {} MiB", LARGEST / 1024 / 1024)]
    Large,
    /// It is no JSON.
    #[error("it is no JSON: {0}")]
    Json(String),
    /// It is neither SPDX nor CycloneDX.
    #[error("it is neither SPDX nor CycloneDX")]
    Form,
    /// It lists more than is read.
    #[error("it lists more than {MOST} packages")]
    Many,
}

/// The largest document, in bytes, and the most packages of one.
pub const LARGEST: usize = 64 * 1024 * 1024;
const MOST: usize = 1_000_000;
/// How deep components lie in components.
const DEEPEST: usize = 32;

/// Reads SPDX 2 or CycloneDX as JSON, also as the predicate of an in-toto statement, signed or not (in-toto Attestation
/// Framework; DSSE).
pub fn read_sbom(bytes: &[u8]) -> Result<Sbom, MalformedSbom> {
    if bytes.len() > LARGEST {
        return Err(MalformedSbom::Large);
    }
    let json: Value = read(bytes)?;
    let json = unwrapped(json)?;
    let object = json.as_object().ok_or(MalformedSbom::Form)?;
    if object.contains_key("spdxVersion") {
        return spdx(object);
    }
    match object.get("bomFormat").and_then(Value::as_str) {
        Some("CycloneDX") => cyclonedx(object),
        _ => Err(MalformedSbom::Form),
    }
}

fn read(bytes: &[u8]) -> Result<Value, MalformedSbom> {
    serde_json::from_slice(bytes).map_err(|error| MalformedSbom::Json(error.to_string()))
}

/// The document in its envelopes.
fn unwrapped(json: Value) -> Result<Value, MalformedSbom> {
    use base64::Engine as _;
    let Value::Object(mut object) = json else { return Err(MalformedSbom::Form) };
    if object.contains_key("payloadType")
        && let Some(Value::String(payload)) = object.get("payload")
    {
        let payload = base64::engine::general_purpose::STANDARD.decode(payload);
        let payload = payload.map_err(|error| MalformedSbom::Json(error.to_string()))?;
        let Value::Object(inner) = read(&payload)? else { return Err(MalformedSbom::Form) };
        object = inner;
    }
    if object.contains_key("predicateType") {
        return object.remove("predicate").ok_or(MalformedSbom::Form);
    }
    Ok(Value::Object(object))
}

fn text<'v>(object: &'v Map<String, Value>, key: &str) -> Option<&'v str> {
    object.get(key).and_then(Value::as_str)
}

fn list<'v>(object: &'v Map<String, Value>, key: &str) -> &'v [Value] {
    object.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default()
}

fn spdx(object: &Map<String, Value>) -> Result<Sbom, MalformedSbom> {
    let info = object.get("creationInfo").and_then(Value::as_object);
    let creators = info.map(|info| list(info, "creators")).unwrap_or_default();
    let tools = creators.iter().filter_map(|one| one.as_str()?.strip_prefix("Tool: "));
    let made_by = tools.take(5).collect::<Vec<_>>().join(", ");
    let all = list(object, "packages");
    if all.len() > MOST {
        return Err(MalformedSbom::Many);
    }
    let mut sbom = Sbom { form: SbomForm::Spdx, made_by, packages: Vec::new(), unnamed: 0 };
    for package in all.iter().filter_map(Value::as_object) {
        let urls = list(package, "externalRefs").iter().filter_map(|one| {
            let one = one.as_object()?;
            (text(one, "referenceType")? == "purl").then(|| text(one, "referenceLocator"))?
        });
        sbom.add(urls.take(1).next());
    }
    Ok(sbom)
}

fn cyclonedx(object: &Map<String, Value>) -> Result<Sbom, MalformedSbom> {
    let tools = object.get("metadata").and_then(|metadata| metadata.get("tools"));
    // A list in earlier versions, an object with one in later ones.
    let tools = match tools {
        Some(Value::Object(tools)) => list(tools, "components"),
        Some(Value::Array(tools)) => tools,
        _ => &[],
    };
    let names = tools.iter().filter_map(|tool| text(tool.as_object()?, "name"));
    let made_by = names.take(5).collect::<Vec<_>>().join(", ");
    let mut sbom = Sbom { form: SbomForm::CycloneDx, made_by, packages: Vec::new(), unnamed: 0 };
    let mut open: Vec<(&Value, usize)> =
        list(object, "components").iter().map(|component| (component, 0)).collect();
    while let Some((component, depth)) = open.pop() {
        let Some(component) = component.as_object() else { continue };
        if sbom.packages.len() + sbom.unnamed >= MOST {
            return Err(MalformedSbom::Many);
        }
        // Files, and the system itself, are no packages.
        if !matches!(text(component, "type"), Some("file" | "operating-system")) {
            sbom.add(text(component, "purl"));
        }
        if depth < DEEPEST {
            open.extend(list(component, "components").iter().map(|inner| (inner, depth + 1)));
        }
    }
    Ok(sbom)
}

impl Sbom {
    fn add(&mut self, url: Option<&str>) {
        match url.and_then(|url| url.parse::<PackageUrl>().ok()) {
            // The image itself is in some of them.
            Some(url) if url.kind == "oci" => {}
            Some(url) => self.packages.push(ListedPackage { url }),
            None => self.unnamed += 1,
        }
    }
}
