//! Releases: what goes live, and what never does.

use super::*;

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
                "journeys",
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
            && text.contains("sailings/sailings.facade.yaml:15:7")
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
