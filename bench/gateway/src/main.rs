//! The data plane alone, without database and control plane: for profiling and for counting instructions.
//!
//! `bench-gateway PORT BACKEND-PORT [FLEET-PORT]` until its input ends: `/plain/item/{id}` passes through, `/full/item/{id}` has a key (`bench`), a
//! limit and ten header rules, `/kept/item/{id}` is kept and given again, `/both/item/{id}` makes two calls at once, `/soap/harbours/{harbour}/sailings?on=…` asks the demo's booking system; with a third port `/vessels/v1/…` is the demo's
//! gRPC facade. With `BENCH_KINDS` in the environment there is a facade for each kind of credential and limit besides (`kinds.rs`).

mod kinds;

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;
use std::time::Duration;

use porch_facade::{Model, Secrets};
use porch_gateway::{Gateway, GatewayConfig, Shared};
use porch_rules::grant::{Consumer, Grant, Grants, Shown};
use porch_rules::key::KeyHash;

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let port = |n: usize, default: u16| {
        std::env::args()
            .nth(n)
            .and_then(|p| p.parse().ok())
            .unwrap_or(default)
    };
    let (own, backend) = (port(1, 3873), port(2, 3870));
    let fleet = std::env::args().nth(3);
    let kinds = std::env::var_os("BENCH_KINDS").is_some();
    let mut files = documents(backend, fleet.as_deref())?;
    if kinds {
        kinds::documents(backend, &mut files);
    }
    let model = Model::read(Arc::new(files), "live", &Arc::default());
    let (porch, findings) = model.porch(&[], &Secrets::Known(&HashMap::new()));
    let wrong = &model.documents.findings;
    if porch_contract::has_errors(&findings) || porch_contract::has_errors(wrong) {
        return Err(format!("{findings:?} {wrong:?}").into());
    }
    let (shared, mut records) = Shared::new();
    shared.porch.store(Arc::new(porch));
    let backend = kinds.then_some(backend);
    shared.grants.store(Arc::new(grants(backend)?));
    let config = GatewayConfig {
        workers: 1,
        drain: Duration::from_secs(1),
        ..GatewayConfig::at(([127, 0, 0, 1], own).into())
    };
    let gateway = Gateway::start(&config, &shared).map_err(|e| e.to_string())?;
    std::thread::spawn(move || while records.blocking_recv().is_some() {});
    println!("ready");
    // It ends when its input does.
    let _ = std::io::copy(&mut std::io::stdin(), &mut std::io::sink());
    drop(gateway);
    Ok(())
}

/// One consumer with one key: `bench`; where all kinds of credentials are measured, with one of each.
fn grants(kinds: Option<u16>) -> Result<Grants, String> {
    let consumer = Arc::new(Consumer {
        id: 1,
        name: "bench".into(),
        ..Consumer::default()
    });
    let mut all = match kinds {
        Some(backend) => kinds::grants(&consumer, backend)?,
        None => Vec::new(),
    };
    let grant = Grant {
        consumer,
        shown: Shown::new("bench"),
        ends: i64::MAX,
        paused: false,
        opens: None,
        proof: None,
    };
    all.push((KeyHash::of("bench"), grant));
    Ok(Grants::new(all))
}

const CONTRACT: &str = "\
openapi: 3.1.0
info: { title: T, version: 1.0.0 }
paths:
  /item/{id}:
    get:
      operationId: item
      parameters: [{ name: id, in: path, required: true }]
      responses: { '200': { description: ok } }
";

/// Two calls at once, and a reply of both.
const BOTH: &str = "\
elm-porch: facade/1
name: both
base: /both
contract: c.yaml
operations:
  item:
    calls:
      one: { backend: fixed, path: '/item/{id}' }
      two: { backend: fixed, path: '/item/{id}' }
    reply: { one: =one.body.text, two: =size(two.body.text) }
";

fn documents(
    backend: u16,
    fleet: Option<&str>,
) -> Result<BTreeMap<String, String>, Box<dyn std::error::Error>> {
    let headers: Vec<String> = (0..10).map(|i| format!("X-Rule-{i}: value {i}")).collect();
    let headers = headers.join(", ");
    let facade = |name: &str, admit: &str, send: &str| {
        format!(
            "elm-porch: facade/1\nname: {name}\nbase: /{name}\ncontract: c.yaml\n{admit}operations:\n  item: {{ call: {{ backend: fixed }}{send} }}\n"
        )
    };
    let mut files = BTreeMap::from([
        (
            "b.yaml".to_owned(),
            format!(
                "elm-porch: backend/1\nname: fixed\nkind: http\naddress: http://127.0.0.1:{backend}\n"
            ),
        ),
        ("c.yaml".to_owned(), CONTRACT.to_owned()),
        ("plain.yaml".to_owned(), facade("plain", "", "")),
        (
            "full.yaml".to_owned(),
            facade(
                "full",
                "admit: { credentials: [key], limits: [{ requests: 4000000000, window: 1h }] }\n",
                &format!(", send: {{ headers: {{ {headers} }} }}"),
            ),
        ),
    ]);
    let kept = facade("kept", "cache: { fresh: 1h }\n", "");
    files.insert("kept.yaml".into(), kept);
    files.insert("both.yaml".into(), BOTH.into());
    soap(backend, &mut files)?;
    let Some(fleet) = fleet else {
        return Ok(files);
    };
    for name in [
        "vessels.backend.yaml",
        "vessels.facade.yaml",
        "vessels.openapi.yaml",
        "vessels-definition/skerry/fleet/v1/fleet.proto",
    ] {
        let text = demo(&format!("vessels/{name}"))?;
        files.insert(
            name.to_owned(),
            text.replace("127.0.0.1:3854", &format!("127.0.0.1:{fleet}"))
                .replace("requests: 600", "requests: 4000000000"),
        );
    }
    Ok(files)
}

/// A document of the demo.
fn demo(name: &str) -> Result<String, String> {
    std::fs::read_to_string(format!("demo/documents/{name}")).map_err(|e| format!("{name}: {e}"))
}

/// One operation of the demo's booking system, without the login that it asks for.
fn soap(backend: u16, files: &mut BTreeMap<String, String>) -> Result<(), String> {
    let system = demo("sailings/reservations.backend.yaml")?;
    let (system, _) = system.split_once("credentials:").unwrap_or((&system, ""));
    let system = system.replace("127.0.0.1:3850", &format!("127.0.0.1:{backend}"));
    for (name, text) in [
        ("soap/reservations.backend.yaml", system),
        (
            "soap/reservations.wsdl",
            demo("sailings/reservations.wsdl")?,
        ),
        ("soap/soap.openapi.yaml", SOAP_CONTRACT.to_owned()),
        ("soap/soap.facade.yaml", SOAP_FACADE.to_owned()),
    ] {
        files.insert(name.to_owned(), text);
    }
    Ok(())
}

const SOAP_CONTRACT: &str = include_str!("../../documents/soap.openapi.yaml");
const SOAP_FACADE: &str = include_str!("../../documents/soap.facade.yaml");
