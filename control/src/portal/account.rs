//! Accounts: signing up, confirming an address, another password, one's data and its end.
//!
//! Whether an address has an account is told to nobody but whoever reads its letters: answers, and the time that they take, are
//! the same.

use std::net::{IpAddr, SocketAddr};
use std::sync::Arc;

use axum::extract::{ConnectInfo, State};
use axum::http::{HeaderMap, StatusCode};
use axum::response::Response;
use porch_facade::SignUp;
use porch_store::entity::person;
use porch_store::{Change, Purpose, hash_password};
use serde::Deserialize;
use serde_json::{Value, json};
use utoipa::ToSchema;

use super::passwords;
use super::session::{Caller, begun, own_page, with_password};
use crate::api::{Json, drawn, tidy_name};
use crate::app::App;
use crate::error::ApiError;

/// An e-mail address as people have them: something, an `@` and a host, without white space (RFC 5321 §4.1.2 allows more).
pub(super) fn tidy_email(text: &str) -> Result<String, ApiError> {
    let text = text.trim().to_lowercase();
    let (name, host) = text.rsplit_once('@').unwrap_or(("", ""));
    let odd = |c: char| {
        c.is_control()
            || c.is_whitespace()
            || matches!(
                c,
                '<' | '>' | '"' | ',' | ';' | ':' | '(' | ')' | '\\' | '@'
            )
    };
    let label = |l: &str| !l.is_empty() && l.chars().all(|c| c.is_alphanumeric() || c == '-');
    let sound = !name.is_empty() && name.len() <= 64 && !name.chars().any(odd);
    if sound && text.len() <= 254 && host.split('.').all(label) {
        return Ok(text);
    }
    let help = "It is written as in nils@example.org.";
    Err(ApiError::new(400, "This is no e-mail address", help))
}

pub(super) async fn hashed(app: &App, password: &str) -> Result<String, ApiError> {
    let password = password.to_owned();
    let turn = app.attempts.turn().await;
    let hash = tokio::task::spawn_blocking(move || hash_password(&password)).await;
    drop(turn);
    let hash = hash.ok().flatten();
    hash.ok_or_else(|| ApiError::new(500, "The password cannot be hashed", ""))
}

/// A link of the portal, with a token that is in no log: it stands behind the `#`.
pub(super) fn link(app: &App, page: &str, token: &str) -> String {
    format!("{}/{page}#{token}", app.config.portal)
}

/// Letters are only written where they can be sent.
pub(super) fn can_write(app: &App) -> Result<(), ApiError> {
    match app.config.mail.is_some() {
        true => Ok(()),
        false => Err(ApiError::new(
            503,
            "This portal sends no letters yet",
            "Whoever looks after it starts the service with --mail.",
        )),
    }
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct SigningUp {
    email: String,
    /// What one is called.
    name: String,
    /// At least 12 characters; white space around it is taken away.
    password: String,
    /// What one's team is called; as oneself unless given.
    #[serde(default)]
    team: String,
}

/// Makes an account, which is good once its address is confirmed: the letter says how. The same whether there is one already.
#[utoipa::path(post, path = "/api/sign-up", request_body = SigningUp, responses((status = 202), (status = 403), (status = 429)))]
pub(crate) async fn sign_up(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(body): Json<SigningUp>,
) -> Result<StatusCode, ApiError> {
    own_page(&headers)?;
    can_write(&app)?;
    let offered = app.publication.offered();
    let rule = offered
        .portal
        .as_ref()
        .map_or(SignUp::default(), |p| p.doc.sign_up);
    if rule == SignUp::Invited {
        let help = "Ask somebody of your team, or whoever looks after this portal.";
        return Err(ApiError::new(403, "Accounts are made by invitation", help));
    }
    let email = tidy_email(&body.email)?;
    let name = tidy_name(&body.name)?;
    let team = match body.team.trim() {
        "" => name.clone(),
        team => tidy_name(team)?,
    };
    let password = passwords::tidy(&body.password, &[&email, &name])?;
    app.letters.may_cause(peer.ip())?;
    let (hash, token) = (hashed(&app, password).await?, drawn()?);
    if !app.letters.may_have(&email) {
        return Ok(StatusCode::ACCEPTED);
    }
    app.database.store()?;
    // Whatever is found is done behind the answer, so that it takes no longer.
    tokio::spawn(async move {
        let made = make_account(&app, (&email, &name), &team, (&hash, &token)).await;
        if let Err(e) = made {
            tracing::warn!("an account cannot be made: {e:?}");
        }
    });
    Ok(StatusCode::ACCEPTED)
}

async fn make_account(
    app: &App,
    (email, name): (&str, &str),
    team: &str,
    (hash, token): (&str, &str),
) -> Result<(), ApiError> {
    let change = app.database.store()?.change(email).await?;
    let title = title(app);
    match change.create_person((email, name), hash, team).await {
        Ok(_) => {
            change.keep_link(Purpose::Confirm, email, token).await?;
            let link = link(app, "confirm", token);
            let text = format!(
                "Somebody, we hope you, made an account with this address at {title}.\n\nConfirm it with the password that you chose:\n\n{link}\n\nThe link is good for a day. If it was not you, do nothing: nobody can use the account.\n"
            );
            let subject = format!("Confirm your address for {title}");
            change.write_letter(email, &subject, &text).await?;
            let object = format!("person {email}");
            change.audit("signed up", &object, json!({})).await?;
            change.commit().await?;
        }
        Err(porch_store::StoreError::Taken(_)) => {
            drop(change);
            let change = app.database.store()?.change(email).await?;
            let text = format!(
                "Somebody, perhaps you, wanted to make an account with this address at {title}. There is one already.\n\nSign in: {0}/sign-in\nAnother password: {0}/forgotten\n",
                app.config.portal
            );
            let subject = format!("You have an account at {title}");
            change.write_letter(email, &subject, &text).await?;
            change.commit().await?;
        }
        Err(other) => return Err(other.into()),
    }
    app.told();
    Ok(())
}

/// What the portal is called.
pub(super) fn title(app: &App) -> String {
    let offered = app.publication.offered();
    let own = offered.portal.as_ref().map(|p| p.doc.title.clone());
    own.unwrap_or_else(|| "Developer portal".into())
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Confirming {
    /// What stands behind the `#` of the link.
    token: String,
    /// The password that was chosen: whoever reads the letter must have chosen it too.
    password: String,
}

/// Confirms an address, and signs in.
#[utoipa::path(post, path = "/api/confirm", request_body = Confirming, responses((status = 200, body = super::session::Account), (status = 401), (status = 404)))]
pub(crate) async fn confirm(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(body): Json<Confirming>,
) -> Result<Response, ApiError> {
    own_page(&headers)?;
    let store = app.database.store()?;
    let change = store.change("portal").await?;
    let person = change.use_link(Purpose::Confirm, body.token.trim()).await?;
    let attempt = app
        .people
        .begin(&person.email, peer.ip())
        .map_err(crate::api::too_many)?;
    tokio::time::sleep(attempt.wait).await;
    let turn = app.attempts.turn().await;
    let fits = porch_store::is_password(&person.password_hash, body.password.trim()).await;
    drop(turn);
    if !fits {
        // Nothing was committed: the link stays good.
        let help = "It is the one that you chose when you signed up; if it was not you who did, set another one.";
        return Err(ApiError::new(401, "The password is another one", help));
    }
    app.people.succeeded(&attempt);
    let (id, object) = (person.id, format!("person {}", person.email));
    change.confirm_person(person).await?;
    change
        .audit("confirmed an address", &object, json!({}))
        .await?;
    change.commit().await?;
    begun(&app, &headers, id).await
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Forgotten {
    email: String,
}

/// Sends a link with which another password is set. The same whether there is an account.
#[utoipa::path(post, path = "/api/forgotten", request_body = Forgotten, responses((status = 202), (status = 429)))]
pub(crate) async fn forgotten(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    Json(body): Json<Forgotten>,
) -> Result<StatusCode, ApiError> {
    own_page(&headers)?;
    can_write(&app)?;
    let email = tidy_email(&body.email)?;
    app.letters.may_cause(peer.ip())?;
    if !app.letters.may_have(&email) {
        return Ok(StatusCode::ACCEPTED);
    }
    // Whatever is found is done behind the answer, so that it takes no longer.
    tokio::spawn(async move {
        if let Err(e) = send_reset(&app, &email).await {
            tracing::warn!("a letter cannot be written: {e:?}");
        }
    });
    Ok(StatusCode::ACCEPTED)
}

async fn send_reset(app: &App, email: &str) -> Result<(), ApiError> {
    let store = app.database.store()?;
    if store.person(email).await?.is_none() {
        return Ok(());
    }
    let token = drawn()?;
    let change = store.change(email).await?;
    change.keep_link(Purpose::Reset, email, &token).await?;
    let (title, link) = (title(app), link(app, "reset", &token));
    let text = format!(
        "Somebody, we hope you, wants another password for your account at {title}.\n\nSet it here:\n\n{link}\n\nThe link is good for an hour, and once. If it was not you, do nothing: your password stays.\n"
    );
    let subject = format!("Another password for {title}");
    change.write_letter(email, &subject, &text).await?;
    change.commit().await?;
    app.told();
    Ok(())
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Resetting {
    /// What stands behind the `#` of the link.
    token: String,
    /// The new password.
    password: String,
}

/// Sets another password with a link that was sent; every session ends.
#[utoipa::path(post, path = "/api/reset", request_body = Resetting, responses((status = 204), (status = 404)))]
pub(crate) async fn reset(
    State(app): State<Arc<App>>,
    headers: HeaderMap,
    Json(body): Json<Resetting>,
) -> Result<StatusCode, ApiError> {
    own_page(&headers)?;
    let change = app.database.store()?.change("portal").await?;
    let person = change.use_link(Purpose::Reset, body.token.trim()).await?;
    let password = passwords::tidy(&body.password, &[&person.email, &person.name])?;
    let hash = hashed(&app, password).await?;
    let object = format!("person {}", person.email);
    // Who reads the letters of an address has confirmed it.
    let person = match person.confirmed_at {
        Some(_) => person,
        None => change.confirm_person(person).await?,
    };
    let email = person.email.clone();
    change.set_person_password(person, &hash, None).await?;
    write_of_change(&app, &change, &email, "Your password was changed").await?;
    change
        .audit("set another password", &object, json!({}))
        .await?;
    change.commit().await?;
    app.told();
    Ok(StatusCode::NO_CONTENT)
}

/// Whoever is signed in shows once more that it is they; who comes by OpenID alone has nothing to show.
pub(super) async fn shown_again(
    app: &App,
    caller: &Caller,
    password: &str,
    address: IpAddr,
) -> Result<person::Model, ApiError> {
    let own = &caller.0.person;
    if own.password_hash.is_empty() {
        return Ok(own.clone());
    }
    let found = with_password(app, &own.email, password.trim(), address).await?;
    found.ok_or_else(|| ApiError::new(401, "The password is wrong", ""))
}

/// A letter about what was changed of an account: whoever did not do it hears of it.
pub(super) async fn write_of_change(
    app: &App,
    change: &Change,
    email: &str,
    what: &str,
) -> Result<(), ApiError> {
    let title = title(app);
    let text = format!(
        "{what} at {title}.\n\nIf it was not you, set another password now, which ends every session:\n\n{}/forgotten\n",
        app.config.portal
    );
    let subject = format!("{what} at {title}");
    Ok(change.write_letter(email, &subject, &text).await?)
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct OtherPassword {
    old: String,
    new: String,
}

/// Sets another password; every other session ends.
#[utoipa::path(put, path = "/api/account/password", operation_id = "change_password_in_portal", request_body = OtherPassword, responses((status = 204), (status = 401)))]
pub(crate) async fn change_password(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Json(body): Json<OtherPassword>,
) -> Result<StatusCode, ApiError> {
    let of = &caller.0;
    let email = &of.person.email;
    let person = shown_again(&app, &caller, &body.old, peer.ip()).await?;
    let password = passwords::tidy(&body.new, &[email, &of.person.name])?;
    let hash = hashed(&app, password).await?;
    let change = app.database.store()?.change(caller.who()).await?;
    change
        .set_person_password(person, &hash, Some(of.session))
        .await?;
    write_of_change(&app, &change, email, "Your password was changed").await?;
    let object = format!("person {email}");
    change
        .audit("set another password", &object, json!({}))
        .await?;
    change.commit().await?;
    app.told();
    Ok(StatusCode::NO_CONTENT)
}

/// All that is kept of oneself and one's team, in JSON.
#[utoipa::path(get, path = "/api/account/data", responses((status = 200, body = Object)))]
pub(crate) async fn data(
    State(app): State<Arc<App>>,
    caller: Caller,
) -> Result<Json<Value>, ApiError> {
    let store = app.database.store()?;
    let of = &caller.0;
    let members = store.members(of.team.id).await?;
    let consumers = store.consumers_of_team(of.team.id).await?;
    let ids: Vec<i64> = consumers.iter().map(|c| c.id).collect();
    let query = porch_store::RequestQuery {
        consumers: Some(ids.clone()),
        most: 1000,
        ..porch_store::RequestQuery::default()
    };
    let requests = store.requests(&query).await?;
    let requests: Vec<_> = requests.into_iter().map(|(r, _)| r).collect();
    let messages = store.messages(Some(of.team.id), None, 1000).await?;
    let agreements = store.agreements_of(Some(&ids)).await?;
    let credentials = store.credentials_of(&ids).await?;
    let webhooks = store.webhooks(Some(of.team.id)).await?.into_iter();
    let webhooks = webhooks.map(|w| {
        json!({ "url": w.url, "kinds": w.kinds(), "made_by": w.made_by, "created_at": w.created_at })
    });
    let credentials = credentials.into_iter().map(|c| {
        json!({ "kind": c.kind, "label": c.label, "known_by": c.prefix, "created_at": c.created_at, "ends_at": c.ends_at, "last_used_at": c.last_used_at })
    });
    let members = members
        .iter()
        .map(|(p, manages)| json!({ "email": p.email, "name": p.name, "manages": manages }));
    Ok(Json(json!({
        "person": { "email": of.person.email, "name": of.person.name, "created_at": of.person.created_at, "confirmed_at": of.person.confirmed_at, "second_factor": of.person.factor.is_some(), "known_by_openid_as": of.person.subject },
        "team": { "name": of.team.name, "roles": of.team.roles(), "created_at": of.team.created_at, "members": members.collect::<Vec<_>>() },
        "applications": consumers.iter().map(|c| json!({ "name": c.name, "created_at": c.created_at, "paused": c.paused })).collect::<Vec<_>>(),
        "credentials": credentials.collect::<Vec<_>>(),
        "agreements": agreements,
        "requests": requests,
        "messages": messages,
        "webhooks": webhooks.collect::<Vec<_>>(),
    })))
}

#[derive(Deserialize, ToSchema)]
pub(crate) struct Leaving {
    password: String,
}

/// Deletes one's account; where nobody else is of the team, its applications, keys and agreements go with it.
#[utoipa::path(delete, path = "/api/account", request_body = Leaving, responses((status = 204), (status = 401)))]
pub(crate) async fn leave(
    State(app): State<Arc<App>>,
    ConnectInfo(peer): ConnectInfo<SocketAddr>,
    caller: Caller,
    Json(body): Json<Leaving>,
) -> Result<StatusCode, ApiError> {
    let person = shown_again(&app, &caller, &body.password, peer.ip()).await?;
    app.directory.delete_person(person.id).await?;
    app.publication.write_snapshot().await;
    Ok(StatusCode::NO_CONTENT)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_are_what_letters_can_be_sent_to() {
        for good in [
            "nils@example.org",
            " Nils.B+x@Mail.example ",
            "a@b",
            "ø@é.example",
        ] {
            assert!(tidy_email(good).is_ok(), "{good}");
        }
        assert_eq!(tidy_email(" A@B.example ").unwrap(), "a@b.example");
        for bad in [
            "",
            "nils",
            "@example.org",
            "nils@",
            "a b@c.example",
            "a@b..c",
            "a@b.c\nBcc: x@y",
            "<a@b.c>",
            "a@b@c.d",
            "a,b@c.d",
        ] {
            assert!(tidy_email(bad).is_err(), "{bad}");
        }
    }
}
