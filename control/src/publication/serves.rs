//! What callers are served, in the words of whoever wants to call it.

use std::collections::HashMap;
use std::sync::Arc;

use porch_facade::{CompiledFacade, Library, sample};
use serde::Serialize;
use utoipa::ToSchema;

use super::answered::Given;
use super::content::Content;
use crate::target::target;

/// A facade that is served.
#[derive(Serialize, ToSchema)]
pub(crate) struct ServedFacade {
    name: String,
    version: String,
    /// How callers reach it.
    address: String,
    operations: usize,
}

/// A call with values from the contract.
#[derive(Serialize, ToSchema)]
pub(crate) struct SampleCall {
    facade: String,
    operation: String,
    method: String,
    /// Path and query.
    path: String,
    /// The body in JSON, if there is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    body: Option<String>,
}

impl ServedFacade {
    pub(super) fn of(facade: &CompiledFacade, gateway: &str) -> Self {
        Self {
            name: facade.name.clone(),
            version: facade.version.clone(),
            address: format!("{gateway}{}", facade.base),
            operations: facade.operations.len(),
        }
    }
}

/// A call of a facade: of an operation that changes nothing, if it has one; with the values that a trial run was answered well
/// last, if there are any, else with those of the contract.
pub(super) fn sample_call(
    content: &Content,
    facade: &str,
    answered: &HashMap<String, Arc<Given>>,
    library: &Library,
) -> Option<SampleCall> {
    let released = content.facades.get(facade)?;
    let (document, read) = library.released(&released.files)?;
    let contract = read.contract.as_ref()?;
    let wired = |o: &&porch_contract::Operation| document.doc.operations.contains_key(&o.id);
    // Those that only read go first (RFC 9110, section 9.2.1), and of them those with the shortest path.
    let rank = |o: &&porch_contract::Operation| {
        let made_up = !answered.contains_key(&o.id);
        (o.method != "GET", made_up, o.path.to_string().len())
    };
    let op = contract
        .operations
        .values()
        .filter(wired)
        .min_by_key(rank)?;
    let given = answered.get(&op.id).map(|given| (**given).clone());
    let given = given.unwrap_or_else(|| {
        let sample = sample(contract, op, false);
        Given {
            path: sample.path.into_iter().collect(),
            query: sample.query.into_iter().collect(),
            body: sample.body.map(|b| b.to_string()),
        }
    });
    let template = op.path.to_string();
    let target = target(&given.path, &given.query, &document.doc.base, &template);
    Some(SampleCall {
        facade: facade.to_owned(),
        operation: op.id.clone(),
        method: op.method.clone(),
        path: target.ok()?,
        body: given.body,
    })
}
