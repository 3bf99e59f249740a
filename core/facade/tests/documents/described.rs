//! Documents derived from descriptions of HTTP backends, however they were written.

use super::*;

const DESCRIPTION: &str = "openapi: 3.0.3
info: { title: Quay store rooms, version: '7', x-inside: secret }
servers: [{ url: 'https://inside.skerry.example/api' }]
x-build: { agent: inside-3 }
tags: [{ name: rooms }, { name: staff }]
security: [{ internal: [] }]
paths:
  /v1/rooms/{room}:
    servers: [{ url: 'https://other.skerry.example' }]
    get:
      tags: [rooms]
      security: [{ internal: [] }]
      callbacks: { done: { '{$request.query.url}': { post: { responses: { '200': { description: ok } } } } } }
      responses:
        '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/Room' } } } }
    put: { operationId: change, parameters: [{ name: nowhere, in: path, required: true, schema: { type: string } }, { name: room, in: path, required: true, schema: { type: string } }] }
  /v1/staff:
    get: { operationId: change, tags: [staff], responses: { '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/Staff' } } } } } }
webhooks: { late: { post: { responses: { '200': { description: ok } } } } }
components:
  securitySchemes: { internal: { type: http, scheme: basic } }
  schemas:
    Room: { type: object, properties: { shelf: { $ref: '#/components/schemas/Shelf' } }, discriminator: { propertyName: kind, mapping: { cold: Cold } } }
    Shelf: { type: object, properties: { above: { $ref: '#/components/schemas/Shelf' } } }
    Cold: { type: object }
    Staff: { type: object, properties: { salary: { type: number } } }
    Nobody: { type: object }
";

fn source(text: &str) -> Source {
    Source {
        files: Files::from([("rooms.yaml".to_owned(), text.to_owned())]),
        main: "rooms.yaml".into(),
        ..Source::default()
    }
}

fn errors(files: &Files) -> Vec<String> {
    let found = check(files, "live");
    let errors = found.iter().filter(|f| f.severity == Severity::Error);
    errors.map(|f| first(std::slice::from_ref(f))).collect()
}

#[test]
fn the_contract_is_the_facades_own_and_no_copy_of_the_description() {
    let derived = derive(&source(DESCRIPTION), "rooms", None, &[]).unwrap();
    assert_eq!(derived.operations, 3);
    assert_eq!(errors(&derived.files), Vec::<String>::new());
    let facade = &derived.files["rooms.facade.yaml"];
    // The paths have a version already.
    assert!(facade.contains("base: /rooms\n"), "{facade}");
    for id in ["getV1RoomsByRoom:", "change:", "getV1Staff:"] {
        assert!(facade.contains(id), "no {id} in {facade}");
    }
    let text = &derived.files["rooms.openapi.yaml"];
    let contract = porch_contract::Node::parse(text).unwrap().to_value();
    assert_eq!(
        contract["servers"],
        serde_json::json!([{ "url": "/rooms" }])
    );
    assert_eq!(contract["security"], serde_json::json!([{ "key": [] }]));
    let schemes = contract["components"]["securitySchemes"]
        .as_object()
        .unwrap();
    assert_eq!(schemes.keys().collect::<Vec<_>>(), ["key"]);
    for gone in [
        "inside.skerry",
        "other.skerry",
        "internal",
        "agent",
        "webhooks",
        "callbacks",
        "Nobody",
    ] {
        assert!(!text.contains(gone), "{gone} is in {text}");
    }
    let one = derive(
        &source(DESCRIPTION),
        "rooms",
        None,
        &["getV1RoomsByRoom".into()],
    )
    .unwrap();
    assert_eq!(errors(&one.files), Vec::<String>::new());
    let text = &one.files["rooms.openapi.yaml"];
    for gone in ["staff", "Staff", "salary", "change"] {
        assert!(!text.contains(gone), "{gone} is in {text}");
    }
    for kept in ["Room:", "Shelf:", "Cold:", "room"] {
        assert!(text.contains(kept), "{kept} is not in {text}");
    }
}

#[test]
fn descriptions_of_every_kind_of_carelessness_give_documents_that_pass() {
    let careless = [
        // No ids, no responses, no parameters, no schema at all.
        "openapi: 3.1.0\ninfo: { title: '', version: 1.0 }\npaths:\n  /a/{b}/{c}: { get: {}, delete: { description: x } }\n  /: { post: { requestBody: { content: { text/plain: {} } } } }\n",
        // A server with a variable, a title that is too long for a name, one path that cannot be.
        "openapi: 3.1.0\ninfo: { title: T, version: '1' }\nservers: [{ url: 'https://{region}.example/x' }]\npaths:\n  /a b: { get: { responses: { '200': { description: ok } } } }\n  /good: { get: { responses: { '200': { description: ok } } } }\n",
        // References to nothing, and in circles.
        "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n  /a: { get: { operationId: a, responses: { '200': { description: ok, content: { application/json: { schema: { $ref: '#/components/schemas/A' } } } } } } }\ncomponents: { schemas: { A: { $ref: '#/components/schemas/B' }, B: { $ref: '#/components/schemas/A' } } }\n",
        // Methods that have no place of their own.
        "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n  /a:\n    get: { operationId: read }\n    x-additionalOperations: { LOCK: { operationId: lock }, UNLOCK: { operationId: unlock } }\n",
        // Parameters of the item, one of them again at the operation.
        "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths:\n  /a/{b}:\n    parameters: [{ $ref: '#/components/parameters/B' }]\n    get: { parameters: [{ name: b, in: path, required: true, schema: { type: integer } }] }\n    put: {}\ncomponents: { parameters: { B: { name: b, in: path, required: true, schema: { type: string } } } }\n",
    ];
    for (i, text) in careless.iter().enumerate() {
        let derived = derive(&source(text), "t", None, &[]).unwrap();
        assert!(derived.operations > 0, "{i}");
        let wrong = errors(&derived.files);
        assert!(
            wrong.is_empty(),
            "{i}: {wrong:?}\n{}",
            derived.files["t.openapi.yaml"]
        );
    }
    let one = derive(&source(careless[3]), "t", None, &["lock".into()]).unwrap();
    let text = &one.files["t.openapi.yaml"];
    assert!(
        text.contains("operationId: lock") && !text.contains("unlock") && !text.contains("read"),
        "{text}"
    );
    let nothing = "openapi: 3.1.0\ninfo: { title: T, version: '1' }\npaths: {}\n";
    let refused = derive(&source(nothing), "t", None, &[]).unwrap_err();
    assert!(
        refused.message.contains("no operation"),
        "{}",
        refused.message
    );
}

#[test]
fn paths_that_fit_two_operations_are_told_with_the_one_that_gets_them() {
    let text = "openapi: 3.1.0
info: { title: T, version: '1' }
paths:
  /rooms/{room}: { get: { operationId: one, parameters: [{ name: room, in: path, required: true, schema: { type: string } }], responses: { '200': { description: ok } } } }
  /{kind}/list: { get: { operationId: all, parameters: [{ name: kind, in: path, required: true, schema: { type: string } }], responses: { '200': { description: ok } } } }
  /rooms/best: { get: { operationId: best, responses: { '200': { description: ok } } } }
";
    let derived = derive(&source(text), "t", Some("http://127.0.0.1:9"), &[]).unwrap();
    let found = check(&derived.files, "live");
    let told: Vec<String> = found
        .iter()
        .map(|f| first(std::slice::from_ref(f)))
        .collect();
    assert_eq!(told.len(), 1, "{told:?}");
    let said =
        "some paths fit both /{kind}/list of “all” and /rooms/{room} of “one”: they go to “one”";
    assert!(told[0].contains(said), "{told:?}");
    assert_eq!(found[0].severity, Severity::Warning);
}

#[test]
fn documents_are_derived_in_the_shape_that_was_chosen_or_the_reason_is_told() {
    let derived = || {
        derive(
            &wsdl(),
            "kiosk",
            None,
            &["QuoteFare".into(), "HoldSeats".into()],
        )
        .unwrap()
    };
    let shaped = |id: &str, new: Shaped| Choices {
        operations: [(id.to_owned(), new)].into(),
        ..Choices::default()
    };
    let of = |id: &str, method: &str, path: &str| Shaped {
        id: Some(id.into()),
        method: Some(method.into()),
        path: Some(path.into()),
    };
    let choices = Choices {
        key: Some(false),
        limit: Some(Allowed {
            requests: 7,
            window: " 90s ".into(),
        }),
        ..shaped("quoteFare", of("readFare", "", "/routes/{routeCode}/fare"))
    };
    let made = derived().shaped("kiosk", &choices).unwrap();
    assert_eq!(errors(&made.files), Vec::<String>::new());
    let (facade, contract) = (
        &made.files["kiosk.facade.yaml"],
        &made.files["kiosk.openapi.yaml"],
    );
    for (text, part) in [
        (facade, "readFare:"),
        (facade, "credentials: []"),
        (facade, "window: \"90s\""),
        (facade, "per: address"),
        (contract, "/routes/{routeCode}/fare:"),
        (contract, "operationId: readFare"),
        (contract, "security: []"),
    ] {
        assert!(text.contains(part), "no {part} in {text}");
    }
    assert!(!facade.contains("quoteFare") && !contract.contains("quoteFare"));
    for (id, new, why) in [
        (
            "quoteFare",
            of("holdSeats", "", ""),
            "“holdSeats” is the id of another operation",
        ),
        (
            "quoteFare",
            of("", "", "/fares"),
            "keeps the variables {routeCode}",
        ),
        (
            "quoteFare",
            of("", "", "/fares/{routeCode}/{more}"),
            "keeps the variables {routeCode}",
        ),
        ("holdSeats", of("", "", "/seats/{id}"), "has no variables"),
        (
            "holdSeats",
            of("", "GET", ""),
            "it has a body, which GET has not",
        ),
        ("holdSeats", of("", "LOCK", ""), "“lock” is no method"),
        (
            "quoteFare",
            of("", "", "fares/{routeCode}"),
            "begins with “/”",
        ),
        ("nothing", of("", "", ""), "no such operation"),
    ] {
        let refused = derived().shaped("kiosk", &shaped(id, new)).unwrap_err();
        assert!(refused.message.contains(why), "{why}: {}", refused.message);
    }
}
