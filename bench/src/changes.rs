//! JSON changed in place: by the porch's own way, and by a program that reads a value, changes it and prints it.
//!
//! `bench-changes ROUNDS` prints a line of JSON. What is compared takes turns within each round, so that a busy machine slows
//! both; the figure is the median of the rounds' ratios.

use std::hint::black_box;
use std::time::Instant;

use porch_facade::patch_of;
use porch_rules::expr::{EvalError, NoXml, Scope, Template, Val};
use porch_rules::patch::{Patch, Values};
use serde_json::{Value, json};

/// Values without names.
struct Literals;

impl Scope for Literals {
    fn open_xml(&self, _: &str) -> Result<Value, NoXml> {
        Err(NoXml("is none".into()))
    }

    fn member<'s>(&'s self, _: usize, _: &str) -> Option<Val<'s>> {
        None
    }

    fn whole(&self, _: usize) -> Val<'_> {
        Val::Absent
    }
}

impl Values for Literals {
    fn value(
        &self,
        template: &Template,
        _: Option<&Value>,
    ) -> Result<Option<Value>, (String, EvalError)> {
        template.render(self)
    }
}

/// A body of about 1 KB.
fn body() -> String {
    let leg = r#"{"from":"Farholt","to":"Maren Quay","departs":"2027-05-14T08:30:00Z","seats":2,"fareClass":"cabin","price":380.25}"#;
    let legs = [leg; 8].join(",");
    format!(
        r#"{{"reference":"SK-0417","booked":"2027-04-02","mail":"ines@skerry.example","notes":null,"legs":[{legs}]}}"#
    )
}

fn patch() -> Result<Patch, String> {
    patch_of(&json!([
        { "op": "rename", "path": "/reference", "to": "number" },
        { "op": "remove", "path": "/mail" },
        { "op": "default", "path": "/notes", "value": "" },
        { "op": "add", "path": "/line", "value": "Skerry Line" },
        { "op": "remove", "path": "/legs/*/seats" },
        { "op": "rename", "path": "/legs/*/fareClass", "to": "class" },
    ]))
}

/// The same as anybody would write it with the usual crate; a renamed member stands at the end.
fn by_hand(bytes: &[u8]) -> Option<Vec<u8>> {
    let mut value: Value = serde_json::from_slice(bytes).ok()?;
    let members = value.as_object_mut()?;
    let reference = members.shift_remove("reference")?;
    members.insert("number".into(), reference);
    members.shift_remove("mail")?;
    if members.get("notes").is_none_or(Value::is_null) {
        members.insert("notes".into(), json!(""));
    }
    members.insert("line".into(), json!("Skerry Line"));
    for leg in members.get_mut("legs")?.as_array_mut()? {
        let leg = leg.as_object_mut()?;
        leg.shift_remove("seats")?;
        let class = leg.shift_remove("fareClass")?;
        leg.insert("class".into(), class);
    }
    serde_json::to_vec(&value).ok()
}

fn seconds(times: usize, mut work: impl FnMut()) -> f64 {
    let from = Instant::now();
    for _ in 0..times {
        work();
    }
    from.elapsed().as_secs_f64() / times as f64
}

fn main() -> Result<(), String> {
    const TIMES: usize = 20_000;
    const TARGET: f64 = 1.5;
    let rounds = std::env::args().nth(1).and_then(|r| r.parse().ok());
    let rounds: usize = rounds.unwrap_or(9);
    let (body, patch) = (body(), patch()?);
    let bytes = body.as_bytes();
    let made = patch.swift(bytes, &Literals).ok_or("it is not sure")?;
    let read = |bytes: &[u8]| serde_json::from_slice::<Value>(bytes).map_err(|e| e.to_string());
    let other = by_hand(bytes).ok_or("the reference fails")?;
    if read(&made)? != read(&other)? {
        return Err("both do not make the same".into());
    }
    let (mut ratios, mut ours, mut theirs) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..rounds {
        let own = seconds(TIMES, || {
            black_box(patch.swift(black_box(bytes), &Literals));
        });
        let hand = seconds(TIMES, || {
            black_box(by_hand(black_box(bytes)));
        });
        ratios.push(hand / own);
        ours.push(own * 1e6);
        theirs.push(hand * 1e6);
    }
    let median = |mut all: Vec<f64>| {
        all.sort_by(f64::total_cmp);
        (all[all.len() / 2] * 100.0).round() / 100.0
    };
    let ratio = median(ratios);
    let said = format!(
        "{} bytes, six changes: {} µs, by hand {} µs",
        bytes.len(),
        median(ours),
        median(theirs)
    );
    let line = json!({ "case": "json-changed", "said": said, "value": ratio, "target": TARGET, "met": ratio >= TARGET });
    println!("{line}");
    Ok(())
}
