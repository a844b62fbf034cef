//! Which system is it? `os-release` says so (freedesktop.org, os-release(5)).

use serde::{Deserialize, Serialize};

use super::kept;

/// What a system says of itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct OsRelease {
    /// `ID`, in lower case: `debian`.
    pub id: String,
    /// `VERSION_ID`. None: it has no number, as what is not released yet.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version_id: Option<String>,
    /// `VERSION_CODENAME`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub codename: Option<String>,
    /// `PRETTY_NAME`, for people.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// `ID_LIKE`.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub like: Vec<String>,
    /// `CPE_NAME`, by which some advisories name it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub cpe: Option<String>,
    /// `SUPPORT_END`: the last day on which it is mended, as `2028-06-30`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub support_end: Option<String>,
}

/// Reads an `os-release`. None: it names no system.
pub fn read_release(text: &[u8]) -> Option<OsRelease> {
    let text = String::from_utf8_lossy(text);
    let value = |wanted: &str| {
        let found = text.lines().take(1000).filter_map(|line| {
            let (key, value) = line.trim().split_once('=')?;
            (key == wanted).then(|| unquoted(value))
        });
        // As a shell would read it: the last one stands.
        found.last().and_then(|value| kept(&value).map(str::to_owned))
    };
    let like = value("ID_LIKE").unwrap_or_default();
    Some(OsRelease {
        id: value("ID")?.to_lowercase(),
        version_id: value("VERSION_ID"),
        codename: value("VERSION_CODENAME"),
        name: value("PRETTY_NAME"),
        like: like.split_whitespace().take(10).map(str::to_owned).collect(),
        cpe: value("CPE_NAME"),
        support_end: value("SUPPORT_END"),
    })
}

/// A value as a shell reads it: quotes and escapes taken away.
fn unquoted(text: &str) -> String {
    let (mut value, mut quote, mut signs) = (String::new(), None, text.chars());
    while let Some(sign) = signs.next() {
        match (sign, quote) {
            (sign, Some(open)) if sign == open => quote = None,
            ('"' | '\'', None) => quote = Some(sign),
            ('\\', Some('"') | None) => value.extend(signs.next()),
            (' ' | '\t' | '#', None) => break,
            (sign, _) => value.push(sign),
        }
    }
    value
}

impl OsRelease {
    /// The system for people.
    pub fn shown(&self) -> String {
        let version = self.version_id.as_deref().or(self.codename.as_deref());
        match &self.name {
            Some(name) => name.clone(),
            None => [Some(self.id.as_str()), version]
                .into_iter()
                .flatten()
                .collect::<Vec<_>>()
                .join(" "),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_system_is_read_as_a_shell_would() {
        let text = "PRETTY_NAME=\"Emberfall \\\"Hearth\\\" 12 (kiln)\"\n# ID=no\nID=Emberfall\nVERSION_ID='12'\nVERSION_CODENAME=kiln\nID_LIKE=\"debian other\"\n";
        let release = read_release(text.as_bytes()).unwrap();
        assert_eq!((&*release.id, release.version_id.as_deref()), ("emberfall", Some("12")));
        assert_eq!(release.shown(), "Emberfall \"Hearth\" 12 (kiln)");
        assert_eq!(release.like, ["debian", "other"]);
        let unreleased = read_release(b"ID=debian\nVERSION_CODENAME=sid\n").unwrap();
        assert_eq!((unreleased.version_id.as_deref(), &*unreleased.shown()), (None, "debian sid"));
        assert_eq!(read_release(b"NAME=x\n"), None);
    }
}
