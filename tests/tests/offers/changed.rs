//! What is changed of what people use: told to those who do, kept with its dates, and shown before it is released.

use super::*;

fn subjects(visitor: &mut Visitor) -> Vec<String> {
    let told = visitor.ok("GET", "/api/messages", &Value::Null);
    let all = told.as_array().unwrap().iter();
    all.map(|m| {
        format!(
            "{} {}",
            m["kind"].as_str().unwrap(),
            m["subject"].as_str().unwrap()
        )
    })
    .collect()
}

#[test]
fn who_uses_what_is_deprecated_gone_or_broken_is_told_and_reads_when() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    let mut far = Visitor::come(&porch, &outbox, "far");
    application(&mut nils, "Nils Clock");
    let made = ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    assert_eq!(made.status, 201, "{}", made.text());
    let clock = key(&mut nils, "Nils Clock");
    // Open Quay opens all of sailings, and of berths the list alone.
    let facade = "sailings/sailings.facade.yaml";
    let dates = "  quoteFare:\n    deprecation: 2027-03-01\n    sunset: 2027-09-01\n";
    porch.edit(facade, "  quoteFare:\n", dates);
    porch.ok(&["push", porch.documents().to_str().unwrap()]);
    let compared = porch.ok(&["compare"]).to_string();
    assert!(
        compared.contains("deprecated from 2027-03-01")
            && compared.contains("gone from 2027-09-01"),
        "{compared}"
    );
    porch.push_and_release("sailings");
    let told = subjects(&mut nils);
    for part in [
        "deprecation sailings is deprecated",
        "sunset sailings will be gone",
    ] {
        assert!(told.iter().any(|t| t.starts_with(part)), "{part}: {told:?}");
    }
    assert!(subjects(&mut far).is_empty());
    // Replies say so as well (RFC 9745, RFC 8594), and those of other operations do not.
    let reply = porch.call("GET", FARE, &clock, "");
    assert_eq!(reply.header("deprecation"), "@1803859200");
    assert_eq!(reply.header("sunset"), "Wed, 01 Sep 2027 00:00:00 GMT");
    let reply = porch.call("GET", "/berths/v1/berths", &clock, "");
    assert_eq!((reply.status, reply.headers.get("sunset")), (200, None));
    // The portal has it with the operation, and release by release.
    let shown = nils.ok("GET", "/api/facades/sailings", &Value::Null);
    let operations = shown["operations"].as_array().unwrap();
    let fare = operations.iter().find(|o| o["id"] == "quoteFare").unwrap();
    assert_eq!(
        (&fare["deprecated"], &fare["sunset"]),
        (&json!(true), &json!("2027-09-01"))
    );
    let document = nils.ok("GET", "/facades/sailings/openapi.json", &Value::Null);
    assert_eq!(
        document["paths"]["/fares/{route}/{fareClass}"]["get"]["deprecated"],
        true
    );
    let changes = nils.ok("GET", "/api/facades/sailings/changes", &Value::Null);
    assert_eq!(
        (&changes[0]["status"], &changes[1]["status"]),
        (&json!("changed"), &json!("new"))
    );
    assert_eq!(
        changes[0]["changes"][0],
        json!({ "harm": "tells", "operation": "quoteFare", "what": "deprecated from 2027-03-01" })
    );
    assert_eq!(
        nils.ok("GET", "/api/news", &Value::Null)[0]["facade"],
        "sailings"
    );
    // What breaks is told to whoever it breaks: nobody has agreed to what is left out here.
    let contract = "sailings/sailings.openapi.yaml";
    let member = "                  validUntil: { type: string, format: date }\n";
    porch.edit(contract, member, "");
    porch.edit(
        facade,
        "      validUntil: =answer.body.Fare.?ValidUntil\n",
        "",
    );
    porch.push_and_release("sailings");
    let told = nils.ok("GET", "/api/messages", &Value::Null);
    assert_eq!(told[0]["kind"], "break", "{told}");
    assert!(
        told[0]["text"].as_str().unwrap().contains("validUntil"),
        "{told}"
    );
    wait_until("the letter", || {
        let letters = outbox.letters("nils@example.org");
        letters.iter().any(|(_, text)| text.contains("validUntil"))
    });
    // Of a facade that is gone as a whole hears who has agreed to one of its operations alone.
    let quay = "offers/open-quay.offer.yaml";
    porch.edit(
        quay,
        "  - { facade: berths, operations: [listBerths] }\n",
        "",
    );
    let look = "offers/fortnight-look.offer.yaml";
    porch.edit(
        look,
        "facade: berths, operations: [listBerths, getBerth]",
        "facade: sailings",
    );
    let hand = "offers/charter-hand.offer.yaml";
    porch.edit(hand, "  - { facade: berths }\n", "");
    porch.edit(
        "portal/portal.yaml",
        "facades: [vessels, berths]",
        "facades: [vessels]",
    );
    porch.ok(&["push", porch.documents().to_str().unwrap()]);
    let gone = porch.api("DELETE", "/api/facades/berths", &Value::Null);
    assert!(gone.status < 300, "{}", gone.text());
    let offers = ["open-quay", "fortnight-look", "charter-hand"].map(|name| ["--offer", name]);
    porch.ok(&[
        &["release", "berths", "--portal", "--yes"][..],
        &offers.concat(),
    ]
    .concat());
    let told = nils.ok("GET", "/api/messages", &Value::Null);
    assert_eq!(told[0]["subject"], "berths has changed", "{told}");
    assert!(
        told[0]["text"]
            .as_str()
            .unwrap()
            .contains("the whole facade is gone"),
        "{told}"
    );
    // What partners see is not there for others.
    far.refused(404, "GET", "/api/facades/cargo/changes", &Value::Null);
    let news = far.ok("GET", "/api/news", &Value::Null).to_string();
    assert!(!news.contains("\"cargo\""), "{news}");
}

#[test]
fn a_sunset_that_is_near_is_told_once_and_publishers_tell_what_they_like() {
    let (porch, outbox) = with_offers();
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    application(&mut nils, "Nils Clock");
    let made = ask(&mut nils, "Nils Clock", &json!({ "offer": "open-quay" }));
    assert_eq!(made.status, 201, "{}", made.text());
    let soon = std::process::Command::new("date")
        .args(["-u", "-d", "+5 days", "+%F"])
        .output()
        .unwrap();
    let soon = String::from_utf8(soon.stdout).unwrap().trim().to_owned();
    let facade = "berths/berths.facade.yaml";
    porch.edit(
        facade,
        "  listBerths:\n",
        &format!("  listBerths:\n    sunset: {soon}\n"),
    );
    porch.push_and_release("berths");
    let near = format!("sunset 1 of berths may be gone from {soon}");
    wait_until("the end to be told", || subjects(&mut nils).contains(&near));
    // Nobody is told of what they cannot call.
    let told = porch.client(
        &[
            "message",
            "send",
            "--facade",
            "gone",
            "--subject",
            "x",
            "--text",
            "y",
        ],
        "",
    );
    assert!(!told.status.success());
    let of = |operation: &str| {
        porch.ok(&[
            "message",
            "send",
            "--facade",
            "berths",
            "--operation",
            operation,
            "--subject",
            "Berths move",
            "--text",
            "In June.",
        ])
    };
    assert_eq!(of("getBerth")["teams"], 0);
    assert_eq!(of("listBerths")["teams"], 1);
    wait_until("it to be told", || {
        subjects(&mut nils).contains(&"break Berths move".to_owned())
    });
    let count = subjects(&mut nils).iter().filter(|s| **s == near).count();
    assert_eq!(count, 1);
}

#[test]
fn the_portal_is_looked_at_before_it_is_released_by_who_has_the_link() {
    let (porch, outbox) = with_offers();
    porch.edit(
        "portal/portal.yaml",
        "title: Skerry Line for developers",
        "title: Skerry Line, the new portal",
    );
    porch.edit(
        "offers/open-quay.offer.yaml",
        "title: Open Quay",
        "title: Wide Open Quay",
    );
    porch.ok(&["push", porch.documents().to_str().unwrap()]);
    let link = porch.ok(&["offer", "preview"])["address"]
        .as_str()
        .unwrap()
        .to_owned();
    let (at, token) = link.split_once("/#preview=").unwrap();
    assert_eq!(at, porch.portal);
    let mut visitor = Visitor::at(&porch);
    let title = |v: &mut Visitor| v.ok("GET", "/api/portal", &Value::Null)["title"].clone();
    assert_eq!(title(&mut visitor), "Skerry Line for developers");
    visitor.refused(404, "POST", "/api/preview", &json!({ "token": "none" }));
    assert_eq!(
        visitor.ok("POST", "/api/preview", &json!({ "token": token })),
        json!({ "draft": true })
    );
    assert_eq!(title(&mut visitor), "Skerry Line, the new portal");
    // All of it, also what is for partners.
    let offers = visitor.ok("GET", "/api/offers", &Value::Null).to_string();
    assert!(
        offers.contains("Wide Open Quay") && offers.contains("Charter Hand"),
        "{offers}"
    );
    visitor.ok("GET", "/api/facades/cargo", &Value::Null);
    // Others see what is released; and the draft is none of theirs to sign up with.
    let mut nils = Visitor::come(&porch, &outbox, "nils");
    assert_eq!(title(&mut nils), "Skerry Line for developers");
    nils.refused(404, "GET", "/api/facades/cargo", &Value::Null);
    visitor.ok("DELETE", "/api/preview", &Value::Null);
    assert_eq!(title(&mut visitor), "Skerry Line for developers");
    // Once another link is made, the first is good no more.
    porch.ok(&["offer", "preview"]);
    visitor.refused(404, "POST", "/api/preview", &json!({ "token": token }));
}
