//! What people are told: messages in the portal and the console, and letters by e-mail.

use sea_orm::sea_query::{Expr, ExprTrait};
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DbBackend, EntityTrait, QueryFilter,
    QueryOrder, QuerySelect, QueryTrait, Set, Statement,
};
use serde_json::Value;

use crate::entity::{mail, member, message, person};
use crate::{Change, Result, Store, now_ms};

/// What somebody is told.
#[derive(Clone, Debug)]
pub struct NewMessage<'a> {
    /// As in `request-granted`.
    pub kind: &'a str,
    /// The team that is told; none: the publishers.
    pub team: Option<i64>,
    /// What it is about, in a line.
    pub subject: &'a str,
    /// The rest.
    pub text: &'a str,
    /// The same for machines.
    pub detail: Value,
}

/// A letter is tried so often.
pub const MOST_ATTEMPTS: i32 = 10;

impl Store {
    /// What a team was told (none: the publishers), the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn messages(
        &self,
        team: Option<i64>,
        before: Option<i64>,
        most: u64,
    ) -> Result<Vec<message::Model>> {
        let of = match team {
            Some(team) => message::Column::TeamId.eq(team),
            None => message::Column::TeamId.is_null(),
        };
        let mut found = message::Entity::find()
            .filter(of)
            .order_by_desc(message::Column::Id)
            .limit(most);
        if let Some(before) = before {
            found = found.filter(message::Column::Id.lt(before));
        }
        Ok(found.all(&self.db).await?)
    }

    /// Notes that a team (none: a publisher) has read all that it was told up to a message.
    ///
    /// # Errors
    /// When the database does.
    pub async fn messages_read(&self, team: Option<i64>, until: i64) -> Result<()> {
        let of = match team {
            Some(team) => message::Column::TeamId.eq(team),
            None => message::Column::TeamId.is_null(),
        };
        message::Entity::update_many()
            .col_expr(message::Column::ReadAt, Expr::value(now_ms()))
            .filter(of)
            .filter(message::Column::Id.lte(until))
            .filter(message::Column::ReadAt.is_null())
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Letters that are to be sent now.
    ///
    /// # Errors
    /// When the database does.
    pub async fn letters_due(&self, most: u64) -> Result<Vec<mail::Model>> {
        let now = now_ms();
        // Whoever takes them has a minute: another node does not send them meanwhile, nor if this one ends.
        let due = mail::Entity::find()
            .select_only()
            .column(mail::Column::Id)
            .filter(mail::Column::NextAt.lte(now))
            .order_by_asc(mail::Column::Id)
            .limit(most)
            .lock_with_behavior(
                sea_orm::sea_query::LockType::Update,
                sea_orm::sea_query::LockBehavior::SkipLocked,
            )
            .into_query();
        Ok(mail::Entity::update_many()
            .col_expr(mail::Column::NextAt, Expr::value(now + 60_000))
            .col_expr(
                mail::Column::Attempts,
                Expr::col(mail::Column::Attempts).add(1),
            )
            .filter(Expr::col(mail::Column::Id).in_subquery(due))
            .exec_with_returning(&self.db)
            .await?)
    }

    /// A letter was sent, or is given up.
    ///
    /// # Errors
    /// When the database does.
    pub async fn letter_done(&self, id: i64) -> Result<()> {
        mail::Entity::delete_by_id(id).exec(&self.db).await?;
        Ok(())
    }

    /// A letter could not be sent, and is tried again after so many milliseconds.
    ///
    /// # Errors
    /// When the database does.
    pub async fn letter_later(&self, id: i64, wait: i64) -> Result<()> {
        mail::Entity::update_many()
            .col_expr(mail::Column::NextAt, Expr::value(now_ms() + wait))
            .filter(mail::Column::Id.eq(id))
            .exec(&self.db)
            .await?;
        Ok(())
    }
}

impl Change {
    /// Tells a team or the publishers something; a team's members by e-mail too.
    ///
    /// # Errors
    /// When the database does.
    pub async fn tell(&self, new: &NewMessage<'_>) -> Result<()> {
        let model = message::ActiveModel {
            at: Set(now_ms()),
            kind: Set(new.kind.into()),
            team_id: Set(new.team),
            subject: Set(new.subject.into()),
            text: Set(new.text.into()),
            detail: Set(new.detail.clone()),
            read_at: Set(None),
            ..Default::default()
        };
        let told = model.insert(&self.transaction).await?;
        self.send_event(&told).await?;
        let Some(team) = new.team else {
            return Ok(());
        };
        let members = member::Entity::find()
            .filter(member::Column::TeamId.eq(team))
            .limit(1000)
            .all(&self.transaction)
            .await?;
        let members = members.into_iter().map(|m| m.person_id);
        let people = person::Entity::find()
            .filter(person::Column::Id.is_in(members))
            .filter(person::Column::ConfirmedAt.is_not_null())
            .filter(person::Column::Paused.eq(false))
            .all(&self.transaction)
            .await?;
        for person in people {
            self.write_letter(&person.email, new.subject, new.text)
                .await?;
        }
        Ok(())
    }

    /// Tells a team something once, however often it is looked at: `about` is what it is known by. Gives whether it was told.
    ///
    /// # Errors
    /// When the database does.
    pub async fn tell_once(&self, new: &NewMessage<'_>, about: &str) -> Result<bool> {
        // Whoever looks at the same time waits.
        let lock = "select pg_advisory_xact_lock(hashtext($1))";
        let values = [format!("{} {about}", new.kind).into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, lock, values);
        self.transaction.execute_raw(statement).await?;
        let told = message::Entity::find()
            .filter(message::Column::Kind.eq(new.kind))
            .filter(message::Column::TeamId.eq(new.team))
            .filter(Expr::cust_with_values("detail->>'about' = $1", [about]))
            .one(&self.transaction)
            .await?;
        if told.is_some() {
            return Ok(false);
        }
        let mut detail = new.detail.clone();
        detail["about"] = about.into();
        let new = NewMessage {
            detail,
            ..new.clone()
        };
        self.tell(&new).await?;
        Ok(true)
    }

    /// Writes a letter that is sent by e-mail.
    ///
    /// # Errors
    /// When the database does.
    pub async fn write_letter(&self, to: &str, subject: &str, text: &str) -> Result<()> {
        let now = now_ms();
        let model = mail::ActiveModel {
            to_address: Set(to.into()),
            subject: Set(subject.into()),
            text: Set(text.into()),
            made_at: Set(now),
            attempts: Set(0),
            next_at: Set(now),
            ..Default::default()
        };
        model.insert(&self.transaction).await?;
        Ok(())
    }
}
