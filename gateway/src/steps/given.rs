//! Answers that somebody who tries an operation gives in place of calls.

use super::one::Call;
use crate::answer::{Answer, Content, Passed, Whole};
use crate::exchange::state::Exchange;
use crate::trace::StageName;

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

/// Notes that a given answer stands for a call.
pub(super) fn called_nothing(x: &Exchange<'_>, call: &Call<'_>) {
    let from = x.recorder.borrow().begin();
    let mut recorder = x.recorder.borrow_mut();
    call.note(&mut recorder, (StageName::Call, from), |stage| {
        let text = "nothing was called: the answer that was given stands for it";
        stage.notes.push(text.into());
    });
}
