//! Who may do what: sessions, roles, secrets, other sites.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_tests::{Http, Porch};
use serde_json::{Value, json};

#[test]
fn signed_out_visitors_see_nothing() {
    let porch = Porch::start();
    let document: Value = Http::send(
        "GET",
        &format!("{}/api/openapi.json", porch.console),
        &[],
        Vec::new(),
    )
    .json();
    assert!(document["openapi"].as_str().unwrap().starts_with("3.1"));
    let mut asked = 0;
    for (path, item) in document["paths"].as_object().unwrap() {
        for method in item
            .as_object()
            .unwrap()
            .keys()
            .filter(|m| *m != "parameters")
        {
            // What nobody has to be signed in for; which these are is tested elsewhere.
            if item[method]["security"] == json!([]) {
                continue;
            }
            let path = path
                .replace("{facade}", "sailings")
                .replace("{operation}", "quoteFare")
                .replace("{number}", "1")
                .replace("{id}", "abcdef")
                .replace("{consumer}", "x")
                .replace("{agreement}", "1")
                .replace("{prefix}", "x");
            for token in ["", "not-a-session"] {
                let reply = porch.api_as(token, &method.to_uppercase(), &path, &json!({}));
                assert_eq!(reply.status, 401, "{method} {path}");
                assert!(
                    reply.header("www-authenticate").starts_with("Bearer"),
                    "{method} {path}"
                );
            }
            asked += 1;
        }
    }
    assert!(asked > 20, "{asked}");
    // The console's page itself holds no data, and forbids what it does not need.
    let page = Http::send(
        "GET",
        &format!("{}/facades", porch.console),
        &[],
        Vec::new(),
    );
    assert_eq!(page.status, 200);
    assert!(
        page.header("content-security-policy")
            .contains("default-src 'self'")
            && !page.text().contains("sailings")
    );
}

#[test]
fn roles_are_enforced_and_changes_are_noted_down() {
    let (porch, _) = Porch::published();
    for (name, role) in [("pelle", "viewer"), ("tove", "publisher")] {
        porch.ok_with(
            &["account", "create", name, "--role", role],
            "quiet-harbour",
        );
    }
    let token = |name: &str| {
        porch.sign_in(name, "quiet-harbour")["token"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let (viewer, publisher) = (token("pelle"), token("tove"));
    let status = |token: &str, method: &str, path: &str, body: Value| {
        porch.api_as(token, method, path, &body).status
    };
    assert_eq!(status(&viewer, "GET", "/api/facades", Value::Null), 200);
    assert_eq!(
        status(
            &viewer,
            "POST",
            "/api/trials",
            json!({"facade": "sailings", "operation": "quoteFare", "path": {"route": "FAR-MAR", "fareClass": "foot"}})
        ),
        200
    );
    for (method, path, body) in [
        ("PUT", "/api/draft", json!({"files": {}})),
        ("POST", "/api/releases", json!({"facades": ["sailings"]})),
        ("POST", "/api/consumers", json!({"name": "X"})),
        ("POST", "/api/consumers/Quayside%20Kiosk/keys", json!({})),
        (
            "PUT",
            "/api/facades/sailings/pause",
            json!({"paused": true}),
        ),
    ] {
        let refused = porch.api_as(&viewer, method, path, &body);
        assert_eq!(
            (refused.status, refused.json()["title"].as_str().unwrap()),
            (403, "This needs the role publisher"),
            "{path}"
        );
    }
    assert_eq!(
        status(
            &publisher,
            "POST",
            "/api/consumers",
            json!({"name": "Crew Roster"})
        ),
        201
    );
    assert_eq!(
        status(
            &publisher,
            "POST",
            "/api/consumers",
            json!({"name": "Crew Roster"})
        ),
        409
    );
    for (method, path, body) in [
        ("GET", "/api/secrets", Value::Null),
        ("PUT", "/api/secrets", json!({"name": "a", "value": "b"})),
        (
            "POST",
            "/api/accounts",
            json!({"name": "x", "password": "12345678", "role": "viewer"}),
        ),
    ] {
        assert_eq!(
            status(&publisher, method, path, body),
            403,
            "{method} {path}"
        );
    }
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    assert!(audit.as_array().unwrap().iter().any(|l| l["who"] == "tove"
        && l["what"] == "registered"
        && l["object"] == "consumer Crew Roster"));
    // A session that has ended is over.
    assert_eq!(status(&viewer, "DELETE", "/api/session", Value::Null), 204);
    assert_eq!(status(&viewer, "GET", "/api/facades", Value::Null), 401);
}

#[test]
fn secrets_and_keys_are_kept_so_that_nobody_can_read_them() {
    let (porch, key) = Porch::published();
    // White space around a pasted secret is taken away, and told.
    let set = porch
        .api(
            "PUT",
            "/api/secrets",
            &json!({"name": "reservations-password", "value": " tide & tackle\n"}),
        )
        .json();
    assert_eq!(set["trimmed"], true);
    assert_eq!(
        porch
            .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
            .status,
        200
    );
    let dump = std::process::Command::new("grep")
        .args([
            "-rlaE",
            &format!("{}|tide & tackle|{}", &key[9..], "harbour-lights"),
        ])
        .arg(porch.folder().join("state"))
        .output()
        .unwrap();
    assert_eq!(String::from_utf8_lossy(&dump.stdout), "");
    for path in [
        "/api/secrets",
        "/api/consumers",
        "/api/audit",
        "/api/draft",
        "/api/accounts",
    ] {
        let text = porch.api("GET", path, &Value::Null).text();
        assert!(
            !text.contains("tackle") && !text.contains(&key[9..]) && !text.contains("argon2"),
            "{path}"
        );
    }
    // A wrong secret is a fault of the backend, not of the caller; and the message gives nothing away.
    porch.ok_with(&["secret", "set", "reservations-password"], "wrong");
    let trial = porch.client(&["--json", "try", "quoteFare"], "");
    let trial: Value = serde_json::from_slice(&trial.stdout).unwrap();
    assert_eq!(trial["status"], 400);
    assert!(
        trial["trace"]["refusal"]["why"]
            .as_str()
            .unwrap()
            .contains("the login is not known")
    );
    assert!(!trial.to_string().contains(">wrong<"));
}

#[test]
fn keys_in_the_wrong_place_are_told_where_they_belong() {
    let (porch, key) = Porch::published();
    let call = |name: &str, value: &str| {
        Http::send(
            "GET",
            &format!("{}/sailings/v2/fares/FAR-MAR/foot", porch.gateway),
            &[(name, value)],
            Vec::new(),
        )
    };
    assert_eq!(call("api-key", &format!("  {key} ")).status, 200);
    let wrong_place = call("authorization", &format!("Bearer {key}"));
    assert_eq!(
        wrong_place.json()["detail"],
        "Send your key in the header “API-Key”; what came in the header “authorization” is not looked at."
    );
    assert_eq!(
        call("api-key", "nonsense").json()["detail"],
        "The key is not valid."
    );
    assert_eq!(call("api-key", &key[..40]).status, 401);
}

#[test]
fn edits_of_two_people_do_not_overwrite_each_other() {
    let (porch, _) = Porch::published();
    let path = "timetable/timetable.facade.yaml";
    let draft = porch.api("GET", "/api/draft", &Value::Null).json();
    let file = draft
        .as_array()
        .unwrap()
        .iter()
        .find(|f| f["path"] == path)
        .unwrap()
        .clone();
    let push = |text: &str| {
        porch.api(
            "PUT",
            "/api/draft",
            &json!({"files": {path: text}, "revisions": {path: file["revision"]}}),
        )
    };
    let text = file["text"].as_str().unwrap();
    assert_eq!(
        push(&text.replace("title: Timetable", "title: One")).status,
        200
    );
    let late = push(&text.replace("title: Timetable", "title: Two"));
    assert_eq!(
        (late.status, late.json()["title"].as_str().unwrap()),
        (
            409,
            "“timetable/timetable.facade.yaml” was changed by somebody else in the meantime"
        )
    );
    assert_eq!(
        porch
            .api("PUT", "/api/draft", &json!({"files": {"../x.yaml": "a"}}))
            .status,
        400
    );
}

/// A server that answers with whatever it was sent, and notes down that somebody came.
fn echoing_backend() -> (String, std::sync::Arc<std::sync::atomic::AtomicUsize>) {
    use std::io::{Read, Write};
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let visits = std::sync::Arc::new(std::sync::atomic::AtomicUsize::new(0));
    let counted = visits.clone();
    std::thread::spawn(move || {
        for mut stream in listener.incoming().flatten() {
            counted.fetch_add(1, std::sync::atomic::Ordering::SeqCst);
            let mut seen = Vec::new();
            let mut byte = [0u8; 1];
            while !seen.ends_with(b"\r\n\r\n") && stream.read(&mut byte).is_ok_and(|n| n > 0) {
                seen.push(byte[0]);
            }
            let text = json!({ "seen": String::from_utf8_lossy(&seen) }).to_string();
            let head = format!(
                "HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {}\r\nConnection: close\r\nX-Seen: tide & tackle\r\n\r\n",
                text.len()
            );
            let _ = stream.write_all(format!("{head}{text}").as_bytes());
        }
    });
    (address, visits)
}

fn echo_documents(address: &str) -> Value {
    json!({
        "echo/echo.backend.yaml": format!(
            "elm-porch: backend/1\nname: echo\nkind: http\naddress: {address}\ncredentials: {{ calling: {{ headers: {{ X-Login: {{ secret: reservations-password }} }} }} }}\n"
        ),
        "echo/echo.facade.yaml": "elm-porch: facade/1\nname: echo\nbase: /echo\ncontract: echo.openapi.yaml\noperations:\n  say: { call: { backend: echo } }\n  keep: { call: { backend: echo } }\n",
        "echo/echo.openapi.yaml": "openapi: 3.1.0\ninfo: { title: Echo, version: 1.0.0 }\npaths:\n  /say:\n    get: { operationId: say, responses: { '200': { description: ok } } }\n    post: { operationId: keep, responses: { '200': { description: ok } } }\n",
    })
}

#[test]
fn trial_runs_neither_send_secrets_elsewhere_nor_show_them() {
    let (porch, _) = Porch::published();
    porch.ok_with(
        &["account", "create", "pelle", "--role", "viewer"],
        "quiet-harbour",
    );
    porch.ok_with(
        &["account", "create", "tove", "--role", "publisher"],
        "quiet-harbour",
    );
    let token = |name: &str| {
        porch.sign_in(name, "quiet-harbour")["token"]
            .as_str()
            .unwrap()
            .to_owned()
    };
    let (viewer, publisher) = (token("pelle"), token("tove"));
    let (address, visits) = echoing_backend();
    let files = echo_documents(&address);
    let trial = |token: &str, operation: &str, files: &Value| {
        let body = json!({"facade": "echo", "operation": operation, "files": files});
        porch.api_as(token, "POST", "/api/trials", &body)
    };
    // Sent along by a viewer: refused. By a publisher: the draft does not send this secret there.
    assert_eq!(trial(&viewer, "say", &files).status, 403);
    let refused = trial(&publisher, "say", &files);
    assert_eq!(
        refused.json()["title"],
        format!("A trial run does not send the secret “reservations-password” to {address}")
    );
    // Nor when an expression names it.
    let mut named = files.clone();
    named["echo/echo.backend.yaml"] = json!(format!(
        "elm-porch: backend/1\nname: echo\nkind: http\naddress: {address}\n"
    ));
    let facade = files["echo/echo.facade.yaml"].as_str().unwrap();
    let says = "say: { send: { headers: { X-Login: \"=secret['reservations-password']\" } }, ";
    named["echo/echo.facade.yaml"] = json!(facade.replace("say: { ", says));
    let refused = trial(&publisher, "say", &named);
    assert_eq!(
        refused.json()["title"],
        format!("A trial run does not send the secret “reservations-password” to {address}")
    );
    assert_eq!(visits.load(std::sync::atomic::Ordering::SeqCst), 0);
    // Once it stands in the draft it may be tried, and what comes back is masked wherever it is shown.
    let pushed = porch.api_as(&publisher, "PUT", "/api/draft", &json!({ "files": files }));
    assert_eq!(pushed.status, 200, "{}", pushed.text());
    for (token, extra) in [
        (&viewer, json!({})),
        (&publisher, json!({"echo/notes.txt": "x"})),
    ] {
        let reply = trial(token, "say", &extra);
        assert_eq!(reply.status, 200, "{}", reply.text());
        let text = reply.text();
        assert!(
            text.contains("x-login: ••••") && !text.contains("tackle"),
            "{text}"
        );
    }
    // A client's secret goes to the server that the draft names alone, and its token to no other backend.
    let client = |server: &str, backend: &str| {
        let mut files = echo_documents(backend);
        files["echo/echo.backend.yaml"] = json!(format!(
            "elm-porch: backend/1\nname: echo\nkind: http\naddress: {backend}\ncredentials: {{ calling: {{ client-credentials: {{ token-address: '{server}/token', client: desk, secret: {{ secret: reservations-password }} }} }} }}\n"
        ));
        files
    };
    let elsewhere = "http://127.0.0.1:9";
    let before = visits.load(std::sync::atomic::Ordering::SeqCst);
    assert_eq!(
        trial(&publisher, "say", &client(&address, &address)).status,
        403
    );
    let pushed = porch.api_as(
        &publisher,
        "PUT",
        "/api/draft",
        &json!({ "files": client(elsewhere, elsewhere) }),
    );
    assert_eq!(pushed.status, 200, "{}", pushed.text());
    for (server, backend) in [(address.as_str(), elsewhere), (elsewhere, address.as_str())] {
        let refused = trial(&publisher, "say", &client(server, backend));
        assert_eq!(refused.status, 403, "{}", refused.text());
    }
    assert_eq!(
        trial(&publisher, "say", &client(elsewhere, elsewhere)).status,
        200
    );
    assert_eq!(visits.load(std::sync::atomic::Ordering::SeqCst), before);
    let pushed = porch.api_as(&publisher, "PUT", "/api/draft", &json!({ "files": files }));
    assert_eq!(pushed.status, 200, "{}", pushed.text());
    // What may change something is not a viewer's to try.
    assert_eq!(trial(&viewer, "keep", &json!({})).status, 403);
    assert_eq!(trial(&publisher, "keep", &json!({})).status, 200);
}

#[test]
fn viewers_may_be_kept_from_trial_runs() {
    let porch = Porch::start_with(
        &porch_tests::new_database(porch_tests::cluster()),
        &["--viewers-do-not-try"],
    );
    porch.publish();
    porch.ok_with(
        &["account", "create", "pelle", "--role", "viewer"],
        "quiet-harbour",
    );
    let viewer = porch.sign_in("pelle", "quiet-harbour")["token"].clone();
    let body = json!({"facade": "sailings", "operation": "quoteFare", "path": {"route": "FAR-MAR", "fareClass": "foot"}});
    let refused = porch.api_as(viewer.as_str().unwrap(), "POST", "/api/trials", &body);
    assert_eq!(refused.status, 403, "{}", refused.text());
    assert_eq!(porch.api("POST", "/api/trials", &body).status, 200);
}

/// What a viewer sends to be looked at, or a publisher keeps in the draft, does not end or stop the service.
#[test]
fn schemas_that_refer_to_themselves_do_no_harm() {
    let (porch, key) = Porch::published();
    let mut schemas = String::new();
    for level in 0..12 {
        for part in 0..10 {
            let below: Vec<String> = (0..10)
                .map(|i| {
                    format!(
                        "{{ $ref: '#/components/schemas/L{}P{i}' }}",
                        (level + 1) % 12
                    )
                })
                .collect();
            let keyword = ["allOf", "oneOf", "anyOf"][part % 3];
            schemas += &format!(
                "    L{level}P{part}: {{ {keyword}: [{}] }}\n",
                below.join(", ")
            );
        }
    }
    schemas += "    Loop: { $ref: '#/components/schemas/Loop' }\n    List: { type: array, items: { $ref: '#/components/schemas/List' } }\n    All: { allOf: [{ $ref: '#/components/schemas/All' }] }\n";
    for name in ["L0P0", "L0P1", "Loop", "List", "All"] {
        let schema = format!("{{ $ref: '#/components/schemas/{name}' }}");
        let contract = format!(
            "openapi: 3.1.0\ninfo: {{ title: Echo, version: 1.0.0 }}\npaths:\n  /say:\n    post:\n      operationId: say\n      requestBody: {{ content: {{ application/json: {{ schema: {schema} }} }} }}\n      responses: {{ '200': {{ description: ok, content: {{ application/json: {{ schema: {schema} }} }} }} }}\ncomponents:\n  schemas:\n{schemas}"
        );
        let look = porch.api(
            "POST",
            "/api/look",
            &json!({"files": {"echo.openapi.yaml": contract}}),
        );
        assert_eq!(look.status, 200, "{name}: {}", look.text());
        let mut files = echo_documents("http://127.0.0.1:9");
        files["echo/echo.openapi.yaml"] = json!(contract);
        files["echo/echo.facade.yaml"] = json!(
            "elm-porch: facade/1\nname: echo\nbase: /echo\ncontract: echo.openapi.yaml\noperations:\n  say: { call: { backend: echo }, send: { body: { a: =body.?a, b: { c: =body.?b } } }, reply: { d: =answer.body.?d } }\n"
        );
        let check = porch.api("POST", "/api/check", &json!({ "files": files }));
        assert_eq!(check.status, 200, "{name}: {}", check.text());
        assert_eq!(
            porch
                .api("PUT", "/api/draft", &json!({ "files": files }))
                .status,
            200
        );
        for path in [
            "/api/overview",
            "/api/facades/echo",
            "/api/facades/echo/operations/say",
            "/api/compare",
        ] {
            let seen = porch.api("GET", path, &Value::Null);
            assert_eq!(seen.status, 200, "{name} {path}: {}", seen.text());
        }
        assert_eq!(
            porch
                .call("GET", "/sailings/v2/fares/FAR-MAR/foot", &key, "")
                .status,
            200
        );
    }
}
