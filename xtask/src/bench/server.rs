//! Programs that are measured: started on one core, ended with this one, and what they took.

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use crate::{Outcome, root};

pub(super) struct Server {
    child: Child,
}

impl Server {
    pub(super) fn pid(&self) -> u32 {
        self.child.id()
    }
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

pub(super) fn program(name: &str) -> PathBuf {
    root().join("target/release").join(name)
}

pub(super) fn folder() -> PathBuf {
    root().join("target/bench")
}

/// A process held to one core, ended with this one.
pub(super) fn start(
    cores: &str,
    name: &str,
    arguments: &[String],
    environment: &[(&str, String)],
    lines: usize,
) -> Outcome<(Server, Vec<String>)> {
    let log = fs::File::create(folder().join(format!("{name}.log"))).map_err(|e| e.to_string())?;
    let mut command = Command::new("setpriv");
    command
        .args(["--pdeathsig", "KILL", "taskset", "-c", cores])
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
    let seen = first_lines(&mut child, name, lines)?;
    Ok((Server { child }, seen))
}

/// The second word of each of the first lines a program prints: its addresses.
fn first_lines(child: &mut Child, name: &str, lines: usize) -> Outcome<Vec<String>> {
    let mut seen = Vec::new();
    let Some(output) = child.stdout.take() else {
        return Ok(seen);
    };
    let mut output = BufReader::new(output);
    for _ in 0..lines {
        let mut line = String::new();
        if output.read_line(&mut line).unwrap_or(0) == 0 {
            return Err(format!(
                "{name} did not start; see {}",
                folder().join(format!("{name}.log")).display()
            ));
        }
        let word = line
            .split_whitespace()
            .nth(1)
            .ok_or_else(|| format!("{name} said “{}”, not its address", line.trim()))?;
        seen.push(word.to_owned());
    }
    std::thread::spawn(move || std::io::copy(&mut output, &mut std::io::sink()));
    Ok(seen)
}

pub(super) fn memory_mb(pid: u32) -> f64 {
    let status = fs::read_to_string(format!("/proc/{pid}/status")).unwrap_or_default();
    let kb = status
        .lines()
        .find_map(|l| l.strip_prefix("VmRSS:"))
        .and_then(|l| l.trim().split(' ').next()?.parse::<f64>().ok());
    kb.unwrap_or(0.0) / 1024.0
}

/// Nanoseconds that all threads of a process have run.
pub(super) fn cpu_ns(pid: u32) -> u64 {
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
