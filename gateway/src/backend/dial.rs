//! New connections: TCP, and TLS where the address wants it.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use porch_facade::CompiledBackend;
use rustls_pki_types::ServerName;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::TlsConnector;
use tokio_rustls::client::TlsStream;

use super::failure::{CallFailure, DialError, deepest};
use super::places::{Limits, Place};
use super::tls::{self, Offer};

/// Where to, and how.
pub(super) struct To<'a> {
    pub(super) backend: &'a CompiledBackend,
    /// Which of its addresses.
    pub(super) at: usize,
    pub(super) tls: &'a tls::Configs,
    /// Where connections are counted, of backends that take only so many.
    pub(super) limits: &'a Limits,
}

/// A connection.
pub(super) enum Stream {
    Plain(TcpStream),
    Tls(Box<TlsStream<TcpStream>>),
    /// One of so many.
    Counted(Box<Stream>, Place),
    #[cfg(test)]
    Memory(tokio::io::DuplexStream),
}

impl To<'_> {
    /// Connects.
    pub(super) async fn connect(&self, offer: Offer) -> Result<Stream, CallFailure> {
        let backend = self.backend;
        let place = match backend.connections {
            Some(most) => {
                let key = (backend.identity, self.at as u32);
                Some(
                    self.limits
                        .take(key, (most, backend.waiting), backend.connect)
                        .await?,
                )
            }
            None => None,
        };
        let stream = match tokio::time::timeout(backend.connect, self.open(offer)).await {
            Ok(result) => result.map_err(CallFailure::Connect)?,
            Err(_) => return Err(CallFailure::ConnectTimeout),
        };
        Ok(match place {
            Some(place) => Stream::Counted(Box::new(stream), place),
            None => stream,
        })
    }

    async fn open(&self, offer: Offer) -> Result<Stream, DialError> {
        let (backend, address) = (self.backend, &self.backend.addresses[self.at]);
        let authority = address.authority.as_str();
        let has_port = authority
            .rsplit_once(':')
            .is_some_and(|(_, port)| port.parse::<u16>().is_ok());
        let stream = if has_port {
            TcpStream::connect(authority).await
        } else {
            let port = if address.tls { 443 } else { 80 };
            TcpStream::connect(format!("{authority}:{port}")).await
        };
        let stream = stream?;
        let _ = stream.set_nodelay(true);
        if !address.tls {
            return Ok(Stream::Plain(stream));
        }
        let host = if has_port {
            authority.rsplit_once(':').map_or(authority, |(h, _)| h)
        } else {
            authority
        };
        let host = backend.server_name.as_deref().unwrap_or(host);
        let name = ServerName::try_from(host.trim_matches(['[', ']']).to_owned())
            .map_err(|e| DialError::Config(deepest(&e)))?;
        let own = backend.credentials.certificate.as_ref();
        let config = self.tls.config(&backend.trust, offer, own)?;
        let stream = TlsConnector::from(config)
            .connect(name, stream)
            .await
            .map_err(DialError::of_tls)?;
        Ok(Stream::Tls(Box::new(stream)))
    }
}

impl Stream {
    /// Whether the other side chose HTTP/2.
    pub(super) fn speaks_http2(&self) -> bool {
        match self {
            Stream::Tls(tls) => tls.get_ref().1.alpn_protocol() == Some(tls::HTTP2),
            Stream::Counted(stream, _) => stream.speaks_http2(),
            _ => false,
        }
    }

    /// Whether another call waits for a connection in place of this one.
    pub(super) fn is_wanted(&self) -> bool {
        matches!(self, Stream::Counted(_, place) if place.is_wanted())
    }
}

impl AsyncRead for Stream {
    fn poll_read(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Stream::Plain(s) => Pin::new(s).poll_read(cx, buf),
            Stream::Tls(s) => Pin::new(s).poll_read(cx, buf),
            Stream::Counted(s, _) => Pin::new(s).poll_read(cx, buf),
            #[cfg(test)]
            Stream::Memory(s) => Pin::new(s).poll_read(cx, buf),
        }
    }
}

impl AsyncWrite for Stream {
    fn poll_write(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Stream::Plain(s) => Pin::new(s).poll_write(cx, buf),
            Stream::Tls(s) => Pin::new(s).poll_write(cx, buf),
            Stream::Counted(s, _) => Pin::new(s).poll_write(cx, buf),
            #[cfg(test)]
            Stream::Memory(s) => Pin::new(s).poll_write(cx, buf),
        }
    }

    fn poll_write_vectored(
        self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        match self.get_mut() {
            Stream::Plain(s) => Pin::new(s).poll_write_vectored(cx, bufs),
            Stream::Tls(s) => Pin::new(s).poll_write_vectored(cx, bufs),
            Stream::Counted(s, _) => Pin::new(s).poll_write_vectored(cx, bufs),
            #[cfg(test)]
            Stream::Memory(s) => Pin::new(s).poll_write_vectored(cx, bufs),
        }
    }

    fn is_write_vectored(&self) -> bool {
        match self {
            Stream::Plain(s) => s.is_write_vectored(),
            Stream::Tls(s) => s.is_write_vectored(),
            Stream::Counted(s, _) => s.is_write_vectored(),
            #[cfg(test)]
            Stream::Memory(s) => s.is_write_vectored(),
        }
    }

    fn poll_flush(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Stream::Plain(s) => Pin::new(s).poll_flush(cx),
            Stream::Tls(s) => Pin::new(s).poll_flush(cx),
            Stream::Counted(s, _) => Pin::new(s).poll_flush(cx),
            #[cfg(test)]
            Stream::Memory(s) => Pin::new(s).poll_flush(cx),
        }
    }

    fn poll_shutdown(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match self.get_mut() {
            Stream::Plain(s) => Pin::new(s).poll_shutdown(cx),
            Stream::Tls(s) => Pin::new(s).poll_shutdown(cx),
            Stream::Counted(s, _) => Pin::new(s).poll_shutdown(cx),
            #[cfg(test)]
            Stream::Memory(s) => Pin::new(s).poll_shutdown(cx),
        }
    }
}
