//! What is learned of a service from sample calls.
#![allow(
    clippy::too_many_lines,
    reason = "a scenario, or a table of cases, is told in one piece"
)]

use porch_sample::{Answer, Credential, Exchange, learn, read_commands, read_exchanges};
use proptest::prelude::*;
use serde_json::{Value, json};

/// Commands with what they were answered: status, media type, body.
fn exchanges(samples: &[(&str, u16, &str, &str)]) -> Vec<Exchange> {
    let all = samples.iter().map(|(command, status, kind, body)| {
        let call = read_commands(command).unwrap().remove(0);
        let fields = vec![("Content-Type".to_owned(), (*kind).to_owned())];
        let answer = Answer {
            status: *status,
            fields,
            body: body.as_bytes().to_vec(),
        };
        Exchange {
            call,
            answer: Some(answer),
        }
    });
    all.collect()
}

fn described(exchanges: &[Exchange]) -> Value {
    serde_json::from_str(&learn(exchanges, None).text).unwrap()
}

const JSON: &str = "application/json; charset=utf-8";

#[test]
fn several_samples_make_one_description() {
    let all = exchanges(&[
        (
            "curl 'http://tides.example:3860/api/v2/ports/FAR/tides?day=2027-05-14&unit=m'",
            200,
            JSON,
            r#"{"port":"FAR","level":1.40,"high":"2027-05-14T03:12:00Z"}"#,
        ),
        (
            "curl 'http://tides.example:3860/api/v2/ports/HOL/tides?day=2027-05-15'",
            200,
            JSON,
            r#"{"port":"HOL","level":2,"high":null}"#,
        ),
        (
            "curl 'http://tides.example:3860/api/v2/ports/XXX/tides'",
            404,
            "application/problem+json",
            r#"{"title":"No such port"}"#,
        ),
        (
            "curl -d '{\"port\":\"FAR\"}' -H 'Content-Type: application/json' http://tides.example:3860/api/v2/watches",
            201,
            JSON,
            r#"{"id":7}"#,
        ),
    ]);
    let document = described(&all);
    assert_eq!(
        document["servers"],
        json!([{ "url": "http://tides.example:3860/api/v2" }])
    );
    assert_eq!(document["info"]["title"], "tides");
    let paths: Vec<&String> = document["paths"].as_object().unwrap().keys().collect();
    assert_eq!(paths, ["/ports/{port}/tides", "/watches"]);
    let get = &document["paths"]["/ports/{port}/tides"]["get"];
    assert_eq!(
        get["parameters"][0],
        json!({ "name": "port", "in": "path", "schema": { "type": "string" }, "required": true, "examples": {
        "sample": { "value": "FAR" }, "sample-2": { "value": "HOL" }, "sample-3": { "value": "XXX" } } })
    );
    assert_eq!(
        get["parameters"][1]["schema"],
        json!({ "type": "string", "format": "date" })
    );
    assert_eq!(get["parameters"][2]["required"], json!(null));
    let media = &get["responses"]["200"]["content"]["application/json"];
    assert_eq!(
        media["schema"]["required"],
        json!(["port", "level", "high"])
    );
    assert_eq!(media["schema"]["properties"]["level"]["type"], "number");
    assert_eq!(
        media["schema"]["properties"]["high"]["type"],
        json!(["string", "null"])
    );
    // Numbers keep their digits.
    assert_eq!(
        media["examples"]["sample"]["value"]["level"].to_string(),
        "1.40"
    );
    assert_eq!(
        get["responses"]["404"]["content"]["application/problem+json"]["examples"]["sample-3"]["value"]
            ["title"],
        "No such port"
    );
    let post = &document["paths"]["/watches"]["post"];
    assert_eq!(
        post["requestBody"]["content"]["application/json"]["examples"]["sample"]["value"],
        json!({ "port": "FAR" })
    );
    assert_eq!(
        post["responses"]["201"]["content"]["application/json"]["schema"]["properties"]["id"]["type"],
        "integer"
    );
}

#[test]
fn secrets_are_handed_out_apart_and_stand_nowhere_else() {
    let all = exchanges(&[
        (
            "curl -u desk:lighthouse -H 'X-Api-Key: k3y-of-desk' 'http://h.example/tt?access_token=t0k3n&r=FAR-MAR&sig=a%2Fb%3D%3D'",
            200,
            JSON,
            r#"{"you":"k3y-of-desk","said":["a%2Fb%3D%3D","ZGVzazpsaWdodGhvdXNl"],"session":{"id":"s1"},"list":[{"token":"other"}]}"#,
        ),
        (
            "curl -H 'Authorization: Bearer b34r3r' 'http://h.example/tt?r=FAR-MAR&access_token=t0k3n'",
            200,
            "text/plain",
            "hello lighthouse",
        ),
        (
            "curl -d 'user=desk&password=hidden1' http://h.example/login",
            200,
            JSON,
            r#"{"accessToken":"hidden2","ok":true}"#,
        ),
    ]);
    let learned = learn(&all, None);
    for secret in [
        "k3y-of-desk",
        "lighthouse",
        "t0k3n",
        "b34r3r",
        "hidden1",
        "hidden2",
        "other",
        "s1",
        "access_token",
        "ZGVzazps",
        "a%2Fb",
    ] {
        assert!(!learned.text.contains(secret), "{secret}: {}", learned.text);
        assert!(
            !learned.told.join(" ").contains(secret) || secret == "access_token",
            "{secret}: {:?}",
            learned.told
        );
    }
    let basic = Credential::Basic {
        user: "desk".into(),
        password: "lighthouse".into(),
    };
    let expected = [
        Credential::Query("access_token".into(), "t0k3n".into()),
        Credential::Query("sig".into(), "a/b==".into()),
        basic,
        Credential::Header("X-Api-Key".into(), "k3y-of-desk".into()),
        Credential::Bearer("b34r3r".into()),
    ];
    let known: Vec<Credential> = learned
        .credentials
        .iter()
        .map(|k| k.credential.clone())
        .collect();
    assert!(known == expected, "{known:?}");
    // Each is for whom it was shown to.
    assert!(
        learned
            .credentials
            .iter()
            .all(|k| k.origin == "http://h.example")
    );
    assert!(!format!("{learned:?}").contains("lighthouse"));
}

#[test]
fn paths_that_differ_in_one_place_are_one_where_their_answers_are_alike() {
    let port = |name: &str| format!("curl http://h.example/ports/{name}");
    let (skerry, farholm) = (port("skerry"), port("farholm"));
    let all = exchanges(&[
        (&skerry, 200, JSON, r#"{"name":"Skerry","berths":4}"#),
        (
            &farholm,
            200,
            JSON,
            r#"{"name":"Farholm","berths":2,"crane":true}"#,
        ),
        (
            "curl http://h.example/vessels",
            200,
            JSON,
            r#"[{"name":"Alca"}]"#,
        ),
        ("curl http://h.example/tides", 200, JSON, r#"[{"level":2}]"#),
    ]);
    let document = described(&all);
    let paths: Vec<&String> = document["paths"].as_object().unwrap().keys().collect();
    assert!(paths.contains(&&"/ports/{port}".to_owned()), "{paths:?}");
    assert!(
        paths.contains(&&"/vessels".to_owned()) && paths.contains(&&"/tides".to_owned()),
        "{paths:?}"
    );
}

#[test]
fn exchanges_that_are_written_down_need_no_service() {
    let all = read_exchanges("GET /berths/{berth} {\"berth\":\"N7\",\"length\":31}\nPOST /berths\n\n{\"length\":31}\n\nHTTP/1.1 201 Created\nContent-Type: application/json\nLocation: /berths/N8\nDate: now\n\n{\"berth\":\"N8\"}\n").unwrap();
    let document: Value = serde_json::from_str(&learn(&all, Some("Berths")).text).unwrap();
    assert_eq!(document.get("servers"), None);
    assert_eq!(document["info"]["title"], "Berths");
    let get = &document["paths"]["/berths/{berth}"]["get"];
    assert_eq!(
        get["parameters"],
        json!([{ "name": "berth", "in": "path", "schema": { "type": "string" }, "required": true }])
    );
    assert_eq!(
        get["responses"]["200"]["content"]["application/json"]["examples"]["sample"]["value"]["length"],
        31
    );
    let created = &document["paths"]["/berths"]["post"]["responses"]["201"];
    assert_eq!(
        created["headers"],
        json!({ "Location": { "schema": { "type": "string", "examples": ["/berths/N8"] } } })
    );
    assert_eq!(
        document["paths"]["/berths"]["post"]["responses"]["201"]["content"]["application/json"]["schema"]
            ["type"],
        "object"
    );
}

#[test]
fn what_is_endless_is_looked_at_as_far_as_its_bounds() {
    let path = "/1".repeat(300_000);
    let query: String = (0..60_000)
        .map(|n| format!("p{n}=1&key{n}=s3cr3t{n}&"))
        .collect();
    let fields: String = (0..50_000).map(|n| format!("F{n}: {n}\n")).collect();
    let text = format!("GET {path}?{query} HTTP/1.1\n{fields}\n");
    let all = read_exchanges(&text).unwrap();
    let learned = learn(&all, None);
    let document: Value = serde_json::from_str(&learned.text).unwrap();
    let (path, item) = document["paths"]
        .as_object()
        .unwrap()
        .iter()
        .next()
        .unwrap();
    assert_eq!(path.matches('/').count(), 100);
    assert!(item["get"]["parameters"].as_array().unwrap().len() <= 500);
    assert_eq!(learned.credentials.len(), 50);
    assert!(!learned.text.contains("s3cr3t"));
    assert!(
        learned.told.iter().any(|t| t.contains("so long")),
        "{:?}",
        learned.told
    );
}

#[test]
fn of_xml_it_is_said_that_it_passes() {
    for (kind, said) in [
        ("application/hal+xml; charset=utf-8", true),
        ("application/json", false),
    ] {
        let kind = format!("Content-Type: {kind}");
        let text = format!("GET /members/7 HTTP/1.1\n\nHTTP/1.1 200 OK\n{kind}\n\n<member/>\n");
        let learned = learn(&read_exchanges(&text).unwrap(), None);
        let told = learned.told.join(" ");
        assert_eq!(
            told.contains("media-type: application/xml"),
            said,
            "{kind}: {told}"
        );
    }
}

#[test]
fn a_slash_that_came_encoded_parts_nothing() {
    let all = exchanges(&[("curl http://h.example/files/a%2Fb", 200, JSON, "{}")]);
    let document = described(&all);
    let paths: Vec<&String> = document["paths"].as_object().unwrap().keys().collect();
    assert_eq!(paths, ["/files/a%2Fb"]);
}

proptest! {
    #[test]
    fn whatever_is_pasted_ends(text in "(curl|GET /|HTTP/1.1 200| -[a-zA-Z] |--[a-z]{1,6}=?|['\"$`\\\\;&|>\n{}:@%/?=]|[a-z0-9]{1,4}| ){0,30}") {
        if let Ok(calls) = read_commands(&text) {
            let all: Vec<Exchange> = calls.into_iter().map(|call| Exchange { call, answer: None }).collect();
            prop_assert!(serde_json::from_str::<Value>(&learn(&all, None).text).is_ok());
        }
        if let Ok(all) = read_exchanges(&text) {
            prop_assert!(serde_json::from_str::<Value>(&learn(&all, None).text).is_ok());
        }
    }
}
