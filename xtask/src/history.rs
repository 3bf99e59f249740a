//! A past for the demo: an hour and a week of traffic, the same each time, written as usage and traces, so that no chart shows
//! one bar. The clock of it counts backwards from now.

use std::fmt::Write as _;
use std::io::Write as _;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant, SystemTime, UNIX_EPOCH};

use crate::Outcome;

/// Who calls what, how often in a minute at most, and in which bucket of latency most calls are.
struct Habit {
    facade: &'static str,
    operation: &'static str,
    consumer: &'static str,
    most: u64,
    bucket: usize,
    bytes: u64,
    /// Of a hundred calls so many are refused, with this status.
    refused: (u64, u16),
}

const fn habit(
    facade: &'static str,
    operation: &'static str,
    consumer: &'static str,
    numbers: (u64, usize, u64),
    refused: (u64, u16),
) -> Habit {
    Habit {
        facade,
        operation,
        consumer,
        most: numbers.0,
        bucket: numbers.1,
        bytes: numbers.2,
        refused,
    }
}

const HABITS: [Habit; 12] = [
    habit(
        "sailings",
        "quoteFare",
        "Gullwing Tours",
        (46, 13, 92),
        (4, 429),
    ),
    habit(
        "sailings",
        "searchSailings",
        "Gullwing Tours",
        (18, 15, 1840),
        (1, 400),
    ),
    habit(
        "sailings",
        "quoteFare",
        "Quayside Kiosk",
        (7, 13, 92),
        (9, 429),
    ),
    habit(
        "sailings",
        "quoteFare",
        "Tide Clock",
        (3, 13, 92),
        (30, 429),
    ),
    habit("timetable", "departures", "", (64, 9, 640), (2, 404)),
    habit(
        "cargo",
        "findConsignments",
        "Island Freight Desk",
        (21, 14, 2210),
        (0, 400),
    ),
    habit(
        "cargo",
        "getConsignment",
        "Island Freight Desk",
        (15, 14, 780),
        (5, 404),
    ),
    habit(
        "loyalty",
        "getMember",
        "Gullwing Tours",
        (12, 11, 310),
        (3, 404),
    ),
    habit("vessels", "listVessels", "", (26, 10, 1490), (1, 400)),
    habit("vessels", "getVessel", "", (31, 10, 730), (6, 404)),
    habit(
        "berths",
        "listBerths",
        "Island Freight Desk",
        (5, 10, 260),
        (0, 400),
    ),
    habit("", "", "", (2, 2, 210), (100, 404)),
];

/// The quarter of an hour in which the cargo desk did not answer: minutes ago.
const FAILING: std::ops::Range<i64> = 22..37;
const WEEK: i64 = 7 * 24 * 60;
/// In the week before the last hour, one row stands for so many minutes.
const STEP: i64 = 15;
const BUCKETS: usize = 40;

/// How busy it is so many minutes ago, of a hundred: quiet nights, two peaks a day, a quieter weekend.
fn busy(ago: i64) -> u64 {
    let day = (ago % 1440) as f64 / 1440.0 * std::f64::consts::TAU;
    let weekend = if (ago / 1440) % 7 >= 5 { 0.6 } else { 1.0 };
    let curve = 0.52 + 0.33 * day.cos() + 0.15 * (2.0 * day + 0.6).cos();
    (curve.max(0.06) * weekend * 100.0) as u64
}

/// A number below `below` that looks like chance and is the same each time.
fn chance(ago: i64, which: usize, below: u64) -> u64 {
    let mut n = (ago as u64).wrapping_mul(0x9e37_79b9_7f4a_7c15)
        ^ (which as u64 + 1).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    n ^= n >> 29;
    n = n.wrapping_mul(0x94d0_49bb_1331_11eb);
    (n ^ (n >> 32)) % below.max(1)
}

/// One row of usage.
fn row(out: &mut String, now: i64, ago: i64, of: &Habit, status: u16, calls: u64) {
    if calls == 0 {
        return;
    }
    let slow = if status == 504 { 38 } else { of.bucket };
    let mut latency = [0u64; BUCKETS];
    let parts = [
        (slow, 60),
        (slow + 1, 22),
        (slow.saturating_sub(1), 12),
        (slow + 4, 6),
    ];
    let mut left = calls;
    // What timed out took as long as it may.
    let others = if status == 504 { &[] } else { &parts[1..] };
    for (bucket, percent) in others {
        let here = calls * percent / 100;
        latency[(*bucket).min(BUCKETS - 1)] += here;
        left -= here;
    }
    latency[slow.min(BUCKETS - 1)] += left;
    let buckets: Vec<String> = latency.iter().map(u64::to_string).collect();
    let bytes = if status < 300 { of.bytes } else { 240 };
    let _ = writeln!(
        out,
        "{}({},'{}','{}','{}',{status},{calls},{},'[{}]'::jsonb)",
        if out.is_empty() { "" } else { "," },
        now - ago,
        of.facade,
        of.operation,
        of.consumer,
        calls * bytes,
        buckets.join(",")
    );
}

fn usage(now: i64) -> String {
    let mut values = String::new();
    let minutes = (1..60).map(|ago| (ago, 1));
    let week = (60..WEEK)
        .step_by(STEP as usize)
        .map(|ago| (ago, STEP as u64));
    for (ago, lasts) in minutes.chain(week) {
        for (which, of) in HABITS.iter().enumerate() {
            let usual = of.most * lasts * busy(ago) / 100;
            let calls = usual * (70 + chance(ago, which, 60)) / 100 + chance(ago, which + 40, 2);
            if of.facade == "cargo" && FAILING.contains(&ago) {
                row(&mut values, now, ago, of, 504, calls);
                continue;
            }
            let refused = calls * of.refused.0 / 100
                + u64::from(chance(ago, which + 80, 400) < of.refused.0 * calls);
            let refused = refused.min(calls);
            row(&mut values, now, ago, of, of.refused.1, refused);
            row(&mut values, now, ago, of, 200, calls - refused);
        }
    }
    format!(
        "insert into usage (minute, facade, operation, consumer, status, boot, calls, bytes_in, bytes_out, latency)
         select v.minute, v.facade, v.operation, coalesce((select c.id from consumer c where c.name = v.consumer), 0), v.status, 1, v.calls, 0, v.bytes, v.latency
         from (values {values}) as v (minute, facade, operation, consumer, status, calls, bytes, latency)
         on conflict do nothing;\n"
    )
}

/// Exchanges of the past: those that were just made, once more and earlier, and those of the cargo desk as they failed.
fn traces() -> String {
    let again = "select row_number() over (order by n, t.id) as rank, t.*, n from trace t, generate_series(1, 6) as n where t.id > 0";
    let id = "md5('past' || p.rank)";
    let at = "(p.at - (p.rank * 3300000 / (select count(*) from past)) - 40000)";
    let failed = format!("(p.facade = 'cargo' and {at} between p.at - 2220000 and p.at - 1320000)");
    let why = "the backend “cargo-desk” did not answer within 10 s";
    format!(
        "with past as ({again})
         insert into trace (id, trace_id, at, facade, operation, consumer, status, us, method, target, why, content)
         select -p.rank, {id}, {at}, p.facade, p.operation, p.consumer,
           case when {failed} then 504 else p.status end, case when {failed} then 10002417 else p.us end, p.method, p.target,
           case when {failed} then '{why}' else p.why end,
           case when {failed}
             then p.content || jsonb_build_object('id', {id}, 'at', {at}, 'status', 504, 'us', 10002417, 'stages', '[]'::jsonb, 'refusal',
               jsonb_build_object('stage', 'call', 'why', '{why}', 'rule', 'calls cargo-desk', 'reach', 'operation ' || p.operation, 'file', 'cargo/cargo-desk.facade.yaml', 'line', 19))
             else p.content || jsonb_build_object('id', {id}, 'at', {at}) end
         from past p on conflict do nothing;\n"
    )
}

fn psql(url: &str, sql: &str) -> Outcome<String> {
    let mut child = Command::new("psql")
        .args(["-X", "-q", "-t", "-A", "-v", "ON_ERROR_STOP=1", "-d", url])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(|e| format!("psql: {e}"))?;
    if let Some(mut stdin) = child.stdin.take() {
        stdin.write_all(sql.as_bytes()).map_err(|e| e.to_string())?;
    }
    let output = child.wait_with_output().map_err(|e| e.to_string())?;
    if !output.status.success() {
        return Err(format!("psql: {}", String::from_utf8_lossy(&output.stderr)));
    }
    Ok(String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

/// Writes the past.
pub(crate) fn write(url: &str) -> Outcome {
    // What was just called is written about once a second: it is there when nothing more comes for longer than that.
    let end = Instant::now() + Duration::from_secs(20);
    let (mut before, mut same) = (String::new(), 0);
    while same < 6 && Instant::now() < end {
        std::thread::sleep(Duration::from_millis(300));
        let count = psql(url, "select count(*) from trace;")?;
        same = if count != "0" && count == before {
            same + 1
        } else {
            0
        };
        before = count;
    }
    let now = SystemTime::now()
        .duration_since(UNIX_EPOCH)
        .map_err(|e| e.to_string())?;
    psql(url, &usage((now.as_secs() / 60) as i64))?;
    psql(url, &traces()).map(drop)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_past_is_the_same_each_time_and_has_a_failing_quarter_of_an_hour() {
        let sql = usage(1_000_000);
        assert_eq!(sql, usage(1_000_000));
        for ago in FAILING {
            let line = format!(
                "({},'cargo','findConsignments','Island Freight Desk',504",
                1_000_000 - ago
            );
            assert!(sql.contains(&line), "{ago}");
        }
        let good = format!(
            "({},'cargo','findConsignments','Island Freight Desk',200",
            1_000_000 - 10
        );
        assert!(sql.contains(&good));
        // Every minute of the last hour has calls, and some minute is busier than another.
        for ago in 1..60 {
            assert!(
                sql.contains(&format!("({},'timetable'", 1_000_000 - ago)),
                "{ago}"
            );
        }
        let levels: std::collections::BTreeSet<u64> = (0..1440).map(busy).collect();
        assert!(
            levels.len() > 30 && *levels.first().unwrap() < 30,
            "{levels:?}"
        );
    }
}
