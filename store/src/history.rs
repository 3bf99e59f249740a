//! What of facades was changed, and who uses what.

use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DbBackend, EntityTrait, QueryFilter,
    QueryOrder, QuerySelect, Set, Statement,
};
use serde_json::{Value, json};

use crate::entity::history;
use crate::{Change, Result, Store, now_ms};

/// A facade that a release changed.
#[derive(Clone, Debug)]
pub struct NewHistory<'a> {
    /// Its name.
    pub facade: &'a str,
    /// Version of its contract.
    pub version: &'a str,
    /// `new`, `changed` or `gone`.
    pub status: &'a str,
    /// For callers, as a list: harm, operation and words.
    pub changes: Value,
}

impl Store {
    /// What of facades was changed in an environment, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn history(
        &self,
        environment: &str,
        facades: &[&str],
        before: Option<i64>,
        most: u64,
    ) -> Result<Vec<history::Model>> {
        let mut found = history::Entity::find()
            .filter(history::Column::Environment.eq(environment))
            .filter(history::Column::Facade.is_in(facades.iter().copied()))
            .order_by_desc(history::Column::Id)
            .limit(most);
        if let Some(before) = before {
            found = found.filter(history::Column::Id.lt(before));
        }
        Ok(found.all(&self.db).await?)
    }
}

impl Change {
    /// Notes what a release changed of facades.
    ///
    /// # Errors
    /// When the database does.
    pub async fn keep_history(
        &self,
        environment: &str,
        release: i64,
        changed: &[NewHistory<'_>],
    ) -> Result<()> {
        for one in changed {
            let model = history::ActiveModel {
                environment: Set(environment.into()),
                release: Set(release),
                facade: Set(one.facade.into()),
                at: Set(now_ms()),
                version: Set(one.version.into()),
                status: Set(one.status.into()),
                changes: Set(one.changes.clone()),
                ..Default::default()
            };
            model.insert(&self.transaction).await?;
        }
        Ok(())
    }

    /// The teams with an agreement that holds and opens a facade or one of these operations of it. Each with those of them
    /// that its agreements open, as in `sailings` or `sailings/quoteFare`.
    ///
    /// # Errors
    /// When the database does.
    pub async fn teams_that_use<'o>(
        &self,
        facade: &str,
        operations: impl Iterator<Item = &'o str>,
    ) -> Result<Vec<(i64, Vec<String>)>> {
        let mut opens: Vec<String> = operations.map(|id| format!("{facade}/{id}")).collect();
        opens.push(facade.to_owned());
        // One that opens every facade opens this one.
        let sql = "with held as (select c.team_id, a.opens from agreement a join consumer c on c.id = a.consumer_id where c.team_id is not null and not a.paused and (a.until_at is null or a.until_at > $2)) select distinct h.team_id, o.entry as opened from held h cross join lateral jsonb_array_elements_text(coalesce(h.opens, jsonb_build_array($3::text))) o(entry) join jsonb_array_elements_text($1::jsonb) w(entry) on w.entry = o.entry order by 1, 2";
        let values = [json!(opens).into(), now_ms().into(), facade.into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let mut teams: Vec<(i64, Vec<String>)> = Vec::new();
        for row in self.transaction.query_all_raw(statement).await? {
            let (team, opened) = (row.try_get("", "team_id")?, row.try_get("", "opened")?);
            match teams.last_mut() {
                Some((last, all)) if *last == team => all.push(opened),
                _ => teams.push((team, vec![opened])),
            }
        }
        Ok(teams)
    }
}
