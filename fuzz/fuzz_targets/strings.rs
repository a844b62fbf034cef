//! Texts within deployments: each reference that is found stands where it is said to stand.
#![no_main]

use larder_core::reference::Reference;
use larder_core::rewrite::{FileContext, scan};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    let env = serde_json::json!({"apiVersion": "v1", "kind": "Pod", "metadata": {"name": "x"}, "spec": {"containers": [
        {"name": "a", "image": "a.example/b:1", "command": ["sh", "-c", text], "env": [{"name": "AN_IMAGE", "value": text}]}]}});
    let object = env.to_string();
    let file = FileContext { name: "object.json", ..FileContext::default() };
    let Ok(found) = scan(&object, &file) else { return };
    let new = Reference::read("larder.example/x/y:1", &Default::default()).map(|read| read.reference).ok();
    let wishes: Vec<_> = found.findings.iter().map(|_| new.clone()).collect();
    let plan = found.plan(&wishes);
    // What is changed is proved to be what was wanted, or nothing is.
    let _ = found.splice(&plan.changes);
});
