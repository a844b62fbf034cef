//! What of a configuration should be the same at all larders that share a store, in a few digits: who differs is told.

use larder_core::digest::Digest;

use super::source::ConfigSource;

/// What each larder has of its own.
const OWN: [&str; 6] = ["data", "listen", "metrics", "objects", "records", "tls"];
/// The digits that are shown.
const DIGITS: usize = 12;

/// Of all files. How they are written, and in which order their tables stand, makes no difference.
pub(super) fn fingerprint(sources: &[ConfigSource]) -> String {
    let mut all = String::new();
    let mut add = |mut table: toml::Table| {
        table.remove("include");
        if let Some(toml::Value::Table(larder)) = table.get_mut("larder") {
            larder.retain(|key, _| !OWN.contains(&key));
        }
        // Maps are written in the order of their keys.
        all.push_str(&table.to_string());
        all.push('\0');
    };
    for source in sources {
        if let Ok(table) = source.text.parse::<toml::Table>() {
            add(table);
        }
    }
    Digest::of(all.as_bytes()).hex().chars().take(DIGITS).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(text: &str) -> String {
        let file = toml::from_str(text).unwrap();
        let (path, shown) = ("larder.toml".into(), "larder.toml".into());
        fingerprint(&[ConfigSource { path, shown, text: text.to_owned(), file }])
    }

    #[test]
    fn only_what_should_be_the_same_counts() {
        let first = "[larder]\nname = \"a\"\nurl = \"https://larder.example\"\n[[shelf]]\nname = \"vendor\"\n";
        let same = "# A remark.\n[larder]\nurl = \"https://larder.example\"\nname = \"a\"\ndata = \"elsewhere\"\nlisten = \"127.0.0.1:5001\"\n\n[[shelf]]\nname = 'vendor'\n";
        assert_eq!(of(first), of(same));
        assert_eq!(of(first).len(), DIGITS);
        assert_ne!(of(first), of(&first.replace("vendor", "other")));
        assert_ne!(of(first), of(&first.replace("\"a\"", "\"b\"")));
    }
}
