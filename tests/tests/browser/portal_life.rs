//! Living with the portal in a real browser: a team and its members, a second factor, webhooks, the documentation that helps, and
//! the draft before it is released.

use super::portal::follow;
use porch_tests::browser::{Browser, switched_off};
use porch_tests::portal::{Outbox, PASSWORD, Visitor, with_offers_and};
use porch_tests::{ADMIN, Porch, wait_until};
use serde_json::json;
use thirtyfour::prelude::*;
use totp_rs::{Builder, Secret};

async fn stage() -> (Porch, Outbox) {
    let made = tokio::task::spawn_blocking(|| with_offers_and(&["--webhooks-inside"]));
    made.await.unwrap()
}

/// A page that is signed in as somebody.
async fn signed_in(porch: &Porch, cookie: &str) -> Browser {
    let browser = Browser::open(&porch.portal, false).await;
    browser.go("/").await;
    let (name, value) = cookie.split_once('=').unwrap();
    let cookie = Cookie::new(name.to_owned(), value.to_owned());
    browser.driver.add_cookie(cookie).await.unwrap();
    browser
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_team_invites_somebody_who_joins_and_has_a_second_factor() {
    if switched_off() {
        return;
    }
    let (porch, outbox) = stage().await;
    let cookie = tokio::task::block_in_place(|| {
        let mut ines = Visitor::come(&porch, &outbox, "ines");
        ines.ok(
            "POST",
            "/api/applications",
            &json!({ "name": "Gullwing Desk" }),
        );
        ines.cookie
    });
    let ines = signed_in(&porch, &cookie).await;
    ines.go("/account").await;
    ines.fill("Invite somebody by e-mail", "teodor@example.org")
        .await;
    ines.press("Invite").await;
    ines.see("teodor@example.org").await;
    let token = tokio::task::block_in_place(|| outbox.token_for("teodor@example.org", "join"));

    let teodor = Browser::open(&porch.portal, false).await;
    teodor.go(&format!("/join#{token}")).await;
    teodor.see("ines invites teodor@example.org").await;
    assert_eq!(teodor.axe().await, Vec::<String>::new());
    teodor.fill("Your name", "Teodor").await;
    teodor.fill("A password for your account", PASSWORD).await;
    teodor.press("Join ines").await;
    teodor.see("Gullwing Desk").await;
    // A second factor, with its secret as it is shown.
    teodor.go("/account").await;
    teodor
        .fill("Your password, to change the second factor", PASSWORD)
        .await;
    teodor.press("Set one up").await;
    let shown = By::XPath("//section[@aria-label='Second factor']//p/code");
    let secret = teodor.find(shown).await.text().await.unwrap();
    assert_eq!(teodor.axe().await, Vec::<String>::new());
    let code = |late: u64| {
        let secret = Secret::try_from_base32(&secret).unwrap();
        let factor = Builder::new()
            .with_secret(secret)
            .with_account_name("x")
            .with_issuer(Some("y"));
        let since = std::time::SystemTime::now()
            .duration_since(std::time::UNIX_EPOCH)
            .unwrap();
        factor
            .build()
            .unwrap()
            .generate(since.as_secs() + late)
            .to_string()
    };
    teodor.fill("A code of it", &code(0)).await;
    teodor.press("Ask for it from now on").await;
    teodor.see("Each is good once").await;
    teodor.press("Sign out").await;
    teodor.go("/sign-in").await;
    teodor.fill("E-mail address", "teodor@example.org").await;
    teodor.fill("Password", PASSWORD).await;
    teodor.press("Sign in").await;
    teodor.see("A code is needed too").await;
    teodor.fill("Code of your authenticator", &code(30)).await;
    teodor.press("Sign in").await;
    teodor.see("Gullwing Desk").await;
    ines.go("/account").await;
    ines.see("Teodor").await;
    ines.close().await;
    teodor.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn somebody_tries_without_a_key_is_helped_with_a_body_and_reads_models() {
    if switched_off() {
        return;
    }
    let (porch, _outbox) = stage().await;
    let browser = Browser::open(&porch.portal, false).await;
    browser.go("/facades/sailings/holdSeats").await;
    browser.press("Show an example answer, without a key").await;
    browser.see("nothing was called").await;
    // What does not fit is told as it is written, where it stands.
    let body = browser.find(By::Css("textarea")).await;
    body.clear().await.unwrap();
    body.send_keys(r#"{"SailingId": 17, "FareClass": "yacht"}"#)
        .await
        .unwrap();
    browser.see("is number, and should be string").await;
    browser
        .see("should be one of foot, bicycle, car, cabin")
        .await;
    browser.see("/Passengers").await;
    browser.press("Contact").await;
    browser.see("/Passengers").await;
    assert!(body.value().await.unwrap().unwrap().contains("\"Contact\""));
    assert_eq!(browser.axe().await, Vec::<String>::new());
    browser.press("Whatever is refused, and what to do").await;
    browser.see("urn:elm-porch:problem:rate-limit").await;
    follow(&browser, "Hold").await;
    browser.see("Where it is used").await;
    follow(&browser, "Keep seats for twenty minutes").await;
    browser.see("Call it").await;
    browser.go("/facades/timetable").await;
    browser
        .see("It should not be used any more from 2027-03-01. It may be gone from 2027-09-01.")
        .await;
    browser.see("deprecated from 2027-03-01").await;
    browser.go("/").await;
    browser.see("What is new").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_publisher_looks_at_the_draft_and_both_sides_send_their_messages_on() {
    if switched_off() {
        return;
    }
    let (porch, outbox) = stage().await;
    let cookie = tokio::task::block_in_place(|| {
        let mut ines = Visitor::come(&porch, &outbox, "ines");
        ines.ok(
            "POST",
            "/api/applications",
            &json!({ "name": "Gullwing Desk" }),
        );
        let path = "/api/applications/Gullwing%20Desk/requests";
        ines.ok("POST", path, &json!({ "offer": "open-quay" }));
        let (file, from) = ("portal/portal.yaml", "title: Skerry Line for developers");
        porch.edit(file, from, "title: Skerry Line, the new portal");
        porch.ok(&["push", porch.documents().to_str().unwrap()]);
        ines.cookie
    });
    let console = Browser::open(&porch.console, false).await;
    console.sign_in(ADMIN.0, ADMIN.1).await;
    follow(&console, "Offers and requests").await;
    console.press("Look at the portal as drafted").await;
    let link = console
        .find(By::LinkText("The portal as it is drafted"))
        .await;
    let address = link.attr("href").await.unwrap().unwrap();
    let path = address.strip_prefix(&porch.portal).unwrap();
    let draft = Browser::open(&porch.portal, false).await;
    draft.go(path).await;
    draft.see("This is the draft.").await;
    draft.see("Skerry Line, the new portal").await;
    assert_eq!(draft.axe().await, Vec::<String>::new());
    draft.press("Look at what is released").await;
    draft.see("Skerry Line for developers").await;
    draft.close().await;

    let events = format!("{}/events", outbox.page);
    let ines = signed_in(&porch, &cookie).await;
    ines.go("/webhooks").await;
    ines.fill("Where events are sent, by HTTPS", &events).await;
    ines.press("Add it").await;
    ines.see("all kinds").await;
    follow(&console, "Messages").await;
    console
        .fill("Where events are sent, by HTTPS", &events)
        .await;
    console.press("Add it").await;
    console.see("all kinds").await;
    let facade = console
        .find(By::XPath(
            "//section[@aria-label='Tell those who use a facade']//select",
        ))
        .await;
    facade.send_keys("sailings").await.unwrap();
    console
        .fill("What it is about, in a line", "Fares get a new member")
        .await;
    console
        .find(By::Css("textarea"))
        .await
        .send_keys("From May on.")
        .await
        .unwrap();
    console.press("Tell them").await;
    console.see("1 team was told.").await;
    ines.go("/webhooks").await;
    ines.see("Fares get a new member").await;
    ines.see("delivered").await;
    ines.press("Send again").await;
    tokio::task::block_in_place(|| wait_until("it to come twice", || outbox.events().len() >= 2));
    ines.close().await;
    console.close().await;
}
