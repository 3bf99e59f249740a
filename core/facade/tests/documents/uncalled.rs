//! Operations that call nothing.

use super::*;

const CONTRACT: &str = "openapi: 3.1.0
info: { title: Berths, version: 1.0.0 }
paths:
  /berths:
    get:
      operationId: berths
      responses:
        '200':
          description: berths
          content:
            application/json:
              schema: { type: array, items: { type: object, required: [berth], properties: { berth: { type: string } } } }
              examples: { good: { value: [{ berth: N7 }] }, bad: { value: [{ berth: 7 }] } }
            application/xml: { example: { berth: N7 } }
";

fn files(operations: &str) -> Files {
    Files::from([
        ("berths.openapi.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "berths.facade.yaml".to_owned(),
            format!(
                "elm-porch: facade/1\nname: berths\nbase: /berths/v1\ncontract: berths.openapi.yaml\noperations:\n{operations}"
            ),
        ),
    ])
}

fn told(operations: &str) -> Vec<(Severity, String)> {
    let findings = check(&files(operations), "live");
    findings
        .into_iter()
        .map(|f| (f.severity, f.message))
        .collect()
}

#[test]
fn an_operation_without_a_call_is_told_and_so_is_an_example_that_does_not_fit() {
    for nothing in ["  berths:\n", "  berths: {}\n"] {
        let told = told(nothing);
        let has = |part: &str| {
            told.iter()
                .any(|(s, m)| *s == Severity::Warning && m.contains(part))
        };
        assert!(!told.iter().any(|(s, _)| *s == Severity::Error), "{told:?}");
        assert!(has("“berths” calls nothing"), "{told:?}");
        assert!(
            has("the example “bad” of 200 does not fit its schema: /0/berth"),
            "{told:?}"
        );
        assert!(has("an example of application/xml is a text"), "{told:?}");
    }
}

#[test]
fn what_belongs_to_a_call_has_no_meaning_without_one() {
    let told =
        told("  berths: { send: { query: { a: '=query.a' } }, reply: { x: '=answer.body' } }\n");
    for key in ["send", "reply"] {
        let message = format!("“{key}” has no meaning without a `call`");
        assert!(told.contains(&(Severity::Error, message)), "{told:?}");
    }
    let misspelt = self::told("  berths: { cal: { backend: b } }\n");
    assert!(
        misspelt
            .iter()
            .any(|(s, m)| *s == Severity::Error && m.contains("cal")),
        "{misspelt:?}"
    );
}

#[test]
fn examples_that_stand_in_many_places_are_there_once() {
    // A hundred operations, each with the same large example, which is referred to.
    let large = format!("\"{}\"", "x".repeat(2 << 20));
    let operations: String = (0..100).map(|n| format!("  o{n}: {{}}\n")).collect();
    let paths: String = (0..100)
        .map(|n| format!("  /o{n}: {{ get: {{ operationId: o{n}, responses: {{ '200': {{ description: d, content: {{ application/json: {{ examples: {{ a: {{ $ref: '#/components/examples/A' }} }} }} }} }} }} }} }}\n"))
        .collect();
    let contract = format!(
        "openapi: 3.1.0\ninfo: {{ title: x, version: '1' }}\npaths:\n{paths}components: {{ examples: {{ A: {{ value: {large} }} }} }}\n"
    );
    let mut files = files(&operations);
    files.insert("berths.openapi.yaml".to_owned(), contract);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&["berths"], &Secrets::Placeholder);
    assert!(!has_errors(&findings), "{:?}", findings.first());
    let bodies: Vec<*const u8> = porch.facades[0]
        .operations
        .iter()
        .map(|o| o.examples.as_ref().unwrap().all[0].body.as_ptr())
        .collect();
    assert_eq!(bodies.len(), 100);
    assert!(bodies.iter().all(|b| *b == bodies[0]));
}

#[test]
fn a_text_is_written_as_each_media_type_has_it() {
    let contract = "openapi: 3.1.0
info: { title: x, version: '1' }
paths:
  /o:
    get:
      operationId: o
      responses:
        '200':
          description: d
          content:
            application/json: { examples: { a: { $ref: '#/components/examples/A' } } }
            text/plain: { examples: { a: { $ref: '#/components/examples/A' } } }
components: { examples: { A: { value: 'low tide' } } }
";
    let mut files = files("  o: {}\n");
    files.insert("berths.openapi.yaml".to_owned(), contract.to_owned());
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&["berths"], &Secrets::Placeholder);
    assert!(!has_errors(&findings), "{findings:?}");
    let examples = porch.facades[0].operations[0].examples.as_ref().unwrap();
    let bodies: Vec<&[u8]> = examples.all.iter().map(|e| &e.body[..]).collect();
    assert_eq!(bodies, [&b"\"low tide\""[..], b"low tide"]);
}

#[test]
fn more_examples_than_there_is_room_for_are_an_error_that_is_told_once() {
    let large = "x".repeat(11 << 20);
    let operations: String = (0..12).map(|n| format!("  o{n}: {{}}\n")).collect();
    let paths: String = (0..12)
        .map(|n| format!("  /o{n}: {{ get: {{ operationId: o{n}, responses: {{ '200': {{ description: d, content: {{ text/plain: {{ example: \"{n}{large}\" }} }} }} }} }} }}\n"))
        .collect();
    let contract = format!("openapi: 3.1.0\ninfo: {{ title: x, version: '1' }}\npaths:\n{paths}");
    let mut files = files(&operations);
    files.insert("berths.openapi.yaml".to_owned(), contract);
    let found = check(&files, "live");
    let errors: Vec<&Finding> = found
        .iter()
        .filter(|f| f.severity == Severity::Error)
        .collect();
    assert_eq!(errors.len(), 1, "{}", errors.len());
    assert!(
        errors[0].message.contains("more than 64 MiB"),
        "{}",
        errors[0].message
    );
}

#[test]
fn what_is_shown_by_tls_only_is_told_where_there_is_none() {
    let mut files = demo();
    files.insert(
        "timetable/own.pem".into(),
        "-----BEGIN CERTIFICATE-----\n".into(),
    );
    let backend = files.get_mut("timetable/timetable.backend.yaml").unwrap();
    backend.push_str("server-name: tt.example\ncredentials: { calling: { certificate: { file: own.pem, key: { secret: tt-key } } } }\n");
    let findings = check(&files, "live");
    let told: Vec<_> = findings
        .iter()
        .map(|f| (f.severity, f.message.as_str()))
        .collect();
    for part in [
        "a server's name is looked at by TLS only",
        "a certificate is shown by TLS only",
    ] {
        assert!(
            told.iter()
                .any(|(s, m)| *s == Severity::Warning && m.contains(part)),
            "{told:?}"
        );
    }
    files.remove("timetable/own.pem");
    let findings = check(&files, "live");
    assert!(
        findings
            .iter()
            .any(|f| f.message.contains("there is no file “timetable/own.pem”")),
        "{findings:?}"
    );
}

#[test]
fn connections_are_counted_where_there_are_any() {
    let told = |file: &str, more: &str, address: &str| {
        let mut files = demo();
        let backend = files.get_mut(file).unwrap();
        backend.push_str(more);
        // The environment has the address.
        let environment = files.get_mut("live.environment.yaml").unwrap();
        *environment = environment.replace("http://127.0.0.1:3851", address);
        let findings = check(&files, "live");
        let told = findings
            .iter()
            .map(|f| format!("{:?} {}", f.severity, f.message));
        told.collect::<Vec<_>>().join("\n")
    };
    let timetable = "timetable/timetable.backend.yaml";
    let plain = "http://127.0.0.1:3851";
    assert_eq!(told(timetable, "connections: 2\n", plain), "");
    for (more, address, says) in [
        (
            "connections: 0\n",
            plain,
            "Error a backend takes at least one connection",
        ),
        (
            "connections: 2\nhttp2: true\n",
            plain,
            "Warning where connections are counted HTTP/2 is not offered",
        ),
        (
            "connections: 2\n",
            "facade:sailings",
            "Warning a facade of this porch is called without connections",
        ),
    ] {
        let told = told(timetable, more, address);
        assert!(told.contains(says), "{more}{told}");
    }
}

#[test]
fn bodies_that_are_held_to_no_schema_are_told() {
    let mut files = demo();
    let contract = files.get_mut("timetable/timetable.openapi.yaml").unwrap();
    let json = "{ application/json: { schema: { type: object } } }";
    assert!(contract.contains(json), "{contract}");
    let xml = "{ application/xml: { schema: { type: object, required: [text] } } }";
    *contract = contract.replace(json, xml);
    let notes: Vec<_> = check(&files, "live")
        .into_iter()
        .filter(|f| f.severity == Severity::Note)
        .collect();
    assert_eq!(notes.len(), 1, "{notes:?}");
    assert!(
        notes[0].message.contains("bodies of application/xml")
            && notes[0].message.contains("“notice”"),
        "{notes:?}"
    );
    assert!(notes[0].line > 1 && notes[0].file.ends_with("timetable.openapi.yaml"));
    let none = check(&demo(), "live");
    assert!(
        none.iter().all(|f| f.severity != Severity::Note),
        "{none:?}"
    );
}
