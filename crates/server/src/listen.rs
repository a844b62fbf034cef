//! Connections: accepted, bounded in time, and let go gracefully.

use std::future::Future;
use std::io;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto;
use hyper_util::server::graceful::GracefulShutdown;
use hyper_util::service::TowerToHyperService;
use tokio::net::TcpListener;
use tokio_rustls::TlsAcceptor;

/// How long a client may take for its request's headers, or for the TLS handshake.
const PATIENCE: Duration = Duration::from_secs(30);

/// A TLS configuration with its certificate.
pub type Tls = Arc<tokio_rustls::rustls::ServerConfig>;

/// Serves until `stop` resolves; then nothing new is accepted, and what runs may finish within
/// `grace`. Whether everything did is the answer.
///
/// # Errors
/// When the listener itself fails.
pub async fn serve(
    listener: TcpListener,
    tls: Option<Tls>,
    router: Router,
    stop: impl Future<Output = ()>,
    grace: Duration,
) -> io::Result<bool> {
    let graceful = GracefulShutdown::new();
    let acceptor = tls.map(TlsAcceptor::from);
    let mut stop = std::pin::pin!(stop);
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = &mut stop => break,
        };
        let (socket, _) = match accepted {
            Ok(accepted) => accepted,
            // A connection that is gone already, or no file handle left: neither ends the server.
            Err(error) => {
                tracing::warn!(%error, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(20)).await;
                continue;
            }
        };
        let _ = socket.set_nodelay(true);
        let service = TowerToHyperService::new(router.clone());
        let watcher = graceful.watcher();
        let acceptor = acceptor.clone();
        tokio::spawn(async move {
            let mut http = auto::Builder::new(TokioExecutor::new());
            http.http1().timer(TokioTimer::new()).header_read_timeout(PATIENCE);
            http.http2().timer(TokioTimer::new()).keep_alive_interval(PATIENCE);
            let outcome = match acceptor {
                None => {
                    let connection = http.serve_connection(TokioIo::new(socket), service);
                    watcher.watch(connection.into_owned()).await
                }
                Some(acceptor) => match tokio::time::timeout(PATIENCE, acceptor.accept(socket))
                    .await
                {
                    Ok(Ok(stream)) => {
                        let connection = http.serve_connection(TokioIo::new(stream), service);
                        watcher.watch(connection.into_owned()).await
                    }
                    Ok(Err(error)) => return tracing::debug!(%error, "the TLS handshake failed"),
                    Err(_) => return tracing::debug!("the TLS handshake took too long"),
                },
            };
            if let Err(error) = outcome {
                tracing::debug!(error, "a connection ended early");
            }
        });
    }
    drop(listener);
    Ok(tokio::time::timeout(grace, graceful.shutdown()).await.is_ok())
}
