//! Benchmarks: ratios of interleaved runs against reference programs, measured with `wrk` on loopback.
//!
//! The program under test is held to one core and one worker, the backend and the load to the other, so that a ratio tells what a request
//! costs. Throughput is compared with 64 connections (4 where an answer has a megabyte), latency with one.

use std::collections::HashMap;
use std::fs;
use std::io::{BufRead, BufReader, Write};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use porch_cluster::{Cluster, free_port, place_for};
use serde_json::{Value, json};

use crate::{Outcome, install, root, run as run_command};

/// One case: ours against a reference.
struct Case {
    name: &'static str,
    reference_name: &'static str,
    /// Least throughput ratio, greatest CPU ratio.
    target: (f64, Option<f64>),
    /// Connections for throughput.
    connections: u32,
    ours: Load,
    reference: Load,
}

/// What is loaded: a process, an address, a key.
#[derive(Clone)]
struct Load {
    pid: u32,
    url: String,
    key: Option<String>,
}

/// One run of wrk.
#[derive(Clone, Copy, Default)]
struct Measured {
    per_second: f64,
    cpu_us: f64,
    p50_us: f64,
    p99_us: f64,
}

struct Server {
    child: Child,
}

impl Drop for Server {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-TERM", &self.child.id().to_string()])
            .status();
        let end = Instant::now() + Duration::from_secs(20);
        while matches!(self.child.try_wait(), Ok(None)) && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn program(name: &str) -> PathBuf {
    root().join("target/dist").join(name)
}

/// A process held to one core, ended with this one.
fn start(
    core: u8,
    name: &str,
    arguments: &[String],
    environment: &[(&str, String)],
    lines: usize,
) -> Outcome<(Server, Vec<String>)> {
    let log = fs::File::create(folder().join(format!("{name}.log"))).map_err(|e| e.to_string())?;
    let mut command = Command::new("setpriv");
    command
        .args(["--pdeathsig", "KILL", "taskset", "-c", &core.to_string()])
        .arg(program(name))
        .args(arguments);
    command
        .envs(environment.iter().map(|(k, v)| (*k, v)))
        .stdin(Stdio::null())
        .stderr(log)
        .stdout(if lines > 0 {
            Stdio::piped()
        } else {
            Stdio::null()
        });
    let mut child = command.spawn().map_err(|e| format!("{name}: {e}"))?;
    let mut seen = Vec::new();
    if let Some(output) = child.stdout.take() {
        let mut output = BufReader::new(output);
        for _ in 0..lines {
            let mut line = String::new();
            if output.read_line(&mut line).unwrap_or(0) == 0 {
                return Err(format!(
                    "{name} did not start; see {}",
                    folder().join(format!("{name}.log")).display()
                ));
            }
            seen.push(
                line.split_whitespace()
                    .nth(1)
                    .unwrap_or_default()
                    .to_owned(),
            );
        }
        std::thread::spawn(move || std::io::copy(&mut output, &mut std::io::sink()));
    }
    Ok((Server { child }, seen))
}

fn folder() -> PathBuf {
    root().join("target/bench")
}

/// Ports of the backends.
#[derive(Clone, Copy)]
struct Backends {
    backend: u16,
    fleet: u16,
}

/// A service with documents and keys of its own.
struct Porch {
    server: Server,
    gateway: String,
    key: String,
}

const PASSWORD: &str = "bench-harbour";

impl Porch {
    fn start(
        name: &str,
        cluster: &Cluster,
        backends: Backends,
        operations: usize,
        keys: usize,
    ) -> Outcome<Self> {
        let fail = |e: std::io::Error| e.to_string();
        cluster
            .sql(&format!("drop database if exists {name} with (force)"))
            .map_err(fail)?;
        cluster.ensure_database(name).map_err(fail)?;
        let home = folder().join(name);
        let _ = fs::remove_dir_all(&home);
        fs::create_dir_all(home.join("state")).map_err(fail)?;
        let environment = [
            ("ELM_PORCH_DATABASE", cluster.url(name)),
            ("ELM_PORCH_STATE", home.join("state").display().to_string()),
            ("ELM_PORCH_FIRST_ACCOUNT", "bench".to_owned()),
            ("ELM_PORCH_FIRST_PASSWORD", PASSWORD.to_owned()),
        ];
        let arguments = [
            "serve",
            "--gateway",
            "127.0.0.1:0",
            "--console",
            "127.0.0.1:0",
            "--workers",
            "1",
        ]
        .map(str::to_owned);
        let (server, addresses) = start(0, "porch", &arguments, &environment, 2)?;
        let (gateway, console) = (addresses[0].clone(), addresses[1].clone());
        let client = |arguments: &[&str], input: &str| -> Outcome<Value> {
            let mut command = Command::new(program("porch"));
            command
                .args(["--json", "--url", &console])
                .args(arguments)
                .env("XDG_CONFIG_HOME", &home)
                .stdin(Stdio::piped())
                .stdout(Stdio::piped());
            let mut child = command.spawn().map_err(|e| e.to_string())?;
            if let Some(mut stdin) = child.stdin.take() {
                let _ = stdin.write_all(input.as_bytes());
            }
            let output = child.wait_with_output().map_err(|e| e.to_string())?;
            let text = String::from_utf8_lossy(&output.stdout).into_owned();
            if output.status.success() {
                Ok(serde_json::from_str(&text).unwrap_or(Value::Null))
            } else {
                Err(format!("porch {}: {text}", arguments.join(" ")))
            }
        };
        client(&["login", "bench"], PASSWORD)?;
        let documents = home.join("documents");
        write_documents(&documents, backends, operations).map_err(fail)?;
        client(&["secret", "set", "reservations-user"], "quay-desk")?;
        client(&["secret", "set", "reservations-password"], "x")?;
        client(&["push", &documents.to_string_lossy()], "")?;
        client(&["release", "plain", "full", "soap", "vessels"], "")?;
        client(&["consumer", "create", "bench"], "")?;
        // Keys of nobody in particular, straight into the table: a million by the client would take hours.
        let insert = format!(
            "insert into api_key (consumer_id, label, prefix, hash, paused, created_at) select 1, '', 'p' || i, md5('a' || i) || md5('b' || i), false, 0 from generate_series(1, {keys}) i"
        );
        Command::new(porch_cluster::installed().unwrap_or_default().join("psql"))
            .args(["-X", "-q", "-d", &cluster.url(name), "-c", &insert])
            .status()
            .map_err(|e| e.to_string())?;
        let key = client(&["key", "create", "bench"], "")?["key"]
            .as_str()
            .unwrap_or_default()
            .to_owned();
        Ok(Self {
            server,
            gateway,
            key,
        })
    }

    fn load(&self, path: &str, keyed: bool) -> Load {
        Load {
            pid: self.server.child.id(),
            url: format!("{}{path}", self.gateway),
            key: keyed.then(|| self.key.clone()),
        }
    }

    fn memory_mb(&self) -> f64 {
        memory_mb(self.server.child.id())
    }
}

fn write_documents(
    folder: &std::path::Path,
    Backends { backend, fleet }: Backends,
    operations: usize,
) -> std::io::Result<()> {
    fs::create_dir_all(folder)?;
    let write = |name: &str, text: String| fs::write(folder.join(name), text);
    write(
        "fixed.backend.yaml",
        format!(
            "elm-porch: backend/1\nname: fixed\nkind: http\naddress: http://127.0.0.1:{backend}\n"
        ),
    )?;
    let contract = |title: &str, paths: &str| {
        format!("openapi: 3.1.0\ninfo: {{ title: {title}, version: 1.0.0 }}\npaths:\n{paths}")
    };
    write(
        "plain.openapi.yaml",
        contract(
            "Plain",
            "  /item/{id}:\n    get:\n      operationId: item\n      parameters: [{ name: id, in: path, required: true }]\n      responses: { '200': { description: ok } }\n",
        ),
    )?;
    write("plain.facade.yaml", "elm-porch: facade/1\nname: plain\nbase: /plain\ncontract: plain.openapi.yaml\noperations:\n  item:\n    call: { backend: fixed }\n".into())?;
    let mut paths = String::new();
    let mut wiring = String::new();
    let headers: String = (0..10)
        .map(|i| format!("        X-Rule-{i}: value {i}\n"))
        .collect();
    for i in 0..operations {
        paths.push_str(&format!(
            "  /kind{}/sub{i}/{{id}}:\n    get:\n      operationId: op{i}\n      parameters: [{{ name: id, in: path, required: true }}]\n      responses: {{ '200': {{ description: ok }} }}\n",
            i % 97
        ));
        wiring.push_str(&format!(
            "  op{i}:\n    call: {{ backend: fixed }}\n    send:\n      headers:\n{headers}"
        ));
    }
    write("full.openapi.yaml", contract("Full", &paths))?;
    write(
        "full.facade.yaml",
        format!(
            "elm-porch: facade/1\nname: full\nbase: /full\ncontract: full.openapi.yaml\nadmit:\n  credentials: [key]\n  limits:\n    - {{ requests: 4000000000, window: 1h }}\noperations:\n{wiring}"
        ),
    )?;
    let vessels = root().join("demo/documents/vessels");
    let definition = "vessels-definition/skerry/fleet/v1";
    fs::create_dir_all(folder.join(definition))?;
    fs::copy(
        vessels.join(definition).join("fleet.proto"),
        folder.join(definition).join("fleet.proto"),
    )?;
    fs::copy(
        vessels.join("vessels.openapi.yaml"),
        folder.join("vessels.openapi.yaml"),
    )?;
    write(
        "vessels.backend.yaml",
        fs::read_to_string(vessels.join("vessels.backend.yaml"))?
            .replace("127.0.0.1:3854", &format!("127.0.0.1:{fleet}")),
    )?;
    // Without the demo's limit, which so many calls would meet.
    let facade = fs::read_to_string(vessels.join("vessels.facade.yaml"))?;
    write(
        "vessels.facade.yaml",
        facade.replace(
            "admit:\n  limits:\n    - { requests: 600, window: 1m, per: address }\n",
            "",
        ),
    )?;
    let demo = root().join("demo/documents/sailings");
    fs::copy(
        demo.join("reservations.wsdl"),
        folder.join("reservations.wsdl"),
    )?;
    write(
        "reservations.backend.yaml",
        fs::read_to_string(demo.join("reservations.backend.yaml"))?
            .replace("127.0.0.1:3850", &format!("127.0.0.1:{backend}")),
    )?;
    write(
        "soap.openapi.yaml",
        contract(
            "Soap",
            "  /harbours/{harbour}/sailings:\n    get:\n      operationId: search\n      parameters:\n        - { name: harbour, in: path, required: true }\n        - { name: 'on', in: query, required: true }\n      responses: { '200': { description: ok } }\n",
        ),
    )?;
    write(
        "soap.facade.yaml",
        "elm-porch: facade/1\nname: soap\nbase: /soap\ncontract: soap.openapi.yaml\noperations:\n  search:\n    call: { backend: reservations, operation: SearchSailings }\n    send: { From: =path.harbour, On: =query.on }\n".into(),
    )
}

fn memory_mb(pid: u32) -> f64 {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let kb = status
        .lines()
        .find_map(|l| l.strip_prefix("VmRSS:"))
        .and_then(|l| l.trim().split(' ').next()?.parse::<f64>().ok());
    kb.unwrap_or(0.0) / 1024.0
}

/// Nanoseconds that all threads of a process have run.
fn cpu_ns(pid: u32) -> u64 {
    let tasks = fs::read_dir(format!("/proc/{pid}/task"))
        .into_iter()
        .flatten()
        .flatten();
    tasks
        .filter_map(|t| {
            fs::read_to_string(t.path().join("schedstat"))
                .ok()?
                .split(' ')
                .next()?
                .parse::<u64>()
                .ok()
        })
        .sum()
}

/// A time as wrk writes it, in microseconds.
fn wrk_time(text: &str) -> f64 {
    let at = text
        .find(|c: char| c.is_ascii_alphabetic())
        .unwrap_or(text.len());
    let n: f64 = text[..at].parse().unwrap_or(f64::NAN);
    match &text[at..] {
        "us" => n,
        "ms" => n * 1e3,
        _ => n * 1e6,
    }
}

fn wrk(load: &Load, connections: u32, seconds: u32) -> Outcome<Measured> {
    let mut command = Command::new("taskset");
    command.args([
        "-c",
        "1",
        "wrk",
        "-t1",
        &format!("-c{connections}"),
        &format!("-d{seconds}s"),
        "--latency",
    ]);
    if let Some(key) = &load.key {
        command.arg("-H").arg(format!("API-Key: {key}"));
    }
    let before = cpu_ns(load.pid);
    let output = command
        .arg(&load.url)
        .output()
        .map_err(|e| format!("wrk: {e}"))?;
    let cpu = cpu_ns(load.pid) - before;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let after = |name: &str| {
        text.lines()
            .find_map(|l| l.trim().strip_prefix(name))
            .map(|r| r.trim().to_owned())
    };
    if after("Non-2xx").is_some() || after("Socket errors").is_some() {
        return Err(format!("{} did not answer well:\n{text}", load.url));
    }
    let per_second: f64 = after("Requests/sec:")
        .and_then(|t| t.parse().ok())
        .ok_or_else(|| format!("wrk gave no figure:\n{text}"))?;
    let requests: f64 = text
        .lines()
        .find_map(|l| l.trim().split_once(" requests in ")?.0.parse().ok())
        .unwrap_or(f64::NAN);
    let percentile = |name: &str| after(name).map_or(f64::NAN, |t| wrk_time(&t));
    Ok(Measured {
        per_second,
        cpu_us: cpu as f64 / 1000.0 / requests,
        p50_us: percentile("50%"),
        p99_us: percentile("99%"),
    })
}

fn median(mut values: Vec<f64>) -> f64 {
    values.sort_by(f64::total_cmp);
    values.get(values.len() / 2).copied().unwrap_or(f64::NAN)
}

fn measure(case: &Case, direct: &Load, seconds: u32, runs: u32) -> Outcome<Value> {
    let (mut throughput, mut cpu, mut p50, mut p99) =
        (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let mut absolute = HashMap::from([("ours", Vec::new()), ("reference", Vec::new())]);
    for load in [&case.ours, &case.reference] {
        wrk(load, case.connections, 1)?;
    }
    for _ in 0..runs {
        let (a, b) = (
            wrk(&case.ours, case.connections, seconds)?,
            wrk(&case.reference, case.connections, seconds)?,
        );
        throughput.push(a.per_second / b.per_second);
        cpu.push(a.cpu_us / b.cpu_us);
        absolute.entry("ours").or_default().push(a.per_second);
        absolute.entry("reference").or_default().push(b.per_second);
        let (one, straight) = (
            wrk(&case.ours, 1, seconds.min(2))?,
            wrk(direct, 1, seconds.min(2))?,
        );
        p50.push(one.p50_us - straight.p50_us);
        p99.push(one.p99_us - straight.p99_us);
    }
    let round = |x: f64, digits: i32| (x * 10f64.powi(digits)).round() / 10f64.powi(digits);
    let (throughput, cpu) = (round(median(throughput), 3), round(median(cpu), 3));
    let met = throughput >= case.target.0 && case.target.1.is_none_or(|most| cpu <= most);
    let target = case.target.1.map_or_else(
        || format!("throughput ≥ {}", case.target.0),
        |most| format!("throughput ≥ {}, CPU ≤ {most}", case.target.0),
    );
    let per_second = |name: &str| median(absolute[name].clone()).round();
    Ok(json!({
        "case": case.name, "reference": case.reference_name, "throughput_ratio": throughput, "cpu_ratio": cpu,
        "p50_added_us": round(median(p50), 1), "p99_added_us": round(median(p99), 1), "memory_mb": round(memory_mb(case.ours.pid), 1),
        "target": target, "met": met, "ours_per_second": per_second("ours"), "reference_per_second": per_second("reference"),
    }))
}

/// Conversion alone, without any network.
fn convert(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· conversion alone");
    let wsdl = root().join("demo/documents/sailings/reservations.wsdl");
    let output = Command::new("taskset")
        .args(["-c", "0"])
        .arg(program("bench-convert"))
        .arg(wsdl)
        .arg((runs * 2 + 1).to_string())
        .output()
        .map_err(|e| e.to_string())?;
    Ok(String::from_utf8_lossy(&output.stdout)
        .lines()
        .filter_map(|l| serde_json::from_str(l).ok())
        .collect())
}

/// The same for messages of gRPC.
fn messages(runs: u32) -> Outcome<Vec<Value>> {
    eprintln!("· conversion of messages alone");
    let output = Command::new("taskset")
        .args(["-c", "0"])
        .arg(program("bench-messages"))
        .arg(root().join("standins/proto"))
        .arg((runs * 2 + 1).to_string())
        .output()
        .map_err(|e| e.to_string())?;
    Ok(String::from_utf8_lossy(&output.stdout)
        .lines()
        .filter_map(|l| serde_json::from_str(l).ok())
        .collect())
}

/// `cargo xtask bench`.
pub(crate) fn run(arguments: &[String]) -> Outcome {
    let (mut json, mut built, mut only, mut seconds, mut runs) = (false, false, None, 3u32, 5u32);
    let mut rest = arguments.iter();
    while let Some(argument) = rest.next() {
        let mut number = || {
            rest.next()
                .and_then(|n| n.parse::<u32>().ok())
                .filter(|n| (1..=60).contains(n))
                .ok_or_else(|| format!("bench: {argument} needs a number from 1 to 60"))
        };
        match argument.as_str() {
            "--json" => json = true,
            // With the programs that are there, to measure again.
            "--built" => built = true,
            "--seconds" => seconds = number()?,
            "--runs" => runs = number()?,
            "--only" => only = rest.next().cloned(),
            other => return Err(format!("bench: “{other}” is not known")),
        }
    }
    install::packages(&["postgresql", "wrk"])?;
    install::console()?;
    if !built {
        let mut build = Command::new("cargo");
        build
            .args([
                "build",
                "--quiet",
                "--profile",
                "dist",
                "-p",
                "porch",
                "-p",
                "porch-bench",
            ])
            .current_dir(root());
        run_command(
            "building for measuring (the first time takes many minutes)",
            &mut build,
        )?;
    }
    fs::create_dir_all(folder()).map_err(|e| e.to_string())?;
    let database = place_for(&folder().join("database"));
    let cluster = Cluster::start(&database, free_port().map_err(|e| e.to_string())?, false)
        .map_err(|e| format!("the database: {e}"))?;
    let port = || free_port().map_err(|e| e.to_string());
    let (backend, forwarder, converter, fleet, rest) =
        (port()?, port()?, port()?, port()?, port()?);
    let backends = Backends { backend, fleet };
    let (fleet_server, _) = start(1, "bench-fleet", &[fleet.to_string()], &[], 0)?;
    let (rest_server, _) = start(
        0,
        "bench-fleet-rest",
        &[rest.to_string(), fleet.to_string()],
        &[],
        0,
    )?;
    let (backend_server, _) = start(1, "bench-backend", &[backend.to_string()], &[], 0)?;
    let (forwarder_server, _) = start(
        0,
        "bench-forwarder",
        &[forwarder.to_string(), backend.to_string()],
        &[],
        0,
    )?;
    let (converter_server, _) = start(
        0,
        "bench-converter",
        &[converter.to_string(), backend.to_string()],
        &[],
        0,
    )?;
    let plain = |server: &Server, port: u16, path: &str| Load {
        pid: server.child.id(),
        url: format!("http://127.0.0.1:{port}{path}"),
        key: None,
    };
    let direct = plain(&backend_server, backend, "/item/7");
    let bare = plain(&forwarder_server, forwarder, "/item/7");
    let wanted = |name: &str| only.as_deref().is_none_or(|o| o == name);
    eprintln!("· starting the service: 10 operations and 1,000 keys");
    let small = Porch::start("small", &cluster, backends, 10, 1000)?;
    let idle_mb = small.memory_mb();
    let mut results = Vec::new();
    let mut add = |case: Case| -> Outcome {
        if !wanted(case.name) {
            return Ok(());
        }
        eprintln!("· {} against {}", case.name, case.reference_name);
        results.push(measure(&case, &direct, seconds, runs)?);
        Ok(())
    };
    let full =
        |porch: &Porch, i: usize| porch.load(&format!("/full/kind{}/sub{i}/7", i % 97), true);
    add(Case {
        name: "pass-through",
        reference_name: "bare forwarder",
        target: (1.2, Some(0.8)),
        connections: 64,
        ours: small.load("/plain/item/7", false),
        reference: bare.clone(),
    })?;
    add(Case {
        name: "soap-1kb",
        reference_name: "hand-written typed converter",
        target: (1.35, None),
        connections: 64,
        ours: small.load("/soap/harbours/Farholt/sailings?on=2027-05-14", false),
        reference: plain(
            &converter_server,
            converter,
            "/harbours/Farholt/sailings?on=2027-05-14",
        ),
    })?;
    add(Case {
        name: "soap-1mb",
        reference_name: "hand-written typed converter",
        target: (2.0, None),
        connections: 4,
        ours: small.load("/soap/harbours/Everywhere/sailings?on=2027-05-14", false),
        reference: plain(
            &converter_server,
            converter,
            "/harbours/Everywhere/sailings?on=2027-05-14",
        ),
    })?;
    for (name, target, connections, ours, path) in [
        ("grpc-1kb", 1.2, 64, "/vessels/v1/vessels/v1", "/vessels/v1"),
        ("grpc-10000", 2.0, 4, "/vessels/v1/vessels", "/vessels"),
        (
            "grpc-stream",
            1.2,
            4,
            "/vessels/v1/positions:stream",
            "/positions",
        ),
    ] {
        add(Case {
            name,
            reference_name: "hand-written typed service",
            target: (target, None),
            connections,
            ours: small.load(ours, false),
            reference: plain(&rest_server, rest, path),
        })?;
    }
    if ["full", "full-against-own", "operations"]
        .into_iter()
        .any(wanted)
    {
        eprintln!("· starting the service: 10,000 operations");
        let wide = Porch::start("wide", &cluster, backends, 10_000, 1000)?;
        add(Case {
            name: "full",
            reference_name: "bare forwarder",
            target: (1.1, Some(0.9)),
            connections: 64,
            ours: full(&wide, 7777),
            reference: bare.clone(),
        })?;
        add(Case {
            name: "full-against-own",
            reference_name: "our own pass-through",
            target: (0.95, None),
            connections: 64,
            ours: full(&wide, 7777),
            reference: wide.load("/plain/item/7", false),
        })?;
        add(Case {
            name: "operations",
            reference_name: "10 operations",
            target: (0.93, None),
            connections: 64,
            ours: full(&wide, 7777),
            reference: full(&small, 7),
        })?;
    }
    if wanted("keys") {
        eprintln!("· starting the service: 1,000,000 keys");
        let many = Porch::start("many", &cluster, backends, 10, 1_000_000)?;
        add(Case {
            name: "keys",
            reference_name: "1,000 keys",
            target: (0.93, None),
            connections: 64,
            ours: full(&many, 7),
            reference: full(&small, 7),
        })?;
    }
    let conversions = if wanted("convert") {
        convert(runs)?
    } else {
        Vec::new()
    };
    let messages = if wanted("messages") {
        messages(runs)?
    } else {
        Vec::new()
    };
    if results.is_empty() && conversions.is_empty() && messages.is_empty() {
        return Err("bench: no such case; there are pass-through, soap-1kb, soap-1mb, grpc-1kb, grpc-10000, grpc-stream, convert, messages, full, full-against-own, operations, keys".into());
    }
    drop((
        small,
        backend_server,
        forwarder_server,
        converter_server,
        fleet_server,
        rest_server,
    ));
    if json {
        results.extend(conversions);
        results.extend(messages);
        println!("{:#}", Value::Array(results));
        return Ok(());
    }
    if !conversions.is_empty() {
        println!(
            "| conversion alone | ours | bare XML scan | ratio | serde_json into a Value | target | met |\n|---|---|---|---|---|---|---|"
        );
        for c in &conversions {
            let mb = |name: &str| format!("{:.0} MB/s", c[name].as_f64().unwrap_or(f64::NAN));
            let ratio = c["ratio"].as_f64().unwrap_or(f64::NAN);
            let met = if ratio >= 0.65 { "yes" } else { "no" };
            println!(
                "| {} | {} | {} | {ratio:.2} | {} | ≥ 0.65 | {met} |",
                c["case"].as_str().unwrap_or_default(),
                mb("ours_mb_s"),
                mb("bare_xml_mb_s"),
                mb("serde_json_mb_s")
            );
        }
        println!();
    }
    if !messages.is_empty() {
        println!(
            "| messages alone | ours | dynamic message | ratio | target | met |\n|---|---|---|---|---|---|"
        );
        for m in &messages {
            let mb = |name: &str| format!("{:.0} MB/s", m[name].as_f64().unwrap_or(f64::NAN));
            let ratio = m["ratio"].as_f64().unwrap_or(f64::NAN);
            println!(
                "| {} | {} | {} | {ratio:.1} | ≥ 6 | {} |",
                m["case"].as_str().unwrap_or_default(),
                mb("ours_mb_s"),
                mb("dynamic_mb_s"),
                if ratio >= 6.0 { "yes" } else { "no" }
            );
        }
        println!();
    }
    if results.is_empty() {
        return Ok(());
    }
    println!("memory of the idle service with 10 operations and 1,000 keys: {idle_mb:.1} MB\n");
    println!(
        "| case | reference | throughput | CPU a request | p50 added | p99 added | memory | target | met |\n|---|---|---|---|---|---|---|---|---|"
    );
    for r in &results {
        let text = |name: &str| {
            r[name]
                .as_str()
                .map_or_else(|| r[name].to_string(), str::to_owned)
        };
        println!(
            "| {} | {} | {} ({} / {} a second) | {} | {} µs | {} µs | {} MB | {} | {} |",
            text("case"),
            text("reference"),
            text("throughput_ratio"),
            text("ours_per_second"),
            text("reference_per_second"),
            text("cpu_ratio"),
            text("p50_added_us"),
            text("p99_added_us"),
            text("memory_mb"),
            text("target"),
            if r["met"] == json!(true) { "yes" } else { "no" }
        );
    }
    Ok(())
}
