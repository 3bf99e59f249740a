//! Names and passwords of callers: proven, forgotten with their change, and no good to guess.

use base64::Engine;
use base64::engine::general_purpose::STANDARD;

use super::callers::{basic, body, consumer, echo, grant, hash, of};
use super::*;
use serde_json::Value;

#[test]
fn names_and_passwords_are_proven_and_forgotten_with_their_change() {
    let backend = echo();
    let facade = "admit: { credentials: [key, basic] }\noperations:\n  item: { call: { backend: b }, send: { headers: { X-Who: =caller.consumer } } }\n";
    let stage = Stage::new(backend.address, facade);
    let desk = consumer("Quayside Kiosk", &[], Vec::new());
    let own = |password: &str| Grant {
        proof: Some(hash(password)),
        ..of(&desk, "kiosk")
    };
    grant(
        &stage,
        KeyHash::of_name("password", "kiosk"),
        own("tern rock:7"),
    );
    let get = |fields: &str| stage.get("/f/item/1", fields);
    for (fields, wanted) in [
        (basic("kiosk", "tern rock:7"), 200),
        (basic("kiosk", "tern rock:7"), 200),
        (basic(" kiosk ", " tern rock:7\n"), 200),
        (basic("kiosk", "tern rock:7").replace("Basic", "BASIC"), 200),
        (basic("kiosk", "tern rock:8"), 401),
        (basic("Kiosk", "tern rock:7"), 401),
        (basic("kiosk", ""), 401),
        (basic("one", "one"), 401),
        (
            basic("kiosk", "tern rock:7") + &basic("kiosk", "other"),
            401,
        ),
        ("Authorization: Basic !!!\r\n".into(), 401),
        (
            format!("Authorization: Basic {}\r\n", STANDARD.encode("kiosk")),
            401,
        ),
        (
            format!(
                "Authorization: Basic {}\r\n",
                STANDARD.encode(b"kiosk:\xff")
            ),
            401,
        ),
        (basic("kiosk", &"x".repeat(2000)), 401),
        (String::new(), 401),
        // The first kind that is shown, in the document's order, is the one that counts.
        (
            "API-Key: one\r\n".to_owned() + &basic("kiosk", "wrong"),
            200,
        ),
    ] {
        let answer = get(&fields);
        assert_eq!(status(&answer), wanted, "{fields}\n{answer}");
        if fields.is_empty() {
            let told = body(&answer)["detail"].clone();
            let ways = "Send your key in the header “API-Key”, or name and password as “Authorization: Basic”.";
            assert_eq!(told, ways);
        }
        if wanted == 401 {
            let head = answer.to_ascii_lowercase();
            assert!(
                head.contains("www-authenticate: key realm=\"f\", header=\"api-key\"\r\n"),
                "{head}"
            );
            assert!(
                head.contains("www-authenticate: basic realm=\"f\", charset=\"utf-8\"\r\n"),
                "{head}"
            );
        } else {
            assert!(!answer.contains("authorization"), "{answer}");
        }
    }
    // Another password: the old one is nothing from now on, though it was right a moment ago.
    grant(
        &stage,
        KeyHash::of_name("password", "kiosk"),
        own("new one"),
    );
    assert_eq!(status(&get(&basic("kiosk", "tern rock:7"))), 401);
    assert_eq!(status(&get(&basic("kiosk", "new one"))), 200);
}

#[test]
fn who_guesses_is_slowed_down_and_the_owner_is_not_shut_out() {
    let backend = echo();
    let facade =
        "admit: { credentials: [key, basic] }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let desk = consumer("Quayside Kiosk", &[], Vec::new());
    let own = Grant {
        proof: Some(hash("right")),
        ..of(&desk, "kiosk")
    };
    grant(&stage, KeyHash::of_name("password", "kiosk"), own);
    let from = |last: u8, fields: &str| {
        let mut stream = connect_from(([127, 0, 0, last], 0).into(), stage.address()).unwrap();
        let request =
            format!("GET /f/item/1 HTTP/1.1\r\nHost: x\r\nConnection: close\r\n{fields}\r\n");
        stream.write_all(request.as_bytes()).unwrap();
        let mut answer = String::new();
        stream.read_to_string(&mut answer).unwrap();
        answer
    };
    // It was right once, and that is remembered.
    assert_eq!(status(&from(9, &basic("kiosk", "right"))), 200);
    let told: Vec<u16> = (0..11)
        .map(|i| status(&from(5, &basic("kiosk", &format!("no {i}")))))
        .collect();
    assert_eq!(told[..10], [401; 10]);
    assert_eq!(told[10], 429);
    let answer = from(5, &basic("kiosk", "right"));
    assert_eq!(
        (status(&answer), body(&answer)["type"].clone()),
        (200, Value::Null),
        "what is remembered needs no guess"
    );
    assert_eq!(status(&from(6, &basic("kiosk", "right"))), 200);
    // Each attempt counts once for its address: of thirty, ten are used up.
    let told: Vec<u16> = (0..21)
        .map(|i| status(&from(5, &format!("API-Key: no {i}\r\n"))))
        .collect();
    assert_eq!((&told[..20], told[20]), (&[401; 20][..], 429));
    // Keys that nobody has, from one address: refused for being many, and a good one passes all the same.
    let told: Vec<u16> = (0..31)
        .map(|i| status(&from(7, &format!("API-Key: no {i}\r\n"))))
        .collect();
    assert_eq!((&told[..30], told[30]), (&[401; 30][..], 429));
    let answer = from(7, "API-Key: nobody\r\n");
    assert!(answer.contains("retry-after: "), "{answer}");
    assert_eq!(body(&answer)["type"], "urn:elm-porch:problem:guessing");
    assert_eq!(status(&from(7, "API-Key: one\r\n")), 200);
    assert_eq!(status(&from(8, "API-Key: nobody\r\n")), 401);
}

#[test]
fn many_calls_that_come_at_once_with_the_right_password_are_no_guesses() {
    let backend = echo();
    let facade = "admit: { credentials: [basic] }\noperations:\n  item: { call: { backend: b } }\n";
    let stage = Stage::new(backend.address, facade);
    let desk = consumer("Quayside Kiosk", &[], Vec::new());
    let own = Grant {
        proof: Some(hash("tern rock:7")),
        ..of(&desk, "kiosk")
    };
    grant(&stage, KeyHash::of_name("password", "kiosk"), own);
    let at_once = |fields: &str| -> Vec<u16> {
        std::thread::scope(|scope| {
            let all: Vec<_> = (0..40)
                .map(|_| scope.spawn(|| status(&stage.get("/f/item/1", fields))))
                .collect();
            all.into_iter().map(|one| one.join().unwrap()).collect()
        })
    };
    // Nothing is remembered yet: the first is looked at, and all others find out.
    assert_eq!(at_once(&basic("kiosk", "tern rock:7")), [200; 40]);
    // Guesses at once are guesses.
    let guessed = at_once(&basic("kiosk", "tern rock:8"));
    assert!(
        guessed.iter().all(|s| matches!(s, 401 | 429)),
        "{guessed:?}"
    );
    assert!(guessed.contains(&429), "{guessed:?}");
    assert_eq!(
        status(&stage.get("/f/item/1", &basic("kiosk", "tern rock:7"))),
        200
    );
}
