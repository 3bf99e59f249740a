//! Tokens that callers show: their issuer's keys, however the issuer behaves.

use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use porch_rules::grant::Proof;
use rcgen::{KeyPair, PKCS_ECDSA_P256_SHA256, PublicKeyData};
use serde_json::{Value, json};

use super::*;

/// An issuer's key, and the set that it is published in.
struct Key(KeyPair, &'static str);

impl Key {
    fn new(kid: &'static str) -> Self {
        Self(KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).unwrap(), kid)
    }

    fn set(&self) -> String {
        use base64::Engine;
        let b64 = |bytes| base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(bytes);
        let point = self.0.der_bytes();
        let key = json!({ "kty": "EC", "crv": "P-256", "kid": self.1, "x": b64(&point[1..33]), "y": b64(&point[33..65]) });
        json!({ "keys": [key] }).to_string()
    }

    fn token(&self, kid: &str, issuer: &str, client: &str) -> String {
        let mut header = Header::new(Algorithm::ES256);
        header.typ = Some("at+jwt".into());
        header.kid = Some(kid.into());
        let claims = json!({ "iss": issuer, "aud": "me", "exp": 4_000_000_000_i64, "client_id": client, "scope": "a pilot" });
        encode(
            &header,
            &claims,
            &EncodingKey::from_ec_der(&self.0.serialize_der()),
        )
        .unwrap()
    }
}

/// A gateway that takes tokens of an issuer; `keys` is what the document says besides.
fn stage(backend: &Scripted, issuer: &str, keys: &str) -> Stage {
    let facade = format!(
        "admit:\n  credentials:\n    - token: {{ issuer: '{issuer}', audience: [other, me], roles: =claims.scope{keys} }}\noperations:\n  item:\n    call: {{ backend: b }}\n    send: {{ headers: {{ X-Told: \"=claims.?scope.orValue('') + '/' + string('pilot' in caller.roles)\" }} }}\n"
    );
    let stage = Stage::new(backend.address, &facade);
    let consumer = Arc::new(Consumer {
        id: 9,
        name: "Crew Roster".into(),
        ..Consumer::default()
    });
    let name = format!("roster of {issuer}");
    let grant = Grant {
        consumer,
        shown: Shown::new(&*name),
        ends: i64::MAX,
        paused: false,
        opens: None,
        proof: Some(Arc::new(Proof::Token)),
    };
    let table = stage
        .shared
        .grants
        .load()
        .with(KeyHash::of_name("token", &name), Some(grant));
    stage.shared.grants.store(Arc::new(table));
    stage
}

fn get(stage: &Stage, token: &str) -> String {
    stage.get("/f/item/1", &format!("Authorization: Bearer {token}\r\n"))
}

fn why(stage: Stage) -> Vec<String> {
    let (traces, _) = stage.end();
    traces
        .into_iter()
        .filter_map(|t| Some(t.refusal?.why))
        .collect()
}

#[test]
fn keys_are_asked_for_once_and_for_names_that_nobody_has_seldom() {
    let backend = Scripted::start(|_, request| {
        plain(&Value::String(request.to_ascii_lowercase()).to_string())
    });
    let key = Arc::new(Key::new("one"));
    let asked = Arc::new(AtomicUsize::new(0));
    let (count, own) = (asked.clone(), key.clone());
    let issuer = Scripted::start(move |_, _| {
        count.fetch_add(1, Ordering::SeqCst);
        plain(&own.set())
    });
    let address = format!("http://{}", issuer.address);
    let stage = stage(&backend, &address, &format!(", keys: '{address}/keys'"));
    let good = key.token("one", &address, "roster");
    std::thread::scope(|scope| {
        for _ in 0..10 {
            scope.spawn(|| {
                let answer = get(&stage, &good);
                assert_eq!(status(&answer), 200, "{answer}");
                assert!(answer.contains("x-told: a pilot/true"), "{answer}");
                assert!(!answer.contains("authorization"), "{answer}");
            });
        }
    });
    assert_eq!(asked.load(Ordering::SeqCst), 1);
    for i in 0..20 {
        let other = key.token(&format!("made up {i}"), &address, "roster");
        assert!(matches!(status(&get(&stage, &other)), 401 | 429));
    }
    assert!(asked.load(Ordering::SeqCst) <= 2, "{asked:?}");
    assert_eq!(status(&get(&stage, &good)), 200);
    // Good, and somebody else's.
    assert_eq!(
        status(&get(&stage, &key.token("one", &address, "stranger"))),
        403
    );
    let told = why(stage);
    assert!(
        told.iter()
            .any(|w| w.contains("no consumer has tokens of the client “stranger”")),
        "{told:?}"
    );
}

#[test]
fn an_issuer_that_misbehaves_is_told_of_and_the_caller_is_not_blamed() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let key = Arc::new(Key::new("one"));
    let discovery = |issuer: &str, keys: &str| {
        plain(&json!({ "issuer": issuer, "jwks_uri": keys }).to_string())
    };
    type Answer = Box<dyn Fn(&str, &str, &Key) -> Vec<u8> + Send + Sync>;
    let cases: Vec<(Answer, &str)> = vec![
        (
            Box::new(|_, _, _| {
                b"HTTP/1.1 302 Found\r\nLocation: http://127.0.0.1:1/\r\nContent-Length: 0\r\n\r\n"
                    .to_vec()
            }),
            "it answers 302",
        ),
        (Box::new(|_, _, _| plain("<html>")), "no JSON"),
        (
            Box::new(|_, _, _| plain(&format!("\"{}\"", "x".repeat(300 << 10)))),
            "more than 262144 bytes",
        ),
        (Box::new(|_, _, _| Vec::new()), "it broke off"),
        (
            Box::new(move |_, own, _| discovery("http://other.example", &format!("{own}/keys"))),
            "is of http://other.example",
        ),
        (
            Box::new(move |_, own, _| discovery(own, "http://127.0.0.1:1/keys")),
            "its keys are elsewhere, at http://127.0.0.1:1/keys",
        ),
        (Box::new(|_, _, _| plain("{\"issuer\": 7}")), "is of nobody"),
        (
            Box::new(move |path, own, _| match path {
                "/keys" => plain("{\"keys\": []}"),
                _ => discovery(own, &format!("{own}/keys")),
            }),
            "none of its keys can verify signatures",
        ),
    ];
    for (answer, part) in cases {
        let own = key.clone();
        let issuer = Scripted::start(move |_, request| {
            let path = request.split(' ').nth(1).unwrap_or_default().to_owned();
            let lower = request.to_ascii_lowercase();
            let host = lower
                .lines()
                .find_map(|l| l.strip_prefix("host: "))
                .unwrap_or_default();
            answer(&path, &format!("http://{host}"), &own)
        });
        let address = format!("http://{}", issuer.address);
        let stage = stage(&backend, &address, "");
        let answer = get(&stage, &key.token("one", &address, "roster"));
        assert_eq!(status(&answer), 503, "{part}: {answer}");
        assert!(answer.contains("urn:elm-porch:problem:issuer"), "{answer}");
        assert!(!answer.contains("127.0.0.1:1"), "{answer}");
        let told = why(stage);
        assert!(told[0].contains(part), "{part}: {told:?}");
    }
    // One that does as it should, found by its discovery document.
    let own = key.clone();
    let issuer = Scripted::start(move |_, request| {
        let lower = request.to_ascii_lowercase();
        let host = lower
            .lines()
            .find_map(|l| l.strip_prefix("host: "))
            .unwrap_or_default();
        let address = format!("http://{host}");
        match request.starts_with("GET /keys ") {
            true => plain(&own.set()),
            false => discovery(&address, &format!("{address}/keys")),
        }
    });
    let address = format!("http://{}", issuer.address);
    let stage = stage(&backend, &address, "");
    assert_eq!(
        status(&get(&stage, &key.token("one", &address, "roster"))),
        200
    );
    let nothing = stage.get("/f/item/1", "");
    assert_eq!(status(&nothing), 401);
    assert!(
        nothing
            .to_ascii_lowercase()
            .contains("www-authenticate: bearer realm=\"f\"\r\n"),
        "{nothing}"
    );
}
