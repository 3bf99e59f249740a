//! A facade from a sample call, and one from nothing; backends that are asked whether they are there.

use porch_tests::browser::{Browser, switched_off};
use porch_tests::{ADMIN, Porch};
use thirtyfour::prelude::*;

/// Opens a part of the page that is folded, and types into its text.
async fn paste(browser: &Browser, fold: &str, label: &str, text: &str) {
    let button = format!("//h3//button[contains(., \"{fold}\")]");
    browser.find(By::XPath(button)).await.click().await.unwrap();
    let area = browser
        .find(By::Css(format!("textarea[aria-label='{label}']")))
        .await;
    area.send_keys(text).await.unwrap();
}

async fn click(browser: &Browser, by: By) {
    browser.find(by).await.click().await.unwrap();
}

#[tokio::test(flavor = "multi_thread", worker_threads = 2)]
async fn a_sample_call_and_nothing_at_all_become_facades() {
    if switched_off() {
        return;
    }
    let porch = tokio::task::spawn_blocking(Porch::start).await.unwrap();
    let backend = porch.timetable.as_ref().unwrap().address;
    let browser = Browser::open(&porch.console, false).await;
    browser.sign_in(ADMIN.0, ADMIN.1).await;

    // A sample call: made once, and what it carried is kept as a secret.
    browser.go("/publish").await;
    let sample =
        format!("curl 'http://{backend}/tt?r=FAR-MAR&d=2027-05-14' -H 'Quay-Token: h4rbour'");
    paste(&browser, "paste sample calls", "Sample calls", &sample).await;
    click(&browser, By::XPath("//label[contains(., 'own host')]")).await;
    browser.press("Look").await;
    browser.see("as it was called").await;
    assert_eq!(browser.axe().await, Vec::<String>::new(), "what was found");
    browser
        .fill("Name of backend and facade", "departures")
        .await;
    browser.press("Put 1 operations into the draft").await;
    browser
        .see("Secrets of the sample are set: departures-quay-token")
        .await;
    click(&browser, By::LinkText("getTt")).await;
    browser.see("calls GET /tt of departures").await;
    browser.press("Run").await;
    let body = browser.find(By::Css("[data-testid=trial-body]")).await;
    assert!(body.text().await.unwrap().contains("06:40"));
    assert!(!browser.driver.source().await.unwrap().contains("h4rbour"));

    // Its backend is asked, and says what it is shown.
    browser.go("/backends").await;
    click(
        &browser,
        By::Css("button[aria-label='Is it there? departures']"),
    )
    .await;
    browser.see("is there").await;
    browser.see("Calls are shown: the header Quay-Token.").await;
    assert_eq!(browser.axe().await, Vec::<String>::new(), "backends");

    // Nothing at all: operations answer with examples.
    browser.go("/publish").await;
    let operation = "GET /berths/{berth} {\"berth\":\"N7\",\"free\":true}";
    paste(&browser, "begin without a backend", "Operations", operation).await;
    browser.press("Look").await;
    browser.fill("Name of the facade", "berths").await;
    browser.press("Put 1 operations into the draft").await;
    browser.see("berths is in the draft.").await;
    browser.see("calls nothing: it answers with examples").await;
    click(&browser, By::LinkText("getBerthsByBerth")).await;
    browser.see("answers with examples of the contract").await;
    browser.press("Run").await;
    browser
        .see("calls nothing: the contract's example “sample” is answered")
        .await;
    browser.close().await;
}
