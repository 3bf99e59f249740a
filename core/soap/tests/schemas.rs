//! Definitions with one oddity each, in both directions: what is read, what is written, what is named as lost.

mod common;

use std::sync::Arc;

use common::{Service, wsdl};
use porch_soap::read::AnswerPlan;
use porch_soap::{Answer, AnswerReader, Envelope, Files, JsonSchemas, read_definition};
use serde_json::json;

const A: &str = "<x:element name='a' type='x:string'/>";

#[test]
fn unqualified_elements_have_no_prefix() {
    let service = Service::with_form(&format!("<x:sequence>{A}</x:sequence>"), "", "unqualified");
    assert_eq!(
        service.write(&json!({"a": "1"})).unwrap(),
        "<n1:In><a>1</a></n1:In>"
    );
    assert_eq!(
        service
            .read_body("<n:Out><a xmlns=''>1</a></n:Out>")
            .unwrap()
            .0,
        r#"{"a":"1"}"#
    );
    // A server that qualifies what it should not is understood, and that is noted.
    let (json, notes) = service.read_body("<n:Out><n:a>1</n:a></n:Out>").unwrap();
    assert_eq!(
        (json.as_str(), notes),
        (
            r#"{"a":"1"}"#,
            vec!["<a> has another namespace than declared".to_owned()]
        )
    );
}

#[test]
fn form_of_one_element_overrides_the_schemas() {
    let service = Service::of(
        "<x:sequence><x:element name='a' type='x:int' form='unqualified'/><x:element name='b' type='x:int'/></x:sequence>",
        "",
    );
    assert_eq!(
        service.write(&json!({"a": 1, "b": 2})).unwrap(),
        "<n1:In><a>1</a><n1:b>2</n1:b></n1:In>"
    );
}

#[test]
fn attributes_and_text_beside_them_are_members() {
    let price = "<x:complexType name='Price'><x:simpleContent><x:extension base='x:decimal'><x:attribute name='currency' type='x:string' use='required'/><x:attribute name='tax' type='x:boolean' default='true'/></x:extension></x:simpleContent></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='price' type='t:Price'/></x:sequence><x:attribute name='id' type='x:int'/>",
        price,
    );
    assert_eq!(
        service
            .write(
                &serde_json::from_str(
                    r#"{"price": {"value": 5.10, "currency": "S\"K<"}, "id": 7}"#
                )
                .unwrap()
            )
            .unwrap(),
        "<n1:In id=\"7\"><n1:price currency=\"S&quot;K&lt;\">5.10</n1:price></n1:In>"
    );
    assert_eq!(
        service
            .read_body("<Out><price currency='SKC'> 5.10 </price></Out>")
            .unwrap()
            .0,
        r#"{"price":{"currency":"SKC","tax":true,"value":5.10}}"#
    );
    assert_eq!(
        service.write(&json!({"price": {"value": 1}})).unwrap_err(),
        ["/price/currency must be there"]
    );
    assert_eq!(
        service
            .write(&json!({"price": {"currency": "SKC"}}))
            .unwrap_err(),
        ["/price/value must be there"]
    );
}

#[test]
fn an_attribute_and_an_element_of_one_name_are_told_apart() {
    let service = Service::of(
        &format!("<x:sequence>{A}</x:sequence><x:attribute name='a' type='x:int'/>"),
        "",
    );
    let value = json!({"a": "x", "a_2": 5});
    assert_eq!(
        service.write(&value).unwrap(),
        "<n1:In a=\"5\"><n1:a>x</n1:a></n1:In>"
    );
    assert_eq!(service.round_trip(&value), value);
}

#[test]
fn an_extension_begins_with_what_it_extends() {
    let more = "<x:complexType name='Base'><x:sequence><x:element name='first' type='x:int'/></x:sequence><x:attribute name='z' type='x:int'/></x:complexType>
                <x:complexType name='Ext'><x:complexContent><x:extension base='t:Base'><x:sequence><x:element name='second' type='x:int'/></x:sequence></x:extension></x:complexContent></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='e' type='t:Ext'/></x:sequence>",
        more,
    );
    let value = json!({"e": {"second": 2, "z": 3, "first": 1}});
    assert_eq!(
        service.write(&value).unwrap(),
        "<n1:In><n1:e z=\"3\"><n1:first>1</n1:first><n1:second>2</n1:second></n1:e></n1:In>"
    );
    assert_eq!(service.round_trip(&value), value);
}

#[test]
fn a_type_that_extends_itself_makes_its_operation_unavailable() {
    let more = "<x:complexType name='Loop'><x:complexContent><x:extension base='t:Loop'/></x:complexContent></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='e' type='t:Loop'/></x:sequence>",
        more,
    );
    assert_eq!(
        service.definition.operations[0].unavailable.as_deref(),
        Some("the type “Loop” is made from itself")
    );
}

#[test]
fn a_recursive_type_goes_as_deep_as_the_message() {
    let more = "<x:complexType name='Node'><x:sequence><x:element name='name' type='x:string'/><x:element name='child' type='t:Node' minOccurs='0' maxOccurs='unbounded'/></x:sequence></x:complexType>";
    let service = Service::of(
        "<x:sequence><x:element name='root' type='t:Node'/></x:sequence>",
        more,
    );
    let value = json!({"root": {"name": "a", "child": [{"name": "b", "child": [{"name": "c", "child": []}]}, {"name": "d", "child": []}]}});
    assert_eq!(service.round_trip(&value), value);
    let mut deep = json!({"name": "x", "child": []});
    for _ in 0..120 {
        deep = json!({"name": "x", "child": [deep]});
    }
    assert!(service.write(&json!({"root": deep.clone()})).is_ok());
    for _ in 0..20 {
        deep = json!({"name": "x", "child": [deep]});
    }
    assert!(
        service.write(&json!({"root": deep})).unwrap_err()[0]
            .contains("nested more than 128 levels")
    );
}

#[test]
fn a_choice_takes_one_branch() {
    let service = Service::of(
        "<x:choice><x:element name='card' type='x:string'/><x:sequence><x:element name='bank' type='x:string'/><x:element name='account' type='x:string'/></x:sequence></x:choice>",
        "",
    );
    assert_eq!(
        service
            .write(&json!({"bank": "B", "account": "1"}))
            .unwrap(),
        "<n1:In><n1:bank>B</n1:bank><n1:account>1</n1:account></n1:In>"
    );
    assert_eq!(
        service.write(&json!({})).unwrap_err(),
        [" one of these must be there: card, bank, account"]
    );
    assert_eq!(
        service
            .write(&json!({"card": "1", "bank": "B"}))
            .unwrap_err(),
        [" only one of these may be there: card, bank, account"]
    );
}

#[test]
fn groups_and_references_are_resolved() {
    let more = format!(
        "<x:group name='G'><x:sequence>{A}<x:element ref='t:Shared' minOccurs='0' maxOccurs='2'/></x:sequence></x:group><x:element name='Shared' type='x:int'/><x:attributeGroup name='AG'><x:attribute name='q' type='x:int'/></x:attributeGroup>"
    );
    let service = Service::of(
        "<x:sequence><x:group ref='t:G'/></x:sequence><x:attributeGroup ref='t:AG'/>",
        &more,
    );
    let value = json!({"a": "1", "Shared": [1, 2], "q": 3});
    assert_eq!(
        service.write(&value).unwrap(),
        "<n1:In q=\"3\"><n1:a>1</n1:a><n1:Shared>1</n1:Shared><n1:Shared>2</n1:Shared></n1:In>"
    );
    assert_eq!(service.round_trip(&value), value);
    assert_eq!(
        service
            .write(&json!({"a": "1", "Shared": [1, 2, 3]}))
            .unwrap_err(),
        ["/Shared 3 items, but at most 2 are allowed"]
    );
}

#[test]
fn absent_nil_and_empty_stay_different() {
    let service = Service::of(
        "<x:sequence><x:element name='a' type='x:string' minOccurs='0' nillable='true'/><x:element name='l' type='x:string' nillable='true' minOccurs='0' maxOccurs='unbounded'/></x:sequence>",
        "",
    );
    for value in [
        json!({"l": []}),
        json!({"a": null, "l": []}),
        json!({"a": "", "l": []}),
        json!({"a": "x", "l": ["1", null, ""]}),
    ] {
        assert_eq!(service.round_trip(&value), value);
    }
    let (json, notes) = Service::of(&format!("<x:sequence>{A}</x:sequence>"), "")
        .read_body("<Out><a i:nil='true'/></Out>")
        .unwrap();
    assert_eq!(
        (json.as_str(), notes),
        (
            r#"{"a":null}"#,
            vec!["<a> is nil although it may not be".to_owned()]
        )
    );
}

#[test]
fn texts_are_never_improved() {
    let service = Service::of(
        "<x:sequence><x:element name='l' type='x:string' maxOccurs='unbounded'/></x:sequence>",
        "",
    );
    let value = json!({"l": ["007", "1e5", "true", " lead", "trail ", "a\r\nb\tc", "<x a=\"1\">&amp;</x>", "]]>", "é𝄞", ""]});
    assert_eq!(service.round_trip(&value), value);
    let (json, _) = service
        .read_body("<Out><l>a<!-- c -->b<![CDATA[<c>]]>&#100;<?p i?>e</l></Out>")
        .unwrap();
    assert_eq!(json, r#"{"l":["ab<c>de"]}"#);
    let (json, _) = service.read_body("<Out><l>a\r\nb\rc</l></Out>").unwrap();
    assert_eq!(
        json, r#"{"l":["a\nb\nc"]}"#,
        "line ends as XML 1.0 §2.11 has them"
    );
}

#[test]
fn facets_of_several_steps_all_hold() {
    let more = "<x:simpleType name='Code'><x:restriction base='x:string'><x:pattern value='[A-Z]+'/><x:maxLength value='4'/></x:restriction></x:simpleType>
                <x:simpleType name='Short'><x:restriction base='t:Code'><x:pattern value='A.*'/><x:pattern value='B.*'/></x:restriction></x:simpleType>
                <x:simpleType name='Price'><x:restriction base='x:decimal'><x:totalDigits value='5'/><x:fractionDigits value='2'/><x:minExclusive value='0'/></x:restriction></x:simpleType>";
    let service = Service::of(
        "<x:sequence><x:element name='c' type='t:Short'/><x:element name='p' type='t:Price'/></x:sequence>",
        more,
    );
    let errors = |c: &str, p: &str| {
        service
            .write(&serde_json::from_str(&format!("{{\"c\": \"{c}\", \"p\": {p}}}")).unwrap())
            .map_or_else(|e| e.join("; "), |_| "fine".into())
    };
    assert_eq!(errors("BA", "999.99"), "fine");
    assert_eq!(
        errors("CA", "1"),
        "/c “CA” does not fit the pattern A.*|B.*"
    );
    assert_eq!(errors("Aa", "1"), "/c “Aa” does not fit the pattern [A-Z]+");
    assert_eq!(
        errors("AAAAA", "1"),
        "/c 5 characters, but at most 4 are allowed"
    );
    assert_eq!(
        errors("A", "1000.00"),
        "fine",
        "zeros behind the point are no digits"
    );
    assert_eq!(errors("A", "1000.25"), "/p 1000.25 has more than 5 digits");
    assert_eq!(
        errors("A", "0.125"),
        "/p 0.125 has more than 2 digits behind the point"
    );
    assert_eq!(errors("A", "0.00"), "/p 0.00 must be more than 0");
}

#[test]
fn what_json_cannot_carry_is_named() {
    let service = Service::of(
        "<x:sequence><x:element name='m' type='t:Mixed'/><x:any minOccurs='0'/></x:sequence>",
        "<x:complexType name='Mixed' mixed='true'><x:sequence><x:element name='b' type='t:List'/></x:sequence></x:complexType><x:simpleType name='List'><x:list itemType='x:int'/></x:simpleType>",
    );
    assert_eq!(
        service.losses(),
        [
            "M: elements that the schema leaves open (xsd:any) are carried in the generic mapping",
            "Mixed: text between its elements (mixed content); it is carried in the generic mapping"
        ]
    );
}

#[test]
fn schemas_in_other_files_are_followed_circles_and_all() {
    let main = wsdl(
        "<x:include schemaLocation='types/a.xsd'/><x:element name='In' type='t:A'/><x:element name='Out' type='t:A'/>",
        "qualified",
    );
    let a = "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' xmlns='urn:t' targetNamespace='urn:t' elementFormDefault='qualified'><x:include schemaLocation='b.xsd'/><x:import namespace='urn:o' schemaLocation='../other.xsd'/>
             <x:complexType name='A'><x:sequence><x:element name='b' type='B'/><x:element xmlns:o='urn:o' ref='o:Other'/></x:sequence></x:complexType></x:schema>";
    // Without a target namespace of its own, it takes over that of the schema that includes it.
    let b = "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' elementFormDefault='qualified'><x:include schemaLocation='a.xsd'/><x:simpleType name='B'><x:restriction base='x:int'/></x:simpleType></x:schema>";
    let other = "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:o'><x:import namespace='urn:lost' schemaLocation='lost.xsd'/><x:element name='Other' type='x:string'/></x:schema>";
    let files = Files::from([
        ("m".to_owned(), main),
        ("types/a.xsd".to_owned(), a.to_owned()),
        ("types/b.xsd".to_owned(), b.to_owned()),
        ("other.xsd".to_owned(), other.to_owned()),
    ]);
    let service = Service::read(&files);
    assert_eq!(service.definition.operations[0].unavailable, None);
    assert_eq!(
        service
            .definition
            .findings
            .iter()
            .map(|f| f.message.as_str())
            .collect::<Vec<_>>(),
        ["“lost.xsd” (import) is not among the files given"]
    );
    assert_eq!(
        service.write(&json!({"b": 5, "Other": "x"})).unwrap(),
        "<n1:In><n1:b>5</n1:b><n3:Other>x</n3:Other></n1:In>"
    );
}

#[test]
fn soap_12_differs_in_namespace_and_content_type() {
    let text = wsdl(&format!("<x:element name='In'><x:complexType><x:sequence>{A}</x:sequence></x:complexType></x:element><x:element name='Out' type='x:string'/>"), "qualified")
        .replace("wsdl/soap/", "wsdl/soap12/");
    let service = Service::read(&Files::from([("m".to_owned(), text)]));
    let operation = &service.definition.operations[0];
    let envelope = Envelope::new(service.plan.clone(), operation, &json!({})).unwrap();
    assert_eq!(
        (
            envelope.content_type.as_str(),
            envelope.soap_action.as_deref()
        ),
        ("application/soap+xml; charset=utf-8; action=\"do\"", None)
    );
    let mut out = Vec::new();
    envelope.write(&json!({"a": "1"}), &mut out).unwrap();
    assert!(
        String::from_utf8(out)
            .unwrap()
            .contains("xmlns:soap=\"http://www.w3.org/2003/05/soap-envelope\"")
    );
    // Its faults have codes, subcodes and texts of their own.
    let xml = "<e:Envelope xmlns:e='http://www.w3.org/2003/05/soap-envelope'><e:Body><e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>x:Full</e:Value></e:Subcode></e:Code><e:Reason><e:Text xml:lang='en'>no seats</e:Text><e:Text xml:lang='xx'>andere</e:Text></e:Reason></e:Fault></e:Body></e:Envelope>";
    let mut reader = AnswerReader::new(Arc::new(AnswerPlan::of(service.plan.clone(), operation)));
    reader.feed(xml.as_bytes(), &mut Vec::new()).unwrap();
    let Answer::Fault(fault) = reader.finish(&mut Vec::new()).unwrap() else {
        panic!()
    };
    assert_eq!(
        (
            fault.code.as_str(),
            fault.subcode.as_str(),
            fault.reason.as_str(),
            fault.is_callers()
        ),
        ("Sender", "Full", "no seats", true)
    );
}

#[test]
fn what_an_operation_needs_and_lacks_makes_it_unavailable_with_the_reason() {
    for (from, to, why) in [
        (
            "element='t:In'",
            "element='t:Ni'",
            "no schema declares the element “Ni” of namespace “urn:t” (there is “In”)",
        ),
        (
            "element='t:In'",
            "type='t:Nothing'",
            "no schema declares the type “Nothing” of namespace “urn:t”",
        ),
        (
            "element='t:In'",
            "",
            "the part “p” names neither an element nor a type",
        ),
        (
            "<input message='t:In'/>",
            "<input message='t:Lost'/>",
            "there is no message “t:Lost”",
        ),
    ] {
        let text = wsdl(
            "<x:element name='In' type='x:string'/><x:element name='Out' type='x:string'/>",
            "qualified",
        );
        assert!(text.contains(from), "{from}");
        let definition = read_definition(
            &Files::from([("m".to_owned(), text.replacen(from, to, 1))]),
            "m",
        )
        .unwrap();
        assert_eq!(definition.operations[0].unavailable.as_deref(), Some(why));
    }
}

#[test]
fn the_contract_says_what_the_conversion_does() {
    let more = "<x:simpleType name='K'><x:annotation><x:documentation>A  kind.</x:documentation></x:annotation><x:restriction base='x:string'><x:enumeration value='a'/><x:enumeration value='b'/></x:restriction></x:simpleType>";
    let service = Service::of(
        "<x:sequence><x:element name='k' type='t:K'/><x:element name='n' type='x:unsignedByte' nillable='true' minOccurs='0'/><x:element name='d' type='x:dateTime' minOccurs='0' maxOccurs='3'/><x:element name='b' type='x:hexBinary'><x:annotation><x:documentation>Bytes.</x:documentation></x:annotation></x:element></x:sequence>",
        more,
    );
    let mut schemas = JsonSchemas::new(&service.plan);
    let reference = schemas.of(service.definition.operations[0]
        .input
        .as_ref()
        .unwrap()
        .type_id);
    assert_eq!(reference, json!({"$ref": "#/components/schemas/M"}));
    assert_eq!(
        schemas.schemas["M"],
        json!({
            "type": "object",
            "properties": {
                "k": {"type": "string", "enum": ["a", "b"]},
                "n": {"type": ["integer", "null"], "minimum": 0, "maximum": 255},
                "d": {"type": "array", "items": {"type": "string", "description": "A date and time (2027-05-14T08:30:00Z), as XML Schema has it.", "x-xsd-type": "date and time", "examples": ["2027-05-14T08:30:00Z"]}, "maxItems": 3},
                "b": {"type": "string", "contentEncoding": "base64", "description": "Bytes."}
            },
            "required": ["k", "b"],
            "additionalProperties": false
        })
    );
}
