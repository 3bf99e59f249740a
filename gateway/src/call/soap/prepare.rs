//! The request of a SOAP call: its envelope.

use bytes::Bytes;
use http::{HeaderValue, Method, Uri, header};
use porch_facade::kind::soap::SoapCall;
use porch_soap::TextError;
use porch_soap::tree::Json;
use serde_json::Value;

use crate::answer::Seen;
use crate::body::OutBody;
use crate::call::{CallerBody, Context, Prepared};
use crate::failure::Failure;
use crate::fields::SOAP_ACTION;
use crate::outgoing::{Fields, Outgoing};

const ACCEPT: HeaderValue =
    HeaderValue::from_static("text/xml, application/soap+xml, multipart/related");
const GZIP: HeaderValue = HeaderValue::from_static("gzip");

pub(super) fn prepare(
    call: &SoapCall,
    cx: &Context<'_>,
    body: &CallerBody,
) -> Result<Prepared, Failure> {
    let raw = body
        .bytes()
        .filter(|b| call.direct && cx.scope.body.is_none() && !b.is_empty());
    let input = match raw {
        Some(raw) => Input::Text(raw),
        None => {
            let sent = call.send.render(cx.scope);
            let sent = sent.map_err(|e| Failure::unsuitable("the input", e))?;
            Input::Built(sent.unwrap_or(Value::Null))
        }
    };
    let envelope = Bytes::from(envelope(call, cx, &input)?);
    let mut seen = Seen::default();
    if cx.keep {
        let input = match input {
            Input::Text(raw) => Json::parse(raw).map_or(Value::Null, |json| json.to_value()),
            Input::Built(value) => value,
        };
        seen.notes
            .push(format!("the input of {} in JSON: {input}", call.operation));
        seen.body = Some(envelope.to_vec());
    }
    let path = match cx.address.path.as_str() {
        "" => "/",
        path => path,
    };
    let uri: Uri = path.parse().map_err(|_| Failure::Target(path.to_owned()))?;
    let request = Outgoing {
        method: Method::POST,
        uri,
        fields: fields(call),
        body: OutBody::Full(Some(envelope)),
    };
    Ok(Prepared {
        request,
        within: cx.backend.timeout,
        again: false,
        complaint: None,
        seen,
    })
}

/// What becomes the body of the envelope.
enum Input<'b> {
    /// The caller's own body.
    Text(&'b [u8]),
    /// A value made by the operation's wiring.
    Built(Value),
}

fn envelope(call: &SoapCall, cx: &Context<'_>, input: &Input<'_>) -> Result<Vec<u8>, Failure> {
    let soap_headers = match &call.headers {
        Some(template) => template
            .render(cx.scope)
            .map_err(|e| Failure::unsuitable("the SOAP header", e))?,
        None => None,
    };
    let mut security = Vec::new();
    if let Some(token) = &cx.backend.credentials.token {
        let mut nonce = [0u8; 16];
        getrandom::fill(&mut nonce).map_err(|_| Failure::NoRandom)?;
        let now = chrono::Utc::now()
            .format("%Y-%m-%dT%H:%M:%S%.3fZ")
            .to_string();
        token.write(&nonce, &now, &mut security);
    }
    let mut envelope = Vec::with_capacity(1024);
    let (writer, headers) = (&call.envelope, soap_headers.as_ref());
    let written = match input {
        Input::Text(raw) => writer.write_text(raw, headers, &security, &mut envelope),
        Input::Built(value) => writer
            .write_with(&Json::of(value), headers, &security, &mut envelope)
            .map_err(TextError::Values),
    };
    match written {
        Ok(()) => Ok(envelope),
        Err(e @ TextError::Json(_)) => Err(Failure::body(e.to_string())),
        Err(TextError::Values(errors)) => {
            let place = |e: porch_soap::WriteError| {
                let part = if e.header { "/soap-headers" } else { "/body" };
                (format!("{part}{}", e.pointer), e.message)
            };
            Err(Failure::Mistakes(errors.into_iter().map(place).collect()))
        }
    }
}

fn fields(call: &SoapCall) -> Fields {
    let mut fields = Fields::with_capacity(10);
    if let Ok(value) = HeaderValue::from_str(&call.envelope.content_type) {
        fields.append(header::CONTENT_TYPE, value);
    }
    let action = call.envelope.soap_action.as_deref();
    if let Some(Ok(value)) = action.map(HeaderValue::from_str) {
        fields.append(SOAP_ACTION, value);
    }
    fields.append(header::ACCEPT, ACCEPT);
    fields.append(header::ACCEPT_ENCODING, GZIP);
    fields
}
