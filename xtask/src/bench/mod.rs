//! Benchmarks: ratios of interleaved runs against reference programs, measured with `wrk` on loopback.
//!
//! The program under test is held to one core and one worker, the backend and the load to the other, so that a ratio tells what a request
//! costs. Throughput is compared with 64 connections (4 where an answer has a megabyte), latency with one.

mod alone;
mod cases;
mod documents;
mod known;
mod measure;
mod options;
mod report;
mod running;
mod server;
mod service;

use std::fs;
use std::process::Command;

use porch_cluster::{Cluster, free_port, place_for};

use crate::{Outcome, install, root, run as run_command};
use cases::Bench;
use options::Options;
use server::folder;

/// `cargo xtask bench`.
pub(crate) fn run(arguments: &[String]) -> Outcome {
    let options = Options::read(arguments)?;
    install::packages(&["postgresql", "redis-server", "wrk"])?;
    install::console()?;
    if !options.built {
        build()?;
    }
    fs::create_dir_all(folder()).map_err(|e| e.to_string())?;
    let database = place_for(&folder().join("database"));
    let port = free_port().map_err(|e| e.to_string())?;
    let cluster =
        Cluster::start(&database, port, false).map_err(|e| format!("the database: {e}"))?;
    let json = options.json;
    let (results, outcome) = Bench::start(options, &cluster)?.run();
    if results.is_empty() && outcome.is_ok() {
        return Err("bench: nothing was measured".into());
    }
    if json {
        println!("{:#}", results.into_json());
    } else {
        results.print();
    }
    outcome
}

fn build() -> Outcome {
    let mut build = Command::new("cargo");
    build
        .args(["build", "--quiet", "--release"])
        .args(["-p", "porch", "-p", "porch-bench"])
        .current_dir(root());
    run_command(
        "building for measuring (the first time takes many minutes)",
        &mut build,
    )
}
