//! What callers are served, in the words of whoever wants to call it.

use porch_facade::{CompiledFacade, sample};
use serde::Serialize;
use utoipa::ToSchema;

use super::content::Content;
use super::difference::contract_of;
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

/// A call of a facade: of an operation that changes nothing, if it has one.
pub(super) fn sample_call(content: &Content, facade: &str) -> Option<SampleCall> {
    let released = content.facades.get(facade)?;
    let documents = porch_facade::Documents::read(&released.files);
    let (_, document) = documents.facades.first()?;
    let contract = contract_of(released)?;
    let wired = |o: &&porch_contract::Operation| document.doc.operations.contains_key(&o.id);
    // Those that only read go first (RFC 9110, section 9.2.1), and of them those with the shortest path.
    let rank = |o: &&porch_contract::Operation| (o.method != "GET", o.path.to_string().len());
    let op = contract
        .operations
        .values()
        .filter(wired)
        .min_by_key(rank)?;
    let sample = sample(&contract, op, false);
    let (path, query) = (sample.path.into_iter(), sample.query.into_iter());
    let target = target(
        &path.collect(),
        &query.collect(),
        &document.doc.base,
        &op.path.to_string(),
    );
    Some(SampleCall {
        facade: facade.to_owned(),
        operation: op.id.clone(),
        method: op.method.clone(),
        path: target.ok()?,
        body: sample.body.map(|b| b.to_string()),
    })
}
