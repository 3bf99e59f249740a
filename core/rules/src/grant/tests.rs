//! Grants: what they open, and the table that they are found in.

use super::*;

fn entry(name: &str, ends: i64, paused: bool) -> Grant {
    Grant {
        consumer: Arc::new(Consumer {
            id: 1,
            name: name.into(),
            ..Consumer::default()
        }),
        shown: Shown::new("p"),
        ends,
        paused,
        opens: None,
        proof: None,
    }
}

#[test]
fn changes_are_seen_before_and_after_the_overlay_is_folded() {
    let mut table = Grants::new((0..1000).map(|i| {
        (
            KeyHash::of(&format!("k{i}")),
            entry("base", i64::MAX, false),
        )
    }));
    table = table
        .with(KeyHash::of("k1"), None)
        .with(KeyHash::of("k2"), Some(entry("base", 100, false)))
        .with(KeyHash::of("k3"), Some(entry("base", 100, true)));
    for round in 0..2 {
        assert_eq!(
            table.check("k0", 0).unwrap().consumer.name,
            "base",
            "{round}"
        );
        assert_eq!(table.check("k1", 0).unwrap_err(), Refused::Unknown);
        assert!(table.check("k2", 99).is_ok());
        assert_eq!(table.check("k2", 100).unwrap_err(), Refused::Ended);
        assert_eq!(table.check("k3", 0).unwrap_err(), Refused::Paused);
        for i in 0..OVERLAY {
            table = table.with(
                KeyHash::of(&format!("n{i}")),
                Some(entry("new", i64::MAX, false)),
            );
        }
    }
    assert_eq!(table.check("n7", 0).unwrap().consumer.name, "new");
    assert_eq!(table.iter().count(), 1000 - 1 + OVERLAY);
    let all = Grants::new(table.iter().map(|(hash, grant)| (hash, grant.clone())));
    assert_eq!(all.check("k2", 100).unwrap_err(), Refused::Ended);
    assert_eq!((all.len(), all.overlay.len()), (999 + OVERLAY, 0));
}

#[test]
fn very_many_take_little_room_each() {
    let each = size_of::<(KeyHash, Grant)>();
    assert!(each <= 88, "{each}");
}

fn with(grant: &Grant, facades: Option<&[&str]>, agreements: Option<&[i64]>) -> Grant {
    let opens = Opens {
        facades: facades.map(|all| all.iter().map(|f| (*f).to_owned()).collect()),
        agreements: agreements.map(Into::into),
    };
    Grant {
        opens: Some(Arc::new(opens)),
        ..grant.clone()
    }
}

#[test]
fn a_grant_opens_what_it_names_or_everything() {
    let every = entry("a", i64::MAX, false);
    assert_eq!(every.opens(("tides", "x"), 0), Opened::Yes(None));
    let one = with(&every, Some(&["tides"]), None);
    assert_eq!(one.opens(("tides", "x"), 0), Opened::Yes(None));
    assert_eq!(one.opens(("sailings", "x"), 0), Opened::OtherFacades);
    assert_eq!(one.opens(("tide", "x"), 0), Opened::OtherFacades);
    let none = with(&every, Some(&[]), None);
    assert_eq!(none.opens(("tides", "x"), 0), Opened::OtherFacades);
}

#[test]
fn agreements_hold_from_when_until_when_and_for_what_they_open() {
    let agreement = |id, facades: Option<&[&str]>, from, until, paused| Agreement {
        id,
        offer: "open-quay".into(),
        terms: Arc::new(serde_json::json!({ "requests": id })),
        opens: facades.map(|all| all.iter().map(|f| (*f).to_owned()).collect()),
        from,
        until,
        paused,
    };
    let consumer = Consumer {
        agreements: Box::new([
            agreement(4, None, 100, 200, false),
            agreement(3, None, 0, i64::MAX, true),
            agreement(2, Some(&["tides"]), 0, i64::MAX, false),
            agreement(1, None, 0, 50, false),
        ]),
        ..Consumer::default()
    };
    let of = Grant {
        consumer: Arc::new(consumer),
        ..entry("a", i64::MAX, false)
    };
    // The newest that holds; none is no reason to refuse a credential that is for all of them.
    for (facade, now, place) in [
        ("sailings", 49, Some(3)),
        ("sailings", 50, None),
        ("sailings", 100, Some(0)),
        ("sailings", 199, Some(0)),
        ("sailings", 200, None),
        ("tides", 49, Some(2)),
        ("tides", 150, Some(0)),
        ("tides", 200, Some(2)),
    ] {
        assert_eq!(
            of.opens((facade, "x"), now),
            Opened::Yes(place),
            "{facade} {now}"
        );
    }
    let named = with(&of, None, Some(&[1, 3]));
    assert_eq!(named.opens(("tides", "x"), 10), Opened::Yes(Some(3)));
    assert_eq!(named.opens(("tides", "x"), 50), Opened::NoAgreement);
    let both = with(&of, Some(&["tides"]), Some(&[1]));
    assert_eq!(both.opens(("sailings", "x"), 10), Opened::OtherFacades);
}

#[test]
fn who_is_bound_may_call_what_was_agreed_and_nothing_else() {
    let agreement = |opens: Option<&[&str]>| Agreement {
        id: 1,
        offer: "open-quay".into(),
        terms: Arc::default(),
        opens: opens.map(|all| all.iter().map(|f| (*f).to_owned()).collect()),
        from: 0,
        until: 100,
        paused: false,
    };
    let of = |bound, agreements: Vec<Agreement>| Grant {
        consumer: Arc::new(Consumer {
            bound,
            agreements: agreements.into(),
            ..Consumer::default()
        }),
        ..entry("a", i64::MAX, false)
    };
    let some = || agreement(Some(&["tides", "sailings/quoteFare", "sail/x"]));
    let (yes, no) = (Opened::Yes(Some(0)), Opened::NoAgreement);
    for (at, now, wanted) in [
        (("tides", "level"), 0, yes),
        (("tides", "level"), 100, no),
        (("sailings", "quoteFare"), 0, yes),
        (("sailings", "quoteFares"), 0, no),
        (("sailings", "quote"), 0, no),
        (("sailings", "holdSeats"), 0, no),
        (("sailing", "s/quoteFare"), 0, no),
        (("tide", "s"), 0, no),
        (("cargo", "quoteFare"), 0, no),
    ] {
        assert_eq!(
            of(true, vec![some()]).opens(at, now),
            wanted,
            "{at:?} {now}"
        );
        let free = match wanted {
            Opened::NoAgreement => Opened::Yes(None),
            other => other,
        };
        assert_eq!(of(false, vec![some()]).opens(at, now), free, "{at:?} {now}");
    }
    assert_eq!(of(true, Vec::new()).opens(("tides", "level"), 0), no);
    assert_eq!(of(true, vec![agreement(None)]).opens(("a", "b"), 0), yes);
}

#[test]
fn what_needs_a_proof_is_no_key_and_the_other_way_round() {
    let password = Grant {
        proof: Some(Arc::new(Proof::Password("x".into()))),
        ..entry("a", i64::MAX, false)
    };
    let table = Grants::new([
        (KeyHash::of("key"), entry("b", i64::MAX, false)),
        (KeyHash::of_name("password", "tove"), password),
    ]);
    assert!(table.check("key", 0).is_ok());
    assert!(table.check_name("password", "tove", 0).is_ok());
    for shown in ["tove", "password:tove", "password\0tove", "password"] {
        assert_eq!(table.check(shown, 0).unwrap_err(), Refused::Unknown);
    }
    let other = table.check_name("key", "key", 0);
    assert_eq!(other.unwrap_err(), Refused::Unknown);
}

#[test]
fn the_first_use_of_a_minute_is_told_once() {
    let shown = Shown::new("p");
    let told: Vec<bool> = [7, 7, 8, 8, 7].map(|m| shown.is_first_use(m)).into();
    assert_eq!(told, [true, false, true, false, true]);
}
