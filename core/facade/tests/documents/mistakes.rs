//! Mistakes are found where they stand.

use super::*;

#[test]
fn each_mistake_is_found_where_it_stands() {
    let facade = "sailings/sailings.facade.yaml";
    for (file, from, to, expected) in [
        (
            facade,
            "RouteCode: =path.route",
            "RuoteCode: =path.route",
            "sailings/sailings.facade.yaml:15:7 QuoteFare's input has no “RuoteCode” (did you mean “RouteCode”?)",
        ),
        (
            facade,
            "=path.fareClass",
            "=path.fareclas",
            "sailings/sailings.facade.yaml:16:24 the path has no variable “fareclas” (did you mean “fareClass”?)",
        ),
        (
            facade,
            "=answer.body.Fare.Amount",
            "=answer.body.Fare.Amonut",
            "sailings/sailings.facade.yaml:20:31 the answer's body at Fare has no “Amonut” (did you mean “Amount”?)",
        ),
        (
            facade,
            "=answer.body.Fare.?ValidUntil",
            "=answer.body.Fare.ValidUntil",
            "sailings/sailings.facade.yaml:22:37 “ValidUntil” may be absent (say what happens then: ….Fare.?ValidUntil leaves it out, ….Fare.?ValidUntil.orValue(…) puts something in its place)",
        ),
        (
            facade,
            "=query.?passengers.orValue(1)",
            "=query.passengers",
            "sailings/sailings.facade.yaml:17:26 “passengers” may be absent (say what happens then: query.?passengers leaves it out, query.?passengers.orValue(…) puts something in its place)",
        ),
        (
            facade,
            "Passengers: =query.?passengers.orValue(1)",
            "Passengers: =path.route",
            "sailings/sailings.facade.yaml:17:19 QuoteFare's input wants integer here, and path.route is string (change the type in the contract, or convert it: int(…), double(…), string(…))",
        ),
        (
            facade,
            "Passengers: =query.?passengers.orValue(1)",
            "Passengers: =header.?seats",
            "sailings/sailings.facade.yaml:17:19 QuoteFare's input wants integer here, and header.?seats is string (change the type in the contract, or convert it: int(…), double(…), string(…))",
        ),
        (
            facade,
            "Passengers: =query.?passengers.orValue(1)",
            "Passengers: many",
            "sailings/sailings.facade.yaml:17:19 QuoteFare's input wants integer here, and \"many\" is a text ()",
        ),
        (
            facade,
            "FareClass: =path.fareClass",
            "FareClass: attic",
            "sailings/sailings.facade.yaml:16:18 QuoteFare's input wants string (foot, bicycle, car, cabin) here, which \"attic\" is not ()",
        ),
        (
            facade,
            "RouteCode: =path.route",
            "RouteCode: 7",
            "sailings/sailings.facade.yaml:15:18 QuoteFare's input wants string here, and 7 is a number ()",
        ),
        (
            facade,
            "      fare: =answer",
            "      fares: =answer",
            "sailings/sailings.facade.yaml:20:7 the contract's reply has no “fares” (did you mean “fare”?)",
        ),
        (
            facade,
            "operation: QuoteFare",
            "operation: QuoteFair",
            "sailings/sailings.facade.yaml:13:47 the definition has no operation “QuoteFair” (did you mean “QuoteFare”?)",
        ),
        (
            facade,
            "  quoteFare:",
            "  qouteFare:",
            "sailings/sailings.facade.yaml:12:3 the contract has no operation “qouteFare” (did you mean “quoteFare”?)",
        ),
        (
            facade,
            "backend: reservations",
            "backend: reservation",
            "sailings/sailings.facade.yaml:13:22 there is no backend “reservation” (did you mean “reservations”?)",
        ),
        (
            facade,
            "limits:",
            "limit:",
            "sailings/sailings.facade.yaml:8:3 “limit” is not known here (did you mean “limits”?)",
        ),
        (
            facade,
            "{ requests: =terms.?requests.orValue(7), window: 90s, per: consumer }",
            "3/minute",
            "sailings/sailings.facade.yaml:9:7 “3/minute” is a text; an object is expected here (write { requests: 3, window: 1m })",
        ),
        (
            facade,
            "credentials: [key]",
            "credentials: key",
            "sailings/sailings.facade.yaml:7:16 “key” is a text; a list is expected here ()",
        ),
        (
            facade,
            "window: 90s",
            "window: 2",
            "sailings/sailings.facade.yaml:9:56 “2” is no duration: write a number and ms, s, m, h or d, as in 2m ()",
        ),
        (
            facade,
            "credentials: [key]",
            "credentials: []",
            "sailings/sailings.facade.yaml:9:7 a limit per consumer needs callers that are known (add `credentials: [key]`, or count `per: address` or `per: everyone`)",
        ),
        (
            facade,
            "contract: sailings.openapi.yaml",
            "contract: sailing.openapi.yaml",
            "sailings/sailings.facade.yaml:5:11 there is no file “sailings/sailing.openapi.yaml” (did you mean “sailings/sailings.openapi.yaml”?)",
        ),
        (
            facade,
            "      Reference: =path.reference\n",
            "",
            "sailings/sailings.facade.yaml:43:5 CancelBooking's input needs “Reference” (add `Reference: …`)",
        ),
        (
            facade,
            "base: /sailings/v2",
            "base: sailings",
            "sailings/sailings.facade.yaml:4:7 “sailings” is no base path (a base path begins with “/” and has no variables, as in /sailings/v2)",
        ),
        (
            facade,
            "base: /sailings/v2",
            "base: '/{line}/v2'",
            "sailings/sailings.facade.yaml:4:7 “/{line}/v2” is no base path (a base path begins with “/” and has no variables, as in /sailings/v2)",
        ),
        (
            facade,
            "base: /sailings/v2",
            "base: /sailings v2",
            "sailings/sailings.facade.yaml:4:7 “/sailings v2” is no base path (“sailings v2”: requests have it as “sailings%20v2”: write that)",
        ),
        (
            facade,
            "base: /sailings/v2",
            "base: /sailings/../v2",
            "sailings/sailings.facade.yaml:4:7 “/sailings/../v2” is no base path (“..”: clients take dot segments away before they send a path)",
        ),
        (
            facade,
            "base: /sailings/v2",
            "base: /sailings/v2\nhosts: [ porch.example, 'https://skerry.example' ]",
            "sailings/sailings.facade.yaml:5:25 “https://skerry.example” is no host name (write the host alone, without scheme and path)",
        ),
        (
            "sailings/sailings.openapi.yaml",
            "  /fares/{route}/{fareClass}:",
            "  /fares?class=1:",
            "sailings/sailings.openapi.yaml:9:3 path “/fares?class=1”: “fares?class=1”: a path has no query and no fragment; query parameters are named one by one ()",
        ),
        (
            "sailings/sailings.openapi.yaml",
            "  /fares/{route}/{fareClass}:",
            "  /fares in full/{route}/{fareClass}:",
            "sailings/sailings.openapi.yaml:9:3 path “/fares in full/{route}/{fareClass}”: “fares in full”: requests have it as “fares%20in%20full”: write that ()",
        ),
        (
            "timetable/timetable.facade.yaml",
            "path: /notices",
            "path: /notices?kind=new^",
            "timetable/timetable.facade.yaml:21:53 “?kind=new^” is no query that every request can have (what changes from request to request stands below `send: query:`)",
        ),
        (
            "sailings/reservations.backend.yaml",
            "definition: reservations.wsdl\n",
            "",
            "sailings/reservations.backend.yaml:5:7 a SOAP backend needs its definition (add `definition: FILE` with its WSDL)",
        ),
        (
            "timetable/timetable.facade.yaml",
            "path: /tt",
            "path: '/tt/{rute}'",
            "timetable/timetable.facade.yaml:8:52 nothing gives {rute} a value (did you mean “route”?)",
        ),
        (
            "timetable/timetable.facade.yaml",
            "base: /timetable/v1",
            "base: /sailings/v2",
            "nothing found",
        ),
        (
            "live.environment.yaml",
            "http://127.0.0.1:3851",
            "http://127.0.0.1:385100",
            "live.environment.yaml:5:25 “http://127.0.0.1:385100” has no usable host: a port is a number from 1 to 65535 ()",
        ),
        (
            "live.environment.yaml",
            "http://127.0.0.1:3851'",
            "http://clerk:pw@127.0.0.1:3851'",
            "live.environment.yaml:5:25 “http://127.0.0.1:3851” has no usable host: user and password stand below `credentials:`, not in an address ()",
        ),
        (
            "live.environment.yaml",
            "3851'",
            "3851/tt?x=1'",
            "live.environment.yaml:5:25 “http://127.0.0.1:3851/tt?x=1”: “tt?x=1”: a path has no query and no fragment; query parameters are named one by one ()",
        ),
        (
            "live.environment.yaml",
            "3851'",
            "3851/{line}'",
            "live.environment.yaml:5:25 “http://127.0.0.1:3851/{line}”: the path of an address has no variables ()",
        ),
        (
            "live.environment.yaml",
            "environment/1",
            "enviroment/1",
            "live.environment.yaml:1:12 “enviroment/1” is no kind of document (did you mean “environment/1”?)",
        ),
    ] {
        assert_eq!(first(&changed(file, from, to)), expected, "{from} → {to}");
    }
}

#[test]
fn two_facades_with_one_route_are_found() {
    let mut files = demo();
    for end in ["facade.yaml", "openapi.yaml"] {
        let text = files[&format!("timetable/timetable.{end}")]
            .replace("name: timetable", "name: other")
            .replace("contract: timetable", "contract: other");
        files.insert(format!("timetable/other.{end}"), text);
    }
    let findings = check(&files, "live");
    assert!(
        findings.iter().any(|f| f
            .message
            .contains("is the route of “departures” in the facade")),
        "{findings:?}"
    );
}

#[test]
fn unwired_operations_are_listed_not_dropped() {
    let findings = changed(
        "timetable/timetable.facade.yaml",
        "  notice:\n    call: { backend: timetable, method: POST, path: /notices }\n",
        "",
    );
    assert_eq!(
        first(&findings),
        "timetable/timetable.openapi.yaml:23:5 “notice” is not wired: callers get 404 (add `notice:` below `operations:` in timetable/timetable.facade.yaml)"
    );
    assert!(!has_errors(&findings));
}

#[test]
fn facades_that_want_the_same_route_are_told_of_each_other() {
    let mut files = demo();
    for (from, to) in [
        ("timetable/timetable.facade.yaml", "other/other.facade.yaml"),
        (
            "timetable/timetable.openapi.yaml",
            "other/timetable.openapi.yaml",
        ),
    ] {
        let text = files[from].replace("name: timetable", "name: other");
        files.insert(to.to_owned(), text);
    }
    let findings = check(&files, "live");
    assert!(
        first(&findings).contains("is the route of") && first(&findings).contains("too"),
        "{}",
        first(&findings)
    );
}

#[test]
fn what_only_follows_from_a_document_that_cannot_be_read_is_not_told() {
    for (file, from, to, message) in [
        (
            "sailings/reservations.backend.yaml",
            "kind: soap",
            "kind: soap\nkind: soap",
            "stands here a second time",
        ),
        (
            "sailings/reservations.backend.yaml",
            "kind: soap",
            "knid: soap",
            "“knid” is not known here",
        ),
        (
            "sailings/sailings.facade.yaml",
            "base: /sailings/v2",
            "bsae: /sailings/v2",
            "“bsae” is not known here",
        ),
        (
            "live.environment.yaml",
            "backends:",
            "backend:",
            "“backend” is not known here",
        ),
    ] {
        let found = changed(file, from, to);
        let told: Vec<&str> = found.iter().map(|f| f.message.as_str()).collect();
        assert_eq!(told.len(), 1, "{file}: {told:?}");
        assert!(told[0].contains(message), "{file}: {told:?}");
    }
    // What is missing for another reason is told all the same.
    let found = changed(
        "sailings/sailings.facade.yaml",
        "{ backend: reservations, operation: QuoteFare }",
        "{ backend: reservation, operation: QuoteFare }",
    );
    assert_eq!(found[0].message, "there is no backend “reservation”");
}

#[test]
fn a_mistake_in_one_long_line_has_its_pointer() {
    let mut files = demo();
    let name = "timetable/timetable.facade.yaml";
    let text = files.remove(name).unwrap();
    let text = text.replace("backend: timetable", "backend: timetabel");
    let node = porch_contract::Node::parse(&text).unwrap();
    files.insert(
        "timetable/timetable.facade.json".into(),
        node.to_value().to_string(),
    );
    let found = check(&files, "live");
    let first = found
        .iter()
        .find(|f| f.message.contains("timetabel"))
        .unwrap();
    assert_eq!(
        (first.line, first.pointer.rsplit_once('/').unwrap().1),
        (1, "backend")
    );
    assert!(
        first.pointer.starts_with("/operations/"),
        "{}",
        first.pointer
    );
}
