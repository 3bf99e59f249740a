//! Takes the screenshots of `docs/screenshots` from a running demo.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_tests::browser::Browser;
use porch_tests::{program, root};
use serde_json::Value;
use thirtyfour::By;

/// Runs the client against the demo; gives what it says in JSON.
fn porch(arguments: &[&str]) -> Value {
    let output = std::process::Command::new(program("porch"))
        .arg("--json")
        .args(arguments)
        .output()
        .expect("the client runs");
    serde_json::from_slice(&output.stdout).unwrap_or(Value::Null)
}

/// The portal, as a newcomer with an account, an agreement and a key sees it.
async fn portal(folder: &std::path::Path) {
    let address = "http://127.0.0.1:3830";
    let shot = |name: &str| folder.join(format!("{name}.png"));
    let light = Browser::open(address, false).await;
    light.go("/").await;
    light.see("Vessels and where they are").await;
    light.shot(&shot("portal")).await;
    light.go("/sign-in").await;
    light.fill("E-mail address", "ines@gullwing.example").await;
    light.fill("Password", "harbour fog lantern").await;
    light.press("Sign in").await;
    light.see("Gullwing Desk").await;
    light
        .fill("Name of a new application", "Gullwing Kiosk")
        .await;
    light.press("Register").await;
    light.see("What it may call").await;
    let follow = async |link: &str| {
        let found = light.find(By::LinkText(link)).await;
        found.click().await.expect("the link is followed");
    };
    follow("Offers").await;
    let choice = light
        .find(By::XPath("//section[@aria-label='Open Quay']//select"))
        .await;
    choice
        .send_keys("Gullwing Kiosk")
        .await
        .expect("it is chosen");
    light.press("Ask for Open Quay").await;
    light.see("Granted.").await;
    follow("Make a key").await;
    light.fill("What a new key is for", "first").await;
    light.press("Make a key").await;
    follow("Find something to call: this page knows the key until it is closed").await;
    follow("Sailings, fares and seat holds").await;
    follow("What a crossing costs").await;
    for left in (0..7).rev() {
        light.press("Call").await;
        light
            .see(&format!("{left} calls are left in the next"))
            .await;
    }
    light.press("Call").await;
    light.see("Too many requests").await;
    light.shot(&shot("portal-call")).await;
    follow("Applications").await;
    follow("Gullwing Kiosk").await;
    light.see("A limit or quota was used up").await;
    light.see("7 good").await;
    light.shot(&shot("portal-application")).await;
    light.close().await;
}

#[tokio::main]
async fn main() {
    let url = std::env::var("ELM_PORCH_URL").unwrap_or_else(|_| "http://127.0.0.1:3820".into());
    let folder = root().join("docs/screenshots");
    std::fs::create_dir_all(&folder).expect("the folder can be made");
    portal(&folder).await;
    let light = Browser::open(&url, false).await;
    let shot = |name: &'static str| folder.join(format!("{name}.png"));
    light.go("/").await;
    light.see("Sign in to publish").await;
    light.sign_in("inge", "harbour-lights").await;
    light.see("Traffic of the last hour").await;
    light.shot(&shot("overview")).await;
    for (path, wait, name) in [
        ("/facades/sailings", "What a crossing costs", "facade"),
        (
            "/consumers/Gullwing%20Tours",
            "Calls of the last seven days",
            "consumers",
        ),
        ("/offers", "Gullwing Desk asks for charter-hand", "offers"),
    ] {
        light.go(path).await;
        light.see(wait).await;
        light.shot(&shot(name)).await;
    }
    let documents = root().join("target/demo/documents");
    let changed = root().join("target/demo/changed/sailings");
    std::fs::create_dir_all(&changed).expect("the folder can be made");
    let name = "sailings.facade.yaml";
    let text = std::fs::read_to_string(documents.join("sailings").join(name));
    let text = text
        .expect("the demo's document")
        .replace("orValue(7)", "orValue(20)");
    std::fs::write(changed.join(name), text).expect("the file can be written");
    porch(&["push", changed.join("..").to_str().expect("a plain path")]);
    light.go("/release").await;
    light.see("orValue(20)").await;
    light.see("first release").await;
    light.shot(&shot("release")).await;
    porch(&["push", documents.to_str().expect("a plain path")]);
    light.go("/traces?status=refused").await;
    light.see("Why refused").await;
    light.find(By::XPath("//tbody/tr")).await;
    light.shot(&shot("traces")).await;
    let refused = porch(&["trace", "--status", "429", "--most", "1"]);
    if let Some(id) = refused[0]["id"].as_str() {
        light.go(&format!("/traces/{id}")).await;
        light.see("Stages").await;
        light.shot(&shot("trace")).await;
    }
    light.go("/backends").await;
    light
        .find(By::Css("button[aria-label='Is it there? reservations']"))
        .await
        .click()
        .await
        .expect("the backend is asked");
    light.see("is there").await;
    light.shot(&shot("backends")).await;
    light.go("/publish").await;
    let zip = root().join("target/demo/cargo-desk.zip");
    let bytes = porch_tests::Http::send(
        "GET",
        "http://127.0.0.1:3852/cargo-desk.zip",
        &[],
        Vec::new(),
    )
    .body;
    std::fs::write(&zip, bytes).expect("the ZIP can be kept");
    light
        .find(By::Css("input[type=file]"))
        .await
        .send_keys(zip.to_str().expect("a plain path"))
        .await
        .expect("the file is taken");
    light.press("Look").await;
    light.see("Name it").await;
    light
        .find(By::XPath("//label[.//code][2]//input"))
        .await
        .scroll_into_view()
        .await
        .expect("the page scrolls");
    light.shot(&shot("publish")).await;
    light.go("/publish").await;
    light
        .find(By::XPath("//label[contains(., 'gRPC server')]/following::input[1] | //label[contains(., 'gRPC server')]//input"))
        .await
        .send_keys("127.0.0.1:3854")
        .await
        .expect("the address is typed");
    light
        .find(By::Css("input[type=checkbox]"))
        .await
        .click()
        .await
        .expect("the box is ticked");
    light.press("Look").await;
    light.see("StreamPositions").await;
    light.shot(&shot("publish-grpc")).await;
    light
        .driver
        .goto("http://127.0.0.1:3810/harbour/v1/chart")
        .await
        .expect("the chart opens");
    light
        .find(By::XPath(
            "//*[name()='polyline'][string-length(@points) > 260]",
        ))
        .await;
    light.shot(&shot("chart")).await;
    light.go("/rules").await;
    light.see("where it is used").await;
    light.shot(&shot("rules")).await;
    light.go("/facades/journeys/sailingsFrom").await;
    light.see("as soon as place answered").await;
    light.shot(&shot("operation-calls")).await;
    light.go("/facades/sailings/quoteFare").await;
    light.see("Rules that act").await;
    light.shot(&shot("operation")).await;
    light.press("Run").await;
    light.find(By::Css("[data-testid=trial-body]")).await;
    light.driver.execute("document.querySelector('[data-testid=trial-body]').scrollIntoView({block: 'start'}); window.scrollBy(0, -60)", vec![]).await.expect("the page scrolls");
    light.shot(&shot("trial-run")).await;
    light.close().await;
    let dark = Browser::open(&url, true).await;
    dark.sign_in("inge", "harbour-lights").await;
    dark.see("Traffic of the last hour").await;
    dark.shot(&shot("overview-dark")).await;
    dark.close().await;
}
