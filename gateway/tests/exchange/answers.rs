//! Replies that are held against the contract; what is taken out of requests.

use crate::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Seats, version: 1.0.0 }
paths:
  /fare:
    get:
      operationId: fare
      parameters: [{ name: day, in: query, schema: { type: string } }]
      responses:
        '200':
          description: ok
          content:
            application/json:
              schema: { type: object, required: [fare], properties: { fare: { type: number }, note: { type: string, writeOnly: true } } }
        4XX: { description: refused }
    put:
      operationId: hold
      requestBody:
        required: true
        content:
          application/json:
            schema:
              type: object
              additionalProperties: false
              properties:
                id: { type: integer, readOnly: true }
                price: { type: number }
                rows: { type: array, items: { type: object, properties: { id: { type: integer, readOnly: true }, n: { type: integer } } } }
      responses: { '200': { description: ok } }
";

fn stage(backend: &Scripted, kept: &str) -> Stage {
    let facade = format!(
        "operations:\n  fare: {{ call: {{ backend: b }}, answers: {kept}, admit: {{ unknown-query: drop }} }}\n  hold: {{ call: {{ backend: b }}, admit: {{ read-only: drop }} }}\n"
    );
    Stage::of(compile_with(backend.address, CONTRACT, &facade))
}

fn get(stage: &Stage, target: &str) -> String {
    stage.raw(format!("GET {target} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").as_bytes())
}

fn answer(status: &str, kind: &str, body: &str) -> Vec<u8> {
    let length = body.len();
    format!("HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {length}\r\n\r\n{body}")
        .into_bytes()
}

/// What a gateway wrote down until it was stopped.
fn records(mut stage: Stage) -> (Vec<porch_gateway::Trace>, Vec<porch_gateway::UsageRow>) {
    stage.gateway.take().unwrap().stop();
    let (mut traces, mut rows) = (Vec::new(), Vec::new());
    while let Ok(record) = stage.records.try_recv() {
        match record {
            Record::Trace(trace) => traces.push(*trace),
            Record::Usage(more) => rows.extend(more),
            Record::Copies(_) | Record::Quota(_) => {}
        }
    }
    (traces, rows)
}

/// A backend that answers what its query asks for.
fn backend() -> Scripted {
    Scripted::start(|_, request| {
        let day = request.split("day=").nth(1).unwrap_or_default();
        let json = "application/json; charset=utf-8";
        match day.split([' ', '&']).next().unwrap_or_default() {
            "good" => answer("200 OK", json, r#"{"fare":12.50}"#),
            "wrong" => answer("200 OK", json, r#"{"fare":"12","note":3}"#),
            "chunked" => b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nTransfer-Encoding: chunked\r\n\r\n7\r\n{\"fare\"\r\n3\r\n:1}\r\n0\r\n\r\n".to_vec(),
            "page" => answer("200 OK", "text/html", "<p>welcome</p>"),
            // It says again what it was shown.
            "echo" => answer("200 OK", "text/tide-and-tackle", "x"),
            "broken" => answer("200 OK", json, r#"{"fare":"#),
            "teapot" => answer("418 I am a teapot", "text/plain", "short and stout"),
            "moved" => answer("302 Found", "text/plain", ""),
            _ => answer("200 OK", json, &format!("{{\"fare\":1,\"seen\":{:?}}}", request.lines().next())),
        }
    })
}

#[test]
fn replies_that_do_not_fit_are_refused_or_counted_and_told() {
    let backend = backend();
    let refusing = stage(&backend, "refuse");
    let mut expected = Vec::new();
    for (day, status_of, why) in [
        ("good", 200, ""),
        ("chunked", 200, ""),
        // The contract says nothing of bodies of this class.
        ("teapot", 418, ""),
        ("wrong", 502, "/body/fare must be a number"),
        ("page", 502, "200 answers application/json; text/html came"),
        ("broken", 502, "is no JSON"),
        ("moved", 502, "no answer with the status 302"),
    ] {
        let reply = get(&refusing, &format!("/f/fare?day={day}"));
        assert_eq!(status(&reply), status_of, "{day}: {reply}");
        if status_of == 502 {
            assert!(
                reply.contains("problem:answer-contract") || day == "broken",
                "{reply}"
            );
            assert!(
                !reply.contains("welcome") && !reply.contains(why),
                "{reply}"
            );
            expected.push((day, why));
        }
    }
    let good = get(&refusing, "/f/fare?day=good");
    assert!(good.ends_with(r#"{"fare":12.50}"#), "{good}");
    let reporting = stage(&backend, "report");
    let reply = get(&reporting, "/f/fare?day=wrong");
    assert_eq!(status(&reply), 200);
    assert!(reply.ends_with(r#"{"fare":"12","note":3}"#), "{reply}");
    let (traces, _) = records(refusing);
    for (day, why) in expected {
        let mut of_day = traces.iter().filter(|t| t.target.ends_with(day));
        let refusal = of_day.next().and_then(|t| t.refusal.as_ref());
        assert!(
            refusal.is_some_and(|r| r.why.contains(why)),
            "{day}: {refusal:?}"
        );
    }
    for stage in [stage(&backend, "report"), stage(&backend, "refuse")] {
        get(&stage, "/f/fare?day=echo");
        let (traces, _) = records(stage);
        assert_eq!(traces.len(), 1);
        for trace in traces {
            let shown = format!("{} {:?}", trace.misfit, trace.refusal);
            assert!(shown.contains("does not fit the contract"), "{shown}");
            assert!(!shown.contains("tide-and-tackle"), "{shown}");
        }
    }
    let (traces, rows) = records(reporting);
    assert!(
        traces[0].misfit.contains("/body/fare must be a number"),
        "{}",
        traces[0].misfit
    );
    assert!(traces[0].refusal.is_none());
    let counted: Vec<_> = rows
        .iter()
        .map(|r| (r.operation.as_str(), r.status, r.calls, r.misfits))
        .collect();
    assert_eq!(counted, [("fare", 200, 1, 1)]);
}

#[test]
fn what_the_contract_has_not_is_taken_out_of_requests() {
    let backend = Scripted::start(|_, request| plain(&format!("{request:?}")));
    let stage = stage(&backend, "pass");
    let seen = get(&stage, "/f/fare?utm=1&day=2%2F3&x&Day=4");
    assert!(
        seen.contains("GET /inner/fare?day=2%2F3 HTTP/1.1"),
        "{seen}"
    );
    let seen = get(&stage, "/f/fare?utm=1");
    assert!(seen.contains("GET /inner/fare HTTP/1.1"), "{seen}");
    let put = |body: &str| {
        let length = body.len();
        let head = "PUT /f/fare HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\n";
        stage.raw(format!("{head}Content-Length: {length}\r\n\r\n{body}").as_bytes())
    };
    let seen = put(r#"{"id":7,"price":1.40,"rows":[{"id":1,"n":2},{"n":3,"id":4}]}"#);
    assert!(
        seen.contains(r#"{\"price\":1.40,\"rows\":[{\"n\":2},{\"n\":3}]}"#),
        "{seen}"
    );
    // As many as no list of mistakes holds.
    let many = format!("{{\"rows\":[{}]}}", vec![r#"{"id":1}"#; 3000].join(","));
    let seen = put(&many);
    assert!(
        status(&seen) == 200 && !seen.contains(r#"id\""#),
        "{}",
        seen.len()
    );
    // What is wrong besides is refused as ever.
    let refused = put(r#"{"id":7,"prise":1}"#);
    assert_eq!(status(&refused), 400);
    assert!(
        refused.contains("did you mean “price”?") && !refused.contains("/body/id"),
        "{refused}"
    );
}
