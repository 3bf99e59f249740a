//! One's team: members, invitations, and for which team one acts.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use porch_store::{NewMessage, NewPerson, StoreError};
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value, json};
use utoipa::ToSchema;

use super::account::{can_write, hashed, link, tidy_email, title};
use super::factor;
use super::passwords;
use super::session::{Account, Caller, begun_for, own_page, with_password};
use crate::api::{Json, Path, drawn, tidy_name};
use crate::app::App;
use crate::error::ApiError;

/// Whoever manages a team says who is of it, and where it is told.
pub(super) fn manages(caller: &Caller) -> Result<(), ApiError> {
    match caller.0.manages {
        true => Ok(()),
        false => Err(ApiError::new(
            403,
            "Only those who manage the team may do that",
            "Ask one of them.",
        )),
    }
}

/// A member of one's team.
#[derive(Serialize, ToSchema)]
pub(crate) struct MemberView {
    email: String,
    name: String,
    /// Whether they may invite and take out others.
    manages: bool,
}

/// Somebody who is invited and has not come yet.
#[derive(Serialize, ToSchema)]
pub(crate) struct InvitationView {
    email: String,
    /// Milliseconds since 1970.
    sent_at: i64,
    expires_at: i64,
}

/// One's team.
#[derive(Serialize, ToSchema)]
pub(crate) struct OwnTeam {
    name: String,
    members: Vec<MemberView>,
    invitations: Vec<InvitationView>,
}

/// The team that one acts for: its members, and those who are invited.
#[utoipa::path(get, path = "/api/team", operation_id = "own_team", responses((status = 200, body = OwnTeam), (status = 401)))]
pub(crate) async fn team(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<OwnTeam>, ApiError> {
    let (store, of) = (app.database.store()?, &caller.0.team);
    let members = store.members(of.id).await?.into_iter();
    let invited = store.invitations(of.id).await?.into_iter();
    Ok(Json(OwnTeam {
        name: of.name.clone(),
        members: members
            .map(|(p, manages)| MemberView {
                email: p.email,
                name: p.name,
                manages,
            })
            .collect(),
        invitations: invited
            .map(|i| InvitationView {
                email: i.email,
                sent_at: i.sent_at,
                expires_at: i.expires_at,
            })
            .collect(),
    }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Inviting {
    email: String,
}

/// Invites somebody to one's team: a letter says how they come.
#[utoipa::path(post, path = "/api/team/invitations", request_body = Inviting, responses((status = 201), (status = 401), (status = 403), (status = 409), (status = 429)))]
pub(crate) async fn invite(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Json(body): Json<Inviting>,
) -> Result<StatusCode, ApiError> {
    manages(&caller)?;
    can_write(&app)?;
    let email = tidy_email(&body.email)?;
    app.letters.may_cause(peer.ip())?;
    if !app.letters.may_have(&email) {
        let help = "Try again in an hour.";
        return Err(ApiError::new(429, "They were sent too many letters", help));
    }
    let (token, team) = (drawn()?, &caller.0.team);
    let change = app.database.store()?.change(caller.who()).await?;
    let invited = change.invite(team.id, &email, &token).await;
    invited.map_err(|e| match e {
        StoreError::Taken(_) => ApiError::new(409, format!("{email} is a member already"), ""),
        other => other.into(),
    })?;
    let (portal, address) = (title(&app), link(&app, "join", &token));
    let text = format!(
        "{who} invites you to {team} at {portal}: its members see the same applications, keys and agreements.\n\nJoin here:\n\n{address}\n\nThe link is good for a week, and once. If you do not know them, do nothing.\n",
        who = caller.who(),
        team = team.name,
    );
    let subject = format!("Join {} at {portal}", team.name);
    change.write_letter(&email, &subject, &text).await?;
    let object = format!("team {}", team.name);
    let detail = json!({ "email": email });
    change.audit("invited", &object, detail).await?;
    change.commit().await?;
    app.told();
    Ok(StatusCode::CREATED)
}

/// Takes an invitation back.
#[utoipa::path(delete, path = "/api/team/invitations/{email}", params(("email" = String, Path)), responses((status = 204), (status = 401), (status = 403), (status = 404)))]
pub(crate) async fn withdraw_invitation(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(email): Path<String>,
) -> Result<StatusCode, ApiError> {
    manages(&caller)?;
    let team = &caller.0.team;
    let change = app.database.store()?.change(caller.who()).await?;
    if !change.withdraw_invitation(team.id, &email).await? {
        return Err(ApiError::missing(format!("invitation of {email}")));
    }
    let object = format!("team {}", team.name);
    let detail = json!({ "email": email });
    change
        .audit("withdrew an invitation", &object, detail)
        .await?;
    change.commit().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// What a member may do.
#[derive(Deserialize, ToSchema)]
#[serde(try_from = "Map<String, Value>")]
pub(crate) struct MemberChange {
    /// Whether they may invite and take out others.
    manages: bool,
}

/// Of an object alone: a list of one truth would be taken for one otherwise.
impl TryFrom<Map<String, Value>> for MemberChange {
    type Error = &'static str;

    fn try_from(body: Map<String, Value>) -> Result<Self, Self::Error> {
        let manages = body.get("manages").and_then(Value::as_bool);
        let missing = "`manages` is missing: whether they may invite and take out others";
        manages.map(|manages| Self { manages }).ok_or(missing)
    }
}

/// Says whether a member manages the team.
#[utoipa::path(put, path = "/api/team/members/{email}", params(("email" = String, Path)), request_body = MemberChange, responses((status = 204), (status = 401), (status = 403), (status = 404), (status = 409)))]
pub(crate) async fn change_member(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(email): Path<String>,
    Json(body): Json<MemberChange>,
) -> Result<StatusCode, ApiError> {
    manages(&caller)?;
    changed(&app, &caller, &email, Some(body.manages)).await
}

/// Takes a member out, or leaves the team oneself; its applications stay.
#[utoipa::path(delete, path = "/api/team/members/{email}", params(("email" = String, Path)), responses((status = 204), (status = 401), (status = 403), (status = 404), (status = 409)))]
pub(crate) async fn remove_member(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(email): Path<String>,
) -> Result<StatusCode, ApiError> {
    if !email.eq_ignore_ascii_case(caller.who()) {
        manages(&caller)?;
    }
    changed(&app, &caller, &email, None).await
}

async fn changed(
    app: &App,
    caller: &Caller,
    email: &str,
    manages: Option<bool>,
) -> Result<StatusCode, ApiError> {
    let team = &caller.0.team;
    let change = app.database.store()?.change(caller.who()).await?;
    let person = change.change_member(team.id, email, manages).await?;
    let object = format!("team {}", team.name);
    let detail = json!({ "email": person.email, "manages": manages });
    let what = match manages {
        Some(_) => "changed a member",
        None => "took a member out",
    };
    change.audit(what, &object, detail).await?;
    if manages.is_none() {
        let (name, subject) = (&person.name, format!("{} left the team", person.email));
        let told = NewMessage {
            kind: "member",
            team: Some(team.id),
            subject: &subject,
            text: &format!(
                "{name} is no member of {} any more. Keys that they know are good still: renew them.",
                team.name
            ),
            detail: json!({ "email": person.email, "by": caller.who() }),
        };
        change.tell(&told).await?;
    }
    change.commit().await?;
    app.told();
    Ok(StatusCode::NO_CONTENT)
}

/// Of which team one is, and for which one acts.
#[derive(Serialize, ToSchema)]
pub(crate) struct TeamLine {
    id: i64,
    name: String,
    /// Whether one acts for it now.
    now: bool,
}

/// The teams that one is a member of.
#[utoipa::path(get, path = "/api/teams", operation_id = "own_teams", responses((status = 200, body = Vec<TeamLine>), (status = 401)))]
pub(crate) async fn teams(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Vec<TeamLine>>, ApiError> {
    let found = app.database.store()?.teams_of(caller.0.person.id).await?;
    let lines = found.into_iter().map(|t| TeamLine {
        now: t.id == caller.0.team.id,
        id: t.id,
        name: t.name,
    });
    Ok(Json(lines.collect()))
}

/// Acts for another of one's teams from now on.
#[utoipa::path(post, path = "/api/teams/{team}/act", params(("team" = i64, Path)), responses((status = 204), (status = 401), (status = 404)))]
pub(crate) async fn act(
    State(app): State<Arc<App>>,
    caller: Caller,
    Path(team): Path<i64>,
) -> Result<StatusCode, ApiError> {
    let of = &caller.0;
    let store = app.database.store()?;
    store.act_for(of.person.id, of.session, team).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Token {
    /// What stands behind the `#` of the link.
    token: String,
}

/// To whom an invitation is, and by which team.
#[derive(Serialize, ToSchema)]
pub(crate) struct InvitedView {
    email: String,
    team: String,
    /// Whether there is an account of this address, whose password is asked for.
    known: bool,
}

/// What an invitation says: whoever has its link read the letter.
#[utoipa::path(post, path = "/api/invitation", request_body = Token, responses((status = 200, body = InvitedView), (status = 404)))]
pub(crate) async fn invitation(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
    Json(body): Json<Token>,
) -> Result<Json<InvitedView>, ApiError> {
    own_page(&headers)?;
    let store = app.database.store()?;
    let (found, team) = store.invitation(body.token.trim()).await?;
    let known = store.person(&found.email).await?;
    Ok(Json(InvitedView {
        known: known.is_some_and(|p| p.confirmed_at.is_some()),
        email: found.email,
        team: team.name,
    }))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Joining {
    token: String,
    /// What one is called, for who has no account yet.
    #[serde(default)]
    name: String,
    /// One's own; the one that is chosen, for who has no account yet.
    password: String,
    /// The code of the second factor, where there is one.
    #[serde(default)]
    code: String,
}

/// Comes to a team by its invitation, and signs in.
#[utoipa::path(post, path = "/api/invitation/accept", request_body = Joining, responses((status = 200, body = Account), (status = 401), (status = 404), (status = 429)))]
pub(crate) async fn join(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(body): Json<Joining>,
) -> Result<Response, ApiError> {
    own_page(&headers)?;
    let (store, token) = (app.database.store()?, body.token.trim());
    let (found, team) = store.invitation(token).await?;
    let known = store.person(&found.email).await?;
    let known = known.filter(|p| p.confirmed_at.is_some());
    // Whoever has an account shows that it is theirs; what takes time is done before the invitation is used.
    let (person, new) = match known {
        Some(_) => {
            let (email, password) = (found.email.as_str(), body.password.trim());
            let own = with_password(&app, email, password, peer.ip()).await?;
            let own = own.ok_or_else(|| ApiError::new(401, "The password is wrong", ""))?;
            factor::shown(&app, &own, &body.code, peer.ip()).await?;
            (Some(own), None)
        }
        None => {
            let name = tidy_name(&body.name)?;
            let password = passwords::tidy(&body.password, &[&found.email, &name])?;
            let hash = hashed(&app, password).await?;
            (None, Some((name, hash)))
        }
    };
    let change = store.change(&found.email).await?;
    let (email, team_id) = change.use_invitation(token).await?;
    let id = match (person, new) {
        (Some(own), _) => own.id,
        (None, Some((name, hash))) => {
            let new = NewPerson {
                email: &email,
                name: &name,
                password_hash: &hash,
                subject: None,
            };
            change.create_known_person(&new).await?.id
        }
        (None, None) => return Err(ApiError::missing("account of this address")),
    };
    change.join(team_id, id).await?;
    let told = NewMessage {
        kind: "member",
        team: Some(team_id),
        subject: &format!("{email} joined the team"),
        text: &format!("{email} is a member of {} now.", team.name),
        detail: json!({ "email": email }),
    };
    change.tell(&told).await?;
    let object = format!("team {}", team.name);
    change.audit("joined", &object, json!({})).await?;
    change.commit().await?;
    app.told();
    begun_for(&app, &headers, id, Some(team_id)).await
}
