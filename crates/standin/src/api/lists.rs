//! Lists of objects: selected, in pages, as tables for people, and followed as they change (Kubernetes API,
//! "Efficient detection of changes", "Retrieving large results sets in chunks", "Receiving resources as Tables").

use std::collections::BTreeMap;

use larder_core::objects::text;
use serde_json::{Value, json};

use super::kinds::ObjectKind;

/// What a request asks for behind `?`.
#[derive(Debug, Clone, Default)]
pub(crate) struct Query(BTreeMap<String, String>);

impl Query {
    /// The parameters of a query.
    pub fn read(query: Option<&str>) -> Self {
        let decode = |text: &str| {
            percent_encoding::percent_decode_str(&text.replace('+', " "))
                .decode_utf8_lossy()
                .into_owned()
        };
        let pairs = query.unwrap_or_default().split('&').filter_map(|pair| pair.split_once('='));
        Self(pairs.map(|(key, value)| (decode(key), decode(value))).collect())
    }

    /// The value of a parameter. None: it is not there, or empty.
    pub fn get(&self, key: &str) -> Option<&str> {
        self.0.get(key).map(String::as_str).filter(|value| !value.is_empty())
    }

    /// Whether a parameter says yes: `1`, `true` or `All`.
    pub fn is(&self, key: &str) -> bool {
        self.get(key).is_some_and(|value| matches!(value, "1" | "true" | "All"))
    }

    /// Whether an object is among those that are asked for.
    pub fn selects(&self, object: &Value) -> bool {
        let fields = self.get("fieldSelector").unwrap_or_default();
        let labels = self.get("labelSelector").unwrap_or_default();
        let field = |one: &str| {
            let (path, value, wanted) = split(one);
            let path: Vec<&str> = path.split('.').collect();
            (text(object, &path).unwrap_or_default() == value) == wanted
        };
        let label = |one: &str| match one.contains('=') {
            false => !object["metadata"]["labels"][one].is_null(),
            true => {
                let (key, value, wanted) = split(one);
                (object["metadata"]["labels"][key].as_str().unwrap_or_default() == value) == wanted
            }
        };
        fields.split(',').filter(|one| !one.is_empty()).all(field)
            && labels.split(',').filter(|one| !one.is_empty()).all(label)
    }
}

/// A name, a value, and whether they are to be equal.
fn split(one: &str) -> (&str, &str, bool) {
    match one.split_once("!=") {
        Some((key, value)) => (key, value, false),
        None => {
            let (key, value) = one.split_once('=').unwrap_or((one, ""));
            (key, value.trim_start_matches('='), true)
        }
    }
}

/// An object as lists have it: the list says the kind, and its items do not.
fn item(object: &Value) -> Value {
    let mut item = object.clone();
    if let Some(entries) = item.as_object_mut() {
        entries.remove("kind");
        entries.remove("apiVersion");
    }
    item
}

/// A list, or a page of it.
///
/// # Errors
/// When the page that is asked for is of a list that is too old: 410.
pub(crate) fn list(
    kind: ObjectKind,
    objects: &[Value],
    query: &Query,
    version: u64,
) -> Result<Value, String> {
    let limit = query.get("limit").and_then(|limit| limit.parse().ok()).unwrap_or(0_usize);
    let from = match query.get("continue") {
        None => 0,
        Some(token) => {
            let (of, from) = token.split_once('-').unwrap_or_default();
            if of.parse() != Ok(version) {
                return Err("The provided continue parameter is too old to display a consistent list result. You can start a new list without the continue parameter.".into());
            }
            from.parse().unwrap_or(0)
        }
    };
    let end = if limit == 0 { objects.len() } else { objects.len().min(from + limit) };
    let page = objects.get(from..end).unwrap_or_default();
    let mut metadata = json!({ "resourceVersion": version.to_string() });
    if end < objects.len() {
        metadata["continue"] = json!(format!("{version}-{end}"));
        metadata["remainingItemCount"] = json!(objects.len() - end);
    }
    let items: Vec<Value> = page.iter().map(item).collect();
    Ok(json!({
        "apiVersion": kind.version(), "kind": format!("{}List", kind.name),
        "metadata": metadata, "items": items,
    }))
}

/// Objects as a table for people.
pub(crate) fn table(kind: ObjectKind, objects: &[Value], version: u64, now: i64) -> Value {
    let names: &[&str] = match kind.name {
        "Pod" => &["Name", "Ready", "Status", "Restarts", "Age"],
        "Deployment" => &["Name", "Ready", "Up-to-date", "Available", "Age"],
        "Secret" => &["Name", "Type", "Data", "Age"],
        "Namespace" => &["Name", "Status", "Age"],
        "Event" => &["Last Seen", "Type", "Reason", "Object", "Message"],
        _ => &["Name", "Age"],
    };
    let columns: Vec<Value> = names
        .iter()
        .map(|name| json!({ "name": name, "type": "string", "format": if *name == "Name" { "name" } else { "" }, "description": name, "priority": 0 }))
        .collect();
    let rows: Vec<Value> = objects
        .iter()
        .map(|object| {
            let metadata = json!({
                "apiVersion": "meta.k8s.io/v1", "kind": "PartialObjectMetadata", "metadata": object["metadata"],
            });
            json!({ "cells": cells(kind, object, now), "object": metadata })
        })
        .collect();
    json!({
        "kind": "Table", "apiVersion": "meta.k8s.io/v1",
        "metadata": { "resourceVersion": version.to_string() },
        "columnDefinitions": columns, "rows": rows,
    })
}

fn cells(kind: ObjectKind, object: &Value, now: i64) -> Vec<String> {
    let name = text(object, &["metadata", "name"]).unwrap_or_default().to_owned();
    let age = age(text(object, &["metadata", "creationTimestamp"]), now);
    let number = |at: &Value| at.as_u64().unwrap_or(0).to_string();
    match kind.name {
        "Pod" => {
            let states = object["status"]["containerStatuses"].as_array();
            let all = object["spec"]["containers"].as_array().map_or(0, Vec::len);
            let ready = states.into_iter().flatten().filter(|one| one["ready"] == true).count();
            let waiting = states
                .into_iter()
                .flatten()
                .find_map(|one| text(one, &["state", "waiting", "reason"]));
            let phase = text(object, &["status", "phase"]).unwrap_or("Pending");
            let status = waiting.unwrap_or(phase).to_owned();
            vec![name, format!("{ready}/{all}"), status, "0".into(), age]
        }
        "Deployment" => {
            let wanted = object["spec"]["replicas"].as_u64().unwrap_or(1);
            let status = &object["status"];
            let ready = format!("{}/{wanted}", number(&status["readyReplicas"]));
            vec![
                name,
                ready,
                number(&status["updatedReplicas"]),
                number(&status["availableReplicas"]),
                age,
            ]
        }
        "Secret" => {
            let kind = text(object, &["type"]).unwrap_or("Opaque").to_owned();
            vec![
                name,
                kind,
                object["data"].as_object().map_or(0, serde_json::Map::len).to_string(),
                age,
            ]
        }
        "Namespace" => vec![name, "Active".into(), age],
        "Event" => {
            let said = |path: &[&str]| text(object, path).unwrap_or_default().to_owned();
            let about = format!(
                "{}/{}",
                said(&["involvedObject", "kind"]).to_lowercase(),
                said(&["involvedObject", "name"])
            );
            vec![age, said(&["type"]), said(&["reason"]), about, said(&["message"])]
        }
        _ => vec![name, age],
    }
}

/// How long ago a time was, as tables have it.
fn age(since: Option<&str>, now: i64) -> String {
    let then = since.and_then(super::answer::seconds);
    match then.map(|then| (now - then).max(0)) {
        None => "<unknown>".into(),
        Some(seconds @ 0..120) => format!("{seconds}s"),
        Some(seconds @ 120..7200) => format!("{}m", seconds / 60),
        Some(seconds @ 7200..172_800) => format!("{}h", seconds / 3600),
        Some(seconds) => format!("{}d", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::api::kinds::KINDS;

    #[test]
    fn lists_come_in_pages_and_by_what_is_selected() {
        let secrets = KINDS.into_iter().find(|kind| kind.name == "Secret").unwrap();
        let objects: Vec<Value> = (0..5)
            .map(|number| json!({ "kind": "Secret", "metadata": { "name": format!("s{number}"), "labels": { "of": number.to_string() } } }))
            .collect();
        let first = list(secrets, &objects, &Query::read(Some("limit=2")), 7).unwrap();
        assert_eq!(first["items"].as_array().unwrap().len(), 2);
        assert!(first["items"][0].get("kind").is_none(), "the list says it for all");
        let token = first["metadata"]["continue"].as_str().unwrap();
        let next = Query::read(Some(&format!("limit=9&continue={token}")));
        assert_eq!(
            list(secrets, &objects, &next, 7).unwrap()["items"].as_array().unwrap().len(),
            3
        );
        assert!(list(secrets, &objects, &next, 8).is_err(), "something changed");
        let by = |query: &str| {
            let query = Query::read(Some(query));
            objects.iter().filter(|one| query.selects(one)).count()
        };
        assert_eq!(by("fieldSelector=metadata.name%3Ds3"), 1);
        assert_eq!(by("labelSelector=of%3D1"), 1);
        assert_eq!(by("labelSelector=of%21%3D1"), 4);
        assert_eq!(by("labelSelector=missing"), 0);
    }
}
