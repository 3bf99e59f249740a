//! Limits that look at the request, at what was agreed to, or at the calendar.

use porch_facade::{CompiledFacade, CompiledOperation, LimitPlan};
use porch_rules::limit::{Decision, Form, Limit};

use super::{Charge, Counted, Nearest, asked_for, give_back, limit_of, number, refused};
use crate::exchange::state::Exchange;
use crate::problem::{self, Problem};
use crate::scope::Scope;
use crate::usage::{QuotaTold, Record};

/// The operation that is called.
pub(super) type Of<'a> = (&'a CompiledFacade, &'a CompiledOperation);

/// What a limit is asked of a call.
#[derive(Clone, Copy)]
pub(super) struct Wanted {
    pub(super) subject: u64,
    pub(super) limit: Limit,
    pub(super) weight: u64,
    /// The limit as it is counted: what only tells has room for everything, and is counted against its number here.
    pub(super) room: Limit,
}

/// Asks them on this node.
#[cold]
pub(crate) fn asked(
    x: &mut Exchange<'_>,
    (facade, op): Of<'_>,
    scope: &Scope<'_>,
) -> Result<(), Box<Problem>> {
    let mut nearest = Nearest::default();
    let outcome = each(x, (facade, op), scope, &mut nearest);
    if outcome.is_err() {
        give_back(x, op);
    }
    outcome?;
    nearest.beside(&mut x.rate);
    Ok(())
}

fn each<'p>(
    x: &mut Exchange<'_>,
    of: (&CompiledFacade, &'p CompiledOperation),
    scope: &Scope<'_>,
    nearest: &mut Nearest<'p>,
) -> Result<(), Box<Problem>> {
    for plan in &of.1.admission.limits.asked {
        let wanted = wanted(x, of.0, plan, scope)?;
        let shared = &x.worker.shared;
        let (subject, weight) = (wanted.subject, wanted.weight);
        let now = shared.now_ms();
        let decision = shared
            .counters
            .ask(plan.id, subject, wanted.room, weight, now);
        if !decision.allowed {
            return Err(refused(x, plan, wanted.limit, weight, &decision));
        }
        passed(x, of, plan, (wanted, decision, false), nearest);
    }
    Ok(())
}

/// What a limit is to be asked of a call.
pub(super) fn wanted(
    x: &Exchange<'_>,
    facade: &CompiledFacade,
    plan: &LimitPlan,
    scope: &Scope<'_>,
) -> Result<Wanted, Box<Problem>> {
    let most = number(&plan.most, scope)
        .map_err(|why| problem::no_number(x.caller.consumer(), &plan.most, &why, &plan.place))?;
    let uncounted = |why: String| problem::no_weight(&why, &plan.place);
    let weight = match plan.bytes {
        // That there is room for one is all that can be known now.
        true => 1,
        false => number(&plan.weight, scope).map_err(uncounted)?,
    };
    let subject = asked_for(x, &plan.per, &facade.name, scope).map_err(uncounted)?;
    let limit = limit_of(x, plan, most, subject);
    let room = Limit {
        most: match plan.only_tells {
            true => u64::MAX >> 1,
            false => limit.most,
        },
        ..limit
    };
    Ok(Wanted {
        subject,
        limit,
        weight,
        room,
    })
}

/// Notes what a limit has let pass; whether it was counted together with other nodes is said with it.
pub(super) fn passed<'p>(
    x: &mut Exchange<'_>,
    (facade, op): Of<'_>,
    plan: &'p LimitPlan,
    (wanted, decision, common): (Wanted, Decision, bool),
    nearest: &mut Nearest<'p>,
) {
    let Wanted {
        subject,
        limit,
        weight,
        room,
    } = wanted;
    let used = room.most.saturating_sub(decision.remaining);
    x.rare().counted.push(Counted {
        id: plan.id,
        subject,
        limit: room,
        weight,
        at: decision.at,
        common,
    });
    let decision = Decision {
        remaining: limit.most.saturating_sub(used),
        ..decision
    };
    nearest.add(plan, limit, decision);
    if plan.warn_at.is_empty() && !plan.bytes {
        return;
    }
    let warned = quota_told(x, facade, op, plan, limit);
    if plan.bytes {
        x.rare().charges.push(Charge {
            id: plan.id,
            subject,
            limit: room,
            told: (!plan.warn_at.is_empty()).then(|| Box::new(warned)),
            warn_at: plan.warn_at.clone(),
            most: limit.most,
            common,
        });
    } else if let Some(share) = crossed(
        &plan.warn_at,
        limit.most,
        (used.saturating_sub(weight), used),
    ) {
        let told = QuotaTold {
            share,
            used,
            ..warned
        };
        x.worker.shared.send(Record::Quota(Box::new(told)));
    }
}

/// The greatest share that was passed by counting up.
pub(super) fn crossed(shares: &[u8], most: u64, (before, after): (u64, u64)) -> Option<u8> {
    let at = |share: &u8| (u128::from(most) * u128::from(*share)).div_ceil(100);
    let passed = shares
        .iter()
        .filter(|s| u128::from(before) < at(s) && at(s) <= u128::from(after));
    passed.copied().next_back()
}

fn quota_told(
    x: &Exchange<'_>,
    facade: &CompiledFacade,
    op: &CompiledOperation,
    plan: &LimitPlan,
    limit: Limit,
) -> QuotaTold {
    let from = match limit.form {
        Form::Fixed { from } => from,
        _ => 0,
    };
    QuotaTold {
        at: x.now,
        facade: facade.name.clone(),
        operation: op.id.clone(),
        consumer: x.caller.consumer_name().to_owned(),
        rule: plan.place.rule.to_string(),
        reach: plan.place.reach.to_string(),
        share: 0,
        used: 0,
        most: limit.most,
        until: i64::try_from(from).unwrap_or(0) + limit.window.as_millis() as i64,
    }
}
