//! Answers of several messages, taken as a list.

use std::sync::Arc;

use http::{HeaderMap, StatusCode, response};
use porch_facade::Gathering;
use porch_facade::kind::grpc::GrpcCall;
use tokio::time::Instant;

use super::answer::{self, Ended, Part};
use super::{failed, metadata};
use crate::answer::{Content, MAX_ANSWER, Passed, Seen, Whole};
use crate::backend::CallFailure;
use crate::call::{Context, Read};
use crate::failure::Failure;

/// Takes the messages as a list, as many and for as long as is said.
pub(super) async fn gathered(
    call: Arc<GrpcCall>,
    cx: &Context<'_>,
    head: response::Parts,
    mut answer: answer::Answer,
    (until, of): (Instant, &Gathering),
) -> Read {
    let came = list(&call, cx, &mut answer, (until, of)).await;
    // What is not waited for any more is told so, by an end of its stream.
    drop(answer);
    done(&call, cx, head, came)
}

/// A list of what came: its JSON, how the call ended, and what is told of it.
type Came = Result<(Vec<u8>, Option<Ended>, String), Failure>;

/// The same of a stream that ended before it began.
pub(super) fn none(call: &GrpcCall, cx: &Context<'_>, head: response::Parts, ended: Ended) -> Read {
    let told = "its 0 messages are a list".to_owned();
    done(call, cx, head, Ok((b"[]".to_vec(), Some(ended), told)))
}

async fn list(
    call: &GrpcCall,
    cx: &Context<'_>,
    answer: &mut answer::Answer,
    (until, of): (Instant, &Gathering),
) -> Came {
    let end = of.within.map(|within| Instant::now() + within);
    let first = end.map_or(until, |end| end.min(until));
    let (mut json, mut number) = (b"[".to_vec(), 0);
    let (ended, told) = loop {
        if number == of.at_most {
            break (None, of.told_most());
        }
        match tokio::time::timeout_at(first, answer.next()).await {
            Err(_) if end == Some(first) => break (None, of.told_within(number)),
            Err(_) => return Err(Failure::Call(CallFailure::Timeout)),
            Ok(Err(wrong)) => return Err(wrong.into()),
            Ok(Ok(Part::Ended(ended))) => {
                break (Some(ended), format!("its {number} messages are a list"));
            }
            Ok(Ok(Part::Message(wire))) => {
                let one = answer::to_json(call, &wire)?;
                if json.len() + one.len() > MAX_ANSWER {
                    let why = format!("its messages have more than {MAX_ANSWER} bytes");
                    return Err(Failure::Answer(why));
                }
                cx.share.gather(one.len())?;
                if number > 0 {
                    json.push(b',');
                }
                json.extend_from_slice(&one);
                number += 1;
            }
        }
    };
    json.push(b']');
    Ok((json, ended, told))
}

fn done(call: &GrpcCall, cx: &Context<'_>, head: response::Parts, came: Came) -> Read {
    let mut seen = Seen::default();
    let answer = match came {
        Err(failure) => Err(failure),
        Ok((_, Some(ended), _)) if ended.code != 0 => Err(failed::told(call, cx.faults, &ended)),
        Ok((json, ended, told)) => {
            if cx.keep {
                seen.notes.push(told);
                seen.body = Some(json.clone());
            }
            let none = HeaderMap::new();
            let trailers = ended.as_ref().map_or(&none, |e| &e.trailers);
            let passed = metadata(call, &head.headers).chain(metadata(call, trailers));
            let (body, passed) = (Content::Json(json.into()), Passed::These(passed.collect()));
            Ok(Whole::of(StatusCode::OK, &head.headers, body, passed))
        }
    };
    Read {
        status: head.status,
        fields: head.headers,
        seen,
        notes: Vec::new(),
        answer,
    }
}
