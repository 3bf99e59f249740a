//! Operations of several calls: each mistake where it stands, in every place where a reference can be.

use super::*;

const FACADE: &str = "journeys/journeys.facade.yaml";

/// The demo's documents with the facade that calls several backends.
fn demo() -> Files {
    let mut files = super::demo();
    let demo = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents");
    let mut open = vec![demo.join("journeys"), demo.join("vessels")];
    while let Some(folder) = open.pop() {
        for entry in std::fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                open.push(path);
                continue;
            }
            let name = path.strip_prefix(&demo).unwrap().to_str().unwrap();
            // The fleet's own facade is not looked at here.
            if !name.starts_with("vessels/vessels.facade") {
                files.insert(name.into(), std::fs::read_to_string(&path).unwrap());
            }
        }
    }
    files.insert(
        "fair-share.rules.yaml".into(),
        include_str!("../../../../demo/documents/fair-share.rules.yaml").into(),
    );
    files
}

/// What is found once a text of the facade is another.
pub(super) fn changed(from: &str, to: &str) -> Vec<Finding> {
    let mut files = demo();
    let text = files.get_mut(FACADE).unwrap();
    assert!(text.contains(from), "{from}");
    *text = text.replacen(from, to, 1);
    check(&files, "live")
}

/// What is found first once one text of the facade is another: line, column, message, and what helps.
fn hold(cases: &[(&str, &str, &str)]) {
    let mut wrong = Vec::new();
    for (from, to, expected) in cases {
        let said = first(&changed(from, to));
        let said = said.strip_prefix(&format!("{FACADE}:")).unwrap_or(&said);
        if said != *expected {
            wrong.push(format!("{from} → {to}\n  {said}\n  {expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn each_wrong_reference_is_found_where_it_stands() {
    hold(&[
        (
            "code: =place.body.code",
            "code: =place.body.kode",
            "21:43 the body of place has no “kode” (did you mean “code”?)",
        ),
        (
            "code: =place.body.code",
            "code: =place.bdy.code",
            "21:38 an answer has no “bdy” (did you mean “body”?)",
        ),
        (
            "code: =place.body.code",
            "code: =plaice.body.code",
            "21:32 “plaice” is not known here; did you mean “place”? ()",
        ),
        (
            "code: =place.body.code",
            "code: =tide.body.code",
            "18:7 “tide” waits for its own answer (below `answer:` it is called `answer`)",
        ),
        (
            "code: =place.body.code",
            "code: =item.x",
            "21:32 there is an “item” only where a call has `each:` ()",
        ),
        (
            "code: =place.body.code",
            "code: =answer.body.x",
            "21:32 of several calls each answer has a name: place, tide, list ()",
        ),
        (
            "path: /levels/{code}",
            "path: /level/{code}",
            "20:15 the definition has no GET /level/{code} (did you mean “GET /levels/{code}”?)",
        ),
        (
            "path: /levels/{code}",
            "path: /levels/{cod}",
            "20:15 nothing gives {cod} a value (add `path: { cod: … }` below `send:`)",
        ),
        (
            "        path: /levels/{code}\n",
            "",
            "19:9 one of several calls says its path (add `path: /…`, whose {variables} are those of the operation or stand below `send: path:`)",
        ),
        (
            "{ code: =place.body.code } }",
            "{ code: =place.body.code }, query: { a: b } }",
            "21:60 GET /levels/{code} has no query parameter “a” (it has none)",
        ),
        (
            "On: =query.on",
            "On: =query.no",
            "25:52 the contract has no query parameter “no” (did you mean “on”?)",
        ),
        (
            "From: =place.body.name",
            "From: =tide.body.metres",
            "25:23 SearchSailings's input wants string here, and tide.body.metres is number (change the type in the contract, or convert it: int(…), double(…), string(…))",
        ),
        (
            "From: =place.body.name",
            "Form: =place.body.name",
            "25:17 SearchSailings's input has no “Form” (did you mean “From”?)",
        ),
        (
            "when: =place.status == 404",
            "when: =place.stat == 404",
            "27:22 an answer has no “stat” (there are: status, header, body, failed)",
        ),
        (
            "when: =place.status == 404",
            "when: place.status",
            "27:15 “place.status” is a text, and no condition (an expression begins with “=”: `=place.status`)",
        ),
        (
            "+ path.harbour +",
            "+ path.harbor +",
            "30:57 the path has no variable “harbor” (did you mean “harbour”?)",
        ),
        (
            "members: { metres: =tide.body.metres",
            "members: { metres: =tide.body.meters",
            "34:39 the body of tide has no “meters” (did you mean “metres”?)",
        ),
        (
            "members: { metres",
            "members: { status",
            "34:20 “status” is a problem's own member (say it beside `members:`, or call yours another name)",
        ),
        (
            "harbour: =place.body.name",
            "harbour: =place.body.nam",
            "36:28 the body of place has no “nam” (did you mean “name”?)",
        ),
        (
            "harbour: =place.body.name",
            "harbor: =place.body.name",
            "36:7 the contract's reply has no “harbor” (did you mean “harbour”?)",
        ),
        (
            "each: =list.body.Sailings",
            "each: =list.body.Sailing",
            "49:26 the body of list has no “Sailing” (did you mean “Sailings”?)",
        ),
        (
            "each: =list.body.Sailings",
            "each: list",
            "49:15 “list” is a text, and no list (an expression begins with “=”: `=list`)",
        ),
        (
            "RouteCode: =item.RouteCode",
            "RouteCode: =item.RouteKode",
            "51:34 an item of the list has no “RouteKode” (did you mean “RouteCode”?)",
        ),
        (
            "fare: =answer.body.Fare.Amount",
            "fare: =answer.body.Fair.Amount",
            "52:57 the answer's body has no “Fair” (there are: Fare)",
        ),
        (
            "sailing: =item.Id, fare: =answer",
            "sailing: =item.Ids, fare: =answer",
            "52:34 an item of the list has no “Ids” (did you mean “Id”?)",
        ),
        (
            "otherwise: { sailing: =item.Id",
            "otherwise: { sailing: =item.Ids",
            "53:37 an item of the list has no “Ids” (did you mean “Id”?)",
        ),
        (
            "fare: null, currency: SKC",
            "fare: null, curency: SKC",
            "53:53 the body of fares has no “curency” (did you mean “currency”?)",
        ),
        (
            "fares: =fares.body }",
            "fares: =fares.body.x }",
            "54:33 the body of fares is a list, and has no “x” (take one with [0], or each with .map(x, x.x))",
        ),
        (
            "Reference: =hold.body.Reference, Reason",
            "Reference: =hold.body.Ref, Reason",
            "62:73 the body of hold has no “Ref” (there are: Reference, Expires, Total)",
        ),
        (
            "Reference: =hold.body.Reference, Reason",
            "Reference: =confirm.body.Reference, Reason",
            "62:9 when “hold” is undone, the answer of confirm may not be there (what undoes it may name hold and what hold waits for)",
        ),
        (
            "operation: CancelBooking",
            "operation: CancelBookin",
            "62:28 the definition has no operation “CancelBookin” (did you mean “CancelBooking”?)",
        ),
        (
            "PaymentToken: =body.payment",
            "PaymentToken: =body.pay",
            "66:70 the request's body has no “pay” (there are: sailing, fareClass, names, payment, currency)",
        ),
        (
            "backend: tides",
            "backend: tide",
            "15:18 there is no backend “tide” (did you mean “tides”?)",
        ),
    ]);
}

#[test]
fn what_cannot_be_carried_out_is_found_before_it_is_released() {
    hold(&[
        (
            "status: 409",
            "status: 200",
            "32:17 200 is no status of an error (requests are refused with 400 to 599)",
        ),
        (
            "status: 409",
            "status: 410",
            "32:17 the contract's “sailingsFrom” has no response 410 (add it to the contract, so that callers know of it)",
        ),
        (
            "      place:",
            "      path:",
            "14:7 a call cannot be named “path”, which means something else (expressions name its answer by it)",
        ),
        (
            "      place:",
            "      in:",
            "14:7 a call cannot be named “in”, which means something else (expressions name its answer by it)",
        ),
        (
            "      place:",
            "      the-place:",
            "14:7 “the-place” is no name of a call: a small letter, then letters and digits (expressions name its answer by it)",
        ),
        (
            "statuses: [404]",
            "when: =query.on == 'x'",
            "21:38 “body” may be absent: “place” may not be called (say what happens then: place.?body leaves it out, place.?body.orValue(…) puts something in its place)",
        ),
        (
            "        path: /harbours/{harbour}\n",
            "        path: /harbours/{harbour}\n        send: { query: { x: =tide.body.metres } }\n",
            "14:7 calls wait for each other: place needs tide needs place (take one of the references out)",
        ),
        (
            "    refuse:\n      - when: =place",
            "    send: { a: b }\n    refuse:\n      - when: =place",
            "26:5 of several calls each has its own “send” (write it below the name of the call)",
        ),
        (
            "    calls:",
            "    call: { backend: tides }\n    calls:",
            "13:5 an operation has one `call` or several `calls` (give the call a name below `calls:`)",
        ),
    ]);
    // A status that is an answer too, of which nobody says what it means.
    let told = changed(
        "      - when: =place.status == 404\n        status: 404\n        title: No such harbour\n        detail: =\"Skerry Line does not call at \" + path.harbour + \".\"\n",
        "",
    );
    let told = first(&told);
    assert!(
        told.contains("17:9 “place” may answer 404, and nothing says what that means"),
        "{told}"
    );
}

#[test]
fn as_many_calls_as_anybody_writes_cost_what_they_are() {
    // A chain in which each waits for all before it, and one more than there may be.
    let chain = |n: usize| {
        let all = (0..n).map(|i| {
            let needs: Vec<String> = (0..i).map(|b| format!("c{b}.status")).collect();
            let sum = if needs.is_empty() { "1".into() } else { needs.join(" + ") };
            format!("      c{i}: {{ backend: tides, path: '/levels/{{code}}', send: {{ path: {{ code: '={sum}' }} }} }}\n")
        });
        all.collect::<String>()
    };
    let facade = |n: usize| {
        let mut files = demo();
        let text = files.get_mut(FACADE).unwrap();
        let (before, rest) = text.split_once("    calls:").unwrap();
        let (_, behind) = rest.split_once("    refuse:").unwrap();
        let (_, behind) = behind.split_once("  faresFrom:").unwrap();
        *text = format!(
            "{before}    calls:\n{}    reply: {{ harbour: a, metres: =c0.body.metres, sailings: [] }}\n  faresFrom:{behind}",
            chain(n)
        );
        check(&files, "live")
    };
    assert_eq!(facade(32), []);
    assert!(first(&facade(33)).contains("“sailingsFrom” has 33 calls, and 32 are the most"));
    assert!(first(&facade(3_000)).contains("3000 calls"));
}

#[test]
fn the_rules_of_an_operation_say_who_waits_for_whom() {
    let model = model(demo());
    let checked = model.facade("journeys").unwrap();
    let facade = checked.compiled.as_ref().unwrap();
    let of = |id: &str| -> Vec<String> {
        let rules = porch_facade::effective(facade, facade.operation(id).unwrap());
        rules
            .iter()
            .map(|r| format!("{} {}", r.stage, r.place.rule))
            .collect()
    };
    let rules = of("sailingsFrom");
    for wanted in [
        "prepare tide: waits for place",
        "call place: 404 are answers too",
        "call refuses with 404: No such harbour",
        "call refuses with 409: Too shallow to sail",
        "reply the reply is made of the answers, as `reply` says",
    ] {
        assert!(rules.iter().any(|r| r == wanted), "{wanted}: {rules:#?}");
    }
    let rules = of("book");
    for wanted in [
        "prepare hold: changes something: waits for refusals and for changes before it",
        "call hold: is undone where something fails behind it: reservations within 5s",
    ] {
        assert!(rules.iter().any(|r| r == wanted), "{wanted}: {rules:#?}");
    }
    let wanted = "prepare fares: is called for each of list.body.Sailings: at most 100, 2 at once";
    assert!(
        of("faresFrom").iter().any(|r| r == wanted),
        "{:#?}",
        of("faresFrom")
    );
}

#[test]
fn mistakes_in_changes_and_origins_are_found_where_they_stand() {
    hold(&[
        (
            "path: /metres, to",
            "path: /meters, to",
            "83:33 the body has no “meters” (did you mean “metres”?)",
        ),
        (
            "path: /metres, to",
            "path: metres, to",
            "83:33 “metres” is no JSON Pointer: it begins with “/” ()",
        ),
        (
            "op: rename, path: /metres, to: depth",
            "op: rename, path: /metres",
            "83:19 it needs `to:` ()",
        ),
        (
            "op: rename, path: /metres, to: depth",
            "op: mask, path: /metres, to: depth",
            "83:44 “to” has no meaning here ()",
        ),
        (
            "path: /falling, may-be-absent: true",
            "path: /falling",
            "84:33 “falling” may be absent (say what happens then: `may-be-absent: true` leaves it alone)",
        ),
        (
            "path: /falling, may-be-absent: true",
            "path: /metres",
            "84:33 “/metres” is gone: change 1 of the list took it (changes are made in the order of the list)",
        ),
        (
            "path: /falling, may-be-absent: true",
            "path: /code/x",
            "84:33 /code is string, and has no “x” ()",
        ),
        (
            "=answer.body.metres >= 0.4",
            "=answer.body.meters >= 0.4",
            "85:58 the answer's body has no “meters” (did you mean “metres”?)",
        ),
        (
            "=answer.body.metres >= 0.4",
            "=item.x",
            "85:45 there is an “item” only where the path has “*” ()",
        ),
        (
            "remove, name: X-Powered-By",
            "remove, name: Content-Length",
            "10:35 the field content-length is not for documents to change (it says how a message travels, or is set behind all changes)",
        ),
        (
            "remove, name: X-Powered-By",
            "remove, name: 'content-*'",
            "10:35 the field content-length is not for documents to change (it says how a message travels, or is set behind all changes)",
        ),
        (
            "remove, name: X-Powered-By",
            "rename, name: A",
            "10:21 rename needs `to:` (add `to: NAME`)",
        ),
        (
            "remove, name: X-Powered-By",
            "remove, name: A, to: B",
            "10:42 “to” has no meaning here ()",
        ),
        (
            "remove, name: X-Powered-By",
            "set, name: A",
            "10:21 set needs `value:` (add `value: …`)",
        ),
        (
            "remove, name: X-Powered-By",
            "set, name: A B, value: x",
            "10:32 “A B” is no name of a header field ()",
        ),
        (
            "remove, name: X-Powered-By",
            "set, name: A, value: { b: c }",
            "10:42 a list or map has no plain text ()",
        ),
        (
            "remove, name: X-Powered-By",
            "set, name: A, value: \"a\\nb\"",
            "10:42 this text cannot stand in a header field ()",
        ),
        (
            "remove, name: X-Powered-By",
            "set, name: A, value: b, when: x",
            "10:51 “x” is a text, and no condition (an expression begins with “=”: `=x`)",
        ),
        (
            "    headers: [{ op: remove",
            "    status: { 99: 404 }\n    headers: [{ op: remove",
            "10:15 “99” is no status of a reply (statuses are 200 to 599, or many of them as in 5XX)",
        ),
        (
            "    headers: [{ op: remove",
            "    status: { 404: 204 }\n    headers: [{ op: remove",
            "10:20 204 is no status that a reply could be given here (replies with 204, 205 and 304 have no body)",
        ),
        // What only some operations have is told all the same.
        (
            "  reply:\n    headers: [{ op: remove, name: X-P",
            "  request:\n    query: [{ op: rename, name: a }]\n  reply:\n    headers: [{ op: remove, name: X-P",
            "10:19 rename needs `to:` (add `to: NAME`)",
        ),
        (
            "https://harbour.skerry.example",
            "https://harbour.skerry.example/x",
            "7:13 “https://harbour.skerry.example/x” is no origin (an origin is a scheme and a host, as in https://harbour.example, without a path)",
        ),
        (
            "https://harbour.skerry.example",
            "harbour.skerry.example",
            "7:13 “harbour.skerry.example” is no origin (an origin is a scheme and a host, as in https://harbour.example, without a path)",
        ),
        (
            "https://harbour.skerry.example",
            "https://harbour.skerry.example:443",
            "7:13 “https://harbour.skerry.example:443” is no origin (browsers leave a scheme's usual port out of an origin)",
        ),
        (
            "['https://harbour.skerry.example']",
            "['*']\n  credentials: true",
            "8:16 credentials are only for origins by name (name the origins, or leave `credentials` out (Fetch §3.3.5))",
        ),
        (
            "['https://harbour.skerry.example']",
            "['*']\n  expose: [a b]",
            "8:12 “a b” is no name of a header field ()",
        ),
        (
            "    reply:\n      harbour: =place",
            "    changes: { request: { headers: [{ op: remove, name: A }] } }\n    reply:\n      harbour: =place",
            "35:16 there is no one call whose request could be changed (each of several calls says itself what is sent: `send:`)",
        ),
    ]);
}
