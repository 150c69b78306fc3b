//! The listener: plain, or with TLS whose files are read again on SIGHUP; and what a connection may cost before it has said anything.

use crate::causes::causes;
use crate::settings::Tls;
use axum::Router;
use axum_server::Handle;
use axum_server::tls_rustls::RustlsConfig;
use hyper_util::rt::TokioTimer;
use std::convert::Infallible;
use std::future::Future;
use std::io;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::pin::Pin;
use std::sync::Arc;
use std::time::Duration;
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;

/// How long the head of a call may take.
const HEAD: Duration = Duration::from_secs(15);
/// How long a TLS handshake may take.
const HANDSHAKE: Duration = Duration::from_secs(10);
/// The longest head of a call.
const HEAD_BYTES: usize = 64 * 1024;
/// How many connections are open at the same time; more wait to be accepted.
const CONNECTIONS: usize = 4096;

/// Why no connections can be accepted.
#[derive(Debug, thiserror::Error)]
pub enum ListenError {
    #[error("the listener could not be used")]
    Listener(#[source] io::Error),
    #[error("the certificate {} or its key could not be read", path.display())]
    Certificate {
        path: PathBuf,
        #[source]
        source: io::Error,
    },
}

type Serving = Pin<Box<dyn Future<Output = io::Result<()>> + Send>>;

/// Serves until the handle is asked to stop.
pub(crate) fn listen(listener: TcpListener, tls: Option<Tls>, router: Router, handle: Handle<SocketAddr>) -> Result<Serving, ListenError> {
    let listener = listener.into_std().map_err(ListenError::Listener)?;
    let service = router.into_make_service_with_connect_info::<SocketAddr>();
    let open = Arc::new(Semaphore::new(CONNECTIONS));
    match tls {
        None => {
            let mut server = axum_server::from_tcp(listener).map_err(ListenError::Listener)?.handle(handle);
            bounded(server.http_builder());
            Ok(Box::pin(server.map(|acceptor| Limited { acceptor, open }).serve(service)))
        }
        Some(tls) => {
            let config = read(&tls)?;
            let reread = reread(config.clone(), tls);
            let acceptor = axum_server::tls_rustls::RustlsAcceptor::new(config).handshake_timeout(HANDSHAKE);
            let mut server = axum_server::from_tcp(listener).map_err(ListenError::Listener)?.handle(handle).acceptor(acceptor);
            bounded(server.http_builder());
            let server = server.map(|acceptor| Limited { acceptor, open }).serve(service);
            // In one task with the server: whoever waits for that sees it, too, when this breaks.
            Ok(Box::pin(async move {
                tokio::select! {
                    served = server => served,
                    never = reread => match never {},
                }
            }))
        }
    }
}

fn bounded(builder: &mut hyper_util::server::conn::auto::Builder<hyper_util::rt::TokioExecutor>) {
    builder.http1().timer(TokioTimer::new()).header_read_timeout(HEAD).max_buf_size(HEAD_BYTES.max(8192));
    builder.http2().timer(TokioTimer::new()).keep_alive_interval(HEAD).keep_alive_timeout(HEAD).max_concurrent_streams(256);
}

/// Reads the certificate and its key.
fn config(tls: &Tls) -> io::Result<rustls::ServerConfig> {
    use rustls_pki_types::pem::PemObject;
    let wrong = |error: rustls_pki_types::pem::Error| io::Error::other(error.to_string());
    let chain =
        rustls_pki_types::CertificateDer::pem_file_iter(&tls.certificate).map_err(wrong)?.collect::<Result<Vec<_>, _>>().map_err(wrong)?;
    let key = rustls_pki_types::PrivateKeyDer::from_pem_file(&tls.key).map_err(wrong)?;
    let mut config = rustls::ServerConfig::builder().with_no_client_auth().with_single_cert(chain, key).map_err(io::Error::other)?;
    config.alpn_protocols = vec![b"h2".to_vec(), b"http/1.1".to_vec()];
    Ok(config)
}

fn read(tls: &Tls) -> Result<RustlsConfig, ListenError> {
    let failed = |source| ListenError::Certificate { path: tls.certificate.clone(), source };
    Ok(RustlsConfig::from_config(Arc::new(config(tls).map_err(failed)?)))
}

/// On SIGHUP; what cannot be read leaves the certificate that was.
async fn reread(known: RustlsConfig, tls: Tls) -> Infallible {
    let Ok(mut hangups) = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::hangup()) else {
        tracing::error!("SIGHUP cannot be waited for: the certificate is read at the start only");
        return std::future::pending().await;
    };
    loop {
        if hangups.recv().await.is_none() {
            return std::future::pending().await;
        }
        match config(&tls) {
            Ok(config) => {
                known.reload_from_config(Arc::new(config));
                tracing::info!("the certificate was read again");
            }
            Err(error) => tracing::error!(error = causes(&error), "the certificate could not be read again; the one before stays in use"),
        }
    }
}

/// Accepts only so many connections at the same time, and sends what they are answered at once.
#[derive(Clone)]
struct Limited<A> {
    acceptor: A,
    open: Arc<Semaphore>,
}

impl<A, S> axum_server::accept::Accept<TcpStream, S> for Limited<A>
where
    A: axum_server::accept::Accept<TcpStream, S> + Clone + Send + 'static,
    A::Stream: Send,
    A::Service: Send,
    A::Future: Send,
    S: Send + 'static,
{
    type Stream = Counted<A::Stream>;
    type Service = A::Service;
    type Future = Pin<Box<dyn Future<Output = io::Result<(Self::Stream, Self::Service)>> + Send>>;

    fn accept(&self, stream: TcpStream, service: S) -> Self::Future {
        let (acceptor, open) = (self.acceptor.clone(), self.open.clone());
        Box::pin(async move {
            let counted = open.acquire_owned().await.map_err(io::Error::other)?;
            // An answer in pieces would wait for the other side's acknowledgement of each: 40 ms where that is put off.
            stream.set_nodelay(true)?;
            let (stream, service) = acceptor.accept(stream, service).await?;
            Ok((Counted { stream, _counted: counted }, service))
        })
    }
}

/// A connection, counted until it is closed.
struct Counted<S> {
    stream: S,
    _counted: tokio::sync::OwnedSemaphorePermit,
}

impl<S: tokio::io::AsyncRead + Unpin> tokio::io::AsyncRead for Counted<S> {
    fn poll_read(
        mut self: Pin<&mut Self>,
        context: &mut std::task::Context<'_>,
        buffer: &mut tokio::io::ReadBuf<'_>,
    ) -> std::task::Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_read(context, buffer)
    }
}

impl<S: tokio::io::AsyncWrite + Unpin> tokio::io::AsyncWrite for Counted<S> {
    fn poll_write(mut self: Pin<&mut Self>, context: &mut std::task::Context<'_>, bytes: &[u8]) -> std::task::Poll<io::Result<usize>> {
        Pin::new(&mut self.stream).poll_write(context, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, context: &mut std::task::Context<'_>) -> std::task::Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_flush(context)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, context: &mut std::task::Context<'_>) -> std::task::Poll<io::Result<()>> {
        Pin::new(&mut self.stream).poll_shutdown(context)
    }
}
