//! Parcels as the configuration has them: the key that signs them, and whose are believed.

use larder_core::signature::{SigningKey, VerifyingKey};
use larder_transfer::parcel::{SignerTrust, read_key};

use crate::config::Config;
use crate::context::now;
use crate::failure::Failure;
use crate::output::time;

/// The keys that the configuration names, our own, and those named with the command.
pub fn trust_of(
    config: Option<&Config>,
    named: &[VerifyingKey],
    what: &str,
) -> Result<SignerTrust, Failure> {
    let mut trust = SignerTrust::default();
    if let Some(config) = config {
        if config.parcel.sign.is_some() {
            trust.add(&config.larder.name, signing_key(config, what)?.verifying(), None);
        }
        for (name, trusted) in &config.parcel.trust {
            trust.add(name, trusted.key().clone(), trusted.shelves());
        }
    }
    for (number, key) in named.iter().enumerate() {
        trust.add(format!("--trust {}", number + 1), key.clone(), None);
    }
    Ok(trust)
}

/// The key with which this larder signs.
pub fn signing_key(config: &Config, what: &str) -> Result<SigningKey, Failure> {
    let Some(path) = &config.parcel.sign else {
        let cause = "larder.toml names no `sign` in [parcel]";
        let remedy = "`larder parcel sign-key` makes one; name it with `sign` in [parcel]";
        return Err(Failure::usage(what, cause, remedy));
    };
    let path = config.folder().join(path);
    config.check_secret(what, Some(&path))?;
    read_key(&path).map_err(|error| Failure::parcel(what, &error))
}

/// Now, as RFC 3339. `SOURCE_DATE_EPOCH`, in seconds since 1970, takes its place, so that the same
/// contents can be made into the same bytes.
pub fn now_text() -> String {
    let fixed = std::env::var("SOURCE_DATE_EPOCH").ok().and_then(|text| text.parse::<i64>().ok());
    time(fixed.and_then(|seconds| seconds.checked_mul(1000)).unwrap_or_else(now))
}
