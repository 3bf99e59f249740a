//! Answers that were recorded, in place of calls.

use http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use porch_facade::{ANSWER, CompiledFacade, CompiledOperation, Step, kind};
use porch_gateway::{GivenAnswer, Message, RecordedAnswer, StageName, Trace};

use crate::app::App;
use crate::error::ApiError;

/// What stands in place of calls, by their names.
#[derive(Default)]
pub(super) struct InPlace {
    pub(super) given: Vec<(String, GivenAnswer)>,
    pub(super) recorded: Vec<(String, RecordedAnswer)>,
}

/// The answers of an exchange that was kept. Those that are given besides go before them.
pub(super) async fn of_exchange(
    app: &App,
    id: &str,
    (facade, op): (&CompiledFacade, &CompiledOperation),
    into: &mut InPlace,
) -> Result<(), ApiError> {
    let trace = app.observatory.trace(id).await?;
    if (&trace.facade, &trace.operation) != (&facade.name, &op.id) {
        let title = format!("The exchange “{id}” is none of {}/{}", facade.name, op.id);
        let detail = match trace.operation.as_str() {
            "" => "It came to no operation.".to_owned(),
            other => format!("It is one of {}/{other}.", trace.facade),
        };
        return Err(ApiError::new(422, title, detail));
    }
    let before = into.recorded.len() + into.given.len();
    for (name, message) in answers(&trace) {
        let of = name.split('[').next().unwrap_or_default();
        let Some(step) = op.steps.iter().find(|s| *s.name == *of) else {
            continue;
        };
        if !into.given.iter().any(|(given, _)| given == of) {
            add((name, message), (facade, step), into)?;
        }
    }
    if into.recorded.len() + into.given.len() == before {
        let title = format!("No answer of the exchange “{id}” was kept");
        let detail =
            "It called nothing, or only its outcome was kept: exchanges in full are a sample.";
        return Err(ApiError::new(422, title, detail));
    }
    Ok(())
}

/// What calls were answered, by their names as they are shown.
fn answers(trace: &Trace) -> impl Iterator<Item = (&str, &Message)> {
    let calls = trace.stages.iter().filter(|s| s.name == StageName::Call);
    calls.filter_map(|stage| {
        let name = match stage.step.as_str() {
            "" => ANSWER,
            name => name,
        };
        Some((name, stage.after.as_ref()?))
    })
}

fn add(
    (name, message): (&str, &Message),
    (facade, step): (&CompiledFacade, &Step),
    into: &mut InPlace,
) -> Result<(), ApiError> {
    let not = |why: &str| {
        let title = format!("The answer of “{name}” cannot be used again");
        let detail = format!("{why} Give it by hand, or leave it out to have it called.");
        ApiError::new(422, title, detail)
    };
    if message.body == "(streamed through)" {
        return Err(not("It went through as it came, and was not kept."));
    }
    if message.body.ends_with('…') {
        return Err(not("It is longer than what is kept of a message (16 KiB)."));
    }
    let status = message.head.split(' ').next().unwrap_or_default();
    let status: StatusCode = status
        .parse()
        .map_err(|_| not("Its status was not kept."))?;
    let is_list = step.plan.as_ref().is_some_and(|p| p.messages.is_some());
    let backend = facade.backends.get(step.backend);
    let is_grpc = backend.is_some_and(|b| b.kind == kind::grpc::NAME);
    if !is_grpc && !is_list {
        let answer = RecordedAnswer {
            status,
            fields: fields(message),
            body: message.body.clone().into(),
        };
        into.recorded.push((name.to_owned(), answer));
        return Ok(());
    }
    // Of these their JSON was kept, and not what came.
    if name.contains('[') {
        return Err(not("It is one of a list, of which only its JSON was kept."));
    }
    let body = match message.body.as_str() {
        "" => Ok(serde_json::Value::Null),
        text => serde_json::from_str(text),
    };
    let body = body.map_err(|_| not("Its JSON was not kept."))?;
    into.given
        .push((name.to_owned(), GivenAnswer { status, body }));
    Ok(())
}

/// The fields of an answer, but for those of how it came: its body stands as it was read.
fn fields(message: &Message) -> HeaderMap {
    let of_the_way = [
        header::CONTENT_LENGTH,
        header::CONTENT_ENCODING,
        header::TRANSFER_ENCODING,
        header::CONNECTION,
    ];
    let all = message.headers.iter();
    let all = all.filter_map(|(name, value)| {
        let name: HeaderName = name.parse().ok()?;
        Some((name, HeaderValue::from_str(value).ok()?))
    });
    all.filter(|(name, _)| !of_the_way.contains(name)).collect()
}
