//! What real definitions and servers do, each with a fixture named for it.

use std::collections::HashMap;
use std::sync::Arc;

use porch_soap::read::AnswerPlan;
use porch_soap::{
    Answer, AnswerError, AnswerReader, Definition, Envelope, Files, Plan, SoapVersion, encoded,
    localise, read_definition, read_port,
};
use serde_json::{Value, json};

/// A definition, put together from its parts.
#[derive(Clone)]
struct Wsdl {
    schema: String,
    messages: String,
    port_type: String,
    binding: String,
    services: String,
    more: String,
}

const ELEMENTS: &str = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='a' type='x:string' minOccurs='0'/></x:sequence></x:complexType>";
const BOUND: &str = "<operation name='Do'><s:operation soapAction='urn:do'/><input><s:body use='literal'/></input><output><s:body use='literal'/></output></operation>";

impl Wsdl {
    fn new() -> Self {
        Self {
            schema: format!("<x:schema targetNamespace='urn:t' elementFormDefault='qualified'>{ELEMENTS}</x:schema>"),
            messages: "<message name='In'><part name='p' element='t:In'/></message><message name='Out'><part name='p' element='t:Out'/></message>".into(),
            port_type: "<portType name='P'><operation name='Do'><input message='t:In'/><output message='t:Out'/></operation></portType>".into(),
            binding: format!("<binding name='B' type='t:P'><s:binding transport='http://schemas.xmlsoap.org/soap/http'/>{BOUND}</binding>"),
            services: "<service name='S'><port name='Live' binding='t:B'><s:address location='http://live.example/s'/></port></service>".into(),
            more: String::new(),
        }
    }

    fn schema(mut self, content: &str, attributes: &str) -> Self {
        self.schema =
            format!("<x:schema targetNamespace='urn:t' {attributes}>{content}</x:schema>");
        self
    }

    fn rpc(mut self, usage: &str, input: &str, output: &str) -> Self {
        let encoding = if usage == "encoded" {
            "encodingStyle='http://schemas.xmlsoap.org/soap/encoding/'"
        } else {
            ""
        };
        self.messages =
            format!("<message name='In'>{input}</message><message name='Out'>{output}</message>");
        self.binding = format!(
            "<binding name='B' type='t:P'><s:binding style='rpc' transport='http://schemas.xmlsoap.org/soap/http'/><operation name='Do'><s:operation soapAction=''/><input><s:body use='{usage}' namespace='urn:rpc' {encoding}/></input><output><s:body use='{usage}' namespace='urn:rpc' {encoding}/></output></operation></binding>"
        );
        self
    }

    fn text(&self) -> String {
        format!(
            "<definitions name='D' targetNamespace='urn:t' xmlns='http://schemas.xmlsoap.org/wsdl/' xmlns:s='http://schemas.xmlsoap.org/wsdl/soap/' xmlns:s12='http://schemas.xmlsoap.org/wsdl/soap12/' xmlns:h='http://schemas.xmlsoap.org/wsdl/http/' xmlns:x='http://www.w3.org/2001/XMLSchema' xmlns:t='urn:t' xmlns:enc='http://schemas.xmlsoap.org/soap/encoding/' xmlns:w='http://schemas.xmlsoap.org/wsdl/'>
             {}<types>{}</types>{}{}{}{}</definitions>",
            self.more, self.schema, self.messages, self.port_type, self.binding, self.services
        )
    }

    fn read(&self) -> Read {
        Read::of(Files::from([("m".to_owned(), self.text())]), "m")
    }
}

struct Read {
    definition: Definition,
    plan: Arc<Plan>,
}

impl Read {
    fn of(files: Files, main: &str) -> Self {
        let mut definition = read_definition(&files, main).unwrap();
        let plan = Arc::new(std::mem::take(&mut definition.plan));
        Self { definition, plan }
    }

    fn names(&self) -> Vec<&str> {
        self.definition
            .operations
            .iter()
            .map(|o| o.name.as_str())
            .collect()
    }

    fn findings(&self) -> String {
        self.definition
            .findings
            .iter()
            .map(|f| format!("{}:{} {}\n", f.file, f.line, f.message))
            .collect()
    }

    fn envelope(&self, value: &Value) -> Result<String, Vec<String>> {
        let operation = &self.definition.operations[0];
        assert_eq!(operation.unavailable, None, "{}", self.findings());
        let mut out = Vec::new();
        let envelope = Envelope::new(self.plan.clone(), operation, &json!({})).unwrap();
        envelope.write(value, &mut out).map_err(|e| {
            e.into_iter()
                .map(|e| format!("{} {}", e.pointer, e.message))
                .collect::<Vec<_>>()
        })?;
        Ok(String::from_utf8(out).unwrap())
    }

    fn body(&self, value: &Value) -> String {
        let text = self.envelope(value).unwrap();
        text.split("<soap:Body>")
            .nth(1)
            .unwrap()
            .split("</soap:Body>")
            .next()
            .unwrap()
            .to_owned()
    }

    fn reader(&self) -> AnswerReader {
        AnswerReader::new(Arc::new(AnswerPlan::of(
            self.plan.clone(),
            &self.definition.operations[0],
        )))
    }

    fn answer(&self, xml: &[u8]) -> Result<(Answer, String, Vec<String>), AnswerError> {
        let mut reader = self.reader();
        let mut out = Vec::new();
        reader.feed(xml, &mut out)?;
        let answer = reader.finish(&mut out)?;
        Ok((answer, String::from_utf8(out).unwrap(), reader.notes))
    }

    fn json(&self, body: &str) -> (String, Vec<String>) {
        let (answer, json, notes) = self.answer(enveloped(body).as_bytes()).unwrap();
        assert_eq!(answer, Answer::Body);
        (json, notes)
    }
}

fn enveloped(body: &str) -> String {
    format!(
        "<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/' xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance' xmlns:xsd='http://www.w3.org/2001/XMLSchema' xmlns:t='urn:t' xmlns:enc='http://schemas.xmlsoap.org/soap/encoding/'><s:Body>{body}</s:Body></s:Envelope>"
    )
}

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
            .contains("“BH” is an HTTP binding, and is passed by")
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
    assert_eq!(read.body(&json!({"p": 5})), "<n2:Do><p>5</p></n2:Do>");
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
fn qualified_unqualified_and_absent_form_in_one_message() {
    let schemas = "<x:schema targetNamespace='urn:t'><x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='plain' type='x:int'/><x:element xmlns:q='urn:q' name='q' type='q:Q'/><x:element name='own' type='x:int' form='qualified'/></x:sequence></x:complexType></x:schema>
                   <x:schema targetNamespace='urn:q' elementFormDefault='qualified'><x:complexType name='Q'><x:sequence><x:element name='inner' type='x:int'/></x:sequence></x:complexType></x:schema>";
    let mut wsdl = Wsdl::new();
    wsdl.schema = schemas.into();
    let read = wsdl.read();
    let value = json!({"plain": 1, "q": {"inner": 2}, "own": 3});
    assert!(
        read.body(&value)
            .starts_with("<n1:In><plain>1</plain><q><n"),
        "{}",
        read.body(&value)
    );
    assert_eq!(read.json("<t:Out><plain>1</plain><q><i:inner xmlns:i='urn:q'>2</i:inner></q><t:own>3</t:own></t:Out>"), (value.to_string(), vec![]));
    // A server that qualifies what it should not, and the reverse.
    let (json, notes) = read.json(
        "<Out xmlns='urn:t'><plain>1</plain><q><inner>2</inner></q><own xmlns=''>3</own></Out>",
    );
    assert_eq!((json, notes.len()), (value.to_string(), 4), "{notes:?}");
}

#[test]
fn header_and_body_as_parts_of_one_message_and_several_headers() {
    let mut wsdl = Wsdl::new().schema(&format!("{ELEMENTS}<x:element name='Login' type='x:string'/><x:element name='Lang' type='x:string'/>"), "elementFormDefault='qualified'");
    wsdl.messages = "<message name='In'><part name='h' element='t:Login'/><part name='p' element='t:In'/></message><message name='Out'><part name='p' element='t:Out'/><part name='l' element='t:Lang'/></message><message name='H'><part name='l' element='t:Lang'/></message>".into();
    wsdl.binding = wsdl
        .binding
        .replacen("<s:body use='literal'/>", "<s:header message='t:In' part='h' use='literal'/><s:header message='t:H' part='l' use='literal'/><s:body use='literal' parts='p'/>", 1)
        .replace("<output><s:body use='literal'/>", "<output><s:body use='literal'/><s:header message='t:Out' part='l' use='literal'/>");
    let read = wsdl.read();
    let operation = &read.definition.operations[0];
    assert_eq!(
        operation
            .headers
            .iter()
            .map(|h| h.json.as_str())
            .collect::<Vec<_>>(),
        ["Login", "Lang"]
    );
    let envelope = Envelope::new(read.plan.clone(), operation, &json!({"Login": "porch"})).unwrap();
    let mut out = Vec::new();
    envelope
        .write_with(
            &porch_soap::tree::Json::of(&json!({"a": "1"})),
            Some(&json!({"Lang": "en"})),
            b"<x/>",
            &mut out,
        )
        .unwrap();
    let text = String::from_utf8(out).unwrap();
    assert!(text.contains("<soap:Header><x/><n1:Login>porch</n1:Login><n1:Lang>en</n1:Lang></soap:Header><soap:Body><n1:In>"), "{text}");
    // What the answer's header says is kept beside its body.
    let mut reader = read.reader();
    let mut out = Vec::new();
    reader
        .feed(
            enveloped("<t:Out/>")
                .replace(
                    "<s:Body>",
                    "<s:Header><t:Lang>de</t:Lang><t:Unknown/></s:Header><s:Body>",
                )
                .as_bytes(),
            &mut out,
        )
        .unwrap();
    reader.finish(&mut out).unwrap();
    assert_eq!(
        (out, reader.headers()),
        (b"{}".to_vec(), Some(br#"{"Lang":"de"}"#.to_vec()))
    );
}

#[test]
fn several_input_and_output_parts_are_an_object() {
    let mut wsdl = Wsdl::new().schema(
        &format!("{ELEMENTS}<x:element name='Second' type='x:int'/>"),
        "elementFormDefault='qualified'",
    );
    wsdl.messages = "<message name='In'><part name='p' element='t:In'/><part name='q' element='t:Second'/></message><message name='Out'><part name='p' element='t:Out'/><part name='q' element='t:Second'/></message>".into();
    let read = wsdl.read();
    assert_eq!(
        read.body(&json!({"In": {"a": "1"}, "Second": 2})),
        "<n1:In><n1:a>1</n1:a></n1:In><n1:Second>2</n1:Second>"
    );
    assert_eq!(
        read.json("<t:Out><t:a>1</t:a></t:Out><t:Second>2</t:Second>"),
        (r#"{"Out":{"a":"1"},"Second":2}"#.into(), vec![])
    );
    let rpc = Wsdl::new()
        .rpc(
            "literal",
            "<part name='x' type='x:int'/><part name='y' type='t:M'/>",
            "<part name='sum' type='x:int'/><part name='rest' type='t:M'/>",
        )
        .read();
    assert_eq!(
        rpc.body(&json!({"x": 1, "y": {"a": "b"}})),
        "<n3:Do><x>1</x><y><n2:a>b</n2:a></y></n3:Do>"
    );
    assert_eq!(
        rpc.json(
            "<r:DoResponse xmlns:r='urn:rpc'><sum>3</sum><rest><t:a>b</t:a></rest></r:DoResponse>"
        ),
        (r#"{"sum":3,"rest":{"a":"b"}}"#.into(), vec![])
    );
    // The answer's element may be called anything (SOAP 1.1 §7.1).
    assert_eq!(
        rpc.json("<r:Result xmlns:r='urn:rpc'><sum>3</sum><rest/></r:Result>")
            .0,
        r#"{"sum":3,"rest":{}}"#
    );
}

#[test]
fn empty_inputs_and_outputs() {
    let mut wsdl = Wsdl::new();
    wsdl.messages = "<message name='In'/><message name='Out'/>".into();
    let read = wsdl.read();
    assert_eq!(read.body(&json!({})), "");
    let operation = &read.definition.operations[0];
    assert!(operation.output.is_none() && !operation.one_way);
    assert_eq!(
        read.answer(enveloped("").as_bytes()).unwrap().0,
        Answer::Empty
    );
    let rpc = Wsdl::new().rpc("literal", "", "").read();
    assert_eq!(rpc.body(&json!({})), "<n1:Do></n1:Do>");
    assert_eq!(rpc.json("<r:DoResponse xmlns:r='urn:rpc'/>").0, "{}");
}

#[test]
fn output_only_and_one_way_operations() {
    let mut wsdl = Wsdl::new();
    wsdl.port_type =
        "<portType name='P'><operation name='Do'><input message='t:In'/></operation></portType>"
            .into();
    let read = wsdl.read();
    assert!(read.definition.operations[0].one_way);
    // A one-way call answered by 200 and something all the same.
    let (answer, json, notes) = read.answer(enveloped("<t:Out/>").as_bytes()).unwrap();
    assert_eq!((answer, json.as_str(), notes.len()), (Answer::Empty, "", 1));
    wsdl.port_type =
        "<portType name='P'><operation name='Do'><output message='t:Out'/></operation></portType>"
            .into();
    let read = wsdl.read();
    assert_eq!(read.body(&json!({})), "");
    assert!(
        read.findings()
            .contains("Do takes no input: it is called with an empty body")
    );
}

#[test]
fn a_wrapper_with_attributes_and_an_element_called_like_the_operation_with_a_named_type() {
    let content = "<x:element name='Do' type='t:DoType'/><x:element name='Out' type='t:DoType'/><x:complexType name='DoType'><x:sequence><x:element name='item' type='x:int' maxOccurs='unbounded'/></x:sequence><x:attribute name='version' type='x:string' use='required'/></x:complexType>";
    let mut wsdl = Wsdl::new().schema(content, "elementFormDefault='qualified'");
    wsdl.messages = wsdl.messages.replace("t:In'", "t:Do'");
    let read = wsdl.read();
    assert_eq!(
        read.body(&json!({"version": "2", "item": [1]})),
        "<n1:Do version=\"2\"><n1:item>1</n1:item></n1:Do>"
    );
    assert_eq!(
        read.json("<t:Out version='2'><t:item>1</t:item></t:Out>").0,
        r#"{"version":"2","item":[1]}"#
    );
}

#[test]
fn overloaded_operations_are_told_apart() {
    let mut wsdl = Wsdl::new().schema(
        &format!("{ELEMENTS}<x:element name='ById' type='x:int'/>"),
        "",
    );
    wsdl.messages += "<message name='ById'><part name='p' element='t:ById'/></message>";
    wsdl.port_type = "<portType name='P'><operation name='Do'><input name='All' message='t:In'/><output message='t:Out'/></operation><operation name='Do'><input name='One' message='t:ById'/><output message='t:Out'/></operation></portType>".into();
    wsdl.binding = wsdl.binding.replace(
        BOUND,
        &format!(
            "{}{}",
            BOUND.replacen("<input>", "<input name='All'>", 1),
            BOUND.replacen("<input>", "<input name='One'>", 1)
        ),
    );
    let read = wsdl.read();
    assert_eq!(read.names(), ["Do", "Do.One"]);
    let element = |i: usize| {
        read.definition.operations[i]
            .input
            .as_ref()
            .unwrap()
            .element
            .as_ref()
            .unwrap()
            .local
            .clone()
    };
    assert_eq!((element(0), element(1)), ("In".into(), "ById".into()));
}

#[test]
fn a_string_that_holds_a_document_stays_a_string_and_is_escaped_once() {
    let read = Wsdl::new().read();
    let value = json!({"a": "<doc a=\"1\">&amp; ]]></doc>"});
    assert_eq!(
        read.body(&value),
        "<n1:In><n1:a>&lt;doc a=\"1\"&gt;&amp;amp; ]]&gt;&lt;/doc&gt;</n1:a></n1:In>"
    );
    assert_eq!(
        read.json("<t:Out><t:a>&lt;doc a=\"1\"&gt;&amp;amp; ]]&gt;&lt;/doc&gt;</t:a></t:Out>")
            .0,
        value.to_string()
    );
    assert_eq!(
        read.json("<t:Out><t:a><![CDATA[<doc a=\"1\">&amp; ]]]]><![CDATA[></doc>]]></t:a></t:Out>")
            .0,
        value.to_string()
    );
}

#[test]
fn soap_action_empty_or_absent() {
    for (from, to) in [
        ("soapAction='urn:do'", "soapAction=''"),
        ("<s:operation soapAction='urn:do'/>", ""),
    ] {
        let mut wsdl = Wsdl::new();
        wsdl.binding = wsdl.binding.replace(from, to);
        let read = wsdl.read();
        let envelope = Envelope::new(
            read.plan.clone(),
            &read.definition.operations[0],
            &json!({}),
        )
        .unwrap();
        // SOAP 1.1 §6.1.1: the field must be there.
        assert_eq!(envelope.soap_action.as_deref(), Some("\"\""));
    }
}

const ENCODED_TYPES: &str = "<x:complexType name='Leg'><x:sequence><x:element name='from' type='x:string'/><x:element name='next' type='t:Leg' nillable='true'/></x:sequence></x:complexType>
    <x:complexType name='Legs'><x:complexContent><x:restriction base='enc:Array'><x:attribute ref='enc:arrayType' w:arrayType='t:Leg[]'/></x:restriction></x:complexContent></x:complexType>
    <x:complexType name='Names'><x:complexContent><x:restriction base='enc:Array'><x:sequence><x:element name='name' type='x:string' minOccurs='0' maxOccurs='unbounded'/></x:sequence></x:restriction></x:complexContent></x:complexType>
    <x:complexType name='Grid'><x:complexContent><x:restriction base='enc:Array'><x:attribute ref='enc:arrayType' w:arrayType='x:int[][]'/></x:restriction></x:complexContent></x:complexType>";

fn encoded_service() -> Read {
    Wsdl::new()
        .schema(ENCODED_TYPES, "")
        .rpc("encoded", "<part name='n' type='x:int'/><part name='names' type='t:Names'/>", "<part name='legs' type='t:Legs'/><part name='names' type='t:Names'/><part name='grid' type='t:Grid'/>")
        .read()
}

#[test]
fn rpc_encoded_says_the_types_and_sizes() {
    let read = encoded_service();
    assert_eq!(read.definition.operations[0].style, "rpc/encoded");
    let body = read.body(&json!({"n": 5, "names": ["a", "b"]}));
    assert!(
        body.contains("soap:encodingStyle=\"http://schemas.xmlsoap.org/soap/encoding/\""),
        "{body}"
    );
    assert!(
        body.contains(":int\">5</n><names xsi:type=\"enc:Array\" enc:arrayType=\"")
            && body.contains(":string[2]\"><name xsi:type=\""),
        "{body}"
    );
    assert!(body.contains(":string\">a</name><name"), "{body}");
    assert!(
        read.body(&json!({"n": null}))
            .contains("<n xsi:nil=\"true\"/>")
    );
}

#[test]
fn shared_values_as_href_and_id_beside_the_answer() {
    let read = encoded_service();
    let xml = enveloped(
        "<r:DoResponse xmlns:r='urn:rpc' s:encodingStyle='http://schemas.xmlsoap.org/soap/encoding/'><legs href='#id0'/><names xsi:type='enc:Array' enc:arrayType='xsd:string[2]'><item>a</item><item xsi:nil='true'/></names><grid enc:arrayType='xsd:int[][2]'><i enc:arrayType='xsd:int[2]'><i>1</i><i>2</i></i><i/></grid></r:DoResponse>
         <multiRef id='id0' enc:root='0' xsi:type='enc:Array' enc:arrayType='t:Leg[2]'><x href='#id1'/><x href='#id2'/></multiRef>
         <multiRef id='id1' enc:root='0' xsi:type='t:Leg'><from xsi:type='xsd:string'>Farholt</from><next href='#id2'/></multiRef>
         <multiRef id='id2' enc:root='0' xsi:type='ns1:Leg' xmlns:ns1='urn:t'><from href='#id3'/><next xsi:nil='1'/></multiRef>
         <multiRef id='id3'>Maren &amp; Quay</multiRef>",
    );
    let inlined = encoded::inline(&xml).unwrap().unwrap();
    let (answer, json, notes) = read.answer(inlined.as_bytes()).unwrap();
    assert_eq!((answer, notes), (Answer::Body, vec![]), "{inlined}");
    let quay = r#"{"from":"Maren & Quay","next":null}"#;
    assert_eq!(
        json,
        format!(
            r#"{{"legs":[{{"from":"Farholt","next":{quay}}},{quay}],"names":["a",null],"grid":[[1,2],[]]}}"#
        )
    );
    assert_eq!(encoded::inline(&enveloped("<x/>")).unwrap(), None);
    let circle =
        enveloped("<r/><m id='a'><next href='#a'/></m>").replace("<r/>", "<r><x href='#a'/></r>");
    assert!(
        encoded::inline(&circle)
            .unwrap_err()
            .to_string()
            .contains("which refers back to it")
    );
    assert!(
        encoded::inline(&enveloped("<r><x href='#lost'/></r>"))
            .unwrap_err()
            .to_string()
            .contains("which is not there")
    );
    // Sixteen references to sixteen references …: growth is bounded.
    let mut bomb = String::from("<r><x href='#m0'/></r>");
    for i in 0..12 {
        bomb += &format!(
            "<m id='m{i}'>{}</m>",
            format!("<y href='#m{}'/>", i + 1).repeat(16)
        );
    }
    bomb += "<m id='m12'>boom</m>";
    assert!(
        encoded::inline(&enveloped(&bomb))
            .unwrap_err()
            .to_string()
            .contains("larger than")
    );
}

#[test]
fn arrays_with_elements_of_any_name() {
    let read = encoded_service();
    let (json, _) = read.json("<r:DoResponse xmlns:r='urn:rpc'><legs/><names><item>a</item><xsd:string>b</xsd:string></names><grid/></r:DoResponse>");
    assert_eq!(json, r#"{"legs":[],"names":["a","b"],"grid":[]}"#);
}

#[test]
fn faults_in_all_their_forms() {
    let mut wsdl = Wsdl::new().schema(
        &format!("{ELEMENTS}<x:element name='Full' type='t:M'/>"),
        "elementFormDefault='qualified'",
    );
    wsdl.messages += "<message name='F'><part name='f' element='t:Full'/></message>";
    wsdl.port_type = wsdl.port_type.replace(
        "<output message='t:Out'/>",
        "<output message='t:Out'/><fault name='full' message='t:F'/>",
    );
    let read = wsdl.read();
    let fault = |body: &str| match read.answer(enveloped(body).as_bytes()).unwrap() {
        (Answer::Fault(fault), json, notes) => (fault, json, notes),
        other => panic!("{other:?}"),
    };
    let (found, json, _) = fault(
        "<s:Fault><faultcode>s:Client.Seats</faultcode><faultstring>no seats</faultstring><detail><t:Full><t:a>3</t:a></t:Full></detail></s:Fault>",
    );
    assert_eq!(
        (
            found.code.as_str(),
            found.reason.as_str(),
            found.detail.as_deref(),
            json.as_str(),
            found.is_callers()
        ),
        (
            "Client.Seats",
            "no seats",
            Some("Full"),
            r#"{"a":"3"}"#,
            true
        )
    );
    // One shaped like SOAP 1.2 in an envelope of 1.1, with several languages.
    let (found, ..) = fault(
        "<s:Fault><s:Code><s:Value>s:Receiver</s:Value><s:Subcode><s:Value>t:Closed</s:Value></s:Subcode></s:Code><s:Reason><s:Text xml:lang='de'>zu</s:Text><s:Text xml:lang='en-GB'>closed</s:Text></s:Reason></s:Fault>",
    );
    assert_eq!(
        (
            found.code.as_str(),
            found.subcode.as_str(),
            found.reason.as_str()
        ),
        ("Receiver", "Closed", "closed")
    );
    assert_eq!(
        found.reasons,
        [
            ("de".to_owned(), "zu".to_owned()),
            ("en-GB".to_owned(), "closed".to_owned())
        ]
    );
    // Without a namespace.
    let (found, _, notes) =
        fault("<Fault><faultcode>Server</faultcode><faultstring>gone</faultstring></Fault>");
    assert_eq!((found.code.as_str(), notes.len()), ("Server", 1));
    // With a detail that nobody declared.
    let (found, json, _) = fault(
        "<s:Fault><faultcode>s:Server</faultcode><faultstring>x</faultstring><detail><o:trace xmlns:o='urn:o' at='1'>y</o:trace></detail></s:Fault>",
    );
    assert_eq!(
        (found.detail, json.as_str()),
        (
            None,
            r##"{"o:trace":{"@xmlns:o":"urn:o","@at":"1","#text":"y"}}"##
        )
    );
}

#[test]
fn several_children_of_the_body_and_lists_in_pieces() {
    let content = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='n' type='x:int' minOccurs='0' maxOccurs='unbounded'/><x:element name='k' type='x:string' minOccurs='0'/></x:sequence></x:complexType>";
    let read = Wsdl::new().schema(content, "").read();
    let (json, notes) = read.json("<t:Out><n>1</n></t:Out><t:Out><n>2</n></t:Out>");
    assert_eq!(
        (json.as_str(), notes.as_slice()),
        (
            r#"{"n":[1]}"#,
            &["a further <Out> in the body was passed by".to_owned()][..]
        )
    );
    let apart = enveloped("<t:Out><n>1</n><k>x</k><n>2</n></t:Out>");
    assert!(matches!(
        read.answer(apart.as_bytes()),
        Err(AnswerError::Apart(_))
    ));
    let mut reader = read.reader().gathering();
    let mut out = Vec::new();
    reader.feed(apart.as_bytes(), &mut out).unwrap();
    reader.finish(&mut out).unwrap();
    assert_eq!(String::from_utf8(out).unwrap(), r#"{"n":[1,2],"k":"x"}"#);
}

#[test]
fn undeclared_xsi_is_understood_and_told() {
    let read = Wsdl::new().read();
    let answer = b"<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><s:Body><Out xmlns='urn:t'><a xsi:nil='true'/></Out></s:Body></s:Envelope>";
    let (_, json, notes) = read.answer(answer).unwrap();
    assert_eq!(
        (json.as_str(), notes[0].as_str()),
        (
            r#"{"a":null}"#,
            "the prefix xsi is used without being declared"
        )
    );
}

#[test]
fn line_ends_in_attributes_are_blanks_unless_they_came_as_references() {
    let content = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:attribute name='k' type='x:string'/></x:complexType>";
    let read = Wsdl::new().schema(content, "").read();
    assert_eq!(
        read.json("<t:Out k='a\r\nb\tc&#10;d'/>").0,
        r#"{"k":"a b c\nd"}"#
    );
    let generic =
        porch_soap::generic::to_json("<a k='x\ny'/>", &porch_soap::generic::Mapping::default())
            .unwrap();
    assert_eq!(generic, json!({"a": {"@k": "x y"}}));
}

#[test]
fn answers_in_utf_16_iso_8859_1_and_with_a_bom() {
    let read = Wsdl::new().read();
    let text = enveloped("<t:Out><t:a>Fähre</t:a></t:Out>");
    let expected = r#"{"a":"Fähre"}"#;
    let latin: Vec<u8> = format!("<?xml version='1.0' encoding='ISO-8859-1'?>{text}")
        .chars()
        .map(|c| c as u8)
        .collect();
    let utf16 = |big: bool, bom: bool| -> Vec<u8> {
        let text = format!(
            "{}<?xml version='1.0' encoding='utf-16'?>{text}",
            if bom { "\u{feff}" } else { "" }
        );
        text.encode_utf16()
            .flat_map(|u| {
                if big {
                    u.to_be_bytes()
                } else {
                    u.to_le_bytes()
                }
            })
            .collect()
    };
    let bom = format!("\u{feff}{text}").into_bytes();
    for (name, bytes) in [
        ("latin", latin.clone()),
        ("le", utf16(false, true)),
        ("be", utf16(true, true)),
        ("le bare", utf16(false, false)),
        ("be bare", utf16(true, false)),
        ("bom", bom),
    ] {
        for size in [1, 2, 3, 7, 10_000] {
            let mut reader = read.reader();
            let mut out = Vec::new();
            for piece in bytes.chunks(size) {
                reader
                    .feed(piece, &mut out)
                    .unwrap_or_else(|e| panic!("{name} {size}: {e}"));
            }
            reader.finish(&mut out).unwrap();
            assert_eq!(String::from_utf8(out).unwrap(), expected, "{name} {size}");
        }
    }
    // The media type comes before what the document says.
    let mut out = Vec::new();
    let mut reader = read.reader().charset(Some("iso-8859-1"));
    reader
        .feed(
            &latin[latin.iter().position(|b| *b == b'>').unwrap() + 1..],
            &mut out,
        )
        .unwrap();
    reader.finish(&mut out).unwrap();
    assert_eq!(String::from_utf8(out).unwrap(), expected);
    assert_eq!(
        read.answer(&latin[latin.iter().position(|b| *b == b'>').unwrap() + 1..])
            .unwrap_err(),
        AnswerError::Encoding("UTF-8".into())
    );
}

#[test]
fn attachments_stand_where_they_are_referred_to() {
    let content = "<x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/><x:complexType name='M'><x:sequence><x:element name='label' type='x:base64Binary'/><x:element name='ref' type='x:anyURI' minOccurs='0'/></x:sequence></x:complexType>";
    let read = Wsdl::new().schema(content, "").read();
    let parts = || {
        HashMap::from([
            ("a b@x".to_owned(), vec![0, 255, 1]),
            ("c".to_owned(), vec![10]),
        ])
    };
    let json = |body: &str| {
        let mut reader = read.reader().attachments(parts());
        let mut out = Vec::new();
        reader.feed(enveloped(body).as_bytes(), &mut out).unwrap();
        reader.finish(&mut out).unwrap();
        String::from_utf8(out).unwrap()
    };
    assert_eq!(
        json(
            "<t:Out><label><xop:Include xmlns:xop='http://www.w3.org/2004/08/xop/include' href='cid:a%20b@x'/></label></t:Out>"
        ),
        r#"{"label":"AP8B"}"#
    );
    assert_eq!(
        json("<t:Out><label href='cid:c'/><ref>cid:c</ref></t:Out>"),
        r#"{"label":"Cg==","ref":"Cg=="}"#
    );
}

#[test]
fn comments_and_instructions_in_odd_places() {
    let read = Wsdl::new().read();
    let xml = "<?xml version='1.0'?><!-- a --><?p i?>\n<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/'><!-- b --><s:Body ><?p?><Out xmlns = 'urn:t' ><!----><a >x<!-- c -->y<?q?>z</a ></Out></s:Body></s:Envelope><!-- d -->\n";
    assert_eq!(read.answer(xml.as_bytes()).unwrap().1, r#"{"a":"xyz"}"#);
}

#[test]
fn a_definition_of_a_thousand_operations_is_read_at_once() {
    let mut wsdl = Wsdl::new();
    let (mut content, mut messages, mut operations, mut bound) =
        (String::new(), String::new(), String::new(), String::new());
    for i in 0..1000 {
        let fields: String = (0..6)
            .map(|k| format!("<x:element name='f{k}' type='x:string'/>"))
            .collect();
        content += &format!(
            "<x:complexType name='T{i}'><x:sequence>{fields}<x:element name='next' type='t:T{}' minOccurs='0'/></x:sequence></x:complexType><x:complexType name='R{i}'><x:sequence>{fields}</x:sequence></x:complexType><x:element name='In{i}' type='t:T{i}'/><x:element name='Out{i}' type='t:R{i}'/>",
            (i + 1) % 1000
        );
        messages += &format!(
            "<message name='In{i}'><part name='p' element='t:In{i}'/></message><message name='Out{i}'><part name='p' element='t:Out{i}'/></message>"
        );
        operations += &format!(
            "<operation name='Do{i}'><input message='t:In{i}'/><output message='t:Out{i}'/></operation>"
        );
        bound += &BOUND.replace("name='Do'", &format!("name='Do{i}'"));
    }
    wsdl = wsdl.schema(&content, "elementFormDefault='qualified'");
    wsdl.messages = messages;
    wsdl.port_type = format!("<portType name='P'>{operations}</portType>");
    wsdl.binding = wsdl.binding.replace(BOUND, &bound);
    let read = wsdl.read();
    assert_eq!(read.definition.operations.len(), 1000);
    assert!(
        read.definition
            .operations
            .iter()
            .all(|o| o.unavailable.is_none()),
        "{}",
        read.findings()
    );
}

/// The messages and definitions that mutations begin with.
fn real_bytes(which: usize) -> Vec<u8> {
    let text = match which % 5 {
        0 => enveloped(
            "<r:DoResponse xmlns:r='urn:rpc'><legs href='#i'/><names enc:arrayType='xsd:string[1]'><item>a</item></names><grid/></r:DoResponse><m id='i'><x><from>F</from><next xsi:nil='1'/></x></m>",
        ),
        1 => Wsdl::new().text(),
        2 => Wsdl::new().schema(ENCODED_TYPES, "").rpc("encoded", "<part name='n' type='x:int'/>", "<part name='legs' type='t:Legs'/>").text(),
        3 => "<a k='1' xmlns:p='urn:p'>x<b>&amp;<![CDATA[<]]></b>y<p:c xsi:nil='true' xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'/></a>".into(),
        _ => "--b\r\nContent-ID: <r>\r\n\r\n<a/>\r\n--b\r\nContent-Transfer-Encoding: base64\r\nContent-ID: <p>\r\n\r\nAAAA\r\n--b--\r\n".into(),
    };
    text.into_bytes()
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig { cases: 400, failure_persistence: None, ..Default::default() })]

    /// Real definitions and messages with bytes changed, lost or repeated: a clear answer or an error, never a panic.
    #[test]
    fn mutated_definitions_and_messages_never_panic(which in 0usize..5, changes in proptest::collection::vec((0usize..4000, proptest::collection::vec(proptest::prelude::any::<u8>(), 0..6), 0usize..40), 1..6)) {
        let mut bytes = real_bytes(which);
        for (at, with, len) in changes {
            let at = at % (bytes.len() + 1);
            let to = (at + len).min(bytes.len());
            bytes.splice(at..to, with);
        }
        let text = String::from_utf8_lossy(&bytes).into_owned();
        let _ = read_definition(&Files::from([("m".to_owned(), text.clone())]), "m");
        let _ = localise::references(&text);
        let _ = encoded::inline(&text);
        let _ = porch_soap::generic::to_json(&text, &porch_soap::generic::Mapping::default());
        let _ = porch_soap::decode_document(&bytes, None);
        let _ = porch_soap::related::related("multipart/related; boundary=b; start=\"<r>\"", &bytes);
        let read = encoded_service();
        for gather in [false, true] {
            let mut reader = if gather { read.reader().gathering() } else { read.reader() };
            let mut out = Vec::new();
            if reader.feed(&bytes, &mut out).is_ok() && matches!(reader.finish(&mut out), Ok(Answer::Body)) {
                proptest::prop_assert!(serde_json::from_slice::<Value>(&out).is_ok(), "{}", String::from_utf8_lossy(&out));
            }
        }
    }
}

#[test]
fn hostile_answers_cost_bounded_memory_and_time() {
    let read = Wsdl::new().read();
    let many =
        |piece: &str, times: usize| enveloped(&format!("<t:Out>{}</t:Out>", piece.repeat(times)));
    let attributes: String = (0..300).map(|i| format!(" a{i}=''")).collect();
    let namespaces: String = (0..240).map(|i| format!(" xmlns:p{i}='urn:{i}'")).collect();
    for (what, xml) in [
        (
            "deep nesting",
            format!(
                "{}{}",
                enveloped("").split("</s:Body>").next().unwrap(),
                "<a>".repeat(100_000)
            ),
        ),
        ("attributes", enveloped(&format!("<t:Out{attributes}/>"))),
        (
            "namespaces",
            enveloped(&format!("<a{namespaces}>").repeat(10)),
        ),
        ("a duplicate attribute", enveloped("<t:Out k='1' k='2'/>")),
        ("an unbound prefix", enveloped("<q:Out/>")),
        ("an entity", enveloped("<t:Out><t:a>&lol;</t:a></t:Out>")),
        (
            "a doctype",
            format!("<!DOCTYPE s [<!ENTITY a 'b'>]>{}", enveloped("<t:Out/>")),
        ),
        ("a premature end", enveloped("<t:Out>")),
        ("a name without an end", format!("<{}", "a".repeat(2 << 20))),
    ] {
        assert!(read.answer(xml.as_bytes()).is_err(), "{what}");
    }
    // Much of what nobody asked for is passed by, and told once.
    let (_, json, notes) = read
        .answer(many("<t:x><t:y/></t:x>", 100_000).as_bytes())
        .unwrap();
    assert_eq!((json.as_str(), notes.len()), ("{}", 1));
}
