//! What is known of one exchange while it runs.

use std::borrow::Cow;
use std::cell::{Cell, RefCell};
use std::rc::Rc;
use std::sync::Arc;

use http::request::Parts;
use http::{HeaderMap, HeaderValue, header};
use porch_facade::{CompiledPorch, MediaType, OperationIndex};

use super::context::{Copy, Origin, trace_context, unix_ms};
use crate::body::InBody;
use crate::budget::Share;
use crate::cache::Directives;
use crate::caller::{Caller, RateFields};
use crate::count::at_once::Held;
use crate::stage::{Charge, Counted};
use crate::trace::Recorder;
use crate::worker::{InFlight, Worker};

/// Whether an exchange is a caller's or a publisher's.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Mode {
    Live,
    /// A trial run: no key is demanded, no limit counts, everything is recorded.
    Trial,
    /// Carried out for another facade that stands on this one ([`Origin::inner`]): no key is demanded, no limit counts, and what
    /// there is to see belongs to the other's exchange.
    Inside,
}

/// What answers said of being kept, all of them together: in one number, since every exchange has it.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
struct Heard(u32);

impl Heard {
    const NO_STORE: u32 = 1 << 31;
    const PRIVATE: u32 = 1 << 30;
    /// One more than the least time that one of them is fresh.
    const SECONDS: u32 = Self::PRIVATE - 1;

    fn and(self, said: &Directives) -> Self {
        let mut flags = self.0 & !Self::SECONDS;
        if said.no_store && !said.must_understand {
            flags |= Self::NO_STORE;
        }
        if said.private {
            flags |= Self::PRIVATE;
        }
        let most = u64::from(Self::SECONDS);
        let said = said.s_maxage.or(said.max_age);
        let said = said.map(|s| s.saturating_add(1).min(most) as u32);
        let least = match (self.0 & Self::SECONDS, said) {
            (0, said) => said.unwrap_or(0),
            (old, said) => said.map_or(old, |said| said.min(old)),
        };
        Self(flags | least)
    }

    /// The same as a reply says it.
    fn in_words(self) -> String {
        let mut said: Vec<String> = Vec::new();
        said.extend((self.0 & Self::NO_STORE != 0).then(|| "no-store".to_owned()));
        said.extend((self.0 & Self::PRIVATE != 0).then(|| "private".to_owned()));
        let seconds = (self.0 & Self::SECONDS).checked_sub(1);
        said.extend(seconds.map(|s| format!("max-age={s}")));
        said.join(", ")
    }
}

/// What few exchanges have.
#[derive(Default)]
pub(crate) struct Rare {
    /// By which the other plain limits give back what they counted, in their order.
    pub(crate) plain: Vec<u64>,
    /// What limits counted that look at the request.
    pub(crate) counted: Vec<Counted>,
    /// Limits of bytes that are counted at its end.
    pub(crate) charges: Vec<Charge>,
    /// Its places among those that are under way at the same time.
    pub(crate) held: Vec<Held>,
    /// What stood in the query in place of a credential, a line for each time.
    pub(crate) taken: Option<Box<str>>,
    /// The digest that its body must have, since it is signed.
    pub(crate) digest: Option<Box<str>>,
}

/// One request and its reply passing through.
pub(crate) struct Exchange<'x> {
    pub(crate) worker: &'x Rc<Worker>,
    pub(crate) porch: &'x Arc<CompiledPorch>,
    pub(crate) mode: Mode,
    pub(crate) origin: &'x Origin,
    /// Milliseconds since 1970.
    pub(crate) now: i64,
    /// `traceparent` as it is sent on; the exchange's id stands in it (W3C Trace Context §3.2.2).
    context: [u8; 55],
    pub(crate) traceparent: HeaderValue,
    pub(crate) recorder: RefCell<Recorder>,
    /// The operation, once it is known.
    pub(crate) at: Cell<Option<OperationIndex>>,
    /// Whether a rule says which pages may call the operation.
    pub(crate) of_pages: Cell<bool>,
    /// Whether its reply is compressed, where the caller takes it.
    pub(crate) packs: Cell<bool>,
    /// Whether the caller's body came compressed, and was read.
    pub(crate) unpacked: Cell<bool>,
    pub(crate) caller: Caller,
    pub(crate) rate: Option<RateFields>,
    /// By which the first plain limit gives back what it counted; 0: it counted nothing.
    pub(crate) counted: u64,
    /// What few exchanges have.
    pub(crate) rare: Option<Box<Rare>>,
    /// Whether a backend was called.
    pub(crate) reached: Cell<bool>,
    /// The media type that the caller gets, when there is a choice.
    pub(crate) chosen: Option<MediaType>,
    pub(crate) bytes_in: Cell<u64>,
    /// What of the reply does not fit the contract; callers got it all the same.
    pub(crate) misfit: RefCell<Option<Box<str>>>,
    /// What answers said of being kept.
    heard: Cell<Heard>,
    /// Its place among those under way; trial runs have none.
    pub(crate) inflight: Option<InFlight>,
    /// Of the memory for bodies.
    pub(crate) share: Share<'x>,
}

/// Path and query, whichever way the target was written.
pub(crate) fn target(parts: &Parts) -> String {
    parts
        .uri
        .path_and_query()
        .map_or_else(|| parts.uri.to_string(), ToString::to_string)
}

impl<'x> Exchange<'x> {
    pub(super) fn begin(
        worker: &'x Rc<Worker>,
        porch: &'x Arc<CompiledPorch>,
        parts: &Parts,
        body: &InBody,
        origin: &'x Origin,
        mode: Mode,
    ) -> Self {
        let now = unix_ms();
        let inner = origin.inner.as_ref();
        let full = match mode {
            Mode::Trial => true,
            Mode::Live => worker.may_trace(now),
            Mode::Inside => inner.is_some_and(|i| i.full),
        };
        let context = trace_context(worker, &parts.headers);
        Self {
            worker,
            porch,
            mode,
            origin,
            now,
            context,
            traceparent: HeaderValue::from_bytes(&context)
                .unwrap_or_else(|_| HeaderValue::from_static("")),
            recorder: RefCell::new(Recorder::new(full)),
            at: Cell::new(None),
            of_pages: Cell::new(false),
            packs: Cell::new(false),
            unpacked: Cell::new(false),
            caller: inner.map(|i| i.caller.clone()).unwrap_or_default(),
            rate: None,
            counted: 0,
            rare: None,
            reached: Cell::new(false),
            chosen: None,
            bytes_in: Cell::new(body.length().unwrap_or(0)),
            misfit: RefCell::new(None),
            heard: Cell::default(),
            inflight: (mode == Mode::Live).then(|| InFlight::new(worker)),
            share: Share::of(&worker.shared.budget),
        }
    }

    /// What few exchanges have: from now on this one does.
    pub(crate) fn rare(&mut self) -> &mut Rare {
        self.rare.get_or_insert_default()
    }

    /// The facade's name, once it is known.
    pub(crate) fn facade_name(&self) -> &'x str {
        let at = self.at.get().and_then(|at| self.porch.at(at));
        at.map_or("", |(facade, _)| facade.name.as_str())
    }

    /// Whether a publisher tries something, and nobody calls.
    pub(crate) fn is_trial(&self) -> bool {
        self.mode == Mode::Trial || self.origin.inner.as_ref().is_some_and(|i| i.trial)
    }

    /// Whether another reply is asked for in place of one that is kept.
    pub(crate) fn refreshes(&self) -> bool {
        self.origin.inner.as_ref().is_some_and(|i| i.refreshes)
    }

    /// Where a copy notes what was answered.
    pub(crate) fn copy(&self) -> Option<&Rc<Copy>> {
        self.origin.inner.as_ref()?.copy.as_ref()
    }

    /// Notes what an answer says of being kept: what is made of it says nothing of that by itself.
    #[cold]
    pub(crate) fn hear(&self, fields: &HeaderMap) {
        let heard = self.heard.get().and(&Directives::of(fields));
        self.heard.set(heard);
    }

    /// The fields of a reply; with what its answers said of being kept, where it says nothing of that.
    pub(crate) fn with_heard<'h>(&self, headers: &'h HeaderMap) -> Cow<'h, HeaderMap> {
        let heard = self.heard.get();
        if headers.contains_key(header::CACHE_CONTROL) || heard == Heard::default() {
            return Cow::Borrowed(headers);
        }
        let mut headers = headers.clone();
        if let Ok(said) = HeaderValue::from_str(&heard.in_words()) {
            headers.insert(header::CACHE_CONTROL, said);
        }
        Cow::Owned(headers)
    }

    /// The exchange's id: trace and parent id as the reply's `traceparent` has them, since one trace may hold many exchanges.
    pub(crate) fn id(&self) -> &str {
        std::str::from_utf8(&self.context[3..52]).unwrap_or_default()
    }
}
