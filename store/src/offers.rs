//! Requests for offers, and the agreements that follow from them.

use sea_orm::sea_query::Expr;
use sea_orm::{
    ActiveModelTrait, ColumnTrait, Condition, EntityTrait, IntoActiveModel, QueryFilter,
    QueryOrder, QuerySelect, Set,
};
use serde_json::{Value, json};

use crate::entity::{agreement, consumer, credential, offer_request};
use crate::{Change, Result, Store, StoreError, now_ms};

/// A request that is to be kept.
#[derive(Clone, Debug, Default)]
pub struct NewRequest<'a> {
    /// The consumer that it is for.
    pub consumer: i64,
    /// Name of the offer.
    pub offer: &'a str,
    /// What whoever asks writes.
    pub why: &'a str,
    /// Which text was accepted.
    pub accepted: Option<Value>,
}

/// Which requests are looked for.
#[derive(Clone, Debug, Default)]
pub struct RequestQuery {
    /// Only those in this state.
    pub state: Option<String>,
    /// Only those for this offer.
    pub offer: Option<String>,
    /// Only those of these consumers.
    pub consumers: Option<Vec<i64>>,
    /// Only those with a text in what was written, or in who asked.
    pub search: String,
    /// Only those before this number; none: from the newest on.
    pub before: Option<i64>,
    /// At most so many.
    pub most: u64,
}

/// Which agreements are looked for.
#[derive(Clone, Debug, Default)]
pub struct AgreementQuery {
    /// Only those of this offer.
    pub offer: Option<String>,
    /// Only those with a text in the names of offer or consumer, or in its owner.
    pub search: String,
    /// Only those that hold, or will: not those that have ended.
    pub holding: bool,
    /// Only those before this number; none: from the newest on.
    pub before: Option<i64>,
    /// At most so many.
    pub most: u64,
}

/// A text within another, whatever its characters mean to patterns.
fn within(columns: &[&str], search: &str) -> Condition {
    let one = |column: &&str| {
        let sql = format!("strpos(lower({column}), lower($1)) > 0");
        Expr::cust_with_values(sql, [search])
    };
    columns
        .iter()
        .map(one)
        .fold(Condition::any(), Condition::add)
}

impl Store {
    /// Requests for offers with the consumers that they are for, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn requests(
        &self,
        query: &RequestQuery,
    ) -> Result<Vec<(offer_request::Model, consumer::Model)>> {
        let mut found = offer_request::Entity::find()
            .find_also_related(consumer::Entity)
            .order_by_desc(offer_request::Column::Id)
            .limit(query.most);
        if let Some(state) = &query.state {
            found = found.filter(offer_request::Column::State.eq(state));
        }
        if let Some(offer) = &query.offer {
            found = found.filter(offer_request::Column::Offer.eq(offer));
        }
        if let Some(consumers) = &query.consumers {
            found = found.filter(offer_request::Column::ConsumerId.is_in(consumers.clone()));
        }
        if let Some(before) = query.before {
            found = found.filter(offer_request::Column::Id.lt(before));
        }
        if !query.search.is_empty() {
            let columns = [
                "consumer.name",
                "consumer.owner",
                "offer_request.offer",
                "offer_request.why",
                "offer_request.asked_by",
            ];
            found = found.filter(within(&columns, &query.search));
        }
        let all = found.all(&self.db).await?.into_iter();
        Ok(all.filter_map(|(r, c)| Some((r, c?))).collect())
    }

    /// Agreements with the consumers that they are of, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn agreements(
        &self,
        query: &AgreementQuery,
    ) -> Result<Vec<(agreement::Model, consumer::Model)>> {
        let mut found = agreement::Entity::find()
            .find_also_related(consumer::Entity)
            .order_by_desc(agreement::Column::Id)
            .limit(query.most);
        if let Some(offer) = &query.offer {
            found = found.filter(agreement::Column::Offer.eq(offer));
        }
        if query.holding {
            found = found.filter(not_over(now_ms()));
        }
        if let Some(before) = query.before {
            found = found.filter(agreement::Column::Id.lt(before));
        }
        if !query.search.is_empty() {
            let columns = ["consumer.name", "consumer.owner", "agreement.offer"];
            found = found.filter(within(&columns, &query.search));
        }
        let all = found.all(&self.db).await?.into_iter();
        Ok(all.filter_map(|(a, c)| Some((a, c?))).collect())
    }

    /// How many agreements of each offer hold, or will.
    ///
    /// # Errors
    /// When the database does.
    pub async fn agreements_by_offer(&self) -> Result<Vec<(String, i64)>> {
        Ok(agreement::Entity::find()
            .select_only()
            .column(agreement::Column::Offer)
            .column_as(agreement::Column::Id.count(), "count")
            .filter(not_over(now_ms()))
            .group_by(agreement::Column::Offer)
            .into_tuple()
            .all(&self.db)
            .await?)
    }

    /// How many requests are open.
    ///
    /// # Errors
    /// When the database does.
    pub async fn open_requests(&self) -> Result<u64> {
        use sea_orm::PaginatorTrait;
        Ok(offer_request::Entity::find()
            .filter(offer_request::Column::State.eq("open"))
            .count(&self.db)
            .await?)
    }

    /// Agreements of offers that end within a time, in milliseconds since 1970, and were not ended by anybody.
    ///
    /// # Errors
    /// When the database does.
    pub async fn agreements_ending(
        &self,
        offers: &[String],
        until: i64,
    ) -> Result<Vec<(agreement::Model, consumer::Model)>> {
        let found = agreement::Entity::find()
            .find_also_related(consumer::Entity)
            .filter(agreement::Column::Offer.is_in(offers))
            .filter(agreement::Column::Ended.is_null())
            .filter(agreement::Column::UntilAt.gt(now_ms()))
            .filter(agreement::Column::UntilAt.lte(until))
            .order_by_asc(agreement::Column::Id)
            .limit(1000)
            .all(&self.db)
            .await?;
        Ok(found
            .into_iter()
            .filter_map(|(a, c)| Some((a, c?)))
            .collect())
    }

    /// Keys of teams that end within a time, in milliseconds since 1970.
    ///
    /// # Errors
    /// When the database does.
    pub async fn keys_ending(
        &self,
        until: i64,
    ) -> Result<Vec<(credential::Model, consumer::Model)>> {
        let found = credential::Entity::find()
            .filter(credential::Column::Kind.eq("key"))
            .filter(credential::Column::EndsAt.gt(now_ms()))
            .filter(credential::Column::EndsAt.lte(until))
            .order_by_asc(credential::Column::Id)
            .limit(1000)
            .all(&self.db)
            .await?;
        let ids = found.iter().map(|k| k.consumer_id);
        let owners = consumer::Entity::find()
            .filter(consumer::Column::Id.is_in(ids))
            .filter(consumer::Column::TeamId.is_not_null())
            .all(&self.db)
            .await?;
        let of = |k: credential::Model| {
            let owner = owners.iter().find(|c| c.id == k.consumer_id)?;
            Some((k, owner.clone()))
        };
        Ok(found.into_iter().filter_map(of).collect())
    }

    /// An agreement.
    ///
    /// # Errors
    /// When there is none.
    pub async fn agreement(&self, id: i64) -> Result<agreement::Model> {
        let found = agreement::Entity::find_by_id(id).one(&self.db).await?;
        found.ok_or_else(|| StoreError::Missing(format!("agreement {id}")))
    }

    /// A request.
    ///
    /// # Errors
    /// When there is none.
    pub async fn request(&self, id: i64) -> Result<offer_request::Model> {
        let found = offer_request::Entity::find_by_id(id).one(&self.db).await?;
        found.ok_or_else(|| StoreError::Missing(format!("request {id}")))
    }
}

fn not_over(now: i64) -> Condition {
    Condition::any()
        .add(agreement::Column::UntilAt.is_null())
        .add(agreement::Column::UntilAt.gt(now))
}

impl Change {
    /// A consumer that is not changed meanwhile, nor asked for anything.
    ///
    /// # Errors
    /// When there is none.
    pub async fn held_consumer(&self, id: i64) -> Result<consumer::Model> {
        let found = consumer::Entity::find_by_id(id)
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        found.ok_or_else(|| StoreError::Missing(format!("consumer {id}")))
    }

    /// The requests of a consumer for an offer, and the agreements that it has of it, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn asked_and_agreed(
        &self,
        consumer: i64,
        offer: &str,
    ) -> Result<(Vec<offer_request::Model>, Vec<agreement::Model>)> {
        let requests = offer_request::Entity::find()
            .filter(offer_request::Column::ConsumerId.eq(consumer))
            .filter(offer_request::Column::Offer.eq(offer))
            .order_by_desc(offer_request::Column::Id)
            .limit(1000)
            .all(&self.transaction)
            .await?;
        let agreements = agreement::Entity::find()
            .filter(agreement::Column::ConsumerId.eq(consumer))
            .filter(agreement::Column::Offer.eq(offer))
            .order_by_desc(agreement::Column::Id)
            .limit(1000)
            .all(&self.transaction)
            .await?;
        Ok((requests, agreements))
    }

    /// An agreement that is not changed meanwhile.
    ///
    /// # Errors
    /// When there is none.
    pub async fn held_agreement(&self, id: i64) -> Result<agreement::Model> {
        let found = agreement::Entity::find_by_id(id)
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        found.ok_or_else(|| StoreError::Missing(format!("agreement {id}")))
    }

    /// Keeps a new request, which is open.
    ///
    /// # Errors
    /// When the database does.
    pub async fn create_request(&self, new: &NewRequest<'_>) -> Result<offer_request::Model> {
        let model = offer_request::ActiveModel {
            consumer_id: Set(new.consumer),
            offer: Set(new.offer.into()),
            state: Set("open".into()),
            why: Set(new.why.into()),
            asked_by: Set(self.who.clone()),
            asked_at: Set(now_ms()),
            decided_by: Set(String::new()),
            decided_at: Set(None),
            reason: Set(String::new()),
            accepted: Set(new.accepted.clone()),
            agreement_id: Set(None),
            ..Default::default()
        };
        Ok(model.insert(&self.transaction).await?)
    }

    /// A request that is open, and decided by nobody else meanwhile.
    ///
    /// # Errors
    /// When there is none, or it has been decided.
    pub async fn open_request(&self, id: i64) -> Result<offer_request::Model> {
        let found = offer_request::Entity::find_by_id(id)
            .lock_exclusive()
            .one(&self.transaction)
            .await?;
        let found = found.ok_or_else(|| StoreError::Missing(format!("request {id}")))?;
        match found.state.as_str() {
            "open" => Ok(found),
            _ => Err(StoreError::Stale(format!("request {id}"))),
        }
    }

    /// Decides a request: `granted` with what follows from it, `turned-down` or `withdrawn`.
    ///
    /// # Errors
    /// When the database does.
    pub async fn decide_request(
        &self,
        request: offer_request::Model,
        (state, reason): (&str, &str),
        agreement: Option<i64>,
    ) -> Result<offer_request::Model> {
        let mut model = request.into_active_model();
        model.state = Set(state.into());
        model.reason = Set(reason.into());
        model.decided_by = Set(self.who.clone());
        model.decided_at = Set(Some(now_ms()));
        model.agreement_id = Set(agreement);
        Ok(model.update(&self.transaction).await?)
    }

    /// Lets a consumer call what it has agreed to and nothing else.
    ///
    /// # Errors
    /// When the database does.
    pub async fn bind_consumer(&self, id: i64) -> Result<()> {
        consumer::Entity::update_many()
            .col_expr(consumer::Column::Bound, Expr::value(true))
            .filter(consumer::Column::Id.eq(id))
            .exec(&self.transaction)
            .await?;
        Ok(())
    }

    /// Gives the agreements of an offer that hold, or will, other terms and openings. The consumers that they are of.
    ///
    /// # Errors
    /// When the database does.
    pub async fn follow_offer(
        &self,
        offer: &str,
        terms: &Value,
        opens: &[String],
    ) -> Result<Vec<i64>> {
        let changed = agreement::Entity::update_many()
            .col_expr(agreement::Column::Terms, Expr::value(terms.clone()))
            .col_expr(agreement::Column::Opens, Expr::value(json!(opens)))
            .filter(agreement::Column::Offer.eq(offer))
            .filter(not_over(now_ms()))
            .exec_with_returning(&self.transaction)
            .await?;
        let mut consumers: Vec<i64> = changed.into_iter().map(|a| a.consumer_id).collect();
        consumers.sort_unstable();
        consumers.dedup();
        Ok(consumers)
    }
}
