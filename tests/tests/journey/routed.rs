//! Where calls go, what copies of them give, and replies that are kept: by the client, on the demo's documents.

use super::*;

const DAY: &str = "days/2027-05-14";

fn departures(porch: &Porch, route: &str, fields: &[(&str, &str)]) -> Http {
    let url = format!("{}/timetable/v1/routes/{route}/{DAY}", porch.gateway);
    Http::send("GET", &url, fields, Vec::new())
}

#[test]
fn a_timetable_is_replaced_by_the_next_one_step_by_step() {
    let (mut porch, _) = Porch::published();
    let by_next = |reply: &Http| reply.json()["quay"] == json!(2);
    // A tenth of the routes, and whoever asks for it.
    let sides: Vec<bool> = ["FAR-MAR", "MAR-TER", "TER-HOL"]
        .iter()
        .map(|route| by_next(&departures(&porch, route, &[])))
        .collect();
    assert_eq!(sides, [false, true, false]);
    assert!(by_next(&departures(
        &porch,
        "FAR-MAR",
        &[("X-Preview", "yes")]
    )));
    // All others were copied: one is the same, the other has a ship more there.
    let mut line = Value::Null;
    wait_until("the copies are counted", || {
        line = porch.ok(&["usage", "--copies"])[0].clone();
        line["same"] == json!(1) && line["different"] == json!(1)
    });
    assert_eq!(
        (&line["operation"], &line["backend"]),
        (&json!("departures"), &json!("timetable-next"))
    );
    assert_eq!(
        line["told"],
        "=answer.body.departures: [\"09:00\",\"21:15\"] against [\"09:00\"]"
    );
    let shown = stdout(&porch.client(&["usage", "--copies"], ""));
    assert!(
        shown.contains("timetable/departures") && shown.contains("against"),
        "{shown}"
    );
    // A trial run says it at once.
    let trial = porch.ok(&["try", "departures", "route=TER-HOL", "date=2027-05-14"]);
    assert!(trial.to_string().contains("against"), "{trial}");
    // The old one is gone, and nobody notices; only what it alone can do is refused.
    porch.timetable = None;
    for _ in 0..30 {
        let reply = departures(&porch, "TER-HOL", &[]);
        assert!(reply.status == 200 && by_next(&reply), "{}", reply.text());
    }
    let notice = porch.call("POST", "/timetable/v1/notices", "", "{}");
    assert!(matches!(notice.status, 502 | 503), "{}", notice.text());
    let rules = porch.ok(&[
        "check",
        porch.documents.to_str().unwrap(),
        "--rules",
        "timetable/departures",
    ]);
    let rules = rules.to_string();
    for told in [
        "calls of timetable go to timetable-next for 10 of a hundred by =path.route",
        "where timetable gives no answer, timetable-next is called",
        "100 of a hundred calls of timetable are copied to timetable-next",
    ] {
        assert!(rules.contains(told), "{told}: {rules}");
    }
}

#[test]
fn a_backend_whose_calls_fail_is_said_to_be_left_alone() {
    let (porch, _) = Porch::published();
    let timetable = porch.timetable.as_ref().unwrap();
    timetable.mood(&json!({ "fail_every": 1 }));
    for _ in 0..20 {
        let notice = porch.call("POST", "/timetable/v1/notices", "", "{}");
        assert_eq!(notice.status, 503, "{}", notice.text());
    }
    let alone = porch.call("POST", "/timetable/v1/notices", "", "{}");
    assert_eq!(
        alone.json()["type"],
        "urn:elm-porch:problem:backend-resting"
    );
    assert!(!alone.header("retry-after").is_empty());
    let backends = porch.ok(&["backend", "list"]);
    let all = backends.as_array().unwrap().iter();
    let resting: Vec<&str> = all
        .filter(|b| b["resting"].as_u64() > Some(0))
        .filter_map(|b| b["name"].as_str())
        .collect();
    assert_eq!(resting, ["timetable"]);
    let shown = stdout(&porch.client(&["backend", "list"], ""));
    assert!(shown.contains("http, left alone for "), "{shown}");
}

#[test]
fn an_address_that_is_not_well_is_said_to_be_left_alone_and_comes_back() {
    let (porch, _) = Porch::published();
    let next = porch.timetable_next.as_ref().unwrap();
    let out = || {
        let backends = porch.ok(&["backend", "list"]);
        let all = backends.as_array().unwrap().iter();
        let next = all.clone().find(|b| b["name"] == "timetable-next").unwrap();
        next["out"].clone()
    };
    assert_eq!(out(), json!([]));
    next.mood(&json!({ "fail_every": 1 }));
    wait_until("it is left alone", || out() != json!([]));
    let told = out()[0]["told"].as_str().unwrap().to_owned();
    assert!(told.starts_with('5'), "{told}");
    let shown = stdout(&porch.client(&["backend", "list"], ""));
    assert!(shown.contains(&format!(" is not well: {told}")), "{shown}");
    // Those who would go there go where the others go.
    let by_next = |reply: &Http| reply.json()["quay"] == json!(2);
    let preview = [("X-Preview", "yes")];
    let reply = departures(&porch, "FAR-MAR", &preview);
    assert!(reply.status == 200 && !by_next(&reply), "{}", reply.text());
    next.mood(&json!({}));
    wait_until("it is called again", || out() == json!([]));
    let reply = departures(&porch, "FAR-MAR", &preview);
    assert!(reply.status == 200 && by_next(&reply), "{}", reply.text());
}

#[test]
fn kept_replies_are_shown_and_let_go_of() {
    let (porch, _) = Porch::published();
    let asked = |name: &str| {
        let reply = porch.call("GET", &format!("/journeys/v1/harbours/{name}"), "", "");
        reply.header("cache-status").to_owned()
    };
    let is_kept = |name: &str| asked(name).starts_with("elm-porch; hit");
    assert_eq!(
        [
            is_kept("farholt"),
            is_kept("farholt"),
            is_kept("nowhere"),
            is_kept("nowhere")
        ],
        [false, true, false, true]
    );
    let kept = porch.ok(&["cache", "show"]);
    assert_eq!(
        (&kept["replies"], &kept["operations"]),
        (&json!(2), &json!(["journeys/harbour"]))
    );
    let purged = porch.ok(&[
        "cache",
        "purge",
        "--facade",
        "journeys",
        "--path",
        "/journeys/v1/harbours/far",
    ]);
    assert_eq!(purged["replies"], 1);
    assert_eq!([is_kept("farholt"), is_kept("nowhere")], [false, true]);
    assert_eq!(
        porch.ok(&["cache", "purge", "--tag", "harbours"])["replies"],
        2
    );
    assert!(!is_kept("nowhere"));
    // A name that was written wrongly lets go of nothing, and says so.
    for (arguments, told) in [
        (&["--tag", "harbour"][..], "There is no tag “harbour”"),
        (&["--facade", "journey"], "There is no facade “journey”"),
        (
            &["--facade", "journeys", "--operation", "harbours"],
            "There is no operation “harbours”",
        ),
        (&["--path", "journeys"], "That is no path"),
    ] {
        let all = [&["cache", "purge"], arguments].concat();
        let output = porch.client(&all, "");
        assert_eq!(output.status.code(), Some(1));
        assert!(stderr(&output).contains(told), "{}", stderr(&output));
    }
    let audit = porch.ok(&["audit"]);
    assert_eq!(audit[0]["words"], "let go of kept replies: tag harbours");
    // A release that changes the facade lets go of what was kept of it.
    assert!(is_kept("nowhere"));
    porch.edit(
        "journeys/journeys.facade.yaml",
        "title: Journeys, with the tide",
        "title: Journeys",
    );
    porch.push_and_release("journeys");
    assert!(!is_kept("nowhere"));
}
