//! Writing a bill of materials.

use serde_json::{Value, json};

use crate::digest::Digest;
use crate::inventory::{ImageInventory, ImagePackage, OsRelease, PackageStanding};

/// What a bill of materials is about.
#[derive(Debug, Clone, Copy)]
pub struct SbomSubject<'s> {
    pub reference: &'s str,
    /// Of the platform's manifest.
    pub digest: &'s Digest,
    /// The lowest first.
    pub layers: &'s [Digest],
    /// When it is written (RFC 3339, UTC).
    pub made_at: &'s str,
    /// Of this program.
    pub version: &'s str,
}

/// What is there, and not what was.
fn there(inventory: &ImageInventory) -> impl Iterator<Item = &ImagePackage> {
    inventory.packages.iter().filter(|one| one.removed.is_none())
}

/// The image's own package URL.
fn image_url(subject: &SbomSubject<'_>) -> String {
    let place = subject.reference.split('@').next().unwrap_or_default();
    let place = match place.rsplit_once('/') {
        Some((before, last)) => format!("{before}/{}", last.split(':').next().unwrap_or(last)),
        None => place.to_owned(),
    };
    let name = place.rsplit('/').next().unwrap_or(&place).to_lowercase();
    let url = crate::purl::PackageUrl {
        kind: "oci".to_owned(),
        namespace: Vec::new(),
        name: if name.is_empty() { "image".to_owned() } else { name },
        version: Some(subject.digest.to_string()),
        qualifiers: [("repository_url".to_owned(), place)].into(),
        subpath: Vec::new(),
    };
    url.to_string()
}

/// A number of its own for each document: made from what it says, so that the same one has the same (RFC 9562, version 8).
fn uuid(subject: &SbomSubject<'_>, form: &str) -> String {
    let text = format!("{form}\n{}\n{}\n{}", subject.reference, subject.digest, subject.made_at);
    let hex = Digest::of(text.as_bytes()).hex()[..32].to_owned();
    format!("{}-{}-8{}-8{}-{}", &hex[..8], &hex[8..12], &hex[13..16], &hex[17..20], &hex[20..32])
}

fn url(one: &ImagePackage, release: Option<&OsRelease>) -> Option<String> {
    // What is guessed is the name of nothing.
    let is_known = one.package.standing != PackageStanding::Guessed;
    is_known.then(|| one.package.url(release).to_string())
}

/// What is not read of it, in a sentence. None: all was.
fn left_out(inventory: &ImageInventory) -> Option<String> {
    let count = inventory.unread.len();
    (count > 0).then(|| {
        let told = inventory.unread.iter().take(20).map(|(layer, one)| {
            let place = if one.path.is_empty() { "" } else { ", " };
            format!("layer {}{place}{}: {}", layer + 1, one.path, one.why)
        });
        let told = told.collect::<Vec<_>>().join("; ");
        format!("Not everything was read, so that packages may be missing. {told}")
    })
}

/// Writes CycloneDX 1.6 (ECMA-424) as JSON.
pub fn cyclonedx(subject: &SbomSubject<'_>, inventory: &ImageInventory) -> Value {
    let release = inventory.release.as_ref();
    let image = format!("image@{}", subject.digest);
    let mut components = Vec::new();
    if let Some(release) = release {
        let mut system = json!({
            "type": "operating-system", "bom-ref": "system", "name": release.id,
            "description": release.shown(),
        });
        if let (Some(system), Some(version)) = (system.as_object_mut(), &release.version_id) {
            system.insert("version".to_owned(), version.as_str().into());
        }
        components.push(system);
    }
    for (number, one) in there(inventory).enumerate() {
        let mut properties =
            vec![json!({ "name": "larder:layer:number", "value": (one.layer + 1).to_string() })];
        if let Some(digest) = subject.layers.get(one.layer) {
            properties.push(json!({ "name": "larder:layer:digest", "value": digest.as_str() }));
        }
        if one.package.source.is_some() {
            let source = format!("{} {}", one.package.source_name(), one.package.source_version());
            properties.push(json!({ "name": "larder:source", "value": source }));
        }
        if let Some(owner) = &one.owner {
            properties.push(json!({ "name": "larder:part-of", "value": owner.name }));
            if owner.is_altered {
                properties.push(json!({ "name": "larder:altered", "value": "true" }));
            }
        }
        if let Some(inside) = &one.inside {
            properties.push(json!({ "name": "larder:inside", "value": inside }));
        }
        if one.package.standing == PackageStanding::Guessed {
            properties.push(json!({ "name": "larder:guessed", "value": "true" }));
        }
        let mut component = json!({
            "type": "library",
            // The same package may lie at many places.
            "bom-ref": format!("package-{}", number + 1),
            "name": one.package.name,
            "version": one.package.version,
            "evidence": { "occurrences": [{ "location": one.path }] },
            "properties": properties,
        });
        let written = component.as_object_mut().zip(url(one, release));
        if let Some((component, url)) = written {
            component.insert("purl".to_owned(), url.into());
        }
        components.push(component);
    }
    let mut document = json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": format!("urn:uuid:{}", uuid(subject, "cyclonedx")),
        "version": 1,
        "metadata": {
            "timestamp": subject.made_at,
            "tools": { "components": [{
                "type": "application", "name": "larder", "version": subject.version,
            }] },
            "component": {
                "type": "container", "bom-ref": image, "name": subject.reference,
                "version": subject.digest.as_str(), "purl": image_url(subject),
            },
        },
        "components": components,
    });
    if let (Some(document), Some(why)) = (document.as_object_mut(), left_out(inventory)) {
        let open = json!([{ "aggregate": "incomplete", "assemblies": [image] }]);
        document.insert("compositions".to_owned(), open);
        let told = json!([{ "name": "larder:not-read", "value": why }]);
        document.insert("properties".to_owned(), told);
    }
    document
}

/// Writes SPDX 2.3 (ISO/IEC 5962) as JSON.
pub fn spdx(subject: &SbomSubject<'_>, inventory: &ImageInventory) -> Value {
    let release = inventory.release.as_ref();
    let located = |url: &str| {
        json!([{
            "referenceCategory": "PACKAGE-MANAGER", "referenceType": "purl", "referenceLocator": url,
        }])
    };
    let mut packages = vec![json!({
        "SPDXID": "SPDXRef-Image", "name": subject.reference, "versionInfo": subject.digest.as_str(),
        "downloadLocation": "NOASSERTION", "filesAnalyzed": false,
        "primaryPackagePurpose": "CONTAINER", "externalRefs": located(&image_url(subject)),
    })];
    let mut relationships = vec![json!({
        "spdxElementId": "SPDXRef-DOCUMENT", "relationshipType": "DESCRIBES",
        "relatedSpdxElement": "SPDXRef-Image",
    })];
    for (number, one) in there(inventory).enumerate() {
        let id = format!("SPDXRef-Package-{}", number + 1);
        let layer = subject.layers.get(one.layer).map_or_else(String::new, ToString::to_string);
        let guessed = match one.package.standing {
            PackageStanding::Guessed => "; its name or version is guessed",
            _ => "",
        };
        let brought = format!("{} in layer {} ({layer}){guessed}", one.path, one.layer + 1);
        let mut package = json!({
            "SPDXID": id, "name": one.package.name, "versionInfo": one.package.version,
            "downloadLocation": "NOASSERTION", "filesAnalyzed": false, "sourceInfo": brought,
        });
        if let Some((package, url)) = package.as_object_mut().zip(url(one, release)) {
            package.insert("externalRefs".to_owned(), located(&url));
        }
        packages.push(package);
        relationships.push(json!({
            "spdxElementId": "SPDXRef-Image", "relationshipType": "CONTAINS",
            "relatedSpdxElement": id,
        }));
    }
    let mut document = json!({
        "spdxVersion": "SPDX-2.3",
        "dataLicense": "CC0-1.0",
        "SPDXID": "SPDXRef-DOCUMENT",
        "name": subject.reference,
        "documentNamespace": format!("urn:uuid:{}", uuid(subject, "spdx")),
        "creationInfo": {
            "created": subject.made_at, "creators": [format!("Tool: larder-{}", subject.version)],
        },
        "packages": packages,
        "relationships": relationships,
    });
    if let (Some(document), Some(why)) = (document.as_object_mut(), left_out(inventory)) {
        document.insert("comment".to_owned(), why.into());
    }
    document
}
