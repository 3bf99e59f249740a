//! The ways to begin: a sample call, nothing at all, a definition by TLS; and backends that are asked whether they are there.

use std::fmt::Write;

use super::*;
use porch_standins::{Authority, Standin};
use porch_tests::Backend;

/// All files of a folder as one text.
fn all_of(folder: &std::path::Path) -> String {
    let mut text = String::new();
    for entry in std::fs::read_dir(folder).unwrap().flatten() {
        let read = std::fs::read_to_string(entry.path()).unwrap();
        write!(text, "{}\n{read}", entry.path().display()).unwrap();
    }
    text
}

#[test]
fn a_sample_call_becomes_a_facade_and_its_secrets_stand_nowhere_else() {
    let porch = Porch::start();
    let folder = porch.folder().join("sampled/echo");
    let (folder, backend) = (folder.as_path(), porch.timetable.as_ref().unwrap().address);
    let sample = format!(
        "curl -sS 'http://{backend}/echo?r=FAR-MAR&access_token=t0k3n' \\\n  -H 'X-Api-Key:  k3y-of-desk ' -u 'desk:light house' | jq ."
    );
    let derived = porch.client(
        &[
            "derive",
            &sample,
            "--name",
            "echo",
            "--keep-secrets",
            "-o",
            folder.to_str().unwrap(),
        ],
        "",
    );
    let told = format!("{}{}", stdout(&derived), stderr(&derived));
    assert!(derived.status.success(), "{told}");
    assert!(
        told.contains("no example of application/json is kept"),
        "{told}"
    );
    let text = all_of(folder);
    let secrets = [
        "t0k3n",
        "k3y-of-desk",
        "light house",
        "ZGVzazpsaWdodCBob3VzZQ",
    ];
    for secret in secrets {
        assert!(
            !text.contains(secret) && !told.contains(secret),
            "{secret}: {told}{text}"
        );
    }
    let names = porch.ok(&["secret", "list"]).to_string();
    for name in ["echo-access-token", "echo-x-api-key", "echo-password"] {
        assert!(
            names.contains(name) && text.contains(name),
            "{name}: {names}{text}"
        );
    }
    // The backend is shown all three, and the caller's own are not passed on in their place.
    porch.ok(&["push", porch.folder().join("sampled").to_str().unwrap()]);
    porch.ok(&["release", "echo", "--yes"]);
    porch.ok(&["consumer", "create", "Tide Clock"]);
    let key = porch.new_key("Tide Clock");
    let reply = porch.call("GET", "/echo/v1/echo?r=MAR-TER", &key, "");
    let got = reply.json();
    assert_eq!(got["uri"], "/echo?r=MAR-TER&access_token=t0k3n");
    assert_eq!(got["headers"]["x-api-key"], "k3y-of-desk");
    assert_eq!(
        got["headers"]["authorization"],
        "Basic ZGVzazpsaWdodCBob3VzZQ=="
    );
    // A trial run shows every step, and none of the secrets.
    let shown = porch.ok(&["try", "getEcho", "r=FAR-MAR"]).to_string();
    for secret in secrets {
        assert!(!shown.contains(secret), "{secret}: {shown}");
    }
    // What is set already stays, and that is told.
    let again = porch.client(
        &[
            "derive",
            &sample,
            "--name",
            "echo",
            "--keep-secrets",
            "--overwrite",
            "-o",
            folder.to_str().unwrap(),
        ],
        "",
    );
    assert!(
        stderr(&again).contains("echo-password is set already"),
        "{}",
        stderr(&again)
    );
}

#[test]
fn an_address_without_a_definition_is_a_sample_and_pasted_ones_come_by_standard_input() {
    let porch = Porch::start();
    let backend = porch.timetable.as_ref().unwrap().address;
    let target = format!("http://{backend}/tt?r=FAR-MAR&d=2027-05-14");
    let look = porch.client(&["--json", "look", &target], "");
    let value: Value = serde_json::from_slice(&look.stdout).unwrap();
    assert_eq!(value["operations"][0]["path"], "/tt", "{}", stderr(&look));
    assert_eq!(
        value["operations"][0]["inputs"][1]["type"], "string (date)",
        "{value}"
    );
    let pasted = format!("curl '{target}'\ncurl 'http://{backend}/tt?r=XXX&d=2027-05-14'\n");
    let look = porch.client(&["look", "-"], &pasted);
    assert!(stdout(&look).contains("getTt"), "{}", stderr(&look));
    assert!(stderr(&look).contains("answers 404"), "{}", stderr(&look));
    let wrong = porch.client(&["look", "curl -d @secret.json http://h/"], "");
    assert!(
        stderr(&wrong).contains("not read from files"),
        "{}",
        stderr(&wrong)
    );
}

#[test]
fn what_a_catalogue_lists_is_published_from_the_address_of_its_server() {
    let porch = Porch::start();
    let backend = porch.timetable.as_ref().unwrap().address;
    let address = format!("http://{backend}/");
    let folder = porch.folder().join("listed/days");
    let derived = porch.client(
        &[
            "derive",
            &address,
            "--name",
            "days",
            "-o",
            folder.to_str().unwrap(),
        ],
        "",
    );
    let told = stderr(&derived);
    assert!(derived.status.success(), "{told}");
    assert!(told.contains("openapi.json, in its catalogue"), "{told}");
    porch.ok(&["push", porch.folder().join("listed").to_str().unwrap()]);
    porch.ok(&["release", "days", "--yes"]);
    porch.ok(&["consumer", "create", "Tide Clock"]);
    let key = porch.new_key("Tide Clock");
    let day = porch.call("GET", "/days/v1/tt?r=FAR-MAR&d=2027-05-14", &key, "");
    assert_eq!(day.json()["departures"][0], "06:40", "{}", day.text());
    // The same by the console's API, and what is no server of its own is listed to be chosen from.
    let look = json!({ "url": address, "allow_local": true });
    let looked = porch.api("POST", "/api/look", &look).json();
    assert_eq!(looked["operations"][0]["path"], "/tt", "{looked}");
    assert!(
        looked["notes"][0].as_str().unwrap().contains("catalogue"),
        "{looked}"
    );
    let fleet = porch.vessels.as_ref().unwrap().address;
    let told = porch.client(&["look", &format!("http://{fleet}")], "");
    assert!(stderr(&told).contains("by reflection"), "{}", stderr(&told));
    assert!(
        stdout(&told).contains("skerry.fleet.v1.Fleet"),
        "{}",
        stdout(&told)
    );
}

#[test]
fn a_facade_answers_before_its_backend_exists_and_is_then_wired() {
    let porch = Porch::start();
    let folder = porch.folder().join("begun/departures");
    let place = folder.to_str().unwrap();
    let backend = porch.timetable.as_ref().unwrap().address;
    porch.ok(&[
        "new",
        "departures",
        r#"GET /tt?r=FAR-MAR&d=2027-05-14 {"route":"FAR-MAR","departures":["05:00"]}"#,
        "-o",
        place,
    ]);
    let again = porch.client(&["new", "departures", "-o", place], "");
    assert!(
        stderr(&again).contains("is there already"),
        "{}",
        stderr(&again)
    );
    let checked = porch.client(&["check", place], "");
    assert!(
        checked.status.success() && stdout(&checked).contains("calls nothing"),
        "{}",
        stdout(&checked)
    );
    let facade = folder.join("departures.facade.yaml");
    let text = std::fs::read_to_string(&facade).unwrap();
    let limited = text.replace(
        "credentials: [key]",
        "credentials: [key]\n  limits: [{ requests: 2, window: 1h }]",
    );
    std::fs::write(&facade, &limited).unwrap();
    let release = || {
        porch.ok(&["push", porch.folder().join("begun").to_str().unwrap()]);
        porch.ok(&["release", "departures", "--yes"]);
    };
    release();
    porch.ok(&["consumer", "create", "Tide Clock"]);
    let key = porch.new_key("Tide Clock");
    let get = || porch.call("GET", "/departures/v1/tt?r=FAR-MAR&d=2027-05-14", &key, "");
    let first = get();
    assert_eq!(
        (first.status, &first.json()["departures"]),
        (200, &json!(["05:00"]))
    );
    assert_eq!(
        first.headers["elm-porch-answered-by"],
        "contract;example=\"sample\""
    );
    // Keys and limits count, and requests are held against the contract.
    assert_eq!(porch.call("GET", "/departures/v1/tt", "", "").status, 401);
    assert_eq!(
        porch.call("GET", "/departures/v1/tt?rr=1", &key, "").status,
        400
    );
    // What was refused used up nothing.
    assert_eq!([get().status, get().status], [200, 429]);
    let shown = porch.client(&["try", "getTt", "r=FAR-MAR", "d=2027-05-14"], "");
    assert!(
        stdout(&shown).contains("calls nothing: the contract's example “sample” is answered"),
        "{}",
        stdout(&shown)
    );
    // One line, and a backend, and it is real.
    let wired = text.replace("getTt: {}", "getTt: { call: { backend: departures } }");
    std::fs::write(&facade, wired).unwrap();
    let document =
        format!("elm-porch: backend/1\nname: departures\nkind: http\naddress: http://{backend}\n");
    std::fs::write(folder.join("departures.backend.yaml"), document).unwrap();
    release();
    let real = get();
    assert_eq!(
        (real.status, &real.json()["departures"][0]),
        (200, &json!("06:40"))
    );
    assert!(!real.headers.contains_key("elm-porch-answered-by"));
}

#[test]
fn backends_by_tls_are_looked_at_called_and_asked_with_an_authority_of_one_s_own() {
    let porch = Porch::start();
    let authority = Arc::new(Authority::new().unwrap());
    let trust = porch.folder().join("ca.pem");
    std::fs::write(&trust, &authority.pem).unwrap();
    let secure = Backend::start_secure(Standin::Reservations, &authority);
    let port = secure.address.port();
    let definition = format!("https://localhost:{port}/reservations?wsdl");
    let refused = porch.client(&["look", &definition], "");
    let told = stderr(&refused);
    assert!(
        told.contains("certificate is not trusted") && told.contains("--trust FILE"),
        "{told}"
    );
    let folder = porch.folder().join("secure/bookings");
    // The definition says by itself that it is called by TLS.
    porch.ok(&[
        "derive",
        &definition,
        "--trust",
        trust.to_str().unwrap(),
        "--name",
        "bookings",
        "-o",
        folder.to_str().unwrap(),
    ]);
    // An update with the same trust asks for nothing.
    let updated = porch.ok(&[
        "derive",
        &definition,
        "--trust",
        trust.to_str().unwrap(),
        "--name",
        "bookings",
        "--update",
        "-o",
        folder.to_str().unwrap(),
    ]);
    assert_eq!(updated["written"], json!([]), "{updated}");
    for (name, value) in [
        ("bookings-user", "quay-desk"),
        ("bookings-password", "tide & tackle"),
    ] {
        porch.ok_with(&["secret", "set", name], value);
    }
    porch.ok(&["push", porch.folder().join("secure").to_str().unwrap()]);
    porch.ok(&["release", "bookings", "--yes"]);
    porch.ok(&["consumer", "create", "Tide Clock"]);
    let key = porch.new_key("Tide Clock");
    let fare = porch.call(
        "GET",
        "/bookings/v1/fares/FAR-MAR?fareClass=foot&passengers=2",
        &key,
        "",
    );
    assert_eq!(fare.status, 200, "{}", fare.text());
    let probed = porch.client(&["backend", "probe", "bookings"], "");
    let text = stdout(&probed);
    assert!(probed.status.success(), "{text}");
    for part in [
        "TLS 1.3",
        "Skerry Line backends",
        "holds until 2032-01-01",
        "the SOAP header login",
    ] {
        assert!(text.contains(part), "{part}: {text}");
    }
    // Without its authority, and when it is gone.
    let backend = folder.join("bookings.backend.yaml");
    let document = std::fs::read_to_string(&backend).unwrap();
    std::fs::write(&backend, document.replace("trust: trust.pem\n", "")).unwrap();
    porch.ok(&["push", porch.folder().join("secure").to_str().unwrap()]);
    let probed = porch.client(&["backend", "probe", "bookings"], "");
    assert_eq!(probed.status.code(), Some(1));
    assert!(
        stdout(&probed).contains("certificate is not trusted"),
        "{}",
        stdout(&probed)
    );
    drop(secure);
    let probed = porch.client(&["backend", "probe", "bookings"], "");
    assert!(
        stdout(&probed).contains("nothing answers there"),
        "{}",
        stdout(&probed)
    );
    let near = porch.client(&["backend", "probe", "booking"], "");
    assert!(
        stderr(&near).contains("did you mean “bookings”?"),
        "{}",
        stderr(&near)
    );
}

#[test]
fn a_login_for_the_definition_is_none_for_calls_and_that_is_told() {
    let porch = Porch::start();
    let desk = porch.cargo_desk.as_ref().unwrap().address;
    let definition = format!("http://{desk}/cargo-desk?wsdl");
    let folder = porch.folder().join("read");
    let place = folder.to_str().unwrap();
    let derived = porch.client(
        &["derive", &definition, "--login", "desk:l1ght", "-o", place],
        "",
    );
    let told = stdout(&derived);
    assert!(
        told.contains("the definition was read as desk; calls carry no credential"),
        "{told}{}",
        stderr(&derived)
    );
    assert!(!told.contains("l1ght"), "{told}");
}

#[test]
fn backends_of_every_kind_say_whether_they_are_there() {
    let (porch, _) = Porch::published();
    let listed = porch.ok(&["backend", "list"]);
    let names: Vec<&str> = listed
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|b| b["name"].as_str())
        .collect();
    assert_eq!(
        names,
        [
            "cargo-desk",
            "chart",
            "loyalty",
            "reservations",
            "tides",
            "timetable",
            "timetable-next",
            "vessels"
        ]
    );
    for (name, told) in [
        ("reservations", "200 OK"),
        ("timetable", "404"),
        ("vessels", "12 UNIMPLEMENTED"),
    ] {
        let probed = porch.ok(&["backend", "probe", name]);
        let first = &probed["addresses"][0];
        assert_eq!(first["reached"], true, "{probed}");
        assert!(
            first["told"].as_str().unwrap().starts_with(told),
            "{probed}"
        );
    }
}

/// Cookies that a contract demands are filled in by a trial, or given by name, and the field table lists them.
#[test]
fn cookies_are_inputs_of_a_trial() {
    let porch = Porch::start();
    let folder = porch.folder().join("desks");
    std::fs::create_dir_all(&folder).unwrap();
    let contract = r#"openapi: 3.1.0
info: { title: Desks, version: 1.0.0 }
paths:
  /desks/{desk}:
    get:
      operationId: oneDesk
      parameters:
        - { name: desk, in: path, required: true, schema: { type: string } }
        - { name: shift, in: cookie, required: true, schema: { type: string, enum: [early, late] } }
        - { name: tongue, in: cookie, schema: { type: string, maxLength: 3 } }
      responses:
        '200': { description: A desk., content: { application/json: { example: { open: true } } } }
"#;
    let facade = "elm-porch: facade/1\nname: desks\nbase: /desks/v1\ncontract: desks.openapi.yaml\noperations: { oneDesk: {} }\n";
    std::fs::write(folder.join("desks.openapi.yaml"), contract).unwrap();
    std::fs::write(folder.join("desks.facade.yaml"), facade).unwrap();
    porch.ok(&["push", folder.to_str().unwrap()]);
    let tried = |values: &[&str]| {
        let arguments = [&["try", "oneDesk"], values].concat();
        let output = porch.client(&arguments, "");
        format!("{}{}", stdout(&output), stderr(&output))
    };
    let filled = tried(&["desk=7"]);
    assert!(
        filled.contains("shift=early") && filled.contains("200"),
        "{filled}"
    );
    let given = tried(&["desk=7", "shift=late", "tongue=nn"]);
    assert!(given.contains("200") && !given.contains("early"), "{given}");
    let wrong = tried(&["desk=7", "shift=noon", "tongue=nynorsk"]);
    for told in ["400", "/cookie/shift", "/cookie/tongue"] {
        assert!(wrong.contains(told), "{told}: {wrong}");
    }
    let unknown = tried(&["desk=7", "shfit=late"]);
    assert!(unknown.contains("did you mean “shift”?"), "{unknown}");
    let shown = porch
        .api("GET", "/api/facades/desks/operations/oneDesk", &Value::Null)
        .text();
    assert!(
        shown.contains("cookie shift") && shown.contains("cookie tongue"),
        "{shown}"
    );
}
