//! Whether a reply keeps to the contract, where somebody wants to know.
//!
//! All of it lies aside: replies that are not looked at have no room for it.

use bytes::Bytes;
use http::{Method, Response, StatusCode};
use http_body_util::BodyExt;
use porch_facade::{AnswersPlan, CompiledOperation, MediaType};

use crate::answer::{MAX_ANSWER, json_of};
use crate::body::ReplyBody;
use crate::call::coding;
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::media;
use crate::problem::{Problem, not_as_agreed, of_failure};
use crate::steps::body::{Known, known};
use crate::steps::request::Request;
use crate::trace::{StageName, sensitive};

/// So many mistakes of a reply are told.
const TOLD: usize = 20;

/// A reply that was held against the contract: it is passed on, or refused.
pub(crate) async fn keeps(
    x: &Exchange<'_>,
    request: &Request<'_>,
    plan: &AnswersPlan,
    response: Response<ReplyBody>,
) -> Result<Response<ReplyBody>, Box<Problem>> {
    // Callers who speak the backend's own protocol are told what that says.
    if request.native {
        return Ok(response);
    }
    let from = x.recorder.borrow().begin();
    let op = request.operation;
    let bare = request.parts.method == Method::HEAD || is_bare(response.status());
    let (response, misfits) = looked_at(x, op, plan, response, bare).await?;
    if misfits.is_empty() {
        x.recorder.borrow_mut().stage(StageName::Reply, from, |s| {
            s.notes.push("the reply fits the contract".into());
        });
        return Ok(response);
    }
    let told = format!(
        "the reply does not fit the contract: {}",
        misfits.join("; ")
    );
    let mut told = masked(x, request, told);
    if let Some(hidden) = &op.sensitive {
        sensitive::hide_in(&mut told, hidden);
    }
    if plan.refuse {
        return Err(not_as_agreed(op, told));
    }
    x.recorder.borrow_mut().stage(StageName::Reply, from, |s| {
        s.notes.push(told.clone());
    });
    *x.misfit.borrow_mut() = Some(told.into());
    Ok(response)
}

/// What is told of a reply says parts of it, and a backend may have said again what it was shown.
fn masked(x: &Exchange<'_>, request: &Request<'_>, mut told: String) -> String {
    for backend in request.operation.backends(request.facade) {
        let credentials = &backend.credentials;
        credentials.mask.text(&mut told);
        if let Some(grant) = &credentials.client {
            x.worker.shared.tokens.mask(grant).text(&mut told);
        }
    }
    told
}

/// Replies without a body (RFC 9110 §15.3.5, §15.4.5).
fn is_bare(status: StatusCode) -> bool {
    matches!(status.as_u16(), 204 | 205 | 304)
}

/// What of a reply does not fit, in words; and the reply, whose body may have been read.
async fn looked_at(
    x: &Exchange<'_>,
    op: &CompiledOperation,
    plan: &AnswersPlan,
    response: Response<ReplyBody>,
    bare: bool,
) -> Result<(Response<ReplyBody>, Vec<String>), Box<Problem>> {
    let status = response.status().as_u16();
    let Some(described) = plan.of(status) else {
        // What a condition was answered with is HTTP's and not the contract's (RFC 9110 §13).
        let conditional = matches!(status, 304 | 412);
        let told = (!conditional).then(|| format!("it has no answer with the status {status}"));
        return Ok((response, told.into_iter().collect()));
    };
    // What was made XML here says the same as the JSON that it was made of, which is gone.
    let as_xml = x.chosen == Some(MediaType::Xml);
    if bare || as_xml || described.types.is_empty() {
        return Ok((response, Vec::new()));
    }
    let essence = media::essence(response.headers());
    let schema = match known(&described.types, &essence) {
        Known::Json(schema) => schema,
        Known::Passes => return Ok((response, Vec::new())),
        Known::Not => {
            let names: Vec<&str> = described.types.iter().map(|t| t.name.as_str()).collect();
            let came = match essence.as_str() {
                "" => "no media type",
                essence => essence,
            };
            let told = format!("{status} answers {}; {came} came", names.join(", "));
            return Ok((response, vec![told]));
        }
    };
    let (head, body) = response.into_parts();
    let failed = |failure| of_failure(failure, op, None, StageName::Reply);
    let bytes = gathered(x, body).await.map_err(failed)?;
    let plain = coding::decoded(&head.headers, bytes.clone());
    let fits = |plain: &Bytes| schema.surely_fits(plain);
    let misfits = match plain.and_then(|plain| match fits(&plain) {
        true => Ok(None),
        false => json_of(&plain, &x.share).map(Some),
    }) {
        Ok(None) => Vec::new(),
        Ok(Some(value)) => {
            let all = schema.misfits(&value).into_iter().take(TOLD);
            all.map(|m| format!("/body{} {}", m.pointer, m.told))
                .collect()
        }
        Err(Failure::Answer(why)) => vec![why],
        Err(other) => return Err(failed(other)),
    };
    let response = Response::from_parts(head, ReplyBody::Full(Some(bytes)));
    Ok((response, misfits))
}

/// A reply's whole body.
async fn gathered(x: &Exchange<'_>, mut body: ReplyBody) -> Result<Bytes, Failure> {
    if let ReplyBody::Full(bytes) = &mut body {
        return Ok(bytes.take().unwrap_or_default());
    }
    let mut all = Vec::new();
    while let Some(frame) = body.frame().await {
        let frame = frame.map_err(|e| Failure::Answer(format!("it broke off: {e}")))?;
        let Ok(data) = frame.into_data() else {
            continue;
        };
        if all.len() + data.len() > MAX_ANSWER {
            let why =
                format!("it has more than {MAX_ANSWER} bytes, and is held against the contract");
            return Err(Failure::Answer(why));
        }
        x.share.gather(data.len())?;
        all.extend_from_slice(&data);
    }
    Ok(all.into())
}
