//! Replies that are kept and given again (RFC 9111): between what admits a request and what carries it out.
//!
//! All of it lies aside: operations whose replies are not kept have no room for it.

mod behind;
mod given;
mod key;
mod refresh;

use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::request::Parts;
use http::{HeaderMap, HeaderValue, Method, Response, StatusCode, header};
use porch_facade::{CachePlan, Keeping};

use self::behind::behind;
use self::given::{given, say};
use self::key::sought;
use super::find::Found;
use super::kept_body::{Gathered, gather};
use crate::body::{InBody, ReplyBody};
use crate::cache::{Asked, Asking, Cache, Directives, Entry, Flight, Key, Life, Of, Since};
use crate::exchange::state::{Exchange, target};
use crate::problem::{self, Lost, Problem};
use crate::scope::Parameters;
use crate::trace::StageName;

/// So long somebody waits for another one who asks for the same, before asking too.
const WAITS: Duration = Duration::from_secs(5);
/// So many times.
const ROUNDS: u32 = 3;

/// A request to an operation whose replies are kept.
struct Asks<'r, 'x> {
    x: &'r Exchange<'x>,
    found: &'r Found<'x>,
    keeping: &'r Keeping,
    parts: &'r Parts,
    captured: &'r [&'r str],
    key: Key,
    target: String,
    /// What the caller says of it.
    directives: Directives,
}

/// What was found.
enum Known {
    /// It may be given.
    Give(Arc<Entry>, &'static str),
    /// It is asked for, or about.
    Ask(Option<Arc<Entry>>, &'static str, Option<Asking>),
}

/// A reply that may be given.
struct May {
    /// What is said of that.
    told: &'static str,
    /// Whether another one is asked for meanwhile.
    refreshes: bool,
}

/// Whether a reply may be given as it is (RFC 9111 §4); or why it is asked about.
fn may_give(entry: &Entry, asked: &Directives) -> Result<May, &'static str> {
    if entry.life.no_cache || asked.no_cache {
        return Err(if asked.no_cache { "request" } else { "stale" });
    }
    let seconds = Duration::from_secs;
    if asked
        .max_age
        .is_some_and(|most| most == 0 || entry.age() > seconds(most))
    {
        // What is older than the caller wants is only given to whoever takes it stale.
        return Err("request");
    }
    let as_it_is = |told| May {
        told,
        refreshes: false,
    };
    match entry.left() {
        Ok(left) if asked.min_fresh.is_some_and(|least| left < seconds(least)) => Err("request"),
        Ok(_) => Ok(as_it_is("hit")),
        Err(_) if entry.life.must_revalidate && entry.life.while_revalidate.is_zero() => {
            Err("stale")
        }
        Err(over) if over < entry.life.while_revalidate => Ok(May {
            told: "hit; detail=stale-while-revalidate",
            refreshes: true,
        }),
        Err(over) => {
            let taken = asked.max_stale.filter(|_| !entry.life.must_revalidate);
            match taken.is_some_and(|most| over <= seconds(most)) {
                true => Ok(as_it_is("hit; detail=max-stale")),
                false => Err("stale"),
            }
        }
    }
}

/// A reply that is kept and fresh, given at once: what is looked for, waited for and asked about comes behind that.
pub(crate) fn kept(
    x: &Exchange<'_>,
    found: &Found<'_>,
    plan: &CachePlan,
    parts: &Parts,
    body: &InBody,
) -> Option<Response<ReplyBody>> {
    let keeping = plan.keeps.as_ref()?;
    let reads = matches!(parts.method, Method::GET | Method::HEAD) && !found.native;
    let aside = x.is_trial() || x.copy().is_some() || x.refreshes();
    if !reads || aside || body.length() != Some(0) || is_for_the_backend(&parts.headers) {
        return None;
    }
    let sought = sought(x, found, keeping, parts);
    let cache = &x.worker.shared.cache;
    let (entry, _) = cache.find((&sought.uri, &sought.rest), &parts.headers, found.facade);
    let entry = entry?;
    let may = may_give(&entry, &directives(keeping, parts)).ok()?;
    (!may.refreshes).then(|| given(x, parts, &entry, may.told))
}

/// What the caller says of it, where that is heeded.
fn directives(keeping: &Keeping, parts: &Parts) -> Directives {
    match keeping.heeds_callers {
        true => Directives::of(&parts.headers),
        false => Directives::default(),
    }
}

/// Gives a reply that is kept, or carries the request out and keeps what comes.
pub(crate) async fn cached<'x>(
    x: &Exchange<'x>,
    found: &Found<'x>,
    plan: &CachePlan,
    (parts, captured): (&Parts, &[&str]),
    parameters: Parameters<'x>,
    body: InBody,
) -> Result<Response<ReplyBody>, Box<Problem>> {
    let reads = matches!(parts.method, Method::GET | Method::HEAD) && !found.native;
    let Some(keeping) = plan.keeps.as_ref().filter(|_| reads) else {
        let came = x.carried(found, (parts, captured), parameters, body).await;
        if !parts.method.is_safe() && !found.native && !x.is_trial() {
            behind(x, found, plan, parts, &came);
        }
        return came;
    };
    if x.is_trial() {
        let came = x.carried(found, (parts, captured), parameters, body);
        let came = came.await?;
        would_be_kept(x, found, keeping, parts, &came);
        return Ok(came);
    }
    if x.copy().is_some() {
        return x.carried(found, (parts, captured), parameters, body).await;
    }
    if body.length() != Some(0) || is_for_the_backend(&parts.headers) {
        let mut came = x
            .carried(found, (parts, captured), parameters, body)
            .await?;
        say(&mut came, "fwd=bypass");
        return Ok(came);
    }
    let asks = Asks {
        x,
        found,
        keeping,
        parts,
        captured,
        key: sought(x, found, keeping, parts).key(),
        target: target(parts),
        directives: directives(keeping, parts),
    };
    match asks.look().await? {
        Known::Give(entry, told) => Ok(asks.give(&entry, told)),
        Known::Ask(entry, why, asking) => asks.ask(entry, why, asking, parameters).await,
    }
}

/// Conditions that only the backend can tell of (RFC 9110 §13.1.1, §13.1.4).
fn is_for_the_backend(headers: &HeaderMap) -> bool {
    headers.contains_key(header::IF_MATCH) || headers.contains_key(header::IF_UNMODIFIED_SINCE)
}

/// What would become of the reply of a trial run, for which nothing that is kept is given.
fn would_be_kept(
    x: &Exchange<'_>,
    found: &Found<'_>,
    keeping: &Keeping,
    parts: &Parts,
    came: &Response<ReplyBody>,
) {
    let asked = asked(found, keeping, parts, (x.now / 1_000, Duration::ZERO));
    let said = x.with_heard(came.headers());
    let told = match Life::of(came.status(), &said, keeping, asked) {
        Ok(life) if life.fresh > life.age => {
            let left = life.fresh.saturating_sub(life.age).as_secs();
            format!("a caller's would be kept, and fresh for {left} s")
        }
        Ok(_) => "a caller's would be kept, and asked about each time".to_owned(),
        Err(why) => format!("a caller's would not be kept: {why}"),
    };
    let mut recorder = x.recorder.borrow_mut();
    let from = recorder.begin();
    recorder.stage(StageName::Reply, from, |stage| stage.notes.push(told));
}

/// What of a request decides whether its reply may be kept.
fn asked(
    found: &Found<'_>,
    keeping: &Keeping,
    parts: &Parts,
    (at, took): (i64, Duration),
) -> Asked {
    let headers = &parts.headers;
    let is_ours = !found.operation.admission.credentials.is_empty()
        && (found.operation.admission.credentials.in_authorization
            || found.facade.key_header == header::AUTHORIZATION);
    let apart = &keeping.apart.fields;
    let shows = |name: header::HeaderName| headers.contains_key(&name) && !apart.contains(&name);
    Asked {
        credentials: (shows(header::AUTHORIZATION) && !is_ours) || shows(header::COOKIE),
        at,
        took,
    }
}

fn note(x: &Exchange<'_>, text: &str) {
    let mut recorder = x.recorder.borrow_mut();
    let from = recorder.begin();
    recorder.stage(StageName::Prepare, from, |stage| {
        stage.notes.push(text.to_owned());
    });
}

impl Asks<'_, '_> {
    fn cache(&self) -> &Arc<Cache> {
        &self.x.worker.shared.cache
    }

    /// Looks for a reply; waits where somebody asks for the same.
    async fn look(&self) -> Result<Known, Box<Problem>> {
        let refreshes = self.x.refreshes();
        let mut rounds = 0;
        loop {
            let (entry, others) =
                self.cache()
                    .find(self.key.parts(), &self.parts.headers, self.found.facade);
            let why = match &entry {
                None if others => "vary-miss",
                None => "uri-miss",
                Some(_) if refreshes => "stale",
                Some(entry) => match self.may_give(entry) {
                    Ok(told) => return Ok(Known::Give(entry.clone(), told)),
                    Err(why) => why,
                },
            };
            if self.directives.only_if_cached {
                return Err(problem::not_kept(self.found.operation));
            }
            let alone = self.directives.no_store || self.parts.method == Method::HEAD;
            if alone || rounds == ROUNDS {
                return Ok(Known::Ask(entry, why, None));
            }
            match self.cache().flight(&self.key) {
                Flight::First(asking) => return Ok(Known::Ask(entry, why, Some(asking))),
                Flight::Alone => return Ok(Known::Ask(entry, why, None)),
                Flight::Wait(_) if refreshes => {
                    return Err(problem::not_kept(self.found.operation));
                }
                Flight::Wait(mut waiting) => {
                    note(
                        self.x,
                        "somebody asks for the same: what comes is waited for",
                    );
                    // Told when its sender is gone.
                    let _ = tokio::time::timeout(WAITS, waiting.changed()).await;
                    rounds += 1;
                }
            }
        }
    }

    /// Whether a reply may be given as it is, and what is said of that; or why it is asked about.
    fn may_give(&self, entry: &Arc<Entry>) -> Result<&'static str, &'static str> {
        let may = may_give(entry, &self.directives)?;
        if may.refreshes {
            refresh::begin(self.x, self.parts, &self.key);
        }
        Ok(may.told)
    }

    fn give(&self, entry: &Arc<Entry>, told: &str) -> Response<ReplyBody> {
        given(self.x, self.parts, entry, told)
    }

    /// Asks the backends, with what is kept as a condition.
    async fn ask(
        &self,
        entry: Option<Arc<Entry>>,
        why: &'static str,
        asking: Option<Asking>,
        parameters: Parameters<'_>,
    ) -> Result<Response<ReplyBody>, Box<Problem>> {
        let since = self
            .cache()
            .since(&self.key, &self.found.facade.name, &self.keeping.tags);
        // Whoever asks for all that want the same asks for the whole of it.
        let own = asking
            .as_ref()
            .map(|_| conditional(self.parts, entry.as_deref()));
        let parts = own.as_ref().unwrap_or(self.parts);
        let before = (self.x.now / 1_000, Instant::now());
        let body = InBody::Full(Bytes::new());
        let came = self
            .x
            .carried(self.found, (parts, self.captured), parameters, body)
            .await;
        let lost = match &came {
            Ok(response) => Some(response.status()),
            // What is refused is refused: only what a backend failed to answer is given so.
            Err(problem) => Some(problem.status).filter(|_| problem.lost != Lost::No),
        };
        if let Some(given) = lost.and_then(|status| self.in_its_place(entry.as_ref(), status)) {
            return Ok(given);
        }
        let came = came?;
        let status = came.status();
        let took = before.1.elapsed();
        match (&entry, status, &own) {
            (Some(entry), StatusCode::NOT_MODIFIED, Some(_)) => {
                Ok(self.freshened(entry, came.headers(), (before.0, took), since))
            }
            _ if own.is_some() => self.kept(came, why, (before.0, took), since).await,
            _ => {
                let mut came = came;
                let told = format!("fwd={why}");
                say(&mut came, &told);
                Ok(came)
            }
        }
    }

    /// What is kept, in place of a failure (RFC 5861 §4).
    fn in_its_place(
        &self,
        entry: Option<&Arc<Entry>>,
        status: StatusCode,
    ) -> Option<Response<ReplyBody>> {
        if !matches!(status.as_u16(), 500 | 502 | 503 | 504) {
            return None;
        }
        let over = entry?.left().err().unwrap_or_default();
        let entry = entry.filter(|e| over < e.life.if_error)?;
        let told = format!("fwd=stale; fwd-status={}", status.as_u16());
        Some(self.give(entry, &told))
    }

    fn asked(&self, when: (i64, Duration)) -> Asked {
        asked(self.found, self.keeping, self.parts, when)
    }

    fn of(&self, since: Since) -> Of<'_> {
        Of {
            facade: self.found.facade,
            operation: &self.found.operation.id,
            tags: &self.keeping.tags,
            target: &self.target,
            since,
            headers: &self.parts.headers,
        }
    }

    /// What was asked about is true still (RFC 9111 §4.3.4).
    fn freshened(
        &self,
        entry: &Arc<Entry>,
        new: &HeaderMap,
        when: (i64, Duration),
        since: Since,
    ) -> Response<ReplyBody> {
        let mut headers = entry.headers.clone();
        for name in new.keys().filter(|n| !describes_bytes(n)) {
            headers.remove(name);
            for value in new.get_all(name) {
                headers.append(name, value.clone());
            }
        }
        let said = self.x.with_heard(&headers);
        let life = Life::of(entry.status, &said, self.keeping, self.asked(when));
        drop(said);
        let told = "fwd=stale; fwd-status=304";
        match life {
            Ok(life) => {
                let fresh = Arc::new(entry.freshened(self.of(since), life, headers));
                self.cache().keep(&self.key, &fresh);
                self.give(&fresh, told)
            }
            Err(_) => self.give(entry, told),
        }
    }

    /// Keeps a reply that may be kept, and gives it as the caller asked for it.
    async fn kept(
        &self,
        response: Response<ReplyBody>,
        why: &str,
        when: (i64, Duration),
        since: Since,
    ) -> Result<Response<ReplyBody>, Box<Problem>> {
        let status = response.status();
        let said = self.x.with_heard(response.headers());
        let life = Life::of(status, &said, self.keeping, self.asked(when));
        let life = match life {
            Ok(life) => life,
            Err(told) => return Ok(self.passed(response, why, told)),
        };
        let gathered = gather(self.x, response, self.keeping.most).await;
        let (head, body) = match gathered? {
            Gathered::Whole(head, body) => (head, body),
            Gathered::Rest(response) => {
                return Ok(self.passed(response, why, "it is longer than what is kept"));
            }
        };
        let mut headers = head.headers;
        let has_validator =
            headers.contains_key(header::ETAG) || headers.contains_key(header::LAST_MODIFIED);
        if status == StatusCode::OK && !has_validator {
            headers.insert(header::ETAG, tag_of(&body));
        }
        let entry = Arc::new(Entry::new(self.of(since), life, (status, headers, &body)));
        let stored = match self.cache().keep(&self.key, &entry) {
            true => "; stored",
            false => "",
        };
        Ok(self.give(&entry, &format!("fwd={why}{stored}")))
    }

    /// A reply that is not kept: nobody need wait for another one like it.
    fn passed(
        &self,
        mut response: Response<ReplyBody>,
        why: &str,
        told: &str,
    ) -> Response<ReplyBody> {
        if !response.status().is_server_error() {
            self.cache().passes(&self.key);
        }
        note(self.x, &format!("the reply is not kept: {told}"));
        say(&mut response, &format!("fwd={why}"));
        response
    }
}

/// A strong validator of bytes that have none.
fn tag_of(body: &Bytes) -> HeaderValue {
    let digest = blake3::hash(body).to_hex();
    HeaderValue::from_str(&format!("\"{}\"", &digest[..32]))
        .unwrap_or_else(|_| HeaderValue::from_static("\"\""))
}

/// Fields that say something of bytes that are there already (RFC 9111 §3.2).
fn describes_bytes(name: &header::HeaderName) -> bool {
    matches!(
        *name,
        header::CONTENT_LENGTH
            | header::CONTENT_ENCODING
            | header::CONTENT_TYPE
            | header::CONTENT_RANGE
    )
}

/// The request for the whole reply, asked about what is kept (RFC 9111 §4.3.1).
fn conditional(parts: &Parts, entry: Option<&Entry>) -> Parts {
    let mut own = parts.clone();
    for name in [
        header::IF_NONE_MATCH,
        header::IF_MODIFIED_SINCE,
        header::RANGE,
        header::IF_RANGE,
    ] {
        own.headers.remove(name);
    }
    let Some(entry) = entry else { return own };
    if let Some(tag) = entry.headers.get(header::ETAG) {
        own.headers.insert(header::IF_NONE_MATCH, tag.clone());
    }
    if let Some(changed) = entry.headers.get(header::LAST_MODIFIED) {
        own.headers
            .insert(header::IF_MODIFIED_SINCE, changed.clone());
    }
    own
}
