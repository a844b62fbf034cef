//! Writing objects: server-side apply with the fields that each manager owns (Kubernetes API, "Server-Side
//! Apply"), and the older patches of clients (RFC 7386 and the platform's strategic form of it).

use std::collections::BTreeSet;

use serde_json::{Map, Value, json};

/// Who wrote which fields of an object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Manager {
    pub name: String,
    /// `Apply`, `Update`.
    pub operation: &'static str,
    /// Paths of leaves: `f:data`, `f:x`; `f:imagePullSecrets`, `k:{"name":"x"}`, `f:name`.
    pub fields: BTreeSet<String>,
}

/// Between the parts of a path: keys have slashes in them.
const BETWEEN: char = '\u{1f}';

/// What nobody owns.
const NOBODYS: [&str; 6] =
    ["apiVersion", "kind", "status", "managedFields", "resourceVersion", "uid"];

/// The leaves of an object, as managers own them.
pub(crate) fn leaves(object: &Value) -> BTreeSet<String> {
    let mut all = BTreeSet::new();
    let Some(top) = object.as_object() else { return all };
    for (key, value) in top.iter().filter(|(key, _)| !NOBODYS.contains(&key.as_str())) {
        walk(value, &format!("f:{key}"), &mut all);
    }
    all.retain(|path| {
        !["name", "namespace", "creationTimestamp", "generation", "resourceVersion", "uid"]
            .iter()
            .any(|its| path == &format!("f:metadata{BETWEEN}f:{its}"))
    });
    all
}

fn walk(value: &Value, at: &str, all: &mut BTreeSet<String>) {
    match value {
        Value::Object(entries) if !entries.is_empty() => {
            for (key, value) in entries {
                walk(value, &format!("{at}{BETWEEN}f:{key}"), all);
            }
        }
        // Lists of named things are joined by their names; others are owned whole.
        Value::Array(items) if is_named(items) => {
            for item in items {
                walk(item, &format!("{at}{BETWEEN}k:{}", json!({ "name": item["name"] })), all);
            }
        }
        _ => {
            all.insert(at.to_owned());
        }
    }
}

fn is_named(items: &[Value]) -> bool {
    !items.is_empty() && items.iter().all(|item| item["name"].is_string())
}

/// The value of a leaf. None: it is not there.
fn leaf<'v>(object: &'v Value, path: &str) -> Option<&'v Value> {
    let mut at = object;
    for part in path.split(BETWEEN) {
        at = match (part.strip_prefix("f:"), part.strip_prefix("k:")) {
            (Some(key), _) => at.get(key)?,
            (None, Some(named)) => {
                let named: Value = serde_json::from_str(named).ok()?;
                at.as_array()?.iter().find(|item| item["name"] == named["name"])?
            }
            (None, None) => return None,
        };
    }
    Some(at)
}

fn remove(object: &mut Value, path: &str) {
    let (parent, last) = path.rsplit_once(BETWEEN).unwrap_or(("", path));
    let mut at = object;
    for part in parent.split(BETWEEN).filter(|part| !part.is_empty()) {
        let next = match (part.strip_prefix("f:"), part.strip_prefix("k:")) {
            (Some(key), _) => at.get_mut(key),
            (None, Some(named)) => {
                let named: Value = serde_json::from_str(named).unwrap_or_default();
                at.as_array_mut()
                    .and_then(|items| items.iter_mut().find(|item| item["name"] == named["name"]))
            }
            (None, None) => None,
        };
        let Some(next) = next else { return };
        at = next;
    }
    if let (Some(entries), Some(key)) = (at.as_object_mut(), last.strip_prefix("f:")) {
        entries.remove(key);
    }
}

/// An object, and who wrote which of its fields.
pub(crate) type OwnedObject = (Value, Vec<Manager>);

/// Fields that others own, each with its owner.
pub(crate) type Conflicts = Vec<(String, String)>;

/// Applies an object for a manager. The object and its managers afterwards.
///
/// # Errors
/// The fields that others own with another value, each with its owner.
pub(crate) fn apply(
    before: &Value,
    managers: &[Manager],
    given: &Value,
    manager: &str,
    force: bool,
) -> Result<OwnedObject, Conflicts> {
    let wanted = leaves(given);
    let mut conflicts = Vec::new();
    for other in managers.iter().filter(|it| it.name != manager || it.operation != "Apply") {
        for path in other.fields.intersection(&wanted) {
            if leaf(before, path) != leaf(given, path) {
                conflicts.push((other.name.clone(), path.clone()));
            }
        }
    }
    if !conflicts.is_empty() && !force {
        return Err(conflicts);
    }
    let mut after = merge(before.clone(), given);
    let mut managers = managers.to_vec();
    for (name, path) in &conflicts {
        for other in managers.iter_mut().filter(|it| it.name == *name) {
            other.fields.remove(path);
        }
    }
    // What it owned, and no longer wants, goes unless somebody else wants it.
    let its = |it: &Manager| it.name == manager && it.operation == "Apply";
    if let Some(mine) = managers.iter().find(|it| its(it)) {
        for path in mine.fields.difference(&wanted) {
            let others = managers.iter().any(|it| !its(it) && it.fields.contains(path));
            if !others {
                remove(&mut after, path);
            }
        }
    }
    managers.retain(|it| !its(it) && !it.fields.is_empty());
    managers.push(Manager { name: manager.to_owned(), operation: "Apply", fields: wanted });
    prune(&mut after);
    Ok((after, managers))
}

/// Named things of which nothing is left.
fn prune(value: &mut Value) {
    match value {
        Value::Object(entries) => entries.values_mut().for_each(prune),
        Value::Array(items) => {
            items.retain(|item| item.as_object().is_none_or(|entries| !entries.is_empty()));
            items.iter_mut().for_each(prune);
        }
        _ => {}
    }
}

/// A path as the platform writes it: `.data.a`.
pub(crate) fn shown_path(path: &str) -> String {
    path.split(BETWEEN)
        .map(|part| match part.strip_prefix("f:") {
            Some(key) => format!(".{key}"),
            None => part.replacen("k:", "[", 1) + "]",
        })
        .collect()
}

/// Notes what somebody wrote in another way than by applying.
pub(crate) fn update(
    before: &Value,
    after: &Value,
    managers: &[Manager],
    manager: &str,
) -> Vec<Manager> {
    let changed: BTreeSet<String> =
        leaves(after).into_iter().filter(|path| leaf(before, path) != leaf(after, path)).collect();
    let mut managers = managers.to_vec();
    for other in &mut managers {
        other.fields.retain(|path| !changed.contains(path) && leaf(after, path).is_some());
    }
    let its = |it: &Manager| it.name == manager && it.operation == "Update";
    match managers.iter_mut().find(|it| its(it)) {
        Some(mine) => mine.fields.extend(changed),
        None if changed.is_empty() => {}
        None => managers.push(Manager {
            name: manager.to_owned(),
            operation: "Update",
            fields: changed,
        }),
    }
    managers.retain(|it| !it.fields.is_empty());
    managers
}

/// Server-side apply: what the other owns stays; lists of named things are joined by name.
pub(crate) fn merge(before: Value, given: &Value) -> Value {
    match (before, given) {
        (Value::Object(mut before), Value::Object(given)) => {
            for (key, value) in given {
                let old = before.remove(key).unwrap_or(Value::Null);
                before.insert(key.clone(), merge(old, value));
            }
            Value::Object(before)
        }
        (Value::Array(mut before), Value::Array(given)) if is_named(given) => {
            for item in given {
                match before.iter_mut().find(|old| old["name"] == item["name"]) {
                    Some(old) => *old = merge(old.take(), item),
                    None => before.push(item.clone()),
                }
            }
            Value::Array(before)
        }
        (_, given) => given.clone(),
    }
}

/// A merge patch; lists of named things are joined by name where it is the platform's own form.
pub(crate) fn patch(before: Value, given: &Value, strategic: bool) -> Value {
    match (before, given) {
        (before, Value::Object(given)) => {
            let mut entries = match before {
                Value::Object(entries) => entries,
                _ => Map::new(),
            };
            for (key, value) in given.iter().filter(|(key, _)| !(strategic && key.starts_with('$')))
            {
                if value.is_null() {
                    entries.remove(key);
                    continue;
                }
                let old = entries.remove(key).unwrap_or(Value::Null);
                entries.insert(key.clone(), patch(old, value, strategic));
            }
            Value::Object(entries)
        }
        (Value::Array(mut before), Value::Array(given)) if strategic && is_named(given) => {
            for item in given {
                let at = before.iter().position(|old| old["name"] == item["name"]);
                match at {
                    Some(at) if item["$patch"] == "delete" => {
                        before.remove(at);
                    }
                    Some(at) => before[at] = patch(before[at].take(), item, strategic),
                    None => before.push(item.clone()),
                }
            }
            Value::Array(before)
        }
        (_, given) => given.clone(),
    }
}

/// The managers as objects show them (`metadata.managedFields`).
pub(crate) fn shown(managers: &[Manager], version: &str) -> Value {
    let of = |manager: &Manager| {
        let mut fields = json!({});
        for path in &manager.fields {
            let mut at = &mut fields;
            for part in path.split(BETWEEN) {
                at = &mut at[part];
                if at.is_null() {
                    *at = json!({});
                }
            }
        }
        json!({
            "manager": manager.name, "operation": manager.operation, "apiVersion": version,
            "fieldsType": "FieldsV1", "fieldsV1": fields,
        })
    };
    managers.iter().map(of).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_applies_owns_and_what_is_given_up_goes() {
        let secret =
            |data: Value| json!({ "kind": "Secret", "metadata": { "name": "x" }, "data": data });
        let (first, managers) =
            apply(&Value::Null, &[], &secret(json!({ "a": "1", "b": "2" })), "one", false).unwrap();
        // Another one may add, and may not take over unasked.
        let (both, managers) =
            apply(&first, &managers, &secret(json!({ "c": "3" })), "two", false).unwrap();
        assert_eq!(both["data"], json!({ "a": "1", "b": "2", "c": "3" }));
        let taken = apply(&both, &managers, &secret(json!({ "a": "9" })), "two", false);
        assert_eq!(taken, Err(vec![("one".to_owned(), format!("f:data{BETWEEN}f:a"))]));
        assert_eq!(shown_path(&format!("f:data{BETWEEN}f:a")), ".data.a");
        let (forced, managers) =
            apply(&both, &managers, &secret(json!({ "a": "9" })), "two", true).unwrap();
        assert_eq!(forced["data"], json!({ "a": "9", "b": "2" }), "what it gave up is gone");
        // The first one takes its own back, and leaves what is the other's.
        let (left, _) = apply(&forced, &managers, &secret(json!({})), "one", false).unwrap();
        assert_eq!(left["data"], json!({ "a": "9" }));
    }

    #[test]
    fn lists_of_named_things_are_joined() {
        let account = |names: &[&str]| {
            let links: Vec<Value> = names.iter().map(|name| json!({ "name": name })).collect();
            json!({ "metadata": { "name": "default" }, "imagePullSecrets": links })
        };
        let (one, managers) =
            apply(&Value::Null, &[], &account(&["theirs"]), "one", false).unwrap();
        let (both, managers) = apply(&one, &managers, &account(&["ours"]), "two", false).unwrap();
        assert_eq!(both["imagePullSecrets"], json!([{ "name": "theirs" }, { "name": "ours" }]));
        let (left, _) =
            apply(&both, &managers, &json!({ "metadata": { "name": "default" } }), "two", false)
                .unwrap();
        assert_eq!(left["imagePullSecrets"], json!([{ "name": "theirs" }]));
        let patched = patch(
            both,
            &json!({ "imagePullSecrets": [{ "name": "more" }], "metadata": null }),
            true,
        );
        assert_eq!(patched["imagePullSecrets"].as_array().unwrap().len(), 3);
        assert!(patched.get("metadata").is_none());
    }
}
