//! gRPC through the real client, the real service and real HTTP: from a running server to a released API.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use std::io::{BufRead, BufReader, Read, Write};
use std::net::TcpStream;

use porch_tests::{Http, Porch, http, wait_until};
use serde_json::{Value, json};

fn lines(text: &str) -> Vec<Value> {
    text.lines()
        .map(|l| serde_json::from_str(l).unwrap())
        .collect()
}

#[test]
fn a_running_server_becomes_a_released_api_in_one_sitting() {
    let (porch, key) = Porch::published();
    let server = porch.vessels.as_ref().unwrap().address.to_string();
    let look = porch.ok(&["look", &server]);
    assert_eq!(
        (
            look["kind"].as_str(),
            look["operations"].as_array().unwrap().len(),
            &look["findings"]
        ),
        (Some("grpc"), 17, &json!([]))
    );
    // The same from the folder of its files.
    let protos = porch_tests::root().join("demo/documents/vessels/vessels-definition");
    let from_files = porch.ok(&["look", protos.to_str().unwrap()]);
    let paths = |v: &Value| {
        v["operations"]
            .as_array()
            .unwrap()
            .iter()
            .map(|o| format!("{} {}", o["method"], o["path"]))
            .collect::<Vec<_>>()
    };
    assert_eq!(paths(&from_files), paths(&look));
    let folder = porch.folder().join("own");
    let folder = folder.to_str().unwrap();
    assert_eq!(
        porch.ok(&[
            "derive",
            &server,
            "-o",
            folder,
            "--name",
            "own",
            "--only",
            "skerry.berths.v1.Berths"
        ])["operations"],
        4
    );
    assert_eq!(porch.ok(&["check", folder])["findings"], json!([]));
    porch.ok(&["push", folder]);
    let tried = porch.ok(&["try", "own/getBerth", "berthId=f2"]);
    assert!(
        tried["status"] == 200
            && tried["body"]
                .as_str()
                .unwrap()
                .contains("\"harbour\":\"Farholt\""),
        "{tried}"
    );
    let shown = tried.to_string();
    assert!(shown.contains("the message skerry.berths.v1.GetBerthRequest of skerry.berths.v1.Berths/GetBerth has 4 bytes") && shown.contains("the call ended with OK (0)"), "{shown}");
    porch.ok(&["release", "own"]);
    let berth = porch
        .call(
            "POST",
            "/own/v1/berths/f2:assign",
            &key,
            r#"{"vessel": "vessels/lantern", "berthId": "not this one"}"#,
        )
        .json();
    assert_eq!(
        berth,
        json!({"berthId": "f2", "harbour": "Farholt", "vessel": "vessels/lantern", "length": 48})
    );
    assert_eq!(porch.call("GET", "/own/v1/berths/f2", "", "").status, 401);
    // A second derivation changes nothing; a definition that has changed is brought over.
    let update =
        |source: &str| porch.ok(&["derive", source, "-o", folder, "--name", "own", "--update"]);
    let changes = update(&server)["changes"].as_array().unwrap().len();
    assert!(
        changes > 0,
        "the fleet's own service is new to these documents"
    );
    assert_eq!(update(&server)["changes"], json!([]));
    assert_eq!(porch.ok(&["check", folder])["ok"], true);
}

#[test]
fn every_kind_of_call_works_on_the_demo() {
    let (porch, _) = Porch::published();
    let url = |path: &str| format!("{}/vessels/v1{path}", porch.gateway);
    let get = |path: &str| Http::send("GET", &url(path), &[], Vec::new());
    let kettle = get("/vessels/kettle").json();
    assert_eq!(
        (
            &kettle["number"],
            &kettle["certificate"]["authority"],
            &kettle["remarks"]
        ),
        (
            &json!("9007199254740993"),
            &json!("Osprey Sound Harbour Office"),
            &json!({"bow thruster": false, "ramp": "bow"})
        )
    );
    let some = get("/vessels?states=MOORED&states=3&filter.minSeats=100").json();
    assert_eq!(
        (
            some["vessels"].as_array().unwrap().len(),
            &some["vessels"][0]["title"],
            &some["total"]
        ),
        (1, &json!("Lantern"), &json!("1"))
    );
    assert_eq!(
        get("/harbours/hollow-bay/vessels").json()["vessels"][0]["title"],
        "Old Button"
    );
    // A mask that nobody sent is made of the members that were; one that was sent counts.
    let patch = |query: &str, body: &str| {
        Http::send(
            "PATCH",
            &url(&format!("/vessels/old-button{query}")),
            &[("content-type", "application/json")],
            body.as_bytes().to_vec(),
        )
        .json()
    };
    let changed = patch(
        "",
        r#"{"seats": 333, "homePorts": ["Farholt"], "name": "vessels/other"}"#,
    );
    assert_eq!(
        (&changed["seats"], &changed["homePorts"], &changed["title"]),
        (&json!(333), &json!(["Farholt"]), &json!("Old Button"))
    );
    let masked = patch(
        "?updateMask=title",
        r#"{"seats": 1, "title": "Old Button II"}"#,
    );
    assert_eq!(
        (&masked["seats"], &masked["title"]),
        (&json!(333), &json!("Old Button II"))
    );
    // Failures: statuses, details, fields.
    let gone = get("/vessels/nobody");
    assert_eq!(
        (
            gone.status,
            gone.json()["code"].clone(),
            gone.json()["details"][0]["reason"].clone()
        ),
        (404, json!("NOT_FOUND"), json!("NO_SUCH_VESSEL"))
    );
    let fog = get("/vessels/ghost");
    assert_eq!((fog.status, fog.header("retry-after")), (503, "2"));
    let empty = Http::send(
        "POST",
        &url("/vessels/kettle/defects"),
        &[("content-type", "application/json")],
        b"{}".to_vec(),
    );
    assert_eq!(
        (empty.status, empty.json()["errors"].clone()),
        (
            400,
            json!([{"pointer": "/body/text", "detail": "must say what is wrong"}])
        )
    );
    // Bodies that are not JSON, both ways of reading a part, metadata, the caller's deadline.
    let plan = get("/vessels/kettle/deckplan");
    assert_eq!(
        (plan.header("content-type"), plan.text().starts_with("<svg")),
        ("image/svg+xml", true)
    );
    let defect = Http::send(
        "POST",
        &url("/vessels/kettle/defects?urgent=true"),
        &[("content-type", "application/json")],
        br#"{"text": "ramp squeaks"}"#.to_vec(),
    )
    .json();
    assert_eq!(defect["severity"], 5);
    assert_eq!(
        get(&format!("/{}:text", defect["name"].as_str().unwrap())).json(),
        json!("ramp squeaks")
    );
    let told = Http::send(
        "GET",
        &url("/vessels/kettle"),
        &[
            ("x-voyage", "7"),
            ("x-chart-bin", "AAEC"),
            ("grpc-timeout", "900m"),
            ("x-private", "no"),
        ],
        Vec::new(),
    );
    assert_eq!(
        (
            told.header("x-voyage-seen"),
            told.header("x-chart-seen-bin"),
            told.header("x-deadline-seen")
        ),
        ("7", "AAEC", "900m")
    );
    // Streams.
    let positions = get("/positions:stream?count=3&interval=0s");
    assert_eq!(
        (
            positions.header("content-type"),
            lines(&positions.text()).len()
        ),
        ("application/x-ndjson", 3)
    );
    let events = Http::send(
        "GET",
        &url("/positions:stream?count=2&interval=0s"),
        &[("accept", "text/event-stream")],
        Vec::new(),
    );
    assert_eq!(
        (
            events.header("content-type"),
            events.text().matches("data: {\"vessel\":").count()
        ),
        ("text/event-stream", 2)
    );
    let entries: String = (0..500)
        .map(|i| format!("{{\"text\": \"entry {i}\"}}\n"))
        .collect();
    let summary = Http::send(
        "POST",
        &url("/logbook"),
        &[("content-type", "application/x-ndjson")],
        entries.into_bytes(),
    )
    .json();
    assert_eq!(
        (&summary["entries"], &summary["last"]),
        (&json!(500), &json!("entry 499"))
    );
    let pilot = Http::send(
        "POST",
        &url("/pilot"),
        &[("content-type", "application/x-ndjson")],
        b"{\"text\":\"ahead?\"}\n{\"text\":\"astern?\"}".to_vec(),
    );
    assert_eq!(
        lines(&pilot.text())
            .iter()
            .map(|l| l["number"].clone())
            .collect::<Vec<_>>(),
        [json!(1), json!(2)]
    );
    // Usage and traces know it all.
    wait_until("the trace is written", || {
        porch
            .ok(&["trace", "--most", "50"])
            .as_array()
            .unwrap()
            .iter()
            .any(|t| t["operation"] == "pilot")
    });
    let why = porch.ok(&["trace", "--status", "503"]);
    let explained = porch
        .ok(&["explain", why[0]["id"].as_str().unwrap()])
        .to_string();
    assert!(
        explained.contains("UNAVAILABLE") && explained.contains("vessels.facade.yaml"),
        "{explained}"
    );
}

#[test]
fn messages_of_a_stream_come_when_they_are_sent_and_a_backend_that_misbehaves_is_told() {
    let (porch, _) = Porch::published();
    // The next message comes hours later: what is there already must be.
    let address = porch.gateway.trim_start_matches("http://").to_owned();
    let mut stream = TcpStream::connect(&address).unwrap();
    write!(
        stream,
        "GET /vessels/v1/positions:stream?interval=3600s HTTP/1.1\r\nHost: x\r\n\r\n"
    )
    .unwrap();
    let mut reader = BufReader::new(stream);
    let mut line = String::new();
    while !line.contains("vessels/kettle") {
        line.clear();
        assert!(reader.read_line(&mut line).unwrap() > 0, "the stream ended");
    }
    drop(reader);
    let vessels = porch.vessels.as_ref().unwrap();
    let get = || {
        Http::send(
            "GET",
            &format!("{}/vessels/v1/vessels/kettle", porch.gateway),
            &[],
            Vec::new(),
        )
    };
    for (mood, status) in [
        (json!({"garbage": "<html>"}), 502),
        (json!({"fail_every": 1}), 502),
        (json!({"break_off": true}), 502),
        (json!({}), 200),
    ] {
        vessels.mood(&mood);
        assert_eq!(get().status, status, "{mood}");
    }
    // A broken stream ends with a problem in band, and a body that is cut off.
    let mut cut = TcpStream::connect(&address).unwrap();
    write!(cut, "GET /vessels/v1/positions:stream?failAfter=2&interval=0s HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n").unwrap();
    let mut all = String::new();
    cut.read_to_string(&mut all).unwrap();
    assert!(
        all.contains("\"@problem\":{") && all.contains("DATA_LOSS") && !all.ends_with("0\r\n\r\n"),
        "{all}"
    );
}

#[test]
fn documents_that_do_not_fit_a_definition_are_told_where() {
    let (porch, _) = Porch::published();
    let check = |file: &str, from: &str, to: &str| {
        let path = porch.documents.join(file);
        let text = std::fs::read_to_string(&path).unwrap();
        assert!(text.contains(from), "{from}");
        std::fs::write(&path, text.replacen(from, to, 1)).unwrap();
        let output = porch.client(&["--json", "check", porch.documents.to_str().unwrap()], "");
        std::fs::write(&path, text).unwrap();
        let found: Value = serde_json::from_slice(&output.stdout).unwrap_or_default();
        found["findings"].to_string()
    };
    let facade = "vessels/vessels.facade.yaml";
    for (from, to, part) in [
        (
            "Fleet/GetVessel",
            "Fleet/GetVesel",
            "did you mean “skerry.fleet.v1.Fleet/GetVessel”?",
        ),
        ("body: vessel", "body: vesel", "did you mean “vessel”?"),
        (
            "response-body: text",
            "response-body: txt",
            "did you mean “text”?",
        ),
        (
            "        name: ='vessels/'",
            "        nam: ='vessels/'",
            "has no “nam”",
        ),
        (
            "path.vessel.replace",
            "path.vesel.replace",
            "did you mean “vessel”?",
        ),
        (
            "request: [x-voyage",
            "request: [grpc-status, x-voyage",
            "“grpc-status” cannot be metadata",
        ),
        ("native: true", "nativ: true", "did you mean “native”?"),
        (
            "Fleet/StreamPositions",
            "Fleet/StreamPositions\n    reply: { v: =answer.body.?vessel, who: =caller.address }",
            "there is no “caller”",
        ),
    ] {
        let found = check(facade, from, to);
        assert!(
            found.contains(part) && found.contains("\"error\""),
            "{to}: {found}"
        );
    }
    let found = check(
        "vessels/vessels.openapi.yaml",
        "name: pageSize",
        "name: pageSise",
    );
    assert!(
        found.contains("goes nowhere") && found.contains("did you mean “pageSize”?"),
        "{found}"
    );
    // Two facades for the same native callers; options of gRPC where there is none.
    let found = check(
        "berths/berths.facade.yaml",
        "operations:",
        "native: true\noperations:",
    );
    assert!(!found.contains("error"), "{found}");
    porch.edit(
        "berths/berths.facade.yaml",
        "operations:",
        "native: true\noperations:",
    );
    let found = check(
        "berths/berths.facade.yaml",
        "skerry.berths.v1.Berths/GetBerth\n    send:\n      berthId:",
        "skerry.fleet.v1.Fleet/GetVessel\n    send:\n      name:",
    );
    assert!(found.contains("native callers of skerry.fleet.v1.Fleet/GetVessel are taken by the facade “berths” already"), "{found}");
    porch.edit("berths/berths.facade.yaml", "native: true\n", "");
    let found = check(
        "timetable/timetable.facade.yaml",
        "operations:",
        "native: true\noperations:",
    );
    assert!(found.contains("“native” has no meaning here"), "{found}");
    // Two operations of one route.
    let found = check(
        "vessels/vessels.openapi.yaml",
        "/v1/vessels/{vessel}/deckplan:",
        "/v1/vessels/{ship}/defects/{defect}:",
    );
    assert!(found.contains("error"), "{found}");
    let found = check(
        "vessels/vessels-definition/skerry/fleet/v1/fleet.proto",
        "rpc GetVessel(",
        "rpc GetVessel",
    );
    assert!(found.contains("fleet.proto"), "{found}");
    let (status, _) = http(
        "GET",
        &format!("{}/vessels/v1/vessels/kettle", porch.gateway),
        &[],
        "",
    );
    assert_eq!(status, 200);
}
