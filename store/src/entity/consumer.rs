//! Consumers: registered applications that call.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "consumer")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    #[sea_orm(unique)]
    pub name: String,
    pub owner: String,
    pub paused: bool,
    pub created_at: i64,
    /// A list of names: what operations may ask for.
    pub roles: Json,
    /// A list of texts that people sort consumers by.
    pub labels: Json,
    /// Whether it may call what it has agreed to and nothing else, as whatever follows from an offer may.
    pub bound: bool,
    /// The team of the portal whose it is; none: publishers look after it.
    pub team_id: Option<i64>,
}

impl Model {
    /// Its roles.
    pub fn roles(&self) -> Vec<String> {
        super::texts(&self.roles)
    }

    /// Its labels.
    pub fn labels(&self) -> Vec<String> {
        super::texts(&self.labels)
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
