//! The other side of the gateway: people come by the portal, ask for offers, get keys, and call what they agreed to and nothing
//! else; publishers grant, turn down and end.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod changed;
mod hooks;
mod seen;
mod told;

use porch_tests::portal::{Outbox, PASSWORD, Visitor, with_offers, with_offers_and};
use porch_tests::{Http, Porch, new_database, wait_until};
use serde_json::{Value, json};

const FARE: &str = "/sailings/v2/fares/FAR-MAR/foot";

fn application(visitor: &mut Visitor, name: &str) {
    visitor.ok("POST", "/api/applications", &json!({ "name": name }));
}

fn ask(visitor: &mut Visitor, application: &str, wish: &Value) -> Http {
    let path = format!(
        "/api/applications/{}/requests",
        application.replace(' ', "%20")
    );
    visitor.ask("POST", &path, wish)
}

fn key(visitor: &mut Visitor, application: &str) -> String {
    let path = format!("/api/applications/{}/keys", application.replace(' ', "%20"));
    let made = visitor.ok("POST", &path, &json!({ "label": "first" }));
    made["key"].as_str().unwrap().to_owned()
}

#[test]
fn a_newcomer_signs_up_asks_calls_is_refused_at_the_eighth_and_renews_the_key() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let who = nils.ok("GET", "/api/session", &Value::Null);
    assert_eq!(
        (&who["name"], &who["team"]),
        (&json!("nils"), &json!("nils"))
    );
    application(&mut nils, "Nils Clock");
    let key = key(&mut nils, "Nils Clock");
    // Nothing is agreed, and so nothing is open.
    let refused = porch.call("GET", FARE, &key, "");
    assert_eq!(refused.status, 403);
    let problem = refused.json();
    assert_eq!(problem["type"], "urn:elm-porch:problem:agreement");
    assert!(
        problem["detail"]
            .as_str()
            .unwrap()
            .contains("Ask for an offer"),
        "{problem}"
    );
    let made = ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    assert_eq!(made.status, 201, "{}", made.text());
    assert_eq!(made.json()["state"], "granted");
    for left in (0..7).rev() {
        let reply = porch.call("GET", FARE, &key, "");
        assert_eq!(reply.status, 200);
        assert!(
            reply.header("ratelimit").contains(&format!(";r={left};")),
            "{left}"
        );
    }
    assert_eq!(porch.call("GET", FARE, &key, "").status, 429);
    // What it agreed to opens sailings and one operation of berths, and nothing else.
    let other = porch.call("GET", "/berths/v1/berths/B-7", &key, "");
    assert_eq!(other.status, 403, "{}", other.text());
    // Asked for twice is one too many: it goes on by itself.
    let again = ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    assert_eq!(again.status, 409, "{}", again.text());
    // A new key beside the old one, which ends later; then the old one at once.
    let prefix = key.split('-').next().unwrap();
    let soon = porch_now() + 60_000;
    let renewed = nils.ok(
        "POST",
        &format!("/api/keys/{prefix}/renew"),
        &json!({ "old_until": soon }),
    );
    let new = renewed["new"]["key"].as_str().unwrap().to_owned();
    for good in [&key, &new] {
        assert_eq!(
            porch.call("GET", "/berths/v1/berths/B-7", good, "").status,
            403
        );
    }
    nils.ok("DELETE", &format!("/api/keys/{prefix}"), &Value::Null);
    assert_eq!(porch.call("GET", FARE, &key, "").status, 401);
    assert_ne!(porch.call("GET", FARE, &new, "").status, 401);
    wait_until("the usage to be written", || {
        let usage = nils.ok("GET", "/api/usage?application=Nils%20Clock", &Value::Null);
        let of = |status: i64| {
            let calls = usage["calls"].as_array().unwrap().iter();
            let own = calls.filter(|c| c["operation"] == "quoteFare" && c["status"] == status);
            own.map(|c| c["calls"].as_i64().unwrap()).sum::<i64>()
        };
        let parts = usage["parts"].as_array().unwrap();
        let good: i64 = parts.iter().map(|p| p["good"].as_i64().unwrap()).sum();
        (of(200), parts.len(), good) == (7, 60, 7) && of(429) > 0
    });
    wait_until("the refusals to be written", || {
        let refused = nils.ok(
            "GET",
            "/api/refusals?application=Nils%20Clock",
            &Value::Null,
        );
        let all = refused.as_array().unwrap();
        let of = |status: i64| all.iter().find(|r| r["status"] == status).cloned();
        of(429).is_some_and(|r| r["why"].as_str().unwrap().contains("Retry-After"))
            && of(403).is_some_and(|r| r["why"].as_str().unwrap().contains("agreement"))
    });
}

fn porch_now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    i64::try_from(since.unwrap().as_millis()).unwrap()
}

#[test]
fn a_person_grants_or_turns_down_and_both_sides_are_told() {
    let (porch, outbox) = with_offers();
    let mut ines = Visitor::come(&porch, &outbox, "ines");
    for name in ["Gullwing Desk", "Gullwing Van"] {
        application(&mut ines, name);
    }
    // What must be accepted is, in the version that holds.
    let wish =
        |accept: Value| json!({ "offer": "charter-hand", "why": "Four desks.", "accept": accept });
    for (accept, status, part) in [
        (Value::Null, 400, "not accepted"),
        (json!("2026-01"), 409, "has changed"),
    ] {
        let told = ask(&mut ines, "Gullwing Desk", &wish(accept));
        assert_eq!(told.status, status, "{}", told.text());
        assert!(told.text().contains(part), "{}", told.text());
    }
    for name in ["Gullwing Desk", "Gullwing Van"] {
        let made = ask(&mut ines, name, &wish(json!("2027-01")));
        assert_eq!(
            (made.status, made.json()["state"].as_str().unwrap()),
            (201, "open")
        );
    }
    assert_eq!(
        ask(&mut ines, "Gullwing Desk", &wish(json!("2027-01"))).status,
        409
    );
    let key = key(&mut ines, "Gullwing Desk");
    assert_eq!(porch.call("GET", FARE, &key, "").status, 403);
    let told = porch.api("GET", "/api/messages", &Value::Null).json();
    assert_eq!(told[1]["subject"], "Gullwing Desk asks for Charter Hand");
    let open = porch.ok(&["offer", "requests", "--state", "open"]);
    let number = |i: usize| open[i]["id"].to_string();
    assert_eq!(open[1]["accepted"]["version"], "2027-01");
    assert_eq!(open[1]["accepted"]["by"], "ines@example.org");
    assert_eq!(open[1]["accepted"]["digest"].as_str().unwrap().len(), 64);
    let granted = porch.ok(&["offer", "grant", &number(1), "--reason", "Welcome aboard."]);
    assert_eq!(granted["state"], "granted");
    // The eighth passes: the terms are others.
    for _ in 0..9 {
        assert_eq!(porch.call("GET", FARE, &key, "").status, 200);
    }
    let again = porch.client(&["offer", "grant", &number(1)], "");
    assert_eq!(again.status.code(), Some(1));
    let no = porch.client(&["offer", "turn-down", &number(0), "--reason", ""], "");
    assert_eq!(no.status.code(), Some(1));
    porch.ok(&[
        "offer",
        "turn-down",
        &number(0),
        "--reason",
        "One is enough for now.",
    ]);
    let own = ines.ok("GET", "/api/messages", &Value::Null);
    let subjects: Vec<&str> = own
        .as_array()
        .unwrap()
        .iter()
        .map(|m| m["subject"].as_str().unwrap())
        .collect();
    assert_eq!(
        subjects,
        [
            "Your request for charter-hand is turned down",
            "Charter Hand is granted",
            "You asked for Charter Hand",
            "You asked for Charter Hand",
        ]
    );
    assert_eq!(own[0]["text"], "One is enough for now.");
    assert!(own[1]["text"].as_str().unwrap().contains("Welcome aboard."));
    // One to confirm the address, and one for each message.
    let (subject, _) = outbox.wait("ines@example.org", 5);
    assert!(
        subject.starts_with("Your request") || subject.starts_with("Charter Hand"),
        "{subject}"
    );
    // Ended with notice, it holds for thirty days more.
    let agreement = granted["agreement"].to_string();
    let ended = porch.ok(&[
        "agreement",
        "end",
        &agreement,
        "--notice",
        "--why",
        "The desk moves.",
    ]);
    let days = (ended["until_at"].as_i64().unwrap() - porch_now()) / 86_400_000;
    assert!((29..=30).contains(&days), "{ended}");
    assert_eq!(ended["ended"]["by"], "inge");
    assert_eq!(porch.call("GET", FARE, &key, "").status, 200);
    porch.ok(&["agreement", "end", &agreement]);
    let over = porch.call("GET", FARE, &key, "");
    assert_eq!(over.status, 403);
    assert!(over.text().contains("has ended"), "{}", over.text());
}

#[test]
fn what_an_agreement_opens_is_all_that_its_keys_open_also_after_a_restart_without_the_database() {
    let outbox = Outbox::start();
    let file = outbox.file.to_str().unwrap().to_owned();
    let mut cluster = porch_tests::new_cluster();
    let mut porch = Porch::start_with(&new_database(&cluster), &["--mail", &file]);
    porch.publish();
    porch.ok(&["release", "--offer", "fortnight-look", "--portal"]);
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    application(&mut nils, "Nils Clock");
    let key = key(&mut nils, "Nils Clock");
    ask(
        &mut nils,
        "Nils Clock",
        &json!({ "offer": "fortnight-look" }),
    );
    let check = |porch: &Porch| {
        for (method, path, status) in [
            ("GET", "/berths/v1/berths", 200),
            ("POST", "/berths/v1/berths/B-7:assign", 403),
            ("GET", FARE, 403),
        ] {
            let reply = porch.call(method, path, &key, if method == "POST" { "{}" } else { "" });
            let is_open = reply.status != 403;
            assert_eq!(
                is_open,
                status == 200,
                "{method} {path}: {} {}",
                reply.status,
                reply.text()
            );
        }
    };
    check(&porch);
    // Once, and not again.
    let again = ask(
        &mut nils,
        "Nils Clock",
        &json!({ "offer": "fortnight-look" }),
    );
    assert!(again.text().contains("is had once"), "{}", again.text());
    porch.stop_service();
    cluster.stop();
    porch.start_service(&[]).unwrap();
    check(&porch);
}

#[test]
fn a_changed_offer_says_whom_it_touches_and_agreements_keep_or_follow() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    application(&mut nils, "Nils Clock");
    let key = key(&mut nils, "Nils Clock");
    ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    let file = "offers/open-quay.offer.yaml";
    porch.edit(file, "requests: 7 }", "requests: 3 }");
    porch.edit(
        file,
        "  - { facade: berths, operations: [listBerths] }\n",
        "",
    );
    let pushed = porch.ok(&["push", porch.documents.to_str().unwrap()]);
    assert_eq!(pushed["unreleased_offers"], json!(["open-quay"]));
    let compared = porch.ok(&["compare"]);
    let changed = compared
        .as_array()
        .unwrap()
        .iter()
        .find(|d| d["offer"] == "open-quay")
        .unwrap();
    assert_eq!(changed["agreements"], 1);
    assert_eq!(
        changed["changes"],
        json!([
            "the term requests was 7 and is 3",
            "it opens berths/listBerths no more"
        ])
    );
    assert_eq!(
        changed["then"],
        "agreements keep the terms that were agreed on"
    );
    let released = porch.ok(&["release", "--offer", "open-quay"]);
    assert_eq!(released["followed"], 0);
    let most = || {
        porch
            .call("GET", FARE, &key, "")
            .header("ratelimit-policy")
            .to_owned()
    };
    assert!(most().contains("q=7"), "{}", most());
    // The next one follows, and says so before.
    porch.edit(file, "requests: 3 }", "requests: 4 }");
    porch.edit(
        file,
        "price: Free of charge.",
        "price: Free of charge.\nwhen-changed: follow",
    );
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    let compared = porch.ok(&["compare"]);
    let changed = compared
        .as_array()
        .unwrap()
        .iter()
        .find(|d| d["offer"] == "open-quay")
        .unwrap();
    assert_eq!(
        changed["then"],
        "agreements get the new terms with the release"
    );
    // Very many have it, and all of them follow.
    porch.sql("insert into consumer (name, owner, paused, created_at) select 'Crate ' || n, '', false, 1 from generate_series(1, 600) n");
    porch.sql("insert into agreement (consumer_id, offer, terms, from_at, paused, created_at) select id, 'open-quay', '{}', 1, false, 1 from consumer where name like 'Crate %'");
    let released = porch.ok(&["release", "--offer", "open-quay"]);
    assert_eq!(released["followed"], 601);
    assert!(most().contains("q=4"), "{}", most());
    // Back again, offers too.
    let back = released["number"].as_i64().unwrap() - 2;
    porch.ok(&["rollback", &back.to_string(), "--yes"]);
    let offer = porch.ok(&["offer", "show", "open-quay"]);
    assert_eq!(
        (&offer["terms"]["requests"], &offer["when_changed"]),
        (&json!(7), &json!("keep"))
    );
}

#[test]
fn an_offer_with_a_mistake_is_not_released_nor_one_of_a_facade_that_is_not_served() {
    let (porch, _) = with_offers();
    porch.edit(
        "offers/open-quay.offer.yaml",
        "facade: berths",
        "facade: berth",
    );
    porch.client(&["push", porch.documents.to_str().unwrap()], "");
    let refused = porch.client(&["release", "--offer", "open-quay"], "");
    let told = format!(
        "{}{}",
        String::from_utf8_lossy(&refused.stdout),
        String::from_utf8_lossy(&refused.stderr)
    );
    assert!(told.contains("did you mean “berths”"), "{told}");
    porch.edit(
        "offers/open-quay.offer.yaml",
        "facade: berth,",
        "facade: berths,",
    );
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    porch.ok(&["facade", "delete", "cargo", "--yes"]);
    let body = json!({ "facades": ["cargo"] });
    let refused = porch.api("POST", "/api/releases", &body);
    assert_eq!(refused.status, 422);
    let findings = refused.json()["findings"].to_string();
    assert!(
        findings.contains("the offer charter-hand opens the facade “cargo”"),
        "{findings}"
    );
    assert!(
        findings.contains("the portal shows the facade “cargo”"),
        "{findings}"
    );
}

#[test]
fn a_thousand_agreements_are_listed_to_their_end() {
    let (porch, _) = with_offers();
    let made = porch.ok(&["agreement", "create", "Quayside Kiosk", "open-quay"]);
    // What is not said is as the offer has it.
    assert_eq!(
        (&made["terms"]["requests"], &made["opens"]),
        (&json!(7), &json!(["berths/listBerths", "sailings"]))
    );
    assert!(made["until_at"].as_i64().unwrap() > porch_now());
    let sql = "insert into agreement (consumer_id, offer, terms, from_at, paused, created_at) select id, 'fortnight-look', '{}', 1, false, 1 from consumer, generate_series(1, 1200) where name = 'Quayside Kiosk'";
    porch.sql(sql);
    let all = porch.ok(&["agreement", "list"]);
    assert_eq!(all.as_array().unwrap().len(), 1201);
    let some = porch.ok(&[
        "agreement",
        "list",
        "--offer",
        "open-quay",
        "--search",
        "KIOSK",
        "--holding",
    ]);
    assert_eq!(some.as_array().unwrap().len(), 1);
    let none = porch.ok(&["agreement", "list", "--search", "100%"]);
    assert_eq!(none, json!([]));
}

#[test]
fn who_leaves_takes_everything_along_and_data_are_handed_out() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    application(&mut nils, "Nils Clock");
    ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    let first = key(&mut nils, "Nils Clock");
    assert_eq!(porch.call("GET", FARE, &first, "").status, 200);
    // Twenty keys, and no more.
    for _ in 1..20 {
        key(&mut nils, "Nils Clock");
    }
    let more = nils.ask("POST", "/api/applications/Nils%20Clock/keys", &json!({}));
    assert_eq!(more.status, 409, "{}", more.text());
    let key = first;
    let data = nils.ok("GET", "/api/account/data", &Value::Null);
    assert_eq!(data["person"]["email"], "nils@example.org");
    assert_eq!(data["applications"][0]["name"], "Nils Clock");
    assert_eq!(data["agreements"].as_array().unwrap().len(), 1);
    assert!(
        !data.to_string().contains(&key) && !data.to_string().contains("argon2"),
        "{data}"
    );
    let wrong = nils.ask(
        "DELETE",
        "/api/account",
        &json!({ "password": "another fog lantern" }),
    );
    assert_eq!(wrong.status, 401);
    nils.ok("DELETE", "/api/account", &json!({ "password": PASSWORD }));
    assert_eq!(porch.call("GET", FARE, &key, "").status, 401);
    assert_eq!(
        nils.ask("GET", "/api/applications", &Value::Null).status,
        401
    );
    let again = nils.ask(
        "POST",
        "/api/session",
        &json!({ "email": "nils@example.org", "password": PASSWORD }),
    );
    assert_eq!(again.status, 401);
    assert_eq!(
        porch
            .client(&["consumer", "list", "--search", "Nils"], "")
            .status
            .code(),
        Some(0)
    );
    assert_eq!(porch.ok(&["team", "list"]), json!([]));
    // What was done is kept, and no more who it was.
    let audit = porch.ok(&["audit"]).to_string();
    assert!(
        audit.contains("made a key") && !audit.contains("nils@example.org"),
        "{audit}"
    );
    // The address is free again.
    let mut again = Visitor::at(&porch);
    let new = json!({ "email": "nils@example.org", "name": "nils", "password": PASSWORD });
    again.ok("POST", "/api/sign-up", &new);
    let before = outbox.letters("nils@example.org").len();
    let (subject, _) = outbox.wait("nils@example.org", before.max(2));
    assert!(
        subject.starts_with("Confirm") || subject.contains("granted"),
        "{subject}"
    );
}
