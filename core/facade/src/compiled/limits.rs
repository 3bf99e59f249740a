//! Limits and quotas, compiled.

use std::sync::Arc;
use std::time::Duration;

use http::HeaderValue;
use porch_rules::expr::Template;
use porch_rules::limit::{Form, Limit};
use porch_rules::period::{Lately, Periods};

use super::RulePlace;
pub use crate::documents::WhenApart;

/// A limit of requests or bytes in a time, or a quota.
#[derive(Debug)]
pub struct LimitPlan {
    /// Number of its state, the same from release to release while the limit stays the same.
    pub id: u64,
    /// The limit, where everything of it is known before anybody calls, and each call counts 1.
    pub plain: Option<Limit>,
    /// Greatest number.
    pub most: Number,
    /// When it is free again.
    pub time: Time,
    /// The period of the calendar in which the last call was, where it is a quota.
    pub lately: Lately,
    /// Who shares it.
    pub per: Who,
    /// How much a call counts.
    pub weight: Number,
    /// Whether bytes are counted, and not calls.
    pub bytes: bool,
    /// At which shares it is told that it is used, in per cent.
    pub warn_at: Box<[u8]>,
    /// Whether calls go on when it is used up.
    pub only_tells: bool,
    /// What happens while nodes cannot count together.
    pub apart: WhenApart,
    /// Name in the `RateLimit` fields.
    pub name: Arc<str>,
    /// `RateLimit-Policy` of the replies, where its number is known.
    pub policy: Option<HeaderValue>,
    /// Where it stands.
    pub place: RulePlace,
}

/// When a limit is free again.
#[derive(Debug)]
pub enum Time {
    /// In any window.
    Window(Duration, Form),
    /// In each period.
    Period(Periods, PeriodStart),
}

/// From when periods are counted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PeriodStart {
    /// The calendar.
    Calendar,
    /// The moment at which the caller's agreement began; the calendar without one.
    Agreement,
}

/// A number that is known, or that an expression gives.
#[derive(Debug)]
pub enum Number {
    /// Known.
    Fixed(u64),
    /// Asked for at each call, with its source.
    Asked(Template, Box<str>),
}

impl Number {
    /// The number, where it is known.
    pub fn fixed(&self) -> Option<u64> {
        match self {
            Number::Fixed(number) => Some(*number),
            Number::Asked(..) => None,
        }
    }
}

/// Who shares a limit.
#[derive(Debug)]
pub enum Who {
    /// Each consumer has its own.
    Consumer,
    /// Each agreement has its own.
    Agreement,
    /// Each credential has its own.
    Key,
    /// Each account has its own.
    Account,
    /// Each address has its own.
    Address,
    /// Each facade has its own.
    Facade,
    /// All callers share one.
    Everyone,
    /// Each value has its own.
    Value(Template),
}

impl Who {
    /// Whether it is asked for at each call.
    pub fn is_asked(&self) -> bool {
        matches!(self, Who::Value(_))
    }
}

/// A limit of requests that are under way at the same time.
#[derive(Debug)]
pub struct AtOncePlan {
    /// Number of its state.
    pub id: u64,
    /// Greatest number.
    pub most: Number,
    /// Who shares it.
    pub per: Who,
    /// How many may wait.
    pub waiting: u32,
    /// How long each waits.
    pub within: Duration,
    /// What holds while the place is away where nodes count together.
    pub apart: WhenApart,
    /// Name in the `RateLimit` fields.
    pub name: Arc<str>,
    /// Where it stands.
    pub place: RulePlace,
}

/// All limits of an operation.
#[derive(Debug, Default)]
pub struct Limits {
    /// Those in a time, that take nothing but who calls: asked first.
    pub plain: Vec<Arc<LimitPlan>>,
    /// Those that take more: the request's parameters, what was agreed to, or the calendar.
    pub asked: Vec<Arc<LimitPlan>>,
    /// Those of bytes, which is known at the end: each has an entry in one of the others too.
    pub counts_bytes: bool,
    /// Those at the same time.
    pub at_once: Vec<Arc<AtOncePlan>>,
}

impl Limits {
    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.plain.is_empty() && self.asked.is_empty() && self.at_once.is_empty()
    }

    /// Those in a time, all of them.
    pub fn of_time(&self) -> impl Iterator<Item = &Arc<LimitPlan>> {
        self.plain.iter().chain(&self.asked)
    }
}
