//! The table of grants, and what is paused, as the data plane has them.

use std::collections::HashMap;
use std::sync::Arc;

use porch_gateway::Pauses;
use porch_proof::{PublicKey, SigningKey};
use porch_rules::grant::{Agreement, Consumer, Grant, Grants, Opens, Proof, Shown, Signing};
use porch_rules::key::KeyHash;
use porch_store::entity::{agreement, consumer, credential};
use porch_store::{Seal, SealError};
use serde::{Deserialize, Serialize};
use serde_json::Value;

/// One credential as it is kept.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct GrantRow {
    pub(crate) hash: String,
    pub(crate) prefix: String,
    pub(crate) consumer: i64,
    /// Milliseconds since 1970; none: it does not end.
    pub(crate) ends_at: Option<i64>,
    pub(crate) paused: bool,
    /// The facades that it opens; none: every one.
    #[serde(default)]
    pub(crate) facades: Option<Vec<String>>,
    /// The agreements that it is for; none: all of its consumer's.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) agreements: Option<Vec<i64>>,
    /// The hash of a password; none: it is a key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) password: Option<String>,
    /// Whether tokens of an issuer are what is shown.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub(crate) of_token: bool,
    /// Whether a certificate is.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub(crate) of_certificate: bool,
    /// The key that requests are signed with, as it is kept: a public one as it was given, a secret sealed.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) signing: Option<String>,
}

/// How a sealed secret begins.
const SEALED: &str = "sealed:";

/// A secret that requests are signed with, sealed for keeping.
pub(crate) fn sealed(seal: &Seal, keyid: &str, secret: &str) -> Result<String, SealError> {
    let bytes = seal.seal(&format!("signing/{keyid}"), secret)?;
    Ok(SEALED.to_owned() + &to_hex(&bytes))
}

/// The key that is kept as a text; `None` where it cannot be read.
fn signing_key(seal: &Seal, keyid: &str, kept: &str) -> Option<SigningKey> {
    let Some(hex) = kept.strip_prefix(SEALED) else {
        return PublicKey::read(kept).ok().map(SigningKey::Public);
    };
    let secret = seal
        .open(&format!("signing/{keyid}"), &from_hex(hex)?)
        .ok()?;
    Some(SigningKey::Shared(secret.into_bytes().into()))
}

impl From<credential::Model> for GrantRow {
    fn from(k: credential::Model) -> Self {
        Self {
            facades: k.opens(),
            agreements: k.agreements(),
            hash: k.hash,
            prefix: k.prefix,
            consumer: k.consumer_id,
            ends_at: k.ends_at,
            paused: k.paused,
            of_token: k.kind == "token",
            of_certificate: k.kind == "certificate",
            signing: k.proof.clone().filter(|_| k.kind == "signature"),
            password: k.proof.filter(|_| k.kind == "password"),
        }
    }
}

impl GrantRow {
    /// The row of a grant that is in the table.
    pub(crate) fn of(hash: KeyHash, grant: &Grant) -> Self {
        let opens = grant.opens.as_deref();
        Self {
            hash: hash.to_hex(),
            prefix: grant.shown.label.to_string(),
            consumer: grant.consumer.id,
            ends_at: (grant.ends != i64::MAX).then(|| grant.ends.saturating_mul(1000)),
            paused: grant.paused,
            facades: opens.and_then(|o| o.facades.as_deref().map(<[String]>::to_vec)),
            agreements: opens.and_then(|o| o.agreements.as_deref().map(<[i64]>::to_vec)),
            password: match grant.proof.as_deref() {
                Some(Proof::Password(hash)) => Some(hash.to_string()),
                _ => None,
            },
            of_token: matches!(grant.proof.as_deref(), Some(Proof::Token)),
            of_certificate: matches!(grant.proof.as_deref(), Some(Proof::Certificate)),
            signing: match grant.proof.as_deref() {
                Some(Proof::Signing(key)) => Some(key.kept.to_string()),
                _ => None,
            },
        }
    }

    /// The grant that follows from it.
    pub(super) fn grant(&self, consumer: &Arc<Consumer>, seal: &Seal) -> Option<(KeyHash, Grant)> {
        let names_some = self.facades.is_some() || self.agreements.is_some();
        let opens = names_some.then(|| {
            Arc::new(Opens {
                facades: self.facades.as_deref().map(Into::into),
                agreements: self.agreements.as_deref().map(Into::into),
            })
        });
        let password = self.password.as_deref();
        let proof = match password {
            _ if self.of_token => Some(Proof::Token),
            _ if self.of_certificate => Some(Proof::Certificate),
            None if self.signing.is_some() => {
                let kept = self.signing.as_deref()?;
                let Some(key) = signing_key(seal, &self.prefix, kept) else {
                    tracing::error!(
                        "the key “{}” that requests are signed with cannot be read",
                        self.prefix
                    );
                    return None;
                };
                let kept = kept.into();
                Some(Proof::Signing(Signing { key, kept }))
            }
            Some(hash) => Some(Proof::Password(hash.into())),
            None => None,
        };
        let grant = Grant {
            consumer: consumer.clone(),
            shown: Shown::new(self.prefix.as_str()),
            ends: self.ends_at.map_or(i64::MAX, |ms| ms / 1000),
            paused: self.paused,
            opens,
            proof: proof.map(Arc::new),
        };
        Some((KeyHash::from_hex(&self.hash)?, grant))
    }
}

/// A consumer as it is kept, with what it has agreed to.
#[derive(Clone, Serialize, Deserialize)]
pub(crate) struct ConsumerRow {
    pub(crate) id: i64,
    name: String,
    account: String,
    paused: bool,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    roles: Vec<String>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    agreements: Vec<AgreementRow>,
    /// Whether it may call what it has agreed to and nothing else.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    bound: bool,
}

#[derive(Clone, Serialize, Deserialize)]
struct AgreementRow {
    id: i64,
    offer: String,
    terms: Value,
    #[serde(alias = "facades")]
    opens: Option<Vec<String>>,
    from_at: i64,
    until_at: Option<i64>,
    paused: bool,
}

impl ConsumerRow {
    pub(crate) fn of(c: consumer::Model, agreements: Vec<agreement::Model>) -> Self {
        let agreements = agreements.into_iter().map(|a| AgreementRow {
            opens: a.opens(),
            id: a.id,
            offer: a.offer,
            terms: a.terms,
            from_at: a.from_at,
            until_at: a.until_at,
            paused: a.paused,
        });
        Self {
            roles: c.roles(),
            id: c.id,
            name: c.name,
            account: c.owner,
            paused: c.paused,
            agreements: agreements.collect(),
            bound: c.bound,
        }
    }

    /// All of them, with their agreements.
    pub(crate) fn all(
        consumers: Vec<consumer::Model>,
        agreements: Vec<agreement::Model>,
    ) -> Vec<Self> {
        let mut of: HashMap<i64, Vec<agreement::Model>> = HashMap::new();
        for agreement in agreements {
            of.entry(agreement.consumer_id).or_default().push(agreement);
        }
        let consumers = consumers.into_iter();
        consumers
            .map(|c| {
                let own = of.remove(&c.id).unwrap_or_default();
                Self::of(c, own)
            })
            .collect()
    }

    /// The consumer as the data plane knows it.
    pub(crate) fn consumer(self) -> Arc<Consumer> {
        let agreements = self.agreements.into_iter().map(|a| Agreement {
            id: a.id,
            offer: a.offer.into(),
            terms: porch_rules::grant::shared(a.terms),
            opens: a.opens.map(Into::into),
            from: a.from_at / 1000,
            until: a.until_at.map_or(i64::MAX, |ms| ms / 1000),
            paused: a.paused,
        });
        Arc::new(Consumer {
            id: self.id,
            name: self.name,
            account: self.account,
            paused: self.paused,
            roles: self.roles.into_iter().map(Into::into).collect(),
            agreements: agreements.collect(),
            bound: self.bound,
        })
    }
}

/// The whole table.
pub(crate) fn grants_of(
    consumers: &HashMap<i64, Arc<Consumer>>,
    rows: impl Iterator<Item = GrantRow>,
    seal: &Seal,
) -> Grants {
    Grants::new(each(consumers, rows, seal))
}

/// The grants of rows whose consumer there is.
pub(super) fn each(
    consumers: &HashMap<i64, Arc<Consumer>>,
    rows: impl Iterator<Item = GrantRow>,
    seal: &Seal,
) -> impl Iterator<Item = (KeyHash, Grant)> {
    rows.filter_map(|row| row.grant(consumers.get(&row.consumer)?, seal))
}

/// Pauses by facade and operation; an empty operation means the whole facade.
pub(crate) fn pauses_of(list: impl Iterator<Item = (String, String)>) -> Pauses {
    let mut pauses = Pauses::default();
    for (facade, operation) in list {
        if operation.is_empty() {
            pauses.facades.insert(facade);
        } else {
            pauses.operations.insert((facade, operation));
        }
    }
    pauses
}

/// Bytes in hexadecimal.
pub(crate) fn to_hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

/// Bytes from their hexadecimal spelling.
pub(crate) fn from_hex(text: &str) -> Option<Vec<u8>> {
    let whole = text.is_ascii() && text.len().is_multiple_of(2);
    let pairs = (0..text.len() / 2).map(|i| u8::from_str_radix(&text[i * 2..i * 2 + 2], 16));
    whole.then(|| pairs.collect::<Result<_, _>>().ok())?
}
