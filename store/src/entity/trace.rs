//! Records of single exchanges.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "trace")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub trace_id: String,
    pub at: i64,
    pub facade: String,
    pub operation: String,
    pub consumer: String,
    pub status: i32,
    pub us: i64,
    pub method: String,
    pub target: String,
    pub why: String,
    #[sea_orm(column_type = "JsonBinary")]
    pub content: Json,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
