//! A caller's socket, which must be read at a least rate once something waits to be sent.

use std::io;
use std::pin::Pin;
use std::task::{Context, Poll};

use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};

use crate::body::Pace;

/// A socket that breaks when its other side does not read.
pub struct Paced<S> {
    socket: S,
    pace: Pace,
}

impl<S> Paced<S> {
    /// Watches over a socket.
    pub fn new(socket: S) -> Self {
        Self {
            socket,
            pace: Pace::new(),
        }
    }

    /// The socket itself.
    pub(super) fn inner(&self) -> &S {
        &self.socket
    }

    #[inline]
    fn watched(
        &mut self,
        cx: &mut Context<'_>,
        written: Poll<io::Result<usize>>,
    ) -> Poll<io::Result<usize>> {
        match written {
            Poll::Ready(Ok(bytes)) => self.pace.moved(bytes),
            Poll::Ready(Err(_)) => {}
            Poll::Pending => {
                if self.pace.is_over(cx) {
                    let slow = "the caller does not read what it asked for";
                    return Poll::Ready(Err(io::Error::new(io::ErrorKind::TimedOut, slow)));
                }
            }
        }
        written
    }
}

impl<S: AsyncRead + Unpin> AsyncRead for Paced<S> {
    #[inline]
    fn poll_read(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &mut ReadBuf<'_>,
    ) -> Poll<io::Result<()>> {
        Pin::new(&mut self.socket).poll_read(cx, buf)
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Paced<S> {
    #[inline]
    fn poll_write(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        buf: &[u8],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.socket).poll_write(cx, buf);
        self.watched(cx, written)
    }

    #[inline]
    fn poll_write_vectored(
        mut self: Pin<&mut Self>,
        cx: &mut Context<'_>,
        bufs: &[io::IoSlice<'_>],
    ) -> Poll<io::Result<usize>> {
        let written = Pin::new(&mut self.socket).poll_write_vectored(cx, bufs);
        self.watched(cx, written)
    }

    fn is_write_vectored(&self) -> bool {
        self.socket.is_write_vectored()
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.socket).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.socket).poll_shutdown(cx)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    /// Writes 40 KB to a side that reads so many bytes every two seconds.
    async fn written(reads: usize) -> io::Result<()> {
        let (ours, mut theirs) = tokio::io::duplex(1024);
        let reader = tokio::spawn(async move {
            let mut some = vec![0; reads];
            loop {
                tokio::time::sleep(Duration::from_secs(2)).await;
                if reads > 0 && !theirs.read(&mut some).await.is_ok_and(|n| n > 0) {
                    return;
                }
            }
        });
        let done = Paced::new(ours).write_all(&[7; 40_000]).await;
        reader.abort();
        done
    }

    #[tokio::test(start_paused = true)]
    async fn who_does_not_read_is_broken_off_and_who_reads_slowly_is_not() {
        let refused = written(0).await.unwrap_err();
        assert_eq!(refused.kind(), io::ErrorKind::TimedOut);
        assert!(written(1).await.is_err(), "one byte at a time");
        written(1024).await.unwrap();
    }
}
