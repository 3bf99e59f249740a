//! Bindings, ports, imports and namespaces that are not as the book has them.

use super::*;

#[test]
fn prefixes_say_nothing_soap_is_bound_to_the_namespace_of_1_2() {
    let wsdl = Wsdl::new().text().replace(
        "xmlns:s='http://schemas.xmlsoap.org/wsdl/soap/'",
        "xmlns:s='http://schemas.xmlsoap.org/wsdl/soap12/'",
    );
    let read = Read::of(
        Files::from([("services_WSDL".to_owned(), wsdl)]),
        "services_WSDL",
    );
    assert_eq!(read.definition.operations[0].version, SoapVersion::V12);
    assert!(
        read.envelope(&json!({}))
            .unwrap()
            .contains("http://www.w3.org/2003/05/soap-envelope")
    );
}

#[test]
fn one_binding_at_several_addresses_is_one_api() {
    let mut wsdl = Wsdl::new();
    wsdl.services = "<service name='S'><port name='Live' binding='t:B'><s:address location='http://live.example/s'/></port><port name='Test' binding='t:B'><s:address location='http://test.example/s'/></port></service>".into();
    let read = wsdl.read();
    assert_eq!(read.names(), ["Do"]);
    assert_eq!(
        read.definition
            .ports
            .iter()
            .map(|p| (p.name.as_str(), p.address.as_str()))
            .collect::<Vec<_>>(),
        [
            ("Live", "http://live.example/s"),
            ("Test", "http://test.example/s")
        ]
    );
}

#[test]
fn eight_services_over_one_binding_are_not_eight_copies() {
    let mut wsdl = Wsdl::new();
    wsdl.services = (1..=8).map(|i| format!("<service name='S{i}'><port name='P{i}' binding='t:B'><s:address location='http://h{i}.example/'/></port></service>")).collect();
    let read = wsdl.read();
    assert_eq!((read.names(), read.definition.ports.len()), (vec!["Do"], 8));
}

#[test]
fn one_operation_on_soap_1_1_soap_1_2_and_http_is_offered_once() {
    let mut wsdl = Wsdl::new();
    let twelve = wsdl
        .binding
        .replace("name='B'", "name='B12'")
        .replace("<s:", "<s12:");
    let http = "<binding name='BH' type='t:P'><h:binding verb='GET'/><operation name='Do'><h:operation location='/do'/><input><h:urlEncoded/></input><output/></operation></binding>";
    wsdl.binding = format!("{http}{twelve}{}", wsdl.binding);
    wsdl.services = "<service name='S'><port name='H' binding='t:BH'><h:address location='http://h.example/'/></port><port name='P11' binding='t:B'><s:address location='http://h.example/11'/></port><port name='P12' binding='t:B12'><s12:address location='http://h.example/12'/></port></service>".into();
    let read = wsdl.read();
    assert_eq!(
        (read.names(), read.definition.operations[0].version),
        (vec!["Do"], SoapVersion::V11)
    );
    assert!(
        read.findings()
            .contains("“BH” is an HTTP binding, and is passed by with its operations: Do")
    );
    // A port that is named comes first.
    let files = Files::from([("m".to_owned(), wsdl.text())]);
    let chosen = read_port(&files, "m", Some("P12")).unwrap();
    assert_eq!(
        (chosen.operations.len(), chosen.operations[0].version),
        (1, SoapVersion::V12)
    );
    let error = read_port(&files, "m", Some("P13")).unwrap_err();
    assert_eq!(
        (error.message.as_str(), error.help.as_str()),
        ("the definition has no port “P13”", "did you mean “P11”?")
    );
}

#[test]
fn bindings_without_a_service_and_port_types_without_a_binding() {
    let mut wsdl = Wsdl::new();
    wsdl.services = String::new();
    wsdl.port_type +=
        "<portType name='Idle'><operation name='X'><input message='t:In'/></operation></portType>";
    let read = wsdl.read();
    assert_eq!((read.names(), read.definition.ports.len()), (vec!["Do"], 0));
    assert!(
        read.findings()
            .contains("no binding says how the port type “Idle” is called")
    );
    assert_eq!(
        read.body(&json!({"a": "1"})),
        "<n1:In><n1:a>1</n1:a></n1:In>"
    );
}

#[test]
fn a_document_that_imports_itself_and_imports_that_drag_in_other_services() {
    let mut main = Wsdl::new();
    main.more = "<import namespace='urn:t' location='m'/><import namespace='urn:o' location='wsdl/other'/><import namespace='urn:lost' location='lost.wsdl'/>".into();
    let mut other = Wsdl::new();
    other.services = "<service name='Other'><port name='O' binding='t:B'><s:address location='http://other.example/'/></port></service>".into();
    let other = other.text().replace("urn:t'", "urn:o'");
    let read = Read::of(
        Files::from([
            ("m".to_owned(), main.text()),
            ("wsdl/other".to_owned(), other),
        ]),
        "m",
    );
    assert_eq!(
        read.definition
            .ports
            .iter()
            .map(|p| p.name.as_str())
            .collect::<Vec<_>>(),
        ["Live"]
    );
    assert_eq!(read.names()[0], "Do");
    assert!(
        read.findings()
            .contains("“lost.wsdl” (import) is not among the files given")
    );
}

#[test]
fn schemas_and_bindings_arrive_through_wsdl_import() {
    let whole = Wsdl::new();
    let head = |body: &str| {
        format!(
            "<definitions targetNamespace='urn:t' xmlns='http://schemas.xmlsoap.org/wsdl/' xmlns:s='http://schemas.xmlsoap.org/wsdl/soap/' xmlns:x='http://www.w3.org/2001/XMLSchema' xmlns:t='urn:t'>{body}</definitions>"
        )
    };
    let files = Files::from([
        (
            "service".to_owned(),
            head(&format!(
                "<import namespace='urn:t' location='parts/binding.xml'/>{}",
                whole.services
            )),
        ),
        (
            "parts/binding.xml".to_owned(),
            head(&format!(
                "<import namespace='urn:t' location='types_WSDL'/>{}",
                whole.binding
            )),
        ),
        (
            "parts/types_WSDL".to_owned(),
            head(&format!(
                "<import namespace='urn:t' location='../schema'/>{}{}",
                whole.messages, whole.port_type
            )),
        ),
        (
            "schema".to_owned(),
            whole.schema.replace(
                "<x:schema",
                "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' xmlns:t='urn:t'",
            ),
        ),
        ("unrelated.xml".to_owned(), "<broken".to_owned()),
    ]);
    let read = Read::of(files.clone(), "service");
    assert_eq!(
        (
            read.findings().as_str(),
            read.body(&json!({"a": "1"})).as_str()
        ),
        ("", "<n1:In><n1:a>1</n1:a></n1:In>")
    );
    // The same under plain names, which refer to one another.
    let (local, main) =
        localise::localise(&files, "service", &read.definition.used, "sailings.wsdl");
    assert_eq!(
        (
            main.as_str(),
            local.keys().map(String::as_str).collect::<Vec<_>>()
        ),
        (
            "sailings.wsdl",
            vec![
                "binding.xml.wsdl",
                "sailings.wsdl",
                "schema.xsd",
                "types_WSDL.wsdl"
            ]
        )
    );
    assert_eq!(
        Read::of(local, &main).body(&json!({"a": "1"})),
        "<n1:In><n1:a>1</n1:a></n1:In>"
    );
}

#[test]
fn binding_without_style_and_style_only_on_the_operation() {
    let mut wsdl = Wsdl::new();
    assert_eq!(
        wsdl.read().definition.operations[0].style,
        "document/literal"
    );
    wsdl.binding = wsdl
        .binding
        .replace("soapAction='urn:do'", "soapAction='urn:do' style='rpc'");
    wsdl.messages = "<message name='In'><part name='p' type='x:int'/></message><message name='Out'><part name='p' type='x:int'/></message>".into();
    let read = wsdl.read();
    assert_eq!(read.definition.operations[0].style, "rpc/literal");
    assert_eq!(read.body(&json!({"p": 5})), "<Do><p>5</p></Do>");
}

#[test]
fn unknown_use_and_unknown_style_go_on_with_a_finding_that_has_a_place() {
    let mut wsdl = Wsdl::new();
    wsdl.binding = wsdl
        .binding
        .replacen("use='literal'", "use='litteral'", 1)
        .replace("soapAction='urn:do'", "soapAction='urn:do' style='docment'");
    let read = wsdl.read();
    assert_eq!(
        read.body(&json!({"a": "1"})),
        "<n1:In><n1:a>1</n1:a></n1:In>"
    );
    assert!(
        read.findings()
            .contains("m:2 “litteral” is no use; literal is taken")
            && read.findings().contains("“docment” is no style"),
        "{}",
        read.findings()
    );
}

#[test]
fn document_encoded_marks_its_elements() {
    let mut wsdl = Wsdl::new();
    wsdl.binding = wsdl.binding.replace(
        "use='literal'",
        "use='encoded' encodingStyle='http://schemas.xmlsoap.org/soap/encoding/'",
    );
    let read = wsdl.read();
    assert_eq!(read.definition.operations[0].style, "document/encoded");
    assert_eq!(
        read.body(&json!({"a": "1"})),
        "<n1:In xsi:type=\"n1:M\"><n1:a xsi:type=\"n2:string\">1</n1:a></n1:In>"
    );
}

#[test]
fn the_schema_namespace_of_1999() {
    let wsdl = Wsdl::new().schema("<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='t' type='x:timeInstant'/><x:element name='n' type='x:int' minOccurs='0' maxOccurs='*'/></x:sequence></x:complexType>", "elementFormDefault='qualified'");
    let text = wsdl.text().replace(
        "http://www.w3.org/2001/XMLSchema",
        "http://www.w3.org/1999/XMLSchema",
    );
    let read = Read::of(Files::from([("m".to_owned(), text)]), "m");
    assert_eq!(
        read.body(&json!({"t": "2027-05-14T08:30:00Z", "n": [1]})),
        "<n1:In><n1:t>2027-05-14T08:30:00Z</n1:t><n1:n>1</n1:n></n1:In>"
    );
    let (json, _) = read.json("<t:Out xmlns:i='http://www.w3.org/1999/XMLSchema-instance'><t:t i:null='1'/><t:n>1</t:n></t:Out>");
    assert_eq!(json, r#"{"t":null,"n":[1]}"#);
}

#[test]
fn missing_prefixes_in_references_are_forgiven_and_reported() {
    let mut wsdl = Wsdl::new().schema(
        "<x:element name='In' type='M'/><x:element name='Out' type='M'/><x:complexType name='M'><x:sequence><x:element name='a' type='string' minOccurs='0'/></x:sequence></x:complexType>",
        "elementFormDefault='qualified'",
    );
    wsdl.messages = wsdl.messages.replace("t:In", "In").replace("t:Out", "Out");
    wsdl.port_type = wsdl.port_type.replace("t:", "");
    wsdl.binding = wsdl.binding.replace("type='t:P'", "type='P'");
    wsdl.services = wsdl.services.replace("t:B", "nowhere:B");
    let read = wsdl.read();
    assert_eq!(
        read.body(&json!({"a": "1"})),
        "<n1:In><n1:a>1</n1:a></n1:In>"
    );
    for what in [
        "“M” has no prefix that leads to it",
        "“string” has no prefix",
        "“In” has no prefix",
        "“P” has no prefix",
        "“nowhere:B” has no prefix",
    ] {
        assert!(
            read.findings().contains(what),
            "{what}: {}",
            read.findings()
        );
    }
}

#[test]
fn a_schema_without_a_namespace_is_imported_not_adopted() {
    let content = "<x:import schemaLocation='plain.xsd'/><x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='Shared'><x:sequence><x:element name='wrong' type='x:int'/></x:sequence></x:complexType><x:complexType name='M'><x:sequence><x:element name='s' xmlns='' type='Shared'/></x:sequence></x:complexType>";
    let plain = "<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema'><x:complexType name='Shared'><x:sequence><x:element name='right' type='x:int'/></x:sequence></x:complexType></x:schema>";
    let text = Wsdl::new()
        .schema(content, "elementFormDefault='qualified'")
        .text();
    let read = Read::of(
        Files::from([
            ("m".to_owned(), text),
            ("plain.xsd".to_owned(), plain.to_owned()),
        ]),
        "m",
    );
    assert_eq!(
        read.body(&json!({"s": {"right": 1}})),
        "<n1:In><n1:s><right>1</right></n1:s></n1:In>"
    );
}

#[test]
fn elements_without_a_type_hold_anything() {
    let read = Wsdl::new()
        .schema("<x:element name='In'/><x:element name='Out'/>", "")
        .read();
    assert_eq!(
        read.body(&json!({"k": ["1", "2"]})),
        "<n1:In><k>1</k><k>2</k></n1:In>"
    );
    assert_eq!(
        read.json("<t:Out><k>1</k><k>2</k></t:Out>").0,
        r#"{"k":["1","2"]}"#
    );
}

#[test]
fn soap_encoding_and_xml_schemas_without_a_location_are_built_in() {
    let content = format!(
        "<x:import namespace='http://schemas.xmlsoap.org/soap/encoding/'/><x:import namespace='http://www.w3.org/XML/1998/namespace' schemaLocation='http://nowhere.example/xml.xsd'/>{}",
        ELEMENTS.replace("x:string", "enc:string")
    );
    let read = Wsdl::new()
        .schema(&content, "elementFormDefault='qualified'")
        .read();
    assert_eq!(
        (
            read.findings().as_str(),
            read.body(&json!({"a": "1"})).as_str()
        ),
        ("", "<n1:In><n1:a>1</n1:a></n1:In>")
    );
}

#[test]
fn an_imported_schema_with_a_doctype_and_entities_is_readable() {
    let content = "<x:import namespace='urn:o' schemaLocation='o.xsd'/><x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element xmlns:o='urn:o' ref='o:E'/></x:sequence></x:complexType>";
    let schema = "<?xml version='1.0'?>\n<!DOCTYPE schema PUBLIC '-//Nobody//DTD 1//EN' 'http://nowhere.example/x.dtd' [\n <!ENTITY kind 'x:int'> <!ENTITY % p ''> <!-- > --> <!ATTLIST x:schema id CDATA #IMPLIED>\n]>\n<x:schema xmlns:x='http://www.w3.org/2001/XMLSchema' targetNamespace='urn:o'><x:element name='E' type='&kind;'/></x:schema>";
    let files = |schema: &str| {
        Files::from([
            ("m".to_owned(), Wsdl::new().schema(content, "").text()),
            ("o.xsd".to_owned(), schema.to_owned()),
        ])
    };
    let read = Read::of(files(schema), "m");
    assert_eq!(
        (
            read.findings().as_str(),
            read.body(&json!({"E": 5})).as_str()
        ),
        ("", "<n1:In><n2:E>5</n2:E></n1:In>")
    );
    // Nothing external is fetched, and expansion is capped.
    for bomb in [
        "<!DOCTYPE s [<!ENTITY a SYSTEM 'file:///etc/passwd'>]><s>&a;</s>".to_owned(),
        format!(
            "<!DOCTYPE s [<!ENTITY e0 'lol'>{}]><s>&e30;</s>",
            (1..=30)
                .map(|i| format!("<!ENTITY e{i} '&e{0};&e{0};&e{0};&e{0};'>", i - 1))
                .collect::<String>()
        ),
    ] {
        let read = Read::of(files(&bomb), "m");
        assert!(read.findings().contains("o.xsd:"), "{}", read.findings());
        assert!(read.definition.operations[0].unavailable.is_some());
    }
}

#[test]
fn what_is_declared_twice_and_differently_is_told_and_copies_are_not() {
    let mut wsdl = Wsdl::new();
    let again = |kind: &str| {
        format!(
            "<x:schema targetNamespace='urn:t'><x:simpleType name='Knot'><x:restriction base='x:{kind}'/></x:simpleType></x:schema>"
        )
    };
    wsdl.schema = format!("{}{}{}", wsdl.schema, again("int"), again("int"));
    assert!(!wsdl.read().findings().contains("declared twice"));
    wsdl.schema = format!("{}{}", wsdl.schema, again("string"));
    let found = wsdl.read().findings();
    let said = "simpleType “Knot” is declared twice in the namespace urn:t, and differently; the first is taken";
    assert_eq!(found.matches(said).count(), 1, "{found}");
}

#[test]
fn operations_without_an_address_are_offered_with_what_to_give() {
    let mut wsdl = Wsdl::new();
    assert!(!wsdl.read().findings().contains("no address"));
    wsdl.services = String::new();
    let read = wsdl.read();
    assert_eq!(read.names(), ["Do"]);
    let told = read
        .definition
        .findings
        .iter()
        .find(|f| f.message.contains("names no address"));
    assert_eq!(told.unwrap().help, "give one with --address");
}
