//! What consumers have agreed to.

use sea_orm::entity::prelude::*;

#[derive(Clone, Debug, PartialEq, DeriveEntityModel, serde::Serialize)]
#[sea_orm(table_name = "agreement")]
pub struct Model {
    #[sea_orm(primary_key)]
    pub id: i64,
    pub consumer_id: i64,
    /// Name of what was offered.
    pub offer: String,
    /// Named numbers and texts, as they were agreed on.
    pub terms: Json,
    /// What it opens, a list: `sailings` for a facade, `sailings/quoteFare` for one of its operations; none: every facade.
    pub opens: Option<Json>,
    pub from_at: i64,
    pub until_at: Option<i64>,
    pub paused: bool,
    pub created_at: i64,
    /// The request that it follows from; none: a publisher noted it.
    pub request_id: Option<i64>,
    /// Which text was accepted: its version, its digest, by whom and when.
    pub accepted: Option<Json>,
    /// Who ended it, when and why.
    pub ended: Option<Json>,
}

impl Model {
    /// What it opens; none: every facade.
    pub fn opens(&self) -> Option<Vec<String>> {
        Some(super::texts(self.opens.as_ref()?))
    }
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
