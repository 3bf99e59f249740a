//! Prepare: the backend's request.

use bytes::Bytes;
use http::Method;
use http::request::Parts;
use http::{HeaderMap, HeaderName, HeaderValue, Request, Uri, Version, header};
use porch_facade::{
    CompiledBackend, HeaderRule, HttpWiring, MediaType, PathPart, SoapWiring,
    percent_encode_segment,
};
use porch_rules::expr::EvalError;
use porch_soap::tree::Json;
use serde_json::Value;

use crate::admit;
use crate::media;
use crate::problem::Problem;
use crate::request_body::OutBody;
use crate::scope::Values;

/// Header fields that end at the porch (RFC 9110 §7.6.1), and those it writes anew.
const HOP_BY_HOP: [HeaderName; 10] = [
    header::CONNECTION,
    HeaderName::from_static("keep-alive"),
    HeaderName::from_static("proxy-connection"),
    header::PROXY_AUTHENTICATE,
    header::PROXY_AUTHORIZATION,
    header::TE,
    header::TRAILER,
    header::TRANSFER_ENCODING,
    header::UPGRADE,
    header::FORWARDED,
];

/// Removes what must not travel further: hop-by-hop fields and those that `Connection` names.
pub(crate) fn strip_hop_by_hop(headers: &mut HeaderMap) {
    let named: Vec<HeaderName> = named_by_connection(headers).collect();
    for name in named {
        headers.remove(name);
    }
    for name in &HOP_BY_HOP {
        headers.remove(name);
    }
}

/// The caller's header fields that travel on, with room for more.
pub(crate) fn forwarded_fields(
    from: &HeaderMap,
    key_header: &HeaderName,
    room: usize,
) -> HeaderMap {
    let mut headers = HeaderMap::with_capacity(from.len() + room);
    for (name, value) in from {
        let ends_here = name == key_header
            || name == header::HOST
            || name == header::EXPECT
            || HOP_BY_HOP.contains(name);
        if !ends_here {
            headers.append(name.clone(), value.clone());
        }
    }
    for named in named_by_connection(from) {
        headers.remove(named);
    }
    headers
}

/// The fields that `Connection` names.
fn named_by_connection(headers: &HeaderMap) -> impl Iterator<Item = HeaderName> + '_ {
    let values = headers
        .get_all(header::CONNECTION)
        .into_iter()
        .filter_map(|v| v.to_str().ok());
    values
        .flat_map(|v| v.split(','))
        .filter_map(|n| n.trim().parse().ok())
}

/// What every backend request carries.
pub(crate) struct Common<'a> {
    pub(crate) backend: &'a CompiledBackend,
    pub(crate) traceparent: &'a HeaderValue,
    pub(crate) forwarded: HeaderValue,
}

const TRACEPARENT: HeaderName = HeaderName::from_static("traceparent");

impl Common<'_> {
    fn finish(&self, headers: &mut HeaderMap) {
        headers.insert(header::HOST, self.backend.host.clone());
        headers.insert(header::FORWARDED, self.forwarded.clone());
        headers.insert(TRACEPARENT, self.traceparent.clone());
        for (name, value) in &self.backend.headers {
            headers.insert(name.clone(), value.clone());
        }
    }
}

/// A failed expression of a request: the caller's values are at fault.
pub(crate) fn unsuitable(
    values: &Values<'_>,
    place: &str,
    (source, error): (String, EvalError),
) -> Box<Problem> {
    Problem::new(
        400,
        "contract",
        "The request cannot be used",
        format!("{place} cannot be made from the request: {error}."),
        "prepare",
    )
    .why(format!("{place}: ={source}: {error}"))
    .by(&values.operation.place)
}

/// What the caller asked for.
pub(crate) struct Asked<'a> {
    pub(crate) parts: &'a Parts,
    /// The segments that the path variables took.
    pub(crate) captured: &'a [&'a str],
    /// Header field that carries the key.
    pub(crate) key_header: &'a HeaderName,
    /// Whether the caller's body is sent on in the backend's media type.
    pub(crate) convert: bool,
}

/// What a backend's bodies are.
pub(crate) fn speaks(wiring: &HttpWiring) -> MediaType {
    if wiring.xml.is_some() {
        MediaType::Xml
    } else {
        MediaType::Json
    }
}

/// A value as a body for the backend.
fn own_body(
    wiring: &HttpWiring,
    value: &Value,
    values: &Values<'_>,
    headers: &mut HeaderMap,
) -> Result<OutBody, Box<Problem>> {
    let kind = speaks(wiring);
    let mapping = wiring.xml.clone().unwrap_or_default();
    let bytes = media::render(kind, value, &mapping).map_err(|errors| {
        let list = errors
            .into_iter()
            .map(|e| (format!("/body{}", e.pointer), e.message))
            .collect();
        admit::mistakes(list, values.operation, "prepare")
    })?;
    headers.insert(
        header::CONTENT_TYPE,
        HeaderValue::from_static(media::name(kind)),
    );
    Ok(OutBody::Full(Some(bytes.into())))
}

/// The request of an HTTP call, without its body.
pub(crate) fn http_request(
    wiring: &HttpWiring,
    common: &Common<'_>,
    values: &Values<'_>,
    asked: &Asked<'_>,
) -> Result<Request<OutBody>, Box<Problem>> {
    let mut target = String::with_capacity(64);
    target.push_str(&common.backend.path);
    for part in &wiring.path {
        match part {
            PathPart::Fixed(text) => target.push_str(text),
            // Captured segments are normalised already, so they are passed on as they stand.
            PathPart::Captured(i) | PathPart::CapturedRest(i) => {
                target.push_str(asked.captured.get(*i).copied().unwrap_or_default())
            }
            PathPart::Value(expr) => {
                let value = expr
                    .eval(values)
                    .map_err(|e| unsuitable(values, "the path", (expr.source().to_owned(), e)))?;
                let text = value.to_text().unwrap_or_default();
                if text.is_empty() || text == "." || text == ".." {
                    let error =
                        EvalError::Type("a path segment is neither empty nor made of dots".into());
                    return Err(unsuitable(
                        values,
                        "the path",
                        (expr.source().to_owned(), error),
                    ));
                }
                percent_encode_segment(&mut target, &text);
            }
        }
    }
    if target.is_empty() {
        target.push('/');
    }
    match &wiring.query {
        None => {
            if let Some(query) = asked.parts.uri.query() {
                target.push('?');
                target.push_str(query);
            }
        }
        Some(pairs) => {
            let mut mark = '?';
            for (name, template) in pairs {
                let Some(text) = template
                    .render_text(values)
                    .map_err(|e| unsuitable(values, name, e))?
                else {
                    continue;
                };
                target.push(mark);
                mark = '&';
                percent_encode_segment(&mut target, name);
                target.push('=');
                percent_encode_segment(&mut target, &text);
            }
        }
    }
    let mut headers = forwarded_fields(
        &asked.parts.headers,
        asked.key_header,
        wiring.headers.len() + 8,
    );
    for (name, rule) in &wiring.headers {
        let text = match rule {
            HeaderRule::Set(value) => {
                headers.insert(name.clone(), value.clone());
                continue;
            }
            HeaderRule::Make(template) => template
                .render_text(values)
                .map_err(|e| unsuitable(values, name.as_str(), e))?,
        };
        match text.map(|t| HeaderValue::from_str(&t)) {
            Some(Ok(value)) => drop(headers.insert(name.clone(), value)),
            Some(Err(_)) => {
                return Err(unsuitable(
                    values,
                    name.as_str(),
                    (
                        String::new(),
                        EvalError::Type("the text cannot stand in a header".into()),
                    ),
                ));
            }
            None => drop(headers.remove(name)),
        }
    }
    let mut body = OutBody::Empty;
    if let Some(template) = &wiring.body {
        let value = template
            .render(values)
            .map_err(|e| unsuitable(values, "the body", e))?;
        headers.remove(header::CONTENT_LENGTH);
        headers.remove(header::CONTENT_ENCODING);
        if let Some(value) = value {
            body = own_body(wiring, &value, values, &mut headers)?;
        }
    } else if let (Some(value), true) = (&values.body, asked.convert) {
        headers.remove(header::CONTENT_LENGTH);
        headers.remove(header::CONTENT_ENCODING);
        body = own_body(wiring, value, values, &mut headers)?;
    }
    if values.operation.media.is_some() {
        headers.insert(
            header::ACCEPT,
            HeaderValue::from_static(media::name(speaks(wiring))),
        );
    }
    if wiring.reply.is_some() || values.operation.media.is_some() {
        // The answer must be readable here.
        headers.remove(header::ACCEPT_ENCODING);
    }
    common.finish(&mut headers);
    let method = wiring
        .method
        .clone()
        .unwrap_or_else(|| asked.parts.method.clone());
    request(method, &target, headers, body, values)
}

fn request(
    method: Method,
    target: &str,
    headers: HeaderMap,
    body: OutBody,
    values: &Values<'_>,
) -> Result<Request<OutBody>, Box<Problem>> {
    let uri: Uri = target.parse().map_err(|_| {
        Problem::new(
            400,
            "contract",
            "The request cannot be used",
            "No valid address can be made from the request.",
            "prepare",
        )
        .why(format!("“{target}” is no valid request target"))
        .by(&values.operation.place)
    })?;
    let mut request = Request::new(body);
    *request.method_mut() = method;
    *request.uri_mut() = uri;
    *request.version_mut() = Version::HTTP_11;
    *request.headers_mut() = headers;
    Ok(request)
}

/// The request of a SOAP call: itself, its envelope, and its input in JSON for the trace when `shown`.
pub(crate) fn soap_request(
    wiring: &SoapWiring,
    common: &Common<'_>,
    values: &Values<'_>,
    raw: Option<&[u8]>,
    shown: bool,
) -> Result<(Request<OutBody>, Bytes, String), Box<Problem>> {
    let built;
    let input = match raw {
        Some(raw) => Json::parse(raw).map_err(|e| {
            admit::mistakes(
                vec![("/body".into(), format!("is no JSON: {e}"))],
                values.operation,
                "admit",
            )
        })?,
        None => {
            built = wiring
                .send
                .render(values)
                .map_err(|e| unsuitable(values, "the input", e))?
                .unwrap_or(Value::Null);
            Json::of(&built)
        }
    };
    let soap_headers = match &wiring.headers {
        Some(template) => template
            .render(values)
            .map_err(|e| unsuitable(values, "the SOAP header", e))?,
        None => None,
    };
    let mut security = Vec::new();
    if let Some(token) = &common.backend.token {
        let mut nonce = [0u8; 16];
        getrandom::fill(&mut nonce).map_err(|_| {
            Problem::new(
                503,
                "random",
                "Not now",
                "No random numbers can be had.",
                "prepare",
            )
            .by(&values.operation.place)
        })?;
        let now = chrono::Utc::now()
            .format("%Y-%m-%dT%H:%M:%S%.3fZ")
            .to_string();
        token.write(&nonce, &now, &mut security);
    }
    let mut envelope = Vec::with_capacity(1024);
    if let Err(errors) =
        wiring
            .envelope
            .write_with(&input, soap_headers.as_ref(), &security, &mut envelope)
    {
        let list = errors
            .into_iter()
            .map(|e| (format!("/body{}", e.pointer), e.message))
            .collect();
        return Err(admit::mistakes(list, values.operation, "prepare"));
    }
    let bytes = Bytes::from(envelope);
    let mut headers = HeaderMap::with_capacity(8);
    if let Ok(value) = HeaderValue::from_str(&wiring.envelope.content_type) {
        headers.insert(header::CONTENT_TYPE, value);
    }
    if let Some(Ok(value)) = wiring
        .envelope
        .soap_action
        .as_deref()
        .map(HeaderValue::from_str)
    {
        headers.insert(HeaderName::from_static("soapaction"), value);
    }
    headers.insert(
        header::ACCEPT,
        HeaderValue::from_static("text/xml, application/soap+xml, multipart/related"),
    );
    headers.insert(header::ACCEPT_ENCODING, HeaderValue::from_static("gzip"));
    common.finish(&mut headers);
    let path = if common.backend.path.is_empty() {
        "/"
    } else {
        &common.backend.path
    };
    let request = request(
        Method::POST,
        path,
        headers,
        OutBody::Full(Some(bytes.clone())),
        values,
    )?;
    let input = if shown {
        input.to_value().to_string()
    } else {
        String::new()
    };
    Ok((request, bytes, input))
}
