//! HTTP rules, and what callers send wrong.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn http_rules_are_honoured_to_the_letter() {
    let (_server, porch) = odd().await;
    let base = "/odd/v1";
    for (what, method, path, body, expected) in [
        (
            "** that is not last, with a variable behind it",
            "GET",
            "/files/a/b/history/c",
            None,
            json!({"path": "files/a/b", "name": "c"}),
        ),
        (
            "** that takes what looks like its end",
            "GET",
            "/files/history/history/x",
            None,
            json!({"path": "files/history", "name": "x"}),
        ),
        (
            "two ** with literals between them",
            "GET",
            "/from/a/b/to/c/d/end",
            None,
            json!({"path": "a/b", "other": "c/d"}),
        ),
        (
            "%2F stays encoded in a variable of several segments",
            "GET",
            "/files/a%2Fb/c%20d/history/e%2Ff",
            None,
            json!({"path": "files/a%2Fb/c d", "name": "e/f"}),
        ),
        (
            "* without a field",
            "GET",
            "/bare/whatever/n",
            None,
            json!({"name": "n"}),
        ),
        ("** that is empty", "GET", "/rest", None, json!({})),
        (
            "a verb beside the same template without it",
            "POST",
            "/things/a:close",
            Some(r#"{"other": "o"}"#),
            json!({"name": "a", "other": "o"}),
        ),
        (
            "the same template with another method and body",
            "PUT",
            "/things/a?other=o",
            Some(r#"{"name": "p"}"#),
            json!({"name": "a", "other": "o", "place": {"name": "p"}}),
        ),
        (
            "an additional binding without a body",
            "GET",
            "/things/a:other",
            None,
            json!({"name": "a:other"}),
        ),
        (
            "the path wins over the body, three messages deep",
            "PATCH",
            "/deep/a/1/b/2",
            Some(
                r#"{"place": {"inner": {"depth": 1, "inner": {"name": "from the body", "depth": 2}}}}"#,
            ),
            json!({"place": {"inner": {"depth": 1, "inner": {"name": "a/1/b/2", "depth": 2}}}}),
        ),
        (
            "response_body",
            "GET",
            "/part/a?place.name=q",
            None,
            json!({"name": "q"}),
        ),
        (
            "response_body that is a list without elements",
            "GET",
            "/parts/a",
            None,
            json!([]),
        ),
        (
            "a response_body that is not there",
            "GET",
            "/part/a",
            None,
            json!(null),
        ),
        (
            "a custom method",
            "SEARCH",
            "/custom/a",
            None,
            json!({"name": "a"}),
        ),
        ("any method", "LOCK", "/any/a", None, json!({"name": "a"})),
        (
            "leftover fields in the query",
            "GET",
            "/query?name=n%2B1&place.inner.depth=-3&seas=CALM&seas=2&numbers=1&numbers=2&time=2027-05-14T08:30:00%2B02:00&mask=a,homePort&truth=false&large=-9223372036854775808&data=_-8&sea=SMOOTH&Called-Otherwise=x&maybe=0",
            None,
            json!({"name": "n+1", "place": {"inner": {"depth": -3}}, "seas": ["CALM", "ROUGH"], "numbers": [1, 2], "time": "2027-05-14T06:30:00Z", "mask": "a,homePort", "truth": false, "large": "-9223372036854775808", "data": "/+8=", "sea": "CALM", "Called-Otherwise": "x", "maybe": 0}),
        ),
        (
            "both spellings of a name, in the query too",
            "GET",
            "/query?spelt=x",
            None,
            json!({"Called-Otherwise": "x"}),
        ),
        (
            "both spellings in the body",
            "POST",
            "/body",
            Some(r#"{"spelt": "x", "larger": 18446744073709551615}"#),
            json!({"Called-Otherwise": "x", "larger": "18446744073709551615"}),
        ),
        (
            "numbers at their limits",
            "POST",
            "/body",
            Some(r#"{"large": "9223372036854775807", "numbers": [-2147483648, 2147483647]}"#),
            json!({"large": "9223372036854775807", "numbers": [-2147483648i64, 2147483647]}),
        ),
        (
            "not a number",
            "POST",
            "/body",
            Some(r#"{"ratio": "NaN"}"#),
            json!({"ratio": "NaN"}),
        ),
        (
            "null in a Value is a value",
            "POST",
            "/body",
            Some(r#"{"value": null, "name": null}"#),
            json!({"value": null}),
        ),
        (
            "an Any of a known type",
            "POST",
            "/body",
            Some(r#"{"any": {"depth": 3, "@type": "type.googleapis.com/odd.v1.Place"}}"#),
            json!({"any": {"@type": "type.googleapis.com/odd.v1.Place", "depth": 3}}),
        ),
    ] {
        let (status, got) = porch.send(method, &format!("{base}{path}"), body).await;
        assert_eq!((status, got), (200, expected), "{what}");
    }
    // -0 is not lost on the way.
    let text = porch
        .client
        .post(porch.url("/odd/v1/body"))
        .body(r#"{"ratio": -0.0}"#)
        .send()
        .await
        .unwrap()
        .text()
        .await
        .unwrap();
    assert_eq!(text, r#"{"ratio":-0}"#);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_callers_send_wrong_is_told_with_its_place() {
    let (server, porch) = odd().await;
    let before = server.calls.load(Ordering::SeqCst);
    let deep = format!(
        "{{\"place\":{}{{}}{}}}",
        r#"{"inner":"#.repeat(130),
        "}".repeat(130)
    );
    for (path, body, pointer, part) in [
        ("/query?nme=x", None, "/query/nme", "did you mean “name”?"),
        (
            "/query?place.nam=x",
            None,
            "/query/place.nam",
            "did you mean “name”?",
        ),
        (
            "/query?place=x",
            None,
            "/query/place",
            "is the message odd.v1.Place",
        ),
        (
            "/query?spelt=a&Called-Otherwise=b",
            None,
            "/query/Called-Otherwise",
            "is the same field as “spelt”",
        ),
        (
            "/query?name=a&name=b",
            None,
            "/query/name",
            "more than once",
        ),
        (
            "/query?numbers=1&numbers=x",
            None,
            "/query/numbers",
            "must be a number",
        ),
        (
            "/query?sea=CALMM",
            None,
            "/query/sea",
            "did you mean “CALM”?",
        ),
        ("/query?notes=x", None, "/query/notes", "map"),
        ("/query?truth=yes", None, "/query/truth", "true or false"),
        ("/query?name=%ff", None, "/query/name", "UTF-8"),
        ("/body?name=x", Some("{}"), "/query/name", "whole message"),
        (
            "/body",
            Some("{\"name\": \n tru}"),
            "/body",
            "line 2, column 2",
        ),
        (
            "/body",
            Some("[]"),
            "/body",
            "must be an object, not an array",
        ),
        (
            "/body",
            Some(r#"{"place": {"inner": {"depth": "x"}}}"#),
            "/body/place/inner/depth",
            "must be a number",
        ),
        (
            "/body",
            Some(r#"{"numbers": [1, 2.5, 3]}"#),
            "/body/numbers/1",
            "whole number",
        ),
        (
            "/body",
            Some(r#"{"numbers": [2147483648]}"#),
            "/body/numbers/0",
            "must lie between -2147483648 and 2147483647",
        ),
        (
            "/body",
            Some(r#"{"larger": -1}"#),
            "/body/larger",
            "must lie between 0 and 18446744073709551615",
        ),
        ("/body", Some(r#"{"data": "%%"}"#), "/body/data", "base64"),
        ("/body", Some(r#"{"sea": "STORMY"}"#), "/body/sea", "CALM"),
        (
            "/body",
            Some(r#"{"nam": 1}"#),
            "/body/nam",
            "did you mean “name”?",
        ),
        (
            "/body",
            Some(r#"{"name": "a", "name": "b"}"#),
            "/body/name",
            "stands twice",
        ),
        (
            "/body",
            Some(r#"{"any": {"@type": "x/y.Z"}}"#),
            "/body/any/@type",
            "does not know the type",
        ),
        (
            "/body",
            Some(r#"{"any": {"depth": 1}}"#),
            "/body/any",
            "needs “@type”",
        ),
        (
            "/body",
            Some(r#"{"mask": "a_b"}"#),
            "/body/mask",
            "lower camel case",
        ),
        (
            "/body",
            Some(r#"{"time": "yesterday"}"#),
            "/body/time",
            "RFC 3339",
        ),
        (
            "/body",
            Some(r#"{"notes": {"a/b": 1}}"#),
            "/body/notes/a~1b",
            "must be a text",
        ),
        ("/body", Some(&deep), "/body/place/inner", "100 messages"),
    ] {
        let (status, got) = porch
            .send(
                if body.is_some() { "POST" } else { "GET" },
                &format!("/odd/v1{path}"),
                body,
            )
            .await;
        assert_eq!(status, 400, "{path} {body:?}: {got}");
        let errors = got["errors"].as_array().unwrap();
        let told = errors.iter().any(|e| {
            e["pointer"].as_str().unwrap().starts_with(pointer)
                && e["detail"].as_str().unwrap().contains(part)
        });
        assert!(told, "{path} {body:?}: {got}");
    }
    let (_, two) = porch
        .send(
            "POST",
            "/odd/v1/body",
            Some(r#"{"nam": 1, "ratio": "much", "numbers": "x"}"#),
        )
        .await;
    assert_eq!(two["errors"].as_array().unwrap().len(), 3, "{two}");
    // None of it was sent.
    assert_eq!(server.calls.load(Ordering::SeqCst), before);
    let nested = "[".repeat(200_000);
    assert_eq!(
        porch
            .send(
                "POST",
                "/odd/v1/body",
                Some(&format!("{{\"value\": {nested}"))
            )
            .await
            .0,
        400
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn choices_of_json_and_statuses() {
    let server = Server::start().await;
    let files = documents(ODDITIES, &[server.address], |files| {
        for text in files.values_mut() {
            *text = text
                .replace("operations:\n", "json: { absent: show, field-names: proto, enums: number, unknown-fields: ignore }\noperations:\n")
                .replace("  bad:\n", "  bad:\n    faults: { RESOURCE_EXHAUSTED: 420 }\n");
        }
    });
    let porch = Porch::over(&files, &["odd"]);
    let (status, got) = porch
        .send(
            "POST",
            "/odd/v1/body?nothing=1",
            Some(r#"{"sea": "ROUGH", "unheard-of": [1]}"#),
        )
        .await;
    assert_eq!(
        (
            status,
            &got["sea"],
            &got["spelt"],
            &got["numbers"],
            &got["notes"],
            got.get("maybe")
        ),
        (200, &json!(2), &json!(""), &json!([]), &json!({}), None),
        "{got}"
    );
    assert_eq!(
        porch
            .send("POST", "/odd/v1/bad", Some(r#"{"name": "code"}"#))
            .await
            .0,
        420
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_query_must_have_is_there_in_either_spelling() {
    let server = Server::start().await;
    let files = documents(ODDITIES, &[server.address], |files| {
        let contract = files.get_mut("odd.openapi.yaml").unwrap();
        let (before, after) = contract.split_once("operationId: echoQuery").unwrap();
        let name = "- name: Called-Otherwise\n          in: query\n";
        assert!(after.contains(name));
        let must = format!("{name}          required: true\n");
        *contract = format!(
            "{before}operationId: echoQuery{}",
            after.replacen(name, &must, 1)
        );
    });
    let porch = Porch::over(&files, &["odd"]);
    for query in ["Called-Otherwise=x", "spelt=x"] {
        let (status, body) = porch
            .send("GET", &format!("/odd/v1/query?{query}"), None)
            .await;
        assert_eq!(
            (status, &body["Called-Otherwise"]),
            (200, &json!("x")),
            "{query}: {body}"
        );
    }
    let (status, body) = porch.send("GET", "/odd/v1/query?name=a", None).await;
    assert_eq!(
        (status, &body["errors"][0]["pointer"]),
        (400, &json!("/query/Called-Otherwise")),
        "{body}"
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn a_call_without_a_body_is_an_empty_message_where_no_field_must_be_there() {
    let (_server, porch) = odd().await;
    assert_eq!(
        porch.send("POST", "/odd/v1/body", None).await,
        (200, json!({}))
    );
    let (status, body) = porch.send("POST", "/odd/v1/things/a:close", None).await;
    assert_eq!((status, body), (200, json!({ "name": "a" })));
}
