//! Who calls, and what is left to them.

use std::sync::Arc;

use http::HeaderValue;
use porch_rules::grant::{Consumer, Grant};

/// Who calls, once that is known.
#[derive(Clone, Debug, Default)]
pub(crate) struct Caller {
    grant: Option<(Arc<Consumer>, Arc<str>)>,
}

impl Caller {
    pub(crate) fn of(grant: &Grant) -> Self {
        Self {
            grant: Some((grant.consumer.clone(), grant.shown.clone())),
        }
    }

    pub(crate) fn consumer(&self) -> Option<&Consumer> {
        self.grant.as_ref().map(|(consumer, _)| &**consumer)
    }

    pub(crate) fn consumer_name(&self) -> &str {
        self.consumer().map_or("", |c| c.name.as_str())
    }

    pub(crate) fn consumer_id(&self) -> i64 {
        self.consumer().map_or(0, |c| c.id)
    }

    /// What the credential that was shown is known by.
    pub(crate) fn shown(&self) -> &str {
        self.grant.as_ref().map_or("", |(_, shown)| shown)
    }
}

/// The `RateLimit` fields of a reply (draft-ietf-httpapi-ratelimit-headers §3 and §4).
pub(crate) struct RateFields {
    pub(crate) policy: HeaderValue,
    pub(crate) state: HeaderValue,
}
