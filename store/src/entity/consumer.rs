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
}

impl Model {
    /// Its roles.
    pub fn roles(&self) -> Vec<String> {
        texts(&self.roles)
    }

    /// Its labels.
    pub fn labels(&self) -> Vec<String> {
        texts(&self.labels)
    }
}

fn texts(list: &Json) -> Vec<String> {
    let all = list.as_array().into_iter().flatten();
    all.filter_map(|t| t.as_str().map(str::to_owned)).collect()
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
