//! A service of one operation around a schema, to write and read its messages.
#![allow(
    dead_code,
    unreachable_pub,
    reason = "each test file uses what it needs"
)]

mod both;

use std::sync::Arc;

use porch_soap::read::AnswerPlan;
use porch_soap::{Answer, AnswerReader, Definition, Envelope, Files, read_definition};
use serde_json::{Value, json};

/// A WSDL around a schema whose elements `In` and `Out` are the messages of one operation.
pub fn wsdl(schema: &str, form: &str) -> String {
    format!(
        "<definitions name='T' targetNamespace='urn:t' xmlns='http://schemas.xmlsoap.org/wsdl/' xmlns:soap='http://schemas.xmlsoap.org/wsdl/soap/' xmlns:x='http://www.w3.org/2001/XMLSchema' xmlns:t='urn:t'>
         <types><x:schema targetNamespace='urn:t' elementFormDefault='{form}'>{schema}</x:schema></types>
         <message name='In'><part name='p' element='t:In'/></message><message name='Out'><part name='p' element='t:Out'/></message>
         <portType name='P'><operation name='Do'><input message='t:In'/><output message='t:Out'/></operation></portType>
         <binding name='B' type='t:P'><soap:binding transport='http://schemas.xmlsoap.org/soap/http'/>
         <operation name='Do'><soap:operation soapAction='do'/><input><soap:body use='literal'/></input><output><soap:body use='literal'/></output></operation></binding>
         <service name='S'><port name='P' binding='t:B'><soap:address location='http://127.0.0.1/'/></port></service></definitions>"
    )
}

pub struct Service {
    pub definition: Definition,
    pub plan: Arc<porch_soap::Plan>,
}

impl Service {
    /// Both messages are of one type, so that what is written can be read again.
    pub fn of(content: &str, more: &str) -> Self {
        Self::with_form(content, more, "qualified")
    }

    pub fn with_form(content: &str, more: &str, form: &str) -> Self {
        let schema = format!(
            "<x:complexType name='M'>{content}</x:complexType><x:element name='In' type='t:M'/><x:element name='Out' type='t:M'/>{more}"
        );
        Self::read(&Files::from([("m".to_owned(), wsdl(&schema, form))]))
    }

    pub fn read(files: &Files) -> Self {
        let mut definition = read_definition(files, "m").unwrap();
        let plan = Arc::new(std::mem::take(&mut definition.plan));
        Self { definition, plan }
    }

    pub fn write(&self, value: &Value) -> Result<String, Vec<String>> {
        let operation = &self.definition.operations[0];
        assert_eq!(operation.unavailable, None);
        let envelope = Envelope::new(self.plan.clone(), operation, &json!({})).unwrap();
        let written = match both::written(&envelope, value.to_string().as_bytes()) {
            // A value can be nested deeper than a text may be.
            Err(none) if none.is_empty() => {
                let mut out = Vec::new();
                let written = envelope.write(value, &mut out);
                written.map(|()| String::from_utf8(out).unwrap())
            }
            other => other,
        };
        let text = written.map_err(|e| {
            e.into_iter()
                .map(|e| format!("{} {}", e.pointer, e.message))
                .collect::<Vec<_>>()
        })?;
        let body = text
            .split("<soap:Body>")
            .nth(1)
            .unwrap()
            .split("</soap:Body>")
            .next()
            .unwrap();
        Ok(body.to_owned())
    }

    pub fn read_body(&self, body: &str) -> Result<(String, Vec<String>), String> {
        let operation = &self.definition.operations[0];
        let mut reader = AnswerReader::new(Arc::new(AnswerPlan::of(self.plan.clone(), operation)));
        let xml = format!(
            "<s:Envelope xmlns:s='http://schemas.xmlsoap.org/soap/envelope/' xmlns:i='http://www.w3.org/2001/XMLSchema-instance' xmlns='urn:t' xmlns:n='urn:t'><s:Body>{body}</s:Body></s:Envelope>"
        );
        let mut out = Vec::new();
        reader
            .feed(xml.as_bytes(), &mut out)
            .map_err(|e| e.to_string())?;
        match reader.finish(&mut out).map_err(|e| e.to_string())? {
            Answer::Body => Ok((String::from_utf8(out).unwrap(), reader.notes)),
            other => Err(format!("{other:?}")),
        }
    }

    /// What is written, read again as the answer.
    pub fn round_trip(&self, value: &Value) -> Value {
        let xml = self
            .write(value)
            .unwrap()
            .replace("n1:In", "n1:Out")
            .replacen(
                "<n1:Out",
                "<n1:Out xmlns:n1='urn:t' xmlns:xsi='http://www.w3.org/2001/XMLSchema-instance'",
                1,
            );
        let (json, notes) = self
            .read_body(&xml)
            .unwrap_or_else(|e| panic!("{xml}: {e}"));
        assert_eq!(notes, Vec::<String>::new(), "{xml}");
        serde_json::from_str(&json).unwrap()
    }

    pub fn losses(&self) -> &[String] {
        &self.definition.operations[0].losses
    }
}
