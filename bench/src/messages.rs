//! Conversion alone: protobuf to JSON and back, against the dynamic messages of the reference implementation.
//!
//! `bench-messages ROUNDS` prints a line of JSON for each direction and size; all programs take turns within each round.

use std::collections::BTreeMap;
use std::hint::black_box;
use std::time::Instant;

use porch_grpc::{JsonOptions, MessageId, Types};
use porch_standins::vessels::pb::skerry::fleet::v1::{
    Battery, ListVesselsResponse, Vessel, vessel,
};
use prost::Message;
use prost_reflect::{DescriptorPool, DynamicMessage, MessageDescriptor};
use serde_json::json;

fn one(i: usize) -> Vessel {
    porch_bench::vessel(i, 2)
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

fn main() {
    let mut arguments = std::env::args().skip(1);
    let proto = arguments
        .next()
        .unwrap_or_else(|| "demo/documents/vessels/vessels-definition".into());
    let rounds: usize = arguments.next().and_then(|r| r.parse().ok()).unwrap_or(9);
    let file = "skerry/fleet/v1/fleet.proto";
    let text = std::fs::read_to_string(std::path::Path::new(&proto).join(file))
        .expect("the .proto file is there");
    let definition = porch_grpc::read(&BTreeMap::from([(file.to_owned(), text)]), &|_, _| ())
        .expect("it is read");
    let types = &definition.types;
    let id = types
        .find("skerry.fleet.v1.ListVesselsResponse")
        .expect("its type");
    let pool =
        DescriptorPool::decode(porch_standins::vessels::DESCRIPTORS).expect("its descriptors");
    let descriptor = pool
        .get_message_by_name("skerry.fleet.v1.ListVesselsResponse")
        .expect("its type");
    let converted = Converted {
        types,
        id,
        descriptor,
    };
    for (size, vessels) in [("1 KB", 3), ("1 MB", 3000)] {
        let (wire, readable) = converted.samples(vessels);
        converted.to_json(size, &wire, rounds);
        converted.to_wire(size, &readable, rounds);
    }
}

/// One message both ways, by our tables and by the reference.
struct Converted<'t> {
    types: &'t Types,
    id: MessageId,
    descriptor: MessageDescriptor,
}

impl Converted<'_> {
    fn json_of(&self, wire: &[u8], out: &mut Vec<u8>) {
        self.types
            .to_json(self.id, wire, JsonOptions::default(), out)
            .expect("it is written");
    }

    /// Wire bytes with so many vessels, and a JSON text. With digits kept as they are, the reference cannot read
    /// fractions: the text is without any.
    fn samples(&self, vessels: usize) -> (Vec<u8>, Vec<u8>) {
        let list = |of: &dyn Fn(usize) -> Vessel| {
            ListVesselsResponse {
                vessels: (0..vessels).map(of).collect(),
                next_page_token: String::new(),
                total: vessels as i64,
            }
            .encode_to_vec()
        };
        let whole = list(&|i| Vessel {
            draught: i as f64,
            drive: Some(vessel::Drive::Battery(Battery {
                kilowatt_hours: 950.0,
            })),
            ..one(i)
        });
        let mut readable = Vec::new();
        self.json_of(&whole, &mut readable);
        (list(&one), readable)
    }

    fn to_json(&self, size: &str, wire: &[u8], rounds: usize) {
        let (mut ours, mut dynamic) = (Vec::new(), Vec::new());
        let mut out = Vec::with_capacity(wire.len() * 4);
        for _ in 0..rounds {
            ours.push(rate(wire.len(), || {
                out.clear();
                self.json_of(wire, &mut out);
                black_box(&out);
            }));
            dynamic.push(rate(wire.len(), || {
                let message =
                    DynamicMessage::decode(self.descriptor.clone(), wire).expect("it is decoded");
                black_box(serde_json::to_vec(&message).expect("it is written"));
            }));
        }
        tell("to JSON", size, &mut ours, &mut dynamic);
    }

    fn to_wire(&self, size: &str, readable: &[u8], rounds: usize) {
        let (mut ours, mut dynamic) = (Vec::new(), Vec::new());
        let mut out = Vec::with_capacity(readable.len());
        for _ in 0..rounds {
            ours.push(rate(readable.len(), || {
                out.clear();
                self.types
                    .to_wire(self.id, readable, JsonOptions::default(), &mut out)
                    .expect("it is read");
                black_box(&out);
            }));
            dynamic.push(rate(readable.len(), || {
                let mut reader = serde_json::Deserializer::from_slice(readable);
                let message = DynamicMessage::deserialize(self.descriptor.clone(), &mut reader)
                    .expect("it is read");
                black_box(message.encode_to_vec());
            }));
        }
        tell("from JSON", size, &mut ours, &mut dynamic);
    }
}

fn tell(direction: &str, size: &str, ours: &mut [f64], dynamic: &mut [f64]) {
    let (ours, dynamic) = (median(ours), median(dynamic));
    println!(
        "{}",
        json!({ "case": format!("message {direction}, {size}"), "ours_mb_s": ours, "dynamic_mb_s": dynamic, "ratio": ours / dynamic })
    );
}
