//! Letters by e-mail that are to be sent.

use sea_orm::entity::prelude::*;

#[derive(Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "mail")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub to_address: String,
    pub subject: String,
    /// May hold a link that nobody else must see.
    pub text: String,
    pub made_at: i64,
    pub attempts: i32,
    /// When it is tried next.
    pub next_at: i64,
}

impl std::fmt::Debug for Model {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "letter {}", self.id)
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
