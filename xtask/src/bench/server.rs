//! Programs that are measured: started on one core, ended with this one, and what they took.

use std::collections::HashMap;
use std::ffi::OsString;
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

/// What each thread of a process has run.
pub(super) struct Cpu(HashMap<OsString, u64>);

impl Cpu {
    pub(super) fn of(pid: u32) -> Self {
        let tasks = fs::read_dir(format!("/proc/{pid}/task"));
        let ran = |task: fs::DirEntry| {
            let text = fs::read_to_string(task.path().join("schedstat")).ok()?;
            let ns = text.split(' ').next()?.parse().ok()?;
            Some((task.file_name(), ns))
        };
        Self(
            tasks
                .into_iter()
                .flatten()
                .flatten()
                .filter_map(ran)
                .collect(),
        )
    }

    /// Nanoseconds that its threads have run since; threads that ended meanwhile had been idle and do not count.
    pub(super) fn since(&self, before: &Self) -> u64 {
        let own = |(task, ns): (&OsString, &u64)| {
            ns.saturating_sub(before.0.get(task).copied().unwrap_or(0))
        };
        self.0.iter().map(own).sum()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_thread_that_ended_takes_nothing_from_the_others() {
        let cpu = |list: &[(&str, u64)]| Cpu(list.iter().map(|(t, n)| ((*t).into(), *n)).collect());
        let before = cpu(&[("1", 500), ("2", 90)]);
        assert_eq!(cpu(&[("1", 520), ("3", 7)]).since(&before), 27);
        let now = Cpu::of(std::process::id());
        assert!(now.0.values().sum::<u64>() > 0);
    }
}
