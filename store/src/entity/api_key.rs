//! Keys: only hashes, with what a key is known by.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "api_key")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub consumer_id: i64,
    pub label: String,
    pub prefix: String,
    #[sea_orm(unique)]
    #[serde(skip)]
    pub hash: String,
    pub ends_at: Option<i64>,
    pub paused: bool,
    pub created_at: i64,
    /// Names of the facades that it opens, with a comma between them; none: every one.
    pub facades: Option<String>,
}

impl Model {
    /// The facades that it opens; none: every one.
    pub fn opens(&self) -> Option<Vec<String>> {
        let all = self.facades.as_ref()?;
        Some(
            all.split(',')
                .filter(|f| !f.is_empty())
                .map(str::to_owned)
                .collect(),
        )
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
