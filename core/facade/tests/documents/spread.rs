//! Definitions in several files: what is checked is what is released.

use super::*;

const MAIN: &str = r#"<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:b="urn:pilots:bindings" targetNamespace="urn:pilots" name="Pilots">
 <import namespace="urn:pilots:bindings" location="../bindings/binding.wsdl"/>
 <service name="Pilots"><port name="Desk" binding="b:Desk"><soap:address location="http://127.0.0.1:9/pilots"/></port></service>
</definitions>"#;

const BINDING: &str = r#"<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:m="urn:pilots:messages" targetNamespace="urn:pilots:bindings">
 <import namespace="urn:pilots:messages" location="messages.wsdl"/>
 <binding name="Desk" type="m:Desk"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>
  <operation name="GetPilot"><soap:operation soapAction=""/><input><soap:body use="literal"/></input><output><soap:body use="literal"/></output></operation></binding>
</definitions>"#;

const MESSAGES: &str = r#"<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:xs="http://www.w3.org/2001/XMLSchema"
 xmlns:t="urn:pilots:types" xmlns:m="urn:pilots:messages" targetNamespace="urn:pilots:messages">
 <types><xs:schema targetNamespace="urn:pilots:messages"><xs:import namespace="urn:pilots:types" schemaLocation="../../common/xsd/pilot.xsd"/></xs:schema></types>
 <message name="Ask"><part name="p" element="t:GetPilot"/></message>
 <message name="Told"><part name="p" element="t:Pilot"/></message>
 <portType name="Desk"><operation name="GetPilot"><input message="m:Ask"/><output message="m:Told"/></operation></portType>
</definitions>"#;

/// Refers to the file that refers to it.
const PILOT: &str = r#"<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:p="urn:pilots:places" xmlns:t="urn:pilots:types"
 targetNamespace="urn:pilots:types" elementFormDefault="qualified">
 <xs:import namespace="urn:pilots:places" schemaLocation="places/place.xsd"/>
 <xs:element name="GetPilot"><xs:complexType><xs:sequence><xs:element name="number" type="xs:int"/></xs:sequence></xs:complexType></xs:element>
 <xs:element name="Pilot"><xs:complexType><xs:sequence><xs:element name="name" type="t:Name"/><xs:element name="station" type="p:Place"/></xs:sequence></xs:complexType></xs:element>
 <xs:simpleType name="Name"><xs:restriction base="xs:string"><xs:maxLength value="40"/></xs:restriction></xs:simpleType>
</xs:schema>"#;

const PLACE: &str = r#"<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" xmlns:t="urn:pilots:types" targetNamespace="urn:pilots:places">
 <xs:import namespace="urn:pilots:types" schemaLocation="../pilot.xsd"/>
 <xs:complexType name="Place"><xs:sequence><xs:element name="port" type="t:Name"/></xs:sequence></xs:complexType>
</xs:schema>"#;

fn files() -> Files {
    let mut files = Files::new();
    let mut add = |name: &str, text: &str| files.insert(name.to_owned(), text.to_owned());
    add("desk/definition/pilots.wsdl", MAIN);
    add("desk/bindings/binding.wsdl", BINDING);
    add("desk/bindings/messages.wsdl", MESSAGES);
    add("common/xsd/pilot.xsd", PILOT);
    add("common/xsd/places/place.xsd", PLACE);
    // Of the same name, beside a path that only begins alike, and used by nobody.
    add("desk/bindings-old/messages.wsdl", "<definitions/>");
    add("common/xsd-old/pilot.xsd", "no schema");
    add(
        "desk/pilots.backend.yaml",
        "elm-porch: backend/1\nname: pilots\nkind: soap\ndefinition: definition/pilots.wsdl\naddress: http://127.0.0.1:9/pilots\n",
    );
    add(
        "desk/pilots.openapi.yaml",
        "openapi: 3.1.0
info: { title: Pilots, version: 1.0.0 }
paths:
  /pilots/{number}:
    get:
      operationId: pilot
      parameters: [{ name: number, in: path, required: true, schema: { type: integer } }]
      responses: { '200': { description: The pilot } }
",
    );
    add(
        "desk/pilots.facade.yaml",
        "elm-porch: facade/1
name: pilots
base: /pilots/v1
contract: pilots.openapi.yaml
operations:
  pilot: { call: { backend: pilots, operation: GetPilot }, send: { number: =path.number } }
",
    );
    files
}

#[test]
fn a_release_keeps_every_file_that_the_reading_used_wherever_it_lies() {
    let draft = model(files());
    assert_eq!(draft.facade("pilots").unwrap().findings, []);
    let bundle = draft.bundle("pilots").unwrap();
    assert_eq!(
        bundle.keys().map(String::as_str).collect::<Vec<_>>(),
        [
            "common/xsd/pilot.xsd",
            "common/xsd/places/place.xsd",
            "desk/bindings/binding.wsdl",
            "desk/bindings/messages.wsdl",
            "desk/definition/pilots.wsdl",
            "desk/pilots.backend.yaml",
            "desk/pilots.facade.yaml",
            "desk/pilots.openapi.yaml",
        ]
    );
    let released = model(bundle).facade("pilots").unwrap();
    assert_eq!(released.findings, []);
    let pilots = released.compiled.as_ref().unwrap();
    let call: &dyn Any = &*pilots.operation("pilot").unwrap().steps[0].call;
    assert!(call.downcast_ref::<SoapCall>().is_some());
}

#[test]
fn a_file_that_is_missing_is_told_by_check_and_not_by_the_release() {
    for gone in [
        "common/xsd/places/place.xsd",
        "common/xsd/pilot.xsd",
        "desk/bindings/messages.wsdl",
    ] {
        let mut files = files();
        files.remove(gone);
        // Nothing else of that name may stand in for it.
        files.retain(|name, _| !name.contains("-old/"));
        let checked = model(files).facade("pilots").unwrap();
        assert!(
            has_errors(&checked.findings),
            "{gone}: {:?}",
            checked.findings
        );
        assert!(checked.compiled.is_none() || has_errors(&checked.findings));
    }
}
