//! One reply that is kept.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Weak};
use std::time::{Duration, Instant};

use bytes::Bytes;
use http::{HeaderMap, HeaderName, HeaderValue, StatusCode, header};
use porch_facade::CompiledFacade;

use super::{Life, Purge, Since};

/// A reply that is kept.
pub(crate) struct Entry {
    /// The facade as it was compiled: behind a release that changes it nothing of it fits any more.
    facade: Weak<CompiledFacade>,
    name: Arc<str>,
    operation: Arc<str>,
    pub(super) tags: Vec<Arc<str>>,
    /// Path with query.
    target: Box<str>,
    pub(super) since: Since,
    pub(crate) status: StatusCode,
    pub(crate) headers: HeaderMap,
    pub(crate) body: Bytes,
    /// What it varies with, and what the request said of that (RFC 9111 §4.1).
    vary: Vec<(HeaderName, Vec<HeaderValue>)>,
    pub(crate) life: Life,
    came: Instant,
    /// Bytes of memory, about.
    pub(super) size: usize,
    /// Since its last turn to be let go.
    pub(super) asked_for: AtomicBool,
    gone: AtomicBool,
}

/// Of what a reply is kept.
pub(crate) struct Of<'o> {
    pub(crate) facade: &'o Arc<CompiledFacade>,
    pub(crate) operation: &'o str,
    pub(crate) tags: &'o [Arc<str>],
    /// Path with query.
    pub(crate) target: &'o str,
    /// When it was asked for.
    pub(crate) since: Since,
    /// The request's.
    pub(crate) headers: &'o HeaderMap,
}

/// Fields that are told anew with each reply.
const SAID_BESIDES: usize = 8;
/// What an entry takes besides its body and fields.
const OVERHEAD: usize = 900;

impl Entry {
    pub(crate) fn new(
        of: Of<'_>,
        life: Life,
        (status, mut headers, body): (StatusCode, HeaderMap, &Bytes),
    ) -> Self {
        // It is told anew each time.
        headers.remove(header::AGE);
        // There is room for what each reply says besides, so that copies of them do not grow.
        headers.reserve(SAID_BESIDES);
        let vary = varied(&headers, of.headers);
        let fields: usize = headers
            .iter()
            .map(|(n, v)| n.as_str().len() + v.len() + 96)
            .sum();
        let varied: usize = vary.iter().flat_map(|(_, v)| v).map(HeaderValue::len).sum();
        Self {
            facade: Arc::downgrade(of.facade),
            name: of.facade.name.as_str().into(),
            operation: of.operation.into(),
            tags: of.tags.to_vec(),
            size: OVERHEAD + fields + varied + body.len() + of.target.len(),
            target: of.target.into(),
            since: of.since,
            status,
            headers,
            // A copy: what it is a part of may be much greater.
            body: Bytes::copy_from_slice(body),
            vary,
            life,
            came: Instant::now(),
            asked_for: AtomicBool::new(false),
            gone: AtomicBool::new(false),
        }
    }

    /// The same, asked about and found to be true still: its fields and its time are new (RFC 9111 §3.2, §4.3.4).
    pub(crate) fn freshened(&self, of: Of<'_>, life: Life, headers: HeaderMap) -> Self {
        Self::new(of, life, (self.status, headers, &self.body))
    }

    /// How old it is.
    pub(crate) fn age(&self) -> Duration {
        self.life.age + self.came.elapsed()
    }

    /// How long it is fresh still, or how long it is not any more.
    pub(crate) fn left(&self) -> Result<Duration, Duration> {
        self.left_at(self.age())
    }

    /// The same where its age is known.
    pub(crate) fn left_at(&self, age: Duration) -> Result<Duration, Duration> {
        match self.life.fresh.checked_sub(age) {
            Some(left) if !left.is_zero() => Ok(left),
            _ => Err(age.saturating_sub(self.life.fresh)),
        }
    }

    pub(super) fn is_of(&self, facade: &Arc<CompiledFacade>) -> bool {
        std::ptr::eq(self.facade.as_ptr(), Arc::as_ptr(facade))
    }

    /// Whether a request says the same of all that it varies with.
    pub(super) fn varies_as(&self, headers: &HeaderMap) -> bool {
        let mut all = self.vary.iter();
        all.all(|(name, values)| headers.get_all(name).iter().eq(values))
    }

    /// Whether it takes the place of another one: it fits the same requests, or the other is of no use any more.
    pub(super) fn stands_for(&self, old: &Self) -> bool {
        self.vary == old.vary || !Weak::ptr_eq(&self.facade, &old.facade)
    }

    pub(super) fn has_tag(&self, tag: &str) -> bool {
        self.tags.iter().any(|t| &**t == tag)
    }

    pub(super) fn fits(&self, purge: &Purge) -> bool {
        let is = |wanted: &str, own: &str| wanted.is_empty() || wanted == own;
        is(&purge.facade, &self.name)
            && is(&purge.operation, &self.operation)
            && self.target.starts_with(&purge.path)
            && (purge.tag.is_empty() || self.has_tag(&purge.tag))
    }

    pub(super) fn let_go(&self) {
        self.gone.store(true, Ordering::Relaxed);
    }

    pub(super) fn is_gone(&self) -> bool {
        self.gone.load(Ordering::Relaxed)
    }
}

/// What a reply varies with, and what a request says of it.
fn varied(reply: &HeaderMap, request: &HeaderMap) -> Vec<(HeaderName, Vec<HeaderValue>)> {
    let all = reply.get_all(header::VARY).iter();
    let all = all.filter_map(|v| v.to_str().ok());
    let names = all.flat_map(|v| v.split(','));
    let mut names: Vec<HeaderName> = names.filter_map(|n| n.trim().parse().ok()).collect();
    names.sort_unstable_by(|a, b| a.as_str().cmp(b.as_str()));
    names.dedup();
    // Copies: what they are parts of are whole requests.
    let copied = |v: &HeaderValue| HeaderValue::from_bytes(v.as_bytes()).ok();
    let values = |n: &HeaderName| request.get_all(n).iter().filter_map(copied).collect();
    names
        .into_iter()
        .map(|n| {
            let values = values(&n);
            (n, values)
        })
        .collect()
}
