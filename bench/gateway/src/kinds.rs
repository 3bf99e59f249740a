//! One facade for each kind of credential and of limit, each alone: what it adds to a call is what the call costs beyond `plain`.

use std::collections::BTreeMap;
use std::sync::Arc;

use argon2::Argon2;
use argon2::password_hash::PasswordHasher;
use porch_proof::{PublicKey, SigningKey};
use porch_rules::grant::{Consumer, Grant, Proof, Shown, Signing};
use porch_rules::key::KeyHash;

/// The public key of RFC 9421 appendix B.1.4.
const ED25519: &str = "-----BEGIN PUBLIC KEY-----\nMCowBQYDK2VwAyEAJrQLj5P/89iXES9+vFgrIy29clF9CC/oPPsw3c5D0bs=\n-----END PUBLIC KEY-----\n";

/// What each facade demands, by its name; the last ones stand beside a key, as limits do.
const KINDS: [(&str, &str); 10] = [
    ("key", "credentials: [key]"),
    ("basic", "credentials: [basic]"),
    ("signature", "credentials: [signature]"),
    (
        "token",
        "credentials: [{ token: { issuer: ISSUER, keys: 'ISSUER/keys', audience: bench, algorithms: [ES256] } }]",
    ),
    ("networks", "networks: { allow: [127.0.0.0/8] }"),
    (
        "sliding",
        "credentials: [key], limits: [{ requests: 4000000000, window: 1h }]",
    ),
    (
        "smooth",
        "credentials: [key], limits: [{ requests: 4000000000, window: 1h, smooth: true, burst: 1000000 }]",
    ),
    (
        "quota",
        "credentials: [key], quotas: [{ requests: 4000000000, each: month }]",
    ),
    ("at-once", "credentials: [key], limits: [{ at-once: 1000 }]"),
    (
        "address",
        "limits: [{ requests: 4000000000, window: 1h, per: address }]",
    ),
];

/// Adds a facade for each.
pub(crate) fn documents(backend: u16, files: &mut BTreeMap<String, String>) {
    for (name, admit) in KINDS {
        let admit = admit.replace("ISSUER", &format!("http://127.0.0.1:{backend}"));
        let facade = format!(
            "elm-porch: facade/1\nname: {name}\nbase: /{name}\ncontract: c.yaml\nadmit: {{ {admit} }}\noperations:\n  item: {{ call: {{ backend: fixed }} }}\n"
        );
        files.insert(format!("{name}.yaml"), facade);
    }
}

/// What the one consumer shows besides its key.
pub(crate) fn grants(
    consumer: &Arc<Consumer>,
    backend: u16,
) -> Result<Vec<(KeyHash, Grant)>, String> {
    let grant = |kind: &str, label: &str, proof: Proof| {
        let grant = Grant {
            consumer: consumer.clone(),
            shown: Shown::new(label),
            ends: i64::MAX,
            paused: false,
            opens: None,
            proof: Some(Arc::new(proof)),
        };
        (KeyHash::of_name(kind, label), grant)
    };
    let hash = Argon2::default().hash_password(b"bench");
    let hash = hash.map_err(|e| e.to_string())?.to_string();
    let signing = Signing {
        key: SigningKey::Public(PublicKey::read(ED25519).map_err(|e| e.to_string())?),
        kept: ED25519.into(),
    };
    let issuer = format!("http://127.0.0.1:{backend}");
    Ok(vec![
        grant("password", "bench", Proof::Password(hash.into())),
        grant("signature", "bench", Proof::Signing(signing)),
        grant("token", &format!("{CLIENT} of {issuer}"), Proof::Token),
    ])
}

const CLIENT: &str = "bench";
