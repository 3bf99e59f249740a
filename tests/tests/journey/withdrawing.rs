//! What is served now, going back, and taking something away from callers.

use super::*;

fn said(porch: &Porch, arguments: &[&str]) -> (i32, String) {
    let output = porch.client(arguments, "");
    let text = format!("{}{}", stdout(&output), stderr(&output));
    (output.status.code().unwrap(), text)
}

#[test]
fn a_release_says_what_is_served_and_prints_a_call_that_works() {
    let (porch, key) = Porch::published();
    let (code, text) = said(&porch, &["release", "sailings", "vessels"]);
    assert_eq!(code, 0, "{text}");
    for part in [
        "release 2 is live",
        "taken: sailings, vessels",
        "carried over unchanged: berths",
        "SERVED NOW",
        &format!("{}/sailings/v2", porch.gateway),
    ] {
        assert!(text.contains(part), "no {part}: {text}");
    }
    let line = text.lines().find_map(|l| l.strip_prefix("call it: porch "));
    let call: Vec<String> = line
        .unwrap()
        .split(' ')
        .map(|w| w.trim_matches('\'').to_owned())
        .collect();
    let words: Vec<&str> = call.iter().map(String::as_str).collect();
    let with = ["--key", key.as_str(), "--gateway", porch.gateway.as_str()];
    let (code, text) = said(&porch, &[&words[..], &with].concat());
    assert_eq!(code, 0, "{call:?}: {text}");
    // The same in one text, as it stands in documents.
    let both = words[1..].join(" ");
    let (code, text) = said(&porch, &[&["call", &both], &with[..]].concat());
    assert_eq!(code, 0, "{both}: {text}");
    // What a trial run was answered well is known to work; what it was refused is not.
    let values = |route: &str| {
        let route = format!("route={route}");
        let words = [
            "try",
            "sailings/quoteFare",
            &route,
            "fareClass=car",
            "passengers=3",
        ];
        said(&porch, &words).0
    };
    assert_eq!((values("FAR-MAR"), values("FAR-HOL")), (0, 1));
    let (_, text) = said(&porch, &["release", "vessels", "sailings"]);
    let call = "call it: porch call GET '/sailings/v2/fares/FAR-MAR/car?passengers=3'";
    assert!(text.contains(call), "{text}");
}

#[test]
fn going_back_takes_one_facade_or_all_and_asks_before_callers_lose_one() {
    let (porch, key) = Porch::published();
    let fare = || {
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status
    };
    assert_eq!(fare(), 200);
    porch.edit(
        "timetable/timetable.facade.yaml",
        "title: Timetable",
        "title: Times",
    );
    porch.edit(
        "sailings/sailings.facade.yaml",
        "title: Sailings",
        "title: Ships",
    );
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    porch.ok(&["release", "sailings", "timetable"]);
    let back = porch.ok(&["rollback", "1", "--facade", "timetable"]);
    assert_eq!(back["taken"], json!(["timetable"]));
    let compare = porch.ok(&["compare"]);
    let status = |name: &str| {
        let all = compare.as_array().unwrap();
        all.iter().find(|d| d["facade"] == name).unwrap()["status"].clone()
    };
    assert_eq!(
        (status("timetable"), status("sailings")),
        (json!("changed"), json!("same"))
    );
    let (code, text) = said(&porch, &["rollback", "1", "--facade", "timetabel"]);
    assert!(
        code == 1 && text.contains("Did you mean “timetable”?"),
        "{text}"
    );
    // A facade that the first release did not have yet.
    wait_until("usage is written", || {
        porch.ok(&["usage"]).to_string().contains("quoteFare")
    });
    let copy = porch.documents.join("extra");
    std::fs::create_dir_all(&copy).unwrap();
    for (name, from) in [
        ("extra.facade.yaml", "facade"),
        ("extra.openapi.yaml", "openapi"),
    ] {
        let text = std::fs::read_to_string(
            porch
                .documents
                .join(format!("timetable/timetable.{from}.yaml")),
        )
        .unwrap();
        let text = text
            .replace("name: timetable", "name: extra")
            .replace("timetable.openapi", "extra.openapi")
            .replace("/timetable/v1", "/extra/v1");
        std::fs::write(copy.join(name), text).unwrap();
    }
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    porch.ok(&["release", "extra"]);
    let extra = || {
        porch
            .call("GET", "/extra/v1/routes/FAR-MAR/days/2027-05-14", "", "")
            .status
    };
    assert_eq!(extra(), 200);
    wait_until("usage is written", || {
        porch.ok(&["usage"]).to_string().contains("\"extra\"")
    });
    let (code, text) = said(&porch, &["rollback", "2"]);
    assert_eq!(code, 1, "{text}");
    for part in [
        "extra would no longer be served",
        "callers without a key called",
        "--yes",
    ] {
        assert!(text.contains(part), "no {part}: {text}");
    }
    assert_eq!(extra(), 200);
    let back = porch.ok(&["rollback", "2", "--yes"]);
    assert_eq!(back["removed"], json!(["extra"]));
    assert_eq!(extra(), 404);
    let nothing = porch.ok(&["rollback", "2"]);
    assert!(nothing["number"].is_null(), "{nothing}");
    // Somebody else released since the comparison.
    let stale = porch.api("POST", "/api/releases/1/rollback", &json!({ "served": 1 }));
    assert_eq!(stale.status, 409, "{stale:?}");
}

#[test]
fn a_facade_is_taken_out_after_its_callers_were_named() {
    let (porch, key) = Porch::published();
    let fare = || {
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status
    };
    assert_eq!(fare(), 200);
    wait_until("usage is written", || {
        porch.ok(&["usage"]).to_string().contains("quoteFare")
    });
    // The other facade that calls the same backend goes first.
    let (code, text) = said(&porch, &["facade", "delete", "journeys", "--yes"]);
    assert!(code == 0 && !text.contains("reservations"), "{text}");
    let (code, text) = said(&porch, &["facade", "delete", "sailings"]);
    assert_eq!(code, 1, "{text}");
    assert!(
        text.contains("Quayside Kiosk called quoteFare 1 times") && text.contains("--yes"),
        "{text}"
    );
    let (code, text) = said(&porch, &["facade", "delete", "sailings", "--yes"]);
    assert_eq!(code, 0, "{text}");
    for part in [
        "sailings/sailings.facade.yaml",
        "sailings/sailings.openapi.yaml",
        "called by no facade: reservations",
        "`porch release sailings` ends that",
    ] {
        assert!(text.contains(part), "no {part}: {text}");
    }
    assert_eq!(fare(), 200);
    let compare = porch.ok(&["compare", "sailings"]);
    assert_eq!(compare[0]["status"], "gone");
    assert_eq!(compare[0]["changes"][0]["harm"], "breaks");
    assert_eq!(compare[0]["used_by"][0]["consumer"], "Quayside Kiosk");
    let (code, text) = said(&porch, &["release", "sailings"]);
    assert!(code == 1 && text.contains("Quayside Kiosk"), "{text}");
    porch.ok(&["release", "sailings", "--yes"]);
    assert_eq!(fare(), 404);
    let (code, text) = said(&porch, &["facade", "delete", "sailings", "--yes"]);
    assert!(code == 1 && text.contains("no facade “sailings”"), "{text}");
    let audit = porch.ok(&["audit"]);
    let words: Vec<&str> = audit
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|l| l["words"].as_str())
        .collect();
    assert!(
        words[0].starts_with("made release 2 live in live: facades sailings"),
        "{words:?}"
    );
    assert!(
        words[1].starts_with("changed the draft: removed sailings/"),
        "{words:?}"
    );
}

#[test]
fn a_push_counts_what_it_leaves_alone_and_removes_only_where_it_pushed() {
    let (porch, _) = Porch::published();
    let all = porch.ok(&["pull", porch.documents.join("../pulled").to_str().unwrap()]);
    let all = all["written"].as_array().unwrap().len();
    let one = porch.documents.join("../one");
    std::fs::create_dir_all(one.join("timetable")).unwrap();
    let name = "timetable/timetable.facade.yaml";
    std::fs::copy(porch.documents.join(name), one.join(name)).unwrap();
    let (code, text) = said(&porch, &["push", one.to_str().unwrap()]);
    assert!(
        code == 0 && text.contains("in these folders of the draft, but not here: timetable/"),
        "{text}"
    );
    let more = format!("{} other files of the draft untouched", all - 4);
    assert!(text.contains(&more), "{more}: {text}");
    assert!(!text.contains("sailings"), "{text}");
    let pushed = porch.client(&["--json", "push", one.to_str().unwrap(), "--remove"], "");
    let pushed: Value = serde_json::from_str(&stdout(&pushed)).unwrap();
    let removed: Vec<&str> = pushed["removed"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(Value::as_str)
        .collect();
    assert!(
        removed.len() == 3 && removed.iter().all(|f| f.starts_with("timetable/")),
        "{removed:?}"
    );
    // A folder without folders is a part of the draft: nothing that lies beside its files is its own.
    let flat = porch.documents.join("../flat");
    std::fs::create_dir_all(&flat).unwrap();
    std::fs::write(flat.join("note.yaml"), "a: 1\n").unwrap();
    let pushed = porch.client(&["--json", "push", flat.to_str().unwrap(), "--remove"], "");
    let pushed: Value = serde_json::from_str(&stdout(&pushed)).unwrap();
    assert_eq!(pushed["removed"], json!([]));
}
