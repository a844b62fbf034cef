//! What does a registry want before it lets us in? The `WWW-Authenticate` header (RFC 9110,
//! section 11.6.1) in the two schemes that registries use.

/// A demand for sign-in.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Challenge {
    /// Name and password with each request.
    Basic,
    /// A token from a service (the token protocol of registries).
    Bearer {
        /// The token service's URL.
        realm: String,
        /// For whom the token is. None: not said.
        service: Option<String>,
        /// What it should allow. Empty: not said.
        scopes: Vec<String>,
    },
}

impl Challenge {
    /// The strongest challenge of all header lines: Bearer before Basic. None: none that we know.
    pub fn strongest<'h>(lines: impl IntoIterator<Item = &'h str>) -> Option<Self> {
        let mut basic = None;
        for line in lines {
            for (scheme, parameters) in split(line) {
                let get = |name: &str| {
                    let found = parameters.iter().find(|(key, _)| key.eq_ignore_ascii_case(name));
                    found.map(|(_, value)| value.clone())
                };
                if scheme.eq_ignore_ascii_case("bearer") {
                    let scopes = get("scope").unwrap_or_default();
                    return Some(Self::Bearer {
                        realm: get("realm")?,
                        service: get("service"),
                        scopes: scopes.split_ascii_whitespace().map(str::to_owned).collect(),
                    });
                }
                if scheme.eq_ignore_ascii_case("basic") {
                    basic = Some(Self::Basic);
                }
            }
        }
        basic
    }
}

type Parameters = Vec<(String, String)>;

/// Splits a line into schemes with their parameters. What cannot be read ends the line.
fn split(line: &str) -> Vec<(String, Parameters)> {
    let mut found: Vec<(String, Parameters)> = Vec::new();
    let mut rest = line.trim_start();
    while !rest.is_empty() && found.len() < 16 {
        let end = rest.find([' ', '=', ',']).unwrap_or(rest.len());
        let word = &rest[..end];
        let after = rest[end..].trim_start();
        if let Some(value) = after.strip_prefix('=') {
            let (value, next) = read_value(value.trim_start());
            match found.last_mut() {
                Some((_, parameters)) if parameters.len() < 16 => {
                    parameters.push((word.to_owned(), value));
                }
                _ => return found,
            }
            rest = next;
        } else if word.is_empty() {
            rest = after.strip_prefix(',').unwrap_or("");
        } else {
            found.push((word.to_owned(), Vec::new()));
            rest = after;
        }
        rest = rest.trim_start();
        rest = rest.strip_prefix(',').unwrap_or(rest).trim_start();
    }
    found
}

/// A token or a quoted text, and what follows it.
fn read_value(text: &str) -> (String, &str) {
    let Some(quoted) = text.strip_prefix('"') else {
        let end = text.find([',', ' ']).unwrap_or(text.len());
        return (text[..end].to_owned(), &text[end..]);
    };
    let mut value = String::new();
    let mut escaped = false;
    for (at, c) in quoted.char_indices() {
        match c {
            _ if escaped => {
                value.push(c);
                escaped = false;
            }
            '\\' => escaped = true,
            '"' => return (value, &quoted[at + 1..]),
            _ => value.push(c),
        }
    }
    (value, "")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn challenges_are_read_in_the_forms_that_registries_send() {
        let line = r#"Bearer realm="https://t.example/token?x=1",service="r.example",scope="repository:a/b:pull,push registry:catalog:*""#;
        let bearer = Challenge::strongest([line]).unwrap();
        let Challenge::Bearer { realm, service, scopes } = &bearer else { panic!() };
        assert_eq!(realm, "https://t.example/token?x=1");
        assert_eq!(service.as_deref(), Some("r.example"));
        assert_eq!(scopes, &["repository:a/b:pull,push", "registry:catalog:*"]);
        assert_eq!(Challenge::strongest([r#"Basic realm="a, b""#]), Some(Challenge::Basic));
        assert_eq!(Challenge::strongest([r#"basic realm="x""#, line]), Some(bearer));
        let one_line =
            Challenge::strongest([r#"Basic realm="x", Bearer realm="https://t.example""#]);
        assert!(matches!(one_line, Some(Challenge::Bearer { .. })));
        assert_eq!(Challenge::strongest(["Negotiate abc", "Bearer", ""]), None);
    }

    proptest::proptest! {
        #[test]
        fn no_line_panics(line in "(\\PC|[=,\" \\\\]|Bearer |realm=){0,40}") {
            let _ = Challenge::strongest([line.as_str()]);
        }
    }
}
