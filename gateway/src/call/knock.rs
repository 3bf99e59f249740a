//! A protocol that only tests know: what it takes to add one. A kind (in the documents), a protocol, and one line in each
//! of the two tables.
//!
//! Somebody knocks (`POST PATH`, the text `who: NAME`) and is told in lines of `name: value`, which become members.

use std::any::Any;
use std::sync::Arc;

use ::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use bytes::Bytes;
use porch_contract::Finding;
use porch_facade::kind::{Compiled, Kind, standard};
use porch_facade::wiring::{CallCompiler, Shapes, uses};
use porch_facade::{
    BackendDoc, Call, CallRules, CompiledBackend, Definition, Derived, Document, Files, Library,
    Look, Model, OperationDoc, Reply, Secrets, Source, Transport, Wanted, effective,
};
use porch_rules::expr::Template;
use serde_json::{Map, Value, json};

use super::{CallerBody, Context, Needs, Prepared, Protocol, Read, Reading, Sent};
use crate::answer::{Answer, Content, Passed, Seen, Whole, collect};
use crate::body::{InBody, OutBody};
use crate::failure::Failure;
use crate::outgoing::{Fields, Outgoing};
use crate::testing::{backend, call, serve};

const NAME: &str = "knock";

// The kind: what documents say.

struct KnockKind;

#[derive(Debug)]
struct Nothing;

impl Definition for Nothing {
    fn findings(&self) -> &[Finding] {
        &[]
    }

    fn sides(&self, _: &OperationDoc) -> Option<Value> {
        None
    }
}

#[derive(Debug)]
struct KnockCall {
    who: Template,
    reads_body: bool,
}

impl Call for KnockCall {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn rules(&self, backend: &CompiledBackend, _: &Reply) -> CallRules {
        CallRules {
            prepare: vec!["somebody knocks".into()],
            call: format!("at the door of {}", backend.name),
            reply: "lines become members".into(),
        }
    }
}

impl Kind for KnockKind {
    fn name(&self) -> &'static str {
        NAME
    }

    fn label(&self) -> &'static str {
        "knocking"
    }

    fn transport(&self) -> Transport {
        Transport::Http1
    }

    fn recognises(&self, source: &Source) -> bool {
        source.main_text().starts_with("knock, knock")
    }

    fn look(
        &self,
        source: &Source,
        _: porch_grpc::read::Progress<'_>,
    ) -> Result<Look, Box<Finding>> {
        Err(nothing_to_see(source))
    }

    fn derive(&self, source: &Source, _: &Wanted<'_>) -> Result<Derived, Box<Finding>> {
        Err(nothing_to_see(source))
    }

    fn sources(&self, _: &Files, _: &Document<BackendDoc>) -> Vec<String> {
        Vec::new()
    }

    fn definition(
        &self,
        _: &Files,
        _: &Document<BackendDoc>,
    ) -> Result<Arc<dyn Definition>, Box<Finding>> {
        Ok(Arc::new(Nothing))
    }

    fn call(&self, compiler: &mut CallCompiler<'_>) -> Option<Compiled> {
        let shapes = Shapes::default();
        let send = compiler.doc.send.clone().unwrap_or_default();
        let path = compiler.path(&["send"]);
        let who = compiler.template(&send, &path, false, &shapes, None)?;
        let reply = compiler.reply(&shapes);
        let reads_body = uses(&who, "body") || reply.as_ref().is_some_and(|r| uses(r, "body"));
        Some(Compiled::new(
            Arc::new(KnockCall { who, reads_body }),
            reply,
        ))
    }
}

fn nothing_to_see(source: &Source) -> Box<Finding> {
    let message = "a door describes nothing";
    Box::new(Finding::error(&source.main, Default::default(), message))
}

// The protocol: how it is carried out.

pub(super) struct Knock;

fn call_of<'a>(cx: &Context<'a>) -> &'a KnockCall {
    let call: &dyn Any = &**cx.call;
    call.downcast_ref().unwrap()
}

impl Protocol for Knock {
    fn kind(&self) -> &'static str {
        NAME
    }

    fn needs(&self, cx: &Context<'_>, _: &InBody) -> Needs {
        if call_of(cx).reads_body {
            Needs::Value
        } else {
            Needs::Nothing
        }
    }

    fn prepare(&self, cx: &Context<'_>, _: CallerBody) -> Result<Prepared, Failure> {
        let who = call_of(cx)
            .who
            .render_text(cx.scope)
            .map_err(|e| Failure::unsuitable("who knocks", e))?;
        let text = format!("who: {}", who.unwrap_or_default());
        let mut fields = Fields::default();
        let plain = HeaderValue::from_static("text/plain");
        fields.append(header::CONTENT_TYPE, plain);
        let request = Outgoing {
            method: Method::POST,
            uri: format!("{}/door", cx.address.path).parse().unwrap(),
            fields,
            body: OutBody::Full(Some(text.clone().into())),
        };
        Ok(Prepared {
            request,
            within: cx.backend.timeout,
            again: false,
            complaint: None,
            seen: Seen {
                body: Some(text.into_bytes()),
                ..Seen::default()
            },
        })
    }

    fn read<'a>(&'a self, cx: &'a Context<'a>, sent: Sent) -> Reading<'a> {
        Reading::later(async move {
            let (head, body) = (sent.answered.head, sent.answered.body);
            let bytes = collect(body, cx.backend.timeout, cx.share).await;
            if let Some(lease) = sent.answered.lease {
                lease.give_back();
            }
            Read {
                status: head.status,
                fields: head.headers,
                seen: Seen::default(),
                notes: Vec::new(),
                answer: bytes.and_then(|b| members(&b)),
            }
        })
    }
}

fn members(bytes: &Bytes) -> Result<Answer, Failure> {
    let mut members = Map::new();
    for line in String::from_utf8_lossy(bytes).lines() {
        let (name, value) = line
            .split_once(": ")
            .ok_or_else(|| Failure::Answer(format!("“{line}” is no line of an answer")))?;
        members.insert(name.to_owned(), json!(value));
    }
    Ok(Answer::Whole(Box::new(Whole {
        status: StatusCode::OK,
        fields: HeaderMap::new(),
        body: Content::Value(members.into()),
        soap_headers: None,
        passed: Passed::None,
    })))
}

fn model(address: &str, send: &str) -> Model {
    let contract = "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths:\n  /at/{door}:\n    post: { operationId: knock, parameters: [{ name: door, in: path, required: true, schema: { type: string } }], requestBody: { content: { application/json: { schema: { type: object, required: [name], properties: { name: { type: string } } } } } }, responses: { '200': { description: ok } } }\n";
    let files = Files::from([
        (
            "b.yaml".to_owned(),
            format!(
                "elm-porch: backend/1\nname: b\nkind: knock\naddress: http://{address}/house\n"
            ),
        ),
        ("c.yaml".to_owned(), contract.to_owned()),
        (
            "f.yaml".to_owned(),
            format!(
                "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  knock: {{ call: {{ backend: b }}, send: {send} }}\n"
            ),
        ),
    ]);
    let kinds = standard::kinds().and(Arc::new(KnockKind));
    Model::read(Arc::new(files), "live", &Arc::new(Library::of(kinds)))
}

#[test]
fn a_fourth_protocol_is_checked_shown_called_and_refused_like_the_others() {
    let address = backend(|request| match request.contains("who: nobody") {
        true => ("text/plain", "what is that".to_owned()),
        false => {
            assert!(request.starts_with("POST /house/door "), "{request}");
            (
                "text/plain",
                format!("seen: {}\nopen: yes\n", request.rsplit(' ').next().unwrap()),
            )
        }
    });
    let model = model(&address.to_string(), "'=body.name + \"@\" + path.door'");
    let (porch, findings) = model.porch(&[], &Secrets::Placeholder);
    assert_eq!(findings, []);
    let facade = porch.facade("f").unwrap();
    let rules = effective(facade, facade.operation("knock").unwrap());
    let rules: Vec<&str> = rules.iter().map(|r| &*r.place.rule).collect();
    assert!(rules.contains(&"somebody knocks") && rules.contains(&"at the door of b"));
    let gateway = serve(porch.facades.clone());
    let knock = |name: &str| {
        call(
            &gateway,
            "POST /f/at/quay",
            &json!({ "name": name }).to_string(),
        )
    };
    let (status, body) = knock("inge");
    assert_eq!(
        (status, body.as_str()),
        (200, r#"{"seen":"inge@quay","open":"yes"}"#)
    );
    // What goes wrong is told by the one place that tells of all protocols.
    let (status, body) = knock("nobody");
    assert!(
        status == 502 && body.contains("urn:elm-porch:problem:backend-answer"),
        "{body}"
    );
    let (status, body) = call(&gateway, "POST /f/at/quay", "{}");
    assert!(
        status == 400 && body.contains("who knocks cannot be made"),
        "{body}"
    );
    let (status, _) = call(&gateway, "POST /f/at/quay", "{");
    assert_eq!(status, 400);
}

#[test]
fn its_references_are_checked_too_and_strangers_stay_unknown() {
    let wrong = model("127.0.0.1:9", "=body.nam");
    let found = &wrong.findings()[0];
    assert_eq!(
        (found.help.as_str(), found.line),
        ("did you mean “name”?", 6)
    );
    let files = Files::from([(
        "b.yaml".to_owned(),
        "elm-porch: backend/1\nname: b\nkind: knock\naddress: http://127.0.0.1:9\n".to_owned(),
    )]);
    let standard = Model::read(Arc::new(files), "live", &Arc::default());
    assert_eq!(standard.findings()[0].message, "“knock” is not known here");
}
