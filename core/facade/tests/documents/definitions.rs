//! Documents derived from WSDLs: faults, empty answers, header elements, and what cannot be called.

use super::*;
use serde_json::{Value, json};

/// One operation with header elements of several types, faults, and an answer that says nothing.
fn source(change: impl Fn(String) -> String) -> Source {
    let text = include_str!("../../../../gateway/tests/fixtures/lockers.wsdl");
    Source {
        files: Files::from([("lockers.wsdl".to_owned(), change(text.to_owned()))]),
        main: "lockers.wsdl".into(),
        ..Source::default()
    }
}

fn derived() -> Files {
    let derived = derive(&source(|t| t), "lockers", None, &[]);
    derived.unwrap().files
}

fn contract(files: &Files) -> Value {
    let text = &files["lockers.openapi.yaml"];
    porch_contract::Node::parse(text).unwrap().to_value()
}

#[test]
fn declared_faults_are_typed_and_an_answer_that_says_nothing_is_204() {
    let files = derived();
    assert_eq!(check(&files, "live"), []);
    let contract = contract(&files);
    let operation = contract["paths"]
        .as_object()
        .unwrap()
        .values()
        .next()
        .unwrap();
    let responses = &operation.as_object().unwrap().values().next().unwrap()["responses"];
    let statuses: Vec<&String> = responses.as_object().unwrap().keys().collect();
    assert_eq!(statuses, ["204", "422", "default"]);
    let fault = &responses["422"]["content"]["application/problem+json"]["schema"]["allOf"][1]["properties"]
        ["fault"];
    let known = |name: &str, detail: Value| json!({ "status": 422, "fault": { "name": name, "code": "Client", "detail": detail } });
    let mut schema = json!({ "components": contract["components"] });
    schema["properties"] = json!({ "fault": fault });
    let validator = jsonschema::options().build(&schema).unwrap();
    for (problem, fits) in [
        (known("Taken", json!({ "by": "desk 4" })), true),
        (
            known("Locked", json!({ "until": "2027-05-14T08:30:00" })),
            true,
        ),
        (
            known("Taken", json!({ "until": "2027-05-14T08:30:00" })),
            false,
        ),
        (known("Other", json!({})), false),
    ] {
        assert_eq!(validator.is_valid(&problem), fits, "{problem}");
    }
}

#[test]
fn dates_of_xml_have_examples_and_no_format_that_they_may_not_have() {
    let contract = contract(&derived());
    let locker = &contract["paths"].to_string();
    assert!(
        !contract.to_string().contains("\"format\":\"date"),
        "{contract}"
    );
    for example in ["2027-05-14", "2027"] {
        assert!(locker.contains(&format!("\"{example}\"")), "{locker}");
    }
}

#[test]
fn header_elements_take_texts_and_secrets_in_the_lexical_form_of_their_type() {
    let files = derived();
    let compiled = |secrets: &[(&str, &str)]| {
        let known = secrets
            .iter()
            .map(|(n, v)| ((*n).to_owned(), (*v).to_owned()));
        let (_, findings) =
            model(files.clone()).porch(&["lockers"], &Secrets::Known(&known.collect()));
        first(&findings)
    };
    let desk = [
        ("lockers-number", "7"),
        ("lockers-open", "true"),
        ("lockers-name", "0815"),
    ];
    let with = |shift| [&desk[..], &[("lockers-shift", shift)]].concat();
    assert_eq!(compiled(&with("3")), "nothing found");
    assert!(
        compiled(&with("late")).contains("/shift: "),
        "{}",
        compiled(&with("late"))
    );
    // A constant that does not fit is found by the check already; a secret is not known to it.
    let mut changed = files.clone();
    let backend = changed.get_mut("lockers.backend.yaml").unwrap();
    let wrong = "secret: lockers-shift";
    assert!(backend.contains(wrong), "{backend}");
    *backend = backend.replace("shift:\n        secret: lockers-shift", "shift: late");
    assert!(backend.contains("shift: late"), "{backend}");
    let found = first(&check(&changed, "live"));
    assert!(
        found.contains("the SOAP headers of “lockers”/shift"),
        "{found}"
    );
}

#[test]
fn a_header_field_is_a_text_and_no_number() {
    let mut files = derived();
    let facade = files.get_mut("lockers.facade.yaml").unwrap();
    let call = "    call:\n";
    assert!(facade.contains(call), "{facade}");
    *facade = facade.replace(
        call,
        "    soap-headers: { shift: \"=header.?shift\" }\n    call:\n",
    );
    let found = first(&check(&files, "live"));
    assert!(
        found.contains(
            "the SOAP header of CloseLocker wants integer (int32) here, and header.?shift is string"
        ),
        "{found}"
    );
}

#[test]
fn where_nothing_can_be_called_the_reasons_are_told() {
    let told = |change: fn(String) -> String| {
        let error = derive(&source(change), "lockers", None, &[]).unwrap_err();
        error.message
    };
    assert_eq!(
        told(|t| t.replace(
            "type=\"xs:int\"/><xs:element name=\"From\"",
            "type=\"t:Nowhere\"/><xs:element name=\"From\""
        )),
        "none of its operations can be called: CloseLocker: no schema declares the type “Nowhere” of namespace “urn:t”"
    );
    let http = told(|t| {
        t.replace(
            "<soap:binding transport=\"http://schemas.xmlsoap.org/soap/http\"/>",
            "<h:binding verb=\"GET\"/>",
        )
    });
    assert_eq!(
        http,
        "none of its operations can be called: “B” is an HTTP binding, and is passed by with its operations: CloseLocker"
    );
}

/// The names of a contract's path, query and body, and of what is sent.
fn named(files: &Files) -> String {
    let contract = contract(files);
    let (path, item) = contract["paths"]
        .as_object()
        .unwrap()
        .iter()
        .next()
        .unwrap();
    let operation = item.as_object().unwrap().values().next().unwrap();
    let parameters = operation["parameters"].as_array().into_iter().flatten();
    let parameters: Vec<&str> = parameters.map(|p| p["name"].as_str().unwrap()).collect();
    let reference = operation.pointer("/responses/200/content/application~1json/schema/$ref");
    let name = reference
        .and_then(Value::as_str)
        .unwrap()
        .rsplit('/')
        .next()
        .unwrap();
    let members: Vec<&String> = contract["components"]["schemas"][name]["properties"]
        .as_object()
        .unwrap()
        .keys()
        .collect();
    format!("{path} {parameters:?} {members:?}")
}

#[test]
fn names_are_in_one_style_in_path_query_and_body() {
    let wsdl = source(|t| {
        t.replace("CloseLockerResponse\"><xs:complexType><xs:sequence/>", "CloseLockerResponse\"><xs:complexType><xs:sequence><xs:element name=\"LockerNumber\" type=\"xs:int\"/><xs:element name=\"lockerNumber\" type=\"xs:int\"/></xs:sequence>")
            .replace("CloseLocker", "GetLocker")
            .replace("name=\"Number\" type=\"xs:int\"/><xs:element name=\"From\"", "name=\"LockerNumber\" type=\"xs:int\"/><xs:element name=\"FromDay\"")
    });
    let proto = Source {
        files: Files::from([("quay.proto".to_owned(), "syntax = \"proto3\"; package quay; message Ask { string berth_id = 1; int32 on_day = 2; } message Berth { string berth_id = 1; bool is_free = 2; } service Quay { rpc GetBerth(Ask) returns (Berth); }".to_owned())]),
        main: "quay.proto".into(),
        ..Source::default()
    };
    let derived = |source: &Source, names| {
        let wanted = porch_facade::Wanted {
            name: "lockers",
            address: Some("http://127.0.0.1:9"),
            names,
            ..porch_facade::Wanted::default()
        };
        let files = porch_facade::derive_as(source, &wanted).unwrap().files;
        assert_eq!(check(&files, "live"), []);
        // Nothing has changed: an update knows which names were taken.
        let updated = porch_facade::update(&files, "lockers", source).unwrap();
        assert_eq!((updated.changes, updated.files), (vec![], Files::new()));
        files
    };
    use porch_facade::Names::{AsIs, Camel};
    assert_eq!(
        named(&derived(&wsdl, Camel)),
        r#"/lockers/{lockerNumber} ["lockerNumber", "fromDay", "for"] ["lockerNumber", "lockerNumber_2"]"#
    );
    assert_eq!(
        named(&derived(&wsdl, AsIs)),
        r#"/lockers/{LockerNumber} ["LockerNumber", "FromDay", "For"] ["LockerNumber", "lockerNumber"]"#
    );
    assert_eq!(
        named(&derived(&proto, Camel)),
        r#"/berths/{berthId} ["berthId", "onDay"] ["berthId", "isFree"]"#
    );
    assert_eq!(
        named(&derived(&proto, AsIs)),
        r#"/berths/{berth_id} ["berth_id", "on_day"] ["berth_id", "is_free"]"#
    );
}

/// The rows of an operation's request in short.
fn rows(files: Files, facade: &str, operation: &str) -> Vec<String> {
    let table = porch_facade::table(&model(files), facade, operation).unwrap();
    let rows = table.request.iter();
    rows.map(|r| {
        format!(
            "{} {} → {} {}",
            r.caller, r.caller_type, r.backend, r.backend_type
        )
    })
    .collect()
}

#[test]
fn a_body_that_goes_as_it_is_is_shown_field_by_field() {
    let soap = rows(derived(), "lockers", "closeLocker");
    for row in [
        "body object → the whole input object",
        "body number integer (int32) → number integer (int32)",
        "body from string (date) → from string (date)",
    ] {
        assert!(soap.iter().any(|r| r == row), "{row}: {soap:#?}");
    }
    let text = "syntax = \"proto3\"; package quay; message Size { int32 length = 1; } message Berth { string call_sign = 1; Size size = 2; repeated Size parts = 3; } service Quay { rpc Measure(Berth) returns (Berth); }";
    let source = Source {
        files: Files::from([("quay.proto".to_owned(), text.to_owned())]),
        main: "quay.proto".into(),
        ..Source::default()
    };
    let files = derive(&source, "quay", Some("http://127.0.0.1:9"), &[])
        .unwrap()
        .files;
    let grpc = rows(files, "quay", "measure");
    for row in [
        "body callSign string → callSign string",
        "body size.length integer (int32) → size.length integer (int32)",
        "body parts[].length integer (int32) → parts[].length integer (int32)",
    ] {
        assert!(grpc.iter().any(|r| r == row), "{row}: {grpc:#?}");
    }
}

#[test]
fn bodies_that_refer_to_themselves_have_an_end() {
    // Each has as many members of its own kind as would fill any table.
    let members: Vec<String> = (0..40)
        .map(|i| format!("m{i}: {{ $ref: '#/components/schemas/Box' }}"))
        .collect();
    let files = [
        ("b.yaml", "elm-porch: backend/1\nname: b\nkind: http\naddress: http://127.0.0.1:9\n".to_owned()),
        ("c.yaml", format!("openapi: 3.1.0\ninfo: {{ title: T, version: 1.0.0 }}\npaths:\n  /a:\n    post: {{ operationId: a, requestBody: {{ content: {{ application/json: {{ schema: {{ $ref: '#/components/schemas/Box' }} }} }} }}, responses: {{ '200': {{ description: ok }} }} }}\ncomponents: {{ schemas: {{ Box: {{ type: object, properties: {{ {} }} }} }} }}\n", members.join(", "))),
        ("f.yaml", "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  a: { call: { backend: b } }\n".to_owned()),
    ];
    let files = files.map(|(n, t)| (n.to_owned(), t));
    let table = porch_facade::table(&model(files.into()), "f", "a").unwrap();
    assert!(
        (80..90).contains(&table.request.len()),
        "{}",
        table.request.len()
    );
    assert_eq!(table.request.last().unwrap().caller, "body …");
}

#[test]
fn pages_and_answers_are_no_definitions() {
    let is = |text: &str| {
        porch_facade::is_definition(&Source {
            files: Files::from([("a".to_owned(), text.to_owned())]),
            main: "a".into(),
            ..Source::default()
        })
    };
    assert!(!is("<!DOCTYPE html><html><head><meta></head></html>"));
    assert!(!is("<members xmlns='urn:skerry-line:loyalty'/>"));
    assert!(!is("{\"level\": 2}") && !is(""));
    // One that is broken is one all the same: what is wrong with it is told.
    assert!(is("<definitions xmlns='http://schemas.xmlsoap.org/wsdl/'>"));
    assert!(is("openapi: 3.1.0"));
}
