//! Rules that are kept once and act in many places: by the client, on the demo's documents.

use super::*;

const DAY: &str = "/timetable/v1/routes/FAR-MAR/days/2027-05-14";
const HARBOUR: &str = "/journeys/v1/harbours/farholt";

#[test]
fn shared_rules_act_where_they_reach_and_say_so() {
    let (porch, _) = Porch::published();
    // The backend says what it is made with, and nobody else does.
    let timetable = porch.timetable.as_ref().unwrap();
    let itself = Http::send(
        "GET",
        &format!("http://{}/tt?r=FAR-MAR&d=2027-05-14", timetable.address),
        &[],
        Vec::new(),
    );
    assert_eq!(itself.header("server"), "timetable/1.4 (2009)");
    let reply = porch.call("GET", DAY, "", "");
    assert_eq!((reply.status, reply.header("server")), (200, ""));
    let harbour = porch.call("GET", HARBOUR, "", "");
    assert_eq!(harbour.header("x-fair-share"), "300 in 10s, summer");
    assert!(
        harbour
            .header("ratelimit-policy")
            .contains("\"fair-share\";q=300;w=10")
    );
    let rules = porch.ok(&["rules"]);
    let of = |name: &str| {
        rules
            .as_array()
            .unwrap()
            .iter()
            .find(|r| r["name"] == name)
            .unwrap()
            .clone()
    };
    assert_eq!(of("house")["reach"], "everywhere");
    assert_eq!(of("house")["facades"].as_array().map(Vec::len), Some(8));
    assert_eq!(of("fair-share")["facades"], json!(["journeys"]));
    let shown = stdout(&porch.client(&["rules"], ""));
    assert!(
        shown.contains("requests (integer, 600), season (string, \"all year\")"),
        "{shown}"
    );
    let acting = stdout(&porch.client(
        &[
            "check",
            porch.documents.to_str().unwrap(),
            "--rules",
            "journeys/harbour",
        ],
        "",
    ));
    for told in [
        "limit 300 in 10s per address",
        "fair-share.rules.yaml:8",
        "house.rules.yaml:9",
    ] {
        assert!(acting.contains(told), "{told}: {acting}");
    }
    // So does the service, for the console.
    let view = porch
        .api(
            "GET",
            "/api/facades/journeys/operations/harbour",
            &Value::Null,
        )
        .json();
    assert!(
        view["rules"].to_string().contains("house.rules.yaml"),
        "{view}"
    );
}

#[test]
fn one_limit_of_what_reaches_everywhere_is_shared_by_all() {
    let (porch, _) = Porch::published();
    let admit = "admit: { max-body: 1MiB }";
    let limited = "admit: { max-body: 1MiB, limits: [{ requests: 3, window: 10m, per: address }] }";
    porch.edit("house.rules.yaml", admit, limited);
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    // What reaches others too is said, and stays as it was for those that are not released.
    let differences = porch.ok(&["compare", "timetable"]);
    let shared = &differences[0]["shared"][0];
    assert_eq!(shared["file"], "house.rules.yaml");
    assert_eq!(
        shared["facades"].as_array().map(Vec::len),
        Some(7),
        "{shared}"
    );
    let shown = stdout(&porch.client(&["compare", "timetable"], ""));
    assert!(
        shown.contains("house.rules.yaml changes berths, cargo, harbour"),
        "{shown}"
    );
    let shown = stdout(&porch.client(&["release", "timetable"], ""));
    assert!(
        shown.contains("house.rules.yaml stays as it was for berths, cargo, harbour"),
        "{shown}"
    );
    for _ in 0..4 {
        assert_eq!(porch.call("GET", HARBOUR, "", "").status, 200);
    }
    assert_eq!(porch.call("GET", DAY, "", "").status, 200);
    porch.ok(&["release", "journeys"]);
    // One went to the timetable: two are left for both.
    assert_eq!(porch.call("GET", HARBOUR, "", "").status, 200);
    assert_eq!(porch.call("GET", DAY, "", "").status, 200);
    let refused = porch.call("GET", HARBOUR, "", "");
    assert_eq!(
        (refused.status, porch.call("GET", DAY, "", "").status),
        (429, 429)
    );
    let instance = refused.json()["instance"].to_string();
    let id = instance
        .trim_matches('"')
        .rsplit(':')
        .next()
        .unwrap_or_default();
    wait_until("the trace is written", || {
        porch.client(&["explain", id], "").status.success()
    });
    let told = porch.ok(&["explain", id])["trace"]["refusal"].clone();
    let of = |name: &str| told[name].clone();
    assert_eq!(
        (of("rule"), of("reach"), of("file"), of("line")),
        (
            json!("limit 3 in 10m per address"),
            json!("everywhere"),
            json!("house.rules.yaml"),
            json!(6)
        ),
        "{told}"
    );
}

#[test]
fn what_a_shared_rule_breaks_is_told_of_it_and_nothing_is_released() {
    let (porch, _) = Porch::published();
    porch.edit("fair-share.rules.yaml", "per: address", "per: consumer");
    let pushed = stdout(&porch.client(&["push", porch.documents.to_str().unwrap()], ""));
    assert!(
        pushed.contains("a limit per consumer needs callers that are known"),
        "{pushed}"
    );
    assert!(pushed.contains("fair-share.rules.yaml:8"), "{pushed}");
    assert!(
        pushed.contains("with the values of journeys/journeys.facade.yaml:88"),
        "{pushed}"
    );
    let released = porch.client(&["release", "journeys"], "");
    assert!(!released.status.success());
    assert_eq!(porch.call("GET", HARBOUR, "", "").status, 200);
    // A facade that it does not reach is none the worse.
    porch.ok(&["release", "timetable"]);
}
