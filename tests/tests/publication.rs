//! What callers are served changes in one place: releases at once, nodes that follow, changes that end whoever waits.

use std::io::Write;
use std::net::TcpStream;

use porch_tests::{Porch, cluster, new_database, wait_until};
use serde_json::{Value, json};

/// A facade that passes through to the timetable, under a base path of its own.
fn push_facade(porch: &Porch, name: &str, title: &str) {
    let address = porch.timetable.as_ref().unwrap().address;
    let files = json!({
        format!("{name}/{name}.backend.yaml"): format!("elm-porch: backend/1\nname: {name}\nkind: http\naddress: http://{address}\n"),
        format!("{name}/{name}.facade.yaml"): format!("elm-porch: facade/1\nname: {name}\ntitle: {title}\nbase: /{name}\ncontract: {name}.openapi.yaml\noperations:\n  get: {{ call: {{ backend: {name} }} }}\n"),
        format!("{name}/{name}.openapi.yaml"): "openapi: 3.1.0\ninfo: { title: T, version: 1.0.0 }\npaths:\n  /tt: { get: { operationId: get, responses: { '200': { description: ok } } } }\n",
    });
    let pushed = porch.api("PUT", "/api/draft", &json!({ "files": files }));
    assert_eq!(pushed.status, 200, "{}", pushed.text());
}

fn release(porch: &Porch, name: &str) -> (u16, Value) {
    let reply = porch.api("POST", "/api/releases", &json!({ "facades": [name] }));
    (reply.status, reply.json())
}

fn is_served(porch: &Porch, name: &str) -> bool {
    porch.call("GET", &format!("/{name}/tt"), "", "").status != 404
}

fn health(porch: &Porch) -> Value {
    porch_tests::Http::send("GET", &format!("{}/health", porch.console), &[], Vec::new()).json()
}

#[test]
fn of_releases_at_once_none_is_lost() {
    let porch = Porch::start();
    let names: Vec<String> = (0..6).map(|i| format!("facade-{i}")).collect();
    for round in 0..3 {
        for name in &names {
            push_facade(&porch, name, &format!("Round {round}"));
        }
        std::thread::scope(|scope| {
            for name in &names {
                scope.spawn(|| {
                    let (status, reply) = release(&porch, name);
                    assert_eq!(status, 200, "{reply}");
                });
            }
        });
        for name in &names {
            assert!(is_served(&porch, name), "{name} in round {round}");
        }
        let compared = porch.api("GET", "/api/compare", &Value::Null).json();
        for difference in compared.as_array().unwrap() {
            assert_eq!(difference["status"], "same", "{difference}");
        }
    }
    assert_eq!(health(&porch)["release"], 18);
    // Each release has its line in the audit.
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    let lines = audit.as_array().unwrap().iter();
    assert_eq!(lines.filter(|l| l["what"] == "released").count(), 18);
}

#[test]
fn a_release_ends_although_whoever_asked_has_left() {
    let porch = Porch::start();
    push_facade(&porch, "leaving", "Leaving");
    let body = json!({ "facades": ["leaving"] }).to_string();
    let mut stream = TcpStream::connect(porch.console.trim_start_matches("http://")).unwrap();
    write!(
        stream,
        "POST /api/releases HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer {}\r\nContent-Type: application/json\r\nContent-Length: {}\r\n\r\n{body}",
        porch.token,
        body.len()
    )
    .unwrap();
    drop(stream);
    // It may never have been read; if it was, it is whole: stored, served and noted down.
    push_facade(&porch, "staying", "Staying");
    let (status, reply) = release(&porch, "staying");
    assert_eq!(status, 200, "{reply}");
    let number = reply["number"].as_i64().unwrap();
    assert_eq!(health(&porch)["release"], number);
    assert_eq!(is_served(&porch, "leaving"), number == 2);
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    let lines = audit.as_array().unwrap().iter();
    assert_eq!(
        lines.filter(|l| l["what"] == "released").count() as i64,
        number
    );
}

#[test]
fn another_node_follows_releases_keys_pauses_and_secrets() {
    let database = new_database(cluster());
    let one = Porch::start_with(&database, &[]);
    // Secrets are sealed with one key, which all nodes must have.
    let key_file = one.folder().join("state/seal.key");
    let other = Porch::start_with(
        &database,
        &["--secrets-key-file", key_file.to_str().unwrap()],
    );
    // This test asks again and again; the demo's limit would soon answer in place of what is awaited.
    let facade = one.documents.join("sailings/sailings.facade.yaml");
    let text = std::fs::read_to_string(&facade).unwrap();
    let wider = text.replace("orValue(7)", "orValue(5000)");
    assert_ne!(wider, text);
    std::fs::write(&facade, wider).unwrap();
    one.publish();
    let path = "/sailings/v2/fares/FAR-MAR/foot";
    let key = one.new_key("Quayside Kiosk");
    let status = |porch: &Porch| porch.call("GET", path, &key, "").status;
    // The other node has other stand-ins, but the release's addresses are the first one's.
    wait_until("the other node serves the release", || {
        status(&other) == 200
    });
    let pause = |paused: bool| {
        let body = json!({ "paused": paused });
        let reply = one.api("PUT", "/api/facades/sailings/pause", &body);
        assert_eq!(reply.status, 204, "{}", reply.text());
    };
    pause(true);
    assert_eq!(status(&one), 503);
    wait_until("the other node pauses", || status(&other) == 503);
    pause(false);
    wait_until("the other node resumes", || status(&other) != 503);
    let is_kept = || {
        let reply = other.call("GET", "/journeys/v1/harbours/farholt", "", "");
        reply.header("cache-status").starts_with("elm-porch; hit")
    };
    is_kept();
    assert!(is_kept());
    one.ok(&["cache", "purge", "--facade", "journeys"]);
    wait_until("the other node lets go of replies", || !is_kept());
    one.ok_with(&["secret", "set", "reservations-password"], "wrong");
    wait_until("the other node has the secret", || status(&other) == 400);
    let ended = one.api(
        "PUT",
        &format!("/api/keys/{}", &key[..8]),
        &json!({ "ends_at": 0 }),
    );
    assert_eq!(ended.status, 200, "{}", ended.text());
    assert_eq!(status(&one), 401);
    wait_until("the other node ends the key", || status(&other) == 401);
    // Released by the other one, upon what this one has released.
    push_facade(&other, "second", "Second");
    let (released, reply) = release(&other, "second");
    assert_eq!((released, &reply["number"]), (200, &json!(2)), "{reply}");
    wait_until("the first node serves it", || is_served(&one, "second"));
    assert!(is_served(&other, "second") && status(&one) == 401);
}

#[test]
fn a_service_that_was_killed_serves_and_tells_all_that_was_released() {
    let mut porch = Porch::start();
    for name in ["first", "second"] {
        push_facade(&porch, name, name);
        assert_eq!(release(&porch, name).0, 200);
    }
    porch.kill_service();
    porch.start_service(&[]).unwrap();
    assert!(is_served(&porch, "first") && is_served(&porch, "second"));
    assert_eq!(health(&porch)["release"], 2);
    let back = porch.api("POST", "/api/releases/1/rollback", &Value::Null);
    assert_eq!(back.json()["number"], 3, "{}", back.text());
    assert!(is_served(&porch, "first") && !is_served(&porch, "second"));
    let audit = porch.api("GET", "/api/audit", &Value::Null).json();
    let lines = audit.as_array().unwrap().iter();
    assert_eq!(lines.filter(|l| l["what"] == "released").count(), 3);
}
