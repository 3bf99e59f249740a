//! Several calls in one operation, changes of messages, pages of other origins: as the demo has them.

use super::*;

/// What the publisher is told of a refusal, once its trace is written.
fn explained(porch: &Porch, problem: &Value, more: &[&str]) -> String {
    let instance = problem["instance"].as_str().unwrap();
    let id = instance.rsplit(':').next().unwrap();
    let told = || porch.client(&[&["explain", id], more].concat(), "");
    wait_until("the trace is written", || told().status.success());
    stdout(&told())
}

#[test]
fn a_traveller_asks_once_and_several_backends_answer() {
    let (porch, _) = Porch::published();
    let from = |harbour: &str| {
        porch.call(
            "GET",
            &format!("/journeys/v1/harbours/{harbour}/sailings?on=2027-05-02"),
            "",
            "",
        )
    };
    let reply = from("farholt");
    assert_eq!(reply.status, 200, "{}", reply.text());
    let reply = reply.json();
    assert_eq!(
        (
            &reply["harbour"],
            &reply["metres"],
            &reply["sailings"][1]["route"]
        ),
        (&json!("Farholt"), &json!(3.4), &json!("FAR-TER"))
    );
    let shallow = from("tern%20rock");
    assert_eq!(
        (shallow.status, &shallow.json()["metres"]),
        (409, &json!(0.3))
    );
    let unknown = from("atlantis");
    assert_eq!(unknown.status, 404);
    assert_eq!(
        unknown.json()["detail"],
        "Skerry Line does not call at atlantis."
    );

    // The publisher is told which rule of which document refused it.
    let told = explained(&porch, &unknown.json(), &[]);
    assert!(
        told.contains("refuses with 404: No such harbour")
            && told.contains("journeys/journeys.facade.yaml:27"),
        "{told}"
    );

    // A list, item by item; what has no fare stands there all the same.
    let fares = porch.call(
        "GET",
        "/journeys/v1/harbours/Farholt/fares/car?on=2027-05-02",
        "",
        "",
    );
    let fares = fares.json();
    assert_eq!(
        fares["fares"][0],
        json!({"sailing": "S-17", "fare": 3192.525, "currency": "SKC"})
    );
    assert_eq!(fares["fares"][1]["fare"], Value::Null);

    // Seats are kept and paid for, or given back.
    let book = |currency: &str| {
        let body = json!({"sailing": "S-17", "fareClass": "car", "names": ["Inge Tern"], "payment": "PAY-1", "currency": currency});
        porch.call("POST", "/journeys/v1/bookings", "", &body.to_string())
    };
    let booked = book("SKC");
    assert_eq!(
        (booked.status, &booked.json()["total"]),
        (201, &json!(760.125)),
        "{}",
        booked.text()
    );
    let refused = book("XXX");
    assert_eq!(refused.status, 409, "{}", refused.text());
    let told = explained(&porch, &refused.json(), &["--stages"]);
    assert!(
        told.contains("“hold” was undone") && told.contains("CancelBooking"),
        "{told}"
    );
}

#[test]
fn a_reply_is_shaped_without_its_backends() {
    let (mut porch, _) = Porch::published();
    // Nobody is there.
    porch.reservations = None;
    porch.tides = None;
    let tried = |answers: &[&str]| {
        let mut all = vec![
            "try",
            "journeys/sailingsFrom",
            "harbour=farholt",
            "on=2027-05-02",
        ];
        all.extend(answers.iter().flat_map(|a| ["--answer", a]));
        porch.client(&all, "")
    };
    let place = r#"place={"code":"FAR","name":"Farholt"}"#;
    let list = r#"list={"Sailings":[{"Id":"S-1","RouteCode":"FAR-MAR","Departs":"2027-05-02T08:30:00Z"}]}"#;
    let output = tried(&[place, r#"tide={"metres":2.5}"#, list]);
    let shown = stdout(&output);
    assert!(output.status.success(), "{shown}{}", stderr(&output));
    assert!(
        shown.contains(r#""metres":2.5,"sailings":[{"id":"S-1""#),
        "{shown}"
    );
    let refused = tried(&["place:404="]);
    let shown = stdout(&refused);
    assert!(
        !refused.status.success() && shown.contains("No such harbour"),
        "{shown}"
    );
    // What was given was not done, and is not taken back.
    let body =
        r#"{"sailing":"S-17","fareClass":"car","names":["Odd"],"payment":"P","currency":"XXX"}"#;
    let hold = r#"hold={"Reference":"H-1","Total":{"Currency":"SKC","Amount":1}}"#;
    let output = porch.client(&["try", "book", "--body", body, "--answer", hold], "");
    let shown = stdout(&output);
    assert!(
        shown.contains("Another currency") && !shown.contains("undone"),
        "{shown}{}",
        stderr(&output)
    );
    // What is misspelt is told before anything is tried.
    let wrong = stderr(&tried(&["plaice={}"]));
    assert!(
        wrong.contains("“sailingsFrom” has no call “plaice”")
            && wrong.contains("place, tide, list"),
        "{wrong}"
    );
    let wrong = stderr(&tried(&["place:40x={}"]));
    assert!(wrong.contains("“40x” is no status"), "{wrong}");
    let wrong = stderr(&tried(&["place={"]));
    assert!(wrong.contains("is no JSON"), "{wrong}");
    // Answers of one's own are for publishers.
    porch.ok_with(
        &["account", "create", "pelle", "--role", "viewer"],
        "quiet-harbour",
    );
    let viewer = porch.sign_in("pelle", "quiet-harbour")["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let trial = json!({"facade": "journeys", "operation": "sailingsFrom", "path": {"harbour": "x"}, "query": {"on": "2027-05-02"}, "answers": {"place": {"body": {}}}});
    assert_eq!(
        porch.api_as(&viewer, "POST", "/api/trials", &trial).status,
        403
    );
    let strange = json!({"facade": "journeys", "operation": "sailingsFrom", "path": {"harbour": "x"}, "query": {"on": "2027-05-02"}, "answers": {"place": {"status": 100}}});
    assert_eq!(porch.api("POST", "/api/trials", &strange).status, 422);
}

#[test]
fn messages_are_changed_and_pages_of_one_origin_may_call() {
    let (porch, _) = Porch::published();
    let url = format!("{}/journeys/v1/tides/FAR", porch.gateway);
    let reply = Http::send(
        "GET",
        &url,
        &[("Origin", "https://harbour.skerry.example")],
        Vec::new(),
    );
    assert_eq!(reply.text(), r#"{"code":"FAR","depth":3.4,"sails":true}"#);
    assert_eq!(
        (
            reply.header("cache-control"),
            reply.header("x-powered-by"),
            reply.header("access-control-allow-origin")
        ),
        ("max-age=60", "", "https://harbour.skerry.example")
    );
    let asks = [
        ("Origin", "https://harbour.skerry.example"),
        ("Access-Control-Request-Method", "GET"),
    ];
    let reply = Http::send("OPTIONS", &url, &asks, Vec::new());
    assert_eq!(
        (reply.status, reply.header("access-control-allow-methods")),
        (204, "GET")
    );
    let rules = porch
        .ok(&[
            "check",
            porch.documents.to_str().unwrap(),
            "--rules",
            "tideAt",
        ])
        .to_string();
    assert!(
        rules.contains("changes the reply's JSON in place: rename, remove, add"),
        "{rules}"
    );
    // The same rule is told where the reply came from, in a trial run.
    let tried = stdout(&porch.client(&["try", "tideAt", "code=FAR"], ""));
    assert!(
        tried.contains(
            "remove the field X-Powered-By (facade journeys, journeys/journeys.facade.yaml:10)"
        ),
        "{tried}"
    );
}

#[test]
fn a_stream_without_end_is_a_list_of_its_beginning() {
    let (porch, _) = Porch::published();
    let reply = porch.call("GET", "/journeys/v1/positions", "", "");
    assert_eq!(reply.status, 200, "{}", reply.text());
    let positions = reply.json()["positions"].as_array().unwrap().clone();
    assert_eq!(positions.len(), 3, "{positions:?}");
    let place = |p: &Value| p["latitude"].is_number() && p["vessel"].is_string();
    assert!(positions.iter().all(place), "{positions:?}");
    let tried = stdout(&porch.client(&["try", "whereNow"], ""));
    assert!(tried.contains("its first 3 messages are a list"), "{tried}");
}

#[test]
fn a_backend_that_fails_now_and_then_is_asked_again() {
    let (porch, _) = Porch::published();
    porch
        .tides
        .as_ref()
        .unwrap()
        .mood(&json!({ "fail_every": 2 }));
    let path = "/journeys/v1/harbours/farholt/sailings?on=2027-05-02";
    for _ in 0..4 {
        let reply = porch.call("GET", path, "", "");
        assert_eq!(reply.status, 200, "{}", reply.text());
    }
    let tried = stdout(&porch.client(
        &["try", "sailingsFrom", "harbour=farholt", "on=2027-05-02"],
        "",
    ));
    assert!(
        tried.contains("behind one that failed: 503 Service Unavailable"),
        "{tried}"
    );
}

#[test]
fn answers_that_were_kept_stand_in_place_of_calls() {
    let (mut porch, _) = Porch::published();
    let path = "/journeys/v1/harbours/farholt/sailings?on=2027-05-02";
    let reply = porch.call("GET", path, "", "");
    assert_eq!(reply.status, 200, "{}", reply.text());
    let mut id = String::new();
    wait_until("the exchange is kept", || {
        let traces = porch.ok(&["trace"]);
        let all = traces.as_array().unwrap().iter();
        let found = all.clone().find(|t| t["operation"] == "sailingsFrom");
        id = found.map_or_else(String::new, |t| t["id"].as_str().unwrap().to_owned());
        !id.is_empty()
    });
    // No backend is there any more: SOAP and HTTP are answered as they were.
    porch.tides = None;
    porch.reservations = None;
    let gone = porch.call("GET", path, "", "");
    assert!(gone.status >= 500, "{}", gone.text());
    let arguments = ["sailingsFrom", "harbour=farholt", "on=2027-05-02"];
    let of = [
        "try",
        arguments[0],
        arguments[1],
        arguments[2],
        "--answers-of",
        &id,
    ];
    let tried = porch.ok(&of);
    assert_eq!(tried["status"], 200, "{tried}");
    let body: Value = serde_json::from_str(tried["body"].as_str().unwrap()).unwrap();
    assert_eq!(body, reply.json());
    assert!(
        tried
            .to_string()
            .contains("an answer that was kept stands for it")
    );
    // What is given goes before what was kept.
    let given = [&of[..], &["--answer", "tide={\"metres\":0.2}"]].concat();
    let given = stdout(&porch.client(&given, ""));
    assert!(given.contains("409"), "{given}");
    // One of another operation is none of this one's.
    let other = porch.client(&["try", "tideAt", "code=FAR", "--answers-of", &id], "");
    let told = String::from_utf8_lossy(&other.stderr).into_owned();
    assert!(
        !other.status.success() && told.contains("is none of journeys/tideAt"),
        "{told}"
    );
    assert!(
        told.contains("It is one of journeys/sailingsFrom."),
        "{told}"
    );
}
