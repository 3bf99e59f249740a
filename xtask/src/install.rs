//! What a fresh machine lacks.

use std::path::Path;
use std::process::{Command, Stdio};
use std::time::SystemTime;

use crate::{Outcome, root, run};

fn on_path(program: &str) -> bool {
    std::env::var_os("PATH")
        .is_some_and(|path| std::env::split_paths(&path).any(|p| p.join(program).exists()))
}

/// Installs Debian packages whose programs are missing.
pub(crate) fn packages(wanted: &[&str]) -> Outcome {
    let missing: Vec<&str> = wanted
        .iter()
        .copied()
        .filter(|p| match *p {
            "postgresql" => porch_cluster::installed().is_none(),
            "chromium-driver" => !on_path("chromedriver"),
            "nodejs" => !on_path("node"),
            // A client for the tests only; it belongs to the system's own interpreter.
            "python3-protobuf" => {
                !Path::new("/usr/lib/python3/dist-packages/google/protobuf").exists()
            }
            "python3-zeep" => !Path::new("/usr/lib/python3/dist-packages/zeep").exists(),
            "python3-pip" => !on_path("pip3") && !on_path("pip"),
            other => !on_path(other),
        })
        .collect();
    if missing.is_empty() {
        return Ok(());
    }
    eprintln!("· installing {}", missing.join(", "));
    let apt = |arguments: &[&str]| {
        Command::new("apt-get")
            .args(arguments)
            .env("DEBIAN_FRONTEND", "noninteractive")
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .status()
    };
    let _ = apt(&["update", "-qq"]);
    let mut arguments = vec!["install", "-y", "-qq", "--no-install-recommends"];
    arguments.extend(&missing);
    match apt(&arguments) {
        Ok(status) if status.success() => Ok(()),
        _ => Err(format!(
            "these Debian packages are missing and could not be installed: {0}\n  as root: apt-get install {0}",
            missing.join(" ")
        )),
    }
}

fn newest(folder: &Path) -> Option<SystemTime> {
    let mut newest = None;
    for entry in std::fs::read_dir(folder).ok()?.flatten() {
        let path = entry.path();
        let time = if path.is_dir() {
            self::newest(&path)
        } else {
            entry.metadata().and_then(|m| m.modified()).ok()
        };
        newest = newest.max(time);
    }
    newest
}

fn modified(path: &Path) -> Option<SystemTime> {
    std::fs::metadata(path).and_then(|m| m.modified()).ok()
}

/// npm packages of the console, as the lock file has them.
pub(crate) fn npm() -> Outcome {
    if !on_path("npm") {
        return Err("Node.js with npm is missing (version 20 or newer)".into());
    }
    let console = root().join("console");
    let marker = console.join("node_modules/.package-lock.json");
    if modified(&marker) >= modified(&console.join("package-lock.json")) && marker.exists() {
        return Ok(());
    }
    run(
        "npm ci",
        Command::new("npm")
            .args([
                "ci",
                "--ignore-scripts",
                "--no-progress",
                "--loglevel=error",
            ])
            .current_dir(&console),
    )
}

/// Builds the console when its sources are newer than what was built.
pub(crate) fn console() -> Outcome {
    npm()?;
    let console = root().join("console");
    let built = modified(&console.join("dist/index.html"));
    let source = newest(&console.join("src"))
        .max(modified(&console.join("package-lock.json")))
        .max(modified(&console.join("index.html")))
        .max(modified(&console.join("portal.html")))
        .max(modified(&console.join("vite.config.ts")));
    if built.is_some() && built >= source {
        return Ok(());
    }
    run(
        "building the console",
        Command::new("npm")
            .args(["run", "--silent", "build"])
            .current_dir(&console),
    )
}
