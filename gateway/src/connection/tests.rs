//! Connections of HTTP/1.1 with an exchange that does as a test says, on the virtual clock.

use std::cell::RefCell;
use std::future::Future;
use std::pin::Pin;

use bytes::Bytes;
use http_body_util::BodyExt;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpListener;
use tokio::time::Instant;

use super::*;
use crate::testing::on_virtual_clock;

type Exchange = Pin<Box<dyn Future<Output = ()>>>;

/// A connection that is served: each body goes to `exchange`, and when that is done the answer is `ok`.
struct Served {
    caller: TcpStream,
    /// What became of the exchanges: `done` or `gone`.
    ends: Rc<RefCell<Vec<&'static str>>>,
    connection: tokio::task::JoinHandle<()>,
    /// Held: without it the gateway stops.
    _run: watch::Sender<bool>,
}

/// Says what became of an exchange.
struct End(Rc<RefCell<Vec<&'static str>>>, &'static str);

impl End {
    fn is_done(&mut self) {
        self.1 = "done";
    }
}

impl Drop for End {
    fn drop(&mut self) {
        self.0.borrow_mut().push(self.1);
    }
}

async fn serve(exchange: impl Fn(CallersBody) -> Exchange + 'static) -> Served {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let caller = TcpStream::connect(listener.local_addr().unwrap());
    let (caller, accepted) = tokio::join!(caller, listener.accept());
    let accepted = CallersSocket::Plain(accepted.unwrap().0);
    let line = Line::new(accepted, PATIENCE);
    let ends = Rc::new(RefCell::new(Vec::new()));
    let (run, stop) = watch::channel(false);
    let seen = ends.clone();
    let connection = tokio::task::spawn_local(async move {
        let service = service_fn(|request: Request<Incoming>| {
            let mut end = End(seen.clone(), "gone");
            let exchange = exchange(line.begin(request.into_body()));
            async move {
                exchange.await;
                end.is_done();
                let ok = ReplyBody::Full(Some(Bytes::from_static(b"ok")));
                Ok::<_, Infallible>(Response::new(ok))
            }
        });
        requests(&line, service, stop).await;
    });
    Served {
        caller: caller.unwrap(),
        ends,
        connection,
        _run: run,
    }
}

/// An exchange that reads its request and is done.
fn reads(body: CallersBody) -> Exchange {
    Box::pin(async move { drop(body.collect().await) })
}

/// An exchange that reads its request and then waits for ever.
fn waits(body: CallersBody) -> Exchange {
    Box::pin(async move {
        drop(body.collect().await);
        std::future::pending::<()>().await;
    })
}

/// An exchange that looks at no body.
fn ignores(body: CallersBody) -> Exchange {
    drop(body);
    Box::pin(async {})
}

impl Served {
    async fn say(&mut self, text: &str) {
        self.caller.write_all(text.as_bytes()).await.unwrap();
    }

    /// Reads one answer.
    async fn answer(&mut self) -> String {
        let mut seen = Vec::new();
        while !seen.ends_with(b"\r\n\r\nok") {
            seen.push(self.caller.read_u8().await.unwrap());
        }
        String::from_utf8(seen).unwrap()
    }

    /// Seconds until the connection is ended from the other side.
    async fn ended(&mut self) -> u64 {
        let (start, mut rest) = (Instant::now(), Vec::new());
        let end = self.caller.read_to_end(&mut rest);
        let _ = tokio::time::timeout(Duration::from_secs(1000), end).await;
        assert_eq!(rest, b"", "nothing is said to whoever sends no request");
        start.elapsed().as_secs()
    }
}

const GET: &str = "GET / HTTP/1.1\r\nHost: porch.example\r\n\r\n";
const POST: &str = "POST / HTTP/1.1\r\nHost: porch.example\r\nContent-Length: 4\r\n\r\n";

#[test]
fn a_head_has_ten_seconds_and_each_of_them_anew() {
    on_virtual_clock(async {
        let mut silent = serve(reads).await;
        assert_eq!(silent.ended().await, 10);

        let mut half = serve(reads).await;
        half.say("GET / HT").await;
        tokio::time::sleep(Duration::from_secs(7)).await;
        half.say("TP/1.1\r\nHost:").await;
        assert_eq!(half.ended().await, 3, "a piece gives it no more time");

        let mut kept = serve(reads).await;
        for _ in 0..5 {
            tokio::time::sleep(Duration::from_secs(9)).await;
            kept.say(GET).await;
            assert!(kept.answer().await.starts_with("HTTP/1.1 200"));
        }
        assert_eq!(kept.ended().await, 10, "an idle one");
        assert_eq!(*kept.ends.borrow(), ["done"; 5]);
    });
}

#[test]
fn the_time_of_a_head_is_not_that_of_an_exchange_or_a_body() {
    on_virtual_clock(async {
        let mut long = serve(|body| {
            Box::pin(async move {
                drop(body.collect().await);
                tokio::time::sleep(Duration::from_secs(60)).await;
            })
        })
        .await;
        long.say(POST).await;
        tokio::time::sleep(Duration::from_secs(15)).await;
        long.say("four").await;
        assert!(long.answer().await.starts_with("HTTP/1.1 200"));
        assert_eq!(long.ended().await, 10);
    });
}

#[test]
fn a_body_that_nobody_reads_leaves_the_time_of_the_next_head() {
    on_virtual_clock(async {
        let mut idle = serve(ignores).await;
        idle.say(&format!("{POST}four")).await;
        assert!(idle.answer().await.starts_with("HTTP/1.1 200"));
        assert_eq!(idle.ended().await, 10);

        let mut refused = serve(ignores).await;
        refused.say(&format!("{POST}four")).await;
        assert!(refused.answer().await.starts_with("HTTP/1.1 200"));
        refused.say(GET).await;
        assert!(refused.answer().await.starts_with("HTTP/1.1 200"));
        assert_eq!(refused.ended().await, 10);
    });
}

#[test]
fn whoever_leaves_ends_the_exchange_and_whoever_sends_more_does_not() {
    for request in [GET.to_owned(), format!("{POST}four")] {
        let more = request.clone();
        on_virtual_clock(async move {
            let mut left = serve(waits).await;
            left.say(&more).await;
            // Nothing else runs, so the exchange is under way when this is over.
            tokio::time::sleep(Duration::from_secs(1)).await;
            left.say(GET).await;
            tokio::time::sleep(Duration::from_secs(100)).await;
            assert_eq!(*left.ends.borrow(), [""; 0], "more is no end");
        });
        on_virtual_clock(async move {
            let mut left = serve(waits).await;
            left.say(&request).await;
            tokio::time::sleep(Duration::from_secs(1)).await;
            drop(left.caller);
            let over = tokio::time::timeout(Duration::from_secs(5), left.connection).await;
            assert!(over.is_ok(), "an exchange runs on for nobody");
            assert_eq!(*left.ends.borrow(), ["gone"]);
        });
    }
}

#[test]
fn requests_that_come_early_are_answered_in_turn() {
    on_virtual_clock(async {
        let mut early = serve(|body| {
            Box::pin(async move {
                drop(body.collect().await);
                tokio::time::sleep(Duration::from_secs(1)).await;
            })
        })
        .await;
        early.say(&format!("{GET}{POST}four")).await;
        early.say(GET).await;
        for _ in 0..3 {
            assert!(early.answer().await.starts_with("HTTP/1.1 200"));
        }
        assert_eq!(early.ended().await, 10);
    });
}

#[test]
fn a_body_that_breaks_off_is_told_to_its_exchange() {
    on_virtual_clock(async {
        let told = Rc::new(RefCell::new(None));
        let tell = told.clone();
        let mut broken = serve(move |body| {
            let tell = tell.clone();
            Box::pin(async move {
                tokio::time::sleep(Duration::from_secs(2)).await;
                *tell.borrow_mut() = Some(body.collect().await.is_err());
            })
        })
        .await;
        broken.say(POST).await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        broken.caller.shutdown().await.unwrap();
        tokio::time::sleep(Duration::from_secs(5)).await;
        assert_eq!(*told.borrow(), Some(true));
    });
}
