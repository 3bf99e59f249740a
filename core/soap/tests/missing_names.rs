//! What is said of names that a definition uses and does not declare.

use porch_soap::{Files, read_definition};

/// A definition with one operation whose part refers to an element, beside one that declares another.
fn unavailable(reference: &str, declared: &str, target: &str) -> String {
    let wsdl = format!(
        r#"<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:soap="http://schemas.xmlsoap.org/wsdl/soap/"
 xmlns:a="urn:a" xmlns:t="urn:t" targetNamespace="urn:t" name="Tides">
 <types><schema xmlns="http://www.w3.org/2001/XMLSchema" targetNamespace="{target}">
  <element name="{declared}" type="string"/></schema></types>
 <message name="In"><part name="p" element="{reference}"/></message>
 <portType name="P"><operation name="Ask"><input message="t:In"/></operation></portType>
 <binding name="B" type="t:P"><soap:binding transport="http://schemas.xmlsoap.org/soap/http"/>
  <operation name="Ask"><soap:operation soapAction=""/><input><soap:body use="literal"/></input></operation></binding>
 <service name="S"><port name="Po" binding="t:B"><soap:address location="http://tides.example/"/></port></service>
</definitions>"#
    );
    let files = Files::from([("tides.wsdl".to_owned(), wsdl)]);
    let definition = read_definition(&files, "tides.wsdl").unwrap();
    let operation = &definition.operations[0];
    operation.unavailable.clone().expect("it can be called")
}

#[test]
fn the_nearest_name_is_told_with_its_namespace_where_that_differs() {
    for (reference, declared, target, says) in [
        (
            "t:Askk",
            "Ask",
            "urn:t",
            "no schema declares the element “Askk” of namespace “urn:t” (there is “Ask”)",
        ),
        (
            "a:Ask",
            "Ask",
            "urn:t",
            "no schema declares the element “Ask” of namespace “urn:a” (namespace “urn:t” has one)",
        ),
        (
            "a:Askk",
            "Ask",
            "urn:t",
            "no schema declares the element “Askk” of namespace “urn:a” (there is “Ask” of namespace “urn:t”)",
        ),
        (
            "t:x",
            "y",
            "urn:t",
            "no schema declares the element “x” of namespace “urn:t”",
        ),
    ] {
        assert_eq!(
            unavailable(reference, declared, target),
            says,
            "{reference}"
        );
    }
}
