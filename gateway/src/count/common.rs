//! Counts that several nodes share: kept in a place that all of them reach.

use std::pin::Pin;
use std::sync::Arc;

use porch_rules::limit::{Decision, Limit, PlacesAsked, PlacesTold};

/// What one limit is asked for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Ask {
    /// Number of the limit, the same from release to release.
    pub limit: u64,
    /// Number of the subject.
    pub subject: u64,
    /// The limit.
    pub rule: Limit,
    /// How much.
    pub weight: u64,
}

/// Why the place of the counts gave no answer.
#[derive(Clone, Debug)]
pub struct Away(pub Arc<str>);

/// An answer that comes.
pub type Soon<T> = Pin<Box<dyn Future<Output = Result<T, Away>> + Send>>;

/// How things stand in the place.
#[derive(Clone, Debug)]
pub struct CommonState {
    /// What it is, for people.
    pub place: &'static str,
    /// How many nodes count there, this one among them.
    pub nodes: u64,
    /// Why it is away, where it is.
    pub away: Option<Arc<str>>,
}

/// A place where several nodes count.
pub trait CommonCounts: Send + Sync {
    /// Asks for all of these, and counts all of them or none; a decision for each.
    fn ask(&self, asks: Vec<Ask>) -> Soon<Vec<Decision>>;

    /// Takes back what was counted, by what its decision says; that is seen to later.
    fn give_back(&self, ask: Ask, at: u64);

    /// Counts what has passed already, whether or not there is room; gives all that is counted now.
    fn charge(&self, ask: Ask) -> Soon<u64>;

    /// Asks for places among what may be under way at the same time, of a limit and a subject.
    fn places(&self, limit: u64, subject: u64, asked: PlacesAsked) -> Soon<PlacesTold>;

    /// What was counted in periods: limit, subject, the period's beginning, and how much; at most so many.
    fn periods(&self, most: usize) -> Soon<Vec<(u64, u64, u64, u64)>>;

    /// How things stand there, as far as is known here.
    fn state(&self) -> CommonState;
}
