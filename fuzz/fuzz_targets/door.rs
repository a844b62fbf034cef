//! A cluster's review is answered or refused, whatever its object is, and what is read of it is bounded.
#![no_main]

use larder_core::door::{IMAGES_LIMIT, Reply, Review};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|body: &[u8]| {
    let _ = Review::uid_of(body);
    let Ok(review) = Review::read(body) else { return };
    if let Ok(Some(scan)) = review.scan(None) {
        assert!(scan.findings.len() <= IMAGES_LIMIT);
        for finding in &scan.findings {
            let _ = scan.pointer(finding);
        }
        for pod in &scan.pods {
            let _ = (scan.pod_pointer(pod), scan.secrets(pod));
        }
    }
    let answer = review.answer(&Reply { refused: Some("no".into()), ..Reply::default() });
    assert!(answer.contains("\"allowed\":false"));
});
