//! The table of grants, and what is paused, as the data plane has them.

use std::collections::HashMap;
use std::sync::Arc;

use porch_gateway::Pauses;
use porch_rules::grant::{Consumer, Grant, Grants};
use porch_rules::key::KeyHash;
use porch_store::entity::api_key;
use serde::{Deserialize, Serialize};

/// One key as it is kept.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct GrantRow {
    pub(crate) hash: String,
    pub(crate) prefix: String,
    pub(crate) consumer: i64,
    /// Milliseconds since 1970; none: it does not end.
    pub(crate) ends_at: Option<i64>,
    pub(crate) paused: bool,
    /// The facades that it opens; none: every one.
    #[serde(default)]
    pub(crate) facades: Option<Vec<String>>,
}

impl From<api_key::Model> for GrantRow {
    fn from(k: api_key::Model) -> Self {
        Self {
            facades: k.opens(),
            hash: k.hash,
            prefix: k.prefix,
            consumer: k.consumer_id,
            ends_at: k.ends_at,
            paused: k.paused,
        }
    }
}

impl GrantRow {
    /// The row of a grant that is in the table.
    pub(crate) fn of(hash: KeyHash, grant: &Grant) -> Self {
        Self {
            hash: hash.to_hex(),
            prefix: grant.shown.to_string(),
            consumer: grant.consumer.id,
            ends_at: (grant.ends != i64::MAX).then(|| grant.ends.saturating_mul(1000)),
            paused: grant.paused,
            facades: grant.facades.as_deref().map(<[String]>::to_vec),
        }
    }

    /// The grant that follows from it.
    pub(super) fn grant(&self, consumer: &Arc<Consumer>) -> Option<(KeyHash, Grant)> {
        let grant = Grant {
            consumer: consumer.clone(),
            shown: self.prefix.as_str().into(),
            ends: self.ends_at.map_or(i64::MAX, |ms| ms / 1000),
            paused: self.paused,
            facades: self.facades.as_deref().map(Into::into),
        };
        Some((KeyHash::from_hex(&self.hash)?, grant))
    }
}

pub(crate) fn consumer(id: i64, name: String, account: String, paused: bool) -> Arc<Consumer> {
    Arc::new(Consumer {
        id,
        name,
        account,
        paused,
    })
}

/// The whole table.
pub(crate) fn grants_of(
    consumers: &HashMap<i64, Arc<Consumer>>,
    rows: impl Iterator<Item = GrantRow>,
) -> Grants {
    Grants::new(each(consumers, rows))
}

/// The grants of rows whose consumer there is.
pub(super) fn each(
    consumers: &HashMap<i64, Arc<Consumer>>,
    rows: impl Iterator<Item = GrantRow>,
) -> impl Iterator<Item = (KeyHash, Grant)> {
    rows.filter_map(|row| row.grant(consumers.get(&row.consumer)?))
}

/// Pauses by facade and operation; an empty operation means the whole facade.
pub(crate) fn pauses_of(list: impl Iterator<Item = (String, String)>) -> Pauses {
    let mut pauses = Pauses::default();
    for (facade, operation) in list {
        if operation.is_empty() {
            pauses.facades.insert(facade);
        } else {
            pauses.operations.insert((facade, operation));
        }
    }
    pauses
}
