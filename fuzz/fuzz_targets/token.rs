//! Whatever is shown as a token is believed only when we, or the cluster, signed it.
#![no_main]

use larder_core::access::identity::{ExpectedToken, KeySet};
use larder_core::access::token::Signer;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|token: &str| {
    if let Some(signer) = Signer::new(&[7; 32], "larder.example") {
        assert!(signer.read(token).is_err(), "a token that nobody signed is believed");
    }
    if let Ok(set) = KeySet::read(token.as_bytes()) {
        let expected = ExpectedToken { issuer: "a".into(), audience: "b".into() };
        assert!(set.verify(token, &expected, 0).is_err());
    }
});
