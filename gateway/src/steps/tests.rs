//! Several steps, as the documents will have them: put together by hand here.

use std::collections::HashMap;
use std::sync::{Arc, Barrier};

use porch_facade::{
    CompiledFacade, CompiledOperation, Files, Model, REQUEST_ROOTS, Reply, Route, Secrets, Step,
};
use porch_rules::expr::Template;
use serde_json::{Value, json};

use crate::testing::{backend, call, serve};

const CONTRACT: &str = "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths:\n  /tide: { get: { operationId: tide, responses: { '200': { description: ok } } } }\n  /list: { get: { operationId: list, responses: { '200': { description: ok } } } }\n  /later: { get: { operationId: later, responses: { '200': { description: ok } } } }\n";

/// Three operations of one backend, and their steps put together into one operation.
fn facade(address: &str, needs: &[(&str, &[usize])], reply: &Value) -> Arc<CompiledFacade> {
    let files = Files::from([
        (
            "b.yaml".to_owned(),
            format!("elm-porch: backend/1\nname: b\nkind: http\naddress: http://{address}\ntimeout: 5s\n"),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        (
            "f.yaml".to_owned(),
            "elm-porch: facade/1\nname: f\nbase: /f\ncontract: c.yaml\noperations:\n  tide: { call: { backend: b } }\n  list: { call: { backend: b } }\n  later: { call: { backend: b } }\n".to_owned(),
        ),
    ]);
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&[], &Secrets::Placeholder);
    assert_eq!(findings, []);
    drop(model);
    let mut facade = porch.facades.into_iter().next().unwrap();
    let names: Vec<&str> = needs.iter().map(|(name, _)| *name).collect();
    let roots: Vec<&str> = REQUEST_ROOTS.iter().copied().chain(names).collect();
    let steps = needs.iter().map(|(name, needs)| {
        let own = &facade.operation(name).unwrap().steps[0];
        Step {
            name: (*name).into(),
            call: own.call.clone(),
            backend: own.backend,
            routing: None,
            needs: needs.to_vec(),
            faults: HashMap::new(),
            plan: None,
        }
    });
    let steps = steps.collect();
    let own = Arc::get_mut(&mut facade).unwrap();
    let first = own.operations.remove(0);
    own.operations = vec![CompiledOperation {
        route: Arc::new(Route {
            method: "GET".into(),
            path: "/all".into(),
            ..Route::default()
        }),
        steps,
        reply: Reply {
            body: Some(Template::compile(reply, &roots).unwrap()),
            ..Reply::default()
        },
        ..first
    }];
    facade
}

#[test]
fn steps_that_wait_for_nothing_run_at_once_and_the_others_after_them() {
    // Whoever is alone at the barrier waits in vain: the first two are there together, the third comes behind.
    let (both, order) = (Barrier::new(2), Arc::new(std::sync::Mutex::new(Vec::new())));
    let seen = order.clone();
    let address = backend(move |request| {
        let path = request.split(' ').nth(1).unwrap().to_owned();
        seen.lock().unwrap().push(path.clone());
        if path != "/later" {
            both.wait();
        }
        let body = json!({ "from": path, "level": 3 });
        ("application/json", body.to_string())
    });
    let reply = json!({
        "tide": "=tide.body.level", "list": "=list.body.from", "later": "=later.body.from",
        "status": "=later.status",
    });
    let needs: [(&str, &[usize]); 3] = [("tide", &[]), ("list", &[]), ("later", &[0, 1])];
    let gateway = serve(vec![facade(&address.to_string(), &needs, &reply)]);
    let (status, body) = call(&gateway, "GET /f/all", "");
    assert_eq!(status, 200, "{body}");
    let got: Value = serde_json::from_str(&body).unwrap();
    assert_eq!(
        got,
        json!({"tide": 3, "list": "/list", "later": "/later", "status": 200})
    );
    assert_eq!(order.lock().unwrap()[2], "/later");
}

#[test]
fn the_first_failure_ends_the_others() {
    let address = backend(|request| {
        if request.starts_with("GET /tide") {
            return ("application/json", "{".to_owned());
        }
        ("application/json", json!({"level": 1}).to_string())
    });
    let needs: [(&str, &[usize]); 2] = [("tide", &[]), ("later", &[0])];
    let reply = json!({"level": "=later.body.level"});
    let gateway = serve(vec![facade(&address.to_string(), &needs, &reply)]);
    let (status, body) = call(&gateway, "GET /f/all", "");
    assert!(
        status == 502 && body.contains("backend-answer"),
        "{status} {body}"
    );
}
