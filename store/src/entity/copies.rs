//! What copies of calls gave, by minute, operation and the backend that got them.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "copies")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub minute: i64,
    #[sea_orm(primary_key, auto_increment = false)]
    pub facade: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub operation: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub backend: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub boot: i64,
    pub same: i64,
    pub different: i64,
    pub failed: i64,
    pub left_out: i64,
    pub us: i64,
    pub copies_us: i64,
    pub told: String,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
