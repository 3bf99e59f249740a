//! People of the portal: members of teams, second factors; and, in `login`, sign-in from elsewhere and credentials of their own.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod login;

use porch_tests::portal::{PASSWORD, Visitor, with_offers};
use porch_tests::wait_until;
use serde_json::{Value, json};
use totp_rs::{Builder, Secret};

fn members(visitor: &mut Visitor) -> Vec<(String, bool)> {
    let team = visitor.ok("GET", "/api/team", &Value::Null);
    let all = team["members"].as_array().unwrap().iter();
    all.map(|m| {
        (
            m["email"].as_str().unwrap().to_owned(),
            m["manages"].as_bool().unwrap(),
        )
    })
    .collect()
}

#[test]
fn members_come_by_invitation_see_the_same_and_somebody_always_manages() {
    let (porch, outbox) = with_offers();
    let mut ines = Visitor::come(&porch, &outbox, "ines");
    ines.ok(
        "POST",
        "/api/applications",
        &json!({ "name": "Gullwing Desk" }),
    );
    // Somebody who has no account, and somebody who has.
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    for email in ["Teodor@example.org", "nils@example.org"] {
        ines.ok("POST", "/api/team/invitations", &json!({ "email": email }));
    }
    let told = ines.refused(
        409,
        "POST",
        "/api/team/invitations",
        &json!({ "email": "ines@example.org" }),
    );
    assert!(told.contains("a member already"), "{told}");
    let token = outbox.token_for("teodor@example.org", "join");
    let mut teodor = Visitor::at(&porch);
    let asked = json!({ "token": token });
    assert_eq!(
        teodor.ok("POST", "/api/invitation", &asked),
        json!({ "email": "teodor@example.org", "team": "ines", "known": false })
    );
    let with = |more: &Value| {
        let mut body = asked.clone();
        body.as_object_mut()
            .unwrap()
            .extend(more.as_object().unwrap().clone());
        body
    };
    let join = "/api/invitation/accept";
    teodor.refused(
        400,
        "POST",
        join,
        &with(&json!({ "name": "Teodor", "password": "short" })),
    );
    let account = teodor.ok(
        "POST",
        join,
        &with(&json!({ "name": "Teodor", "password": PASSWORD })),
    );
    assert_eq!(
        (&account["team"], &account["manages"]),
        (&json!("ines"), &json!(false))
    );
    // Once; and what is the team's is theirs.
    teodor.refused(404, "POST", "/api/invitation", &asked);
    assert_eq!(
        teodor.ok("GET", "/api/applications", &Value::Null)[0]["name"],
        "Gullwing Desk"
    );
    // Who has an account shows its password, and acts for either team.
    let token = outbox.token_for("nils@example.org", "join");
    nils.refused(
        401,
        "POST",
        join,
        &json!({ "token": token, "password": "another fog lantern" }),
    );
    nils.ok(
        "POST",
        join,
        &json!({ "token": token, "password": PASSWORD }),
    );
    let teams = nils.ok("GET", "/api/teams", &Value::Null);
    let of = |name: &str| {
        teams
            .as_array()
            .unwrap()
            .iter()
            .find(|t| t["name"] == name)
            .unwrap()["id"]
            .clone()
    };
    assert_eq!(nils.ok("GET", "/api/session", &Value::Null)["team"], "ines");
    nils.ok(
        "POST",
        &format!("/api/teams/{}/act", of("nils")),
        &json!({}),
    );
    assert_eq!(nils.ok("GET", "/api/applications", &Value::Null), json!([]));
    nils.ok(
        "POST",
        &format!("/api/teams/{}/act", of("ines")),
        &json!({}),
    );
    teodor.refused(
        404,
        "POST",
        &format!("/api/teams/{}/act", of("nils")),
        &json!({}),
    );
    // Only those who manage say who is of it; nobody leaves it without one who does.
    for (method, path, body) in [
        (
            "POST",
            "/api/team/invitations",
            json!({ "email": "far@example.org" }),
        ),
        (
            "PUT",
            "/api/team/members/teodor@example.org",
            json!({ "manages": true }),
        ),
        ("DELETE", "/api/team/members/ines@example.org", Value::Null),
        (
            "DELETE",
            "/api/team/invitations/far@example.org",
            Value::Null,
        ),
        (
            "POST",
            "/api/webhooks",
            json!({ "url": "https://example.org/" }),
        ),
    ] {
        teodor.refused(403, method, path, &body);
    }
    ines.refused(
        409,
        "DELETE",
        "/api/team/members/ines@example.org",
        &Value::Null,
    );
    ines.refused(
        409,
        "PUT",
        "/api/team/members/ines@example.org",
        &json!({ "manages": false }),
    );
    ines.ok(
        "PUT",
        "/api/team/members/nils@example.org",
        &json!({ "manages": true }),
    );
    ines.ok(
        "DELETE",
        "/api/team/members/teodor@example.org",
        &Value::Null,
    );
    // Who was taken out has a team of their own, and sees nothing of the other.
    assert_eq!(
        teodor.ok("GET", "/api/session", &Value::Null)["team"],
        "Teodor"
    );
    assert_eq!(
        teodor.ok("GET", "/api/applications", &Value::Null),
        json!([])
    );
    // Where who managed deletes their account, somebody else of the team does.
    nils.ok(
        "PUT",
        "/api/team/members/nils@example.org",
        &json!({ "manages": false }),
    );
    ines.ok("DELETE", "/api/account", &json!({ "password": PASSWORD }));
    assert_eq!(members(&mut nils), [("nils@example.org".to_owned(), true)]);
    assert_eq!(
        nils.ok("GET", "/api/applications", &Value::Null)[0]["name"],
        "Gullwing Desk"
    );
    // What happened is told.
    let told = nils.ok("GET", "/api/messages", &Value::Null).to_string();
    for part in [
        "teodor@example.org joined the team",
        "teodor@example.org left the team",
    ] {
        assert!(told.contains(part), "{part}: {told}");
    }
    // An invitation that was taken back is good no more.
    nils.ok(
        "POST",
        "/api/team/invitations",
        &json!({ "email": "far@example.org" }),
    );
    let token = outbox.token_for("far@example.org", "join");
    nils.ok(
        "DELETE",
        "/api/team/invitations/far@example.org",
        &Value::Null,
    );
    teodor.refused(404, "POST", "/api/invitation", &json!({ "token": token }));
}

fn code(secret: &str, step: u64) -> String {
    let secret = Secret::try_from_base32(secret).unwrap();
    let factor = Builder::new()
        .with_secret(secret)
        .with_account_name("x")
        .with_issuer(Some("y"));
    factor.build().unwrap().generate(step * 30).to_string()
}

#[test]
fn a_second_factor_is_asked_for_each_code_is_good_once_and_changes_are_told_by_letter() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let path = "/api/account/factor";
    nils.refused(
        401,
        "POST",
        path,
        &json!({ "password": "another fog lantern" }),
    );
    let new = nils.ok("POST", path, &json!({ "password": PASSWORD }));
    let secret = new["secret"].as_str().unwrap().to_owned();
    assert!(
        new["address"]
            .as_str()
            .unwrap()
            .starts_with("otpauth://totp/"),
        "{new}"
    );
    assert!(new["picture"].as_str().unwrap().contains("<svg"));
    // Nothing is asked for before a code was shown.
    let sign_in =
        |code: &str| json!({ "email": "nils@example.org", "password": PASSWORD, "code": code });
    let mut other = Visitor::at(&porch);
    other.ok("POST", "/api/session", &sign_in(""));
    let set = |code: &str| json!({ "password": PASSWORD, "secret": secret, "code": code });
    nils.refused(400, "PUT", path, &set("000000"));
    nils.refused(
        400,
        "PUT",
        path,
        &json!({ "password": PASSWORD, "secret": "AAAA", "code": "1" }),
    );
    let now = || {
        std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap()
            .as_secs()
            / 30
    };
    let step = now();
    let codes = nils.ok("PUT", path, &set(&code(&secret, step)))["codes"].clone();
    assert_eq!(codes.as_array().unwrap().len(), 8);
    nils.refused(409, "PUT", path, &set(&code(&secret, step)));
    assert_eq!(nils.ok("GET", "/api/session", &Value::Null)["factor"], true);
    let told = other.refused(401, "POST", "/api/session", &sign_in(""));
    assert!(told.contains("\"needs\":\"code\""), "{told}");
    // Whether a code is needed is told to who has the password, and to nobody else.
    let wrong =
        json!({ "email": "nils@example.org", "password": "another fog lantern", "code": "" });
    assert!(
        !other
            .refused(401, "POST", "/api/session", &wrong)
            .contains("needs")
    );
    // The code that set it up is used; the next one is good once.
    other.refused(401, "POST", "/api/session", &sign_in(&code(&secret, step)));
    let next = code(&secret, step + 1);
    other.ok(
        "POST",
        "/api/session",
        &sign_in(&format!(" {} {} ", &next[..3], &next[3..])),
    );
    other.refused(401, "POST", "/api/session", &sign_in(&next));
    // A code for a lost authenticator is good once too.
    let kept = codes[3].as_str().unwrap().to_lowercase();
    other.ok("POST", "/api/session", &sign_in(&kept));
    other.refused(401, "POST", "/api/session", &sign_in(&kept));
    nils.refused(
        401,
        "DELETE",
        path,
        &json!({ "password": PASSWORD, "code": kept }),
    );
    nils.ok(
        "DELETE",
        path,
        &json!({ "password": PASSWORD, "code": codes[0] }),
    );
    other.ok("POST", "/api/session", &sign_in(""));
    let change = json!({ "old": PASSWORD, "new": "a lantern in the harbour" });
    nils.ok("PUT", "/api/account/password", &change);
    wait_until("letters of each change", || {
        let letters = outbox.letters("nils@example.org");
        [
            "A second factor was set",
            "The second factor was taken away",
            "Your password was changed",
        ]
        .iter()
        .all(|what| letters.iter().any(|(subject, _)| subject.starts_with(what)))
    });
}

#[test]
fn guessing_codes_is_slowed_as_guessing_passwords_is() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let new = nils.ok(
        "POST",
        "/api/account/factor",
        &json!({ "password": PASSWORD }),
    );
    let secret = new["secret"].as_str().unwrap();
    let now = std::time::SystemTime::now()
        .duration_since(std::time::UNIX_EPOCH)
        .unwrap()
        .as_secs();
    let body = json!({ "password": PASSWORD, "secret": secret, "code": code(secret, now / 30) });
    nils.ok("PUT", "/api/account/factor", &body);
    let mut other = Visitor::at(&porch);
    let mut statuses = Vec::new();
    for i in 0..40 {
        let body =
            json!({ "email": "nils@example.org", "password": PASSWORD, "code": format!("{i:06}") });
        statuses.push(other.ask("POST", "/api/session", &body).status);
        if statuses.last() == Some(&429) {
            break;
        }
    }
    assert!(statuses.contains(&429), "{statuses:?}");
}
