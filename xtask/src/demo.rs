//! The demo: database, stand-ins, service, seed; all of it ends together.

use std::fs;
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::os::unix::process::CommandExt;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use porch_cluster::{Cluster, place_for};

use crate::newcomers::{PARTNER, PORTAL};
use crate::places::{ACCOUNT, CONSOLE, GATEWAY, PASSWORD, program};
use crate::{Outcome, history, install, root, run as run_command, seed};

const PORTS: [(&str, u16); 18] = [
    ("gateway by TLS", 3811),
    ("gateway", GATEWAY),
    ("console", CONSOLE),
    ("portal", PORTAL),
    ("stand-in reservations", 3850),
    ("stand-in timetable", 3851),
    ("stand-in cargo-desk", 3852),
    ("stand-in loyalty", 3853),
    ("stand-in vessels", 3854),
    ("stand-in reservations by TLS", 3855),
    ("stand-in loyalty by TLS", 3856),
    ("stand-in stores", 3857),
    ("stand-in tides", 3858),
    ("stand-in timetable to come", 3859),
    ("database", 3860),
    ("stand-in crew-login", 3861),
    ("stand-in outbox", 3862),
    ("stand-in outbox by SMTP", 3863),
];

fn folder() -> PathBuf {
    root().join("target/demo")
}

fn pid_file() -> PathBuf {
    folder().join("pid")
}

/// The process of a demo that runs.
fn running() -> Option<u32> {
    let pid: u32 = fs::read_to_string(pid_file()).ok()?.trim().parse().ok()?;
    let command = fs::read_to_string(format!("/proc/{pid}/cmdline")).ok()?;
    command.contains("xtask").then_some(pid)
}

fn database_folder() -> PathBuf {
    place_for(&folder().join("database"))
}

/// `cargo xtask demo`.
pub(crate) fn run(arguments: &[String]) -> Outcome {
    let has = |name: &str| arguments.iter().any(|a| a == name);
    if let Some(unknown) = arguments
        .iter()
        .find(|a| !["--background", "--stop", "--fresh", "--attached"].contains(&a.as_str()))
    {
        return Err(format!(
            "demo: “{unknown}” is not known; --background, --stop and --fresh are"
        ));
    }
    if has("--stop") {
        return stop();
    }
    if let Some(pid) = running() {
        return Err(format!(
            "the demo runs already (process {pid}); `cargo xtask demo --stop` ends it"
        ));
    }
    if has("--background") {
        return background(has("--fresh"));
    }
    foreground(has("--fresh"), !has("--attached"))
}

fn stop() -> Outcome {
    let Some(pid) = running() else {
        return Err("no demo is running".into());
    };
    let _ = Command::new("kill")
        .args(["-TERM", &pid.to_string()])
        .status();
    let end = Instant::now() + Duration::from_secs(30);
    while running().is_some() {
        if Instant::now() > end {
            return Err(format!("the demo (process {pid}) did not end within 30 s"));
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    eprintln!("the demo has ended");
    Ok(())
}

fn background(fresh: bool) -> Outcome {
    fs::create_dir_all(folder()).map_err(|e| e.to_string())?;
    let ready = folder().join("ready");
    let _ = fs::remove_file(&ready);
    let log = folder().join("log");
    let file = fs::File::create(&log).map_err(|e| e.to_string())?;
    let program = std::env::current_exe().map_err(|e| e.to_string())?;
    let mut command = Command::new(program);
    command
        .args(["demo", "--attached"])
        .process_group(0)
        .stdin(Stdio::null())
        .stdout(file.try_clone().map_err(|e| e.to_string())?)
        .stderr(file);
    if fresh {
        command.arg("--fresh");
    }
    let mut child = command.spawn().map_err(|e| e.to_string())?;
    loop {
        if let Ok(Some(status)) = child.try_wait() {
            let text = fs::read_to_string(&log).unwrap_or_default();
            return Err(format!(
                "the demo ended with {status}:\n{}",
                text.trim_end()
            ));
        }
        if let Ok(text) = fs::read_to_string(&ready) {
            print!("{text}");
            return Ok(());
        }
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A child that ends with this process, in a group of its own so that Ctrl-C reaches it in order.
///
/// It has started when it has printed the line that begins with its last word.
struct Part {
    name: &'static str,
    child: Child,
}

impl Part {
    fn start(
        name: &'static str,
        program: PathBuf,
        set_up: impl FnOnce(&mut Command),
        last: &str,
    ) -> Outcome<Self> {
        let log = folder().join(format!("{name}.log"));
        let errors = fs::File::create(&log).map_err(|e| format!("{}: {e}", log.display()))?;
        let mut command = Command::new("setpriv");
        command.args(["--pdeathsig", "TERM"]).arg(program);
        set_up(&mut command);
        let mut child = command
            .process_group(0)
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .stderr(errors)
            .spawn()
            .map_err(|e| format!("{name}: {e}"))?;
        let mut output = BufReader::new(child.stdout.take().ok_or("no output")?);
        let mut line = String::new();
        while !line.starts_with(last) {
            line.clear();
            if output.read_line(&mut line).unwrap_or(0) == 0 {
                let _ = child.wait();
                let text = fs::read_to_string(&log).unwrap_or_default();
                return Err(format!("{name} did not start:\n{}", text.trim_end()));
            }
        }
        // What it prints later must not fill the pipe.
        std::thread::spawn(move || std::io::copy(&mut output, &mut std::io::sink()));
        Ok(Self { name, child })
    }
}

impl Drop for Part {
    fn drop(&mut self) {
        let _ = Command::new("kill")
            .args(["-TERM", &self.child.id().to_string()])
            .stderr(Stdio::null())
            .status();
        let end = Instant::now() + Duration::from_secs(15);
        while matches!(self.child.try_wait(), Ok(None)) && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(20));
        }
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn foreground(fresh: bool, talk: bool) -> Outcome {
    let told = Arc::new(AtomicBool::new(false));
    for signal in [signal_hook::consts::SIGINT, signal_hook::consts::SIGTERM] {
        signal_hook::flag::register(signal, told.clone()).map_err(|e| e.to_string())?;
    }
    install::packages(&["postgresql"])?;
    install::console()?;
    run_command(
        "building the service",
        Command::new("cargo")
            .args(["build", "--quiet", "-p", "porch", "-p", "porch-standins"])
            .current_dir(root()),
    )?;
    for (name, port) in PORTS {
        TcpListener::bind(("127.0.0.1", port)).map_err(|e| format!("port {port} ({name}) cannot be used: {e}\n  end what listens there; `ss -ltnp sport = :{port}` shows it"))?;
    }
    if fresh {
        let _ = fs::remove_dir_all(database_folder());
        for name in ["state", "seeded", "env"] {
            let path = folder().join(name);
            let _ = if path.is_dir() {
                fs::remove_dir_all(path)
            } else {
                fs::remove_file(path)
            };
        }
    }
    fs::create_dir_all(folder()).map_err(|e| e.to_string())?;
    fs::write(pid_file(), std::process::id().to_string()).map_err(|e| e.to_string())?;
    let outcome = serve(&told, talk);
    let _ = fs::remove_file(pid_file());
    let _ = fs::remove_file(folder().join("ready"));
    outcome
}

/// Callers are shown what the stand-ins are shown to be: a certificate for `localhost`.
fn certificates() -> Outcome {
    let (from, to) = (folder().join("tls"), folder().join("certificates"));
    fs::create_dir_all(&to).map_err(|e| e.to_string())?;
    for file in ["localhost.pem", "localhost.key"] {
        fs::copy(from.join(file), to.join(file)).map_err(|e| format!("{file}: {e}"))?;
    }
    Ok(())
}

/// The service over a database.
fn service(database: &str) -> Outcome<Part> {
    Part::start(
        "service",
        program("porch"),
        |c| {
            c.arg("serve")
                .env("ELM_PORCH_DATABASE", database)
                .env("ELM_PORCH_STATE", folder().join("state"));
            c.env("ELM_PORCH_TLS_LISTEN", "127.0.0.1:3811")
                .env("ELM_PORCH_CERTIFICATES", folder().join("certificates"));
            c.env(
                "ELM_PORCH_OPENID",
                root().join("demo/sign-in/crew-login.toml"),
            );
            c.env("ELM_PORCH_MAIL", root().join("demo/sign-in/letters.toml"));
            let login = root().join("demo/sign-in/portal-login.toml");
            c.env("ELM_PORCH_PORTAL_OPENID", login);
            // The outbox takes events on this host, by plain HTTP.
            c.env("ELM_PORCH_WEBHOOKS_INSIDE", "true");
            c.env("ELM_PORCH_FIRST_ACCOUNT", ACCOUNT)
                .env("ELM_PORCH_FIRST_PASSWORD", PASSWORD);
        },
        "portal ",
    )
}

fn serve(told: &AtomicBool, talk: bool) -> Outcome {
    let mut cluster =
        Cluster::start(&database_folder(), 3860, true).map_err(|e| format!("the database: {e}"))?;
    cluster
        .ensure_database("porch")
        .map_err(|e| format!("the database: {e}"))?;
    let standins = Part::start(
        "standins",
        program("standins"),
        |c| {
            c.arg("--tls").arg(folder().join("tls"));
        },
        "all ",
    )?;
    certificates()?;
    let service = service(&cluster.url("porch"))?;
    let first = !folder().join("seeded").exists();
    let seeded = seed::seed(&folder(), first)?;
    if first {
        history::write(&cluster.url("porch"))?;
    }
    let text = welcome(first, &seeded);
    if talk {
        print!("{text}");
        println!("Ctrl-C ends all of it; the data stay.");
    }
    fs::write(folder().join("ready"), &text).map_err(|e| e.to_string())?;
    let mut parts = [standins, service];
    while !told.load(Ordering::Relaxed) {
        std::thread::sleep(Duration::from_millis(100));
        for part in &mut parts {
            if let Ok(Some(status)) = part.child.try_wait() {
                return Err(format!(
                    "{} ended by itself ({status}); see {}",
                    part.name,
                    folder().join(format!("{}.log", part.name)).display()
                ));
            }
        }
        if !cluster.is_running() {
            return Err("the database ended by itself".into());
        }
    }
    eprintln!("stopping");
    let [standins, service] = parts;
    drop(service);
    drop(standins);
    cluster.stop();
    Ok(())
}

fn welcome(first: bool, key: &str) -> String {
    let (partner, word) = PARTNER;
    format!(
        "
Elm Porch is up{}.
  gateway   http://127.0.0.1:{GATEWAY}
  console   http://127.0.0.1:{CONSOLE}     sign in as {ACCOUNT}, password {PASSWORD}
  portal    http://127.0.0.1:{PORTAL}     sign up, with any address: letters are at http://127.0.0.1:3862;
                                     or sign in as {partner}, password {word}

Three things to try:
  . target/demo/env                        (addresses, token and a key for the commands below)
  1. curl -i -H \"API-Key: $ELM_PORCH_KEY\" http://127.0.0.1:{GATEWAY}/sailings/v2/fares/FAR-MAR/car
     seven times in 90 seconds; the eighth is refused. Then: target/debug/porch trace --status refused
  2. target/debug/porch try quoteFare route=FAR-MAR fareClass=cabin passengers=2
     shows each step from the caller's request to the SOAP envelope and back
  3. target/debug/porch look 'http://127.0.0.1:3850/reservations?wsdl'
     shows what the old booking system offers, and what it would look like as REST;
     by TLS it is at https://localhost:3855/reservations?wsdl, with --trust target/demo/tls/ca.pem

The key of the demo's kiosk: {key}
",
        if first { ", with fresh data" } else { ", with the data of last time" }
    )
}
