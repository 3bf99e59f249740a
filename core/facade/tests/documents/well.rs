//! How addresses are asked whether they are well: what is wrong with it is told.

use super::*;

fn found(kind: &str, health: &str) -> String {
    let (kind, more) = match kind {
        "grpc" => ("grpc", "definition: b.proto\n"),
        kind => (kind, ""),
    };
    let call = match kind {
        "grpc" => "{ backend: b, operation: q.Q/A }",
        _ => "{ backend: b }",
    };
    let files: Files = [
        ("b.backend.yaml", format!("elm-porch: backend/1\nname: b\nkind: {kind}\naddress: http://localhost:1\nhealth: {health}\n{more}")),
        ("b.proto", "syntax = \"proto3\";\npackage q;\nmessage M {}\nservice Q { rpc A(M) returns (M); }\n".to_owned()),
        ("c.yaml", "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths: { /a: { get: { operationId: a, responses: { '200': { description: ok } } } } }\n".to_owned()),
        ("f.facade.yaml", format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations: {{ a: {{ call: {call} }} }}\n")),
    ]
    .into_iter()
    .map(|(name, text)| (name.to_owned(), text))
    .collect();
    let found = check(&files, "live");
    let mut errors = found
        .into_iter()
        .filter(|f| f.severity == porch_contract::Severity::Error);
    errors.next().map_or_else(String::new, |f| {
        format!("{}:{} {} ({})", f.line, f.column, f.message, f.help)
    })
}

#[test]
fn what_is_wrong_with_a_question_is_told_where_it_stands() {
    for (kind, health, expected) in [
        ("http", "{}", ""),
        (
            "http",
            "{ path: '/up?deep=1', every: 100ms, within: 5s, fails: 1, passes: 100, statuses: [204, 429] }",
            "",
        ),
        ("grpc", "{ every: 1m }", ""),
        (
            "http",
            "{ path: up }",
            "5:17 “up” is no path (a path begins with “/”, as in /health)",
        ),
        (
            "http",
            "{ path: '/u p' }",
            "5:17 “/u p” is no path (a path begins with “/”, as in /health)",
        ),
        (
            "http",
            "{ every: 50ms }",
            "5:18 an address is asked every 100ms to every day ()",
        ),
        (
            "http",
            "{ every: 2d }",
            "5:18 an address is asked every 100ms to every day ()",
        ),
        (
            "http",
            "{ fails: 0 }",
            "5:18 so many in a row are 1 to 100 ()",
        ),
        (
            "http",
            "{ passes: 101 }",
            "5:19 so many in a row are 1 to 100 ()",
        ),
        (
            "http",
            "{ statuses: [200, 99] }",
            "5:21 99 is no status of an answer ()",
        ),
        (
            "grpc",
            "{ path: /up }",
            "5:17 “path” has no meaning for a gRPC backend (it is asked by grpc.health.v1.Health/Check)",
        ),
        (
            "grpc",
            "{ statuses: [200] }",
            "5:21 “statuses” has no meaning for a gRPC backend (it is asked by grpc.health.v1.Health/Check)",
        ),
    ] {
        assert_eq!(found(kind, health), expected, "{kind} {health}");
    }
}
