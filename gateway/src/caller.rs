//! Who calls, and what is left to them.

use std::sync::Arc;

use http::HeaderValue;
use porch_rules::grant::{Agreement, Consumer, Grant, Kind, Says, Shown};

/// Who calls, once that is known.
#[derive(Clone, Debug, Default)]
pub(crate) struct Caller {
    grant: Option<(Arc<Consumer>, Arc<Shown>)>,
    /// Place of the agreement by which it calls among the consumer's, counted from 1; 0: none.
    agreement: u32,
    /// What was shown.
    kind: Kind,
}

impl Caller {
    /// By a grant, and the place of an agreement.
    pub(crate) fn of(grant: &Grant, agreement: Option<usize>) -> Self {
        let place = agreement.and_then(|at| u32::try_from(at + 1).ok());
        Self {
            grant: Some((grant.consumer.clone(), grant.shown.clone())),
            agreement: place.unwrap_or(0),
            kind: grant.kind(),
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

    /// The account of the consumer.
    pub(crate) fn account(&self) -> &str {
        self.consumer().map_or("", |c| c.account.as_str())
    }

    /// What it has agreed to that holds here.
    pub(crate) fn agreement(&self) -> Option<&Agreement> {
        let at = (self.agreement as usize).checked_sub(1)?;
        self.consumer()?.agreements.get(at)
    }

    /// What it may be: by its consumer, and by what was shown.
    pub(crate) fn roles(&self) -> impl Iterator<Item = &str> {
        let own = self.consumer().map_or(&[][..], |c| &c.roles).iter();
        let shown = self.says().map_or(&[][..], |s| &s.roles).iter();
        own.chain(shown).map(|r| &**r)
    }

    /// What was shown says itself, where it is a token.
    pub(crate) fn says(&self) -> Option<&Says> {
        self.grant.as_ref()?.1.says.as_deref()
    }

    /// What the credential that was shown is known by.
    pub(crate) fn shown(&self) -> &str {
        self.grant.as_ref().map_or("", |(_, shown)| &shown.label)
    }

    /// The kind of credential that was shown.
    pub(crate) fn kind(&self) -> Kind {
        self.kind
    }

    /// The credential that was shown, as people are told of it.
    pub(crate) fn credential(&self) -> String {
        self.kind.of(self.shown())
    }
}

/// The `RateLimit` fields of a reply (draft-ietf-httpapi-ratelimit-headers §3 and §4).
pub(crate) struct RateFields {
    pub(crate) policy: HeaderValue,
    pub(crate) state: HeaderValue,
}
