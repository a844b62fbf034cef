//! No path is taken for something that climbs, and what is read is written as it was.
#![no_main]

use larder_server::EndPoint;
use libfuzzer_sys::fuzz_target;

fuzz_target!(|path: &str| {
    match EndPoint::read(path) {
        Ok(EndPoint::Manifest(repository, _) | EndPoint::Blob(repository, _) | EndPoint::Tags(repository)) => {
            assert!(!repository.as_str().contains("..") && !repository.as_str().contains('%'));
            assert!(repository.as_str().len() <= 255);
        }
        Ok(EndPoint::Upload(_, id)) => assert!(id.to_string().bytes().all(|b| b.is_ascii_hexdigit())),
        _ => {}
    }
});
