//! Replies that are kept and given again.

use std::sync::Arc;
use std::time::Duration;

use http::HeaderName;

use super::RulePlace;

/// What an operation's replies have to do with those that are kept.
#[derive(Debug)]
pub struct CachePlan {
    /// How they are kept; `None`: not at all, but what is kept may not be true any more behind them.
    pub keeps: Option<Keeping>,
    /// Tags whose replies are let go behind it.
    pub clears: Vec<Arc<str>>,
    /// Where that is said.
    pub place: Arc<RulePlace>,
}

/// How replies are kept.
#[derive(Debug)]
pub struct Keeping {
    /// How long a reply of success is fresh that does not say so.
    pub fresh: Option<Duration>,
    /// The same for 404 and 410.
    pub absent: Option<Duration>,
    /// How long it is given behind that while another one is asked for (RFC 5861 §3).
    pub while_revalidate: Option<Duration>,
    /// How long it is given behind that where no other one can be had (RFC 5861 §4).
    pub if_error: Option<Duration>,
    /// What of callers and their requests replies hang on.
    pub apart: Apart,
    /// Names by which they are let go together.
    pub tags: Vec<Arc<str>>,
    /// Whether callers' directives are heeded.
    pub heeds_callers: bool,
    /// Greatest size of a body.
    pub most: usize,
}

/// What of callers and their requests replies hang on, besides path, query and what replies say themselves.
#[derive(Debug, Default)]
pub struct Apart {
    /// Who calls.
    pub consumer: bool,
    /// What is shown.
    pub key: bool,
    /// From where.
    pub address: bool,
    /// Header fields, sorted.
    pub fields: Vec<HeaderName>,
}

impl Apart {
    /// Whether each caller has replies of its own.
    pub fn callers(&self) -> bool {
        self.consumer || self.key
    }
}
