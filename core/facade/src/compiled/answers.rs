//! What answers are held against.

use porch_contract::Position;

use super::BodyType;

/// What a reply must be to keep to the contract.
#[derive(Debug)]
pub struct AnswersPlan {
    /// Whether callers get a 502 in the place of a reply that does not fit; else it is counted and told.
    pub refuse: bool,
    /// The responses of the contract.
    pub responses: Vec<ResponsePlan>,
    /// Where the contract has them.
    pub at: Position,
}

/// A response of the contract.
#[derive(Debug)]
pub struct ResponsePlan {
    /// The statuses that it is for.
    pub status: Statuses,
    /// Its media types, ranges among them; none: nothing is said of its body.
    pub types: Vec<BodyType>,
}

/// Statuses that a response is for (OpenAPI 3.1 §4.8.16).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Statuses {
    /// One.
    One(u16),
    /// All of a class: 4 for `4XX`.
    Class(u16),
    /// All others.
    Others,
}

impl AnswersPlan {
    /// The response for a status: its own, that of its class, or that for all others.
    pub fn of(&self, status: u16) -> Option<&ResponsePlan> {
        let is = |wanted: Statuses| self.responses.iter().find(|r| r.status == wanted);
        is(Statuses::One(status))
            .or_else(|| is(Statuses::Class(status / 100)))
            .or_else(|| is(Statuses::Others))
    }
}
