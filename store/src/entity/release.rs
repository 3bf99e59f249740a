//! Releases: immutable, numbered copies of checked documents.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "release")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub environment: String,
    pub number: i64,
    #[sea_orm(column_type = "JsonBinary")]
    pub taken: Json,
    #[sea_orm(column_type = "JsonBinary")]
    pub content: Json,
    pub note: String,
    pub made_by: String,
    pub made_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
