//! Those who come to the demo's portal: a partner who has signed up and asks for an offer that a person grants.

use std::thread::sleep;
use std::time::{Duration, Instant};

use serde_json::{Value, json};

use crate::Outcome;
use crate::seed::request;

/// Where the portal and the outbox are.
pub(crate) const PORTAL: u16 = 3830;
const OUTBOX: u16 = 3862;
/// Who has an account of the portal, and their password.
pub(crate) const PARTNER: (&str, &str) = ("ines@gullwing.example", "harbour fog lantern");

/// A request of the portal's own page, with a cookie if there is one.
fn ask(method: &str, path: &str, cookie: &str, body: &Value) -> Outcome<(Value, String)> {
    let origin = format!("http://127.0.0.1:{PORTAL}");
    let headers = [
        ("Content-Type", "application/json"),
        ("Origin", origin.as_str()),
        ("Cookie", cookie),
    ];
    let (status, head, text) = request(method, PORTAL, path, &headers, &body.to_string())?;
    if !(200..300).contains(&status) {
        return Err(format!("{method} {path} of the portal: {status} {text}"));
    }
    let cookie = head.lines().find_map(|line| {
        let (name, value) = line.split_once(':')?;
        name.eq_ignore_ascii_case("set-cookie")
            .then(|| value.trim().split(';').next())?
    });
    let value = serde_json::from_str(&text).unwrap_or(Value::Null);
    Ok((value, cookie.unwrap_or_default().to_owned()))
}

/// The token of the link that came by letter.
fn from_letter(to: &str) -> Outcome<String> {
    let end = Instant::now() + Duration::from_secs(20);
    while Instant::now() < end {
        let (_, _, text) = request("GET", OUTBOX, "/letters", &[], "")?;
        let letters: Value = serde_json::from_str(&text).unwrap_or(Value::Null);
        let letters = letters.as_array().into_iter().flatten().rev();
        let mut own = letters.filter(|l| l["to"][0] == to);
        let link = own.find_map(|l| l["text"].as_str()?.split("/confirm#").nth(1));
        if let Some(token) = link.and_then(|t| t.split_whitespace().next()) {
            return Ok(token.to_owned());
        }
        sleep(Duration::from_millis(50));
    }
    Err("no letter came to the outbox".into())
}

/// Signs a partner up, who asks for what a person grants.
pub(crate) fn come() -> Outcome {
    let (email, password) = PARTNER;
    let new =
        json!({ "email": email, "name": "Ines Tarrant", "password": password, "team": "Gullwing" });
    ask("POST", "/api/sign-up", "", &new)?;
    let token = from_letter(email)?;
    let own = json!({ "token": token, "password": password });
    let (_, cookie) = ask("POST", "/api/confirm", "", &own)?;
    let application = json!({ "name": "Gullwing Desk" });
    ask("POST", "/api/applications", &cookie, &application)?;
    // What the team is told goes to a program of its own too: the outbox takes events.
    let hook = json!({ "url": format!("http://127.0.0.1:{OUTBOX}/events") });
    ask("POST", "/api/webhooks", &cookie, &hook)?;
    let colleague = json!({ "email": "teodor@gullwing.example" });
    ask("POST", "/api/team/invitations", &cookie, &colleague)?;
    let wish = json!({ "offer": "charter-hand", "why": "We sell crossings at four desks and want to hold seats.", "accept": "2027-01" });
    ask(
        "POST",
        "/api/applications/Gullwing%20Desk/requests",
        &cookie,
        &wish,
    )?;
    Ok(())
}
