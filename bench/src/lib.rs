//! What the programs of the benchmarks share.

use porch_standins::vessels::pb::skerry::fleet::v1::{Battery, Vessel, vessel};

/// A vessel with so many home ports: 16 make about 1 KB of JSON.
pub fn vessel(i: usize, ports: usize) -> Vessel {
    Vessel {
        name: format!("vessels/v{i}"),
        title: format!("Vessel number {i}"),
        number: 9_007_199_254_740_993 + i as i64,
        state: 1 + (i % 3) as i32,
        draught: 2.5 + i as f64 / 16.0,
        seats: 40 + i as u32,
        car_decks: Some(2),
        commissioned: Some(prost_types::Timestamp {
            seconds: 725_846_400 + i as i64,
            nanos: 500_000_000,
        }),
        turnaround: Some(prost_types::Duration {
            seconds: 1200,
            nanos: 0,
        }),
        home_ports: (0..ports)
            .map(|p| format!("Harbour number {p} of the archipelago"))
            .collect(),
        stores: [("lifejackets".to_owned(), 60)].into(),
        drive: Some(vessel::Drive::Battery(Battery {
            kilowatt_hours: 950.25,
        })),
        call_sign: Some("SK1".into()),
        seal: vec![0x5e, 0xa1, 7, 9],
        ..Vessel::default()
    }
}

/// The port that stands among the arguments of the command, or this one.
pub fn port(n: usize, default: u16) -> u16 {
    let given = std::env::args().nth(n).and_then(|p| p.parse().ok());
    given.unwrap_or(default)
}
