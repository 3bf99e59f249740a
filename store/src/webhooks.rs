//! Webhooks: where events are sent, and what became of each.

use sea_orm::sea_query::{Expr, ExprTrait, LockBehavior, LockType};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DbBackend, EntityTrait, PaginatorTrait,
    QueryFilter, QueryOrder, QuerySelect, QueryTrait, Set, Statement,
};
use serde_json::json;

use crate::entity::{delivery, message, team, webhook};
use crate::{Change, Result, Store, StoreError, now_ms};

/// An event is tried so often.
pub const MOST_DELIVERIES: i32 = 12;
/// A team, and the publishers, have at most so many webhooks.
const MOST_WEBHOOKS: u64 = 10;
/// What became of events is kept for so long, in milliseconds.
const KEPT: i64 = 30 * 24 * 3_600_000;

/// An event that is to be sent now.
#[derive(Clone, Debug)]
pub struct Due {
    /// On its way.
    pub delivery: delivery::Model,
    /// Where to.
    pub webhook: webhook::Model,
    /// What is told.
    pub message: message::Model,
}

/// What became of an attempt to send an event.
#[derive(Clone, Debug)]
pub struct Fate<'a> {
    /// `waiting`, `delivered` or `given-up`.
    pub state: &'a str,
    /// What was answered.
    pub status: Option<u16>,
    /// Why it was not taken; empty: it was.
    pub problem: &'a str,
    /// When it is tried next, in milliseconds since 1970.
    pub next_at: Option<i64>,
}

impl Store {
    /// Webhooks of a team (none: of the publishers), by number.
    ///
    /// # Errors
    /// When the database does.
    pub async fn webhooks(&self, team: Option<i64>) -> Result<Vec<webhook::Model>> {
        Ok(webhook::Entity::find()
            .filter(of_team(team))
            .order_by_asc(webhook::Column::Id)
            .limit(1000)
            .all(&self.db)
            .await?)
    }

    /// A webhook of a team (none: of the publishers). What is another team's is not there.
    ///
    /// # Errors
    /// When there is none.
    pub async fn webhook(&self, team: Option<i64>, id: i64) -> Result<webhook::Model> {
        let found = webhook::Entity::find_by_id(id).filter(of_team(team));
        let found = found.one(&self.db).await?;
        found.ok_or_else(|| StoreError::Missing(format!("webhook {id}")))
    }

    /// Events of a webhook, the newest first, with what they tell.
    ///
    /// # Errors
    /// When the database does.
    pub async fn deliveries(
        &self,
        webhook: i64,
        before: Option<i64>,
        most: u64,
    ) -> Result<Vec<(delivery::Model, message::Model)>> {
        let mut found = delivery::Entity::find()
            .filter(delivery::Column::WebhookId.eq(webhook))
            .order_by_desc(delivery::Column::Id)
            .limit(most);
        if let Some(before) = before {
            found = found.filter(delivery::Column::Id.lt(before));
        }
        let found = found.all(&self.db).await?;
        let messages = message::Entity::find()
            .filter(message::Column::Id.is_in(found.iter().map(|d| d.message_id)))
            .all(&self.db)
            .await?;
        let of = |d: delivery::Model| {
            let message = messages.iter().find(|m| m.id == d.message_id)?.clone();
            Some((d, message))
        };
        Ok(found.into_iter().filter_map(of).collect())
    }

    /// Events that are to be sent now, the oldest first; those of webhooks that are paused, that nobody agreed to, or that are
    /// sent something by this node anyway, wait.
    ///
    /// # Errors
    /// When the database does.
    pub async fn deliveries_due(&self, most: u64, but: &[i64]) -> Result<Vec<Due>> {
        let now = now_ms();
        let open = webhook::Entity::find()
            .select_only()
            .column(webhook::Column::Id)
            .filter(webhook::Column::Paused.eq(false))
            .filter(webhook::Column::AgreedAt.is_not_null())
            .filter(webhook::Column::Id.is_not_in(but.iter().copied()))
            .into_query();
        // Whoever takes them has a minute: another node does not send them meanwhile, nor if this one ends.
        let due = delivery::Entity::find()
            .select_only()
            .column(delivery::Column::Id)
            .filter(delivery::Column::NextAt.lte(now))
            .filter(delivery::Column::WebhookId.in_subquery(open))
            .order_by_asc(delivery::Column::NextAt)
            .order_by_asc(delivery::Column::Id)
            .limit(most)
            .lock_with_behavior(LockType::Update, LockBehavior::SkipLocked)
            .into_query();
        let taken = delivery::Entity::update_many()
            .col_expr(delivery::Column::NextAt, Expr::value(now + 60_000))
            .col_expr(
                delivery::Column::Attempts,
                Expr::col(delivery::Column::Attempts).add(1),
            )
            .filter(Expr::col(delivery::Column::Id).in_subquery(due))
            .exec_with_returning(&self.db)
            .await?;
        let hooks = webhook::Entity::find()
            .filter(webhook::Column::Id.is_in(taken.iter().map(|d| d.webhook_id)))
            .all(&self.db)
            .await?;
        let messages = message::Entity::find()
            .filter(message::Column::Id.is_in(taken.iter().map(|d| d.message_id)))
            .all(&self.db)
            .await?;
        let of = |d: delivery::Model| {
            Some(Due {
                webhook: hooks.iter().find(|h| h.id == d.webhook_id)?.clone(),
                message: messages.iter().find(|m| m.id == d.message_id)?.clone(),
                delivery: d,
            })
        };
        let mut due: Vec<Due> = taken.into_iter().filter_map(of).collect();
        due.sort_by_key(|d| d.delivery.id);
        Ok(due)
    }

    /// An event that was to be sent was not tried, and is when its time comes.
    ///
    /// # Errors
    /// When the database does.
    pub async fn delivery_left(&self, id: i64, next_at: i64) -> Result<()> {
        delivery::Entity::update_many()
            .col_expr(delivery::Column::NextAt, Expr::value(next_at))
            .col_expr(
                delivery::Column::Attempts,
                Expr::col(delivery::Column::Attempts).sub(1),
            )
            .filter(delivery::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Notes what became of an attempt.
    ///
    /// # Errors
    /// When the database does.
    pub async fn delivery_tried(&self, id: i64, fate: &Fate<'_>) -> Result<()> {
        delivery::Entity::update_many()
            .col_expr(delivery::Column::State, Expr::value(fate.state))
            .col_expr(
                delivery::Column::Status,
                Expr::value(fate.status.map(i32::from)),
            )
            .col_expr(delivery::Column::Problem, Expr::value(fate.problem))
            .col_expr(delivery::Column::NextAt, Expr::value(fate.next_at))
            .col_expr(delivery::Column::TriedAt, Expr::value(now_ms()))
            .filter(delivery::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Notes whether whoever is there agreed to be sent events, and why not.
    ///
    /// # Errors
    /// When the database does.
    pub async fn webhook_asked(&self, id: i64, agreed: bool, problem: &str) -> Result<()> {
        let mut update = webhook::Entity::update_many()
            .col_expr(webhook::Column::Problem, Expr::value(problem))
            .filter(webhook::Column::Id.eq(id));
        if agreed {
            update = update.col_expr(webhook::Column::AgreedAt, Expr::value(now_ms()));
        }
        update.exec(&self.db).await?;
        Ok(())
    }

    /// Lets go what became of old events, and messages that were read long ago.
    ///
    /// # Errors
    /// When the database does.
    pub async fn forget_deliveries(&self) -> Result<u64> {
        let gone = delivery::Entity::delete_many()
            .filter(delivery::Column::MadeAt.lt(now_ms() - KEPT))
            .exec(&self.db)
            .await?;
        Ok(gone.rows_affected)
    }

    /// The key of the service's own for a purpose, which is made the first time.
    ///
    /// # Errors
    /// When the database does, or it was sealed with another key.
    pub async fn own_key(&self, purpose: &str, new: &str) -> Result<String> {
        let purpose = format!("own-key/{purpose}");
        let sealed = self.seal.seal(&purpose, new)?;
        let insert = "insert into own_key (purpose, sealed, created_at) values ($1, $2, $3) on conflict do nothing";
        let values = [purpose.clone().into(), sealed.into(), now_ms().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, insert, values);
        self.db.execute_raw(statement).await?;
        let select = "select sealed from own_key where purpose = $1";
        let statement =
            Statement::from_sql_and_values(DbBackend::Postgres, select, [purpose.clone().into()]);
        let row = self.db.query_one_raw(statement).await?;
        let row = row.ok_or_else(|| StoreError::Missing(purpose.clone()))?;
        let sealed: Vec<u8> = row.try_get("", "sealed")?;
        Ok(self.seal.open(&purpose, &sealed)?)
    }
}

fn of_team(team: Option<i64>) -> sea_orm::sea_query::SimpleExpr {
    match team {
        Some(team) => webhook::Column::TeamId.eq(team),
        None => webhook::Column::TeamId.is_null(),
    }
}

impl Change {
    /// Adds a webhook of a team (none: of the publishers).
    ///
    /// # Errors
    /// When there are too many.
    pub async fn create_webhook(
        &self,
        team: Option<i64>,
        url: &str,
        kinds: &[String],
    ) -> Result<webhook::Model> {
        // Whoever adds another one meanwhile waits.
        if let Some(team) = team {
            team::Entity::find_by_id(team)
                .lock_exclusive()
                .one(&self.transaction)
                .await?;
        }
        let there = webhook::Entity::find()
            .filter(of_team(team))
            .count(&self.transaction)
            .await?;
        if there >= MOST_WEBHOOKS {
            return Err(StoreError::Full(format!("{MOST_WEBHOOKS} webhooks")));
        }
        let model = webhook::ActiveModel {
            team_id: Set(team),
            url: Set(url.into()),
            kinds: Set(json!(kinds)),
            made_by: Set(self.who.clone()),
            created_at: Set(now_ms()),
            agreed_at: Set(None),
            paused: Set(false),
            problem: Set(String::new()),
            ..Default::default()
        };
        Ok(model.insert(&self.transaction).await?)
    }

    /// Pauses a webhook, or lets it go on.
    ///
    /// # Errors
    /// When there is none.
    pub async fn pause_webhook(&self, team: Option<i64>, id: i64, paused: bool) -> Result<()> {
        let mut update = webhook::Entity::update_many()
            .col_expr(webhook::Column::Paused, Expr::value(paused))
            .filter(webhook::Column::Id.eq(id))
            .filter(of_team(team));
        if !paused {
            update = update.col_expr(webhook::Column::Problem, Expr::value(""));
        }
        match update.exec(&self.transaction).await?.rows_affected {
            0 => Err(StoreError::Missing(format!("webhook {id}"))),
            _ => Ok(()),
        }
    }

    /// Takes a webhook away, with what became of its events.
    ///
    /// # Errors
    /// When there is none.
    pub async fn delete_webhook(&self, team: Option<i64>, id: i64) -> Result<webhook::Model> {
        let found = webhook::Entity::find_by_id(id).filter(of_team(team));
        let found = found.one(&self.transaction).await?;
        let found = found.ok_or_else(|| StoreError::Missing(format!("webhook {id}")))?;
        webhook::Entity::delete_by_id(id)
            .exec(&self.transaction)
            .await?;
        Ok(found)
    }

    /// Sends an event once more.
    ///
    /// # Errors
    /// When there is none, or it is waiting anyway.
    pub async fn send_again(&self, webhook: i64, id: i64) -> Result<()> {
        let again = delivery::Entity::update_many()
            .col_expr(delivery::Column::State, Expr::value("waiting"))
            .col_expr(delivery::Column::NextAt, Expr::value(now_ms()))
            .col_expr(delivery::Column::Attempts, Expr::value(0))
            .filter(delivery::Column::Id.eq(id))
            .filter(delivery::Column::WebhookId.eq(webhook));
        match again.exec(&self.transaction).await?.rows_affected {
            0 => Err(StoreError::Missing(format!("event {id}"))),
            _ => Ok(()),
        }
    }

    /// A message goes to the webhooks of whom it tells, where they want its kind.
    pub(crate) async fn send_event(&self, message: &message::Model) -> Result<()> {
        let hooks = webhook::Entity::find()
            .filter(of_team(message.team_id))
            .all(&self.transaction)
            .await?;
        let wanted = |h: &&webhook::Model| {
            let kinds = h.kinds();
            kinds.is_empty() || kinds.contains(&message.kind)
        };
        for hook in hooks.iter().filter(wanted) {
            let model = delivery::ActiveModel {
                webhook_id: Set(hook.id),
                message_id: Set(message.id),
                state: Set("waiting".into()),
                made_at: Set(message.at),
                next_at: Set(Some(message.at)),
                attempts: Set(0),
                problem: Set(String::new()),
                ..Default::default()
            };
            model.insert(&self.transaction).await?;
        }
        Ok(())
    }
}
