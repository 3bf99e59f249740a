//! The data plane: listeners, pools, timers. It carries out what the core decides.
//!
//! The gateway knows neither database nor control plane. It is handed a compiled porch and a table of keys
//! ([`Shared`]), serves them ([`Gateway`]), and hands out usage and traces ([`Record`]). On the way of a request there is no look-up in a
//! database, no compiling and nothing to wait for but the backend; a change of release swaps one pointer.
//!
//! Each worker thread has a runtime, connections and counters of its own; the same code carries live traffic and trial
//! runs ([`Trials`]).

mod admit;
mod exchange;
mod grpc;
mod http_call;
mod listen;
mod media;
mod pool;
mod prepare;
mod problem;
mod record;
mod reply;
mod reply_body;
mod request_body;
mod scope;
mod shared;
mod soap;
mod soap_call;
mod trace;
mod trial;
mod worker;

pub use listen::{Gateway, GatewayConfig, StartError};
pub use record::{Record, UsageRow, latency_bucket, latency_bucket_us};
pub use shared::{Pauses, Shared};
pub use trace::{Message, Refusal, Stage, Trace};
pub use trial::{TrialReply, TrialRequest, Trials};
