//! Sample calls: made once each, as they are written, and what follows from the answers.

use std::time::Instant;

use ::http::{HeaderName, HeaderValue, Request};
use bytes::Bytes;
use http_body_util::Full;
use porch_facade::{Files, Source};
use porch_sample::{Answer, Call, Exchange, learn};
use url::{Position, Url};

use crate::http::{Got, exchange};
use crate::{Allowed, FetchError, TIME, shown};

/// What was learned of sample calls.
#[derive(Debug)]
pub struct Sampled {
    /// The description that follows from them, and the credentials that they carried.
    pub source: Source,
    /// What there is to know of them, in words.
    pub told: Vec<String>,
}

/// All answers together have at most so many bytes.
const MAX_TOTAL: usize = 4 << 20;

/// Fields that belong to a connection or to what a browser keeps; a call of ours has its own (RFC 9110 §7.6.1, §13.1). Codings
/// are not asked for: what comes must be read.
const NOT_SENT: [&str; 14] = [
    "connection",
    "content-length",
    "transfer-encoding",
    "te",
    "trailer",
    "upgrade",
    "keep-alive",
    "expect",
    "accept-encoding",
    "if-none-match",
    "if-modified-since",
    "if-match",
    "if-range",
    "proxy-connection",
];

/// Whether a text is a sample call.
pub fn is_sample(text: &str) -> bool {
    porch_sample::is_command(text)
}

/// Makes the calls of a text, one after the other, and learns from what comes back. An address alone is asked by GET.
///
/// # Errors
/// When the text is no sample, or a call gets no answer.
pub async fn sample(text: &str, allowed: &Allowed) -> Result<Sampled, FetchError> {
    let calls = match is_sample(text) {
        true => porch_sample::read_commands(text).map_err(FetchError::Sample)?,
        false => vec![Call {
            method: "GET".into(),
            url: text.trim().to_owned(),
            ..Call::default()
        }],
    };
    let until = Instant::now() + TIME;
    let (mut exchanges, mut told, mut total) = (Vec::new(), Vec::new(), 0);
    // The server of the first one is the one that a login and a certificate beside the samples are for.
    let (mut own, elsewhere) = (None, allowed.elsewhere());
    for mut call in calls {
        let url = address(&call)?;
        let origin = url.origin();
        let allowed = match *own.get_or_insert_with(|| origin.clone()) == origin {
            true => allowed,
            false => &elsewhere,
        };
        add_login(&mut call, allowed)?;
        let got = exchange(&url, request(&url, &call)?, allowed, until).await?;
        total += got.body.len();
        if total > MAX_TOTAL {
            let what = format!("the answers have more than {MAX_TOTAL} bytes");
            return Err(FetchError::TooMuch(shown(&url), what));
        }
        told.extend(worth_telling(&url, &got));
        exchanges.push(exchanged(call, got));
    }
    // Not on the threads that wait for others.
    let learned = tokio::task::spawn_blocking(move || learn(&exchanges, None)).await;
    let learned = learned.map_err(|e| FetchError::Answer("the sample".into(), e.to_string()))?;
    told.extend(learned.told);
    let main = "sample.openapi.json".to_owned();
    let source = Source {
        files: Files::from([(main.clone(), learned.text)]),
        main,
        made: true,
        trust: allowed.trust.clone(),
        credentials: learned.credentials,
        ..Source::default()
    };
    Ok(Sampled { source, told })
}

/// A login that was given beside the sample is for its address, and one of its credentials.
fn add_login(call: &mut Call, allowed: &Allowed) -> Result<(), FetchError> {
    let has = |(name, _): &(String, String)| name.eq_ignore_ascii_case("authorization");
    if let (Some((name, password)), false) = (&allowed.login, call.fields.iter().any(has)) {
        let bad = |what| FetchError::Address(bare(call).to_owned(), what);
        let value = crate::basic(name, password).map_err(bad)?;
        let value = String::from_utf8_lossy(value.as_bytes()).into_owned();
        call.fields.push(("Authorization".into(), value));
    }
    Ok(())
}

/// The address of a call without its query, which may hold a secret.
fn bare(call: &Call) -> &str {
    call.url.split('?').next().unwrap_or_default()
}

fn address(call: &Call) -> Result<Url, FetchError> {
    let url = Url::parse(&call.url);
    let url = url.map_err(|e| FetchError::Address(bare(call).to_owned(), e.to_string()))?;
    crate::check(&url)?;
    Ok(url)
}

fn request(url: &Url, call: &Call) -> Result<Request<Full<Bytes>>, FetchError> {
    let bad = |what: String| FetchError::Address(shown(url), what);
    let target = &url[Position::BeforePath..Position::AfterQuery];
    let body = call.body.clone().unwrap_or_default();
    let length = body.len();
    let request = Request::builder().method(call.method.as_str()).uri(target);
    let request = request.body(Full::from(body));
    let mut request = request.map_err(|e| bad(e.to_string()))?;
    let headers = request.headers_mut();
    for (name, value) in &call.fields {
        let lower = name.to_ascii_lowercase();
        if NOT_SENT.contains(&lower.as_str()) {
            continue;
        }
        let name: HeaderName = lower
            .parse()
            .map_err(|_| bad(format!("“{name}” is no name of a header field")))?;
        let told = format!("the value of {name} cannot stand in a header field");
        let value = HeaderValue::from_str(value).map_err(|_| bad(told))?;
        headers.append(name, value);
    }
    if !headers.contains_key(::http::header::ACCEPT) {
        let accept = HeaderValue::from_static("application/json, */*;q=0.5");
        headers.insert(::http::header::ACCEPT, accept);
    }
    if call.body.is_some() {
        headers.insert(::http::header::CONTENT_LENGTH, HeaderValue::from(length));
    }
    Ok(request)
}

/// What a publisher should know of an answer before it becomes a contract.
fn worth_telling(url: &Url, got: &Got) -> Option<String> {
    let place = &url[Position::BeforePath..Position::AfterPath];
    let status = got.status;
    if status.is_redirection() {
        let to = got.fields.get(::http::header::LOCATION);
        let to = to
            .and_then(|v| v.to_str().ok())
            .and_then(|l| url.join(l).ok());
        // What stands in the query may be a secret.
        let to = to.map_or_else(String::new, |to| {
            format!(" and leads to {}", &to[..Position::AfterPath])
        });
        return Some(format!(
            "{place} answers {status}{to}: no redirect is followed, give the address that answers"
        ));
    }
    if !status.is_success() {
        return Some(format!(
            "{place} answers {status}: the contract follows from that as well"
        ));
    }
    None
}

fn exchanged(call: Call, got: Got) -> Exchange {
    let fields = got.fields.iter();
    let fields = fields.map(|(name, value)| {
        let value = String::from_utf8_lossy(value.as_bytes()).into_owned();
        (name.to_string(), value)
    });
    Exchange {
        call,
        answer: Some(Answer {
            status: got.status.as_u16(),
            fields: fields.collect(),
            body: got.body,
        }),
    }
}
