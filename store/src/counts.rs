//! Counts that several nodes share: each a few bytes that are read, changed and written under one lock.

use sea_orm::sqlx::{self, Row};
use sea_orm::{DbErr, RuntimeErr};

use crate::{Result, Store, StoreError};

/// Limit and subject, as the database has them.
pub type CountKey = (i64, i64);

/// A count's bytes, and the moment from which on nothing of it matters; milliseconds since 1970.
pub struct CountRow {
    /// As whoever counts wrote it; empty where nothing was counted yet.
    pub bytes: Vec<u8>,
    /// In milliseconds since 1970.
    pub over_at: i64,
}

impl From<sqlx::Error> for StoreError {
    fn from(e: sqlx::Error) -> Self {
        StoreError::from(DbErr::Query(RuntimeErr::SqlxError(e.into())))
    }
}

impl Store {
    /// Changes some counts at once: `change` is given the time by the database's clock, in milliseconds since 1970, and the counts
    /// in the order of `keys`, which are sorted and none of them twice.
    ///
    /// # Errors
    /// When the database does; then nothing was changed, or it is not known whether it was.
    pub async fn count<T>(
        &self,
        keys: &[CountKey],
        change: impl FnOnce(u64, &mut [CountRow]) -> T,
    ) -> Result<T> {
        let (limits, subjects): (Vec<i64>, Vec<i64>) = keys.iter().copied().unzip();
        let mut transaction = self.db.get_postgres_connection_pool().begin().await?;
        let mut rows = locked(&mut transaction, &limits, &subjects).await?;
        if rows.len() < keys.len() {
            sqlx::query(NEW)
                .bind(&limits)
                .bind(&subjects)
                .execute(&mut *transaction)
                .await?;
            rows = locked(&mut transaction, &limits, &subjects).await?;
        }
        if rows.len() != keys.len() {
            return Err(StoreError::Stale("a count".into()));
        }
        // Behind the locks: a moment from before them may be long ago.
        let now: i64 = sqlx::query_scalar(NOW).fetch_one(&mut *transaction).await?;
        let outcome = change(u64::try_from(now).unwrap_or(0), &mut rows);
        let bytes: Vec<&[u8]> = rows.iter().map(|r| r.bytes.as_slice()).collect();
        let over: Vec<i64> = rows.iter().map(|r| r.over_at).collect();
        sqlx::query(CHANGED)
            .bind(&limits)
            .bind(&subjects)
            .bind(&bytes)
            .bind(&over)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(outcome)
    }

    /// The counts that matter still, at most so many.
    ///
    /// # Errors
    /// When the database does.
    pub async fn counts(&self, most: i64) -> Result<Vec<(CountKey, Vec<u8>)>> {
        let all = sqlx::query("select limit_id, subject, state from counted limit $1");
        let rows = all
            .bind(most)
            .fetch_all(self.db.get_postgres_connection_pool())
            .await?;
        let row =
            |row: sqlx::postgres::PgRow| Ok(((row.try_get(0)?, row.try_get(1)?), row.try_get(2)?));
        rows.into_iter().map(row).collect()
    }

    /// Says that a node of an environment counts here, and forgets counts that no longer matter; how many nodes do. Who was not heard of for so many
    /// seconds does not.
    ///
    /// # Errors
    /// When the database does.
    pub async fn counts_here(
        &self,
        (environment, node): (&str, &str),
        seconds: i64,
    ) -> Result<u64> {
        let pool = self.db.get_postgres_connection_pool();
        let here = sqlx::query(HERE).bind(node).bind(environment);
        here.execute(pool).await?;
        sqlx::query(FORGET).execute(pool).await?;
        let nodes: i64 = sqlx::query_scalar(NODES)
            .bind(seconds)
            .bind(environment)
            .fetch_one(pool)
            .await?;
        Ok(u64::try_from(nodes).unwrap_or(1))
    }
}

const NOW: &str = "select (extract(epoch from clock_timestamp()) * 1000)::bigint";
const NEW: &str = "insert into counted (limit_id, subject, state, over_at)
    select l, s, ''::bytea, 9223372036854775807 from unnest($1::bigint[], $2::bigint[]) as k(l, s) order by l, s
    on conflict do nothing";
/// Locked in their order, so that no two nodes wait for each other.
const LOCKED: &str = "select c.state, c.over_at from counted c
    join unnest($1::bigint[], $2::bigint[]) as k(l, s) on c.limit_id = k.l and c.subject = k.s
    order by c.limit_id, c.subject for update of c";
const CHANGED: &str = "update counted c set state = k.b, over_at = k.o
    from unnest($1::bigint[], $2::bigint[], $3::bytea[], $4::bigint[]) as k(l, s, b, o)
    where c.limit_id = k.l and c.subject = k.s";
const HERE: &str =
    "insert into counting_node (name, environment, seen_at) values ($1, $2, clock_timestamp())
    on conflict (name) do update set seen_at = excluded.seen_at";
const NODES: &str = "with gone as (delete from counting_node where seen_at < clock_timestamp() - make_interval(secs => $1::double precision))
    select count(*) from counting_node where environment = $2 and seen_at >= clock_timestamp() - make_interval(secs => $1::double precision)";
const FORGET: &str = "delete from counted where over_at < (extract(epoch from clock_timestamp()) * 1000)::bigint - 60000";

async fn locked(
    transaction: &mut sqlx::PgTransaction<'_>,
    limits: &[i64],
    subjects: &[i64],
) -> Result<Vec<CountRow>> {
    let rows = sqlx::query(LOCKED)
        .bind(limits)
        .bind(subjects)
        .fetch_all(&mut **transaction)
        .await?;
    let row = |row: sqlx::postgres::PgRow| {
        Ok(CountRow {
            bytes: row.try_get(0)?,
            over_at: row.try_get(1)?,
        })
    };
    rows.into_iter().map(row).collect()
}
