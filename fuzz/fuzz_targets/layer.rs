//! A layer of any bytes is read within its bounds, and what is known of it can be kept and laid over others.
#![no_main]

use larder_core::inventory::{LayerFacts, LayerLimits, LayerOutcome, compose, read_layer};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let limits = LayerLimits {
        bytes: 16 * 1024 * 1024,
        entries: 10_000,
        packages: 1000,
        small: 64 * 1024,
        large: 1024 * 1024,
    };
    let facts = read_layer(bytes, &limits).expect("only a source can fail");
    assert!(facts.entries <= limits.entries && facts.packages.len() <= limits.packages);
    assert_eq!(LayerFacts::unpack(&facts.pack()).as_ref(), Some(&facts));
    let outcome = LayerOutcome::Read(std::sync::Arc::new(facts));
    let inventory = compose(&[outcome.clone(), outcome]);
    for one in &inventory.packages {
        let url = one.package.url(inventory.release.as_ref()).to_string();
        assert!(url.starts_with("pkg:"));
    }
});
