//! What a chart's template says with the values that the chart itself has, where that can be told without running it:
//! plain values, the chart's own name and versions, and helpers without conditions. Everything else is left open.

use std::cell::{Cell, RefCell};
use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;

use serde_json::{Map, Value};

use super::ChartArchive;
use super::expression::{self, Surroundings};
use crate::objects;

/// What a chart's templates can name.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ChartScope {
    values: Value,
    chart: Value,
    helpers: Arc<ChartHelpers>,
}

/// Charts within charts that are looked into.
const DEPTH: usize = 6;
/// The longest text that is filled in, in bytes.
const LIMIT: usize = 4096;
/// Names that one text may set.
const VARIABLES: usize = 100;
/// Expressions that are looked at for one text.
const STEPS: usize = 2000;
/// Helpers of one chart.
const HELPERS: usize = 10_000;

impl ChartScope {
    /// The scope of a file of an archive: that of the chart in which it lies, with what the charts above it say of its
    /// values.
    pub fn of(archive: &ChartArchive, file: &Path, helpers: &Arc<ChartHelpers>) -> Self {
        let mut folder = Path::new("").to_path_buf();
        let mut scope = Self::read(archive, &folder, &Value::Null, helpers);
        let mut parts = file.components().map(|part| part.as_os_str().to_string_lossy());
        for _ in 0..DEPTH {
            match (parts.next().as_deref(), parts.next()) {
                (Some("charts"), Some(name)) => {
                    folder = folder.join("charts").join(&*name);
                    let above = scope.values[&*name].clone();
                    scope = Self::read(archive, &folder, &above, helpers);
                }
                _ => break,
            }
        }
        scope
    }

    fn read(
        archive: &ChartArchive,
        folder: &Path,
        above: &Value,
        helpers: &Arc<ChartHelpers>,
    ) -> Self {
        let file = |name: &str| {
            let path = folder.join(name);
            let (_, content) = archive.files.iter().find(|(own, _)| *own == path)?;
            let text = std::str::from_utf8(content).ok()?;
            objects::read(text).ok()?.into_iter().next()
        };
        let mut values = file("values.yaml").unwrap_or_default();
        over(&mut values, above, DEPTH);
        let chart = file("Chart.yaml").unwrap_or_default();
        Self { values, chart, helpers: Arc::clone(helpers) }
    }

    /// A text with what stands between `{{` and `}}` filled in. None: some of it decides itself when the chart is run.
    pub fn fill(&self, text: &str) -> Option<String> {
        self.within(text, expression::DEPTH, &Cell::new(STEPS))
    }

    fn within(&self, text: &str, depth: usize, left: &Cell<usize>) -> Option<String> {
        let around = Within { scope: self, set: RefCell::default(), left };
        around.filled(text, depth.checked_sub(1)?)
    }

    /// What a path says that begins with `Values` or `Chart`.
    fn path(&self, path: &str) -> Option<Value> {
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
        // What is written as a template is one only where it is run as one.
        let runs = matches!(value, Value::String(text) if text.contains("{{"));
        (!runs).then(|| value.clone())
    }
}

/// A text that is filled in: what it sets is known from there on.
struct Within<'s> {
    scope: &'s ChartScope,
    set: RefCell<BTreeMap<String, Value>>,
    /// Expressions that may still be looked at, here and in all helpers.
    left: &'s Cell<usize>,
}

impl Within<'_> {
    /// What stands between `{{` and `}}`, told.
    fn action(&self, action: &str, depth: usize) -> Option<String> {
        self.left.set(self.left.get().checked_sub(1)?);
        if action.starts_with("/*") && action.ends_with("*/") {
            return Some(String::new());
        }
        if let Some((name, expression)) = action.split_once(":=") {
            let name = name.trim().strip_prefix('$')?;
            let plain = |c: char| c.is_ascii_alphanumeric() || c == '_';
            let many = self.set.borrow().len() >= VARIABLES;
            if name.is_empty() || !name.chars().all(plain) || many {
                return None;
            }
            let value = expression::said(expression, self, depth)?;
            self.set.borrow_mut().insert(name.to_owned(), value);
            return Some(String::new());
        }
        expression::text(&expression::said(action, self, depth)?)
    }
}

impl Surroundings for Within<'_> {
    fn value(&self, path: &str) -> Option<Value> {
        if let Some(path) = path.strip_prefix("$.").or_else(|| path.strip_prefix('.')) {
            return self.scope.path(path);
        }
        let mut parts = path.strip_prefix('$')?.split('.');
        let set = self.set.borrow();
        let mut value = set.get(parts.next()?)?;
        for part in parts {
            value = &value[part];
        }
        Some(value.clone())
    }

    fn filled(&self, text: &str, depth: usize) -> Option<String> {
        let mut filled = String::new();
        let mut rest = text;
        while let Some((before, after)) = rest.split_once("{{") {
            let (inner, after) = after.split_once("}}")?;
            filled.push_str(before);
            // A dash takes away the blanks on its side.
            let inner = match inner.strip_prefix('-') {
                Some(inner) => {
                    filled.truncate(filled.trim_end().len());
                    inner
                }
                None => inner,
            };
            let (inner, after) = match inner.strip_suffix('-') {
                Some(inner) => (inner, after.trim_start()),
                None => (inner, after),
            };
            filled.push_str(&self.action(inner.trim(), depth)?);
            if filled.len() > LIMIT {
                return None;
            }
            rest = after;
        }
        filled.push_str(rest);
        (filled.len() <= LIMIT).then_some(filled)
    }

    fn helper(&self, name: &str, depth: usize) -> Option<String> {
        let body = self.scope.helpers.0.get(name)?.as_ref()?;
        self.scope.within(body, depth, self.left)
    }
}

/// What a chart's templates say under a name, for others to include.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct ChartHelpers(
    /// By name. None: it has conditions or loops, or is there twice.
    BTreeMap<String, Option<String>>,
);

impl ChartHelpers {
    /// Those of a chart and of all within it: they share their names.
    pub fn of(archive: &ChartArchive) -> Self {
        let mut all = Self::default();
        for (path, content) in &archive.files {
            let is_template = path.components().any(|part| part.as_os_str() == "templates");
            if let Ok(text) = std::str::from_utf8(content)
                && is_template
            {
                all.read(text);
            }
        }
        all
    }

    fn read(&mut self, text: &str) {
        // The helper that is read: its name, where it begins, how deep it is, whether it is plain.
        let mut open: Option<(String, usize, usize, bool)> = None;
        let mut at = 0;
        while let Some(start) = text[at..].find("{{").map(|found| at + found) {
            let Some(length) = text[start..].find("}}") else { break };
            let inside = &text[start + 2..start + length];
            at = start + length + 2;
            let inside = inside.trim_start_matches('-').trim_end_matches('-').trim();
            let word = inside.split_whitespace().next().unwrap_or_default();
            match (word, &mut open) {
                ("define", None) => {
                    let name = inside["define".len()..].trim().trim_matches(['"', '`']);
                    open = Some((name.to_owned(), at, 0, true));
                }
                ("if" | "range" | "with" | "define" | "block", Some((_, _, depth, plain))) => {
                    *depth += 1;
                    *plain = false;
                }
                ("end", Some((_, _, depth @ 1.., _))) => *depth -= 1,
                ("end", Some(_)) => {
                    let Some((name, from, _, plain)) = open.take() else { break };
                    let body = text[from..start].trim();
                    let body = (plain && body.len() <= LIMIT).then(|| body.to_owned());
                    if self.0.len() >= HELPERS {
                        return;
                    }
                    self.0.entry(name).and_modify(|body| *body = None).or_insert(body);
                }
                _ => {}
            }
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

    fn scope(archive: &ChartArchive, file: &str) -> ChartScope {
        ChartScope::of(archive, Path::new(file), &Arc::new(ChartHelpers::of(archive)))
    }

    #[test]
    fn what_the_chart_itself_says_is_filled_in() {
        let scope = scope(&archive(), "templates/x.yaml");
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
        let scope = scope(&archive(), "charts/pump/templates/x.yaml");
        let text = "{{ .Values.name }}:{{ .Values.tag }}";
        assert_eq!(scope.fill(text), Some("p/q:9".to_owned()));
    }

    #[test]
    fn helpers_that_call_each_other_again_and_again_are_left_open() {
        let mut helpers = String::new();
        for n in 0..9 {
            let next = format!("{{{{ include \"{}\" . }}}}", n + 1).repeat(50);
            helpers.push_str(&format!("{{{{ define \"{n}\" }}}}{next}{{{{ end }}}}"));
        }
        let bytes = packed(&[
            ("b/Chart.yaml", "name: b\nversion: 1.2.0\n"),
            ("b/templates/_h.tpl", &format!("{helpers}{{{{ define \"9\" }}}}{{{{ end }}}}")),
        ]);
        let scope = scope(&ChartArchive::read(&bytes).unwrap(), "templates/x.yaml");
        assert_eq!(scope.fill("{{ include \"8\" . }}").as_deref(), Some(""));
        assert_eq!(scope.fill("{{ include \"0\" . }}"), None);
    }

    #[test]
    fn what_helpers_say_is_filled_in_where_nothing_decides_it() {
        let helpers = "{{/* Names. */}}\n{{- define \"b.image\" -}}\n{{- $tag := .Values.image.tag | default .Chart.AppVersion -}}\n\
            {{- printf \"%s:%s\" .Values.image.repository $tag -}}\n{{- end -}}\n\
            {{ define `b.outer` }} {{ include \"b.image\" . }} {{ end }}\n\
            {{- define \"b.if\" -}}{{ if .Values.x }}a{{ else }}b{{ end }}{{- end }}\n\
            {{- define \"b.loop\" -}}{{ include \"b.loop\" . }}{{- end }}\n\
            {{- define \"b.twice\" }}a{{ end }}{{ define \"b.twice\" }}b{{ end }}\n\
            {{- define \"b.late\" }}{{ $later }}{{ end }}{{ define \"b.parts\" }}{{ $i := .Values.image }}{{ $i.repository }}{{ end }}\n\
            {{- define \"b.never";
        let bytes = packed(&[
            ("b/Chart.yaml", "name: b\nversion: 1.2.0\nappVersion: \"3.4\"\n"),
            ("b/values.yaml", "image:\n  repository: r/x\nrun: \"{{ .Values.image }}\"\n"),
            ("b/templates/_helpers.tpl", helpers),
            ("b/README.md", "{{ define \"b.readme\" }}x{{ end }}"),
        ]);
        let scope = scope(&ChartArchive::read(&bytes).unwrap(), "templates/x.yaml");
        let some = |text: &str| Some(text.to_owned());
        assert_eq!(scope.fill("{{ include \"b.image\" . }}"), some("r/x:3.4"));
        assert_eq!(scope.fill("h/{{- include \"b.outer\" $ | trim -}} @x"), some("h/r/x:3.4@x"));
        assert_eq!(scope.fill("{{ include \"b.parts\" . }}"), some("r/x"));
        for open in ["if", "loop", "twice", "late", "never", "readme", "none"] {
            assert_eq!(scope.fill(&format!("{{{{ include \"b.{open}\" . }}}}")), None, "{open}");
        }
        assert_eq!(scope.fill("{{ .Values.run }}"), None);
        assert_eq!(scope.fill("{{ $tag }}"), None);
    }
}
