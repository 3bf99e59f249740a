//! Usage and traces.

use std::collections::HashMap;

use sea_orm::sea_query::{Expr, ExprTrait, OnConflict};
use sea_orm::{
    ColumnTrait, Condition, ConnectionTrait, DbBackend, EntityTrait, QueryFilter, QueryOrder,
    QuerySelect, Statement,
};

use crate::entity::{addition, copies, event, mail, trace, usage};
use crate::{Result, Store};

/// What to look for among the traces; empty texts mean all.
#[derive(Clone, Debug, Default)]
pub struct TraceQuery {
    /// Facade.
    pub facade: String,
    /// Operation.
    pub operation: String,
    /// Consumer.
    pub consumer: String,
    /// Least status.
    pub status_from: i32,
    /// Greatest status; 0: any.
    pub status_to: i32,
    /// At most so many.
    pub most: u64,
}

/// Usage added up.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct UsageTotals {
    /// Calls.
    pub calls: i64,
    /// Bytes in request bodies.
    pub bytes_in: i64,
    /// Bytes in reply bodies.
    pub bytes_out: i64,
    /// Replies that did not fit the contract.
    pub misfits: i64,
    /// Calls by latency bucket.
    pub latency: Vec<i64>,
}

/// Usage in a part of a time.
#[derive(Clone, Debug)]
pub struct UsagePart {
    /// Number of the part, from 0.
    pub part: i64,
    /// Facade.
    pub facade: String,
    /// Operation.
    pub operation: String,
    /// Status of the replies.
    pub status: i32,
    /// Calls.
    pub calls: i64,
    /// Bytes in request bodies.
    pub bytes_in: i64,
    /// Bytes in reply bodies.
    pub bytes_out: i64,
}

impl Store {
    /// Writes usage rows; a row of the same minute, object and boot is replaced.
    ///
    /// # Errors
    /// When the database does.
    pub async fn write_usage(&self, rows: Vec<usage::ActiveModel>) -> Result<()> {
        for part in rows.chunks(500) {
            let keys = [
                usage::Column::Minute,
                usage::Column::Facade,
                usage::Column::Operation,
                usage::Column::Consumer,
                usage::Column::Status,
                usage::Column::Boot,
            ];
            let values = [
                usage::Column::Calls,
                usage::Column::BytesIn,
                usage::Column::BytesOut,
                usage::Column::Misfits,
                usage::Column::Latency,
            ];
            let conflict = OnConflict::columns(keys).update_columns(values).to_owned();
            usage::Entity::insert_many(part.to_vec())
                .on_conflict(conflict)
                .exec_without_returning(&self.db)
                .await?;
        }
        Ok(())
    }

    /// Writes what copies of calls gave; a row of the same minute, object and boot is replaced.
    ///
    /// # Errors
    /// When the database does.
    pub async fn write_copies(&self, rows: Vec<copies::ActiveModel>) -> Result<()> {
        use copies::Column;
        for part in rows.chunks(500) {
            let keys = [
                Column::Minute,
                Column::Facade,
                Column::Operation,
                Column::Backend,
                Column::Boot,
            ];
            let values = [
                Column::Same,
                Column::Different,
                Column::Failed,
                Column::LeftOut,
                Column::Us,
                Column::CopiesUs,
                Column::Told,
            ];
            let conflict = OnConflict::columns(keys).update_columns(values).to_owned();
            copies::Entity::insert_many(part.to_vec())
                .on_conflict(conflict)
                .exec_without_returning(&self.db)
                .await?;
        }
        Ok(())
    }

    /// What copies of calls gave since a minute (in minutes since 1970), the oldest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn copies_since(&self, minute: i64) -> Result<Vec<copies::Model>> {
        Ok(copies::Entity::find()
            .filter(copies::Column::Minute.gte(minute))
            .order_by_asc(copies::Column::Minute)
            .all(&self.db)
            .await?)
    }

    /// Usage since a minute (in minutes since 1970).
    ///
    /// # Errors
    /// When the database does.
    pub async fn usage_since(&self, minute: i64) -> Result<Vec<usage::Model>> {
        Ok(usage::Entity::find()
            .filter(usage::Column::Minute.gte(minute))
            .order_by_asc(usage::Column::Minute)
            .all(&self.db)
            .await?)
    }

    /// What some facades were called for since a minute (in minutes since 1970), whoever called and however it went but for calls
    /// without a good credential: minute, facade, operation, consumer, calls and bytes; by minute, at most so many.
    ///
    /// # Errors
    /// When the database does.
    pub async fn calls_by_minute(
        &self,
        facades: &[String],
        since: i64,
        most: u64,
    ) -> Result<Vec<(i64, String, String, i64, i64, i64)>> {
        let sum = |e: sea_orm::sea_query::SimpleExpr| e.cast_as("bigint");
        let bytes = Expr::expr(usage::Column::BytesIn.sum()).add(usage::Column::BytesOut.sum());
        Ok(usage::Entity::find()
            .select_only()
            .column(usage::Column::Minute)
            .column(usage::Column::Facade)
            .column(usage::Column::Operation)
            .column(usage::Column::Consumer)
            .column_as(sum(usage::Column::Calls.sum()), "calls")
            .column_as(sum(bytes), "bytes")
            .filter(usage::Column::Facade.is_in(facades))
            .filter(usage::Column::Minute.gte(since))
            .filter(usage::Column::Status.is_not_in([401, 403]))
            .group_by(usage::Column::Minute)
            .group_by(usage::Column::Facade)
            .group_by(usage::Column::Operation)
            .group_by(usage::Column::Consumer)
            .order_by_asc(usage::Column::Minute)
            .limit(most)
            .into_tuple()
            .all(&self.db)
            .await?)
    }

    /// Usage of a consumer since a minute (in minutes since 1970), added up for parts of so many minutes: the number of the part,
    /// facade, operation, status, calls, bytes in and bytes out; at most so many rows.
    ///
    /// # Errors
    /// When the database does.
    pub async fn usage_of(
        &self,
        consumer: i64,
        (since, step): (i64, i64),
        most: i64,
    ) -> Result<Vec<UsagePart>> {
        let sql = "select (minute - $2) / $3 as part, facade, operation, status, sum(calls)::bigint as calls, \
                   sum(bytes_in)::bigint as bytes_in, sum(bytes_out)::bigint as bytes_out from usage \
                   where consumer = $1 and minute >= $2 group by 1, 2, 3, 4 order by 1 desc limit $4";
        let values = [consumer.into(), since.into(), step.into(), most.into()];
        let statement = Statement::from_sql_and_values(DbBackend::Postgres, sql, values);
        let rows = self.db.query_all_raw(statement).await?;
        let read = |row: sea_orm::QueryResult| -> Result<UsagePart> {
            Ok(UsagePart {
                part: row.try_get("", "part")?,
                facade: row.try_get("", "facade")?,
                operation: row.try_get("", "operation")?,
                status: row.try_get("", "status")?,
                calls: row.try_get("", "calls")?,
                bytes_in: row.try_get("", "bytes_in")?,
                bytes_out: row.try_get("", "bytes_out")?,
            })
        };
        rows.into_iter().map(read).collect()
    }

    /// What a consumer has called since a minute (in minutes since 1970): facade, operation and how often, the most first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn calls_of(&self, consumer: i64, minute: i64) -> Result<Vec<(String, String, i64)>> {
        let calls = usage::Column::Calls.sum().cast_as("bigint");
        Ok(usage::Entity::find()
            .select_only()
            .column(usage::Column::Facade)
            .column(usage::Column::Operation)
            .column_as(calls, "calls")
            .filter(usage::Column::Consumer.eq(consumer))
            .filter(usage::Column::Minute.gte(minute))
            .group_by(usage::Column::Facade)
            .group_by(usage::Column::Operation)
            .order_by_desc(Expr::col("calls"))
            .limit(50)
            .into_tuple()
            .all(&self.db)
            .await?)
    }

    /// Forgets usage before a minute (in minutes since 1970); how many rows there were.
    ///
    /// # Errors
    /// When the database does.
    pub async fn forget_usage(&self, before: i64) -> Result<u64> {
        let gone = usage::Entity::delete_many()
            .filter(usage::Column::Minute.lt(before))
            .exec(&self.db)
            .await?;
        event::Entity::delete_many()
            .filter(event::Column::At.lt(before.saturating_mul(60_000)))
            .exec(&self.db)
            .await?;
        addition::Entity::delete_many()
            .filter(addition::Column::UntilAt.lt(before.saturating_mul(60_000)))
            .exec(&self.db)
            .await?;
        // Letters that could not be sent in all that time tell nobody anything any more.
        mail::Entity::delete_many()
            .filter(mail::Column::MadeAt.lt(before.saturating_mul(60_000)))
            .exec(&self.db)
            .await?;
        copies::Entity::delete_many()
            .filter(copies::Column::Minute.lt(before))
            .exec(&self.db)
            .await?;
        Ok(gone.rows_affected)
    }

    /// Usage added up by any key.
    pub fn add_up<K: std::hash::Hash + Eq>(
        rows: &[usage::Model],
        key: impl Fn(&usage::Model) -> K,
    ) -> HashMap<K, UsageTotals> {
        let mut totals: HashMap<K, UsageTotals> = HashMap::new();
        for row in rows {
            let total = totals.entry(key(row)).or_default();
            total.calls += row.calls;
            total.bytes_in += row.bytes_in;
            total.bytes_out += row.bytes_out;
            total.misfits += row.misfits;
            let buckets = row.latency.as_array().map_or(&[][..], Vec::as_slice);
            total
                .latency
                .resize(total.latency.len().max(buckets.len()), 0);
            for (sum, n) in total.latency.iter_mut().zip(buckets) {
                *sum += n.as_i64().unwrap_or(0);
            }
        }
        totals
    }

    /// Writes traces, and forgets the oldest beyond `keep`.
    ///
    /// # Errors
    /// When the database does.
    pub async fn write_traces(&self, rows: Vec<trace::ActiveModel>, keep: u64) -> Result<()> {
        if rows.is_empty() {
            return Ok(());
        }
        trace::Entity::insert_many(rows)
            .exec_without_returning(&self.db)
            .await?;
        let edge = trace::Entity::find()
            .order_by_desc(trace::Column::Id)
            .offset(keep)
            .one(&self.db)
            .await?;
        if let Some(edge) = edge {
            trace::Entity::delete_many()
                .filter(trace::Column::Id.lte(edge.id))
                .exec(&self.db)
                .await?;
        }
        Ok(())
    }

    /// Traces that fit a query, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn traces(&self, query: &TraceQuery) -> Result<Vec<trace::Model>> {
        let mut condition = Condition::all();
        for (column, text) in [
            (trace::Column::Facade, &query.facade),
            (trace::Column::Operation, &query.operation),
            (trace::Column::Consumer, &query.consumer),
        ] {
            if !text.is_empty() {
                condition = condition.add(column.eq(text.as_str()));
            }
        }
        if query.status_from > 0 {
            condition = condition.add(trace::Column::Status.gte(query.status_from));
        }
        if query.status_to > 0 {
            condition = condition.add(trace::Column::Status.lte(query.status_to));
        }
        Ok(trace::Entity::find()
            .filter(condition)
            .order_by_desc(trace::Column::Id)
            .limit(query.most.clamp(1, 500))
            .all(&self.db)
            .await?)
    }

    /// The traces whose id begins with a text, the newest first.
    ///
    /// # Errors
    /// When the database does.
    pub async fn trace(&self, id: &str) -> Result<Vec<trace::Model>> {
        if id.len() < 6 || !id.bytes().all(|b| b.is_ascii_hexdigit() || b == b'-') {
            return Ok(Vec::new());
        }
        Ok(trace::Entity::find()
            .filter(trace::Column::TraceId.starts_with(id))
            .order_by_desc(trace::Column::Id)
            .limit(10)
            .all(&self.db)
            .await?)
    }
}
