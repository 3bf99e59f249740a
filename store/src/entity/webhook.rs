//! Where events are sent.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "webhook")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    /// The team that is told; none: the publishers.
    pub team_id: Option<i64>,
    pub url: String,
    /// Kinds of messages that are sent, as a list; an empty one: all.
    pub kinds: Json,
    pub made_by: String,
    pub created_at: i64,
    /// When whoever is there agreed to be sent events; none: not yet.
    pub agreed_at: Option<i64>,
    pub paused: bool,
    /// Why nothing is sent; empty: it is.
    pub problem: String,
}

impl Model {
    /// The kinds of messages that are sent; none: all.
    pub fn kinds(&self) -> Vec<String> {
        serde_json::from_value(self.kinds.clone()).unwrap_or_default()
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
