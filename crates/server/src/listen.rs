//! Connections: accepted, bounded in number and time, and let go gracefully.

use std::convert::Infallible;
use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use axum::extract::Request;
use axum::http::Version;
use axum::response::Response;
use futures_util::FutureExt as _;
use futures_util::future::{BoxFuture, Either};
use hyper::body::Incoming;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto;
use hyper_util::server::graceful::GracefulShutdown;
use larder_core::access::network::true_client;
use prometheus::IntGauge;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::time::Sleep;
use tokio_rustls::TlsAcceptor;

use crate::crew::Crew;
use crate::limits::{Client, ClientCertificate, Limits, Slots, Unclear};
use crate::meters::CountedGuard;
use crate::tls::Tls;
use crate::watched::ConnectionTraffic;

/// Bytes of a connection that are read ahead, and that wait to be sent, at most; and a piece more. No request's
/// header may be longer.
const BUFFER: usize = 64 * 1024;
/// Requests of one HTTP/2 connection that run at once.
const STREAMS: u32 = 128;
/// Bytes that wait for each of them.
const STREAM: usize = 64 * 1024;
/// The fields of a header, and its bytes, that are read at most.
const FIELDS: usize = 64;
const HEADER: usize = 64 * 1024;

/// How long, and how much, is still read from a client after the last answer.
const LINGER: Duration = Duration::from_secs(1);
const LINGER_BYTES: usize = 16 * 1024 * 1024;

/// Marks a request that came under TLS.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Secure;

/// A port with what its clients may take.
pub struct Listener {
    pub socket: TcpListener,
    /// With TLS. None: plain HTTP.
    pub tls: Option<Tls>,
    /// The bounds; they may change while it listens.
    pub limits: watch::Receiver<Arc<Limits>>,
    /// Counts the connections that are open. None: nobody wants to know.
    pub open: Option<IntGauge>,
    /// Who serves the connections. None: the runtime that listens.
    pub crew: Option<Arc<Crew>>,
}

impl Listener {
    /// Plain HTTP with the usual bounds.
    pub fn plain(socket: TcpListener) -> Self {
        Self { socket, tls: None, limits: watch::channel(Arc::default()).1, open: None, crew: None }
    }
}

/// Serves until `stop` resolves; then nothing new is accepted, and what runs may finish within
/// `grace`. Whether everything did is the answer.
///
/// # Errors
/// When the listener itself fails.
pub async fn serve<S>(
    listener: Listener,
    service: S,
    stop: impl Future<Output = ()>,
    grace: Duration,
) -> io::Result<bool>
where
    S: hyper::service::Service<Request<Incoming>, Response = Response, Error = Infallible>
        + Clone
        + Send
        + 'static,
    S::Future: Send + 'static,
{
    // Long: what is taken for a connection is held until its end, so it stands in one scope.
    let Listener { socket, tls, limits, open, crew } = listener;
    let graceful = GracefulShutdown::new();
    let (clients, all) = (Slots::default(), Arc::new(()));
    let mut stop = std::pin::pin!(stop);
    loop {
        let accepted = tokio::select! {
            accepted = socket.accept() => accepted,
            () = &mut stop => break,
        };
        let (stream, from) = match accepted {
            Ok(accepted) => accepted,
            // A connection that is gone already, or no file handle left: neither ends the server.
            Err(error) => {
                tracing::warn!(%error, "a connection could not be accepted");
                tokio::time::sleep(Duration::from_millis(20)).await;
                continue;
            }
        };
        let limits = Arc::clone(&limits.borrow());
        // However few there are, one client never has more than a quarter of them.
        let most = limits.connections_per_client.min((limits.connections / 4).max(1));
        // Who has too many is turned away here: nothing of it is kept or answered.
        // One that stands before others has as many as there are.
        let is_proxy = limits.proxies.iter().any(|proxy| proxy.holds(from.ip()));
        let slot = if is_proxy { None } else { Some(clients.take(from.ip(), most)) };
        let Some(slot) = slot.map_or(Some(None), |slot| slot.map(Some)) else {
            tracing::debug!(client = %from.ip(), "a client has too many connections");
            continue;
        };
        // Each open connection holds one.
        if Arc::strong_count(&all) > limits.connections {
            tracing::warn!(client = %from.ip(), "too many connections are open");
            continue;
        }
        let place = Arc::clone(&all);
        let _ = stream.set_nodelay(true);
        // Its server waits for it with others of its own.
        let stream = stream.into_std();
        let watcher = graceful.watcher();
        let config = tls.as_ref().map(Tls::current);
        let counted = open.as_ref().map(CountedGuard::one);
        let secure = config.is_some();
        let traffic = Arc::new(ConnectionTraffic::default());
        let mut service = WithClient {
            service: service.clone(),
            client: from,
            secure,
            shown: None,
            traffic: Arc::clone(&traffic),
            limits: Arc::clone(&limits),
        };
        let connection = async move {
            let _held = (slot, place, counted);
            let stream = match stream.and_then(TcpStream::from_std) {
                Ok(stream) => stream,
                Err(error) => return tracing::warn!(%error, "a connection could not be taken over"),
            };
            let http = protocols(&limits);
            let served = async {
                match config {
                    None => {
                        let io = TokioIo::new(StallGuard::new(stream, &limits));
                        watcher.watch(http.serve_connection(io, service).into_owned()).await
                    }
                    Some(config) => {
                        let accept = TlsAcceptor::from(config).accept(stream);
                        match tokio::time::timeout(limits.header_time, accept).await {
                            Ok(Ok(stream)) => {
                                let shown = stream.get_ref().1.peer_certificates();
                                let shown = shown.and_then(|chain| chain.first());
                                service.shown =
                                    shown.map(|shown| ClientCertificate(Arc::from(shown.as_ref())));
                                let io = TokioIo::new(StallGuard::new(stream, &limits));
                                watcher.watch(http.serve_connection(io, service).into_owned()).await
                            }
                            Ok(Err(error)) => {
                                tracing::debug!(%error, "the TLS handshake failed");
                                Ok(())
                            }
                            Err(_) => {
                                tracing::debug!("the TLS handshake took too long");
                                Ok(())
                            }
                        }
                    }
                }
            };
            tokio::select! {
                outcome = served => if let Err(error) = outcome {
                    tracing::debug!(error, "a connection ended early");
                },
                () = traffic.bound(&limits) => {
                    tracing::debug!("a connection was closed: its client asks and takes nothing");
                }
            }
        };
        match &crew {
            Some(crew) => crew.take(connection),
            None => drop(tokio::spawn(connection)),
        }
    }
    drop(socket);
    Ok(tokio::time::timeout(grace, graceful.shutdown()).await.is_ok())
}

/// HTTP/1.1 and HTTP/2 with their bounds.
fn protocols(limits: &Limits) -> auto::Builder<TokioExecutor> {
    let mut http = auto::Builder::new(TokioExecutor::new());
    http.http1()
        .timer(TokioTimer::new())
        .header_read_timeout(limits.header_time)
        .max_buf_size(BUFFER)
        .max_headers(FIELDS);
    http.http2()
        .timer(TokioTimer::new())
        .max_concurrent_streams(STREAMS)
        .max_send_buf_size(STREAM)
        .max_header_list_size(u32::try_from(HEADER).unwrap_or(u32::MAX))
        .keep_alive_interval(limits.header_time);
    http
}

/// A service whose requests say who sends them.
#[derive(Clone)]
struct WithClient<S> {
    service: S,
    client: SocketAddr,
    /// Whether the connection is under TLS.
    secure: bool,
    /// The certificate that it has shown. None: it has none, or need not.
    shown: Option<ClientCertificate>,
    traffic: Arc<ConnectionTraffic>,
    /// Who is believed of whom it forwards.
    limits: Arc<Limits>,
}

impl<S> hyper::service::Service<Request<Incoming>> for WithClient<S>
where
    S: hyper::service::Service<Request<Incoming>, Response = Response>,
    S::Future: Send + 'static,
    S::Error: Send + 'static,
{
    type Response = Response;
    type Error = S::Error;
    type Future = Either<S::Future, BoxFuture<'static, Result<Response, S::Error>>>;

    fn call(&self, mut request: Request<Incoming>) -> Self::Future {
        let client = match self.limits.proxies.is_empty() {
            true => Some(self.client.ip()),
            false => {
                let values = |name: &str| -> Vec<&str> {
                    let all = request.headers().get_all(name).iter();
                    // What is no text names nobody, and ends the chain.
                    all.map(|value| value.to_str().unwrap_or("?")).collect()
                };
                let (standard, usual) = (values("forwarded"), values("x-forwarded-for"));
                true_client(self.client.ip(), &self.limits.proxies, &standard, &usual)
            }
        };
        if client.is_none() {
            request.extensions_mut().insert(Unclear);
        }
        request.extensions_mut().insert(Client(client.unwrap_or(self.client.ip())));
        if self.secure {
            request.extensions_mut().insert(Secure);
        }
        if let Some(shown) = &self.shown {
            request.extensions_mut().insert(shown.clone());
        }
        if request.version() != Version::HTTP_2 {
            self.traffic.asks_first();
            return Either::Left(self.service.call(request));
        }
        let (traffic, active) = (Arc::clone(&self.traffic), self.traffic.asks_second());
        let answered = self.service.call(request);
        Either::Right(
            async move {
                let response = answered.await?;
                Ok(response.map(|body| traffic.watch(body, active)))
            }
            .boxed(),
        )
    }
}

/// A connection that ends when its client takes nothing of what waits for it for too long.
struct StallGuard<T> {
    inner: T,
    stall: Duration,
    waiting: Option<Pin<Box<Sleep>>>,
    /// Runs out unless the client says something. None: it has.
    silent: Option<Pin<Box<Sleep>>>,
    /// How long what is still sent is read and thrown away after our last word, and how much of it.
    lingering: Option<(Pin<Box<Sleep>>, usize)>,
}

impl<T> StallGuard<T> {
    fn new(inner: T, limits: &Limits) -> Self {
        let silent = Some(Box::pin(tokio::time::sleep(limits.header_time)));
        Self { inner, stall: limits.stall, waiting: None, silent, lingering: None }
    }

    fn watch<R>(
        &mut self,
        cx: &mut Context<'_>,
        moved: Poll<io::Result<R>>,
    ) -> Poll<io::Result<R>> {
        if moved.is_ready() {
            self.waiting = None;
            return moved;
        }
        let stall = self.stall;
        let waiting = self.waiting.get_or_insert_with(|| Box::pin(tokio::time::sleep(stall)));
        ready!(waiting.as_mut().poll(cx));
        Poll::Ready(Err(io::Error::new(io::ErrorKind::TimedOut, "the client takes nothing")))
    }
}

impl<T: AsyncRead + Unpin> AsyncRead for StallGuard<T> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        let read = Pin::new(&mut self.inner).poll_read(cx, buf);
        if read.is_ready() {
            self.silent = None;
        } else if let Some(silent) = &mut self.silent {
            ready!(silent.as_mut().poll(cx));
            let error = io::Error::new(io::ErrorKind::TimedOut, "the client says nothing");
            return Poll::Ready(Err(error));
        }
        read
    }
}

impl<T: AsyncRead + Unpin> StallGuard<T> {
    /// Reads what a client still sends, within bounds: a connection that is closed before all was read is
    /// reset, and the client would lose our answer, a refusal with its reason.
    fn linger(&mut self, cx: &mut Context<'_>) -> Poll<()> {
        let (sleep, left) = self
            .lingering
            .get_or_insert_with(|| (Box::pin(tokio::time::sleep(LINGER)), LINGER_BYTES));
        let mut memory = [0; 16 * 1024];
        while *left > 0 {
            let mut piece = ReadBuf::new(&mut memory);
            match Pin::new(&mut self.inner).poll_read(cx, &mut piece) {
                Poll::Ready(Ok(())) if !piece.filled().is_empty() => {
                    *left = left.saturating_sub(piece.filled().len());
                }
                Poll::Ready(_) => return Poll::Ready(()),
                Poll::Pending => return sleep.as_mut().poll(cx),
            }
        }
        Poll::Ready(())
    }
}

impl<T: AsyncRead + AsyncWrite + Unpin> AsyncWrite for StallGuard<T> {
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bytes: &[u8],
    ) -> Poll<io::Result<usize>> {
        let moved = Pin::new(&mut self.inner).poll_write(cx, bytes);
        self.watch(cx, moved)
    }

    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        slices: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let moved = Pin::new(&mut self.inner).poll_write_vectored(cx, slices);
        self.watch(cx, moved)
    }

    fn is_write_vectored(&self) -> bool {
        self.inner.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        let moved = Pin::new(&mut self.inner).poll_flush(cx);
        self.watch(cx, moved)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        if self.lingering.is_none() {
            let closed = Pin::new(&mut self.inner).poll_shutdown(cx);
            ready!(self.watch(cx, closed))?;
        }
        ready!(self.linger(cx));
        Poll::Ready(Ok(()))
    }
}
