//! Format, lints, types, all tests.

use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

use crate::{Outcome, api, floor, install, root, run as run_command, suite};

/// Debian packages that the tests need.
const PACKAGES: [&str; 5] = [
    "postgresql",
    "redis-server",
    "python3-zeep",
    "python3-protobuf",
    "python3-pip",
];

/// `cargo xtask test`; `--quick` leaves the browser and the counting of instructions out.
fn run_all(quick: bool) -> Outcome {
    let mut packages = PACKAGES.to_vec();
    if !quick {
        packages.extend(["chromium", "chromium-driver"]);
    }
    install::packages(&packages)?;
    let cargo = |arguments: &[&str]| {
        let mut command = Command::new("cargo");
        command.args(arguments).current_dir(root());
        command
    };
    run_command("format", &mut cargo(&["fmt", "--all", "--check"]))?;
    suite::bring()?;
    suite::bring_signer()?;
    install::console()?;
    let console = root().join("console");
    for script in ["types", "lint", "format:check", "test"] {
        run_command(
            &format!("console: {script}"),
            Command::new("npm")
                .args(["run", "--silent", script])
                .current_dir(&console),
        )?;
    }
    run_command(
        "lints",
        &mut cargo(&[
            "clippy",
            "--quiet",
            "--workspace",
            "--all-targets",
            "--",
            "-D",
            "warnings",
            "-A",
            "clippy::unwrap_used",
        ]),
    )?;
    run_command(
        "lints of what ships",
        &mut cargo(&["clippy", "--quiet", "--workspace", "--", "-D", "warnings"]),
    )?;
    // What is linked is built once in such a run, and what a later build would start from only takes the disk's room. The
    // lints before it are two runs over the same code: those stand on one another.
    let cargo = |arguments: &[&str]| {
        let mut command = cargo(arguments);
        if std::env::var_os("ELM_PORCH_BUILDS_ONCE").is_some() {
            command.env("CARGO_INCREMENTAL", "0");
        }
        command
    };
    // The whole-product tests drive these programs.
    run_command(
        "building what is tested",
        &mut cargo(&["build", "--quiet", "-p", "porch", "-p", "porch-standins"]),
    )?;
    api::check()?;
    let mut tests = cargo(&["test", "--workspace", "--no-fail-fast"]);
    if quick {
        tests.env("ELM_PORCH_NO_BROWSER", "1");
        return run_counted(&mut tests);
    }
    run_counted(&mut tests)?;
    floor::check()
}

/// Runs the tests, their output shown, and ends with how many passed and failed in all.
fn run_counted(tests: &mut Command) -> Outcome {
    eprintln!("· tests");
    let mut child = tests
        .stdout(Stdio::piped())
        .spawn()
        .map_err(|e| format!("tests: {e}"))?;
    let (mut passed, mut failed) = (0u32, 0u32);
    if let Some(output) = child.stdout.take() {
        for line in BufReader::new(output).lines().map_while(Result::ok) {
            println!("{line}");
            if let Some(rest) = line.strip_prefix("test result: ") {
                let count = |word: &str| {
                    rest.split([';', '.'])
                        .find_map(|part| part.trim().strip_suffix(word)?.trim().parse::<u32>().ok())
                        .unwrap_or(0)
                };
                passed += count("passed");
                failed += count("failed");
            }
        }
    }
    let status = child.wait().map_err(|e| format!("tests: {e}"))?;
    println!("{passed} passed, {failed} failed");
    if status.success() {
        Ok(())
    } else {
        Err(format!("tests: ended with {status}"))
    }
}

/// `cargo xtask test`.
pub(crate) fn run(arguments: &[String]) -> Outcome {
    match arguments {
        [] => run_all(false),
        [one] if one == "--quick" => run_all(true),
        _ => Err("test: only --quick is known".into()),
    }
}
