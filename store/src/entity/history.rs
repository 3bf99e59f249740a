//! What of each facade was changed, release by release.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "history")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub environment: String,
    pub release: i64,
    pub facade: String,
    pub at: i64,
    /// Of its contract.
    pub version: String,
    /// `new`, `changed` or `gone`.
    pub status: String,
    /// For callers, as a list: harm, operation and words.
    pub changes: Json,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
