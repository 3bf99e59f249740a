//! Lists that come in pages: what is known of them, and each mistake where it stands.

use super::*;

/// What is found of the demo's timetable with an operation of several calls.
fn told(calls: &str, reply: &str) -> Vec<String> {
    let mut files = demo();
    let facade = format!(
        "elm-porch: facade/1\nname: pages\nbase: /pages\ncontract: pages.openapi.yaml\noperations:\n  all:\n    calls:\n{calls}\n    reply: {reply}\n"
    );
    files.insert("pages.facade.yaml".into(), facade);
    files.insert(
        "pages.openapi.yaml".into(),
        "openapi: 3.1.0\ninfo: { title: P, version: 1.0.0 }\npaths:\n  /all: { get: { operationId: all, parameters: [{ name: from, in: query, required: true, schema: { type: string } }], responses: { '200': { description: ok } } } }\n".into(),
    );
    let all = check(&files, "live");
    let all = all.iter().filter(|f| f.severity == Severity::Error);
    all.map(|f| first(std::slice::from_ref(f))).collect()
}

#[test]
fn what_is_wrong_with_pages_is_told_where_it_stands() {
    let list = |pages: &str| {
        format!(
            "      list: {{ backend: reservations, operation: SearchSailings, send: {{ From: =query.from, On: '=string(page)' }}, {pages} }}"
        )
    };
    let good = list("pages: { items: =answer.body.Sailings, next: =page }");
    assert_eq!(told(&good, "{ ids: '=list.body.map(s, s.Id)' }"), [""; 0]);
    for (calls, reply, expected) in [
        (
            list("pages: { items: =answer.body.Sailing, next: =page }"),
            "=list.body",
            "8:144 the answer's body has no “Sailing” (did you mean “Sailings”?)",
        ),
        (
            format!(
                "{good}\n      fares: {{ backend: reservations, operation: QuoteFare, each: =list.body, send: {{ RouteCode: =item.RouteCod, FareClass: foot, Passengers: 1 }} }}"
            ),
            "=fares.body",
            "9:104 an item of the list has no “RouteCod” (did you mean “RouteCode”?)",
        ),
        (
            list("pages: { items: =answer.body.Sailings, next: page }"),
            "=list.body",
            "8:154 “page” is a text, and no expression (an expression begins with “=”: `=page`)",
        ),
        (
            list("pages: { items: =answer.body.Sailings, next: =item }"),
            "=list.body",
            "“item” is not known here",
        ),
        (
            list("pages: { items: =answer.body.Sailings, next: =list.body }"),
            "=list.body",
            "“list” waits for its own answer",
        ),
        (
            list("pages: { items: =answer.body.Sailings, next: =page }, answer: =answer.body"),
            "=list.body",
            "“answer” has no meaning beside `pages:` (`items` says what a page gives)",
        ),
        (
            list("pages: { items: =answer.body.Sailings, next: =page }, writes: true"),
            "=list.body",
            "what changes something is not made again for each page (say `writes: false` where it does not)",
        ),
        (
            list("pages: { items: =answer.body.Sailings }"),
            "=list.body",
            "“next” is missing",
        ),
        (
            good.replace("list:", "page:"),
            "=page.body",
            "a call cannot be named “page”, which means something else",
        ),
        (good.clone(), "=page", "“page” is not known here"),
        (
            list("pages: { items: =answer.body.Sailings, next: =page }, otherwise: [=page]"),
            "=list.body",
            "“page” is not known here",
        ),
        (
            list("pages: { items: =answer.body.Sailings, next: =page, at-most: 5000 }"),
            "=list.body",
            "5000 is no number from 1 to 1000",
        ),
        (
            list("each: '=[1, 2]', at-most: 0").replace("=string(page)", "=string(item)"),
            "=list.body",
            "0 is no number from 1 to 10000",
        ),
        (
            list("each: '=[1, 2]', at-once: 65").replace("=string(page)", "=string(item)"),
            "=list.body",
            "65 is no number from 1 to 64",
        ),
        (
            list("timeout: 3s"),
            "=list.body",
            "“timeout” is not known here",
        ),
    ] {
        let all = told(&calls, reply);
        assert!(
            all.iter().any(|t| t.contains(expected)),
            "{calls}\n{all:#?}\n{expected}"
        );
    }
}
