//! What an expression of a chart's template says, where its values decide it: paths of values, texts, and the few
//! functions of which references are put together. Everything else is left open: nothing is run.

use serde_json::Value;

/// How deep expressions lie in each other, and helpers call each other.
pub(super) const DEPTH: usize = 12;
/// The longest expression that is read, in bytes, and the most words of it.
const LONGEST: usize = 4096;
const WORDS: usize = 200;

/// What an expression is asked of.
pub(super) trait Surroundings {
    /// A path of keys: `.Values.image.tag`, `$.Chart.Version`, `$tag`. None: it cannot be told.
    fn value(&self, path: &str) -> Option<Value>;
    /// A text with expressions in it, filled in. None: it cannot be told.
    fn filled(&self, text: &str, depth: usize) -> Option<String>;
    /// What a helper says. None: it cannot be told.
    fn helper(&self, name: &str, depth: usize) -> Option<String>;
}

/// A word of an expression.
#[derive(Debug, Clone, PartialEq)]
enum Word {
    /// What stood between quotes.
    Text(String),
    /// A path, a number or the name of a function.
    Bare(String),
    Open,
    Close,
    Then,
}

/// What a part of an expression is.
#[derive(Debug, Clone, PartialEq)]
enum Part {
    Value(Value),
    /// `.` or `$`: all that the template sees.
    All,
    Function(String),
}

/// What an expression says: what stands between `{{` and `}}`. None: it cannot be told.
pub(super) fn said(expression: &str, around: &dyn Surroundings, depth: usize) -> Option<Value> {
    let words = words(expression)?;
    let mut rest = words.as_slice();
    let value = pipeline(&mut rest, around, depth)?;
    rest.is_empty().then_some(value)
}

/// A value as a template writes it. None: it is no plain text, or may have been written otherwise (`1.20`).
pub(super) fn text(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Null => Some(String::new()),
        Value::Number(number) if number.is_u64() => Some(number.to_string()),
        _ => None,
    }
}

/// Whether a value counts as none.
fn is_empty(value: &Value) -> bool {
    match value {
        Value::Null => true,
        Value::Bool(on) => !on,
        Value::Number(number) => number.as_f64() == Some(0.0),
        Value::String(text) => text.is_empty(),
        Value::Array(items) => items.is_empty(),
        Value::Object(entries) => entries.is_empty(),
    }
}

fn words(expression: &str) -> Option<Vec<Word>> {
    let mut words = Vec::new();
    let mut rest = expression.trim_start();
    if rest.len() > LONGEST {
        return None;
    }
    while let Some(first) = rest.chars().next() {
        let (word, length) = match first {
            '(' => (Word::Open, 1),
            ')' => (Word::Close, 1),
            '|' => (Word::Then, 1),
            '"' | '`' => {
                let inside = rest[1..].find(first).map(|end| &rest[1..=end])?;
                // What is escaped is rare enough.
                if first == '"' && inside.contains('\\') {
                    return None;
                }
                (Word::Text(inside.to_owned()), inside.len() + 2)
            }
            _ => {
                let ends = |c: char| c.is_whitespace() || "()|\"`".contains(c);
                let bare = rest.find(ends).map_or(rest, |end| &rest[..end]);
                (Word::Bare(bare.to_owned()), bare.len())
            }
        };
        words.push(word);
        if words.len() > WORDS {
            return None;
        }
        rest = rest[length..].trim_start();
    }
    Some(words)
}

/// Commands, each of which is given what the one before says.
fn pipeline(words: &mut &[Word], around: &dyn Surroundings, depth: usize) -> Option<Value> {
    let deeper = depth.checked_sub(1)?;
    let mut before = None;
    loop {
        let mut parts = Vec::new();
        while let Some((first, rest)) = words.split_first() {
            let part = match first {
                Word::Then | Word::Close => break,
                Word::Text(text) => Part::Value(Value::String(text.clone())),
                Word::Open => {
                    *words = rest;
                    let value = pipeline(words, around, deeper)?;
                    let (Word::Close, _) = words.split_first()? else { return None };
                    Part::Value(value)
                }
                Word::Bare(bare) => bare_part(bare, around)?,
            };
            *words = &words[1..];
            parts.push(part);
        }
        let value = command(parts, before, around, deeper)?;
        match words.split_first() {
            Some((Word::Then, rest)) => *words = rest,
            _ => return Some(value),
        }
        before = Some(value);
    }
}

fn bare_part(bare: &str, around: &dyn Surroundings) -> Option<Part> {
    if bare == "." || bare == "$" {
        return Some(Part::All);
    }
    if bare.starts_with(['.', '$']) {
        let plain = |c: char| c.is_ascii_alphanumeric() || "_.$".contains(c);
        return bare.chars().all(plain).then(|| around.value(bare)).flatten().map(Part::Value);
    }
    if let Ok(number) = bare.parse::<u64>() {
        return Some(Part::Value(number.into()));
    }
    Some(Part::Function(bare.to_owned()))
}

/// What one command says: a value, or a function of its arguments.
fn command(
    parts: Vec<Part>,
    before: Option<Value>,
    around: &dyn Surroundings,
    depth: usize,
) -> Option<Value> {
    let mut parts = parts.into_iter();
    let name = match parts.next()? {
        Part::Function(name) => name,
        Part::Value(value) => return (parts.next().is_none() && before.is_none()).then_some(value),
        Part::All => return None,
    };
    let given: Vec<Part> = parts.chain(before.map(Part::Value)).collect();
    let value = |at: usize| match given.get(at) {
        Some(Part::Value(value)) => Some(value),
        _ => None,
    };
    let plain = |at: usize| value(at).and_then(text);
    Some(match (name.as_str(), given.len()) {
        ("quote" | "squote" | "toString", 1) => plain(0)?.into(),
        ("trim", 1) => plain(0)?.trim().into(),
        ("lower", 1) => plain(0)?.to_lowercase().into(),
        ("default", 2) => {
            let own = value(1)?;
            if is_empty(own) { value(0)?.clone() } else { own.clone() }
        }
        ("coalesce", _) => {
            let mut all = (0..given.len()).map(value);
            let found = all.find(|one| one.is_none_or(|one| !is_empty(one)));
            found.unwrap_or(Some(&Value::Null))?.clone()
        }
        ("required", 2) => value(1).filter(|own| !is_empty(own))?.clone(),
        ("printf", 1..) => {
            let texts = (1..given.len()).map(plain).collect::<Option<Vec<_>>>()?;
            printed(&plain(0)?, &texts)?.into()
        }
        ("include", 2) if given[1] == Part::All => around.helper(&plain(0)?, depth)?.into(),
        ("tpl", 2) if given[1] == Part::All => around.filled(&plain(0)?, depth)?.into(),
        _ => return None,
    })
}

/// A format with its arguments. None: it has other marks than those for texts and whole numbers, or not as many as it
/// is given.
fn printed(format: &str, texts: &[String]) -> Option<String> {
    let mut printed = String::new();
    let mut texts = texts.iter();
    let mut rest = format;
    while let Some((before, after)) = rest.split_once('%') {
        printed.push_str(before);
        let mark = after.chars().next()?;
        match mark {
            's' | 'v' | 'd' => printed.push_str(texts.next()?),
            '%' => printed.push('%'),
            _ => return None,
        }
        rest = &after[1..];
    }
    printed.push_str(rest);
    texts.next().is_none().then_some(printed)
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Few;

    impl Surroundings for Few {
        fn value(&self, path: &str) -> Option<Value> {
            match path {
                ".a" => Some("x".into()),
                "$n" => Some(7.into()),
                ".f" => Some(serde_json::json!(1.2)),
                ".none" => Some(Value::Null),
                _ => None,
            }
        }

        fn filled(&self, text: &str, _depth: usize) -> Option<String> {
            Some(format!("<{text}>"))
        }

        fn helper(&self, name: &str, depth: usize) -> Option<String> {
            match name {
                "again" => text(&said("include \"again\" .", self, depth)?),
                _ => Some(format!("[{name}]")),
            }
        }
    }

    #[test]
    fn what_values_decide_is_told_and_nothing_else() {
        let told = |expression: &str| said(expression, &Few, DEPTH).and_then(|said| text(&said));
        for (expression, wanted) in [
            (".a", "x"),
            ("\"a b\" | quote", "a b"),
            ("`c`", "c"),
            (".none | default .a", "x"),
            ("default \"y\" .a", "x"),
            ("coalesce .none \"\" .a \"z\"", "x"),
            ("coalesce .none", ""),
            ("printf \"%s:%v-%d%%\" .a (.none | default \"t\") $n", "x:t-7%"),
            ("printf \"%s\" .a | printf \"%s/%s\" \"r\"", "r/x"),
            ("include \"h\" . | trim", "[h]"),
            ("include \"h\" $", "[h]"),
            ("tpl .a $", "<x>"),
            ("required \"say it\" .a", "x"),
            ("(((.a)))", "x"),
            ("\"A\" | lower", "a"),
        ] {
            assert_eq!(told(expression).as_deref(), Some(wanted), "{expression}");
        }
        for open in [
            "",
            "|",
            "(",
            ")",
            ".a .a",
            ".a | .a",
            ".b",
            ".f",
            "\"a",
            "\"a\\n\"",
            "printf \"%s\"",
            "printf \"%s\" .a .a",
            "printf \"%5s\" .a",
            "printf \"%\" .a",
            "include \"h\" (dict \"a\" .)",
            "include .none",
            "required \"say it\" .none",
            "if .a",
            "now",
            "lookup \"v1\" \"Pod\" \"\" \"\"",
            "include \"again\" .",
        ] {
            assert_eq!(told(open), None, "{open}");
        }
        assert_eq!(told(&format!("{}.a{}", "(".repeat(99), ")".repeat(99))), None);
        assert_eq!(told(&"(".repeat(5000)), None);
        assert_eq!(told(&". ".repeat(1000)), None);
    }
}
