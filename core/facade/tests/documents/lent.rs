//! Secrets in expressions: where they may stand, and what they need.

use std::collections::HashMap;

use porch_facade::Secrets;

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /a:
    post:
      operationId: a
      requestBody: { content: { application/json: { schema: { type: object } } } }
      responses: { '200': { description: ok, content: { application/json: { schema: { type: object, properties: { x: { type: string } } } } } } }
";

fn files(operation: &str) -> Files {
    [
        ("b.backend.yaml", "elm-porch: backend/1\nname: b\nkind: http\naddress: http://localhost:1\n".to_owned()),
        ("c.yaml", CONTRACT.to_owned()),
        (
            "f.facade.yaml",
            format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  a:\n    call: {{ backend: b }}\n{operation}\n"),
        ),
    ]
    .into_iter()
    .map(|(name, text)| (name.to_owned(), text))
    .collect()
}

#[test]
fn secrets_are_sent_or_compared_and_nothing_else() {
    let mut wrong = Vec::new();
    for (operation, expected) in [
        ("    send: { headers: { X-A: =secret.hook } }", ""),
        ("    send: { body: { a: \"='Token ' + secret.hook\" } }", ""),
        (
            "    changes: { request: { headers: [{ op: set, name: X-A, value: =secret.hook, when: \"=header.?a == secret.hook\" }] } }",
            "",
        ),
        (
            "    refuse: [{ when: =cookie.?a == secret.hook, status: 403, title: No }]",
            "",
        ),
        (
            "    changes: { request: { body: [{ op: add, path: /a, value: =secret.hook }] } }",
            "",
        ),
        (
            "    send: { query: { a: =secret.hook } }",
            "8:26 a secret is not sent in a path or query of an expression (say it below `credentials: calling: query:` of the backend, or send it in a header field or body)",
        ),
        (
            "    changes: { request: { query: [{ op: set, name: a, value: =secret.hook }] } }",
            "8:63 a secret is not sent in a path or query of an expression (say it below `credentials: calling: query:` of the backend, or send it in a header field or body)",
        ),
        (
            "    send: { headers: { X-A: =secret.hook.size() } }",
            "8:30 a secret is sent as it is, or with texts before and behind it (as in `'Token ' + secret.NAME`)",
        ),
        (
            "    reply: { x: =secret.hook }",
            "8:18 a secret is not shown: here it can only be compared, with `==` or `!=` (secrets are sent in header fields and bodies, below `send:` and `changes: request:`)",
        ),
        (
            "    changes: { reply: { headers: [{ op: set, name: X-A, value: =secret.hook }] } }",
            "8:65 a secret is not shown: here it can only be compared, with `==` or `!=` (secrets are sent in header fields and bodies, below `send:` and `changes: request:`)",
        ),
        (
            "    changes: { reply: { body: [{ op: add, path: /x, value: =secret.hook }] } }",
            "8:61 a secret is not shown: here it can only be compared, with `==` or `!=` (secrets are sent in header fields and bodies, below `send:` and `changes: request:`)",
        ),
        (
            "    refuse: [{ when: =secret.hook.startsWith(cookie.?a.orValue('')), status: 403, title: No }]",
            "8:23 a secret is not shown: here it can only be compared, with `==` or `!=` (secrets are sent in header fields and bodies, below `send:` and `changes: request:`)",
        ),
        (
            "    refuse: [{ when: =cookie.?a == secret.hook, status: 403, title: No, detail: =secret.hook }]",
            "8:82 a secret is not shown: here it can only be compared, with `==` or `!=` (secrets are sent in header fields and bodies, below `send:` and `changes: request:`)",
        ),
        (
            "    send: { headers: { X-A: =secret } }",
            "8:30 one secret is named at a time, and nothing below it (write `secret.NAME`, or `secret['NAME']`)",
        ),
        (
            "    send: { headers: { X-A: \"=secret[body.?x.orValue('')]\" } }",
            "8:31 one secret is named at a time, and nothing below it (write `secret.NAME`, or `secret['NAME']`)",
        ),
        (
            "    send: { headers: { X-A: =secret.?hook } }",
            "8:30 a secret is there, or the document is not released (write `secret.NAME`, or `secret['NAME']`)",
        ),
        (
            "    send: { headers: { X-A: =cookie.a } }",
            "8:37 “a” may be absent (say what happens then: cookie.?a leaves it out, cookie.?a.orValue(…) puts something in its place)",
        ),
    ] {
        let found = check(&files(operation), "live");
        let found: Vec<Finding> = found
            .into_iter()
            .filter(|f| f.severity == porch_contract::Severity::Error)
            .collect();
        let said = found.first().map(|_| first(&found)).unwrap_or_default();
        let said = said.strip_prefix("f.facade.yaml:").unwrap_or(&said);
        if said != expected {
            wrong.push(format!("{operation}\n  {said}\n  {expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn a_time_for_all_calls_together_is_for_several() {
    let found = check(&files("    timeout: 3s"), "live");
    let told = "8:5 “timeout” is for several `calls` (how long one may take stands in the backend's document)";
    assert!(first(&found).ends_with(told), "{found:?}");
}

#[test]
fn a_secret_that_the_environment_has_not_is_told_and_another_value_compiles_again() {
    let model = Model::read(
        Arc::new(files("    send: { headers: { X-A: =secret.hook } }")),
        "live",
        &Arc::default(),
    );
    let known = |name: &str, value: &str| HashMap::from([(name.to_owned(), value.to_owned())]);
    let compile = |secrets: &HashMap<String, String>| model.compile("f", &Secrets::Known(secrets));
    let missing = compile(&known("hooks", "v")).unwrap();
    assert!(
        first(&missing.findings)
            .ends_with("8:37 the environment has no secret “hook” (did you mean “hooks”?)"),
        "{:?}",
        missing.findings
    );
    let (one, two) = (
        compile(&known("hook", "one")).unwrap(),
        compile(&known("hook", "two")).unwrap(),
    );
    let named = |c: &porch_facade::Checked| c.compiled.as_ref().unwrap().named.clone();
    assert_eq!(
        (named(&one), named(&two)),
        (vec!["hook".to_owned()], vec!["hook".to_owned()])
    );
    assert!(!Arc::ptr_eq(&one, &two));
    assert!(Arc::ptr_eq(&two, &compile(&known("hook", "two")).unwrap()));
    let backend = &two.compiled.as_ref().unwrap().backends[0];
    let mut text = "it is two".to_owned();
    backend.credentials.mask.text(&mut text);
    assert_eq!(text, "it is ••••");
}
