//! The words of a larder's own refusals, recognised whole: proxies may wrap them, but not change them.

use crate::diagnosis::Cause;

/// A part of a sentence that stands in refusals of one cause alone; where two parts are given, both stand in it, in
/// this order.
const WORDS: &[(&[&str], Cause)] = &[
    (&["is refused by rule `"], Cause::RuleDenies),
    (&["is blocked in this larder: "], Cause::Blocked),
    (&["no grant names it"], Cause::GrantMissing),
    (&["nobody signed in"], Cause::NoCredential),
    (&["in a way that is believed"], Cause::StrangeNode),
    (&["this larder knows no cluster `"], Cause::StrangeNode),
    (&["this larder serves the nodes of its clusters"], Cause::StrangeNode),
    (&["is outside of the shelf "], Cause::OutsideShelf),
    (&["no shelf of this larder caches "], Cause::NoShelf),
    (&["there is no shelf `"], Cause::NoShelf),
    (&["this token was ended"], Cause::KeyRevoked),
    (&["the key ", " is revoked"], Cause::KeyRevoked),
    (&["the key ", " has expired"], Cause::KeyExpired),
    (&["the key ", ", not of another"], Cause::WrongCredential),
    (&["this key is not as it was issued"], Cause::KeyUnknown),
    (&["no such key was issued"], Cause::KeyUnknown),
    (&["who is no longer declared"], Cause::KeyUnknown),
    (&["is no longer declared in larder.toml"], Cause::KeyUnknown),
    (&[" limits the larder's pulls; "], Cause::RateLimited),
    (&[" limits our rate"], Cause::RateLimited),
    (&["the allowance for ", " is used up"], Cause::RateLimited),
    (&["; it is asked again in "], Cause::UpstreamDown),
    (&[" takes too long to answer"], Cause::UpstreamDown),
    (&[" cannot be reached: "], Cause::UpstreamDown),
    (&["the larder's disk is full"], Cause::Failing),
    (&["too many wrong sign-ins"], Cause::WrongCredential),
    (&["the sign-in is refused: "], Cause::WrongCredential),
];

/// The cause in the words of a larder's own refusal. None: it is none, or of another kind.
pub fn refusal(text: &str) -> Option<Cause> {
    if let Some(cause) = upstream_answered(text) {
        return Some(cause);
    }
    let in_order = |parts: &[&str]| {
        let mut rest = text;
        parts.iter().all(|part| match rest.split_once(part) {
            Some((_, after)) => {
                rest = after;
                true
            }
            None => false,
        })
    };
    WORDS.iter().find(|(parts, _)| in_order(parts)).map(|(_, cause)| *cause)
}

/// `HOST answered 503 to the pull of …`: what an upstream said is passed on with its status.
fn upstream_answered(text: &str) -> Option<Cause> {
    let (_, rest) = text.split_once(" answered ")?;
    let (status, rest) = rest.split_once(' ')?;
    if !rest.starts_with("to the pull of") {
        return None;
    }
    match status.parse::<u16>().ok()? {
        401 | 403 => Some(Cause::Forbidden),
        429 => Some(Cause::RateLimited),
        500..=599 => Some(Cause::UpstreamDown),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_refusal_is_known_by_its_own_words() {
        for (text, cause) in [
            (
                "bazaar.example/community/pipewatch:0.9 is refused by rule `nothing unvetted`: ask",
                Cause::RuleDenies,
            ),
            (
                "the sign-in is refused: the key k7 of historian is revoked [0eq3ce5z]",
                Cause::KeyRevoked,
            ),
            (
                "the sign-in is refused: the key k7 of historian has expired [0eq3ce5z]",
                Cause::KeyExpired,
            ),
            (
                "the sign-in is refused: the key k7 is that of historian, not of another",
                Cause::WrongCredential,
            ),
            (
                "the sign-in is refused: this key is not as it was issued: a character is wrong or missing",
                Cause::KeyUnknown,
            ),
            ("the sign-in is refused: no such key was issued", Cause::KeyUnknown),
            ("turbine-hall may not pull vendor/brinedb: no grant names it", Cause::GrantMissing),
            ("nobody signed in, and vendor/app is not for everybody; give", Cause::NoCredential),
            (
                "this node has not said to which cluster it belongs in a way that is believed, and x is",
                Cause::StrangeNode,
            ),
            ("this larder knows no cluster `x`", Cause::StrangeNode),
            (
                "library/x is outside of the shelf hub, which reaches library/k* alone",
                Cause::OutsideShelf,
            ),
            ("no shelf of this larder caches bazaar.example; it caches: docker.io", Cause::NoShelf),
            (
                "bazaar.example limits our rate: it answered 429 to the pull of library/kettle",
                Cause::RateLimited,
            ),
            ("bazaar.example answered 429 to the pull of library/kettle", Cause::RateLimited),
            ("bazaar.example answered 503 to the pull of library/kettle: no", Cause::UpstreamDown),
            ("bazaar.example answered 403 to the pull of library/kettle: no", Cause::Forbidden),
            ("bazaar.example fails; it is asked again in 30 s (x)", Cause::UpstreamDown),
        ] {
            assert_eq!(refusal(text), Some(cause), "{text}");
        }
        assert_eq!(refusal("failed to do request: x answered 42"), None);
        assert_eq!(refusal("x is revoked, said the key "), None);
    }
}
