//! Facades and operations that are paused; an empty operation means the whole facade.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "pause")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub facade: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub operation: String,
    pub paused_by: String,
    pub paused_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
