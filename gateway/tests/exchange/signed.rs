//! Signed requests: what must be signed, when, once, and with which body.

use argon2::Argon2;
use argon2::password_hash::PasswordHasher;
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use porch_proof::{Message, PublicKey, Saying, SignedBy, Signer, SigningKey, digest_of};
use porch_rules::grant::{Proof, Signing};
use rcgen::{KeyPair, PKCS_ED25519};

use super::*;

/// A request as whoever signs it sees it.
struct Asked {
    method: &'static str,
    authority: String,
    target: String,
    fields: Vec<(&'static str, String)>,
}

impl Message for Asked {
    fn method(&self) -> &str {
        self.method
    }
    fn scheme(&self) -> &str {
        "http"
    }
    fn authority(&self) -> &str {
        &self.authority
    }
    fn path(&self) -> &str {
        self.target.split('?').next().unwrap()
    }
    fn query(&self) -> Option<&str> {
        self.target.split_once('?').map(|(_, q)| q)
    }
    fn field(&self, name: &str) -> Vec<&[u8]> {
        let own = self.fields.iter().filter(|(n, _)| *n == name);
        own.map(|(_, v)| v.as_bytes()).collect()
    }
}

const USUAL: [&str; 4] = ["@method", "@authority", "@path", "@query"];
const SECRET: &str = "low water at noon, high water at six";

/// How a request is signed, and what is changed behind that.
struct How<'h> {
    covers: &'h [&'h str],
    created: i64,
    nonce: &'h str,
    keyid: &'h str,
    body: &'h str,
    /// The body that is sent in its place.
    sent: Option<&'h str>,
    target: Option<&'h str>,
}

impl Default for How<'_> {
    fn default() -> Self {
        Self {
            covers: &USUAL,
            created: 0,
            nonce: "",
            keyid: "kiosk-1",
            body: "",
            sent: None,
            target: None,
        }
    }
}

fn now() -> i64 {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    since.unwrap().as_secs() as i64
}

/// Sends a request that is signed so, some seconds from now.
fn send(stage: &Stage, signer: &Signer, how: &How<'_>) -> String {
    let (method, path) = match how.body {
        "" => ("GET", "/f/item/1?n=7"),
        _ => ("PUT", "/f/item/1"),
    };
    let mut covers = how.covers.to_vec();
    let mut asked = Asked {
        method,
        authority: "quay.example:8080".into(),
        target: path.into(),
        fields: Vec::new(),
    };
    if !how.body.is_empty() {
        asked
            .fields
            .push(("content-digest", digest_of(how.body.as_bytes())));
        covers.push("content-digest");
    }
    let saying = Saying {
        keyid: how.keyid,
        created: now() + how.created,
        nonce: how.nonce,
        tag: None,
    };
    let (input, signature) = signer.sign(&asked, &covers, &saying).unwrap();
    let fields: String = asked
        .fields
        .iter()
        .map(|(n, v)| format!("{n}: {v}\r\n"))
        .collect();
    let body = how.sent.unwrap_or(how.body);
    let target = how.target.unwrap_or(path);
    let request = format!(
        "{method} {target} HTTP/1.1\r\nHost: Quay.example:8080\r\nConnection: close\r\nContent-Type: text/plain\r\nContent-Length: {}\r\n{fields}Signature-Input: {input}\r\nSignature: {signature}\r\n\r\n{body}",
        body.len()
    );
    stage.raw(request.as_bytes())
}

fn stage(backend: &Scripted, credentials: &str) -> (Stage, KeyPair) {
    stage_of(
        backend,
        &format!("credentials: [{credentials}], limits: [{{ requests: 100, window: 1h }}]"),
    )
}

fn stage_of(backend: &Scripted, admit: &str) -> (Stage, KeyPair) {
    let facade = format!(
        "admit: {{ {admit} }}\noperations:\n  item: {{ call: {{ backend: b }} }}\n  putItem: {{ call: {{ backend: b, method: PUT, path: '/item/{{id}}' }} }}\n"
    );
    let stage = Stage::new(backend.address, &facade);
    let pair = KeyPair::generate_for(&PKCS_ED25519).unwrap();
    let consumer = Arc::new(Consumer {
        id: 4,
        name: "Quayside Kiosk".into(),
        ..Consumer::default()
    });
    let keys = [
        (
            "kiosk-1",
            SigningKey::Public(PublicKey::read(&pair.public_key_pem()).unwrap()),
        ),
        ("kiosk-2", SigningKey::Shared(SECRET.as_bytes().into())),
    ];
    for (keyid, key) in keys {
        let grant = Grant {
            consumer: consumer.clone(),
            shown: Shown::new(keyid),
            ends: i64::MAX,
            paused: false,
            opens: None,
            proof: Some(Arc::new(Proof::Signing(Signing {
                key,
                kept: "".into(),
            }))),
        };
        let table = stage
            .shared
            .grants
            .load()
            .with(KeyHash::of_name("signature", keyid), Some(grant));
        stage.shared.grants.store(Arc::new(table));
    }
    (stage, pair)
}

fn why(stage: Stage) -> String {
    let (traces, _) = stage.end();
    let mut all = traces.into_iter().filter_map(|t| Some(t.refusal?.why));
    all.next_back().unwrap_or_default()
}

#[test]
fn what_is_signed_passes_and_what_was_changed_since_does_not() {
    let count = Arc::new(AtomicUsize::new(0));
    let backend = counting(&count);
    let large = "x".repeat(100_000);
    let cases: Vec<(How<'_>, u16, &str)> = vec![
        (How::default(), 200, ""),
        (
            How {
                nonce: "a",
                ..How::default()
            },
            200,
            "",
        ),
        (
            How {
                created: -300,
                ..How::default()
            },
            200,
            "",
        ),
        (
            How {
                created: -331,
                ..How::default()
            },
            401,
            "it was made 33",
        ),
        (
            How {
                created: 33,
                ..How::default()
            },
            401,
            "seconds from now",
        ),
        (
            How {
                covers: &["@method", "@path"],
                ..How::default()
            },
            401,
            "“@authority” is not signed",
        ),
        (
            How {
                keyid: "kiosk-3",
                ..How::default()
            },
            401,
            "nobody has the key “kiosk-3”",
        ),
        (
            How {
                keyid: "kiosk-2",
                ..How::default()
            },
            401,
            "its algorithm is not one that is taken with its key",
        ),
        (
            How {
                target: Some("/f/item/2?n=7"),
                ..How::default()
            },
            401,
            "it is not signed with the key “kiosk-1”",
        ),
        (
            How {
                target: Some("/f/item/1?n=8"),
                ..How::default()
            },
            401,
            "it is not signed with",
        ),
        (
            How {
                body: "crate 17",
                ..How::default()
            },
            200,
            "",
        ),
        (
            How {
                body: &large,
                ..How::default()
            },
            200,
            "",
        ),
        (
            How {
                body: "crate 17",
                sent: Some("crate 18"),
                ..How::default()
            },
            401,
            "the body is not what its digest “sha-256” says",
        ),
        (
            How {
                body: "crate 17",
                sent: Some(""),
                ..How::default()
            },
            401,
            "the body is not what its digest",
        ),
        (
            How {
                sent: Some("crate"),
                ..How::default()
            },
            401,
            "its body is not signed (`content-digest`)",
        ),
    ];
    let mut passed = 0;
    for (how, wanted, part) in cases {
        let (stage, pair) = stage(&backend, "signature");
        let signer = Signer::of(SignedBy::Ed25519, pair.serialize_pem().as_bytes()).unwrap();
        let answer = send(&stage, &signer, &how);
        assert_eq!(status(&answer), wanted, "{part}\n{answer}");
        passed += usize::from(wanted == 200);
        if wanted == 401 && !part.contains("digest “") && !part.ends_with("its digest") {
            let accepts = "accept-signature: sig=(\"@method\" \"@authority\" \"@path\" \"@query\" \"content-digest\");created\r\n";
            assert!(answer.contains(accepts), "{answer}");
        }
        let told = why(stage);
        assert!(told.contains(part), "{part}: {told}");
    }
    assert_eq!(count.load(Ordering::SeqCst), passed);
}

#[test]
fn a_nonce_is_taken_once_and_demanded_where_the_document_says() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let (one, pair) = stage(&backend, "signature: { nonce: true, within: 1m }");
    let signer = Signer::of(SignedBy::Ed25519, pair.serialize_pem().as_bytes()).unwrap();
    let with = |nonce: &str, created| {
        status(&send(
            &one,
            &signer,
            &How {
                nonce,
                created,
                ..How::default()
            },
        ))
    };
    assert_eq!(
        [
            with("", 0),
            with("a", 0),
            with("a", 0),
            with("b", 0),
            with("a", -1)
        ],
        [401, 200, 401, 200, 401]
    );
    assert_eq!(with("c", -100), 401);
    assert_eq!(with("c", 0), 200, "what was refused used up no nonce");
    assert_eq!(why(one), "it was made 100 seconds ago");
}

#[test]
fn a_shared_secret_signs_and_the_document_says_which_algorithms_are_taken() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let signer = Signer::of(SignedBy::Hmac, SECRET.as_bytes()).unwrap();
    let how = How {
        keyid: "kiosk-2",
        ..How::default()
    };
    for (credentials, wanted) in [
        ("signature", 200),
        ("signature: { algorithms: [hmac-sha256] }", 200),
        ("signature: { algorithms: [ed25519, rsa-pss-sha512] }", 401),
        ("signature: { tag: skerry }", 401),
        ("signature: { covers: ['@method', host] }", 401),
        ("key, signature: { digest: false }", 200),
    ] {
        let credentials = credentials.replace("key, signature:", "key, { signature:");
        let credentials = match credentials.contains("{ signature:") {
            true => credentials + " }",
            false => credentials,
        };
        let (stage, _) = stage(&backend, &credentials);
        let answer = send(&stage, &signer, &how);
        assert_eq!(status(&answer), wanted, "{credentials}\n{answer}");
    }
    // Fields that are cut, doubled or none.
    let (stage, _) = stage(&backend, "signature");
    for fields in [
        "Signature-Input: sig=(\"@method\");keyid=\"kiosk-2\"\r\n",
        "Signature-Input: sig=(\r\nSignature: sig=:AA==:\r\n",
        "Signature: sig=:AA==:\r\n",
        "Signature-Input: sig=(\"@method\");keyid=\"kiosk-2\";created=1\r\nSignature: sig=:AA==:, sig=:AA==:\r\n",
    ] {
        assert_eq!(status(&stage.get("/f/item/1", fields)), 401, "{fields}");
    }
}

#[test]
fn the_same_name_of_another_kind_is_another_credential() {
    let backend = Scripted::start(|_, _| plain("{}"));
    let admit = "credentials: [basic, signature], limits: [{ requests: 1, window: 1h, per: key }]";
    let (stage, _) = stage_of(&backend, admit);
    let hash = Argon2::default().hash_password(b"tern rock").unwrap();
    let office = Grant {
        consumer: Arc::new(Consumer {
            id: 5,
            name: "Harbour Office".into(),
            ..Consumer::default()
        }),
        shown: Shown::new("kiosk-2"),
        ends: i64::MAX,
        paused: false,
        opens: None,
        proof: Some(Arc::new(Proof::Password(hash.to_string().into()))),
    };
    let put = |kind: &str, grant: Grant| {
        let hash = KeyHash::of_name(kind, "kiosk-2");
        let table = stage.shared.grants.load().with(hash, Some(grant));
        stage.shared.grants.store(Arc::new(table));
    };
    put("password", office);
    let signer = Signer::of(SignedBy::Hmac, SECRET.as_bytes()).unwrap();
    let how = How {
        keyid: "kiosk-2",
        ..How::default()
    };
    let pair = STANDARD.encode("kiosk-2:tern rock");
    let basic = || stage.get("/f/item/1", &format!("Authorization: Basic {pair}\r\n"));
    let signed = || status(&send(&stage, &signer, &how));
    assert_eq!([signed(), signed()], [200, 429]);
    assert_eq!([status(&basic()), status(&basic())], [200, 429]);

    // And is told as what it is.
    let grants = stage.shared.grants.load();
    let own = grants.check_name("signature", "kiosk-2", now()).unwrap();
    let elsewhere = Grant {
        opens: Some(Arc::new(Opens {
            facades: Some(["tides".to_owned()].into()),
            ..Opens::default()
        })),
        ..own.clone()
    };
    put("signature", elsewhere);
    assert_eq!(signed(), 403);
    assert_eq!(
        why(stage),
        "a signature with the key “kiosk-2” of Quayside Kiosk opens tides only"
    );
}
