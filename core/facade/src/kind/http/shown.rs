//! The credentials that sample calls carried, as a backend's document names them.

use porch_sample::{Credential, Known};
use serde_json::{Map, Value, json};

use crate::derive::Stored;

/// What a backend at an address is shown when it is called, and the secrets that this names. What was shown to another host
/// is nobody's business here.
pub(super) fn calling(
    backend: &str,
    address: &str,
    known: &[Known],
) -> (Map<String, Value>, Vec<Stored>) {
    let (mut calling, mut secrets) = (Map::new(), Vec::new());
    let mut named = |what: &str, value: &str| {
        let mut what: String = what
            .chars()
            .map(|c| {
                if c.is_ascii_alphanumeric() {
                    c.to_ascii_lowercase()
                } else {
                    '-'
                }
            })
            .collect();
        what.truncate(30);
        // A name has 64 characters at most.
        let room = backend.floor_char_boundary(30);
        let name = format!("{}-{}", &backend[..room], what.trim_matches('-'));
        let name = name.replace("--", "-");
        let taken = |name: &str| secrets.iter().any(|s: &Stored| s.name == name);
        let others = (2..).map(|n| format!("{name}-{n}"));
        let mut names = std::iter::once(name.clone()).chain(others);
        let (name, value) = (
            names.find(|n| !taken(n)).unwrap_or_default(),
            value.to_owned(),
        );
        secrets.push(Stored {
            name: name.clone(),
            value,
        });
        json!({ "secret": name })
    };
    for credential in known
        .iter()
        .filter(|k| is_for(&k.origin, address))
        .map(|k| &k.credential)
    {
        match credential {
            // A request has one `Authorization`: the first of several is taken.
            Credential::Basic { .. } | Credential::Bearer(_)
                if calling.contains_key("basic") || calling.contains_key("bearer") => {}
            Credential::Basic { user, password } => {
                let password = named("password", password);
                calling.insert(
                    "basic".into(),
                    json!({ "user": user, "password": password }),
                );
            }
            Credential::Bearer(token) => {
                calling.insert("bearer".into(), named("token", token));
            }
            Credential::Header(name, value) => {
                let value = named(name, value);
                let headers = calling.entry("headers").or_insert_with(|| json!({}));
                headers[name] = value;
            }
            Credential::Query(name, value) => {
                let value = named(name, value);
                let query = calling.entry("query").or_insert_with(|| json!({}));
                query[name] = value;
            }
        }
    }
    (calling, secrets)
}

/// Whether an address is at an origin (RFC 6454 §4).
fn is_for(origin: &str, address: &str) -> bool {
    let rest = address.strip_prefix(origin);
    rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_credential_is_named_only_where_it_was_shown() {
        let known = |origin: &str, credential| Known {
            origin: origin.into(),
            credential,
        };
        let all = [
            known(
                "http://h.example",
                Credential::Header("X-Api-Key".into(), "k".into()),
            ),
            known("http://h.example:81", Credential::Bearer("t".into())),
            known(
                "http://h.example",
                Credential::Basic {
                    user: "desk".into(),
                    password: "p".into(),
                },
            ),
            known("http://h.example", Credential::Bearer("second".into())),
            known(
                "http://h.example",
                Credential::Query("x_api_key".into(), "q".into()),
            ),
        ];
        let (calling, secrets) = calling("tides", "http://h.example/api", &all);
        let expected = json!({
            "headers": { "X-Api-Key": { "secret": "tides-x-api-key" } },
            "basic": { "user": "desk", "password": { "secret": "tides-password" } },
            "query": { "x_api_key": { "secret": "tides-x-api-key-2" } },
        });
        assert_eq!(Value::Object(calling), expected);
        let names: Vec<&str> = secrets.iter().map(|s| s.name.as_str()).collect();
        assert_eq!(
            names,
            ["tides-x-api-key", "tides-password", "tides-x-api-key-2"]
        );
        assert!(!format!("{secrets:?}").contains("\"p\""));
    }
}
