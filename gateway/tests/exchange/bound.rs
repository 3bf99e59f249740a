//! Tokens that are bound to whoever shows them: to a key with a proof of it, or to a certificate.

use base64::Engine;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::jwk::{Jwk, ThumbprintHash};
use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use porch_rules::grant::Proof;
use rcgen::{KeyPair, PKCS_ECDSA_P256_SHA256, PublicKeyData};
use serde_json::{Value, json};

use super::*;

pub(super) fn key() -> KeyPair {
    KeyPair::generate_for(&PKCS_ECDSA_P256_SHA256).unwrap()
}

pub(super) fn jwk(of: &KeyPair, kid: &str) -> Value {
    let b64 = |bytes| URL_SAFE_NO_PAD.encode(bytes);
    let point = of.der_bytes();
    json!({ "kty": "EC", "crv": "P-256", "kid": kid, "x": b64(&point[1..33]), "y": b64(&point[33..65]) })
}

/// The thumbprint as another library makes it.
fn thumbprint(of: &KeyPair) -> String {
    let jwk: Jwk = serde_json::from_value(jwk(of, "k")).unwrap();
    jwk.thumbprint(ThumbprintHash::SHA256)
}

pub(super) fn signed(
    kind: &str,
    by: &KeyPair,
    head: impl FnOnce(&mut Header),
    claims: &Value,
) -> String {
    let mut header = Header::new(Algorithm::ES256);
    header.typ = Some(kind.into());
    head(&mut header);
    let key = EncodingKey::from_ec_der(&by.serialize_der());
    encode(&header, claims, &key).unwrap()
}

/// An issuer, a gateway that takes its tokens, and a caller with a key.
struct Bound {
    stage: Stage,
    issuer: String,
    signs: Arc<KeyPair>,
    own: KeyPair,
    _issuer: Scripted,
    _backend: Scripted,
}

impl Bound {
    fn new(bound: &str) -> Self {
        let backend = Scripted::start(|_, request| {
            let leaks = request.to_lowercase().contains("dpop");
            plain(if leaks { "\"told\"" } else { "{}" })
        });
        let signs = Arc::new(key());
        let own = signs.clone();
        let served =
            Scripted::start(move |_, _| plain(&json!({ "keys": [jwk(&own, "one")] }).to_string()));
        let issuer = format!("http://{}", served.address);
        let facade = format!(
            "admit:\n  credentials:\n    - token: {{ issuer: '{issuer}', keys: '{issuer}/keys', audience: me{bound} }}\noperations:\n  item: {{ call: {{ backend: b }} }}\n"
        );
        let stage = Stage::new(backend.address, &facade);
        let name = format!("roster of {issuer}");
        let grant = Grant {
            consumer: Arc::new(Consumer {
                id: 9,
                name: "Crew Roster".into(),
                ..Consumer::default()
            }),
            shown: Shown::new(&*name),
            ends: i64::MAX,
            paused: false,
            opens: None,
            proof: Some(Arc::new(Proof::Token)),
        };
        let hash = KeyHash::of_name("token", &name);
        let table = stage.shared.grants.load().with(hash, Some(grant));
        stage.shared.grants.store(Arc::new(table));
        Self {
            stage,
            issuer,
            signs,
            own: key(),
            _issuer: served,
            _backend: backend,
        }
    }

    fn token(&self, cnf: &Value) -> String {
        let mut claims = json!({ "iss": self.issuer, "aud": "me", "exp": 4_000_000_000_i64, "client_id": "roster" });
        if !cnf.is_null() {
            claims["cnf"] = cnf.clone();
        }
        signed(
            "at+jwt",
            &self.signs,
            |h| h.kid = Some("one".into()),
            &claims,
        )
    }

    /// A proof for the call that is made here, changed as a test wants it.
    fn proof(&self, token: &str, by: &KeyPair, jti: &str, change: &Value) -> String {
        let since = std::time::SystemTime::UNIX_EPOCH.elapsed().unwrap();
        let hash = sha256(token);
        let mut claims = json!({
            "jti": jti, "htm": "GET", "htu": "http://quay.example/f/item/1", "iat": since.as_secs(), "ath": hash,
        });
        for (name, value) in change.as_object().into_iter().flatten() {
            claims[name] = value.clone();
        }
        let key = serde_json::from_value(jwk(by, "k")).unwrap();
        signed("dpop+jwt", by, |h| h.jwk = Some(key), &claims)
    }

    fn call(&self, fields: &str) -> String {
        let request = format!(
            "GET /f/item/1?n=7 HTTP/1.1\r\nHost: quay.example\r\nConnection: close\r\n{fields}\r\n"
        );
        self.stage.raw(request.as_bytes())
    }

    fn why(self) -> String {
        let (traces, _) = self.stage.end();
        let mut all = traces.into_iter().filter_map(|t| Some(t.refusal?.why));
        all.next_back().unwrap_or_default()
    }
}

/// The SHA-256 of a text, in base64url.
fn sha256(text: &str) -> String {
    let hash = porch_proof::digest_of(text.as_bytes());
    let (_, hash) = hash.split_once(":").unwrap();
    hash.trim_end_matches(':')
        .trim_end_matches('=')
        .replace('+', "-")
        .replace('/', "_")
}

fn shown(scheme: &str, token: &str, proofs: &[&str]) -> String {
    let proofs: String = proofs.iter().map(|p| format!("DPoP: {p}\r\n")).collect();
    format!("Authorization: {scheme} {token}\r\n{proofs}")
}

#[test]
fn a_token_of_a_key_is_taken_with_a_proof_of_it_once() {
    let at = Bound::new("");
    let token = at.token(&json!({ "jkt": thumbprint(&at.own) }));
    let proof = at.proof(&token, &at.own, "first", &Value::Null);
    let answer = at.call(&shown("DPoP", &token, &[&proof]));
    assert!(answer.ends_with("{}"), "{answer}");
    let again = at.call(&shown("dpop", &token, &[&proof]));
    assert_eq!(status(&again), 401, "{again}");
    let second = at.proof(&token, &at.own, "second", &Value::Null);
    assert_eq!(status(&at.call(&shown("dpop", &token, &[&second]))), 200);
    assert!(at.why().contains("was used before"));
}

#[test]
fn a_token_of_a_key_is_nobody_else_s() {
    let stranger = key();
    type Case = (
        &'static str,
        fn(&Bound, &str, &KeyPair) -> String,
        &'static str,
    );
    let cases: [Case; 9] = [
        (
            "as a bearer's",
            |_, t, _| shown("Bearer", t, &[]),
            "shown as a bearer's",
        ),
        (
            "a bearer's, with a proof",
            |at, t, _| shown("Bearer", t, &[&at.proof(t, &at.own, "a", &Value::Null)]),
            "shown as a bearer's",
        ),
        (
            "no proof",
            |_, t, _| shown("DPoP", t, &[]),
            "not one field “DPoP”",
        ),
        (
            "two proofs",
            |at, t, _| {
                let (a, b) = (
                    at.proof(t, &at.own, "a", &Value::Null),
                    at.proof(t, &at.own, "b", &Value::Null),
                );
                shown("DPoP", t, &[&a, &b])
            },
            "not one field “DPoP”",
        ),
        (
            "another's key",
            |at, t, s| shown("DPoP", t, &[&at.proof(t, s, "a", &Value::Null)]),
            "another key than its proof",
        ),
        (
            "for another method",
            |at, t, _| {
                shown(
                    "DPoP",
                    t,
                    &[&at.proof(t, &at.own, "a", &json!({ "htm": "PUT" }))],
                )
            },
            "the method PUT",
        ),
        (
            "for another place",
            |at, t, _| {
                shown(
                    "DPoP",
                    t,
                    &[&at.proof(
                        t,
                        &at.own,
                        "a",
                        &json!({ "htu": "http://quay.example/f/item/2" }),
                    )],
                )
            },
            "it is for http://quay",
        ),
        (
            "old",
            |at, t, _| {
                shown(
                    "DPoP",
                    t,
                    &[&at.proof(t, &at.own, "a", &json!({ "iat": 1_700_000_000 }))],
                )
            },
            "seconds ago",
        ),
        (
            "garbage",
            |_, t, _| shown("DPoP", t, &["a.b.c"]),
            "the proof in “DPoP”",
        ),
    ];
    for (name, made, why) in cases {
        let at = Bound::new("");
        let token = at.token(&json!({ "jkt": thumbprint(&at.own) }));
        let answer = at.call(&made(&at, &token, &stranger));
        assert_eq!(status(&answer), 401, "{name}: {answer}");
        let told = at.why();
        assert!(told.contains(why), "{name}: {told}");
    }
}

#[test]
fn what_must_be_bound_is_and_what_is_bound_otherwise_is_not_taken() {
    for (bound, cnf, why) in [
        (", bound: [dpop]", Value::Null, "must be"),
        (", bound: [dpop]", json!({ "x5t#S256": "AAAA" }), "must be"),
        (
            "",
            json!({ "x5t#S256": "AAAA" }),
            "bound to a certificate, and none was shown",
        ),
        ("", json!({ "kid": "elsewhere" }), "a way that is not known"),
        ("", json!("a text"), "a way that is not known"),
        ("", json!({ "jkt": 7 }), "as a bearer's"),
    ] {
        let at = Bound::new(bound);
        let token = at.token(&cnf);
        let answer = at.call(&shown("Bearer", &token, &[]));
        assert_eq!(status(&answer), 401, "{cnf}: {answer}");
        let asks = answer
            .to_lowercase()
            .contains("www-authenticate: dpop realm=\"f\", algs=\"es256 ");
        assert_eq!(asks, bound.contains("dpop"), "{answer}");
        let told = at.why();
        assert!(told.contains(why), "{cnf}: {told}");
    }
    // One that is bound to nobody is a bearer's, and is no more with a proof.
    let at = Bound::new("");
    let token = at.token(&Value::Null);
    assert_eq!(status(&at.call(&shown("Bearer", &token, &[]))), 200);
    let proof = at.proof(&token, &at.own, "a", &Value::Null);
    assert_eq!(status(&at.call(&shown("DPoP", &token, &[&proof]))), 401);
}
