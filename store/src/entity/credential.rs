//! Credentials of consumers: only hashes, with what each is known by.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "credential")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub consumer_id: i64,
    pub label: String,
    /// What it is known by: of a key how it begins, of a password the name.
    pub prefix: String,
    #[sea_orm(unique)]
    #[serde(skip)]
    pub hash: String,
    pub ends_at: Option<i64>,
    pub paused: bool,
    pub created_at: i64,
    /// Names of the facades that it opens, with a comma between them; none: every one.
    pub facades: Option<String>,
    /// `key` or `password`.
    pub kind: String,
    /// What it is held against, where it is no key.
    #[serde(skip)]
    pub proof: Option<String>,
    /// Numbers of the agreements that it is for, with a comma between them; none: all of its consumer's.
    pub agreements: Option<String>,
    pub last_used_at: Option<i64>,
}

impl Model {
    /// The facades that it opens; none: every one.
    pub fn opens(&self) -> Option<Vec<String>> {
        Some(super::names(self.facades.as_ref()?))
    }

    /// The numbers of the agreements that it is for; none: all of its consumer's.
    pub fn agreements(&self) -> Option<Vec<i64>> {
        let all = self.agreements.as_ref()?.split(',');
        Some(all.filter_map(|n| n.parse().ok()).collect())
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
