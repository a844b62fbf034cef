//! Package URLs: what a package is called in SBOMs and advisories, `pkg:TYPE/NAMESPACE/NAME@VERSION?KEY=VALUE#SUBPATH`
//! (Package URL specification).
//!
//! Programs write the same one in different ways, so two are compared by their parts and never as texts.

use std::collections::BTreeMap;
use std::fmt;
use std::str::FromStr;

/// A package's name for everybody.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub struct PackageUrl {
    /// In lower case: `deb`, `npm`.
    pub kind: String,
    /// The names before its own. Empty: there are none.
    pub namespace: Vec<String>,
    pub name: String,
    /// None: it stands for all versions.
    pub version: Option<String>,
    /// By key, in lower case; none is empty.
    pub qualifiers: BTreeMap<String, String>,
    /// A path within it. Empty: all of it.
    pub subpath: Vec<String>,
}

/// The longest that is read, in bytes, and the most of its parts.
const LONGEST: usize = 4096;
const PARTS: usize = 64;

/// Why a text is no package URL.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum MalformedPackageUrl {
    /// It does not begin with `pkg:`.
    #[error("it does not begin with `pkg:`")]
    Scheme,
    /// Its type has other signs than letters, digits, `.`, `+` and `-`, or begins with a digit.
    #[error("its type is none")]
    Kind,
    /// It has no name.
    #[error("it has no name")]
    Name,
    /// A key has other signs than letters, digits, `.`, `_` and `-`, or stands twice.
    #[error("one of its qualifiers is none")]
    Qualifier,
    /// A percent sign is not followed by two hexadecimal digits, or what they say is no text.
    #[error("something in it is not written as addresses are")]
    Escape,
    /// It is longer, or has more parts, than any that is read.
    #[error("it is too long")]
    Long,
}

/// Types whose names make no difference between letters of both cases.
const LOWER_CASE: [&str; 8] =
    ["npm", "pypi", "deb", "apk", "oci", "github", "bitbucket", "composer"];

impl FromStr for PackageUrl {
    type Err = MalformedPackageUrl;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        if text.len() > LONGEST {
            return Err(MalformedPackageUrl::Long);
        }
        let scheme = text.get(..4).filter(|scheme| scheme.eq_ignore_ascii_case("pkg:"));
        scheme.ok_or(MalformedPackageUrl::Scheme)?;
        let rest = text[4..].trim_start_matches('/');
        let (rest, subpath) = rest.split_once('#').unwrap_or((rest, ""));
        let (rest, qualifiers) = rest.split_once('?').unwrap_or((rest, ""));
        let (kind, rest) = rest.split_once('/').ok_or(MalformedPackageUrl::Name)?;
        let kind = kind.to_ascii_lowercase();
        let fits = |byte: u8| byte.is_ascii_alphanumeric() || b".+-".contains(&byte);
        if !kind.starts_with(|sign: char| sign.is_ascii_alphabetic()) || !kind.bytes().all(fits) {
            return Err(MalformedPackageUrl::Kind);
        }
        // A scope of npm may begin with a bare `@`: what stands behind the last slash has the version.
        let (path, name) = match rest.trim_end_matches('/').rsplit_once('/') {
            Some((path, name)) if !name.starts_with('@') || !path.is_empty() => (path, name),
            _ => ("", rest),
        };
        let (name, version) = match name.rsplit_once('@').filter(|(name, _)| !name.is_empty()) {
            Some((name, version)) => (name, Some(version)),
            None => (name, None),
        };
        let is_lower = LOWER_CASE.contains(&&*kind);
        let case = |text: String| if is_lower { text.to_lowercase() } else { text };
        let mut namespace = Vec::new();
        for part in path.split('/').filter(|part| !part.is_empty()) {
            namespace.push(case(unescaped(part)?));
        }
        let mut name = case(unescaped(name.trim_matches('/'))?);
        if kind == "pypi" {
            name = name.replace('_', "-");
        }
        if name.is_empty() {
            return Err(MalformedPackageUrl::Name);
        }
        let version = version.map(unescaped).transpose()?.filter(|version| !version.is_empty());
        let mut subpath_parts = Vec::new();
        for part in subpath.split('/').filter(|part| !matches!(*part, "" | "." | "..")) {
            subpath_parts.push(unescaped(part)?);
        }
        let qualifiers = read_qualifiers(qualifiers)?;
        if namespace.len() + subpath_parts.len() + qualifiers.len() > PARTS {
            return Err(MalformedPackageUrl::Long);
        }
        Ok(Self { kind, namespace, name, version, qualifiers, subpath: subpath_parts })
    }
}

fn read_qualifiers(text: &str) -> Result<BTreeMap<String, String>, MalformedPackageUrl> {
    let mut all = BTreeMap::new();
    for pair in text.split('&').filter(|pair| !pair.is_empty()) {
        let (key, value) = pair.split_once('=').ok_or(MalformedPackageUrl::Qualifier)?;
        let fits = |byte: u8| byte.is_ascii_alphanumeric() || b"._-".contains(&byte);
        if key.is_empty() || key.starts_with(|sign: char| sign.is_ascii_digit()) {
            return Err(MalformedPackageUrl::Qualifier);
        }
        if !key.bytes().all(fits) {
            return Err(MalformedPackageUrl::Qualifier);
        }
        let value = unescaped(value)?;
        // What is empty is as if it were not there.
        if !value.is_empty() && all.insert(key.to_ascii_lowercase(), value).is_some() {
            return Err(MalformedPackageUrl::Qualifier);
        }
    }
    Ok(all)
}

/// A bare plus is a plus: this is no form.
fn unescaped(text: &str) -> Result<String, MalformedPackageUrl> {
    let mut bytes = Vec::with_capacity(text.len());
    let mut rest = text.as_bytes();
    while let Some((first, after)) = rest.split_first() {
        if *first != b'%' {
            bytes.push(*first);
            rest = after;
            continue;
        }
        let hex = after.get(..2).and_then(|hex| std::str::from_utf8(hex).ok());
        let hex = hex.filter(|hex| hex.bytes().all(|byte| byte.is_ascii_hexdigit()));
        let byte = hex.and_then(|hex| u8::from_str_radix(hex, 16).ok());
        bytes.push(byte.ok_or(MalformedPackageUrl::Escape)?);
        rest = &after[2..];
    }
    let text = String::from_utf8(bytes).map_err(|_| MalformedPackageUrl::Escape)?;
    match text.chars().any(char::is_control) {
        true => Err(MalformedPackageUrl::Escape),
        false => Ok(text),
    }
}

/// What stands bare.
fn write(f: &mut fmt::Formatter<'_>, text: &str) -> fmt::Result {
    for byte in text.bytes() {
        match byte {
            _ if byte.is_ascii_alphanumeric() || b"-._~:".contains(&byte) => {
                write!(f, "{}", char::from(byte))?;
            }
            _ => write!(f, "%{byte:02X}")?,
        }
    }
    Ok(())
}

impl fmt::Display for PackageUrl {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "pkg:{}", self.kind)?;
        for part in self.namespace.iter().chain([&self.name]) {
            f.write_str("/")?;
            write(f, part)?;
        }
        if let Some(version) = &self.version {
            f.write_str("@")?;
            write(f, version)?;
        }
        for (number, (key, value)) in self.qualifiers.iter().enumerate() {
            write!(f, "{}{key}=", if number == 0 { '?' } else { '&' })?;
            write(f, value)?;
        }
        for (number, part) in self.subpath.iter().enumerate() {
            f.write_str(if number == 0 { "#" } else { "/" })?;
            write(f, part)?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn read(text: &str) -> PackageUrl {
        text.parse().unwrap()
    }

    #[test]
    fn parts_are_read_and_written() {
        let deb = read("pkg:deb/debian/libember1@1:2.3%2Bdeb12u1-4?arch=amd64&distro=debian-12");
        assert_eq!((deb.kind.as_str(), deb.name.as_str()), ("deb", "libember1"));
        assert_eq!(deb.namespace, ["debian"]);
        assert_eq!(deb.version.as_deref(), Some("1:2.3+deb12u1-4"));
        assert_eq!(deb.qualifiers["distro"], "debian-12");
        let text = "pkg:deb/debian/libember1@1:2.3%2Bdeb12u1-4?arch=amd64&distro=debian-12";
        assert_eq!(deb.to_string(), text);
        let scoped = read("pkg:npm/%40ember/bellows@1.2.3");
        assert_eq!((&*scoped.namespace[0], &*scoped.name), ("@ember", "bellows"));
        assert_eq!(scoped, read("pkg:npm/@ember/bellows@1.2.3"));
        assert_eq!(scoped.to_string(), "pkg:npm/%40ember/bellows@1.2.3");
        let go = read("pkg:golang/emberfall.example/Forge/v2@v2.1.0#sub/path");
        assert_eq!(go.namespace, ["emberfall.example", "Forge"]);
        assert_eq!((go.subpath.len(), go.version.as_deref()), (2, Some("v2.1.0")));
    }

    #[test]
    fn spellings_of_the_same_are_the_same() {
        for (one, other) in [
            ("pkg:pypi/Ember_Tools@1", "pkg:PyPI/ember-tools@1"),
            ("pkg:deb/debian/Ember@1+b1", "pkg:deb/debian/ember@1%2Bb1"),
            ("pkg:oci/kettle@sha256%3Aabc", "pkg:oci/kettle@sha256:abc"),
            ("pkg:rpm/ember@1?arch=&epoch=1", "pkg:rpm/ember@1?epoch=1"),
            ("pkg:rpm/ember@1?b=2&a=1", "pkg:rpm/ember@1?A=1&b=2"),
            ("pkg://npm//bellows@1", "pkg:npm/bellows@1"),
        ] {
            assert_eq!(read(one), read(other), "{one} {other}");
        }
        assert_ne!(read("pkg:maven/a/B@1"), read("pkg:maven/a/b@1"));
        assert_ne!(read("pkg:npm/bellows"), read("pkg:npm/bellows@1"));
    }

    #[test]
    fn what_is_none_is_told() {
        use MalformedPackageUrl::{Escape, Kind, Long, Name, Qualifier, Scheme};
        for (text, wrong) in [
            ("npm/bellows", Scheme),
            ("", Scheme),
            ("pkg:npm", Name),
            ("pkg:npm/", Name),
            ("pkg:n$m/bellows", Kind),
            ("pkg:1pm/bellows", Kind),
            ("pkg:npm/bell%zzows", Escape),
            ("pkg:npm/bell%ffows", Escape),
            ("pkg:npm/bell%0aows", Escape),
            ("pkg:npm/bellows?a", Qualifier),
            ("pkg:npm/bellows?a=1&A=2", Qualifier),
            ("pkg:npm/bellows?1=2", Qualifier),
        ] {
            assert_eq!(text.parse::<PackageUrl>(), Err(wrong), "{text}");
        }
        let long = format!("pkg:npm/{}", "a".repeat(5000));
        assert_eq!(long.parse::<PackageUrl>(), Err(Long));
        let many = format!("pkg:golang/{}b", "a/".repeat(100));
        assert_eq!(many.parse::<PackageUrl>(), Err(Long));
    }

    proptest::proptest! {
        #[test]
        fn what_is_written_is_read_the_same(text in "pkg:(npm|deb|golang|pypi)/[a-zA-Z0-9/@%._+-]{1,30}([?][a-z=&%0-9]{0,20})?(#[a-z/.]{0,10})?") {
            if let Ok(read) = text.parse::<PackageUrl>() {
                proptest::prop_assert_eq!(read.to_string().parse::<PackageUrl>(), Ok(read));
            }
        }
    }
}
