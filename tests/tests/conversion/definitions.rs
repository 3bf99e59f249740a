//! From a definition to an API, and what happens when the definition changes.

use super::*;

#[test]
fn a_zip_becomes_a_released_api_in_one_sitting() {
    let (porch, key) = Porch::published();
    let desk = porch.cargo_desk.as_ref().unwrap().address;
    let zip = porch.folder().join("handed-over.zip");
    std::fs::write(
        &zip,
        Http::send(
            "GET",
            &format!("http://{desk}/cargo-desk.zip"),
            &[],
            Vec::new(),
        )
        .body,
    )
    .unwrap();
    let look = porch.ok(&["look", zip.to_str().unwrap()]);
    assert_eq!(
        (
            look["operations"].as_array().unwrap().len(),
            look["ports"].as_array().unwrap().len()
        ),
        (5, 2)
    );
    assert_eq!(
        (&look["operations"][0]["style"], &look["findings"]),
        (&json!("SOAP 1.2 rpc/literal"), &json!([]))
    );
    // The same from its address, imports followed, and from the ZIP's address.
    for address in [
        format!("http://{desk}/cargo-desk"),
        format!("http://{desk}/cargo-desk.zip"),
    ] {
        assert_eq!(
            porch.ok(&["look", &address])["operations"],
            look["operations"],
            "{address}"
        );
    }
    let folder = porch.folder().join("freight");
    let folder = folder.to_str().unwrap();
    assert_eq!(
        porch.ok(&[
            "derive",
            zip.to_str().unwrap(),
            "-o",
            folder,
            "--name",
            "freight",
            "--address",
            &format!("http://{desk}/rehearsal")
        ])["operations"],
        5
    );
    assert_eq!(porch.ok(&["check", folder])["findings"], json!([]));
    porch.ok(&["push", folder]);
    let tried = porch.ok(&["try", "freight/getConsignment", "number=C-2041"]);
    assert_eq!(tried["status"], 200);
    let shown = tried.to_string();
    assert!(
        shown.contains(
            "application/soap+xml; charset=utf-8; action=\\\"urn:skerry-line:cargo-desk:1/Get\\\""
        ) && shown.contains("/rehearsal"),
        "{shown}"
    );
    porch.ok(&["release", "freight"]);
    let found = porch
        .call("GET", "/freight/v1/consignments/C-2041", &key, "")
        .json();
    assert_eq!(
        found["consignment"]["goods"][0],
        serde_json::from_str::<Value>(r#"{"xsi:type":"Dangerous","un":"1203","what":"Petrol in drums","weight":{"unit":"kg","value":1520.250},"classes":["3","9"]}"#).unwrap()
    );
}

#[test]
fn what_is_booked_comes_back_as_it_was_said() {
    let (porch, key) = Porch::published();
    let said: Value = serde_json::from_str(
        r#"{"from":"Osprey Sound","to":"Tern Rock","pallets":2,"goods":[{"xsi:type":"Livestock","what":"Sheep & <goats>","weight":{"value":0.900,"unit":"t"},"heads":7},{"xsi:type":"Dangerous","un":"1203","what":"Petrol","weight":null,"classes":["3","9"]}],"notes":["a \"b\"",""]}"#,
    )
    .unwrap();
    let booked = porch.call("POST", "/cargo/v1/consignments", &key, &said.to_string());
    assert_eq!(
        (booked.status, booked.text().as_str()),
        (
            200,
            r#"{"number":"C-2043","charge":240.500,"currency":"SKC"}"#
        )
    );
    let listed = porch
        .call(
            "GET",
            "/cargo/v1/consignments?from=Osprey%20Sound",
            &key,
            "",
        )
        .json();
    let mut expected = said.clone();
    expected["number"] = json!("C-2043");
    expected["priority"] = json!(false);
    assert_eq!(listed, json!([expected]));
    // A label that travelled as an attachment (MTOM), a call without an answer, a fault in two languages.
    let label = porch
        .call("GET", "/cargo/v1/consignments/C-2041/label", &key, "")
        .json();
    assert!(
        label["picture"]
            .as_str()
            .unwrap()
            .starts_with("iVBORw0KGgo"),
        "{label}"
    );
    assert_eq!(label["checksum"], "AAAVcQ==");
    let note = porch.call(
        "POST",
        "/cargo/v1/consignments/C-2041/notes",
        &key,
        r#"{"note":"x"}"#,
    );
    assert_eq!((note.status, note.body.len()), (202, 0));
    let gone = Http::send(
        "GET",
        &format!("{}/cargo/v1/consignments/C-9999", porch.gateway),
        &[("api-key", &key), ("accept-language", "de, en;q=0.5")],
        Vec::new(),
    );
    assert_eq!(
        (
            gone.status,
            &gone.json()["detail"],
            &gone.json()["fault"]["detail"]
        ),
        (
            404,
            &json!("Es gibt keine Sendung C-9999"),
            &json!({"number": "C-9999"})
        )
    );
    let wrong = porch.call(
        "POST",
        "/cargo/v1/consignments",
        &key,
        &said
            .to_string()
            .replace("Livestock", "Livestok")
            .replace("\"pallets\":2", "\"pallets\":0"),
    );
    let errors: Vec<String> = wrong.json()["errors"]
        .as_array()
        .unwrap()
        .iter()
        .map(|e| {
            format!(
                "{} {}",
                e["pointer"].as_str().unwrap(),
                e["detail"].as_str().unwrap()
            )
        })
        .collect();
    assert_eq!(
        errors,
        [
            "/body/consignment/pallets 0 is less than 1",
            "/body/consignment/goods/0/xsi:type “Livestok” cannot stand for Goods; did you mean “Livestock”?"
        ]
    );
}

#[test]
fn edits_survive_when_the_definition_changes() {
    let porch = Porch::start();
    let plain = |name: &str| porch.folder().join(name);
    let definition =
        std::fs::read_to_string(porch.documents.join("sailings/reservations.wsdl")).unwrap();
    let old = plain("old.wsdl");
    std::fs::write(&old, &definition).unwrap();
    let folder = plain("fares");
    let dir = folder.to_str().unwrap();
    porch.ok(&[
        "derive",
        old.to_str().unwrap(),
        "-o",
        dir,
        "--name",
        "fares",
        "--only",
        "QuoteFare,CancelBooking",
    ]);
    let edit = |file: &str, from: &str, to: &str| {
        let text = std::fs::read_to_string(folder.join(file)).unwrap();
        assert!(text.contains(from), "{from}: {text}");
        std::fs::write(folder.join(file), text.replace(from, to)).unwrap();
    };
    edit(
        "fares.facade.yaml",
        "title: Reservations",
        "title: Fares # ours",
    );
    edit(
        "fares.openapi.yaml",
        "/fares/{routeCode}",
        "/quotes/{routeCode}",
    );
    // The definition moves on: a new operation, a new optional element, one gone, a type widened.
    let mut new = definition.replace(
        "<xsd:element name=\"ValidUntil\" type=\"xsd:date\" minOccurs=\"0\"/>",
        "<xsd:element name=\"ValidUntil\" type=\"xsd:date\" minOccurs=\"0\"/><xsd:element name=\"Tax\" type=\"xsd:decimal\" minOccurs=\"0\"/>",
    );
    new = new
        .replace(
            "<xsd:maxInclusive value=\"40\"/>",
            "<xsd:maxInclusive value=\"60\"/>",
        )
        .replace("CancelBooking", "RevokeBooking");
    let changed = plain("new.wsdl");
    std::fs::write(&changed, new).unwrap();
    let updated = porch.ok(&[
        "derive",
        changed.to_str().unwrap(),
        "-o",
        dir,
        "--name",
        "fares",
        "--update",
    ]);
    let changes: Vec<&str> = updated["changes"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(Value::as_str)
        .collect();
    assert!(
        changes
            .iter()
            .any(|c| c.starts_with("the definition no longer has CancelBooking")),
        "{changes:#?}"
    );
    assert!(
        changes.contains(&"RevokeBooking is new: wired as “revokeBooking”"),
        "{changes:#?}"
    );
    assert!(
        changes.contains(&"/components/schemas/Fare/properties/tax: new"),
        "{changes:#?}"
    );
    let facade = std::fs::read_to_string(folder.join("fares.facade.yaml")).unwrap();
    assert!(facade.contains("title: Fares # ours") && facade.contains("  revokeBooking:\n    call:\n      backend: fares\n      operation: RevokeBooking\n"), "{facade}");
    let contract = std::fs::read_to_string(folder.join("fares.openapi.yaml")).unwrap();
    assert!(
        contract.contains("/quotes/{routeCode}")
            && !contract.contains("/fares/{routeCode}")
            && contract.contains("tax:"),
        "{contract}"
    );
    // What was left out at first stays out, and what can no longer be called is an error with a place.
    assert!(!facade.contains("HoldSeats"));
    let checked = porch.client(&["check", dir], "");
    let text = String::from_utf8_lossy(&checked.stdout).into_owned();
    assert!(
        text.contains("the definition has no operation “CancelBooking”"),
        "{text}"
    );
    let again = porch.ok(&[
        "derive",
        changed.to_str().unwrap(),
        "-o",
        dir,
        "--name",
        "fares",
        "--update",
    ]);
    assert_eq!(
        (&again["changes"], &again["written"]),
        (&json!([]), &json!([]))
    );
}

#[test]
fn xml_without_a_schema_becomes_json_and_json_becomes_xml() {
    let (porch, _) = Porch::published();
    let get = |path: &str, accept: &str| {
        let fields = [("accept", accept)];
        Http::send(
            "GET",
            &format!("{}/loyalty/v1{path}", porch.gateway),
            if accept.is_empty() { &[] } else { &fields },
            Vec::new(),
        )
    };
    let member = get("/members/L-0007", "");
    assert_eq!(
        member.json()["member"]["trips"]["trip"][1],
        json!({"@route": "MAR-TER", "@on": "2027-05-03"})
    );
    // The bytes are others than those that the backend's validator stands for.
    assert_eq!(
        (
            member.header("etag"),
            member.header("vary"),
            member.header("content-type")
        ),
        ("W/\"m-3\"", "accept", "application/json")
    );
    let xml = get("/members/L-0007", "application/json;q=0.2, text/xml");
    assert_eq!(
        (
            xml.header("content-type"),
            xml.header("etag"),
            xml.header("vary")
        ),
        ("application/xml", "\"m-3\"", "accept")
    );
    assert!(xml.text().contains("<name>Ines Tarrant</name>"));
    let refused = get("/members/L-0007", "image/png");
    assert_eq!(
        (refused.status, refused.json()["type"].as_str().unwrap()),
        (406, "urn:elm-porch:problem:not-acceptable")
    );
    assert_eq!(
        get("/members/L-9999", "").json()["error"]["#text"],
        "There is no member L-9999"
    );
    assert_eq!(get("/members/L-9999", "").status, 404);
    assert_eq!(
        get("/members?tier=gold", "").json()["members"][1],
        json!({"number": "L-0012", "name": "Odd Fjelde", "points": 905})
    );
    assert!(get("/members?tier=gold", "application/xml").text().contains("<members><number>L-0012</number><name>Odd Fjelde</name><points>905</points></members>"));
    let post = |kind: &str, body: &str| {
        Http::send(
            "POST",
            &format!("{}/loyalty/v1/members/L-0007/points", porch.gateway),
            &[("content-type", kind)],
            body.as_bytes().to_vec(),
        )
    };
    assert_eq!(
        post(
            "application/json",
            r#"{"amount":5,"reason":"late & sorry"}"#
        )
        .json(),
        json!({"number": "L-0007", "points": 1245})
    );
    let odd = post("text/plain", "5");
    assert_eq!(
        (odd.status, odd.header("accept")),
        (415, "application/json, application/xml")
    );
    assert!(
        post("application/xml", "<points><amount>").json()["errors"][0]["detail"]
            .as_str()
            .unwrap()
            .starts_with("is no well-formed XML")
    );
}
