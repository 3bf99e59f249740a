//! What each kind of credential and of limit adds to a call: instructions, and nanoseconds of the gateway's core.

use std::process::Command;

use super::{CONNECTIONS, Case, build, case, instructions, loaded, programs};
use crate::Outcome;

/// Rounds of each run, and runs that take turns; the median counts.
const ROUNDS: u32 = 2000;
const RUNS: usize = 5;
/// Rounds of the shorter and the longer run in which instructions are counted.
const COUNTED: (u32, u32) = (10, 30);

/// What is measured, what is shown, and what it is held against.
const KINDS: [(&str, &str, Option<&str>, &str); 10] = [
    ("key", "/key/item/7", Some("bench"), "plain"),
    (
        "name and password, remembered",
        "/basic/item/7",
        Some("as:basic"),
        "plain",
    ),
    (
        "signature (ed25519)",
        "/signature/item/7",
        Some("as:signature"),
        "plain",
    ),
    ("token (ES256)", "/token/item/7", Some("as:token"), "plain"),
    ("networks", "/networks/item/7", None, "plain"),
    ("limit by address", "/address/item/7", None, "plain"),
    ("limit, sliding", "/sliding/item/7", Some("bench"), "key"),
    ("limit, smooth", "/smooth/item/7", Some("bench"), "key"),
    ("quota", "/quota/item/7", Some("bench"), "key"),
    ("at once", "/at-once/item/7", Some("bench"), "key"),
];

const fn of(name: &'static str, path: &'static str, key: Option<&'static str>) -> Case {
    Case {
        key,
        kinds: true,
        ..case(name, path)
    }
}

/// Nanoseconds of the gateway's threads a request.
fn nanoseconds(case: &Case) -> Outcome<f64> {
    let mut seen = Vec::new();
    loaded(
        case,
        Command::new(programs().join("bench-gateway")),
        ROUNDS,
        |pid| {
            seen.push(cpu_of(pid)?);
            Ok(())
        },
    )?;
    let [before, after] = seen[..] else {
        return Err("bench-gateway was not looked at".into());
    };
    Ok((after - before) as f64 / f64::from(ROUNDS * CONNECTIONS))
}

/// Nanoseconds that the threads of a process have run (`/proc/PID/task/TID/schedstat`, its first number).
fn cpu_of(pid: u32) -> Outcome<u64> {
    let tasks = std::fs::read_dir(format!("/proc/{pid}/task")).map_err(|e| e.to_string())?;
    let mut sum = 0;
    for task in tasks.flatten() {
        let text = std::fs::read_to_string(task.path().join("schedstat")).unwrap_or_default();
        let ran = text
            .split_whitespace()
            .next()
            .and_then(|n| n.parse::<u64>().ok());
        sum += ran.unwrap_or(0);
    }
    Ok(sum)
}

fn median(mut all: Vec<f64>) -> f64 {
    all.sort_by(f64::total_cmp);
    all[all.len() / 2]
}

/// `cargo xtask floor --kinds`.
pub(super) fn told() -> Outcome {
    build()?;
    let plain = of("plain", "/plain/item/7", None);
    let mut cases = vec![plain];
    cases.extend(KINDS.map(|(name, path, key, _)| of(name, path, key)));
    let mut times = vec![Vec::new(); cases.len()];
    for run in 0..RUNS {
        eprintln!("· nanoseconds, run {} of {RUNS}", run + 1);
        for (case, times) in cases.iter().zip(&mut times) {
            times.push(nanoseconds(case)?);
        }
    }
    let mut counts = Vec::new();
    for case in &cases {
        eprintln!("· counting instructions: {}", case.name);
        let (short, long) = (
            instructions(case, COUNTED.0)?,
            instructions(case, COUNTED.1)?,
        );
        let requests = u64::from((COUNTED.1 - COUNTED.0) * CONNECTIONS);
        counts.push((long.saturating_sub(short) / requests).cast_signed());
    }
    let times: Vec<f64> = times.into_iter().map(median).collect();
    println!("| kind | beside | instructions | ns of a core |");
    println!("|---|---|---|---|");
    println!(
        "| plain | | {} in all | {:.0} in all |",
        counts[0], times[0]
    );
    for (i, (name, .., beside)) in KINDS.iter().enumerate() {
        let base = cases.iter().position(|c| c.name == *beside).unwrap_or(0);
        let (count, time) = (counts[i + 1] - counts[base], times[i + 1] - times[base]);
        println!("| {name} | {beside} | {count:+} | {time:+.0} |");
    }
    Ok(())
}
