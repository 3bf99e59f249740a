//! Networks of callers: each mistake where it stands.

use super::*;

#[test]
fn what_is_no_network_is_told_where_it_stands() {
    for (networks, expected) in [
        (
            "{ allow: [10.20.0.0/16, '2001:db8::/32', 192.0.2.7, '::1'], deny: [10.20.7.0/24] }",
            "",
        ),
        (
            "{}",
            "5:20 no network is named (add `allow: [10.20.0.0/16]` or `deny:`, or leave it out)",
        ),
        (
            "{ allow: [quay] }",
            "5:30 “quay” is no network (networks are written as 10.20.0.0/16 or 2001:db8::/32, single addresses as they are)",
        ),
        (
            "{ deny: [10.0.0.0/33] }",
            "5:29 “10.0.0.0/33” is no network (networks are written as 10.20.0.0/16 or 2001:db8::/32, single addresses as they are)",
        ),
        (
            "{ allow: [10.20.7.1/16] }",
            "5:30 “10.20.7.1/16” is an address within a network (the network is 10.20.0.0/16)",
        ),
        (
            "{ allow: ['10.0.0.0/8', 10.1.2] }",
            "5:44 “10.1.2” is no network (networks are written as 10.20.0.0/16 or 2001:db8::/32, single addresses as they are)",
        ),
    ] {
        let files: Files = [
            ("b.backend.yaml", "elm-porch: backend/1\nname: b\nkind: http\naddress: http://localhost:1\n".to_owned()),
            ("c.yaml", "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths: { /a: { get: { operationId: a, responses: { '200': { description: ok } } } }, /b: { get: { operationId: b, responses: { '200': { description: ok } } } } }\n".to_owned()),
            ("f.facade.yaml", format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\nadmit: {{ networks: {networks} }}\noperations: {{ a: {{ call: {{ backend: b }} }}, b: {{ call: {{ backend: b }} }} }}\n")),
        ]
        .into_iter()
        .map(|(name, text)| (name.to_owned(), text))
        .collect();
        let found = check(&files, "live");
        let mut errors = found
            .into_iter()
            .filter(|f| f.severity == porch_contract::Severity::Error);
        let said = errors.next().map_or_else(String::new, |f| {
            format!("{}:{} {} ({})", f.line, f.column, f.message, f.help)
        });
        assert_eq!(said, expected, "{networks}");
        // Whatever reaches both operations is told once.
        assert_eq!(errors.next().map(|f| f.message), None, "{networks}");
    }
}
