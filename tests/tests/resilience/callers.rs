//! Callers that send what does not fit.

use super::*;

#[test]
fn requests_that_do_not_fit_get_every_mistake() {
    let (porch, key) = Porch::published();
    without_limits(&porch);
    let reply = porch.call(
        "GET",
        "/sailings/v2/fares/FAR-MAR/kar?passengers=lots",
        &key,
        "",
    );
    assert_eq!(reply.status, 400);
    assert_eq!(
        reply.json()["errors"],
        json!([{"pointer": "/path/fareClass", "detail": "is none of foot, bicycle, car, cabin; did you mean “car”?"}, {"pointer": "/query/passengers", "detail": "must be a whole number"}])
    );
    let hold = |body: &str| porch.call("POST", "/sailings/v2/holds", &key, body);
    let reply = hold(
        r#"{"SailingId": "S-17", "FareClass": "boat", "Passengers": [{"Name": "Inge"}, {"Nam": 5}], "Extra": 1}"#,
    );
    let pointers: Vec<_> = reply.json()["errors"]
        .as_array()
        .unwrap()
        .iter()
        .map(|e| e["pointer"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(
        pointers,
        [
            "/body/Extra",
            "/body/FareClass",
            "/body/Passengers/1/Nam",
            "/body/Passengers/1/Name"
        ]
    );
    // The mistake is the request's, not the call's, and types of the backend are nobody's business.
    let fleet = porch.call("GET", "/vessels/v1/vessels?stats=MOORED", "", "");
    let detail = &fleet.json()["errors"][0]["detail"];
    assert_eq!(detail, "is not known here; did you mean “states”?");
    wait_until("the traces are written", || {
        porch
            .ok(&["trace", "--status", "400"])
            .as_array()
            .unwrap()
            .len()
            >= 3
    });
    for trace in porch.ok(&["trace", "--status", "400"]).as_array().unwrap() {
        let told = porch.ok(&["explain", trace["id"].as_str().unwrap()]);
        let refusal = &told["trace"]["refusal"];
        assert_eq!(
            refusal["rule"], "the request fits the contract",
            "{refusal}"
        );
    }
    let good = hold(
        r#"{"Passengers": [{"Name": "Inge Tern", "Concession": null}], "FareClass": "foot", "SailingId": "S-17"}"#,
    );
    assert_eq!(
        (
            good.status,
            good.json()["Total"]["Amount"].to_string().as_str()
        ),
        (200, "760.125")
    );
    let full = hold(
        r#"{"Passengers": [{"Name": "Inge Tern"}], "FareClass": "foot", "SailingId": "S-99"}"#,
    );
    assert_eq!(
        (full.status, &full.json()["fault"]),
        (
            409,
            &json!({"name": "SailingFull", "code": "Client", "detail": {"SailingId": "S-99", "SeatsLeft": 3}})
        )
    );
    let broken = hold(r#"{"SailingId": "#);
    assert!(
        broken.status == 400 && broken.text().contains("line 1 column"),
        "{}",
        broken.text()
    );
    assert_eq!(
        hold(&format!("{}1{}", "[".repeat(100_000), "]".repeat(100_000))).status,
        400
    );
    assert_eq!(hold("").status, 400);
    assert_eq!(hold(&format!("\"{}\"", "x".repeat(2 << 20))).status, 413);
    let text = Http::send(
        "POST",
        &format!("{}/sailings/v2/holds", porch.gateway),
        &[("api-key", &key), ("content-type", "text/plain")],
        b"x".to_vec(),
    );
    assert_eq!(text.status, 415);
    let xml = Http::send(
        "GET",
        &format!("{}/sailings/v2/nowhere", porch.gateway),
        &[("accept", "application/xml")],
        Vec::new(),
    );
    assert_eq!(
        (xml.status, xml.header("content-type")),
        (404, "application/problem+xml")
    );
    assert!(
        xml.text().contains("<status>404</status>"),
        "{}",
        xml.text()
    );
    // Escaped into the envelope, never part of it.
    let odd = hold(
        r#"{"Passengers": [{"Name": "</n1:Name><x a='1'>&amp;\r\n"}], "FareClass": "foot", "SailingId": "S-17"}"#,
    );
    assert_eq!(odd.status, 200, "{}", odd.text());
    assert_eq!(hold("{\"Passengers\": [{\"Name\": \"\\u0000\"}], \"FareClass\": \"foot\", \"SailingId\": \"S-17\"}").json()["errors"][0]["pointer"], "/body/Passengers/0/Name");
}

#[test]
fn paths_cannot_escape_and_headers_end_where_they_should() {
    let (porch, _) = Porch::published();
    porch.edit(
        "timetable/timetable.openapi.yaml",
        "  /notices:",
        "  /echo/{what}:\n    get:\n      operationId: echo\n      parameters: [{ name: what, in: path, required: true }]\n      responses: { '200': { description: Echo. } }\n  /notices:",
    );
    porch.edit("timetable/timetable.facade.yaml", "  notice:", "  echo:\n    call: { backend: timetable, method: GET, path: /echo }\n    send: { query: { what: =path.what } }\n  notice:");
    porch.push_and_release("timetable");
    let get = |path: &str| {
        exchange_raw(
            &porch,
            format!("GET {path} HTTP/1.1\r\nHost: ferry.example\r\nConnection: close\r\nX-Hop: 1\r\nAPI-Key: secret-of-the-caller\r\nForwarded: for=1.2.3.4\r\nX-Own: yes\r\n\r\n").as_bytes(),
        )
    };
    let echo = get("/timetable/v1/echo/a%2F..c%2Fb%26c=%C3%A9");
    assert!(
        echo.contains(r#""uri":"/echo?what=a%2F..c%2Fb%26c%3D%C3%A9""#),
        "{echo}"
    );
    assert!(
        echo.contains(r#""x-own":"yes""#)
            && echo.contains("for=127.0.0.1")
            && !echo.contains("1.2.3.4")
            && !echo.contains("secret-of-the-caller"),
        "{echo}"
    );
    assert!(echo.contains("\"traceparent\":\"00-"), "{echo}");
    assert!(get("/timetable/v1/../../_mood").starts_with("HTTP/1.1 404"));
    assert!(get("/timetable/v1/echo/a%2F..%2Fb").starts_with("HTTP/1.1 400"));
    assert!(get("/timetable/v1/%2e%2e/%2e%2e/_mood").starts_with("HTTP/1.1 404"));
    assert!(get("/timetable/v1/echo/%zz").starts_with("HTTP/1.1 400"));
    // A trace that the caller began is continued.
    let id = "4bf92f3577b34da6a3ce929d0e0e4736";
    let reply = Http::send(
        "GET",
        &format!("{}{TT}", porch.gateway),
        &[("traceparent", &format!("00-{id}-00f067aa0ba902b7-01"))],
        Vec::new(),
    );
    assert!(
        reply
            .header("traceparent")
            .starts_with(&format!("00-{id}-"))
    );
    // HEAD, OPTIONS, an address of the backend in Location.
    assert_eq!(
        (
            porch.call("HEAD", TT, "", "").status,
            porch.call("HEAD", TT, "", "").body.len()
        ),
        (200, 0)
    );
    assert_eq!(
        porch.call("OPTIONS", TT, "", "").header("allow"),
        "GET, HEAD, OPTIONS"
    );
    let notices = format!(
        "http://{}/notices/16",
        porch.timetable.as_ref().unwrap().address
    );
    let notice = porch.call("POST", "/timetable/v1/notices", "", r#"{"text":"swell"}"#);
    assert_eq!(
        (notice.status, notice.header("location")),
        // The facade has nothing at that place: it is left alone, not made into an address that is 404.
        (201, notices.as_str())
    );
}

#[test]
fn slow_oversized_and_malformed_callers_are_bounded() {
    let (porch, _) = Porch::published();
    let get = |fields: &str| {
        exchange_raw(
            &porch,
            format!("GET {TT} HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{fields}\r\n").as_bytes(),
        )
    };
    assert!(get("").starts_with("HTTP/1.1 200"));
    assert!(get(&format!("X-Long: {}\r\n", "a".repeat(200_000))).starts_with("HTTP/1.1 431"));
    assert!(exchange_raw(&porch, b"\x00\xff\x00garbage\r\n\r\n").starts_with("HTTP/1.1 400"));
    // Two lengths, or a length and chunks: nothing that two readers could read in two ways passes.
    let smuggled = exchange_raw(&porch, b"POST /timetable/v1/notices HTTP/1.1\r\nHost: x\r\nContent-Length: 5\r\nContent-Length: 6\r\n\r\nabcdef");
    assert!(smuggled.starts_with("HTTP/1.1 400"), "{smuggled}");
    // A caller that never ends its head is let go after ten seconds; meanwhile others are served.
    let began = Instant::now();
    let mut slow = raw(&porch);
    slow.write_all(b"GET /timetable/v1/routes HTTP/1.1\r\nHost: x\r\nX-")
        .unwrap();
    assert_eq!(porch.call("GET", TT, "", "").status, 200);
    let mut rest = Vec::new();
    let _ = slow.read_to_end(&mut rest);
    assert!(
        began.elapsed() < Duration::from_secs(25),
        "{:?}",
        began.elapsed()
    );
    // A body that is larger than allowed and does not say so beforehand.
    let mut stream = raw(&porch);
    stream.write_all(b"POST /timetable/v1/notices HTTP/1.1\r\nHost: x\r\nConnection: close\r\nTransfer-Encoding: chunked\r\n\r\n").unwrap();
    let chunk = format!("10000\r\n{}\r\n", "x".repeat(0x10000));
    for _ in 0..40 {
        if stream.write_all(chunk.as_bytes()).is_err() {
            break;
        }
    }
    let mut answer = String::new();
    let _ = stream.read_to_string(&mut answer);
    assert!(
        answer.is_empty()
            || answer.starts_with("HTTP/1.1 413")
            || answer.starts_with("HTTP/1.1 502"),
        "{answer}"
    );
    assert_eq!(porch.call("GET", TT, "", "").status, 200);
}
