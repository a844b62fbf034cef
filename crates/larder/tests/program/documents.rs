//! Every JSON document is what its schema in `docs/schemas` says. Each document that any test of the program reads is
//! held against it here.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};

use serde_json::Value;

use crate::house::House;

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas")
}

/// Whether the schemas are being written anew.
fn is_writing() -> bool {
    std::env::var_os("SNAPSHOTS").is_some_and(|word| word == "overwrite")
}

/// Panics where a document is not what its kind's schema says.
pub fn check(document: &Value) {
    let kind = document["kind"].as_str().unwrap_or_else(|| panic!("no kind: {document:#}"));
    if is_writing() {
        return;
    }
    let path = folder().join(format!("{kind}.json"));
    let text = std::fs::read_to_string(&path)
        .unwrap_or_else(|error| panic!("{}: {error}", path.display()));
    let schema: Value = serde_json::from_str(&text).unwrap();
    let mut faults = Vec::new();
    Judge { root: &schema }.check(&schema, document, kind, &mut faults);
    assert!(faults.is_empty(), "{faults:#?}\n{document:#}");
}

/// As much of JSON Schema (draft 2020-12) as our schemas use, and no unknown fields.
struct Judge<'s> {
    root: &'s Value,
}

impl Judge<'_> {
    fn check(&self, schema: &Value, value: &Value, at: &str, faults: &mut Vec<String>) {
        let Some(schema) = schema.as_object() else { return };
        if let Some(Value::String(name)) = schema.get("$ref") {
            let place = name.strip_prefix('#').unwrap();
            return self.check(self.root.pointer(place).unwrap(), value, at, faults);
        }
        for word in ["anyOf", "oneOf"] {
            let Some(Value::Array(all)) = schema.get(word) else { continue };
            let fits = |one: &Value| {
                let mut faults = Vec::new();
                self.check(one, value, at, &mut faults);
                faults.is_empty()
            };
            if !all.iter().any(fits) {
                faults.push(format!("{at}: {value} is none of {word}"));
            }
        }
        if schema.get("const").is_some_and(|only| only != value) {
            faults.push(format!("{at}: {value} is not {}", schema["const"]));
        }
        if let Some(Value::Array(all)) = schema.get("enum")
            && !all.contains(value)
        {
            faults.push(format!("{at}: {value} is not among {all:?}"));
        }
        let is = |word: &str| match word {
            "null" => value.is_null(),
            "boolean" => value.is_boolean(),
            "string" => value.is_string(),
            "integer" => value.is_i64() || value.is_u64(),
            "number" => value.is_number(),
            "array" => value.is_array(),
            "object" => value.is_object(),
            other => panic!("{at}: what is {other}?"),
        };
        let words: Vec<&str> = match schema.get("type") {
            Some(Value::String(word)) => vec![word],
            Some(Value::Array(words)) => words.iter().filter_map(Value::as_str).collect(),
            _ => Vec::new(),
        };
        if !words.is_empty() && !words.into_iter().any(is) {
            faults.push(format!("{at}: {value} is no {}", schema["type"]));
        }
        if let (Some(items), Value::Array(all)) = (schema.get("items"), value) {
            for (number, one) in all.iter().enumerate() {
                self.check(items, one, &format!("{at}[{number}]"), faults);
            }
        }
        if let Value::Object(object) = value {
            self.object(schema, object, at, faults);
        }
    }

    fn object(
        &self,
        schema: &serde_json::Map<String, Value>,
        object: &serde_json::Map<String, Value>,
        at: &str,
        faults: &mut Vec<String>,
    ) {
        for name in schema.get("required").and_then(Value::as_array).into_iter().flatten() {
            if !object.contains_key(name.as_str().unwrap()) {
                faults.push(format!("{at}: {name} is missing"));
            }
        }
        let rest = schema.get("additionalProperties");
        let Some(Value::Object(properties)) = schema.get("properties") else {
            if let Some(rest) = rest {
                object.iter().for_each(|(name, one)| {
                    self.check(rest, one, &format!("{at}.{name}"), faults);
                });
            }
            return;
        };
        for (name, one) in object {
            match properties.get(name).or(rest) {
                Some(its) => self.check(its, one, &format!("{at}.{name}"), faults),
                None => faults.push(format!("{at}: nothing is said of {name}")),
            }
        }
    }
}

#[test]
fn the_schemas_are_those_of_the_program() {
    let house = House::new();
    let all = house.larder("help json --json").ends(0).json();
    let mut known = BTreeSet::new();
    for one in all["documents"].as_array().unwrap() {
        let kind = one["document"].as_str().unwrap();
        let said = house.larder(&format!("help json {kind}")).ends(0);
        let path = folder().join(format!("{kind}.json"));
        if is_writing() {
            std::fs::create_dir_all(folder()).unwrap();
            std::fs::write(&path, &said.out).unwrap();
        }
        let written = std::fs::read_to_string(&path).unwrap_or_default();
        assert_eq!(written, said.out, "`SNAPSHOTS=overwrite cargo test documents` writes {kind}");
        known.insert(format!("{kind}.json"));
    }
    let there: BTreeSet<String> = std::fs::read_dir(folder())
        .unwrap()
        .map(|entry| entry.unwrap().file_name().into_string().unwrap())
        .collect();
    assert_eq!(there, known, "each document has its schema, and each schema a document");
    house.larder("help json shelv").ends(2).says(&["did you mean", "help json"]);
}

#[test]
fn a_document_that_is_otherwise_than_its_schema_is_noticed() {
    let right = serde_json::json!({ "format": 2, "kind": "causes", "causes": [] });
    check(&right);
    for (name, value) in [("format", Value::from(1)), ("causes", Value::Null), ("more", 1.into())] {
        let mut wrong = right.clone();
        wrong[name] = value;
        assert!(std::panic::catch_unwind(|| check(&wrong)).is_err(), "{wrong}");
    }
}
