//! People who call: accounts of the portal.

use sea_orm::entity::prelude::*;

#[derive(Clone, PartialEq, DeriveEntityModel)]
#[sea_orm(table_name = "person")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    /// E-mail address, in lower case.
    #[sea_orm(unique)]
    pub email: String,
    pub name: String,
    /// Empty: who signs in by OpenID alone.
    pub password_hash: String,
    /// When the address was confirmed; none: it was not yet.
    pub confirmed_at: Option<i64>,
    /// Issuer and subject at the OpenID provider.
    #[sea_orm(unique)]
    pub subject: Option<String>,
    pub paused: bool,
    /// The secret of the second factor (RFC 6238), sealed; none: there is none.
    pub factor: Option<Vec<u8>>,
    /// The last step of time whose code was used: no code is good twice.
    pub factor_step: i64,
    /// Hashes of codes that are each good once in its place.
    pub factor_codes: Json,
    pub created_at: i64,
}

impl std::fmt::Debug for Model {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "person {}", self.id)
    }
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
