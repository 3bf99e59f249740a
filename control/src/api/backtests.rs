//! Limits and quotas of the draft, against what was called lately: who would have been refused, when, and how often.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;
use std::time::Duration;

use axum::extract::{Extension, State};
use porch_contract::Finding;
use porch_facade::{CompiledFacade, CompiledPorch, LimitPlan, Number, Secrets, Time, Who};
use porch_gateway::{agreed, counted_for, period_of};
use porch_rules::grant::{Agreement, Consumer};
use porch_rules::limit::{Again, Form, Limit};
use porch_store::{Role, now_ms};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::Json;
use super::quotas::{consumers_of, whose};
use super::session::Publisher;
use crate::app::App;
use crate::compute::compute;
use crate::error::ApiError;

/// Days that are looked back at most, and rows of usage that are read.
const MOST_DAYS: u32 = 31;
const MOST_ROWS: u64 = 1_000_000;
/// Subjects of a limit that are told of.
const MOST_TOLD: usize = 100;

#[derive(Deserialize, ToSchema)]
pub(crate) struct Backtest {
    facade: String,
    /// Days that are looked back; 7 unless given, 31 at most.
    days: Option<u32>,
    /// Files to put over the draft's for this once.
    #[serde(default)]
    files: BTreeMap<String, String>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct Backtested {
    /// From when on, in milliseconds since 1970.
    since_at: i64,
    /// Calls that were looked at.
    calls: u64,
    limits: Vec<LimitTested>,
    /// What of the draft's limits could not be tried.
    findings: Vec<Finding>,
}

#[derive(Serialize, ToSchema)]
pub(crate) struct LimitTested {
    /// The limit or quota in words.
    rule: String,
    /// What it reaches.
    reach: String,
    /// Why it could not be tried; empty where it could.
    not_tried: String,
    /// Calls that it would have been asked for.
    calls: u64,
    /// How many of these it would have refused.
    refused: u64,
    /// Whose calls, those who would have been refused most first.
    whose: Vec<SubjectTested>,
}

#[derive(Clone, Default, Serialize, ToSchema)]
pub(crate) struct SubjectTested {
    /// Consumer, agreement or account; `everyone` where all share it.
    name: String,
    calls: u64,
    refused: u64,
    /// Minutes in which calls would have been refused.
    minutes: u64,
    /// The first and the last of these, in milliseconds since 1970; none: no call would have been.
    first_at: Option<i64>,
    last_at: Option<i64>,
    /// The minute with the most refusals, and how many these are.
    worst_at: Option<i64>,
    worst: u64,
}

/// What was called in a minute, by one consumer, of one operation.
type Row = (i64, String, String, i64, i64, i64);

/// A limit with the operations that it reaches.
struct Tried<'p> {
    facade: &'p CompiledFacade,
    plan: &'p LimitPlan,
    operations: HashSet<&'p str>,
}

/// Tries limits and quotas of the draft with the calls of the last days.
#[utoipa::path(post, path = "/api/backtests", request_body = Backtest, responses((status = 200, body = Backtested), (status = 404), (status = 422)))]
pub(crate) async fn backtest(
    State(app): State<Arc<App>>,
    Extension(publisher): Extension<Publisher>,
    Json(asked): Json<Backtest>,
) -> Result<Json<Backtested>, ApiError> {
    let days = asked.days.unwrap_or(7);
    if !(1..=MOST_DAYS).contains(&days) {
        let title = format!("1 to {MOST_DAYS} days can be looked back");
        return Err(ApiError::new(400, title, "Usage is kept for that long."));
    }
    if !asked.files.is_empty() {
        let told = "Files of one's own can be tried by publishers";
        publisher.needs(Role::Publisher, told)?;
    }
    let model = app.publication.model_with(asked.files).await?;
    let name = asked.facade.clone();
    let (porch, findings) =
        compute(move || model.porch(&[name.as_str()], &Secrets::Placeholder)).await?;
    if porch.facade(&asked.facade).is_none() {
        let title = format!("There is no facade “{}” that can be tried", asked.facade);
        return Err(ApiError::new(422, title, "Mend what is listed.").with(findings));
    }
    let since = now_ms() / 60_000 - i64::from(days) * 1440;
    let store = app.database.store()?;
    let facades = [asked.facade.clone()];
    let rows = store.calls_by_minute(&facades, since, MOST_ROWS).await?;
    if rows.len() as u64 >= MOST_ROWS {
        let help = "Ask for fewer days.";
        return Err(ApiError::new(422, "That is too much usage at once", help));
    }
    let consumers = consumers_of(&app).await?;
    let tested = compute(move || {
        let known: HashMap<i64, Arc<Consumer>> = consumers.into_iter().map(|c| (c.id, c)).collect();
        let all = tried(&porch);
        let limits = all.iter().map(|t| t.with(&rows, &known)).collect();
        Backtested {
            since_at: since * 60_000,
            calls: rows.iter().map(|r| r.4.unsigned_abs()).sum(),
            limits,
            findings,
        }
    });
    Ok(Json(tested.await?))
}

/// The limits of a facade in a time, each once.
fn tried(porch: &CompiledPorch) -> Vec<Tried<'_>> {
    let mut all: Vec<Tried<'_>> = Vec::new();
    for facade in &porch.facades {
        for operation in &facade.operations {
            for plan in operation.admission.limits.of_time() {
                let known = all.iter_mut().find(|t| t.plan.id == plan.id);
                match known {
                    Some(known) => drop(known.operations.insert(&operation.id)),
                    None => all.push(Tried {
                        facade,
                        plan,
                        operations: HashSet::from([operation.id.as_str()]),
                    }),
                }
            }
        }
    }
    all
}

/// What is counted of one subject in a minute.
#[derive(Default)]
struct Counted<'c> {
    calls: u64,
    bytes: u64,
    who: Option<(&'c Consumer, Option<&'c Agreement>)>,
}

impl Tried<'_> {
    /// Why it cannot be tried with what is known of calls.
    fn not_tried(&self) -> &'static str {
        match (&self.plan.per, &self.plan.weight) {
            (Who::Address, _) => "from which address calls came is not recorded",
            (Who::Key, _) => "with which key calls came is not recorded",
            (Who::Value(_), _) => "what it is counted by is asked of each request",
            (_, Number::Asked(..)) => "how much a call counts is asked of each request",
            _ => "",
        }
    }

    fn with(&self, rows: &[Row], consumers: &HashMap<i64, Arc<Consumer>>) -> LimitTested {
        let mut told = LimitTested {
            rule: self.plan.place.rule.to_string(),
            reach: self.plan.place.reach.to_string(),
            not_tried: self.not_tried().to_owned(),
            calls: 0,
            refused: 0,
            whose: Vec::new(),
        };
        if !told.not_tried.is_empty() {
            return told;
        }
        let own = rows
            .iter()
            .filter(|r| r.1 == self.facade.name && self.operations.contains(r.2.as_str()));
        let own: Vec<&Row> = own.collect();
        let (again, mut subjects) = (Again::default(), HashMap::new());
        for minute in own.chunk_by(|a, b| a.0 == b.0) {
            self.minute(minute, consumers, &again, &mut subjects);
        }
        let mut whose: Vec<SubjectTested> = subjects.into_values().collect();
        whose.sort_by(|a, b| (b.refused, b.calls, &a.name).cmp(&(a.refused, a.calls, &b.name)));
        told.calls = whose.iter().map(|s| s.calls).sum();
        told.refused = whose.iter().map(|s| s.refused).sum();
        whose.truncate(MOST_TOLD);
        told.whose = whose;
        told
    }

    /// Counts what came in one minute.
    fn minute(
        &self,
        rows: &[&Row],
        consumers: &HashMap<i64, Arc<Consumer>>,
        again: &Again,
        subjects: &mut HashMap<u64, SubjectTested>,
    ) {
        let Some(minute) = rows.first().map(|r| r.0) else {
            return;
        };
        let mut counted: BTreeMap<u64, Counted<'_>> = BTreeMap::new();
        for row in rows {
            let consumer = consumers.get(&row.3).map(|c| &**c);
            let seconds = minute * 60;
            let agreement = consumer.and_then(|c| {
                let mut all = c.agreements.iter();
                all.find(|a| a.holds((&self.facade.name, &row.2), seconds))
            });
            let name = &self.facade.name;
            let subject = match (consumer, &self.plan.per) {
                (Some(c), per) => counted_for(per, c, agreement, name),
                // Consumers that are gone are counted: with all others where all share it, else each as itself.
                (None, per @ (Who::Everyone | Who::Facade)) => {
                    counted_for(per, &Consumer::default(), None, name)
                }
                (None, _) => Some(row.3.unsigned_abs()),
            };
            let own = counted.entry(subject.unwrap_or(0)).or_default();
            own.calls += row.4.unsigned_abs();
            own.bytes += row.5.unsigned_abs();
            own.who = consumer.map(|c| (c, agreement));
        }
        for (subject, own) in counted {
            let refused = self.asked(subject, &own, again, minute);
            let told = subjects.entry(subject).or_insert_with(|| SubjectTested {
                name: self.name(&own),
                ..SubjectTested::default()
            });
            told.add(minute * 60_000, own.calls, refused);
        }
    }

    fn name(&self, own: &Counted<'_>) -> String {
        match own.who {
            Some((consumer, agreement)) => whose(&self.plan.per, consumer, agreement),
            None if matches!(self.plan.per, Who::Everyone | Who::Facade) => "everyone".to_owned(),
            None => "nobody who is known now".to_owned(),
        }
    }

    /// How many calls of a subject would have been refused in a minute.
    fn asked(&self, subject: u64, own: &Counted<'_>, again: &Again, minute: i64) -> u64 {
        let agreement = own.who.and_then(|(_, agreement)| agreement);
        // What has no number without an agreement refuses whoever has none.
        let Some(most) = agreed(&self.plan.most, agreement) else {
            return own.calls;
        };
        let limit = match self.plan.time {
            Time::Window(window, form) => Limit { most, window, form },
            Time::Period(..) => {
                let (from, to) =
                    period_of(self.plan, agreement, minute * 60_000).unwrap_or((0, i64::MAX));
                let from = u64::try_from(from).unwrap_or(0);
                Limit {
                    most,
                    window: Duration::from_millis(u64::try_from(to).unwrap_or(u64::MAX) - from),
                    form: Form::Fixed { from },
                }
            }
        };
        if self.plan.only_tells {
            return 0;
        }
        let weight = match self.plan.bytes {
            true => own.bytes / own.calls.max(1),
            false => self.plan.weight.fixed().unwrap_or(1),
        };
        let minute = u64::try_from(minute).unwrap_or(0);
        again.minute(subject, limit, (own.calls, weight), minute)
    }
}

impl SubjectTested {
    fn add(&mut self, at: i64, calls: u64, refused: u64) {
        self.calls += calls;
        if refused == 0 {
            return;
        }
        self.refused += refused;
        self.minutes += 1;
        self.first_at.get_or_insert(at);
        self.last_at = Some(at);
        if refused > self.worst {
            (self.worst, self.worst_at) = (refused, Some(at));
        }
    }
}
