//! `cargo xtask`: everything that is done with this code base, in one place.

mod api;
mod bench;
mod demo;
mod floor;
mod history;
mod install;
mod newcomers;
mod places;
mod seed;
mod shots;
mod suite;
mod test;

use std::path::PathBuf;
use std::process::{Command, ExitCode};

/// What went wrong, for people.
type Outcome<T = ()> = Result<T, String>;

const USAGE: &str =
    "cargo xtask demo [--background | --stop] [--fresh]   run the demo; Ctrl-C ends it
cargo xtask test [--quick]                           format, lints, types, all tests
cargo xtask bench [--json] [--only CASE] [--seconds N] [--runs N]
cargo xtask floor [--write]                          instructions a request, against bench/floor.toml
cargo xtask shots                                    take the screenshots of docs/screenshots
cargo xtask console                                  build the console only";

/// The project's folder.
fn root() -> PathBuf {
    let here = PathBuf::from(env!("CARGO_MANIFEST_DIR"));
    here.parent().map(PathBuf::from).unwrap_or(here)
}

/// Runs a command, its output shown.
fn run(what: &str, command: &mut Command) -> Outcome {
    eprintln!("· {what}");
    match command.status() {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("{what}: ended with {status}")),
        Err(e) => Err(format!("{what}: {e}")),
    }
}

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let (command, rest) = arguments
        .split_first()
        .map_or(("", &[][..]), |(c, r)| (c.as_str(), r));
    let outcome = match command {
        "demo" => demo::run(rest),
        "test" => test::run(rest),
        "bench" => bench::run(rest),
        "floor" => floor::run(rest),
        "shots" => shots::run(),
        "console" => install::console(),
        "api" => api::run(),
        _ => {
            eprintln!("{USAGE}");
            return ExitCode::from(2);
        }
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        Err(message) => {
            eprintln!("xtask: {message}");
            ExitCode::FAILURE
        }
    }
}
