//! The outbox: takes letters by SMTP (RFC 5321) and sends none of them; a page shows what came.

use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};

use axum::extract::{Path, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Html;
use axum::routing::{get, options, post};
use axum::{Json, Router};
use mail_parser::MessageParser;
use serde::Serialize;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, AsyncWriteExt, BufReader};
use tokio::net::{TcpListener, TcpStream};

/// A letter may have at most so many bytes.
const LARGEST: usize = 1 << 20;
/// So many letters are shown.
const MOST: usize = 1000;

/// A letter as it came.
#[derive(Clone, Serialize)]
struct Letter {
    from: String,
    to: Vec<String>,
    subject: String,
    text: String,
}

/// An event as it came.
#[derive(Clone, Serialize)]
struct Event {
    fields: Vec<(String, String)>,
    body: String,
    /// What was answered.
    answered: u16,
}

#[derive(Clone, Default)]
struct Outbox {
    letters: Arc<Mutex<Vec<Letter>>>,
    events: Arc<Mutex<Vec<Event>>>,
}

impl Outbox {
    fn all(&self) -> Vec<Letter> {
        let letters = self.letters.lock();
        letters.unwrap_or_else(PoisonError::into_inner).clone()
    }

    fn keep(&self, from: &str, to: &[String], bytes: &[u8]) {
        let message = MessageParser::default().parse(bytes);
        let text = message.as_ref().and_then(|m| m.body_text(0));
        let letter = Letter {
            from: from.to_owned(),
            to: to.to_vec(),
            subject: message
                .as_ref()
                .and_then(|m| m.subject())
                .unwrap_or_default()
                .to_owned(),
            text: text.map_or_else(String::new, |t| t.replace("\r\n", "\n")),
        };
        let mut letters = self.letters.lock().unwrap_or_else(PoisonError::into_inner);
        letters.push(letter);
        let over = letters.len().saturating_sub(MOST);
        letters.drain(..over);
    }
}

/// Serves the outbox until `stop` is done; gives where it takes letters, where it shows them, and the server.
///
/// # Errors
/// When one of the addresses cannot be listened on.
pub async fn serve_outbox(
    smtp: SocketAddr,
    page: SocketAddr,
    stop: impl Future<Output = ()> + Send + 'static,
) -> std::io::Result<(
    SocketAddr,
    SocketAddr,
    impl Future<Output = std::io::Result<()>>,
)> {
    let outbox = Outbox::default();
    let (smtp, page) = (
        TcpListener::bind(smtp).await?,
        TcpListener::bind(page).await?,
    );
    let (at, shown) = (smtp.local_addr()?, page.local_addr()?);
    let routes = Router::new()
        .route("/", get(show))
        .route("/letters", get(list).delete(forget))
        .route("/events", get(events).post(take_event).options(agree))
        .route("/events/{status}", post(refuse_event).options(agree))
        .route("/strangers", options(StatusCode::OK).post(StatusCode::OK))
        .with_state(outbox.clone());
    let server = async move {
        let taking = async {
            loop {
                if let Ok((stream, _)) = smtp.accept().await {
                    let outbox = outbox.clone();
                    tokio::spawn(async move { session(stream, &outbox).await });
                }
            }
        };
        let showing = axum::serve(page, routes).with_graceful_shutdown(stop);
        tokio::select! {
            () = taking => Ok(()),
            ended = showing.into_future() => ended,
        }
    };
    Ok((at, shown, server))
}

async fn list(State(outbox): State<Outbox>) -> Json<Vec<Letter>> {
    Json(outbox.all())
}

async fn forget(State(outbox): State<Outbox>) -> StatusCode {
    outbox
        .letters
        .lock()
        .unwrap_or_else(PoisonError::into_inner)
        .clear();
    StatusCode::NO_CONTENT
}

/// Agrees to be sent events by whoever asks (CloudEvents HTTP Webhook §4.2).
async fn agree(headers: HeaderMap) -> (StatusCode, HeaderMap) {
    let mut fields = HeaderMap::new();
    if let Some(origin) = headers.get("webhook-request-origin") {
        fields.insert("webhook-allowed-origin", origin.clone());
    }
    (StatusCode::NO_CONTENT, fields)
}

impl Outbox {
    fn keep_event(&self, headers: &HeaderMap, body: String, answered: StatusCode) {
        let text = |v: &axum::http::HeaderValue| String::from_utf8_lossy(v.as_bytes()).into_owned();
        let fields = headers
            .iter()
            .map(|(n, v)| (n.as_str().to_owned(), text(v)));
        let event = Event {
            fields: fields.collect(),
            body,
            answered: answered.as_u16(),
        };
        let mut events = self.events.lock().unwrap_or_else(PoisonError::into_inner);
        events.push(event);
        let over = events.len().saturating_sub(MOST);
        events.drain(..over);
    }
}

async fn take_event(State(outbox): State<Outbox>, headers: HeaderMap, body: String) -> StatusCode {
    outbox.keep_event(&headers, body, StatusCode::NO_CONTENT);
    StatusCode::NO_CONTENT
}

/// Answers an event with a status that was asked for.
async fn refuse_event(
    State(outbox): State<Outbox>,
    Path(status): Path<u16>,
    headers: HeaderMap,
    body: String,
) -> StatusCode {
    let status = StatusCode::from_u16(status).unwrap_or(StatusCode::BAD_REQUEST);
    outbox.keep_event(&headers, body, status);
    status
}

async fn events(State(outbox): State<Outbox>) -> Json<Vec<Event>> {
    let events = outbox.events.lock();
    Json(events.unwrap_or_else(PoisonError::into_inner).clone())
}

async fn show(State(outbox): State<Outbox>) -> Html<String> {
    let plain = |text: &str| text.replace('&', "&amp;").replace('<', "&lt;");
    let one = |l: &Letter| {
        let text: Vec<String> = l
            .text
            .lines()
            .map(
                |line| match line.starts_with("http://") || line.starts_with("https://") {
                    true => format!(
                        "<a href=\"{0}\">{0}</a>",
                        plain(line).replace('"', "&quot;")
                    ),
                    false => plain(line),
                },
            )
            .collect();
        format!(
            "<article><h2>{}</h2><p>to {}</p><pre>{}</pre></article>",
            plain(&l.subject),
            plain(&l.to.join(", ")),
            text.join("\n")
        )
    };
    let letters: String = outbox.all().iter().rev().map(one).collect();
    let letters = if letters.is_empty() {
        "<p>No letters yet.</p>".into()
    } else {
        letters
    };
    let events = outbox.events.lock().unwrap_or_else(PoisonError::into_inner);
    let one = |e: &Event| {
        let signature = e.fields.iter().find(|(n, _)| n == "signature-input");
        let signature = signature.map_or("", |(_, v)| v);
        format!(
            "<article><h2>Event, answered {}</h2><pre>{}</pre><p><small>{}</small></p></article>",
            e.answered,
            plain(&e.body),
            plain(signature)
        )
    };
    let events: String = events.iter().rev().map(one).collect();
    let letters = format!("{letters}{events}");
    Html(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Outbox of Skerry Line</title><style>body{{font:15px/1.5 system-ui;max-width:46rem;margin:2rem auto;padding:0 1rem}}article{{border-top:1px solid #ccc}}h2{{font-size:1.1rem}}pre{{white-space:pre-wrap}}</style><h1>Outbox</h1>{letters}</html>"
    ))
}

/// One session, as much of RFC 5321 §4.5.1 as must be.
async fn session(stream: TcpStream, outbox: &Outbox) {
    let _ = talk(stream, outbox).await;
}

async fn talk(stream: TcpStream, outbox: &Outbox) -> std::io::Result<()> {
    let (reading, mut writing) = stream.into_split();
    let mut lines = BufReader::new(reading);
    writing
        .write_all(b"220 outbox.skerry.example ready\r\n")
        .await?;
    let (mut from, mut to) = (String::new(), Vec::new());
    loop {
        let mut line = String::new();
        // Text line, RFC 5321 §4.5.3.1.6.
        if (&mut lines).take(1000).read_line(&mut line).await? == 0 {
            return Ok(());
        }
        let upper = line.trim().to_ascii_uppercase();
        let path = line.split(['<', '>']).nth(1).unwrap_or_default().to_owned();
        let answer = match upper.split([' ', ':']).next().unwrap_or_default() {
            "EHLO" => "250-outbox.skerry.example\r\n250 8BITMIME",
            "HELO" | "NOOP" => "250 outbox.skerry.example",
            "RSET" => {
                to.clear();
                "250 OK"
            }
            "MAIL" => {
                from = path;
                to.clear();
                "250 OK"
            }
            "RCPT" if to.len() < 100 => {
                to.push(path);
                "250 OK"
            }
            "DATA" if !to.is_empty() => {
                writing.write_all(b"354 go on\r\n").await?;
                match data(&mut lines).await? {
                    Some(bytes) => {
                        outbox.keep(&from, &to, &bytes);
                        "250 OK"
                    }
                    None => "552 too large",
                }
            }
            "QUIT" => {
                writing.write_all(b"221 bye\r\n").await?;
                return Ok(());
            }
            "RCPT" | "DATA" => "503 not now",
            _ => "502 not known here",
        };
        writing.write_all(answer.as_bytes()).await?;
        writing.write_all(b"\r\n").await?;
    }
}

/// A letter until the line with a dot alone, doubled dots undone (RFC 5321 §4.5.2).
async fn data(
    lines: &mut BufReader<tokio::net::tcp::OwnedReadHalf>,
) -> std::io::Result<Option<Vec<u8>>> {
    let mut all = Vec::new();
    let mut large = false;
    loop {
        let mut line = Vec::new();
        if (&mut *lines)
            .take(64 << 10)
            .read_until(b'\n', &mut line)
            .await?
            == 0
        {
            return Ok(None);
        }
        if line == b".\r\n" || line == b".\n" {
            return Ok((!large).then_some(all));
        }
        let line = line.strip_prefix(b".").unwrap_or(&line);
        large |= all.len() + line.len() > LARGEST;
        if !large {
            all.extend_from_slice(line);
        }
    }
}
