//! The draft's files, and releases.

use sea_orm::sea_query::OnConflict;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, EntityTrait, QueryFilter, QueryOrder, QuerySelect, Set,
};
use serde_json::Value;

use crate::entity::{draft_file, release};
use crate::{Change, Result, Store, StoreError, Topic, now_ms, taken};

impl Store {
    /// The draft's files by path.
    ///
    /// # Errors
    /// When the database does.
    pub async fn draft(&self) -> Result<Vec<draft_file::Model>> {
        Ok(draft_file::Entity::find()
            .order_by_asc(draft_file::Column::Path)
            .all(&self.db)
            .await?)
    }

    /// The release that an environment serves: its latest.
    ///
    /// # Errors
    /// When the database does.
    pub async fn served(&self, environment: &str) -> Result<Option<release::Model>> {
        Ok(release::Entity::find()
            .filter(release::Column::Environment.eq(environment))
            .order_by_desc(release::Column::Number)
            .one(&self.db)
            .await?)
    }

    /// One release.
    ///
    /// # Errors
    /// When there is none.
    pub async fn release(&self, environment: &str, number: i64) -> Result<release::Model> {
        let found = release::Entity::find()
            .filter(release::Column::Environment.eq(environment))
            .filter(release::Column::Number.eq(number))
            .one(&self.db)
            .await?;
        found.ok_or_else(|| StoreError::Missing(format!("release {number} in {environment}")))
    }

    /// The latest releases of an environment, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn releases(&self, environment: &str, most: u64) -> Result<Vec<release::Model>> {
        Ok(release::Entity::find()
            .filter(release::Column::Environment.eq(environment))
            .order_by_desc(release::Column::Number)
            .limit(most)
            .all(&self.db)
            .await?)
    }
}

impl Change {
    /// Writes and removes files of the draft, all or none. A file that has a revision beside it must still be at that
    /// revision.
    ///
    /// # Errors
    /// When a file was changed in the meantime.
    pub async fn write_draft(
        &self,
        write: &[(String, String, Option<i64>)],
        remove: &[String],
    ) -> Result<()> {
        let transaction = &self.transaction;
        for (path, text, revision) in write {
            let current = draft_file::Entity::find_by_id(path.clone())
                .lock_exclusive()
                .one(transaction)
                .await?;
            let at = current.as_ref().map_or(0, |c| c.revision);
            if revision.is_some_and(|r| r != at) {
                return Err(StoreError::Stale(format!("“{path}”")));
            }
            if current.is_some_and(|c| c.text == *text) {
                continue;
            }
            let model = draft_file::ActiveModel {
                path: Set(path.clone()),
                text: Set(text.clone()),
                revision: Set(at + 1),
                changed_by: Set(self.who.clone()),
                changed_at: Set(now_ms()),
            };
            let columns = [
                draft_file::Column::Text,
                draft_file::Column::Revision,
                draft_file::Column::ChangedBy,
                draft_file::Column::ChangedAt,
            ];
            draft_file::Entity::insert(model)
                .on_conflict(
                    OnConflict::column(draft_file::Column::Path)
                        .update_columns(columns)
                        .to_owned(),
                )
                .exec_without_returning(transaction)
                .await?;
        }
        for path in remove {
            draft_file::Entity::delete_by_id(path.clone())
                .exec(transaction)
                .await?;
        }
        self.touch(&Topic::Draft).await
    }

    /// Keeps a release under the number after `after`.
    ///
    /// # Errors
    /// When somebody released in the meantime.
    pub async fn create_release(
        &self,
        environment: &str,
        after: i64,
        taken_facades: Value,
        content: Value,
        note: &str,
    ) -> Result<release::Model> {
        let model = release::ActiveModel {
            environment: Set(environment.into()),
            number: Set(after + 1),
            taken: Set(taken_facades),
            content: Set(content),
            note: Set(note.into()),
            made_by: Set(self.who.clone()),
            made_at: Set(now_ms()),
            ..Default::default()
        };
        let made = model.insert(&self.transaction).await;
        let made = made.map_err(taken("a release")).map_err(|e| match e {
            StoreError::Taken(_) => StoreError::Stale(format!("what {environment} serves")),
            other => other,
        })?;
        self.touch(&Topic::Served(environment.to_owned())).await?;
        Ok(made)
    }
}
