//! A fault in a configuration file, shown where it stands.

use std::path::Path;

use larder_core::nearest::nearest;

use crate::failure::Failure;

/// A fault at a byte of a file: names file, line and column and shows the line.
pub(super) fn at(path: &Path, text: &str, byte: usize, message: &str, remedy: &str) -> Failure {
    let byte = byte.min(text.len());
    let before = text.get(..byte).unwrap_or(text);
    let start = before.rfind('\n').map_or(0, |newline| newline + 1);
    let line = before.matches('\n').count() + 1;
    let column = before[start..].chars().count() + 1;
    let shown = text[start..].lines().next().unwrap_or_default();
    let inside =
        before.matches("\"\"\"").count() % 2 == 1 || before.matches("'''").count() % 2 == 1;
    let secret = inside
        || may_hold_secrets(shown)
        || (message.ends_with(NO_KEY) && !remedy.starts_with("write `"));
    let (shown, message) = match secret {
        true => (without_values(shown, inside), without_texts(message)),
        false => (shown.to_owned(), message.to_owned()),
    };
    let number = line.to_string();
    let blank = " ".repeat(number.len());
    let mark = " ".repeat((column - 1).min(shown.chars().count()));
    let what = format!("{}:{line}:{column} cannot be used", larder_transfer::files::named(path));
    let shown = larder_core::shown::shown(&shown);
    let mut failure = Failure::usage(what, message.trim_end().replace('\n', "; "), remedy);
    failure.cause.push_str(&format!("\n\n {blank} |\n {number} | {shown}\n {blank} | {mark}^\n"));
    failure
}

/// What is said of a key that nobody knows: a mistyped one may hold a secret.
const NO_KEY: &str = " is not a key here";

/// Whether what a line sets may be a secret: it is then not shown.
fn may_hold_secrets(line: &str) -> bool {
    const WORDS: [&str; 8] =
        ["credential", "passw", "secret", "token", "login", "auth", "private", "apikey"];
    let line = line.to_ascii_lowercase();
    // A name and password in an address.
    let address = line.split("://").skip(1).any(|rest| {
        rest.split(['/', '"', '\'', ' ']).next().is_some_and(|place| place.contains('@'))
    });
    address || WORDS.iter().any(|word| line.contains(word))
}

/// A line without what it sets.
fn without_values(line: &str, inside: bool) -> String {
    match line.split_once('=') {
        Some((key, _)) if !inside => format!("{key}= …"),
        _ => "…".to_owned(),
    }
}

/// A message of the TOML reader without the text that it quotes.
fn without_texts(message: &str) -> String {
    let Some((before, rest)) = message.split_once('"') else { return message.to_owned() };
    match rest.rsplit_once('"') {
        Some((_, after)) => format!("{before}\"…\"{after}"),
        None => format!("{before}…"),
    }
}

/// A fault that the TOML reader found.
pub(super) fn toml(path: &Path, text: &str, error: &toml::de::Error) -> Failure {
    let byte = error.span().map_or(0, |span| span.start);
    let message = error.message();
    match unknown_key(message) {
        Some((key, known)) => {
            let meant = nearest(key, known.iter().copied());
            let remedy = match meant {
                _ if key == "include" => "write it at the top of the file, before [larder]".into(),
                Some(meant) => format!("write `{meant}`"),
                None => format!("the keys here are: {}", known.join(", ")),
            };
            at(path, text, byte, &format!("`{key}`{NO_KEY}"), &remedy)
        }
        None => {
            let rest = text.get(byte..).unwrap_or_default();
            let (message, remedy) = plain(message, key_before(text, byte), rest);
            at(path, text, byte, &message, &remedy)
        }
    }
}

/// The key that is being set where a fault is. None: none can be told.
fn key_before(text: &str, byte: usize) -> Option<&str> {
    let before = text.get(..byte)?;
    let line = before.rsplit('\n').next()?;
    // The value begins behind its own key; within a list, behind that of the list.
    let (keys, _) = line.rsplit_once('=')?;
    let key = keys.trim_end().rsplit([' ', '{', ',', '\t']).next()?;
    let plain = |c: char| c.is_ascii_alphanumeric() || c == '_' || c == '-' || c == '.';
    (!key.is_empty() && key.chars().all(plain)).then_some(key)
}

/// What a key wants, for each type that the reader names.
const WANTED: &[(&str, &str)] = &[
    ("a boolean", "`true` or `false`"),
    ("path string", "a path in quotes"),
    ("a string", "a text in quotes"),
    ("string", "a text in quotes"),
    ("a sequence", "a list in brackets, such as [\"…\"]"),
    ("a map", "a table in braces, such as { … }"),
    ("socket address", "an address with its port, such as \"127.0.0.1:5080\""),
];

/// Keys that want a table, and how one looks.
const TABLES: &[(&str, &str)] = &[
    ("credentials", "{ file = \"login\" } or { env = \"LOGIN\" }"),
    ("allowance", "{ pulls = 100, per = \"6h\" }"),
    ("rate", "{ requests = 600, per = \"1m\" }"),
    ("tags", "{ exact = [\"1.9.2\"] }"),
    ("asks", "{ age = \"7d\" }"),
    ("tls", "{ cert = \"tls.crt\", key = \"tls.key\" }"),
    ("limits", "{ connections = 4096 }"),
    ("identity", "{ issuer = \"…\", keys = \"…\" }"),
    ("door", "{ rules = \"enforce\" }"),
    ("parcel", "{ sign = \"parcel.pem\" }"),
];

/// Finds a list where a key wants a table: the reader would take its values for those of the table, in their order.
pub(super) fn list_for_table(path: &Path, text: &str) -> Option<Failure> {
    // Few files have one, and the others need not be read twice.
    let begins_list = |rest: &str| {
        let value = rest.trim_start().strip_prefix('=');
        value.is_some_and(|value| value.trim_start().starts_with('['))
    };
    let suspect = TABLES.iter().any(|(key, _)| {
        let mut all = text.match_indices(key);
        all.any(|(at, _)| begins_list(&text[at + key.len()..]))
    });
    if !suspect {
        return None;
    }
    let document = toml_edit::Document::parse(text).ok()?;
    let (key, byte) = list_below(document.as_table())?;
    let (_, looks) = TABLES.iter().find(|(name, _)| *name == key)?;
    let message = format!("`{key}` must be a table such as {looks}, not a list");
    Some(at(path, text, byte, &message, ""))
}

/// The first such list in a table, with the byte at which it begins.
fn list_below(table: &dyn toml_edit::TableLike) -> Option<(String, usize)> {
    table.iter().find_map(|(key, item)| {
        if TABLES.iter().any(|(name, _)| *name == key)
            && let Some(list) = item.as_array()
        {
            return Some((key.to_owned(), list.span()?.start));
        }
        match item {
            toml_edit::Item::ArrayOfTables(all) => all.iter().find_map(|one| list_below(one)),
            _ => item.as_table_like().and_then(list_below),
        }
    })
}

/// A message of the reader in the words of the file, and what to try. `rest` is the text from the fault on.
fn plain(message: &str, key: Option<&str>, rest: &str) -> (String, String) {
    let none = String::new;
    let word = |text: &str| {
        let end = text.find(|c: char| !c.is_ascii_alphanumeric() && c != '_' && c != '-');
        text[..end.unwrap_or(text.len())].to_owned()
    };
    if message == "duplicate key" {
        let key = word(rest.trim_start_matches('['));
        return (format!("`{key}` is there twice"), "take one of the two out".into());
    }
    // A table in the place of a list of tables.
    if key.is_none() && message.ends_with("expected a sequence") && rest.starts_with('[') {
        let name = word(&rest[1..]);
        return (
            format!("there can be several {name} tables, and each begins with [[{name}]]"),
            format!("write [[{name}]]"),
        );
    }
    let table = TABLES.iter().find(|(name, _)| Some(*name) == key).map(|(_, looks)| looks);
    let key = key.map_or_else(|| "it".to_owned(), |key| format!("`{key}`"));
    if message == "wanted string or table" {
        return (format!("{key} must be a text in quotes"), none());
    }
    if let Some(rest) = message.strip_prefix("missing field `")
        && let Some((field, _)) = rest.split_once('`')
    {
        return (format!("`{field}` is missing"), format!("add `{field} = …`"));
    }
    if let Some(rest) = message.strip_prefix("unknown variant `")
        && let Some((word, known)) = rest.split_once('`')
    {
        let known: Vec<&str> = known.split('`').skip(1).step_by(2).collect();
        let remedy = match nearest(word, known.iter().copied()) {
            Some(meant) => format!("write \"{meant}\""),
            None => format!("write one of: {}", known.join(", ")),
        };
        return (format!("{key} cannot be \"{word}\"; it is one of: {}", known.join(", ")), remedy);
    }
    let invalid_value = message.starts_with("invalid value: ");
    let invalid =
        ["invalid type: ", "invalid value: "].iter().find_map(|it| message.strip_prefix(it));
    let wanted = invalid.and_then(|rest| rest.rsplit_once(", expected "));
    if let Some((found, wanted)) = wanted {
        let found = found.split_once(' ').map_or(found, |(kind, value)| match kind {
            "string" => "a text",
            // The number itself is what is wrong: it is below, or above.
            "integer" if invalid_value => value.trim_matches('`'),
            "integer" | "floating" => "a number",
            "boolean" => "`true` or `false`",
            _ => found,
        });
        let found = match found {
            "map" if rest.starts_with(|c: char| c.is_ascii_digit()) => "a date",
            "map" => "a table",
            "sequence" => "a list",
            other => other,
        };
        let known = WANTED.iter().find(|(name, _)| *name == wanted);
        let nonzero = wanted.starts_with("a nonzero ");
        let integer = wanted.len() <= 5 && wanted.starts_with(['u', 'i']);
        let is_table = wanted.starts_with("struct ") || wanted == "a map";
        if let Some(looks) = table.filter(|_| is_table) {
            return (format!("{key} must be a table such as {looks}, not {found}"), none());
        }
        let wanted = match known {
            Some((_, words)) => *words,
            None if nonzero => "a number, 1 or more",
            None if integer => "a whole number, 0 or more",
            None if wanted.starts_with("struct ") || wanted.contains("enum") => {
                "a table in braces, such as { … }"
            }
            None => wanted,
        };
        return (format!("{key} must be {wanted}, not {found}"), none());
    }
    let message = match message {
        "invalid socket address syntax" => {
            format!("{key} must be an address with its port, such as \"127.0.0.1:5080\"")
        }
        _ if message.contains("while parsing") && message.contains("version") => {
            return (
                format!("{key} must be a range of versions, such as \"^1.8\": {message}"),
                none(),
            );
        }
        _ if message.contains("untagged enum") => {
            format!("{key} has a value of a kind that is not known here")
        }
        other => other.to_owned(),
    };
    (message, none())
}

/// The key and the known ones, from the reader's text for a key that it does not know.
fn unknown_key(message: &str) -> Option<(&str, Vec<&str>)> {
    let rest = message.strip_prefix("unknown field `")?;
    let (key, rest) = rest.split_once('`')?;
    Some((key, rest.split('`').skip(1).step_by(2).collect()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_speaks_of_the_key_and_never_of_types() {
        let cases = [
            (
                "parallel = \"4\"",
                11,
                "invalid type: string \"4\", expected usize",
                "`parallel` must be a whole number, 0 or more, not a text",
            ),
            (
                "newest = 0",
                9,
                "invalid value: integer `0`, expected a nonzero u64",
                "`newest` must be a number, 1 or more, not 0",
            ),
            (
                "credentials = \"u:p\"",
                14,
                "invalid type: string \"u:p\", expected struct Whatever",
                "`credentials` must be a table such as { file = \"login\" } or { env = \"LOGIN\" }, not a text",
            ),
            (
                "a = { tags = 3 }",
                13,
                "invalid type: integer `3`, expected struct Whatever",
                "`tags` must be a table such as { exact = [\"1.9.2\"] }, not a number",
            ),
            (
                "only = \"x\"",
                7,
                "invalid type: string \"x\", expected a sequence",
                "`only` must be a list in brackets, such as [\"…\"], not a text",
            ),
            (
                "verdict = \"block\"",
                10,
                "unknown variant `block`, expected one of `allow`, `warn`, `deny`",
                "`verdict` cannot be \"block\"; it is one of: allow, warn, deny",
            ),
            ("[larder]", 0, "missing field `url`", "`url` is missing"),
            (
                "listen = \"here\"",
                9,
                "invalid socket address syntax",
                "`listen` must be an address with its port, such as \"127.0.0.1:5080\"",
            ),
        ];
        for (text, byte, message, said) in cases {
            assert_eq!(plain(message, key_before(text, byte), &text[byte..]).0, said);
        }
        let (_, remedy) =
            plain("unknown variant `alow`, expected one of `allow`, `warn`, `deny`", None, "");
        assert_eq!(remedy, "write \"allow\"");
    }
}
