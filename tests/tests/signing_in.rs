//! Who publishes: sessions that are ended, tokens of machines, people who sign in by OpenID.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_tests::browser::{Browser, switched_off};
use porch_tests::{ADMIN, Http, Porch, wait_until};
use serde_json::{Value, json};
use thirtyfour::prelude::*;

fn who(porch: &Porch, token: &str) -> (u16, Value) {
    let told = porch.api_as(token, "GET", "/api/session", &Value::Null);
    (told.status, told.json()["role"].clone())
}

#[test]
fn a_machine_s_token_does_no_more_than_is_said_and_ends() {
    let mut porch = Porch::start();
    let made = porch.ok(&[
        "token",
        "create",
        "harbour pipeline",
        "--role",
        "publisher",
        "--days",
        "7",
    ]);
    let token = made["token"].as_str().unwrap().to_owned();
    assert!(token.starts_with(made["prefix"].as_str().unwrap()));
    assert_eq!(who(&porch, &token), (200, json!("publisher")));
    assert_eq!(
        who(&porch, &format!(" {token} ")),
        (200, json!("publisher"))
    );
    // What takes another role says whose token it is.
    let secret = json!({"name": "x", "value": "y"});
    let refused = porch.api_as(&token, "PUT", "/api/secrets", &secret);
    assert_eq!(refused.status, 403);
    let detail = refused.json()["detail"].as_str().unwrap().to_owned();
    assert_eq!(
        detail,
        "The token “harbour pipeline” of inge is a publisher."
    );
    // It gives nobody power over the account that it was made for.
    let own = json!({"old": ADMIN.1, "new": "another-lamp"});
    for (method, path, body) in [
        (
            "POST",
            "/api/tokens",
            json!({"label": "more", "role": "viewer"}),
        ),
        ("DELETE", "/api/tokens/1", Value::Null),
        ("PUT", "/api/session/password", own),
        ("DELETE", "/api/sessions", Value::Null),
        ("DELETE", "/api/sessions/1", Value::Null),
    ] {
        let told = porch.api_as(&token, method, path, &body);
        assert_eq!(told.status, 403, "{method} {path}: {}", told.text());
        assert!(told.text().contains("Machines do not"), "{}", told.text());
    }
    // It publishes, as the client does with it; and is known after a restart.
    porch.stop_service();
    porch.start_service(&[]).unwrap();
    wait_until("the token is good again", || who(&porch, &token).0 == 200);
    let list = porch.ok(&["token", "list"]);
    assert_eq!(list[0]["label"], "harbour pipeline");
    assert!(list[0]["last_used_at"].as_i64().unwrap() > 0);
    assert!(!list.to_string().contains(&token));
    let id = list[0]["id"].to_string();
    porch.ok(&["token", "end", &id]);
    assert_eq!(who(&porch, &token).0, 401);
    let audit = porch.ok(&["audit"]).to_string();
    assert!(audit.contains("harbour pipeline") && !audit.contains(&token));
}

#[test]
fn a_token_is_never_more_than_its_account() {
    let porch = Porch::start();
    porch.ok_with(&["account", "create", "tove"], "quiet-harbour");
    let tove = porch.sign_in("tove", "quiet-harbour")["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let make = |role: &str, days: Value| {
        let body = json!({"label": "tove's own", "role": role, "days": days});
        porch.api_as(&tove, "POST", "/api/tokens", &body)
    };
    assert_eq!(make("administrator", Value::Null).status, 403);
    for (days, role, status) in [
        (json!(0), "viewer", 400),
        (json!(367), "viewer", 400),
        (json!(-1), "viewer", 400),
        (json!(1), "captain", 400),
        (json!(366), "publisher", 201),
    ] {
        assert_eq!(make(role, days.clone()).status, status, "{days} {role}");
    }
    let token = make("publisher", Value::Null).json();
    let token = token["token"].as_str().unwrap();
    assert_eq!(who(&porch, token), (200, json!("publisher")));
    porch.ok(&["account", "change", "tove", "--role", "viewer"]);
    assert_eq!(who(&porch, token), (200, json!("viewer")));
    porch.ok(&["account", "change", "tove", "--role", "publisher"]);
    // One sees one's own; administrators see all, and end any.
    porch.ok(&["token", "create", "inge's own"]);
    let of = |token: &str| {
        porch
            .api_as(token, "GET", "/api/tokens", &Value::Null)
            .json()
    };
    let labels = |list: &Value| {
        list.as_array()
            .unwrap()
            .iter()
            .map(|t| t["label"].clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(labels(&of(&tove)), ["tove's own", "tove's own"]);
    let all = porch.ok(&["token", "list"]);
    assert_eq!(labels(&all), ["inge's own", "tove's own", "tove's own"]);
    let others = format!("/api/tokens/{}", all[0]["id"]);
    assert_eq!(
        porch.api_as(&tove, "DELETE", &others, &Value::Null).status,
        404
    );
    // All that is open of an account is closed by one word.
    let ended = porch.ok(&["account", "sign-out", "tove", "--tokens"]);
    assert_eq!(
        (&ended["sessions"], &ended["tokens"]),
        (&json!(1), &json!(2))
    );
    assert_eq!((who(&porch, &tove).0, who(&porch, token).0), (401, 401));
    // And with the account.
    let again = porch.sign_in("tove", "quiet-harbour")["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let body = json!({"label": "last"});
    let last = porch.api_as(&again, "POST", "/api/tokens", &body).json();
    let last = last["token"].as_str().unwrap();
    assert_eq!(who(&porch, last).0, 200);
    porch.ok(&["account", "end", "tove"]);
    assert_eq!(who(&porch, last).0, 401);
}

#[test]
fn one_s_sessions_are_listed_and_ended_one_or_all() {
    let porch = Porch::start();
    let other = porch.sign_in(ADMIN.0, ADMIN.1)["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let list = porch.ok(&["session", "list"]);
    let list = list.as_array().unwrap();
    assert_eq!(list.len(), 2, "{list:?}");
    let (own, others): (Vec<_>, Vec<_>) = list.iter().partition(|s| s["own"] == true);
    assert_eq!((own.len(), others.len()), (1, 1));
    porch.ok(&["session", "end", &others[0]["id"].to_string()]);
    assert_eq!(who(&porch, &other).0, 401);
    assert_eq!(who(&porch, &porch.token).0, 200);
    // Somebody else's is none of one's own.
    porch.ok_with(&["account", "create", "tove"], "quiet-harbour");
    let tove = porch.sign_in("tove", "quiet-harbour")["token"]
        .as_str()
        .unwrap()
        .to_owned();
    let path = format!("/api/sessions/{}", own[0]["id"]);
    assert_eq!(
        porch.api_as(&tove, "DELETE", &path, &Value::Null).status,
        404
    );
    porch.ok(&["session", "end", "--all"]);
    assert_eq!(
        (who(&porch, &porch.token).0, who(&porch, &tove).0),
        (401, 200)
    );
}

/// What a browser has: it goes where it is sent, and keeps cookies by their paths.
struct Visitor<'p> {
    porch: &'p Porch,
    away: String,
}

impl Visitor<'_> {
    /// Away to the provider: where it is sent.
    fn away(porch: &Porch) -> (Visitor<'_>, String) {
        let sent = Http::send(
            "GET",
            &format!("{}/api/session/openid", porch.console),
            &[],
            Vec::new(),
        );
        assert_eq!(sent.status, 303, "{}", sent.text());
        let cookie = sent.header("set-cookie");
        assert!(
            cookie.contains("HttpOnly") && cookie.contains("SameSite=Lax"),
            "{cookie}"
        );
        let away = cookie.split(';').next().unwrap().to_owned();
        (Visitor { porch, away }, sent.header("location").to_owned())
    }

    /// Signs in there as somebody: where it is sent back to.
    fn as_person(login: &str, person: &str) -> String {
        let sent = Http::send("GET", &format!("{login}&person={person}"), &[], Vec::new());
        assert_eq!(sent.status, 303, "{}", sent.text());
        sent.header("location").to_owned()
    }

    fn back(&self, to: &str) -> Http {
        Http::send("GET", to, &[("cookie", &self.away)], Vec::new())
    }

    fn session(&self, back: &Http) -> Value {
        let cookie = back.header("set-cookie");
        let pair = cookie.split(';').next().unwrap();
        let url = format!("{}/api/session", self.porch.console);
        Http::send("GET", &url, &[("cookie", pair)], Vec::new()).json()
    }
}

/// A service by whose console the crew signs in; which roles their groups have.
fn stage(roles: &str) -> Porch {
    let mut porch = Porch::start();
    let login = porch.crew_login.as_ref().unwrap().address;
    let file = porch.folder().join("openid.toml");
    std::fs::write(porch.folder().join("secret"), " three long blasts\n").unwrap();
    let text = format!(
        "issuer = \" http://{login} \"\nclient = \"porch-console\"\nsecret-file = \"secret\"\ntitle = \"Crew login\"\n{roles}"
    );
    std::fs::write(&file, text).unwrap();
    porch.stop_service();
    porch
        .start_service(&["--openid", file.to_str().unwrap()])
        .unwrap();
    porch
}

const ROLES: &str = "[roles]\nharbour-masters = \"publisher\"\ndeck = \"viewer\"\n";

fn enter(porch: &Porch, person: &str) -> (Http, Value) {
    let (visitor, login) = Visitor::away(porch);
    let back = visitor.back(&Visitor::as_person(&login, person));
    let session = match back.status {
        200 => visitor.session(&back),
        _ => Value::Null,
    };
    (back, session)
}

#[test]
fn people_sign_in_by_openid_with_the_roles_of_their_groups() {
    let porch = stage(ROLES);
    let ways = Http::send(
        "GET",
        &format!("{}/api/session/ways", porch.console),
        &[],
        Vec::new(),
    );
    assert_eq!(ways.json(), json!({"openid": "Crew login"}));
    let (_, mikkel) = enter(&porch, "mikkel");
    assert_eq!(
        (&mikkel["name"], &mikkel["role"]),
        (&json!("mikkel"), &json!("publisher"))
    );
    let (_, sunniva) = enter(&porch, "sunniva");
    assert_eq!(
        (&sunniva["name"], &sunniva["role"]),
        (&json!("sunniva"), &json!("viewer"))
    );
    // Again, it is the same account; and groups say the role, whatever was changed here.
    porch.ok(&["account", "change", "mikkel", "--role", "viewer"]);
    assert_eq!(enter(&porch, "mikkel").1["role"], "publisher");
    let accounts = porch.ok(&["account", "list"]);
    assert_eq!(accounts.as_array().unwrap().len(), 3);
    // There is no password that it has.
    for password in ["", "mikkel", "harbour-lights"] {
        let body = json!({"name": "mikkel", "password": password}).to_string();
        let url = format!("{}/api/session", porch.console);
        let json = [("content-type", "application/json")];
        assert_eq!(
            Http::send("POST", &url, &json, body.into_bytes()).status,
            401
        );
    }
    // Nobody's group, and somebody who did not want to.
    for (person, why) in [("ravn", "no-role"), ("nobody", "denied")] {
        let (back, _) = enter(&porch, person);
        assert_eq!(
            (back.status, back.header("location")),
            (303, &*format!("/#not-signed-in={why}"))
        );
    }
    // Keys that changed are fetched.
    let login = porch.crew_login.as_ref().unwrap().address;
    for _ in 0..2 {
        Http::send("POST", &format!("http://{login}/rotate"), &[], Vec::new());
    }
    assert_eq!(enter(&porch, "mikkel").0.status, 200);
}

#[test]
fn what_was_not_begun_here_is_not_ended_here() {
    let porch = stage(ROLES);
    let (visitor, login) = Visitor::away(&porch);
    let to = Visitor::as_person(&login, "mikkel");
    let not = |back: &Http, why: &str| {
        let found = (back.status, back.header("location").to_owned());
        assert_eq!(
            found,
            (303, format!("/#not-signed-in={why}")),
            "{}",
            back.text()
        );
    };
    // Without the cookie, with another's, with another state.
    not(&Http::send("GET", &to, &[], Vec::new()), "other");
    let (another, _) = Visitor::away(&porch);
    not(&another.back(&to), "other");
    not(&visitor.back(&to.replace("state=", "state=0")), "other");
    not(&visitor.back(&to.replace("&state=", "&nothing=")), "other");
    // Another provider's answer.
    let own = porch.crew_login.as_ref().unwrap().address.to_string();
    not(
        &visitor.back(&to.replace(&format!("iss=http://{own}"), "iss=http://elsewhere.example")),
        "unproven",
    );
    not(&visitor.back(&to.replace("&iss=", "&nothing=")), "unproven");
    not(
        &visitor.back(&to.replace("code=watch", "code=swatch")),
        "unproven",
    );
    assert_eq!(visitor.back(&to).status, 200);
    // A code is good once.
    not(&visitor.back(&to), "unproven");
    // None of it is written down whole, nor is who guessed kept from being told.
    let audit = porch.ok(&["audit"]).to_string();
    assert!(
        audit.contains("unproven") && !audit.contains("code="),
        "{audit}"
    );
}

#[test]
fn an_account_with_a_password_is_nobody_s_from_elsewhere() {
    let porch = stage("");
    porch.ok_with(&["account", "create", "sunniva"], "quiet-harbour");
    let why = |person: &str| enter(&porch, person).0.header("location").to_owned();
    assert_eq!(why("sunniva"), "/#not-signed-in=taken");
    // Without roles of groups, administrators make the accounts.
    assert_eq!(why("mikkel"), "/#not-signed-in=no-account");
    porch.ok(&[
        "account", "create", "mikkel", "--role", "viewer", "--openid",
    ]);
    assert_eq!(enter(&porch, "mikkel").1["role"], "viewer");
    porch.ok(&["account", "end", "mikkel"]);
    assert_eq!(why("mikkel"), "/#not-signed-in=no-account");
}

#[test]
fn a_set_up_that_cannot_be_is_told_before_anything_begins() {
    let mut porch = Porch::start();
    porch.stop_service();
    let file = porch.folder().join("openid.toml");
    for (text, says) in [
        ("client = \"x\"", "issuer"),
        (
            "issuer = \"ftp://x\"\nclient = \"x\"",
            "no address by http or https",
        ),
        (
            "issuer = \"http://x\"\nclient = \"x\"\nsecret-file = \"none\"",
            "none: ",
        ),
        (
            "issuer = \"http://x\"\nclient = \"x\"\n[roles]\na = \"captain\"",
            "“captain” is no role",
        ),
        (
            "issuer = \"http://x\"\nclient = \"x\"\nother = 1",
            "unknown field",
        ),
    ] {
        std::fs::write(&file, text).unwrap();
        let told = porch.start_service(&["--openid", file.to_str().unwrap()]);
        let told = format!("{told:?} {}", porch.log());
        assert!(told.contains(says), "{text}: {told}");
    }
    // One that is away keeps nobody from signing in by name and password.
    std::fs::write(&file, "issuer = \"http://127.0.0.1:1\"\nclient = \"x\"").unwrap();
    porch
        .start_service(&["--openid", file.to_str().unwrap()])
        .unwrap();
    let url = format!("{}/api/session/openid", porch.console);
    assert_eq!(Http::send("GET", &url, &[], Vec::new()).status, 502);
    porch.sign_in(ADMIN.0, ADMIN.1);
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn the_crew_signs_in_by_its_own_login_and_makes_a_token() {
    if switched_off() {
        return;
    }
    let porch = tokio::task::spawn_blocking(|| stage(ROLES)).await.unwrap();
    let browser = Browser::open(&porch.console, false).await;
    let click = async |text: &str| {
        let link = browser.find(By::LinkText(text)).await;
        link.click().await.unwrap();
    };
    browser.go("/").await;
    browser.see("Sign in by Crew login").await;
    click("Sign in by Crew login").await;
    browser.see("Who are you?").await;
    click("ravn").await;
    browser
        .see("You are in no group that may use this console")
        .await;
    click("Sign in by Crew login").await;
    browser.see("Who are you?").await;
    click("mikkel").await;
    browser.see("mikkel, publisher").await;
    click("mikkel, publisher").await;
    browser.see("Where you are signed in").await;
    browser.fill("What it is for", "harbour pipeline").await;
    browser.press("Make a token").await;
    browser.see("This is the only time that it is shown").await;
    let shown = browser
        .find(By::Css("section[aria-label='Tokens'] pre"))
        .await;
    let token = shown.text().await.unwrap().trim().to_owned();
    let own = tokio::task::block_in_place(|| who(&porch, &token));
    assert_eq!(own, (200, json!("viewer")));
    browser.close().await;
}
