//! What a command gives back: one value, shown to people or written as one JSON document.

use schemars::JsonSchema;
use schemars::generate::SchemaSettings;
use serde::Serialize;
use serde_json::Value;

use super::Output;

/// The version of all documents; it is in each of them.
const FORMAT: u8 = 2;

/// A command's result.
pub trait Report: Serialize + JsonSchema {
    /// Which document it is, for programs: its `kind`.
    const KIND: &'static str;

    /// Shows it to people.
    fn show(&self, out: &Output);
}

/// A report as JSON.
#[derive(Serialize)]
struct JsonDocument<'r, R> {
    format: u8,
    kind: &'static str,
    #[serde(flatten)]
    report: &'r R,
}

impl Output {
    /// Gives a command's result, as text or as JSON.
    pub fn tell<R: Report>(&self, report: &R) {
        if self.json {
            self.document(&JsonDocument { format: FORMAT, kind: R::KIND, report });
        } else {
            report.show(self);
        }
    }

    /// Tells people of a step of a result that is still growing; in JSON the whole stands at the end.
    pub fn step(&self, text: impl AsRef<str>) {
        if !self.json {
            self.result(text);
        }
    }

    /// Gives a document that another standard defines, whatever `--json` says.
    pub fn standard_document(&self, document: &Value) {
        self.document(document);
    }

    /// Gives many results of a command that may go on for ever: in JSON, each is on a line of its own.
    pub fn tell_each<R: Report>(&self, all: impl Iterator<Item = R>, show: impl FnOnce(&Self)) {
        if !self.json {
            return show(self);
        }
        for report in all {
            self.document_line(&JsonDocument { format: FORMAT, kind: R::KIND, report: &report });
        }
    }
}

/// The JSON Schema (draft 2020-12) of a report's document.
pub fn schema<R: Report>() -> Value {
    let settings = SchemaSettings::draft2020_12().for_serialize();
    let mut schema = settings.into_generator().into_root_schema_for::<R>();
    schema.insert("title".into(), R::KIND.into());
    let object = schema.ensure_object();
    if let Some(Value::Object(properties)) = object.get_mut("properties") {
        properties.insert("format".into(), serde_json::json!({ "const": FORMAT }));
        properties.insert("kind".into(), serde_json::json!({ "const": R::KIND }));
    }
    let required = object.entry("required").or_insert_with(|| Value::Array(Vec::new()));
    if let Value::Array(required) = required {
        required.splice(0..0, ["format".into(), "kind".into()]);
    }
    let mut schema = schema.to_value();
    in_its_words(&mut schema);
    schema
}

/// What absence is called in Rust is `null` there.
fn in_its_words(value: &mut Value) {
    match value {
        Value::Object(object) => {
            if let Some(Value::String(text)) = object.get_mut("description") {
                *text = text.replace("None:", "null:").replace('\n', " ");
            }
            object.values_mut().for_each(in_its_words);
        }
        Value::Array(all) => all.iter_mut().for_each(in_its_words),
        _ => {}
    }
}
