//! Shapes that are proposed for operations whose names are nearly the same, or begin as nobody's do.

use porch_soap::propose::{Shape, shapes};
use porch_soap::{Files, read_definition};

/// A definition whose operations all take the same members.
fn definition(operations: &[&str], members: &str) -> Vec<Shape> {
    let part = |make: &dyn Fn(&str) -> String| -> String {
        operations.iter().map(|name| make(name)).collect()
    };
    let wsdl = format!(
        r#"<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:t="urn:crew" targetNamespace="urn:crew" name="Crew">
 <types><schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:crew" elementFormDefault="qualified">{}</schema></types>
 {}<portType name="P">{}</portType>
 <binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>{}</binding>
 <service name="S"><port name="Po" binding="t:B"><soap:address location="http://crew.example/"/></port></service>
</definitions>"#,
        part(&|n| format!(
            r#"<element name="{n}"><complexType><sequence>{members}</sequence></complexType></element>"#
        )),
        part(&|n| format!(r#"<message name="{n}"><part name="p" element="t:{n}"/></message>"#)),
        part(&|n| format!(
            r#"<operation name="{n}"><input message="t:{n}"/><output message="t:{n}"/></operation>"#
        )),
        part(&|n| format!(
            r#"<operation name="{n}"><soap:operation soapAction=""/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation>"#
        )),
    );
    let files = Files::from([("crew.wsdl".to_owned(), wsdl)]);
    shapes(&read_definition(&files, "crew.wsdl").unwrap())
}

const NUMBER: &str = r#"<element name="number" type="int"/>"#;

#[test]
fn names_that_differ_in_case_or_marks_alone_are_all_offered_under_the_same_ids_every_time() {
    let names = ["getUser", "get_user", "GetUser", "getUser2"];
    let mut orders = vec![names.to_vec()];
    orders.push(names.iter().rev().copied().collect());
    orders.push(vec!["GetUser", "getUser2", "getUser", "get_user"]);
    for order in orders {
        let made = definition(&order, NUMBER);
        let id = |name: &str| {
            let at = order.iter().position(|n| *n == name).unwrap();
            made[at].id.as_str()
        };
        // By the names' own order; what another name has already is passed over.
        assert_eq!(
            names.map(id),
            ["getUser3", "getUser4", "getUser", "getUser2"],
            "{order:?}"
        );
        let mut routes: Vec<String> = made
            .iter()
            .map(|s| format!("{} {}", s.method, s.path))
            .collect();
        routes.sort();
        routes.dedup();
        assert_eq!(routes.len(), 4, "{made:#?}");
    }
}

#[test]
fn what_is_listed_of_one_other_thing_lies_below_it() {
    let element = |name: &str, least: u8| {
        format!(r#"<element name="{name}" type="string" minOccurs="{least}"/>"#)
    };
    for (members, path, query) in [
        (
            element("HarbourCode", 1) + &element("On", 0),
            "/harbours/{harbourCode}/berths",
            vec!["on"],
        ),
        // Not required, of the same things, or one of several: a question like any other.
        (element("HarbourCode", 0), "/berths", vec!["harbourCode"]),
        (element("BerthCode", 1), "/berths", vec!["berthCode"]),
        (element("Code", 1), "/berths", vec!["code"]),
        (
            element("HarbourCode", 1) + &element("ShipNumber", 1),
            "/berths",
            vec!["harbourCode", "shipNumber"],
        ),
    ] {
        let shape = &definition(&["ListBerths"], &members)[0];
        let asked: Vec<&str> = shape.in_query.iter().map(|(_, p)| p.as_str()).collect();
        assert_eq!((shape.path.as_str(), asked), (path, query), "{members}");
    }
}

#[test]
fn verbs_mean_the_same_in_lower_case_and_what_may_be_nil_is_no_structure() {
    let nil = r#"<element name="number" type="int"/><element name="since" type="date" nillable="true" minOccurs="0"/>"#;
    for (name, method, path) in [
        ("getPilot", "GET", "/pilots/{number}"),
        ("GetPilot", "GET", "/pilots/{number}"),
        ("get_pilot", "GET", "/pilots/{number}"),
        ("listPilots", "GET", "/pilots"),
        ("addPilot", "POST", "/pilots"),
        ("holdPilot", "POST", "/hold-pilot"),
    ] {
        let shape = &definition(&[name], nil)[0];
        assert_eq!(
            (shape.method, shape.path.as_str()),
            (method, path),
            "{name}: {}",
            shape.why
        );
    }
    let shape = &definition(&["removePilot"], NUMBER)[0];
    assert_eq!(
        (shape.method, shape.path.as_str()),
        ("DELETE", "/pilots/{number}")
    );
}

#[test]
fn members_that_differ_in_marks_alone_become_parameters_of_their_own() {
    let members = r#"<element name="number" type="int"/><element name="sort_by" type="string"/><element name="sortBy" type="string"/><element name="SortBy" type="string"/>"#;
    let shape = &definition(&["getPilot"], members)[0];
    let named = |list: &[(String, String)]| -> Vec<String> {
        list.iter().map(|(m, p)| format!("{m} {p}")).collect()
    };
    assert_eq!(named(&shape.in_path), ["number number"]);
    assert_eq!(
        named(&shape.in_query),
        ["sort_by sortBy", "sortBy sortBy2", "SortBy sortBy3"]
    );
}
