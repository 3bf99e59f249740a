//! Examples of derived contracts fit their schemas, as an independent validator has it.

use super::*;
use serde_json::{Value, json};

/// A definition with one operation whose input has a member of each of these types.
fn definition(types: &str) -> Source {
    let text = format!(
        r#"<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/" xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:t" targetNamespace="urn:t" name="Stores">
<types><xs:schema targetNamespace="urn:t" elementFormDefault="qualified">{types}
<xs:element name="Store" type="t:Store"/><xs:element name="StoreResponse" type="t:Store"/></xs:schema></types>
<message name="in"><part name="p" element="t:Store"/></message><message name="out"><part name="p" element="t:StoreResponse"/></message>
<portType name="P"><operation name="CreateStore"><input message="t:in"/><output message="t:out"/></operation></portType>
<binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/><operation name="CreateStore"><soap:operation soapAction=""/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation></binding>
<service name="Stores"><port name="P" binding="t:B"><soap:address location="http://127.0.0.1:9/"/></port></service></definitions>"#
    );
    Source {
        files: Files::from([("stores.wsdl".to_owned(), text)]),
        main: "stores.wsdl".into(),
        ..Source::default()
    }
}

/// The examples of a derived contract, of which each must fit; how many there are, and how many bodies have none.
fn examples(source: &Source) -> (usize, usize) {
    let derived = derive(source, "stores", Some("http://127.0.0.1:9"), &[]).unwrap();
    let text = &derived.files["stores.openapi.yaml"];
    let contract = porch_contract::Node::parse(text).unwrap().to_value();
    let (mut with, mut without) = (0, 0);
    for item in contract["paths"].as_object().unwrap().values() {
        for op in item.as_object().unwrap().values() {
            for place in [
                "/requestBody/content/application~1json",
                "/responses/200/content/application~1json",
            ] {
                let Some(media) = op.pointer(place) else {
                    continue;
                };
                let Some(example) = media.get("example") else {
                    without += 1;
                    continue;
                };
                with += 1;
                fits(&contract, &media["schema"], example);
            }
        }
    }
    (with, without)
}

fn fits(contract: &Value, schema: &Value, example: &Value) {
    let mut whole = json!({ "components": contract["components"] });
    for (name, value) in schema.as_object().unwrap() {
        whole[name] = value.clone();
    }
    let validator = jsonschema::options()
        .should_validate_formats(true)
        .build(&whole)
        .unwrap();
    let wrong: Vec<String> = validator
        .iter_errors(example)
        .map(|e| e.to_string())
        .collect();
    assert!(
        wrong.is_empty(),
        "{example} does not fit {schema}: {wrong:?}"
    );
}

#[test]
fn every_example_fits_or_is_left_out() {
    for (types, all) in [
        // Bounds, also exclusive ones, steps, lengths and patterns.
        (
            r#"<xs:complexType name="Store"><xs:sequence>
            <xs:element name="a"><xs:simpleType><xs:restriction base="xs:int"><xs:minExclusive value="5"/><xs:maxExclusive value="7"/></xs:restriction></xs:simpleType></xs:element>
            <xs:element name="b"><xs:simpleType><xs:restriction base="xs:decimal"><xs:minExclusive value="0"/><xs:maxInclusive value="0.25"/><xs:fractionDigits value="2"/></xs:restriction></xs:simpleType></xs:element>
            <xs:element name="c"><xs:simpleType><xs:restriction base="xs:string"><xs:length value="3"/></xs:restriction></xs:simpleType></xs:element>
            <xs:element name="d"><xs:simpleType><xs:restriction base="xs:string"><xs:maxLength value="2"/></xs:restriction></xs:simpleType></xs:element>
            <xs:element name="e"><xs:simpleType><xs:restriction base="xs:string"><xs:pattern value="(crate|box)-\d{2,4}(/[A-Z]+)?"/><xs:minLength value="9"/></xs:restriction></xs:simpleType></xs:element>
            <xs:element name="f"><xs:simpleType><xs:restriction base="xs:int"><xs:maxInclusive value="-4"/></xs:restriction></xs:simpleType></xs:element>
            <xs:element name="g" type="xs:unsignedLong"/><xs:element name="h" type="xs:base64Binary"/><xs:element name="i" type="xs:duration"/>
            <xs:element name="j" type="xs:anyURI"/><xs:element name="k" type="xs:NMTOKENS"/><xs:element name="l" type="xs:gYear"/>
          </xs:sequence></xs:complexType>"#,
            true,
        ),
        // Wildcards and content of any kind.
        (
            r#"<xs:complexType name="Store" mixed="true"><xs:sequence><xs:element name="a" type="xs:anyType"/><xs:any minOccurs="0" maxOccurs="unbounded" processContents="lax"/></xs:sequence><xs:anyAttribute/></xs:complexType>"#,
            false,
        ),
        // Types that hold themselves, by choice and by need of others.
        (
            r#"<xs:complexType name="Store"><xs:sequence><xs:element name="name" type="xs:string"/><xs:element name="inside" type="t:Store" minOccurs="0" maxOccurs="unbounded"/><xs:element name="shelf" type="t:Shelf"/></xs:sequence></xs:complexType>
            <xs:complexType name="Shelf"><xs:sequence><xs:element name="room" type="t:Room"/></xs:sequence></xs:complexType>
            <xs:complexType name="Room"><xs:sequence><xs:element name="next" type="t:Room" minOccurs="0"/><xs:element name="back" type="t:Store" minOccurs="0"/></xs:sequence></xs:complexType>"#,
            true,
        ),
        // What can never end.
        (
            r#"<xs:complexType name="Store"><xs:sequence><xs:element name="again" type="t:Store"/></xs:sequence></xs:complexType>"#,
            false,
        ),
        // A wide family of types, an abstract one at its head.
        (
            r#"<xs:complexType name="Store"><xs:sequence><xs:element name="thing" type="t:Thing" minOccurs="2" maxOccurs="3"/></xs:sequence></xs:complexType>
            <xs:complexType name="Thing" abstract="true"><xs:sequence><xs:element name="id" type="xs:ID"/></xs:sequence></xs:complexType>
            <xs:complexType name="Crate"><xs:complexContent><xs:extension base="t:Thing"><xs:choice><xs:element name="wood" type="xs:string"/><xs:element name="tin" type="xs:int"/></xs:choice></xs:extension></xs:complexContent></xs:complexType>
            <xs:complexType name="Sack"><xs:complexContent><xs:extension base="t:Thing"><xs:sequence/></xs:extension></xs:complexContent></xs:complexType>"#,
            true,
        ),
        // A pattern that this reader of patterns does not know, and lists.
        (
            r#"<xs:complexType name="Store"><xs:sequence><xs:element name="a"><xs:simpleType><xs:list itemType="xs:int"/></xs:simpleType></xs:element><xs:element name="b"><xs:simpleType><xs:restriction base="xs:string"><xs:pattern value="\p{IsGreek}{2}"/></xs:restriction></xs:simpleType></xs:element></xs:sequence></xs:complexType>"#,
            false,
        ),
    ] {
        let (with, without) = examples(&definition(types));
        assert_eq!(with + without, 2, "{types}");
        assert!(!all || without == 0, "{types}: {without} have no example");
    }
    let (with, without) = examples(&wsdl());
    assert!(with > 5 && without == 0, "{with} {without}");
}
