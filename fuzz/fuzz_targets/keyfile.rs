//! A file that is named as a key is read or refused, and a certificate tells what it is for or is none.
#![no_main]

use larder_core::certificate::{CertificateUsage, list_end};
use larder_core::signature::{Authorities, PublicKey, read_key_file};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok(read) = read_key_file(bytes) {
        for key in &read.keys {
            assert_eq!(PublicKey::read(key.info()).as_ref(), Ok(key));
        }
        let _authorities = Authorities::new(read.certificates, &read.lists, true);
    }
    let _usage = CertificateUsage::read(bytes);
    let _end = list_end(bytes);
});
