//! `[parcel]`: keys of parcels and receipts.

use std::collections::BTreeMap;
use std::path::PathBuf;

use larder_core::signature::VerifyingKey;
use serde::Deserialize;

/// `[parcel]`: what signs our parcels and receipts, and whose we believe.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ParcelConfig {
    /// The file with the key that signs. None: nothing can be signed here.
    pub sign: Option<PathBuf>,
    /// The keys whose parcels and receipts are believed, by name.
    #[serde(default)]
    pub trust: BTreeMap<String, TrustedKey>,
}

/// A key whose parcels are believed.
#[derive(Debug)]
pub enum TrustedKey {
    /// For all shelves.
    Everywhere(VerifyingKey),
    /// For some.
    Limited(LimitedKey),
}

/// A key whose parcels are believed for some shelves.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct LimitedKey {
    key: VerifyingKey,
    shelves: Vec<String>,
}

impl<'de> Deserialize<'de> for TrustedKey {
    fn deserialize<D: serde::Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        struct Written;
        impl<'de> serde::de::Visitor<'de> for Written {
            type Value = TrustedKey;

            fn expecting(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
                f.write_str(
                    "a key, or a table such as `{ key = \"ed25519:…\", shelves = [\"vendor\"] }`",
                )
            }

            fn visit_str<E: serde::de::Error>(self, text: &str) -> Result<TrustedKey, E> {
                text.parse().map(TrustedKey::Everywhere).map_err(E::custom)
            }

            fn visit_map<A: serde::de::MapAccess<'de>>(
                self,
                map: A,
            ) -> Result<TrustedKey, A::Error> {
                let table = serde::de::value::MapAccessDeserializer::new(map);
                LimitedKey::deserialize(table).map(TrustedKey::Limited)
            }
        }
        from.deserialize_any(Written)
    }
}

impl TrustedKey {
    /// The key.
    pub fn key(&self) -> &VerifyingKey {
        match self {
            Self::Everywhere(key) | Self::Limited(LimitedKey { key, .. }) => key,
        }
    }

    /// The shelves to which it is limited. None: it is not.
    pub fn shelves(&self) -> Option<&[String]> {
        match self {
            Self::Everywhere(_) => None,
            Self::Limited(limited) => Some(&limited.shelves),
        }
    }
}
