//! The screenshots of `docs/screenshots`, taken from the running demo.

use std::process::Command;

use crate::{Outcome, install, root, run as run_command};

/// `cargo xtask shots`.
pub(crate) fn run() -> Outcome {
    install::packages(&["chromium", "chromium-driver"])?;
    let env = root().join("target/demo/env");
    let text = std::fs::read_to_string(&env)
        .map_err(|_| "start the demo first: cargo xtask demo --background".to_owned())?;
    let mut command = Command::new("cargo");
    command
        .args(["run", "--quiet", "-p", "porch-tests", "--bin", "shots"])
        .current_dir(root());
    for line in text.lines() {
        if let Some((name, value)) = line.strip_prefix("export ").and_then(|l| l.split_once('=')) {
            command.env(name, value);
        }
    }
    run_command("taking screenshots", &mut command)
}
