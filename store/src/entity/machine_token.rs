//! Tokens that machines act with in an account's name, by hash.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "machine_token")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    #[serde(skip)]
    #[sea_orm(unique)]
    pub token_hash: String,
    /// What it is recognised by: how it begins.
    pub prefix: String,
    pub account_id: i64,
    pub label: String,
    /// What it may do at most; never more than its account.
    pub role: String,
    pub created_at: i64,
    pub expires_at: i64,
    /// When it was last used, to the minute; 0: never.
    pub used_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
