//! Sessions of the console and tokens of the client, by hash.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "session")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    #[serde(skip)]
    pub token_hash: String,
    /// What it is called by its owner, who does not see its hash.
    pub id: i64,
    pub account_id: i64,
    pub label: String,
    pub created_at: i64,
    pub expires_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
