//! Limits of requests that are under way at the same time.

use std::sync::Arc;

use porch_facade::{AtOncePlan, CompiledFacade, CompiledOperation, WhenApart};

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
            Err(NoPlace::Full(waiting)) => {
                let apart = apart(x, plan, most);
                let most = apart.as_ref().map_or(most, |a| a.share);
                let busy = busy(x, plan, most, waiting);
                return Err(match apart {
                    Some(a) => busy.of_a_share(a.nodes, &a.why),
                    None => busy,
                });
            }
            Err(NoPlace::Away(why)) => return Err(problem::counts_away(&why, &plan.place)),
        }
        if let Some(apart) = apart(x, plan, most) {
            x.recorder.borrow_mut().note_last(|| apart.in_words());
        }
    }
    Ok(())
}

/// What a node has while the place is away where nodes have their places together.
struct Apart {
    share: u64,
    nodes: u64,
    why: Arc<str>,
}

impl Apart {
    fn in_words(&self) -> String {
        format!(
            "the place where the nodes count is away ({}): {} at the same time are this node's share, 1 of {}",
            self.why, self.share, self.nodes
        )
    }
}

fn apart(x: &Exchange<'_>, plan: &AtOncePlan, most: u64) -> Option<Apart> {
    let common = x.worker.shared.common.as_ref()?;
    // Where calls are refused meanwhile, nobody has a share.
    let state = (plan.apart == WhenApart::Share).then(|| common.state())?;
    let nodes = state.nodes.max(1);
    Some(Apart {
        share: most / nodes,
        nodes,
        why: state.away?,
    })
}

fn busy(x: &Exchange<'_>, plan: &AtOncePlan, most: u64, waiting: usize) -> Box<Problem> {
    let whose = whose(&plan.per, x);
    problem::too_many_at_once(plan, most, waiting, &whose)
}
