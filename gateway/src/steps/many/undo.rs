//! What was done before a failure is taken back, where the documents say how.

use super::super::one::{Call, carry_out};
use super::{All, Running, next, plan};
use crate::answer::Answer;
use crate::call::CallerBody;
use crate::problem::Problem;

impl<'r> All<'r, '_> {
    /// Takes back what was done, the last first. What is under way and could be taken back is waited for; all else ends.
    pub(super) async fn undo(
        mut self,
        mut failed: Box<Problem>,
        mut running: Vec<(usize, Running<'r>)>,
    ) -> Result<(), Box<Problem>> {
        let undoes = |i: usize| plan(self.calls[i].step).is_some_and(|p| p.undo.is_some());
        running.retain(|(i, _)| undoes(*i));
        while !running.is_empty() {
            let (i, gave) = next(&mut running).await;
            // It failed as well: there is nothing to take back.
            let _ = self.done(i, gave);
        }
        for i in self.changed.iter().rev() {
            let Some(undo) = plan(self.calls[*i].step).and_then(|p| p.undo.as_ref()) else {
                continue;
            };
            let name = &self.calls[*i].step.name;
            match self.undone(undo).await {
                Ok(()) => failed.also(&format!("“{name}” was undone")),
                Err(why) => failed.also(&format!("“{name}” could not be undone: {why}")),
            }
        }
        Err(failed)
    }

    async fn undone(&self, step: &porch_facade::Step) -> Result<(), String> {
        let told = |problem: Box<Problem>| problem.refusal.why.clone();
        let call = Call::of(self.x, self.request, (step, self.scope), false).map_err(told)?;
        let carried = carry_out(self.x, self.request, &call, self.scope, CallerBody::Gone);
        let done = carried.await.map_err(told)?;
        match done.answer {
            Answer::Through(_) if !done.status.is_success() => {
                Err(format!("it answered {}", done.status))
            }
            _ => Ok(()),
        }
    }
}
