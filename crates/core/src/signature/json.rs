//! Signed JSON is read strictly: a member that stands twice, anywhere, is refused, for two readers could take different ones.

use std::fmt;

use serde::de::{DeserializeSeed, Deserializer, Error as _, MapAccess, SeqAccess, Visitor};
use serde_json::Number;

/// A value (RFC 8259).
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Json {
    Null,
    Bool(bool),
    Number(Number),
    Text(String),
    List(Vec<Json>),
    /// In the order of the text; each name once.
    Object(Vec<(String, Json)>),
}

impl Json {
    /// About how many bytes of memory it takes.
    pub fn weight(&self) -> usize {
        let own = std::mem::size_of::<Self>();
        own + match self {
            Self::Null | Self::Bool(_) | Self::Number(_) => 0,
            Self::Text(text) => text.len(),
            Self::List(all) => all.iter().map(Self::weight).sum(),
            Self::Object(all) => all.iter().map(|(name, one)| name.len() + 24 + one.weight()).sum(),
        }
    }
}

/// How deep values may lie in one another.
const DEEPEST: usize = 64;
/// The most values in one text.
const MOST: usize = 1_000_000;

impl Json {
    /// Reads a text. None: it is no JSON in UTF-8, has a member twice, is too deep, or something stands behind it.
    pub fn read(bytes: &[u8]) -> Option<Self> {
        let text = std::str::from_utf8(bytes).ok()?;
        let mut left = MOST;
        let mut from = serde_json::Deserializer::from_str(text);
        let read = Strict { depth: 0, left: &mut left }.deserialize(&mut from).ok()?;
        from.end().ok()?;
        Some(read)
    }

    /// Reads a text that is an object.
    pub fn read_object(bytes: &[u8]) -> Option<Self> {
        Self::read(bytes).filter(|read| matches!(read, Self::Object(_)))
    }

    /// A member of an object. None: it is none, or has no such member.
    pub fn get(&self, name: &str) -> Option<&Self> {
        self.members().iter().find(|(own, _)| own == name).map(|(_, value)| value)
    }

    /// The members of an object; none of anything else.
    pub fn members(&self) -> &[(String, Self)] {
        match self {
            Self::Object(members) => members,
            _ => &[],
        }
    }

    /// A text.
    pub fn text(&self) -> Option<&str> {
        match self {
            Self::Text(text) => Some(text),
            _ => None,
        }
    }

    /// The text of a member.
    pub fn text_of(&self, name: &str) -> Option<&str> {
        self.get(name)?.text()
    }

    /// A list.
    pub fn list(&self) -> Option<&[Self]> {
        match self {
            Self::List(list) => Some(list),
            _ => None,
        }
    }

    /// A number that is whole and not below 0, also as a text of digits (proto3 JSON writes 64 bits so).
    pub fn whole(&self) -> Option<u64> {
        match self {
            Self::Number(number) => number.as_u64(),
            Self::Text(text) => {
                let is_plain = text == "0" || !text.starts_with('0');
                let is_number = is_plain && text.bytes().all(|byte| byte.is_ascii_digit());
                text.parse().ok().filter(|_| is_number)
            }
            _ => None,
        }
    }

    /// What a pointer leads to (RFC 6901). The empty one is the whole.
    pub fn at(&self, pointer: &str) -> Option<&Self> {
        let mut parts = pointer.split('/');
        if parts.next() != Some("") {
            return None;
        }
        parts.try_fold(self, |value, part| {
            let part = part.replace("~1", "/").replace("~0", "~");
            match value {
                Self::Object(_) => value.get(&part),
                Self::List(list) => {
                    let is_plain = part == "0" || !part.starts_with(['0', '+']);
                    list.get(part.parse::<usize>().ok().filter(|_| is_plain)?)
                }
                _ => None,
            }
        })
    }
}

/// Reads one value, at a depth.
struct Strict<'l> {
    depth: usize,
    left: &'l mut usize,
}

impl Strict<'_> {
    fn deeper<E: serde::de::Error>(&mut self) -> Result<Strict<'_>, E> {
        if self.depth >= DEEPEST {
            return Err(E::custom("it is too deep"));
        }
        *self.left = self.left.checked_sub(1).ok_or_else(|| E::custom("it has too many values"))?;
        Ok(Strict { depth: self.depth + 1, left: self.left })
    }
}

impl<'de> DeserializeSeed<'de> for Strict<'_> {
    type Value = Json;

    fn deserialize<D: Deserializer<'de>>(self, from: D) -> Result<Json, D::Error> {
        from.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Strict<'_> {
    type Value = Json;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }

    fn visit_unit<E>(self) -> Result<Json, E> {
        Ok(Json::Null)
    }

    fn visit_bool<E>(self, value: bool) -> Result<Json, E> {
        Ok(Json::Bool(value))
    }

    fn visit_u64<E>(self, value: u64) -> Result<Json, E> {
        Ok(Json::Number(value.into()))
    }

    fn visit_i64<E>(self, value: i64) -> Result<Json, E> {
        Ok(Json::Number(value.into()))
    }

    fn visit_f64<E: serde::de::Error>(self, value: f64) -> Result<Json, E> {
        Number::from_f64(value).map(Json::Number).ok_or_else(|| E::custom("no number"))
    }

    fn visit_str<E>(self, value: &str) -> Result<Json, E> {
        Ok(Json::Text(value.to_owned()))
    }

    fn visit_seq<A: SeqAccess<'de>>(mut self, mut from: A) -> Result<Json, A::Error> {
        let mut list = Vec::new();
        while let Some(value) = from.next_element_seed(self.deeper()?)? {
            list.push(value);
        }
        Ok(Json::List(list))
    }

    fn visit_map<A: MapAccess<'de>>(mut self, mut from: A) -> Result<Json, A::Error> {
        let mut members: Vec<(String, Json)> = Vec::new();
        let mut names = std::collections::HashSet::new();
        while let Some(name) = from.next_key::<String>()? {
            if !names.insert(name.clone()) {
                return Err(A::Error::custom("a member stands twice"));
            }
            let value = from.next_value_seed(self.deeper()?)?;
            members.push((name, value));
        }
        Ok(Json::Object(members))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_two_readers_could_take_differently_is_refused() {
        for bad in [
            r#"{"a":1,"a":2}"#,
            r#"{"a":1,"\u0061":2}"#,
            r#"{"a":[{"b":{"c":1,"c":1}}]}"#,
            "{} {}",
            "{}x",
            "\u{feff}{}",
            "{\"a\":\"\u{1}\"}",
            "",
            "{\"a\":01}",
            "{'a':1}",
        ] {
            assert_eq!(Json::read(bad.as_bytes()), None, "{bad}");
        }
        assert_eq!(Json::read(b"{\"a\":\"\xff\"}"), None);
        let deep = |depth: usize| "[".repeat(depth) + &"]".repeat(depth);
        assert!(Json::read(deep(DEEPEST).as_bytes()).is_some());
        assert!(Json::read(deep(DEEPEST + 1).as_bytes()).is_none());
        assert!(Json::read(deep(100_000).as_bytes()).is_none());
        assert!(Json::read_object(b"[1]").is_none());
    }

    #[test]
    fn members_are_found_by_name_and_by_pointer() {
        let read = Json::read(br#"{"a":{"b/c":[1,"2",{"d":null}]},"n":"17"}"#).unwrap();
        assert_eq!(read.at("/a/b~1c/1").and_then(Json::text), Some("2"));
        assert_eq!(read.at("/a/b~1c/2/d"), Some(&Json::Null));
        assert_eq!(read.get("n").and_then(Json::whole), Some(17));
        assert_eq!(read.at(""), Some(&read));
        for nothing in ["a", "/a/x", "/a/b~1c/3", "/a/b~1c/01", "/n/0", "/"] {
            assert_eq!(read.at(nothing), None, "{nothing}");
        }
        for no_number in ["\"017\"", "\"\"", "\"-1\"", "-1", "1.5", "\"+1\""] {
            assert_eq!(Json::read(no_number.as_bytes()).unwrap().whole(), None, "{no_number}");
        }
    }

    proptest::proptest! {
        #[test]
        fn what_is_read_is_what_others_read(text in r#"[\[\]{}:,"ab0-9. truefalsn\\]{0,60}"#) {
            let ours = Json::read(text.as_bytes());
            if ours.is_some() {
                assert!(serde_json::from_str::<serde_json::Value>(&text).is_ok(), "{text}");
            }
        }
    }
}
