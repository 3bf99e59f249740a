//! People who publish, and what they may do.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "account")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    #[sea_orm(unique)]
    pub name: String,
    #[serde(skip)]
    pub password_hash: String,
    pub role: String,
    pub created_at: i64,
    /// Who it is elsewhere: the address of an OpenID provider, a space, and its name for them there.
    #[serde(skip)]
    pub subject: Option<String>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
