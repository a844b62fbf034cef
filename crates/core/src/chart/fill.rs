//! What a chart's template says with the values that the chart itself has, where that can be told without running it:
//! plain values, the chart's own name and versions, `default` and quotes. Everything else is left open.

use std::path::Path;

use serde_json::{Map, Value};

use super::ChartArchive;
use crate::objects;

/// What a chart's templates can name.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ChartScope {
    values: Value,
    chart: Value,
}

/// Charts within charts that are looked into.
const DEPTH: usize = 6;
/// The longest text that is filled in, in bytes.
const LIMIT: usize = 4096;

impl ChartScope {
    /// The scope of a file of an archive: that of the chart in which it lies, with what the charts above it say of its
    /// values.
    pub fn of(archive: &ChartArchive, file: &Path) -> Self {
        let mut folder = Path::new("").to_path_buf();
        let mut scope = Self::read(archive, &folder, &Value::Null);
        let mut parts = file.components().map(|part| part.as_os_str().to_string_lossy());
        for _ in 0..DEPTH {
            match (parts.next().as_deref(), parts.next()) {
                (Some("charts"), Some(name)) => {
                    folder = folder.join("charts").join(&*name);
                    let above = scope.values[&*name].clone();
                    scope = Self::read(archive, &folder, &above);
                }
                _ => break,
            }
        }
        scope
    }

    fn read(archive: &ChartArchive, folder: &Path, above: &Value) -> Self {
        let file = |name: &str| {
            let path = folder.join(name);
            let (_, content) = archive.files.iter().find(|(own, _)| *own == path)?;
            let text = std::str::from_utf8(content).ok()?;
            objects::read(text).ok()?.into_iter().next()
        };
        let mut values = file("values.yaml").unwrap_or_default();
        over(&mut values, above, DEPTH);
        Self { values, chart: file("Chart.yaml").unwrap_or_default() }
    }

    /// A text with what stands between `{{` and `}}` filled in. None: some of it decides itself when the chart is run.
    pub fn fill(&self, text: &str) -> Option<String> {
        let mut filled = String::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once("{{") {
            let (inner, after) = after.split_once("}}")?;
            filled.push_str(before);
            let inner = inner.trim_start_matches('-').trim_end_matches('-').trim();
            filled.push_str(&self.said(inner)?);
            if filled.len() > LIMIT {
                return None;
            }
            rest = after;
        }
        filled.push_str(rest);
        Some(filled)
    }

    /// What an expression says.
    fn said(&self, expression: &str) -> Option<String> {
        let mut steps = expression.split('|').map(str::trim);
        let mut said = self.term(steps.next()?)?;
        for step in steps {
            match step.split_whitespace().collect::<Vec<_>>().as_slice() {
                ["quote" | "toString" | "trim"] => {}
                ["default", other] if said.is_empty() => said = self.term(other)?,
                ["default", _] => {}
                _ => return None,
            }
        }
        Some(said)
    }

    /// A value, a text, or `default OTHER VALUE`. Empty: the chart has no such value.
    fn term(&self, term: &str) -> Option<String> {
        if let Some(quoted) = term.strip_prefix('"').and_then(|rest| rest.strip_suffix('"')) {
            let plain = !quoted.contains(['"', '\\', '{']);
            return plain.then(|| quoted.to_owned());
        }
        if let ["default", other, value] = term.split_whitespace().collect::<Vec<_>>().as_slice() {
            let said = self.term(value)?;
            return if said.is_empty() { self.term(other) } else { Some(said) };
        }
        let path = term.strip_prefix('$').unwrap_or(term).strip_prefix('.')?;
        let plain = |c: char| c.is_ascii_alphanumeric() || "_.".contains(c);
        if !path.chars().all(plain) {
            return None;
        }
        let mut parts = path.split('.');
        let mut value = match parts.next()? {
            "Values" => &self.values,
            "Chart" => {
                // `.Chart.AppVersion` is `appVersion` of the description.
                let name = parts.next()?;
                let mut letters = name.chars();
                let first = letters.next()?.to_ascii_lowercase();
                let key: String = std::iter::once(first).chain(letters).collect();
                &self.chart[key]
            }
            _ => return None,
        };
        for part in parts {
            value = &value[part];
        }
        match value {
            Value::String(text) => (!text.contains("{{")).then(|| text.clone()),
            Value::Null => Some(String::new()),
            // A number may have been written otherwise: `1.20`.
            Value::Number(number) if number.is_u64() => Some(number.to_string()),
            _ => None,
        }
    }
}

/// Lays what a chart above says of the values over them.
fn over(values: &mut Value, above: &Value, depth: usize) {
    match (values, above) {
        (_, Value::Null) => {}
        (Value::Object(values), Value::Object(above)) if depth > 0 => {
            for (key, one) in above {
                over(values.entry(key.clone()).or_insert(Value::Null), one, depth - 1);
            }
        }
        (values, above) => {
            *values = match above {
                Value::Object(above) => Value::Object(Map::clone(above)),
                above => above.clone(),
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::archive::tests::packed;
    use super::*;

    fn archive() -> ChartArchive {
        let bytes = packed(&[
            ("b/Chart.yaml", "name: b\nversion: 1.2.0\nappVersion: \"3.4\"\n"),
            (
                "b/values.yaml",
                "image:\n  repository: r/x\n  tag: \"\"\n  port: 80\nold: 1.20\npump:\n  tag: \"9\"\n",
            ),
            ("b/charts/pump/Chart.yaml", "name: pump\nversion: 2.0.0\n"),
            ("b/charts/pump/values.yaml", "tag: \"1\"\nname: p/q\n"),
        ]);
        ChartArchive::read(&bytes).unwrap()
    }

    #[test]
    fn what_the_chart_itself_says_is_filled_in() {
        let scope = ChartScope::of(&archive(), Path::new("templates/x.yaml"));
        let fill = |text: &str| scope.fill(text);
        let some = |text: &str| Some(text.to_owned());
        assert_eq!(fill("a/b:1"), some("a/b:1"));
        assert_eq!(
            fill("{{ .Values.image.repository }}:{{- .Chart.Version -}}"),
            some("r/x:1.2.0")
        );
        assert_eq!(
            fill(
                "{{ $.Values.image.repository | quote }}:{{ .Values.image.tag | default .Chart.AppVersion }}"
            ),
            some("r/x:3.4")
        );
        assert_eq!(fill("x:{{ default \"7\" .Values.image.tag }}"), some("x:7"));
        assert_eq!(fill("x:{{ .Values.image.port }}"), some("x:80"));
        for open in [
            "{{ include \"x\" . }}",
            "x:{{ .Values.old }}",
            "{{ .Values.image }}",
            "{{ .Release.Name }}",
            "{{ .Values.image.tag | upper }}",
            "{{ .Values.image.tag",
            "{{ }}",
        ] {
            assert_eq!(fill(open), None, "{open}");
        }
    }

    #[test]
    fn a_chart_above_decides_over_the_values_of_one_below() {
        let scope = ChartScope::of(&archive(), Path::new("charts/pump/templates/x.yaml"));
        let text = "{{ .Values.name }}:{{ .Values.tag }}";
        assert_eq!(scope.fill(text), Some("p/q:9".to_owned()));
    }
}
