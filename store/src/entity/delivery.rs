//! Events on their way, and what became of them.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "delivery")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub webhook_id: i64,
    pub message_id: i64,
    /// `waiting`, `delivered` or `given-up`.
    pub state: String,
    pub made_at: i64,
    pub attempts: i32,
    /// When it is tried next; none: no more.
    pub next_at: Option<i64>,
    pub tried_at: Option<i64>,
    /// What was answered last.
    pub status: Option<i32>,
    /// Why it was not taken; empty: it was, or was not tried yet.
    pub problem: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
