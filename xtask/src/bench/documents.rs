//! The documents of the benchmarks.

use std::fmt::Write as _;
use std::fs;
use std::path::{Path, PathBuf};

use crate::root;

/// Ports of the backends.
#[derive(Clone, Copy)]
pub(super) struct Backends {
    pub(super) backend: u16,
    pub(super) fleet: u16,
}

pub(super) fn write_documents(
    folder: &Path,
    backends: Backends,
    operations: usize,
) -> std::io::Result<()> {
    fs::create_dir_all(folder)?;
    let write = |name: &str, text: String| fs::write(folder.join(name), text);
    write(
        "fixed.backend.yaml",
        format!(
            "elm-porch: backend/1\nname: fixed\nkind: http\naddress: http://127.0.0.1:{}\n",
            backends.backend
        ),
    )?;
    write("plain.openapi.yaml", contract("Plain", PLAIN_PATHS))?;
    write("plain.facade.yaml", PLAIN_FACADE.to_owned())?;
    let kept = PLAIN_FACADE.replace("name: plain", "name: kept");
    let kept = kept.replace("base: /plain", "base: /kept\ncache: { fresh: 1h }");
    write("kept.facade.yaml", kept)?;
    write("both.openapi.yaml", contract("Both", BOTH_PATHS))?;
    write("both.facade.yaml", BOTH_FACADE.to_owned())?;
    write_full(folder, 0, operations, "Full")?;
    write_vessels(folder, backends.fleet)?;
    write_soap(folder, backends.backend)
}

/// Operations that one facade has at most.
pub(super) const OPERATIONS_A_FACADE: usize = 10_000;

/// The facades that share operations have names: `full`, `full1` …
pub(super) fn full_name(n: usize) -> String {
    match n {
        0 => "full".to_owned(),
        n => format!("full{n}"),
    }
}

/// Writes one of them, with a title for its contract; the files.
pub(super) fn write_full(
    folder: &Path,
    n: usize,
    operations: usize,
    title: &str,
) -> std::io::Result<[PathBuf; 2]> {
    let name = full_name(n);
    let from = n * OPERATIONS_A_FACADE;
    let to = operations.min(from + OPERATIONS_A_FACADE);
    let (paths, wiring) = many_operations(from..to);
    let file = |kind: &str| folder.join(format!("{name}.{kind}.yaml"));
    fs::write(file("openapi"), contract(title, &paths))?;
    let facade = FULL_FACADE
        .replace("name: full", &format!("name: {name}"))
        .replace("/full", &format!("/{name}"))
        .replace("full.openapi", &format!("{name}.openapi"));
    fs::write(file("facade"), format!("{facade}{wiring}"))?;
    Ok([file("openapi"), file("facade")])
}

fn contract(title: &str, paths: &str) -> String {
    format!("openapi: 3.1.0\ninfo: {{ title: {title}, version: 1.0.0 }}\npaths:\n{paths}")
}

const PLAIN_PATHS: &str = "\
\x20 /item/{id}:
    get:
      operationId: item
      parameters: [{ name: id, in: path, required: true }]
      responses: { '200': { description: ok } }
";

const PLAIN_FACADE: &str = "\
elm-porch: facade/1
name: plain
base: /plain
contract: plain.openapi.yaml
operations:
  item:
    call: { backend: fixed }
";

const BOTH_PATHS: &str = "\
\x20 /both:
    get:
      operationId: both
      responses: { '200': { description: ok } }
  /slower:
    get:
      operationId: slower
      responses: { '200': { description: ok } }
";

/// Two calls that need nothing of one another, and the slower of them alone.
const BOTH_FACADE: &str = "\
elm-porch: facade/1
name: both
base: /both
contract: both.openapi.yaml
operations:
  both:
    calls:
      slow: { backend: fixed, path: /after/5/item }
      quick: { backend: fixed, path: /after/4/item }
    reply: { slow: =slow.body.text, quick: =size(quick.body.text) }
  slower:
    call: { backend: fixed, method: GET, path: /after/5/item }
";

const FULL_FACADE: &str = "\
elm-porch: facade/1
name: full
base: /full
contract: full.openapi.yaml
admit:
  credentials: [key]
  limits:
    - { requests: 4000000000, window: 1h }
operations:
";

/// Paths of a contract and what wires them, ten header rules each.
fn many_operations(operations: std::ops::Range<usize>) -> (String, String) {
    let (mut paths, mut wiring) = (String::new(), String::new());
    let headers: String = (0..10)
        .map(|i| format!("        X-Rule-{i}: value {i}\n"))
        .collect();
    for i in operations {
        let _ = write!(
            paths,
            "  /kind{}/sub{i}/{{id}}:\n    get:\n      operationId: op{i}\n      parameters: [{{ name: id, in: path, required: true }}]\n      responses: {{ '200': {{ description: ok }} }}\n",
            i % 97
        );
        let _ = write!(
            wiring,
            "  op{i}:\n    call: {{ backend: fixed }}\n    send:\n      headers:\n{headers}"
        );
    }
    (paths, wiring)
}

/// The demo's vessels, without its limit, which so many calls would meet.
fn write_vessels(folder: &Path, fleet: u16) -> std::io::Result<()> {
    let vessels = root().join("demo/documents/vessels");
    let definition = "vessels-definition/skerry/fleet/v1";
    fs::create_dir_all(folder.join(definition))?;
    for name in [&format!("{definition}/fleet.proto"), "vessels.openapi.yaml"] {
        fs::copy(vessels.join(name), folder.join(name))?;
    }
    let backend = fs::read_to_string(vessels.join("vessels.backend.yaml"))?;
    fs::write(
        folder.join("vessels.backend.yaml"),
        backend.replace("127.0.0.1:3854", &format!("127.0.0.1:{fleet}")),
    )?;
    let facade = fs::read_to_string(vessels.join("vessels.facade.yaml"))?;
    let limit = "admit:\n  limits:\n    - { requests: 600, window: 1m, per: address }\n";
    fs::write(
        folder.join("vessels.facade.yaml"),
        facade.replace(limit, ""),
    )
}

const SOAP_CONTRACT: &str = include_str!("../../../bench/documents/soap.openapi.yaml");
const SOAP_FACADE: &str = include_str!("../../../bench/documents/soap.facade.yaml");

fn write_soap(folder: &Path, backend: u16) -> std::io::Result<()> {
    let demo = root().join("demo/documents/sailings");
    let wsdl = "reservations.wsdl";
    fs::copy(demo.join(wsdl), folder.join(wsdl))?;
    let name = "reservations.backend.yaml";
    let text = fs::read_to_string(demo.join(name))?;
    fs::write(
        folder.join(name),
        text.replace("127.0.0.1:3850", &format!("127.0.0.1:{backend}")),
    )?;
    fs::write(folder.join("soap.openapi.yaml"), SOAP_CONTRACT)?;
    fs::write(folder.join("soap.facade.yaml"), SOAP_FACADE)
}
