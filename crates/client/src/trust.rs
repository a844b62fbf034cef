//! Whom is believed by their certificate? Any that is signed by a known authority; and a server whose own
//! certificate was named, exactly that one, for exactly its names: an authority's that is used as a server's, and
//! one that signed itself, are taken by nodes and other clients too.

use std::sync::Arc;

use larder_core::certificate;
use rustls::client::danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier};
use rustls::client::{WebPkiServerVerifier, verify_server_name};
use rustls::crypto::{CryptoProvider, verify_tls12_signature, verify_tls13_signature};
use rustls::pki_types::pem::PemObject as _;
use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName, UnixTime};
use rustls::server::ParsedCertificate;
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
};

/// How a server is known, and by what we are.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct ServerTrust<'t> {
    /// Certificates in PEM that are trusted, beside the system's.
    pub ca: &'t [u8],
    /// The certificate and key that it is shown, in PEM. None: none.
    pub identity: Option<&'t [u8]>,
    /// It is this machine itself: public authorities have no say.
    pub near: bool,
    /// Whether any certificate is good.
    pub any: bool,
    /// Whether only the older protocol is spoken.
    pub http1: bool,
}

impl ServerTrust<'_> {
    /// As the TLS library wants it.
    ///
    /// # Errors
    /// In words: files that cannot be used.
    pub fn config(self) -> Result<ClientConfig, String> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let named: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(self.ca)
            .collect::<Result<_, _>>()
            .map_err(|error| format!("the trusted certificates cannot be read: {error}"))?;
        if named.is_empty() && !self.ca.is_empty() {
            return Err("there is no certificate in the file of trusted ones".into());
        }
        let others: Option<Arc<dyn ServerCertVerifier>> = match (self.near, named.is_empty()) {
            (true, true) => None,
            (true, false) => {
                let mut roots = RootCertStore::empty();
                roots.add_parsable_certificates(named.iter().cloned());
                let built = WebPkiServerVerifier::builder_with_provider(
                    Arc::new(roots),
                    Arc::clone(&provider),
                );
                built.build().ok().map(|verifier| verifier as Arc<dyn ServerCertVerifier>)
            }
            (false, _) => {
                let extra = named.iter().cloned();
                let system = rustls_platform_verifier::Verifier::new_with_extra_roots(
                    extra,
                    Arc::clone(&provider),
                );
                let system =
                    system.map_err(|error| format!("the system's authorities: {error}"))?;
                Some(Arc::new(system))
            }
        };
        let verifier = Verifier { others, named, provider: Arc::clone(&provider), any: self.any };
        let failed = |error: Error| plain(&error.to_string());
        let builder = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()
            .map_err(failed)?
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(verifier));
        let mut config = match self.identity {
            None => builder.with_no_client_auth(),
            Some(pem) => {
                let unreadable = "the client certificate and its key cannot be read";
                let chain: Vec<CertificateDer<'static>> = CertificateDer::pem_slice_iter(pem)
                    .collect::<Result<_, _>>()
                    .map_err(|_| unreadable.to_owned())?;
                let key = PrivateKeyDer::from_pem_slice(pem).map_err(|_| unreadable.to_owned())?;
                builder.with_client_auth_cert(chain, key).map_err(failed)?
            }
        };
        config.alpn_protocols = match self.http1 {
            true => vec![b"http/1.1".to_vec()],
            false => vec![b"h2".to_vec(), b"http/1.1".to_vec()],
        };
        Ok(config)
    }
}

/// How a database server is known by its certificate: by the system's authorities, and those in `ca` (PEM).
///
/// # Errors
/// In words: certificates that cannot be read.
pub fn database_tls(ca: &[u8]) -> Result<ClientConfig, String> {
    let mut config = ServerTrust { ca, ..ServerTrust::default() }.config()?;
    config.alpn_protocols.clear();
    Ok(config)
}

#[derive(Debug)]
struct Verifier {
    /// Who judges by authorities. None: nobody is one.
    others: Option<Arc<dyn ServerCertVerifier>>,
    /// Those that were named.
    named: Vec<CertificateDer<'static>>,
    provider: Arc<CryptoProvider>,
    any: bool,
}

impl Verifier {
    /// A server's own certificate that was named: for its names, at its time.
    fn is_named(
        &self,
        shown: &CertificateDer<'_>,
        name: &ServerName<'_>,
        now: UnixTime,
    ) -> Result<bool, Error> {
        if !self.named.iter().any(|named| named.as_ref() == shown.as_ref()) {
            return Ok(false);
        }
        let Some(read) = certificate::read(shown) else { return Ok(false) };
        let now = i64::try_from(now.as_secs()).unwrap_or(i64::MAX);
        if now < read.from {
            return Err(CertificateError::NotValidYet.into());
        }
        if now > read.until {
            return Err(CertificateError::Expired.into());
        }
        verify_server_name(&ParsedCertificate::try_from(shown)?, name)?;
        Ok(true)
    }
}

impl ServerCertVerifier for Verifier {
    fn verify_server_cert(
        &self,
        shown: &CertificateDer<'_>,
        between: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        status: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        if self.any || self.is_named(shown, name, now)? {
            return Ok(ServerCertVerified::assertion());
        }
        match &self.others {
            Some(others) => others.verify_server_cert(shown, between, name, status, now),
            None => Err(CertificateError::UnknownIssuer.into()),
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let known = &self.provider.signature_verification_algorithms;
        verify_tls12_signature(message, cert, signed, known)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        cert: &CertificateDer<'_>,
        signed: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        let known = &self.provider.signature_verification_algorithms;
        verify_tls13_signature(message, cert, signed, known)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        self.provider.signature_verification_algorithms.supported_schemes()
    }
}

/// Whether words of ours are about the certificate that we showed, or did not show, and not about the server's.
pub(crate) fn is_about_ours(words: &str) -> bool {
    words.contains("it was shown") || words.contains("was shown none")
}

/// Why a server breaks TLS off, by the alert that it sends (RFC 8446, section 6.2).
fn broken_off(alert: &str) -> String {
    let known = [
        ("CertificateRequired", "it asks for a client's certificate, and was shown none"),
        ("UnknownCA", "it does not know the authority of the certificate that it was shown"),
        ("BadCertificate", "it does not take the certificate that it was shown"),
        ("UnsupportedCertificate", "it does not take the certificate that it was shown"),
        ("CertificateUnknown", "it does not take the certificate that it was shown"),
        ("CertificateRevoked", "the certificate that it was shown is revoked"),
        ("CertificateExpired", "the certificate that it was shown has expired"),
        ("AccessDenied", "it does not let in whom the certificate names that it was shown"),
        ("UnrecognisedName", "it serves no such name"),
        ("ProtocolVersion", "it speaks none of the versions of TLS that are spoken here"),
        ("HandshakeFailure", "it takes none of the ways of TLS that are spoken here"),
    ];
    match known.iter().find(|(theirs, _)| alert.starts_with(theirs)) {
        Some((_, words)) => (*words).to_owned(),
        None => "it breaks TLS off".to_owned(),
    }
}

/// A library's words for what is wrong with a connection, in ours.
pub(crate) fn plain(text: &str) -> String {
    let known = [
        ("UnknownIssuer", "its certificate is signed by an authority that is not known here"),
        (
            "CaUsedAsEndEntity",
            "its certificate is an authority's own, and that one is not known here",
        ),
        ("certificate expired", "its certificate has expired"),
        ("invalid peer certificate: Expired", "its certificate has expired"),
        ("NotValidYet", "its certificate is not valid yet"),
        ("certificate not valid yet", "its certificate is not valid yet"),
        ("InvalidContentType", "it does not speak TLS"),
        ("invalid HTTP version parsed", "it does not speak plain HTTP; TLS, perhaps"),
        (
            "NotValidForName",
            "its certificate is not valid for name and address by which it is asked",
        ),
    ];
    if let Some((_, words)) = known.iter().find(|(theirs, _)| text.contains(theirs)) {
        return (*words).to_owned();
    }
    if let Some((_, alert)) = text.split_once("received fatal alert: ") {
        return broken_off(alert);
    }
    text.strip_prefix("invalid peer certificate: ")
        .map_or_else(|| text.to_owned(), |rest| format!("its certificate is not good: {rest}"))
}
