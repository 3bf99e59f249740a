//! The demo's documents: checked, broken on purpose, compiled, derived.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod addresses;
mod again;
mod cache;
mod callers;
mod dated;
mod definitions;
mod described;
mod edited;
mod examples;
mod lent;
mod messages;
mod mistakes;
mod networks;
mod offers;
mod pages;
mod routing;
mod several;
mod shared;
mod spread;
mod substituted;
mod uncalled;
mod well;
mod worded;

use std::any::Any;
use std::collections::HashMap;
use std::sync::Arc;

use porch_contract::{Finding, Severity, has_errors};
use porch_facade::kind::soap::SoapCall;
use porch_facade::{Allowed, Choices, Shaped};
use porch_facade::{Files, Library, Model, Secrets, Source, check, derive, effective, look, table};

fn demo() -> Files {
    let mut files = Files::new();
    for (name, text) in [
        (
            "sailings/reservations.backend.yaml",
            include_str!("../../../../demo/documents/sailings/reservations.backend.yaml"),
        ),
        (
            "sailings/reservations.wsdl",
            include_str!("../../../../demo/documents/sailings/reservations.wsdl"),
        ),
        (
            "sailings/sailings.facade.yaml",
            include_str!("../../../../demo/documents/sailings/sailings.facade.yaml"),
        ),
        (
            "sailings/sailings.openapi.yaml",
            include_str!("../../../../demo/documents/sailings/sailings.openapi.yaml"),
        ),
        (
            "timetable/timetable.backend.yaml",
            include_str!("../../../../demo/documents/timetable/timetable.backend.yaml"),
        ),
        (
            "timetable/timetable-next.backend.yaml",
            include_str!("../../../../demo/documents/timetable/timetable-next.backend.yaml"),
        ),
        (
            "timetable/timetable.facade.yaml",
            include_str!("../../../../demo/documents/timetable/timetable.facade.yaml"),
        ),
        (
            "timetable/timetable.openapi.yaml",
            include_str!("../../../../demo/documents/timetable/timetable.openapi.yaml"),
        ),
        (
            "live.environment.yaml",
            include_str!("../../../../demo/documents/live.environment.yaml"),
        ),
    ] {
        files.insert(name.to_owned(), text.to_owned());
    }
    files
}

fn model(files: Files) -> Model {
    Model::read(Arc::new(files), "live", &Arc::default())
}

/// The demo with one text of one file replaced; the text must be there.
fn changed(file: &str, from: &str, to: &str) -> Vec<Finding> {
    let mut files = demo();
    let text = files.get_mut(file).unwrap();
    assert!(text.contains(from), "{from} is not in {file}");
    *text = text.replacen(from, to, 1);
    check(&files, "live")
}

fn first(findings: &[Finding]) -> String {
    findings.first().map_or_else(
        || "nothing found".into(),
        |f| {
            format!(
                "{}:{}:{} {} ({})",
                f.file, f.line, f.column, f.message, f.help
            )
        },
    )
}

#[test]
fn the_demo_is_right() {
    assert_eq!(check(&demo(), "live"), []);
}

#[test]
fn secrets_are_filled_in_or_missed_by_name() {
    let known = HashMap::from([
        ("reservations-user".to_owned(), "porch".to_owned()),
        ("reservations-pasword".to_owned(), "x".to_owned()),
    ]);
    let (_, findings) = model(demo()).porch(&["sailings"], &Secrets::Known(&known));
    assert_eq!(
        first(&findings),
        "sailings/reservations.backend.yaml:14:19 the environment has no secret “reservations-password” (did you mean “reservations-pasword”?)"
    );
}

#[test]
fn a_bundle_compiles_on_its_own() {
    let own = model(demo()).bundle("sailings").unwrap();
    assert_eq!(
        own.keys().map(String::as_str).collect::<Vec<_>>(),
        [
            "sailings/reservations.backend.yaml",
            "sailings/reservations.wsdl",
            "sailings/sailings.facade.yaml",
            "sailings/sailings.openapi.yaml"
        ]
    );
    let checked = model(own).facade("sailings").unwrap();
    assert_eq!(checked.findings, []);
    let sailings = checked.compiled.as_ref().unwrap();
    assert_eq!(sailings.operations.len(), 5);
    let quote = sailings.operation("quoteFare").unwrap();
    let rules: Vec<_> = effective(sailings, quote)
        .into_iter()
        .map(|r| {
            format!(
                "{} | {} | {} | {}",
                r.stage, r.place.rule, r.place.reach, r.place.line
            )
        })
        .collect();
    assert_eq!(
        rules[..5],
        [
            "match | GET /sailings/v2/fares/{route}/{fareClass} | operation quoteFare | 13",
            "admit | a key is demanded in the header API-Key | facade sailings | 7",
            "admit | limit =terms.?requests.orValue(7) in 90s per consumer | facade sailings | 9",
            "admit | limit =terms.?hourly.orValue(12000) in 1h per consumer | facade sailings | 10",
            "admit | body at most 1048576 bytes | everywhere | 0",
        ]
    );
    let call: &dyn Any = &*quote.steps[0].call;
    let soap = call.downcast_ref::<SoapCall>().unwrap();
    assert_eq!(
        soap.envelope.soap_action.as_deref(),
        Some("\"urn:skerry-line:reservations:3/QuoteFare\"")
    );
}

#[test]
fn a_table_shows_the_callers_fields_beside_the_backends() {
    let table = table(&model(demo()), "sailings", "quoteFare").unwrap();
    let rows: Vec<_> = table
        .request
        .iter()
        .map(|r| {
            format!(
                "{} {} | {} | {} {}",
                r.caller, r.caller_type, r.what, r.backend, r.backend_type
            )
        })
        .collect();
    assert_eq!(
        rows,
        [
            "path route string | as it is | RouteCode string",
            "path fareClass string (foot, bicycle, car, cabin) | as it is | FareClass string (foot, bicycle, car, cabin)",
            "query passengers integer | =query.?passengers.orValue(1) | Passengers integer"
        ]
    );
    let rows: Vec<_> = table
        .reply
        .iter()
        .map(|r| {
            format!(
                "{} {} | {} | {} {}",
                r.caller, r.caller_type, r.what, r.backend, r.backend_type
            )
        })
        .collect();
    assert_eq!(
        rows[1..],
        [
            "fare number | as it is | Fare.Amount number",
            "currency string | as it is | Fare.Currency string",
            "validUntil string (date) | as it is | Fare.ValidUntil string (date)"
        ]
    );
    assert_eq!(
        serde_json::to_string(&table.sample).unwrap(),
        r#"{"path":{"route":"FAR-MAR","fareClass":"foot"},"query":{"passengers":1},"cookies":{}}"#
    );
}

fn wsdl() -> Source {
    Source {
        files: Files::from([(
            "in.wsdl".to_owned(),
            demo()["sailings/reservations.wsdl"].clone(),
        )]),
        main: "in.wsdl".into(),
        ..Source::default()
    }
}

#[test]
fn looking_shows_operations_with_inputs_and_outputs() {
    let found = look(&wsdl()).unwrap();
    assert_eq!(
        (
            found.kind,
            found.title.as_str(),
            found.operations.len(),
            found.findings.len()
        ),
        ("soap", "Reservations", 6, 0)
    );
    let quote = &found.operations[1];
    assert_eq!(
        (
            quote.id.as_str(),
            quote.method.as_str(),
            quote.path.as_str(),
            quote.source.as_str()
        ),
        ("quoteFare", "GET", "/fares/{routeCode}", "QuoteFare")
    );
    assert_eq!(
        quote
            .inputs
            .iter()
            .map(|f| format!("{}: {}", f.name, f.kind))
            .collect::<Vec<_>>(),
        [
            "RouteCode: string",
            "FareClass: string (foot, bicycle, car, cabin)",
            "Passengers: integer"
        ]
    );
    assert!(
        look(&Source {
            files: Files::from([("x".to_owned(), "hello".to_owned())]),
            main: "x".into(),
            ..Source::default()
        })
        .is_err()
    );
}

#[test]
fn what_is_derived_passes_the_check_as_it_is() {
    let derived = derive(&wsdl(), "reservations", None, &[]).unwrap();
    assert_eq!(derived.operations, 6);
    let findings = check(&derived.files, "live");
    assert_eq!(
        findings
            .iter()
            .filter(|f| f.severity != Severity::Note)
            .map(|f| first(std::slice::from_ref(f)))
            .collect::<Vec<_>>(),
        Vec::<String>::new()
    );
    let one = derive(
        &wsdl(),
        "fares",
        Some("http://127.0.0.1:9"),
        &["QuoteFare".into()],
    )
    .unwrap();
    assert!(!one.files["fares.openapi.yaml"].contains("Sailing"));
    assert_eq!(check(&one.files, "live"), []);
    let openapi = Source {
        files: Files::from([(
            "t.yaml".to_owned(),
            demo()["timetable/timetable.openapi.yaml"].clone(),
        )]),
        main: "t.yaml".into(),
        ..Source::default()
    };
    let derived = derive(&openapi, "tt", Some("http://127.0.0.1:1"), &[]).unwrap();
    assert_eq!(check(&derived.files, "live"), []);
}

/// What a change costs: only what stands on it is made anew, and no definition is read again for a secret.
#[test]
fn a_change_compiles_what_stands_on_it_and_nothing_else() {
    let library = Arc::new(Library::default());
    let secrets = |password: &str| {
        HashMap::from([
            ("reservations-user".to_owned(), "quay-desk".to_owned()),
            ("reservations-password".to_owned(), password.to_owned()),
        ])
    };
    let compiled = |files: Files, password: &str| {
        let model = Model::read(Arc::new(files), "live", &library);
        let secrets = secrets(password);
        let of = |name: &str| {
            let checked = model.compile(name, &Secrets::Known(&secrets)).unwrap();
            assert_eq!(checked.findings, []);
            (checked.clone(), checked.compiled.clone().unwrap())
        };
        (of("sailings"), of("timetable"))
    };
    let (sailings, timetable) = compiled(demo(), "tide & tackle");
    // Nothing changed: the very same.
    let (again, _) = compiled(demo(), "tide & tackle");
    assert!(Arc::ptr_eq(&sailings.1, &again.1));
    // Another secret: the facade that is called with it is made anew, from the definition that was read before.
    let (other, same) = compiled(demo(), "fog & fender");
    assert!(!Arc::ptr_eq(&sailings.1, &other.1) && Arc::ptr_eq(&timetable.1, &same.1));
    assert!(Arc::ptr_eq(
        &sailings.1.definitions[0],
        &other.1.definitions[0]
    ));
    assert_ne!(sailings.1.backends[0].identity, 0);
    // Another text in one facade's documents: that one.
    let mut files = demo();
    let text = files.get_mut("timetable/timetable.facade.yaml").unwrap();
    *text = text.replace("title: Timetable", "title: Times");
    let (same, other) = compiled(files, "fog & fender");
    assert!(!Arc::ptr_eq(&timetable.1, &other.1));
    assert!(Arc::ptr_eq(
        &same.1.definitions[0],
        &sailings.1.definitions[0]
    ));
    // Another address in the environment: those that call it.
    let mut files = demo();
    files.insert(
        "live.environment.yaml".to_owned(),
        "elm-porch: environment/1\nname: live\nbackends:\n  timetable: { address: http://127.0.0.1:9 }\n".to_owned(),
    );
    let (_, moved) = compiled(files, "fog & fender");
    assert!(!Arc::ptr_eq(&timetable.1, &moved.1));
    assert_ne!(
        timetable.1.backends[0].identity,
        moved.1.backends[0].identity
    );
}
