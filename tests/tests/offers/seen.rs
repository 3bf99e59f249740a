//! What is seen of the portal, by whom, and which pages may call.

use super::*;

#[test]
fn what_somebody_sees_is_what_the_documents_let_them_see() {
    let (porch, outbox) = with_offers();
    let mut visitor = Visitor::at(&porch);
    let names = |catalogue: &Value| -> Vec<String> {
        let groups = catalogue["groups"].as_array().unwrap().iter();
        let facades = groups.flat_map(|g| g["facades"].as_array().unwrap());
        facades
            .map(|f| f["name"].as_str().unwrap().to_owned())
            .collect()
    };
    let seen = visitor.ok("GET", "/api/catalogue?search=consignment", &Value::Null);
    assert_eq!(
        names(&seen),
        ["sailings", "timetable", "journeys", "vessels", "berths"]
    );
    assert_eq!(seen["found"], json!([]));
    for path in [
        "/api/facades/cargo",
        "/facades/cargo/openapi.json",
        "/api/facades/gone",
    ] {
        let told = visitor.ask("GET", path, &Value::Null);
        assert_eq!(told.status, 404, "{path}");
    }
    let mut ines = Visitor::come(&porch, &outbox, "ines");
    assert_eq!(
        ines.ask("GET", "/api/facades/cargo", &Value::Null).status,
        404
    );
    let team = porch.ok(&["team", "list", "--search", "INES"])[0]["id"].to_string();
    porch.ok(&["team", "change", &team, "--role", "partner"]);
    let seen = ines.ok("GET", "/api/catalogue?search=consignment", &Value::Null);
    assert!(names(&seen).contains(&"cargo".to_owned()));
    assert!(!seen["found"].as_array().unwrap().is_empty());
    // Words within names, paths, parameters and members.
    for (search, first) in [
        ("crossing costs", "quoteFare"),
        ("fareclass passengers", "quoteFare"),
        ("validuntil", "quoteFare"),
    ] {
        let found = visitor.ok(
            "GET",
            &format!("/api/catalogue?search={}", search.replace(' ', "%20")),
            &Value::Null,
        );
        assert_eq!(found["found"][0]["operation"]["id"], first, "{search}");
    }
    let list = visitor.ask("GET", "/.well-known/api-catalog", &Value::Null);
    assert!(
        list.header("content-type")
            .starts_with("application/linkset+json"),
        "{}",
        list.header("content-type")
    );
    let linkset = list.json();
    assert_eq!(linkset["linkset"].as_array().unwrap().len(), 5);
    let first = &linkset["linkset"][0];
    assert_eq!(first["anchor"], format!("{}/sailings/v2", porch.gateway));
    let described = first["service-desc"][0]["href"].as_str().unwrap();
    let document = Http::send("GET", described, &[], Vec::new()).json();
    assert_eq!(
        document["servers"][0]["url"],
        format!("{}/sailings/v2", porch.gateway)
    );
    assert_eq!(
        document["components"]["securitySchemes"]["key"]["name"],
        "API-Key"
    );
}

#[test]
fn pages_of_the_portal_may_call_and_those_of_others_may_not() {
    let (porch, _) = with_offers();
    let preflight = |origin: &str| {
        let headers = [
            ("origin", origin),
            ("access-control-request-method", "GET"),
            ("access-control-request-headers", "api-key"),
        ];
        Http::send(
            "OPTIONS",
            &format!("{}{FARE}", porch.gateway),
            &headers,
            Vec::new(),
        )
    };
    let own = preflight(&porch.portal);
    assert_eq!(own.status, 204);
    assert_eq!(own.header("access-control-allow-origin"), porch.portal);
    assert_eq!(own.header("access-control-allow-headers"), "api-key");
    let other = preflight("http://elsewhere.example");
    assert_eq!(other.header("access-control-allow-origin"), "");
    // Refusals are read too: whoever calls is told why.
    let origin = [("origin", porch.portal.as_str())];
    for path in [FARE, "/nothing/here"] {
        let told = Http::send(
            "GET",
            &format!("{}{path}", porch.gateway),
            &origin,
            Vec::new(),
        );
        assert_eq!(
            told.header("access-control-allow-origin"),
            porch.portal,
            "{path}"
        );
        assert_eq!(told.header("access-control-allow-credentials"), "");
    }
    let plain = Http::send("GET", &format!("{}{FARE}", porch.gateway), &[], Vec::new());
    assert_eq!(plain.header("access-control-allow-origin"), "");
}

#[test]
fn offers_say_what_they_allow_with_their_terms() {
    let (porch, _outbox) = with_offers();
    let mut visitor = Visitor::at(&porch);
    let seen = visitor.ok("GET", "/api/offers", &Value::Null);
    let of = |name: &str| {
        let all = seen.as_array().unwrap().iter();
        let found = all.map(|s| &s["offer"]).find(|o| o["name"] == name);
        found.unwrap()["limits"].clone()
    };
    assert_eq!(
        of("open-quay"),
        json!([
            "berths: 7 calls in any minute, for the agreement",
            "berths: 40 calls each month",
            "sailings: 7 calls in any 90 seconds",
            "sailings: 12000 calls in any hour",
        ])
    );
    let shown = visitor.ok("GET", "/api/facades/berths", &Value::Null);
    let hand = shown["offers"].as_array().unwrap().iter();
    let hand = hand.clone().find(|o| o["name"] == "charter-hand").unwrap();
    let limits = hand["limits"].as_array().unwrap();
    assert!(
        limits.contains(&json!("sailings: 12000 calls in any 90 seconds")),
        "{limits:?}"
    );
    // Publishers read the rules themselves.
    assert!(porch.ok(&["offer", "show", "open-quay"])["limits"].is_null());
}
