//! What strangers may do at the portal, and what they may not: sessions, links, other people's things, guessing.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_tests::portal::{PASSWORD, Visitor, with_offers};
use porch_tests::{ADMIN, Http};
use serde_json::{Value, json};

fn sign_in(visitor: &mut Visitor, email: &str, password: &str) -> Http {
    visitor.ask(
        "POST",
        "/api/session",
        &json!({ "email": email, "password": password }),
    )
}

#[test]
fn an_account_is_good_once_who_reads_its_letters_has_its_password() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::at(&porch);
    let email = "nils@example.org";
    let new = |password: &str| json!({ "email": " Nils@Example.org ", "name": "Nils", "password": password });
    // What is no account says what is wrong with it.
    for (body, part) in [
        (
            json!({ "email": "nils", "name": "Nils", "password": PASSWORD }),
            "no e-mail address",
        ),
        (
            json!({ "email": "n@example.org\r\nBcc: x@example.org", "name": "Nils", "password": PASSWORD }),
            "no e-mail address",
        ),
        (
            json!({ "email": email, "name": " ", "password": PASSWORD }),
            "name",
        ),
        (new("short"), "12 to 200"),
        (new("password1234"), "easy to guess"),
    ] {
        let told = nils.ask("POST", "/api/sign-up", &body);
        assert_eq!(told.status, 400, "{body}: {}", told.text());
        assert!(told.text().contains(part), "{}", told.text());
    }
    assert_eq!(nils.ask("POST", "/api/sign-up", &new(PASSWORD)).status, 202);
    let token = outbox.token(email, 1);
    // Not before it is confirmed, and not by a letter alone.
    assert_eq!(sign_in(&mut nils, email, PASSWORD).status, 401);
    let wrong = nils.ask(
        "POST",
        "/api/confirm",
        &json!({ "token": token, "password": "another fog lantern" }),
    );
    assert_eq!(wrong.status, 401, "{}", wrong.text());
    let right = json!({ "token": token, "password": PASSWORD });
    assert_eq!(nils.ask("POST", "/api/confirm", &right).status, 200);
    // Once.
    assert_eq!(nils.ask("POST", "/api/confirm", &right).status, 404);
    // Who signs up again is told the same; the letter says that there is one.
    let mut other = Visitor::at(&porch);
    assert_eq!(
        other
            .ask("POST", "/api/sign-up", &new("quite another word"))
            .status,
        202
    );
    let (subject, text) = outbox.wait(email, 2);
    assert!(subject.starts_with("You have an account"), "{subject}");
    assert!(!text.contains('#'), "{text}");
    assert_eq!(sign_in(&mut other, email, "quite another word").status, 401);
}

#[test]
fn known_and_unknown_addresses_are_answered_alike() {
    let (porch, outbox) = with_offers();
    let _nils = Visitor::come(&porch, &outbox, "nils");
    let mut visitor = Visitor::at(&porch);
    let told = |reply: &Http| {
        let mut headers = reply.headers.clone();
        headers.remove("date");
        (reply.status, headers, reply.text())
    };
    let known = sign_in(&mut visitor, "nils@example.org", "another fog lantern");
    let unknown = sign_in(&mut visitor, "nobody@example.org", "another fog lantern");
    assert_eq!(told(&known), told(&unknown));
    let ask = |visitor: &mut Visitor, email: &str| {
        visitor.ask("POST", "/api/forgotten", &json!({ "email": email }))
    };
    let known = ask(&mut visitor, "nils@example.org");
    let unknown = ask(&mut visitor, "nobody@example.org");
    assert_eq!(told(&known), told(&unknown));
    outbox.wait("nils@example.org", 2);
    assert_eq!(outbox.letters("nobody@example.org"), []);
    // Nobody's letters are filled with links: five in an hour.
    for _ in 0..8 {
        assert_eq!(ask(&mut visitor, "nils@example.org").status, 202);
    }
    let (_, last) = outbox.wait("nils@example.org", 5);
    assert!(last.contains("/reset#"), "{last}");
    assert!(outbox.letters("nils@example.org").len() <= 6);
}

#[test]
fn another_password_is_set_once_by_a_link_and_ends_every_session() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let mut elsewhere = Visitor::at(&porch);
    assert_eq!(
        sign_in(&mut elsewhere, "nils@example.org", PASSWORD).status,
        200
    );
    assert_ne!(nils.cookie, elsewhere.cookie);
    let mut visitor = Visitor::at(&porch);
    visitor.ok(
        "POST",
        "/api/forgotten",
        &json!({ "email": "nils@example.org" }),
    );
    let first = outbox.token("nils@example.org", 2);
    visitor.ok(
        "POST",
        "/api/forgotten",
        &json!({ "email": "nils@example.org" }),
    );
    let second = outbox.token("nils@example.org", 3);
    let reset = |visitor: &mut Visitor, token: &str, password: &str| {
        visitor
            .ask(
                "POST",
                "/api/reset",
                &json!({ "token": token, "password": password }),
            )
            .status
    };
    let other = "seven grey herons wait";
    // An earlier link is good no more, nor one for something else.
    assert_eq!(reset(&mut visitor, &first, other), 404);
    assert_eq!(reset(&mut visitor, "", other), 404);
    // One that is refused for its password is good still.
    assert_eq!(reset(&mut visitor, &second, "short"), 400);
    assert_eq!(reset(&mut visitor, &second, other), 204);
    assert_eq!(reset(&mut visitor, &second, other), 404);
    for session in [&mut nils, &mut elsewhere] {
        assert_eq!(
            session.ask("GET", "/api/applications", &Value::Null).status,
            401
        );
    }
    assert_eq!(sign_in(&mut nils, "nils@example.org", PASSWORD).status, 401);
    assert_eq!(sign_in(&mut nils, "nils@example.org", other).status, 200);
    // Changed while signed in: this session stays, under the same name.
    assert_eq!(
        sign_in(&mut elsewhere, "nils@example.org", other).status,
        200
    );
    let change = |old: &str| json!({ "old": old, "new": "four wet oilskins drip" });
    assert_eq!(
        nils.ask("PUT", "/api/account/password", &change("wrong word here"))
            .status,
        401
    );
    assert_eq!(
        nils.ask("PUT", "/api/account/password", &change(other))
            .status,
        204
    );
    assert_eq!(
        nils.ask("GET", "/api/applications", &Value::Null).status,
        200
    );
    assert_eq!(
        elsewhere
            .ask("GET", "/api/applications", &Value::Null)
            .status,
        401
    );
    // Signing out ends it for whoever has the cookie.
    let cookie = nils.cookie.clone();
    nils.ok("DELETE", "/api/session", &Value::Null);
    nils.cookie = cookie;
    assert_eq!(
        nils.ask("GET", "/api/applications", &Value::Null).status,
        401
    );
}

#[test]
fn cookies_are_for_the_portal_s_own_page_alone() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let reply = sign_in(&mut nils, "nils@example.org", PASSWORD);
    let set = reply.header("set-cookie");
    for part in ["HttpOnly", "SameSite=Strict", "Path=/"] {
        assert!(set.contains(part), "{set}");
    }
    // By TLS it has the name that no page without can set.
    let origin = porch.portal.replace("http://", "https://");
    let body = json!({ "email": "nils@example.org", "password": PASSWORD });
    let mut by_tls = Visitor::at(&porch);
    let reply = by_tls.ask_from(&origin, "POST", "/api/session", &body);
    let set = reply.header("set-cookie");
    assert!(
        set.starts_with("__Host-") && set.contains("Secure"),
        "{set}"
    );
    // Whatever changes something must come from the portal's own page, signed in or not.
    let application = json!({ "name": "Nils Clock" });
    for origin in [
        "http://elsewhere.example",
        "null",
        &porch.console,
        &porch.gateway,
    ] {
        for (method, path, body) in [
            ("POST", "/api/applications", application.clone()),
            ("POST", "/api/session", body.clone()),
            ("DELETE", "/api/session", Value::Null),
            (
                "POST",
                "/api/sign-up",
                json!({ "email": "x@example.org", "name": "X", "password": PASSWORD }),
            ),
            (
                "POST",
                "/api/forgotten",
                json!({ "email": "nils@example.org" }),
            ),
            (
                "POST",
                "/api/reset",
                json!({ "token": "x", "password": PASSWORD }),
            ),
            (
                "POST",
                "/api/confirm",
                json!({ "token": "x", "password": PASSWORD }),
            ),
            ("DELETE", "/api/account", json!({ "password": PASSWORD })),
        ] {
            let told = nils.ask_from(origin, method, path, &body);
            assert_eq!(
                told.status,
                403,
                "{origin} {method} {path}: {}",
                told.text()
            );
        }
    }
    assert_eq!(
        nils.ask("POST", "/api/applications", &application).status,
        201
    );
}

#[test]
fn nobody_reaches_what_is_another_s() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let mut ines = Visitor::come(&porch, &outbox, "ines");
    ines.ok(
        "POST",
        "/api/applications",
        &json!({ "name": "Gullwing Desk" }),
    );
    let made = ines.ok("POST", "/api/applications/Gullwing%20Desk/keys", &json!({}));
    let prefix = made["prefix"].as_str().unwrap().to_owned();
    let wish = json!({ "offer": "charter-hand", "accept": "2027-01" });
    let request =
        ines.ok("POST", "/api/applications/Gullwing%20Desk/requests", &wish)["id"].to_string();
    let granted = ines.ok(
        "POST",
        "/api/applications/Gullwing%20Desk/requests",
        &json!({ "offer": "open-quay" }),
    );
    let agreement = granted["agreement"].to_string();
    // What publishers registered is nobody's here.
    for (method, path, body) in [
        (
            "POST",
            "/api/applications/Gullwing%20Desk/keys".to_owned(),
            json!({}),
        ),
        (
            "POST",
            "/api/applications/Quayside%20Kiosk/keys".to_owned(),
            json!({}),
        ),
        (
            "POST",
            "/api/applications/Gullwing%20Desk/requests".to_owned(),
            wish.clone(),
        ),
        (
            "POST",
            format!("/api/keys/{prefix}/renew"),
            json!({ "old_until": 0 }),
        ),
        ("DELETE", format!("/api/keys/{prefix}"), Value::Null),
        ("DELETE", format!("/api/requests/{request}"), Value::Null),
        (
            "POST",
            format!("/api/agreements/{agreement}/end"),
            json!({}),
        ),
        (
            "GET",
            "/api/usage?application=Gullwing%20Desk".to_owned(),
            Value::Null,
        ),
        (
            "GET",
            "/api/refusals?application=Gullwing%20Desk".to_owned(),
            Value::Null,
        ),
    ] {
        let told = nils.ask(method, &path, &body);
        assert_eq!(told.status, 404, "{method} {path}: {}", told.text());
        // And nobody at all gets further.
        let visitor = Visitor::at(&porch).ask(method, &path, &body);
        assert_eq!(visitor.status, 401, "{method} {path}");
    }
    for path in ["/api/applications", "/api/messages"] {
        let own = nils.ok("GET", path, &Value::Null);
        assert_eq!(own, json!([]), "{path}");
        assert_eq!(
            Visitor::at(&porch).ask("GET", path, &Value::Null).status,
            401
        );
    }
    // A name that is taken says no more than that.
    let taken = nils.ask(
        "POST",
        "/api/applications",
        &json!({ "name": "Gullwing Desk" }),
    );
    assert_eq!(taken.status, 409);
    assert!(!taken.text().contains("ines"), "{}", taken.text());
    ines.ok("DELETE", &format!("/api/requests/{request}"), &Value::Null);
    assert_eq!(
        ines.ask("DELETE", &format!("/api/requests/{request}"), &Value::Null)
            .status,
        409
    );
}

#[test]
fn the_portal_is_no_door_of_the_console_and_the_other_way_round() {
    let (porch, outbox) = with_offers();
    let nils = Visitor::come(&porch, &outbox, "nils");
    let token = nils.cookie.split('=').nth(1).unwrap().to_owned();
    // The console's routes are not here, whoever asks.
    let bearer = format!("Bearer {}", porch.token);
    for path in [
        "/api/overview",
        "/api/draft",
        "/api/consumers",
        "/api/secrets",
        "/api/accounts",
        "/health",
    ] {
        let headers = [("authorization", bearer.as_str())];
        let told = Http::send(
            "GET",
            &format!("{}{path}", porch.portal),
            &headers,
            Vec::new(),
        );
        let is_page = told.header("content-type").starts_with("text/html");
        assert!(
            told.status == 404 || is_page,
            "{path}: {} {}",
            told.status,
            told.text()
        );
    }
    // A session of the portal is none of the console, as cookie or token.
    assert_eq!(
        porch
            .api_as(&token, "GET", "/api/overview", &Value::Null)
            .status,
        401
    );
    for name in ["porch-session", "porch-portal"] {
        let cookie = format!("{name}={token}");
        let told = Http::send(
            "GET",
            &format!("{}/api/overview", porch.console),
            &[("cookie", &cookie)],
            Vec::new(),
        );
        assert_eq!(told.status, 401, "{name}");
    }
    // Nor one of the console's of the portal, nor a publisher's password.
    let mut inge = Visitor::at(&porch);
    inge.cookie = format!("porch-portal={}", porch.token);
    assert_eq!(
        inge.ask("GET", "/api/applications", &Value::Null).status,
        401
    );
    assert_eq!(sign_in(&mut inge, ADMIN.0, ADMIN.1).status, 401);
}

#[test]
fn guessing_is_slowed_and_the_owner_comes_in_all_the_same() {
    let (porch, outbox) = with_offers();
    let _nils = Visitor::come(&porch, &outbox, "nils");
    let mut guesser = Visitor::at(&porch);
    let statuses: Vec<u16> = (0..25)
        .map(|i| {
            sign_in(
                &mut guesser,
                "nils@example.org",
                &format!("guess number {i}"),
            )
            .status
        })
        .collect();
    assert!(statuses.contains(&429), "{statuses:?}");
    assert!(
        statuses.iter().all(|s| matches!(s, 401 | 429)),
        "{statuses:?}"
    );
    // At another address: the name alone locks nobody out.
    let from = ([127, 0, 0, 9], 0).into();
    let right =
        porch_tests::portal::from_address(from, &porch.portal, "nils@example.org", PASSWORD);
    assert_eq!(right, 200);
}

#[test]
fn pages_say_what_they_may_load_and_texts_of_strangers_are_texts() {
    let (porch, outbox) = with_offers();
    let page = Http::send("GET", &format!("{}/offers", porch.portal), &[], Vec::new());
    let policy = page.header("content-security-policy");
    for part in [
        "default-src 'self'",
        "object-src 'none'",
        "frame-ancestors 'none'",
        "base-uri 'none'",
        &porch.gateway,
    ] {
        assert!(policy.contains(part), "{part}: {policy}");
    }
    let nonce = policy
        .split("'nonce-")
        .nth(1)
        .unwrap()
        .split('\'')
        .next()
        .unwrap();
    assert!(page.text().contains(nonce) && !page.text().contains("NONCE"));
    let again = Http::send("GET", &format!("{}/offers", porch.portal), &[], Vec::new());
    assert!(!again.header("content-security-policy").contains(nonce));
    let logo = Http::send(
        "GET",
        &format!("{}/logo.svg", porch.portal),
        &[],
        Vec::new(),
    );
    assert!(logo.header("content-security-policy").contains("sandbox"));
    assert_eq!(logo.header("x-content-type-options"), "nosniff");
    // What the publisher writes holds nothing that runs.
    porch.edit(
        "portal/welcome.md",
        "Skerry Line's",
        "<script>alert(1)</script><img src=x onerror=alert(1)> Skerry Line's",
    );
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    porch.ok(&["release", "--portal"]);
    let shown = Visitor::at(&porch).ok("GET", "/api/portal", &Value::Null);
    let front = shown["front"].as_str().unwrap();
    assert!(
        !front.contains("<script") && !front.contains("onerror"),
        "{front}"
    );
    // What strangers write comes back as they wrote it, as a text.
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    nils.ok(
        "POST",
        "/api/applications",
        &json!({ "name": "<b>Clock</b>" }),
    );
    let why = "<script>alert(1)</script>";
    nils.ok(
        "POST",
        "/api/applications/%3Cb%3EClock%3C%2Fb%3E/requests",
        &json!({ "offer": "charter-hand", "accept": "2027-01", "why": why }),
    );
    let told = porch.api("GET", "/api/requests", &Value::Null);
    assert_eq!(told.header("content-type"), "application/json");
    assert_eq!(told.json()[0]["why"], why);
    let odd = nils.ask("POST", "/api/applications", &json!({ "name": "a\u{0}b" }));
    assert_eq!(odd.status, 400);
    let large = json!({ "name": "x".repeat(100_000) });
    assert_eq!(nils.ask("POST", "/api/applications", &large).status, 413);
}
