//! Conversions alone, without any network.

use std::path::PathBuf;
use std::process::Command;

use serde_json::Value;

use super::server::program;
use crate::{Outcome, root};

/// XML and JSON.
pub(super) fn convert(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· conversion alone");
    let wsdl = root().join("demo/documents/sailings/reservations.wsdl");
    lines_of("bench-convert", &[wsdl], runs)
}

/// Messages of gRPC and JSON.
pub(super) fn messages(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· conversion of messages alone");
    lines_of(
        "bench-messages",
        &[root().join("demo/documents/vessels/vessels-definition")],
        runs,
    )
}

/// Bodies, descriptions and facades.
pub(super) fn contracts(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· contracts alone");
    lines_of("bench-contracts", &[], runs)
}

/// JSON changed in place.
pub(super) fn changes(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· changes alone");
    lines_of("bench-changes", &[], runs)
}

/// Who calls, and how much.
pub(super) fn callers(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· callers alone");
    lines_of("bench-callers", &[], runs)
}

fn lines_of(name: &str, definition: &[PathBuf], runs: u32) -> Outcome<Vec<Value>> {
    let output = Command::new("taskset")
        .args(["-c", "0"])
        .arg(program(name))
        .args(definition)
        .arg((runs * 2 + 1).to_string())
        .output()
        .map_err(|e| format!("{name}: {e}"))?;
    if !output.status.success() {
        return Err(format!(
            "{name}: {}",
            String::from_utf8_lossy(&output.stderr)
        ));
    }
    let text = String::from_utf8_lossy(&output.stdout);
    text.lines()
        .map(|line| serde_json::from_str(line).map_err(|e| format!("{name}: {e}: {line}")))
        .collect()
}
