//! Build files: arguments of arguments stay small, and a change touches nothing else.
#![no_main]

use larder_core::reference::Reference;
use larder_core::rewrite::{FileContext, scan};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let file = FileContext { name: "Dockerfile", ..FileContext::default() };
    let Ok(found) = scan(text, &file) else { return };
    assert!(found.findings.iter().all(|one| one.text.len() <= text.len().max(1024)));
    let new = Reference::read("larder.example/x/y:1", &Default::default()).map(|read| read.reference).ok();
    let wishes: Vec<_> = found.findings.iter().map(|_| new.clone()).collect();
    let plan = found.plan(&wishes);
    if let Ok(changed) = found.splice(&plan.changes) {
        let lines = |text: &str| text.lines().count();
        assert_eq!(lines(&changed), lines(text));
    }
});
