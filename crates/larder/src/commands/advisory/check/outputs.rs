//! What was found, in open forms for other programs.

use std::collections::BTreeMap;

use larder_core::advisory::Severity;
use serde_json::{Value, json};

use super::{AdvisoryCheck, CheckedImage, Finding};

/// An open form.
#[derive(Debug, Clone, Copy, PartialEq, Eq, clap::ValueEnum)]
pub enum Form {
    /// SARIF 2.1.0.
    Sarif,
    /// CycloneDX 1.6 with vulnerabilities.
    Vex,
}

/// Writes it.
pub fn document(form: Form, check: &AdvisoryCheck) -> Value {
    match form {
        Form::Sarif => sarif(check),
        Form::Vex => vex(check),
    }
}

fn name(image: &CheckedImage) -> &str {
    image.names.first().unwrap_or(&image.digest)
}

fn all(check: &AdvisoryCheck) -> impl Iterator<Item = (&CheckedImage, &Finding)> {
    check.images.iter().flat_map(|image| image.findings.iter().map(move |one| (image, one)))
}

fn sarif(check: &AdvisoryCheck) -> Value {
    let mut rules: BTreeMap<&str, Value> = BTreeMap::new();
    for (_, one) in all(check) {
        let text = if one.summary.is_empty() { &one.advisory } else { &one.summary };
        let mut properties = json!({ "tags": ["security", one.severity] });
        if let Some((properties, score)) = properties.as_object_mut().zip(one.score) {
            properties.insert("security-severity".to_owned(), format!("{score:.1}").into());
        }
        rules.entry(&one.advisory).or_insert_with(|| {
            json!({
                "id": one.advisory,
                "shortDescription": { "text": text },
                "properties": properties,
            })
        });
    }
    let results: Vec<Value> = all(check)
        .map(|(image, one)| {
            let level = match one.rank {
                Severity::Critical | Severity::High => "error",
                Severity::Medium | Severity::Unknown => "warning",
                Severity::Low | Severity::None => "note",
            };
            let fixed = one.fixed_version.as_deref().map_or_else(
                || "no version that mends it is known".to_owned(),
                |version| format!("mended in {version}"),
            );
            let (kind, package, version) = (one.kind, &one.package, &one.version);
            let text = format!(
                "{package} {version} ({kind}) in layer {} of {}: {fixed}",
                one.layer,
                name(image)
            );
            let mut result = json!({
                "ruleId": one.advisory,
                "level": level,
                "message": { "text": text },
                "locations": [{
                    "physicalLocation": { "artifactLocation": { "uri": uri(name(image)) } },
                    "logicalLocations": [{
                        "name": package, "kind": "package",
                        "fullyQualifiedName": format!("{}@{}", name(image), image.digest),
                    }],
                }],
                "partialFingerprints": {
                    "package/v1": format!("{}/{kind}/{package}/{version}/{}", image.digest, one.advisory),
                },
            });
            if let (true, Some(result), Some(statement)) =
                (one.is_hidden(), result.as_object_mut(), &one.statement)
            {
                let why = format!("{}: {} {}", statement.author, statement.status, statement.because);
                let all = json!([{ "kind": "external", "status": "accepted", "justification": why }]);
                result.insert("suppressions".to_owned(), all);
            }
            result
        })
        .collect();
    json!({
        "$schema": "https://json.schemastore.org/sarif-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": {
                "name": "larder", "version": env!("CARGO_PKG_VERSION"),
                "rules": rules.into_values().collect::<Vec<_>>(),
            } },
            "results": results,
        }],
    })
}

/// A place as a relative URI (RFC 3986): what has a meaning there is written out.
fn uri(text: &str) -> String {
    let fits = |byte: u8| byte.is_ascii_alphanumeric() || b"-._~/".contains(&byte);
    text.bytes()
        .map(|byte| if fits(byte) { char::from(byte).to_string() } else { format!("%{byte:02X}") })
        .collect()
}

fn vex(check: &AdvisoryCheck) -> Value {
    let components: Vec<Value> = check
        .images
        .iter()
        .map(|image| {
            json!({
                "type": "container", "bom-ref": image.digest, "name": name(image),
                "version": image.digest,
            })
        })
        .collect();
    let mut vulnerabilities: BTreeMap<(&str, &str), Value> = BTreeMap::new();
    for (image, one) in all(check) {
        let entry = vulnerabilities.entry((&one.advisory, &image.digest)).or_insert_with(|| {
            let mut rating = json!({ "severity": one.severity });
            if let Some((rating, score)) = rating.as_object_mut().zip(one.score) {
                rating.insert("score".to_owned(), score.into());
            }
            let state = match one.statement.as_ref().filter(|statement| statement.hides) {
                Some(statement) if statement.status == "fixed" => "resolved",
                Some(_) => "not_affected",
                None => "in_triage",
            };
            let mut analysis = json!({ "state": state });
            if let Some((analysis, statement)) =
                analysis.as_object_mut().zip(one.statement.as_ref())
            {
                let said = format!("{}: {}", statement.author, statement.because);
                analysis.insert("detail".to_owned(), said.into());
            }
            json!({
                "bom-ref": format!("{}@{}", one.advisory, image.digest),
                "id": one.advisory,
                "source": { "name": one.feed },
                "ratings": [rating],
                "description": one.summary,
                "analysis": analysis,
                "affects": [],
                "properties": [],
            })
        });
        let package = format!("{} {} {}", one.kind, one.package, one.version);
        if let Some(affects) = entry.get_mut("affects").and_then(Value::as_array_mut)
            && affects.is_empty()
        {
            affects.push(json!({ "ref": image.digest }));
        }
        if let Some(properties) = entry.get_mut("properties").and_then(Value::as_array_mut) {
            properties.push(json!({ "name": "larder:package", "value": package }));
        }
    }
    json!({
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "version": 1,
        "metadata": { "tools": { "components": [{
            "type": "application", "name": "larder", "version": env!("CARGO_PKG_VERSION"),
        }] } },
        "components": components,
        "vulnerabilities": vulnerabilities.into_values().collect::<Vec<_>>(),
    })
}
