//! A caller's socket, plain or by TLS.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_rustls::server::TlsStream;

/// A caller's socket.
pub(super) enum CallersSocket {
    /// As it is.
    Plain(TcpStream),
    /// By TLS.
    Secure(Box<TlsStream<TcpStream>>),
}

impl CallersSocket {
    /// The connection below.
    pub(super) fn tcp(&self) -> &TcpStream {
        match self {
            CallersSocket::Plain(stream) => stream,
            CallersSocket::Secure(stream) => stream.get_ref().0,
        }
    }
}

impl AsyncRead for CallersSocket {
    #[inline]
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        match &mut *self {
            CallersSocket::Plain(stream) => Pin::new(stream).poll_read(cx, buf),
            CallersSocket::Secure(stream) => Pin::new(stream).poll_read(cx, buf),
        }
    }
}

impl AsyncWrite for CallersSocket {
    #[inline]
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        match &mut *self {
            CallersSocket::Plain(stream) => Pin::new(stream).poll_write(cx, buf),
            CallersSocket::Secure(stream) => Pin::new(stream).poll_write(cx, buf),
        }
    }

    #[inline]
    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        match &mut *self {
            CallersSocket::Plain(stream) => Pin::new(stream).poll_write_vectored(cx, bufs),
            CallersSocket::Secure(stream) => Pin::new(stream).poll_write_vectored(cx, bufs),
        }
    }

    fn is_write_vectored(&self) -> bool {
        true
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match &mut *self {
            CallersSocket::Plain(stream) => Pin::new(stream).poll_flush(cx),
            CallersSocket::Secure(stream) => Pin::new(stream).poll_flush(cx),
        }
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        match &mut *self {
            CallersSocket::Plain(stream) => Pin::new(stream).poll_shutdown(cx),
            CallersSocket::Secure(stream) => Pin::new(stream).poll_shutdown(cx),
        }
    }
}
