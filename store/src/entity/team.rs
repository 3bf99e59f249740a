//! Teams: those who call, and whose consumers they are.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "team")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub name: String,
    /// A list of names: what offers may ask for. Publishers give them.
    pub roles: Json,
    pub created_at: i64,
}

impl Model {
    /// Its roles.
    pub fn roles(&self) -> Vec<String> {
        super::texts(&self.roles)
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
