use super::*;

const FARES: &str = "openapi: 3.1.0
info: { title: Fares, version: 2.1.0 }
paths:
  /fares/{route}:
    parameters:
      - { name: route, in: path, required: true, schema: { type: string } }
    get:
      operationId: quoteFare
      parameters:
        - { name: passengers, in: query, schema: { type: integer } }
      responses:
        '200': { description: ok, content: { application/json: { schema: { type: object } } } }
components:
  securitySchemes:
    key: { type: apiKey, in: header, name: Ferry-Key }
";

#[test]
fn operations_parameters_and_the_key_header_are_read() {
    let (contract, findings) = parse("fares.yaml", FARES);
    assert_eq!(findings, []);
    let contract = contract.unwrap();
    let quote = &contract.operations["quoteFare"];
    assert_eq!(
        (quote.method.as_str(), quote.path.to_string().as_str()),
        ("GET", "/fares/{route}")
    );
    assert_eq!(
        quote
            .parameters
            .iter()
            .map(|p| (p.name.as_str(), p.required))
            .collect::<Vec<_>>(),
        [("route", true), ("passengers", false)]
    );
    assert_eq!(contract.key_header.as_deref(), Some("Ferry-Key"));
}

#[test]
fn a_variable_nobody_describes_is_an_error_with_a_place() {
    let (_, findings) = parse(
        "fares.yaml",
        &FARES.replace("name: route, in", "name: rout, in"),
    );
    assert_eq!(findings.len(), 2);
    assert_eq!((findings[0].line, findings[0].column), (7, 5));
    assert!(findings[0].message.contains("{route}"));
}

#[test]
fn what_is_not_openapi_is_refused() {
    assert!(parse("x", "a: 1").0.is_none());
    assert!(parse("x", "\u{0}").0.is_none());
}
