//! The encrypted way to a database: our TLS library under the connection's.

use rustls::pki_types::{CertificateDer, PrivateKeyDer, ServerName};
use rustls::{ClientConfig, RootCertStore};
use std::future::Future;
use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll};
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio_postgres::tls::{ChannelBinding, MakeTlsConnect, TlsConnect, TlsStream};
use tokio_rustls::TlsConnector;

/// Connects with TLS; the server's certificate and its name are verified.
#[derive(Clone)]
pub(super) struct Tls(Arc<ClientConfig>);

impl Tls {
    /// `client` is our certificate with its key, if the server wants one.
    ///
    /// Errors: the key does not fit the certificate.
    pub(super) fn new(
        roots: RootCertStore,
        client: Option<(Vec<CertificateDer<'static>>, PrivateKeyDer<'static>)>,
    ) -> Result<Tls, rustls::Error> {
        let provider = Arc::new(rustls::crypto::ring::default_provider());
        let builder = ClientConfig::builder_with_provider(provider)
            .with_safe_default_protocol_versions()?
            .with_root_certificates(roots);
        let mut config = match client {
            Some((chain, key)) => builder.with_client_auth_cert(chain, key)?,
            None => builder.with_no_client_auth(),
        };
        // Wanted where a connection begins with TLS at once; a server that does not know it says nothing.
        config.alpn_protocols = vec![b"postgresql".to_vec()];
        Ok(Tls(Arc::new(config)))
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin + Send + 'static> MakeTlsConnect<S> for Tls {
    type Stream = Encrypted<S>;
    type TlsConnect = To;
    type Error = rustls::pki_types::InvalidDnsNameError;

    fn make_tls_connect(&mut self, host: &str) -> Result<To, Self::Error> {
        Ok(To { connector: TlsConnector::from(self.0.clone()), name: ServerName::try_from(host.to_owned())? })
    }
}

/// A connection that is to be made to one name.
pub(super) struct To {
    connector: TlsConnector,
    name: ServerName<'static>,
}

impl<S: AsyncRead + AsyncWrite + Unpin + Send + 'static> TlsConnect<S> for To {
    type Stream = Encrypted<S>;
    type Error = io::Error;
    type Future = Pin<Box<dyn Future<Output = io::Result<Encrypted<S>>> + Send>>;

    fn connect(self, stream: S) -> Self::Future {
        Box::pin(async move { Ok(Encrypted(self.connector.connect(self.name, stream).await?)) })
    }
}

/// What is read and written through TLS.
pub(super) struct Encrypted<S>(tokio_rustls::client::TlsStream<S>);

impl<S: AsyncRead + AsyncWrite + Unpin> TlsStream for Encrypted<S> {
    // None: the server is known by its certificate and its name, both verified.
    fn channel_binding(&self) -> ChannelBinding {
        ChannelBinding::none()
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncRead for Encrypted<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, into: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_read(cx, into)
    }
}

impl<S: AsyncRead + AsyncWrite + Unpin> AsyncWrite for Encrypted<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.0).poll_write(cx, bytes)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.0).poll_shutdown(cx)
    }
}
