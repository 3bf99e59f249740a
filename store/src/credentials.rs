//! Credentials of consumers, and what they have agreed to.

use sea_orm::{
    ActiveModelTrait, ColumnTrait, ConnectionTrait, DbBackend, EntityTrait, IntoActiveModel,
    QueryFilter, QueryOrder, QuerySelect, Set, Statement,
};
use serde_json::{Value, json};

use crate::consumers::consumer_of;
use crate::entity::{agreement, credential};
use crate::{Change, Result, Store, StoreError, Topic, now_ms, taken};

/// A credential that is to be kept.
#[derive(Clone, Debug, Default)]
pub struct NewCredential {
    /// The consumer's name.
    pub consumer: String,
    /// `key` or `password`.
    pub kind: String,
    /// What it is for.
    pub label: String,
    /// What it is known by.
    pub prefix: String,
    /// What it is found by.
    pub hash: String,
    /// What it is held against, where it is no key.
    pub proof: Option<String>,
    /// When it ends.
    pub ends_at: Option<i64>,
    /// The facades that it opens; none: every one.
    pub facades: Option<Vec<String>>,
    /// The agreements that it is for; none: all of its consumer's.
    pub agreements: Option<Vec<i64>>,
}

/// What is changed of a credential; what is none stays as it is.
#[derive(Clone, Debug, Default)]
pub struct CredentialChange {
    /// What it is for.
    pub label: Option<String>,
    /// When it ends.
    pub ends_at: Option<Option<i64>>,
    /// Whether it is paused.
    pub paused: Option<bool>,
    /// The facades that it opens.
    pub facades: Option<Option<Vec<String>>>,
    /// The agreements that it is for.
    pub agreements: Option<Option<Vec<i64>>>,
    /// What it is held against.
    pub proof: Option<String>,
}

/// An agreement that is to be kept.
#[derive(Clone, Debug, Default)]
pub struct NewAgreement {
    /// The consumer's name.
    pub consumer: String,
    /// What was offered.
    pub offer: String,
    /// Numbers and texts.
    pub terms: Value,
    /// What it opens, facades or `FACADE/OPERATION`; none: every facade.
    pub opens: Option<Vec<String>>,
    /// From when.
    pub from_at: i64,
    /// Until when.
    pub until_at: Option<i64>,
    /// The request that it follows from.
    pub request_id: Option<i64>,
    /// Which text was accepted.
    pub accepted: Option<Value>,
}

/// What is changed of an agreement; what is none stays as it is.
#[derive(Clone, Debug, Default)]
pub struct AgreementChange {
    /// Numbers and texts.
    pub terms: Option<Value>,
    /// What it opens.
    pub opens: Option<Option<Vec<String>>>,
    /// Until when.
    pub until_at: Option<Option<i64>>,
    /// Whether it is paused.
    pub paused: Option<bool>,
    /// Who ended it, when and why.
    pub ended: Option<Value>,
}

/// What has changed of the grants with one revision.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct GrantChange {
    /// The revision.
    pub number: i64,
    /// The consumer whose credentials are read again; 0: something else.
    pub consumer: i64,
    /// The hash of a credential that is gone.
    pub gone: Option<String>,
}

/// So many changes can be followed one by one; who is further behind reads everything.
const FOLLOWED: i64 = 1000;

fn joined<T: ToString>(all: &[T]) -> String {
    all.iter().map(T::to_string).collect::<Vec<_>>().join(",")
}

impl Store {
    /// So many credentials behind the one with a number, in the order of their numbers.
    ///
    /// # Errors
    /// When the database does.
    pub async fn credentials_behind(
        &self,
        number: i64,
        most: u64,
    ) -> Result<Vec<credential::Model>> {
        Ok(credential::Entity::find()
            .filter(credential::Column::Id.gt(number))
            .order_by_asc(credential::Column::Id)
            .limit(most)
            .all(&self.db)
            .await?)
    }

    /// The credentials of some consumers.
    ///
    /// # Errors
    /// When the database does.
    pub async fn credentials_of(&self, consumers: &[i64]) -> Result<Vec<credential::Model>> {
        Ok(credential::Entity::find()
            .filter(credential::Column::ConsumerId.is_in(consumers.iter().copied()))
            .order_by_asc(credential::Column::Id)
            .all(&self.db)
            .await?)
    }

    /// The credential of a kind that is known by a text.
    ///
    /// # Errors
    /// When there is none.
    pub async fn credential(&self, kind: &str, prefix: &str) -> Result<credential::Model> {
        credential_of(&self.db, kind, prefix).await
    }

    /// The agreements of some consumers, the newest first; of all, where none is named.
    ///
    /// # Errors
    /// When the database does.
    pub async fn agreements_of(&self, consumers: Option<&[i64]>) -> Result<Vec<agreement::Model>> {
        let mut found = agreement::Entity::find().order_by_desc(agreement::Column::Id);
        if let Some(consumers) = consumers {
            let own = agreement::Column::ConsumerId.is_in(consumers.iter().copied());
            found = found.filter(own);
        }
        Ok(found.all(&self.db).await?)
    }

    /// Notes when credentials were used last, in minutes since 1970, by kind and what they are known by.
    ///
    /// # Errors
    /// When the database does.
    pub async fn used(&self, uses: &[(String, String, i64)]) -> Result<()> {
        for part in uses.chunks(1000) {
            let mut values: Vec<sea_orm::Value> = Vec::new();
            let mut rows = Vec::new();
            for (kind, prefix, minute) in part {
                let n = values.len();
                rows.push(format!(
                    "(${}::text, ${}::text, ${}::bigint)",
                    n + 1,
                    n + 2,
                    n + 3
                ));
                values.extend([
                    kind.clone().into(),
                    prefix.clone().into(),
                    (minute * 60_000).into(),
                ]);
            }
            let sql = format!(
                "update credential c set last_used_at = u.at from (values {}) as u (kind, prefix, at) \
                 where c.kind = u.kind and c.prefix = u.prefix and coalesce(c.last_used_at, 0) < u.at",
                rows.join(", ")
            );
            let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
            self.db.execute_raw(statement).await?;
        }
        Ok(())
    }

    /// What has changed of the grants behind a revision, each revision at least once; `None`: more than can be followed.
    ///
    /// # Errors
    /// When the database does.
    pub async fn grant_changes(&self, behind: i64, until: i64) -> Result<Option<Vec<GrantChange>>> {
        if behind < 0 || until - behind > FOLLOWED {
            return Ok(None);
        }
        let sql = "select number, consumer_id, gone from grant_change \
                   where number > $1 and number <= $2 order by number limit 20000";
        let values = [behind.into(), until.into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let rows = self.db.query_all_raw(statement).await?;
        let mut changes = Vec::new();
        for row in rows {
            changes.push(GrantChange {
                number: row.try_get("", "number")?,
                consumer: row.try_get("", "consumer_id")?,
                gone: row.try_get("", "gone")?,
            });
        }
        let mut numbers: Vec<i64> = changes.iter().map(|c| c.number).collect();
        numbers.dedup();
        let whole = numbers.len() as i64 == until - behind;
        Ok(whole.then_some(changes))
    }
}

async fn credential_of(
    db: &impl ConnectionTrait,
    kind: &str,
    prefix: &str,
) -> Result<credential::Model> {
    let found = credential::Entity::find()
        .filter(credential::Column::Kind.eq(kind))
        .filter(credential::Column::Prefix.eq(prefix))
        .one(db)
        .await?;
    found.ok_or_else(|| StoreError::Missing(format!("{kind} “{prefix}”")))
}

async fn agreement_of(db: &impl ConnectionTrait, id: i64) -> Result<agreement::Model> {
    let found = agreement::Entity::find_by_id(id).one(db).await?;
    found.ok_or_else(|| StoreError::Missing(format!("agreement {id}")))
}

impl Change {
    /// Keeps a new credential.
    ///
    /// # Errors
    /// When there is no such consumer, or what it is known by is taken.
    pub async fn create_credential(&self, new: &NewCredential) -> Result<credential::Model> {
        let owner = consumer_of(&self.transaction, &new.consumer).await?;
        let model = credential::ActiveModel {
            consumer_id: Set(owner.id),
            kind: Set(new.kind.clone()),
            label: Set(new.label.clone()),
            prefix: Set(new.prefix.clone()),
            hash: Set(new.hash.clone()),
            proof: Set(new.proof.clone()),
            ends_at: Set(new.ends_at),
            paused: Set(false),
            created_at: Set(now_ms()),
            facades: Set(new.facades.as_deref().map(joined)),
            agreements: Set(new.agreements.as_deref().map(joined)),
            ..Default::default()
        };
        let made = model.insert(&self.transaction).await;
        made.map_err(taken(&new.prefix))
    }

    /// How many keys of a consumer have not ended. Whoever makes another one meanwhile waits.
    ///
    /// # Errors
    /// When there is no such consumer.
    pub async fn good_keys_of(&self, consumer: &str) -> Result<usize> {
        self.good_credentials_of(consumer, "key").await
    }

    /// The same of another kind of credential.
    ///
    /// # Errors
    /// When there is no such consumer.
    pub async fn good_credentials_of(&self, consumer: &str, kind: &str) -> Result<usize> {
        let owner = consumer_of(&self.transaction, consumer).await?;
        self.held_consumer(owner.id).await?;
        let own = credential::Entity::find()
            .filter(credential::Column::ConsumerId.eq(owner.id))
            .filter(credential::Column::Kind.eq(kind))
            .all(&self.transaction)
            .await?;
        let now = now_ms();
        let good = own.iter().filter(|k| k.ends_at.is_none_or(|at| at > now));
        Ok(good.count())
    }

    /// Changes a credential.
    ///
    /// # Errors
    /// When there is none.
    pub async fn change_credential(
        &self,
        kind: &str,
        prefix: &str,
        change: &CredentialChange,
    ) -> Result<credential::Model> {
        let found = credential_of(&self.transaction, kind, prefix).await?;
        let mut model = found.into_active_model();
        if let Some(label) = &change.label {
            model.label = Set(label.clone());
        }
        if let Some(ends_at) = change.ends_at {
            model.ends_at = Set(ends_at);
        }
        if let Some(paused) = change.paused {
            model.paused = Set(paused);
        }
        if let Some(facades) = &change.facades {
            model.facades = Set(facades.as_deref().map(joined));
        }
        if let Some(agreements) = &change.agreements {
            model.agreements = Set(agreements.as_deref().map(joined));
        }
        if let Some(proof) = &change.proof {
            model.proof = Set(Some(proof.clone()));
        }
        Ok(model.update(&self.transaction).await?)
    }

    /// Takes a credential away.
    ///
    /// # Errors
    /// When there is none.
    pub async fn delete_credential(&self, kind: &str, prefix: &str) -> Result<credential::Model> {
        let found = credential_of(&self.transaction, kind, prefix).await?;
        credential::Entity::delete_by_id(found.id)
            .exec(&self.transaction)
            .await?;
        Ok(found)
    }

    /// Keeps a new agreement.
    ///
    /// # Errors
    /// When there is no such consumer.
    pub async fn create_agreement(&self, new: &NewAgreement) -> Result<agreement::Model> {
        let owner = consumer_of(&self.transaction, &new.consumer).await?;
        let model = agreement::ActiveModel {
            consumer_id: Set(owner.id),
            offer: Set(new.offer.clone()),
            terms: Set(new.terms.clone()),
            opens: Set(new.opens.as_ref().map(|o| json!(o))),
            request_id: Set(new.request_id),
            accepted: Set(new.accepted.clone()),
            from_at: Set(new.from_at),
            until_at: Set(new.until_at),
            paused: Set(false),
            created_at: Set(now_ms()),
            ..Default::default()
        };
        Ok(model.insert(&self.transaction).await?)
    }

    /// Changes an agreement.
    ///
    /// # Errors
    /// When there is none.
    pub async fn change_agreement(
        &self,
        id: i64,
        change: &AgreementChange,
    ) -> Result<agreement::Model> {
        let found = agreement_of(&self.transaction, id).await?;
        let mut model = found.into_active_model();
        if let Some(terms) = &change.terms {
            model.terms = Set(terms.clone());
        }
        if let Some(opens) = &change.opens {
            model.opens = Set(opens.as_ref().map(|o| json!(o)));
        }
        if let Some(ended) = &change.ended {
            model.ended = Set(Some(ended.clone()));
        }
        if let Some(until_at) = change.until_at {
            model.until_at = Set(until_at);
        }
        if let Some(paused) = change.paused {
            model.paused = Set(paused);
        }
        Ok(model.update(&self.transaction).await?)
    }

    /// Takes an agreement away.
    ///
    /// # Errors
    /// When there is none.
    pub async fn delete_agreement(&self, id: i64) -> Result<agreement::Model> {
        let found = agreement_of(&self.transaction, id).await?;
        agreement::Entity::delete_by_id(id)
            .exec(&self.transaction)
            .await?;
        Ok(found)
    }

    /// Tells everybody that the grants of a consumer have changed (0: something else), and which credentials are gone.
    ///
    /// # Errors
    /// When the database does.
    pub async fn touch_grants(&self, consumer: i64, gone: &[String]) -> Result<()> {
        self.touch(&Topic::Grants).await?;
        let insert = "insert into grant_change (number, consumer_id, gone) \
                      select number, $1, $2 from revision where topic = $3";
        let nothing = [None];
        let all: Vec<Option<String>> = match gone {
            [] => nothing.into(),
            // Who is told of more reads everything again.
            many if many.len() > 10_000 => return Ok(()),
            some => some.iter().cloned().map(Some).collect(),
        };
        for hash in all {
            let values = [consumer.into(), hash.into(), Topic::Grants.name().into()];
            let statement = Statement::from_sql_and_values(DbBackend::Postgres, insert, values);
            self.transaction.execute_raw(statement).await?;
        }
        let old = "delete from grant_change where number < \
                   (select number from revision where topic = $1) - $2";
        let values = [Topic::Grants.name().into(), (FOLLOWED * 2).into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, old, values);
        self.transaction.execute_raw(statement).await?;
        Ok(())
    }

    /// The hashes of a consumer's credentials.
    ///
    /// # Errors
    /// When the database does.
    pub async fn hashes_of(&self, consumer: i64) -> Result<Vec<String>> {
        Ok(credential::Entity::find()
            .select_only()
            .column(credential::Column::Hash)
            .filter(credential::Column::ConsumerId.eq(consumer))
            .into_tuple()
            .all(&self.transaction)
            .await?)
    }
}
