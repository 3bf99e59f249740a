//! Changes of consumers, credentials, agreements and pauses: each one change with its line in the audit, and as many entries in
//! the table as it has credentials.

use std::ops::Deref;
use std::sync::Arc;

use porch_rules::key::{KeyHash, new_key, prefix};
use porch_store::entity::{agreement, consumer, credential};
use porch_store::{
    AgreementChange, Change, ConsumerChange, CredentialChange, NewAddition, NewAgreement,
    NewCredential, hash_password, now_ms,
};
use serde_json::{Value, json};
use tokio::sync::OwnedMutexGuard;

use super::Directory;
use crate::error::ApiError;

/// A key that is to be made.
pub(crate) struct NewKeyOf<'a> {
    pub(crate) consumer: &'a str,
    pub(crate) label: &'a str,
    pub(crate) ends_at: Option<i64>,
    /// The facades that it opens; none: every one.
    pub(crate) facades: Option<&'a [String]>,
    /// The agreements that it is for; none: all of its consumer's.
    pub(crate) agreements: Option<&'a [i64]>,
    /// So many keys that have not ended its consumer may have; none: as many as it likes.
    pub(crate) most: Option<usize>,
}

/// A key that takes the place of another one, which is good until a time.
pub(crate) struct Renewal<'a> {
    pub(crate) known_by: &'a str,
    pub(crate) label: Option<&'a str>,
    pub(crate) ends_at: Option<i64>,
    pub(crate) old_until: i64,
}

/// What is paused or resumed: a facade, or one of its operations.
pub(crate) struct Pausing<'a> {
    pub(crate) facade: &'a str,
    /// Empty: the whole facade.
    pub(crate) operation: &'a str,
    pub(crate) paused: bool,
}

impl Pausing<'_> {
    fn what(&self) -> &'static str {
        what(self.paused)
    }
}

fn what(paused: bool) -> &'static str {
    if paused { "paused" } else { "resumed" }
}

/// A line of the audit: what was done to which object, and how.
type Told<'a> = (&'a str, String, Value);

/// A new key, and what it is known by.
fn drawn() -> Result<(String, String), ApiError> {
    let mut random = [0u8; 25];
    getrandom::fill(&mut random)
        .map_err(|_| ApiError::new(500, "The system gives no random bytes", ""))?;
    let key = new_key(&random);
    let known_by = prefix(&key).unwrap_or(&key).to_owned();
    Ok((key, known_by))
}

fn not_over(ends_at: Option<i64>) -> Result<(), ApiError> {
    if ends_at.is_some_and(|at| at <= now_ms()) {
        let help = "Give a time to come, or none.";
        return Err(ApiError::new(400, "It would have ended already", help));
    }
    Ok(())
}

/// A change while no other one of the table is under way: one that held a connection and waited for the other one's table,
/// which waits for a connection, would wait with it until both give up.
pub(super) struct Turn {
    change: Change,
    _held: OwnedMutexGuard<()>,
}

impl Deref for Turn {
    type Target = Change;

    fn deref(&self) -> &Change {
        &self.change
    }
}

impl Turn {
    /// Commits what changes nothing in the table.
    pub(super) async fn commit_alone(self) -> Result<(), ApiError> {
        Ok(self.change.commit().await?)
    }
}

impl Directory {
    pub(super) async fn change(&self, who: &str) -> Result<Turn, ApiError> {
        let held = Arc::clone(&self.turn).lock_owned().await;
        let change = self.database.store()?.change(who).await?;
        Ok(Turn {
            change,
            _held: held,
        })
    }

    /// Commits a change of a consumer (0: of something else) with its line in the audit, and takes it up.
    pub(super) async fn commit(
        &self,
        turn: Turn,
        (consumer, gone): (i64, &[String]),
        (what, object, detail): Told<'_>,
    ) -> Result<(), ApiError> {
        turn.audit(what, &object, detail).await?;
        turn.touch_grants(consumer, gone).await?;
        let mut known = self.revision.lock().await;
        turn.change.commit().await?;
        self.follow(&mut known).await.map(drop)
    }

    pub(crate) async fn create_consumer(
        &self,
        who: &str,
        name: &str,
        owner: &str,
    ) -> Result<consumer::Model, ApiError> {
        let change = self.change(who).await?;
        let made = change.create_consumer(name, owner).await?;
        let object = format!("consumer {name}");
        let detail = json!({ "owner": owner });
        change.audit("registered", &object, detail).await?;
        change.commit_alone().await?;
        Ok(made)
    }

    pub(crate) async fn change_consumer(
        &self,
        who: &str,
        name: &str,
        wanted: &ConsumerChange,
    ) -> Result<consumer::Model, ApiError> {
        let change = self.change(who).await?;
        let changed = change.change_consumer(name, wanted).await?;
        let detail = json!({ "owner": changed.owner, "roles": changed.roles, "labels": changed.labels, "bound": changed.bound });
        let told = ("changed", format!("consumer {name}"), detail);
        self.commit(change, (changed.id, &[]), told).await?;
        Ok(changed)
    }

    /// Takes a consumer away, with all that it could show.
    pub(crate) async fn delete_consumer(&self, who: &str, name: &str) -> Result<(), ApiError> {
        let change = self.change(who).await?;
        let id = self.database.store()?.consumer(name).await?.id;
        let gone = change.hashes_of(id).await?;
        change.delete_consumer(name).await?;
        let detail = json!({ "credentials": gone.len() });
        let told = ("deleted", format!("consumer {name}"), detail);
        self.commit(change, (id, &gone), told).await
    }

    /// Stops a consumer with all its credentials at once, or ends that.
    pub(crate) async fn pause_consumer(
        &self,
        who: &str,
        name: &str,
        paused: bool,
    ) -> Result<(), ApiError> {
        let change = self.change(who).await?;
        let of = change.pause_consumer(name, paused).await?;
        let told = (what(paused), format!("consumer {name}"), json!({}));
        self.commit(change, (of.id, &[]), told).await
    }

    /// Makes a key; gives it whole, which is the only time that it is known.
    pub(crate) async fn create_key(
        &self,
        who: &str,
        new: &NewKeyOf<'_>,
    ) -> Result<(credential::Model, String), ApiError> {
        not_over(new.ends_at)?;
        let (key, known_by) = drawn()?;
        let change = self.change(who).await?;
        if let Some(most) = new.most {
            let good = change.good_keys_of(new.consumer).await?;
            if good >= most {
                let title = format!("An application has at most {most} keys");
                let help = "End one that is not needed any more.";
                return Err(ApiError::new(409, title, help));
            }
        }
        let made = change
            .create_credential(&NewCredential {
                consumer: new.consumer.to_owned(),
                kind: "key".to_owned(),
                label: new.label.to_owned(),
                hash: KeyHash::of(&key).to_hex(),
                prefix: known_by.clone(),
                proof: None,
                ends_at: new.ends_at,
                facades: new.facades.map(<[String]>::to_vec),
                agreements: new.agreements.map(<[i64]>::to_vec),
            })
            .await?;
        let object = format!("consumer {}", new.consumer);
        let detail = json!({ "key": known_by, "label": new.label, "facades": new.facades, "agreements": new.agreements });
        let told = ("made a key", object, detail);
        self.commit(change, (made.consumer_id, &[]), told).await?;
        Ok((made, key))
    }

    /// Makes a key that opens what another one does, which goes on being good for a while.
    pub(crate) async fn renew_key(
        &self,
        who: &str,
        renewal: &Renewal<'_>,
    ) -> Result<(credential::Model, credential::Model, String), ApiError> {
        not_over(renewal.ends_at)?;
        let store = self.database.store()?;
        let old = store.credential("key", renewal.known_by).await?;
        if old.ends_at.is_some_and(|at| at <= now_ms()) {
            let help = "Make a new one with `porch key create`.";
            return Err(ApiError::new(409, "The key has ended already", help));
        }
        let of = store.consumer_of_number(old.consumer_id).await?;
        let of = of.ok_or_else(|| ApiError::new(404, "Its consumer is gone", ""))?;
        let (key, known_by) = drawn()?;
        let change = self.change(who).await?;
        let made = change
            .create_credential(&NewCredential {
                consumer: of.name.clone(),
                kind: "key".to_owned(),
                label: renewal.label.unwrap_or(&old.label).to_owned(),
                hash: KeyHash::of(&key).to_hex(),
                prefix: known_by.clone(),
                proof: None,
                ends_at: renewal.ends_at,
                facades: old.opens(),
                agreements: old.agreements(),
            })
            .await?;
        // An end that was nearer stays.
        let until = old
            .ends_at
            .map_or(renewal.old_until, |at| at.min(renewal.old_until));
        let ends = CredentialChange {
            ends_at: Some(Some(until)),
            ..CredentialChange::default()
        };
        let ended = change
            .change_credential("key", renewal.known_by, &ends)
            .await?;
        let detail = json!({ "key": renewal.known_by, "until": until, "new": known_by });
        let told = ("renewed a key", format!("consumer {}", of.name), detail);
        self.commit(change, (of.id, &[]), told).await?;
        Ok((made, ended, key))
    }

    /// Changes a credential: of a key all but what it is, of a password that too.
    pub(crate) async fn change_credential(
        &self,
        who: &str,
        (kind, known_by): (&str, &str),
        wanted: &CredentialChange,
    ) -> Result<credential::Model, ApiError> {
        let change = self.change(who).await?;
        let changed = change.change_credential(kind, known_by, wanted).await?;
        let detail = json!({ "label": changed.label, "ends_at": changed.ends_at, "paused": changed.paused, "facades": changed.facades, "agreements": changed.agreements });
        let what = format!("changed a {kind}");
        let told = (what.as_str(), format!("{kind} {known_by}"), detail);
        self.commit(change, (changed.consumer_id, &[]), told)
            .await?;
        Ok(changed)
    }

    /// Takes away a credential that has ended.
    pub(crate) async fn delete_credential(
        &self,
        who: &str,
        (kind, known_by): (&str, &str),
    ) -> Result<(), ApiError> {
        let change = self.change(who).await?;
        let gone = change.delete_credential(kind, known_by).await?;
        if kind == "key" && gone.ends_at.is_none_or(|at| at > now_ms()) {
            let help = "End it first, and see that nobody misses it.";
            return Err(ApiError::new(409, "The key is good still", help));
        }
        let what = format!("deleted a {kind}");
        let told = (
            what.as_str(),
            format!("{kind} {known_by}"),
            json!({ "label": gone.label }),
        );
        let hash = [gone.hash];
        self.commit(change, (gone.consumer_id, &hash), told).await
    }

    /// Gives a consumer a name and password, or another password for a name that it has.
    pub(crate) async fn set_password(
        &self,
        who: &str,
        consumer: &str,
        (name, password): (&str, &str),
    ) -> Result<credential::Model, ApiError> {
        let store = self.database.store()?;
        let owner = store.consumer(consumer).await?;
        let secret = password.to_owned();
        let proof = tokio::task::spawn_blocking(move || hash_password(&secret)).await;
        let proof = proof.ok().flatten();
        let proof = proof.ok_or_else(|| ApiError::new(500, "The password cannot be hashed", ""))?;
        let change = self.change(who).await?;
        let made = match store.credential("password", name).await {
            Ok(known) if known.consumer_id != owner.id => {
                let title = format!("The name “{name}” is another consumer's");
                return Err(ApiError::new(409, title, "Take another name."));
            }
            Ok(_) => {
                let wanted = CredentialChange {
                    proof: Some(proof),
                    ..CredentialChange::default()
                };
                change.change_credential("password", name, &wanted).await?
            }
            Err(_) => {
                let new = NewCredential {
                    consumer: consumer.to_owned(),
                    kind: "password".to_owned(),
                    prefix: name.to_owned(),
                    hash: KeyHash::of_name("password", name).to_hex(),
                    proof: Some(proof),
                    ..NewCredential::default()
                };
                change.create_credential(&new).await?
            }
        };
        let told = (
            "set a password",
            format!("consumer {consumer}"),
            json!({ "name": name }),
        );
        self.commit(change, (owner.id, &[]), told).await?;
        Ok(made)
    }

    /// Notes that tokens of an issuer for a client are a consumer's.
    pub(crate) async fn set_client(
        &self,
        who: &str,
        consumer: &str,
        (issuer, client): (&str, &str),
    ) -> Result<credential::Model, ApiError> {
        let name = format!("{client} of {issuer}");
        let change = self.change(who).await?;
        let new = NewCredential {
            consumer: consumer.to_owned(),
            kind: "token".to_owned(),
            label: issuer.to_owned(),
            hash: KeyHash::of_name("token", &name).to_hex(),
            prefix: name.clone(),
            ..NewCredential::default()
        };
        let made = change.create_credential(&new).await?;
        let told = (
            "took tokens",
            format!("consumer {consumer}"),
            json!({ "client": client, "issuer": issuer }),
        );
        self.commit(change, (made.consumer_id, &[]), told).await?;
        Ok(made)
    }

    /// Notes a key that a consumer signs requests with: a public one, or a secret that both have.
    pub(crate) async fn set_signing_key(
        &self,
        who: &str,
        consumer: &str,
        (keyid, kept): (&str, String),
    ) -> Result<credential::Model, ApiError> {
        let change = self.change(who).await?;
        let new = NewCredential {
            consumer: consumer.to_owned(),
            kind: "signature".to_owned(),
            hash: KeyHash::of_name("signature", keyid).to_hex(),
            prefix: keyid.to_owned(),
            proof: Some(kept),
            ..NewCredential::default()
        };
        let made = change.create_credential(&new).await?;
        let object = format!("consumer {consumer}");
        let told = ("took a signing key", object, json!({ "key": keyid }));
        self.commit(change, (made.consumer_id, &[]), told).await?;
        Ok(made)
    }

    /// Notes a certificate that a consumer shows, by what it is known by.
    pub(crate) async fn set_certificate(
        &self,
        who: &str,
        consumer: &str,
        known_by: &str,
    ) -> Result<credential::Model, ApiError> {
        let change = self.change(who).await?;
        let new = NewCredential {
            consumer: consumer.to_owned(),
            kind: "certificate".to_owned(),
            hash: KeyHash::of_name("certificate", known_by).to_hex(),
            prefix: known_by.to_owned(),
            ..NewCredential::default()
        };
        let made = change.create_credential(&new).await?;
        let object = format!("consumer {consumer}");
        let told = (
            "took a certificate",
            object,
            json!({ "certificate": known_by }),
        );
        self.commit(change, (made.consumer_id, &[]), told).await?;
        Ok(made)
    }

    /// A secret for signing, as it is kept.
    pub(crate) fn sealed(&self, keyid: &str, secret: &str) -> Result<String, ApiError> {
        let sealed = super::grants::sealed(&self.seal, keyid, secret);
        Ok(sealed.map_err(porch_store::StoreError::from)?)
    }

    pub(crate) async fn create_agreement(
        &self,
        who: &str,
        new: &NewAgreement,
    ) -> Result<agreement::Model, ApiError> {
        if new.until_at.is_some_and(|until| until <= new.from_at) {
            let help = "Give an end behind its beginning, or none.";
            return Err(ApiError::new(400, "It would end before it begins", help));
        }
        let change = self.change(who).await?;
        let made = change.create_agreement(new).await?;
        let detail = json!({ "agreement": made.id, "offer": made.offer, "terms": made.terms });
        let told = ("agreed", format!("consumer {}", new.consumer), detail);
        self.commit(change, (made.consumer_id, &[]), told).await?;
        Ok(made)
    }

    pub(crate) async fn change_agreement(
        &self,
        who: &str,
        id: i64,
        wanted: &AgreementChange,
    ) -> Result<agreement::Model, ApiError> {
        let change = self.change(who).await?;
        let changed = change.change_agreement(id, wanted).await?;
        let detail = json!({ "offer": changed.offer, "terms": changed.terms, "until_at": changed.until_at, "paused": changed.paused });
        let told = ("changed", format!("agreement {id}"), detail);
        self.commit(change, (changed.consumer_id, &[]), told)
            .await?;
        Ok(changed)
    }

    pub(crate) async fn delete_agreement(&self, who: &str, id: i64) -> Result<(), ApiError> {
        let change = self.change(who).await?;
        let gone = change.delete_agreement(id).await?;
        let detail = json!({ "offer": gone.offer });
        let told = ("deleted", format!("agreement {id}"), detail);
        self.commit(change, (gone.consumer_id, &[]), told).await
    }

    /// Adds something to a quota, once.
    pub(crate) async fn add_to_quota(&self, who: &str, new: &NewAddition) -> Result<(), ApiError> {
        let change = self.change(who).await?;
        change.add_to_quota(new).await?;
        let detail = json!({ "amount": new.amount, "why": new.why });
        let told = ("added to a quota", new.told.clone(), detail);
        self.commit(change, (0, &[]), told).await
    }

    /// Stops a facade or an operation at once, or ends that.
    pub(crate) async fn pause(&self, who: &str, pausing: &Pausing<'_>) -> Result<(), ApiError> {
        let change = self.change(who).await?;
        change
            .set_pause(pausing.facade, pausing.operation, pausing.paused)
            .await?;
        let object = match pausing.operation {
            "" => format!("facade {}", pausing.facade),
            operation => format!("operation {}/{operation}", pausing.facade),
        };
        let told = (pausing.what(), object, json!({}));
        self.commit(change, (0, &[]), told).await
    }
}
