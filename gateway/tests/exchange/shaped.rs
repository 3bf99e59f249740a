//! Parameters that are objects, lists in a path, JSON or cookies.

use crate::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Seats, version: 1.0.0 }
paths:
  /rows/{rows}:
    get:
      operationId: rows
      parameters:
        - { name: rows, in: path, required: true, schema: { type: array, maxItems: 3, items: { type: integer } } }
        - { name: filter, in: query, style: deepObject, required: true, schema: { type: object, additionalProperties: false, properties: { deck: { type: integer, maximum: 4 }, kind: { type: array, items: { enum: [cabin, seat] } } } } }
        - { name: at, in: query, content: { application/json: { schema: { type: object, required: [quay], properties: { quay: { type: string } } } } } }
        - { name: span, in: query, explode: false, schema: { type: object, properties: { from: { type: string, format: date } } } }
        - { name: empty, in: query, allowEmptyValue: true, schema: { type: integer } }
        - { name: Page, in: header, schema: { type: object, properties: { size: { type: integer } } } }
        - { name: Sizes, in: header, content: { application/json: { schema: { type: array } } } }
        - { name: desk, in: cookie, required: true, schema: { type: string, pattern: '^D[0-9]$' } }
      responses: { '200': { description: ok } }
  /m/{a}/{b}/{c}/{d}:
    get:
      operationId: styles
      parameters:
        - { name: a, in: path, required: true, style: matrix, schema: { type: integer, maximum: 9 } }
        - { name: b, in: path, required: true, style: matrix, explode: true, schema: { type: array, items: { type: integer }, maxItems: 2 } }
        - { name: c, in: path, required: true, style: label, explode: true, schema: { type: array, items: { type: string, maxLength: 2 } } }
        - { name: d, in: path, required: true, style: simple, schema: { type: object, required: [x], properties: { x: { type: integer } } } }
      responses: { '200': { description: ok } }
  /any:
    get:
      operationId: any
      parameters:
        - { name: more, in: query, required: true, schema: { type: object, properties: { n: { type: integer } }, additionalProperties: { type: string, maxLength: 3 } } }
        - { name: own, in: query, schema: { type: string } }
      responses: { '200': { description: ok } }
";

const FACADE: &str = "operations:
  rows: { call: { backend: b } }
  styles: { call: { backend: b } }
  any: { call: { backend: b } }
";

#[test]
fn parameters_of_every_style_are_held_against_their_schemas() {
    let backend = Scripted::start(|_, request| plain(&format!("{:?}", request.lines().next())));
    let mut wrongs: Vec<String> = Vec::new();
    let stage = Stage::of(compile_with(backend.address, CONTRACT, FACADE));
    let good = "filter[deck]=2&filter%5Bkind%5D=cabin&filter[kind]=seat&at=%7B%22quay%22%3A%22N7%22%7D&span=from,2027-05-14&empty=";
    let fields = "Cookie: a=b; desk=D7\r\nPage: size,20\r\nSizes: [1]\r\n";
    let reply = stage.get(&format!("/f/rows/1,2,3?{good}"), fields);
    assert_eq!(status(&reply), 200, "{reply}");
    // What the backend gets is what the caller wrote.
    assert!(
        reply.contains("/inner/rows/1,2,3?filter[deck]=2&filter%5Bkind%5D=cabin"),
        "{reply}"
    );
    for (path, query, fields, wrong) in [
        ("1,x", good, fields, "/path/rows must be a whole number"),
        (
            "1,2,3,4",
            good,
            fields,
            "/path/rows must have at most 3 items",
        ),
        (
            "1",
            "filter[deck]=9",
            fields,
            "/query/filter/deck must be 4 or less",
        ),
        (
            "1",
            "filter[deck]=x",
            fields,
            "/query/filter “deck” must be a whole number",
        ),
        (
            "1",
            "filter[kind]=berth",
            fields,
            "/query/filter/kind/0 is none of cabin, seat",
        ),
        (
            "1",
            "filter[dek]=1",
            fields,
            "/query/filter/dek is not known here; did you mean “deck”?",
        ),
        ("1", "", fields, "/query/filter must be there"),
        (
            "1",
            "filter[deck]=1&filtre[deck]=1",
            fields,
            "/query/filtre[deck] is not known here",
        ),
        (
            "1",
            "filter[deck]=1&at={}",
            fields,
            "/query/at/quay must be there",
        ),
        (
            "1",
            "filter[deck]=1&at=quay",
            fields,
            "/query/at is no JSON",
        ),
        (
            "1",
            "filter[deck]=1&span=from,soon",
            fields,
            "/query/span/from is no date",
        ),
        (
            "1",
            "filter[deck]=1&span=from",
            fields,
            "/query/span “from” has no value",
        ),
        (
            "1",
            "filter[deck]=1&span=a,b&span=c,d",
            fields,
            "/query/span stands twice",
        ),
        (
            "1",
            "filter[deck]=1&empty=x",
            fields,
            "/query/empty must be a whole number",
        ),
        (
            "1",
            "filter[deck]=1",
            "Cookie: desk=E7\r\n",
            "/cookie/desk does not match",
        ),
        ("1", "filter[deck]=1", "", "/cookie/desk must be there"),
        (
            "1",
            "filter[deck]=1",
            "Cookie: desk=D7\r\nPage: size,x\r\n",
            "/header/Page “size” must be",
        ),
        (
            "1",
            "filter[deck]=1",
            "Cookie: desk=D7\r\nSizes: {}\r\n",
            "/header/Sizes must be a list",
        ),
    ] {
        let reply = stage.get(&format!("/f/rows/{path}?{query}"), fields);
        let told = keeping::errors(&reply).join("; ");
        assert_eq!(status(&reply), 400, "{wrong}: {reply}");
        if !told.contains(wrong) {
            wrongs.push(format!("{wrong}: {told}"));
        }
    }
    for (path, wrong) in [
        (";a=5/;b=1;b=2/.ab.c/x,1", ""),
        ("5/;b=1/.ab/x,1", "/path/a must begin with a semicolon"),
        (";z=5/;b=1/.ab/x,1", "/path/a must begin with ;a="),
        (";a=50/;b=1/.ab/x,1", "/path/a must be 9 or less"),
        (
            ";a=5/;b=1;b=2;b=3/.ab/x,1",
            "/path/b must have at most 2 items",
        ),
        (";a=5/;b=1/ab/x,1", "/path/c must begin with a full stop"),
        (
            ";a=5/;b=1/.abc/x,1",
            "/path/c/0 must have at most 2 characters",
        ),
        (";a=5/;b=1/.ab/y,1", "/path/d/x must be there"),
    ] {
        let reply = stage.get(&format!("/f/m/{path}"), "");
        let told = keeping::errors(&reply).join("; ");
        assert_eq!(
            status(&reply),
            if wrong.is_empty() { 200 } else { 400 },
            "{path}: {reply}"
        );
        if !told.contains(wrong) {
            wrongs.push(format!("{wrong}: {told}"));
        }
    }
    for (query, wrong) in [
        ("n=1&x=abc&own=long-enough", ""),
        ("n=one", "/query/more “n” must be a whole number"),
        ("x=abcd", "/query/more/x must have at most 3 characters"),
        ("own=1", "/query/more must be there"),
    ] {
        let reply = stage.get(&format!("/f/any?{query}"), "");
        let told = keeping::errors(&reply).join("; ");
        assert_eq!(
            status(&reply),
            if wrong.is_empty() { 200 } else { 400 },
            "{query}: {reply}"
        );
        if !told.contains(wrong) {
            wrongs.push(format!("{wrong}: {told}"));
        }
    }
    // Much of it is bounded, and told once.
    let many = "x[a]=1&".repeat(3000);
    let reply = stage.get(
        &format!("/f/rows/1?{many}filter[deck]=1"),
        "Cookie: desk=D7\r\n",
    );
    assert_eq!(status(&reply), 400);
    assert!(wrongs.is_empty(), "{wrongs:#?}");
}

/// What stands far behind is held against the contract too, or all of it is refused.
#[test]
fn nothing_passes_for_being_far_behind() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let stage = Stage::of(compile_with(backend.address, CONTRACT, FACADE));
    let styles = |c: &str| stage.get(&format!("/f/m/;a=1/;b=1/{c}/x,1"), "");
    assert_eq!(status(&styles(&".a".repeat(1_000))), 200);
    for c in [
        ".a".repeat(999) + ".long",
        ".a".repeat(1_001),
        ".a".repeat(3_000) + ".long",
    ] {
        let reply = styles(&c);
        assert_eq!(status(&reply), 400, "{reply}");
        assert!(reply.contains("/path/c"), "{reply}");
    }
    let others = "a=b; ".repeat(1_100);
    for (desk, wanted) in [("D7", 200), ("nobody", 400)] {
        let fields = format!("Cookie: {others}desk={desk}\r\n");
        let reply = stage.get("/f/rows/1?filter[deck]=2", &fields);
        assert_eq!(status(&reply), wanted, "{desk}: {reply}");
    }
}
