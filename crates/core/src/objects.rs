//! Objects of a cluster's API, and other settings in YAML: read into values, and written for people.

use larder_yaml::ScalarStyle;
use serde_json::{Map, Number, Value};

pub use crate::rewrite::ParseError;

use larder_yaml::{NodeId, NodeKind, Tree, parse};

/// The largest text that is read, in bytes.
pub const LIMIT: usize = 8 * 1024 * 1024;
/// Values that one text may become: aliases must not make a small text a large one.
const MOST: usize = 200_000;
/// How deep they may lie.
const DEPTH: usize = 64;

/// Why a text cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ObjectsError {
    #[error("{0}")]
    Syntax(#[from] ParseError),
    /// Too much of it, or too deep.
    #[error("it has too many values, or they lie too deep")]
    Size,
    /// A mapping with keys that are no texts.
    #[error("a key is no text")]
    Key,
}

/// Reads all documents of a YAML or JSON text (YAML 1.2, "Core Schema"). Empty ones are left out; the
/// objects of a `List` stand for themselves.
pub fn read(text: &str) -> Result<Vec<Value>, ObjectsError> {
    if text.len() > LIMIT {
        return Err(ObjectsError::Size);
    }
    let tree = parse(text.trim_start_matches('\u{feff}'))?;
    let mut left = MOST;
    let mut all = Vec::new();
    for id in &tree.documents {
        match value(&tree, *id, DEPTH, &mut left)? {
            Value::Null => {}
            Value::Object(mut object) if is_list(&object) => all.append(&mut items(&mut object)),
            other => all.push(other),
        }
    }
    Ok(all)
}

/// Whether an object is a list of others: `List`, or `SecretList` and the like with `items`.
fn is_list(object: &Map<String, Value>) -> bool {
    let kind = object.get("kind").and_then(Value::as_str).unwrap_or_default();
    kind == "List" || (kind.ends_with("List") && object.get("items").is_some_and(Value::is_array))
}

/// The objects of a list. An API's own lists say once, for all, of which kind their items are (Kubernetes API
/// conventions, "Lists and Simple kinds").
pub fn items(list: &mut Map<String, Value>) -> Vec<Value> {
    let said = |key: &str| list.get(key).and_then(Value::as_str).unwrap_or_default().to_owned();
    let (kind, version) = (said("kind"), said("apiVersion"));
    let kind = kind.strip_suffix("List").filter(|kind| !kind.is_empty());
    let Some(Value::Array(mut items)) = list.remove("items") else { return Vec::new() };
    if let Some(kind) = kind {
        for item in items.iter_mut().filter_map(Value::as_object_mut) {
            item.entry("kind").or_insert_with(|| kind.into());
            if !version.is_empty() {
                item.entry("apiVersion").or_insert_with(|| version.clone().into());
            }
        }
    }
    items
}

fn value(
    tree: &Tree<'_>,
    id: NodeId,
    depth: usize,
    left: &mut usize,
) -> Result<Value, ObjectsError> {
    *left = left.checked_sub(1).ok_or(ObjectsError::Size)?;
    let deeper = depth.checked_sub(1).ok_or(ObjectsError::Size)?;
    let id = tree.resolve(id);
    let node = &tree.nodes[id];
    Ok(match node.kind {
        NodeKind::Alias => Value::Null,
        NodeKind::Sequence => {
            let items = tree.items(id).into_iter().flatten();
            Value::Array(
                items.map(|item| value(tree, item, deeper, left)).collect::<Result<_, _>>()?,
            )
        }
        NodeKind::Mapping => {
            let mut object = Map::new();
            for (key, inner) in tree.entries(id) {
                let key = &tree.nodes[tree.resolve(key)];
                if !matches!(key.kind, NodeKind::Scalar(_)) {
                    return Err(ObjectsError::Key);
                }
                object.insert(key.value.to_string(), value(tree, inner, deeper, left)?);
            }
            Value::Object(object)
        }
        NodeKind::Scalar(ScalarStyle::Plain) if node.is_absent() => Value::Null,
        NodeKind::Scalar(ScalarStyle::Plain) => plain(&node.value),
        NodeKind::Scalar(_) => Value::String(node.value.to_string()),
    })
}

/// Whether an object has all that another says. Lists of named things are compared by name; what
/// else stands in the object is its keeper's.
pub fn holds(object: &Value, wanted: &Value) -> bool {
    match (object, wanted) {
        (Value::Object(object), Value::Object(wanted)) => wanted
            .iter()
            .all(|(key, value)| object.get(key).is_some_and(|found| holds(found, value))),
        (Value::Array(object), Value::Array(wanted))
            if wanted.iter().all(|it| it["name"].is_string()) =>
        {
            wanted.iter().all(|it| {
                object.iter().any(|found| found["name"] == it["name"] && holds(found, it))
            })
        }
        (Value::Array(object), Value::Array(wanted)) => {
            object.len() == wanted.len()
                && object.iter().zip(wanted).all(|(found, it)| holds(found, it))
        }
        (found, wanted) => found == wanted,
    }
}

fn plain(text: &str) -> Value {
    match text {
        "" | "~" | "null" | "Null" | "NULL" => Value::Null,
        "true" | "True" | "TRUE" => Value::Bool(true),
        "false" | "False" | "FALSE" => Value::Bool(false),
        _ => {
            let number =
                text.parse::<i64>().map(Number::from).ok().filter(|_| !text.starts_with('+'));
            let float = || {
                let looks = text.bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b));
                text.parse::<f64>().ok().filter(|_| looks).and_then(Number::from_f64)
            };
            number.or_else(float).map_or_else(|| Value::String(text.to_owned()), Value::Number)
        }
    }
}

/// Writes a value as a YAML document, in block form, with quotes where a text could be read otherwise.
pub fn write(value: &Value) -> String {
    let mut text = String::new();
    block(value, 0, &mut text);
    text
}

fn block(value: &Value, indent: usize, to: &mut String) {
    let blank = " ".repeat(indent);
    match value {
        Value::Object(object) if !object.is_empty() => {
            for (key, inner) in object {
                to.push_str(&format!("{blank}{}:", scalar(key)));
                nested(inner, indent, to);
            }
        }
        Value::Array(items) if !items.is_empty() => {
            for item in items {
                let mut inner = String::new();
                block(item, indent + 2, &mut inner);
                to.push_str(&format!("{blank}- {}", inner.trim_start()));
            }
        }
        other => to.push_str(&format!("{blank}{}\n", flat(other))),
    }
}

fn nested(inner: &Value, indent: usize, to: &mut String) {
    let is_empty = match inner {
        Value::Object(object) => object.is_empty(),
        Value::Array(items) => items.is_empty(),
        _ => true,
    };
    if is_empty {
        to.push_str(&format!(" {}\n", flat(inner)));
    } else {
        to.push('\n');
        block(inner, indent + 2, to);
    }
}

fn flat(value: &Value) -> String {
    match value {
        Value::String(text) => scalar(text),
        other => other.to_string(),
    }
}

fn scalar(text: &str) -> String {
    let safe = text.starts_with(|c: char| c.is_ascii_alphabetic() || c == '/')
        && text.chars().all(|c| c.is_ascii_alphanumeric() || "-_./".contains(c))
        && matches!(plain(text), Value::String(_))
        && !matches!(text, "yes" | "no" | "on" | "off" | "y" | "n" | "Yes" | "No" | "On" | "Off");
    // JSON's quotes are YAML's too.
    if safe { text.to_owned() } else { Value::String(text.to_owned()).to_string() }
}

/// A text somewhere in an object. None: there is none.
pub fn text<'v>(value: &'v Value, path: &[&str]) -> Option<&'v str> {
    path.iter().try_fold(value, |value, key| value.get(key))?.as_str()
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn documents_are_read_with_their_types() {
        let text = "apiVersion: v1\nkind: Secret\nmetadata: {name: a, labels: {on: 'yes', n: \"1\"}}\nx: [1, 1.5, true, ~, null, 0x1, +1]\n---\n---\nkind: List\nitems:\n- &a {kind: Pod}\n- *a\n";
        let all = read(text).unwrap();
        assert_eq!(all.len(), 3);
        assert_eq!(all[0]["metadata"]["labels"], json!({"on": "yes", "n": "1"}));
        assert_eq!(all[0]["x"], json!([1, 1.5, true, null, null, "0x1", 1.0]));
        assert_eq!(all[1], all[2]);
        assert_eq!(super::text(&all[0], &["metadata", "name"]), Some("a"));
    }

    #[test]
    fn what_is_written_is_read_again() {
        let value = json!({
            "apiVersion": "v1", "kind": "Secret", "type": "kubernetes.io/dockerconfigjson",
            "metadata": {"name": "larder-pull", "annotations": {}, "labels": {"a/b": "yes", "n": "1e3"}},
            "list": [{"name": "x", "more": [1, [2, "3"], {}]}, "- y", "", "null", "true", "a: b", "ü\n"],
            "none": null, "empty": [], "yes": 1.5,
        });
        let text = write(&value);
        assert_eq!(read(&text).unwrap(), [value], "{text}");
    }

    fn any_value() -> impl proptest::strategy::Strategy<Value = Value> {
        use proptest::prelude::*;
        let leaf = prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::from),
            any::<i64>().prop_map(Value::from),
            "[ -~]{0,12}".prop_map(Value::from),
            "[a-z.:#&*!|>'\"%@`,\\[\\]{}? -]{0,6}".prop_map(Value::from),
            "\\PC{0,8}".prop_map(Value::from),
        ];
        leaf.prop_recursive(4, 24, 4, |inner| {
            prop_oneof![
                prop::collection::vec(inner.clone(), 0..4).prop_map(Value::from),
                prop::collection::btree_map("[ -~]{0,8}", inner, 0..4)
                    .prop_map(|map| Value::Object(map.into_iter().collect())),
            ]
        })
    }

    proptest::proptest! {
        #[test]
        fn whatever_is_written_is_read_again(value in any_value()) {
            let value = json!({ "value": value });
            let text = write(&value);
            proptest::prop_assert_eq!(read(&text), Ok(vec![value]), "{}", text);
        }
    }

    #[test]
    fn a_small_text_cannot_become_a_large_one() {
        let mut bomb = String::from("a0: &a0 [x, x, x, x, x, x, x, x, x, x]\n");
        for level in 1..9 {
            let of = format!("*a{}, ", level - 1).repeat(10);
            bomb.push_str(&format!("a{level}: &a{level} [{of}]\n"));
        }
        assert_eq!(read(&bomb), Err(ObjectsError::Size));
        assert_eq!(
            read(&format!("{}x{}", "[".repeat(70), "]".repeat(70))),
            Err(ObjectsError::Size)
        );
        assert_eq!(read("{[a]: b}"), Err(ObjectsError::Key));
        assert!(matches!(read("a: [b"), Err(ObjectsError::Syntax(_))));
    }
}
