//! The tables.

pub mod account;
pub mod addition;
pub mod agreement;
pub mod audit;
pub mod consumer;
pub mod copies;
pub mod credential;
pub mod draft_file;
pub mod event;
pub mod machine_token;
pub mod pause;
pub mod release;
pub mod secret;
pub mod session;
pub mod trace;
pub mod usage;

/// Names with a comma between them.
fn names(text: &str) -> Vec<String> {
    let all = text.split(',').filter(|name| !name.is_empty());
    all.map(str::to_owned).collect()
}
