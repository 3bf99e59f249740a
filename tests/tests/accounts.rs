//! Accounts, sign-in and what keys open.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_tests::{Http, Porch};
use serde_json::{Value, json};

#[test]
fn guessing_passwords_is_slowed_down_and_other_sites_are_refused() {
    let porch = Porch::start();
    let sign_in = |password: &str| {
        let body = json!({"name": "inge", "password": password}).to_string();
        Http::send(
            "POST",
            &format!("{}/api/session", porch.console),
            &[("content-type", "application/json")],
            body.into_bytes(),
        )
    };
    let good = sign_in("harbour-lights");
    let cookie = good
        .header("set-cookie")
        .split(';')
        .next()
        .unwrap()
        .to_owned();
    assert!(
        good.header("set-cookie").contains("HttpOnly")
            && good.header("set-cookie").contains("SameSite=Strict")
    );
    let with_cookie = |site: &str| {
        Http::send(
            "POST",
            &format!("{}/api/consumers", porch.console),
            &[
                ("cookie", &cookie),
                ("sec-fetch-site", site),
                ("content-type", "application/json"),
            ],
            br#"{"name":"X"}"#.to_vec(),
        )
        .status
    };
    assert_eq!(with_cookie("cross-site"), 403);
    assert_eq!(with_cookie("same-origin"), 201);
    let statuses: Vec<u16> = (0..12)
        .map(|i| sign_in(&format!("guess-{i}")).status)
        .collect();
    assert_eq!((statuses[0], statuses[9], statuses[11]), (401, 401, 429));
    assert_eq!(sign_in("harbour-lights").status, 429);
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    let failed = |l: &&Value| l["what"] == "failed to sign in" && l["who"] == "inge";
    let failed = audit.as_array().unwrap().iter().filter(failed).count();
    assert_eq!(failed, 10, "what was refused unread is not written down");
    // Little is read of those who are not signed in.
    let large = json!({"name": "inge", "password": "x".repeat(20_000)}).to_string();
    let url = format!("{}/api/session", porch.console);
    let json = [("content-type", "application/json")];
    let refused = Http::send("POST", &url, &json, large.into_bytes());
    assert_eq!(refused.status, 413);
}

#[test]
fn a_session_by_tls_has_a_cookie_that_no_other_host_can_set() {
    let porch = Porch::start();
    let url = format!("{}/api/session", porch.console);
    let body = json!({"name": "inge", "password": "harbour-lights"}).to_string();
    let fields = [
        ("content-type", "application/json"),
        ("origin", "https://console.example"),
    ];
    let signed_in = Http::send("POST", &url, &fields, body.into_bytes());
    let cookie = signed_in.header("set-cookie");
    assert!(
        cookie.starts_with("__Host-porch-session=")
            && cookie.contains("; Path=/;")
            && cookie.contains(" Secure;")
            && !cookie.contains("Domain"),
        "{cookie}"
    );
    let pair = cookie.split(';').next().unwrap();
    // It goes before one of the plain name, which anybody on this host can set.
    let both = format!("porch-session=stolen; {pair}");
    let who = Http::send("GET", &url, &[("cookie", &both)], Vec::new());
    assert_eq!(
        (who.status, who.json()["name"].clone()),
        (200, json!("inge"))
    );
}

#[test]
fn only_administrators_look_at_addresses_of_the_porch_s_own_host() {
    let porch = Porch::start();
    porch.ok_with(&["account", "create", "tove"], "quiet-harbour");
    let session = porch.sign_in("tove", "quiet-harbour");
    let token = session["token"].as_str().unwrap();
    // The console's own listener, which nobody should be shown from inside.
    for path in ["/api/look", "/api/derive"] {
        let ask = json!({"url": porch.console, "allow_local": true, "name": "own"});
        let refused = porch.api_as(token, "POST", path, &ask);
        assert_eq!(refused.status, 403, "{path}: {}", refused.text());
        let may = porch.api("POST", path, &ask);
        assert_ne!(may.status, 403, "{path}");
        let ask = json!({"url": porch.console, "name": "own"});
        let refused = porch.api_as(token, "POST", path, &ask);
        assert_eq!(refused.json()["title"], "The address must be allowed first");
    }
}

#[test]
fn a_key_opens_the_facades_that_it_was_made_for() {
    let (porch, every) = Porch::published();
    let made = porch.ok(&["key", "create", "Quayside Kiosk", "--facade", "vessels"]);
    assert_eq!(made["facades"], json!(["vessels"]));
    let one = made["key"].as_str().unwrap();
    let vessels = "/vessels/v1/vessels/kettle";
    let other = "/sailings/v2/fares/FAR-MAR/foot";
    let status = |key: &str, path: &str| porch.call("GET", path, key, "").status;
    assert_eq!((status(&every, vessels), status(one, vessels)), (200, 200));
    let refused = porch.call("GET", other, one, "");
    assert_eq!(refused.status, 403);
    assert_eq!(refused.json()["type"], "urn:elm-porch:problem:not-granted");
    assert_ne!(status(&every, other), 403);
    // What it opens is listed, and outlives a restart.
    let list = porch.client(&["consumer", "list"], "");
    let list = String::from_utf8_lossy(&list.stdout).into_owned();
    assert!(
        list.contains("every facade") && list.contains("vessels"),
        "{list}"
    );
    let keys = porch.ok(&["key", "list"]);
    let of = |facades: &Value| {
        let mut all = keys.as_array().unwrap().iter();
        let found = all.find(|k| &k["facades"] == facades);
        found.map(|k| k["consumer"].clone())
    };
    assert_eq!(of(&json!(["vessels"])), Some(json!("Quayside Kiosk")));
    assert_eq!(of(&Value::Null), Some(json!("Quayside Kiosk")));
    let facades = porch.ok(&["facade", "list"]);
    let mut facades = facades.as_array().unwrap().iter();
    assert!(facades.any(|f| f["name"] == "vessels"));
    for (name, says) in [
        ("vessel", "Did you mean “vessels”?"),
        ("x y", "no facade “x y”"),
    ] {
        let refused = porch.client(&["key", "create", "Quayside Kiosk", "--facade", name], "");
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(said.contains(says), "{said}");
    }
    let mut porch = porch;
    porch.stop_service();
    porch.start_service(&[]).unwrap();
    let status = |key: &str, path: &str| porch.call("GET", path, key, "").status;
    assert_eq!((status(one, vessels), status(one, other)), (200, 403));
}

#[test]
fn accounts_are_changed_and_ended_and_their_sessions_with_them() {
    let porch = Porch::start();
    porch.ok_with(&["account", "create", "tove"], "quiet-harbour");
    let token = |password: &str| {
        let session = porch.sign_in("tove", password);
        session["token"].as_str().unwrap_or_default().to_owned()
    };
    let sees = |token: &str| {
        porch
            .api_as(token, "GET", "/api/facades", &Value::Null)
            .status
    };
    let first = token("quiet-harbour");
    let changed = porch.ok(&["account", "change", "tove", "--role", "viewer"]);
    assert_eq!(changed["role"], "viewer");
    // A role acts at once.
    assert_eq!(sees(&first), 200);
    let make = json!({"name": "X"});
    assert_eq!(
        porch.api_as(&first, "POST", "/api/consumers", &make).status,
        403
    );
    porch.ok_with(
        &["account", "change", "tove", "--password"],
        "new-moorings\n",
    );
    assert_eq!(sees(&first), 401, "the session was the old password's");
    assert_eq!(token("quiet-harbour"), "");
    let second = token("new-moorings");
    let own = json!({"old": "new-moorings", "new": "old-moorings"});
    let wrong = json!({"old": "guess", "new": "old-moorings"});
    let password = "/api/session/password";
    assert_eq!(porch.api_as(&second, "PUT", password, &wrong).status, 403);
    assert_eq!(porch.api_as(&second, "PUT", password, &own).status, 204);
    assert_eq!(sees(&second), 401);
    let third = token("old-moorings");
    assert_eq!(sees(&third), 200);
    porch.ok(&["account", "end", "tove"]);
    assert_eq!(sees(&third), 401);
    assert_eq!(token("old-moorings"), "");
    // Somebody must be left who can do this.
    for arguments in [
        &["account", "end", "inge"][..],
        &["account", "change", "inge", "--role", "publisher"],
    ] {
        let refused = porch.client(arguments, "");
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(said.contains("inge is the only administrator"), "{said}");
    }
    porch.ok_with(
        &["account", "create", "pelle", "--role", "administrator"],
        "quiet-harbour",
    );
    porch.ok(&["account", "change", "inge", "--role", "publisher"]);
    let refused = porch.client(&["account", "list"], "");
    assert!(!refused.status.success());
}
