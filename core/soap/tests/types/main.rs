//! Each row of the table of types, in both directions and in the contract's JSON Schema.

mod derived;
mod particles;
mod simple;

#[path = "../common/mod.rs"]
mod common;

use common::Service;
use porch_soap::JsonSchemas;
use serde_json::{Value, json};

const AB: &str = "<x:element name='a' type='x:string'/><x:element name='b' type='x:int'/>";

fn parse(text: &str) -> Value {
    serde_json::from_str(text).unwrap()
}

fn schema(service: &Service) -> Value {
    let mut schemas = JsonSchemas::new(&service.plan);
    schemas.of(service.definition.operations[0]
        .input
        .as_ref()
        .unwrap()
        .type_id);
    Value::Object(schemas.schemas)
}

/// The same value both ways, and the XML in between.
fn both_ways(service: &Service, value: &Value, xml: &str) {
    assert_eq!(service.write(value).unwrap(), xml);
    assert_eq!(service.round_trip(value), *value);
}

#[test]
fn mixed_content_keeps_text_and_order() {
    let service = Service::of(
        "<x:sequence><x:element name='m'><x:complexType mixed='true'><x:choice minOccurs='0' maxOccurs='unbounded'><x:element name='b' type='x:string'/></x:choice></x:complexType></x:element></x:sequence>",
        "",
    );
    let (json, _) = service
        .read_body("<n:Out><n:m>swell <n:b>2 m</n:b>, wind <n:b>W</n:b>.</n:m></n:Out>")
        .unwrap();
    let value = parse(&json);
    assert_eq!(
        value,
        json!({"m": {"#content": ["swell ", {"n:b": {"@xmlns:n": "urn:t", "#text": "2 m"}}, ", wind ", {"n:b": {"@xmlns:n": "urn:t", "#text": "W"}}, "."]}})
    );
    assert_eq!(service.round_trip(&value), value);
}

#[test]
fn names_with_dots_hyphens_and_letters_beyond_ascii() {
    let service = Service::of(
        "<x:sequence><x:element name='fähr.preis-netto' type='x:decimal'/><x:element name='ID' type='x:string'/><x:element name='id' type='x:string'/></x:sequence>",
        "",
    );
    both_ways(
        &service,
        &parse(r#"{"fähr.preis-netto": 1.50, "ID": "A", "id": "b"}"#),
        "<n1:In><n1:fähr.preis-netto>1.50</n1:fähr.preis-netto><n1:ID>A</n1:ID><n1:id>b</n1:id></n1:In>",
    );
}

#[test]
fn xml_lang_is_an_attribute_that_everybody_knows() {
    let more = "<x:complexType name='Text'><x:simpleContent><x:extension base='x:string'><x:attribute ref='xml:lang'/></x:extension></x:simpleContent></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='t' type='t:Text'/></x:sequence>",
        more,
    );
    both_ways(
        &service,
        &json!({"t": {"lang": "en", "value": "swell"}}),
        "<n1:In><n1:t xml:lang=\"en\">swell</n1:t></n1:In>",
    );
}

#[test]
fn redefined_types_are_made_from_what_they_replace() {
    let more = "<x:redefine schemaLocation='base.xsd'><x:complexType name='P'><x:complexContent><x:extension base='t:P'><x:sequence><x:element name='more' type='x:int'/></x:sequence></x:extension></x:complexContent></x:complexType></x:redefine>";
    let main = common::wsdl(
        &format!("{more}<x:element name='In' type='t:P'/><x:element name='Out' type='t:P'/>"),
        "qualified",
    );
    let base = "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:t' elementFormDefault='qualified'><x:complexType name='P'><x:sequence><x:element name='first' type='x:int'/></x:sequence></x:complexType></x:schema>";
    let service = Service::read(&porch_soap::Files::from([
        ("m".to_owned(), main),
        ("base.xsd".to_owned(), base.to_owned()),
    ]));
    both_ways(
        &service,
        &json!({"first": 1, "more": 2}),
        "<n1:In><n1:first>1</n1:first><n1:more>2</n1:more></n1:In>",
    );
}

#[test]
fn keys_that_must_be_unique_are_reported() {
    let service = Service::of(
        "<x:sequence><x:element name='l' type='t:L'><x:unique name='u'><x:selector xpath='t:i'/><x:field xpath='.'/></x:unique></x:element></x:sequence>",
        "<x:complexType name='L'><x:sequence><x:element name='i' type='x:int' maxOccurs='9'/></x:sequence></x:complexType>",
    );
    assert!(
        service.losses()[0].contains("xsd:unique"),
        "{:?}",
        service.losses()
    );
}
