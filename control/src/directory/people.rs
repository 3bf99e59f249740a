//! What people of the portal do to themselves and to what is theirs.

use porch_rules::key::KeyHash;
use porch_store::entity::{consumer, credential, team};
use porch_store::{NewCredential, NewMessage};
use serde_json::json;

use super::Directory;
use crate::error::ApiError;

/// A public key or a certificate that a team adds to one of its consumers.
pub(crate) struct OwnCredential<'a> {
    pub(crate) kind: &'static str,
    pub(crate) known_by: &'a str,
    pub(crate) proof: Option<String>,
    /// The consumer has at most so many of the kind.
    pub(crate) most: usize,
}

impl Directory {
    /// Adds a public key or a certificate to a team's consumer.
    pub(crate) async fn add_own_credential(
        &self,
        who: &str,
        consumer: &str,
        new: &OwnCredential<'_>,
    ) -> Result<credential::Model, ApiError> {
        let (kind, known_by) = (new.kind, new.known_by);
        let change = self.change(who).await?;
        if change.good_credentials_of(consumer, kind).await? >= new.most {
            let title = format!("An application has at most {} of that kind", new.most);
            let help = "Take one away that is not needed any more.";
            return Err(ApiError::new(409, title, help));
        }
        let row = NewCredential {
            consumer: consumer.to_owned(),
            kind: kind.to_owned(),
            hash: KeyHash::of_name(kind, known_by).to_hex(),
            prefix: known_by.to_owned(),
            proof: new.proof.clone(),
            ..NewCredential::default()
        };
        let made = change.create_credential(&row).await?;
        let object = format!("consumer {consumer}");
        let told = ("took a credential", object, json!({ kind: known_by }));
        self.commit(change, (made.consumer_id, &[]), told).await?;
        Ok(made)
    }

    /// Registers a consumer of a team: it opens what it agrees to and nothing else.
    pub(crate) async fn register(
        &self,
        who: &str,
        team: &team::Model,
        name: &str,
    ) -> Result<consumer::Model, ApiError> {
        let change = self.change(who).await?;
        let made = change.create_consumer_of(team, name).await?;
        let object = format!("consumer {name}");
        let detail = json!({ "team": team.name });
        change.audit("registered", &object, detail).await?;
        change.commit_alone().await?;
        Ok(made)
    }

    /// Gives a team its roles.
    pub(crate) async fn change_team(
        &self,
        who: &str,
        id: i64,
        roles: &[String],
    ) -> Result<team::Model, ApiError> {
        let change = self.change(who).await?;
        let changed = change.set_team_roles(id, roles).await?;
        let object = format!("team {}", changed.name);
        let detail = json!({ "roles": roles });
        change.audit("changed", &object, detail).await?;
        change.commit_alone().await?;
        Ok(changed)
    }

    /// Tells the teams that use operations of a facade something. How many they are.
    pub(crate) async fn announce(
        &self,
        who: &str,
        (facade, operations): (&str, &[String]),
        (subject, text): (&str, &str),
    ) -> Result<usize, ApiError> {
        let change = self.change(who).await?;
        let ids = operations.iter().map(String::as_str);
        let teams = change.teams_that_use(facade, ids).await?;
        for (team, _) in &teams {
            let told = NewMessage {
                kind: "break",
                team: Some(*team),
                subject,
                text,
                detail: json!({ "facade": facade, "operations": operations }),
            };
            change.tell(&told).await?;
        }
        let object = format!("facade {facade}");
        let detail = json!({ "subject": subject, "teams": teams.len() });
        change.audit("announced", &object, detail).await?;
        change.commit_alone().await?;
        Ok(teams.len())
    }

    /// Takes a person away; what belonged to a team that nobody is left of goes too.
    pub(crate) async fn delete_person(&self, id: i64) -> Result<(), ApiError> {
        let change = self.change(&format!("person {id}")).await?;
        let left = change.delete_person(id).await?;
        let mut gone = Vec::new();
        for consumer in &left {
            gone.extend(change.hashes_of(consumer.id).await?);
            change.delete_consumer(&consumer.name).await?;
            change.touch_grants(consumer.id, &gone).await?;
        }
        let detail = json!({ "applications": left.len() });
        let told = ("deleted their account", format!("person {id}"), detail);
        self.commit(change, (0, &gone), told).await
    }
}
