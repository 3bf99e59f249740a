//! What people were told.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "message")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub at: i64,
    /// As in `request-granted`.
    pub kind: String,
    /// The team that is told; none: the publishers.
    pub team_id: Option<i64>,
    pub subject: String,
    pub text: String,
    pub detail: Json,
    pub read_at: Option<i64>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
