//! Reading the stand-in's definition, and converting its messages in both directions.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

#[path = "common/both.rs"]
mod both;

use std::sync::Arc;

use porch_soap::read::AnswerPlan;
use porch_soap::{
    Answer, AnswerError, AnswerReader, Definition, Envelope, Files, propose, read_definition,
};
use proptest::prelude::*;
use serde_json::{Value, json};

const WSDL: &str = include_str!("../../../standins/definitions/reservations.wsdl");

fn definition() -> Definition {
    read_definition(
        &Files::from([("r.wsdl".to_owned(), WSDL.to_owned())]),
        "r.wsdl",
    )
    .unwrap()
}

const HOLD: &str = r#"{"SailingId": "S1", "FareClass": "foot", "Passengers": [{"Name": "Ann", "Born": "1984-03-07"}, {"Name": "B\u00e9", "Concession": null}], "Contact": "x & y"}"#;

struct Service {
    definition: Arc<Definition>,
    plan: Arc<porch_soap::Plan>,
}

impl Service {
    fn new() -> Self {
        let mut definition = definition();
        let plan = Arc::new(std::mem::take(&mut definition.plan));
        Self {
            definition: Arc::new(definition),
            plan,
        }
    }

    fn envelope(&self, name: &str) -> Envelope {
        Envelope::new(
            self.plan.clone(),
            self.definition.operation(name).unwrap(),
            &json!({"Login": {"User": "porch", "Password": "a<b"}}),
        )
        .unwrap()
    }

    fn write(&self, name: &str, value: Value) -> Result<String, Vec<(String, String)>> {
        both::written(&self.envelope(name), value.to_string().as_bytes())
            .map_err(|e| e.into_iter().map(|e| (e.pointer, e.message)).collect())
    }

    fn reader(&self, name: &str) -> AnswerReader {
        let operation = self.definition.operation(name).unwrap();
        AnswerReader::new(Arc::new(AnswerPlan::of(self.plan.clone(), operation)))
    }

    fn read(&self, name: &str, body: &str) -> (Result<Answer, AnswerError>, String, Vec<String>) {
        let xml = format!(
            "<?xml version='1.0'?><s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\" xmlns:i=\"http://www.w3.org/2001/XMLSchema-instance\" xmlns=\"urn:skerry-line:reservations:3\"><s:Header><x/></s:Header><s:Body>{body}</s:Body></s:Envelope>"
        );
        self.read_pieces(name, xml.as_bytes(), usize::MAX)
    }

    fn read_pieces(
        &self,
        name: &str,
        xml: &[u8],
        size: usize,
    ) -> (Result<Answer, AnswerError>, String, Vec<String>) {
        let (mut reader, mut out) = (self.reader(name), Vec::new());
        let mut result = Ok(());
        for piece in xml.chunks(size.min(xml.len().max(1))) {
            result = result.and_then(|()| reader.feed(piece, &mut out));
        }
        let answer = result.and_then(|()| reader.finish(&mut out));
        (answer, String::from_utf8(out).unwrap(), reader.notes)
    }
}

#[test]
fn the_definition_is_read_whole() {
    let definition = definition();
    assert_eq!(definition.findings, []);
    let names: Vec<_> = definition
        .operations
        .iter()
        .map(|o| o.name.as_str())
        .collect();
    assert_eq!(
        names,
        [
            "SearchSailings",
            "QuoteFare",
            "HoldSeats",
            "ConfirmBooking",
            "CancelBooking",
            "GetManifest"
        ]
    );
    assert!(
        definition
            .operations
            .iter()
            .all(|o| o.unavailable.is_none() && o.losses.is_empty() && o.headers.len() == 1)
    );
    assert_eq!(
        definition.ports[0].address,
        "http://127.0.0.1:3850/reservations"
    );
}

#[test]
fn shapes_are_proposed_with_reasons() {
    let shapes = propose::shapes(&definition());
    let shapes: Vec<_> = shapes
        .iter()
        .map(|s| format!("{} {} {}", s.id, s.method, s.path))
        .collect();
    assert_eq!(
        shapes,
        [
            "searchSailings GET /sailings",
            "quoteFare GET /fares/{routeCode}",
            "holdSeats POST /hold-seats",
            "confirmBooking POST /confirm-booking",
            "cancelBooking POST /cancel-booking",
            "getManifest GET /manifests/{sailingId}"
        ]
    );
}

#[test]
fn elements_are_written_in_schema_order_whatever_the_json_order() {
    let xml = Service::new()
        .write(
            "QuoteFare",
            json!({"Passengers": 2, "FareClass": "car", "RouteCode": "FAR-MAR"}),
        )
        .unwrap();
    assert_eq!(
        xml,
        "<soap:Envelope xmlns:soap=\"http://schemas.xmlsoap.org/soap/envelope/\" xmlns:xsi=\"http://www.w3.org/2001/XMLSchema-instance\" \
         xmlns:n1=\"urn:skerry-line:reservations:3\"><soap:Header><n1:Login><n1:User>porch</n1:User><n1:Password>a&lt;b</n1:Password></n1:Login></soap:Header>\
         <soap:Body><n1:QuoteFare><n1:RouteCode>FAR-MAR</n1:RouteCode><n1:FareClass>car</n1:FareClass><n1:Passengers>2</n1:Passengers></n1:QuoteFare></soap:Body></soap:Envelope>"
    );
}

#[test]
fn every_mistake_is_reported_with_its_pointer() {
    let service = Service::new();
    let errors = service
        .write(
            "QuoteFare",
            json!({"RouteCode": "far", "FareClass": "kar", "Pasengers": 2}),
        )
        .unwrap_err();
    let errors: Vec<_> = errors
        .iter()
        .map(|(p, m)| (p.as_str(), m.as_str()))
        .collect();
    assert_eq!(
        errors,
        [
            (
                "/Pasengers",
                "is not known here; did you mean “Passengers”?"
            ),
            (
                "/RouteCode",
                "“far” does not fit the pattern [A-Z]{3}-[A-Z]{3}"
            ),
            (
                "/FareClass",
                "“kar” is none of foot, bicycle, car, cabin; did you mean “car”?"
            ),
            ("/Passengers", "must be there"),
        ]
    );
    let errors = service.write("HoldSeats", json!({"SailingId": "S1", "FareClass": "foot", "Passengers": [{"Name": "Ann", "Concession": null}, {"Name": 5}, {"Name": null}]}));
    let errors: Vec<_> = errors.unwrap_err().into_iter().map(|(p, _)| p).collect();
    assert_eq!(errors, ["/Passengers/1/Name", "/Passengers/2/Name"]);
}

#[test]
fn wrapped_lists_are_flattened_and_put_back() {
    let xml = Service::new().write("HoldSeats", json!({"SailingId": "S1", "FareClass": "foot", "Passengers": [{"Name": "Ann"}, {"Name": "Bo", "Concession": null}]})).unwrap();
    assert!(xml.contains("<n1:Passengers><n1:Passenger><n1:Name>Ann</n1:Name></n1:Passenger><n1:Passenger><n1:Name>Bo</n1:Name><n1:Concession xsi:nil=\"true\"/></n1:Passenger></n1:Passengers>"));
}

#[test]
fn answers_become_json_with_every_digit() {
    let (answer, json, notes) = Service::new().read(
        "SearchSailings",
        "<SearchSailingsResponse><Sailings>\
         <Sailing><Id>S&#x31;&amp;</Id><RouteCode>FAR-MAR</RouteCode><Departs>2027-05-14T08:30:00Z</Departs><Legs/><SeatsLeft i:nil='true'/></Sailing>\
         <p:Sailing xmlns:p='urn:skerry-line:reservations:3'><p:Id><![CDATA[<2>]]> x</p:Id><p:RouteCode>A</p:RouteCode><p:Departs>d</p:Departs>\
         <p:Legs><p:Leg><p:From>A</p:From><p:To>B</p:To><p:Minutes>007</p:Minutes></p:Leg></p:Legs><p:SeatsLeft>0</p:SeatsLeft><p:Remark>a</p:Remark><p:Remark/></p:Sailing>\
         </Sailings></SearchSailingsResponse>",
    );
    assert_eq!(answer, Ok(Answer::Body));
    assert_eq!(notes, Vec::<String>::new());
    assert_eq!(
        json,
        r#"{"Sailings":[{"Id":"S1&","RouteCode":"FAR-MAR","Departs":"2027-05-14T08:30:00Z","Legs":[],"SeatsLeft":null,"Remark":[]},{"Id":"<2> x","RouteCode":"A","Departs":"d","Legs":[{"From":"A","To":"B","Minutes":7}],"SeatsLeft":0,"Remark":["a",""]}]}"#
    );
    let (_, json, _) = Service::new().read("QuoteFare", "<QuoteFareResponse><Fare><Amount>1520.250</Amount><Currency>SKD</Currency></Fare></QuoteFareResponse>");
    assert_eq!(json, r#"{"Fare":{"Amount":1520.250,"Currency":"SKD"}}"#);
}

#[test]
fn what_is_tolerated_is_noted() {
    let (answer, json, notes) = Service::new().read(
        "QuoteFare",
        "<QuoteFareResponse><Fare><Amount>1</Amount><Tip>2</Tip></Fare></QuoteFareResponse>",
    );
    assert_eq!(
        (answer, json.as_str()),
        (Ok(Answer::Body), r#"{"Fare":{"Amount":1}}"#)
    );
    assert_eq!(
        notes,
        [
            "<Tip> is not declared in Fare and was passed by",
            "Fare lacks <Currency>"
        ]
    );
}

#[test]
fn faults_carry_typed_details() {
    let (answer, json, _) = Service::new().read(
        "HoldSeats",
        "<s:Fault><faultcode>s:Client</faultcode><faultstring>full</faultstring><detail><SailingFull><SailingId>S1</SailingId><SeatsLeft>3</SeatsLeft></SailingFull></detail></s:Fault>",
    );
    let Ok(Answer::Fault(fault)) = answer else {
        panic!("{answer:?}")
    };
    assert!(fault.is_callers());
    assert_eq!(
        (
            fault.reason.as_str(),
            fault.detail.as_deref(),
            json.as_str()
        ),
        (
            "full",
            Some("SailingFull"),
            r#"{"SailingId":"S1","SeatsLeft":3}"#
        )
    );
}

#[test]
fn answers_that_are_no_answers_are_told_apart() {
    let service = Service::new();
    let error = |xml: &str| {
        service
            .read_pieces("QuoteFare", xml.as_bytes(), usize::MAX)
            .0
            .unwrap_err()
            .to_string()
    };
    let bomb = format!("<a>{}", "<a>".repeat(100_000));
    let many = format!(
        "<a {}/>",
        (0..10_000)
            .map(|i| format!("a{i}='1' "))
            .collect::<String>()
    );
    for (xml, message) in [
        (
            "<html><body>oops</body></html>",
            "no SOAP envelope: it begins with <html>",
        ),
        ("", "no element at all"),
        (
            "<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><s:Body>",
            "cut off: <s:Body> is still open",
        ),
        ("<s:Envelope/>", "the prefix “s” is bound to no namespace"),
        (
            "<!DOCTYPE a [<!ENTITY x 'y'>]><a/>",
            "(DTD) is not accepted",
        ),
        ("<a>&x;</a>", "begins with <a>"),
        ("<a b='1' b='2'/>", "stands twice"),
        ("<a></b>", "no SOAP envelope"),
        ("plain text", "text outside"),
        (&bomb, "no SOAP envelope"),
        (&many, "attributes"),
    ] {
        assert!(
            error(xml).contains(message),
            "{} → {}",
            &xml[..xml.len().min(40)],
            error(xml)
        );
    }
    let deep = service
        .read(
            "QuoteFare",
            &format!("<QuoteFareResponse>{}", "<a>".repeat(100_000)),
        )
        .0
        .unwrap_err()
        .to_string();
    assert!(deep.contains("nested more than 512 levels"), "{deep}");
    let wrong = service
        .read("QuoteFare", "<HoldSeatsResponse/>")
        .0
        .unwrap_err()
        .to_string();
    assert_eq!(
        wrong,
        "the answer's body holds <HoldSeatsResponse>, not <QuoteFareResponse>"
    );
    let bad = service
        .read(
            "QuoteFare",
            "<QuoteFareResponse><Fare><Amount>lots</Amount></Fare></QuoteFareResponse>",
        )
        .0
        .unwrap_err()
        .to_string();
    assert_eq!(bad, "Amount: “lots” is no decimal");
    assert!(
        service
            .read(
                "QuoteFare",
                "<QuoteFareResponse><Fare><Amount>&lol;</Amount></Fare></QuoteFareResponse>"
            )
            .0
            .unwrap_err()
            .to_string()
            .contains("&lol;")
    );
    assert_eq!(
        service
            .read_pieces("QuoteFare", b"<a>\xff</a>", 100)
            .0
            .unwrap_err(),
        AnswerError::Encoding(porch_soap::NotEncoded("UTF-8"))
    );
}

#[test]
fn what_is_no_wsdl_is_refused_and_broken_corners_are_passed_by() {
    let read = |text: &str| read_definition(&Files::from([("d".to_owned(), text.to_owned())]), "d");
    assert!(read("<a/>").unwrap_err().message.contains("no WSDL 1.1"));
    assert!(
        read(&"<a>".repeat(100_000))
            .unwrap_err()
            .message
            .contains("nested")
    );
    assert!(
        read("<!DOCTYPE x><a/>")
            .unwrap_err()
            .message
            .contains("this is no WSDL")
    );
    let broken = read(&WSDL.replace(
        "<xsd:element name=\"Fare\" type=\"r:Fare\"/>",
        "<xsd:element name=\"Fare\" type=\"r:Faer\"/>",
    ))
    .unwrap();
    let unavailable: Vec<_> = broken
        .operations
        .iter()
        .filter(|o| o.unavailable.is_some())
        .map(|o| o.name.as_str())
        .collect();
    assert_eq!(unavailable, ["QuoteFare"]);
    assert!(
        broken.findings[0].message.contains("there is “Fare”"),
        "{:?}",
        broken.findings
    );
}

fn passenger() -> impl Strategy<Value = Value> {
    (
        text(),
        proptest::option::of(2000u32..2028),
        proptest::option::of(proptest::option::of(text())),
    )
        .prop_map(|(name, born, concession)| {
            let mut p = json!({ "Name": name });
            if let Some(year) = born {
                p["Born"] = json!(format!("{year}-02-28"));
            }
            if let Some(c) = concession {
                p["Concession"] = json!(c);
            }
            p
        })
}

/// Any text that XML can write.
fn text() -> impl Strategy<Value = String> {
    "[ -~\\t\\n\\ré€𝄞]{0,12}".prop_map(|s| s)
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

    /// Texts with parts changed, lost, repeated or moved: with a tree and without one, the same envelope or the same mistakes.
    #[test]
    fn any_text_is_written_alike_both_ways(changes in proptest::collection::vec((0usize..400, 0usize..400, 0usize..30, 0usize..30), 1..5)) {
        let mut text = HOLD.as_bytes().to_vec();
        for (from, to, len, lost) in changes {
            let from = from % text.len();
            let part = text[from..(from + len).min(text.len())].to_vec();
            let to = to % text.len();
            let end = (to + lost).min(text.len());
            text.splice(to..end, part);
        }
        let _ = both::written(&Service::new().envelope("HoldSeats"), &text);
    }

    /// Members in any order, some of them twice or unknown.
    #[test]
    fn members_in_any_order_are_written_alike_both_ways(outer in proptest::collection::vec(0usize..6, 0..6), inner in proptest::collection::vec(0usize..6, 0..5)) {
        const INNER: [&str; 6] = [r#""Name":"A\u006en""#, r#""Born":"1984-03-07""#, r#""Concession":null"#, r#""Name" : "Bo<""#, r#""Name":7"#, r#""Nome":"x""#];
        let join = |all: &[String]| format!("{{{}}}", all.join(","));
        let passenger = join(&inner.iter().map(|i| INNER[*i].to_owned()).collect::<Vec<_>>());
        let outer_members = [
            r#""SailingId":"S""#.to_owned(),
            r#""FareClass":"car""#.to_owned(),
            format!(r#""Passengers":[{passenger}, {{"Name":"Cy"}}]"#),
            r#""Contact":"c""#.to_owned(),
            r#""FareClass":"boat""#.to_owned(),
            r#""Passengers":[]"#.to_owned(),
        ];
        let text = join(&outer.iter().map(|i| outer_members[*i].clone()).collect::<Vec<_>>());
        let _ = both::written(&Service::new().envelope("HoldSeats"), text.as_bytes());
    }

    /// What a request carries arrives as the same JSON, in pieces of any size.
    #[test]
    fn json_to_soap_and_back_is_the_identity(list in proptest::collection::vec(passenger(), 1..5), contact in proptest::option::of(text()), size in 1usize..200) {
        let service = Service::new();
        let mut value = json!({"SailingId": "S", "FareClass": "car", "Passengers": list});
        if let Some(contact) = contact {
            value["Contact"] = json!(contact);
        }
        let xml = service.write("HoldSeats", value.clone()).unwrap();
        // The request read as if it were the answer: the same element plan drives both.
        let input = service.definition.operation("HoldSeats").unwrap().input.clone();
        let mut reader = AnswerReader::new(Arc::new(AnswerPlan { plan: service.plan.clone(), output: input, headers: Vec::new(), faults: Vec::new(), encoded: false, one_way: false, nothing: false }));
        let mut out = Vec::new();
        for piece in xml.as_bytes().chunks(size) {
            reader.feed(piece, &mut out).unwrap();
        }
        prop_assert_eq!(reader.finish(&mut out).unwrap(), Answer::Body);
        prop_assert_eq!(serde_json::from_slice::<Value>(&out).unwrap(), value);
    }

    /// Real messages with bytes changed, lost or repeated never panic, and pieces make no difference.
    #[test]
    fn mutated_answers_never_panic(cut in 0usize..400, with in proptest::collection::vec(any::<u8>(), 0..4), len in 0usize..4, size in 1usize..50) {
        let service = Service::new();
        let mut xml = b"<s:Envelope xmlns:s=\"http://schemas.xmlsoap.org/soap/envelope/\"><s:Body><QuoteFareResponse xmlns=\"urn:skerry-line:reservations:3\"><Fare><Amount>1520.250</Amount><Currency>S&#75;D</Currency><!-- c --></Fare></QuoteFareResponse></s:Body></s:Envelope>".to_vec();
        let at = cut.min(xml.len());
        let to = (at + len).min(xml.len());
        xml.splice(at..to, with);
        let whole = service.read_pieces("QuoteFare", &xml, usize::MAX);
        let pieces = service.read_pieces("QuoteFare", &xml, size);
        prop_assert_eq!(whole.0.is_ok(), pieces.0.is_ok());
        if whole.0.is_ok() {
            prop_assert_eq!(whole.1, pieces.1);
        }
    }
}
