//! Requests for offers.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "offer_request")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub consumer_id: i64,
    /// Name of the offer.
    pub offer: String,
    /// `open`, `granted`, `turned-down` or `withdrawn`.
    pub state: String,
    /// What whoever asked wrote.
    pub why: String,
    pub asked_by: String,
    pub asked_at: i64,
    pub decided_by: String,
    pub decided_at: Option<i64>,
    /// What whoever decided wrote.
    pub reason: String,
    /// Which text was accepted: its version, its digest, by whom and when.
    pub accepted: Option<Json>,
    /// What followed from it.
    pub agreement_id: Option<i64>,
}

#[derive(Copy, Clone, Debug, EnumIter, DeriveRelation)]
pub enum Relation {
    #[sea_orm(
        belongs_to = "super::consumer::Entity",
        from = "Column::ConsumerId",
        to = "super::consumer::Column::Id"
    )]
    Consumer,
}

impl Related<super::consumer::Entity> for Entity {
    fn to() -> RelationDef {
        Relation::Consumer.def()
    }
}

impl ActiveModelBehavior for ActiveModel {}
