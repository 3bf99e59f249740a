//! What consumers have agreed to.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "agreement")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub consumer_id: i64,
    /// Name of what was offered.
    pub offer: String,
    /// Named numbers and texts, as they were agreed on.
    pub terms: Json,
    /// Names of the facades that it opens, with a comma between them; none: every one.
    pub facades: Option<String>,
    pub from_at: i64,
    pub until_at: Option<i64>,
    pub paused: bool,
    pub created_at: i64,
}

impl Model {
    /// The facades that it opens; none: every one.
    pub fn opens(&self) -> Option<Vec<String>> {
        Some(super::names(self.facades.as_ref()?))
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
