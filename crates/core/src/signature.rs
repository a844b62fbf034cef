//! Who says so? Signatures over images, as others publish them and as operators give them, and those of parcels.
//!
//! Nothing here asks anybody: the clock, the keys and the bytes are given. What stands in an unsigned place may find
//! something and never decides anything.

mod approval;
mod ask;
mod bundle;
mod cbor;
mod chain;
mod cose;
mod dsse;
mod examine;
mod flaw;
mod jose;
mod json;
mod key_file;
mod log;
mod parcel_key;
mod private_key;
mod public_key;
mod small;
mod stamp;
mod target;
mod trust;
mod wire;

#[cfg(test)]
mod vectors;

pub use approval::{
    Approval, EMPTY_CONFIG, SignedLayer, ToSign, approval_companion, small_companion,
};
pub use ask::{
    SignatureAnswer, SignatureAsk, SignatureLack, StatementAsk, Wanted, answer, is_answered,
};
pub use chain::{Authorities, Purpose};
pub use dsse::Said;
pub use examine::{
    Examined, FoundBy, FoundCompanion, GatheredCompanion, Proven, Question, SIGNATURE_TAGS,
    SignatureForm, SignedBy, examine, layer_limit,
};
pub use flaw::Flaw;
pub use json::Json;
pub use key_file::{KeyFile, KeyFileError, read_key_file};
pub use log::Log;
pub use parcel_key::{Signature, SigningKey, SigningKeyError, VerifyingKey};
pub use private_key::{PRIVATE_KEY_LIMIT, PrivateKey, PrivateKeyError, public_pem};
pub use public_key::{KeyKind, KeyUse, MalformedKey, PublicKey};
pub use target::Target;
pub use trust::{Identity, Signer, Trust};

/// What is open to those who try it with damaged input.
#[cfg(fuzzing)]
pub mod damaged {
    pub use super::stamp::stamped_at;
    use super::wire;

    /// The media types of signatures.
    pub const TYPES: [&str; 5] = [wire::DSSE, wire::JWS, wire::COSE, wire::SMALL, wire::BUNDLES[0]];
    /// The annotation in which a small payload has its own.
    pub const BESIDE: &str = wire::SMALL_SIGNATURE;

    /// Reads CBOR.
    pub fn read_cbor(bytes: &[u8]) -> bool {
        super::cbor::Cbor::read(bytes).is_some()
    }
}
