//! What backends are shown when they are called, and what callers see of it.

use crate::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Seats, version: 1.0.0 }
paths:
  /seats: { get: { operationId: seats, responses: { '200': { description: ok } } } }
";

fn stage(backend: SocketAddr, calling: &str) -> Stage {
    let files: Files = BTreeMap::from([
        (
            "b.yaml".to_owned(),
            format!("elm-porch: backend/1\nname: b\nkind: http\naddress: http://{backend}\ncredentials: {{ calling: {calling} }}\n"),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\nadmit: { unknown-query: pass }\noperations:\n  seats: { call: { backend: b } }\n".to_owned(),
        ),
    ]);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let secrets = HashMap::from([("desk".to_owned(), "li/ght &1".to_owned())]);
    let (porch, findings) = model.porch(&["f"], &Secrets::Known(&secrets));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    Stage::of(porch)
}

/// A backend that says the request's first line again, and leads to it.
fn echo() -> Scripted {
    Scripted::start(|_, request| {
        let target = request.split(' ').nth(1).unwrap_or_default();
        let sent: Vec<&str> = request
            .lines()
            .filter(|l| l.to_lowercase().starts_with("authorization"))
            .collect();
        let body = format!("{} {}", target, sent.join(","));
        let location = format!("http://elsewhere.example{target}&more=1#end");
        format!(
            "HTTP/1.1 200 OK\r\nContent-Length: {}\r\nLocation: {location}\r\n\r\n{body}",
            body.len()
        )
        .into_bytes()
    })
}

#[test]
fn a_key_in_the_query_takes_the_place_of_the_caller_s_and_comes_back_in_no_location() {
    let backend = echo();
    let stage = stage(
        backend.address,
        "{ query: { api_key: { secret: desk } }, bearer: { secret: desk } }",
    );
    let reply = stage.get("/f/seats?a=1&api%5Fkey=mine&b=2", "");
    assert!(
        reply.contains("/seats?a=1&b=2&api_key=li%2Fght%20%261 "),
        "{reply}"
    );
    assert!(reply.contains("Bearer li/ght &1"), "{reply}");
    let location = reply.lines().find(|l| l.starts_with("location:")).unwrap();
    assert_eq!(
        location,
        "location: http://elsewhere.example/seats?a=1&b=2&more=1#end"
    );
    let alone = stage.get("/f/seats", "");
    assert!(alone.contains("/seats?api_key=li%2Fght%20%261 "), "{alone}");
    let (traces, _) = stage.end();
    for trace in traces {
        let text = serde_json::to_string(&trace.stages.iter().take(3).collect::<Vec<_>>()).unwrap();
        assert!(
            !text.contains("li/ght") && !text.contains("li%2Fght"),
            "{text}"
        );
    }
}

#[test]
fn two_that_want_to_be_the_authorization_are_refused() {
    let documents = |calling: &str, kind: &str| {
        let files: Files = BTreeMap::from([
            (
                "b.yaml".to_owned(),
                format!("elm-porch: backend/1\nname: b\nkind: {kind}\naddress: http://127.0.0.1:9\ncredentials: {{ calling: {calling} }}\n"),
            ),
            ("c.yaml".to_owned(), CONTRACT.to_owned()),
            (
                "f.yaml".to_owned(),
                "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  seats: { call: { backend: b } }\n".to_owned(),
            ),
        ]);
        let found = porch_facade::check(&files, "live");
        found
            .into_iter()
            .map(|f| f.message)
            .collect::<Vec<_>>()
            .join("\n")
    };
    let told = documents("{ basic: { user: a, password: b }, bearer: t }", "http");
    assert!(
        told.contains("several credentials want to be the header Authorization"),
        "{told}"
    );
    let told = documents("{ bearer: 7 }", "http");
    assert!(told.contains("7 is no text"), "{told}");
}

#[test]
fn the_key_of_the_caller_is_passed_on_where_the_backend_s_document_says_so() {
    let backend = Scripted::start(|_, request| plain(&format!("{request:?}")));
    for (calling, passes) in [("{ callers-key: true }", true), ("{}", false)] {
        let stage = stage(backend.address, calling);
        let seen = stage.get("/f/seats", "API-Key: one\r\n");
        assert_eq!(seen.contains("api-key: one"), passes, "{calling}: {seen}");
    }
}
