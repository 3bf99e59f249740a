//! Conversion alone: SOAP to JSON and back, against reading the same bytes with a bare XML parser and with a JSON parser.
//!
//! `bench-convert WSDL ROUNDS [read|write]` prints a line of JSON for each direction and size. All programs take turns within each
//! round, so that a busy machine slows all of them; the figures are medians.

use std::hint::black_box;
use std::sync::Arc;
use std::time::Instant;

use porch_soap::read::AnswerPlan;
use porch_soap::{AnswerReader, Envelope, Files, read_definition};
use quick_xml::events::Event;
use serde_json::{Value, json};

fn answer(sailings: usize) -> String {
    let sailing = |i: usize| {
        format!(
            "<r:Sailing><r:Id>S-{i}</r:Id><r:RouteCode>FAR-MAR</r:RouteCode><r:Departs>2027-05-14T08:30:00Z</r:Departs><r:Legs><r:Leg><r:From>Farholt</r:From><r:To>Maren Quay</r:To>\
             <r:Minutes>55</r:Minutes></r:Leg></r:Legs><r:SeatsLeft>{i}</r:SeatsLeft><r:Vessel>Lantern</r:Vessel></r:Sailing>"
        )
    };
    let list: String = (0..sailings).map(sailing).collect();
    format!(
        "<?xml version=\"1.0\" encoding=\"utf-8\"?><env:Envelope xmlns:env=\"http://schemas.xmlsoap.org/soap/envelope/\"><env:Body>\
         <r:SearchSailingsResponse xmlns:r=\"urn:skerry-line:reservations:3\"><r:Sailings>{list}</r:Sailings></r:SearchSailingsResponse></env:Body></env:Envelope>"
    )
}

/// Megabytes of input a second.
fn rate(bytes: usize, mut work: impl FnMut()) -> f64 {
    let times = std::env::var("BENCH_BYTES")
        .ok()
        .and_then(|b| b.parse::<usize>().ok())
        .unwrap_or(4 << 20)
        / bytes
        + 1;
    let from = Instant::now();
    for _ in 0..times {
        work();
    }
    (bytes * times) as f64 / 1e6 / from.elapsed().as_secs_f64()
}

fn median(values: &mut [f64]) -> f64 {
    values.sort_by(f64::total_cmp);
    values[values.len() / 2]
}

/// The bare scan: every event, names resolved to nothing, texts not unescaped.
fn scan(xml: &str) -> usize {
    let mut reader = quick_xml::Reader::from_str(xml);
    let mut events = 0;
    loop {
        match reader.read_event() {
            Ok(Event::Eof) | Err(_) => return events,
            Ok(event) => {
                black_box(&event);
                events += 1;
            }
        }
    }
}

fn main() {
    let mut arguments = std::env::args().skip(1);
    let wsdl = arguments
        .next()
        .unwrap_or_else(|| "demo/documents/sailings/reservations.wsdl".into());
    let rounds: usize = arguments.next().and_then(|r| r.parse().ok()).unwrap_or(9);
    let only = arguments.next();
    let wanted = |case: &str| only.as_deref().is_none_or(|o| o == case);
    // Without the limit of forty passengers, so that a request can be large.
    let text = std::fs::read_to_string(&wsdl)
        .expect("the WSDL is there")
        .replace("maxOccurs=\"40\"", "maxOccurs=\"unbounded\"");
    let mut definition =
        read_definition(&Files::from([("m".to_owned(), text)]), "m").expect("it is a WSDL");
    let plan = Arc::new(std::mem::take(&mut definition.plan));
    let search = definition
        .operation("SearchSailings")
        .expect("SearchSailings");
    let answers = Arc::new(AnswerPlan::of(plan.clone(), search));
    if wanted("read") {
        for (size, sailings) in [("1 KB", 3), ("1 MB", 3000)] {
            read(size, &answer(sailings), &answers, rounds);
        }
    }
    // The other direction: seats for passengers, the same amount of JSON.
    let hold = definition.operation("HoldSeats").expect("HoldSeats");
    let envelope = Envelope::new(plan, hold, &json!({})).expect("its headers fit");
    if wanted("write") {
        for (size, passengers) in [("1 KB", 15), ("1 MB", 15_000)] {
            write(size, passengers, &envelope, rounds);
        }
    }
}

fn read(size: &str, xml: &str, answers: &Arc<AnswerPlan>, rounds: usize) {
    let convert = |out: &mut Vec<u8>| {
        let mut reader = AnswerReader::new(answers.clone());
        reader.feed(xml.as_bytes(), out).expect("it is read");
        reader.finish(out).expect("it is whole");
    };
    let mut json_text = Vec::new();
    convert(&mut json_text);
    let (mut ours, mut bare, mut own, mut value) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    let mut out = Vec::with_capacity(json_text.len() + 64);
    for _ in 0..rounds {
        ours.push(rate(xml.len(), || {
            out.clear();
            convert(&mut out);
            black_box(&out);
        }));
        bare.push(rate(xml.len(), || drop(black_box(vec![(); scan(xml)]))));
        own.push(rate(xml.len(), || {
            let mut scanner = porch_soap::xml::Scanner::new();
            while !matches!(
                scanner.next(xml, true),
                Ok(porch_soap::xml::Token::Eof) | Err(_)
            ) {}
        }));
        value.push(rate(json_text.len(), || {
            drop(black_box(serde_json::from_slice::<Value>(&json_text)))
        }));
    }
    let (ours, bare) = (median(&mut ours), median(&mut bare));
    println!(
        "{}",
        json!({ "case": format!("read {size}"), "ours_mb_s": ours, "bare_xml_mb_s": bare, "own_scan_mb_s": median(&mut own), "serde_json_mb_s": median(&mut value), "ratio": ours / bare })
    );
}

fn write(size: &str, passengers: usize, envelope: &Envelope, rounds: usize) {
    let list: Vec<Value> = (0..passengers)
        .map(|i| json!({"Name": format!("Passenger {i} of Osprey Sound"), "Born": "1984-03-07"}))
        .collect();
    let body = json!({"SailingId": "S-17", "FareClass": "car", "Passengers": list}).to_string();
    let mut out = Vec::with_capacity(body.len() * 3);
    let convert = |out: &mut Vec<u8>| {
        envelope
            .write_text(body.as_bytes(), None, &[], out)
            .expect("it fits");
    };
    convert(&mut out);
    let xml = String::from_utf8(out.clone()).expect("UTF-8");
    let (mut ours, mut bare, mut value) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..rounds {
        ours.push(rate(body.len(), || {
            out.clear();
            convert(&mut out);
            black_box(&out);
        }));
        bare.push(rate(xml.len(), || drop(black_box(vec![(); scan(&xml)]))));
        value.push(rate(body.len(), || {
            drop(black_box(serde_json::from_slice::<Value>(body.as_bytes())))
        }));
    }
    let (ours, bare) = (median(&mut ours), median(&mut bare));
    println!(
        "{}",
        json!({ "case": format!("write {size}"), "ours_mb_s": ours, "bare_xml_mb_s": bare, "serde_json_mb_s": median(&mut value), "ratio": ours / bare })
    );
}
