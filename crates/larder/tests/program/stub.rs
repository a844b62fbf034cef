//! Something that listens and answers as it likes, and certificates of every kind.

use std::io::{Read as _, Write as _};
use std::net::TcpListener;
use std::sync::Arc;
use std::time::Duration;

use larder_server::Tls;
use larder_standin::UpstreamPlan;
use rcgen::{CertificateParams, CertifiedIssuer, IsCa, KeyPair};

use crate::house::House;

/// Answers each request by its first line. None: it stays silent.
pub fn listen(answer: impl Fn(&str) -> Option<Vec<u8>> + Send + Sync + 'static) -> String {
    listen_whole(move |head| answer(head.lines().next().unwrap_or_default()))
}

/// The same, by all of its head.
pub fn listen_whole(answer: impl Fn(&str) -> Option<Vec<u8>> + Send + Sync + 'static) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let answer = Arc::new(answer);
    std::thread::spawn(move || {
        for stream in listener.incoming().take(500) {
            let Ok(mut stream) = stream else { return };
            let answer = Arc::clone(&answer);
            std::thread::spawn(move || {
                let mut head = Vec::new();
                let mut piece = [0; 4096];
                stream.set_read_timeout(Some(Duration::from_secs(10))).unwrap();
                while !head.windows(4).any(|four| four == b"\r\n\r\n") {
                    match stream.read(&mut piece) {
                        Ok(got) if got > 0 => head.extend_from_slice(&piece[..got]),
                        _ => break,
                    }
                    // What is no HTTP has no end.
                    if !head.starts_with(b"GET") && !head.starts_with(b"HEAD") {
                        break;
                    }
                }
                let text = String::from_utf8_lossy(&head).into_owned();
                match answer(&text) {
                    Some(bytes) => {
                        let _ = stream.write_all(&bytes);
                    }
                    None => std::thread::sleep(Duration::from_secs(8)),
                }
            });
        }
    });
    address
}

/// An answer with fields and a body; to HEAD without it. As [`listen`] wants it.
#[allow(clippy::unnecessary_wraps)]
pub fn http(line: &str, status: &str, fields: &str, body: &str) -> Option<Vec<u8>> {
    let length = if fields.contains("content-length") {
        String::new()
    } else {
        format!("content-length: {}\r\n", body.len())
    };
    let body = if line.starts_with("HEAD") { "" } else { body };
    Some(
        format!("HTTP/1.1 {status}\r\n{fields}{length}connection: close\r\n\r\n{body}")
            .into_bytes(),
    )
}

/// A registry with a certificate that is made by an authority whose certificate is given too, in PEM.
pub fn secure(
    house: &House,
    change: impl FnOnce(&mut CertificateParams),
    clients: bool,
) -> (larder_standin::Upstream, String) {
    let mut above = CertificateParams::new(Vec::new()).unwrap();
    above.is_ca = IsCa::Ca(rcgen::BasicConstraints::Unconstrained);
    above.distinguished_name.push(rcgen::DnType::CommonName, "the house's own authority");
    let authority = CertifiedIssuer::self_signed(above, KeyPair::generate().unwrap()).unwrap();
    let key = KeyPair::generate().unwrap();
    let mut params = CertificateParams::new(vec!["127.0.0.1".to_owned()]).unwrap();
    change(&mut params);
    let cert = params.signed_by(&key, &authority).unwrap();
    // Whoever shows it is known there, too.
    house.write("client.pem", cert.pem() + &key.serialize_pem());
    let provider = Arc::new(rustls::crypto::ring::default_provider());
    let builder = rustls::ServerConfig::builder_with_provider(Arc::clone(&provider))
        .with_safe_default_protocol_versions()
        .unwrap();
    let builder = match clients {
        true => {
            let mut roots = rustls::RootCertStore::empty();
            roots.add(authority.der().clone()).unwrap();
            let verifier = rustls::server::WebPkiClientVerifier::builder_with_provider(
                Arc::new(roots),
                provider,
            );
            builder.with_client_cert_verifier(verifier.build().unwrap())
        }
        false => builder.with_no_client_auth(),
    };
    let der = rustls::pki_types::PrivateKeyDer::try_from(key.serialize_der()).unwrap();
    let tls = builder.with_single_cert(vec![cert.der().clone()], der).unwrap();
    let plan = UpstreamPlan { tls: Some(Tls::fixed(Arc::new(tls))), ..UpstreamPlan::default() };
    (house.start(plan), authority.pem())
}
