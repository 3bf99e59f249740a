//! The console in a real browser: the publisher's journey, by mouse and by keyboard, in light and dark.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

mod beginnings;
mod portal;
mod portal_life;

use porch_tests::browser::{Browser, switched_off};
use porch_tests::{ADMIN, Porch, wait_until};
use serde_json::json;
use thirtyfour::prelude::*;

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_publisher_publishes_tries_releases_and_explains() {
    if switched_off() {
        return;
    }
    let (porch, _) = tokio::task::spawn_blocking(Porch::published).await.unwrap();
    // What is offered is another story (`portal.rs`).
    let offers = ["open-quay", "fortnight-look", "charter-hand"].map(|name| ["--offer", name]);
    porch.ok(&[&["release", "--portal"][..], &offers.concat()].concat());
    let wsdl = format!(
        "http://{}/reservations?wsdl",
        porch.reservations.as_ref().unwrap().address
    );
    let browser = Browser::open(&porch.console, false).await;

    // Signed out: nothing but the form, at any address; a wrong password says so.
    browser.go("/facades/sailings").await;
    browser.see("Sign in to publish").await;
    assert!(!browser.driver.source().await.unwrap().contains("quoteFare"));
    browser.fill("Name", ADMIN.0).await;
    browser.fill("Password", "wrong-password").await;
    browser.press("Sign in").await;
    browser.see("Name or password is wrong").await;
    browser.fill("Password", ADMIN.1).await;
    browser.press("Sign in").await;

    // The address that was asked for, now with its content.
    browser.see("What a crossing costs").await;

    // From a WSDL to a trial run, without a manual.
    browser.go("/publish").await;
    browser
        .fill(
            "Address of a WSDL, an OpenAPI document, OData metadata or a catalogue; or HOST:PORT of a gRPC server",
            &wsdl,
        )
        .await;
    // An address of the service's own host is only called when that is allowed.
    browser.press("Look").await;
    browser.see("The address must be allowed first").await;
    browser
        .find(By::XPath("//label[contains(., 'own host')]"))
        .await
        .click()
        .await
        .unwrap();
    browser.press("Look").await;
    browser.see("“Quote” reads one").await;
    for other in [
        "SearchSailings",
        "HoldSeats",
        "ConfirmBooking",
        "CancelBooking",
        "GetManifest",
    ] {
        browser
            .find(By::Css(format!("input[aria-label='Publish {other}']")))
            .await
            .click()
            .await
            .unwrap();
    }
    // Method, path, id and limit are chosen where the operation stands.
    let path = browser
        .find(By::Css("input[aria-label='Path of quoteFare']"))
        .await;
    path.focus().await.unwrap();
    path.send_keys(Key::Control + "a").await.unwrap();
    path.send_keys("/quotes/{routeCode}").await.unwrap();
    let limit = "Requests of one consumer, no limit if empty";
    browser.fill(limit, "5").await;
    browser.fill("in (30s, 1m, 1h, 1d)", "2m").await;
    browser.fill("Name of backend and facade", "kiosk").await;
    browser.press("Put 1 operations into the draft").await;
    browser.see("kiosk is in the draft.").await;
    // The login that its header needs is missing: the trial run says which secret, and where.
    browser
        .find(By::LinkText("Open the facade"))
        .await
        .click()
        .await
        .unwrap();
    browser
        .find(By::LinkText("quoteFare"))
        .await
        .click()
        .await
        .unwrap();
    browser.see("not served yet").await;
    browser.fill("path routeCode", "FAR-MAR").await;
    browser.press("Run").await;
    browser
        .see("the environment has no secret “kiosk-user”")
        .await;
    for (name, value) in [
        ("kiosk-user", "quay-desk"),
        ("kiosk-password", "tide & tackle"),
    ] {
        porch.ok_with(&["secret", "set", name], value);
    }
    browser.press("Run").await;
    let body = browser.find(By::Css("[data-testid=trial-body]")).await;
    assert!(
        body.text().await.unwrap().contains("\"amount\": 760.125"),
        "{}",
        body.text().await.unwrap()
    );
    browser.see("callers are not served this draft yet").await;
    browser.see("<n1:FareClass>foot</n1:FareClass>").await;

    // What is saved but not released is seen everywhere; releasing ends that.
    browser.go("/").await;
    browser.see("Not released:").await;
    browser.find(By::Css("[aria-label='1 not released']")).await;
    browser
        .find(By::XPath("//main//a[contains(., 'Compare and release')]"))
        .await
        .click()
        .await
        .unwrap();
    browser.fill("What it is for", "the kiosk's fares").await;
    let tick = "//label[contains(., 'kiosk')]/input[not(@checked)]";
    browser.find(By::XPath(tick)).await.click().await.unwrap();
    browser.press("Release kiosk").await;
    browser.see("There is nothing to release").await;
    browser.see("is live").await;
    browser.see("the kiosk's fares").await;

    // A key, shown whole once; the call; the refusal, explained.
    browser.go("/consumers").await;
    browser.fill("Name of a new consumer", "Crew Roster").await;
    browser.press("Register").await;
    browser.press("Make a key").await;
    let key = browser
        .find(By::XPath("//section[@aria-label='Keys']//pre"))
        .await
        .text()
        .await
        .unwrap();
    assert_eq!(
        porch
            .call(
                "GET",
                "/kiosk/v1/quotes/FAR-MAR?fareClass=car&passengers=1",
                key.trim(),
                ""
            )
            .status,
        200
    );
    assert_eq!(
        porch
            .call(
                "GET",
                "/kiosk/v1/quotes/FAR-MAR?fareClass=car&passengers=1",
                "",
                ""
            )
            .status,
        401
    );
    wait_until("the trace is written", || {
        !porch
            .ok(&["trace", "--status", "401"])
            .as_array()
            .unwrap()
            .is_empty()
    });
    browser.go("/traces?status=401").await;
    browser
        .find(By::Css("tbody a"))
        .await
        .click()
        .await
        .unwrap();
    browser.see("The rule is “a key is demanded”, its reach facade kiosk, written in kiosk/kiosk.facade.yaml:").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_zip_is_uploaded_looked_at_named_and_tried_in_one_sitting() {
    if switched_off() {
        return;
    }
    let (porch, _) = tokio::task::spawn_blocking(Porch::published).await.unwrap();
    let desk = porch.cargo_desk.as_ref().unwrap().address;
    let zip = porch.folder().join("cargo-desk.zip");
    std::fs::write(
        &zip,
        porch_tests::Http::send(
            "GET",
            &format!("http://{desk}/cargo-desk.zip"),
            &[],
            Vec::new(),
        )
        .body,
    )
    .unwrap();
    let browser = Browser::open(&porch.console, false).await;
    browser.sign_in(ADMIN.0, ADMIN.1).await;
    browser.go("/publish").await;
    browser.see("Where do you begin?").await;
    browser
        .find(By::Css("input[type=file]"))
        .await
        .send_keys(zip.to_str().unwrap())
        .await
        .unwrap();
    browser.press("Look").await;
    browser.see("SOAP 1.2 rpc/literal").await;
    browser.see("Freight of all Skerry Line sailings").await;
    assert_eq!(browser.axe().await, Vec::<String>::new(), "what was found");
    for other in ["BookConsignment", "FindConsignments", "AddNote"] {
        browser
            .find(By::Css(format!("input[aria-label='Publish {other}']")))
            .await
            .click()
            .await
            .unwrap();
    }
    // The other of the two addresses.
    browser
        .find(By::XPath("//label[contains(., 'Rehearsal')]//input"))
        .await
        .click()
        .await
        .unwrap();
    browser
        .fill("Name of backend and facade", "rehearsal")
        .await;
    browser.press("Put 2 operations into the draft").await;
    browser.see("rehearsal is in the draft.").await;
    browser
        .find(By::LinkText("getConsignment"))
        .await
        .click()
        .await
        .unwrap();
    browser.fill("path number", "C-2041").await;
    browser.press("Run").await;
    let body = browser.find(By::Css("[data-testid=trial-body]")).await;
    let text = body.text().await.unwrap();
    assert!(
        text.contains("1520.250") && text.contains("\"xsi:type\": \"Dangerous\""),
        "{text}"
    );
    browser.see("/rehearsal").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_running_grpc_server_is_published_and_its_stream_drawn_live() {
    if switched_off() {
        return;
    }
    let (porch, _) = tokio::task::spawn_blocking(Porch::published).await.unwrap();
    let vessels = porch.vessels.as_ref().unwrap().address;
    let browser = Browser::open(&porch.console, false).await;
    browser.sign_in(ADMIN.0, ADMIN.1).await;
    browser.go("/publish").await;
    browser
        .fill(
            "Address of a WSDL, an OpenAPI document, OData metadata or a catalogue; or HOST:PORT of a gRPC server",
            &vessels.to_string(),
        )
        .await;
    browser
        .find(By::Css("input[type=checkbox]"))
        .await
        .click()
        .await
        .unwrap();
    browser.press("Look").await;
    browser
        .find(By::Css("input[value='/v1/positions:stream']"))
        .await;
    assert_eq!(browser.axe().await, Vec::<String>::new(), "what was found");
    browser.press("Leave these out").await;
    browser
        .find(By::Css(
            "input[aria-label='Publish skerry.fleet.v1.Fleet/GetVessel']",
        ))
        .await
        .click()
        .await
        .unwrap();
    browser
        .fill("Name of backend and facade", "own-fleet")
        .await;
    browser.press("Put 1 operations into the draft").await;
    browser.see("own-fleet is in the draft.").await;
    browser
        .find(By::LinkText("getVessel"))
        .await
        .click()
        .await
        .unwrap();
    browser.fill("path vessel", "old-button").await;
    browser.press("Run").await;
    let body = browser.find(By::Css("[data-testid=trial-body]")).await;
    let text = body.text().await.unwrap();
    assert!(
        text.contains("\"Old Button\"") && text.contains("9007199254740995"),
        "{text}"
    );
    browser.see("shown is its JSON").await;
    // The page that listens to the stream, through the gateway.
    browser
        .driver
        .goto(format!("{}/harbour/v1/chart", porch.gateway))
        .await
        .unwrap();
    browser
        .find(By::XPath(
            "//*[name()='polyline'][string-length(@points) > 26]",
        ))
        .await;
    browser.see("thimble").await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn every_page_is_accessible_in_light_and_dark_and_by_keyboard() {
    if switched_off() {
        return;
    }
    let (porch, key) = tokio::task::spawn_blocking(Porch::published).await.unwrap();
    for _ in 0..8 {
        porch.call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "");
    }
    wait_until("the trace is written", || {
        !porch
            .ok(&["trace", "--status", "429"])
            .as_array()
            .unwrap()
            .is_empty()
    });
    let id = porch.ok(&["trace", "--status", "429"])[0]["id"]
        .as_str()
        .unwrap()
        .to_owned();
    // A difference, so that the pages about it have something to show.
    porch.edit("sailings/sailings.facade.yaml", "orValue(7)", "orValue(6)");
    porch.ok(&["push", porch.documents.to_str().unwrap()]);
    for dark in [false, true] {
        let browser = Browser::open(&porch.console, dark).await;
        browser.go("/").await;
        browser.see("Sign in to publish").await;
        assert_eq!(browser.axe().await, Vec::<String>::new(), "signed out");
        browser.sign_in(ADMIN.0, ADMIN.1).await;
        for (path, text) in [
            ("/", "Traffic of the last hour"),
            ("/facades", "Sailings, fares and seat holds"),
            ("/facades/sailings", "What a crossing costs"),
            ("/facades/sailings/quoteFare", "Rules that act"),
            ("/facades/sailings/holdSeats", "Trial run"),
            (
                "/facades/journeys/sailingsFrom",
                "as soon as place answered",
            ),
            ("/publish", "Where do you begin?"),
            ("/backends", "the SOAP header Login"),
            ("/documents", "Save to the draft"),
            ("/release", "orValue(6)"),
            ("/offers", "Offers that are served"),
            ("/consumers", "Quayside Kiosk"),
            ("/consumers/Quayside%20Kiosk", "Names and passwords"),
            ("/messages", "Tell those who use a facade"),
            ("/quotas", "Add to a quota, once"),
            ("/traces", "Why refused"),
            (&format!("/traces/{id}"), "Stages"),
            ("/usage", "Half within"),
            ("/audit", "signed in"),
            ("/secrets", "reservations-user"),
            ("/accounts", "administrator"),
            ("/own", "Where you are signed in"),
            ("/nowhere", "There is no such page"),
        ] {
            browser.go(path).await;
            browser.see(text).await;
            assert_eq!(
                browser.axe().await,
                Vec::<String>::new(),
                "{path} {}",
                if dark { "dark" } else { "light" }
            );
            // Nothing is cut off at the width of a laptop or of a telephone.
            for width in if dark { vec![] } else { vec![420, 1280] } {
                browser.widen(width).await;
                let wide = browser.too_wide().await;
                assert_eq!(wide, Vec::<String>::new(), "{path} at {width}");
            }
        }
        browser.close().await;
    }

    // A trial run by keyboard alone: from the top of the page to the button, and Enter.
    let browser = Browser::open(&porch.console, false).await;
    browser.sign_in(ADMIN.0, ADMIN.1).await;
    browser.go("/facades/sailings/quoteFare").await;
    browser.see("Rules that act").await;
    let body = browser.find(By::Tag("body")).await;
    let mut name = String::new();
    for _ in 0..60 {
        body.send_keys(Key::Tab + "").await.unwrap();
        let active = browser.driver.active_element().await.unwrap();
        name = active.text().await.unwrap();
        if name == "Run" {
            active.send_keys(Key::Enter + "").await.unwrap();
            break;
        }
    }
    assert_eq!(name, "Run");
    browser.find(By::Css("[data-testid=trial-body]")).await;
    browser.close().await;
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn nothing_that_is_typed_is_changed_or_written_over_others() {
    if switched_off() {
        return;
    }
    let (porch, _) = tokio::task::spawn_blocking(Porch::published).await.unwrap();
    let browser = Browser::open(&porch.console, false).await;
    browser.sign_in(ADMIN.0, ADMIN.1).await;

    // An answer in place of a call: the reply is made without it.
    browser.go("/facades/journeys/sailingsFrom").await;
    browser.see("Then, at once").await;
    browser.press("Answers in place of calls").await;
    browser
        .find(By::Css("textarea[aria-label='Body of tide']"))
        .await
        .send_keys(r#"{"metres": 0.25}"#)
        .await
        .unwrap();
    browser.press("Run").await;
    browser.see("Too shallow to sail").await;

    // A number keeps digits that no binary float has.
    browser.go("/facades/cargo/bookConsignment").await;
    let body = browser.find(By::Css("textarea[aria-label=Body]")).await;
    body.clear().await.unwrap();
    body.send_keys(r#"{"number": 12345678901234567890.10}"#)
        .await
        .unwrap();
    browser.press("Run").await;
    // As the porch got it, in the stage before the request was made.
    browser
        .find(By::XPath("//pre[contains(., '12345678901234567890.10')]"))
        .await;

    // Two edit one document: the later one is told before anything is lost.
    let path = "sailings/sailings.facade.yaml";
    browser.go(&format!("/documents?file={path}")).await;
    let area = browser.find(By::Css("textarea")).await;
    let text = area.prop("value").await.unwrap().unwrap();
    area.send_keys("# mine\n").await.unwrap();
    let theirs = format!("# theirs\n{text}");
    let saved = json!({ "files": { path: theirs } });
    let saved = porch.api("PUT", "/api/draft", &saved);
    assert_eq!(saved.status, 200, "{}", saved.text());
    browser.press("Check").await;
    browser
        .see("has saved another text in the meantime; yours cannot be saved over it")
        .await;
    browser.press("Save to the draft").await;
    browser.see("was changed by somebody else").await;
    let kept = area.prop("value").await.unwrap().unwrap();
    assert!(kept.contains("# mine") && !kept.contains("# theirs"));
    browser.press("Take theirs").await;
    wait_until("their text is there", || {
        let value = tokio::task::block_in_place(|| {
            tokio::runtime::Handle::current().block_on(area.prop("value"))
        });
        value.unwrap().unwrap() == theirs
    });
    browser.close().await;
}
