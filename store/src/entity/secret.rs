//! Secrets, sealed.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "secret")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub environment: String,
    #[sea_orm(primary_key, auto_increment = false)]
    pub name: String,
    #[serde(skip)]
    pub sealed: Vec<u8>,
    pub changed_by: String,
    pub changed_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
