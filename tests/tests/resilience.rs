//! What goes wrong, on purpose: the database, the backends, the network, the callers.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use porch_standins::Standin;
use porch_tests::{Backend, Http, Porch, new_cluster, new_database, wait_until};
use serde_json::json;

const TT: &str = "/timetable/v1/routes/FAR-MAR/days/2027-05-14";
const FARE: &str = "/sailings/v2/fares/FAR-MAR/foot";

/// Lets any number of calls pass, so that limits do not get in the way.
fn without_limits(porch: &Porch) {
    porch.edit(
        "sailings/sailings.facade.yaml",
        "requests: 5, window: 2m",
        "requests: 100000, window: 1h",
    );
    porch.push_and_release("sailings");
}

fn raw(porch: &Porch) -> TcpStream {
    let stream = TcpStream::connect(porch.gateway.trim_start_matches("http://")).unwrap();
    stream
        .set_read_timeout(Some(Duration::from_secs(30)))
        .unwrap();
    stream
}

/// Sends bytes as they are; gives what comes back until the connection ends.
fn exchange_raw(porch: &Porch, bytes: &[u8]) -> String {
    let mut stream = raw(porch);
    // The gateway may answer and close before everything is sent.
    let _ = stream.write_all(bytes);
    let mut answer = Vec::new();
    let _ = stream.read_to_end(&mut answer);
    String::from_utf8_lossy(&answer).into_owned()
}

#[test]
fn callers_are_served_while_the_database_is_away_and_after_a_restart_without_it() {
    let mut cluster = new_cluster();
    let mut porch = Porch::start_with(&new_database(&cluster), &[]);
    let key = porch.publish();
    without_limits(&porch);
    assert_eq!(porch.call("GET", FARE, &key, "").status, 200);
    cluster.stop();
    for _ in 0..50 {
        assert_eq!(
            porch.call("GET", FARE, &key, "").json()["fare"].to_string(),
            "760.125"
        );
        assert_eq!(porch.call("GET", FARE, "", "").status, 401);
    }
    let refused = porch.api("GET", "/api/overview", &json!(null));
    assert_eq!(
        (refused.status, refused.json()["title"].as_str().unwrap()),
        (503, "The database does not answer")
    );
    assert_eq!(
        porch.client(&["release", "sailings"], "").status.code(),
        Some(1)
    );

    // Started without the database: the last release from disk, keys and secrets included, and it says so.
    porch.stop_service();
    porch.start_service(&[]).unwrap();
    assert!(
        porch.log().contains("is served from disk"),
        "{}",
        porch.log()
    );
    assert_eq!(
        porch.call("GET", FARE, &key, "").json()["fare"].to_string(),
        "760.125"
    );
    let health = Http::send("GET", &format!("{}/health", porch.console), &[], Vec::new()).json();
    assert_eq!(
        (
            &health["database"],
            &health["from_disk"],
            &health["release"]
        ),
        (&json!(false), &json!(true), &json!(2))
    );
}

#[test]
fn a_service_without_database_and_release_says_so_and_ends() {
    let mut cluster = new_cluster();
    let database = new_database(&cluster);
    let mut porch = Porch::start_with(&database, &[]);
    porch.stop_service();
    std::fs::remove_file(porch.folder().join("state/served.json")).unwrap();
    cluster.stop();
    let error = porch.start_service(&[]).unwrap_err();
    assert!(
        error.contains("there is no release on disk to serve"),
        "{error}"
    );
}

#[test]
fn a_port_in_use_is_one_clear_message() {
    let porch = Porch::start();
    let taken = porch.gateway.trim_start_matches("http://").to_owned();
    let output = std::process::Command::new(porch_tests::program("porch"))
        .args([
            "serve",
            "--gateway",
            &taken,
            "--console",
            "127.0.0.1:0",
            "--database",
            "postgres://127.0.0.1:9/x",
            "--state",
        ])
        .arg(porch.folder().join("other"))
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stderr).into_owned();
    assert_eq!(output.status.code(), Some(1));
    assert!(
        text.contains(&format!("porch: the gateway cannot listen on {taken}"))
            && text.contains("--gateway"),
        "{text}"
    );
}

#[test]
fn backends_that_fail_are_told_apart() {
    let (mut porch, key) = Porch::published();
    without_limits(&porch);
    let fare = || porch.call("GET", FARE, &key, "");
    let soap = porch.reservations.as_ref().unwrap();
    let why = |reply: &Http| {
        let id = reply.json()["instance"]
            .as_str()
            .unwrap()
            .rsplit(':')
            .next()
            .unwrap()
            .to_owned();
        wait_until("the trace is written", || {
            porch.client(&["explain", &id], "").status.success()
        });
        porch.ok(&["explain", &id])["trace"]["refusal"]["why"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    for (mood, status, kind, inside) in [
        (
            json!({"garbage": "<html><body>Welcome</body></html>"}),
            502,
            "backend-answer",
            "with a web page (text/html)",
        ),
        (
            json!({"garbage": "not xml"}),
            502,
            "backend-answer",
            "web page",
        ),
        (
            json!({"garbage": "<a><b></a>"}),
            502,
            "backend-answer",
            "answered 200 OK",
        ),
        (
            json!({"garbage": "<!DOCTYPE a [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><a>&x;</a>"}),
            502,
            "backend-answer",
            "",
        ),
        (
            json!({"garbage": "<a>".repeat(100_000)}),
            502,
            "backend-answer",
            "web page",
        ),
        (
            json!({"garbage": format!("<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><s:Body><QuoteFareResponse xmlns='urn:skerry-line:reservations:3'>{}", "<a>".repeat(100_000))}),
            502,
            "backend-answer",
            "web page",
        ),
        (
            json!({"garbage": "<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><s:Body><HoldSeatsResponse/></s:Body></s:Envelope>"}),
            502,
            "backend-answer",
            "web page",
        ),
        (
            json!({"fail_every": 1}),
            502,
            "backend-answer",
            "answered 503 Service Unavailable with a web page",
        ),
        (
            json!({"break_off": true}),
            502,
            "backend-answer",
            "broke off in the middle",
        ),
        (
            json!({"hang_half_way": true}),
            504,
            "backend-slow",
            "fell silent in the middle",
        ),
        (
            json!({"slow_ms": 60_000}),
            504,
            "backend-slow",
            "gave no answer within 5s",
        ),
    ] {
        soap.mood(&mood);
        let reply = fare();
        assert_eq!(
            (reply.status, reply.json()["type"].as_str().unwrap()),
            (status, &*format!("urn:elm-porch:problem:{kind}")),
            "{mood}: {}",
            reply.text()
        );
        assert!(
            !reply.text().contains("127.0.0.1")
                && reply
                    .header("proxy-status")
                    .starts_with("elm-porch; error="),
            "{}",
            reply.text()
        );
        assert!(why(&reply).contains(inside), "{mood}: {}", why(&reply));
    }
    soap.mood(&json!({}));
    assert_eq!(fare().status, 200);

    // A streamed answer that breaks off ends the caller's too; it never looks whole.
    let timetable = porch.timetable.as_ref().unwrap();
    for mood in [json!({"break_off": true}), json!({"hang_half_way": true})] {
        timetable.mood(&mood);
        let reply = Http::try_send("GET", &format!("{}{TT}", porch.gateway), &[], Vec::new());
        assert!(
            reply.is_err() || reply.is_ok_and(|r| !r.whole || r.status == 502),
            "{mood}"
        );
    }

    // Gone, and back on the same port: stale connections do no harm.
    let port = timetable.address.port();
    timetable.mood(&json!({}));
    assert_eq!(porch.call("GET", TT, "", "").status, 200);
    porch.timetable = None;
    let gone = porch.call("GET", TT, "", "");
    assert_eq!(
        (gone.status, gone.json()["type"].as_str().unwrap()),
        (502, "urn:elm-porch:problem:backend-unreachable")
    );
    porch.timetable = Some(Backend::start(Standin::Timetable, port));
    assert_eq!(porch.call("GET", TT, "", "").status, 200);
}

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
    let echo = get("/timetable/v1/echo/a%2F..%2Fb%26c=%C3%A9");
    assert!(
        echo.contains(r#""uri":"/echo?what=a%2F..%2Fb%26c%3D%C3%A9""#),
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
    let notice = porch.call("POST", "/timetable/v1/notices", "", r#"{"text":"swell"}"#);
    assert_eq!(
        (notice.status, notice.header("location")),
        (201, "/timetable/v1/notices/16")
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

#[test]
fn open_exchanges_end_when_the_service_is_told_to_stop() {
    let (mut porch, _) = Porch::published();
    porch
        .timetable
        .as_ref()
        .unwrap()
        .mood(&json!({"slow_ms": 1500}));
    let url = format!("{}{TT}", porch.gateway);
    let caller = std::thread::spawn(move || Http::send("GET", &url, &[], Vec::new()));
    // The exchange is under way once the gateway has a connection to the stand-in.
    let port = porch.timetable.as_ref().unwrap().address.port();
    wait_until("the backend is called", || {
        std::fs::read_to_string("/proc/net/tcp")
            .unwrap()
            .lines()
            .any(|l| l.contains(&format!(":{port:04X} 01")))
    });
    porch.stop_service();
    let reply = caller.join().unwrap();
    assert_eq!((reply.status, reply.whole), (200, true));
}

#[test]
fn large_answers_pass_whole_in_both_ways() {
    let (porch, key) = Porch::published();
    without_limits(&porch);
    let manifest = porch.call(
        "GET",
        "/sailings/v2/sailings/S-17/manifest?rows=50000",
        &key,
        "",
    );
    assert_eq!((manifest.status, manifest.whole), (200, true));
    let list = manifest.json();
    assert_eq!(
        (
            list["Passengers"].as_array().unwrap().len(),
            &list["Passengers"][49_999]["Name"]
        ),
        (50_000, &json!("Passenger 49999 of Osprey Sound"))
    );
    porch.edit(
        "timetable/timetable.facade.yaml",
        "path: /tt }\n    send:\n      query:\n        r: =path.route\n        d: =path.date",
        "path: /large }",
    );
    porch.push_and_release("timetable");
    let large = porch.call("GET", TT, "", "");
    assert_eq!((large.body.len(), large.whole), (16 << 18, true));
    assert!(large.body.chunks(16).all(|c| c == b"0123456789abcdef"));
}
