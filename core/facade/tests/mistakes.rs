//! Mistakes in documents of every kind of backend, each found where it stands, with what helps.
#![allow(
    clippy::too_many_lines,
    reason = "a table of cases is told in one piece"
)]

use std::path::Path;

use porch_facade::{Files, check};

fn take_in(folder: &Path, below: &str, into: &mut Files) {
    for entry in std::fs::read_dir(folder).unwrap() {
        let entry = entry.unwrap();
        let name = format!("{below}{}", entry.file_name().to_str().unwrap());
        if entry.path().is_dir() {
            take_in(&entry.path(), &format!("{name}/"), into);
        } else {
            into.insert(name, std::fs::read_to_string(entry.path()).unwrap());
        }
    }
}

fn demo() -> Files {
    let mut files = Files::new();
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/documents");
    take_in(&folder, "", &mut files);
    files
}

/// What is found first once a text of a file is another.
fn found(file: &str, from: &str, to: &str) -> String {
    let mut files = demo();
    let text = files.get_mut(file).unwrap();
    assert!(text.contains(from), "{file}: {from}");
    *text = text.replacen(from, to, 1);
    let findings = check(&files, "live");
    findings.first().map_or("nothing".into(), |f| {
        format!(
            "{}:{}:{} {} ({})",
            f.file.rsplit('/').next().unwrap(),
            f.line,
            f.column,
            f.message,
            f.help
        )
    })
}

fn hold(cases: &[(&str, &str, &str, &str)]) {
    let mut wrong = Vec::new();
    for (file, from, to, expected) in cases {
        let said = found(file, from, to);
        if said != *expected {
            wrong.push(format!("{from} → {to}\n  {said}\n"));
        }
    }
    assert!(wrong.is_empty(), "\n{}", wrong.concat());
}

#[test]
fn the_demo_has_none() {
    assert_eq!(check(&demo(), "live"), []);
}

#[test]
fn in_facades_of_grpc() {
    let (facade, contract) = (
        "vessels/vessels.facade.yaml",
        "vessels/vessels.openapi.yaml",
    );
    hold(&[
        (
            facade,
            "Fleet/GetVessel\n",
            "Fleet/GetVesel\n",
            "vessels.facade.yaml:28:18 the definition has no method “skerry.fleet.v1.Fleet/GetVesel” (did you mean “skerry.fleet.v1.Fleet/GetVessel”?)",
        ),
        (
            facade,
            "      operation: skerry.fleet.v1.Fleet/GetVessel\n",
            "",
            "vessels.facade.yaml:27:7 a gRPC call names its method (add `operation: package.Service/Method` of the definition)",
        ),
        (
            facade,
            "body: vessel\n",
            "body: vesel\n",
            "vessels.facade.yaml:35:11 “vesel” is no field of skerry.fleet.v1.UpdateVesselRequest (did you mean “vessel”?)",
        ),
        (
            facade,
            "response-body: text",
            "response-body: txt",
            "vessels.facade.yaml:65:20 “txt” is no field of skerry.fleet.v1.Defect (did you mean “text”?)",
        ),
        (
            facade,
            "      vessel: ='vessels/'",
            "      vesel: ='vessels/'",
            "vessels.facade.yaml:52:7 ReportDefect's message has no “vesel” (did you mean “vessel”?)",
        ),
        (
            facade,
            "      path: ='files/' + path.file\n",
            "      path: files\n",
            "vessels.facade.yaml:87:5 the path's {file} goes nowhere (add `send: { FIELD: =path.file }`)",
        ),
        (
            facade,
            "      path: ='files/' + path.file\n",
            "      path: =path.fil\n",
            "vessels.facade.yaml:91:19 the path has no variable “fil” (did you mean “file”?)",
        ),
        (
            facade,
            "      path: ='files/' + path.file\n",
            "      path: { deep: =path.file }\n",
            "vessels.facade.yaml:91:13 GetFile's message wants string here, and this is a structure ()",
        ),
        (
            facade,
            "      path: ='files/' + path.file\n",
            "      path: chart\n",
            "vessels.facade.yaml:87:5 the path's {file} goes nowhere (add `send: { FIELD: =path.file }`)",
        ),
        (
            facade,
            "x-chart-bin",
            "grpc-status",
            "vessels.facade.yaml:12:12 “grpc-status” cannot be metadata (names are lower-case; those that begin with grpc- belong to the protocol)",
        ),
        (
            facade,
            "x-voyage,",
            "'x voyage',",
            "vessels.facade.yaml:12:12 “x voyage” cannot be metadata (names are lower-case; those that begin with grpc- belong to the protocol)",
        ),
        (
            facade,
            "    response-body: text",
            "    response-body: text\n    faults: { NOT_FUOND: 404 }",
            "vessels.facade.yaml:66:15 “NOT_FUOND” is no code of gRPC (did you mean “NOT_FOUND”?)",
        ),
        (
            facade,
            "    response-body: text",
            "    response-body: text\n    faults: { NOT_FOUND: 40 }",
            "vessels.facade.yaml:66:26 40 is no status of an error (faults are answered with 400 to 599)",
        ),
        (
            facade,
            "    response-body: text",
            "    response-body: text\n    soap-headers: { Login: x }",
            "vessels.facade.yaml:66:5 only SOAP calls have “soap-headers” (use `send` and `reply`)",
        ),
        (
            facade,
            "    response-body: text",
            "    response-body: text\n    reply: =answer.body.txt",
            "vessels.facade.yaml:66:25 the answer's body is string, and has no “txt” ()",
        ),
        (
            contract,
            "pageSize",
            "pageSice",
            "vessels.facade.yaml:16:5 the query parameter “pageSice” goes nowhere: “pageSice” is no field of skerry.fleet.v1.ListVesselsRequest; did you mean “pageSize”? (name it like the field in the contract, or use it in `send`)",
        ),
        (
            "vessels/vessels.backend.yaml",
            "definition: vessels-definition",
            "definition: vessel-definition",
            "vessels.backend.yaml:5:13 there is no .proto file and no descriptor set at “vessels/vessel-definition” ()",
        ),
        (
            "vessels/vessels.backend.yaml",
            "definition: vessels-definition\n",
            "",
            "vessels.backend.yaml:4:7 a gRPC backend needs its definition (add `definition: FOLDER` with its .proto files, or a descriptor set)",
        ),
        (
            "vessels/vessels.backend.yaml",
            "kind: grpc",
            "kind: gprc",
            "vessels.backend.yaml:4:7 “gprc” is not known here (known are grpc, http, soap)",
        ),
        (
            "vessels/vessels.backend.yaml",
            "kind: grpc",
            "kind: grpc\nport: FleetPort",
            "vessels.backend.yaml:5:1 “port” has no meaning here (it is for SOAP backends)",
        ),
    ]);
}

#[test]
fn in_facades_of_http() {
    let (facade, backend) = (
        "loyalty/loyalty.facade.yaml",
        "loyalty/loyalty.backend.yaml",
    );
    hold(&[
        (
            facade,
            "method: GET, path: '/members/{number}'",
            "method: get, path: '/members/{number}'",
            "loyalty.facade.yaml:13:39 “get” is no method (methods are written in capitals: GET, POST …)",
        ),
        (facade, ", path: '/members/{number}' }", " }", "nothing"),
        (
            facade,
            "    send:\n      query:\n",
            "    send:\n      form: { a: { b: 1 } }\n      query:\n",
            "loyalty.facade.yaml:17:18 a member of a form is a text or a list of texts ()",
        ),
        (
            facade,
            "    send:\n      query:\n",
            "    send:\n      form: [a]\n      query:\n",
            "loyalty.facade.yaml:17:13 a form has members, each with a text or a list of them ()",
        ),
        (
            facade,
            "method: GET, path: '/members/{number}'",
            "operation: GetMember",
            "loyalty.facade.yaml:13:31 an HTTP backend without a definition has no named operations (an HTTP call has `method` and `path`)",
        ),
        (
            facade,
            "'/members/{number}' }\n",
            "'/members/{number' }\n",
            "loyalty.facade.yaml:13:50 path “/members/{number”: “{number”: a variable stands between one “{” and one “}”, and has a name ()",
        ),
        (
            facade,
            "'/members/{number}/points' }\n    send:\n",
            "'/members/{number}/points' }\n    send:\n      path: { nubmer: =path.number }\n",
            "loyalty.facade.yaml:24:15 the backend's path has no {nubmer} ()",
        ),
        (
            facade,
            "'/members/{number}/points' }\n    send:\n",
            "'/members/{number}/points' }\n    send:\n      path: { number: fixed }\n",
            "loyalty.facade.yaml:24:23 a path variable needs an expression ()",
        ),
        (
            facade,
            "      query:\n        tier",
            "      qurey:\n        tier",
            "loyalty.facade.yaml:17:7 “qurey” is not known here (did you mean “query”?)",
        ),
        (
            facade,
            "      query:\n        tier: =query.?tier\n",
            "      headers: { 'no name': x }\n",
            "loyalty.facade.yaml:17:18 “no name” is no name of a header field ()",
        ),
        (
            facade,
            "      query:\n        tier: =query.?tier\n",
            "      headers: { X-Tier: \"a\\nb\" }\n",
            "loyalty.facade.yaml:17:26 this text cannot stand in a header field ()",
        ),
        (
            facade,
            "      query:\n        tier: =query.?tier\n",
            "      headers: { X-Tier: =query.teir }\n",
            "loyalty.facade.yaml:17:33 the contract has no query parameter “teir” (did you mean “tier”?)",
        ),
        (
            facade,
            "=body.reason",
            "=body.raeson",
            "loyalty.facade.yaml:26:28 the request's body has no “raeson” (did you mean “reason”?)",
        ),
        (
            facade,
            "=body.reason",
            "=body.reason +",
            "loyalty.facade.yaml:26:36 a value is expected, not the end ()",
        ),
        (
            facade,
            "=body.reason",
            "=resaon",
            "loyalty.facade.yaml:26:23 “resaon” is not known here; known are path, query, header, body, caller, cookie, secret, terms, claims ()",
        ),
        (
            facade,
            "=body.reason",
            "=answer.body.reason",
            "loyalty.facade.yaml:26:23 “answer” is not known here; known are path, query, header, body, caller, cookie, secret, terms, claims ()",
        ),
        (
            facade,
            "=int(answer.body.balance['#text'])",
            "=itn(answer.body.balance['#text'])",
            "loyalty.facade.yaml:30:16 there is no function “itn”; did you mean “int”? ()",
        ),
        (
            facade,
            "per: address",
            "per: adress",
            "loyalty.facade.yaml:10:41 “adress” is not known here (known are consumer, agreement, key, account, address, facade, everyone)",
        ),
        (
            facade,
            "requests: 200",
            "requests: 0",
            "loyalty.facade.yaml:10:7 a limit of 0 lets nobody pass (pause the operation instead)",
        ),
        (
            facade,
            "window: 1m",
            "window: 0s",
            "loyalty.facade.yaml:10:32 “0s” is no duration: write a number and ms, s, m, h or d, as in 2m ()",
        ),
        (
            facade,
            "application/xml]",
            "text/xml]",
            "loyalty.facade.yaml:7:33 “text/xml” is not known here (known are application/json, application/xml)",
        ),
        (
            facade,
            "backend: loyalty, method: GET, path: /members }",
            "backend: loyalty, method: GET, path: /members }\n    body: x",
            "loyalty.facade.yaml:16:5 only gRPC calls have “body” (use `send` and `reply`)",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3",
            "loyalty.backend.yaml:9:10 “3” is no duration: write a number and ms, s, m, h or d, as in 2m ()",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3s\ntrust: our.pem",
            "loyalty.backend.yaml:10:8 there is no file “loyalty/our.pem” ()",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3s\ntrust: loyalty.facade.yaml",
            "loyalty.backend.yaml:10:8 “loyalty/loyalty.facade.yaml” holds no certificates in PEM ()",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3s\ncredentials: { calling: { headers: { X-Desk: [1] } } }",
            "loyalty.backend.yaml:10:46 the header X-Desk needs a text or a secret ()",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3s\ncredentials: { calling: { basic: { user: 'a:b', password: c } } }",
            "loyalty.backend.yaml:10:42 a user's name cannot hold a colon (the Basic scheme ends the name at the first colon (RFC 7617 §2))",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3s\ncredentials: { calling: { soap-headers: { Login: x } } }",
            "loyalty.backend.yaml:10:27 “soap-headers” has no meaning here (it is for SOAP backends)",
        ),
        (
            backend,
            "timeout: 3s",
            "timeout: 3s\nmax-message: 3MiB",
            "loyalty.backend.yaml:10:1 “max-message” has no meaning here (it is for gRPC backends)",
        ),
    ]);
}

#[test]
fn in_facades_of_soap() {
    let (facade, backend) = (
        "cargo/cargo-desk.facade.yaml",
        "cargo/cargo-desk.backend.yaml",
    );
    hold(&[
        (
            facade,
            "      consignment: =body\n",
            "      consignment: =path.x\n",
            "cargo-desk.facade.yaml:13:26 the path has no variable “x” ()",
        ),
        (
            facade,
            "      consignment: =body\n",
            "      consignment: { weight: heavy }\n",
            "cargo-desk.facade.yaml:13:7 BookConsignment's input needs “from” (add `from: …`)",
        ),
        (
            facade,
            "=answer.body.charge.value",
            "=answer.body.charge.valeu",
            "cargo-desk.facade.yaml:16:35 the answer's body at charge has no “valeu” (did you mean “value”?)",
        ),
        (
            facade,
            "=answer.body.consignments",
            "=answer.body.consignments.number",
            "cargo-desk.facade.yaml:22:38 the answer's body at consignments is a list, and has no “number” (take one with [0], or each with .map(x, x.number))",
        ),
        (
            facade,
            "=answer.body.label",
            "=answer.soapHeader.x",
            "cargo-desk.facade.yaml:34:20 the answer declares no SOAP header elements ()",
        ),
        (
            facade,
            "UnknownConsignment: 404",
            "UnknownConsigment: 404",
            "cargo-desk.facade.yaml:29:7 GetConsignment declares no fault “UnknownConsigment” (did you mean “UnknownConsignment”?)",
        ),
        (
            facade,
            "UnknownConsignment: 404",
            "UnknownConsignment: 200",
            "cargo-desk.facade.yaml:29:27 200 is no status of an error (faults are answered with 400 to 599)",
        ),
        (
            facade,
            "=body.note",
            "=body.note.text",
            "cargo-desk.facade.yaml:41:24 the request's body at note is string, and has no “text” ()",
        ),
        (
            facade,
            "      note: =body.note",
            "      note: =body.note\n    soap-headers: { Login: x }",
            "cargo-desk.facade.yaml:42:5 AddNote declares no SOAP headers ()",
        ),
        (
            facade,
            "      note: =body.note",
            "      note: =body.note\n    body: '*'",
            "cargo-desk.facade.yaml:42:5 only gRPC calls have “body” (use `send` and `reply`)",
        ),
        (
            facade,
            "operation: AddNote",
            "method: POST, path: /x",
            "cargo-desk.facade.yaml:38:11 a SOAP call names its operation (add `operation: NAME` of the definition)",
        ),
        (
            backend,
            "definition: cargo-desk-definition/cargo-desk.wsdl",
            "definition: cargo-desk-definition/cargo-desk.wsdl\nport: Lvie",
            "cargo-desk.backend.yaml:6:7 the definition has no port “Lvie” (did you mean “Live”?)",
        ),
        (
            backend,
            "definition: cargo-desk-definition/cargo-desk.wsdl",
            "definition: cargo-desk-definition/labels.xsd",
            "labels.xsd:2:1 this is no WSDL 1.1: its first element is <schema> (this is a schema; give the WSDL that imports it, or the folder or ZIP with both)",
        ),
        (
            "cargo/cargo-desk-definition/cargo-desk.wsdl",
            "consignment.xsd",
            "consignments.xsd",
            "cargo-desk.facade.yaml:11:45 BookConsignment cannot be called: no schema declares the type “Consignment” of namespace “urn:skerry-line:consignments:1” ()",
        ),
    ]);
}

#[test]
fn many_operations_that_the_contract_lacks_cost_what_they_are() {
    // Whoever sought the nearest name for each would be at it for minutes.
    let all = 0..5_000;
    let paths: String = all
        .clone()
        .map(|i| format!("  /p{i}: {{ get: {{ operationId: harbour{i}, responses: {{}} }} }}\n"))
        .collect();
    let wired: String = all
        .map(|i| {
            format!("  harvour{i}: {{ call: {{ backend: loyalty, method: GET, path: /w{i} }} }}\n")
        })
        .collect();
    let mut files = demo();
    let facade =
        "elm-porch: facade/1\nname: wide\nbase: /wide\ncontract: wide.openapi.yaml\noperations:\n";
    files.insert("wide.facade.yaml".into(), format!("{facade}{wired}"));
    let contract = "openapi: 3.1.0\ninfo: { title: Wide, version: '1' }\npaths:\n";
    files.insert("wide.openapi.yaml".into(), format!("{contract}{paths}"));
    let findings = check(&files, "live");
    let absent = |f: &&porch_contract::Finding| f.message.contains("has no operation");
    assert_eq!(findings.iter().filter(absent).count(), 5_000);
    let near = findings
        .iter()
        .filter(|f| f.help.contains("did you mean “harbour"));
    assert_eq!(near.count(), 50);
}
