//! The draft: the editable state of the documents.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "draft_file")]
pub struct Model {
    #[sea_orm(primary_key, auto_increment = false)]
    pub path: String,
    #[sea_orm(column_type = "Text")]
    pub text: String,
    pub revision: i64,
    pub changed_by: String,
    pub changed_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
