//! Answers that somebody who tries an operation gives in place of calls.

use porch_facade::ANSWER;

use super::one::Call;
use crate::answer::{Answer, Content, Passed, Whole};
use crate::backend::{Answered, Came};
use crate::body::ReplyBody;
use crate::exchange::state::Exchange;
use crate::failure::Failure;
use crate::trace::StageName;
use crate::trial::RecordedAnswer;

/// The answer in place of the only call.
#[cold]
pub(super) fn given(x: &Exchange<'_>, call: &Call<'_>) -> Option<Answer> {
    let given = x.origin.given(&call.step.name)?;
    called_nothing(x, call);
    Some(Answer::Whole(Box::new(Whole {
        status: given.status,
        fields: http::HeaderMap::new(),
        body: Content::Value(given.body.clone()),
        soap_headers: None,
        passed: Passed::None,
    })))
}

/// The answer that came once to a call, where there is one.
#[cold]
pub(super) fn recorded<'x>(x: &'x Exchange<'_>, call: &Call<'_>) -> Option<&'x RecordedAnswer> {
    let shown = call.shown();
    let name = match &*shown {
        "" => ANSWER,
        name => name,
    };
    let mut all = x.origin.recorded.iter();
    all.find(|(of, _)| of == name).map(|(_, answer)| answer)
}

/// The same as if it came now.
#[cold]
pub(super) fn answered(x: &Exchange<'_>, call: &Call<'_>) -> Result<Answered, Failure> {
    let Some(recorded) = recorded(x, call) else {
        return Err(Failure::Answer("no answer of it was kept".into()));
    };
    call.tell(
        x,
        "nothing was called: an answer that was kept stands for it".into(),
    );
    let mut head = http::Response::new(());
    *head.status_mut() = recorded.status;
    *head.headers_mut() = recorded.fields.clone();
    let (head, ()) = head.into_parts();
    let body = ReplyBody::Full(Some(recorded.body.clone()));
    Ok(Answered {
        head,
        body: Came::Inside(Box::new(body)),
        lease: None,
    })
}

/// Notes that a given answer stands for a call.
pub(super) fn called_nothing(x: &Exchange<'_>, call: &Call<'_>) {
    let from = x.recorder.borrow().begin();
    let mut recorder = x.recorder.borrow_mut();
    call.note(&mut recorder, (StageName::Call, from), |stage| {
        let text = "nothing was called: the answer that was given stands for it";
        stage.notes.push(text.into());
    });
}
