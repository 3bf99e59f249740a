//! Replies that are kept: what they hang on, and each mistake where it stands.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /a/{id}:
    parameters: [{ name: id, in: path, required: true, schema: { type: string } }]
    get: { operationId: look, responses: { '200': { description: ok } } }
    put: { operationId: change, requestBody: { content: { application/json: {} } }, responses: { '200': { description: ok } } }
";

fn files(facade: &str) -> Files {
    Files::from([
        (
            "b.yaml".to_owned(),
            "elm-porch: backend/1\nname: b\nkind: http\naddress: http://127.0.0.1:1\n".to_owned(),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            format!("elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\n{facade}"),
        ),
    ])
}

const PLAIN: &str =
    "operations:\n  look: { call: { backend: b } }\n  change: { call: { backend: b } }\n";

#[test]
fn what_cannot_be_kept_is_told_where_it_stands() {
    let mut wrong = Vec::new();
    for (facade, expected) in [
        (
            "operations:\n  look: { call: { backend: b }, cache: { clears: [a] } }\n".to_owned(),
            "f.yaml:6:50 GET changes nothing, so nothing is let go behind it ()",
        ),
        (
            "operations:\n  change: { call: { backend: b }, cache: { fresh: 1m } }\n".to_owned(),
            "f.yaml:6:42 replies to PUT are not kept (RFC 9111 §3) (`clears` says which replies it makes untrue)",
        ),
        (
            "operations:\n  look: { call: { backend: b }, cache: { tags: [harbours] } }\n  change: { call: { backend: b }, cache: { clears: [harbors] } }\n".to_owned(),
            "f.yaml:7:53 no operation of the facade has the tag “harbors” (did you mean “harbours”?)",
        ),
        (
            format!("cache: {{ apart: [consumer, 'x y'] }}\n{PLAIN}"),
            "f.yaml:5:28 “x y” is no name of a header field (or it is consumer, key or address)",
        ),
        (
            format!("cache: {{ most: 1GiB }}\n{PLAIN}"),
            "f.yaml:5:16 no reply of more than 16MiB is kept ()",
        ),
        (
            "cache: { fresh: 1m }\noperations:\n  look: { call: { backend: b }, send: { query: { all: '=string(size(header))' } } }\n".to_owned(),
            "f.yaml:5:8 “look” reads all header fields of a request, so that no two replies are known to be the same (name the fields that it reads, or let it be: `cache: { keep: false }`)",
        ),
    ] {
        let all = check(&files(&facade), "live");
        let told: Vec<String> = all
            .iter()
            .map(|f| first(std::slice::from_ref(f)))
            .collect();
        if !told.iter().any(|t| t == expected) {
            wrong.push(format!("{facade}\n{told:#?}\n{expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn what_replies_hang_on_is_found_in_the_expressions() {
    let facade = "cache: { fresh: 1m, apart: [X-Tenant] }
metadata: {}
routing: { b: { choose: [{ backend: b2, share: 10 }] } }
operations:
  look:
    call: { backend: b }
    send: { query: { l: \"=header[?'x-lang'].orValue('en')\", who: =caller.consumer } }
    changes: { reply: { headers: [{ op: set, name: X-A, value: \"=header[?'X-Echo'].orValue('')\" }] } }
  change: { call: { backend: b } }
";
    let mut files = files(facade);
    let other = files["b.yaml"].replace("name: b", "name: b2");
    files.insert("b2.yaml".into(), other);
    let model = model(files);
    let checked = model.facade("f").unwrap();
    assert!(!has_errors(&checked.findings), "{:?}", checked.findings);
    let compiled = checked.compiled.as_ref().unwrap();
    let look = compiled.operation("look").unwrap();
    let keeping = look.cache.as_ref().unwrap().keeps.as_ref().unwrap();
    let fields: Vec<&str> = keeping.apart.fields.iter().map(|f| f.as_str()).collect();
    assert_eq!(fields, ["x-echo", "x-lang", "x-tenant"]);
    let apart = &keeping.apart;
    assert_eq!(
        (apart.consumer, apart.key, apart.address),
        (true, false, true)
    );
    // What changes something has a part in it, and one expression is not another operation's.
    let change = compiled.operation("change").unwrap();
    assert!(change.cache.as_ref().unwrap().keeps.is_none());
    let rules = effective(compiled, look);
    let rule = rules
        .iter()
        .find(|r| r.place.rule.contains("kept"))
        .unwrap();
    assert_eq!(
        &*rule.place.rule,
        "replies are kept as they say, else for 1m; apart by consumer, address, x-echo, x-lang, x-tenant"
    );
}

#[test]
fn an_operation_says_that_its_replies_are_not_kept() {
    let facade = "cache: { fresh: 1m }\noperations:\n  look: { call: { backend: b }, cache: { keep: false } }\n  change: { call: { backend: b } }\n";
    let model = model(files(facade));
    let checked = model.facade("f").unwrap();
    let compiled = checked.compiled.as_ref().unwrap();
    assert!(compiled.operation("look").unwrap().cache.is_none());
    // Without a cache nothing of it is on the way of a call.
    let model = self::model(files(PLAIN));
    let checked = model.facade("f").unwrap();
    let compiled = checked.compiled.as_ref().unwrap();
    assert!(compiled.operations.iter().all(|o| o.cache.is_none()));
}
