//! What people are told before it happens.

use super::*;

#[test]
fn what_ends_soon_goes_on_or_is_told_once_and_quotas_are_told_too() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    application(&mut nils, "Nils Clock");
    let clock = key(&mut nils, "Nils Clock");
    for offer in ["open-quay", "fortnight-look"] {
        let made = ask(&mut nils, "Nils Clock", &json!({ "offer": offer }));
        assert_eq!(made.status, 201, "{}", made.text());
    }
    // Both end within the hour; and a key does in two days.
    let soon = porch_now() + 3_000_000;
    porch.sql(&format!("update agreement set until_at = {soon}"));
    let path = "/api/applications/Nils%20Clock/keys";
    let ends = json!({ "label": "short", "ends_at": porch_now() + 2 * 86_400_000 });
    let short = nils.ok("POST", path, &ends)["prefix"].clone();
    let until = |offer: &str| {
        let all = porch.ok(&["agreement", "list", "--offer", offer]);
        all[0]["until_at"].as_i64().unwrap()
    };
    wait_until("the one that goes on by itself to go on", || {
        until("open-quay") > soon
    });
    assert_eq!(until("open-quay") - soon, 365 * 86_400_000);
    assert_eq!(until("fortnight-look"), soon);
    // Half of the quota of forty berths a month.
    for offer in ["open-quay", "fortnight-look"] {
        let number = porch.ok(&["agreement", "list", "--offer", offer])[0]["id"].to_string();
        porch.ok(&["agreement", "change", &number, "--term", "requests=1000"]);
    }
    for _ in 0..20 {
        let reply = porch.call("GET", "/berths/v1/berths", &clock, "");
        assert_eq!(reply.status, 200, "{}", reply.text());
    }
    let mut subjects = Vec::new();
    wait_until("all of it to be told", || {
        let told = nils.ok("GET", "/api/messages", &Value::Null);
        let texts = told.as_array().unwrap().iter();
        subjects = texts
            .map(|m| m["subject"].as_str().unwrap().to_owned())
            .collect();
        let holds = |text: &str| subjects.iter().any(|s| s.contains(text));
        holds("fortnight-look of Nils Clock ends on")
            && holds(&format!(
                "The key {} of Nils Clock ends on",
                short.as_str().unwrap()
            ))
            && holds("% of the quota of berths")
    });
    let letters = outbox.letters("nils@example.org").len();
    // Looked at again and again, and told once: what happens next comes behind all of it.
    nils.ok(
        "POST",
        path,
        &json!({ "label": "later", "ends_at": porch_now() + 86_400_000 }),
    );
    wait_until("the next look", || {
        outbox.letters("nils@example.org").len() > letters
    });
    let told = nils.ok("GET", "/api/messages", &Value::Null);
    let count = |text: &str| {
        let all = told.as_array().unwrap().iter();
        all.filter(|m| m["subject"].as_str().unwrap().contains(text))
            .count()
    };
    assert_eq!(
        (count("fortnight-look of"), count("open-quay of")),
        (1, 0),
        "{subjects:?}"
    );
}

#[test]
fn what_is_left_of_limits_and_quotas_is_told_and_asking_counts_nothing() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    application(&mut nils, "Nils Clock");
    let path = "/api/limits?application=Nils%20Clock";
    // What opens nothing has nothing left.
    assert_eq!(nils.ok("GET", path, &Value::Null), json!([]));
    let made = ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    assert_eq!(made.status, 201, "{}", made.text());
    let clock = key(&mut nils, "Nils Clock");
    let left = |nils: &mut Visitor, facade: &str, rule: &str| {
        let all = nils.ok("GET", path, &Value::Null);
        let mut all = all.as_array().unwrap().iter();
        let is = |l: &&Value| l["facade"] == facade && l["rule"].as_str().unwrap().contains(rule);
        let found = all.find(is).unwrap_or_else(|| panic!("{facade} {rule}"));
        (
            found["left"].as_u64().unwrap(),
            found["most"].as_u64().unwrap(),
        )
    };
    assert_eq!(left(&mut nils, "sailings", "90 seconds"), (7, 7));
    assert_eq!(left(&mut nils, "berths", "each month"), (40, 40));
    for n in 1..=3 {
        assert_eq!(porch.call("GET", FARE, &clock, "").status, 200);
        assert_eq!(left(&mut nils, "sailings", "90 seconds"), (7 - n, 7));
        assert_eq!(left(&mut nils, "sailings", "90 seconds"), (7 - n, 7));
    }
    assert_eq!(
        porch.call("GET", "/berths/v1/berths", &clock, "").status,
        200
    );
    assert_eq!(left(&mut nils, "berths", "each month"), (39, 40));
    // What was added to a quota is there too, and what all callers share is not.
    porch.ok(&[
        "quota",
        "add",
        "Nils Clock",
        "5",
        "--of",
        "berths",
        "--why",
        "a good month",
    ]);
    assert_eq!(left(&mut nils, "berths", "each month"), (44, 45));
    let all = nils.ok("GET", path, &Value::Null).to_string();
    assert!(!all.contains("all callers together"), "{all}");
    let mut ines = Visitor::come(&porch, &outbox, "ines");
    ines.refused(404, "GET", path, &Value::Null);
}
