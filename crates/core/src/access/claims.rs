//! Which pipeline is this? What the token of a build system must say of itself, claim by claim (OpenID Connect Core,
//! section 2; RFC 7519).

use std::collections::BTreeMap;

use serde_json::{Map, Value};

use crate::pattern::Pattern;
use crate::shown::cut;

/// The longest value that is compared, in bytes, and how much of one is written into the record.
const LONGEST: usize = 1024;
const TOLD: usize = 200;

/// What a token must say: each claim by its name, all of them.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WantedClaims(BTreeMap<String, Pattern>);

/// The claims by which somebody was known, each with its value, in the order of their names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KnownClaims(Vec<(String, String)>);

/// Which claim says something else than is wanted, or nothing.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum ClaimError {
    #[error("it has no claim `{0}` that can be compared")]
    Missing(String),
    #[error("its claim `{claim}` is `{found}`, not `{wanted}`")]
    Other { claim: String, found: String, wanted: String },
}

impl WantedClaims {
    /// None: nothing is wanted, which would let in whomever the issuer knows.
    pub fn new(all: BTreeMap<String, Pattern>) -> Option<Self> {
        let named = all.keys().all(|claim| !claim.is_empty() && claim.len() <= 100);
        (!all.is_empty() && named).then_some(Self(all))
    }

    /// The claims of a token that was verified, if all that are wanted are there.
    pub fn judge(&self, claims: &Map<String, Value>) -> Result<KnownClaims, ClaimError> {
        let mut known = Vec::with_capacity(self.0.len());
        for (claim, wanted) in &self.0 {
            let can_be = |text: &String| text.len() <= LONGEST && !text.contains(char::is_control);
            let found = at(claims, claim).and_then(text).filter(can_be);
            let found = found.ok_or_else(|| ClaimError::Missing(claim.clone()))?;
            if !wanted.matches(&found) {
                let (claim, found) = (claim.clone(), cut(&found, TOLD));
                return Err(ClaimError::Other { claim, found, wanted: wanted.as_str().to_owned() });
            }
            known.push((claim.clone(), cut(&found, TOLD)));
        }
        Ok(KnownClaims(known))
    }
}

/// What a name leads to: a claim, or with a `/` in front what lies within one (JSON Pointer, RFC 6901).
fn at<'c>(claims: &'c Map<String, Value>, name: &str) -> Option<&'c Value> {
    let Some(pointer) = name.strip_prefix('/') else { return claims.get(name) };
    let (first, within) = match pointer.find('/') {
        Some(end) => pointer.split_at(end),
        None => (pointer, ""),
    };
    claims.get(&first.replace("~1", "/").replace("~0", "~"))?.pointer(within)
}

/// A value that can be compared: a text, a whole number, true or false. Lists and tables never match: what of them would
/// have to, is not said.
fn text(value: &Value) -> Option<String> {
    match value {
        Value::String(text) => Some(text.clone()),
        Value::Bool(is) => Some(is.to_string()),
        Value::Number(number) if number.is_i64() || number.is_u64() => Some(number.to_string()),
        _ => None,
    }
}

impl std::fmt::Display for KnownClaims {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        for (place, (claim, value)) in self.0.iter().enumerate() {
            let comma = if place == 0 { "" } else { ", " };
            // A value must not look like a further claim.
            let is_plain = |c: char| c.is_ascii_alphanumeric() || "._/:@+-".contains(c);
            match value.chars().all(is_plain) {
                true => write!(f, "{comma}{claim}={value}")?,
                false => write!(f, "{comma}{claim}={value:?}")?,
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn wanted(all: &[(&str, &str)]) -> WantedClaims {
        let all = all
            .iter()
            .map(|(claim, pattern)| ((*claim).to_owned(), pattern.parse::<Pattern>().unwrap()));
        WantedClaims::new(all.collect()).unwrap()
    }

    fn judge(wanted: &WantedClaims, claims: &Value) -> Result<String, String> {
        let judged = wanted.judge(claims.as_object().unwrap());
        judged.map(|known| known.to_string()).map_err(|error| error.to_string())
    }

    #[test]
    fn what_lies_within_a_claim_is_named_by_a_pointer() {
        let claims = json!({
            "kubernetes.io": {"namespace": "builds", "pod": {"name": "b-1"}, "a/b": 7}, "/odd": "x", "list": ["y"],
        });
        for (claim, pattern) in [
            ("/kubernetes.io/namespace", "builds"),
            ("/kubernetes.io/pod/name", "b-*"),
            ("/kubernetes.io/a~1b", "7"),
            ("/list/0", "y"),
            ("/~1odd", "x"),
        ] {
            let told = judge(&wanted(&[(claim, pattern)]), &claims).unwrap();
            assert!(told.starts_with(&format!("{claim}=")), "{told}");
        }
        for claim in ["/kubernetes.io", "/kubernetes.io/pod", "/", "/odd", "/list", "/none/x", "//"]
        {
            let said = judge(&wanted(&[(claim, "**")]), &claims).unwrap_err();
            assert!(said.contains("no claim"), "{claim}: {said}");
        }
        // A name without one is that of a claim alone.
        assert!(judge(&wanted(&[("kubernetes.io.namespace", "**")]), &claims).is_err());
    }

    #[test]
    fn all_that_is_wanted_must_be_said() {
        let wanted = wanted(&[("repository", "emberfall/valves"), ("ref", "refs/tags/*")]);
        let claims = json!({"repository": "emberfall/valves", "ref": "refs/tags/v1", "x": 1});
        assert_eq!(
            judge(&wanted, &claims).unwrap(),
            "ref=refs/tags/v1, repository=emberfall/valves"
        );
        for (claims, why) in [
            (json!({"repository": "emberfall/valves"}), "no claim `ref`"),
            (
                json!({"repository": "emberfall/valves", "ref": "refs/heads/main"}),
                "is `refs/heads/main`",
            ),
            (
                json!({"repository": "emberfall/valves-twin", "ref": "refs/tags/v1"}),
                "not `emberfall/valves`",
            ),
            (json!({"repository": "x/emberfall/valves", "ref": "refs/tags/v1"}), "`repository`"),
            (json!({"repository": "Emberfall/valves", "ref": "refs/tags/v1"}), "`repository`"),
            // `*` is one part of a name.
            (json!({"repository": "emberfall/valves", "ref": "refs/tags/a/b"}), "`ref`"),
            (json!({"repository": "emberfall/valves", "ref": "refs/tags/v1\n"}), "no claim `ref`"),
            (
                json!({"repository": ["emberfall/valves"], "ref": "refs/tags/v1"}),
                "no claim `repository`",
            ),
            (json!({"repository": null, "ref": "refs/tags/v1"}), "no claim `repository`"),
            (
                json!({"repository": {"name": "emberfall/valves"}, "ref": "refs/tags/v1"}),
                "can be compared",
            ),
            (
                json!({"repository": "emberfall/valves", "ref": format!("refs/tags/{}", "v".repeat(2000))}),
                "no claim `ref`",
            ),
        ] {
            let said = judge(&wanted, &claims).unwrap_err();
            assert!(said.contains(why), "{said}: {why}");
        }
    }

    #[test]
    fn no_value_looks_like_another_claim() {
        let wanted = wanted(&[("ref", "refs/tags/*")]);
        let known = judge(&wanted, &json!({"ref": "refs/tags/v1, repository=other"})).unwrap();
        assert_eq!(known, "ref=\"refs/tags/v1, repository=other\"");
    }

    #[test]
    fn numbers_and_truths_are_compared_as_they_are_written() {
        let wanted = wanted(&[("project_id", "42"), ("ref_protected", "true")]);
        assert!(judge(&wanted, &json!({"project_id": 42, "ref_protected": true})).is_ok());
        assert!(judge(&wanted, &json!({"project_id": "42", "ref_protected": "true"})).is_ok());
        assert!(judge(&wanted, &json!({"project_id": 42.5, "ref_protected": true})).is_err());
        assert!(judge(&wanted, &json!({"project_id": 42, "ref_protected": false})).is_err());
    }

    #[test]
    fn nothing_that_is_wanted_is_no_identity() {
        assert_eq!(WantedClaims::new(BTreeMap::new()), None);
        let unnamed = [(String::new(), "a".parse().unwrap())];
        assert_eq!(WantedClaims::new(unnamed.into()), None);
    }
}
