//! JSON changed in place and built anew: by the porch's own way, and by a program that reads a value, changes it and prints it.
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

/// What is compared: a name, both ways, what is said of them, and the least ratio.
struct Compared<'c> {
    case: &'c str,
    own: &'c dyn Fn(&[u8]) -> Option<Vec<u8>>,
    by_hand: &'c dyn Fn(&[u8]) -> Option<Vec<u8>>,
    what: &'c str,
    target: f64,
}

fn compare(of: &Compared<'_>, bytes: &[u8], rounds: usize) -> Result<(), String> {
    const TIMES: usize = 20_000;
    let made = (of.own)(bytes).ok_or("it is not sure")?;
    let read = |bytes: &[u8]| serde_json::from_slice::<Value>(bytes).map_err(|e| e.to_string());
    let other = (of.by_hand)(bytes).ok_or("the reference fails")?;
    if read(&made)? != read(&other)? {
        return Err(format!("{}: both do not make the same", of.case));
    }
    let (mut ratios, mut ours, mut theirs) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..rounds {
        let own = seconds(TIMES, || {
            black_box((of.own)(black_box(bytes)));
        });
        let hand = seconds(TIMES, || {
            black_box((of.by_hand)(black_box(bytes)));
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
        "{} bytes, {}: {} µs, by hand {} µs",
        bytes.len(),
        of.what,
        median(ours),
        median(theirs)
    );
    let line = json!({ "case": of.case, "said": said, "value": ratio, "target": of.target, "least": true, "met": ratio >= of.target });
    println!("{line}");
    Ok(())
}

/// What a reply is made of.
struct Answer(Value);

impl Scope for Answer {
    fn open_xml(&self, _: &str) -> Result<Value, NoXml> {
        Err(NoXml("is none".into()))
    }

    fn member<'s>(&'s self, _: usize, name: &str) -> Option<Val<'s>> {
        self.0.get(name).map(Val::of)
    }

    fn whole(&self, _: usize) -> Val<'_> {
        Val::of(&self.0)
    }
}

/// A reply built of an answer: some members as they are, a list made anew.
fn reply() -> Result<Template, String> {
    let made = json!({
        "number": "=body.reference",
        "booked": "=body.booked",
        "line": "Skerry Line",
        "legs": "=body.legs.map(l, {'from': l.from, 'to': l.to, 'departs': l.departs, 'class': l.fareClass, 'price': l.price})",
    });
    Template::compile(&made, &["body"]).map_err(|e| format!("{e:?}"))
}

fn rebuilt(reply: &Template, bytes: &[u8]) -> Option<Vec<u8>> {
    let body = serde_json::from_slice(bytes).ok()?;
    let made = reply.render(&Answer(body)).ok()??;
    serde_json::to_vec(&made).ok()
}

/// The same as anybody would write it with the usual crate.
fn rebuilt_by_hand(bytes: &[u8]) -> Option<Vec<u8>> {
    let body: Value = serde_json::from_slice(bytes).ok()?;
    let legs = body["legs"].as_array()?.iter();
    let legs: Vec<Value> = legs
        .map(|l| json!({ "from": l["from"], "to": l["to"], "departs": l["departs"], "class": l["fareClass"], "price": l["price"] }))
        .collect();
    let made = json!({ "number": body["reference"], "booked": body["booked"], "line": "Skerry Line", "legs": legs });
    serde_json::to_vec(&made).ok()
}

fn main() -> Result<(), String> {
    let rounds = std::env::args().nth(1).and_then(|r| r.parse().ok());
    let rounds: usize = rounds.unwrap_or(9);
    let (body, patch, reply) = (body(), patch()?, reply()?);
    let changed = Compared {
        case: "json-changed",
        own: &|bytes| patch.swift(bytes, &Literals),
        by_hand: &by_hand,
        what: "six changes",
        target: 1.5,
    };
    compare(&changed, body.as_bytes(), rounds)?;
    let rebuilt = Compared {
        case: "json-rebuilt",
        own: &|bytes| rebuilt(&reply, bytes),
        by_hand: &rebuilt_by_hand,
        what: "built anew by expressions",
        target: 0.8,
    };
    compare(&rebuilt, body.as_bytes(), rounds)
}
