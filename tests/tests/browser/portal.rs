//! The portal in a real browser: a newcomer's journey, a partner's and their publisher's, and every page for everybody.

use porch_tests::browser::{Browser, switched_off};
use porch_tests::portal::{Outbox, PASSWORD, Visitor, with_offers};
use porch_tests::{ADMIN, Porch, wait_until};
use serde_json::{Value, json};
use thirtyfour::prelude::*;

/// A service with the demo's offers and portal. The portal is at another host than the console: cookies know no ports.
async fn stage() -> (Porch, Outbox) {
    tokio::task::spawn_blocking(with_offers).await.unwrap()
}

pub(super) async fn follow(browser: &Browser, link: &str) {
    let found = browser.find(By::LinkText(link)).await;
    found.click().await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_newcomer_finds_reads_asks_calls_is_refused_and_lives_with_it() {
    if switched_off() {
        return;
    }
    let (porch, outbox) = stage().await;
    let browser = Browser::open(&porch.portal, false).await;
    browser.go("/").await;
    browser.see("Make your first call").await;
    // Found by words, read without an account.
    browser
        .fill("Search names, paths, parameters and members", "crossing")
        .await;
    follow(&browser, "What a crossing costs").await;
    browser
        .see("Callers show a key in the header field API-Key.")
        .await;
    browser.see("one of foot, bicycle, car, cabin").await;
    browser
        .see("All digits, as the booking system has them.")
        .await;
    // Without a key it is refused, and the page says why.
    browser.press("Call").await;
    browser.see("401").await;

    follow(&browser, "Sign up").await;
    browser.fill("E-mail address", "nils@example.org").await;
    browser.fill("Your name", "Nils").await;
    browser.fill("Password", PASSWORD).await;
    browser.press("Sign up").await;
    browser.see("We wrote to nils@example.org").await;
    let token = tokio::task::block_in_place(|| outbox.token("nils@example.org", 1));
    browser.go(&format!("/confirm#{token}")).await;
    browser.fill("The password that you chose", PASSWORD).await;
    browser.press("Confirm and sign in").await;
    browser
        .fill("Name of a new application", "Nils Clock")
        .await;
    browser.press("Register").await;
    browser.see("What it may call").await;
    follow(&browser, "Offers").await;
    browser.press("Ask for Open Quay").await;
    browser.see("Granted.").await;
    follow(&browser, "Make a key").await;
    browser.fill("What a new key is for", "first").await;
    browser.press("Make a key").await;
    let key = browser.find(By::Css("[aria-label='New key']")).await;
    let key = key.text().await.unwrap();

    // The page knows the key, and calls the gateway itself.
    follow(
        &browser,
        "Find something to call: this page knows the key until it is closed",
    )
    .await;
    follow(&browser, "Sailings, fares and seat holds").await;
    follow(&browser, "What a crossing costs").await;
    for left in (0..7).rev() {
        browser.press("Call").await;
        browser
            .see(&format!("{left} calls are left in the next"))
            .await;
    }
    browser.see("760.125").await;
    browser.press("Call").await;
    browser.see("Too many requests").await;
    browser
        .see("At most 7 requests in any 90 seconds for each consumer")
        .await;
    // The code has the key only when that is wanted.
    let code = browser
        .find(By::Css("[aria-label='The call in curl']"))
        .await;
    assert!(code.text().await.unwrap().contains("YOUR-KEY"));
    browser
        .find(By::Css("input[type=checkbox]"))
        .await
        .click()
        .await
        .unwrap();
    assert!(code.text().await.unwrap().contains(&key));

    // Renewed without a gap, and the usage is there.
    follow(&browser, "Applications").await;
    follow(&browser, "Nils Clock").await;
    browser.press("Renew").await;
    browser.see("Your key, shown this once.").await;
    let new = browser
        .find(By::Css("[aria-label='New key']"))
        .await
        .text()
        .await
        .unwrap();
    assert_ne!(new, key);
    let call = |key: &str| {
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", key, "")
            .status
    };
    assert_eq!(
        tokio::task::block_in_place(|| (call(&key), call(&new))),
        (429, 429)
    );
    browser.see("0 of 7").await;
    browser.see("7 good").await;
    browser.see("A limit or quota was used up").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_partner_asks_a_publisher_grants_and_both_are_told() {
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
    let partner = Browser::open(&porch.portal, false).await;
    partner.go("/offers").await;
    let (name, value) = cookie.split_once('=').unwrap();
    partner
        .driver
        .add_cookie(Cookie::new(name.to_owned(), value.to_owned()))
        .await
        .unwrap();
    partner.go("/offers").await;
    let card = "//section[@aria-label='Charter Hand']";
    let text = partner.find(By::XPath(format!("{card}//textarea"))).await;
    text.send_keys("We sell crossings at four desks.")
        .await
        .unwrap();
    // The text is there to be read, and must be accepted.
    partner.press("What is accepted, version 2027-01").await;
    partner.see("thirty days").await;
    let accept = partner
        .find(By::XPath(format!("{card}//input[@type='checkbox']")))
        .await;
    accept.click().await.unwrap();
    partner.press("Ask for Charter Hand").await;
    partner.see("Asked. You are told what comes of it.").await;

    let console = Browser::open(&porch.console, false).await;
    console.sign_in(ADMIN.0, ADMIN.1).await;
    console.see("1 request waits").await;
    follow(&console, "Offers and requests").await;
    console.see("Gullwing Desk asks for charter-hand").await;
    console.see("We sell crossings at four desks.").await;
    console
        .fill("What Gullwing Desk is told", "Welcome aboard.")
        .await;
    let grant = console
        .find(By::Css(
            "[aria-label='Grant charter-hand to Gullwing Desk']",
        ))
        .await;
    grant.click().await.unwrap();
    console.see("Nobody waits for an answer.").await;
    console
        .find(By::XPath(
            "//section[@aria-label='Agreements']//a[.='Gullwing Desk']",
        ))
        .await;

    partner.go("/messages").await;
    partner.see("Charter Hand is granted").await;
    partner.see("Welcome aboard.").await;
    let letters = || outbox.letters("ines@example.org");
    tokio::task::block_in_place(|| {
        wait_until("the letter", || {
            letters()
                .iter()
                .any(|(s, _)| s == "Charter Hand is granted")
        });
        let told = porch.api("GET", "/api/messages", &Value::Null).json();
        assert_eq!(told[0]["subject"], "Gullwing Desk asks for Charter Hand");
    });
    partner.close().await;
    console.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_page_of_the_portal_is_accessible_and_fits_a_telephone() {
    if switched_off() {
        return;
    }
    let (porch, outbox) = stage().await;
    let cookie = tokio::task::block_in_place(|| {
        let mut nils = Visitor::come(&porch, &outbox, "nils");
        nils.ok(
            "POST",
            "/api/applications",
            &json!({ "name": "Nils Clock" }),
        );
        let path = "/api/applications/Nils%20Clock";
        for offer in ["open-quay", "charter-hand"] {
            let wish = json!({ "offer": offer, "accept": "2027-01", "why": "To see." });
            nils.ok("POST", &format!("{path}/requests"), &wish);
        }
        let made = nils.ok(
            "POST",
            &format!("{path}/keys"),
            &json!({ "label": "first" }),
        );
        let key = made["key"].as_str().unwrap();
        for _ in 0..8 {
            porch.call("GET", "/sailings/v2/fares/FAR-MAR/foot", key, "");
        }
        nils.cookie
    });
    let (name, value) = cookie.split_once('=').unwrap();
    for dark in [false, true] {
        let browser = Browser::open(&porch.portal, dark).await;
        let visitors = [
            ("/", "Make your first call"),
            ("/?search=fare", "What a crossing costs"),
            ("/facades/sailings", "Offers that open it"),
            ("/facades/sailings/quoteFare", "Replies"),
            ("/facades/sailings/holdSeats", "Replies"),
            ("/facades/vessels/updateVessel", "Replies"),
            ("/facades/sailings/models/Hold", "Where it is used"),
            ("/facades/timetable", "It may be gone from"),
            ("/join#x", "no invitation that is good"),
            ("/pages/fair-use", "Charter Hand"),
            ("/offers", "Sign in"),
            ("/sign-in", "Another password"),
            ("/sign-up", "several words are easy to keep"),
            ("/confirm", "Confirm and sign in"),
            ("/forgotten", "Send me a link"),
            ("/reset#x", "Set it"),
            ("/nowhere", "There is nothing at this address"),
        ];
        let own = [
            ("/offers", "Ask for Charter Hand"),
            ("/applications", "Nils Clock"),
            ("/applications/Nils%20Clock", "A limit or quota was used up"),
            ("/messages", "You asked for Charter Hand"),
            ("/account", "Delete the account"),
            ("/webhooks", "Your team has none yet."),
        ];
        for (i, (path, text)) in visitors.iter().chain(&own).enumerate() {
            if i == visitors.len() {
                let cookie = Cookie::new(name.to_owned(), value.to_owned());
                browser.driver.add_cookie(cookie).await.unwrap();
            }
            browser.go(path).await;
            browser.see(text).await;
            let scheme = if dark { "dark" } else { "light" };
            assert_eq!(browser.axe().await, Vec::<String>::new(), "{path} {scheme}");
            for width in if dark { vec![] } else { vec![320, 1280] } {
                browser.widen(width).await;
                let wide = browser.too_wide().await;
                assert_eq!(wide, Vec::<String>::new(), "{path} at {width}");
                if width == 320 {
                    assert_eq!(browser.axe().await, Vec::<String>::new(), "{path} narrow");
                }
            }
        }
        browser.close().await;
    }
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn little_is_loaded_for_the_first_view() {
    if switched_off() {
        return;
    }
    let (porch, _outbox) = stage().await;
    let browser = Browser::open(&porch.portal, false).await;
    browser.go("/").await;
    browser.see("Sailings, fares and seat holds").await;
    let script = "return performance.getEntriesByType('resource').filter(r => r.name.endsWith('.js')).reduce((sum, r) => sum + r.encodedBodySize, 0)";
    let bytes: u64 = browser
        .driver
        .execute(script, vec![])
        .await
        .unwrap()
        .convert()
        .unwrap();
    assert!(bytes > 10_000 && bytes < 250_000, "{bytes} bytes of script");
    browser.close().await;
}
