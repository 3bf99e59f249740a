//! What was added to quotas, once.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "quota_addition")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    /// Number of the quota, as counts have it.
    pub quota: i64,
    /// For whom, as counts have it.
    pub subject: i64,
    /// The beginning of the period.
    pub from_at: i64,
    /// The end of the period.
    pub until_at: i64,
    pub amount: i64,
    /// The quota and for whom, in words.
    pub told: String,
    pub why: String,
    pub added_by: String,
    pub added_at: i64,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {}

impl ActiveModelBehavior for ActiveModel {}
