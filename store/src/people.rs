//! People who call, their teams, and how they come in: accounts of the portal.

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DbBackend, EntityTrait, IntoActiveModel,
    QueryFilter, QueryOrder, QuerySelect, Set, Statement,
};
use serde_json::json;

use crate::accounts::{NOBODY, is_password};
use crate::entity::{consumer, member, person, person_session, team};
use crate::sessions::hash_token;
use crate::{Change, Result, Store, StoreError, now_ms, taken};

/// How long a session lasts, in milliseconds.
const SESSION: i64 = 14 * 24 * 3_600_000;
/// A session that nobody used for so long is over.
const IDLE: i64 = 12 * 3_600_000;

/// What a link in a letter is for.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Purpose {
    /// To confirm an address.
    Confirm,
    /// To set another password.
    Reset,
    /// To become a member of a team.
    Invite,
    /// To look at the portal as it is drafted.
    Preview,
}

impl Purpose {
    pub(crate) fn name(self) -> &'static str {
        match self {
            Self::Confirm => "confirm",
            Self::Reset => "reset",
            Self::Invite => "invite",
            Self::Preview => "preview",
        }
    }

    /// How long the link is good, in milliseconds.
    fn lasts(self) -> i64 {
        match self {
            Self::Confirm => 24 * 3_600_000,
            Self::Reset | Self::Preview => 3_600_000,
            Self::Invite => 7 * 24 * 3_600_000,
        }
    }
}

/// Somebody who is signed in, with the team that they act for.
#[derive(Clone, Debug)]
pub struct SignedIn {
    /// The person.
    pub person: person::Model,
    /// Their team.
    pub team: team::Model,
    /// Whether they may invite and take out others.
    pub manages: bool,
    /// The number of the session.
    pub session: i64,
}

impl Store {
    /// The person of an address and password. An unknown address takes as long as a wrong password.
    ///
    /// # Errors
    /// When the database does.
    pub async fn person_signs_in(
        &self,
        email: &str,
        password: &str,
    ) -> Result<Option<person::Model>> {
        let found = self.person(email).await?;
        let hash = match &found {
            Some(p) if !p.password_hash.is_empty() => p.password_hash.clone(),
            _ => NOBODY.to_owned(),
        };
        let fits = is_password(&hash, password).await;
        Ok(found.filter(|p| fits && p.confirmed_at.is_some() && !p.paused))
    }

    /// The person of an address.
    ///
    /// # Errors
    /// When the database does.
    pub async fn person(&self, email: &str) -> Result<Option<person::Model>> {
        let of = person::Column::Email.eq(email.to_lowercase());
        Ok(person::Entity::find().filter(of).one(&self.db).await?)
    }

    /// Begins a session, which acts for a team; none: for the person's first one.
    ///
    /// # Errors
    /// When the database does.
    pub async fn begin_person_session(
        &self,
        person: i64,
        team: Option<i64>,
        token: &str,
    ) -> Result<()> {
        let now = now_ms();
        let model = person_session::ActiveModel {
            token_hash: Set(hash_token(token)),
            person_id: Set(person),
            team_id: Set(team),
            created_at: Set(now),
            expires_at: Set(now + SESSION),
            used_at: Set(now),
            ..Default::default()
        };
        model.insert(&self.db).await?;
        person_session::Entity::delete_many()
            .filter(person_session::Column::PersonId.eq(person))
            .filter(person_session::Column::ExpiresAt.lt(now))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Who a session's token belongs to, if it is good still.
    ///
    /// # Errors
    /// When the database does.
    pub async fn person_of_session(&self, token: &str) -> Result<Option<SignedIn>> {
        let now = now_ms();
        let found = person_session::Entity::find()
            .filter(person_session::Column::TokenHash.eq(hash_token(token)))
            .filter(person_session::Column::ExpiresAt.gt(now))
            .filter(person_session::Column::UsedAt.gt(now - IDLE))
            .one(&self.db)
            .await?;
        let Some(session) = found else {
            return Ok(None);
        };
        let person = person::Entity::find_by_id(session.person_id)
            .one(&self.db)
            .await?;
        let Some(person) = person.filter(|p| !p.paused) else {
            return Ok(None);
        };
        if session.used_at < now - 60_000 {
            person_session::Entity::update_many()
                .col_expr(person_session::Column::UsedAt, Expr::value(now))
                .filter(person_session::Column::Id.eq(session.id))
                .exec(&self.db)
                .await?;
        }
        let all = member::Entity::find()
            .filter(member::Column::PersonId.eq(person.id))
            .order_by_asc(member::Column::Since)
            .limit(1000)
            .all(&self.db)
            .await?;
        let chosen = all.iter().find(|m| Some(m.team_id) == session.team_id);
        let Some(of) = chosen.or(all.first()) else {
            return Ok(None);
        };
        let team = team::Entity::find_by_id(of.team_id).one(&self.db).await?;
        Ok(team.map(|team| SignedIn {
            person,
            team,
            manages: of.manages,
            session: session.id,
        }))
    }

    /// Ends the session of a token.
    ///
    /// # Errors
    /// When the database does.
    pub async fn end_person_session(&self, token: &str) -> Result<()> {
        person_session::Entity::delete_many()
            .filter(person_session::Column::TokenHash.eq(hash_token(token)))
            .exec(&self.db)
            .await?;
        Ok(())
    }

    /// Teams with how many members and consumers they have, those with a text in their names.
    ///
    /// # Errors
    /// When the database does.
    pub async fn teams(&self, search: &str, behind: i64, most: u64) -> Result<Vec<team::Model>> {
        let mut found = team::Entity::find()
            .filter(team::Column::Id.gt(behind))
            .order_by_asc(team::Column::Id)
            .limit(most);
        if !search.is_empty() {
            let sql = "strpos(lower(name), lower($1)) > 0";
            found = found.filter(Expr::cust_with_values(sql, [search]));
        }
        Ok(found.all(&self.db).await?)
    }

    /// The members of a team.
    ///
    /// # Errors
    /// When the database does.
    pub async fn members(&self, team: i64) -> Result<Vec<(person::Model, bool)>> {
        let members = member::Entity::find()
            .filter(member::Column::TeamId.eq(team))
            .order_by_asc(member::Column::Since)
            .limit(1000)
            .all(&self.db)
            .await?;
        let ids = members.iter().map(|m| m.person_id);
        let people = person::Entity::find()
            .filter(person::Column::Id.is_in(ids))
            .all(&self.db)
            .await?;
        let of = |m: &member::Model| {
            let person = people.iter().find(|p| p.id == m.person_id)?;
            Some((person.clone(), m.manages))
        };
        Ok(members.iter().filter_map(of).collect())
    }

    /// The consumers of a team, by name.
    ///
    /// # Errors
    /// When the database does.
    pub async fn consumers_of_team(&self, team: i64) -> Result<Vec<consumer::Model>> {
        Ok(consumer::Entity::find()
            .filter(consumer::Column::TeamId.eq(team))
            .order_by_asc(consumer::Column::Name)
            .limit(200)
            .all(&self.db)
            .await?)
    }
}

impl Change {
    /// Makes an account that is not confirmed yet, with a team of its own. An older one of this address that was never
    /// confirmed is taken over: nobody has shown that it is theirs.
    ///
    /// # Errors
    /// When the address or the team's name is taken.
    pub async fn create_person(
        &self,
        (email, name): (&str, &str),
        password_hash: &str,
        team_name: &str,
    ) -> Result<person::Model> {
        let email = email.to_lowercase();
        let old = person::Entity::find()
            .filter(person::Column::Email.eq(&email))
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        match old {
            Some(old) if old.confirmed_at.is_some() => return Err(StoreError::Taken(email)),
            Some(old) => {
                let mut model = old.into_active_model();
                model.name = Set(name.into());
                model.password_hash = Set(password_hash.into());
                return Ok(model.update(&self.transaction).await?);
            }
            None => {}
        }
        let model = person::ActiveModel {
            email: Set(email.clone()),
            name: Set(name.into()),
            password_hash: Set(password_hash.into()),
            confirmed_at: Set(None),
            subject: Set(None),
            paused: Set(false),
            created_at: Set(now_ms()),
            factor: Set(None),
            factor_step: Set(0),
            factor_codes: Set(json!([])),
            ..Default::default()
        };
        let made = model
            .insert(&self.transaction)
            .await
            .map_err(taken(&email))?;
        let team = self.create_team(team_name).await?;
        self.add_member(team.id, made.id, true).await?;
        Ok(made)
    }

    /// Makes a team; where the name is taken, with a number behind it.
    pub(crate) async fn create_team(&self, name: &str) -> Result<team::Model> {
        let same = "select count(*) as n from team where lower(name) = lower($1) or lower(name) like lower($2)";
        let pattern = name.replace(['\\', '%', '_'], "_") + " (%)";
        let values = [name.into(), pattern.into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, same, values);
        let row = self.transaction.query_one_raw(statement).await?;
        let count: i64 = row.map_or(Ok(0), |r| r.try_get("", "n"))?;
        let called = match count {
            0 => name.to_owned(),
            n => format!("{name} ({})", n + 1),
        };
        let model = team::ActiveModel {
            name: Set(called.clone()),
            roles: Set(json!([])),
            created_at: Set(now_ms()),
            ..Default::default()
        };
        model
            .insert(&self.transaction)
            .await
            .map_err(taken(&called))
    }

    pub(crate) async fn add_member(&self, team: i64, person: i64, manages: bool) -> Result<()> {
        let model = member::ActiveModel {
            team_id: Set(team),
            person_id: Set(person),
            manages: Set(manages),
            since: Set(now_ms()),
        };
        member::Entity::insert(model)
            .exec_without_returning(&self.transaction)
            .await?;
        Ok(())
    }

    /// Keeps a link that is sent in a letter; earlier ones for the same are good no more.
    ///
    /// # Errors
    /// When the database does.
    pub async fn keep_link(&self, purpose: Purpose, email: &str, token: &str) -> Result<()> {
        let email = email.to_lowercase();
        let gone = "delete from letter where (purpose = $1 and email = $2) or expires_at < $3";
        let values = [purpose.name().into(), email.clone().into(), now_ms().into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, gone, values);
        self.transaction.execute_raw(statement).await?;
        let new =
            "insert into letter (token_hash, purpose, email, expires_at) values ($1, $2, $3, $4)";
        let values = [
            hash_token(token).into(),
            purpose.name().into(),
            email.into(),
            (now_ms() + purpose.lasts()).into(),
        ];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, new, values);
        self.transaction.execute_raw(statement).await?;
        Ok(())
    }

    /// Uses a link, once: the person it was sent to.
    ///
    /// # Errors
    /// When there is none that is good.
    pub async fn use_link(&self, purpose: Purpose, token: &str) -> Result<person::Model> {
        let used = "delete from letter where token_hash = $1 and purpose = $2 and expires_at > $3 returning email";
        let values = [
            hash_token(token).into(),
            purpose.name().into(),
            now_ms().into(),
        ];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, used, values);
        let row = self.transaction.query_one_raw(statement).await?;
        let missing = || StoreError::Missing("link that is good; ask for another one".into());
        let email: String = row.ok_or_else(missing)?.try_get("", "email")?;
        let found = person::Entity::find()
            .filter(person::Column::Email.eq(email))
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        found.ok_or_else(missing)
    }

    /// Notes that an address is a person's.
    ///
    /// # Errors
    /// When the database does.
    pub async fn confirm_person(&self, person: person::Model) -> Result<person::Model> {
        let mut model = person.into_active_model();
        model.confirmed_at = Set(Some(now_ms()));
        Ok(model.update(&self.transaction).await?)
    }

    /// Sets another password, and ends all sessions but one.
    ///
    /// # Errors
    /// When the database does.
    pub async fn set_person_password(
        &self,
        person: person::Model,
        hash: &str,
        but: Option<i64>,
    ) -> Result<()> {
        let mut sessions = person_session::Entity::delete_many()
            .filter(person_session::Column::PersonId.eq(person.id));
        if let Some(but) = but {
            sessions = sessions.filter(person_session::Column::Id.ne(but));
        }
        sessions.exec(&self.transaction).await?;
        let mut model = person.into_active_model();
        model.password_hash = Set(hash.into());
        model.update(&self.transaction).await?;
        Ok(())
    }

    /// Takes a person away, and a team that nobody is left of. The consumers of that team, which are left to publishers.
    ///
    /// # Errors
    /// When the database does.
    pub async fn delete_person(&self, id: i64) -> Result<Vec<consumer::Model>> {
        let found = person::Entity::find_by_id(id)
            .one(&self.transaction)
            .await?;
        let found = found.ok_or_else(|| StoreError::Missing(format!("person {id}")))?;
        // What is kept of what they did says no more who it was.
        for forget in [
            "update audit set who = $2 where who = $1",
            "update audit set object = $2 where object = 'person ' || $1",
            "update offer_request set asked_by = $2 where asked_by = $1",
            "update offer_request set accepted = jsonb_set(accepted, '{by}', to_jsonb($2::text)) where accepted->>'by' = $1",
            "update agreement set accepted = jsonb_set(accepted, '{by}', to_jsonb($2::text)) where accepted->>'by' = $1",
            "delete from letter where email = $1 and $2 <> ''",
            "delete from mail where to_address = $1 and $2 <> ''",
        ] {
            let values = [found.email.clone().into(), format!("person {id}").into()];
            let statement = Statement::from_sql_and_values(DbBackend::Postgres, forget, values);
            self.transaction.execute_raw(statement).await?;
        }
        let teams = member::Entity::find()
            .filter(member::Column::PersonId.eq(id))
            .all(&self.transaction)
            .await?;
        person::Entity::delete_by_id(id)
            .exec(&self.transaction)
            .await?;
        let mut left = Vec::new();
        for of in teams {
            let other = member::Entity::find()
                .filter(member::Column::TeamId.eq(of.team_id))
                .one(&self.transaction)
                .await?;
            if other.is_some() {
                self.leave_somebody_who_manages(of.team_id).await?;
            }
            if other.is_none() {
                let consumers = consumer::Entity::find()
                    .filter(consumer::Column::TeamId.eq(of.team_id))
                    .all(&self.transaction)
                    .await?;
                left.extend(consumers);
                team::Entity::delete_by_id(of.team_id)
                    .exec(&self.transaction)
                    .await?;
            }
        }
        Ok(left)
    }

    /// Where nobody is left who manages a team, who is its member for the longest time does.
    async fn leave_somebody_who_manages(&self, team: i64) -> Result<()> {
        let sql = "update member set manages = true where team_id = $1 and person_id = (select person_id from member where team_id = $1 order by since, person_id limit 1) and not exists (select 1 from member where team_id = $1 and manages)";
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, [team.into()]);
        self.transaction.execute_raw(statement).await?;
        Ok(())
    }
}
