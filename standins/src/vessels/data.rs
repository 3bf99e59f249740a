//! The fleet and the berths as they are at first.

use super::*;

pub(super) fn time(seconds: i64) -> Option<prost_types::Timestamp> {
    Some(prost_types::Timestamp { seconds, nanos: 0 })
}

pub(super) fn fleet() -> BTreeMap<String, Vessel> {
    let moving = State::UnderWay;
    let rows = [
        ("kettle", "Kettle", 40, moving, "Farholt"),
        ("lantern", "Lantern", 180, State::Moored, "Maren Quay"),
        ("old-button", "Old Button", 320, moving, "Hollow Bay"),
        ("thimble", "Thimble", 12, State::InDock, "Tern Rock"),
    ];
    let make = |(i, (id, title, seats, state, port)): (usize, (&str, &str, u32, State, &str))| {
        let certificate = Certificate {
            authority: "Osprey Sound Harbour Office".into(),
            expires: time(1_861_920_000),
        };
        let remark = |kind: Kind| prost_types::Value { kind: Some(kind) };
        let vessel = Vessel {
            name: format!("vessels/{id}"),
            title: title.into(),
            number: 9_007_199_254_740_993 + i as i64,
            state: state.into(),
            draught: 2.5 + i as f64 / 4.0,
            seats,
            car_decks: (seats > 100).then_some(if seats > 200 { 2 } else { 0 }),
            commissioned: time(725_846_400 + i as i64 * 86_400 * 700),
            turnaround: Some(prost_types::Duration {
                seconds: 1200 + i as i64 * 60,
                nanos: 500_000_000,
            }),
            home_ports: vec![port.into(), "Osprey Sound".into()],
            stores: [("lifejackets".to_owned(), seats as i32 + 20)].into(),
            drive: Some(if i % 2 == 0 {
                vessel::Drive::Diesel(Diesel {
                    engines: 2,
                    litres_an_hour: 81.5,
                })
            } else {
                vessel::Drive::Battery(Battery {
                    kilowatt_hours: 950.25,
                })
            }),
            remarks: Some(prost_types::Struct {
                fields: [
                    ("ramp".to_owned(), remark(Kind::StringValue("bow".into()))),
                    ("bow thruster".to_owned(), remark(Kind::BoolValue(i > 0))),
                ]
                .into(),
            }),
            certificate: Some(prost_types::Any {
                type_url: "type.googleapis.com/skerry.fleet.v1.Certificate".into(),
                value: certificate.encode_to_vec(),
            }),
            call_sign: Some(format!("SK{}", i + 1)),
            seal: vec![0x5e, 0xa1, i as u8],
            changed: time(1_793_000_000),
        };
        (vessel.name.clone(), vessel)
    };
    rows.into_iter().enumerate().map(make).collect()
}

pub(super) fn position(names: &[String], i: usize) -> Position {
    let vessel = names
        .get(i % names.len().max(1))
        .cloned()
        .unwrap_or_default();
    let step = (i / names.len().max(1)) as f64;
    let row = (i % names.len().max(1)) as f64;
    let angle = step / 14.0 + row;
    Position {
        vessel,
        latitude: 61.2 + 0.11 * (row + 1.0) * angle.sin() / 2.0,
        longitude: 6.1 + 0.2 * (row + 1.0) * angle.cos() / 2.0,
        speed: 9.5 + row as f32 * 2.25,
        time: Some(SystemTime::now().into()),
    }
}

pub(super) fn berths() -> Vec<Berth> {
    [
        ("f1", "Farholt", "vessels/kettle", 62.5),
        ("f2", "Farholt", "", 48.0),
        ("m1", "Maren Quay", "vessels/lantern", 110.0),
    ]
    .map(|(id, harbour, vessel, length)| Berth {
        berth_id: id.into(),
        harbour: harbour.into(),
        vessel: vessel.into(),
        length,
    })
    .into()
}
