//! Usage by minute, operation, consumer and status.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "usage")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub minute: i64,
    #[sea_orm(primary_key, auto_increment = false)]
    pub facade: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub operation: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub consumer: i64,
    #[sea_orm(primary_key, auto_increment = false)]
    pub status: i32,
    #[sea_orm(primary_key, auto_increment = false)]
    pub boot: i64,
    pub calls: i64,
    pub bytes_in: i64,
    pub bytes_out: i64,
    pub misfits: i64,
    #[sea_orm(column_type = "JsonBinary")]
    pub latency: Json,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
