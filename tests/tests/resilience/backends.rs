//! Backends that fail.

use super::*;

/// The timetable's answers go through as they come: nothing of them is compared, and no other backend is asked.
fn without_routing(porch: &Porch) {
    let name = "timetable/timetable.facade.yaml";
    let text = std::fs::read_to_string(porch.documents.join(name)).unwrap();
    let (from, to) = (
        text.find("    routing:").unwrap(),
        text.find("  notice:").unwrap(),
    );
    porch.edit(name, &text[from..to], "");
    porch.push_and_release("timetable");
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
    without_routing(&porch);
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
    without_routing(&porch);
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
