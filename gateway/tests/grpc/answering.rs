//! What a server answers: its methods say what they do.

use super::*;

/// The text of field 1 of a message.
fn name_of(message: &[u8]) -> String {
    let rest = message.strip_prefix(b"\x0a").unwrap_or_default();
    let length = rest.first().copied().unwrap_or(0) as usize;
    rest.get(1..1 + length)
        .map_or_else(String::new, |t| String::from_utf8_lossy(t).into_owned())
}

pub(crate) async fn answer(
    request: Request<Incoming>,
    calls: Arc<AtomicUsize>,
    left: Arc<AtomicUsize>,
) -> Result<Response<Body>, Infallible> {
    calls.fetch_add(1, Ordering::SeqCst);
    let (head, mut body) = request.into_parts();
    let deadline = head.headers.get("grpc-timeout");
    let deadline = deadline
        .map_or("none", |v| v.to_str().unwrap_or("?"))
        .to_owned();
    let (sender, receiver) = tokio::sync::mpsc::channel(4);
    let mut response = Response::new(StreamBody::new(
        tokio_stream::wrappers::ReceiverStream::new(receiver),
    ));
    response
        .headers_mut()
        .insert("content-type", HeaderValue::from_static("application/grpc"));
    if head.uri.path().ends_with("/EchoBody") {
        // One that answers before it has all could be quicker than what is wrong with the rest.
        if let Ok(whole) = body.collect().await {
            let _ = sender.send(Ok(Frame::data(whole.to_bytes()))).await;
            let _ = sender.send(Ok(trailers("0"))).await;
        }
        return Ok(response);
    }
    if head.uri.path().contains("/Echo") {
        tokio::spawn(async move {
            // Frames go back as they come, whatever they are.
            while let Some(Ok(part)) = body.frame().await {
                if let Ok(data) = part.into_data()
                    && sender.send(Ok(Frame::data(data))).await.is_err()
                {
                    left.fetch_add(1, Ordering::SeqCst);
                    return;
                }
            }
            let _ = sender.send(Ok(trailers("0"))).await;
        });
        return Ok(response);
    }
    let asked = body
        .collect()
        .await
        .map(|c| c.to_bytes())
        .unwrap_or_default();
    let what = name_of(asked.get(5..).unwrap_or_default());
    let mut parts: Vec<Result<Frame<Bytes>, std::io::Error>> = Vec::new();
    let data = |b: Bytes| Ok(Frame::data(b));
    match what.as_str() {
        "status" => {
            *response.status_mut() = http::StatusCode::SERVICE_UNAVAILABLE;
            response
                .headers_mut()
                .insert("content-type", HeaderValue::from_static("text/html"));
            parts.push(data(Bytes::from_static(b"<html>")));
        }
        // Takes the second token that it is shown, and no other.
        "guarded" => match head.headers.get("authorization") {
            Some(shown) if shown == "Bearer t0k3n-2" => {
                parts.extend([data(frame(b"\x0a\x01a")), Ok(trailers("0"))]);
            }
            _ => {
                let status = HeaderValue::from_static("16");
                response.headers_mut().insert("grpc-status", status);
            }
        },
        "page" => {
            response
                .headers_mut()
                .insert("content-type", HeaderValue::from_static("text/html"));
            parts.push(data(Bytes::from_static(b"<html>")));
        }
        "no trailers" => parts.push(data(frame(b"\x0a\x01a"))),
        "empty trailers" => parts.extend([
            data(frame(b"\x0a\x01a")),
            Ok(Frame::trailers(HeaderMap::new())),
        ]),
        "nothing" => parts.push(Ok(trailers("0"))),
        "head only" => {
            let ended = HeaderValue::from_static("0");
            response.headers_mut().insert("grpc-status", ended);
            return Ok(response);
        }
        "twice" => parts.extend([
            data(frame(b"\x0a\x01a")),
            data(frame(b"\x0a\x01b")),
            Ok(trailers("0")),
        ]),
        "half" => parts.extend([data(frame(b"\x0a\x01a").slice(..6)), Ok(trailers("0"))]),
        "wrong message" => parts.extend([data(frame(b"\x08\x96\x01")), Ok(trailers("0"))]),
        "cut" => parts.extend([data(frame(b"\x0a\x7fa")), Ok(trailers("0"))]),
        "not utf-8" => parts.extend([data(frame(b"\x0a\x02\xff\xfe")), Ok(trailers("0"))]),
        "deep" => {
            // Places in places: 150 of them.
            let mut message = Vec::new();
            for _ in 0..150 {
                let mut outer = vec![0x12];
                let mut n = message.len();
                while n >= 0x80 {
                    outer.push(n as u8 | 0x80);
                    n >>= 7;
                }
                outer.push(n as u8);
                outer.extend_from_slice(&message);
                message = outer;
            }
            let mut odd = vec![
                0x22,
                (message.len() & 0x7f) as u8 | 0x80,
                (message.len() >> 7) as u8,
            ];
            odd.extend_from_slice(&message);
            parts.extend([data(frame(&odd)), Ok(trailers("0"))]);
        }
        "large" => parts.push(data(Bytes::from_static(b"\0\xff\xff\xff\xff"))),
        "unknown any" => parts.extend([
            data(frame(b"\x5a\x09\x0a\x05x/y.Z\x12\x00")),
            Ok(trailers("0")),
        ]),
        "absent value" => parts.extend([data(frame(b"\x52\x00")), Ok(trailers("0"))]),
        "mask" => parts.extend([data(frame(b"\x4a\x05\x0a\x03a_1")), Ok(trailers("0"))]),
        "breaks" => parts.extend([
            data(frame(b"\x0a\x01a")),
            Err(std::io::Error::other("on purpose")),
        ]),
        // So many that the first ones are through before it breaks.
        "breaks late" => {
            parts.extend((0..200_000).map(|_| data(frame(b"\x0a\x01a"))));
            parts.push(Err(std::io::Error::other("on purpose")));
        }
        // What the other side said of the time there is.
        "deadline" => parts.extend([
            data(frame(
                &[&[0x0a, deadline.len() as u8], deadline.as_bytes()].concat(),
            )),
            Ok(trailers("0")),
        ]),
        // Longer than the other side waits for an answer, and never silent for as long.
        "steady" => {
            tokio::spawn(async move {
                let mut pace = tokio::time::interval(Duration::from_millis(100));
                for _ in 0..8 {
                    pace.tick().await;
                    let _ = sender.send(Ok(Frame::data(frame(b"\x0a\x01a")))).await;
                }
                let _ = sender.send(Ok(trailers("0"))).await;
            });
            return Ok(response);
        }
        "silent" => {
            tokio::spawn(async move {
                let _ = sender.send(Ok(Frame::data(frame(b"\x0a\x01a")))).await;
                sender.closed().await;
                left.fetch_add(1, Ordering::SeqCst);
            });
            return Ok(response);
        }
        "gives up" => {
            let mut ended = trailers("9");
            let said = HeaderValue::from_static("the harbour is closed");
            ended.trailers_mut().unwrap().insert("grpc-message", said);
            parts.extend([data(frame(b"\x0a\x01a")), Ok(ended)]);
        }
        "never" => {
            // Not even a head: until the other side leaves, and this is thrown away.
            let _guard = Leaving(left);
            std::future::pending::<()>().await;
        }
        "endless" | "endless large" => {
            // 32 KiB of a name, or one letter.
            let large = [b"\x0a\x80\x80\x02".as_slice(), &[b'a'; 32 << 10]].concat();
            let message = match what.as_str() {
                "endless" => frame(b"\x0a\x01a"),
                _ => frame(&large),
            };
            tokio::spawn(async move {
                while sender.send(Ok(Frame::data(message.clone()))).await.is_ok() {}
                left.fetch_add(1, Ordering::SeqCst);
            });
            return Ok(response);
        }
        "code" => parts.push(Ok(trailers("8"))),
        "localized" => parts.push(Ok(localized())),
        other => parts.extend([
            data(frame(
                format!("\x0a{}{other}", other.len() as u8 as char).as_bytes(),
            )),
            Ok(trailers("0")),
        ]),
    }
    tokio::spawn(async move {
        for part in parts {
            let _ = sender.send(part).await;
        }
    });
    Ok(response)
}

/// RESOURCE_EXHAUSTED with a message for people who read logs, and one for those who call.
fn localized() -> Frame<Bytes> {
    let field = |tag: u8, bytes: &[u8]| [&[tag, bytes.len() as u8], bytes].concat();
    let message = [field(0x0a, b"de"), field(0x12, b"Zu viele Fragen")].concat();
    let kind = b"type.googleapis.com/google.rpc.LocalizedMessage";
    let any = [field(0x0a, kind), field(0x12, &message)].concat();
    let status = [vec![0x08, 0x08], field(0x1a, &any)].concat();
    let fields = [
        ("grpc-status", "8".to_owned()),
        ("grpc-message", "quota of questions".to_owned()),
        ("grpc-status-details-bin", porch_soap::to_base64(&status)),
    ];
    let fields = fields.map(|(name, value)| {
        let name = http::HeaderName::from_static(name);
        (name, HeaderValue::from_str(&value).unwrap())
    });
    Frame::trailers(HeaderMap::from_iter(fields))
}
