//! Contracts that were edited elsewhere.

use super::*;
use porch_facade::update;

/// The demo with an edited contract of its timetable: what changed, what is told.
fn edited(edit: impl Fn(&str) -> String) -> Result<porch_facade::Updated, Box<Finding>> {
    let files = demo();
    let text = edit(&files["timetable/timetable.openapi.yaml"]);
    let source = Source::from_bytes("edited.yaml", text.as_bytes(), None)?;
    update(&files, "timetable", &source)
}

fn checked(updated: &porch_facade::Updated) -> Vec<Finding> {
    let mut files = demo();
    files.extend(updated.files.clone());
    check(&files, "live")
}

#[test]
fn the_wiring_follows_an_operation_that_is_called_otherwise_and_the_text_stays_as_it_was_written() {
    let remark = "# edited at the quay\n";
    let updated = edited(|text| {
        let text = text.replace("operationId: departures", "operationId: listDepartures");
        format!("{remark}{text}")
    })
    .unwrap();
    let facade = &updated.files["timetable/timetable.facade.yaml"];
    let before = &demo()["timetable/timetable.facade.yaml"];
    assert_eq!(
        *facade,
        before.replacen("  departures:", "  listDepartures:", 1)
    );
    assert!(updated.files["timetable/timetable.openapi.yaml"].starts_with(remark));
    let told = updated.changes.join("\n");
    assert!(
        told.contains("“departures” is called “listDepartures” now"),
        "{told}"
    );
    assert!(!has_errors(&checked(&updated)), "{:?}", checked(&updated));
}

#[test]
fn names_that_yaml_must_quote_are_quoted_where_the_wiring_follows() {
    let odd = "tide: high # low";
    let updated =
        edited(|text| text.replace("operationId: departures", &format!("operationId: '{odd}'")))
            .unwrap();
    let told = updated.changes.join("\n");
    assert!(told.contains("its wiring follows"), "{told}");
    let facade = &updated.files["timetable/timetable.facade.yaml"];
    let node = porch_contract::Node::parse(facade).unwrap();
    let operations = node.get("operations").unwrap();
    assert!(
        operations.get(odd).is_some_and(|o| o.get("call").is_some()),
        "{facade}"
    );
}

#[test]
fn new_changed_and_vanished_operations_are_listed_and_nothing_is_dropped() {
    let updated = edited(|text| {
        let text = text.replace("operationId: notice", "operationId: post\n      deprecated: true");
        let text = text.replace("  /notices:", "  /announcements:");
        let at = text.find("paths:\n").unwrap() + "paths:\n".len();
        let extra = "  /quays:\n    get:\n      operationId: quays\n      responses:\n        '200':\n          description: quays\n          content:\n            application/json:\n              schema: { type: array, items: { type: string } }\n              example: [Farholt]\n";
        format!("{}{extra}{}", &text[..at], &text[at..])
    })
    .unwrap();
    let told = updated.changes.join("\n");
    for part in [
        "the contract no longer has “notice” (POST /notices): its wiring stays",
        "“post” is new: it answers with examples",
        "“quays” is new: it answers with examples",
        "notice: breaks callers: POST /notices is gone",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    let facade = &updated.files["timetable/timetable.facade.yaml"];
    assert!(
        facade.contains("  notice:\n    call: { backend: timetable, method: POST"),
        "{facade}"
    );
    assert!(
        facade.contains("quays: {}") && facade.contains("post: {}"),
        "{facade}"
    );
    // What is left to do is what the check says: the wiring that has no operation any more.
    let findings = checked(&updated);
    let errors: Vec<_> = findings
        .iter()
        .filter(|f| f.severity == Severity::Error)
        .collect();
    assert!(
        matches!(errors.as_slice(), [one] if one.message.contains("notice")),
        "{errors:?}"
    );
}

#[test]
fn an_older_version_is_made_a_contract_and_a_backends_description_is_none() {
    let older = edited(|text| {
        let text = text.replace("openapi: 3.1.0", "openapi: 3.0.3");
        text.replace(
            "operationId: notice",
            "summary: x\n      operationId: notice",
        )
    })
    .unwrap();
    let contract = &older.files["timetable/timetable.openapi.yaml"];
    assert!(contract.contains("3.1.0"), "{contract}");
    let told: Vec<&str> = older.findings.iter().map(|f| f.message.as_str()).collect();
    assert!(
        told.iter().any(|t| t.contains("is written anew")),
        "{told:?}"
    );
    assert!(!has_errors(&checked(&older)), "{:?}", checked(&older));
    let wrong = edited(|text| {
        text.replace(
            "paths:\n",
            "servers: [{ url: 'http://10.0.0.7/tt' }]\npaths:\n",
        )
    })
    .unwrap_err();
    assert!(
        wrong.message.contains("it is not its contract"),
        "{}",
        wrong.message
    );
    assert!(
        wrong.help.contains("servers: [{ url: /timetable/v1 }]"),
        "{}",
        wrong.help
    );
    let files = Files::new();
    let source = Source::from_bytes(
        "a.yaml",
        demo()["timetable/timetable.openapi.yaml"].as_bytes(),
        None,
    );
    let missing = update(&files, "timetable", &source.unwrap()).unwrap_err();
    assert!(missing.message.contains("there is no facade “timetable”"));
    // The same once more changes nothing.
    let same = edited(str::to_owned).unwrap();
    assert!(
        same.files.is_empty() && same.changes.is_empty(),
        "{:?}",
        same.changes
    );
}
