//! Operations that call nothing answer with examples of their contract.

use crate::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Berths, version: 1.0.0 }
paths:
  /fares/{route}:
    parameters:
      - name: route
        in: path
        required: true
        schema: { type: string, pattern: '^[A-Z]{3}-[A-Z]{3}$' }
        examples: { far-mar: { value: FAR-MAR }, unknown: { value: XXX-YYY }, cabin: { value: FAR-MAR } }
    get:
      operationId: quote
      parameters:
        - { name: passengers, in: query, schema: { type: integer, minimum: 1 }, examples: { cabin: { value: 2 } } }
      responses:
        '404':
          description: no such route
          content: { application/problem+json: { schema: { type: object }, examples: { unknown: { value: { title: No such route } } } } }
        '200':
          description: a fare
          headers: { Tariff: { example: spring }, Content-Length: { example: 9 }, Other: { schema: { type: string } } }
          content:
            application/json:
              schema: { $ref: '#/components/schemas/Fare' }
              examples:
                far-mar: { value: { route: FAR-MAR, fare: 12.50 } }
                cabin: { $ref: '#/components/examples/Cabin' }
            text/csv: { schema: { type: string }, example: \"route,fare\\nFAR-MAR,12.50\\n\" }
  /berths/{berth}:
    parameters: [{ name: berth, in: path, required: true, schema: { type: string } }]
    get:
      operationId: berth
      responses: { '200': { description: a berth, content: { application/json: { schema: { $ref: '#/components/schemas/Berth' } } } } }
    put:
      operationId: setBerth
      requestBody: { required: true, content: { application/json: { schema: { $ref: '#/components/schemas/Berth' } } } }
      responses: { '200': { description: a berth, content: { application/json: { schema: { $ref: '#/components/schemas/Berth' } } } } }
    delete:
      operationId: freeBerth
      responses: { '204': { description: free } }
  /chart:
    get:
      operationId: chart
      responses: { '200': { description: a chart, content: { image/png: {} } } }
components:
  examples: { Cabin: { value: { route: FAR-MAR, fare: 98.00, class: cabin } } }
  schemas:
    Fare: { type: object, required: [fare], properties: { fare: { type: number } } }
    Berth:
      type: object
      required: [berth, length]
      properties:
        berth: { type: string, maxLength: 6 }
        length: { type: integer, minimum: 4, maximum: 90 }
        free: { type: boolean }
";

const FACADE: &str = "operations:
  quote:
  berth: {}
  setBerth: {}
  freeBerth: {}
  chart: {}
";

fn stage() -> Stage {
    let nobody = SocketAddr::from(([127, 0, 0, 1], 9));
    Stage::of(compile_with(nobody, CONTRACT, FACADE))
}

fn ask(stage: &Stage, method: &str, target: &str, rest: &str) -> String {
    let head = format!("{method} {target} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n");
    stage.raw(format!("{head}{rest}").as_bytes())
}

fn get(stage: &Stage, target: &str, fields: &str) -> String {
    ask(stage, "GET", target, &format!("{fields}\r\n"))
}

fn body(reply: &str) -> &str {
    reply.split("\r\n\r\n").nth(1).unwrap_or_default()
}

fn field<'r>(reply: &'r str, name: &str) -> &'r str {
    let mut lines = reply.lines().take_while(|l| !l.is_empty());
    let found = lines.find_map(|l| l.strip_prefix(name)?.strip_prefix(": "));
    found.unwrap_or_default()
}

const ANSWERED_BY: &str = "elm-porch-answered-by";

#[test]
fn the_example_whose_parameters_are_the_request_s_is_answered() {
    let stage = stage();
    for (target, code, json, told) in [
        (
            "/f/fares/FAR-MAR",
            200,
            r#"{"route":"FAR-MAR","fare":12.50}"#,
            "far-mar",
        ),
        (
            "/f/fares/FAR-MAR?passengers=2",
            200,
            r#"{"route":"FAR-MAR","fare":98.00,"class":"cabin"}"#,
            "cabin",
        ),
        (
            "/f/fares/XXX-YYY",
            404,
            r#"{"title":"No such route"}"#,
            "unknown",
        ),
        // Of no example: the first that fits.
        (
            "/f/fares/HOL-LIN?passengers=3",
            200,
            r#"{"route":"FAR-MAR","fare":12.50}"#,
            "far-mar",
        ),
    ] {
        let reply = get(&stage, target, "");
        assert_eq!((status(&reply), body(&reply)), (code, json), "{target}");
        assert_eq!(
            field(&reply, ANSWERED_BY),
            format!("contract;example=\"{told}\"")
        );
    }
    let reply = get(&stage, "/f/fares/FAR-MAR", "");
    assert_eq!(field(&reply, "tariff"), "spring");
    assert_eq!(field(&reply, "other"), "");
    assert_eq!(field(&reply, "content-type"), "application/json");
}

#[test]
fn the_media_type_is_the_one_that_is_asked_for() {
    let stage = stage();
    let csv = get(
        &stage,
        "/f/fares/HOL-LIN",
        "Accept: text/csv, */*;q=0.1\r\n",
    );
    assert_eq!(field(&csv, "content-type"), "text/csv");
    assert_eq!(body(&csv), "route,fare\nFAR-MAR,12.50\n");
    assert_eq!(field(&csv, ANSWERED_BY), "contract");
    assert_eq!(field(&csv, "vary"), "accept");
    let none = get(&stage, "/f/fares/HOL-LIN", "Accept: image/png\r\n");
    assert_eq!(status(&none), 406, "{none}");
    assert!(none.contains("application/json or text/csv"), "{none}");
    // What nothing can be made of is told, and blames nobody else.
    assert_eq!(status(&get(&stage, "/f/chart", "")), 501);
}

#[test]
fn what_has_no_example_is_made_of_its_schema_and_says_what_the_request_says() {
    let stage = stage();
    let reply = get(&stage, "/f/berths/N7", "");
    assert_eq!(body(&reply), r#"{"berth":"N7","length":4,"free":true}"#);
    assert_eq!(field(&reply, ANSWERED_BY), "contract;made");
    assert_eq!(body(&reply), body(&get(&stage, "/f/berths/N7", "")));
    // Where it would not keep to the schema, the request is not said again.
    let long = get(&stage, "/f/berths/NORTH-QUAY-7", "");
    assert_eq!(body(&long), r#"{"berth":"text","length":4,"free":true}"#);
    let put = |json: &str| {
        let length = json.len();
        let fields =
            format!("Content-Type: application/json\r\nContent-Length: {length}\r\n\r\n{json}");
        ask(&stage, "PUT", "/f/berths/N7", &fields)
    };
    let kept = put(r#"{"berth":"N7","length":31}"#);
    assert_eq!(body(&kept), r#"{"berth":"N7","length":31,"free":true}"#);
    let gone = ask(&stage, "DELETE", "/f/berths/N7", "\r\n");
    assert_eq!((status(&gone), body(&gone)), (204, ""));
}

#[test]
fn requests_are_held_against_the_contract_all_the_same() {
    let stage = stage();
    for target in [
        "/f/fares/far",
        "/f/fares/FAR-MAR?passengers=0",
        "/f/fares/FAR-MAR?passenger=1",
    ] {
        assert_eq!(status(&get(&stage, target, "")), 400, "{target}");
    }
    let put = |fields: &str| ask(&stage, "PUT", "/f/berths/N7", fields);
    assert_eq!(status(&put("Content-Length: 0\r\n\r\n")), 400);
    assert_eq!(
        status(&put("Transfer-Encoding: chunked\r\n\r\n0\r\n\r\n")),
        400
    );
    let wrong = "Content-Type: application/json\r\nContent-Length: 12\r\n\r\n{\"length\":1}";
    let refused = put(wrong);
    assert_eq!(status(&refused), 400);
    assert!(
        refused.contains("/body/length") && refused.contains("/body/berth"),
        "{refused}"
    );
    let other = "Content-Type: text/plain\r\nContent-Length: 1\r\n\r\nx";
    assert_eq!(status(&put(other)), 415);
    // More than a body may be, sent in pieces.
    let big = format!("{:x}\r\n{}\r\n0\r\n\r\n", 2 << 20, "x".repeat(2 << 20));
    let fields = "Content-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n";
    assert_eq!(status(&put(&format!("{fields}{big}"))), 413);
}
