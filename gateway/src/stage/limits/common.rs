//! Limits and quotas that several nodes count together: all of a call in one question.

use std::sync::Arc;

use porch_facade::{LimitPlan, WhenApart};
use porch_rules::limit::Limit;

use super::asked::{Of, Wanted, passed, wanted};
use super::{Nearest, give_back, refused, subject};
use crate::count::{Ask, Away, CommonCounts};
use crate::exchange::state::Exchange;
use crate::problem::{self, Problem};
use crate::scope::Scope;

/// Asks all limits of a call where the nodes count together.
pub(crate) async fn together(
    x: &mut Exchange<'_>,
    of: Of<'_>,
    scope: Scope<'_>,
) -> Result<(), Box<Problem>> {
    let Some(common) = x.worker.shared.common.clone() else {
        return Ok(());
    };
    let all = all_wanted(x, of, &scope)?;
    let asks = all.iter().map(|(plan, wanted)| Ask {
        limit: plan.id,
        subject: wanted.subject,
        rule: wanted.room,
        weight: wanted.weight,
    });
    let answer = common.ask(asks.collect()).await;
    let mut nearest = Nearest::default();
    match answer {
        Ok(decisions) => {
            let mut asked = all.iter().zip(&decisions);
            if let Some(((plan, w), no)) = asked.find(|(_, d)| !d.allowed) {
                return Err(refused(x, plan, w.limit, w.weight, no));
            }
            for ((plan, wanted), decision) in all.into_iter().zip(decisions) {
                passed(x, of, plan, (wanted, decision, true), &mut nearest);
            }
        }
        Err(away) => {
            let outcome = apart(x, of, &common, (&all, &away), &mut nearest);
            if outcome.is_err() {
                give_back(x, of.1);
            }
            outcome?;
        }
    }
    nearest.beside(&mut x.rate);
    noted(x, of);
    Ok(())
}

type AllWanted<'p> = Vec<(&'p LimitPlan, Wanted)>;

fn all_wanted<'p>(
    x: &Exchange<'_>,
    (facade, op): Of<'p>,
    scope: &Scope<'_>,
) -> Result<AllWanted<'p>, Box<Problem>> {
    let limits = &op.admission.limits;
    let mut all: AllWanted<'_> = Vec::with_capacity(limits.plain.len() + limits.asked.len());
    for plan in &limits.plain {
        let Some(limit) = plan.plain else { continue };
        let wanted = Wanted {
            subject: subject(&plan.per, &x.caller, x.origin, &facade.name),
            limit,
            weight: 1,
            room: limit,
        };
        all.push((plan, wanted));
    }
    for plan in &limits.asked {
        all.push((plan, wanted(x, facade, plan, scope)?));
    }
    Ok(all)
}

/// The place of the counts is away: each limit says whether calls are refused, or go on within this node's share.
fn apart<'p>(
    x: &mut Exchange<'_>,
    of: Of<'_>,
    common: &Arc<dyn CommonCounts>,
    (all, away): (&AllWanted<'p>, &Away),
    nearest: &mut Nearest<'p>,
) -> Result<(), Box<Problem>> {
    let nodes = common.state().nodes.max(1);
    nearest.apart = true;
    for (plan, wanted) in all {
        if plan.apart == WhenApart::Refuse {
            return Err(problem::counts_away(&away.0, &plan.place));
        }
        let share = |limit: Limit| Limit {
            most: limit.most / nodes,
            ..limit
        };
        let wanted = Wanted {
            limit: share(wanted.limit),
            room: match plan.only_tells {
                true => wanted.room,
                false => share(wanted.room),
            },
            ..*wanted
        };
        let shared = &x.worker.shared;
        let now = shared.now_ms();
        let (subject, weight) = (wanted.subject, wanted.weight);
        let counters = &shared.counters;
        let decision = counters.ask(plan.id, subject, wanted.room, weight, now);
        if !decision.allowed {
            let refused = refused(x, plan, wanted.limit, weight, &decision);
            return Err(refused.of_a_share(nodes, &away.0));
        }
        passed(x, of, plan, (wanted, decision, false), nearest);
    }
    let words = format!(
        "the place where the nodes count is away ({}): each limit is this node's share, 1 of {nodes}",
        away.0
    );
    x.recorder.borrow_mut().note_last(|| words);
    Ok(())
}

/// What the trace says of them.
fn noted(x: &Exchange<'_>, (_, op): Of<'_>) {
    let state = x.rate.as_ref().and_then(|r| r.state.to_str().ok());
    for limit in op.admission.limits.of_time() {
        let place = &limit.place;
        x.recorder.borrow_mut().note_last(|| {
            let state = state.unwrap_or_default();
            format!("{} ({}): {state}", place.rule, place.reach)
        });
    }
}
