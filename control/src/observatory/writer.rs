//! Writes down what the gateway hands out.
//!
//! Taking in never waits for the database: usage is added up in memory, traces wait in a bounded queue, and writing goes on
//! beside it, so that nothing is lost while the database is away but the oldest of too many traces.

use std::collections::{HashMap, HashSet, VecDeque};
use std::sync::Arc;
use std::time::Duration;

use porch_gateway::{QuotaTold, Record, Trace, UsageRow};
use porch_store::entity::{event, trace, usage};
use porch_store::{NewMessage, Store, StoreError, now_ms};
use sea_orm::Set;
use tokio::sync::mpsc;
use tokio::time::MissedTickBehavior;

use super::Observatory;
use super::copies::{Copies, CopiesOf};
use crate::trouble::Trouble;

/// Traces that are kept.
const KEEP_TRACES: u64 = 20_000;
/// Traces that wait for the database, at most; beyond that the oldest are dropped.
const MAX_WAITING: usize = 20_000;
/// Traces that are written in one statement: PostgreSQL takes 65,535 parameters.
const AT_ONCE: usize = 1_000;
/// Sums of usage that wait for the database, at most: minutes, operations, consumers and statuses apart.
const MAX_SUMS: usize = 500_000;
const TICK: Duration = Duration::from_millis(500);

/// Minute, facade, operation, consumer, status.
type UsageKey = (i64, String, String, i64, u16);

/// What was taken in and not written yet.
#[derive(Default)]
struct Waiting {
    minutes: HashMap<UsageKey, UsageRow>,
    dirty: HashSet<UsageKey>,
    traces: VecDeque<Trace>,
    copies: Copies,
    told: Vec<QuotaTold>,
    uses: HashMap<(&'static str, Box<str>), u32>,
    dropped: u64,
}

/// What is written in one go.
struct Batch {
    keys: Vec<UsageKey>,
    usage: Vec<usage::ActiveModel>,
    traces: Vec<Trace>,
    copies: CopiesOf,
    told: Vec<QuotaTold>,
    uses: HashMap<(&'static str, Box<str>), u32>,
}

impl Observatory {
    /// Adds up usage by minute and writes it, with the traces, every half second.
    pub(crate) async fn write_records(
        self: Arc<Self>,
        trouble: Arc<Trouble>,
        mut records: mpsc::Receiver<Record>,
    ) {
        let boot = now_ms();
        let mut waiting = Waiting::default();
        let mut tick = tokio::time::interval(TICK);
        tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let (done, mut written) = mpsc::channel(1);
        let (mut writing, mut failing) = (false, false);
        loop {
            tokio::select! {
                record = records.recv() => match record {
                    Some(record) => waiting.take_in(record, now_ms() / 60_000),
                    None => return,
                },
                Some((batch, result)) = written.recv() => {
                    writing = false;
                    failing = waiting.written(batch, result, failing, &trouble);
                }
                _ = tick.tick(), if !writing => {
                    let Ok(store) = self.database.store() else { continue };
                    writing = true;
                    waiting.uses.extend(self.shared.take_uses());
                    let (batch, done) = (waiting.batch(boot), done.clone());
                    tokio::spawn(async move {
                        let result = batch.write(&store).await;
                        // Nobody listens only when the service ends.
                        let _ = done.send((batch, result)).await;
                    });
                }
            }
        }
    }
}

impl Waiting {
    fn take_in(&mut self, record: Record, minute: i64) {
        match record {
            Record::Usage(rows) => rows.into_iter().for_each(|row| self.add(row, minute)),
            Record::Quota(told) if self.told.len() < MAX_WAITING => self.told.push(*told),
            Record::Quota(_) => self.dropped += 1,
            Record::Copies(rows) => rows
                .into_iter()
                .for_each(|row| self.copies.add(row, minute)),
            Record::Trace(trace) => {
                self.traces.push_back(*trace);
                if self.traces.len() > MAX_WAITING {
                    self.traces.pop_front();
                    self.dropped += 1;
                }
            }
        }
    }

    fn add(&mut self, row: UsageRow, minute: i64) {
        let key = (
            minute,
            row.facade.clone(),
            row.operation.clone(),
            row.consumer,
            row.status,
        );
        if let Some(sum) = self.minutes.get_mut(&key) {
            sum.calls += row.calls;
            sum.bytes_in += row.bytes_in;
            sum.bytes_out += row.bytes_out;
            sum.misfits += row.misfits;
            let buckets = sum.latency.iter_mut().zip(&row.latency);
            buckets.for_each(|(a, b)| *a += b);
        } else if self.minutes.len() < MAX_SUMS {
            self.minutes.insert(key.clone(), row);
        } else {
            self.dropped += 1;
            return;
        }
        self.dirty.insert(key);
    }

    fn batch(&mut self, boot: i64) -> Batch {
        let keys: Vec<UsageKey> = self.dirty.drain().collect();
        let rows = keys.iter().filter_map(|k| Some((k, self.minutes.get(k)?)));
        Batch {
            usage: rows.map(|(k, row)| usage_model(k, row, boot)).collect(),
            keys,
            copies: self.copies.batch(boot),
            traces: self.traces.drain(..).collect(),
            told: std::mem::take(&mut self.told),
            uses: std::mem::take(&mut self.uses),
        }
    }

    /// After a write: what was not written waits again.
    fn written(
        &mut self,
        batch: Batch,
        result: Result<(), StoreError>,
        failing: bool,
        trouble: &Trouble,
    ) -> bool {
        match result {
            Ok(()) => {
                let now = now_ms() / 60_000;
                let dirty = &self.dirty;
                self.minutes
                    .retain(|k, _| k.0 + 2 > now || dirty.contains(k));
                self.copies.forget(now);
                if failing {
                    trouble.set("");
                    tracing::info!("the database answers again");
                }
                false
            }
            Err(e) => {
                self.dirty.extend(batch.keys);
                self.copies.again(batch.copies);
                self.told.splice(0..0, batch.told);
                // What was used again in the meantime stays as it is now.
                for (of, minute) in batch.uses {
                    self.uses.entry(of).or_insert(minute);
                }
                for trace in batch.traces.into_iter().rev() {
                    if self.traces.len() < MAX_WAITING {
                        self.traces.push_front(trace);
                    } else {
                        self.dropped += 1;
                    }
                }
                if !failing {
                    trouble.set(
                        "the database does not answer; callers are served, changes are not possible",
                    );
                    tracing::warn!("records cannot be written: {e}");
                }
                true
            }
        }
    }
}

impl Batch {
    async fn write(&self, store: &Store) -> Result<(), StoreError> {
        store.write_usage(self.usage.clone()).await?;
        store.write_copies(self.copies.models.clone()).await?;
        let uses = self.uses.iter();
        let uses = uses.map(|((kind, label), minute)| {
            ((*kind).to_owned(), label.to_string(), i64::from(*minute))
        });
        store.used(&uses.collect::<Vec<_>>()).await?;
        store
            .tell(self.told.iter().map(event_model).collect())
            .await?;
        for told in self.told.iter().filter(|t| !t.consumer.is_empty()) {
            tell_team(store, told).await?;
        }
        for part in self.traces.chunks(AT_ONCE) {
            let models = part.iter().map(trace_model).collect();
            store.write_traces(models, KEEP_TRACES).await?;
        }
        Ok(())
    }
}

/// Tells those whose consumer it is, once for each share of each period.
async fn tell_team(store: &Store, told: &QuotaTold) -> Result<(), StoreError> {
    let Ok(consumer) = store.consumer(&told.consumer).await else {
        return Ok(());
    };
    let Some(team) = consumer.team_id else {
        return Ok(());
    };
    let what = match told.operation.as_str() {
        "" => told.facade.clone(),
        operation => format!("{}/{operation}", told.facade),
    };
    let (kind, subject) = match told.share {
        100.. => ("quota-used-up", format!("The quota of {what} is used up")),
        share => (
            "quota-near",
            format!("{share} % of the quota of {what} is used"),
        ),
    };
    let until = chrono::DateTime::from_timestamp_millis(told.until);
    let until = until.map_or_else(String::new, |at| {
        at.format("%Y-%m-%d %H:%M UTC").to_string()
    });
    let text = format!(
        "{} has used {} of {}. It begins anew on {until}.",
        told.consumer, told.used, told.most
    );
    let new = NewMessage {
        kind,
        team: Some(team),
        subject: &subject,
        text: &text,
        detail: serde_json::json!({ "facade": told.facade, "operation": told.operation, "consumer": told.consumer, "used": told.used, "most": told.most, "until": told.until }),
    };
    let about = format!(
        "{} {} {} {} {}",
        consumer.id, told.rule, told.reach, told.share, told.until
    );
    let change = store.change("the gateway").await?;
    change.tell_once(&new, &about).await?;
    change.commit().await
}

fn event_model(told: &QuotaTold) -> event::ActiveModel {
    event::ActiveModel {
        at: Set(told.at),
        kind: Set("quota".to_owned()),
        facade: Set(told.facade.clone()),
        consumer: Set(told.consumer.clone()),
        detail: Set(serde_json::json!({
            "operation": told.operation, "rule": told.rule, "reach": told.reach, "share": told.share,
            "used": told.used, "most": told.most, "until": told.until,
        })),
        ..Default::default()
    }
}

fn usage_model(key: &UsageKey, row: &UsageRow, boot: i64) -> usage::ActiveModel {
    usage::ActiveModel {
        minute: Set(key.0),
        facade: Set(key.1.clone()),
        operation: Set(key.2.clone()),
        consumer: Set(key.3),
        status: Set(i32::from(key.4)),
        boot: Set(boot),
        calls: Set(row.calls as i64),
        bytes_in: Set(row.bytes_in as i64),
        bytes_out: Set(row.bytes_out as i64),
        misfits: Set(row.misfits as i64),
        latency: Set(serde_json::json!(row.latency)),
    }
}

fn trace_model(trace: &Trace) -> trace::ActiveModel {
    trace::ActiveModel {
        trace_id: Set(trace.id.clone()),
        at: Set(trace.at),
        facade: Set(trace.facade.clone()),
        operation: Set(trace.operation.clone()),
        consumer: Set(trace.consumer_name.clone()),
        status: Set(i32::from(trace.status)),
        us: Set(trace.us as i64),
        method: Set(trace.method.clone()),
        target: Set(trace.target.replace('\0', "")),
        why: Set(trace
            .refusal
            .as_ref()
            .map_or(trace.misfit.as_str(), |r| r.why.as_str())
            .replace('\0', "")),
        content: Set(without_nul(
            serde_json::to_value(trace).unwrap_or(serde_json::Value::Null),
        )),
        ..Default::default()
    }
}

/// PostgreSQL's texts hold no NUL.
fn without_nul(value: serde_json::Value) -> serde_json::Value {
    use serde_json::Value;
    match value {
        Value::String(text) if text.contains('\0') => Value::String(text.replace('\0', "\u{fffd}")),
        Value::Array(items) => items.into_iter().map(without_nul).collect(),
        Value::Object(map) => {
            Value::Object(map.into_iter().map(|(k, v)| (k, without_nul(v))).collect())
        }
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(status: u16, calls: u64) -> UsageRow {
        UsageRow {
            facade: "sailings".into(),
            operation: "quoteFare".into(),
            consumer: 1,
            status,
            calls,
            bytes_in: 1,
            bytes_out: 2,
            misfits: 0,
            latency: vec![calls as u32],
        }
    }

    #[test]
    fn usage_is_added_up_by_minute_and_waits_again_when_it_was_not_written() {
        let (mut waiting, trouble) = (Waiting::default(), Trouble::default());
        let now = now_ms() / 60_000;
        waiting.take_in(
            Record::Usage(vec![row(200, 1), row(200, 2), row(429, 1)]),
            now,
        );
        let batch = waiting.batch(7);
        assert_eq!((batch.usage.len(), waiting.dirty.len()), (2, 0));
        // More comes while it is written, which fails.
        waiting.take_in(Record::Usage(vec![row(200, 4)]), now);
        let failed = Err(StoreError::Missing("database".into()));
        assert!(waiting.written(batch, failed, false, &trouble));
        assert!(trouble.get().contains("does not answer"));
        let batch = waiting.batch(7);
        assert_eq!(batch.keys.len(), 2);
        let ok = batch.keys.iter().find(|k| k.4 == 200).unwrap();
        assert_eq!(waiting.minutes[ok].calls, 7);
        assert!(!waiting.written(batch, Ok(()), true, &trouble));
        assert_eq!(trouble.get(), "");
    }

    #[test]
    fn only_so_many_traces_wait_the_newest_of_all() {
        let mut waiting = Waiting::default();
        for i in 0..MAX_WAITING + 3 {
            let trace = Trace {
                at: i as i64,
                ..Trace::default()
            };
            waiting.take_in(Record::Trace(Box::new(trace)), 0);
        }
        assert_eq!((waiting.traces.len(), waiting.dropped), (MAX_WAITING, 3));
        assert_eq!(waiting.traces[0].at, 3);
    }

    #[test]
    fn texts_hold_no_nul() {
        let value = serde_json::json!({"a": ["x\u{0}y"], "b": "c"});
        assert_eq!(
            without_nul(value),
            serde_json::json!({"a": ["x\u{fffd}y"], "b": "c"})
        );
    }
}
