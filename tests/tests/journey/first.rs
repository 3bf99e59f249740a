//! The first sitting.

use super::*;

#[test]
fn from_a_wsdl_to_a_released_call_that_explains_its_refusal() {
    let porch = Porch::start();
    let wsdl = format!(
        "http://{}/reservations?wsdl",
        porch.reservations.as_ref().unwrap().address
    );

    // Look.
    let look = porch.ok(&["look", &wsdl]);
    assert_eq!(look["kind"], "soap");
    let quote = &look["operations"][1];
    assert_eq!(
        (
            &quote["source"],
            &quote["method"],
            &quote["path"],
            &quote["available"]
        ),
        (
            &json!("QuoteFare"),
            &json!("GET"),
            &json!("/fare/{routeCode}"),
            &json!(true)
        )
    );

    // Derive: what is written passes the check as it is.
    let folder = porch.folder().join("derived");
    let derived = porch.ok(&[
        "derive",
        &wsdl,
        "-o",
        folder.to_str().unwrap(),
        "--name",
        "fares",
        "--only",
        "QuoteFare",
    ]);
    assert_eq!(derived["operations"], 1);
    let path = |name: &str| folder.join(name);
    let checked = porch.ok(&["check", folder.to_str().unwrap()]);
    assert_eq!(
        (&checked["ok"], &checked["findings"]),
        (&json!(true), &json!([]))
    );

    // Edit the shape, and misspell a field on the way.
    let edit = |name: &str, from: &str, to: &str| {
        let text = std::fs::read_to_string(path(name)).unwrap();
        assert!(text.contains(from), "{from} is not in {text}");
        std::fs::write(path(name), text.replace(from, to)).unwrap();
    };
    edit(
        "fares.openapi.yaml",
        "/fare/{routeCode}",
        "/fares/{routeCode}/{fareClass}",
    );
    edit(
        "fares.openapi.yaml",
        "- name: fareClass\n          in: query",
        "- name: fareClass\n          in: path",
    );
    edit("fares.facade.yaml", "=query.fareClass", "=path.fareClas");
    let output = porch.client(&["check", folder.to_str().unwrap()], "");
    assert_eq!(output.status.code(), Some(1));
    let text = stdout(&output);
    assert!(
        text.contains("fares.facade.yaml:15:24: error: the path has no variable “fareClas”"),
        "{text}"
    );
    assert!(text.contains("help: did you mean “fareClass”?"), "{text}");
    edit("fares.facade.yaml", "=path.fareClas", "=path.fareClass");

    // Push: in the draft, and nowhere else.
    for (name, value) in [
        ("fares-user", " quay-desk \n"),
        ("fares-password", "tide & tackle\n"),
    ] {
        porch.ok_with(&["secret", "set", name], value);
    }
    let pushed = porch.ok(&["push", folder.to_str().unwrap()]);
    assert_eq!(pushed["unreleased"], json!(["fares"]));
    let compare = porch.ok(&["compare"]);
    assert_eq!(
        (&compare[0]["facade"], &compare[0]["status"]),
        (&json!("fares"), &json!("new"))
    );
    assert_eq!(
        porch
            .call("GET", "/fares/v1/fares/FAR-MAR/car?passengers=2", "", "")
            .status,
        404
    );

    // Try: every step, before any release.
    let trial = porch.ok(&[
        "try",
        "quoteFare",
        "routeCode=FAR-MAR",
        "fareClass=car",
        "passengers=2",
    ]);
    assert_eq!(
        (&trial["status"], &trial["released"]),
        (&json!(200), &json!(false))
    );
    let stages: Vec<&str> = trial["trace"]["stages"]
        .as_array()
        .unwrap()
        .iter()
        .map(|s| s["name"].as_str().unwrap())
        .collect();
    assert_eq!(stages, ["match", "admit", "prepare", "call", "reply"]);
    let envelope = trial["trace"]["stages"][2]["after"]["body"]
        .as_str()
        .unwrap();
    assert!(envelope.contains("<n1:RouteCode>FAR-MAR</n1:RouteCode><n1:FareClass>car</n1:FareClass><n1:Passengers>2</n1:Passengers>"), "{envelope}");
    assert!(
        envelope.contains("<n1:Password>••••</n1:Password>") && !envelope.contains("tackle"),
        "{envelope}"
    );
    assert_eq!(
        trial["body"],
        r#"{"Fare":{"Amount":6385.050,"Currency":"SKC","ValidUntil":"2027-06-30"}}"#
    );

    // A limit, then release.
    edit(
        "fares.facade.yaml",
        "credentials: [key]",
        "credentials: [key]\n  limits:\n    - { requests: 5, window: 2m }",
    );
    porch.ok(&["push", folder.to_str().unwrap()]);
    let released = porch.ok(&["release", "fares", "--note", "first"]);
    assert_eq!(
        (&released["number"], &released["taken"]),
        (&json!(1), &json!(["fares"]))
    );
    assert_eq!(porch.ok(&["compare"])[0]["status"], "same");

    // Call: without a key, with one, once too often, with a fault.
    let call = |key: &str, route: &str| {
        porch.call(
            "GET",
            &format!("/fares/v1/fares/{route}/car?passengers=2"),
            key,
            "",
        )
    };
    let refused = call("", "FAR-MAR");
    assert_eq!(
        (
            refused.status,
            refused.header("content-type"),
            refused.header("www-authenticate")
        ),
        (
            401,
            "application/problem+json",
            "Key realm=\"fares\", header=\"API-Key\""
        )
    );
    assert_eq!(refused.json()["title"], "A key is needed");
    porch.ok(&["consumer", "create", "Quayside Kiosk"]);
    let key = porch.new_key("Quayside Kiosk");
    for left in (0..5).rev() {
        let reply = call(&key, "FAR-MAR");
        assert_eq!(
            (reply.status, reply.text().as_str()),
            (
                200,
                r#"{"Fare":{"Amount":6385.050,"Currency":"SKC","ValidUntil":"2027-06-30"}}"#
            )
        );
        assert_eq!(reply.header("ratelimit-policy"), "\"fares\";q=5;w=120");
        assert!(
            reply
                .header("ratelimit")
                .starts_with(&format!("\"fares\";r={left};t=")),
            "{}",
            reply.header("ratelimit")
        );
    }
    let sixth = call(&key, "FAR-MAR");
    assert_eq!(sixth.status, 429);
    let wait: u32 = sixth.header("retry-after").parse().unwrap();
    assert!((100..=120).contains(&wait), "{wait}");
    let id = sixth.json()["instance"]
        .as_str()
        .unwrap()
        .rsplit(':')
        .next()
        .unwrap()
        .to_owned();

    porch.ok(&["consumer", "create", "Tide Clock"]);
    let other = porch.new_key("Tide Clock");
    let fault = call(&other, "FAR-HOL");
    assert_eq!(
        (fault.status, &fault.json()["fault"]["detail"]),
        (422, &json!({"RouteCode": "FAR-HOL"}))
    );

    // Explain: the rule, its reach, its document and line.
    wait_until("the trace is written", || {
        porch.client(&["explain", &id], "").status.success()
    });
    let explained = porch.ok(&["explain", &id]);
    let refusal = &explained["trace"]["refusal"];
    assert_eq!(
        (
            &refusal["rule"],
            &refusal["reach"],
            &refusal["file"],
            &refusal["line"]
        ),
        (
            &json!("limit 5 in 2m per consumer"),
            &json!("facade fares"),
            &json!("fares.facade.yaml"),
            &json!(9)
        )
    );
    let text = stdout(&porch.client(&["explain", &id], ""));
    assert!(
        text.contains("The consumer “Quayside Kiosk”") && text.contains("fares.facade.yaml:9"),
        "{text}"
    );
    assert!(!text.contains(&key[9..]), "the key's secret is shown");
}
