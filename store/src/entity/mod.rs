//! The tables.

pub mod account;
pub mod addition;
pub mod agreement;
pub mod audit;
pub mod consumer;
pub mod copies;
pub mod credential;
pub mod delivery;
pub mod draft_file;
pub mod event;
pub mod history;
pub mod machine_token;
pub mod mail;
pub mod member;
pub mod message;
pub mod offer_request;
pub mod pause;
pub mod person;
pub mod person_session;
pub mod release;
pub mod secret;
pub mod session;
pub mod team;
pub mod trace;
pub mod usage;
pub mod webhook;

/// The texts of a list.
fn texts(list: &sea_orm::JsonValue) -> Vec<String> {
    let all = list.as_array().into_iter().flatten();
    all.filter_map(|t| t.as_str().map(str::to_owned)).collect()
}

/// Names with a comma between them.
fn names(text: &str) -> Vec<String> {
    let all = text.split(',').filter(|name| !name.is_empty());
    all.map(str::to_owned).collect()
}
