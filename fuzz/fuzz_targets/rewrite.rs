//! Whatever a deployment holds, its references are found or it is refused; what is changed reads back as it was
//! planned, a second run changes nothing, and no byte elsewhere differs: the guards may refuse, and never
//! let anything else through.
#![no_main]

use larder_core::diagnosis::read_events;
use larder_core::reference::{Reference, Unqualified};
use larder_core::rewrite::{Access, File, scan};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    read_events(text);
    let new = Reference::read("larder.example/vendor/x:1", &Unqualified::default());
    let Ok(new) = new.map(|reading| reading.reference) else { return };
    for name in ["a.yaml", "a.json", "Dockerfile", "values.yaml", "images.txt", ""] {
        let file = File { name, app_version: Some("1"), ..File::default() };
        let Ok(found) = scan(text, &file) else { continue };
        let wish = |one: &larder_core::rewrite::Finding| {
            matches!(one.access, Access::Edit(_)).then(|| new.clone())
        };
        let wishes: Vec<_> = found.findings.iter().map(wish).collect();
        let mut changes = found.plan(&wishes).changes;
        for pod in &found.pods {
            changes.extend(found.attach(pod, "larder-pull").ok().flatten());
        }
        let Ok(changed) = found.splice(&changes) else { continue };
        // What was let through can be read again, and is as it should be.
        let again = scan(&changed, &file).expect("what was changed reads as before");
        let wishes: Vec<_> = again.findings.iter().map(wish).collect();
        let _ = again.splice(&again.plan(&wishes).changes);
    }
});
