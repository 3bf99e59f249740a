//! Texts changed by patterns, and links of a backend that lead where the facade has it.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /berths/{id}:
    parameters: [{ name: id, in: path, required: true }]
    get: { operationId: look, parameters: [{ name: day, in: query, schema: { type: string } }], responses: { '200': { description: ok } } }
";
const FACADE: &str = "operations:
  look:
    call: { backend: b, path: '/quays/{id}' }
    changes:
      request:
        query: [{ op: substitute, name: day, pattern: '^(\\d{4})-(\\d\\d)-(\\d\\d)$', with: '$3.$2.$1' }]
        headers: [{ op: substitute, name: X-Desk, pattern: '(?i)quay', with: Pier }]
      reply:
        headers: [{ op: substitute, name: X-Made, pattern: '\\s*\\(.*\\)', with: '' }]
        body:
          - { op: substitute, path: /list/*/name, pattern: '\\s+', with: ' ' }
          - { op: link, path: /self }
          - { op: link, path: /list/*/href, may-be-absent: true }
";

fn stage(answer: impl Fn(SocketAddr) -> String + Send + Sync + 'static) -> (Stage, Scripted) {
    let own = Arc::new(std::sync::OnceLock::new());
    let known = own.clone();
    let backend = Scripted::start(move |_, request| {
        let body = answer(*known.get().unwrap())
            .replace("SEEN", request.lines().next().unwrap_or_default());
        let seen = request
            .lines()
            .find(|l| l.to_ascii_lowercase().starts_with("x-desk"))
            .unwrap_or_default();
        let head =
            "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nX-Made: by hand (old) (very)\r\n";
        format!(
            "{head}X-Seen: {seen}\r\nContent-Length: {}\r\n\r\n{body}",
            body.len()
        )
        .into_bytes()
    });
    own.set(backend.address).unwrap();
    (
        Stage::of(compile_with(backend.address, CONTRACT, FACADE)),
        backend,
    )
}

#[test]
fn patterns_change_queries_fields_and_members() {
    let (stage, _backend) = stage(|_| {
        r#"{"self": "x", "seen": "SEEN", "list": [{"name": "a   b\n c"}, {"name": "d"}]}"#.into()
    });
    let answer = stage.get("/f/berths/1?day=2027-05-14", "X-Desk: quay and QUAY\r\n");
    assert_eq!(status(&answer), 200, "{answer}");
    for part in [
        "GET /inner/quays/1?day=14.05.2027 HTTP/1.1",
        "x-seen: x-desk: Pier and Pier\r\n",
        "x-made: by hand\r\n",
        r#""name":"a b c""#,
        r#""name":"d""#,
    ] {
        assert!(answer.contains(part), "{part}: {answer}");
    }
    // What it does not find stays as it is.
    let answer = stage.get("/f/berths/1?day=tomorrow", "");
    assert!(
        answer.contains("/inner/quays/1?day=tomorrow HTTP/1.1"),
        "{answer}"
    );
}

#[test]
fn links_lead_where_the_facade_has_it() {
    let (stage, _backend) = stage(|own| {
        format!(
            r#"{{"self": "http://{own}/inner/quays/7?a=b#c", "list": [{{"name": "", "href": "/inner/quays/a%20b"}}, {{"name": "", "href": "http://elsewhere.example/inner/quays/7"}}, {{"name": "", "href": "/other"}}, {{"name": "", "href": null}}, {{"name": ""}}, {{"name": "", "href": "//{own}/inner/nowhere"}}]}}"#
        )
    });
    let answer = stage.get("/f/berths/1", "");
    assert_eq!(status(&answer), 200, "{answer}");
    let body: serde_json::Value =
        serde_json::from_str(answer.split_once("\r\n\r\n").unwrap().1).unwrap();
    assert_eq!(body["self"], "/f/berths/7?a=b#c");
    let links: Vec<&serde_json::Value> = body["list"]
        .as_array()
        .unwrap()
        .iter()
        .map(|i| &i["href"])
        .collect();
    assert_eq!(links[0], "/f/berths/a%20b");
    assert_eq!(links[1], "http://elsewhere.example/inner/quays/7");
    assert_eq!(
        (links[2], links[3], links[4]),
        (
            &"/other".into(),
            &serde_json::Value::Null,
            &serde_json::Value::Null
        )
    );
    // What the facade has not is left alone.
    assert!(
        links[5]
            .as_str()
            .is_some_and(|l| l.ends_with("/inner/nowhere")),
        "{body}"
    );
}

#[test]
fn what_is_no_text_or_too_much_is_told_and_not_half_done() {
    for (list, told) in [
        (
            r#"{"self": "", "list": [{"name": 3}]}"#.to_owned(),
            "it is no text",
        ),
        (r#"{"self": 3, "list": []}"#.to_owned(), "it is no text"),
        (
            format!(
                r#"{{"self": "", "list": [{{"name": "{}"}}]}}"#,
                "x".repeat(70_000)
            ),
            "is not looked through",
        ),
        (
            format!(
                r#"{{"self": "", "list": [{}]}}"#,
                vec![r#"{"name": "", "href": "/a"}"#; 1_200].join(",")
            ),
            "it has more than 1000 links",
        ),
    ] {
        let (stage, _backend) = stage(move |_| list.clone());
        let answer = stage.get("/f/berths/1", "");
        assert_eq!(status(&answer), 502, "{answer}");
        let (traces, _) = stage.end();
        let why = &traces[0].refusal.as_ref().unwrap().why;
        assert!(why.contains(told), "{why}");
    }
}
