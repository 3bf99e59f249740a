//! The data plane: listeners, pools, timers. It carries out what the core decides.
//!
//! The gateway knows neither database nor control plane. It is handed a compiled porch and a table of keys
//! ([`Shared`]), serves them ([`Gateway`]), and hands out usage and traces ([`Record`]). On the way of a request there is no look-up in a
//! database, no compiling and nothing to wait for but the backend; a change of release swaps one pointer.
//!
//! Each worker thread has a runtime, connections and counters of its own; the same code carries live traffic and trial
//! runs ([`Trials`]).

mod answer;
mod backend;
mod body;
mod budget;
mod cache;
mod call;
mod caller;
mod changes;
mod connection;
mod count;
mod exchange;
mod failure;
mod fields;
mod introspected;
mod issuers;
mod language;
mod listen;
mod media;
mod outgoing;
mod passwords;
mod problem;
mod scope;
mod shared;
mod stage;
mod steps;
mod trace;
mod trial;
mod usage;
mod worker;

#[cfg(test)]
mod testing;

pub use backend::watched::Watched;
pub use body::Pace;
pub use cache::{Cache, Kept, Purge};
pub use connection::Paced;
pub use connection::proxies::{NoNetwork, Proxies, Written};
pub use count::{
    Ask, Away, CommonCounts, CommonState, Counters, JournalError, Journals, Soon, agreed,
    counted_for, limit_in, period_of,
};
pub use listen::{Bound, Gateway, GatewayConfig, SecureConfig, StartError};
pub use porch_tls::{Certificates, ServedError};
pub use shared::{Pauses, Shared};
pub use trace::{Message, Refusal, Stage, StageName, Trace};
pub use trial::{GivenAnswer, RecordedAnswer, TrialReply, TrialRequest, Trials};
pub use usage::{CopyRow, QuotaTold, Record, UsageRow, latency_bucket, latency_bucket_us};
