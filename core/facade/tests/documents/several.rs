//! Operations of several calls: each mistake where it stands, in every place where a reference can be.

use super::*;

const FACADE: &str = "journeys/journeys.facade.yaml";

/// The demo's documents with the facade that calls several backends.
fn demo() -> Files {
    let mut files = super::demo();
    let folder =
        std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents/journeys");
    for entry in std::fs::read_dir(folder).unwrap() {
        let path = entry.unwrap().path();
        let name = path.file_name().unwrap().to_str().unwrap();
        files.insert(
            format!("journeys/{name}"),
            std::fs::read_to_string(&path).unwrap(),
        );
    }
    files
}

/// What is found once a text of the facade is another.
fn changed(from: &str, to: &str) -> Vec<Finding> {
    let mut files = demo();
    let text = files.get_mut(FACADE).unwrap();
    assert!(text.contains(from), "{from}");
    *text = text.replacen(from, to, 1);
    check(&files, "live")
}

#[test]
fn each_wrong_reference_is_found_where_it_stands() {
    let mut wrong = Vec::new();
    for (from, to, expected) in [
        (
            "code: =place.body.code",
            "code: =place.body.kode",
            "16:43 the body of place has no “kode” (did you mean “code”?)",
        ),
        (
            "code: =place.body.code",
            "code: =place.bdy.code",
            "16:38 an answer has no “bdy” (did you mean “body”?)",
        ),
        (
            "code: =place.body.code",
            "code: =plaice.body.code",
            "16:32 “plaice” is not known here; did you mean “place”? ()",
        ),
        (
            "code: =place.body.code",
            "code: =tide.body.code",
            "13:7 “tide” waits for its own answer (below `answer:` it is called `answer`)",
        ),
        (
            "code: =place.body.code",
            "code: =item.x",
            "16:32 there is an “item” only where a call has `each:` ()",
        ),
        (
            "code: =place.body.code",
            "code: =answer.body.x",
            "16:32 of several calls each answer has a name: place, tide, list ()",
        ),
        (
            "path: /levels/{code}",
            "path: /level/{code}",
            "15:15 the definition has no GET /level/{code} (did you mean “GET /levels/{code}”?)",
        ),
        (
            "path: /levels/{code}",
            "path: /levels/{cod}",
            "15:15 nothing gives {cod} a value (add `path: { cod: … }` below `send:`)",
        ),
        (
            "        path: /levels/{code}\n",
            "",
            "14:9 one of several calls says its path (add `path: /…`, whose {variables} are those of the operation or stand below `send: path:`)",
        ),
        (
            "{ code: =place.body.code } }",
            "{ code: =place.body.code }, query: { a: b } }",
            "16:60 GET /levels/{code} has no query parameter “a” (it has none)",
        ),
        (
            "On: =query.on",
            "On: =query.no",
            "20:52 the contract has no query parameter “no” (did you mean “on”?)",
        ),
        (
            "From: =place.body.name",
            "From: =tide.body.metres",
            "20:23 SearchSailings's input wants string here, and tide.body.metres is number (change the type in the contract, or convert it: int(…), double(…), string(…))",
        ),
        (
            "From: =place.body.name",
            "Form: =place.body.name",
            "20:17 SearchSailings's input has no “Form” (did you mean “From”?)",
        ),
        (
            "when: =place.status == 404",
            "when: =place.stat == 404",
            "22:22 an answer has no “stat” (there are: status, header, body, failed)",
        ),
        (
            "when: =place.status == 404",
            "when: place.status",
            "22:15 “place.status” is a text, and no condition (an expression begins with “=”: `=place.status`)",
        ),
        (
            "+ path.harbour +",
            "+ path.harbor +",
            "25:57 the path has no variable “harbor” (did you mean “harbour”?)",
        ),
        (
            "members: { metres: =tide.body.metres",
            "members: { metres: =tide.body.meters",
            "29:39 the body of tide has no “meters” (did you mean “metres”?)",
        ),
        (
            "members: { metres",
            "members: { status",
            "29:20 “status” is a problem's own member (say it beside `members:`, or call yours another name)",
        ),
        (
            "harbour: =place.body.name",
            "harbour: =place.body.nam",
            "31:28 the body of place has no “nam” (did you mean “name”?)",
        ),
        (
            "harbour: =place.body.name",
            "harbor: =place.body.name",
            "31:7 the contract's reply has no “harbor” (did you mean “harbour”?)",
        ),
        (
            "each: =list.body.Sailings",
            "each: =list.body.Sailing",
            "44:26 the body of list has no “Sailing” (did you mean “Sailings”?)",
        ),
        (
            "each: =list.body.Sailings",
            "each: list",
            "44:15 “list” is a text, and no list (an expression begins with “=”: `=list`)",
        ),
        (
            "RouteCode: =item.RouteCode",
            "RouteCode: =item.RouteKode",
            "46:34 an item of the list has no “RouteKode” (did you mean “RouteCode”?)",
        ),
        (
            "fare: =answer.body.Fare.Amount",
            "fare: =answer.body.Fair.Amount",
            "47:57 the answer's body has no “Fair” (there are: Fare)",
        ),
        (
            "sailing: =item.Id, fare: =answer",
            "sailing: =item.Ids, fare: =answer",
            "47:34 an item of the list has no “Ids” (did you mean “Id”?)",
        ),
        (
            "otherwise: { sailing: =item.Id",
            "otherwise: { sailing: =item.Ids",
            "48:37 an item of the list has no “Ids” (did you mean “Id”?)",
        ),
        (
            "fare: null, currency: SKC",
            "fare: null, curency: SKC",
            "48:53 the body of fares has no “curency” (did you mean “currency”?)",
        ),
        (
            "fares: =fares.body }",
            "fares: =fares.body.x }",
            "49:33 the body of fares is a list, and has no “x” (take one with [0], or each with .map(x, x.x))",
        ),
        (
            "Reference: =hold.body.Reference, Reason",
            "Reference: =hold.body.Ref, Reason",
            "57:73 the body of hold has no “Ref” (there are: Reference, Expires, Total)",
        ),
        (
            "Reference: =hold.body.Reference, Reason",
            "Reference: =confirm.body.Reference, Reason",
            "57:9 when “hold” is undone, the answer of confirm may not be there (what undoes it may name hold and what hold waits for)",
        ),
        (
            "operation: CancelBooking",
            "operation: CancelBookin",
            "57:28 the definition has no operation “CancelBookin” (did you mean “CancelBooking”?)",
        ),
        (
            "PaymentToken: =body.payment",
            "PaymentToken: =body.pay",
            "61:70 the request's body has no “pay” (there are: sailing, fareClass, names, payment, currency)",
        ),
        (
            "backend: tides",
            "backend: tide",
            "10:18 there is no backend “tide” (did you mean “tides”?)",
        ),
    ] {
        let said = first(&changed(from, to));
        let said = said
            .strip_prefix(&format!("{FACADE}:"))
            .unwrap_or(&said)
            .to_owned();
        if said != expected {
            wrong.push(format!("{from} → {to}\n  {said}\n  {expected}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn what_cannot_be_carried_out_is_found_before_it_is_released() {
    let mut wrong = Vec::new();
    for (from, to, expected) in [
        (
            "status: 409",
            "status: 200",
            "27:17 200 is no status of an error (requests are refused with 400 to 599)",
        ),
        (
            "status: 409",
            "status: 410",
            "27:17 the contract's “sailingsFrom” has no response 410 (add it to the contract, so that callers know of it)",
        ),
        (
            "      place:",
            "      path:",
            "9:7 a call cannot be named “path”, which means something else (expressions name its answer by it)",
        ),
        (
            "      place:",
            "      in:",
            "9:7 a call cannot be named “in”, which means something else (expressions name its answer by it)",
        ),
        (
            "      place:",
            "      the-place:",
            "9:7 “the-place” is no name of a call: a small letter, then letters and digits (expressions name its answer by it)",
        ),
        (
            "statuses: [404]",
            "when: =query.on == 'x'",
            "16:38 “body” may be absent: “place” may not be called (say what happens then: place.?body leaves it out, place.?body.orValue(…) puts something in its place)",
        ),
        (
            "        path: /harbours/{harbour}\n",
            "        path: /harbours/{harbour}\n        send: { query: { x: =tide.body.metres } }\n",
            "9:7 calls wait for each other: place needs tide needs place (take one of the references out)",
        ),
        (
            "    refuse:\n      - when: =place",
            "    send: { a: b }\n    refuse:\n      - when: =place",
            "21:5 of several calls each has its own “send” (write it below the name of the call)",
        ),
        (
            "    calls:",
            "    call: { backend: tides }\n    calls:",
            "8:5 an operation has one `call` or several `calls` (give the call a name below `calls:`)",
        ),
    ] {
        let said = first(&changed(from, to));
        let said = said
            .strip_prefix(&format!("{FACADE}:"))
            .unwrap_or(&said)
            .to_owned();
        if said != expected {
            wrong.push(format!("{from} → {to}\n  {said}\n  {expected}\n"));
        }
    }
    // A status that is an answer too, of which nobody says what it means.
    let told = changed(
        "      - when: =place.status == 404\n        status: 404\n        title: No such harbour\n        detail: =\"Skerry Line does not call at \" + path.harbour + \".\"\n",
        "",
    );
    let told = first(&told);
    if !told.contains("12:9 “place” may answer 404, and nothing says what that means") {
        wrong.push(told);
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
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
