//! Pages of other origins (Fetch §3.3).

use super::*;

fn stage(cors: &str) -> Stage {
    let backend = Scripted::start(|_, _| {
        b"HTTP/1.1 200 OK\r\nAccess-Control-Allow-Origin: *\r\nVary: accept\r\nContent-Length: 2\r\n\r\nok".to_vec()
    });
    let facade = format!(
        "cors: {cors}\nadmit: {{ credentials: [key] }}\noperations:\n  item: {{ call: {{ backend: b }} }}\n  putItem: {{ call: {{ backend: b }}, cors: {{ origins: ['*'] }} }}\n"
    );
    Stage::of(compile(backend.address, &facade))
}

fn head(answer: &str) -> String {
    answer
        .split("\r\n\r\n")
        .next()
        .unwrap()
        .to_ascii_lowercase()
}

fn preflight(stage: &Stage, path: &str, origin: &str, method: &str, more: &str) -> String {
    stage.raw(format!("OPTIONS {path} HTTP/1.1\r\nHost: x\r\nConnection: close\r\nOrigin: {origin}\r\nAccess-Control-Request-Method: {method}\r\n{more}\r\n").as_bytes())
}

const HARBOUR: &str = "{ origins: ['https://harbour.example', 'https://*.isles.example', 'http://localhost:5173'], credentials: true, expose: [X-Count], max-age: 1h }";

#[test]
fn preflights_are_answered_without_a_key() {
    let stage = stage(HARBOUR);
    for origin in [
        "https://harbour.example",
        "https://a.b.isles.example",
        "http://localhost:5173",
    ] {
        let answer = preflight(
            &stage,
            "/f/item/1",
            origin,
            "GET",
            "Access-Control-Request-Headers: api-key, X-Any\r\n",
        );
        assert_eq!(status(&answer), 204, "{answer}");
        let fields = head(&answer);
        for there in [
            &format!("access-control-allow-origin: {origin}"),
            "access-control-allow-credentials: true",
            "access-control-allow-methods: get",
            "access-control-allow-headers: api-key, x-any",
            "access-control-max-age: 3600",
            "vary: origin, access-control-request-method, access-control-request-headers",
        ] {
            assert!(fields.contains(there), "{there}: {fields}");
        }
    }
    for origin in [
        "https://harbour.example.evil",
        "https://isles.example",
        "https://evil/.isles.example",
        "https://harbour.example:444",
        "http://harbour.example",
        "null",
        "",
    ] {
        let answer = preflight(&stage, "/f/item/1", origin, "GET", "");
        assert_eq!(status(&answer), 403, "{origin}: {answer}");
        assert!(
            !head(&answer).contains("access-control-"),
            "{origin}: {answer}"
        );
    }
    // Where no rule is, or no such method, nothing is allowed.
    let answer = preflight(&stage, "/f/item/1", "https://harbour.example", "DELETE", "");
    assert!(!head(&answer).contains("access-control-"), "{answer}");
    let answer = preflight(&stage, "/f/none", "https://harbour.example", "GET", "");
    assert_eq!(status(&answer), 404, "{answer}");
    // Names that are none are not said again.
    let answer = preflight(
        &stage,
        "/f/item/1",
        "https://harbour.example",
        "GET",
        "Access-Control-Request-Headers: a b, <x>\r\n",
    );
    assert!(!head(&answer).contains("allow-headers"), "{answer}");
}

#[test]
fn replies_and_refusals_say_who_may_read_them() {
    let stage = stage(HARBOUR);
    for (key, wanted) in [("API-Key: one\r\n", 200), ("", 401)] {
        let answer = stage.get(
            "/f/item/1",
            &format!("{key}Origin: https://harbour.example\r\n"),
        );
        assert_eq!(status(&answer), wanted, "{answer}");
        let fields = head(&answer);
        assert!(
            fields.contains("access-control-allow-origin: https://harbour.example"),
            "{fields}"
        );
        assert_eq!(
            fields.matches("access-control-allow-origin").count(),
            1,
            "{fields}"
        );
        assert!(
            fields.contains("access-control-expose-headers: ratelimit,")
                && fields.contains("traceparent, x-count"),
            "{fields}"
        );
        assert!(fields.contains("vary: origin"), "{fields}");
    }
    // Others are answered, and their browsers keep it from them; caches know.
    for origin in ["Origin: https://other.example\r\n", ""] {
        let fields = head(&stage.get("/f/item/1", &format!("API-Key: one\r\n{origin}")));
        assert!(
            fields.starts_with("http/1.1 200") && !fields.contains("access-control-"),
            "{fields}"
        );
        assert!(
            fields.contains("vary: origin") && fields.contains("vary: accept"),
            "{fields}"
        );
    }
    // Any origin, without credentials: every page gets the same.
    let put = "PUT /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\nOrigin: https://other.example\r\nContent-Length: 0\r\nAPI-Key: one\r\n\r\n";
    let fields = head(&stage.raw(put.as_bytes()));
    assert!(
        fields.contains("access-control-allow-origin: *") && !fields.contains("credentials"),
        "{fields}"
    );
    assert!(!fields.contains("vary: origin"), "{fields}");
}
