//! What was added to quotas, and what was told.

use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect, Set,
};

use crate::entity::{addition, event};
use crate::{Change, Result, Store, now_ms};

/// Something that is added to a quota, once.
#[derive(Clone, Debug, Default)]
pub struct NewAddition {
    /// Number of the quota, as counts have it.
    pub quota: u64,
    /// For whom, as counts have it.
    pub subject: u64,
    /// The period, in milliseconds since 1970.
    pub period: (i64, i64),
    /// How much.
    pub amount: i64,
    /// The quota and for whom, in words.
    pub told: String,
    /// Why.
    pub why: String,
}

impl Store {
    /// What was added to periods that are not over.
    ///
    /// # Errors
    /// When the database does.
    pub async fn additions(&self) -> Result<Vec<addition::Model>> {
        Ok(addition::Entity::find()
            .filter(addition::Column::UntilAt.gt(now_ms()))
            .order_by_asc(addition::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// Writes down what is told.
    ///
    /// # Errors
    /// When the database does.
    pub async fn tell(&self, events: Vec<event::ActiveModel>) -> Result<()> {
        if !events.is_empty() {
            event::Entity::insert_many(events)
                .exec_without_returning(&self.db)
                .await?;
        }
        Ok(())
    }

    /// What was told, the newest first: of one consumer, where one is named.
    ///
    /// # Errors
    /// When the database does.
    pub async fn events(&self, consumer: &str, most: u64) -> Result<Vec<event::Model>> {
        let mut found = event::Entity::find()
            .order_by_desc(event::Column::Id)
            .limit(most);
        if !consumer.is_empty() {
            found = found.filter(event::Column::Consumer.eq(consumer));
        }
        Ok(found.all(&self.db).await?)
    }
}

impl Change {
    /// Adds something to a quota in one of its periods.
    ///
    /// # Errors
    /// When the database does.
    pub async fn add_to_quota(&self, new: &NewAddition) -> Result<addition::Model> {
        let model = addition::ActiveModel {
            quota: Set(new.quota.cast_signed()),
            subject: Set(new.subject.cast_signed()),
            from_at: Set(new.period.0),
            until_at: Set(new.period.1),
            amount: Set(new.amount),
            told: Set(new.told.clone()),
            why: Set(new.why.clone()),
            added_by: Set(self.who.clone()),
            added_at: Set(now_ms()),
            ..Default::default()
        };
        Ok(model.insert(&self.transaction).await?)
    }
}
