//! Trying what is in the draft and calling what is served: `porch try` and `porch call`.

use std::time::Instant;

use reqwest::Method;
use reqwest::header::{CONTENT_TYPE, HeaderMap, HeaderName, HeaderValue};
use serde_json::{Map, Value, json};

use crate::calling;
use crate::cli::{CallArgs, TryArgs};
use crate::client::{Client, segment};
use crate::error::CliError;
use crate::show::{Show, bold, list, number, paint, text};
use crate::watch;

/// Finds the facade of an operation: FACADE/OPERATION, or the only facade that has it.
pub(crate) async fn find_operation(
    client: &Client,
    wanted: &str,
) -> Result<(String, String), CliError> {
    if let Some((facade, operation)) = wanted.split_once('/') {
        return Ok((facade.to_owned(), operation.to_owned()));
    }
    let found = client
        .get(&format!("/api/operations?id={}", segment(wanted)))
        .await?;
    let facades: Vec<&str> = list(&found, "facades")
        .iter()
        .filter_map(Value::as_str)
        .collect();
    match facades.as_slice() {
        [one] => Ok(((*one).to_owned(), wanted.to_owned())),
        [] => {
            let help = match found["near"].as_str() {
                Some(near) => format!("did you mean “{near}”?"),
                None => format!(
                    "the draft has {} operations; `porch facade list` shows their facades",
                    found["known"]
                ),
            };
            let message = format!("no facade of the draft has an operation “{wanted}”");
            Err(CliError::new(message).help(help))
        }
        many => Err(
            CliError::new(format!("“{wanted}” is in the facades {}", many.join(", ")))
                .help(format!("write {}/{wanted}", many[0])),
        ),
    }
}

fn body_of(text: Option<&str>) -> Result<Value, CliError> {
    let Some(text) = text else {
        return Ok(Value::Null);
    };
    serde_json::from_slice(&bytes_of(text)?)
        .map_err(|e| CliError::new(format!("the body is no JSON: {e}")).usage())
}

/// A body as it was given, or as a file has it.
fn bytes_of(text: &str) -> Result<Vec<u8>, CliError> {
    match text.strip_prefix('@') {
        Some(path) => std::fs::read(path).map_err(|e| CliError::new(format!("{path}: {e}"))),
        None => Ok(text.as_bytes().to_vec()),
    }
}

/// Header fields as they were given.
fn fields_of(given: &[String]) -> Result<HeaderMap, CliError> {
    let mut fields = HeaderMap::new();
    for field in given {
        let wrong = || {
            CliError::new(format!("“{field}” is no header field"))
                .help("write NAME: VALUE")
                .usage()
        };
        let (name, value) = field.split_once(':').ok_or_else(wrong)?;
        let name: HeaderName = name.trim().parse().map_err(|_| wrong())?;
        let value: HeaderValue = value.trim().parse().map_err(|_| wrong())?;
        fields.append(name, value);
    }
    Ok(fields)
}

/// What is sent to try an operation out, and what of it was taken from the contract's sample.
fn trial(
    args: &TryArgs,
    view: &Value,
    facade: &str,
    operation: &str,
) -> Result<(Value, Vec<String>), CliError> {
    let sample = &view["table"]["sample"];
    let path_names: Vec<&str> = text(view, "path")
        .split('/')
        // A verb may stand behind a variable: `{name}:cancel`.
        .filter_map(|s| s.strip_prefix('{')?.split_once('}'))
        .map(|(name, _)| name.trim_end_matches('*'))
        .collect();
    let (mut path, mut query, mut cookies) = (Map::new(), Map::new(), Map::new());
    // Where both have a name, the query parameter is meant.
    let is_cookie = |name: &str| {
        let rows = list(&view["table"], "request");
        let has = |label: String| rows.iter().any(|row| text(row, "caller") == label);
        !has(format!("query {name}")) && has(format!("cookie {name}"))
    };
    for given in &args.values {
        let (name, value) = pair(given, '=')?;
        let place = if path_names.contains(&name) {
            &mut path
        } else if is_cookie(name) {
            &mut cookies
        } else {
            known_parameter(name, &path_names, view)?;
            &mut query
        };
        give(place, name, value);
    }
    let mut filled = Vec::new();
    for (name, value) in sample["cookies"].as_object().into_iter().flatten() {
        if !cookies.contains_key(name) {
            filled.push(format!("{name}={}", plain(value)));
            cookies.insert(name.clone(), value.clone());
        }
    }
    for name in path_names {
        if path.contains_key(name) {
            continue;
        }
        let value = sample["path"].get(name);
        let value = value.cloned().unwrap_or_else(|| json!("text"));
        filled.push(format!("{name}={}", plain(&value)));
        path.insert(name.into(), value);
    }
    let body = match (&args.body, sample.get("body")) {
        (None, Some(sample)) => {
            filled.push(format!("body {sample}"));
            sample.clone()
        }
        (given, _) => body_of(given.as_deref())?,
    };
    let mut headers = Map::new();
    for given in &args.headers {
        let (name, value) = pair(given, ':')?;
        headers.insert(name.trim().into(), json!(value.trim()));
    }
    add_cookies(&mut headers, &cookies);
    let answers = answers(&args.answers)?;
    let trial = json!({ "facade": facade, "operation": operation, "path": path, "query": query, "headers": headers, "body": body, "answers": answers, "answers_of": args.answers_of });
    Ok((trial, filled))
}

/// Answers in place of calls.
fn answers(given: &[String]) -> Result<Map<String, Value>, CliError> {
    let mut answers = Map::new();
    for one in given {
        let (name, text) = pair(one, '=')?;
        let (name, status) = match name.split_once(':') {
            None => (name, None),
            Some((name, status)) => {
                let number: Result<u16, _> = status.trim().parse();
                let wrong = |_| CliError::new(format!("“{status}” is no status")).usage();
                (name, Some(number.map_err(wrong)?))
            }
        };
        let body = match text.trim() {
            "" => Value::Null,
            text => body_of(Some(text))?,
        };
        let answer = json!({ "status": status, "body": body });
        answers.insert(name.trim().to_owned(), answer);
    }
    Ok(answers)
}

fn plain(value: &Value) -> String {
    let text = value.as_str().map(str::to_owned);
    text.unwrap_or_else(|| value.to_string())
}

/// Cookies as one field, behind those that were given as a field (RFC 6265 §4.2.1).
fn add_cookies(headers: &mut Map<String, Value>, cookies: &Map<String, Value>) {
    if cookies.is_empty() {
        return;
    }
    let given = headers
        .keys()
        .find(|n| n.eq_ignore_ascii_case("cookie"))
        .cloned();
    let given = given.and_then(|n| headers.remove(&n)).map(|v| plain(&v));
    let pairs = cookies
        .iter()
        .map(|(name, value)| format!("{name}={}", plain(value)));
    let all: Vec<String> = given.into_iter().chain(pairs).collect();
    headers.insert("Cookie".into(), json!(all.join("; ")));
}

/// A parameter that the contract does not have would be left unread, and whoever tries would not notice.
fn known_parameter(name: &str, path_names: &[&str], view: &Value) -> Result<(), CliError> {
    let query = list(&view["table"], "request").iter().filter_map(|row| {
        let caller = text(row, "caller");
        let query = caller.strip_prefix("query ");
        query.or_else(|| caller.strip_prefix("cookie "))
    });
    let known: Vec<&str> = path_names.iter().copied().chain(query).collect();
    // Fields of gRPC messages have two spellings: `call_sign` and `callSign`.
    let bare = |name: &str| name.replace('_', "").to_ascii_lowercase();
    if known.iter().any(|k| bare(k) == bare(name)) {
        return Ok(());
    }
    let help = match porch_contract::suggest(name, known.iter().copied()) {
        Some(near) => format!("did you mean “{near}”?"),
        None if known.is_empty() => "the operation has no parameters".into(),
        None => format!("there are: {}", known.join(", ")),
    };
    let message = format!("no parameter “{name}”");
    Err(CliError::new(message).help(help).usage())
}

/// A name and its value, as given on the command line.
fn pair(given: &str, between: char) -> Result<(&str, &str), CliError> {
    given.split_once(between).ok_or_else(|| {
        CliError::new(format!("“{given}” is not of the form name{between}value")).usage()
    })
}

pub(crate) async fn try_out(
    args: &TryArgs,
    client: &Client,
    show: &Show,
) -> Result<bool, CliError> {
    let (facade, operation) = find_operation(client, &args.operation).await?;
    let view = client
        .get(&format!(
            "/api/facades/{}/operations/{}",
            segment(&facade),
            segment(&operation)
        ))
        .await?;
    let (trial, filled) = trial(args, &view, &facade, &operation)?;
    let result = client
        .send(Method::POST, "/api/trials", Some(trial))
        .await?;
    show.value(&result, |v| {
        let mut out = String::new();
        if !filled.is_empty() {
            out.push_str(&format!(
                "filled in from the contract: {}\n",
                filled.join(", ")
            ));
        }
        out.push_str(&watch::stages_text(&v["trace"]));
        if v["released"] == json!(false) {
            out.push_str(&format!(
                "\n{} This is the draft; callers are not served it yet.\n",
                paint("unreleased.", 33)
            ));
        }
        out
    });
    Ok(number(&result, "status") < 400)
}

fn answer_text(line: &str, v: &Value) -> String {
    let mut out = format!("{line}\n");
    for (name, field) in v["headers"].as_object().into_iter().flatten() {
        out.push_str(&format!(
            "{}: {}\n",
            paint(name, 36),
            field.as_str().unwrap_or_default()
        ));
    }
    match &v["body"] {
        Value::String(body) => out.push_str(&format!("\n{body}")),
        body => out.push_str(&format!("\n{body:#}")),
    }
    out
}

/// A request with what the caller shows; whoever signs shows nothing else.
fn shown(request: reqwest::RequestBuilder, args: &CallArgs) -> reqwest::RequestBuilder {
    let key = args.key.as_deref().map(str::trim).filter(|k| !k.is_empty());
    let key = key.filter(|_| args.sign.is_none() && args.certificate.is_none());
    match (&args.user, key) {
        (Some(user), _) => request.basic_auth(user, args.password.as_deref()),
        (None, Some(key)) if args.key_header.eq_ignore_ascii_case("authorization") => {
            request.bearer_auth(key)
        }
        (None, Some(key)) => request.header(&args.key_header, key),
        (None, None) => request,
    }
}

/// `porch call`.
pub(crate) async fn call(args: &CallArgs, show: &Show) -> Result<bool, CliError> {
    let usual = if args.body.is_some() { "POST" } else { "GET" };
    let (method, path) = match args.request.as_slice() {
        // Both in one text, as they stand in documents.
        [both] => match both.trim().split_once(' ') {
            Some((method, path)) if !method.starts_with('/') => (method, path.trim_start()),
            _ => (usual, both.trim()),
        },
        [method, path, ..] => (method.as_str(), path.as_str()),
        [] => return Err(CliError::new("no path was given").usage()),
    };
    if !path.starts_with('/') {
        return Err(CliError::new(format!("“{path}” is no path"))
            .help("paths begin with “/”, as in /sailings/v2/fares/FAR-MAR/foot")
            .usage());
    }
    let method = Method::from_bytes(method.to_uppercase().as_bytes())
        .map_err(|_| CliError::new(format!("“{method}” is no method")).usage())?;
    let gateway = args.gateway.trim().trim_end_matches('/');
    let mut request = reqwest::Client::new().request(method, format!("{gateway}{path}"));
    request = shown(request, args);
    let fields = fields_of(&args.header)?;
    // Whoever says what the body is gives it as it is.
    request = match &args.body {
        Some(body) if fields.contains_key(CONTENT_TYPE) => request.body(bytes_of(body)?),
        Some(body) => request.json(&body_of(Some(body))?),
        None => request,
    };
    request = request.headers(fields);
    let began = Instant::now();
    let mut request = request
        .build()
        .map_err(|e| CliError::new(format!("the call cannot be made: {e}")))?;
    if let (Some(keyid), Some(file)) = (&args.sign, &args.sign_key) {
        crate::signing::sign(&mut request, (keyid, &args.sign_by), file)?;
    }
    let (status, headers, bytes) = calling::carried_out(request, gateway, args).await?;
    let headers: Map<String, Value> = headers
        .iter()
        .map(|(k, v)| (k.to_string(), json!(String::from_utf8_lossy(v.as_bytes()))))
        .collect();
    let us = began.elapsed().as_micros() as i64;
    let body_text = String::from_utf8_lossy(&bytes).into_owned();
    let body = serde_json::from_str(&body_text).unwrap_or(Value::String(body_text));
    let value = json!({ "status": status.as_u16(), "headers": headers, "body": body, "us": us });
    let line = format!("{} in {}", bold(&status.to_string()), crate::show::took(us));
    show.value(&value, |v| answer_text(&line, v));
    Ok(status.as_u16() < 400)
}

/// One more value of a parameter: whoever gives several means a list.
fn give(place: &mut Map<String, Value>, name: &str, value: &str) {
    match place.get_mut(name) {
        Some(Value::Array(list)) => list.push(json!(value)),
        Some(one) => *one = json!([one.take(), value]),
        None => drop(place.insert(name.into(), json!(value))),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn parameters_are_those_of_the_contract_in_either_spelling() {
        let view = json!({ "table": { "request": [
            { "caller": "path route" }, { "caller": "query call_sign" }, { "caller": "header Mood" }, { "caller": "" },
        ] } });
        let said = |name: &str, view: &Value| {
            let e = known_parameter(name, &["route"], view).unwrap_err();
            assert_eq!(e.code, 2);
            e.to_string()
        };
        for good in ["call_sign", "callSign", "route"] {
            assert!(known_parameter(good, &["route"], &view).is_ok(), "{good}");
        }
        for (name, help) in [
            ("callSgin", "did you mean “call_sign”?"),
            ("rout", "did you mean “route”?"),
            ("Mood", "there are: route, call_sign"),
        ] {
            let said = said(name, &view);
            assert!(said.contains(&format!("no parameter “{name}”")), "{said}");
            assert!(said.contains(help), "{said}");
        }
        let none = known_parameter("a", &[], &json!({})).unwrap_err();
        assert!(none.to_string().contains("has no parameters"), "{none}");
    }

    #[test]
    fn values_given_several_times_are_a_list() {
        let mut place = Map::new();
        for (name, value) in [("a", "1"), ("b", "x"), ("a", "2"), ("a", "3")] {
            give(&mut place, name, value);
        }
        assert_eq!(
            Value::Object(place),
            json!({ "a": ["1", "2", "3"], "b": "x" })
        );
    }
}
