//! Counts on a server that speaks the Redis protocol (RESP).
//!
//! One script for a call, whatever it is limited by; calls of one thread are sent behind each other on its connection, without
//! waiting for answers. The server is asked for its own time. What it forgets is forgotten: it has to write down what it counts
//! (`appendonly yes`) to be right after it was started anew.

use std::cell::RefCell;
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Duration;

use porch_gateway::{Ask, Away, CommonCounts, CommonState, Soon};
use porch_rules::limit::{Decision, EXACT_UP_TO, Form, Limit, PlacesAsked, PlacesTold, SLICES};
use redis::aio::MultiplexedConnection;
use redis::{
    AsyncConnectionConfig, Client, Cmd, ErrorKind, FromRedisValue, IntoConnectionInfo, RedisError,
    Script, ServerErrorKind, ToRedisArgs, Value,
};

use crate::{GONE, HEARD, Known};

/// So long an answer may take.
const ANSWER: Duration = Duration::from_millis(500);
const CONNECT: Duration = Duration::from_secs(1);
/// The greatest number that a script counts to.
const MOST: u64 = 1 << 53;
const NO_SCRIPT: ErrorKind = ErrorKind::Server(ServerErrorKind::NoScript);

thread_local! {
    /// A connection of each thread to each server.
    static CONNECTIONS: RefCell<HashMap<u64, MultiplexedConnection>> = RefCell::default();
}

/// Numbers of the servers that this process counts on.
static NEXT: AtomicU64 = AtomicU64::new(0);

/// Why the address of a server cannot be used.
#[derive(Debug)]
pub struct NoAddress(pub String);

/// Counts on one server.
#[derive(Clone)]
pub struct Counts(Arc<Inner>);

struct Inner {
    number: u64,
    client: Client,
    known: Known,
    /// In front of all keys.
    prefix: String,
    ask: Lua,
    back: Lua,
    nodes: Lua,
    periods: Lua,
    places: Lua,
}

/// A script and what the server knows it by.
struct Lua {
    text: &'static str,
    name: String,
}

impl Lua {
    fn of(text: &'static str) -> Self {
        let name = Script::new(text).get_hash().to_owned();
        Self { text, name }
    }
}

impl Counts {
    /// Counts on the server at an address (`redis://[user:password@]host[:port][/database]`), for an environment. It need not be
    /// there yet. How many nodes there were is read from a file, and written there.
    ///
    /// # Errors
    /// When it is no such address.
    pub fn at(address: &str, environment: &str, before: PathBuf) -> Result<Self, NoAddress> {
        let wrong = |e: RedisError| NoAddress(e.to_string());
        let info = address.into_connection_info().map_err(wrong)?;
        let client = Client::open(info).map_err(wrong)?;
        Ok(Self(Arc::new(Inner {
            number: NEXT.fetch_add(1, Ordering::Relaxed),
            client,
            known: Known::new("the server of the counts", before),
            prefix: format!("elm-porch:{environment}"),
            ask: Lua::of(include_str!("ask.lua")),
            back: Lua::of(include_str!("back.lua")),
            nodes: Lua::of(include_str!("nodes.lua")),
            periods: Lua::of(include_str!("periods.lua")),
            places: Lua::of(include_str!("places.lua")),
        })))
    }

    /// Says that this node is there, now and then; ends never.
    pub async fn keep(self) {
        loop {
            let inner = &self.0;
            let key = format!("{}:nodes", inner.prefix);
            let mut arguments = Vec::new();
            push(&mut arguments, &inner.known.name);
            push(&mut arguments, GONE);
            if let Ok(nodes) = inner.script(&inner.nodes, &[key], &arguments).await {
                inner.known.heard(u64::from_redis_value(nodes).unwrap_or(1));
            }
            tokio::time::sleep(HEARD).await;
        }
    }
}

impl Inner {
    /// This thread's connection.
    async fn connection(&self) -> Result<MultiplexedConnection, RedisError> {
        let there = CONNECTIONS.with_borrow(|all| all.get(&self.number).cloned());
        if let Some(connection) = there {
            return Ok(connection);
        }
        let config = AsyncConnectionConfig::new()
            .set_connection_timeout(Some(CONNECT))
            .set_response_timeout(Some(ANSWER));
        let made = self
            .client
            .get_multiplexed_async_connection_with_config(&config);
        let made = made.await?;
        CONNECTIONS.with_borrow_mut(|all| all.insert(self.number, made.clone()));
        Ok(made)
    }

    /// Asks the server, once more by another connection where the one that there was has ended. What it has counted for an answer
    /// that was lost stays counted.
    async fn send(&self, call: &Cmd) -> Result<Result<Value, RedisError>, Away> {
        self.known.may_ask()?;
        let mut again = CONNECTIONS.with_borrow(|all| all.contains_key(&self.number));
        loop {
            let outcome = match self.connection().await {
                Ok(mut connection) => {
                    let answer = connection.send_packed_command(call).await;
                    answer.and_then(Value::extract_error)
                }
                Err(e) => Err(e),
            };
            match outcome {
                Ok(answer) => {
                    self.known.answered();
                    return Ok(Ok(answer));
                }
                Err(e) if e.kind() == NO_SCRIPT => return Ok(Err(e)),
                Err(e) => {
                    CONNECTIONS.with_borrow_mut(|all| all.remove(&self.number));
                    if again && e.is_connection_dropped() {
                        again = false;
                        continue;
                    }
                    return Err(self.known.failed(&in_words(&e)));
                }
            }
        }
    }

    /// Runs a script, which the server is told whole where it does not know it.
    async fn script(
        &self,
        script: &Lua,
        keys: &[String],
        arguments: &[Vec<u8>],
    ) -> Result<Value, Away> {
        let mut named = redis::cmd("EVALSHA");
        named
            .arg(&script.name)
            .arg(keys.len())
            .arg(keys)
            .arg(arguments);
        if let Ok(answer) = self.send(&named).await? {
            return Ok(answer);
        }
        let mut whole = redis::cmd("EVAL");
        whole
            .arg(script.text)
            .arg(keys.len())
            .arg(keys)
            .arg(arguments);
        let answer = self.send(&whole).await?;
        answer.map_err(|e| self.known.failed(&in_words(&e)))
    }

    fn key(&self, ask: &Ask) -> String {
        let form = form_of(ask.rule);
        format!("{}:{form}:{:x}:{:x}", self.prefix, ask.limit, ask.subject)
    }

    async fn decisions(&self, asks: &[Ask]) -> Result<Vec<Decision>, Away> {
        let keys: Vec<String> = asks.iter().map(|ask| self.key(ask)).collect();
        let mut all = Vec::with_capacity(asks.len() * 6);
        for ask in asks {
            arguments(&mut all, ask);
        }
        let told = self.script(&self.ask, &keys, &all).await?;
        let told = Vec::<i64>::from_redis_value(told).unwrap_or_default();
        let decisions: Vec<Decision> = told.chunks_exact(5).zip(asks).map(decision).collect();
        match decisions.len() == asks.len() {
            true => Ok(decisions),
            false => Err(Away("its answer is another one than was asked for".into())),
        }
    }

    async fn periods(&self, most: usize) -> Result<Vec<(u64, u64, u64, u64)>, Away> {
        let pattern = format!("{}:f:*", self.prefix);
        let (mut cursor, mut all) = (0_u64, Vec::new());
        loop {
            let mut scan = redis::cmd("SCAN");
            scan.arg(cursor)
                .arg("MATCH")
                .arg(&pattern)
                .arg("COUNT")
                .arg(1000);
            let found = self.send(&scan).await?;
            let found = found
                .ok()
                .and_then(|v| <(u64, Vec<String>)>::from_redis_value(v).ok());
            let (next, keys) = found.unwrap_or_default();
            if !keys.is_empty() {
                let told = self.script(&self.periods, &keys, &[]).await?;
                let told = Vec::<u64>::from_redis_value(told).unwrap_or_default();
                let rows = keys.iter().zip(told.chunks_exact(2));
                all.extend(rows.filter_map(|(key, row)| period(key, row)));
            }
            cursor = next;
            if cursor == 0 || all.len() >= most {
                all.truncate(most);
                return Ok(all);
            }
        }
    }
}

/// Adds an argument of a script.
fn push(all: &mut Vec<Vec<u8>>, argument: impl ToRedisArgs) {
    argument.write_redis_args(all);
}

/// A period's key and what stands there.
fn period(key: &str, row: &[u64]) -> Option<(u64, u64, u64, u64)> {
    let mut parts = key.rsplit(':');
    let subject = u64::from_str_radix(parts.next()?, 16).ok()?;
    let limit = u64::from_str_radix(parts.next()?, 16).ok()?;
    Some((limit, subject, row[0], row[1]))
}

fn form_of(rule: Limit) -> char {
    match rule.form {
        Form::Sliding => 's',
        Form::Smooth { .. } => 'm',
        Form::Fixed { .. } => 'f',
    }
}

/// The distance between two of a smooth limit, in microseconds: in sixteenths, which a double has exactly until 2042.
fn each(rule: Limit) -> f64 {
    let window = rule.window.as_micros() as f64;
    let each = window / rule.most.max(1) as f64;
    (each * 16.0).ceil() / 16.0
}

fn arguments(all: &mut Vec<Vec<u8>>, ask: &Ask) {
    let (rule, most) = (ask.rule, ask.rule.most.min(MOST));
    let window = u64::try_from(rule.window.as_millis()).unwrap_or(MOST);
    let window = window.clamp(1, MOST);
    push(all, form_of(rule).to_string());
    push(all, most);
    match rule.form {
        Form::Smooth { .. } => push(all, each(rule)),
        _ => push(all, window),
    }
    push(all, ask.weight.min(MOST));
    match rule.form {
        Form::Sliding => push(all, 0),
        Form::Smooth { burst } => {
            let burst = burst.clamp(1, rule.most.max(1));
            push(all, each(rule) * burst as f64);
        }
        Form::Fixed { from } => push(all, from),
    }
    let slice = match rule.most <= EXACT_UP_TO {
        true => 1,
        false => (window / SLICES).max(1),
    };
    push(all, slice);
}

fn decision((told, ask): (&[i64], &Ask)) -> Decision {
    let number = |at: usize| u64::try_from(told[at]).unwrap_or(0);
    // What has room for everything has more than a script counts to.
    let beyond = ask.rule.most.saturating_sub(MOST);
    Decision {
        allowed: told[0] == 1,
        remaining: number(1).saturating_add(beyond),
        retry_after: Duration::from_micros(number(2)),
        reset: Duration::from_micros(number(3)),
        at: number(4),
    }
}

/// An error without what was sent or where.
fn in_words(e: &RedisError) -> String {
    match e.detail() {
        _ if e.is_timeout() => "it took too long to answer".to_owned(),
        _ if e.is_connection_refusal() => "nobody answers at its address".to_owned(),
        _ if e.is_io_error() => "the connection to it broke off".to_owned(),
        Some(detail) => format!("it says: {detail}"),
        None => e.to_string(),
    }
}

impl CommonCounts for Counts {
    fn ask(&self, asks: Vec<Ask>) -> Soon<Vec<Decision>> {
        let inner = self.0.clone();
        Box::pin(async move { inner.decisions(&asks).await })
    }

    fn give_back(&self, ask: Ask, at: u64) {
        let inner = self.0.clone();
        let Ok(runtime) = tokio::runtime::Handle::try_current() else {
            return;
        };
        runtime.spawn(async move {
            let mut all = Vec::with_capacity(4);
            push(&mut all, form_of(ask.rule).to_string());
            push(&mut all, ask.weight.min(MOST));
            push(&mut all, at);
            push(&mut all, each(ask.rule));
            let _ = inner.script(&inner.back, &[inner.key(&ask)], &all).await;
        });
    }

    fn charge(&self, ask: Ask) -> Soon<u64> {
        let inner = self.0.clone();
        Box::pin(async move {
            let room = Limit {
                most: MOST,
                ..ask.rule
            };
            let asks = [Ask { rule: room, ..ask }];
            let decisions = inner.decisions(&asks).await?;
            Ok(decisions
                .first()
                .map_or(0, |d| MOST - d.remaining.min(MOST)))
        })
    }

    fn places(&self, limit: u64, subject: u64, asked: PlacesAsked) -> Soon<PlacesTold> {
        let inner = self.0.clone();
        Box::pin(async move {
            let key = format!("{}:o:{limit:x}:{subject:x}", inner.prefix);
            let mut all = Vec::with_capacity(6);
            push(&mut all, &inner.known.name);
            for number in [asked.most, asked.held, asked.wanted, asked.lasts] {
                push(&mut all, number.min(MOST));
            }
            push(&mut all, u8::from(asked.served));
            let told = inner.script(&inner.places, &[key], &all).await?;
            let (may, yields) = <(u64, u8)>::from_redis_value(told).unwrap_or_default();
            Ok(PlacesTold {
                may,
                yields: yields == 1,
            })
        })
    }

    fn periods(&self, most: usize) -> Soon<Vec<(u64, u64, u64, u64)>> {
        let inner = self.0.clone();
        Box::pin(async move { inner.periods(most).await })
    }

    fn state(&self) -> CommonState {
        self.0.known.state()
    }
}
