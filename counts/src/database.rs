//! Counts in the database, which lends nodes what their traffic takes.
//!
//! What a call asks for waits until the transaction before it has ended, together with all others that came meanwhile: they
//! share the next one. A transaction that has ended is on the disk; what a node that died had been lent, and not used, is counted as used.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::time::Duration;

use porch_gateway::{Ask, Away, CommonCounts, CommonState, Soon};
use porch_rules::limit::{
    Account, Decision, Leases, Places, PlacesAsked, PlacesTold, Returned, Taken, Want, stable_id,
};
use porch_store::{CountKey, CountRow, Store};
use tokio::sync::{mpsc, oneshot};

use crate::{GONE, HEARD, Known};

/// So long a transaction may take.
const ANSWER: Duration = Duration::from_secs(1);
/// What no longer is of use is given back so often.
const BACK: Duration = Duration::from_millis(100);
/// What a transaction does at most.
const TOGETHER: usize = 500;
/// What waits at most.
const WAITING: usize = 20_000;

/// Gives the store, once the database was reached.
pub type Reached = Box<dyn Fn() -> Option<Arc<Store>> + Send + Sync>;

/// Counts in a database.
#[derive(Clone)]
pub struct Counts(Arc<Inner>);

struct Inner {
    /// The store, once the database was reached.
    store: OnceLock<Reached>,
    known: Known,
    environment: String,
    /// By which the counts of an environment are told from those of others in the same database.
    apart: u64,
    leases: Mutex<Leases>,
    jobs: mpsc::Sender<Job>,
}

/// The place from which what waits is taken.
pub struct Waiting(mpsc::Receiver<Job>);

/// What a limit is asked for, with what was decided of it on this node, or what is to be asked for it.
type Open = (Ask, Result<Decision, Want>);

/// What waits for a transaction.
enum Job {
    /// Limits of a call; those that were decided on this node have their decision.
    Ask {
        asks: Vec<Open>,
        /// When it was asked for.
        at: u64,
        answer: oneshot::Sender<Result<Vec<Decision>, Away>>,
    },
    Back(Returned),
    Charge(Ask, oneshot::Sender<Result<u64, Away>>),
}

/// What came of a job, behind the transaction.
enum Done {
    Asked {
        decisions: Vec<Decision>,
        /// What was lent, by what was asked.
        lent: Vec<(Ask, porch_rules::limit::Granted)>,
        /// What had been decided here before somebody else refused.
        back: Vec<Returned>,
        at: u64,
        answer: oneshot::Sender<Result<Vec<Decision>, Away>>,
    },
    Charged(u64, oneshot::Sender<Result<u64, Away>>),
    Nothing,
}

fn key(limit: u64, subject: u64) -> CountKey {
    (limit.cast_signed(), subject.cast_signed())
}

fn returned(ask: &Ask, at: u64) -> Returned {
    Returned {
        key: (ask.limit, ask.subject),
        rule: ask.rule,
        weight: ask.weight,
        at,
    }
}

impl Counts {
    /// Counts of an environment in a database that need not be there yet; [`Counts::keep`] carries out what waits. How many nodes
    /// there were is read from a file, and written there.
    pub fn new(environment: &str, before: PathBuf) -> (Self, Waiting) {
        let (jobs, waiting) = mpsc::channel(WAITING);
        let counts = Self(Arc::new(Inner {
            store: OnceLock::new(),
            known: Known::new("the database that the nodes count in", before),
            environment: environment.to_owned(),
            apart: stable_id(&format!("counts of {environment}")),
            leases: Mutex::default(),
            jobs,
        }));
        (counts, Waiting(waiting))
    }

    /// Carries out what waits, gives back what is no longer of use and says that this node is there; ends never.
    pub async fn keep(self, waiting: Waiting, store: Reached) {
        let _ = self.0.store.set(store);
        let here = self.0.clone();
        tokio::spawn(async move {
            loop {
                here.say_it_is_there().await;
                tokio::time::sleep(HEARD).await;
            }
        });
        let mut waiting = waiting.0;
        let mut back = tokio::time::interval(BACK);
        loop {
            let mut jobs = Vec::new();
            tokio::select! {
                biased;
                n = waiting.recv_many(&mut jobs, TOGETHER) => if n == 0 { return },
                _ = back.tick() => {}
            }
            let now = self.0.known.now();
            let over = self.0.leases().returned(now);
            jobs.extend(over.into_iter().map(Job::Back));
            self.0.carry_out_all(jobs).await;
        }
    }

    /// Gives back everything, when the node stops.
    pub async fn stop(&self) {
        let all = self.0.leases().all();
        self.0
            .carry_out_all(all.into_iter().map(Job::Back).collect())
            .await;
    }
}

impl Inner {
    fn leases(&self) -> MutexGuard<'_, Leases> {
        self.leases.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn store(&self) -> Result<Arc<Store>, Away> {
        let store = self.store.get().and_then(|reached| reached());
        store.ok_or_else(|| Away("it was not reached yet".into()))
    }

    async fn say_it_is_there(&self) {
        let Ok(store) = self.store() else { return };
        let node = (self.environment.as_str(), self.known.name.as_str());
        let heard = store.counts_here(node, GONE as i64);
        if let Ok(Ok(nodes)) = tokio::time::timeout(ANSWER, heard).await {
            self.known.heard(nodes);
        }
    }

    /// As many transactions as it takes.
    async fn carry_out_all(&self, mut jobs: Vec<Job>) {
        while !jobs.is_empty() {
            let later = jobs.split_off(jobs.len().min(TOGETHER));
            self.carry_out(jobs).await;
            jobs = later;
        }
    }

    /// One transaction, and what follows from it.
    async fn carry_out(&self, jobs: Vec<Job>) {
        let store = match self.known.may_ask().and_then(|()| self.store()) {
            Ok(store) => store,
            Err(away) => return fail(jobs, &away),
        };
        let keys = keys_of(&jobs);
        // Taken out when the transaction has come that far: what fails before it is told.
        let jobs = Mutex::new(Some(jobs));
        let take = || jobs.lock().unwrap_or_else(PoisonError::into_inner).take();
        let change = |now: u64, rows: &mut [CountRow]| {
            let mut accounts = Accounts::of(&keys, rows, now);
            let done: Vec<Done> = take()
                .unwrap_or_default()
                .into_iter()
                .map(|job| accounts.carry_out(job))
                .collect();
            accounts.written(rows);
            done
        };
        let outcome = tokio::time::timeout(ANSWER, store.count(&keys, change)).await;
        let away = match outcome {
            Ok(Ok(done)) => {
                self.known.answered();
                return self.done(done);
            }
            Ok(Err(e)) => self.known.failed(&e.to_string()),
            Err(_) => self.known.failed("it took too long to answer"),
        };
        // Those that had been carried out are dropped, and so told.
        fail(take().unwrap_or_default(), &away);
    }

    fn done(&self, done: Vec<Done>) {
        let now = self.known.now();
        let mut leases = self.leases();
        for one in done {
            match one {
                Done::Asked {
                    decisions,
                    lent,
                    back,
                    at,
                    answer,
                } => {
                    for (ask, granted) in lent {
                        let key = (ask.limit, ask.subject);
                        leases.granted(key, ask.rule, &granted, at, now);
                    }
                    for returned in back {
                        leases.give_back(returned, now);
                    }
                    // Whoever asked may have gone; what was counted for it stays counted.
                    let _ = answer.send(Ok(decisions));
                }
                Done::Charged(used, answer) => drop(answer.send(Ok(used))),
                Done::Nothing => {}
            }
        }
    }
}

fn fail(jobs: Vec<Job>, away: &Away) {
    for job in jobs {
        match job {
            Job::Ask { answer, .. } => drop(answer.send(Err(away.clone()))),
            Job::Charge(_, answer) => drop(answer.send(Err(away.clone()))),
            Job::Back(_) => {}
        }
    }
}

fn keys_of(jobs: &[Job]) -> Vec<CountKey> {
    let mut keys: Vec<CountKey> = Vec::with_capacity(jobs.len());
    for job in jobs {
        match job {
            Job::Ask { asks, .. } => {
                let open = asks.iter().filter(|(_, decided)| decided.is_err());
                keys.extend(open.map(|(ask, _)| key(ask.limit, ask.subject)));
            }
            Job::Back(back) => keys.push(key(back.key.0, back.key.1)),
            Job::Charge(ask, _) => keys.push(key(ask.limit, ask.subject)),
        }
    }
    keys.sort_unstable();
    keys.dedup();
    keys
}

/// The counts of a transaction.
struct Accounts {
    all: BTreeMap<CountKey, Option<Account>>,
    now: u64,
}

impl Accounts {
    fn of(keys: &[CountKey], rows: &[CountRow], now: u64) -> Self {
        let all = keys.iter().zip(rows);
        let all = all.map(|(key, row)| (*key, Account::read(&row.bytes)));
        Self {
            all: all.collect(),
            now,
        }
    }

    fn written(self, rows: &mut [CountRow]) {
        for (row, account) in rows.iter_mut().zip(self.all.into_values()) {
            if let Some(account) = account {
                row.bytes = account.write();
                row.over_at = i64::try_from(account.over_at()).unwrap_or(i64::MAX);
            }
        }
    }

    fn account(&mut self, ask: &Ask) -> &mut Account {
        let account = self.all.entry(key(ask.limit, ask.subject)).or_default();
        account.get_or_insert_with(|| Account::new(ask.rule.form))
    }

    fn carry_out(&mut self, job: Job) -> Done {
        let now = self.now;
        match job {
            Job::Back(back) => {
                let ask = Ask {
                    limit: back.key.0,
                    subject: back.key.1,
                    rule: back.rule,
                    weight: back.weight,
                };
                self.account(&ask)
                    .give_back(back.rule, back.weight, back.at, now);
                Done::Nothing
            }
            Job::Charge(ask, answer) => {
                let used = self.account(&ask).charge(ask.rule, ask.weight, now);
                Done::Charged(used, answer)
            }
            Job::Ask { asks, at, answer } => self.ask(asks, at, answer),
        }
    }

    /// Counts all limits of a call, or none.
    fn ask(
        &mut self,
        asks: Vec<Open>,
        at: u64,
        answer: oneshot::Sender<Result<Vec<Decision>, Away>>,
    ) -> Done {
        let now = self.now;
        let (mut decisions, mut lent) = (Vec::with_capacity(asks.len()), Vec::new());
        for (ask, decided) in &asks {
            decisions.push(match decided {
                Ok(decision) => *decision,
                Err(want) => {
                    let granted = self.account(ask).take(ask.rule, *want, now);
                    lent.push((*ask, granted));
                    granted.decision
                }
            });
        }
        let mut back = Vec::new();
        if decisions.iter().any(|d| !d.allowed) {
            for ((ask, decided), decision) in asks.iter().zip(&decisions) {
                match decided {
                    Ok(_) => back.push(returned(ask, decision.at)),
                    Err(_) if decision.allowed => {
                        self.account(ask)
                            .give_back(ask.rule, ask.weight, decision.at, now);
                    }
                    Err(_) => {}
                }
            }
        }
        Done::Asked {
            decisions,
            lent,
            back,
            at,
            answer,
        }
    }
}

impl Inner {
    /// What this node can decide of a call by itself; `Err`: what is to be asked.
    fn here(&self, asks: &[Ask], now: u64) -> Result<Vec<Decision>, Vec<Open>> {
        let nodes = self.known.nodes();
        let mut leases = self.leases();
        let mut all: Vec<Open> = Vec::with_capacity(asks.len());
        for ask in asks {
            let key = (ask.limit, ask.subject);
            match leases.take(key, ask.rule, ask.weight, nodes, now) {
                Taken::Decided(decision) if decision.allowed => all.push((*ask, Ok(decision))),
                Taken::Decided(refused) => {
                    // The others are not asked: what they had decided is given back, and they have nothing to say.
                    for (before, decided) in &all {
                        if let Ok(decision) = decided {
                            leases.give_back(returned(before, decision.at), now);
                        }
                    }
                    let passes = Decision {
                        allowed: true,
                        ..refused
                    };
                    let says = |other: &Ask| if other == ask { refused } else { passes };
                    return Ok(asks.iter().map(says).collect());
                }
                Taken::Ask(want) => all.push((*ask, Err(want))),
            }
        }
        match all.iter().all(|(_, decided)| decided.is_ok()) {
            true => Ok(all.into_iter().filter_map(|(_, d)| d.ok()).collect()),
            false => Err(all),
        }
    }
}

impl CommonCounts for Counts {
    fn ask(&self, mut asks: Vec<Ask>) -> Soon<Vec<Decision>> {
        let at = self.0.known.now();
        asks.iter_mut().for_each(|ask| ask.limit ^= self.0.apart);
        let asks = match self.0.here(&asks, at) {
            Ok(decisions) => return Box::pin(std::future::ready(Ok(decisions))),
            Err(asks) => asks,
        };
        let (answer, comes) = oneshot::channel();
        let sent = self.0.jobs.try_send(Job::Ask { asks, at, answer });
        Box::pin(async move {
            match sent {
                Ok(()) => comes
                    .await
                    .unwrap_or_else(|_| Err(Away("it gave no answer".into()))),
                Err(_) => Err(Away("too many calls wait for it".into())),
            }
        })
    }

    fn give_back(&self, mut ask: Ask, at: u64) {
        ask.limit ^= self.0.apart;
        let now = self.0.known.now();
        self.0.leases().give_back(returned(&ask, at), now);
    }

    fn charge(&self, mut ask: Ask) -> Soon<u64> {
        ask.limit ^= self.0.apart;
        let (answer, comes) = oneshot::channel();
        let sent = self.0.jobs.try_send(Job::Charge(ask, answer));
        Box::pin(async move {
            match sent {
                Ok(()) => comes
                    .await
                    .unwrap_or_else(|_| Err(Away("it gave no answer".into()))),
                Err(_) => Err(Away("too many calls wait for it".into())),
            }
        })
    }

    fn places(&self, limit: u64, subject: u64, asked: PlacesAsked) -> Soon<PlacesTold> {
        let inner = self.0.clone();
        Box::pin(async move {
            inner.known.may_ask()?;
            // Apart from what is counted in time by a limit of the same number.
            let limit = limit ^ inner.apart ^ stable_id("places");
            let keys = [(limit.cast_signed(), subject.cast_signed())];
            let store = inner.store()?;
            let name = &inner.known.name;
            let told = store.count(&keys, |now, rows| {
                let row = &mut rows[0];
                let mut places = Places::read(&row.bytes);
                let told = places.ask(name, asked, now);
                row.bytes = places.write();
                row.over_at = i64::try_from(places.over_at()).unwrap_or(i64::MAX);
                told
            });
            let told = tokio::time::timeout(ANSWER, told).await;
            let failed = |why: &str| inner.known.failed(why);
            let told = told.map_err(|_| failed("it took too long to answer"))?;
            told.inspect(|_| inner.known.answered())
                .map_err(|e| failed(&e.to_string()))
        })
    }

    fn periods(&self, most: usize) -> Soon<Vec<(u64, u64, u64, u64)>> {
        let inner = self.0.clone();
        Box::pin(async move {
            let most = i64::try_from(most).unwrap_or(i64::MAX);
            let rows = inner.store()?.counts(most).await;
            let rows = rows.map_err(|e| Away(e.to_string().into()))?;
            let period = |((limit, subject), bytes): (CountKey, Vec<u8>)| {
                let (from, used) = Account::read(&bytes)?.period()?;
                let limit = limit.cast_unsigned() ^ inner.apart;
                Some((limit, subject.cast_unsigned(), from, used))
            };
            Ok(rows.into_iter().filter_map(period).collect())
        })
    }

    fn state(&self) -> CommonState {
        self.0.known.state()
    }
}
