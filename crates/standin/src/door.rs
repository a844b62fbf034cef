//! The stand-in cluster's admission: its API asks the configured webhooks about each object before it
//! takes it, as the platform does.

use std::collections::BTreeMap;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use larder_client::{Web, WebOptions};
use larder_core::objects::text;
use serde_json::{Value, json};

use crate::api::Api;

/// An object as it was let in, and what the person who applied it is told.
pub(crate) struct AdmittedObject {
    pub object: Value,
    pub warnings: Vec<String>,
}

/// Asks about an object: first those that change it, then those that judge it.
///
/// # Errors
/// The text that a client of the platform shows when it is refused.
pub(crate) async fn admit(
    api: &Api,
    hosts: &BTreeMap<String, String>,
    mut object: Value,
) -> Result<AdmittedObject, String> {
    let kind = text(&object, &["kind"]).unwrap_or_default().to_owned();
    let namespace = text(&object, &["metadata", "namespace"]).unwrap_or("default").to_owned();
    let mut warnings = Vec::new();
    for changing in [true, false] {
        for (url, strict) in api.webhooks(changing, &kind, &namespace) {
            let word = if changing { "rewrite" } else { "rules" };
            let name = format!("{word}.door.iron-larder");
            let response = match ask(hosts, &url, &kind, &namespace, &object).await {
                Ok(response) => response,
                Err(cause) if strict => {
                    return Err(format!(
                        "Error from server (InternalError): Internal error occurred: failed calling webhook \"{name}\": failed to call webhook: {cause}"
                    ));
                }
                Err(_) => continue,
            };
            let said = response["warnings"].as_array().into_iter().flatten();
            warnings.extend(said.filter_map(Value::as_str).map(str::to_owned));
            if response["allowed"] != true {
                let why = text(&response, &["status", "message"]).unwrap_or("no reason given");
                return Err(format!(
                    "Error from server (Forbidden): admission webhook \"{name}\" denied the request: {why}"
                ));
            }
            if let Some(patch) = text(&response, &["patch"]) {
                let patch = STANDARD.decode(patch).map_err(|error| error.to_string())?;
                let patch: Vec<Value> =
                    serde_json::from_slice(&patch).map_err(|error| error.to_string())?;
                for operation in &patch {
                    change(&mut object, operation)?;
                }
            }
        }
    }
    Ok(AdmittedObject { object, warnings })
}

async fn ask(
    hosts: &BTreeMap<String, String>,
    url: &str,
    kind: &str,
    namespace: &str,
    object: &Value,
) -> Result<Value, String> {
    let rest = url.strip_prefix("https://").ok_or("the URL has another scheme than https")?;
    let (host, path) = rest.split_at(rest.find('/').unwrap_or(rest.len()));
    let name = host.split(':').next().unwrap_or(host);
    let lookup = || format!("Post \"{url}\": dial tcp: lookup {name}: no such host");
    let endpoint = hosts.get(host).ok_or_else(lookup)?;
    let review = json!({
        "apiVersion": "admission.k8s.io/v1", "kind": "AdmissionReview",
        "request": {
            "uid": format!("review-{}", larder_store::now()),
            "kind": { "group": "", "version": "v1", "kind": kind },
            "name": text(object, &["metadata", "name"]).unwrap_or_default(),
            "namespace": namespace, "operation": "CREATE", "object": object, "dryRun": false,
        },
    });
    let web = Web::new(endpoint, WebOptions::default())?;
    let content = Some(("application/json", review.to_string().into_bytes()));
    let answer = web.send("POST", path, content).await?;
    if answer.status != 200 {
        return Err(format!("it answered {}", answer.status));
    }
    let read: Value = serde_json::from_slice(&answer.body).map_err(|error| error.to_string())?;
    Ok(read["response"].clone())
}

/// One operation of a JSON patch (RFC 6902): those that a door uses.
fn change(object: &mut Value, operation: &Value) -> Result<(), String> {
    let wrong = || format!("the patch cannot be applied: {operation}");
    let path = operation["path"].as_str().ok_or_else(wrong)?;
    let (parent, last) = path.rsplit_once('/').ok_or_else(wrong)?;
    let last = last.replace("~1", "/").replace("~0", "~");
    let parent = object.pointer_mut(parent).ok_or_else(wrong)?;
    let value = operation["value"].clone();
    match (operation["op"].as_str(), parent) {
        (Some("add"), Value::Array(items)) if last == "-" => items.push(value),
        (Some("add"), Value::Object(entries)) => {
            entries.insert(last, value);
        }
        (Some("replace"), Value::Object(entries)) => {
            *entries.get_mut(&last).ok_or_else(wrong)? = value;
        }
        _ => return Err(wrong()),
    }
    Ok(())
}
