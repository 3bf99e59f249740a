//! Who calls: where credentials are shown, what is told of those that are not good, roles, and agreements.

use argon2::Argon2;
use argon2::password_hash::PasswordHasher;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use porch_rules::grant::{Agreement, Proof};
use serde_json::{Value, json};

use super::*;

/// A backend that answers with the head that it got.
pub(super) fn echo() -> Scripted {
    Scripted::start(|_, request| plain(&Value::String(request.to_ascii_lowercase()).to_string()))
}

pub(super) fn body(answer: &str) -> Value {
    let text = answer.split_once("\r\n\r\n").map_or("", |(_, b)| b);
    serde_json::from_str(text).unwrap_or_default()
}

pub(super) fn hash(password: &str) -> Arc<Proof> {
    let hash = Argon2::default().hash_password(password.as_bytes());
    Arc::new(Proof::Password(hash.unwrap().to_string().into()))
}

pub(super) fn basic(name: &str, password: &str) -> String {
    let pair = STANDARD.encode(format!("{name}:{password}"));
    format!("Authorization: Basic {pair}\r\n")
}

/// Puts grants in the place of those that every stage has.
pub(super) fn grant(stage: &Stage, hash: KeyHash, grant: Grant) {
    let table = stage.shared.grants.load().with(hash, Some(grant));
    stage.shared.grants.store(Arc::new(table));
}

pub(super) fn consumer(name: &str, roles: &[&str], agreements: Vec<Agreement>) -> Arc<Consumer> {
    Arc::new(Consumer {
        id: 7,
        name: name.into(),
        account: "harbour office".into(),
        paused: false,
        roles: roles.iter().map(|r| (*r).into()).collect(),
        agreements: agreements.into(),
        bound: false,
    })
}

pub(super) fn of(consumer: &Arc<Consumer>, shown: &str) -> Grant {
    Grant {
        consumer: consumer.clone(),
        shown: Shown::new(shown),
        ends: i64::MAX,
        paused: false,
        opens: None,
        proof: None,
    }
}

fn agreement(id: i64, offer: &str, terms: Value) -> Agreement {
    Agreement {
        id,
        offer: offer.into(),
        terms: terms.into(),
        opens: None,
        from: 0,
        until: i64::MAX,
        paused: false,
    }
}

#[test]
fn a_key_is_shown_where_the_document_says_and_goes_no_further() {
    let backend = echo();
    let of = |credentials: &str| {
        let facade = format!(
            "admit: {{ credentials: [{credentials}] }}\noperations:\n  item: {{ call: {{ backend: b }} }}\n"
        );
        Stage::new(backend.address, &facade)
    };
    // Each line: what is demanded, the path, the fields, the status, and what the backend must not see.
    for (demanded, path, fields, wanted) in [
        ("key", "/f/item/1", "API-Key: one\r\n", 200),
        ("key", "/f/item/1", "API-Key: \t one \t\r\n", 200),
        ("key", "/f/item/1", "API-Key: one\r\nAPI-Key: one\r\n", 200),
        ("key", "/f/item/1", "API-Key: one\r\nAPI-Key: two\r\n", 401),
        ("key", "/f/item/1", "API-Key: ONE\r\n", 401),
        ("key", "/f/item/1", "API-Key: on\r\n", 401),
        ("key", "/f/item/1", "API-Key: \r\n", 401),
        ("key", "/f/item/1", "api_key: one\r\n", 401),
        ("key", "/f/item/1?key=one", "", 401),
        (
            "key: { name: Ferry-Key }",
            "/f/item/1",
            "Ferry-Key: one\r\n",
            200,
        ),
        (
            "key: { name: Ferry-Key }",
            "/f/item/1",
            "API-Key: one\r\n",
            401,
        ),
        (
            "key: { in: bearer }",
            "/f/item/1",
            "Authorization: Bearer one\r\n",
            200,
        ),
        (
            "key: { in: bearer }",
            "/f/item/1",
            "Authorization: bEARER   one \r\n",
            200,
        ),
        (
            "key: { in: bearer }",
            "/f/item/1",
            "Authorization: Bearerone\r\n",
            401,
        ),
        (
            "key: { in: bearer }",
            "/f/item/1",
            "Authorization: one\r\n",
            401,
        ),
        ("key: { in: query }", "/f/item/1?key=one&n=1", "", 200),
        (
            "key: { in: query }",
            "/f/item/1?n=1&%6bey=%20one%0A",
            "",
            200,
        ),
        ("key: { in: query }", "/f/item/1?key=one&key=one", "", 200),
        ("key: { in: query }", "/f/item/1?key=one&key=two", "", 401),
        ("key: { in: query }", "/f/item/1?key=", "", 401),
        ("key: { in: query }", "/f/item/1?n=1", "", 401),
        (
            "key: { in: query, name: ferry key }",
            "/f/item/1?ferry+key=one",
            "",
            200,
        ),
        (
            "key, key: { in: bearer }",
            "/f/item/1",
            "Authorization: Bearer one\r\n",
            200,
        ),
        (
            "key, key: { in: bearer }",
            "/f/item/1",
            "API-Key: one\r\nAuthorization: Bearer no\r\n",
            200,
        ),
        (
            "key, key: { in: bearer }",
            "/f/item/1",
            "API-Key: no\r\nAuthorization: Bearer one\r\n",
            401,
        ),
    ] {
        let demanded = demanded
            .replace(", key:", " }, { key:")
            .replace("key, ", "key , ");
        let demanded = match demanded.contains("key:") {
            true => format!("{{ {demanded} }}").replace("{ key }", "key"),
            false => demanded,
        };
        let demanded = demanded.replace("{ key }, ", "key, ");
        let stage = of(&demanded);
        let answer = stage.get(path, fields);
        assert_eq!(
            status(&answer),
            wanted,
            "{demanded} {path} {fields}\n{answer}"
        );
        if wanted == 200 {
            let seen = body(&answer).as_str().unwrap().to_owned();
            assert!(!seen.contains("key") && !seen.contains("bearer"), "{seen}");
            assert!(path.contains("n=1") == seen.contains("?n=1 "), "{seen}");
        }
    }
}

#[test]
fn what_is_not_good_is_refused_alike_and_what_may_not_is_told_why() {
    let backend = echo();
    let facade = "admit: { credentials: [key] }\noperations:\n  item: { call: { backend: b }, admit: { roles: [harbour-master, pilot] } }\n  putItem: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let master = consumer("Signal Mast", &["pilot"], Vec::new());
    grant(&stage, KeyHash::of("good"), of(&master, "good"));
    let ended = Grant {
        ends: 5,
        ..of(&master, "ended")
    };
    grant(&stage, KeyHash::of("ended"), ended);
    let paused = Grant {
        paused: true,
        ..of(&master, "paused")
    };
    grant(&stage, KeyHash::of("paused"), paused);
    grant(
        &stage,
        KeyHash::of_name("password", "mast"),
        Grant {
            proof: Some(hash("x")),
            ..of(&master, "mast")
        },
    );
    let told: Vec<Value> = ["unknown", "ended", "paused", "mast", "no key at all"]
        .map(|key| {
            let answer = stage.get("/f/item/1", &format!("API-Key: {key}\r\n"));
            assert_eq!(status(&answer), 401, "{answer}");
            assert!(
                answer.contains("www-authenticate: Key realm=\"f\", header=\"API-Key\"\r\n"),
                "{answer}"
            );
            let mut told = body(&answer);
            told["instance"].take();
            told
        })
        .into();
    assert!(told.iter().all(|t| *t == told[0]), "{told:#?}");
    assert_eq!(told[0]["detail"], "The key is not valid.");
    // One that is good and has not the role.
    let answer = stage.get("/f/item/1", "API-Key: one\r\n");
    assert_eq!(status(&answer), 403);
    let said = body(&answer);
    assert_eq!(
        said["detail"],
        "This takes the role harbour-master or pilot."
    );
    assert_eq!(said["roles"], json!(["harbour-master", "pilot"]));
    assert_eq!(said["type"], "urn:elm-porch:problem:role");
    assert_eq!(status(&stage.get("/f/item/1", "API-Key: good\r\n")), 200);
    let (traces, _) = stage.end();
    let whys: Vec<String> = traces
        .iter()
        .filter_map(|t| Some(t.refusal.as_ref()?.why.clone()))
        .collect();
    assert_eq!(
        whys.last().unwrap(),
        "one has no role, and this takes harbour-master or pilot"
    );
}

#[test]
fn what_was_agreed_to_can_be_read_and_a_key_may_be_for_some_of_it() {
    let backend = echo();
    let facade = "admit: { credentials: [key] }\noperations:\n  item:\n    call: { backend: b }\n    send: { headers: { X-Told: \"=caller.agreement + ' ' + terms.?berth.orValue('none') + ' ' + caller.account + ' ' + string(size(caller.roles))\" } }\n";
    let stage = Stage::new(backend.address, facade);
    let mut over = agreement(3, "Fortnight Look", json!({ "berth": "west" }));
    over.until = 100;
    let agreements = vec![
        over,
        agreement(2, "Charter Hand", json!({ "berth": "north" })),
    ];
    let tours = consumer("Gullwing Tours", &["partner"], agreements);
    grant(&stage, KeyHash::of("all"), of(&tours, "all"));
    let named = |agreements: &[i64]| Grant {
        opens: Some(Arc::new(Opens {
            facades: None,
            agreements: Some(agreements.into()),
        })),
        ..of(&tours, "named")
    };
    grant(&stage, KeyHash::of("second"), named(&[2]));
    grant(&stage, KeyHash::of("over"), named(&[3]));
    let told = |key: &str| stage.get("/f/item/1", &format!("API-Key: {key}\r\n"));
    for (key, wanted) in [
        ("all", "x-told: charter hand north harbour office 1"),
        ("second", "x-told: charter hand north harbour office 1"),
        ("one", "x-told:  none  0"),
    ] {
        let answer = told(key);
        assert!(answer.contains(wanted), "{key}: {answer}");
    }
    let answer = told("over");
    assert_eq!(status(&answer), 403);
    assert_eq!(body(&answer)["type"], "urn:elm-porch:problem:agreement");
    assert_eq!(
        body(&answer)["detail"],
        "No agreement holds for f/item now. That of Fortnight Look has ended."
    );
}

#[test]
fn the_use_of_a_credential_is_told_once_a_minute() {
    let backend = echo();
    let facade = "admit: { credentials: [key] }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    for key in ["one", "one", "nobody", "two"] {
        stage.get("/f/item/1", &format!("API-Key: {key}\r\n"));
    }
    let uses = stage.shared.take_uses();
    let mut labels: Vec<&str> = uses
        .keys()
        .map(|(kind, label)| {
            assert_eq!(*kind, "key");
            &**label
        })
        .collect();
    labels.sort_unstable();
    assert_eq!(labels, ["one", "two"]);
    let minute = stage.shared.now_ms() / 60_000;
    assert!(
        uses.values()
            .all(|m| u64::from(*m) + 1 >= minute && u64::from(*m) <= minute)
    );
}

#[test]
fn a_good_key_that_stands_in_the_open_is_masked_and_told() {
    let backend = echo();
    let facade = "admit: { credentials: [key] }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let key = porch_rules::key::new_key(&[7; 25]);
    let other = porch_rules::key::new_key(&[9; 25]);
    let desk = consumer("Quayside Kiosk", &[], Vec::new());
    grant(&stage, KeyHash::of(&key), of(&desk, &key[..8]));
    let path = format!("/f/item/{key}?others={other}");
    stage.get(&path, &format!("API-Key: {key}\r\n"));
    let (traces, _) = stage.end();
    let text = serde_json::to_string(&traces).unwrap();
    assert!(!text.contains(&key) && !text.contains(&other), "{text}");
    let told = format!(
        "a good key of Quayside Kiosk, “{}…”, stands in the target",
        &key[..8]
    );
    assert_eq!(text.matches(&told).count(), 1, "{text}");
    assert!(
        !text.contains(&format!("“{}…”, stands", &other[..8])),
        "{text}"
    );
}

#[test]
fn what_is_made_of_terms_and_roles_is_kept_for_nobody_else() {
    let count = Arc::new(AtomicUsize::new(0));
    let backend = counting(&count);
    let facade = "admit: { credentials: [key] }\noperations:\n  item:\n    call: { backend: b }\n    cache: { fresh: 1h }\n    reply: { berth: \"=terms.?berth.orValue('none')\", roles: =caller.roles, n: =answer.body.?n }\n";
    let stage = Stage::new(backend.address, facade);
    let agreed = |id, berth: &str| vec![agreement(id, "Charter Hand", json!({ "berth": berth }))];
    // Two keys of one consumer, each for another agreement, and a consumer of its own.
    let tours = consumer(
        "Gullwing Tours",
        &["partner"],
        [agreed(1, "west"), agreed(2, "north")].concat(),
    );
    let named = |shown: &str, number: i64| Grant {
        opens: Some(Arc::new(Opens {
            facades: None,
            agreements: Some([number].into()),
        })),
        ..of(&tours, shown)
    };
    grant(&stage, KeyHash::of("west"), named("west", 1));
    grant(&stage, KeyHash::of("north"), named("north", 2));
    let told = |key: &str| body(&stage.get("/f/item/1", &format!("API-Key: {key}\r\n")));
    for _ in 0..2 {
        assert_eq!(told("west")["berth"], "west");
        assert_eq!(told("north")["berth"], "north");
        assert_eq!(
            (&told("one")["berth"], &told("one")["roles"]),
            (&json!("none"), &json!([]))
        );
    }
    assert_eq!(count.load(Ordering::SeqCst), 3);
}
