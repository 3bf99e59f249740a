//! Problems in the facade's own words: by reason, status and many of them, in the caller's language.

use super::*;
use serde_json::Value;

const FACADE: &str = "admit: { credentials: [key], limits: [{ requests: 2, window: 1h }] }
problems:
  4XX: { help: 'https://harbour.example/help', members: { desk: Quayside, hours: [9, 17] } }
  401: { title: { en: Who are you?, nn: Kven er du? }, detail: { nn: Syn fram ein nykel., en: Show a key. } }
  rate-limit: { title: Slow down, type: 'https://harbour.example/problems/slow' }
  body-size: { title: { en: Too much, fo: Ov nógv } }
operations:
  item:
    call: { backend: b }
    refuse: [{ when: \"=path.id == 'no'\", status: 409, title: Not this one, members: { desk: mine } }]
  putItem:
    call: { backend: b }
    admit: { max-body: 10B }
    problems: { 413: { title: Never mind }, 4XX: { members: { desk: Aft } } }
";

fn asked(stage: &Stage, path: &str, fields: &str) -> (String, Value) {
    let answer = stage.get(path, fields);
    let body = answer.split_once("\r\n\r\n").map_or("", |(_, b)| b);
    (
        answer.to_ascii_lowercase(),
        serde_json::from_str(body).unwrap_or_default(),
    )
}

#[test]
fn callers_are_told_in_the_facades_words_and_in_their_language() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = Stage::new(backend.address, FACADE);
    for (language, title, detail, tag) in [
        ("", "Who are you?", "Show a key.", "en"),
        (
            "Accept-Language: nn-NO, en;q=0.5\r\n",
            "Kven er du?",
            "Syn fram ein nykel.",
            "nn",
        ),
        (
            "Accept-Language: de, fr;q=0.5\r\n",
            "Who are you?",
            "Show a key.",
            "en",
        ),
    ] {
        let (head, told) = asked(&stage, "/f/item/1", language);
        assert_eq!(status(&head), 401);
        assert_eq!(
            (&told["title"], &told["detail"]),
            (&title.into(), &detail.into())
        );
        assert_eq!(told["type"], "urn:elm-porch:problem:key");
        assert_eq!(
            (&told["desk"], &told["hours"][1]),
            (&"Quayside".into(), &17.into())
        );
        assert!(
            head.contains(&format!("content-language: {tag}\r\n")),
            "{head}"
        );
        assert!(head.contains("vary: accept-language\r\n"), "{head}");
        assert!(
            head.contains("link: <https://harbour.example/help>; rel=\"help\"\r\n"),
            "{head}"
        );
        assert!(head.contains("www-authenticate: "), "{head}");
    }
    // What a refusal says itself stays; only what stands around it is shared.
    let (head, told) = asked(&stage, "/f/item/no", "API-Key: one\r\n");
    assert_eq!(
        (status(&head), &told["title"], &told["desk"]),
        (409, &"Not this one".into(), &"mine".into())
    );
    assert!(
        head.contains("rel=\"help\"") && !head.contains("content-language"),
        "{head}"
    );
    // Refused, it used up nothing.
    for _ in 0..2 {
        let (head, _) = asked(&stage, "/f/item/1", "API-Key: one\r\n");
        assert_eq!(status(&head), 200, "{head}");
    }
    let (head, told) = asked(&stage, "/f/item/1", "API-Key: one\r\n");
    assert_eq!((status(&head), &told["title"]), (429, &"Slow down".into()));
    assert_eq!(told["type"], "https://harbour.example/problems/slow");
    assert!(head.contains("retry-after: "), "{head}");
    // What is not said is as the porch says it.
    assert!(
        told["detail"]
            .as_str()
            .is_some_and(|d| d.contains("2 requests")),
        "{told}"
    );
    let (_, told) = asked(&stage, "/nowhere", "");
    assert_eq!(
        (&told["title"], &told["desk"]),
        (&"Nothing here".into(), &Value::Null)
    );
}

#[test]
fn what_is_said_of_an_operation_goes_first_and_a_reason_before_a_status() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = Stage::new(backend.address, FACADE);
    let put = |more: &str| {
        let request = format!(
            "PUT /f/item/1 HTTP/1.1\r\nHost: x\r\nAPI-Key: one\r\nContent-Type: application/json\r\nContent-Length: 20\r\nConnection: close\r\n{more}\r\n{{\"a\":1}}             "
        );
        stage.raw(request.as_bytes())
    };
    let answer = put("Accept-Language: fo\r\n");
    assert_eq!(status(&answer), 413, "{answer}");
    for part in [
        "\"title\":\"Never mind\"",
        "\"desk\":\"Aft\"",
        "\"hours\":[9,17]",
    ] {
        assert!(answer.contains(part), "{part}: {answer}");
    }
    let xml = put("Accept: application/problem+xml\r\n");
    assert!(
        xml.contains("<title>Never mind</title>") && xml.contains("<desk>Aft</desk>"),
        "{xml}"
    );
}

#[test]
fn failures_behind_a_cached_facade_are_worded_too() {
    let backend = Scripted::start(|_, _| Vec::new());
    let facade = "cache: { fresh: 1m }\nproblems: { 5XX: { title: Out at sea, help: /help } }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let (head, told) = asked(&stage, "/f/item/1", "");
    assert_eq!(
        (status(&head), &told["title"]),
        (502, &"Out at sea".into()),
        "{told}"
    );
    assert!(head.contains("link: </help>; rel=\"help\"\r\n"), "{head}");
    assert!(head.contains("proxy-status: elm-porch; error="), "{head}");
}
