//! Certificates: read from files, and read again when these change.

use std::path::{Path, PathBuf};
use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, SystemTime};

use tokio_rustls::rustls::crypto::ring;
use tokio_rustls::rustls::pki_types::pem::PemObject as _;
use tokio_rustls::rustls::pki_types::{
    CertificateDer, CertificateRevocationListDer, PrivateKeyDer,
};
use tokio_rustls::rustls::server::WebPkiClientVerifier;
use tokio_rustls::rustls::{RootCertStore, ServerConfig};

/// The files of a server's certificate.
#[derive(Debug, Clone)]
pub struct Certificates {
    /// The certificate and those that lead to its authority, in PEM.
    pub cert: PathBuf,
    /// Its key, in PEM.
    pub key: PathBuf,
    /// The authorities of clients that may connect, in PEM. None: nobody has to show a certificate.
    pub clients: Option<PathBuf>,
    /// The lists of certificates that these authorities have revoked, in PEM. None: none is asked.
    pub crl: Option<PathBuf>,
}

/// Why certificates cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("{path}: {cause}", path = .path.display())]
pub struct TlsError {
    pub path: PathBuf,
    /// What is wrong with it.
    pub cause: String,
}

fn wrong<E: std::fmt::Display>(path: &Path) -> impl Fn(E) -> TlsError {
    move |cause| TlsError { path: path.to_owned(), cause: cause.to_string() }
}

fn read_chain(path: &Path) -> Result<Vec<CertificateDer<'static>>, TlsError> {
    let chain = CertificateDer::pem_file_iter(path)
        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
        .map_err(wrong(path))?;
    if chain.is_empty() {
        return Err(wrong(path)("there is no certificate in it"));
    }
    Ok(chain)
}

impl Certificates {
    fn read(&self) -> Result<Arc<ServerConfig>, TlsError> {
        let chain = read_chain(&self.cert)?;
        let key = PrivateKeyDer::from_pem_file(&self.key).map_err(wrong(&self.key))?;
        let provider = Arc::new(ring::default_provider());
        let builder = ServerConfig::builder_with_provider(Arc::clone(&provider))
            .with_safe_default_protocol_versions()
            .map_err(wrong(&self.cert))?;
        let builder = match &self.clients {
            None => builder.with_no_client_auth(),
            Some(path) => {
                let mut roots = RootCertStore::empty();
                for authority in read_chain(path)? {
                    roots.add(authority).map_err(wrong(path))?;
                }
                let mut verifier =
                    WebPkiClientVerifier::builder_with_provider(Arc::new(roots), provider);
                if let Some(path) = &self.crl {
                    let lists = CertificateRevocationListDer::pem_file_iter(path)
                        .and_then(Iterator::collect::<Result<Vec<_>, _>>)
                        .map_err(wrong(path))?;
                    if lists.is_empty() {
                        return Err(wrong(path)("there is no revocation list in it"));
                    }
                    // A certificate of an authority of which there is no list is not let in.
                    verifier = verifier.with_crls(lists).only_check_end_entity_revocation();
                }
                builder.with_client_cert_verifier(verifier.build().map_err(wrong(path))?)
            }
        };
        let mut config = builder.with_single_cert(chain, key).map_err(wrong(&self.cert))?;
        config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
        Ok(Arc::new(config))
    }

    /// When the files were written. None: one of them is not there at the moment.
    fn written(&self) -> Option<Vec<(SystemTime, u64)>> {
        let files = [Some(&self.cert), Some(&self.key), self.clients.as_ref(), self.crl.as_ref()];
        let states = files.into_iter().flatten().map(|path| {
            let metadata = std::fs::metadata(path).ok()?;
            Some((metadata.modified().ok()?, metadata.len()))
        });
        states.collect()
    }
}

/// What a listener speaks TLS with. Clones share it.
#[derive(Clone)]
pub struct Tls {
    current: Arc<RwLock<Arc<ServerConfig>>>,
    files: Option<Arc<Certificates>>,
}

impl Tls {
    /// Always this configuration.
    pub fn fixed(config: Arc<ServerConfig>) -> Self {
        Self { current: Arc::new(RwLock::new(config)), files: None }
    }

    /// From files, to be read again by [`watch`](Self::watch).
    pub fn from_files(files: Certificates) -> Result<Self, TlsError> {
        let config = files.read()?;
        Ok(Self { current: Arc::new(RwLock::new(config)), files: Some(Arc::new(files)) })
    }

    pub(crate) fn current(&self) -> Arc<ServerConfig> {
        Arc::clone(&self.current.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// Reads the files again whenever they change. New ones that cannot be used change nothing.
    pub async fn watch(&self, every: Duration) {
        let Some(files) = self.files.clone() else { return std::future::pending().await };
        let mut known = files.written();
        loop {
            tokio::time::sleep(every).await;
            let now = files.written();
            if now.is_none() || now == known {
                continue;
            }
            match files.read() {
                Ok(config) => {
                    *self.current.write().unwrap_or_else(PoisonError::into_inner) = config;
                    tracing::info!("the certificate was read again; new connections get it");
                }
                Err(error) => {
                    tracing::error!(%error, "the new certificate cannot be used; the old one stays");
                }
            }
            known = now;
        }
    }
}
