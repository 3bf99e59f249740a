//! Where calls go in place of a backend: each mistake where it stands.

use super::*;

const FACADE: &str = "timetable/timetable.facade.yaml";
const WHEN: &str = "=header[?'x-preview'].orValue('') == 'yes'";
const SHARE: &str = "share: 10, by: =path.route";
const SHADOW: &str = "=answer.body.departures";
const SPARES: &str = "spares: [timetable-next]";

/// All that is found once a text of the facade is another, in short.
fn found(from: &str, to: &str) -> Vec<String> {
    let all = changed(FACADE, from, to);
    let told = |f: &Finding| format!("{}:{} {} ({})", f.line, f.column, f.message, f.help);
    all.iter().map(told).collect()
}

#[test]
fn what_is_wrong_with_a_routing_is_told_where_it_stands() {
    let mut wrong = Vec::new();
    for (from, to, expected) in [
        (
            "{ backend: timetable-next, share",
            "{ backend: timetable-nxt, share",
            "17:24 there is no backend “timetable-nxt” (did you mean “timetable-next”?)",
        ),
        (
            SPARES,
            "spares: [timetable-nixt]",
            "18:18 there is no backend “timetable-nixt” (did you mean “timetable-next”?)",
        ),
        (
            SPARES,
            "spares: [timetable]",
            "18:18 calls of “timetable” go there by themselves (leave it out)",
        ),
        (
            SPARES,
            "spares: [reservations]",
            "18:18 “reservations” is of the kind soap, and “timetable” is http: they are not called alike ()",
        ),
        (
            WHEN,
            "yes",
            "16:46 “yes” is a text, and no condition (an expression begins with “=”: `=yes`)",
        ),
        (
            WHEN,
            "=path.rute == 'x'",
            "16:53 the path has no variable “rute” (did you mean “route”?)",
        ),
        (
            WHEN,
            "=answer.status == 200",
            "16:48 “answer” is not known here; known are path, query, header, body, caller, cookie, secret, terms, claims ()",
        ),
        (
            WHEN,
            "=header['x-preview'] == 'yes'",
            "16:54 “x-preview” may be absent (say what happens then: header[?'x-preview'] leaves it out, header[?'x-preview'].orValue(…) puts something in its place)",
        ),
        (
            SHARE,
            "share: 120, by: =path.route",
            "17:47 120 is no share of a hundred callers (shares are from 0 to 100)",
        ),
        (
            SHARE,
            "by: =path.route",
            "17:44 `by` says which callers a share takes, and there is none (add `share:`)",
        ),
        (
            SHADOW,
            "=answer.bdy",
            "19:62 an answer has no “bdy” (did you mean “body”?)",
        ),
        (
            SHADOW,
            "departures",
            "19:54 “departures” is a text, and no value (an expression begins with “=”: `=departures`)",
        ),
        (
            "shadow: { backend",
            "shadow: { share: 101, backend",
            "19:26 101 is no share of a hundred calls (shares are from 0 to 100)",
        ),
        (
            "shadow: { backend: timetable-next",
            "shadow: { backend: reservations",
            "19:28 “reservations” is of the kind soap, and “timetable” is http: they are not called alike ()",
        ),
        (
            "      timetable: #",
            "      timetables: #",
            "14:7 “timetables” is not called here: nothing goes elsewhere in its place (did you mean “timetable”?)",
        ),
        (
            &format!("{{ backend: timetable-next, when: \"{WHEN}\" }}"),
            "{ backend: timetable-next }",
            "16:13 all calls go to “timetable-next”: what stands behind it takes none (add `when:` or `share:`, or let it stand last)",
        ),
    ] {
        let all = found(from, to);
        if !all.iter().any(|f| f == expected) {
            wrong.push(format!("{from} → {to}\n{all:#?}\n{expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn shares_are_of_all_callers_and_no_more_than_there_are() {
    let all = found(
        SHARE,
        "share: 60 }\n          - { backend: timetable-next, share: 60",
    );
    assert_eq!(
        all,
        ["18:47 the shares are more than all callers: 40 of a hundred are left ()"]
    );
    // Of those whom the first left, so many are taken that they are the part of all that is said.
    let mut files = demo();
    let text = files.get_mut(FACADE).unwrap();
    *text = text.replace(
        SHARE,
        "share: 20 }\n          - { backend: timetable-next, share: 40",
    );
    let model = model(files);
    let checked = model.facade("timetable").unwrap();
    let compiled = checked.compiled.as_ref().unwrap();
    let step = &compiled.operation("departures").unwrap().steps[0];
    let choices = &step.routing.as_ref().unwrap().choices;
    let below: Vec<u32> = choices
        .iter()
        .filter_map(|c| c.share.as_ref())
        .map(|s| s.below)
        .collect();
    assert_eq!(below, [200_000, 500_000]);
}

#[test]
fn what_stands_at_the_facade_is_told_once_and_for_which_operation() {
    let routing = "routing:\n  timetable:\n    choose: [{ backend: timetable-next, when: =path.route == 'FAR-MAR' }]\noperations:\n";
    let all = found("operations:\n", routing);
    assert_eq!(
        all,
        ["8:53 the path has no variable “route” (for the operation “notice”) ()"]
    );
    // The other backend is one of the facade's: a document of it that is missing is missing there.
    let mut files = demo();
    files.remove("timetable/timetable-next.backend.yaml");
    let all = check(&files, "live");
    assert!(
        all.iter()
            .any(|f| f.message == "there is no backend “timetable-next”"),
        "{all:?}"
    );
}

#[test]
fn the_same_call_must_be_one_of_the_other_backend_too() {
    let mut files = demo();
    let text = files
        .get("sailings/reservations.backend.yaml")
        .unwrap()
        .replace("name: reservations", "name: reservations-next")
        .replace("reservations.wsdl", "next.wsdl");
    files.insert("sailings/next.backend.yaml".into(), text);
    // An operation less, and an answer without one of its members.
    let wsdl = files["sailings/reservations.wsdl"].clone();
    assert!(wsdl.contains("name=\"Currency\""));
    files.insert(
        "sailings/next.wsdl".into(),
        wsdl.replace("name=\"Currency\"", "name=\"Coin\""),
    );
    let environment = files.get_mut("live.environment.yaml").unwrap();
    environment.push_str("  reservations-next: { address: 'http://127.0.0.1:1' }\n");
    let facade = files.get_mut("sailings/sailings.facade.yaml").unwrap();
    facade.push_str("routing: { reservations: { spares: [reservations-next] } }\n");
    let all = check(&files, "live");
    let told: Vec<&str> = all.iter().map(|f| f.message.as_str()).collect();
    let expected =
        "the answer's body at Fare has no “Currency” (where the call goes to reservations-next)";
    assert!(told.contains(&expected), "{told:#?}");
    assert!(
        all.iter()
            .all(|f| f.file == "sailings/sailings.facade.yaml"),
        "{all:?}"
    );
}

#[test]
fn only_what_changes_nothing_and_is_one_call_is_copied() {
    let notice = "call: { backend: timetable, method: POST, path: /notices }\n";
    let shadow = "    routing: { timetable: { shadow: { backend: timetable-next } } }\n";
    let all = found(notice, &format!("{notice}{shadow}"));
    assert!(
        all.iter().any(|f| f.ends_with(
            "a copy of what changes something would change it twice (a shadow is for GET)"
        )),
        "{all:?}"
    );
    // What stands at the facade is for those that it fits.
    let both = "routing: { timetable: { shadow: { backend: timetable-next } } }\noperations:\n";
    assert_eq!(found("operations:\n", both), Vec::<String>::new());
}

#[test]
fn what_is_wrong_with_a_circuit_is_told_where_it_stands() {
    let file = "timetable/timetable.backend.yaml";
    for (circuit, expected) in [
        (
            "{ share: 0 }",
            "8:19 0 of a hundred calls cannot fail (shares are from 1 to 100)",
        ),
        ("{ calls: 0 }", "8:19 it takes a call to fail ()"),
        ("{ rest: 99999999999d }", "8:18 a day is the longest ()"),
        (
            "{ statuses: [200] }",
            "8:22 200 is no status of a failure (failures have 400 to 599)",
        ),
    ] {
        let all = changed(file, "{ rest: 10s }", circuit);
        let told: Vec<String> = all
            .iter()
            .map(|f| format!("{}:{} {} ({})", f.line, f.column, f.message, f.help))
            .collect();
        assert_eq!(told, [expected], "{circuit}");
    }
}
