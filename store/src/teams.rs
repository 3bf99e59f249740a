//! Members of teams, those who are invited, second factors, and people who come from elsewhere.

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DbBackend, EntityTrait, IntoActiveModel,
    PaginatorTrait, QueryFilter, QueryOrder, QuerySelect, Set, Statement,
};
use serde_json::json;

use crate::entity::{consumer, member, person, person_session, team};
use crate::people::Purpose;
use crate::sessions::hash_token;
use crate::{Change, Result, Store, StoreError, now_ms, taken};

/// An invitation is good for so long, in milliseconds.
const INVITED: i64 = 7 * 24 * 3_600_000;
/// A team has at most so many members and people who are invited.
const MOST_MEMBERS: i64 = 200;

/// A team has at most so many consumers.
const MOST_CONSUMERS: u64 = 50;

/// Somebody who is invited and has not come yet.
#[derive(Clone, Debug)]
pub struct Invitation {
    /// E-mail address.
    pub email: String,
    /// Number of the team.
    pub team: i64,
    /// When the letter was written.
    pub sent_at: i64,
    /// Until when its link is good.
    pub expires_at: i64,
}

/// An account that is good from the beginning: its address is known to be theirs.
#[derive(Clone, Debug)]
pub struct NewPerson<'a> {
    /// E-mail address.
    pub email: &'a str,
    /// What they are called.
    pub name: &'a str,
    /// Empty: they come from elsewhere alone.
    pub password_hash: &'a str,
    /// The provider and its name for them.
    pub subject: Option<&'a str>,
}

fn missing(what: impl Into<String>) -> StoreError {
    StoreError::Missing(what.into())
}

impl Store {
    /// The teams that a person is a member of, the longest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn teams_of(&self, person: i64) -> Result<Vec<team::Model>> {
        let own = member::Entity::find()
            .filter(member::Column::PersonId.eq(person))
            .order_by_asc(member::Column::Since)
            .limit(1000)
            .all(&self.db)
            .await?;
        let all = team::Entity::find()
            .filter(team::Column::Id.is_in(own.iter().map(|m| m.team_id)))
            .all(&self.db)
            .await?;
        let of = |m: &member::Model| all.iter().find(|t| t.id == m.team_id).cloned();
        Ok(own.iter().filter_map(of).collect())
    }

    /// Those who are invited to a team, by address.
    ///
    /// # Errors
    /// When the database does.
    pub async fn invitations(&self, team: i64) -> Result<Vec<Invitation>> {
        let sql = "select email, team_id, sent_at, expires_at from letter where purpose = 'invite' and team_id = $1 and expires_at > $2 order by email limit 1000";
        let values = [team.into(), now_ms().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let rows = self.db.query_all_raw(statement).await?;
        rows.iter().map(invitation).collect()
    }

    /// The invitation of a link, and the team that invites.
    ///
    /// # Errors
    /// When there is none that is good.
    pub async fn invitation(&self, token: &str) -> Result<(Invitation, team::Model)> {
        let sql = "select email, team_id, sent_at, expires_at from letter where purpose = 'invite' and token_hash = $1 and expires_at > $2";
        let values = [hash_token(token).into(), now_ms().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let gone = || missing("invitation that is good; ask for another one");
        let row = self.db.query_one_raw(statement).await?.ok_or_else(gone)?;
        let found = invitation(&row)?;
        let team = team::Entity::find_by_id(found.team).one(&self.db).await?;
        Ok((found, team.ok_or_else(gone)?))
    }

    /// Whom a link was made for, if it is good; it stays so.
    ///
    /// # Errors
    /// When the database does.
    pub async fn holder_of_link(&self, purpose: Purpose, token: &str) -> Result<Option<String>> {
        let sql =
            "select email from letter where token_hash = $1 and purpose = $2 and expires_at > $3";
        let values = [
            hash_token(token).into(),
            purpose.name().into(),
            now_ms().into(),
        ];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let row = self.db.query_one_raw(statement).await?;
        Ok(row.map(|r| r.try_get("", "email")).transpose()?)
    }

    /// The person whom a provider has a name for.
    ///
    /// # Errors
    /// When the database does.
    pub async fn person_known_as(&self, subject: &str) -> Result<Option<person::Model>> {
        let of = person::Column::Subject.eq(subject);
        Ok(person::Entity::find().filter(of).one(&self.db).await?)
    }

    /// The secret of a person's second factor, where there is one.
    ///
    /// # Errors
    /// When it was sealed with another key.
    pub fn factor_of(&self, person: &person::Model) -> Result<Option<String>> {
        let purpose = format!("factor/{}", person.id);
        let sealed = person.factor.as_deref();
        Ok(sealed.map(|s| self.seal.open(&purpose, s)).transpose()?)
    }

    /// Uses a code of a step of time; whether nobody had used one of it or a later one.
    ///
    /// # Errors
    /// When the database does.
    pub async fn use_factor_step(&self, person: i64, step: i64) -> Result<bool> {
        let used = person::Entity::update_many()
            .col_expr(person::Column::FactorStep, Expr::value(step))
            .filter(person::Column::Id.eq(person))
            .filter(person::Column::FactorStep.lt(step))
            .exec(&self.db)
            .await?;
        Ok(used.rows_affected == 1)
    }

    /// Uses one of the codes that are good once; whether there was such a one.
    ///
    /// # Errors
    /// When the database does.
    pub async fn use_factor_code(&self, person: i64, code: &str) -> Result<bool> {
        let sql = "update person set factor_codes = factor_codes - $2 where id = $1 and factor_codes ? $2";
        let values = [person.into(), hash_token(code).into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        Ok(self.db.execute_raw(statement).await?.rows_affected() == 1)
    }

    /// Acts for another team of one's own from now on.
    ///
    /// # Errors
    /// When one is none of its members.
    pub async fn act_for(&self, person: i64, session: i64, team: i64) -> Result<()> {
        let of = member::Entity::find_by_id((team, person))
            .one(&self.db)
            .await?;
        of.ok_or_else(|| missing(format!("team {team} of yours")))?;
        person_session::Entity::update_many()
            .col_expr(person_session::Column::TeamId, Expr::value(team))
            .filter(person_session::Column::Id.eq(session))
            .exec(&self.db)
            .await?;
        Ok(())
    }
}

fn invitation(row: &sea_orm::QueryResult) -> Result<Invitation> {
    Ok(Invitation {
        email: row.try_get("", "email")?,
        team: row.try_get("", "team_id")?,
        sent_at: row.try_get("", "sent_at")?,
        expires_at: row.try_get("", "expires_at")?,
    })
}

impl Change {
    /// Invites somebody to a team; an earlier invitation of theirs is good no more.
    ///
    /// # Errors
    /// When they are a member already, or there are too many.
    pub async fn invite(&self, team: i64, email: &str, token: &str) -> Result<()> {
        let email = email.to_lowercase();
        // Whoever invites another one meanwhile waits.
        let held = team::Entity::find_by_id(team).lock_exclusive();
        held.one(&self.transaction).await?;
        let sql = "select (select count(*) from member where team_id = $1) + (select count(*) from letter where purpose = 'invite' and team_id = $1 and email <> $2 and expires_at > $3) as n, exists (select 1 from member m join person p on p.id = m.person_id where m.team_id = $1 and p.email = $2) as there";
        let values = [team.into(), email.clone().into(), now_ms().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let row = self.transaction.query_one_raw(statement).await?;
        let row = row.ok_or_else(|| missing("team"))?;
        if row.try_get("", "there")? {
            return Err(StoreError::Taken(email));
        }
        if row.try_get::<i64>("", "n")? >= MOST_MEMBERS {
            let what = format!("{MOST_MEMBERS} members and people who are invited");
            return Err(StoreError::Full(what));
        }
        self.withdraw_invitation(team, &email).await?;
        let sql = "insert into letter (token_hash, purpose, email, team_id, sent_at, expires_at) values ($1, 'invite', $2, $3, $4, $5)";
        let now = now_ms();
        let values = [
            hash_token(token).into(),
            email.into(),
            team.into(),
            now.into(),
            (now + INVITED).into(),
        ];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        self.transaction.execute_raw(statement).await?;
        Ok(())
    }

    /// Takes an invitation back; whether there was one.
    ///
    /// # Errors
    /// When the database does.
    pub async fn withdraw_invitation(&self, team: i64, email: &str) -> Result<bool> {
        let sql = "delete from letter where purpose = 'invite' and team_id = $1 and email = $2";
        let values = [team.into(), email.to_lowercase().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let gone = self.transaction.execute_raw(statement).await?;
        Ok(gone.rows_affected() > 0)
    }

    /// Uses the link of an invitation, once: whom it is for, and the number of the team.
    ///
    /// # Errors
    /// When there is none that is good.
    pub async fn use_invitation(&self, token: &str) -> Result<(String, i64)> {
        let sql = "delete from letter where token_hash = $1 and purpose = 'invite' and expires_at > $2 returning email, team_id";
        let values = [hash_token(token).into(), now_ms().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let row = self.transaction.query_one_raw(statement).await?;
        let row = row.ok_or_else(|| missing("invitation that is good; ask for another one"))?;
        Ok((row.try_get("", "email")?, row.try_get("", "team_id")?))
    }

    /// The person of an address, whom nobody else changes meanwhile.
    ///
    /// # Errors
    /// When the database does.
    pub async fn held_person(&self, email: &str) -> Result<Option<person::Model>> {
        let of = person::Column::Email.eq(email.to_lowercase());
        let found = person::Entity::find().filter(of).lock_exclusive();
        Ok(found.one(&self.transaction).await?)
    }

    /// Makes an account of somebody whose address is known to be theirs, of no team yet. One of the address that was never
    /// confirmed is taken over, with nothing of what whoever made it had chosen.
    ///
    /// # Errors
    /// When there is one that was confirmed.
    pub async fn create_known_person(&self, new: &NewPerson<'_>) -> Result<person::Model> {
        let email = new.email.to_lowercase();
        let now = Some(now_ms());
        match self.held_person(&email).await? {
            Some(old) if old.confirmed_at.is_some() => return Err(StoreError::Taken(email)),
            Some(old) => {
                let mut model = old.into_active_model();
                model.name = Set(new.name.into());
                model.password_hash = Set(new.password_hash.into());
                model.subject = Set(new.subject.map(str::to_owned));
                model.confirmed_at = Set(now);
                return Ok(model.update(&self.transaction).await?);
            }
            None => {}
        }
        let model = person::ActiveModel {
            email: Set(email.clone()),
            name: Set(new.name.into()),
            password_hash: Set(new.password_hash.into()),
            confirmed_at: Set(now),
            subject: Set(new.subject.map(str::to_owned)),
            paused: Set(false),
            created_at: Set(now_ms()),
            factor: Set(None),
            factor_step: Set(0),
            factor_codes: Set(json!([])),
            ..Default::default()
        };
        model.insert(&self.transaction).await.map_err(taken(&email))
    }

    /// A person is known to a provider by a name.
    ///
    /// # Errors
    /// When somebody else is.
    pub async fn know_person_as(
        &self,
        person: person::Model,
        subject: &str,
    ) -> Result<person::Model> {
        let mut model = person.into_active_model();
        model.subject = Set(Some(subject.into()));
        let known = model.update(&self.transaction).await;
        known.map_err(taken(subject))
    }

    /// Makes somebody a member; whether they were none.
    ///
    /// # Errors
    /// When the database does.
    pub async fn join(&self, team: i64, person: i64) -> Result<bool> {
        let there = member::Entity::find_by_id((team, person));
        if there.one(&self.transaction).await?.is_some() {
            return Ok(false);
        }
        self.add_member(team, person, false).await?;
        Ok(true)
    }

    /// A team of somebody's own, where they are of none.
    ///
    /// # Errors
    /// When the database does.
    pub async fn team_of_their_own(&self, person: &person::Model) -> Result<()> {
        let of = member::Column::PersonId.eq(person.id);
        let any = member::Entity::find().filter(of);
        if any.one(&self.transaction).await?.is_none() {
            let team = self.create_team(&person.name).await?;
            self.add_member(team.id, person.id, true).await?;
        }
        Ok(())
    }

    /// Says whether a member manages, or takes them out. Somebody who manages stays.
    ///
    /// # Errors
    /// When there is no such member, or nobody would be left who manages.
    pub async fn change_member(
        &self,
        team: i64,
        email: &str,
        manages: Option<bool>,
    ) -> Result<person::Model> {
        let held = team::Entity::find_by_id(team).lock_exclusive();
        held.one(&self.transaction).await?;
        let none = || missing(format!("member {email}"));
        let person = self.held_person(email).await?.ok_or_else(none)?;
        let of = member::Entity::find_by_id((team, person.id));
        let of = of.one(&self.transaction).await?.ok_or_else(none)?;
        match manages {
            Some(manages) => {
                let mut model = of.into_active_model();
                model.manages = Set(manages);
                model.update(&self.transaction).await?;
            }
            None => {
                member::Entity::delete_by_id((team, person.id))
                    .exec(&self.transaction)
                    .await?;
                self.team_of_their_own(&person).await?;
            }
        }
        let left = member::Entity::find()
            .filter(member::Column::TeamId.eq(team))
            .filter(member::Column::Manages.eq(true));
        match left.one(&self.transaction).await? {
            Some(_) => Ok(person),
            None => Err(StoreError::LastManager(email.to_owned())),
        }
    }

    /// Sets or takes away a person's second factor, with the codes that are each good once in its place.
    ///
    /// # Errors
    /// When the database does.
    pub async fn set_factor(
        &self,
        person: person::Model,
        factor: Option<(&str, i64)>,
        codes: &[String],
    ) -> Result<()> {
        let purpose = format!("factor/{}", person.id);
        let sealed = factor.map(|(secret, _)| self.seal.seal(&purpose, secret));
        let mut model = person.into_active_model();
        model.factor = Set(sealed.transpose()?);
        model.factor_step = Set(factor.map_or(0, |(_, step)| step));
        let hashes: Vec<String> = codes.iter().map(|c| hash_token(c)).collect();
        model.factor_codes = Set(json!(hashes));
        model.update(&self.transaction).await?;
        Ok(())
    }

    /// Gives a team its roles.
    ///
    /// # Errors
    /// When there is none.
    pub async fn set_team_roles(&self, id: i64, roles: &[String]) -> Result<team::Model> {
        let found = team::Entity::find_by_id(id)
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        let found = found.ok_or_else(|| StoreError::Missing(format!("team {id}")))?;
        let mut model = found.into_active_model();
        model.roles = Set(json!(roles));
        Ok(model.update(&self.transaction).await?)
    }

    /// Registers a consumer of a team: it may call what it agrees to and nothing else.
    ///
    /// # Errors
    /// When the name is taken, or the team has too many.
    pub async fn create_consumer_of(
        &self,
        team: &team::Model,
        name: &str,
    ) -> Result<consumer::Model> {
        // Whoever registers another one meanwhile waits.
        team::Entity::find_by_id(team.id)
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        let own = consumer::Entity::find()
            .filter(consumer::Column::TeamId.eq(team.id))
            .count(&self.transaction)
            .await?;
        if own >= MOST_CONSUMERS {
            let what = format!("{MOST_CONSUMERS} applications of {}", team.name);
            return Err(StoreError::Full(what));
        }
        let made = self.create_consumer(name, &team.name).await?;
        let mut model = made.into_active_model();
        model.bound = Set(true);
        model.team_id = Set(Some(team.id));
        Ok(model.update(&self.transaction).await?)
    }
}
