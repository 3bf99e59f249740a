//! Contracts as callers meet them: what is read of one, what is wrong with it, and what changes from one to the next.

use porch_contract::{Change, Contract, Harm, Place, Severity, compare, parse_contract};
use serde_json::json;

/// A contract with one operation; `more` stands below it.
fn contract(operation: &str, more: &str) -> Contract {
    let text = format!(
        "openapi: 3.1.0\ninfo: {{ title: Fares, version: 1.0.0 }}\npaths:\n  /fares/{{route}}:\n    post:\n      operationId: quoteFare\n{operation}{more}"
    );
    let (contract, findings) = parse_contract("c.yaml", &text);
    assert_eq!(findings, [], "{text}");
    contract.unwrap()
}

const ROUTE: &str = "{ name: route, in: path, required: true }";

/// With these parameters, and bodies of these schemas.
fn quote(parameters: &str, request: &str, reply: &str) -> Contract {
    let operation = format!(
        "      parameters: [{ROUTE}{parameters}]\n      requestBody: {{ content: {{ application/json: {{ schema: {request} }} }} }}\n      responses:\n        '200': {{ description: ok, content: {{ application/json: {{ schema: {reply} }} }} }}\n"
    );
    contract(&operation, "")
}

fn told(old: &Contract, new: &Contract) -> Vec<(Harm, String)> {
    let changes = compare(old, new);
    let words = |c: Change| (c.harm, c.what);
    changes.into_iter().map(words).collect()
}

fn object(members: &str, required: &str) -> String {
    format!("{{ type: object, properties: {{ {members} }}, required: [{required}] }}")
}

#[test]
fn what_a_changed_request_does_to_callers() {
    let old = object("seats: { type: integer }, note: { type: string }", "seats");
    let all = |members: &str, required: &str| object(members, required);
    for (new, wanted) in [
        (old.clone(), vec![]),
        // A member more is nothing to those who do not send it, unless it must be sent.
        (
            all("seats: { type: integer }, note: { type: string }, berth: { type: string }", "seats"),
            vec![(Harm::Adds, "the request's “berth” is new")],
        ),
        (
            all("seats: { type: integer }, note: { type: string }, berth: { type: string }", "seats, berth"),
            vec![(Harm::Breaks, "the request's “berth” is new and must be sent")],
        ),
        (
            all("seats: { type: integer }, note: { type: string }", "seats, note"),
            vec![(Harm::Breaks, "the request's “note” must now be sent")],
        ),
        // What need not be sent any more breaks nobody.
        (all("seats: { type: integer }, note: { type: string }", ""), vec![]),
        (
            all("seats: { type: string }, note: { type: string }", "seats"),
            vec![(Harm::Breaks, "the request's “seats” goes from integer to string")],
        ),
        // Where other members are allowed, one that is gone is still taken.
        (
            "{ type: object, properties: { seats: { type: integer } }, required: [seats], additionalProperties: true }".into(),
            vec![],
        ),
        (all("seats: { type: integer }", "seats"), vec![(Harm::Breaks, "the request's “note” is gone")]),
        (
            all("seats: { type: [integer, 'null'] }, note: { anyOf: [{ type: string }, { type: 'null' }] }", "seats"),
            vec![],
        ),
    ] {
        let changes = told(&quote("", &old, "{}"), &quote("", &new, "{}"));
        let wanted: Vec<_> = wanted.into_iter().map(|(h, w)| (h, w.to_owned())).collect();
        assert_eq!(changes, wanted, "{new}");
    }
}

#[test]
fn whoever_could_send_nothing_in_words_can_no_longer() {
    let null = object(
        "seats: { type: [integer, 'null'] }, note: { anyOf: [{ type: string }, { type: 'null' }] }",
        "",
    );
    let none = object("seats: { type: integer }, note: { type: string }", "");
    let changes = told(&quote("", &null, "{}"), &quote("", &none, "{}"));
    let wanted = ["seats", "note"].map(|m| {
        (
            Harm::Breaks,
            format!("the request's “{m}” may no longer be null"),
        )
    });
    assert_eq!(changes, wanted);
    assert_eq!(told(&quote("", "{}", &null), &quote("", "{}", &none)), []);
}

#[test]
fn what_a_changed_reply_does_to_callers() {
    let old = object("fare: { type: number }, note: { type: string }", "fare");
    for (new, wanted) in [
        (old.clone(), vec![]),
        (
            object("fare: { type: number }", "fare"),
            vec![(Harm::Breaks, "the reply's “note” is gone")],
        ),
        (
            object("fare: { type: number }, note: { type: string }", ""),
            vec![(Harm::Breaks, "the reply's “fare” may now be absent")],
        ),
        (
            object(
                "fare: { type: number }, note: { type: string }",
                "fare, note",
            ),
            vec![],
        ),
        (
            object(
                "fare: { type: number }, note: { type: string }, tax: { type: number }",
                "fare, tax",
            ),
            vec![(Harm::Adds, "the reply's “tax” is new")],
        ),
        (
            object(
                "fare: { type: [number, 'null'] }, note: { type: string }",
                "fare",
            ),
            vec![(Harm::Breaks, "the reply's “fare” may now be null")],
        ),
    ] {
        let changes = told(&quote("", "{}", &old), &quote("", "{}", &new));
        let wanted: Vec<_> = wanted.into_iter().map(|(h, w)| (h, w.to_owned())).collect();
        assert_eq!(changes, wanted, "{new}");
    }
}

#[test]
fn members_of_members_and_of_lists_are_compared_and_named_by_their_way() {
    let inner = |leaf: &str| {
        format!(
            "{{ type: object, properties: {{ legs: {{ type: array, items: {{ type: object, properties: {{ from: {{ type: object, properties: {{ {leaf} }} }} }} }} }} }} }}"
        )
    };
    let (old, new) = (
        inner("pier: { type: integer }"),
        inner("pier: { type: string }"),
    );
    let changes = told(&quote("", "{}", &old), &quote("", "{}", &new));
    assert_eq!(
        changes,
        [(
            Harm::Breaks,
            "the reply's legs / from / “pier” goes from integer to string".to_owned()
        )]
    );
}

#[test]
fn what_is_deprecated_is_told_and_breaks_nobody() {
    let of = |line: &str| {
        let replies = "      responses: { '200': { description: ok } }\n";
        contract(&format!("{line}      parameters: [{ROUTE}]\n{replies}"), "")
    };
    let (plain, deprecated) = (of(""), of("      deprecated: true\n"));
    let said = |what: &str| [(Harm::Tells, what.to_owned())];
    assert_eq!(told(&plain, &deprecated), said("is deprecated"));
    assert_eq!(
        told(&deprecated, &plain),
        said("is not deprecated any more")
    );
    assert_eq!(told(&deprecated, &deprecated), []);
}

#[test]
fn what_changed_parameters_do_to_callers() {
    let day = ", { name: day, in: query, schema: { type: string } }";
    for (old, new, wanted) in [
        ("", day, vec![(Harm::Adds, "the parameter “day” is new")]),
        (
            "",
            ", { name: day, in: query, required: true, schema: { type: string } }",
            vec![(Harm::Breaks, "the parameter “day” is new and must be sent")],
        ),
        (day, "", vec![(Harm::Breaks, "the parameter “day” is gone")]),
        (
            day,
            ", { name: day, in: query, required: true, schema: { type: string } }",
            vec![(Harm::Breaks, "the parameter “day” must now be sent")],
        ),
        (
            day,
            ", { name: day, in: query, schema: { type: integer } }",
            vec![(
                Harm::Breaks,
                "the parameter “day” goes from string to integer",
            )],
        ),
        // The same name at another place is another parameter.
        (
            day,
            ", { name: day, in: header, schema: { type: string } }",
            vec![
                (Harm::Breaks, "the parameter “day” is gone"),
                (Harm::Adds, "the parameter “day” is new"),
            ],
        ),
    ] {
        let changes = told(&quote(old, "{}", "{}"), &quote(new, "{}", "{}"));
        let wanted: Vec<_> = wanted.into_iter().map(|(h, w)| (h, w.to_owned())).collect();
        assert_eq!(changes, wanted, "{old} → {new}");
    }
}

#[test]
fn operations_come_go_and_move() {
    let one = "      parameters: [{ name: route, in: path, required: true }]\n      responses: { '200': { description: ok } }\n";
    let other = "  /harbours:\n    get: { operationId: listHarbours, responses: { '200': { description: ok } } }\n";
    let (short, long) = (contract(one, ""), contract(one, other));
    assert_eq!(
        told(&short, &long),
        [(Harm::Adds, "GET /harbours is new".to_owned())]
    );
    assert_eq!(
        told(&long, &short),
        [(Harm::Breaks, "GET /harbours is gone".to_owned())]
    );
    let moved = contract(one, &other.replace("/harbours", "/ports"));
    assert_eq!(
        told(&long, &moved),
        [(Harm::Breaks, "GET /harbours becomes GET /ports".to_owned())]
    );
    let mut newer = long.clone();
    newer.version = "2.0.0".into();
    assert_eq!(
        told(&long, &newer),
        [(
            Harm::Tells,
            "the version goes from 1.0.0 to 2.0.0".to_owned()
        )]
    );
}

#[test]
fn references_stand_for_what_they_refer_to() {
    let schemas = "components:\n  schemas:\n    Fare: { type: object, properties: { amount: { $ref: '#/components/schemas/Amount' } }, required: [amount] }\n    Amount: { type: number }\n  parameters:\n    Route: { name: route, in: path, required: true, schema: { type: string } }\n";
    let operation = "      parameters: [{ $ref: '#/components/parameters/Route' }]\n      responses:\n        '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/Fare' } } } }\n";
    let read = contract(operation, schemas);
    let quote = &read.operations["quoteFare"];
    assert_eq!(quote.parameters.len(), 1);
    assert_eq!(
        (quote.parameters[0].name.as_str(), quote.parameters[0].place),
        ("route", Place::Path)
    );
    let reply = quote.reply.clone().unwrap();
    assert_eq!(read.view(&reply).sample(), json!({ "amount": 1 }));
    let changed = contract(
        operation,
        &schemas.replace("Amount: { type: number }", "Amount: { type: string }"),
    );
    assert_eq!(
        told(&read, &changed),
        [(
            Harm::Breaks,
            "the reply's “amount” goes from number to string".to_owned()
        )]
    );
}

#[test]
fn what_is_wrong_with_a_contract_is_told_where_it_stands() {
    let head = "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths:\n";
    let ok = "responses: { '200': { description: ok } }";
    for (paths, line, said) in [
        (format!("  /a:\n    get: {{ {ok} }}\n"), 5, "operationId"),
        (
            format!(
                "  /a:\n    get: {{ operationId: a, {ok} }}\n  /b:\n    get: {{ operationId: a, {ok} }}\n"
            ),
            7,
            "a",
        ),
        (
            format!("  /a/{{x}}:\n    get: {{ operationId: a, {ok} }}\n"),
            5,
            "{x}",
        ),
        (
            format!(
                "  /a:\n    get:\n      operationId: a\n      parameters:\n        - {{ name: q, in: body }}\n      {ok}\n"
            ),
            8,
            "not “body”",
        ),
        (
            format!("  /a/{{x:\n    get: {{ operationId: a, {ok} }}\n"),
            4,
            "",
        ),
    ] {
        let (_, findings) = parse_contract("c.yaml", &format!("{head}{paths}"));
        let errors: Vec<_> = findings
            .iter()
            .filter(|f| f.severity == Severity::Error)
            .collect();
        assert!(
            errors
                .iter()
                .any(|f| f.line == line && f.message.contains(said)),
            "{paths}: {findings:?}"
        );
        assert!(findings.iter().all(|f| f.file == "c.yaml"));
    }
    let cookie = format!(
        "{head}  /a:\n    get: {{ operationId: a, parameters: [{{ name: c, in: cookie }}], {ok} }}\n"
    );
    let (contract, findings) = parse_contract("c.yaml", &cookie);
    assert_eq!(findings, []);
    let contract = contract.unwrap();
    assert_eq!(contract.operations["a"].cookies[0].name, "c");
    assert!(contract.operations["a"].parameters.is_empty());
}
