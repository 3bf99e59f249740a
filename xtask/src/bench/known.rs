//! Who is known, at scale: a million keys and a hundred thousand agreements in a service that starts, and one of them changed.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::time::{Duration, Instant};

use serde_json::Value;

use super::cases::Bench;
use super::running::row;
use super::service::{Porch, Size};
use crate::Outcome;

const KEYS: usize = 1_000_000;
const AGREEMENTS: usize = 100_000;
/// So often one key is made, and ended.
const CHANGES: usize = 5;

impl Bench<'_> {
    /// What keys and agreements take, how long a start with them takes, and how soon a change of one is seen by callers.
    pub(super) fn known(&self) -> Outcome<Vec<Value>> {
        eprintln!("· keys and agreements");
        let mut few = Porch::publish("few", self.cluster, self.backends(), Size::FEW)?;
        few.restart(self.cluster)?;
        let idle = few.memory_mb();
        drop(few);
        let size = Size {
            keys: KEYS,
            ..Size::FEW
        };
        let mut porch = Porch::publish("keyed", self.cluster, self.backends(), size)?;
        eprintln!("· a start with {KEYS} keys");
        let started = Instant::now();
        porch.restart(self.cluster)?;
        let keyed = started.elapsed();
        let keys = porch.memory_mb();
        let mut rows = vec![row(
            "bytes a key, of 1,000,000",
            &format!(
                "{keys:.0} MB after a restart, which took {:.1} s with signing in",
                keyed.as_secs_f64()
            ),
            (keys - idle) * 1.048_576,
            200.0,
        )];
        eprintln!("· the same with {AGREEMENTS} agreements");
        porch.insert_agreements(self.cluster, AGREEMENTS)?;
        let started = Instant::now();
        porch.restart(self.cluster)?;
        let took = started.elapsed().as_secs_f64();
        let all = porch.memory_mb();
        rows.push(row(
            "bytes an agreement, of 100,000 of a thousand consumers",
            &format!("{all:.0} MB after a restart"),
            (all - keys) * 10.485_76,
            400.0,
        ));
        rows.push(row(
            "seconds to start with 1,000,000 keys and 100,000 agreements",
            "until callers are served and somebody is signed in",
            took,
            f64::INFINITY,
        ));
        rows.push(changed(&porch)?);
        Ok(rows)
    }
}

/// How soon one key that is made, and ended, is seen by callers.
fn changed(porch: &Porch) -> Outcome<Value> {
    eprintln!("· keys made and ended");
    let (mut made, mut ended) = (Vec::new(), Vec::new());
    for _ in 0..CHANGES {
        let (key, prefix) = porch.new_key()?;
        made.push(seen(porch, &key, 200)?);
        porch.end_key(&prefix)?;
        ended.push(seen(porch, &key, 401)?);
    }
    let worst = |all: Vec<f64>| all.into_iter().fold(0.0, f64::max);
    let ended = worst(ended);
    Ok(row(
        "ms until a new key is taken, of 1,000,000",
        &format!(
            "behind the client's answer, the worst of {CHANGES}; one that was ended is refused after {ended:.0}"
        ),
        worst(made).max(ended),
        1000.0,
    ))
}

/// Milliseconds until callers with a key are answered so.
fn seen(porch: &Porch, key: &str, wanted: u16) -> Outcome<f64> {
    let from = Instant::now();
    while status(porch, key)? != wanted {
        if from.elapsed() > Duration::from_secs(20) {
            return Err(format!(
                "a call with the key was not answered {wanted} in time"
            ));
        }
        std::thread::sleep(Duration::from_millis(2));
    }
    Ok(from.elapsed().as_secs_f64() * 1000.0)
}

/// The status of one call.
fn status(porch: &Porch, key: &str) -> Outcome<u16> {
    let address = porch.gateway().trim_start_matches("http://");
    let mut stream = TcpStream::connect(address).map_err(|e| e.to_string())?;
    let head = format!(
        "GET /full/kind0/sub0/7 HTTP/1.1\r\nHost: {address}\r\nAPI-Key: {key}\r\nConnection: close\r\n\r\n"
    );
    let mut answer = String::new();
    stream
        .write_all(head.as_bytes())
        .and_then(|()| stream.read_to_string(&mut answer))
        .map_err(|e| e.to_string())?;
    let status = answer.split(' ').nth(1).and_then(|s| s.parse().ok());
    status.ok_or_else(|| "the gateway gave no answer".into())
}
