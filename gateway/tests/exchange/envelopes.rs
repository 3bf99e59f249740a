//! SOAP: what callers get of answers that say nothing, and of header elements that do not fit.

use super::*;

const LOCKERS: &str = include_str!("../fixtures/lockers.wsdl");

fn xml(body: &str) -> Vec<u8> {
    let body = format!(
        "<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body>{body}</s:Body></s:Envelope>"
    );
    let length = body.len();
    format!("HTTP/1.1 200 OK\r\nContent-Type: text/xml\r\nContent-Length: {length}\r\n\r\n{body}")
        .into_bytes()
}

/// The lockers' facade over a backend, its documents changed.
fn lockers(backend: &Scripted, edit: impl Fn(&mut Files)) -> Stage {
    let source = porch_facade::Source {
        files: Files::from([("lockers.wsdl".to_owned(), LOCKERS.to_owned())]),
        main: "lockers.wsdl".into(),
        ..Default::default()
    };
    let address = format!("http://{}/desk", backend.address);
    let mut files = porch_facade::derive(&source, "lockers", Some(&address), &[])
        .unwrap()
        .files;
    for text in files.values_mut() {
        *text = text.replace("admit:\n  credentials: [key]\n", "");
    }
    edit(&mut files);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    assert_eq!(model.documents.findings, []);
    let secrets = [
        ("number", " 7"),
        ("open", "true"),
        ("name", "0815"),
        ("shift", "3"),
    ];
    let secrets = secrets.map(|(name, value)| (format!("lockers-{name}"), value.to_owned()));
    let (porch, findings) = model.porch(&["lockers"], &Secrets::Known(&secrets.into()));
    assert!(!porch_contract::has_errors(&findings), "{findings:?}");
    Stage::of(porch)
}

const LOCKER: &str = "{\"number\": 4, \"from\": \"2027-05-14+01:00\"}";

fn close(stage: &Stage, fields: &str) -> String {
    let (n, body) = (LOCKER.len(), LOCKER);
    stage.raw(
        format!("POST /lockers/v1/close-locker HTTP/1.1\r\nHost: x\r\nConnection: close\r\nContent-Type: application/json\r\n{fields}Content-Length: {n}\r\n\r\n{body}")
            .as_bytes(),
    )
}

#[test]
fn a_wrapper_without_anything_in_it_is_no_content() {
    let (seen, asked) = std::sync::mpsc::channel();
    let backend = Scripted::start(move |_, request| {
        let _ = seen.send(request.to_owned());
        xml("<CloseLockerResponse xmlns=\"urn:t\"/>")
    });
    let stage = lockers(&backend, |_| ());
    let answer = close(&stage, "");
    assert_eq!(status(&answer), 204, "{answer}");
    assert!(answer.ends_with("\r\n\r\n"), "{answer}");
    // Secrets are texts; the header elements have the form of their types.
    let request = asked.recv().unwrap();
    for wanted in [":Number>7<", ":Open>true<", ":Name>0815<", ":Shift>3<"] {
        assert!(request.contains(wanted), "{wanted}: {request}");
    }
}

#[test]
fn a_header_element_that_does_not_fit_is_not_the_bodys_fault() {
    let backend = Scripted::start(|_, _| xml("<CloseLockerResponse xmlns=\"urn:t\"/>"));
    let stage = lockers(&backend, |files| {
        let facade = files.get_mut("lockers.facade.yaml").unwrap();
        let headers = "    soap-headers: { shift: \"=int(header[?'shift'].orValue('3'))\", desk: { number: 1, open: true, name: \"=header.?desk\" } }\n    call:\n";
        *facade = facade.replace("    call:\n", headers);
    });
    assert_eq!(status(&close(&stage, "Shift: 4\r\nDesk: north\r\n")), 204);
    // Without the field, its element lacks a member.
    let answer = close(&stage, "Shift: 4\r\n");
    assert_eq!(status(&answer), 400, "{answer}");
    assert!(
        answer.contains("\"pointer\":\"/soap-headers/desk"),
        "{answer}"
    );
    assert!(!answer.contains("\"/body"), "{answer}");
}
