//! The publisher's journey, through the real client and real HTTP: look, derive, check, push, try, release, call, explain.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};

use porch_tests::{Http, Porch, program, wait_until};
use serde_json::{Value, json};

fn stdout(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned()
}

fn stderr(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stderr).into_owned()
}

#[test]
fn from_a_wsdl_to_a_released_call_that_explains_its_refusal() {
    let porch = Porch::start();
    let wsdl = format!(
        "http://{}/reservations?wsdl",
        porch.reservations.as_ref().unwrap().address
    );

    // Look.
    let look = porch.ok(&["look", &wsdl]);
    assert_eq!(look["kind"], "soap");
    let quote = &look["operations"][1];
    assert_eq!(
        (
            &quote["source"],
            &quote["method"],
            &quote["path"],
            &quote["available"]
        ),
        (
            &json!("QuoteFare"),
            &json!("GET"),
            &json!("/fare/{routeCode}"),
            &json!(true)
        )
    );

    // Derive: what is written passes the check as it is.
    let folder = porch.folder().join("derived");
    let derived = porch.ok(&[
        "derive",
        &wsdl,
        "-o",
        folder.to_str().unwrap(),
        "--name",
        "fares",
        "--only",
        "QuoteFare",
    ]);
    assert_eq!(derived["operations"], 1);
    let path = |name: &str| folder.join(name);
    let checked = porch.ok(&["check", folder.to_str().unwrap()]);
    assert_eq!(
        (&checked["ok"], &checked["findings"]),
        (&json!(true), &json!([]))
    );

    // Edit the shape, and misspell a field on the way.
    let edit = |name: &str, from: &str, to: &str| {
        let text = std::fs::read_to_string(path(name)).unwrap();
        assert!(text.contains(from), "{from} is not in {text}");
        std::fs::write(path(name), text.replace(from, to)).unwrap();
    };
    edit(
        "fares.openapi.yaml",
        "/fare/{routeCode}",
        "/fares/{routeCode}/{fareClass}",
    );
    edit(
        "fares.openapi.yaml",
        "- name: fareClass\n          in: query",
        "- name: fareClass\n          in: path",
    );
    edit("fares.facade.yaml", "=query.fareClass", "=path.fareClas");
    let output = porch.client(&["check", folder.to_str().unwrap()], "");
    assert_eq!(output.status.code(), Some(1));
    let text = stdout(&output);
    assert!(
        text.contains("fares.facade.yaml:15:24: error: the path has no variable “fareClas”"),
        "{text}"
    );
    assert!(text.contains("help: did you mean “fareClass”?"), "{text}");
    edit("fares.facade.yaml", "=path.fareClas", "=path.fareClass");

    // Push: in the draft, and nowhere else.
    for (name, value) in [
        ("fares-user", " quay-desk \n"),
        ("fares-password", "tide & tackle\n"),
    ] {
        porch.ok_with(&["secret", "set", name], value);
    }
    let pushed = porch.ok(&["push", folder.to_str().unwrap()]);
    assert_eq!(pushed["unreleased"], json!(["fares"]));
    let compare = porch.ok(&["compare"]);
    assert_eq!(
        (&compare[0]["facade"], &compare[0]["status"]),
        (&json!("fares"), &json!("new"))
    );
    assert_eq!(
        porch
            .call("GET", "/fares/v1/fares/FAR-MAR/car?passengers=2", "", "")
            .status,
        404
    );

    // Try: every step, before any release.
    let trial = porch.ok(&[
        "try",
        "quoteFare",
        "routeCode=FAR-MAR",
        "fareClass=car",
        "passengers=2",
    ]);
    assert_eq!(
        (&trial["status"], &trial["released"]),
        (&json!(200), &json!(false))
    );
    let stages: Vec<&str> = trial["trace"]["stages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| s["name"].as_str().unwrap())
        .collect();
    assert_eq!(stages, ["match", "admit", "prepare", "call", "reply"]);
    let envelope = trial["trace"]["stages"][2]["after"]["body"]
        .as_str()
        .unwrap();
    assert!(envelope.contains("<n1:RouteCode>FAR-MAR</n1:RouteCode><n1:FareClass>car</n1:FareClass><n1:Passengers>2</n1:Passengers>"), "{envelope}");
    assert!(
        envelope.contains("<n1:Password>••••</n1:Password>") && !envelope.contains("tackle"),
        "{envelope}"
    );
    assert_eq!(
        trial["body"],
        r#"{"Fare":{"Amount":6385.050,"Currency":"SKC","ValidUntil":"2027-06-30"}}"#
    );

    // A limit, then release.
    edit(
        "fares.facade.yaml",
        "credentials: [key]",
        "credentials: [key]\n  limits:\n    - { requests: 5, window: 2m }",
    );
    porch.ok(&["push", folder.to_str().unwrap()]);
    let released = porch.ok(&["release", "fares", "--note", "first"]);
    assert_eq!(
        (&released["number"], &released["taken"]),
        (&json!(1), &json!(["fares"]))
    );
    assert_eq!(porch.ok(&["compare"])[0]["status"], "same");

    // Call: without a key, with one, once too often, with a fault.
    let call = |key: &str, route: &str| {
        porch.call(
            "GET",
            &format!("/fares/v1/fares/{route}/car?passengers=2"),
            key,
            "",
        )
    };
    let refused = call("", "FAR-MAR");
    assert_eq!(
        (
            refused.status,
            refused.header("content-type"),
            refused.header("www-authenticate")
        ),
        (
            401,
            "application/problem+json",
            "Key realm=\"fares\", header=\"API-Key\""
        )
    );
    assert_eq!(refused.json()["title"], "A key is needed");
    porch.ok(&["consumer", "create", "Quayside Kiosk"]);
    let key = porch.new_key("Quayside Kiosk");
    for left in (0..5).rev() {
        let reply = call(&key, "FAR-MAR");
        assert_eq!(
            (reply.status, reply.text().as_str()),
            (
                200,
                r#"{"Fare":{"Amount":6385.050,"Currency":"SKC","ValidUntil":"2027-06-30"}}"#
            )
        );
        assert_eq!(reply.header("ratelimit-policy"), "\"fares\";q=5;w=120");
        assert!(
            reply
                .header("ratelimit")
                .starts_with(&format!("\"fares\";r={left};t=")),
            "{}",
            reply.header("ratelimit")
        );
    }
    let sixth = call(&key, "FAR-MAR");
    assert_eq!(sixth.status, 429);
    let wait: u32 = sixth.header("retry-after").parse().unwrap();
    assert!((100..=120).contains(&wait), "{wait}");
    let id = sixth.json()["instance"]
        .as_str()
        .unwrap()
        .rsplit(':')
        .next()
        .unwrap()
        .to_owned();

    porch.ok(&["consumer", "create", "Tide Clock"]);
    let other = porch.new_key("Tide Clock");
    let fault = call(&other, "FAR-HOL");
    assert_eq!(
        (fault.status, &fault.json()["fault"]["detail"]),
        (422, &json!({"RouteCode": "FAR-HOL"}))
    );

    // Explain: the rule, its reach, its document and line.
    wait_until("the trace is written", || {
        porch.client(&["explain", &id], "").status.success()
    });
    let explained = porch.ok(&["explain", &id]);
    let refusal = &explained["trace"]["refusal"];
    assert_eq!(
        (
            &refusal["rule"],
            &refusal["reach"],
            &refusal["file"],
            &refusal["line"]
        ),
        (
            &json!("limit 5 in 2m per consumer"),
            &json!("facade fares"),
            &json!("fares.facade.yaml"),
            &json!(9)
        )
    );
    let text = stdout(&porch.client(&["explain", &id], ""));
    assert!(
        text.contains("The consumer “Quayside Kiosk”") && text.contains("fares.facade.yaml:9"),
        "{text}"
    );
    assert!(!text.contains(&key[9..]), "the key's secret is shown");
}

#[test]
fn one_teams_unfinished_work_does_not_go_live_with_anothers() {
    let (porch, key) = Porch::published();
    porch.edit(
        "timetable/timetable.facade.yaml",
        "path: /tt }",
        "path: /nowhere }",
    );
    porch.edit(
        "sailings/sailings.facade.yaml",
        "fare: =answer.body.Fare.Amount",
        "fare: =answer.body.Fare.Amount * 2",
    );
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    let released = porch.ok(&["release", "sailings"]);
    assert_eq!(
        (&released["taken"], &released["carried_over"]),
        (
            &json!(["sailings"]),
            &json!([
                "berths",
                "cargo",
                "harbour",
                "loyalty",
                "timetable",
                "vessels"
            ])
        )
    );
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .json()["fare"]
            .to_string(),
        "1520.25"
    );
    assert_eq!(
        porch
            .call(
                "GET",
                "/timetable/v1/routes/FAR-MAR/days/2027-05-14",
                "",
                ""
            )
            .status,
        200
    );
    // Back to the first release.
    let back = porch.ok(&["rollback", "1"]);
    assert_eq!(back["number"], 3);
    let second = porch.new_key("Quayside Kiosk");
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &second, "")
            .json()["fare"]
            .to_string(),
        "760.125"
    );
    let compare = porch.ok(&["compare", "timetable"]);
    assert_eq!(compare[0]["status"], "changed");
    assert!(
        compare[0]["files"]["timetable/timetable.facade.yaml"]
            .as_str()
            .unwrap()
            .contains("+    call: { backend: timetable, method: GET, path: /nowhere }")
    );
}

#[test]
fn what_breaks_callers_is_named_with_those_who_would_notice() {
    let (porch, key) = Porch::published();
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status,
        200
    );
    wait_until("usage is written", || {
        porch
            .ok(&["usage"])
            .as_array()
            .is_some_and(|u| u.iter().any(|l| l["operation"] == "quoteFare"))
    });
    porch.edit(
        "sailings/sailings.openapi.yaml",
        "required: [route, fare, currency]",
        "required: [route, currency]",
    );
    porch.edit("sailings/sailings.openapi.yaml", "                  fare: { type: number, description: 'All digits, as the booking system has them.' }\n", "");
    porch.edit(
        "sailings/sailings.facade.yaml",
        "      fare: =answer.body.Fare.Amount\n",
        "",
    );
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    let compare = porch.ok(&["compare", "sailings"]);
    assert_eq!(
        compare[0]["changes"],
        json!([{"harm": "breaks", "operation": "quoteFare", "what": "the reply's “fare” is gone"}])
    );
    assert_eq!(
        compare[0]["used_by"],
        json!([{"operation": "quoteFare", "consumer": "Quayside Kiosk", "calls": 1}])
    );
}

#[test]
fn releases_under_load_drop_no_request() {
    let (porch, _) = Porch::published();
    let (stop, calls, failed) = (
        Arc::new(AtomicBool::new(false)),
        Arc::new(AtomicU32::new(0)),
        Arc::new(AtomicU32::new(0)),
    );
    let callers: Vec<_> = (0..4)
        .map(|_| {
            let (stop, calls, failed, url) = (
                stop.clone(),
                calls.clone(),
                failed.clone(),
                format!(
                    "{}/timetable/v1/routes/FAR-MAR/days/2027-05-14",
                    porch.gateway
                ),
            );
            std::thread::spawn(move || {
                while !stop.load(Ordering::Relaxed) && calls.load(Ordering::Relaxed) < 20_000 {
                    match Http::try_send("GET", &url, &[], Vec::new()) {
                        Ok(reply) if reply.status == 200 && reply.whole => {}
                        _ => drop(failed.fetch_add(1, Ordering::Relaxed)),
                    }
                    calls.fetch_add(1, Ordering::Relaxed);
                }
            })
        })
        .collect();
    for i in 0..5 {
        porch.edit(
            "timetable/timetable.facade.yaml",
            "title: Timetable",
            &format!("title: Timetable {i}"),
        );
        porch.push_and_release("timetable");
        porch.edit(
            "timetable/timetable.facade.yaml",
            &format!("title: Timetable {i}"),
            "title: Timetable",
        );
    }
    let before = calls.load(Ordering::Relaxed);
    wait_until("calls after the last release", || {
        calls.load(Ordering::Relaxed) > before + 50
    });
    stop.store(true, Ordering::Relaxed);
    callers.into_iter().for_each(|c| c.join().unwrap());
    assert_eq!(
        failed.load(Ordering::Relaxed),
        0,
        "of {} calls",
        calls.load(Ordering::Relaxed)
    );
}

#[test]
fn broken_documents_are_never_released() {
    let (porch, _) = Porch::published();
    porch.edit(
        "sailings/sailings.facade.yaml",
        "RouteCode: =path.route",
        "RuoteCode: =path.route",
    );
    let pushed = porch.client(&["--json", "push", porch.documents.to_str().unwrap()], "");
    assert_eq!(pushed.status.code(), Some(1));
    let release = porch.client(&["release", "sailings"], "");
    assert_eq!(release.status.code(), Some(1));
    let text = stderr(&release);
    assert!(
        text.contains("nothing was changed")
            && text.contains("sailings/sailings.facade.yaml:14:7")
            && text.contains("did you mean “RouteCode”?"),
        "{text}"
    );
    let trial = porch.client(&["try", "quoteFare"], "");
    assert!(stderr(&trial).contains("RuoteCode"), "{}", stderr(&trial));
    assert_eq!(porch.ok(&["rollback"])[0]["number"], 1);
    let nearly = porch.client(&["release", "sailing"], "");
    assert!(
        stderr(&nearly).contains("Did you mean “sailings”?"),
        "{}",
        stderr(&nearly)
    );
}

#[test]
fn pauses_act_at_once_and_end_the_same_way() {
    let (porch, key) = Porch::published();
    let fare = || {
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status
    };
    let tt = || {
        porch
            .call(
                "GET",
                "/timetable/v1/routes/FAR-MAR/days/2027-05-14",
                "",
                "",
            )
            .status
    };
    porch.ok(&["pause", "operation", "timetable/departures"]);
    assert_eq!((tt(), fare()), (503, 200));
    porch.ok(&["resume", "operation", "timetable/departures"]);
    porch.ok(&["pause", "facade", "timetable"]);
    assert_eq!(tt(), 503);
    porch.ok(&["resume", "facade", "timetable"]);
    assert_eq!(tt(), 200);
    porch.ok(&["pause", "consumer", "Quayside Kiosk"]);
    assert_eq!(fare(), 401);
    porch.ok(&["resume", "consumer", "Quayside Kiosk"]);
    porch.ok(&["key", "end", &key]);
    assert_eq!(fare(), 401);
    let second = porch.new_key("Quayside Kiosk");
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &second, "")
            .status,
        200
    );
    assert_eq!(
        porch
            .client(&["pause", "facade", "nowhere"], "")
            .status
            .code(),
        Some(1)
    );
}

#[test]
fn the_client_keeps_its_manners() {
    let porch = Porch::start();
    let plain = |arguments: &[&str]| {
        std::process::Command::new(program("porch"))
            .args(arguments)
            .env_remove("ELM_PORCH_URL")
            .env_remove("ELM_PORCH_TOKEN")
            .env("XDG_CONFIG_HOME", porch.folder())
            .output()
            .unwrap()
    };
    assert_eq!(plain(&["lok"]).status.code(), Some(2));
    assert_eq!(plain(&["call", "no-slash"]).status.code(), Some(2));
    let unreachable = plain(&["--url", "http://127.0.0.1:9", "compare"]);
    assert_eq!(
        (unreachable.status.code(), stdout(&unreachable).as_str()),
        (Some(1), "")
    );
    assert!(
        stderr(&unreachable).contains("cannot be reached")
            && stderr(&unreachable).contains("porch serve")
    );
    let json: Value = serde_json::from_slice(
        &plain(&["--json", "--url", "http://127.0.0.1:9", "compare"]).stdout,
    )
    .unwrap();
    assert!(
        json["error"]["message"]
            .as_str()
            .unwrap()
            .contains("cannot be reached")
    );
    let missing = plain(&["look", "nowhere.wsdl"]);
    assert!(stderr(&missing).contains("there is no file or folder “nowhere.wsdl”"));
    assert!(stdout(&plain(&["complete", "bash"])).contains("porch"));
    let man = porch.folder().join("man");
    assert!(plain(&["man", man.to_str().unwrap()]).status.success());
    assert!(man.join("porch-release.1").exists());

    // A session of its own, kept and forgotten; pasted white space is taken away and told.
    let login = |input: &str| {
        let mut command = std::process::Command::new(program("porch"));
        command
            .env_remove("ELM_PORCH_TOKEN")
            .args(["--url", &porch.console, "login", "inge"])
            .env("XDG_CONFIG_HOME", porch.folder());
        let mut child = command
            .stdin(std::process::Stdio::piped())
            .stdout(std::process::Stdio::piped())
            .stderr(std::process::Stdio::piped())
            .spawn()
            .unwrap();
        std::io::Write::write_all(&mut child.stdin.take().unwrap(), input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    };
    assert_eq!(login("wrong").status.code(), Some(1));
    let signed_in = login("  harbour-lights ");
    assert!(
        signed_in.status.success()
            && stderr(&signed_in).contains("white space around the password was taken away"),
        "{}",
        stderr(&signed_in)
    );
    assert!(stdout(&plain(&["whoami"])).starts_with("inge (administrator) at http://127.0.0.1:"));
    assert!(plain(&["logout"]).status.success());
    assert_eq!(
        plain(&["--url", &porch.console, "whoami"]).status.code(),
        Some(1)
    );
}
