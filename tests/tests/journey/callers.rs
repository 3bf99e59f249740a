//! Who calls, and how much: consumers with roles, agreements and several credentials, by client and service, on the demo's
//! berths.

use super::*;

pub(super) const BERTHS: &str = "/berths/v1/berths";

/// A call with fields of its own.
pub(super) fn with(
    porch: &Porch,
    method: &str,
    path: &str,
    fields: &[(&str, &str)],
    body: &str,
) -> Http {
    let url = format!("{}{path}", porch.gateway);
    Http::send(method, &url, fields, body.as_bytes().to_vec())
}

fn basic(pair: &str) -> String {
    use base64::Engine;
    format!(
        "Basic {}",
        base64::engine::general_purpose::STANDARD.encode(pair)
    )
}

#[test]
fn a_consumer_has_several_credentials_a_role_and_what_it_agreed_to() {
    let (porch, key) = Porch::published();
    let berths = |key: &str| porch.call("GET", BERTHS, key, "");
    let desk = "Island Freight Desk";
    porch.ok(&[
        "consumer", "create", desk, "--owner", "freight", "--label", "harbour",
    ]);
    porch.ok_with(
        &["consumer", "password", desk, "--name", "freight-desk"],
        "crate 17 goes to Tern Rock\n",
    );
    // The role that one operation demands.
    let assign = |fields: &[(&str, &str)]| {
        let json = [("content-type", "application/json")];
        let fields = [&json[..], fields].concat();
        with(
            &porch,
            "POST",
            "/berths/v1/berths/f1:assign",
            &fields,
            r#"{"vessel":"vessels/kettle"}"#,
        )
    };
    let own = basic("freight-desk:crate 17 goes to Tern Rock");
    let shown = [("authorization", own.as_str())];
    let refused = assign(&shown);
    assert_eq!(
        (refused.status, &refused.json()["roles"]),
        (403, &json!(["harbour-master"]))
    );
    porch.ok(&["consumer", "change", desk, "--role", "harbour-master"]);
    let done = assign(&shown);
    assert_eq!(done.status, 200, "{}", done.text());
    assert_eq!(assign(&[("api-key", key.as_str())]).status, 403);
    // Another password acts at once, on what was right a moment ago too.
    porch.ok_with(
        &["consumer", "password", desk, "--name", "freight-desk"],
        "crate 18 goes to Farholt",
    );
    assert_eq!(assign(&shown).status, 401);
    // Terms: without an agreement the document's own number holds.
    assert_eq!(
        berths(&key).header("ratelimit-policy"),
        "\"berths\";q=20;w=60"
    );
    let made = porch.ok(&[
        "agreement",
        "create",
        "Quayside Kiosk",
        "Open Quay",
        "--term",
        "requests=3",
        "--facade",
        "berths",
    ]);
    let number = made["id"].to_string();
    let answer = berths(&key);
    assert_eq!(answer.header("ratelimit-policy"), "\"berths\";q=3;w=60");
    let statuses: Vec<u16> = (0..3).map(|_| berths(&key).status).collect();
    assert_eq!(statuses, [200, 200, 429]);
    porch.ok(&["agreement", "change", &number, "--term", "requests=5"]);
    assert_eq!(
        [
            berths(&key).status,
            berths(&key).status,
            berths(&key).status
        ],
        [200, 200, 429]
    );
    // A key that is for the agreement alone ends with it; others go on.
    let bound = porch.ok(&["key", "create", "Quayside Kiosk", "--agreement", &number]);
    let bound = bound["key"].as_str().unwrap().to_owned();
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &bound, "")
            .status,
        403
    );
    porch.ok(&["agreement", "end", &number]);
    let told = berths(&bound);
    assert_eq!(
        (told.status, &told.json()["detail"]),
        (
            403,
            &json!("No agreement holds for berths/listBerths now. That of Open Quay has ended.")
        )
    );
    assert_eq!(berths(&key).status, 200);
    // What there is, by search and in one place.
    let found = porch.ok(&["consumer", "list", "--search", "HARBOUR"]);
    assert_eq!(
        (found.as_array().unwrap().len(), &found[0]["name"]),
        (1, &json!(desk))
    );
    let one = porch.ok(&["consumer", "show", desk]);
    assert_eq!(
        (&one["roles"], &one["passwords"][0]["name"]),
        (&json!(["harbour-master"]), &json!("freight-desk"))
    );
    wait_until("its calls and the last use are written", || {
        let one = porch.ok(&["consumer", "show", desk]);
        one["calls"][0]["operation"] == "assignBerth"
            && one["passwords"][0]["last_used_at"].is_i64()
    });
    let refused = porch.client(&["consumer", "delete", desk], "");
    assert!(!refused.status.success());
    let told = stderr(&refused);
    assert!(
        told.contains("berths/assignBerth") && told.contains("--yes"),
        "{told}"
    );
    porch.ok(&["consumer", "delete", desk, "--yes"]);
    let gone = porch.client(&["consumer", "show", desk], "");
    assert!(
        stderr(&gone).contains("there is no consumer"),
        "{}",
        stderr(&gone)
    );
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    let whats: Vec<&str> = audit
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|l| l["what"].as_str())
        .collect();
    for what in ["set a password", "agreed", "deleted", "made a key"] {
        assert!(whats.contains(&what), "{what}: {whats:?}");
    }
    let text = porch.log();
    assert!(!text.contains("crate 17 goes"), "{text}");
}

#[test]
fn a_key_is_renewed_without_a_gap_and_found_where_it_does_not_belong() {
    let (porch, old) = Porch::published();
    let status = |key: &str| porch.call("GET", BERTHS, key, "").status;
    let renewed = porch.ok(&[
        "key", "renew", &old, "--keep", "2", "--days", "90", "--label", "autumn",
    ]);
    let new = renewed["new"]["key"].as_str().unwrap().to_owned();
    assert_eq!([status(&old), status(&new)], [200, 200]);
    let ends = renewed["old"]["ends_at"].as_i64().unwrap() - now_ms();
    assert!((0..=2 * 86_400_000).contains(&ends), "{ends}");
    // In a file: by its form and its check, whole or not at all.
    let file = porch.folder().join("notes.txt");
    std::fs::write(
        &file,
        format!("curl -H 'API-Key: {new}' \nand {}\n", &new[..30]),
    )
    .unwrap();
    let found = porch.client(&["--json", "key", "find", file.to_str().unwrap()], "");
    assert_eq!(found.status.code(), Some(1));
    let told: Value = serde_json::from_str(&stdout(&found)).unwrap();
    assert_eq!(
        (
            told.as_array().unwrap().len(),
            &told[0]["line"],
            &told[0]["consumer"]
        ),
        (1, &json!(1), &json!("Quayside Kiosk"))
    );
    assert!(!stdout(&found).contains(&new));
    std::fs::write(&file, "nothing here").unwrap();
    assert!(
        porch
            .client(&["key", "find", file.to_str().unwrap()], "")
            .status
            .success()
    );
    // One that is good cannot be taken away; one that has ended can, and then is shown no more.
    let prefix = &old[..8];
    let refused = porch.client(&["key", "delete", prefix], "");
    assert!(
        stderr(&refused).contains("good still"),
        "{}",
        stderr(&refused)
    );
    porch.ok(&["key", "end", prefix]);
    assert_eq!([status(&old), status(&new)], [401, 200]);
    let list = porch.ok(&["key", "list"]);
    let ended = list
        .as_array()
        .unwrap()
        .iter()
        .find(|k| k["prefix"] == prefix)
        .unwrap();
    assert!(ended["ends_at"].as_i64().unwrap() <= now_ms());
    let again = porch.client(&["key", "renew", prefix], "");
    assert!(
        stderr(&again).contains("ended already"),
        "{}",
        stderr(&again)
    );
    porch.ok(&["key", "delete", prefix]);
    assert_eq!([status(&old), status(&new)], [401, 200]);
    // What it opens is changed, and wrong names are told.
    let change =
        |arguments: &[&str]| porch.client(&[&["key", "change", &new[..8]], arguments].concat(), "");
    assert!(stderr(&change(&["--facade", "berth"])).contains("berths"));
    assert!(stderr(&change(&["--agreement", "77"])).contains("no agreement 77"));
    assert!(change(&["--facade", "sailings"]).status.success());
    assert_eq!(status(&new), 403);
    assert!(
        change(&["--every-facade", "--label", "spring"])
            .status
            .success()
    );
    assert_eq!(status(&new), 200);
}

#[test]
fn what_is_used_of_a_quota_is_told_added_to_and_kept_when_the_service_is_killed() {
    let (mut porch, key) = Porch::published();
    let get = |porch: &Porch| porch.call("GET", BERTHS, &key, "");
    porch.edit(
        "berths/berths.facade.yaml",
        "requests: =terms.?requests.orValue(20)",
        "requests: 1000",
    );
    porch.edit(
        "berths/berths.facade.yaml",
        "requests: 40, each: month",
        "requests: 10, each: month",
    );
    porch.push_and_release("berths");
    for _ in 0..6 {
        assert_eq!(get(&porch).status, 200);
    }
    let own = |porch: &Porch| porch.ok(&["quota", "list"])[0].clone();
    let quota = own(&porch);
    assert_eq!(
        (&quota["whose"], &quota["used"], &quota["most"]),
        (&json!("Quayside Kiosk"), &json!(6), &json!(10))
    );
    wait_until("half of it is told", || {
        let told = porch.ok(&["quota", "told", "--consumer", "Quayside Kiosk"]);
        told[0]["detail"]["share"] == 50
    });
    // Killed, and back: nothing is forgotten, and nothing is given twice.
    porch.kill_service();
    porch.start_service(&[]).unwrap();
    wait_until("it is served again", || get(&porch).status == 200);
    let used = own(&porch)["used"].as_u64().unwrap();
    assert_eq!(used, 7);
    let statuses: Vec<u16> = (0..4).map(|_| get(&porch).status).collect();
    assert_eq!(statuses, [200, 200, 200, 429]);
    let refused = get(&porch).json();
    assert_eq!(
        (&refused["title"], &refused["used"]),
        (&json!("The quota is used up"), &json!(10))
    );
    // More of it, once, with a reason; after another start too.
    let add = |arguments: &[&str]| {
        porch.client(
            &[&["quota", "add", "Quayside Kiosk"], arguments].concat(),
            "",
        )
    };
    let wrong = add(&["2", "--of", "sailings", "--why", "regatta"]);
    assert!(
        stderr(&wrong).contains("has no quota"),
        "{}",
        stderr(&wrong)
    );
    assert!(
        add(&["2", "--of", "berths", "--why", "regatta"])
            .status
            .success()
    );
    assert_eq!(get(&porch).status, 200);
    porch.kill_service();
    porch.start_service(&[]).unwrap();
    wait_until("the last of it is given", || get(&porch).status != 503);
    let left: Vec<u16> = (0..2).map(|_| get(&porch).status).collect();
    assert_eq!(left[1], 429, "{left:?}");
    assert_eq!(own(&porch)["used"], 12);
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    let added = audit
        .as_array()
        .unwrap()
        .iter()
        .find(|l| l["what"] == "added to a quota")
        .unwrap();
    assert_eq!(
        (&added["detail"]["why"], &added["who"]),
        (&json!("regatta"), &json!("inge"))
    );
}

#[test]
fn an_agreement_has_a_time_in_which_it_holds() {
    let (porch, _) = Porch::published();
    let path = "/api/consumers/Quayside%20Kiosk/agreements";
    let make = |from: i64, until: Value| {
        let body = json!({ "offer": "berths", "terms": {}, "from_at": from, "until_at": until });
        porch.api("POST", path, &body)
    };
    for (from, until, title) in [
        (i64::MIN, Value::Null, "It begins at no time that there is"),
        (-1, Value::Null, "It begins at no time that there is"),
        (i64::MAX, Value::Null, "It begins at no time that there is"),
        (5, json!(i64::MAX), "It ends at no time that there is"),
        (5, json!(5), "It would end before it begins"),
    ] {
        let told = make(from, until);
        assert_eq!((told.status, &told.json()["title"]), (400, &json!(title)));
    }
    let made = make(5, json!(6));
    assert_eq!(made.status, 201, "{}", made.text());
    let path = format!("/api/agreements/{}", made.json()["id"]);
    let end = |at: i64| porch.api("PUT", &path, &json!({ "until_at": at })).status;
    assert_eq!(
        [end(i64::MAX), end(-1), end(1), end(0)],
        [400, 400, 204, 204]
    );
}

#[test]
fn a_limit_counts_on_when_the_service_is_killed_within_its_window() {
    let (mut porch, key) = Porch::published();
    let get = |porch: &Porch| {
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status
    };
    for _ in 0..5 {
        assert_eq!(get(&porch), 200);
    }
    porch.kill_service();
    porch.start_service(&[]).unwrap();
    let mut passed = 0;
    wait_until("its limit is reached", || {
        let status = get(&porch);
        passed += usize::from(status == 200);
        status == 429
    });
    assert_eq!(passed, 2);
}

#[test]
fn what_one_service_changes_the_other_knows_within_a_second() {
    let (one, key) = Porch::published();
    let sealed = one.folder().join("state/seal.key");
    let other = Porch::start_with(
        &one.database,
        &["--secrets-key-file", sealed.to_str().unwrap()],
    );
    let status = |porch: &Porch, key: &str| porch.call("GET", BERTHS, key, "").status;
    wait_until("both serve it", || status(&other, &key) == 200);
    let new = one.new_key("Quayside Kiosk");
    wait_until("the other takes the new key", || {
        status(&other, &new) == 200
    });
    other.ok(&["key", "end", &new[..8]]);
    wait_until("the first refuses it", || status(&one, &new) == 401);
    other.ok(&[
        "agreement",
        "create",
        "Quayside Kiosk",
        "Open Quay",
        "--term",
        "requests=2",
    ]);
    wait_until("the first reads the terms", || {
        one.call("GET", BERTHS, &key, "")
            .header("ratelimit-policy")
            .contains("q=2;")
    });
    other.ok(&["consumer", "delete", "Quayside Kiosk", "--yes"]);
    wait_until("nobody calls any more", || status(&one, &key) == 401);
    // Two services do not count in one folder.
    let state = one.folder().join("state");
    let output = std::process::Command::new(program("porch"))
        .args([
            "serve",
            "--gateway",
            "127.0.0.1:0",
            "--portal",
            "127.0.0.1:0",
            "--console",
            "127.0.0.1:0",
        ])
        .args([
            "--state",
            state.to_str().unwrap(),
            "--database",
            &one.database,
        ])
        .output()
        .unwrap();
    assert!(!output.status.success());
    assert!(
        stderr(&output).contains("another service counts there"),
        "{}",
        stderr(&output)
    );
}

fn now_ms() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.unwrap().as_millis() as i64
}
