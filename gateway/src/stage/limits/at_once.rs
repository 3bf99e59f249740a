//! Limits of requests that are under way at the same time.

use porch_facade::{AtOncePlan, CompiledFacade, CompiledOperation};

use super::{asked_for, number, whose};
use crate::count::at_once::{Door, NoPlace};
use crate::exchange::state::Exchange;
use crate::problem::{self, Problem};
use crate::scope::Scope;

/// Waits for a place among those that may be under way at the same time, for each limit of that kind.
pub(crate) async fn at_once(
    x: &mut Exchange<'_>,
    (facade, op): (&CompiledFacade, &CompiledOperation),
    scope: Scope<'_>,
) -> Result<(), Box<Problem>> {
    for plan in &op.admission.limits.at_once {
        let most = number(&plan.most, &scope).map_err(|why| {
            problem::no_number(x.caller.consumer(), &plan.most, &why, &plan.place)
        })?;
        let subject = asked_for(x, &plan.per, &facade.name, &scope)
            .map_err(|why| problem::no_weight(&why, &plan.place))?;
        let shared = &x.worker.shared;
        let door = Door {
            key: (plan.id, subject),
            most,
            waiting: plan.waiting,
            within: plan.within,
            apart: plan.apart,
        };
        match shared.at_once.enter(door, shared.common.as_ref()).await {
            Ok(held) => x.rare().held.push(held),
            Err(NoPlace::Full(waiting)) => return Err(busy(x, plan, most, waiting)),
            Err(NoPlace::Away(why)) => return Err(problem::counts_away(&why, &plan.place)),
        }
    }
    Ok(())
}

fn busy(x: &Exchange<'_>, plan: &AtOncePlan, most: u64, waiting: usize) -> Box<Problem> {
    let whose = whose(&plan.per, x);
    problem::too_many_at_once(plan, most, waiting, &whose)
}
