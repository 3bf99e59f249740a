//! What people of the portal do to themselves and to what is theirs.

use porch_store::entity::{consumer, team};
use serde_json::json;

use super::Directory;
use crate::error::ApiError;

impl Directory {
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
