//! Who may do what, route by route; and what is refused before it is kept.

use std::collections::BTreeSet;

use porch_tests::{Http, Porch};
use serde_json::{Value, json};

/// The least role that each route asks for; everything else about it may change, this may not without a word.
const ROLES: [(&str, &[&str]); 4] = [
    (
        "nobody",
        &[
            "POST /api/session",
            "GET /api/session/ways",
            "GET /api/session/openid",
            "GET /api/session/openid/return",
        ],
    ),
    (
        "viewer",
        &[
            "GET /api/session",
            "DELETE /api/session",
            "PUT /api/session/password",
            "GET /api/overview",
            "GET /api/draft",
            "POST /api/check",
            "GET /api/schemas",
            "POST /api/look",
            "POST /api/derive",
            "POST /api/update",
            "GET /api/compare",
            "GET /api/releases",
            "GET /api/releases/{number}/compare",
            "GET /api/operations",
            "GET /api/facades",
            "GET /api/facades/{facade}",
            "GET /api/facades/{facade}/operations/{operation}",
            "POST /api/trials",
            "POST /api/backtests",
            "GET /api/backends",
            "POST /api/backends/{backend}/probe",
            "GET /api/rules",
            "GET /api/traces",
            "GET /api/traces/{id}",
            "GET /api/usage",
            "GET /api/copies",
            "GET /api/audit",
            "GET /api/kept",
            "GET /api/consumers",
            "GET /api/consumers/{consumer}",
            "GET /api/quotas",
            "GET /api/events",
            "GET /api/offers",
            "GET /api/offers/compare",
            "GET /api/requests",
            "GET /api/messages",
            "GET /api/agreements",
            "GET /api/teams",
            "GET /api/sessions",
            "DELETE /api/sessions",
            "DELETE /api/sessions/{id}",
            "GET /api/tokens",
            "POST /api/tokens",
            "DELETE /api/tokens/{id}",
        ],
    ),
    (
        "publisher",
        &[
            "PUT /api/draft",
            "POST /api/releases",
            "POST /api/releases/{number}/rollback",
            "PUT /api/facades/{facade}/pause",
            "DELETE /api/facades/{facade}",
            "POST /api/kept/purge",
            "POST /api/consumers",
            "PUT /api/consumers/{consumer}/pause",
            "POST /api/consumers/{consumer}/keys",
            "PUT /api/keys/{prefix}",
            "DELETE /api/keys/{prefix}",
            "POST /api/keys/{prefix}/renew",
            "PATCH /api/consumers/{consumer}",
            "DELETE /api/consumers/{consumer}",
            "PUT /api/consumers/{consumer}/password",
            "DELETE /api/passwords/{name}",
            "POST /api/consumers/{consumer}/clients",
            "DELETE /api/clients/{name}",
            "POST /api/consumers/{consumer}/signing-keys",
            "DELETE /api/signing-keys/{keyid}",
            "POST /api/consumers/{consumer}/certificates",
            "DELETE /api/certificates/{known_by}",
            "POST /api/consumers/{consumer}/agreements",
            "PUT /api/agreements/{agreement}",
            "DELETE /api/agreements/{agreement}",
            "POST /api/agreements/{agreement}/end",
            "POST /api/requests/{request}/grant",
            "POST /api/requests/{request}/turn-down",
            "POST /api/messages/read",
            "PUT /api/teams/{team}/roles",
            "POST /api/announcements",
            "POST /api/portal/preview",
            "GET /api/webhooks",
            "GET /api/webhooks/{webhook}/events",
            "POST /api/webhooks",
            "DELETE /api/webhooks/{webhook}",
            "PUT /api/webhooks/{webhook}/pause",
            "POST /api/webhooks/{webhook}/events/{event}/again",
            "POST /api/quotas",
        ],
    ),
    (
        "administrator",
        &[
            "GET /api/secrets",
            "PUT /api/secrets",
            "GET /api/accounts",
            "POST /api/accounts",
            "PATCH /api/accounts/{name}",
            "DELETE /api/accounts/{name}",
            "DELETE /api/accounts/{name}/sessions",
        ],
    ),
];

/// Those that nobody has to be signed in for, as the document has them.
const OPEN: [&str; 4] = [
    "post /api/session",
    "get /api/session/ways",
    "get /api/session/openid",
    "get /api/session/openid/return",
];

/// The routes that the API's own document lists.
fn documented(porch: &Porch) -> BTreeSet<String> {
    let document = porch.api("GET", "/api/openapi.json", &Value::Null).json();
    let paths = document["paths"].as_object().unwrap();
    let routes = paths.iter().flat_map(|(path, item)| {
        let methods = item.as_object().unwrap().keys();
        methods.map(move |method| format!("{} {path}", method.to_uppercase()))
    });
    routes.collect()
}

#[test]
fn every_route_asks_for_its_role_and_for_no_more() {
    let porch = Porch::start();
    let roles = ROLES.map(|(role, _)| role);
    let mut tokens = vec![String::new()];
    for role in &roles[1..] {
        porch.ok_with(
            &["account", "create", role, "--role", role],
            "quiet-harbour",
        );
        let session = porch.sign_in(role, "quiet-harbour");
        tokens.push(session["token"].as_str().unwrap().to_owned());
    }
    let listed: BTreeSet<String> = ROLES
        .iter()
        .flat_map(|(_, routes)| routes.iter().map(|r| (*r).to_owned()))
        .collect();
    assert_eq!(
        listed,
        documented(&porch),
        "a route has no role in this table"
    );
    for (least, (_, routes)) in ROLES.iter().enumerate() {
        // What ends the sessions of this test is tested elsewhere.
        let ends = ["DELETE /api/session", "DELETE /api/sessions"];
        for route in routes.iter().filter(|r| !ends.contains(r)) {
            let (method, template) = route.split_once(' ').unwrap();
            let path: String = template
                .split('/')
                .map(|part| if part.starts_with('{') { "none" } else { part })
                .collect::<Vec<_>>()
                .join("/");
            for (own, token) in tokens.iter().enumerate() {
                let status = porch.api_as(token, method, &path, &json!({})).status;
                let role = roles[own];
                if own >= least {
                    // What is sent is nonsense: what matters is that it is looked at.
                    assert!(!matches!(status, 401 | 403), "{role} {route}: {status}");
                } else if own == 0 {
                    assert_eq!(status, 401, "{role} {route}");
                } else {
                    assert_eq!(status, 403, "{role} {route}");
                }
            }
        }
    }
}

#[test]
fn files_with_names_that_lead_elsewhere_are_not_taken() {
    let porch = Porch::start();
    let names = [
        "../outside.yaml",
        "/etc/passwd",
        ".git/config",
        "a/.ssh/authorized_keys",
        "a/../../b",
        "a\\b",
        "C:/a",
        "a\u{1b}[2J",
        "",
    ];
    for name in names {
        let push = json!({ "files": { "good.txt": "x", name: "x" } });
        let refused = porch.api("PUT", "/api/draft", &push);
        assert_eq!(refused.status, 400, "{name:?}: {}", refused.text());
        assert!(
            refused
                .text()
                .contains("is no path for a file of the draft")
        );
    }
    assert_eq!(
        porch.api("GET", "/api/draft", &Value::Null).json(),
        json!([])
    );
}

#[test]
fn a_text_with_nul_is_the_sender_s_fault_and_not_the_database_s() {
    let porch = Porch::start();
    porch.ok(&["consumer", "create", "Tide Clock"]);
    let nul = "a\u{0}b";
    for (method, path, body) in [
        ("POST", "/api/consumers", json!({ "name": nul })),
        (
            "POST",
            "/api/consumers",
            json!({ "name": "x", "owner": nul }),
        ),
        (
            "POST",
            "/api/consumers/Tide%20Clock/keys",
            json!({ "label": nul }),
        ),
        ("PUT", "/api/draft", json!({ "files": { "a.yaml": nul } })),
        ("PUT", "/api/draft", json!({ "files": { nul: "a" } })),
        (
            "POST",
            "/api/accounts",
            json!({ "name": nul, "password": "quiet-harbour", "role": "viewer" }),
        ),
        ("PUT", "/api/secrets", json!({ "name": nul, "value": "x" })),
    ] {
        let refused = porch.api(method, path, &body);
        assert!(
            matches!(refused.status, 400 | 422),
            "{method} {path} {body}: {} {}",
            refused.status,
            refused.text()
        );
        assert!(!refused.text().contains("database"), "{}", refused.text());
    }
    let overview = porch.api("GET", "/api/overview", &Value::Null).json();
    assert_eq!(overview["trouble"], "");
}

#[test]
fn a_page_of_another_site_does_nothing_in_somebody_s_name() {
    let porch = Porch::start();
    let session = porch.sign_in("inge", "harbour-lights");
    let cookie = format!("porch-session={}", session["token"].as_str().unwrap());
    let host = porch.console.trim_start_matches("http://").to_owned();
    let own = format!("http://{host}");
    let create = |name: &str, fields: &[(&str, &str)]| {
        let mut all = vec![
            ("Cookie", cookie.as_str()),
            ("Content-Type", "application/json"),
        ];
        all.extend(fields);
        let body = json!({ "name": name }).to_string().into_bytes();
        Http::send("POST", &format!("{own}/api/consumers"), &all, body).status
    };
    assert_eq!(create("a", &[]), 403);
    assert_eq!(create("a", &[("Origin", "http://evil.example")]), 403);
    assert_eq!(create("a", &[("Origin", "null")]), 403);
    assert_eq!(
        create("a", &[("Sec-Fetch-Site", "cross-site"), ("Origin", &own)]),
        403
    );
    assert_eq!(create("a", &[("Origin", &own)]), 201);
    assert_eq!(create("b", &[("Sec-Fetch-Site", "same-origin")]), 201);
    // Looking needs none of it, and a client's token is no cookie.
    let looked = Http::send(
        "GET",
        &format!("{own}/api/consumers"),
        &[("Cookie", &cookie)],
        Vec::new(),
    );
    assert_eq!(looked.json().as_array().unwrap().len(), 2);
    let body = json!({ "name": "c" });
    assert_eq!(porch.api("POST", "/api/consumers", &body).status, 201);
}

#[test]
fn two_exchanges_of_one_trace_are_two() {
    let (porch, _) = Porch::published();
    let trace = "4bf92f3577b34da6a3ce929d0e0e4736";
    let field = format!("00-{trace}-00f067aa0ba902b7-01");
    let mut ids = Vec::new();
    for path in ["/sailings/v2/nowhere", "/sailings/v2/fares/FAR-MAR/foot"] {
        let url = format!("{}{path}", porch.gateway);
        let reply = Http::send("GET", &url, &[("traceparent", &field)], Vec::new());
        let id = reply.header("traceparent")[3..52].to_owned();
        assert!(id.starts_with(trace), "{id}");
        let told = reply.json()["instance"].as_str().unwrap().to_owned();
        assert_eq!(told, format!("urn:elm-porch:exchange:{id}"));
        ids.push((id, path));
    }
    assert_ne!(ids[0].0, ids[1].0);
    for (id, path) in &ids {
        let one = format!("/api/traces/{id}");
        porch_tests::wait_until("the trace is kept", || {
            porch.api("GET", &one, &Value::Null).status == 200
        });
        let explained = porch.api("GET", &one, &Value::Null).json();
        assert_eq!(explained["trace"]["target"], *path);
        assert_eq!(explained["trace"]["id"], *id);
    }
}

#[test]
fn the_document_of_the_api_says_what_each_route_answers_and_the_routes_do_so() {
    let porch = Porch::start();
    let document = porch.api("GET", "/api/openapi.json", &Value::Null).json();
    let schemes = document["components"]["securitySchemes"].as_object();
    assert_eq!(schemes.map(serde_json::Map::len), Some(2));
    let mut ids = BTreeSet::new();
    for (path, item) in document["paths"].as_object().unwrap() {
        for (method, operation) in item.as_object().unwrap() {
            let route = format!("{method} {path}");
            let id = operation["operationId"].as_str().unwrap();
            assert!(ids.insert(id.to_owned()), "{route}: {id} stands twice");
            assert!(operation["description"].is_string(), "{route}");
            let responses = operation["responses"].as_object().unwrap();
            let open = operation["security"] == json!([]);
            assert_eq!(open, OPEN.contains(&&*route), "{route}");
            assert!(open || responses.contains_key("401"), "{route}");
            for (status, response) in responses {
                let told = response["description"]
                    .as_str()
                    .is_some_and(|d| d.len() > 5);
                assert!(told || response["$ref"].is_string(), "{route} {status}");
            }
            if operation.get("requestBody").is_some() {
                let said = ["400", "413", "415"].map(|s| responses.contains_key(s));
                assert_eq!(said, [true; 3], "{route}");
                refuses_what_is_no_json(&porch, &method.to_uppercase(), path);
            }
        }
    }
    for (path, title) in [
        (
            "/api/usage?minutes=soon",
            "A query parameter cannot be read",
        ),
        ("/api/releases/one/compare", "The path cannot be read"),
    ] {
        let refused = porch.api("GET", path, &Value::Null);
        assert_eq!(refused.status, 400, "{path}: {refused:?}");
        assert_eq!(refused.header("content-type"), "application/problem+json");
        assert_eq!(refused.json()["title"], title);
    }
}

fn refuses_what_is_no_json(porch: &Porch, method: &str, path: &str) {
    let url = format!(
        "{}{}",
        porch.console,
        path.replace("{number}", "1")
            .replace("{agreement}", "1")
            .replace("{request}", "1")
            .replace("{team}", "1")
            .replace("{webhook}", "1")
            .replace("{event}", "1")
            .replace(['{', '}'], "")
    );
    let token = format!("Bearer {}", porch.token);
    for (kind, body, status) in [
        ("application/json", "{\"facades\": [", 400),
        ("application/json", "[7]", 400),
        ("text/plain", "{}", 415),
    ] {
        let headers = [("Authorization", token.as_str()), ("Content-Type", kind)];
        let refused = Http::send(method, &url, &headers, body.as_bytes().to_vec());
        assert_eq!(
            refused.status, status,
            "{method} {path} {body}: {refused:?}"
        );
        assert_eq!(
            refused.header("content-type"),
            "application/problem+json",
            "{method} {path}"
        );
        let problem = refused.json();
        assert!(!problem["detail"].as_str().unwrap().is_empty(), "{problem}");
        // Nothing of this program's own types.
        assert!(
            !problem.to_string().contains("struct "),
            "{method} {path}: {problem}"
        );
    }
}

#[test]
fn samples_are_made_by_publishers_and_their_secrets_set_by_administrators() {
    let porch = Porch::start();
    let token = |role: &str| {
        let account = ["account", "create", role, "--role", role];
        porch.ok_with(&account, "quiet-harbour");
        let session = porch.sign_in(role, "quiet-harbour");
        session["token"].as_str().unwrap().to_owned()
    };
    let (viewer, publisher) = (token("viewer"), token("publisher"));
    let backend = porch.timetable.as_ref().unwrap().address;
    let sample = format!("curl -X POST http://{backend}/notices -H 'Notice-Key: n0tice' -d 'x=1'");
    let look = json!({ "sample": sample, "allow_local": true });
    assert_eq!(
        porch.api_as(&viewer, "POST", "/api/look", &look).status,
        403
    );
    // An address of the service's own host is an administrator's to allow.
    assert_eq!(
        porch.api_as(&publisher, "POST", "/api/look", &look).status,
        403
    );
    let bare = json!({ "sample": sample });
    assert_eq!(
        porch.api_as(&publisher, "POST", "/api/look", &bare).status,
        422
    );
    let looked = porch.api("POST", "/api/look", &look);
    assert_eq!(looked.status, 200, "{}", looked.text());
    assert!(!looked.text().contains("n0tice"));
    // What is derived of it makes no call again: nobody who may not call needs to.
    let files = &looked.json()["described"];
    let derive = json!({ "sample": sample, "files": files, "name": "notices" });
    let derived = porch.api_as(&viewer, "POST", "/api/derive", &derive);
    assert_eq!(derived.status, 200, "{}", derived.text());
    assert!(!derived.text().contains("n0tice"));
    assert_eq!(derived.json()["secrets"], json!(["notices-notice-key"]));
    let keep = json!({ "sample": sample, "files": files, "name": "notices", "keep_secrets": true });
    for token in [&viewer, &publisher] {
        assert_eq!(
            porch.api_as(token, "POST", "/api/derive", &keep).status,
            403
        );
    }
    let kept = porch.api("POST", "/api/derive", &keep).json();
    assert_eq!(kept["secrets_kept"], json!(["notices-notice-key"]));
    let again = porch.api("POST", "/api/derive", &keep).json();
    assert_eq!(again["secrets_kept"], json!([]));
    let bad = json!({ "exchanges": "HTTP/1.1 200" });
    let told = porch.api_as(&viewer, "POST", "/api/look", &bad);
    assert_eq!(told.status, 422, "{}", told.text());
}
