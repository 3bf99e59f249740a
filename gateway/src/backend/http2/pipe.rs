//! Requests' bodies on their way by HTTP/2.

use std::future::poll_fn;
use std::pin::Pin;
use std::task::{Context, Poll, ready};

use bytes::Bytes;
use h2::{Reason, SendStream};
use http_body::Body;
use tokio::sync::oneshot;

use crate::body::OutBody;

/// A body that is being sent. When this is dropped, nobody waits for the answer any more, and the sending ends.
pub(super) struct Piping(
    #[expect(dead_code, reason = "it is there to be dropped")] oneshot::Sender<()>,
);

/// Sends a body that is there whole; what the other side has no room for yet waits in the connection (RFC 9113 §5.2).
pub(super) fn whole(mut to: SendStream<Bytes>, bytes: Bytes) -> Result<(), h2::Error> {
    to.send_data(bytes, true)
}

/// Begins to send a body as it comes.
pub(super) fn begin(mut to: SendStream<Bytes>, mut body: OutBody) -> Piping {
    let (piping, mut over) = oneshot::channel();
    tokio::task::spawn_local(async move {
        poll_fn(|cx| {
            if Pin::new(&mut over).poll(cx).is_ready() {
                to.send_reset(Reason::CANCEL);
                return Poll::Ready(());
            }
            send(&mut to, &mut body, cx)
        })
        .await;
    });
    Piping(piping)
}

/// Sends what there is and what there is room for; ready when the body has ended, or the other side wants no more of it.
fn send(to: &mut SendStream<Bytes>, body: &mut OutBody, cx: &mut Context<'_>) -> Poll<()> {
    loop {
        // Nothing is asked of the caller before there is room for it.
        to.reserve_capacity(1);
        while to.capacity() == 0 {
            match ready!(to.poll_capacity(cx)) {
                Some(Ok(_)) => {}
                Some(Err(_)) | None => return Poll::Ready(()),
            }
        }
        if to.poll_reset(cx).is_ready() {
            return Poll::Ready(());
        }
        let frame = match ready!(Pin::new(&mut *body).poll_frame(cx)) {
            None => {
                // The room that was asked for is not needed.
                to.reserve_capacity(0);
                let _ = to.send_data(Bytes::new(), true);
                return Poll::Ready(());
            }
            Some(Err(_)) => {
                to.send_reset(Reason::INTERNAL_ERROR);
                return Poll::Ready(());
            }
            Some(Ok(frame)) => frame,
        };
        let ended = body.is_end_stream();
        let (sent, ended) = match frame.into_data() {
            Ok(data) => (to.send_data(data, ended), ended),
            Err(frame) => match frame.into_trailers() {
                Ok(trailers) => {
                    to.reserve_capacity(0);
                    (to.send_trailers(trailers), true)
                }
                Err(_) => continue,
            },
        };
        if sent.is_err() || ended {
            return Poll::Ready(());
        }
    }
}
