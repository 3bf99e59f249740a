//! What real definitions and servers do, each with a fixture named for it.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod answers;
#[path = "../common/both.rs"]
mod both;
mod definitions;
mod encoding;
mod hostile;
mod messages;
mod runs;

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
        let envelope = Envelope::new(self.plan.clone(), operation, &json!({})).unwrap();
        both::written(&envelope, value.to_string().as_bytes()).map_err(|e| {
            e.into_iter()
                .map(|e| format!("{} {}", e.pointer, e.message))
                .collect::<Vec<_>>()
        })
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

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig { cases: 400, failure_persistence: None, ..Default::default() })]

    /// Real definitions and messages with bytes changed, lost or repeated: a clear answer or an error, never a panic.
    #[test]
    fn mutated_definitions_and_messages_never_panic(which in 0usize..5, changes in proptest::collection::vec((0usize..4000, proptest::collection::vec(proptest::prelude::any::<u8>(), 0..6), 0usize..40), 1..6)) {
        let mut bytes = hostile::real_bytes(which);
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
        let read = encoding::encoded_service();
        for gather in [false, true] {
            let mut reader = if gather { read.reader().gathering() } else { read.reader() };
            let mut out = Vec::new();
            if reader.feed(&bytes, &mut out).is_ok() && matches!(reader.finish(&mut out), Ok(Answer::Body)) {
                proptest::prop_assert!(serde_json::from_slice::<Value>(&out).is_ok(), "{}", String::from_utf8_lossy(&out));
            }
        }
    }
}
