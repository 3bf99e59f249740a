//! Exchanges as they are written down: messages of HTTP/1.1 (RFC 9112 §2), requests and answers one behind the other.

use serde_json::Value;

use crate::{Answer, Call, Exchange, MAX_SAMPLES, MAX_TEXT, NoSample};

const METHODS: [&str; 9] = [
    "GET", "POST", "PUT", "PATCH", "DELETE", "HEAD", "OPTIONS", "TRACE", "QUERY",
];

/// Reads the exchanges of a text. A request begins with `GET /path`, an answer with `HTTP/1.1 200`; behind the path of a request may
/// stand the JSON that is answered.
///
/// # Errors
/// What is wrong with the first that cannot be read.
pub fn read_exchanges(text: &str) -> Result<Vec<Exchange>, NoSample> {
    if text.len() > MAX_TEXT {
        let message = format!("the sample has more than {MAX_TEXT} bytes");
        return Err(NoSample::new(message, "give a shorter one"));
    }
    let mut all: Vec<Exchange> = Vec::new();
    for block in blocks(text) {
        let (first, rest) = block.split_once('\n').unwrap_or((block, ""));
        let first = first.trim();
        if let Some(status) = status_of(first) {
            let (fields, body) = message(rest)?;
            let answer = Answer {
                status,
                fields,
                body,
            };
            match all.last_mut() {
                Some(last) if last.answer.is_none() => last.answer = Some(answer),
                _ => {
                    let message = format!("“{first}” answers no request");
                    return Err(NoSample::new(
                        message,
                        "write the request before it: GET /path",
                    ));
                }
            }
            continue;
        }
        all.push(request(first, rest)?);
        if all.len() > MAX_SAMPLES {
            let message = format!("there are more than {MAX_SAMPLES} samples");
            return Err(NoSample::new(message, "a few of each kind are enough"));
        }
    }
    Ok(all)
}

/// Whether a line begins a request.
fn is_request(line: &str) -> bool {
    let mut words = line.split_whitespace();
    let method = words.next().is_some_and(|m| METHODS.contains(&m));
    method
        && words
            .next()
            .is_some_and(|t| t.starts_with('/') || t.contains("://"))
}

/// The status of a status line (RFC 9112 §4).
fn status_of(line: &str) -> Option<u16> {
    let mut words = line.split_whitespace();
    words.next().filter(|w| w.starts_with("HTTP/"))?;
    let status: u16 = words.next()?.parse().ok()?;
    (100..600).contains(&status).then_some(status)
}

/// The texts of the messages: each begins with its first line.
fn blocks(text: &str) -> Vec<&str> {
    let (mut starts, mut at) = (Vec::new(), 0);
    for line in text.split_inclusive('\n') {
        let shown = line.trim();
        if is_request(shown) || status_of(shown).is_some() || shown.starts_with("###") {
            starts.push(at);
        }
        at += line.len();
    }
    // What stands before the first message is looked at too, so that it is not lost.
    if text[..starts.first().copied().unwrap_or(text.len())].trim() != "" {
        starts.insert(0, 0);
    }
    let ends = starts.iter().skip(1).copied().chain([text.len()]);
    let all = starts.iter().zip(ends).map(|(from, to)| &text[*from..to]);
    all.filter(|block| !block.starts_with("###")).collect()
}

fn request(first: &str, rest: &str) -> Result<Exchange, NoSample> {
    let shape = "a request begins with its method and path: GET /fares/FAR-MAR";
    let (method, behind) = first.split_once(char::is_whitespace).unwrap_or((first, ""));
    let (target, behind) = match behind.trim().split_once(char::is_whitespace) {
        Some((target, behind)) => (target, behind.trim()),
        None => (behind.trim(), ""),
    };
    if !METHODS.contains(&method) || !(target.starts_with('/') || target.contains("://")) {
        let shown: String = first.chars().take(60).collect();
        return Err(NoSample::new(format!("“{shown}” is no request"), shape));
    }
    let (fields, body) = message(rest)?;
    let host = crate::field(&fields, "host").unwrap_or_default().to_owned();
    let target = target.split('#').next().unwrap_or_default();
    let url = match target.starts_with('/') && !host.is_empty() {
        true => format!("http://{host}{target}"),
        false => target.to_owned(),
    };
    let answer = match behind {
        "" => None,
        version if version.starts_with("HTTP/") => None,
        json => {
            let value: Result<Value, _> = serde_json::from_str(json);
            if let Err(e) = value {
                let message = format!("what stands behind {target} is no JSON: {e}");
                return Err(NoSample::new(
                    message,
                    "write the answer as JSON, or below its own `HTTP/1.1 200`",
                ));
            }
            Some(Answer {
                status: 200,
                fields: vec![("Content-Type".into(), "application/json".into())],
                body: json.as_bytes().to_vec(),
            })
        }
    };
    let fields = fields
        .into_iter()
        .filter(|(n, _)| !n.eq_ignore_ascii_case("host"));
    let call = Call {
        method: method.to_owned(),
        url,
        fields: fields.collect(),
        body: (!body.is_empty()).then_some(body),
        told: Vec::new(),
    };
    Ok(Exchange { call, answer })
}

type Fields = Vec<(String, String)>;

/// Fields and body of a message. What has no blank line is fields as far as it looks like them.
fn message(text: &str) -> Result<(Fields, Vec<u8>), NoSample> {
    let (mut fields, mut at) = (Fields::new(), 0);
    for line in text.split_inclusive('\n') {
        let shown = line.trim_end();
        at += line.len();
        if shown.is_empty() {
            break;
        }
        match shown.split_once(':') {
            Some((name, value)) if !name.is_empty() && !name.contains([' ', '"', '{', '[']) => {
                fields.push((name.to_owned(), value.trim().to_owned()));
            }
            _ => {
                at -= line.len();
                break;
            }
        }
    }
    let body = text[at..].trim();
    let json = crate::field(&fields, "content-type").is_none();
    if json && body.starts_with(['{', '[']) {
        if let Err(e) = serde_json::from_str::<Value>(body) {
            let message = format!("a body is no JSON: {e}");
            return Err(NoSample::new(
                message,
                "say what it is with Content-Type, or mend it",
            ));
        }
        fields.push(("Content-Type".into(), "application/json".into()));
    }
    Ok((fields, body.as_bytes().to_vec()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn requests_and_answers_follow_one_another() {
        let text = "### a berth\nPUT /berths/N7 HTTP/1.1\nHost: quay.example\nContent-Type: application/json\n\n{\"length\":\n 31}\n\nHTTP/1.1 200 OK\nContent-Type: application/json\n\n{\"berth\": \"N7\"}\n\nGET /berths/{berth} {\"berth\":\"N7\"}\nDELETE /berths/{berth}\nHTTP/1.1 204\n";
        let all = read_exchanges(text).unwrap();
        assert_eq!(all.len(), 3);
        assert_eq!(all[0].call.url, "http://quay.example/berths/N7");
        assert_eq!(
            all[0].call.body.as_deref(),
            Some(&b"{\"length\":\n 31}"[..])
        );
        let statuses: Vec<u16> = all
            .iter()
            .filter_map(|e| Some(e.answer.as_ref()?.status))
            .collect();
        assert_eq!(statuses, [200, 200, 204]);
        assert_eq!(
            all[1].answer.as_ref().map(|a| &a.body[..]),
            Some(&b"{\"berth\":\"N7\"}"[..])
        );
    }

    #[test]
    fn what_is_no_exchange_is_told() {
        for (text, part) in [
            ("hello", "no request"),
            ("HTTP/1.1 200 OK\n", "answers no request"),
            ("GET /x {\"a\":}", "no JSON"),
            ("POST /x\n\n{\"a\":", "no JSON"),
        ] {
            let told = read_exchanges(text).unwrap_err().to_string();
            assert!(told.contains(part), "{text}: {told}");
        }
        assert_eq!(read_exchanges("\n\n").unwrap(), []);
    }
}
